//! Signs Android bundles: file by file, as archives of Java are signed. A bundle has no signature over the whole file.

use std::fs::File;
use std::io::{BufWriter, Read, Seek, Write};
use std::path::Path;

use lantern_core::progress::Progress;
use lantern_formats::jar as reader;
use lantern_formats::zip::write::ZipWriter;
use lantern_formats::zip::{self, Method, ZipEntry};
use lantern_keys::key::Signer;

pub use crate::archive::Opener;
use crate::archive::{Edits, create, readable};
use crate::{SignError, jar};

/// Bytes that are written at a time.
pub(crate) const BUFFER_LEN: usize = 512 * 1024;

/// Signs a bundle into a new file, with other bytes for some of its files. Entries stay as they are packed, in their order; an older signature goes.
///
/// # Errors
/// [`SignError`]; the new file is then of no use.
pub fn sign<R: Read + Seek + Send>(
    open: Opener<'_, R>,
    edits: &Edits,
    to: &Path,
    signer: &dyn Signer,
    progress: &dyn Progress,
) -> Result<(), SignError> {
    let entries = readable(&mut open()?)?;
    let files = jar::sign((open, edits), &entries, "", signer, progress)?;
    let mut writer = ZipWriter::new(BufWriter::with_capacity(BUFFER_LEN, create(to)?));
    write((&mut open()?, edits), &mut writer, &entries, &files, |_| 1, progress)?;
    writer.finish()?.flush()?;
    verify(to)
}

/// Writes the files of a signature, and behind them every entry that is not of an older one.
pub(crate) fn write<R: Read + Seek, W: Write + Seek>(
    (from, edits): (&mut R, &Edits),
    writer: &mut ZipWriter<W>,
    entries: &[ZipEntry],
    files: &[jar::SignatureFile],
    alignment: impl Fn(&ZipEntry) -> u16,
    progress: &dyn Progress,
) -> Result<(), SignError> {
    for (name, bytes) in files {
        writer.file(name, Method::Deflate, 0o644, bytes.len() as u64, |out| out.write_all(bytes))?;
    }
    for entry in entries.iter().filter(|entry| !jar::is_of_signature(&entry.name)) {
        if progress.stopped() {
            return Err(SignError::Stopped);
        }
        let edited = std::str::from_utf8(&entry.name).ok().and_then(|name| Some((name, edits.get(name)?)));
        let Some((name, bytes)) = edited else {
            writer.keep(from, entry, alignment(entry))?;
            continue;
        };
        let method = if entry.packed.method == Method::Stored { Method::Stored } else { Method::Deflate };
        let (mode, len) = (entry.unix_mode.unwrap_or(0o644) & 0o777, bytes.len() as u64);
        writer.aligned_file(name, method, mode, len, alignment(entry), |out| out.write_all(bytes))?;
    }
    Ok(())
}

/// Reads what was signed again, and says so when it does not hold.
pub(crate) fn verify(path: &Path) -> Result<(), SignError> {
    match read(&|| File::open(path))? {
        None => Err(SignError::NotValid("there is no signature".to_owned())),
        Some(found) => found.wrong.map_or(Ok(()), |wrong| Err(SignError::NotValid(wrong))),
    }
}

/// The certificate of who signed an archive file by file; none where nobody did, or the signature does not hold.
///
/// # Errors
/// [`SignError`].
pub fn signed_by<R: Read + Seek + Send + 'static>(open: Opener<'_, R>) -> Result<Option<Vec<u8>>, SignError> {
    let found = read(open)?.filter(|found| found.wrong.is_none());
    Ok(found.and_then(|found| found.signers.into_iter().next()).map(|signer| signer.certificate))
}

fn read<R: Read + Seek + Send + 'static>(open: Opener<'_, R>) -> Result<Option<reader::ArchiveSignature>, SignError> {
    let mut entries = zip::read(&mut open()?)?;
    entries.retain(|entry| !entry.is_folder());
    let file = |entry: &ZipEntry| (String::from_utf8_lossy(&entry.name).into_owned(), entry.packed.len);
    let listed: Vec<(String, u64)> = entries.iter().map(file).collect();
    let files: Vec<reader::File<'_>> = listed.iter().map(|(name, len)| reader::File { name, len: *len }).collect();
    let open = |place: usize| -> std::io::Result<Box<dyn Read + Send>> {
        let entry = entries.get(place).ok_or(std::io::ErrorKind::InvalidInput)?;
        zip::open(open()?, &entry.packed).map_err(std::io::Error::other)
    };
    Ok(reader::verify(&files, &open)?)
}
