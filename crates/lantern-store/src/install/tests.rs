use super::*;
use crate::fetch::FetchError;
use crate::seal::{SealedTree, Source, SourceEntry, SourceKind, seal};
use crate::store::Store;
use lantern_core::progress::Silent;
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::fs;
use std::io::Read;
use std::sync::atomic::{AtomicU64, Ordering};

/// Files in memory: name to content, the bit, and what is no file.
#[derive(Clone, Debug, Default)]
struct Build(BTreeMap<String, Item>);

#[derive(Clone, Debug, PartialEq)]
enum Item {
    File(Vec<u8>),
    Folder,
    Link(String),
}

impl Build {
    fn of(files: &[(&str, &[u8])]) -> Self {
        Self(files.iter().map(|(name, bytes)| ((*name).to_owned(), Item::File(bytes.to_vec()))).collect())
    }

    fn seal(&self, store: &Store) -> SealedTree {
        let kind = |item: &Item| match item {
            Item::File(bytes) => SourceKind::File { size: bytes.len() as u64 },
            Item::Folder => SourceKind::EmptyFolder,
            Item::Link(target) => SourceKind::Link { target: target.clone() },
        };
        let entries: Vec<SourceEntry> = self
            .0
            .iter()
            .map(|(name, item)| SourceEntry { path: TreePath::new(name).unwrap(), kind: kind(item) })
            .collect();
        seal(store, &entries, self, &Silent).unwrap()
    }
}

impl Source for Build {
    fn open(&self, index: usize) -> io::Result<Box<dyn Read + '_>> {
        match self.0.values().nth(index) {
            Some(Item::File(bytes)) => Ok(Box::new(bytes.as_slice())),
            _ => Err(io::ErrorKind::NotFound.into()),
        }
    }
    fn is_executable(&self, _: usize, first: &[u8]) -> bool {
        first.starts_with(b"#!")
    }
    fn is_unchanged(&self, _: usize) -> io::Result<bool> {
        Ok(true)
    }
}

/// Everything in a folder but our state.
fn contents(folder: &Path) -> BTreeMap<String, Item> {
    fn walk(folder: &Path, prefix: &str, out: &mut BTreeMap<String, Item>) {
        for entry in fs::read_dir(folder).unwrap() {
            let entry = entry.unwrap();
            let name = format!("{prefix}{}", entry.file_name().to_str().unwrap());
            if name == STATE_FOLDER {
                continue;
            }
            let kind = entry.file_type().unwrap();
            if kind.is_symlink() {
                out.insert(name, Item::Link(fs::read_link(entry.path()).unwrap().to_str().unwrap().to_owned()));
            } else if kind.is_dir() {
                if fs::read_dir(entry.path()).unwrap().next().is_none() {
                    out.insert(name.clone(), Item::Folder);
                }
                walk(&entry.path(), &format!("{name}/"), out);
            } else {
                out.insert(name, Item::File(fs::read(entry.path()).unwrap()));
            }
        }
    }
    let mut out = BTreeMap::new();
    walk(folder, "", &mut out);
    out
}

fn noise(seed: u64, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

struct Scene {
    _temp: tempfile::TempDir,
    store: Store,
    folder: PathBuf,
}

fn scene() -> Scene {
    let temp = tempfile::tempdir().unwrap();
    Scene { store: Store::at(temp.path().join("store")), folder: temp.path().join("game"), _temp: temp }
}

impl Scene {
    fn install(&self, build: &Build) -> Report {
        let sealed = build.seal(&self.store);
        install(&self.folder, &[sealed.manifest], Value::Null, &self.store, &Silent).unwrap()
    }
}

#[test]
fn an_update_brings_only_what_is_missing() {
    let scene = scene();
    let large = noise(1, 3 << 20);
    let mut edited = large.clone();
    edited[1_500_000] ^= 1;
    scene.install(&Build::of(&[("saltmarsh", b"#!/bin/sh\n"), ("data/main.pack", &large), ("data/old.txt", b"old")]));
    let report =
        scene.install(&Build::of(&[("saltmarsh", b"#!/bin/sh\n"), ("data/main.pack", &edited), ("new.txt", b"n")]));
    assert_eq!((report.files, report.written, report.removed), (3, 2, 1));
    assert!((1..200_000).contains(&report.received), "{}", report.received);
    assert_eq!(fs::read(scene.folder.join("data/main.pack")).unwrap(), edited);
    assert!(!scene.folder.join("data/old.txt").exists());
}

#[test]
fn what_no_build_brought_is_left_alone() {
    let scene = scene();
    scene.install(&Build::of(&[("a/one", b"1"), ("b", b"2")]));
    fs::write(scene.folder.join("a/save.dat"), b"mine").unwrap();
    let report = scene.install(&Build::of(&[("b", b"3")]));
    assert_eq!(report.removed, 1);
    assert_eq!(fs::read(scene.folder.join("a/save.dat")).unwrap(), b"mine");
    assert!(verify(&scene.folder, &Silent).unwrap().wrong.is_empty());
}

#[cfg(unix)]
#[test]
fn executable_bits_links_and_empty_folders_are_installed() {
    use std::os::unix::fs::PermissionsExt;
    let scene = scene();
    let mut build = Build::of(&[("run", b"#!/bin/sh\n"), ("data", b"x")]);
    build.0.insert("shots".into(), Item::Folder);
    build.0.insert("start".into(), Item::Link("run".into()));
    scene.install(&build);
    assert_eq!(contents(&scene.folder), build.0);
    let mode = |name: &str| fs::metadata(scene.folder.join(name)).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode("run"), mode("data")), (0o755, 0o644));
}

