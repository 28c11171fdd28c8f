//! Signed messages: what the signatures of programs, packages and profiles have in common.
//!
//! Source: CMS (RFC 5652, sections 5.1 to 5.6, <https://www.rfc-editor.org/rfc/rfc5652>), time stamps (RFC 3161, section
//! 2.4.2, <https://www.rfc-editor.org/rfc/rfc3161>), encodings (ITU-T X.690, sections 8 to 11). Some writers use the forms of BER that have no
//! length, or texts in several parts; what is read is brought into DER first. Attributes are stored as `[0]`, and
//! signed as a SET OF in the order of DER.

mod ber;
mod chain;
mod time_stamp;

use std::collections::BTreeSet;

use aws_lc_rs::signature as keys;
use cms::content_info::{CmsVersion, ContentInfo};
use cms::signed_data::{SignedData, SignerIdentifier, SignerInfo};
use lantern_core::bytes::find;
use x509_cert::Certificate;
use x509_cert::attr::Attributes;
use x509_cert::der::asn1::{GeneralizedTime, ObjectIdentifier, OctetStringRef, UtcTime};
use x509_cert::der::{Any, Decode, Encode, Tag, Tagged};

use self::chain::{Chain, Embedded};
use crate::certificate::short_name;
use crate::hash::{Algorithm, Hash, is_signed};
use crate::offset_reader::FormatError;

pub use ber::der_of;
pub use time_stamp::TimeStamp;

const SIGNED_DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.2");
/// Where time stamps stand: as programs for Windows have them, and as everybody else does.
const TIMESTAMPS: [ObjectIdentifier; 2] =
    [ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.3.3.1"), ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.16.2.14")];
/// The older form of a time stamp: a second signer, of the first one's signature.
const COUNTERSIGNATURE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.6");
const CONTENT_TYPE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.3");
const MESSAGE_DIGEST: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.4");
const SIGNING_TIME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.5");
const KEY_IDENTIFIER: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.14");
const EXTENDED_USAGE: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.37");
const FOR_CODE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.3");
/// Where a program for Windows has further signatures, each a whole message.
const NESTED: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.2.4.1");
/// Deepest nesting of whole messages that is read. Ours: real ones lie side by side.
const MAX_NESTED: usize = 8;
const FOR_TIME_STAMPS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.8");
const SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
const SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
const SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.2");
const SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.3");

/// Who signed, and when, as the message says it. Whether the issuer is to be trusted is not judged.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Signer {
    /// The certificate's subject, as RFC 4514 writes it.
    pub subject: String,
    /// Common names from the certificate's issuer upwards, as far as certificates are there; each has signed the one
    /// before it.
    pub chain: Vec<String>,
    /// The first and last moment of the certificate, in seconds since 1970.
    pub valid: (u64, u64),
    /// The certificate, as DER.
    pub certificate: Vec<u8>,
    /// Whether the certificate says what it is for, and signing programs is not among it.
    pub is_for_other_things: bool,
    /// Whether the certificate says that it is for time stamps.
    pub is_for_time_stamps: bool,
    /// The time that a time stamp states, in seconds since 1970; its signature and what it covers hold.
    pub stamped: Option<u64>,
    /// Common names of who states that time, from its certificate upwards.
    pub stamped_by: Vec<String>,
    /// The time of a time stamp of the older form, whose signature is of a kind that is not verified any more; what it
    /// covers holds.
    pub stamped_unverified: Option<u64>,
    /// What nothing verifies of it, in words.
    pub unverified: Vec<String>,
    /// Why it does not hold; none when it does.
    pub wrong: Option<String>,
}

/// What a time stamp was found to be.
enum Stamped {
    At(u64, Box<Signer>),
    /// Nobody can verify it any more.
    Old(u64),
    Wrong(String),
}

impl Signer {
    fn wrong(why: impl Into<String>) -> Self {
        Self { wrong: Some(why.into()), ..Self::default() }
    }
}

/// The hash function of a name.
pub fn hash_of(oid: ObjectIdentifier) -> Option<Hash> {
    Some(match oid {
        SHA1 => Hash::Sha1,
        SHA256 => Hash::Sha256,
        SHA384 => Hash::Sha384,
        SHA512 => Hash::Sha512,
        _ => return None,
    })
}

