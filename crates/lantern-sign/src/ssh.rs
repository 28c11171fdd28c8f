//! Detached signatures that `ssh-keygen -Y verify` checks, over a list of files or any other text.
//!
//! Source: OpenSSH, `PROTOCOL.sshsig` (<https://cvsweb.openbsd.org/src/usr.bin/ssh/PROTOCOL.sshsig>), sections 2 and 3; keys and
//! signatures after RFC 4253, section 6.6, RFC 8332, section 3, and RFC 5656, section 3.1.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use lantern_formats::hash::Hash;
use lantern_formats::ssh as reader;
use lantern_keys::KeyError;
use lantern_keys::der::{self, Reader};
use lantern_keys::key::{Algorithm, Signer};
use lantern_keys::ssh::{number, public_key, string};

use crate::SignError;

/// What these signatures are for: a signature for something else is not taken. `file` is what `ssh-keygen` suggests for files.
pub const NAMESPACE: &str = "file";
const MAGIC: &[u8] = b"SSHSIG";
/// Characters of a line.
const LINE: usize = 70;

/// Signs what has this digest, by SHA-512; returns the text of a signature file.
///
/// # Errors
/// Those of signing.
pub fn sign(signer: &dyn Signer, digest: &[u8]) -> Result<String, SignError> {
    let own = signer.chain().first().ok_or(KeyError::NoCertificate { alias: String::new() })?;
    let (_, key) = public_key(own)?;
    let hash = b"sha512";
    let signed = [MAGIC, &string(NAMESPACE.as_bytes()), &string(b""), &string(hash), &string(digest)].concat();
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
    let not_valid = |why: &str| SignError::NotValid(why.to_owned());
    let read = reader::SshSignature::read(&text).map_err(not_valid)?;
    read.verify(NAMESPACE, digest).map_err(not_valid)?;
    if read.key == key { Ok(text) } else { Err(not_valid("it is of another key")) }
}
