//! The signature of an archive, file by file: packages of before 2016, and every Android bundle.
//!
//! Source: "JAR File Specification", "Signed JAR File" (<https://docs.oracle.com/en/java/javase/21/docs/specs/jar/jar.html>), and the Android Open Source Project's notes on it as signature scheme 1.
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
use std::io::{self, Read};
use std::sync::Mutex;

use lantern_core::parallel::{each, processors};

use crate::hash::Hash;
use crate::message::{Message, Signer};
use crate::plist::base64;

const MANIFEST: &str = "META-INF/MANIFEST.MF";
const BLOCKS: [&str; 3] = ["RSA", "EC", "DSA"];
/// Largest manifest that is read, in bytes, and most sections. Ours: one of 65,000 files has 8 megabytes.
const MAX_LEN: u64 = 12 * 1024 * 1024;
const MAX_SECTIONS: usize = 150_000;
const MAX_SIGNERS: usize = 10;
/// Most schemes that a signer may name.
const MAX_SCHEMES: usize = 4;

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

/// A file of the archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct File<'a> {
    /// Its path in the archive.
    pub name: &'a str,
    /// Bytes when unpacked.
    pub len: u64,
}

/// Opens the bytes of a file, unpacked; by its place in the list.
pub type Opener<'a> = &'a (dyn Fn(usize) -> io::Result<Box<dyn Read + Send + 'a>> + Sync);

/// Whether there is a signature file by file.
pub fn is_signed(files: &[File<'_>]) -> bool {
    files.iter().any(|file| block_name(file.name).is_some())
}

/// The name of the signer whose block this file is.
fn block_name(name: &str) -> Option<&str> {
    let (signer, ending) = name.strip_prefix("META-INF/")?.rsplit_once('.')?;
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
pub fn verify(files: &[File<'_>], open: Opener<'_>) -> io::Result<Option<ArchiveSignature>> {
    if !is_signed(files) {
        return Ok(None);
    }
    let mut out = ArchiveSignature::default();
    let small = |name: &str| -> io::Result<Option<Vec<u8>>> {
        let Some(place) = files.iter().position(|file| file.name == name && file.len <= MAX_LEN) else {
            return Ok(None);
        };
        let mut bytes = Vec::new();
        open(place)?.take(MAX_LEN + 1).read_to_end(&mut bytes)?;
        Ok(Some(bytes).filter(|bytes| bytes.len() as u64 <= MAX_LEN))
    };
    let no = |out: ArchiveSignature, why: &str| Ok(Some(ArchiveSignature { wrong: Some(why.to_owned()), ..out }));
    let Some(manifest) = small(MANIFEST)? else { return no(out, "it has no manifest, or an endless one") };
    let Some((main, sections)) = sections(&manifest) else { return no(out, "its manifest cannot be read") };
    for (name, block) in files.iter().filter_map(|file| Some((block_name(file.name)?, file.name))).take(MAX_SIGNERS) {
        let block = small(block)?.unwrap_or_default();
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
        out.schemes.extend(own.schemes());
        if out.wrong.is_none() && !covers(&own, &parts, &manifest, &main, &sections) {
            out.wrong = Some("its list of files was changed after it was signed".to_owned());
        }
    }
    if out.wrong.is_some() {
        return Ok(Some(out));
    }
    out.wrong = wrong_files(files, &sections, open)?;
    Ok(Some(out))
}

/// A part of a manifest. There may be very many: what stands in it is read when it is asked for.
struct Section<'a> {
    /// With the blank line that ends it.
    bytes: &'a [u8],
    name: Cow<'a, [u8]>,
}

/// The sections of a manifest, in the order of their names.
struct Sections<'a>(Vec<Section<'a>>);

impl<'a> Sections<'a> {
    fn get(&self, name: &[u8]) -> Option<&Section<'a>> {
        let place = self.0.binary_search_by(|section| section.name.as_ref().cmp(name)).ok()?;
        self.0.get(place)
    }
}

/// Splits a manifest into its main section and the others; none where it is none.
fn sections(bytes: &[u8]) -> Option<(Section<'_>, Sections<'_>)> {
    let mut rest = bytes;
    let main = section(&mut rest)?;
    let mut out = Vec::new();
    while !rest.is_empty() {
        let found = section(&mut rest)?;
        // Blank lines between sections belong to none of them.
        if found.bytes.iter().all(|byte| matches!(byte, b'\r' | b'\n')) {
            continue;
        }
        if out.len() == MAX_SECTIONS {
            return None;
        }
        out.push(found);
    }
    out.sort_unstable_by(|a, b| a.name.cmp(&b.name));
    // Two sections of one name: what the other says could be hidden by it.
    let has_twins = out.iter().zip(out.iter().skip(1)).any(|(one, next)| one.name == next.name);
    (!has_twins).then_some((main, Sections(out)))
}

/// Cuts a line off, without its end; and its whole length.
fn line<'a>(rest: &mut &'a [u8]) -> &'a [u8] {
    let end = rest.iter().position(|b| matches!(b, b'\r' | b'\n')).unwrap_or(rest.len());
    let (line, after) = rest.split_at(end);
    *rest = after.strip_prefix(b"\r\n").or_else(|| after.get(1..)).unwrap_or_default();
    line
}

/// A key and its value.
type Field<'a> = (&'a str, Cow<'a, [u8]>);

