//! Key files of PKCS #12. Source: RFC 7292 (<https://www.rfc-editor.org/rfc/rfc7292>), sections 4 and 5.
//!
//! Written with PBES2, AES-256 and a checksum (MAC) of SHA-256; read with every protection that `openssl` and Java's key tool have
//! written in the last twenty years. Files of several keys are read whole; of what else they hold nothing is used.

use std::collections::BTreeMap;

use aws_lc_rs::hmac;
use lantern_formats::hash::Hash;
use lantern_formats::message;
use zeroize::Zeroizing;

use crate::KeyError;
use crate::certificate;
use crate::der::{self, Reader};
use crate::key::{Algorithm, PrivateKey, Signer};
use crate::passphrase::Passphrase;
use crate::protection::{self, Encrypted, Purpose};

pub use crate::protection::ROUNDS;

/// Largest file that is read, in bytes. Ours: one key with its chain has some four kilobytes.
pub const MAX_LEN: u64 = 4 * 1024 * 1024;
/// Most bags in a file. Ours.
const MAX_BAGS: usize = 1_000;

/// `data` and `encryptedData`, 1.2.840.113549.1.7.1 and .6.
const DATA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 7, 1];
const ENCRYPTED_DATA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 7, 6];
/// What a bag holds, 1.2.840.113549.1.12.10.1, without the last byte.
const BAG: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 12, 10, 1];
/// `friendlyName`, `localKeyId` and `x509Certificate`, 1.2.840.113549.1.9.20, .21 and .22.1.
const FRIENDLY_NAME: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 9, 20];
const LOCAL_KEY_ID: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 9, 21];
const X509_CERTIFICATE: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 9, 22, 1];
const SHA256: &[u8] = &[0x60, 0x86, 0x48, 1, 0x65, 3, 4, 2, 1];

/// A key with its certificate and those above it.
#[derive(Debug)]
pub struct Entry {
    /// How the file calls it; empty where it has no name.
    pub alias: String,
    /// The key.
    pub key: PrivateKey,
    /// Its certificate first.
    pub chain: Vec<Vec<u8>>,
}

impl Signer for Entry {
    fn algorithm(&self) -> Algorithm {
        self.key.algorithm()
    }

    fn chain(&self) -> &[Vec<u8>] {
        &self.chain
    }

    fn sign(&self, hash: Hash, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        self.key.sign(hash, message)
    }
}

/// What the bags of a file hold.
#[derive(Default)]
struct Bags {
    /// Name and bytes of each.
    keys: Vec<(String, Zeroizing<Vec<u8>>)>,
    certificates: Vec<Vec<u8>>,
    count: usize,
}

/// Whether bytes begin as such a file does: a sequence whose length has its long form, as one with a key in it must. No text begins
/// so, while one may well begin with the character `0`, which is a sequence's tag.
pub(crate) fn may_be(bytes: &[u8]) -> bool {
    matches!(bytes, [der::SEQUENCE, 0x80..=0x84, ..])
}

/// Reads the keys of a file.
///
/// # Errors
/// [`KeyError::Passphrase`] when it is another one; [`KeyError::Malformed`] and [`KeyError::Unsupported`] for what cannot be read;
/// [`KeyError::NoCertificate`] when no certificate belongs to a key; [`KeyError::NoKey`].
pub fn read(bytes: &[u8], passphrase: &Passphrase) -> Result<Vec<Entry>, KeyError> {
    // Some programs write lengths as they come.
    let bytes = message::der_of(bytes).map(Zeroizing::new).ok_or(KeyError::Malformed("the key file"))?;
    let mut file = Reader::new(&bytes).inside(der::SEQUENCE, "the key file")?;
    if file.number("the key file's version")? != 3 {
        return Err(KeyError::Unsupported("it is a key file of another version of PKCS #12".to_owned()));
    }
    let safes = data(file.inside(der::SEQUENCE, "the contents")?)?;
    // Both hash the passphrase many times, and neither needs the other.
    let (verified, bags) = at_once(|| verify(file, safes, passphrase), || Bags::of(safes, passphrase));
    verified?;
    bags?.entries()
}

