//! Signed messages: what the signatures of programs, packages and profiles have in common.
//!
//! Source: CMS (RFC 5652, sections 5.1 to 5.6, <https://www.rfc-editor.org/rfc/rfc5652>), time stamps (RFC 3161, section
//! 2.4.2, <https://www.rfc-editor.org/rfc/rfc3161>), encodings (ITU-T X.690, sections 8 to 11). Some writers use the forms of BER that have no
//! length, or texts in several parts; what is read is brought into DER first. Attributes are stored as `[0]`, and
//! signed as a SET OF in the order of DER.

use aws_lc_rs::signature as keys;
use cms::cert::CertificateChoices;
use cms::content_info::ContentInfo;
use cms::signed_data::{SignedData, SignerIdentifier, SignerInfo};
use lantern_core::bytes::find;
use x509_cert::Certificate;
use x509_cert::attr::Attributes;
use x509_cert::der::asn1::{GeneralizedTime, ObjectIdentifier, OctetStringRef, UtcTime};
use x509_cert::der::{Any, Decode, Encode, Reader, SliceReader, Tag, Tagged};
use x509_cert::spki::AlgorithmIdentifierOwned;

use crate::certificate::common_name;
use crate::hash::{Algorithm, Hash, is_signed};
use crate::offset_reader::FormatError;

const TST_INFO: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.16.1.4");
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
const SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
const SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
const SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.2");
const SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.3");
/// Deepest nesting, and most members of a set, that are read. Ours: real messages have 15 levels and some ten members.
const MAX_DEPTH: usize = 64;
const MAX_MEMBERS: usize = 1024;
/// Most certificates of a chain that are named.
const MAX_CHAIN: usize = 8;

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
    /// The time that a time stamp states, in seconds since 1970; its signature and what it covers hold.
    pub stamped: Option<u64>,
    /// The time of a time stamp of the older form, whose signature is of a kind that is not verified any more; what it
    /// covers holds.
    pub stamped_unverified: Option<u64>,
    /// Why it does not hold; none when it does.
    pub wrong: Option<String>,
}

/// What is wrong with a time stamp.
enum Stamp {
    /// Only that nobody can verify it any more.
    Old(u64),
    Wrong(&'static str),
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
        Hash::Sha384 => {
            &[&keys::RSA_PKCS1_2048_8192_SHA384, &keys::ECDSA_P384_SHA384_ASN1, &keys::RSA_PSS_2048_8192_SHA384]
        }
        Hash::Sha512 => &[
            &keys::RSA_PKCS1_1024_8192_SHA512_FOR_LEGACY_USE_ONLY,
            &keys::ECDSA_P521_SHA512_ASN1,
            &keys::RSA_PSS_2048_8192_SHA512,
        ],
    }
}

const NOT_OF_ITS_KEY: &str = "it is not that of its key";
const EVERY_HASH: [Hash; 4] = [Hash::Sha1, Hash::Sha256, Hash::Sha384, Hash::Sha512];

/// A signed message, taken apart: what a signer reads again before it gives away what it made.
#[derive(Debug)]
pub struct Message {
    data: SignedData,
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
        Ok(Self { data: info.content.decode_as().map_err(|_| broken())? })
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

    /// Verifies that its one signer has signed this content.
    pub fn verify(&self, content: &[u8]) -> Signer {
        let infos = self.data.signer_infos.0.as_slice();
        let [info] = infos else { return Signer::wrong(format!("it has {} signers", infos.len())) };
        let Some(certificate) = self.certificate(info) else {
            return Signer::wrong("the signer's certificate is not in it");
        };
        let mut signer = self.describe(certificate);
        let (kind, _) = self.content();
        signer.wrong = self.why_wrong(info, certificate, Some(kind), content).map(str::to_owned);
        match self.stamped(info) {
            Some(Ok(time)) => signer.stamped = Some(time),
            Some(Err(Stamp::Old(time))) => signer.stamped_unverified = Some(time),
            Some(Err(Stamp::Wrong(why))) => {
                signer.wrong = signer.wrong.or(Some(format!("its time stamp is not valid: {why}")));
            }
            None => {}
        }
        signer
    }

    fn certificates(&self) -> impl Iterator<Item = &Certificate> {
        let all = self.data.certificates.iter().flat_map(|set| set.0.iter());
        all.filter_map(|choice| if let CertificateChoices::Certificate(found) = choice { Some(found) } else { None })
    }

