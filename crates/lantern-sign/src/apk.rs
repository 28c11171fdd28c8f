//! Signs Android packages: over the whole file by the schemes 2 and 3, and file by file where the oldest system needs it.
//!
//! Source: "APK Signature Scheme v2", "v3" and "v3.1", the Android Open Source Project
//! (<https://source.android.com/docs/security/features/apksigning/v2>, `…/v3`). What is in the block stands in the front page of
//! `lantern_formats::apk`, which verifies.
//!
//! What is stored begins at a multiple of 4 bytes, native libraries at one of 16 KiB: systems read them in place. Everything
//! else stays as it is packed, in its order. What an older signing block held goes with it: none of it stays true.

use std::fs::{File, OpenOptions};
use std::io::{self, BufWriter, Read, Seek, SeekFrom, Write};
use std::path::Path;

use lantern_core::progress::{Progress, Task};
use lantern_formats::android::Manifest;
use lantern_formats::apk as reader;
use lantern_formats::hash::Hash;
use lantern_formats::zip::write::ZipWriter;
use lantern_formats::zip::{Method, ZipEntry};
use lantern_keys::certificate;
use lantern_keys::key::Signer;

use crate::archive::{AGAIN, Edits, MANIFEST, Opener, create, manifest_of, prefixed, readable};
use crate::digests::{self, Part};
use crate::rotation::{self, Rotation};
use crate::{SignError, bundle_jar, jar};

const ID_V2: u32 = 0x7109_871a;
const ID_V3: u32 = 0xf053_68c0;
const ID_V31: u32 = 0x1b93_ad61;
/// Says in scheme 2 that there is a signature of scheme 3, so that nobody can take that one out unseen.
const ATTRIBUTE_STRIPPING: u32 = 0xbeef_f00d;
/// The chain of keys, and in scheme 3 that there is a signature of scheme 3.1, since which system.
const ATTRIBUTE_LINEAGE: u32 = 0x3ba0_6f8c;
const ATTRIBUTE_ROTATION: u32 = 0x559f_8b02;
const MAGIC: &[u8; 16] = b"APK Sig Block 42";
/// API levels: since when SHA-256 is known file by file, signatures over the whole file, scheme 3; and since when a package that
/// is made for it must have its resources stored.
const SHA256_SINCE: u32 = 18;
const WHOLE_FILE_SINCE: u32 = 24;
const SCHEME_3_SINCE: u32 = 28;
const STORED_RESOURCES_SINCE: u32 = 30;
const NEWEST: u32 = 0x7fff_ffff;
/// Multiples at which stored files and native libraries begin.
const ALIGNMENT: u16 = 4;
const LIBRARY_ALIGNMENT: u16 = 16 * 1024;
/// The end record without a comment.
const END_LEN: u64 = 22;

/// What was done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signed {
    /// The schemes it is signed by, oldest first.
    pub schemes: Vec<u8>,
}

