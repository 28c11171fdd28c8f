//! The proof that a key was changed by anyone who had the one before: a chain of certificates, each signed by its
//! predecessor.

use lantern_core::bytes::{ByteReader, ReadError};
use x509_cert::der::Encode;

use super::{SignedBy, algorithms, parse, part, wrong};
use crate::hash::is_signed;

/// The attribute of signed data that it stands in.
pub(super) const ATTRIBUTE: u32 = 0x3ba0_6f8c;
/// Most keys that a game may have had. Ours: bounds time on hostile input.
const MAX_KEYS: usize = 64;

struct Node<'a> {
    signed: &'a [u8],
    certificate: &'a [u8],
    /// The algorithm that its predecessor signed it with, as stated within what was signed.
    signed_with: u32,
    /// The algorithm that it signs its successor with.
    signs_with: u32,
    signature: &'a [u8],
}

fn nodes(value: &[u8]) -> Result<Vec<Node<'_>>, ReadError> {
    let mut reader = ByteReader::new(value);
    if reader.u32("the lineage")? != 1 {
        return Err(wrong("the lineage", "its version is not 1"));
    }
    let mut out = Vec::new();
    // The nodes stand side by side, without a length of them all.
    while reader.remaining() > 0 {
        if out.len() >= MAX_KEYS {
            return Err(wrong("the lineage", "it has more keys than any game"));
        }
        let mut node = ByteReader::new(part(&mut reader, "a key of the lineage")?);
        let signed = part(&mut node, "a key of the lineage")?;
        node.u32("the rights of a former key")?;
        let signs_with = node.u32("a key of the lineage")?;
        let signature = part(&mut node, "a key of the lineage")?;
        let mut inside = ByteReader::new(signed);
        let certificate = part(&mut inside, "a certificate of the lineage")?;
        let signed_with = inside.u32("a key of the lineage")?;
        out.push(Node { signed, certificate, signed_with, signs_with, signature });
    }
    Ok(out)
}

/// The certificates of a lineage, oldest first; nothing is verified.
///
/// # Errors
/// [`ReadError`].
pub fn certificates(value: &[u8]) -> Result<Vec<Vec<u8>>, ReadError> {
    Ok(nodes(value)?.into_iter().map(|node| node.certificate.to_vec()).collect())
}

/// Verifies the chain up to the current signer; returns the keys before it, oldest first, or why it does not hold.
///
/// # Errors
/// Why it does not hold.
pub fn verify(value: &[u8], current: &[u8]) -> Result<Vec<SignedBy>, String> {
    let nodes = nodes(value).map_err(|e| e.to_string())?;
    for pair in nodes.windows(2) {
        let [before, after] = pair else { continue };
        let key =
            parse(before.certificate).map_err(|e| e.to_string())?.tbs_certificate.subject_public_key_info.to_der();
        let key = key.map_err(|e| e.to_string())?;
        let is_good = after.signed_with == before.signs_with
            && is_signed(algorithms(before.signs_with), &key, after.signed, after.signature);
        if !is_good {
            return Err("a key of its lineage was not signed by the one before".to_owned());
        }
    }
    match nodes.split_last() {
        Some((last, before)) if last.certificate == current => {
            before.iter().map(|node| SignedBy::of(node.certificate).map_err(|e| e.to_string())).collect()
        }
        _ => Err("its lineage does not end with its own key".to_owned()),
    }
}
