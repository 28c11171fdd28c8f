//! `.lantern/`: the folder itself, the lock, and the room that is kept for a full disk.

use std::fs::{self, File, TryLockError};
use std::io::{ErrorKind, Read, Seek, Write};
use std::path::Path;

use lantern_core::config::{Config, STATE_FOLDER};
use lantern_store::durable::{self, DurableError};
use lantern_store::room_left;

use crate::ProjectError;

/// Room that is kept for the ledger on a full disk.
const RESERVE: &str = "reserve";
/// Its length.
const RESERVE_LEN: u64 = 256 * 1024;

/// Whether a disk is full, or can only be read.
pub(crate) fn is_unwritable(error: &std::io::Error) -> bool {
    use ErrorKind::{PermissionDenied, QuotaExceeded, ReadOnlyFilesystem, StorageFull};
    matches!(error.kind(), StorageFull | QuotaExceeded | ReadOnlyFilesystem | PermissionDenied)
}

/// Returns the bytes of all files below a folder; links are not followed.
pub(crate) fn size_of(folder: &Path) -> u64 {
    let mut folders = vec![folder.to_owned()];
    let mut size = 0;
    while let Some(at) = folders.pop() {
        for entry in fs::read_dir(at).into_iter().flatten().flatten() {
            match entry.metadata() {
                Ok(m) if m.is_dir() => folders.push(entry.path()),
                Ok(m) => size += m.len(),
                Err(_) => {}
            }
        }
    }
    size
}

/// Makes `.lantern/` with its `.gitignore` and the schema for editors.
pub(crate) fn make_state_folder(root: &Path) -> Result<(), ProjectError> {
    let folder = root.join(STATE_FOLDER);
    match fs::symlink_metadata(&folder) {
        Ok(m) if !m.is_dir() => return Err(ProjectError::ForeignState(folder)),
        Ok(_) => {
            let list = fs::read_dir(&folder).and_then(Iterator::collect::<Result<Vec<_>, _>>);
            let entries = list.map_err(|source| DurableError { what: "list", path: folder.clone(), source })?;
            // The mark is the first file that is ever made there. Looked for after listing: another lantern may be
            // making the folder at this very moment.
            let only_parts = entries.iter().all(|e| e.file_name().to_string_lossy().starts_with(".part-"));
            if !only_parts && !folder.join(".gitignore").is_file() {
                return Err(ProjectError::ForeignState(folder));
            }
        }
        Err(_) => {}
    }
    let ignore = folder.join(".gitignore");
    if !ignore.is_file() {
        durable::write_whole(&ignore, b"# Kind Lantern's own folder: nothing in it belongs into a repository.\n*\n")?;
    }
    let schema = Config::SCHEMA.as_bytes();
    let path = folder.join("lantern.schema.json");
    if fs::read(&path).ok().as_deref() != Some(schema) {
        durable::write_whole(&path, schema)?;
    }
    Ok(())
}

/// Takes the project's lock: no other lantern changes anything while the file lives.
///
/// # Errors
/// [`ProjectError::Busy`], [`ProjectError::File`].
pub(crate) fn take_lock(folder: &Path) -> Result<File, ProjectError> {
    let path = folder.join("lock");
    let io = |what| {
        let path = path.clone();
        move |source| ProjectError::File(DurableError { what, path, source })
    };
    let mut lock = durable::open_own(&path, true).map_err(io("open"))?;
    match lock.try_lock() {
        Ok(()) => {}
        Err(TryLockError::WouldBlock) => {
            let mut text = String::new();
            // Where the system keeps others from reading a locked file, the process stays unnamed.
            let _ = lock.read_to_string(&mut text);
            return Err(ProjectError::Busy { pid: text.trim().parse().ok() });
        }
        Err(TryLockError::Error(e)) => return Err(io("lock")(e)),
    }
    // The number is for people: a full disk that has no room for it is no reason to stop.
    let written = lock.set_len(0).and_then(|()| lock.rewind());
    let _ = written.and_then(|()| writeln!(lock, "{}", std::process::id()));
    Ok(lock)
}

/// Keeps a little room for the ledger: on a disk that is full it makes freeing room possible.
pub(crate) fn keep_reserve(folder: &Path) {
    let path = folder.join(RESERVE);
    let is_there = fs::metadata(&path).is_ok_and(|m| m.len() == RESERVE_LEN);
    let has_room = room_left::free(&path).is_none_or(|free| free > RESERVE_LEN * 64);
    if is_there || !has_room {
        return;
    }
    // Bytes that no file system makes small.
    let mut bytes = vec![0; RESERVE_LEN as usize];
    blake3::Hasher::new().finalize_xof().fill(&mut bytes);
    // Without it everything works that worked before.
    let _ = durable::write_whole(&path, &bytes);
}

/// Gives the reserved room back to the disk.
pub(crate) fn use_reserve(folder: &Path) -> Result<(), ProjectError> {
    Ok(durable::remove_file(&folder.join(RESERVE))?)
}
