//! The files of a JAR signature. Source: "JAR File Specification", "Signed JAR File"
//! (<https://docs.oracle.com/en/java/javase/21/docs/specs/jar/jar.html>).

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use lantern_core::progress::Progress;
use lantern_formats::hash::Hash;
use lantern_formats::zip::ZipEntry;
use lantern_keys::key::{Algorithm, Signer};
use std::io::{Read, Seek};

use crate::archive::{Edits, Opener};
use crate::digests;
use crate::{SignError, message};

/// Most bytes of a line, without its end.
const MAX_LINE: usize = 72;
/// What the files of our signature are called.
const NAME: &str = "SIGNER";
const CREATED_BY: &str = "Created-By: Kind Lantern\r\n";

/// A file of a signature: its path in the archive, and its bytes.
pub(crate) type SignatureFile = (String, Vec<u8>);

/// Whether an entry belongs to a signature, and so can be part of none.
pub(crate) fn is_of_signature(name: &[u8]) -> bool {
    let Some(rest) = name.strip_prefix(b"META-INF/") else { return false };
    let upper = rest.to_ascii_uppercase();
    !rest.contains(&b'/')
        && (upper == b"MANIFEST.MF"
            || upper.starts_with(b"SIG-")
            || [&b".SF"[..], b".RSA", b".EC", b".DSA"].iter().any(|ending| upper.ends_with(ending)))
}

/// Adds a field, folded where it is too long; a character may be cut in two.
fn field(out: &mut Vec<u8>, name: &str, value: &[u8]) {
    let line = [name.as_bytes(), b": ", value].concat();
    let (first, mut rest) = line.split_at(line.len().min(MAX_LINE));
    out.extend(first);
    out.extend(b"\r\n");
    while !rest.is_empty() {
        let (part, after) = rest.split_at(rest.len().min(MAX_LINE - 1));
        out.push(b' ');
        out.extend(part);
        out.extend(b"\r\n");
        rest = after;
    }
}

fn packed(digest: &[u8]) -> Vec<u8> {
    STANDARD.encode(digest).into_bytes()
}

/// Makes the three files of a signature over entries, which are read for it. `schemes` are newer ones that the package is signed
/// by, too.
pub(crate) fn sign<R: Read + Seek + Send>(
    from: (Opener<'_, R>, &Edits),
    entries: &[ZipEntry],
    schemes: &str,
    signer: &dyn Signer,
    progress: &dyn Progress,
) -> Result<[SignatureFile; 3], SignError> {
    let covered: Vec<&ZipEntry> =
        entries.iter().filter(|entry| !entry.is_folder() && !is_of_signature(&entry.name)).collect();
    let digests = digests::of_entries(from, &covered, progress)?;
    let mut manifest = format!("Manifest-Version: 1.0\r\n{CREATED_BY}\r\n").into_bytes();
    let mut sections = Vec::new();
    for (entry, digest) in covered.iter().zip(&digests) {
        let mut section = Vec::new();
        field(&mut section, "Name", &entry.name);
        field(&mut section, "SHA-256-Digest", &packed(digest));
        // The blank line that ends it is part of it.
        section.extend(b"\r\n");
        let mut stated = Vec::new();
        field(&mut stated, "Name", &entry.name);
        field(&mut stated, "SHA-256-Digest", &packed(&Hash::Sha256.digest(&section)));
        stated.extend(b"\r\n");
        manifest.extend(section);
        sections.extend(stated);
    }
    let mut file = format!("Signature-Version: 1.0\r\n{CREATED_BY}").into_bytes();
    field(&mut file, "SHA-256-Digest-Manifest", &packed(&Hash::Sha256.digest(&manifest)));
    if !schemes.is_empty() {
        field(&mut file, "X-Android-APK-Signed", schemes.as_bytes());
    }
    file.extend(b"\r\n");
    file.extend(sections);
    let block = message::detached(signer, &file)?;
    let ending = match signer.algorithm() {
        Algorithm::Rsa(_) => "RSA",
        Algorithm::P256 => "EC",
    };
    Ok([
        ("META-INF/MANIFEST.MF".to_owned(), manifest),
        (format!("META-INF/{NAME}.SF"), file),
        (format!("META-INF/{NAME}.{ending}"), block),
    ])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_are_folded_at_72_bytes() {
        let mut out = Vec::new();
        field(&mut out, "Name", "a".repeat(66).as_bytes());
        assert_eq!(out, [b"Name: ", "a".repeat(66).as_bytes(), b"\r\n"].concat());
        out.clear();
        let name = "ó".repeat(200);
        field(&mut out, "Name", name.as_bytes());
        let lines: Vec<&[u8]> = out.split(|byte| *byte == b'\n').filter(|line| !line.is_empty()).collect();
        assert!(lines.iter().all(|line| line.len() <= MAX_LINE + 1) && lines.len() > 5);
        let whole: Vec<u8> =
            lines.iter().enumerate().flat_map(|(n, line)| line[usize::from(n > 0)..line.len() - 1].to_vec()).collect();
        assert_eq!(whole, format!("Name: {name}").into_bytes());
    }

    #[test]
    fn what_belongs_to_a_signature() {
        for name in
            ["META-INF/MANIFEST.MF", "META-INF/manifest.mf", "META-INF/CERT.RSA", "META-INF/a.sf", "META-INF/SIG-X"]
        {
            assert!(is_of_signature(name.as_bytes()), "{name}");
        }
        for name in [
            "META-INF/services/a.RSA",
            "META-INF/notes.txt",
            "MANIFEST.MF",
            "assets/META-INF/CERT.RSA",
            "META-INF/x.version",
        ] {
            assert!(!is_of_signature(name.as_bytes()), "{name}");
        }
    }
}