#[test]
fn damage_is_found_and_the_next_install_mends_it() {
    let scene = scene();
    let build = Build::of(&[("a", b"first"), ("b", b"second"), ("c/d", b"third")]);
    scene.install(&build);
    fs::write(scene.folder.join("a"), b"FIRST").unwrap();
    fs::remove_file(scene.folder.join("c/d")).unwrap();
    let wrong = verify(&scene.folder, &Silent).unwrap().wrong;
    let found: Vec<(&str, Problem)> = wrong.iter().map(|w| (w.path.as_str(), w.problem)).collect();
    assert_eq!(found, [("a", Problem::Content), ("c/d", Problem::Missing)]);
    assert_eq!(scene.install(&build).written, 2);
    assert!(verify(&scene.folder, &Silent).unwrap().wrong.is_empty());
}

#[test]
fn files_become_folders_and_folders_files() {
    let scene = scene();
    scene.install(&Build::of(&[("a", b"file"), ("b/c/d", b"deep")]));
    let second = Build::of(&[("a/b/c", b"deep"), ("b", b"file")]);
    scene.install(&second);
    assert_eq!(contents(&scene.folder), second.0);
}

#[test]
fn somebody_elses_folder_is_not_replaced() {
    let scene = scene();
    scene.install(&Build::of(&[("a", b"1")]));
    fs::create_dir(scene.folder.join("b")).unwrap();
    fs::write(scene.folder.join("b/mine"), b"x").unwrap();
    let sealed = Build::of(&[("b", b"2")]).seal(&scene.store);
    let error = install(&scene.folder, &[sealed.manifest], Value::Null, &scene.store, &Silent).unwrap_err();
    assert!(matches!(error, InstallError::InTheWay { .. }));
    assert_eq!(fs::read(scene.folder.join("a")).unwrap(), b"1", "nothing changed");
}

#[cfg(unix)]
#[test]
fn nothing_is_written_or_removed_through_a_link() {
    let scene = scene();
    scene.install(&Build::of(&[("a/one", b"1"), ("b", b"1")]));
    let outside = scene.folder.with_file_name("outside");
    fs::create_dir(&outside).unwrap();
    fs::write(outside.join("one"), b"precious").unwrap();
    fs::remove_dir_all(scene.folder.join("a")).unwrap();
    std::os::unix::fs::symlink(&outside, scene.folder.join("a")).unwrap();
    let sealed = Build::of(&[("a/one", b"2")]).seal(&scene.store);
    let error = install(&scene.folder, &[sealed.manifest], Value::Null, &scene.store, &Silent).unwrap_err();
    assert!(matches!(error, InstallError::InTheWay { .. }), "{error:?}");
    let sealed = Build::of(&[("b", b"2")]).seal(&scene.store);
    install(&scene.folder, &[sealed.manifest], Value::Null, &scene.store, &Silent).unwrap();
    assert_eq!(fs::read(outside.join("one")).unwrap(), b"precious");
}

/// Counts, and fails or lies from a certain request on.
struct Flaky<'a> {
    store: &'a Store,
    fails_after: u64,
    lies: bool,
    requests: AtomicU64,
}

