//! Certificates: one that a key makes for itself, and what is read of others. Source: RFC 5280
//! (<https://www.rfc-editor.org/rfc/rfc5280>), sections 4.1 and 4.2.

use aws_lc_rs::signature::{self, UnparsedPublicKey, VerificationAlgorithm};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use lantern_formats::hash::Hash;
use sha1::Sha1;
use sha2::{Digest, Sha256};
use x509_cert::Certificate;
use x509_cert::der::{Decode, Encode};
use x509_cert::name::Name;

use crate::KeyError;
use crate::der::{self, Reader};
use crate::key::{self, Algorithm, PrivateKey};

/// Years that a new certificate is valid for. Places that sell games ask for decades; a phone never takes an update that was
/// signed with another key.
pub const YEARS: u16 = 30;
/// Most years: times are written with four digits.
const MAX_YEARS: u16 = 1_000;

/// What a certificate says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct About {
    /// Whose it is, as RFC 4514 writes it.
    pub subject: String,
    /// Its first and its last moment.
    pub valid: (Timestamp, Timestamp),
    /// SHA-256 of all of it: what places and phones know a key by.
    pub sha256: [u8; 32],
    /// SHA-1 of all of it: what some services still ask for.
    pub sha1: [u8; 20],
}

fn parse(certificate: &[u8]) -> Result<Certificate, KeyError> {
    Certificate::from_der(certificate).map_err(|_| KeyError::Malformed("the certificate"))
}

/// Reads what a certificate says.
///
/// # Errors
/// [`KeyError::Malformed`].
pub fn about(certificate: &[u8]) -> Result<About, KeyError> {
    let body = parse(certificate)?.tbs_certificate;
    let moment = |time: x509_cert::time::Time| {
        let seconds = i64::try_from(time.to_unix_duration().as_secs()).ok();
        seconds.and_then(|s| Timestamp::from_second(s).ok()).ok_or(KeyError::Malformed("the certificate's dates"))
    };
    Ok(About {
        subject: body.subject.to_string(),
        valid: (moment(body.validity.not_before)?, moment(body.validity.not_after)?),
        sha256: Sha256::digest(certificate).into(),
        sha1: Sha1::digest(certificate).into(),
    })
}

/// The public key of a certificate.
///
/// # Errors
/// [`KeyError::Malformed`].
pub fn public_key(certificate: &[u8]) -> Result<Vec<u8>, KeyError> {
    let info = parse(certificate)?.tbs_certificate.subject_public_key_info;
    info.to_der().map_err(|_| KeyError::Malformed("the certificate's key"))
}

/// Whether the key of a certificate has signed a message with SHA-256: RSA with PKCS #1 v1.5, or ECDSA on P-256.
///
/// # Errors
/// [`KeyError::Malformed`].
pub fn has_signed(certificate: &[u8], message: &[u8], signature: &[u8]) -> Result<bool, KeyError> {
    has_signed_with(certificate, Hash::Sha256, message, signature)
}

/// As [`has_signed`], with another hash.
///
/// # Errors
/// [`KeyError::Malformed`].
pub fn has_signed_with(certificate: &[u8], hash: Hash, message: &[u8], signed: &[u8]) -> Result<bool, KeyError> {
    let public = public_key(certificate)?;
    let bits = public.len() - key_bits_len(&public)?;
    let bits = public.get(bits..).unwrap_or_default();
    let way: &dyn VerificationAlgorithm = match (algorithm(certificate)?, hash) {
        (Algorithm::Rsa(_), Hash::Sha256) => &signature::RSA_PKCS1_2048_8192_SHA256,
        (Algorithm::Rsa(_), Hash::Sha384) => &signature::RSA_PKCS1_2048_8192_SHA384,
        (Algorithm::Rsa(_), Hash::Sha512) => &signature::RSA_PKCS1_2048_8192_SHA512,
        (Algorithm::P256, Hash::Sha256) => &signature::ECDSA_P256_SHA256_ASN1,
        (Algorithm::P256, Hash::Sha384) => &signature::ECDSA_P256_SHA384_ASN1,
        _ => return Ok(false),
    };
    Ok(UnparsedPublicKey::new(way, bits).verify(message, signed).is_ok())
}

