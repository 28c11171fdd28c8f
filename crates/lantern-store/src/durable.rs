//! Every write that must survive: temporary file, sync, rename, sync of the folder. Nothing else in this crate writes
//! what others read.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use lantern_core::points;

/// Why a durable operation failed: what, on which path, and the system's reason.
#[derive(Debug, thiserror::Error)]
#[error("could not {what} {}", .path.display())]
pub struct DurableError {
    /// Such as "write" or "rename".
    pub what: &'static str,
    /// On what.
    pub path: PathBuf,
    /// The system's reason.
    #[source]
    pub source: io::Error,
}

impl DurableError {
    pub(crate) fn on(what: &'static str, path: &Path) -> impl FnOnce(io::Error) -> Self {
        move |source| Self { what, path: path.to_owned(), source }
    }
}

/// How the names of unfinished files start.
pub const PART: &str = ".part-";

/// Makes a name beside `path` that no other run uses.
fn part_name(path: &Path) -> PathBuf {
    static COUNTER: AtomicU64 = AtomicU64::new(0);
    let count = COUNTER.fetch_add(1, Ordering::Relaxed);
    let name = format!("{PART}{}-{count}", std::process::id());
    path.with_file_name(name)
}

/// Writes a file whole or not at all; an existing one is replaced. The folder is made when it is missing.
///
/// # Errors
/// [`DurableError`]; the old file is then untouched.
pub fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), DurableError> {
    if let Some(folder) = path.parent() {
        create_folders(folder)?;
    }
    let part = part_name(path);
    let written = write_synced(&part, bytes).and_then(|()| rename(&part, path));
    if written.is_err() {
        // The part is of no use to anybody; the first error is the one to tell.
        let _ = fs::remove_file(&part);
    }
    written
}

fn write_synced(path: &Path, bytes: &[u8]) -> Result<(), DurableError> {
    let created = points::write().and_then(|()| File::create(path));
    let mut file = created.map_err(DurableError::on("create", path))?;
    points::write().and_then(|()| file.write_all(bytes)).map_err(DurableError::on("write", path))?;
    points::write().and_then(|()| file.sync_all()).map_err(DurableError::on("sync", path))
}

/// Renames within one disk and syncs the folder of the new name.
///
/// # Errors
/// [`DurableError`].
pub fn rename(from: &Path, to: &Path) -> Result<(), DurableError> {
    points::write().and_then(|()| fs::rename(from, to)).map_err(DurableError::on("rename to", to))?;
    points::pass();
    match to.parent() {
        Some(folder) => sync_folder(folder),
        None => Ok(()),
    }
}

/// Makes a folder and those above it.
///
/// # Errors
/// [`DurableError`].
pub fn create_folders(path: &Path) -> Result<(), DurableError> {
    if path.is_dir() {
        return Ok(());
    }
    points::write().and_then(|()| fs::create_dir_all(path)).map_err(DurableError::on("make the folder", path))
}

/// Makes a rename or removal in a folder last through a power cut.
///
/// # Errors
/// [`DurableError`].
#[cfg(unix)]
pub fn sync_folder(path: &Path) -> Result<(), DurableError> {
    let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
    File::open(path).and_then(|folder| folder.sync_all()).map_err(DurableError::on("sync", path))
}

/// Windows keeps renames in its own journal and opens no folder as a file.
///
/// # Errors
/// None there.
#[cfg(not(unix))]
pub fn sync_folder(_: &Path) -> Result<(), DurableError> {
    Ok(())
}

/// Removes a file; one that is not there is removed already.
///
/// # Errors
/// [`DurableError`].
pub fn remove_file(path: &Path) -> Result<(), DurableError> {
    match points::remove().and_then(|()| fs::remove_file(path)) {
        Err(e) if e.kind() != io::ErrorKind::NotFound => Err(DurableError::on("remove", path)(e)),
        _ => Ok(()),
    }
}

/// Reads a file of at most `limit` bytes; a longer one is an error of kind [`io::ErrorKind::FileTooLarge`].
///
/// # Errors
/// [`DurableError`].
pub fn read_limited(path: &Path, limit: u64) -> Result<Vec<u8>, DurableError> {
    let mut bytes = Vec::new();
    read_limited_into(path, limit, &mut bytes)?;
    Ok(bytes)
}

/// As [`read_limited`], into a buffer that is emptied first.
///
/// # Errors
/// [`DurableError`].
pub fn read_limited_into(path: &Path, limit: u64, bytes: &mut Vec<u8>) -> Result<(), DurableError> {
    use std::io::Read;
    bytes.clear();
    let file = File::open(path).map_err(DurableError::on("open", path))?;
    let len = file.metadata().map_err(DurableError::on("read", path))?.len();
    // With one byte of room more the end is seen without growing.
    bytes.reserve(usize::try_from(len.min(limit)).unwrap_or(0) + 1);
    file.take(limit.saturating_add(1)).read_to_end(bytes).map_err(DurableError::on("read", path))?;
    if bytes.len() as u64 > limit {
        return Err(DurableError::on("read", path)(io::ErrorKind::FileTooLarge.into()));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_replaced_whole() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a/b/file");
        write_whole(&path, b"one").unwrap();
        write_whole(&path, b"two").unwrap();
        assert_eq!(fs::read(&path).unwrap(), b"two");
        assert_eq!(fs::read_dir(path.parent().unwrap()).unwrap().count(), 1, "no part is left");
        assert_eq!(read_limited(&path, 3).unwrap(), b"two");
        assert_eq!(read_limited(&path, 2).unwrap_err().source.kind(), io::ErrorKind::FileTooLarge);
    }

    #[test]
    fn a_failed_write_leaves_the_old_file_and_no_part() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("taken");
        fs::create_dir(&path).unwrap();
        assert!(write_whole(&path, b"one").is_err());
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
    }
}
