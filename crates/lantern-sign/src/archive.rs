//! The archive that is signed: how it is opened, what is in it, and which of its files get other bytes.

use std::collections::{BTreeMap, HashSet};
use std::fs::File;
use std::io::{self, Read, Seek};
use std::path::Path;

use lantern_formats::android::MAX_MANIFEST_LEN;
use lantern_formats::zip::{self, ZipEntry};

use crate::SignError;

/// Opens a file; several threads read it at once.
pub type Opener<'a, R> = &'a (dyn Fn() -> io::Result<R> + Sync);

/// The manifest of a package.
pub(crate) const MANIFEST: &str = "AndroidManifest.xml";
/// What is advised where an archive is none that an engine writes.
pub(crate) const AGAIN: &str = "export it again";

/// Files of an archive that get other bytes, by their paths.
pub type Edits = BTreeMap<String, Vec<u8>>;

/// The entries of an archive that can be signed: every name once, and in UTF-8.
pub(crate) fn readable<R: Read + Seek>(from: &mut R) -> Result<Vec<ZipEntry>, SignError> {
    let entries = zip::read(from)?;
    let mut names = HashSet::new();
    for entry in &entries {
        let shown = || String::from_utf8_lossy(&entry.name).escape_debug().to_string();
        if !names.insert(&entry.name) {
            return Err(SignError::refused(format!("{} is in the archive twice", shown()), AGAIN));
        }
        if std::str::from_utf8(&entry.name).is_err() || entry.name.iter().any(|byte| matches!(byte, b'\r' | b'\n' | 0))
        {
            let what = format!("the name {} cannot stand in a signature", shown());
            return Err(SignError::refused(what, "give the file a name in UTF-8 without line ends"));
        }
    }
    Ok(entries)
}

/// Bytes with their length in 4 bytes before them.
pub(crate) fn prefixed(parts: &[&[u8]]) -> Vec<u8> {
    let len: usize = parts.iter().map(|part| part.len()).sum();
    let mut out = u32::try_from(len).unwrap_or(u32::MAX).to_le_bytes().to_vec();
    parts.iter().for_each(|part| out.extend(*part));
    out
}

/// Reads a manifest.
pub(crate) fn manifest_of<R: Read + Seek + Send>(from: &mut R, entry: &ZipEntry) -> Result<Vec<u8>, SignError> {
    if entry.packed.len > MAX_MANIFEST_LEN {
        return Err(SignError::refused("its manifest is larger than any real one", AGAIN));
    }
    let mut bytes = Vec::new();
    zip::open(from, &entry.packed)?.read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Makes the file that is signed into. It is not synced: a caller that keeps it does that.
pub(crate) fn create(to: &Path) -> io::Result<File> {
    File::options().read(true).write(true).create(true).truncate(true).open(to)
}
