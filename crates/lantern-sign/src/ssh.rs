//! Detached signatures that `ssh-keygen -Y verify` checks, over a list of files or any other text.
//!
//! Source: OpenSSH, `PROTOCOL.sshsig` (<https://cvsweb.openbsd.org/src/usr.bin/ssh/PROTOCOL.sshsig>), sections 2 and 3; keys and
//! signatures after RFC 4253, section 6.6, RFC 8332, section 3, and RFC 5656, section 3.1.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use lantern_formats::hash::Hash;
use lantern_formats::ssh as reader;
use lantern_keys::der::{self, Reader};
use lantern_keys::key::{Algorithm, Signer};
use lantern_keys::{KeyError, certificate};

use crate::SignError;

/// What these signatures are for: a signature for something else is not taken. `file` is what `ssh-keygen` suggests for files.
pub const NAMESPACE: &str = "file";
const MAGIC: &[u8] = b"SSHSIG";
/// Characters of a line.
const LINE: usize = 70;

fn string(bytes: &[u8]) -> Vec<u8> {
    [&u32::try_from(bytes.len()).unwrap_or(u32::MAX).to_be_bytes(), bytes].concat()
}

/// A whole number that is not negative: without zeros before it, and with one where its first bit is set.
fn number(digits: &[u8]) -> Vec<u8> {
    let digits = digits.iter().position(|byte| *byte != 0).and_then(|first| digits.get(first..)).unwrap_or_default();
    let zero: &[u8] = if digits.first().is_some_and(|first| *first >= 0x80) { &[0] } else { &[] };
    string(&[zero, digits].concat())
}

/// The kind of a public key, and the key as SSH has it.
fn public_key(own: &[u8]) -> Result<(&'static str, Vec<u8>), KeyError> {
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

/// Signs bytes; returns the text of a signature file.
///
/// # Errors
/// Those of signing.
pub fn sign(signer: &dyn Signer, message: &[u8]) -> Result<String, SignError> {
    let own = signer.chain().first().ok_or(KeyError::NoCertificate { alias: String::new() })?;
    let (_, key) = public_key(own)?;
    let hash = b"sha512";
    let digest = Hash::Sha512.digest(message);
    let signed = [MAGIC, &string(NAMESPACE.as_bytes()), &string(b""), &string(hash), &string(&digest)].concat();
    let signature = match signer.algorithm() {
        // SHA-1, which `ssh-rsa` stands for, is not taken any more.
        Algorithm::Rsa(_) => [string(b"rsa-sha2-512"), string(&signer.sign(Hash::Sha512, &signed)?)].concat(),
        Algorithm::P256 => {
            let made = signer.sign(Hash::Sha256, &signed)?;
            let mut pair = Reader::new(&made).inside(der::SEQUENCE, "the signature").map_err(KeyError::from)?;
            let mut part = || pair.bytes(der::INTEGER, "the signature").map_err(KeyError::from);
            let (r, s) = (part()?, part()?);
            [string(b"ecdsa-sha2-nistp256"), string(&[number(r), number(s)].concat())].concat()
        }
    };
    let version = 1_u32.to_be_bytes();
    let parts = [&key[..], NAMESPACE.as_bytes(), b"", hash, &signature].map(string);
    let blob = STANDARD.encode([MAGIC, &version, &parts.concat()].concat());
    let mut text = String::from(reader::BEGIN);
    for line in blob.as_bytes().chunks(LINE) {
        text.push('\n');
        text.push_str(std::str::from_utf8(line).unwrap_or_default());
    }
    text.push('\n');
    text.push_str(reader::END);
    text.push('\n');
    match reader::verify(&text, NAMESPACE, message) {
        Ok(by) if by == key => Ok(text),
        Ok(_) => Err(SignError::NotValid("it is of another key".to_owned())),
        Err(why) => Err(SignError::NotValid(why.to_owned())),
    }
}