/// Does two things at once: each keeps a processor busy for a while.
fn at_once<A: Send, B>(one: impl FnOnce() -> A + Send, other: impl FnOnce() -> B) -> (A, B) {
    std::thread::scope(|scope| {
        let one = scope.spawn(one);
        let other = other();
        (one.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)), other)
    })
}

/// The bytes of a content of the kind `data`.
fn data<'a>(mut info: Reader<'a>) -> Result<&'a [u8], KeyError> {
    match info.bytes(der::OID, "the contents' kind")? {
        DATA => Ok(info.inside(0xa0, "the contents")?.bytes(der::OCTET_STRING, "the contents")?),
        _ => Err(KeyError::Unsupported("it is protected with a certificate instead of a passphrase".to_owned())),
    }
}

fn encrypted_data(mut info: Reader<'_>, passphrase: &Passphrase) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let mut data = info.inside(0xa0, "an encrypted part")?.inside(der::SEQUENCE, "an encrypted part")?;
    data.number("an encrypted part's version")?;
    let mut content = data.inside(der::SEQUENCE, "an encrypted part")?;
    content.bytes(der::OID, "an encrypted part's kind")?;
    let algorithm = content.inside(der::SEQUENCE, "an encrypted part's encryption")?;
    // In one piece, or, as it was written with lengths unknown, in several.
    let whole;
    let bytes = match content.tag() {
        Some(0x80) => content.bytes(0x80, "an encrypted part")?,
        _ => {
            let mut pieces = content.inside(0xa0, "an encrypted part")?;
            let mut all = Vec::new();
            while !pieces.is_empty() {
                all.extend(pieces.bytes(der::OCTET_STRING, "an encrypted part")?);
            }
            whole = all;
            &whole
        }
    };
    protection::decrypt(&Encrypted { algorithm, bytes }, passphrase)
}

/// Verifies the checksum over the contents: only with the right passphrase it is right.
fn verify(mut file: Reader<'_>, safes: &[u8], passphrase: &Passphrase) -> Result<(), KeyError> {
    if file.is_empty() {
        return Err(KeyError::Unsupported("it has no checksum: anyone could have changed it".to_owned()));
    }
    let mut mac = file.inside(der::SEQUENCE, "the checksum")?;
    let mut digest = mac.inside(der::SEQUENCE, "the checksum")?;
    let name = digest.inside(der::SEQUENCE, "the checksum's kind")?.bytes(der::OID, "the checksum's kind")?;
    let stated = digest.bytes(der::OCTET_STRING, "the checksum")?;
    let salt = mac.bytes(der::OCTET_STRING, "the checksum's salt")?;
    let rounds = if mac.is_empty() { 1 } else { mac.number("the checksum's number of rounds")? };
    let rounds = protection::rounds(rounds)?;
    let (hash, algorithm) = match name {
        [0x2b, 0x0e, 3, 2, 0x1a] => (Hash::Sha1, hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY),
        SHA256 => (Hash::Sha256, hmac::HMAC_SHA256),
        [0x60, 0x86, 0x48, 1, 0x65, 3, 4, 2, 2] => (Hash::Sha384, hmac::HMAC_SHA384),
        [0x60, 0x86, 0x48, 1, 0x65, 3, 4, 2, 3] => (Hash::Sha512, hmac::HMAC_SHA512),
        other => {
            return Err(KeyError::Unsupported(format!("its checksum is of the kind {}", protection::dotted(other))));
        }
    };
    let key = protection::pkcs12_key(hash, Purpose::Mac, passphrase, salt, rounds, hash.len());
    hmac::verify(&hmac::Key::new(algorithm, &key), safes, stated).map_err(|_| KeyError::Passphrase)
}