/// What kind of key a certificate is for.
///
/// # Errors
/// [`KeyError::Malformed`]; [`KeyError::Unsupported`] for kinds that no signed format here knows.
pub fn algorithm(certificate: &[u8]) -> Result<Algorithm, KeyError> {
    let public = public_key(certificate)?;
    let mut info = Reader::new(&public).inside(der::SEQUENCE, "the public key")?;
    let mut kind = info.inside(der::SEQUENCE, "the public key's kind")?;
    let name = kind.bytes(der::OID, "the public key's kind")?;
    let bits = info.bytes(der::BIT_STRING, "the public key")?.get(1..).unwrap_or_default();
    if name == key::RSA {
        let modulus = Reader::new(bits).inside(der::SEQUENCE, "the RSA key")?.bytes(der::INTEGER, "the RSA key")?;
        let len = modulus.strip_prefix(&[0]).unwrap_or(modulus).len() * 8;
        return Ok(Algorithm::Rsa(u16::try_from(len).unwrap_or(u16::MAX)));
    }
    match name == key::EC && kind.bytes(der::OID, "the curve")? == key::PRIME256 {
        true => Ok(Algorithm::P256),
        false => Err(KeyError::Unsupported("the certificate is for a key that is neither RSA nor P-256".to_owned())),
    }
}

/// Whether a certificate is for signing programs, or for anything: it may say for what it is (RFC 5280, section 4.2.1.12).
pub fn is_for_code(certificate: &[u8]) -> bool {
    const USAGE: &[u8] = &[0x55, 0x1d, 0x25];
    const CODE: &[u8] = &[0x2b, 6, 1, 5, 5, 7, 3, 3];
    let Ok(certificate) = parse(certificate) else { return false };
    let usage = certificate.tbs_certificate.extensions.iter().flatten().find(|e| e.extn_id.as_bytes() == USAGE);
    usage.is_none_or(|usage| lantern_core::bytes::find(usage.extn_value.as_bytes(), CODE, 0).is_some())
}

/// What signed formats ask of a certificate beyond its key: its subject word by word, and which extensions it has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Words {
    /// By the bytes of their names, such as those of `2.5.4.3`.
    subject: Vec<(Vec<u8>, String)>,
    extensions: Vec<Vec<u8>>,
    is_self_issued: bool,
}

impl Words {
    /// The first word of the subject that has this name.
    pub fn subject(&self, name: &[u8]) -> Option<&str> {
        self.subject.iter().find(|(known, _)| known == name).map(|(_, text)| text.as_str())
    }

    /// The names of its extensions.
    pub fn extensions(&self) -> impl Iterator<Item = &[u8]> {
        self.extensions.iter().map(Vec::as_slice)
    }

    /// Whether it has an extension.
    pub fn has_extension(&self, name: &[u8]) -> bool {
        self.extensions().any(|known| known == name)
    }

    /// Whether it names itself as its issuer.
    pub fn is_self_issued(&self) -> bool {
        self.is_self_issued
    }
}

/// Reads the words of a certificate.
///
/// # Errors
/// [`KeyError::Malformed`].
pub fn words(certificate: &[u8]) -> Result<Words, KeyError> {
    let body = parse(certificate)?.tbs_certificate;
    let parts = body.subject.0.iter().flat_map(|part| part.0.iter());
    // Texts of one byte for each character, whatever their kind: others are none that a signature asks for.
    let text = |value: &[u8]| std::str::from_utf8(value).ok().map(str::to_owned);
    let subject = parts.filter_map(|part| Some((part.oid.as_bytes().to_vec(), text(part.value.value())?))).collect();
    let extensions = body.extensions.iter().flatten().map(|extension| extension.extn_id.as_bytes().to_vec()).collect();
    Ok(Words { subject, extensions, is_self_issued: body.subject == body.issuer })
}

/// The names of whom a certificate is for and of who signed it, byte for byte.
pub(crate) fn names(certificate: &[u8]) -> Result<(Vec<u8>, Vec<u8>), KeyError> {
    let body = parse(certificate)?.tbs_certificate;
    let der = |name: Name| name.to_der().map_err(|_| KeyError::Malformed("the certificate's names"));
    Ok((der(body.subject)?, der(body.issuer)?))
}

