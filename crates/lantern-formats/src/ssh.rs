//! Detached signatures of SSH keys. Source: OpenSSH, `PROTOCOL.sshsig` (<https://cvsweb.openbsd.org/src/usr.bin/ssh/PROTOCOL.sshsig>);
//! keys after RFC 4253, section 6.6, RFC 8332, section 3, and RFC 5656, section 3.1.

use aws_lc_rs::signature::{self as keys, RsaPublicKeyComponents, UnparsedPublicKey};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;

use crate::hash::Hash;

/// First and last line of a signature file.
pub const BEGIN: &str = "-----BEGIN SSH SIGNATURE-----";
/// As [`BEGIN`].
pub const END: &str = "-----END SSH SIGNATURE-----";
/// Longest signature file that is read, in bytes. Ours: those of RSA keys have some two kilobytes.
pub const MAX_LEN: u64 = 64 * 1024;
const MAGIC: &[u8] = b"SSHSIG";

/// Strings with their length in 4 bytes before them, one behind the other.
struct Strings<'a>(&'a [u8]);

impl<'a> Strings<'a> {
    fn next(&mut self) -> Option<&'a [u8]> {
        let (len, rest) = self.0.split_first_chunk::<4>()?;
        let (own, rest) = rest.split_at_checked(usize::try_from(u32::from_be_bytes(*len)).ok()?)?;
        self.0 = rest;
        Some(own)
    }
}

/// A signature file, taken apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SshSignature {
    /// The hash function that is signed with: what [`SshSignature::verify`] wants the digest of.
    pub hash: Hash,
    /// The public key, as SSH has it.
    pub key: Vec<u8>,
    namespace: Vec<u8>,
    reserved: Vec<u8>,
    signature: Vec<u8>,
}

impl SshSignature {
    /// Reads a signature file.
    ///
    /// # Errors
    /// Why it is none that can be verified.
    pub fn read(text: &str) -> Result<Self, &'static str> {
        const BROKEN: &str = "it is no signature of an SSH key";
        let inner = text.split_once(BEGIN).and_then(|(_, rest)| rest.split_once(END)).ok_or(BROKEN)?.0;
        let digits: String = inner.split_whitespace().collect();
        let blob = STANDARD.decode(digits).map_err(|_| BROKEN)?;
        let rest = blob.strip_prefix(MAGIC).and_then(|rest| rest.strip_prefix(&1_u32.to_be_bytes())).ok_or(BROKEN)?;
        let mut parts = Strings(rest);
        let mut part = || parts.next().ok_or(BROKEN);
        let (key, namespace, reserved, hash, signature) = (part()?, part()?, part()?, part()?, part()?);
        if !parts.0.is_empty() || namespace.is_empty() {
            return Err(BROKEN);
        }
        let hash = match hash {
            b"sha256" => Hash::Sha256,
            b"sha512" => Hash::Sha512,
            _ => return Err("it is made with a hash function that this lantern does not know"),
        };
        let [key, namespace, reserved, signature] = [key, namespace, reserved, signature].map(<[u8]>::to_vec);
        Ok(Self { hash, key, namespace, reserved, signature })
    }

    /// Verifies that its key has signed what has this digest, for a purpose. Whom the key belongs to is not judged.
    ///
    /// # Errors
    /// Why it does not hold.
    pub fn verify(&self, namespace: &str, digest: &[u8]) -> Result<(), &'static str> {
        if self.namespace != namespace.as_bytes() {
            return Err("it was made for another purpose");
        }
        let length = |bytes: &[u8]| u32::try_from(bytes.len()).unwrap_or(u32::MAX).to_be_bytes();
        let hash: &[u8] = if self.hash == Hash::Sha256 { b"sha256" } else { b"sha512" };
        let mut signed = MAGIC.to_vec();
        for bytes in [&self.namespace, &self.reserved, hash, digest] {
            signed.extend(length(bytes));
            signed.extend(bytes);
        }
        match is_signed(&self.key, &self.signature, &signed) {
            Some(true) => Ok(()),
            Some(false) => Err("what was signed has changed, or another key signed it"),
            None => Err("it is made with a kind of key that this lantern does not know"),
        }
    }
}

/// Whether a key has signed a message; none for kinds that are not known.
fn is_signed(key: &[u8], signature: &[u8], message: &[u8]) -> Option<bool> {
    let (mut key, mut signature) = (Strings(key), Strings(signature));
    let (kind, way, made) = (key.next()?, signature.next()?, signature.next()?);
    Some(match (kind, way) {
        (b"ssh-rsa", b"rsa-sha2-512" | b"rsa-sha2-256") => {
            let way = if way.ends_with(b"512") {
                &keys::RSA_PKCS1_2048_8192_SHA512
            } else {
                &keys::RSA_PKCS1_2048_8192_SHA256
            };
            let (e, n) = (unsigned(key.next()?), unsigned(key.next()?));
            RsaPublicKeyComponents { n, e }.verify(way, message, made).is_ok()
        }
        (b"ecdsa-sha2-nistp256", b"ecdsa-sha2-nistp256") => {
            key.next()?;
            let (point, mut pair) = (key.next()?, Strings(made));
            let mut fixed = Vec::new();
            for _ in 0..2 {
                let digits = unsigned(pair.next()?);
                fixed.resize(fixed.len() + 32_usize.checked_sub(digits.len())?, 0);
                fixed.extend(digits);
            }
            UnparsedPublicKey::new(&keys::ECDSA_P256_SHA256_FIXED, point).verify(message, &fixed).is_ok()
        }
        (b"ssh-ed25519", b"ssh-ed25519") => {
            UnparsedPublicKey::new(&keys::ED25519, key.next()?).verify(message, made).is_ok()
        }
        _ => return None,
    })
}

/// Without the zeros before a number.
fn unsigned(digits: &[u8]) -> &[u8] {
    let first = digits.iter().position(|byte| *byte != 0).unwrap_or(digits.len());
    digits.get(first..).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn no_text_makes_the_reader_panic(bytes: Vec<u8>, text in "\\PC*") {
            let holds = |text: &str| SshSignature::read(text).is_ok_and(|read| read.verify("file", &[0; 64]).is_ok());
            let of = |bytes: &[u8]| format!("{BEGIN}\n{}\n{END}\n", STANDARD.encode(bytes));
            prop_assert!(!holds(&text) && !holds(&of(&bytes)));
            prop_assert!(!holds(&of(&[MAGIC, &[0, 0, 0, 1], &bytes].concat())));
        }
    }
}
