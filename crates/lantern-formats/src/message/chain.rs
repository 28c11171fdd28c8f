//! The certificates of a message, and who signed which of them. Source: RFC 5280, sections 4.1 and 6.1
//! (<https://www.rfc-editor.org/rfc/rfc5280>); names of algorithms from RFC 8017, appendix A.2, and RFC 5758, section 3.2.

use std::collections::BTreeSet;

use x509_cert::Certificate;
use x509_cert::der::asn1::ObjectIdentifier;
use x509_cert::der::{Any, Decode, Encode, Reader, SliceReader, Tag, Tagged};

use super::algorithms;
use super::ber::CERTIFICATES;
use crate::certificate::short_name;
use crate::hash::{Hash, is_signed};

/// Most certificates of a chain that are looked at. Ours: real chains have two to five.
const MAX_CHAIN: usize = 8;
/// What messages call a signature of an RSA key, whatever the hash (RFC 3370, section 3.2), and the padding PSS.
const RSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.1");
const RSA_PSS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.10");
const EC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.2.1");
const CURVES: [ObjectIdentifier; 2] =
    [ObjectIdentifier::new_unwrap("1.2.840.10045.3.1.7"), ObjectIdentifier::new_unwrap("1.3.132.0.34")];
/// Names of a signature with the hash function in it.
const WITH_HASH: [(ObjectIdentifier, Hash); 7] = [
    (ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.5"), Hash::Sha1),
    (ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.11"), Hash::Sha256),
    (ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.12"), Hash::Sha384),
    (ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.13"), Hash::Sha512),
    (ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.2"), Hash::Sha256),
    (ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.3"), Hash::Sha384),
    (ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.4"), Hash::Sha512),
];
const EVERY_HASH: [Hash; 4] = [Hash::Sha1, Hash::Sha256, Hash::Sha384, Hash::Sha512];

/// Whether the name of a signature's algorithm is one of a signature with this hash.
pub(super) fn is_with(algorithm: ObjectIdentifier, hash: Hash) -> bool {
    [RSA, RSA_PSS, EC].contains(&algorithm) || WITH_HASH.contains(&(algorithm, hash))
}

/// Hash functions that the name of a signature's algorithm leaves open; none for one that is not known.
fn hashes_of(algorithm: ObjectIdentifier) -> Vec<Hash> {
    match WITH_HASH.iter().find(|(known, _)| *known == algorithm) {
        Some((_, hash)) => vec![*hash],
        None if algorithm == RSA_PSS => EVERY_HASH.to_vec(),
        None => Vec::new(),
    }
}

/// A certificate of a message.
#[derive(Debug)]
pub(super) struct Embedded {
    pub certificate: Certificate,
    /// What is signed of it, byte for byte.
    body: Vec<u8>,
}

/// What is known of a signature on a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Verdict {
    Holds,
    Wrong,
    /// It is of a kind that is not verified here.
    Unknown,
}

/// A certificate and those above it, as far as they are there.
#[derive(Debug, Default)]
pub(super) struct Chain {
    /// Common names from the certificate's issuer upwards.
    pub issuers: Vec<String>,
    /// Where its certificates stand in the message.
    pub places: BTreeSet<usize>,
    /// The certificate whose signature is of a kind that is not verified here.
    pub unknown: Option<String>,
    /// The certificate whose issuer is not there.
    pub open: Option<String>,
    /// The certificate that its issuer's key did not sign.
    pub wrong: Option<String>,
}

/// The certificates of a message that is DER. Old kinds among them are left out.
pub(super) fn certificates(data: &[u8]) -> Vec<Embedded> {
    let read = || {
        // Version, algorithms, content.
        let mut reader = SliceReader::new(data)?;
        for _ in 0..3 {
            reader.tlv_bytes()?;
        }
        let set = Any::decode(&mut reader)?;
        let mut out = Vec::new();
        if set.tag().octet() != CERTIFICATES {
            return Ok(out);
        }
        let mut reader = SliceReader::new(set.value())?;
        while !reader.is_finished() {
            let whole = reader.tlv_bytes()?;
            if whole.first() == Some(&Tag::Sequence.octet()) {
                let body = SliceReader::new(whole)?.sequence(|reader| {
                    let body = reader.tlv_bytes()?.to_vec();
                    while !reader.is_finished() {
                        reader.tlv_bytes()?;
                    }
                    Ok(body)
                })?;
                out.push(Embedded { certificate: Certificate::from_der(whole)?, body });
            }
        }
        Ok::<_, x509_cert::der::Error>(out)
    };
    read().unwrap_or_default()
}

fn name(of: &Embedded) -> String {
    let subject = of.certificate.tbs_certificate.subject.to_string();
    short_name(&subject).to_owned()
}

/// Whether the key of one certificate has signed another one.
fn verdict(above: &Embedded, below: &Embedded) -> Verdict {
    let info = &above.certificate.tbs_certificate.subject_public_key_info;
    let hashes = hashes_of(below.certificate.signature_algorithm.oid);
    let curve = info.algorithm.parameters.as_ref().and_then(|any| any.decode_as::<ObjectIdentifier>().ok());
    let is_known = match info.algorithm.oid {
        RSA | RSA_PSS => true,
        EC => curve.is_some_and(|curve| CURVES.contains(&curve)),
        _ => false,
    };
    let (Ok(key), Some(signature)) = (info.to_der(), below.certificate.signature.as_bytes()) else {
        return Verdict::Wrong;
    };
    match () {
        // The name of the algorithm stands in the part that is signed, and beside it (RFC 5280, section 4.1.1.2).
        () if below.certificate.signature_algorithm != below.certificate.tbs_certificate.signature => Verdict::Wrong,
        () if hashes.iter().any(|hash| is_signed(algorithms(*hash), &key, &below.body, signature)) => Verdict::Holds,
        () if is_known && !hashes.is_empty() => Verdict::Wrong,
        () => Verdict::Unknown,
    }
}

/// Follows the chain of a certificate upwards, as far as certificates are there.
pub(super) fn above(all: &[Embedded], place: usize) -> Chain {
    let mut chain = Chain::default();
    let mut below = place;
    while let Some(own) = all.get(below).filter(|_| chain.places.insert(below)) {
        let body = &own.certificate.tbs_certificate;
        let issuer = body.issuer.to_string();
        let issuer = short_name(&issuer).to_owned();
        if chain.issuers.last() != Some(&issuer) {
            chain.issuers.push(issuer);
        }
        let named =
            all.iter().enumerate().filter(|(_, above)| above.certificate.tbs_certificate.subject == body.issuer);
        let found: Vec<(usize, Verdict)> = named.map(|(place, above)| (place, verdict(above, own))).collect();
        let Some((next, _)) = found.iter().find(|(_, verdict)| *verdict == Verdict::Holds) else {
            match found.iter().any(|(_, verdict)| *verdict == Verdict::Unknown) {
                true => chain.unknown = Some(name(own)),
                false if !found.is_empty() => chain.wrong = Some(name(own)),
                false => chain.open = Some(name(own)),
            }
            break;
        };
        // The highest has signed itself.
        if chain.places.contains(next) || chain.places.len() > MAX_CHAIN {
            break;
        }
        below = *next;
    }
    chain
}
