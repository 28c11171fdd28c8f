//! The signature of an archive, file by file: packages of before 2016, and every Android bundle.
//!
//! Source: "JAR File Specification", and the Android Open Source Project's notes on it as signature scheme 1.
//!
//! | file in `META-INF` | holds |
//! |---|---|
//! | `MANIFEST.MF` | a main section, then one for each file: `Name`, `SHA-256-Digest` of its bytes in base 64 |
//! | `*.SF` | `SHA-256-Digest-Manifest` of all of the manifest, or one of each of its sections |
//! | `*.RSA`, `*.EC`, `*.DSA` | a signed message about the `.SF` of the same name |
//!
//! Lines have at most 72 bytes; one that begins with a space goes on with the one before, which may cut a character in
//! two. A section's digest includes the blank line that ends it.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read};
use std::sync::Mutex;

use lantern_core::work::{each, processors};

use crate::hash::Hash;
use crate::message::{Message, Signer};
use crate::plist::base64;
use crate::zip::ZipEntry;

const MANIFEST: &str = "META-INF/MANIFEST.MF";
const BLOCKS: [&str; 3] = ["RSA", "EC", "DSA"];
/// Largest manifest that is read, in bytes, and most sections. Ours: one of 65,000 files has 8 megabytes.
const MAX_LEN: u64 = 12 * 1024 * 1024;
const MAX_SECTIONS: usize = 150_000;
const MAX_SIGNERS: usize = 10;
/// Most digests of one section that are kept.
const MAX_DIGESTS: usize = 4;

/// A signature of an archive, file by file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ArchiveSignature {
    /// Who signed; one that does not hold says why.
    pub signers: Vec<Signer>,
    /// Newer schemes that the signers say the package is signed by, too.
    pub schemes: Vec<u8>,
    /// Why it does not hold for all files; none when it does.
    pub wrong: Option<String>,
}

/// Opens an entry's bytes, unpacked.
pub type Opener<'a> = &'a (dyn Fn(&ZipEntry) -> io::Result<Box<dyn Read + Send + 'a>> + Sync);

/// Whether there is a signature file by file.
pub fn is_signed(entries: &[ZipEntry]) -> bool {
    entries.iter().any(|entry| block_name(&entry.name).is_some())
}

/// The name of the signer whose block this file is.
fn block_name(name: &[u8]) -> Option<&str> {
    let (signer, ending) = std::str::from_utf8(name).ok()?.strip_prefix("META-INF/")?.rsplit_once('.')?;
    let is_block = BLOCKS.iter().any(|block| block.eq_ignore_ascii_case(ending)) && !signer.contains('/');
    is_block.then_some(signer)
}

/// Whether a file belongs to the signature, and so cannot be covered by it.
fn is_of_signature(name: &str) -> bool {
    let Some(rest) = name.strip_prefix("META-INF/") else { return false };
    let ending = rest.rsplit_once('.').map_or("", |(_, ending)| ending).to_ascii_uppercase();
    !rest.contains('/')
        && (rest == "MANIFEST.MF" || ending == "SF" || BLOCKS.contains(&ending.as_str()) || rest.starts_with("SIG-"))
}

/// Reads and verifies the signature; none where there is none. Every file is read.
///
/// # Errors
/// Those of reading.
pub fn verify(entries: &[ZipEntry], open: Opener<'_>) -> io::Result<Option<ArchiveSignature>> {
    if !is_signed(entries) {
        return Ok(None);
    }
    let by_name: BTreeMap<&[u8], &ZipEntry> = entries.iter().map(|entry| (entry.name.as_slice(), entry)).collect();
    let mut out = ArchiveSignature::default();
    let small = |name: &str| -> io::Result<Option<Vec<u8>>> {
        let Some(entry) = by_name.get(name.as_bytes()).filter(|entry| entry.len <= MAX_LEN) else { return Ok(None) };
        let mut bytes = Vec::new();
        open(entry)?.take(MAX_LEN + 1).read_to_end(&mut bytes)?;
        Ok(Some(bytes).filter(|bytes| bytes.len() as u64 <= MAX_LEN))
    };
    let no = |out: ArchiveSignature, why: &str| Ok(Some(ArchiveSignature { wrong: Some(why.to_owned()), ..out }));
    let Some(manifest) = small(MANIFEST)? else { return no(out, "it has no manifest, or an endless one") };
    let Some((main, sections)) = sections(&manifest) else { return no(out, "its manifest cannot be read") };
    for signer in entries.iter().filter_map(|entry| Some((block_name(&entry.name)?, entry))).take(MAX_SIGNERS) {
        let (name, block) = signer;
        let block = small(&String::from_utf8_lossy(&block.name))?.unwrap_or_default();
        let Some(file) = small(&format!("META-INF/{name}.SF"))? else {
            return no(out, &format!("{name}.SF is missing"));
        };
        let signer = match Message::read(&block) {
            Ok(message) => message.verify(&file),
            Err(error) => Signer { wrong: Some(error.to_string()), ..Signer::default() },
        };
        out.wrong = out.wrong.or_else(|| signer.wrong.clone());
        out.signers.push(signer);
        let Some((own, parts)) = self::sections(&file) else { return no(out, &format!("{name}.SF cannot be read")) };
        out.schemes.extend(own.schemes.iter());
        if out.wrong.is_none() && !covers(&own, &parts, &manifest, &main, &sections) {
            out.wrong = Some("its list of files was changed after it was signed".to_owned());
        }
    }
    if out.wrong.is_some() {
        return Ok(Some(out));
    }
    out.wrong = wrong_files(entries, &sections, open)?;
    Ok(Some(out))
}

/// A part of a manifest, with what is of use here.
struct Section<'a> {
    /// With the blank line that ends it.
    bytes: &'a [u8],
    name: Cow<'a, [u8]>,
    /// What they are of, and in base 64; such as `Manifest`, or nothing for a file.
    digests: Vec<(Hash, &'static str, Cow<'a, [u8]>)>,
    schemes: Vec<u8>,
}

