//! Signs packages for iOS: the bundle in them, and what is in that. Everything else of the archive stays as it is packed.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{Read, Seek};
use std::path::Path;

use lantern_core::progress::Progress;
use lantern_formats::zip::write::ZipWriter;
use lantern_formats::zip::{self, Method};

use crate::SignError;
use crate::apple_bundle::Changed;
use crate::archive::create;
use crate::archive::{Opener, readable};

/// Writes a package again, with what was changed of it in its place; what is new comes behind everything else, in the order of the paths.
///
/// # Errors
/// [`SignError`]; the new file is then of no use.
pub fn write<R: Read + Seek + Send>(
    open: Opener<'_, R>,
    changed: &[Changed],
    to: &Path,
    progress: &dyn Progress,
) -> Result<(), SignError> {
    let mut from = open()?;
    let entries = readable(&mut from)?;
    let mut left: BTreeMap<&str, &Changed> = changed.iter().map(|file| (file.path.as_str(), file)).collect();
    let mut writer = ZipWriter::new(create(to)?);
    for entry in &entries {
        if progress.stopped() {
            return Err(SignError::Stopped);
        }
        let name = std::str::from_utf8(&entry.name).unwrap_or_default();
        match left.remove(name) {
            None => writer.keep(&mut from, entry, 1)?,
            Some(file) => {
                let method = if entry.packed.method == Method::Stored { Method::Stored } else { Method::Deflate };
                add(&mut writer, file, method, entry.unix_mode.unwrap_or(0o644) & 0o777)?;
            }
        }
    }
    for file in left.into_values() {
        add(&mut writer, file, Method::Deflate, 0o644)?;
    }
    writer.finish()?;
    // Read once more: what cannot be read is not handed out.
    zip::read(&mut File::open(to)?)?;
    Ok(())
}

fn add(writer: &mut ZipWriter<File>, file: &Changed, method: Method, mode: u32) -> Result<(), SignError> {
    let mut from = File::open(&file.at)?;
    let len = from.metadata()?.len();
    writer.file(&file.path, method, mode, len, |out| std::io::copy(&mut from, out).map(|_| ()))?;
    Ok(())
}
