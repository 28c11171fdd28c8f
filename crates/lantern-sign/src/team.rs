//! Certificates and profiles as the maker of macOS and iOS gives them to a team, made by ourselves: for rehearsals and tests. No
//! computer and no device trusts them.
//!
//! Source: Apple's technical notes 3125, "Provisioning Profiles"
//! (<https://developer.apple.com/documentation/technotes/tn3125-inside-code-signing-provisioning-profiles>), and 3161, "Certificates"
//! (<https://developer.apple.com/documentation/technotes/tn3161-inside-code-signing-certificates>).

use jiff::Timestamp;
use lantern_formats::hash::Hash;
use lantern_keys::KeyError;
use lantern_keys::certificate::Purpose;
use lantern_keys::der::{self, Reader};
use lantern_keys::key::{Algorithm, PrivateKey, Signer};
use lantern_keys::keyring;
use lantern_keys::pkcs12::Entry;

use crate::SignError;
use crate::message::{DATA, attached};
use crate::plist::{Item, write};

/// 1.2.840.113635.100.6.1.13: for programs outside of shops.
const MARK: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x63, 0x64, 6, 1, 13];
/// Where the extensions stand in a certificate's body that has neither of the unique identifiers.
const PARTS_BEFORE_EXTENSIONS: usize = 7;
/// How long a certificate and a profile are valid, in years.
const YEARS: u16 = 5;

/// Makes a key with a certificate for a team.
///
/// # Errors
/// Those of making keys.
pub fn new(team: &str, studio: &str, now: Timestamp) -> Result<Entry, KeyError> {
    certificate(PrivateKey::generate(Algorithm::P256)?, team, studio, now)
}

/// Makes a certificate for a team and a key.
///
/// # Errors
/// Those of signing.
pub fn certificate(key: PrivateKey, team: &str, studio: &str, now: Timestamp) -> Result<Entry, KeyError> {
    let what = "the certificate";
    let name = lantern_keys::certificate::name_of_text(&format!("CN={studio} for everyone,OU={team},O={studio}"))?;
    let made = keyring::with_certificate(key, &name, Purpose::Code, YEARS, now, [9; 16])?;
    let own = made.chain.first().cloned().unwrap_or_default();
    let mut body = Reader::new(&own).inside(der::SEQUENCE, what)?;
    let mut body = body.inside(der::SEQUENCE, what)?;
    let mut parts = Vec::new();
    for _ in 0..PARTS_BEFORE_EXTENSIONS {
        parts.push(body.whole(what)?.to_vec());
    }
    let mut extensions = body.inside(0xa3, what)?;
    let extensions = extensions.bytes(der::SEQUENCE, what)?;
    let mark = der::sequence(&[&der::value(der::OID, &[MARK]), &der::value(der::OCTET_STRING, &[&[der::NULL, 0]])]);
    parts.push(der::value(0xa3, &[&der::sequence(&[extensions, &mark])]).to_vec());
    let algorithm = parts.get(2).cloned().unwrap_or_default();
    let body = der::sequence(&parts.iter().map(Vec::as_slice).collect::<Vec<_>>());
    let signature = made.key.sign(Hash::Sha256, &body)?;
    let own = der::sequence(&[&body, &algorithm, &der::value(der::BIT_STRING, &[&[0], &signature])]);
    Ok(Entry { chain: vec![own.to_vec()], ..made })
}

/// What a profile is for.
#[derive(Debug, Clone, Copy)]
pub struct Profile<'a> {
    /// What people call it.
    pub name: &'a str,
    /// The team.
    pub team: &'a str,
    /// The identity, or a pattern that ends with `*`.
    pub identity: &'a str,
    /// What is allowed besides that: words that are on.
    pub allows: &'a [&'a str],
    /// Whether it is for phones.
    pub is_for_phones: bool,
}

/// Makes a profile that names a certificate, signed with its key.
///
/// # Errors
/// Those of signing.
pub fn profile(about: &Profile<'_>, own: &dyn Signer, now: Timestamp) -> Result<Vec<u8>, SignError> {
    let text = |text: &str| Item::Text(text.to_owned());
    let known_as = if about.is_for_phones { "application-identifier" } else { "com.apple.application-identifier" };
    let mut entitlements = vec![
        (known_as.to_owned(), Item::Text(format!("{}.{}", about.team, about.identity))),
        ("com.apple.developer.team-identifier".to_owned(), text(about.team)),
    ];
    entitlements.extend(about.allows.iter().map(|word| ((*word).to_owned(), Item::True)));
    let until = now.checked_add(jiff::SignedDuration::from_hours(24 * 365 * i64::from(YEARS))).unwrap_or(now);
    let certificate = own.chain().first().cloned().unwrap_or_default();
    let list = Item::of([
        ("Name", text(about.name)),
        ("TeamIdentifier", Item::List(vec![text(about.team)])),
        ("ExpirationDate", Item::Date(until.strftime("%Y-%m-%dT%H:%M:%SZ").to_string())),
        ("DeveloperCertificates", Item::List(vec![Item::Data(certificate)])),
        ("Entitlements", Item::Dictionary(entitlements)),
    ]);
    let content = der::value(der::OCTET_STRING, &[write(&list).as_bytes()]);
    attached(own, (DATA, 1), &content, Vec::new(), &mut |_| Ok(Vec::new()))
}