    fn certificate(&self, info: &SignerInfo) -> Option<&Certificate> {
        self.certificates().find(|certificate| {
            let body = &certificate.tbs_certificate;
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

    fn describe(&self, certificate: &Certificate) -> Signer {
        let body = &certificate.tbs_certificate;
        let seconds = |time: x509_cert::time::Time| time.to_unix_duration().as_secs();
        let usage = body.extensions.iter().flatten().find(|e| e.extn_id == EXTENDED_USAGE);
        // Purposes of a writer's own may have numbers that are too large to be read: only the one that counts is looked for.
        let for_code = FOR_CODE.to_der().unwrap_or_default();
        let is_for_code = usage.map(|e| find(e.extn_value.as_bytes(), &for_code, 0).is_some());
        let mut chain = vec![body.issuer.to_string()];
        let mut below = certificate;
        while chain.len() < MAX_CHAIN && below.tbs_certificate.issuer != below.tbs_certificate.subject {
            let Some(above) = self.certificates().find(|above| has_signed(above, below)) else { break };
            chain.push(above.tbs_certificate.issuer.to_string());
            below = above;
        }
        chain.dedup();
        Signer {
            subject: body.subject.to_string(),
            chain: chain.iter().map(|name| common_name(name).unwrap_or(name).to_owned()).collect(),
            valid: (seconds(body.validity.not_before), seconds(body.validity.not_after)),
            certificate: certificate.to_der().unwrap_or_default(),
            is_for_other_things: is_for_code == Some(false),
            stamped: None,
            stamped_unverified: None,
            wrong: None,
        }
    }

    /// Why a signer's signature is not one of this content.
    fn why_wrong(
        &self,
        info: &SignerInfo,
        certificate: &Certificate,
        kind: Option<ObjectIdentifier>,
        content: &[u8],
    ) -> Option<&'static str> {
        let Some(hash) = hash_of(info.digest_alg.oid) else {
            return Some("it is made with algorithms that this lantern does not know");
        };
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

    /// The time that someone else has stated of a signature; none where nobody did.
    fn stamped(&self, info: &SignerInfo) -> Option<Result<u64, Stamp>> {
        let attributes = info.unsigned_attrs.as_ref()?;
        let value = |name| attribute(attributes, name);
        let signature = info.signature.as_bytes();
        if let Some(token) = TIMESTAMPS.into_iter().find_map(value) {
            let token = token.to_der().ok().and_then(|der| Self::read(&der).ok());
            let time = token.ok_or("it cannot be read").and_then(|token| token.time_of(signature));
            return Some(time.map_err(Stamp::Wrong));
        }
        let counter: SignerInfo = value(COUNTERSIGNATURE)?.decode_as().ok()?;
        let wrong = |why| Some(Err(Stamp::Wrong(why)));
        let Some(certificate) = self.certificate(&counter) else { return wrong("its certificate is not there") };
        let time = counter.signed_attrs.as_ref().and_then(|all| attribute(all, SIGNING_TIME));
        let time = time.and_then(|any| match any.tag() {
            Tag::UtcTime => any.decode_as::<UtcTime>().ok().map(|t| t.to_unix_duration()),
            _ => any.decode_as::<GeneralizedTime>().ok().map(|t| t.to_unix_duration()),
        });
        let Some(time) = time.map(|time| time.as_secs()) else { return wrong("it states no time") };
        match self.why_wrong(&counter, certificate, None, signature) {
            None => Some(Ok(time)),
            // off-spec: the message's digest is a signed attribute (RFC 5652, section 5.4); authorities of before 2013 signed
            // the bare digest, as no standard has it.
            Some(NOT_OF_ITS_KEY) => Some(Err(Stamp::Old(time))),
            Some(why) => wrong(why),
        }
    }

    /// The time that this message, a time stamp, states of a signature.
    fn time_of(&self, signature: &[u8]) -> Result<u64, &'static str> {
        let (kind, content) = self.content();
        let content = content.filter(|any| kind == TST_INFO && any.tag() == Tag::OctetString);
        let content = content.ok_or("it is another kind of message")?.value();
        let signer = self.verify(content);
        if signer.wrong.is_some() {
            return Err("it was changed");
        }
        let (hash, imprint, time) = stamp(content).map_err(|_| "it cannot be read")?;
        let hash = hash.ok_or("it is made with algorithms that this lantern does not know")?;
        if hash.digest(signature) != imprint {
            return Err("it is of another signature");
        }
        Ok(time)
    }
}

/// The value of an attribute, which has one.
fn attribute(all: &Attributes, name: ObjectIdentifier) -> Option<&Any> {
    all.iter().find(|attribute| attribute.oid == name)?.values.iter().next()
}

/// The hash function, the digest and the time of a `TSTInfo`.
fn stamp(content: &[u8]) -> Result<(Option<Hash>, Vec<u8>, u64), x509_cert::der::Error> {
    SliceReader::new(content)?.sequence(|reader| {
        // The version and the policy.
        reader.tlv_bytes()?;
        reader.tlv_bytes()?;
        let imprint = reader.sequence(|reader| {
            let algorithm = AlgorithmIdentifierOwned::decode(reader)?;
            Ok((hash_of(algorithm.oid), OctetStringRef::decode(reader)?.as_bytes().to_vec()))
        })?;
        reader.tlv_bytes()?;
        // Fractions of a second are allowed here (RFC 3161, section 2.4.2), not in certificates (RFC 5280, section 4.1.2.5.2):
        // cut off.
        let time = reader.tlv_bytes()?;
        let digits = time.get(2..).unwrap_or_default().split(|b| matches!(b, b'.' | b'Z')).next().unwrap_or_default();
        let mut whole = Vec::new();
        write(0x18, &[digits, b"Z"].concat(), &mut whole);
        let time = GeneralizedTime::from_der(&whole)?.to_unix_duration().as_secs();
        // What follows is of no use here.
        while !reader.is_finished() {
            reader.tlv_bytes()?;
        }
        Ok((imprint.0, imprint.1, time))
    })
}

/// Whether one certificate's key has signed another certificate.
fn has_signed(above: &Certificate, below: &Certificate) -> bool {
    let body = &below.tbs_certificate;
    if body.issuer != above.tbs_certificate.subject {
        return false;
    }
    let (Ok(key), Ok(message), Some(signature)) =
        (above.tbs_certificate.subject_public_key_info.to_der(), body.to_der(), below.signature.as_bytes())
    else {
        return false;
    };
    EVERY_HASH.into_iter().any(|hash| is_signed(algorithms(hash), &key, &message, signature))
}

/// Brings the first value of some bytes from BER into DER: every length known and in its shortest form, texts in one
/// part. None where it is cut off, nested too deeply, or has sets of more members than anybody needs.
pub fn der_of(bytes: &[u8]) -> Option<Vec<u8>> {
    let mut out = Vec::with_capacity(bytes.len());
    let mut rest = bytes;
    value_of(&mut rest, &mut out, 0)?;
    Some(out)
}

/// The tag of the certificates, among others.
const CERTIFICATES: u8 = 0xa0;

/// Whether the marks of a value's end come next.
fn is_end(rest: &[u8]) -> bool {
    rest.starts_with(&[0, 0])
}

fn value_of(rest: &mut &[u8], out: &mut Vec<u8>, depth: usize) -> Option<()> {
    let (&tag, after) = rest.split_first()?;
    // Tags of several bytes stand in no message of this kind.
    if depth > MAX_DEPTH || tag & 0x1f == 0x1f {
        return None;
    }
    let (&first, after) = after.split_first()?;
    let is_constructed = tag & 0x20 != 0;
    let (mut content, after) = match first {
        0x80 if is_constructed => (after, None),
        0..=0x7f => {
            let (content, after) = after.split_at_checked(first.into())?;
            (content, Some(after))
        }
        _ => {
            let (digits, after) = after.split_at_checked(usize::from(first & 0x7f))?;
            if digits.len() > 4 || digits.is_empty() {
                return None;
            }
            let len = digits.iter().fold(0_usize, |len, digit| len << 8 | usize::from(*digit));
            let (content, after) = after.split_at_checked(len)?;
            (content, Some(after))
        }
    };
    if !is_constructed {
        write(tag, content, out);
        *rest = after?;
        return Some(());
    }
    let mut inner = Vec::new();
    let mut members: Vec<(usize, usize)> = Vec::new();
    while if after.is_some() { !content.is_empty() } else { !is_end(content) } {
        let start = inner.len();
        value_of(&mut content, &mut inner, depth + 1)?;
        if !matches!(tag, 0x31 | CERTIFICATES | 0xa1) {
            continue;
        }
        // off-spec: some writers put a certificate in twice, where the library reads a set with each value once; others add
        // some of a kind that was given up twenty years ago, by other tags (RFC 5652, section 10.2.2: obsolete).
        let is_same = |(from, to): &(usize, usize)| inner.get(*from..*to) == inner.get(start..);
        let is_other = !members.is_empty() && inner.get(start).is_some_and(|tag| tag & 0xc0 == 0x80);
        if tag == CERTIFICATES && (is_other || members.iter().any(is_same)) {
            inner.truncate(start);
        }
        members.push((start, inner.len()));
        if members.len() > MAX_MEMBERS {
            return None;
        }
    }
    *rest = match after {
        Some(after) => after,
        None => content.get(2..)?,
    };
    match tag {
        // off-spec: DER has no texts in parts (X.690, section 10.2), BER has. Only the parts' contents count.
        0x24 => {
            let mut whole = Vec::new();
            let mut parts = SliceReader::new(&inner).ok()?;
            while !parts.is_finished() {
                whole.extend(OctetStringRef::decode(&mut parts).ok()?.as_bytes());
            }
            write(0x04, &whole, out);
        }
        _ => write(tag, &inner, out),
    }
    Some(())
}

fn write(tag: u8, content: &[u8], out: &mut Vec<u8>) {
    out.push(tag);
    let digits = content.len().to_be_bytes();
    match u8::try_from(content.len()) {
        Ok(len) if len < 0x80 => out.push(len),
        _ => {
            let first = digits.iter().position(|d| *d != 0).unwrap_or(digits.len() - 1);
            let digits = digits.get(first..).unwrap_or_default();
            out.push(0x80 | u8::try_from(digits.len()).unwrap_or(0));
            out.extend(digits);
        }
    }
    out.extend(content);
}

#[cfg(test)]
mod tests;
