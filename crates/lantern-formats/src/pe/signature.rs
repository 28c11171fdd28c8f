//! The signature of a Windows program: whether all of the program is as it was signed, and by whom.
//!
//! Source: "Windows Authenticode Portable Executable Signature Format"; CMS (RFC 5652). The certificate table lies at
//! the end of the file: u32 length, u16 revision 0x0200, u16 type 2, then a CMS message. What is hashed is the file
//! without its checksum, without the entry of the table in the data directory, and without the table.

use std::io::{Read, Seek, SeekFrom};

use aws_lc_rs::signature as keys;
use cms::cert::CertificateChoices;
use cms::content_info::ContentInfo;
use cms::signed_data::{SignedData, SignerIdentifier, SignerInfo};
use x509_cert::Certificate;
use x509_cert::der::asn1::{ObjectIdentifier, OctetStringRef};
use x509_cert::der::{Any, Decode, Encode, Reader, SliceReader, Tag, Tagged};

use super::Details;
use crate::fields::{Fields, FormatError};
use crate::hash::{Algorithm, Hash, is_signed};

const SPC_INDIRECT_DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.2.1.4");
const TIMESTAMP: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.3.3.1");
const MESSAGE_DIGEST: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.4");
const SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
const SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
const SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.2");
const SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.3");
/// Largest certificate table that is read, in bytes. Ours: real ones have some tens of kilobytes.
const MAX_TABLE_LEN: u64 = 16 * 1024 * 1024;
/// Bytes that are hashed at a time.
const BLOCK_LEN: usize = 64 * 1024;

/// Who signed a program, and whether it holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProgramSignature {
    /// The certificate's subject, as RFC 4514 writes it.
    pub subject: String,
    /// Who issued the certificate.
    pub issuer: String,
    /// The last moment of the certificate, in seconds since 1970.
    pub expires: u64,
    /// Whether a time stamp stands in it. It is not verified.
    pub has_timestamp: bool,
    /// Why it does not hold; none when it does. Whether the issuer is to be trusted is not judged.
    pub wrong: Option<String>,
}

/// The hash function of a name.
fn hash_of(oid: ObjectIdentifier) -> Option<Hash> {
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
        ],
        Hash::Sha384 => &[&keys::RSA_PKCS1_2048_8192_SHA384, &keys::ECDSA_P384_SHA384_ASN1],
        Hash::Sha512 => &[&keys::RSA_PKCS1_1024_8192_SHA512_FOR_LEGACY_USE_ONLY, &keys::ECDSA_P521_SHA512_ASN1],
    }
}

fn broken(what: &'static str) -> FormatError {
    FormatError::Value { what, value: 0 }
}

fn not_der(_: x509_cert::der::Error) -> FormatError {
    broken("the message of the signature")
}

impl ProgramSignature {
    /// Reads and verifies that of a program; none where it has none.
    ///
    /// # Errors
    /// [`FormatError`] when it cannot even be read.
    pub fn verify(from: &mut (impl Read + Seek), details: &Details) -> Result<Option<Self>, FormatError> {
        let Some((offset, len)) = details.signature else { return Ok(None) };
        let end = from.seek(SeekFrom::End(0)).map_err(FormatError::Io)?;
        let mut fields = Fields { from, little: true };
        let own = u64::from(fields.u32(offset, "the certificate table")?);
        let [revision, kind] = [4, 6].map(|by| fields.u16(offset + by, "the certificate table"));
        if len > MAX_TABLE_LEN || own < 8 || own > len || revision? != 0x0200 || kind? != 2 {
            return Err(broken("the certificate table"));
        }
        let bytes = fields.vec(offset + 8, usize::try_from(own - 8).unwrap_or(0), "the certificate table")?;
        let message = Message::read(&bytes)?;
        let digest = if offset.checked_add(len) == Some(end) {
            Some(image_digest(fields.from, details, message.hash)?)
        } else {
            // Whatever lies behind the table is covered by nothing.
            None
        };
        Ok(Some(message.judge(digest.as_deref())))
    }
}

/// The message, taken apart.
struct Message {
    data: SignedData,
    content: Any,
    /// The hash function of the program's digest.
    hash: Hash,
    /// The program's digest, as it was signed.
    digest: Vec<u8>,
}

/// What the message says of the program: a description, then the hash function and the digest.
fn stated(content: &[u8]) -> Result<(Option<Hash>, Vec<u8>), x509_cert::der::Error> {
    let mut reader = SliceReader::new(content)?;
    reader.tlv_bytes()?;
    reader.sequence(|reader| {
        let algorithm = x509_cert::spki::AlgorithmIdentifierOwned::decode(reader)?;
        let digest = OctetStringRef::decode(reader)?.as_bytes().to_vec();
        Ok((hash_of(algorithm.oid), digest))
    })
}

