//! Another key for packages: the proof that it comes after the one that devices know, made by the holder of both.
//!
//! Source: "APK Signature Scheme v3", "Proof-of-rotation and self-trusted-old-certs structs", the Android Open Source Project
//! (<https://source.android.com/docs/security/features/apksigning/v3>). What stands in it is in the front page of
//! `lantern_formats::apk::lineage`, which verifies.

use lantern_formats::apk::lineage;
use lantern_formats::hash::Hash;
use lantern_keys::key::{Algorithm, Signer};
use lantern_keys::{KeyError, pem};

use crate::SignError;
use crate::archive::prefixed;

/// The API level since which the new key is used where nothing else is set: systems before it knew of other keys, and had mistakes
/// with them. Source: "APK Signature Scheme v3.1" (<https://source.android.com/docs/security/features/apksigning/v3-1>).
pub const SINCE: u32 = 33;
/// The first that knows of other keys at all.
pub const EARLIEST: u32 = 28;
const LABEL: &str = "SIGNING KEY LINEAGE";
const VERSION: u32 = 1;
/// What a former key may still do: keep installed data, shared users, permissions and accounts. Not: take an update back.
const RIGHTS: u32 = 1 | 2 | 4 | 16;

/// The chain of keys of a game, oldest first, each signed by the one before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lineage {
    /// As packages have it.
    value: Vec<u8>,
    certificates: Vec<Vec<u8>>,
}

/// What packages are signed with whose key was changed.
#[derive(Debug, Clone, Copy)]
pub struct Rotation<'a> {
    /// The first key: what systems know that know nothing of other keys.
    pub first: &'a dyn Signer,
    /// The chain to the key of today.
    pub lineage: &'a Lineage,
    /// The API level since which the key of today is used.
    pub since: u32,
}

/// The hash that a key signs packages with.
pub(crate) fn hash_of(signer: &dyn Signer) -> Hash {
    if matches!(signer.algorithm(), Algorithm::Rsa(bits) if bits > 3072) { Hash::Sha512 } else { Hash::Sha256 }
}

/// The number of the algorithm that a key signs with.
pub(crate) fn algorithm(signer: &dyn Signer, hash: Hash) -> u32 {
    match (signer.algorithm(), hash) {
        (Algorithm::Rsa(_), Hash::Sha512) => 0x0104,
        (Algorithm::Rsa(_), _) => 0x0103,
        (Algorithm::P256, _) => 0x0201,
    }
}

fn own(signer: &dyn Signer) -> Result<&Vec<u8>, SignError> {
    Ok(signer.chain().first().ok_or(KeyError::NoCertificate { alias: String::new() })?)
}

/// A key of the chain: its certificate with the algorithm that it was signed with, its rights, the algorithm that it signs the next
/// one with, and its signature.
fn node(certificate: &[u8], signed_with: u32, signs_with: u32, signature: &[u8]) -> Vec<u8> {
    let signed = signed_part(certificate, signed_with);
    prefixed(&[&prefixed(&[&signed]), &RIGHTS.to_le_bytes(), &signs_with.to_le_bytes(), &prefixed(&[signature])])
}

fn signed_part(certificate: &[u8], signed_with: u32) -> Vec<u8> {
    [prefixed(&[certificate]), signed_with.to_le_bytes().to_vec()].concat()
}

impl Lineage {
    /// The chain of two keys; with `earlier`, one more key at its end, which must be that of `before`.
    ///
    /// # Errors
    /// [`SignError::Refused`]; those of the key.
    pub fn of(before: &dyn Signer, after: &[u8], earlier: Option<&Self>) -> Result<Self, SignError> {
        let (hash, last) = (hash_of(before), own(before)?);
        let with = algorithm(before, hash);
        if last == after {
            return Err(SignError::refused("the two keys are the same", "name the key that is to sign from now on"));
        }
        let mut nodes = match earlier {
            None => Vec::new(),
            Some(earlier) if earlier.certificates.last() == Some(last) => {
                // The last one signs now, which nothing signed says.
                let len = earlier.last_node_len()?;
                earlier.value.get(4..earlier.value.len() - len).unwrap_or_default().to_vec()
            }
            Some(_) => {
                let what = "the earlier chain does not end with this key";
                return Err(SignError::refused(what, "name the chain that the key before came by"));
            }
        };
        nodes.extend(match earlier {
            None => node(last, 0, with, &[]),
            Some(earlier) => earlier.last_node(with)?,
        });
        let signature = before.sign(hash, &signed_part(after, with))?;
        nodes.extend(node(after, with, 0, &signature));
        Self::read_value([&VERSION.to_le_bytes()[..], &nodes].concat())
    }

    /// Bytes of its last key.
    fn last_node_len(&self) -> Result<usize, SignError> {
        let (mut at, mut len) = (4, 0);
        while let Some(head) = self.value.get(at..).and_then(|rest| rest.first_chunk::<4>()) {
            len = 4 + usize::try_from(u32::from_le_bytes(*head)).unwrap_or(usize::MAX);
            at = at.checked_add(len).ok_or_else(broken)?;
        }
        Ok(len)
    }

    /// Its last key, with the algorithm that it signs the next one with.
    fn last_node(&self, signs_with: u32) -> Result<Vec<u8>, SignError> {
        let from = self.value.len() - self.last_node_len()?;
        let mut out = self.value.get(from..).ok_or_else(broken)?.to_vec();
        // Behind its length and the signed part with its length, and behind the rights.
        let signed = out.get(4..8).and_then(|len| len.first_chunk::<4>()).ok_or_else(broken)?;
        let at = usize::try_from(u32::from_le_bytes(*signed)).unwrap_or(usize::MAX).saturating_add(12);
        let place = out.get_mut(at..).and_then(|rest| rest.first_chunk_mut::<4>()).ok_or_else(broken)?;
        *place = signs_with.to_le_bytes();
        Ok(out)
    }

    /// Reads a chain from its file, and verifies it.
    ///
    /// # Errors
    /// [`SignError::Refused`].
    pub fn read(bytes: &[u8]) -> Result<Self, SignError> {
        let value = pem::labelled(bytes, LABEL)?.ok_or_else(broken)?;
        Self::read_value(value)
    }

    fn read_value(value: Vec<u8>) -> Result<Self, SignError> {
        let certificates = lineage::certificates(&value).map_err(|_| broken())?;
        let last = certificates.last().filter(|_| certificates.len() > 1).ok_or_else(broken)?;
        let holds = lineage::verify(&value, last);
        holds.map_err(|why| SignError::refused(format!("the chain of keys does not hold: {why}"), FIX))?;
        Ok(Self { value, certificates })
    }

    /// Its file, which is public.
    pub fn file(&self) -> String {
        pem::write(LABEL, &self.value)
    }

    /// The certificates, oldest first.
    pub fn certificates(&self) -> &[Vec<u8>] {
        &self.certificates
    }

    /// As packages have it.
    pub(crate) fn value(&self) -> &[u8] {
        &self.value
    }
}

const FIX: &str = "take the file as lantern key rotate wrote it";

fn broken() -> SignError {
    SignError::refused("the file with the chain of keys is damaged, or none", FIX)
}