/// Splits a manifest into its main section and the others; none where it is none.
fn sections(bytes: &[u8]) -> Option<(Section<'_>, BTreeMap<Vec<u8>, Section<'_>>)> {
    let mut rest = bytes;
    let main = section(&mut rest)?;
    let mut out = BTreeMap::new();
    while !rest.is_empty() {
        let found = section(&mut rest)?;
        // Blank lines between sections belong to none of them.
        if found.name.is_empty() && found.digests.is_empty() {
            continue;
        }
        // Two sections of one name: what the other says could be hidden by it.
        if out.len() > MAX_SECTIONS || out.insert(found.name.to_vec(), found).is_some() {
            return None;
        }
    }
    Some((main, out))
}

/// Cuts a line off, without its end; and its whole length.
fn line<'a>(rest: &mut &'a [u8]) -> &'a [u8] {
    let end = rest.iter().position(|b| matches!(b, b'\r' | b'\n')).unwrap_or(rest.len());
    let (line, after) = rest.split_at(end);
    *rest = after.strip_prefix(b"\r\n").or_else(|| after.get(1..)).unwrap_or_default();
    line
}

fn section<'a>(rest: &mut &'a [u8]) -> Option<Section<'a>> {
    let start = *rest;
    let mut out = Section { bytes: start, name: Cow::Borrowed(&[]), digests: Vec::new(), schemes: Vec::new() };
    loop {
        let first = line(rest);
        if first.is_empty() {
            break;
        }
        let colon = first.iter().position(|b| *b == b':')?;
        let (key, value) = (std::str::from_utf8(&first[..colon]).ok()?, &first[colon + 1..]);
        let mut value = Cow::Borrowed(value.strip_prefix(b" ").unwrap_or(value));
        while rest.first() == Some(&b' ') {
            value.to_mut().extend(&line(rest)[1..]);
        }
        if key.eq_ignore_ascii_case("Name") {
            out.name = value;
        } else if key.eq_ignore_ascii_case("X-Android-APK-Signed") {
            let schemes = value.split(|b| *b == b',').take(MAX_DIGESTS);
            let schemes = schemes.filter_map(|scheme| std::str::from_utf8(scheme).ok()?.trim().parse().ok());
            out.schemes = schemes.collect();
        } else if let Some((hash, of)) = digest_of(key).filter(|_| out.digests.len() < MAX_DIGESTS) {
            out.digests.push((hash, of, value));
        }
    }
    out.bytes = &start[..start.len() - rest.len()];
    Some(out)
}