/// Ways in which a key may have signed a digest of this kind.
fn algorithms(hash: Hash) -> &'static [Algorithm] {
    match hash {
        Hash::Sha1 => &[&keys::RSA_PKCS1_1024_8192_SHA1_FOR_LEGACY_USE_ONLY],
        Hash::Sha256 => &[
            &keys::RSA_PKCS1_1024_8192_SHA256_FOR_LEGACY_USE_ONLY,
            &keys::ECDSA_P256_SHA256_ASN1,
            &keys::ECDSA_P384_SHA256_ASN1,
            &keys::RSA_PSS_2048_8192_SHA256,
        ],
        Hash::Sha384 => &[
            &keys::RSA_PKCS1_2048_8192_SHA384,
            &keys::ECDSA_P384_SHA384_ASN1,
            &keys::ECDSA_P256_SHA384_ASN1,
            &keys::RSA_PSS_2048_8192_SHA384,
        ],
        Hash::Sha512 => &[
            &keys::RSA_PKCS1_1024_8192_SHA512_FOR_LEGACY_USE_ONLY,
            &keys::ECDSA_P521_SHA512_ASN1,
            &keys::RSA_PSS_2048_8192_SHA512,
        ],
    }
}

const NOT_OF_ITS_KEY: &str = "it is not that of its key";
const UNKNOWN: &str = "it is made with algorithms that this lantern does not know";

/// A signed message, taken apart: what a signer reads again before it gives away what it made.
#[derive(Debug)]
pub struct Message {
    data: SignedData,
    certificates: Vec<Embedded>,
}

impl Message {
    /// Reads one; what stands after it is ignored.
    ///
    /// # Errors
    /// [`FormatError`] for what is no signed message.
    pub fn read(bytes: &[u8]) -> Result<Self, FormatError> {
        let broken = || FormatError::Value { what: "the message of the signature", value: 0 };
        let bytes = der_of(bytes).ok_or_else(broken)?;
        let info = ContentInfo::from_der(&bytes).map_err(|_| broken())?;
        if info.content_type != SIGNED_DATA {
            return Err(broken());
        }
        let certificates = chain::certificates(info.content.value());
        let data: SignedData = info.content.decode_as().map_err(|_| broken())?;
        // The library passes over values that it does not expect: what is not read must not look as if it were verified.
        if data.encoded_len().ok() != info.content.encoded_len().ok() {
            return Err(broken());
        }
        Ok(Self { data, certificates })
    }

    /// Further signatures next to the signer's own, each a whole message.
    ///
    /// # Errors
    /// [`FormatError`] for what is none.
    pub fn nested(&self) -> Result<Vec<Self>, FormatError> {
        let broken = || FormatError::Value { what: "a second signature", value: 0 };
        let beside = self.data.signer_infos.0.iter().filter_map(|info| info.unsigned_attrs.as_ref());
        let all = beside.flat_map(Attributes::iter).filter(|attribute| attribute.oid == NESTED);
        let all = all.flat_map(|attribute| attribute.values.iter()).take(MAX_NESTED + 1);
        let read = |any: &Any| Self::read(&any.to_der().map_err(|_| broken())?);
        let found = all.map(read).collect::<Result<Vec<_>, _>>()?;
        if found.len() > MAX_NESTED { Err(broken()) } else { Ok(found) }
    }

    /// The kind of its content, and the content; none where it is a message about something that lies elsewhere.
    pub fn content(&self) -> (ObjectIdentifier, Option<&Any>) {
        let content = &self.data.encap_content_info;
        (content.econtent_type, content.econtent.as_ref())
    }

    /// The value of an attribute that the first signer has signed.
    pub fn signed_attribute(&self, name: ObjectIdentifier) -> Option<&Any> {
        attribute(self.data.signer_infos.0.iter().next()?.signed_attrs.as_ref()?, name)
    }

    /// The hash function of the message.
    pub fn hash(&self) -> Option<Hash> {
        hash_of(self.data.signer_infos.0.iter().next()?.digest_alg.oid)
    }

    /// Whether it is of the first version, which messages in programs for Windows have.
    pub fn is_of_first_version(&self) -> bool {
        self.data.version == CmsVersion::V1
    }

    /// Verifies that its one signer has signed this content, and that each certificate of its chain was signed by the one above it,
    /// as far as they are there.
    pub fn verify(&self, content: &[u8]) -> Signer {
        let infos = self.data.signer_infos.0.as_slice();
        let [info] = infos else { return Signer::wrong(format!("it has {} signers", infos.len())) };
        let Some((place, own)) = self.certificate(info) else {
            return Signer::wrong("the signer's certificate is not in it");
        };
        let chain = chain::above(&self.certificates, place);
        let mut signer = describe(&own.certificate, &chain);
        let (kind, _) = self.content();
        signer.wrong = self.why_wrong(info, &own.certificate, Some(kind), content).map(str::to_owned);
        let of_chain = why_wrong_chain(&chain);
        signer.wrong = signer.wrong.or(of_chain);
        let mut used = chain.places;
        match self.stamped(info, &mut used) {
            Some(Stamped::At(time, by)) => {
                let own = short_name(&by.subject).to_owned();
                (signer.stamped, signer.stamped_by) = (Some(time), [vec![own], by.chain].concat());
                signer.unverified.extend(by.unverified);
            }
            Some(Stamped::Old(time)) => signer.stamped_unverified = Some(time),
            Some(Stamped::Wrong(why)) => {
                signer.wrong = signer.wrong.or(Some(format!("its time stamp is not valid: {why}")));
            }
            None => {}
        }
        signer.unverified.extend(self.unverified(info, &used));
        signer
    }

