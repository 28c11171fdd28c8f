//! Every write that must survive: temporary file, sync, rename, sync of the folder. Nothing else in this crate writes
//! what others read.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use lantern_core::digest::Digest;
use lantern_core::failpoint;

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

/// How many names are tried for an unfinished file: two containers on one folder may count alike.
const MAX_TRIES: usize = 100;

/// Who may read a file that is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Readers {
    /// Anyone who the system lets.
    Usual,
    /// Its owner alone.
    OwnerAlone,
}

/// Makes a file of its own beside `path`; one that is there, or a link of that name, is never opened.
fn create_part(path: &Path, readers: Readers) -> io::Result<(PathBuf, File)> {
    static COUNTER: AtomicU64 = AtomicU64::new(0);
    let mut options = File::options();
    options.write(true).create_new(true);
    if readers == Readers::OwnerAlone {
        for_owner_alone(&mut options);
    }
    let mut tries = 0;
    loop {
        let count = COUNTER.fetch_add(1, Ordering::Relaxed);
        let part = path.with_file_name(format!("{PART}{}-{count}", std::process::id()));
        match options.open(&part) {
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists && tries < MAX_TRIES => tries += 1,
            other => return other.map(|file| (part, file)),
        }
    }
}

/// Writes a file whole or not at all; an existing one is replaced. The folder is made when it is missing.
///
/// # Errors
/// [`DurableError`]; the old file is then untouched.
pub fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), DurableError> {
    write_for(Readers::Usual, path, bytes)
}

/// Writes what only saves time, such as what was read before, with its digest in a line before it: a lost bit must not be taken
/// for something that was found.
///
/// # Errors
/// Those of [`write_whole`].
pub fn write_kept(path: &Path, bytes: &[u8]) -> Result<(), DurableError> {
    write_whole(path, &[digest_line(bytes).as_bytes(), bytes].concat())
}

/// Reads what [`write_kept`] has written; none for what is missing, damaged, or longer than `limit` bytes.
#[expect(clippy::indexing_slicing, reason = "behind a byte that was found")]
pub fn read_kept(path: &Path, limit: u64) -> Option<Vec<u8>> {
    let mut bytes = read_limited(path, limit).ok()?;
    let len = bytes.iter().position(|byte| *byte == b'\n')? + 1;
    let is_whole = bytes[..len] == *digest_line(&bytes[len..]).as_bytes();
    bytes.drain(..len);
    is_whole.then_some(bytes)
}

fn digest_line(bytes: &[u8]) -> String {
    format!("{}\n", Digest::of(bytes))
}

/// As [`write_whole`], but a power cut may lose it, or leave other bytes under its name: for one of many files that are compared with their
/// digests whenever they are read, and brought to the disk together.
///
/// # Errors
/// [`DurableError`]; the old file is then untouched.
pub fn write_unsynced(path: &Path, bytes: &[u8]) -> Result<(), DurableError> {
    write_part(Readers::Usual, path, |file| write_all(file, path, bytes), rename_unsynced)
}

/// As [`write_whole`], for what nobody else on this computer may read, at no time.
///
/// # Errors
/// [`DurableError`]; the old file is then untouched.
pub fn write_private(path: &Path, bytes: &[u8]) -> Result<(), DurableError> {
    write_for(Readers::OwnerAlone, path, bytes)
}

#[cfg(unix)]
fn for_owner_alone(options: &mut fs::OpenOptions) {
    use std::os::unix::fs::OpenOptionsExt;
    options.mode(0o600);
}

/// Windows: what lies below a user's own folder inherits rights for that user alone.
#[cfg(not(unix))]
fn for_owner_alone(_: &mut fs::OpenOptions) {}

/// Writes a file whole, or not at all, where none is; returns whether it was written. What is there is never replaced, not even
/// by two who write at the same time.
///
/// # Errors
/// [`DurableError`].
pub fn write_new(path: &Path, bytes: &[u8]) -> Result<bool, DurableError> {
    write_part(Readers::Usual, path, |file| write_synced(file, path, bytes), place_new)
}

/// As [`write_new`], for what nobody else on this computer may read, at no time.
///
/// # Errors
/// [`DurableError`].
pub fn write_private_new(path: &Path, bytes: &[u8]) -> Result<bool, DurableError> {
    write_part(Readers::OwnerAlone, path, |file| write_synced(file, path, bytes), place_new)
}

fn write_for(readers: Readers, path: &Path, bytes: &[u8]) -> Result<(), DurableError> {
    write_part(readers, path, |file| write_synced(file, path, bytes), rename)
}