/// The issuer's name and the serial number of a certificate, each as DER and byte for byte.
///
/// # Errors
/// [`KeyError::Malformed`].
pub fn issuer_and_serial(certificate: &[u8]) -> Result<(Vec<u8>, Vec<u8>), KeyError> {
    let what = "the certificate";
    let mut body = Reader::new(certificate).inside(der::SEQUENCE, what)?.inside(der::SEQUENCE, what)?;
    if body.tag() == Some(0xa0) {
        body.whole(what)?;
    }
    let serial = body.whole(what)?;
    body.whole(what)?;
    Ok((body.whole(what)?.to_vec(), serial.to_vec()))
}

/// A name for a studio: its organisation and its common name.
pub fn name_of_studio(studio: &str) -> Vec<u8> {
    let part = |last: u8| {
        let text = der::value(der::UTF8_STRING, &[studio.as_bytes()]);
        let pair = der::sequence(&[&der::value(der::OID, &[&[0x55, 4, last]]), &text]);
        der::value(der::SET, &[&pair])
    };
    // `organizationName` and `commonName`.
    der::sequence(&[&part(10), &part(3)]).to_vec()
}

/// A name as RFC 4514 writes it: `CN=Paper Heron,C=IS`.
///
/// # Errors
/// [`KeyError::Subject`].
pub fn name_of_text(text: &str) -> Result<Vec<u8>, KeyError> {
    let bad = || KeyError::Subject(text.to_owned());
    let name: Name = text.parse().map_err(|_| bad())?;
    if name.0.is_empty() {
        return Err(bad());
    }
    name.to_der().map_err(|_| bad())
}

/// A moment as certificates write it: with two digits of the year until 2049, with four from then on (section 4.1.2.5).
fn moment(at: Timestamp) -> Vec<u8> {
    let at = at.to_zoned(TimeZone::UTC);
    let (tag, text) = match (1950..2050).contains(&at.year()) {
        true => (0x17, at.strftime("%y%m%d%H%M%SZ").to_string()),
        false => (0x18, at.strftime("%Y%m%d%H%M%SZ").to_string()),
    };
    der::value(tag, &[text.as_bytes()]).to_vec()
}

/// The algorithm with which a key signs what has this hash.
pub fn signature_algorithm(algorithm: Algorithm, hash: Hash) -> Vec<u8> {
    let last = match (algorithm, hash) {
        (Algorithm::Rsa(_), Hash::Sha384) => 12,
        (Algorithm::Rsa(_), Hash::Sha512) => 13,
        (Algorithm::Rsa(_), _) => 11,
        (Algorithm::P256, Hash::Sha384) => 3,
        (Algorithm::P256, Hash::Sha512) => 4,
        (Algorithm::P256, _) => 2,
    };
    match algorithm {
        Algorithm::Rsa(_) => {
            let oid = der::value(der::OID, &[&[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 1], &[last]]);
            der::sequence(&[&oid, &der::value(der::NULL, &[])]).to_vec()
        }
        Algorithm::P256 => {
            der::sequence(&[&der::value(der::OID, &[&[0x2a, 0x86, 0x48, 0xce, 0x3d, 4, 3], &[last]])]).to_vec()
        }
    }
}

/// What a certificate is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// Signing code.
    Code,
    /// Stating times (RFC 3161, section 2.3: for nothing else).
    TimeStamps,
}