    /// What is stored with the signature and verified by nothing.
    fn unverified(&self, info: &SignerInfo, used: &BTreeSet<usize>) -> Vec<String> {
        let known = |name| TIMESTAMPS.contains(&name) || name == COUNTERSIGNATURE || name == NESTED;
        let others = info.unsigned_attrs.iter().flat_map(|all| all.iter()).filter(|attribute| !known(attribute.oid));
        let others = others.map(|attribute| format!("what is added to it as {}", attribute.oid));
        let spare = (0..self.certificates.len()).filter(|place| !used.contains(place));
        let spare = spare.filter_map(|place| self.certificates.get(place)).map(|of| {
            let subject = of.certificate.tbs_certificate.subject.to_string();
            format!("the certificate of {}, which it does not need", short_name(&subject))
        });
        let is_listed = self.data.digest_algorithms.iter().any(|known| known.oid == info.digest_alg.oid);
        // off-spec: RFC 5652, section 5.1, wants each signer's function in the list; some authorities leave it out.
        let unlisted =
            (!is_listed).then(|| "its list of hash functions, which lacks the one it is made with".to_owned());
        let lists = self.data.crls.iter().map(|_| "a list of revoked certificates".to_owned());
        others.chain(spare).chain(unlisted).chain(lists).collect()
    }

    fn certificate(&self, info: &SignerInfo) -> Option<(usize, &Embedded)> {
        self.certificates.iter().enumerate().find(|(_, embedded)| {
            let body = &embedded.certificate.tbs_certificate;
            match &info.sid {
                SignerIdentifier::IssuerAndSerialNumber(wanted) => {
                    body.issuer == wanted.issuer && body.serial_number == wanted.serial_number
                }
                SignerIdentifier::SubjectKeyIdentifier(wanted) => {
                    let own = body.extensions.iter().flatten().find(|e| e.extn_id == KEY_IDENTIFIER);
                    let own = own.and_then(|e| OctetStringRef::from_der(e.extn_value.as_bytes()).ok());
                    own.is_some_and(|own| own.as_bytes() == wanted.0.as_bytes())
                }
            }
        })
    }