/// What a digest is made with and of, by the name of its field.
fn digest_of(key: &str) -> Option<(Hash, &'static str)> {
    let upper = key.to_ascii_uppercase();
    let hashes = [
        ("SHA-256-", Hash::Sha256),
        ("SHA-512-", Hash::Sha512),
        ("SHA-384-", Hash::Sha384),
        ("SHA1-", Hash::Sha1),
        ("SHA-1-", Hash::Sha1),
    ];
    let (rest, hash) = hashes.into_iter().find_map(|(start, hash)| Some((upper.strip_prefix(start)?, hash)))?;
    match rest {
        "DIGEST" => Some((hash, "")),
        "DIGEST-MANIFEST" => Some((hash, "manifest")),
        "DIGEST-MANIFEST-MAIN-ATTRIBUTES" => Some((hash, "main")),
        _ => None,
    }
}

impl Section<'_> {
    /// The strongest digest of something.
    fn digest(&self, of: &str) -> Option<(Hash, Vec<u8>)> {
        let all = self.digests.iter().filter(|(_, known, _)| *known == of);
        let (hash, _, text) = all.max_by_key(|(hash, _, _)| hash.strength())?;
        Some((*hash, base64(std::str::from_utf8(text).ok()?)?))
    }
}

/// Whether a signer's file is about this manifest: all of it, or each of its sections.
fn covers(
    own: &Section<'_>,
    parts: &BTreeMap<Vec<u8>, Section<'_>>,
    manifest: &[u8],
    main: &Section<'_>,
    sections: &BTreeMap<Vec<u8>, Section<'_>>,
) -> bool {
    let holds =
        |stated: Option<(Hash, Vec<u8>)>, bytes: &[u8]| stated.map(|(hash, digest)| hash.digest(bytes) == digest);
    if holds(own.digest("manifest"), manifest) == Some(true) {
        return true;
    }
    if holds(own.digest("main"), main.bytes) == Some(false) {
        return false;
    }
    !sections.is_empty()
        && sections.iter().all(|(name, section)| {
            parts.get(name).is_some_and(|part| holds(part.digest(""), section.bytes) == Some(true))
        })
}

/// Why the files are not those of the manifest; none when they are.
fn wrong_files(
    entries: &[ZipEntry],
    sections: &BTreeMap<Vec<u8>, Section<'_>>,
    open: Opener<'_>,
) -> io::Result<Option<String>> {
    let shown = |name: &[u8]| String::from_utf8_lossy(name).escape_debug().to_string();
    let is_file = |entry: &&ZipEntry| !entry.is_folder() && !is_of_signature(&String::from_utf8_lossy(&entry.name));
    let mut files: Vec<&ZipEntry> = entries.iter().filter(is_file).collect();
    let there: BTreeSet<&[u8]> = entries.iter().map(|entry| entry.name.as_slice()).collect();
    if let Some(gone) = sections.keys().find(|name| !there.contains(name.as_slice())) {
        return Ok(Some(format!("{} was taken out after it was signed", shown(gone))));
    }
    let is_listed = |entry: &ZipEntry| sections.get(&entry.name).is_some_and(|section| !section.digests.is_empty());
    // Devices do not look at what else lies in META-INF.
    let added = files.iter().find(|entry| !is_listed(entry) && !entry.name.starts_with(b"META-INF/"));
    if let Some(added) = added {
        return Ok(Some(format!("{} was added after it was signed", shown(&added.name))));
    }
    files.retain(|entry| is_listed(entry));
    files.sort_by_key(|entry| std::cmp::Reverse(entry.len));
    let wrong = Mutex::new(BTreeSet::new());
    let is_as_signed = |entry: &ZipEntry| -> io::Result<bool> {
        let Some((hash, digest)) = sections.get(&entry.name).and_then(|section| section.digest("")) else {
            return Ok(false);
        };
        match hash.digest_of_reader(&mut *open(entry)?) {
            Ok(found) => Ok(found == digest),
            // Bytes that do not unpack are not those that were signed.
            Err(error) if error.kind() == io::ErrorKind::InvalidData => Ok(false),
            Err(error) => Err(error),
        }
    };
    each(
        &files,
        processors(),
        || (),
        |(), _, entry| {
            if !is_as_signed(entry)? {
                wrong.lock().expect("nothing panics with the lock").insert(entry.name.clone());
            }
            Ok::<_, io::Error>(())
        },
    )?;
    let wrong = wrong.into_inner().expect("nothing panics with the lock");
    Ok(wrong.first().map(|name| format!("{} was changed after it was signed", shown(name))))
}

#[cfg(test)]
mod tests;