impl Bags {
    fn of(safes: &[u8], passphrase: &Passphrase) -> Result<Self, KeyError> {
        let mut safes = Reader::new(safes).inside(der::SEQUENCE, "the contents")?;
        let mut bags = Self::default();
        while !safes.is_empty() {
            let mut safe = safes.inside(der::SEQUENCE, "a part of the contents")?;
            let again = safe;
            match safe.bytes(der::OID, "a part's kind")? {
                DATA => bags.add(data(again)?, passphrase)?,
                ENCRYPTED_DATA => bags.add(&encrypted_data(safe, passphrase)?, passphrase)?,
                other => {
                    return Err(KeyError::Unsupported(format!(
                        "a part of it is of the kind {}",
                        protection::dotted(other)
                    )));
                }
            }
        }
        Ok(bags)
    }

    fn add(&mut self, bytes: &[u8], passphrase: &Passphrase) -> Result<(), KeyError> {
        let mut bags = Reader::new(bytes).inside(der::SEQUENCE, "the bags")?;
        while !bags.is_empty() {
            self.count += 1;
            if self.count > MAX_BAGS {
                return Err(KeyError::Unsupported(format!("it has more than {MAX_BAGS} parts")));
            }
            let mut bag = bags.inside(der::SEQUENCE, "a bag")?;
            let kind = bag.bytes(der::OID, "a bag's kind")?;
            let mut value = bag.inside(0xa0, "a bag")?;
            match kind.strip_prefix(BAG) {
                Some(&[1]) => {
                    let name = name_in(bag)?;
                    self.keys.push((name, Zeroizing::new(value.whole("a key")?.to_vec())));
                }
                Some(&[2]) => {
                    let mut info = value.inside(der::SEQUENCE, "an encrypted key")?;
                    let algorithm = info.inside(der::SEQUENCE, "a key's encryption")?;
                    let bytes = info.bytes(der::OCTET_STRING, "an encrypted key")?;
                    let name = name_in(bag)?;
                    self.keys.push((name, protection::decrypt(&Encrypted { algorithm, bytes }, passphrase)?));
                }
                Some(&[3]) => {
                    let mut found = value.inside(der::SEQUENCE, "a certificate")?;
                    if found.bytes(der::OID, "a certificate's kind")? == X509_CERTIFICATE {
                        let bytes = found.inside(0xa0, "a certificate")?.bytes(der::OCTET_STRING, "a certificate")?;
                        self.certificates.push(bytes.to_vec());
                    }
                }
                // Lists, secrets and bags in bags are of other programs.
                _ => {}
            }
        }
        Ok(())
    }

    fn entries(self) -> Result<Vec<Entry>, KeyError> {
        let mut by_key = BTreeMap::new();
        for found in &self.certificates {
            by_key.entry(certificate::public_key(found)?).or_insert(found);
        }
        let entry = |(alias, bytes): (String, Zeroizing<Vec<u8>>)| {
            let key = PrivateKey::from_pkcs8(&bytes)?;
            let own = by_key.get(&key.public()).ok_or(KeyError::NoCertificate { alias: alias.clone() })?;
            Ok(Entry { chain: chain(own, &self.certificates)?, alias, key })
        };
        let entries: Vec<Entry> = self.keys.into_iter().map(entry).collect::<Result<_, KeyError>>()?;
        if entries.is_empty() { Err(KeyError::NoKey) } else { Ok(entries) }
    }
}

/// A certificate and those that say they are above it, up to the one that stands for itself.
fn chain(own: &[u8], all: &[Vec<u8>]) -> Result<Vec<Vec<u8>>, KeyError> {
    let mut out = vec![own.to_vec()];
    while out.len() <= all.len() {
        let (subject, issuer) = certificate::names(out.last().map_or(own, Vec::as_slice))?;
        if subject == issuer {
            break;
        }
        let mut above = None;
        for other in all.iter().filter(|other| !out.contains(other)) {
            if certificate::names(other)?.0 == issuer {
                above = Some(other.clone());
                break;
            }
        }
        match above {
            Some(above) => out.push(above),
            None => break,
        }
    }
    Ok(out)
}

