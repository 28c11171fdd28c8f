//! Free room on a disk, asked for before something large is begun.

use std::path::{Path, PathBuf};

/// A disk has less room than something needs.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{} has {free} bytes of free space, {needed} are needed", .path.display())]
pub struct NoRoom {
    /// Where.
    pub path: PathBuf,
    /// In bytes.
    pub needed: u64,
    /// In bytes.
    pub free: u64,
}

/// Returns the bytes that can still be written where `path` is or will be; none when the system does not say.
pub fn free(path: &Path) -> Option<u64> {
    let there = path.ancestors().find(|path| path.exists())?;
    let there = if there.as_os_str().is_empty() { Path::new(".") } else { there };
    fs4::available_space(there).ok()
}

/// Makes sure that there is room.
///
/// # Errors
/// [`NoRoom`]; where the system does not say how much there is, there is enough.
pub fn ask(path: &Path, needed: u64) -> Result<(), NoRoom> {
    match free(path) {
        Some(free) if free < needed => Err(NoRoom { path: path.to_owned(), needed, free }),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn room_is_asked_for_where_nothing_is_yet() {
        let temp = tempfile::tempdir().unwrap();
        let later = temp.path().join("a/b");
        assert!(free(&later).is_some_and(|free| free > 0));
        assert!(ask(&later, 1).is_ok());
        let refused = ask(&later, u64::MAX).unwrap_err();
        assert!(refused.needed == u64::MAX && refused.free > 0);
    }
}