impl Message {
    fn read(bytes: &[u8]) -> Result<Self, FormatError> {
        // Zeros fill the table up to a multiple of eight.
        let mut reader = SliceReader::new(bytes).map_err(not_der)?;
        let info = ContentInfo::decode(&mut reader).map_err(not_der)?;
        let data: SignedData = info.content.decode_as().map_err(not_der)?;
        if data.encap_content_info.econtent_type != SPC_INDIRECT_DATA {
            return Err(broken("the kind of the signed message"));
        }
        let content = data.encap_content_info.econtent.clone().ok_or_else(|| broken("the signed message"))?;
        if content.tag() != Tag::Sequence {
            return Err(broken("the signed message"));
        }
        let (hash, digest) = stated(content.value()).map_err(not_der)?;
        let hash = hash.ok_or_else(|| broken("the hash function of the signature"))?;
        Ok(Self { data, content, hash, digest })
    }

    fn judge(&self, image: Option<&[u8]>) -> ProgramSignature {
        let mut out = ProgramSignature {
            subject: String::new(),
            issuer: String::new(),
            expires: 0,
            has_timestamp: false,
            wrong: None,
        };
        let infos = self.data.signer_infos.0.as_slice();
        let [info] = infos else {
            out.wrong = Some(format!("it has {} signers", infos.len()));
            return out;
        };
        out.has_timestamp = info.unsigned_attrs.iter().flat_map(|all| all.iter()).any(|a| a.oid == TIMESTAMP);
        let Some(certificate) = self.certificate(info) else {
            out.wrong = Some("the signer's certificate is not in it".to_owned());
            return out;
        };
        let body = &certificate.tbs_certificate;
        (out.subject, out.issuer) = (body.subject.to_string(), body.issuer.to_string());
        out.expires = body.validity.not_after.to_unix_duration().as_secs();
        out.wrong = self.wrong(info, &certificate, image).map(str::to_owned);
        out
    }

    fn certificate(&self, info: &SignerInfo) -> Option<Certificate> {
        let SignerIdentifier::IssuerAndSerialNumber(wanted) = &info.sid else { return None };
        let all = self.data.certificates.as_ref()?.0.iter();
        all.filter_map(|choice| if let CertificateChoices::Certificate(found) = choice { Some(found) } else { None })
            .find(|c| {
                c.tbs_certificate.issuer == wanted.issuer && c.tbs_certificate.serial_number == wanted.serial_number
            })
            .cloned()
    }

    fn wrong(&self, info: &SignerInfo, certificate: &Certificate, image: Option<&[u8]>) -> Option<&'static str> {
        let Some(image) = image else { return Some("something stands behind it in the file") };
        let hash = hash_of(info.digest_alg.oid);
        let (Some(hash), Some(attributes)) = (hash, &info.signed_attrs) else {
            return Some("it is made with algorithms that this lantern does not know");
        };
        if hash != self.hash {
            return Some("its hash functions differ");
        }
        let stated = attributes.iter().find(|a| a.oid == MESSAGE_DIGEST).and_then(|a| a.values.iter().next());
        // The content without its own tag and length is what the message's digest is of.
        if stated.map(Any::value) != Some(hash.digest(self.content.value()).as_slice()) {
            return Some("what it says of the program was changed");
        }
        // Stored as [0], signed as SET OF.
        let (Ok(message), Ok(key)) =
            (attributes.to_der(), certificate.tbs_certificate.subject_public_key_info.to_der())
        else {
            return Some("it cannot be written as it was signed");
        };
        let signature = info.signature.as_bytes();
        if !is_signed(algorithms(hash), &key, &message, signature) {
            return Some("it is not that of its key");
        }
        (self.digest != image).then_some("the program was changed after it was signed")
    }
}

/// The digest over everything that is signed.
fn image_digest(from: &mut (impl Read + Seek), details: &Details, hash: Hash) -> Result<Vec<u8>, FormatError> {
    let (checksum, entry) = details.unsigned_at;
    let table = details.signature.map_or(0, |(offset, _)| offset);
    let mut spans = [(0, checksum), (checksum + 4, entry), (entry + 8, table)];
    spans.iter_mut().for_each(|span| span.1 = span.1.max(span.0));
    let mut hasher = hash.start();
    let mut buffer = vec![0; BLOCK_LEN];
    for (start, end) in spans {
        from.seek(SeekFrom::Start(start)).map_err(FormatError::Io)?;
        let mut left = end - start;
        while left > 0 {
            let len = usize::try_from(left).unwrap_or(BLOCK_LEN).min(BLOCK_LEN);
            let read = from.read(&mut buffer[..len]).map_err(FormatError::Io)?;
            if read == 0 {
                return Err(FormatError::Truncated { what: "the program", offset: end - left });
            }
            hasher.update(&buffer[..read]);
            left -= read as u64;
        }
    }
    Ok(hasher.finalize().into_vec())
}

#[cfg(test)]
mod tests;