impl Fetch for Flaky<'_> {
    fn manifest(&self, id: ManifestId) -> Result<Vec<u8>, FetchError> {
        self.store.manifest_bytes(id).map_err(Into::into)
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        self.store.segment_bytes(digest).map_err(Into::into)
    }
    fn locator(&self, id: ManifestId) -> Result<Vec<u8>, FetchError> {
        Fetch::locator(self.store, id)
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        let mut bytes = self.store.read_pack_range(pack, offset, len)?;
        if self.requests.fetch_add(1, Ordering::Relaxed) < self.fails_after {
            return Ok(bytes);
        }
        if self.lies {
            bytes[0] ^= 1;
            return Ok(bytes);
        }
        Err("the line was cut".into())
    }
}

#[test]
fn a_cut_line_costs_only_what_had_not_come() {
    let scene = scene();
    let sealed = Build::of(&[("main.pack", &noise(7, 20 << 20))]).seal(&scene.store);
    let flaky = Flaky { store: &scene.store, fails_after: 3, lies: false, requests: AtomicU64::new(0) };
    let error = install(&scene.folder, &[sealed.manifest], Value::Null, &flaky, &Silent).unwrap_err();
    assert!(matches!(error, InstallError::Fetch { .. }));
    assert!(contents(&scene.folder).is_empty(), "nothing half-visible");
    let report = install(&scene.folder, &[sealed.manifest], Value::Null, &scene.store, &Silent).unwrap();
    assert!(report.received < 12 << 20, "{}", report.received);
    assert_eq!(fs::read(scene.folder.join("main.pack")).unwrap(), noise(7, 20 << 20));
}

#[test]
fn a_lying_server_is_refused_and_nothing_changes() {
    let scene = scene();
    scene.install(&Build::of(&[("a", b"old")]));
    let sealed = Build::of(&[("a", b"new")]).seal(&scene.store);
    let liar = Flaky { store: &scene.store, fails_after: 0, lies: true, requests: AtomicU64::new(0) };
    let error = install(&scene.folder, &[sealed.manifest], Value::Null, &liar, &Silent).unwrap_err();
    assert!(matches!(error, InstallError::Wrong { .. }), "{error:?}");
    assert_eq!(fs::read(scene.folder.join("a")).unwrap(), b"old");
}

#[test]
fn a_switch_that_was_cut_is_finished_offline() {
    let scene = scene();
    scene.install(&Build::of(&[("a", b"1"), ("b/c", b"1"), ("d", b"1")]));
    let second = Build::of(&[("a", b"2"), ("b", b"2"), ("e", b"2")]);
    let sealed = second.seal(&scene.store);
    // Everything up to the journal, then some of the renames, as a kill would leave it.
    for done in 0..4 {
        let copy = scene.folder.with_file_name(format!("copy{done}"));
        copy_folder(&scene.folder, &copy);
        {
            let folder = Folder::open(&copy).unwrap();
            let old = folder.entries_installed().unwrap();
            let new = gather::manifests(&folder, &[sealed.manifest], &scene.store).unwrap();
            let plan = plan::Plan::make(&folder, &old, &new, &Silent).unwrap();
            gather::stage(&folder, &plan, &[sealed.manifest], &old, &scene.store, &Silent).unwrap();
            let installed =
                Installed { format: state::FORMAT.into(), manifests: vec![sealed.manifest], about: Value::Null };
            let stage = folder.stage(&[sealed.manifest]);
            let saved = folder.path().join("../saved-stage");
            let _ = fs::remove_dir_all(&saved);
            copy_folder(&stage, &saved);
            switch::switch(&folder, &plan, installed.clone()).unwrap();
            // Put back what the kill would have left: the journal, and the staged files not yet renamed.
            let journal = serde_json::json!({
                "format": "lantern.switch/1", "stage": stage.file_name().unwrap().to_str().unwrap(),
                "remove": plan.remove, "folders": [], "links": [],
                "rename": plan.write.iter().enumerate().map(|(i, e)| (i, e.path.clone())).collect::<Vec<_>>(),
                "installed": installed,
            });
            folder.write_json("journal.json", &journal).unwrap();
            fs::create_dir(&stage).unwrap();
            for (i, entry) in plan.write.iter().enumerate().skip(done) {
                fs::rename(saved.join(i.to_string()), stage.join(i.to_string())).unwrap();
                fs::remove_file(copy.join(entry.path.as_str())).unwrap();
            }
        }
        installed(&copy).unwrap();
        assert_eq!(contents(&copy), second.0, "{done} of the renames were done");
        assert!(!copy.join(STATE_FOLDER).join("journal.json").exists());
    }
}

