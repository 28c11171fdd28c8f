//! Keys and certificates in PEM. Source: RFC 7468 (<https://www.rfc-editor.org/rfc/rfc7468>), sections 2, 10 and 11.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use zeroize::Zeroizing;

use crate::KeyError;
use crate::certificate;
use crate::der::{self, Reader};
use crate::key::PrivateKey;
use crate::passphrase::Passphrase;
use crate::pkcs12::Entry;
use crate::protection::{self, Encrypted};

/// A part of a PEM file: its label, and what stands in it.
struct Part {
    label: String,
    bytes: Zeroizing<Vec<u8>>,
    /// Whether it is encrypted in the way of before PKCS #8, whose key is made with MD5.
    is_old: bool,
}

/// Whether bytes look like PEM.
pub fn is_pem(bytes: &[u8]) -> bool {
    bytes.windows(11).take(64 * 1024).any(|window| window == b"-----BEGIN ")
}

fn parts(bytes: &[u8]) -> Result<Vec<Part>, KeyError> {
    let text = std::str::from_utf8(bytes).map_err(|_| KeyError::Malformed("the PEM file"))?;
    let mut lines = text.lines();
    let mut out = Vec::new();
    while let Some(line) = lines.next() {
        let Some(label) = line.trim().strip_prefix("-----BEGIN ").and_then(|rest| rest.strip_suffix("-----")) else {
            continue;
        };
        let end = format!("-----END {label}-----");
        let mut packed = Zeroizing::new(String::new());
        let mut is_old = false;
        loop {
            let line = lines.next().ok_or(KeyError::Malformed("the PEM file: its last part has no end"))?.trim();
            if line == end {
                break;
            }
            is_old |= line.starts_with("Proc-Type:") && line.contains("ENCRYPTED");
            if !line.contains(':') {
                packed.push_str(line);
            }
        }
        let bytes = STANDARD
            .decode(packed.as_bytes())
            .map_err(|_| KeyError::Malformed("the PEM file: a part is not in base 64"))?;
        out.push(Part { label: label.to_owned(), bytes: Zeroizing::new(bytes), is_old });
    }
    Ok(out)
}

/// The first part with a label.
///
/// # Errors
/// [`KeyError::Malformed`].
pub fn labelled(bytes: &[u8], label: &str) -> Result<Option<Vec<u8>>, KeyError> {
    Ok(parts(bytes)?.into_iter().find(|part| part.label == label).map(|part| part.bytes.to_vec()))
}

/// Whether a key in PEM needs a passphrase.
///
/// # Errors
/// [`KeyError::Malformed`].
pub fn is_encrypted(bytes: &[u8]) -> Result<bool, KeyError> {
    Ok(parts(bytes)?.iter().any(|part| part.label == "ENCRYPTED PRIVATE KEY"))
}

/// Reads a key and its certificates: PKCS #8, encrypted or not, PKCS #1 and SEC 1.
///
/// # Errors
/// As for key files of PKCS #12.
pub fn read(bytes: &[u8], passphrase: Option<&Passphrase>) -> Result<Entry, KeyError> {
    let mut keys = Vec::new();
    let mut certificates = Vec::new();
    for part in parts(bytes)? {
        if part.is_old {
            return Err(KeyError::OldPem);
        }
        match part.label.as_str() {
            "PRIVATE KEY" => keys.push(PrivateKey::from_pkcs8(&part.bytes)?),
            "RSA PRIVATE KEY" => keys.push(PrivateKey::from_pkcs1(&part.bytes)?),
            "EC PRIVATE KEY" => keys.push(PrivateKey::from_sec1(&part.bytes)?),
            "ENCRYPTED PRIVATE KEY" => keys.push(encrypted(&part.bytes, passphrase.ok_or(KeyError::Passphrase)?)?),
            "CERTIFICATE" => certificates.push(part.bytes.to_vec()),
            _ => {}
        }
    }
    if keys.len() > 1 {
        return Err(KeyError::Unsupported(format!("it has {} keys; one at a time can be imported", keys.len())));
    }
    let key = keys.pop().ok_or(KeyError::NoKey)?;
    let public = key.public();
    let mut own = None;
    for (place, found) in certificates.iter().enumerate() {
        if certificate::public_key(found)? == public {
            own = Some(place);
            break;
        }
    }
    let own = own.ok_or_else(|| match certificates.is_empty() {
        true => KeyError::NoCertificate { alias: String::new() },
        false => KeyError::OtherKey,
    })?;
    let first = certificates.remove(own);
    Ok(Entry { alias: String::new(), key, chain: std::iter::once(first).chain(certificates).collect() })
}

fn encrypted(bytes: &[u8], passphrase: &Passphrase) -> Result<PrivateKey, KeyError> {
    let mut info = Reader::new(bytes).inside(der::SEQUENCE, "the encrypted key")?;
    let algorithm = info.inside(der::SEQUENCE, "the key's encryption")?;
    let bytes = info.bytes(der::OCTET_STRING, "the encrypted key")?;
    let plain = protection::decrypt(&Encrypted { algorithm, bytes }, passphrase)?;
    // A wrong passphrase gives a padding that looks right once in 256 times.
    PrivateKey::from_pkcs8(&plain)
        .map_err(|error| if plain.first() == Some(&der::SEQUENCE) { error } else { KeyError::Passphrase })
}

/// The certificates of a file, in its order.
///
/// # Errors
/// [`KeyError::Malformed`]; [`KeyError::NoCertificate`].
pub fn certificates(bytes: &[u8]) -> Result<Vec<Vec<u8>>, KeyError> {
    let all = parts(bytes)?.into_iter().filter(|part| part.label == "CERTIFICATE");
    let all: Vec<Vec<u8>> = all.map(|part| part.bytes.to_vec()).collect();
    if all.is_empty() { Err(KeyError::NoCertificate { alias: String::new() }) } else { Ok(all) }
}

/// Writes a part: what is not secret.
pub fn write(label: &str, bytes: &[u8]) -> String {
    let packed = STANDARD.encode(bytes);
    let mut out = format!("-----BEGIN {label}-----\n");
    for at in (0..packed.len()).step_by(64) {
        out += packed.get(at..packed.len().min(at + 64)).unwrap_or_default();
        out.push('\n');
    }
    out + &format!("-----END {label}-----\n")
}
