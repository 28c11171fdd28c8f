//! Each disk, and what happens on it.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::path::TreePath;
use lantern_core::progress::Silent;
use lantern_store::fetch::{Fetch, FetchError};
use lantern_store::install::{self, InstallError, OwnFiles, Report, STATE_FOLDER, Wanted};
use lantern_store::seal::{Source, SourceEntry, SourceKind, seal};
use lantern_store::store::Store;

/// A folder on the disk that a variable names, empty.
fn disk(variable: &str) -> PathBuf {
    let disk =
        std::env::var(variable).unwrap_or_else(|_| panic!("{variable} names no disk: see scripts/other-disks.sh"));
    let folder = Path::new(&disk).join("game");
    let _ = fs::remove_dir_all(&folder);
    folder
}

struct Files(Vec<Vec<u8>>);

impl Source for Files {
    fn open(&self, index: usize) -> io::Result<Box<dyn Read + '_>> {
        Ok(Box::new(self.0[index].as_slice()))
    }
    fn is_executable(&self, _: usize, _: &[u8]) -> bool {
        true
    }
    fn is_unchanged(&self, _: usize) -> io::Result<bool> {
        Ok(true)
    }
}

/// Seals files; one whose content starts with `->` is a link.
fn sealed(store: &Store, files: &[(&str, &[u8])]) -> RecipeId {
    let files: BTreeMap<&str, &[u8]> = files.iter().copied().collect();
    let entries = files.iter().map(|(name, bytes)| SourceEntry {
        path: TreePath::new(*name).unwrap(),
        kind: match bytes.strip_prefix(b"->") {
            Some(target) => SourceKind::Link { target: String::from_utf8(target.to_vec()).unwrap() },
            None => SourceKind::File { size: bytes.len() as u64 },
        },
    });
    let entries: Vec<SourceEntry> = entries.collect();
    let contents = files.values().map(|bytes| bytes.to_vec()).collect();
    seal(store, &entries, &Files(contents), &Silent).unwrap().recipe
}

fn noise(seed: u64, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

fn try_install(folder: &Path, store: &Store, recipe: RecipeId) -> Result<Report, InstallError> {
    let wanted = Wanted {
        recipes: &[recipe],
        about: serde_json::Value::Null,
        own_files: OwnFiles::Aside,
        private: None,
        updates: &[],
        read_all: false,
    };
    install::install(folder, wanted, store, &Silent)
}

/// Every file as the disk lists it, with its content; our state is left out.
fn listed(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut out = BTreeMap::new();
    let mut folders = vec![(folder.to_owned(), String::new())];
    while let Some((at, prefix)) = folders.pop() {
        for entry in fs::read_dir(&at).unwrap().map(Result::unwrap) {
            let name = format!("{prefix}{}", entry.file_name().to_str().unwrap());
            match entry.file_type().unwrap().is_dir() {
                true if name == STATE_FOLDER => {}
                true => folders.push((entry.path(), format!("{name}/"))),
                false => {
                    out.insert(name, fs::read(entry.path()).unwrap());
                }
            }
        }
    }
    out
}

fn named(files: &[(&str, &[u8])]) -> BTreeMap<String, Vec<u8>> {
    files.iter().map(|(name, bytes)| ((*name).to_owned(), bytes.to_vec())).collect()
}

#[test]
fn names_that_change_in_letter_case_alone() {
    let folder = disk("LANTERN_FOLDING_DISK");
    let temp = tempfile::tempdir().unwrap();
    let store = Store::at(temp.path().join("store"));
    let (large, edited) = (noise(1, 300_000), noise(2, 300_000));
    let old: [(&str, &[u8]); 5] =
        [("Data/A.pak", &large), ("Data/Deep/B.pak", b"b"), ("Readme.TXT", b"r"), ("c.txt", b"c"), ("gone.txt", b"g")];
    let new: [(&str, &[u8]); 4] =
        [("data/a.pak", &large), ("data/deep/b.pak", &edited), ("readme.txt", b"r"), ("C.txt", b"C")];
    try_install(&folder, &store, sealed(&store, &old)).unwrap();
    assert!(fs::metadata(folder.join("DATA/a.PAK")).is_ok(), "the disk does not fold letter case");
    fs::write(folder.join("Data/mine.sav"), b"mine").unwrap();
    let mut expected = named(&new);
    expected.insert("data/mine.sav".to_owned(), b"mine".to_vec());
    let report = try_install(&folder, &store, sealed(&store, &new)).unwrap();
    assert_eq!(listed(&folder), expected);
    assert_eq!((report.written, report.removed, report.aside), (2, 1, Vec::new()));
    assert!(install::verify(&folder, &Silent).unwrap().wrong.is_empty());
    // And back; then nothing is to be done any more.
    try_install(&folder, &store, sealed(&store, &old)).unwrap();
    expected = named(&old);
    expected.insert("Data/mine.sav".to_owned(), b"mine".to_vec());
    assert_eq!(listed(&folder), expected);
    assert_eq!(try_install(&folder, &store, sealed(&store, &old)).unwrap().written, 0);
    // A name in another letter case that the player gave stays; what he wrote there is moved aside.
    fs::write(folder.join("SAVE.dat"), b"mine").unwrap();
    let report = try_install(&folder, &store, sealed(&store, &[("save.dat", b"the build's")])).unwrap();
    assert_eq!(report.aside.len(), 1);
    assert_eq!(fs::read(folder.join("save.dat.yours")).unwrap(), b"mine");
}

#[test]
fn links_that_cannot_be_made_are_found_out_first() {
    let folder = disk("LANTERN_LINKLESS_DISK");
    let temp = tempfile::tempdir().unwrap();
    let store = Store::at(temp.path().join("store"));
    try_install(&folder, &store, sealed(&store, &[("a", b"1")])).unwrap();
    let error = try_install(&folder, &store, sealed(&store, &[("a", b"2"), ("link", b"->a")])).unwrap_err();
    assert!(matches!(error, InstallError::NoLinks { .. }), "{error:?}");
    assert_eq!(listed(&folder), named(&[("a", b"1")]));
    assert!(install::read_folder(&folder).unwrap().unwrap().begun.is_none());
}

/// Hands out a store's pieces; from the tenth range on, the disk that is written to works again.
struct Grows<'a> {
    store: &'a Store,
    ranges: AtomicU64,
}

