//! What a disk and this computer allow, found out before anything is switched.

use std::fs;
use std::io;
use std::path::Path;

use lantern_core::portable::folded;

use crate::links;

/// Makes a link, to see whether that can be done here: some disks have none, and Windows asks for a right.
pub(super) fn try_link(stage: &Path) -> io::Result<()> {
    let (target, link) = ("link-target", stage.join("link-probe"));
    let _ = fs::remove_file(&link);
    links::make(target, &link, false)?;
    let made = fs::read_link(&link);
    let removed = fs::remove_file(&link);
    match made {
        Ok(points) if points == Path::new(target) => removed,
        Ok(_) => Err(io::Error::other("the link that was made leads elsewhere")),
        Err(_) => Err(io::Error::other("the link that was made is not there")),
    }
}

/// Makes sure that a file can be renamed: Windows refuses it while a program has the file open.
#[cfg(windows)]
pub(super) fn try_rename(place: &Path) -> io::Result<()> {
    use std::os::windows::fs::OpenOptionsExt;
    // The right that a rename needs, DELETE, together with whatever others were granted. Source: Microsoft, "File Security and
    // Access Rights" and "CreateFileW function"; the flags let folders and links be opened, too.
    const DELETE: u32 = 0x0001_0000;
    const SHARE_ALL: u32 = 7;
    const BACKUP_SEMANTICS_AND_OPEN_REPARSE_POINT: u32 = 0x0220_0000;
    let mut options = fs::OpenOptions::new();
    options.access_mode(DELETE).share_mode(SHARE_ALL).custom_flags(BACKUP_SEMANTICS_AND_OPEN_REPARSE_POINT);
    options.open(place).map(|_| ())
}

/// Makes sure that a file can be renamed: that is a matter of its folder, and of nobody who has the file open.
#[cfg(unix)]
pub(super) fn try_rename(place: &Path) -> io::Result<()> {
    use rustix::fs::{Access, access};
    let folder = place.parent().unwrap_or(place);
    Ok(access(folder, Access::WRITE_OK | Access::EXEC_OK)?)
}

/// Whether a folder lists a name that is this one but for letter case and normalisation. The folder is asked, and not the
/// name: what a system remembers of a name may be older than the last rename.
pub(super) fn lists_alike(folder: &Path, name: &str) -> bool {
    let wanted = folded(name);
    let is_alike = |entry: fs::DirEntry| entry.file_name().to_str().is_some_and(|listed| folded(listed) == wanted);
    fs::read_dir(folder).is_ok_and(|entries| entries.flatten().any(is_alike))
}

/// Whether a folder lists exactly this name. Disks that do not count letter case find a file by others, too.
pub(super) fn lists(folder: &Path, name: &str) -> bool {
    fs::read_dir(folder).is_ok_and(|entries| entries.flatten().any(|entry| entry.file_name() == name))
}