/// Signs a package into a new file, with other bytes for some of its files; `rotation` says which keys came before the signer's.
///
/// # Errors
/// [`SignError`]; the new file is then of no use.
pub fn sign<R: Read + Seek + Send>(
    (open, edits): (Opener<'_, R>, &Edits),
    to: &Path,
    signer: &dyn Signer,
    rotation: Option<&Rotation<'_>>,
    progress: &dyn Progress,
) -> Result<Signed, SignError> {
    let mut from = open()?;
    let entries = readable(&mut from)?;
    let oldest = oldest_system(open, &entries)?;
    let needs_v1 = oldest < WHOLE_FILE_SINCE;
    let files = match needs_v1 {
        true => {
            let first = rotation.map_or(signer, |rotation| rotation.first);
            jar::sign((open, edits), &entries, "2, 3", first, progress)?.to_vec()
        }
        false => Vec::new(),
    };
    let mut writer = ZipWriter::new(BufWriter::with_capacity(bundle_jar::BUFFER_LEN, create(to)?));
    bundle_jar::write((&mut from, edits), &mut writer, &entries, &files, alignment, progress)?;
    let mut file = writer.finish()?.into_inner().map_err(io::IntoInnerError::into_error)?;
    drop(from);
    insert_block(&mut file, to, (signer, rotation), oldest, progress)?;
    drop(file);
    let schemes = verify(to, needs_v1)?;
    Ok(Signed { schemes })
}

/// The multiple at which an entry's bytes begin.
fn alignment(entry: &ZipEntry) -> u16 {
    match entry.packed.method {
        Method::Stored if entry.name.starts_with(b"lib/") && entry.name.ends_with(b".so") => LIBRARY_ALIGNMENT,
        Method::Stored => ALIGNMENT,
        _ => 1,
    }
}

/// The oldest system that takes the package; what cannot be signed for it is refused.
fn oldest_system<R: Read + Seek + Send>(open: Opener<'_, R>, entries: &[ZipEntry]) -> Result<u32, SignError> {
    let manifest = entries.iter().find(|entry| entry.name == MANIFEST.as_bytes());
    let manifest =
        manifest.ok_or_else(|| SignError::refused(format!("it has no {MANIFEST}, so it is not a package"), AGAIN))?;
    let bytes = manifest_of(&mut open()?, manifest)?;
    let manifest = Manifest::read(&bytes)
        .map_err(|error| SignError::refused(format!("{MANIFEST} cannot be read: {error}"), AGAIN))?;
    let oldest = manifest.min_sdk.unwrap_or(1);
    if oldest < SHA256_SINCE {
        let what = format!(
            "it is for systems from API level {oldest} on; those before {SHA256_SINCE} know only SHA-1, with which nothing is signed any more"
        );
        return Err(SignError::refused(what, format!("set minSdkVersion to {SHA256_SINCE} or more, and export again")));
    }
    let is_packed = |entry: &&ZipEntry| entry.name == b"resources.arsc" && entry.packed.method != Method::Stored;
    if manifest.target_sdk.is_some_and(|target| target >= STORED_RESOURCES_SINCE)
        && entries.iter().any(|entry| is_packed(&entry))
    {
        let what = format!(
            "resources.arsc is compressed, and systems from API level {STORED_RESOURCES_SINCE} on do not install that"
        );
        return Err(SignError::refused(what, "have it stored when the package is exported"));
    }
    Ok(oldest)
}

/// Puts the signing block before the directory of a package that has none.
fn insert_block(
    file: &mut File,
    path: &Path,
    (signer, rotation): (&dyn Signer, Option<&Rotation<'_>>),
    oldest: u32,
    progress: &dyn Progress,
) -> Result<(), SignError> {
    let len = file.seek(SeekFrom::End(0))?;
    let too_large = || {
        SignError::refused(
            "the package would have 4 GiB or more, for which the format has no room",
            "move data out of the package, into files that the game loads",
        )
    };
    let end_at = len.checked_sub(END_LEN).ok_or_else(|| io::Error::from(io::ErrorKind::InvalidData))?;
    let mut end = vec![0; END_LEN as usize];
    file.seek(SeekFrom::Start(end_at))?;
    file.read_exact(&mut end)?;
    let directory_at =
        end.get(16..20).and_then(|bytes| bytes.first_chunk::<4>()).map_or(u32::MAX, |bytes| u32::from_le_bytes(*bytes));
    // All ones: it stands in another record, for more than 4 GiB.
    if directory_at == u32::MAX || len > u64::from(u32::MAX) {
        return Err(too_large());
    }
    let mut directory = vec![0; usize::try_from(end_at - u64::from(directory_at)).map_err(|_| too_large())?];
    file.seek(SeekFrom::Start(directory_at.into()))?;
    file.read_exact(&mut directory)?;

    // As the file is now, the end record says where the block will begin: that is what is hashed.
    let parts = [Part::Range(directory_at.into()), Part::Bytes(&directory), Part::Bytes(&end)];
    // Keys of different kinds sign digests of different hashes.
    let mut known: Vec<(Hash, Vec<u8>)> = Vec::new();
    let mut digest = |hash: Hash| {
        if let Some((_, digest)) = known.iter().find(|(of, _)| *of == hash) {
            return Ok(digest.clone());
        }
        let meter = progress.start(Task::Sign, Some(len));
        let digest = digests::of_package(&|| File::open(path), &parts, hash, &*meter, progress)?;
        known.push((hash, digest.clone()));
        Ok(digest)
    };
    let block = block(signer, rotation, oldest, &mut digest)?;

    let moved = u32::try_from(u64::from(directory_at) + block.len() as u64).map_err(|_| too_large())?;
    if len + block.len() as u64 > u64::from(u32::MAX) {
        return Err(too_large());
    }
    if let Some(field) = end.get_mut(16..20) {
        field.copy_from_slice(&moved.to_le_bytes());
    }
    let mut out = OpenOptions::new().write(true).open(path)?;
    out.seek(SeekFrom::Start(directory_at.into()))?;
    for bytes in [&block, &directory, &end] {
        out.write_all(bytes)?;
    }
    out.flush()?;
    Ok(())
}

/// The block with all schemes. `digest` gives that of a hash.
fn block(
    signer: &dyn Signer,
    rotation: Option<&Rotation<'_>>,
    oldest: u32,
    digest: &mut dyn FnMut(Hash) -> Result<Vec<u8>, SignError>,
) -> Result<Vec<u8>, SignError> {
    let mut pairs = Vec::new();
    let mut pair = |id: u32, value: &[u8]| {
        pairs.extend((value.len() as u64 + 4).to_le_bytes());
        pairs.extend(id.to_le_bytes());
        pairs.extend(value);
    };
    let attribute = |id: u32, value: &[u8]| prefixed(&[&prefixed(&[&id.to_le_bytes(), value])]);
    let stripping = attribute(ATTRIBUTE_STRIPPING, &3_u32.to_le_bytes());
    // Systems that know nothing of other keys know the first.
    let first = rotation.map_or(signer, |rotation| rotation.first);
    pair(ID_V2, &scheme(first, digest, &[], &stripping)?);
    let systems = |from: u32, to: u32| [from.to_le_bytes(), to.to_le_bytes()].concat();
    let from = oldest.max(SCHEME_3_SINCE);
    match rotation {
        None => pair(ID_V3, &scheme(signer, digest, &systems(from, NEWEST), &prefixed(&[]))?),
        // Every system that reads it has the new key.
        Some(rotation) if rotation.since <= from => {
            let lineage = attribute(ATTRIBUTE_LINEAGE, rotation.lineage.value());
            pair(ID_V3, &scheme(signer, digest, &systems(from, NEWEST), &lineage)?);
        }
        Some(rotation) => {
            let since = rotation.since;
            let announced = attribute(ATTRIBUTE_ROTATION, &since.to_le_bytes());
            pair(ID_V3, &scheme(rotation.first, digest, &systems(from, since - 1), &announced)?);
            let lineage = attribute(ATTRIBUTE_LINEAGE, rotation.lineage.value());
            pair(ID_V31, &scheme(signer, digest, &systems(since, NEWEST), &lineage)?);
        }
    }
    // The size leaves out its own first field.
    let size = (pairs.len() as u64 + 8 + MAGIC.len() as u64).to_le_bytes();
    Ok([&size[..], &pairs, &size, MAGIC].concat())
}

/// A scheme with its one signer. `systems` are those of scheme 3; `attributes` have their length before them.
fn scheme(
    signer: &dyn Signer,
    digest: &mut dyn FnMut(Hash) -> Result<Vec<u8>, SignError>,
    systems: &[u8],
    attributes: &[u8],
) -> Result<Vec<u8>, SignError> {
    let hash = rotation::hash_of(signer);
    let number = rotation::algorithm(signer, hash).to_le_bytes();
    let digests = prefixed(&[&prefixed(&[&number, &prefixed(&[&digest(hash)?])])]);
    let certificates: Vec<Vec<u8>> = signer.chain().iter().map(|found| prefixed(&[found])).collect();
    let certificates = prefixed(&[&certificates.concat()]);
    let signed = [&digests[..], &certificates, systems, attributes].concat();
    let signature = signer.sign(hash, &signed)?;
    let signatures = prefixed(&[&prefixed(&[&number, &prefixed(&[&signature])])]);
    let own = signer.chain().first().ok_or(lantern_keys::KeyError::NoCertificate { alias: String::new() })?;
    let public = certificate::public_key(own)?;
    let signer = prefixed(&[&prefixed(&[&signed]), systems, &signatures, &prefixed(&[&public])]);
    Ok(prefixed(&[&signer]))
}

/// Reads what was signed again; returns the schemes that hold.
fn verify(path: &Path, has_v1: bool) -> Result<Vec<u8>, SignError> {
    let mut schemes = Vec::new();
    if has_v1 {
        bundle_jar::verify(path)?;
        schemes.push(1);
    }
    let found = reader::verify(&|| File::open(path))?;
    for scheme in &found {
        if let Some(wrong) = &scheme.wrong {
            return Err(SignError::NotValid(wrong.clone()));
        }
        schemes.push(scheme.version);
    }
    match found.len() {
        2 | 3 => Ok(schemes),
        _ => Err(SignError::NotValid("a scheme is missing".to_owned())),
    }
}
