//! Signed messages: CMS (RFC 5652, <https://www.rfc-editor.org/rfc/rfc5652>, section 5). They state no time of their own: the same
//! content and key give the same message.

use lantern_formats::hash::Hash;
use lantern_keys::key::{Algorithm, Signer};
use lantern_keys::{KeyError, certificate, der};

use crate::SignError;

/// `signedData` and `data`, 1.2.840.113549.1.7.2 and .1.
const SIGNED_DATA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 7, 2];
pub(crate) const DATA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 7, 1];
/// `contentType` and `messageDigest`, 1.2.840.113549.1.9.3 and .4.
const CONTENT_TYPE: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 9, 3];
const MESSAGE_DIGEST: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 9, 4];
pub(crate) const SHA256: &[u8] = &[0x60, 0x86, 0x48, 1, 0x65, 3, 4, 2, 1];
/// `rsaEncryption`: what names the signature in messages of this kind, whatever the hash (RFC 3370, section 3.2).
const RSA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 1, 1];

/// An object identifier.
pub(crate) fn oid(bytes: &[u8]) -> Vec<u8> {
    der::value(der::OID, &[bytes]).to_vec()
}

/// The name of SHA-256 with the parameter NULL, as programs for Windows and requests for time stamps have it.
pub(crate) fn sha256() -> Vec<u8> {
    der::sequence(&[&oid(SHA256), &der::value(der::NULL, &[])]).to_vec()
}

/// An attribute with one value.
pub(crate) fn attribute(name: &[u8], value: &[u8]) -> Vec<u8> {
    der::sequence(&[&oid(name), &der::value(der::SET, &[value])]).to_vec()
}

/// The members of a set, sorted by their bytes (ITU-T X.690, section 11.6).
fn sorted(mut members: Vec<Vec<u8>>) -> Vec<u8> {
    members.sort_unstable();
    members.concat()
}

/// Signs a file; the message does not hold it. It has no signed attributes, as signatures of archives have none.
pub(crate) fn detached(signer: &dyn Signer, content: &[u8]) -> Result<Vec<u8>, KeyError> {
    let hash = der::sequence(&[&oid(SHA256)]);
    let signature = signer.sign(Hash::Sha256, content)?;
    message(signer, 1, &hash, &der::sequence(&[&oid(DATA)]), &[], &signature, &[])
}

/// Makes what is added next to a signature.
pub(crate) type Beside<'a> = &'a mut dyn FnMut(&[u8]) -> Result<Vec<u8>, SignError>;

/// Signs a content that the message holds, which is one value of DER (its own tag and length are not covered), and attributes with it. `version` is that of
/// the message: 3 by the standard where the content is not plain data (section 5.1), 1 where a format wants it. `beside` makes what is added next to the
/// signature: an attribute, or nothing.
pub(crate) fn attached(
    signer: &dyn Signer,
    (kind, version): (&[u8], u64),
    content: &[u8],
    attributes: Vec<Vec<u8>>,
    beside: Beside<'_>,
) -> Result<Vec<u8>, SignError> {
    let mut covered = der::Reader::new(content);
    let tag = covered.tag().unwrap_or(der::SEQUENCE);
    let covered = covered.bytes(tag, "the content").map_err(KeyError::from)?;
    let inner = der::sequence(&[&oid(kind), &der::value(0xa0, &[content])]);
    with_attributes(signer, (kind, version), (&inner, &Hash::Sha256.digest(covered)), attributes, beside)
}

/// Signs plain data that the message does not hold, and attributes with it.
pub(crate) fn beside(
    signer: &dyn Signer,
    content: &[u8],
    attributes: Vec<Vec<u8>>,
    beside: Beside<'_>,
) -> Result<Vec<u8>, SignError> {
    let inner = der::sequence(&[&oid(DATA)]);
    with_attributes(signer, (DATA, 1), (&inner, &Hash::Sha256.digest(content)), attributes, beside)
}

fn with_attributes(
    signer: &dyn Signer,
    (kind, version): (&[u8], u64),
    (inner, digest): (&[u8], &[u8]),
    attributes: Vec<Vec<u8>>,
    beside: Beside<'_>,
) -> Result<Vec<u8>, SignError> {
    let hash = sha256();
    let digest = der::value(der::OCTET_STRING, &[digest]);
    let own = [attribute(CONTENT_TYPE, &oid(kind)), attribute(MESSAGE_DIGEST, &digest)];
    let signed = sorted(own.into_iter().chain(attributes).collect());
    // They are signed as a set, and stored as `[0]` (section 5.4).
    let signature = signer.sign(Hash::Sha256, &der::value(der::SET, &[&signed]))?;
    let beside = beside(&signature)?;
    Ok(message(signer, version, &hash, inner, &signed, &signature, &beside)?)
}

/// The message of one signer, from its parts.
fn message(
    signer: &dyn Signer,
    version: u64,
    hash: &[u8],
    content: &[u8],
    signed: &[u8],
    signature: &[u8],
    beside: &[u8],
) -> Result<Vec<u8>, KeyError> {
    let own = signer.chain().first().ok_or(KeyError::NoCertificate { alias: String::new() })?;
    let (issuer, serial) = certificate::issuer_and_serial(own)?;
    let algorithm = match signer.algorithm() {
        Algorithm::Rsa(_) => der::sequence(&[&oid(RSA), &der::value(der::NULL, &[])]).to_vec(),
        Algorithm::P256 => certificate::signature_algorithm(Algorithm::P256, Hash::Sha256),
    };
    let optional = |tag, content: &[u8]| match content {
        [] => Vec::new(),
        content => der::value(tag, &[content]).to_vec(),
    };
    let info = der::sequence(&[
        &der::integer(1),
        // The issuer's name byte for byte: readers compare it so.
        &der::sequence(&[&issuer, &serial]),
        hash,
        &optional(0xa0, signed),
        &algorithm,
        &der::value(der::OCTET_STRING, &[signature]),
        &optional(0xa1, beside),
    ]);
    let data = der::sequence(&[
        &der::integer(version),
        &der::value(der::SET, &[hash]),
        content,
        &der::value(0xa0, &[&sorted(signer.chain().to_vec())]),
        &der::value(der::SET, &[&info]),
    ]);
    Ok(der::sequence(&[&oid(SIGNED_DATA), &der::value(0xa0, &[&data])]).to_vec())
}
