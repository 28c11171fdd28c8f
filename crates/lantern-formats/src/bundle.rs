//! Bundles of Apple's systems: how their parts lie, what their programs' signatures cover, and whether a bundle with everything
//! in it is as it was signed.
//!
//! All of it is asked of [`Files`], so that a bundle may lie in a folder, in an archive, or with signed files over its own.

mod code;
mod layout;
mod seal;

use std::io::{self, Read, Seek};

pub use code::{CodeVerdict, verify_code};
pub use layout::{Layout, TICKET, is_ticket};
pub use seal::{Bundle, SealVerdict, verify, verify_at};

use crate::macho::FileHash;

/// Longest small file that is read whole, in bytes. Ours: property lists and seals of real bundles have a few megabytes at most.
pub const MAX_SMALL_LEN: u64 = 16 * 1024 * 1024;

/// What can be read from anywhere.
pub trait ReadSeek: Read + Seek + Send {}
impl<T: Read + Seek + Send> ReadSeek for T {}

/// What lies at a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileKind<'a> {
    /// A file of so many bytes.
    File {
        /// Its length.
        len: u64,
    },
    /// A link.
    Link {
        /// What it says.
        target: &'a str,
    },
    /// A folder with nothing in it.
    EmptyFolder,
}

/// Files by their paths, with `/` between the parts.
pub trait Files: Sync {
    /// Returns everything below a folder, which ends with `/`, with its path from there, in the order of the paths; all of it for
    /// no folder.
    fn below<'a>(&'a self, folder: &'a str) -> Box<dyn Iterator<Item = (&'a str, FileKind<'a>)> + 'a>;

    /// Returns what lies at a path; none for nothing, and for a folder with something in it.
    fn kind(&self, path: &str) -> Option<FileKind<'_>>;

    /// Opens a file to be read from its start.
    ///
    /// # Errors
    /// Those of the system.
    fn open(&self, path: &str) -> io::Result<Box<dyn Read + Send + '_>>;

    /// Opens a file to be read at any place.
    ///
    /// # Errors
    /// Those of the system.
    fn open_anywhere(&self, path: &str) -> io::Result<Box<dyn ReadSeek + '_>>;

    /// Whether a file has this hash.
    ///
    /// # Errors
    /// Those of reading.
    fn has_hash(&self, path: &str, hash: &FileHash) -> io::Result<bool> {
        hash.is_of(&mut self.open(path)?)
    }
}

/// Whether a file lies at a path.
pub(crate) fn is_file(files: &dyn Files, path: &str) -> bool {
    matches!(files.kind(path), Some(FileKind::File { .. }))
}

/// Reads a small file whole; none when it is not there or larger than [`MAX_SMALL_LEN`].
///
/// # Errors
/// Those of reading.
pub fn read_small(files: &dyn Files, path: &str) -> io::Result<Option<Vec<u8>>> {
    if !is_file(files, path) {
        return Ok(None);
    }
    let mut bytes = Vec::new();
    files.open(path)?.take(MAX_SMALL_LEN + 1).read_to_end(&mut bytes)?;
    Ok(Some(bytes).filter(|bytes| bytes.len() as u64 <= MAX_SMALL_LEN))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::*;

    /// Files that are listed and have no bytes.
    pub(super) struct Listed<'a>(BTreeMap<&'a str, FileKind<'a>>);

    impl<'a> Listed<'a> {
        pub(super) fn of(files: impl Iterator<Item = (&'a str, FileKind<'a>)>) -> Self {
            Self(files.collect())
        }
    }

    impl Files for Listed<'_> {
        fn below<'a>(&'a self, folder: &'a str) -> Box<dyn Iterator<Item = (&'a str, FileKind<'a>)> + 'a> {
            Box::new(self.0.iter().filter_map(move |(path, kind)| Some((path.strip_prefix(folder)?, *kind))))
        }

        fn kind(&self, path: &str) -> Option<FileKind<'_>> {
            self.0.get(path).copied()
        }

        fn open(&self, path: &str) -> io::Result<Box<dyn Read + Send + '_>> {
            self.kind(path).map_or(Err(io::ErrorKind::NotFound.into()), |_| Ok(Box::new(io::empty()) as _))
        }

        fn open_anywhere(&self, path: &str) -> io::Result<Box<dyn ReadSeek + '_>> {
            self.kind(path)
                .map_or(Err(io::ErrorKind::NotFound.into()), |_| Ok(Box::new(io::Cursor::new(Vec::new())) as _))
        }
    }

    #[test]
    fn small_files() {
        let files = Listed::of(
            [("Info.plist", FileKind::File { len: 0 }), ("link", FileKind::Link { target: "Info.plist" })].into_iter(),
        );
        assert_eq!(read_small(&files, "Info.plist").unwrap(), Some(Vec::new()));
        assert_eq!(read_small(&files, "link").unwrap(), None);
        assert_eq!(read_small(&files, "gone").unwrap(), None);
    }
}