/// The name of a bag; empty where it has none. What belongs together is seen from the keys, whatever ids say.
fn name_in(mut bag: Reader<'_>) -> Result<String, KeyError> {
    if bag.is_empty() {
        return Ok(String::new());
    }
    let mut set = bag.inside(der::SET, "a bag's attributes")?;
    while !set.is_empty() {
        let mut attribute = set.inside(der::SEQUENCE, "an attribute")?;
        if attribute.bytes(der::OID, "an attribute's kind")? == FRIENDLY_NAME {
            let mut values = attribute.inside(der::SET, "an attribute's value")?;
            let (pairs, _) = values.bytes(0x1e, "a name")?.as_chunks::<2>();
            let units = pairs.iter().map(|pair| u16::from_be_bytes(*pair));
            return Ok(char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect());
        }
    }
    Ok(String::new())
}

/// Writes a key with its certificates. `rounds` is how often the passphrase is hashed: [`ROUNDS`] outside of tests.
///
/// # Errors
/// [`KeyError::NoRandom`].
pub fn write(entry: &Entry, passphrase: &Passphrase, rounds: u32) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let oid = |bytes: &[u8]| der::value(der::OID, &[bytes]);
    let bag_kind = |last: u8| der::value(der::OID, &[BAG, &[last]]);
    let octets = |bytes: &[u8]| der::value(der::OCTET_STRING, &[bytes]);
    let own = entry.chain.first().ok_or_else(|| KeyError::NoCertificate { alias: entry.alias.clone() })?;
    let units: Vec<u8> = entry.alias.encode_utf16().flat_map(u16::to_be_bytes).collect();
    let attribute = |kind: &[u8], value: &[u8]| der::sequence(&[&oid(kind), &der::value(der::SET, &[value])]);
    let id = certificate::about(own)?.sha256;
    let name = attribute(FRIENDLY_NAME, &der::value(0x1e, &[&units]));
    let id = attribute(LOCAL_KEY_ID, &octets(&id));
    // In the order of DER: the shorter one first, as their bytes begin with the length.
    let mut both = [name.to_vec(), id.to_vec()];
    both.sort();
    let attributes = der::value(der::SET, &[&both[0], &both[1]]);

    let mut salt = [0; 16];
    getrandom::fill(&mut salt).map_err(|_| KeyError::NoRandom)?;
    let count = protection::rounds(rounds.into())?;
    let (mac_key, encrypted) = at_once(
        || protection::pkcs12_key(Hash::Sha256, Purpose::Mac, passphrase, &salt, count, 32),
        || protection::encrypt(entry.key.pkcs8(), passphrase, rounds),
    );
    let (algorithm, encrypted) = encrypted?;
    let key = der::sequence(&[&algorithm, &octets(&encrypted)]);
    let key = der::sequence(&[&bag_kind(2), &der::value(0xa0, &[&key]), &attributes]);
    let keys = der::sequence(&[&key]);

    let mut certificates = Vec::new();
    for (place, found) in entry.chain.iter().enumerate() {
        let bag = der::sequence(&[&oid(X509_CERTIFICATE), &der::value(0xa0, &[&octets(found)])]);
        let of_key: &[u8] = if place == 0 { &attributes } else { &[] };
        certificates.extend_from_slice(&der::sequence(&[&bag_kind(3), &der::value(0xa0, &[&bag]), of_key]));
    }
    // Certificates are public: that they are readable lets every program show whose key it is, and saves a third of the work.
    let safes = der::sequence(&[
        &der::sequence(&[&oid(DATA), &der::value(0xa0, &[&octets(&der::sequence(&[&certificates]))])]),
        &der::sequence(&[&oid(DATA), &der::value(0xa0, &[&octets(&keys)])]),
    ]);

    let tag = hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, &mac_key), &safes);
    let kind = der::sequence(&[&oid(SHA256), &der::value(der::NULL, &[])]);
    let digest = der::sequence(&[&kind, &octets(tag.as_ref())]);
    let mac = der::sequence(&[&digest, &octets(&salt), &der::integer(rounds.into())]);
    let info = der::sequence(&[&oid(DATA), &der::value(0xa0, &[&octets(&safes)])]);
    Ok(der::sequence(&[&der::integer(3), &info, &mac]))
}