/// Writes a file under a name of its own, and has it put into its place.
fn write_part<T>(
    readers: Readers,
    path: &Path,
    write: impl FnOnce(&mut File) -> Result<(), DurableError>,
    place: impl FnOnce(&Path, &Path) -> Result<T, DurableError>,
) -> Result<T, DurableError> {
    if let Some(folder) = path.parent() {
        create_folders(folder)?;
    }
    let created = failpoint::write().and_then(|()| create_part(path, readers));
    let (part, mut file) = created.map_err(DurableError::on("create", path))?;
    let written = write(&mut file);
    // Some systems rename no file that is open.
    drop(file);
    let written = written.and_then(|()| place(&part, path));
    if written.is_err() {
        // The part is of no use to anybody; the first error is the one to report.
        let _ = fs::remove_file(&part);
    }
    written
}

/// Puts a part into its place if nothing is there, and takes its own name away.
fn place_new(part: &Path, path: &Path) -> Result<bool, DurableError> {
    let linked = failpoint::write().and_then(|()| fs::hard_link(part, path));
    let is_placed = match linked {
        Ok(()) => true,
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists || path.exists() => false,
        // Some disks know no links: there of two who write at the same moment the later one wins.
        Err(_) => {
            rename(part, path)?;
            return Ok(true);
        }
    };
    failpoint::pass();
    remove_file(part)?;
    if let (true, Some(folder)) = (is_placed, path.parent()) {
        sync_folder(folder)?;
    }
    Ok(is_placed)
}

fn write_all(file: &mut File, path: &Path, bytes: &[u8]) -> Result<(), DurableError> {
    failpoint::write().and_then(|()| file.write_all(bytes)).map_err(DurableError::on("write", path))
}

fn write_synced(file: &mut File, path: &Path, bytes: &[u8]) -> Result<(), DurableError> {
    write_all(file, path, bytes)?;
    failpoint::write().and_then(|()| sync_file(file)).map_err(DurableError::on("sync", path))
}

/// Opens a file that only we write, or makes it; a link of its name is refused, and nothing is cut off.
///
/// # Errors
/// The system's; [`io::ErrorKind::InvalidInput`] or the system's own word for a link.
pub fn open_own(path: &Path, create: bool) -> io::Result<File> {
    let mut options = File::options();
    options.read(true).write(true).create(create).truncate(false);
    no_follow(&mut options);
    let file = options.open(path)?;
    if file.metadata()?.is_file() && !fs::symlink_metadata(path)?.is_symlink() {
        return Ok(file);
    }
    Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a plain file"))
}

/// Writes all bytes at a place of a file.
#[cfg(unix)]
pub(crate) fn write_all_at(file: &File, bytes: &[u8], offset: u64) -> io::Result<()> {
    std::os::unix::fs::FileExt::write_all_at(file, bytes, offset)
}

