//! The signed message of a JAR signature: CMS (RFC 5652, <https://www.rfc-editor.org/rfc/rfc5652>, section 5), about a file that
//! lies beside it. It has no signed attributes and so no time: the same file and key give the same message.

use lantern_formats::hash::Hash;
use lantern_keys::key::{Algorithm, Signer};
use lantern_keys::{KeyError, certificate, der};

/// `signedData` and `data`, 1.2.840.113549.1.7.2 and .1.
const SIGNED_DATA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 7, 2];
const DATA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 7, 1];
const SHA256: &[u8] = &[0x60, 0x86, 0x48, 1, 0x65, 3, 4, 2, 1];
/// `rsaEncryption`: what names the signature in messages of this kind, whatever the hash (RFC 3370, section 3.2).
const RSA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 1, 1];

/// Signs a file; the message does not hold it.
pub(crate) fn detached(signer: &dyn Signer, content: &[u8]) -> Result<Vec<u8>, KeyError> {
    let oid = |bytes: &[u8]| der::value(der::OID, &[bytes]);
    let own = signer.chain().first().ok_or(KeyError::NoCertificate { alias: String::new() })?;
    let (issuer, serial) = certificate::issuer_and_serial(own)?;
    let hash = der::sequence(&[&oid(SHA256)]);
    let algorithm = match signer.algorithm() {
        Algorithm::Rsa(_) => der::sequence(&[&oid(RSA), &der::value(der::NULL, &[])]).to_vec(),
        Algorithm::P256 => certificate::signature_algorithm(Algorithm::P256, Hash::Sha256),
    };
    let signature = signer.sign(Hash::Sha256, content)?;
    let info = der::sequence(&[
        &der::integer(1),
        // The issuer's name byte for byte: readers compare it so.
        &der::sequence(&[&issuer, &serial]),
        &hash,
        &algorithm,
        &der::value(der::OCTET_STRING, &[&signature]),
    ]);
    // A set is sorted by its bytes (ITU-T X.690, section 11.6).
    let mut certificates: Vec<&[u8]> = signer.chain().iter().map(Vec::as_slice).collect();
    certificates.sort_unstable();
    let data = der::sequence(&[
        &der::integer(1),
        &der::value(der::SET, &[&hash]),
        &der::sequence(&[&oid(DATA)]),
        &der::value(0xa0, &certificates),
        &der::value(der::SET, &[&info]),
    ]);
    Ok(der::sequence(&[&oid(SIGNED_DATA), &der::value(0xa0, &[&data])]).to_vec())
}