/// Makes a certificate that a key signs for itself: version 3, for signatures and for one purpose alone.
///
/// `serial` are random bytes; `name` is DER.
///
/// # Errors
/// [`KeyError::Years`]; those of signing.
pub fn self_signed(
    key: &PrivateKey,
    name: &[u8],
    purpose: Purpose,
    from: Timestamp,
    years: u16,
    serial: [u8; 16],
) -> Result<Vec<u8>, KeyError> {
    let refused = KeyError::Years { years, most: MAX_YEARS };
    if !(1..=MAX_YEARS).contains(&years) {
        return Err(refused);
    }
    let end = from.to_zoned(TimeZone::UTC).checked_add(jiff::Span::new().years(years));
    let until = end.map_err(|_| refused)?.timestamp();
    let public = key.public();
    let oid = |bytes: &[u8]| der::value(der::OID, &[bytes]);
    let critical = [0x01, 1, 0xff];
    let extension = |last: u8, flag: &[u8], value: &[u8]| {
        der::sequence(&[&oid(&[0x55, 0x1d, last]), flag, &der::value(der::OCTET_STRING, &[value])])
    };
    // Method 1 of section 4.2.1.2: SHA-1 of the key's bits alone.
    let bits = public.len() - key_bits_len(&public)?;
    let identifier = der::value(der::OCTET_STRING, &[&Sha1::digest(public.get(bits..).unwrap_or_default())]);
    let (last, is_critical) = match purpose {
        Purpose::Code => (3, &[][..]),
        Purpose::TimeStamps => (8, &critical[..]),
    };
    let purpose = der::sequence(&[&oid(&[0x2b, 6, 1, 5, 5, 7, 3, last])]);
    let extensions = der::sequence(&[
        &extension(14, &[], &identifier),
        &extension(19, &critical, &der::sequence(&[])),
        // `digitalSignature` alone.
        &extension(15, &critical, &der::value(der::BIT_STRING, &[&[7, 0x80]])),
        &extension(37, is_critical, &purpose),
    ]);
    let algorithm = signature_algorithm(key.algorithm(), Hash::Sha256);
    let mut serial = serial;
    // Not negative, not zero, and always of one length.
    serial[0] = serial[0] & 0x7f | 0x40;
    let body = der::sequence(&[
        &der::value(0xa0, &[&der::integer(2)]),
        &der::unsigned(&serial),
        &algorithm,
        name,
        &der::sequence(&[&moment(from), &moment(until)]),
        name,
        &public,
        &der::value(0xa3, &[&extensions]),
    ]);
    let signature = key.sign(Hash::Sha256, &body)?;
    let certificate = der::sequence(&[&body, &algorithm, &der::value(der::BIT_STRING, &[&[0], &signature])]).to_vec();
    parse(&certificate)?;
    Ok(certificate)
}

/// Bytes of the key's bits in a public key.
fn key_bits_len(public: &[u8]) -> Result<usize, KeyError> {
    let mut info = Reader::new(public).inside(der::SEQUENCE, "the public key")?;
    info.whole("the public key's kind")?;
    Ok(info.bytes(der::BIT_STRING, "the public key")?.len() - 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn thirty_years_reach_beyond_2050() {
        let key = PrivateKey::generate(Algorithm::P256).unwrap();
        let name = name_of_studio("Paper Heron");
        let certificate = self_signed(&key, &name, Purpose::Code, at("2026-11-28T12:00:00Z"), YEARS, [0; 16]).unwrap();
        let about = about(&certificate).unwrap();
        assert_eq!(about.valid, (at("2026-11-28T12:00:00Z"), at("2056-11-28T12:00:00Z")));
        assert_eq!(about.subject, "CN=Paper Heron,O=Paper Heron");
        assert_eq!(public_key(&certificate).unwrap(), key.public());
        // The 29th of February has no day of its own in every year.
        self_signed(&key, &name, Purpose::Code, at("2028-02-29T00:00:00Z"), 30, [0xff; 16]).unwrap();
        for years in [0, 1_001, u16::MAX] {
            let made = self_signed(&key, &name, Purpose::Code, at("2026-11-28T12:00:00Z"), years, [0; 16]);
            assert!(matches!(made, Err(KeyError::Years { .. })), "{years}");
        }
    }

    #[test]
    fn names_with_everything_in_them() {
        for studio in ["Paper Heron", "Ó, \"Heron\" + Oar=1; #7 <x>\\", "紙のサギ", " ", &"a".repeat(300)] {
            let name = Name::from_der(&name_of_studio(studio)).unwrap();
            assert_eq!(name.0.len(), 2, "{studio}");
        }
        let name = Name::from_der(&name_of_text("CN=Paper Heron,O=Paper Heron Ltd,C=IS").unwrap()).unwrap();
        assert_eq!(name.to_string(), "CN=Paper Heron,O=Paper Heron Ltd,C=IS");
        for text in ["", "Paper Heron", "=,", "XX-NO=1"] {
            assert!(matches!(name_of_text(text), Err(KeyError::Subject(_))), "{text}");
        }
    }
}