/// Windows: it moves the file's own place as well, at which nobody writes.
#[cfg(windows)]
pub(crate) fn write_all_at(file: &File, mut bytes: &[u8], mut offset: u64) -> io::Result<()> {
    while !bytes.is_empty() {
        match std::os::windows::fs::FileExt::seek_write(file, bytes, offset) {
            Ok(0) => return Err(io::ErrorKind::WriteZero.into()),
            Ok(written) => {
                bytes = bytes.get(written..).unwrap_or_default();
                offset += written as u64;
            }
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

#[cfg(unix)]
fn no_follow(options: &mut fs::OpenOptions) {
    use std::os::unix::fs::OpenOptionsExt;
    let flags = rustix::fs::OFlags::NOFOLLOW | rustix::fs::OFlags::NONBLOCK;
    options.custom_flags(i32::try_from(flags.bits()).unwrap_or_default());
}

/// `FILE_FLAG_OPEN_REPARSE_POINT`: the link itself is opened. Source: Microsoft, "CreateFileW function".
#[cfg(windows)]
fn no_follow(options: &mut fs::OpenOptions) {
    use std::os::windows::fs::OpenOptionsExt;
    options.custom_flags(0x0020_0000);
}

/// Renames within one disk and syncs the folder of the new name.
///
/// # Errors
/// [`DurableError`].
pub fn rename(from: &Path, to: &Path) -> Result<(), DurableError> {
    rename_unsynced(from, to)?;
    match to.parent() {
        Some(folder) => sync_folder(folder),
        None => Ok(()),
    }
}

fn rename_unsynced(from: &Path, to: &Path) -> Result<(), DurableError> {
    failpoint::write().and_then(|()| move_file(from, to)).map_err(DurableError::on("rename to", to))?;
    failpoint::pass();
    Ok(())
}

/// Renames within one disk.
///
/// # Errors
/// The system's.
#[cfg(not(windows))]
pub fn move_file(from: &Path, to: &Path) -> io::Result<()> {
    fs::rename(from, to)
}

/// Renames within one disk. Programs that look at every new file, such as those that search for viruses, hold it for a
/// moment: then it is tried again. What was renamed is on the disk when this returns, because the file system keeps a
/// journal in order, and flushing a file flushes it up to there. Source: Microsoft, "System Error Codes", 5, 32 and 33, and
/// "FlushFileBuffers function".
///
/// # Errors
/// The system's.
#[cfg(windows)]
pub fn move_file(from: &Path, to: &Path) -> io::Result<()> {
    const HELD: [i32; 3] = [5, 32, 33];
    let mut wait = std::time::Duration::from_millis(5);
    loop {
        match fs::rename(from, to) {
            Err(e) if e.raw_os_error().is_some_and(|code| HELD.contains(&code)) && wait < MAX_WAIT => {
                std::thread::sleep(wait);
                wait *= 2;
            }
            Err(e) => return Err(e),
            Ok(()) => break,
        }
    }
    // Folders and links cannot be opened so, and read-only files not for writing: what follows flushes for them.
    if let Ok(file) = File::options().write(true).open(to) {
        file.sync_all()?;
    }
    Ok(())
}

/// The last wait for a file that someone holds: in all about two seconds.
#[cfg(windows)]
const MAX_WAIT: std::time::Duration = std::time::Duration::from_millis(1300);

/// Brings a file to the disk.
///
/// # Errors
/// The system's.
#[cfg(not(target_vendor = "apple"))]
pub fn sync_file(file: &File) -> io::Result<()> {
    file.sync_all()
}

/// Brings a file to the disk, through the disk's own memory. Some disks, such as those of other computers, cannot be asked
/// for that, and get what they can do. Source: Apple, "fsync(2)", on `F_FULLFSYNC`.
///
/// # Errors
/// The system's.
#[cfg(target_vendor = "apple")]
pub fn sync_file(file: &File) -> io::Result<()> {
    match file.sync_all() {
        Err(e) if matches!(e.kind(), io::ErrorKind::Unsupported | io::ErrorKind::InvalidInput) => {
            Ok(rustix::fs::fsync(file)?)
        }
        Err(e) if e.raw_os_error() == Some(rustix::io::Errno::NOTTY.raw_os_error()) => Ok(rustix::fs::fsync(file)?),
        other => other,
    }
}

/// Brings a file to the disk as the first of many: what [`sync_file`] does for the last of them reaches all.
///
/// # Errors
/// The system's.
pub fn sync_one_of_many(file: &File) -> io::Result<()> {
    #[cfg(target_vendor = "apple")]
    return Ok(rustix::fs::fsync(file)?);
    #[cfg(not(target_vendor = "apple"))]
    sync_file(file)
}

/// Whether a folder of its own stands there, and not a link to one.
pub fn is_real_folder(path: &Path) -> bool {
    fs::symlink_metadata(path).is_ok_and(|m| m.is_dir())
}

/// Makes a folder that only its owner reads, and those above it.
///
/// # Errors
/// [`DurableError`].
pub fn create_private_folder(path: &Path) -> Result<(), DurableError> {
    create_folders(path)?;
    // Windows: what lies below a user's own folder inherits rights for that user alone.
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let closed = fs::set_permissions(path, fs::Permissions::from_mode(0o700));
        closed.map_err(|source| DurableError { what: "protect", path: path.to_owned(), source })?;
    }
    Ok(())
}

/// Makes a folder and those above it.
///
/// # Errors
/// [`DurableError`].
pub fn create_folders(path: &Path) -> Result<(), DurableError> {
    // A file without a folder lies in the one where work is done.
    if path.as_os_str().is_empty() || path.is_dir() {
        return Ok(());
    }
    // Its name lasts when the folder above it is synced, and so on up to one that was there before.
    let above = path.parent();
    if let Some(above) = above {
        create_folders(above)?;
    }
    let made = failpoint::write().and_then(|()| match fs::create_dir(path) {
        // Another one may have made it meanwhile.
        Err(_) if path.is_dir() => Ok(()),
        other => other,
    });
    made.map_err(DurableError::on("make the folder", path))?;
    above.map_or(Ok(()), sync_folder)
}

/// Makes a rename or removal in a folder last through a power cut.
///
/// # Errors
/// [`DurableError`].
#[cfg(unix)]
pub fn sync_folder(path: &Path) -> Result<(), DurableError> {
    let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
    File::open(path).and_then(|folder| sync_file(&folder)).map_err(DurableError::on("sync", path))
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
    match failpoint::remove().and_then(|()| fs::remove_file(path)) {
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
