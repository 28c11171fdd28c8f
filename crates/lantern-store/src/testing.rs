//! What the tests of several modules need.

use std::fs;
use std::io::{self, Read};
use std::path::Path;

use lantern_core::digest::RecipeId;
use lantern_core::path::TreePath;
use lantern_core::progress::Silent;

use crate::seal::{SealedTree, Sealer, Source, SourceEntry, SourceKind};
use crate::store::Store;

/// Copies a folder with all that is in it.
pub(crate) fn copy_folder(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let target = to.join(entry.file_name());
        let kind = entry.file_type().unwrap();
        if kind.is_dir() {
            copy_folder(&entry.path(), &target);
        } else if kind.is_symlink() {
            #[cfg(unix)]
            std::os::unix::fs::symlink(fs::read_link(entry.path()).unwrap(), target).unwrap();
        } else {
            fs::copy(entry.path(), target).unwrap();
        }
    }
}

/// Bytes that no compression makes smaller.
pub(crate) fn noise(seed: u64, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

struct Files(Vec<Vec<u8>>);

impl Source for Files {
    fn open(&self, index: usize) -> io::Result<Box<dyn Read + '_>> {
        Ok(Box::new(self.0[index].as_slice()))
    }
    fn is_executable(&self, _: usize, _: &[u8]) -> bool {
        false
    }
    fn is_unchanged(&self, _: usize) -> io::Result<bool> {
        Ok(true)
    }
}

/// Seals files, which are given in the order of their names.
pub(crate) fn sealed_files(store: &Store, files: &[(&str, &[u8])]) -> SealedTree {
    sealed_after(store, files, None)
}

/// As [`sealed_files`], after other builds.
pub(crate) fn sealed_after(store: &Store, files: &[(&str, &[u8])], earlier: Option<RecipeId>) -> SealedTree {
    let entry = |(name, bytes): &(&str, &[u8])| SourceEntry {
        path: TreePath::new(*name).unwrap(),
        kind: SourceKind::File { size: bytes.len() as u64 },
    };
    let entries: Vec<SourceEntry> = files.iter().map(entry).collect();
    let source = Files(files.iter().map(|(_, bytes)| bytes.to_vec()).collect());
    Sealer::new(store).seal(&entries, &source, earlier, &Silent).unwrap()
}
