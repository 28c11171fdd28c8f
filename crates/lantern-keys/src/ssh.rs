//! Public keys as SSH has them. Source: RFC 4253, section 6.6 (<https://www.rfc-editor.org/rfc/rfc4253>), RFC 5656, section 3.1.

use base64::Engine;
use base64::engine::general_purpose::{STANDARD, STANDARD_NO_PAD};
use lantern_formats::hash::Hash;

use crate::der::{self, Reader};
use crate::key::Algorithm;
use crate::{KeyError, certificate};

/// Bytes with their length in 4 bytes before them.
pub fn string(bytes: &[u8]) -> Vec<u8> {
    [&u32::try_from(bytes.len()).unwrap_or(u32::MAX).to_be_bytes(), bytes].concat()
}

/// A whole number that is not negative: without zeros before it, and with one where its first bit is set.
pub fn number(digits: &[u8]) -> Vec<u8> {
    let digits = digits.iter().position(|byte| *byte != 0).and_then(|first| digits.get(first..)).unwrap_or_default();
    let zero: &[u8] = if digits.first().is_some_and(|first| *first >= 0x80) { &[0] } else { &[] };
    string(&[zero, digits].concat())
}

/// The kind of the public key of a certificate, and the key as SSH has it.
///
/// # Errors
/// [`KeyError`] for keys that are neither RSA nor P-256.
pub fn public_key(own: &[u8]) -> Result<(&'static str, Vec<u8>), KeyError> {
    const WHAT: &str = "the public key";
    let public = certificate::public_key(own)?;
    let mut info = Reader::new(&public).inside(der::SEQUENCE, WHAT)?;
    info.whole(WHAT)?;
    let bits = info.bytes(der::BIT_STRING, WHAT)?.get(1..).unwrap_or_default();
    Ok(match certificate::algorithm(own)? {
        Algorithm::Rsa(_) => {
            let mut key = Reader::new(bits).inside(der::SEQUENCE, WHAT)?;
            let (modulus, exponent) = (key.bytes(der::INTEGER, WHAT)?, key.bytes(der::INTEGER, WHAT)?);
            ("ssh-rsa", [string(b"ssh-rsa"), number(exponent), number(modulus)].concat())
        }
        Algorithm::P256 => {
            let parts = [string(b"ecdsa-sha2-nistp256"), string(b"nistp256"), string(bits)];
            ("ecdsa-sha2-nistp256", parts.concat())
        }
    })
}

/// The public key of a certificate as a line of an `allowed_signers` file or of `authorized_keys` has it.
///
/// # Errors
/// [`KeyError`] for keys that are neither RSA nor P-256.
pub fn public_line(own: &[u8]) -> Result<String, KeyError> {
    let (kind, key) = public_key(own)?;
    Ok(format!("{kind} {}", STANDARD.encode(key)))
}

/// What `ssh-keygen -l` calls a public key that SSH has so.
pub fn fingerprint(key: &[u8]) -> String {
    format!("SHA256:{}", STANDARD_NO_PAD.encode(Hash::Sha256.digest(key)))
}