/// The next field of a section, with what its value goes on with; none at the section's end, nothing in it where it is
/// no field.
fn field<'a>(rest: &mut &'a [u8]) -> Option<Option<Field<'a>>> {
    let first = line(rest);
    if first.is_empty() {
        return None;
    }
    let split = || {
        let colon = first.iter().position(|b| *b == b':')?;
        let (key, value) = first.split_at_checked(colon)?;
        let value = value.strip_prefix(b":").unwrap_or(value);
        Some((std::str::from_utf8(key).ok()?, Cow::Borrowed(value.strip_prefix(b" ").unwrap_or(value))))
    };
    let mut found = split();
    while rest.first() == Some(&b' ') {
        let more = line(rest).get(1..).unwrap_or_default();
        if let Some((_, value)) = &mut found {
            value.to_mut().extend(more);
        }
    }
    Some(found)
}

fn section<'a>(rest: &mut &'a [u8]) -> Option<Section<'a>> {
    let start = *rest;
    let mut name = Cow::Borrowed(&[][..]);
    while let Some(found) = field(rest) {
        let (key, value) = found?;
        if key.eq_ignore_ascii_case("Name") {
            name = value;
        }
    }
    Some(Section { bytes: start.get(..start.len() - rest.len())?, name })
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

impl<'a> Section<'a> {
    fn fields(&self) -> impl Iterator<Item = Field<'a>> {
        let mut rest = self.bytes;
        std::iter::from_fn(move || field(&mut rest).flatten())
    }

    /// The strongest digest of something: of a file, where no word says more.
    fn digest(&self, of: &str) -> Option<(Hash, Vec<u8>)> {
        let all = self.fields().filter_map(|(key, value)| Some((digest_of(key)?, value)));
        let of_it = all.filter(|((_, known), _)| *known == of);
        let ((hash, _), text) = of_it.max_by_key(|((hash, _), _)| hash.strength())?;
        Some((hash, base64(std::str::from_utf8(&text).ok()?)?))
    }

    /// Newer schemes that it says there are.
    fn schemes(&self) -> Vec<u8> {
        let value = self.fields().find(|(key, _)| key.eq_ignore_ascii_case("X-Android-APK-Signed"));
        let value = value.map(|(_, value)| value).unwrap_or_default();
        let schemes = value.split(|b| *b == b',').take(MAX_SCHEMES);
        schemes.filter_map(|scheme| std::str::from_utf8(scheme).ok()?.trim().parse().ok()).collect()
    }
}

/// Whether a signer's file is about this manifest: all of it, or each of its sections.
fn covers(
    own: &Section<'_>,
    parts: &Sections<'_>,
    manifest: &[u8],
    main: &Section<'_>,
    sections: &Sections<'_>,
) -> bool {
    let holds =
        |stated: Option<(Hash, Vec<u8>)>, bytes: &[u8]| stated.map(|(hash, digest)| hash.digest(bytes) == digest);
    if holds(own.digest("manifest"), manifest) == Some(true) {
        return true;
    }
    if holds(own.digest("main"), main.bytes) == Some(false) {
        return false;
    }
    !sections.0.is_empty()
        && sections.0.iter().all(|section| {
            parts.get(&section.name).is_some_and(|part| holds(part.digest(""), section.bytes) == Some(true))
        })
}

/// Why the files are not those of the manifest; none when they are.
fn wrong_files(files: &[File<'_>], sections: &Sections<'_>, open: Opener<'_>) -> io::Result<Option<String>> {
    let shown = |name: &[u8]| String::from_utf8_lossy(name).escape_debug().to_string();
    let mut names: Vec<&str> = files.iter().map(|file| file.name).collect();
    names.sort_unstable();
    // Folders are not signed.
    let is_there = |name: &[u8]| name.ends_with(b"/") || names.binary_search_by(|n| n.as_bytes().cmp(name)).is_ok();
    if let Some(gone) = sections.0.iter().find(|section| !is_there(&section.name)) {
        return Ok(Some(format!("{} was taken out after it was signed", shown(&gone.name))));
    }
    drop(names);
    let digest = |file: &File<'_>| sections.get(file.name.as_bytes()).and_then(|section| section.digest(""));
    let mut covered = Vec::new();
    for (place, file) in files.iter().enumerate().filter(|(_, file)| !is_of_signature(file.name)) {
        if digest(file).is_some() {
            covered.push((place, file));
        } else if !file.name.starts_with("META-INF/") {
            // Devices do not look at what else lies in META-INF.
            return Ok(Some(format!("{} was added after it was signed", shown(file.name.as_bytes()))));
        }
    }
    covered.sort_by_key(|(_, file)| std::cmp::Reverse(file.len));
    let first_wrong: Mutex<Option<&str>> = Mutex::new(None);
    let is_as_signed = |place: usize, file: &File<'_>| -> io::Result<bool> {
        let Some((hash, digest)) = digest(file) else { return Ok(false) };
        match hash.digest_of_reader(&mut *open(place)?) {
            Ok(found) => Ok(found == digest),
            // Bytes that do not unpack are not those that were signed.
            Err(error) if error.kind() == io::ErrorKind::InvalidData => Ok(false),
            Err(error) => Err(error),
        }
    };
    each(
        &covered,
        processors(),
        || (),
        |(), _, (place, file)| {
            if !is_as_signed(*place, file)? {
                let mut first = first_wrong.lock().expect("nothing panics with the lock");
                *first = first.into_iter().chain([file.name]).min();
            }
            Ok::<_, io::Error>(())
        },
    )?;
    let wrong = first_wrong.into_inner().expect("nothing panics with the lock");
    Ok(wrong.map(|name| format!("{} was changed after it was signed", shown(name.as_bytes()))))
}

#[cfg(test)]
mod tests;
