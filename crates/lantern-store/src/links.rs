//! Links, as builds write them: relative, with `/` on every system.

use std::fs;
use std::io;
use std::path::Path;

/// Makes a link. `is_folder` is whether it leads to a folder: Windows keeps two kinds.
///
/// # Errors
/// The system's; Windows makes links only for those who may.
#[cfg(unix)]
pub fn make(target: &str, place: &Path, _is_folder: bool) -> io::Result<()> {
    std::os::unix::fs::symlink(target, place)
}

/// Makes a link. `is_folder` is whether it leads to a folder: Windows keeps two kinds.
///
/// # Errors
/// The system's; Windows makes links only for those who may.
#[cfg(windows)]
pub fn make(target: &str, place: &Path, is_folder: bool) -> io::Result<()> {
    let target = target.replace('/', "\\");
    if is_folder {
        std::os::windows::fs::symlink_dir(target, place)
    } else {
        std::os::windows::fs::symlink_file(target, place)
    }
}

/// Returns where a link leads, as a build writes it; none for what is no link, or is not written in UTF-8.
pub fn target(place: &Path) -> Option<String> {
    let target = fs::read_link(place).ok()?.into_os_string().into_string().ok()?;
    Some(if cfg!(windows) { target.replace('\\', "/") } else { target })
}

/// Removes a link, and nothing that it leads to; one that is not there is removed already.
///
/// # Errors
/// The system's.
pub fn remove(place: &Path) -> io::Result<()> {
    // Windows removes a link to a folder as it removes a folder.
    let removed = match fs::remove_file(place) {
        Err(_) if cfg!(windows) && fs::symlink_metadata(place).is_ok_and(|m| m.is_symlink()) => fs::remove_dir(place),
        other => other,
    };
    match removed {
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(()),
        other => other,
    }
}

#[cfg(test)]
#[cfg(unix)]
mod tests {
    use super::*;

    #[test]
    fn a_link_is_made_read_and_removed() {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join("real")).unwrap();
        let link = folder.path().join("link");
        make("real", &link, true).unwrap();
        assert_eq!(target(&link).as_deref(), Some("real"));
        assert_eq!(target(&folder.path().join("real")), None);
        remove(&link).unwrap();
        remove(&link).unwrap();
        assert!(folder.path().join("real").is_dir());
    }
}