fn copy_folder(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let target = to.join(entry.file_name());
        if entry.file_type().unwrap().is_dir() {
            copy_folder(&entry.path(), &target);
        } else {
            fs::copy(entry.path(), target).unwrap();
        }
    }
}

#[test]
fn two_at_once_one_is_told() {
    let scene = scene();
    scene.install(&Build::of(&[("a", b"1")]));
    let _first = Folder::open(&scene.folder).unwrap();
    assert!(matches!(verify(&scene.folder, &Silent), Err(InstallError::Busy(_))));
}

#[test]
fn sealing_is_the_same_however_often_and_with_whatever_is_there() {
    let (one, two) = (scene(), scene());
    let build = Build::of(&[("a", &noise(1, 2 << 20)), ("b", &noise(2, 300_000)), ("copy", &noise(1, 2 << 20))]);
    let first = build.seal(&one.store);
    Build::of(&[("other", &noise(2, 300_000))]).seal(&two.store);
    let second = build.seal(&two.store);
    assert_eq!((first.id, first.manifest), (second.id, second.manifest));
    assert!(second.new_stored < first.new_stored);
    assert!(first.new_stored < (2 << 20) + 300_000 + 20_000, "the copy is stored once");
    let again = build.seal(&one.store);
    assert_eq!((again.new_chunks, again.new_stored, again.manifest), (0, 0, first.manifest));
}

#[test]
fn what_a_kill_left_unfinished_is_removed_and_nothing_else() {
    let scene = scene();
    let build = Build::of(&[("a", &noise(1, 300_000))]);
    let sealed = build.seal(&scene.store);
    let pack = scene.store.packs().unwrap()[0];
    let part = scene.store.pack_path(&pack).with_file_name(".part-1-1");
    fs::write(&part, b"half").unwrap();
    scene.store.remove_unfinished().unwrap();
    assert!(!part.exists());
    install(&scene.folder, &[sealed.manifest], Value::Null, &scene.store, &Silent).unwrap();
    Store::at(scene.folder.join("nowhere")).remove_unfinished().unwrap();
}

#[test]
fn a_file_that_changes_while_it_is_read_is_an_error() {
    struct Growing;
    impl Source for Growing {
        fn open(&self, _: usize) -> io::Result<Box<dyn Read + '_>> {
            Ok(Box::new(io::repeat(7)))
        }
        fn is_executable(&self, _: usize, _: &[u8]) -> bool {
            false
        }
        fn is_unchanged(&self, _: usize) -> io::Result<bool> {
            Ok(true)
        }
    }
    let scene = scene();
    let entries = [SourceEntry { path: TreePath::new("log").unwrap(), kind: SourceKind::File { size: 1000 } }];
    let error = seal(&scene.store, &entries, &Growing, &Silent).unwrap_err();
    assert!(matches!(error, crate::seal::SealError::Changed { .. }));
}

fn any_item() -> impl Strategy<Value = Item> {
    prop_oneof![
        6 => (0..4_u64, prop_oneof![Just(0_usize), 1..200_usize, 100_000..400_000_usize]).prop_map(|(seed, len)| Item::File(noise(seed, len))),
        1 => Just(Item::Folder),
        1 => Just(Item::Link("x".into())),
    ]
}

fn any_build() -> impl Strategy<Value = Build> {
    prop::collection::btree_map("[ab]{1,2}(/[ab]{1,2}){0,2}", any_item(), 1..8).prop_map(|mut items| {
        let names: Vec<String> = items.keys().cloned().collect();
        items.retain(|name, _| !names.iter().any(|other| name.starts_with(&format!("{other}/"))));
        Build(items)
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(if cfg!(unix) { 48 } else { 0 }))]
    #[test]
    fn chunk_pack_install_is_identity_and_so_is_every_update(builds in prop::collection::vec(any_build(), 1..4)) {
        let scene = scene();
        for build in &builds {
            scene.install(build);
            prop_assert_eq!(contents(&scene.folder), build.0.clone());
            prop_assert!(verify(&scene.folder, &Silent).unwrap().wrong.is_empty());
        }
    }
}