    /// Why a signer's signature is not one of this content.
    fn why_wrong(
        &self,
        info: &SignerInfo,
        certificate: &Certificate,
        kind: Option<ObjectIdentifier>,
        content: &[u8],
    ) -> Option<&'static str> {
        let Some(hash) = hash_of(info.digest_alg.oid) else { return Some(UNKNOWN) };
        // RFC 5754, section 2: a hash function has no parameters, or NULL. RFC 5652, section 5.1: there is no second version.
        let mut stated = self.data.digest_algorithms.iter().chain([&info.digest_alg]);
        let is_bare = stated.all(|hash| hash.parameters.as_ref().is_none_or(|any| any.tag() == Tag::Null));
        if !is_bare || matches!(self.data.version, CmsVersion::V0 | CmsVersion::V2) {
            return Some("what it says of itself cannot be");
        }
        if !chain::is_with(info.signature_algorithm.oid, hash) {
            return Some(UNKNOWN);
        }
        // RFC 5652, section 5.3.
        let version = match info.sid {
            SignerIdentifier::IssuerAndSerialNumber(_) => CmsVersion::V1,
            SignerIdentifier::SubjectKeyIdentifier(_) => CmsVersion::V3,
        };
        if info.version != version {
            return Some("its version is not the one that it must have");
        }
        let Ok(key) = certificate.tbs_certificate.subject_public_key_info.to_der() else {
            return Some("its key cannot be read");
        };
        let signature = info.signature.as_bytes();
        let Some(attributes) = &info.signed_attrs else {
            let holds = is_signed(algorithms(hash), &key, content, signature);
            return (!holds).then_some("its content was changed, or it was made with another key");
        };
        let value = |name| attribute(attributes, name);
        if value(MESSAGE_DIGEST).map(Any::value) != Some(hash.digest(content).as_slice()) {
            return Some("its content was changed after it was signed");
        }
        let stated = value(CONTENT_TYPE).and_then(|any| any.decode_as::<ObjectIdentifier>().ok());
        if kind.is_some_and(|kind| stated != Some(kind)) {
            return Some("it is of another kind of message");
        }
        let Ok(message) = attributes.to_der() else { return Some("it cannot be encoded as it was signed") };
        (!is_signed(algorithms(hash), &key, &message, signature)).then_some(NOT_OF_ITS_KEY)
    }

    /// The time that someone else has stated of a signature; none where nobody did. Adds the places of the certificates that were
    /// needed.
    fn stamped(&self, info: &SignerInfo, used: &mut BTreeSet<usize>) -> Option<Stamped> {
        let attributes = info.unsigned_attrs.as_ref()?;
        let value = |name| attribute(attributes, name);
        let signature = info.signature.as_bytes();
        let wrong = |why: &str| Some(Stamped::Wrong(why.to_owned()));
        if let Some(token) = TIMESTAMPS.into_iter().find_map(value) {
            let token = token.to_der().map_err(|_| "it cannot be read".to_owned());
            return Some(match token.and_then(|token| TimeStamp::read(&token)) {
                Ok(stamp) if stamp.covers(signature) => Stamped::At(stamp.time, Box::new(stamp.by)),
                Ok(_) => Stamped::Wrong("it is of another signature".to_owned()),
                Err(why) => Stamped::Wrong(why),
            });
        }
        let counter: SignerInfo = value(COUNTERSIGNATURE)?.decode_as().ok()?;
        let Some((place, own)) = self.certificate(&counter) else { return wrong("its certificate is not there") };
        let chain = chain::above(&self.certificates, place);
        let time = counter.signed_attrs.as_ref().and_then(|all| attribute(all, SIGNING_TIME));
        let time = time.and_then(|any| match any.tag() {
            Tag::UtcTime => any.decode_as::<UtcTime>().ok().map(|t| t.to_unix_duration()),
            _ => any.decode_as::<GeneralizedTime>().ok().map(|t| t.to_unix_duration()),
        });
        let Some(time) = time.map(|time| time.as_secs()) else { return wrong("it states no time") };
        let why = self.why_wrong(&counter, &own.certificate, None, signature);
        if let Some(why) = why_wrong_chain(&chain) {
            return Some(Stamped::Wrong(why));
        }
        let by = describe(&own.certificate, &chain);
        used.extend(chain.places);
        match why {
            None => Some(Stamped::At(time, Box::new(by))),
            // off-spec: the message's digest is a signed attribute (RFC 5652, section 5.4); authorities of before 2013 signed
            // the bare digest, as no standard has it.
            Some(NOT_OF_ITS_KEY) => Some(Stamped::Old(time)),
            Some(why) => wrong(why),
        }
    }
}

/// Why a chain does not hold.
fn why_wrong_chain(chain: &Chain) -> Option<String> {
    chain.wrong.as_ref().map(|name| format!("the certificate of {name} in it was not signed by the one above it"))
}

/// Who signed, by the certificate.
fn describe(certificate: &Certificate, chain: &Chain) -> Signer {
    let body = &certificate.tbs_certificate;
    let seconds = |time: x509_cert::time::Time| time.to_unix_duration().as_secs();
    let usage = body.extensions.iter().flatten().find(|e| e.extn_id == EXTENDED_USAGE);
    // Purposes of a writer's own may have numbers that are too large to be read: only the one that counts is looked for.
    let is_for = |purpose: ObjectIdentifier| {
        let purpose = purpose.to_der().unwrap_or_default();
        usage.map(|e| find(e.extn_value.as_bytes(), &purpose, 0).is_some())
    };
    let signed = |name: &String, why| format!("who signed the certificate of {name}, {why}");
    let unknown = chain.unknown.as_ref().map(|name| signed(name, "which is made in an old way"));
    let open = chain.open.as_ref().map(|name| signed(name, "whose issuer is not in it"));
    Signer {
        subject: body.subject.to_string(),
        chain: chain.issuers.clone(),
        valid: (seconds(body.validity.not_before), seconds(body.validity.not_after)),
        certificate: certificate.to_der().unwrap_or_default(),
        is_for_other_things: is_for(FOR_CODE) == Some(false),
        is_for_time_stamps: is_for(FOR_TIME_STAMPS) == Some(true),
        unverified: unknown.into_iter().chain(open).collect(),
        ..Signer::default()
    }
}

/// The value of an attribute, which has one.
fn attribute(all: &Attributes, name: ObjectIdentifier) -> Option<&Any> {
    all.iter().find(|attribute| attribute.oid == name)?.values.iter().next()
}

#[cfg(test)]
mod tests;