impl Fetch for Grows<'_> {
    fn recipe(&self, id: RecipeId) -> Result<Vec<u8>, FetchError> {
        Fetch::recipe(self.store, id)
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        self.store.segment(digest)
    }
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError> {
        Fetch::locator(self.store, segment)
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        if self.ranges.fetch_add(1, Ordering::SeqCst) == 9 {
            // By now more has been written than the disk has: it fails behind the program's back, and once.
            std::thread::sleep(Duration::from_secs(1));
            let grow = std::env::var("LANTERN_FAILING_DISK_GROW").unwrap();
            assert!(std::process::Command::new("sh").args(["-c", &grow]).status().unwrap().success());
        }
        self.store.pack_range(pack, offset, len)
    }
}

#[test]
fn an_error_while_the_disk_is_written_is_reported() {
    let folder = disk("LANTERN_FAILING_DISK");
    let temp = tempfile::tempdir().unwrap();
    let store = Store::at(temp.path().join("store"));
    let build = sealed(&store, &[("d.bin", &noise(1, 60_000_000))]);
    let wanted = Wanted {
        recipes: &[build],
        about: serde_json::Value::Null,
        own_files: OwnFiles::Aside,
        private: None,
        updates: &[],
        read_all: false,
    };
    let fetch = Grows { store: &store, ranges: AtomicU64::new(0) };
    let error = install::install(&folder, wanted, &fetch, &Silent).unwrap_err();
    assert!(matches!(error, InstallError::File(_)), "{error:?}");
    assert!(!folder.join("d.bin").exists());
}

#[test]
fn a_small_disk_is_not_filled() {
    let folder = disk("LANTERN_SMALL_DISK");
    let temp = tempfile::tempdir().unwrap();
    let store = Store::at(temp.path().join("store"));
    let error = try_install(&folder, &store, sealed(&store, &[("d.bin", &noise(1, 20_000_000))])).unwrap_err();
    assert!(matches!(error, InstallError::NoRoom(_)), "{error:?}");
    assert!(install::give_up(&folder).unwrap().is_some());
    assert!(!folder.exists(), "nothing is left");
}
