mod fetching;
mod seen;
mod updates;

use super::*;
use crate::fetch::FetchError;
use crate::seal::{SealedTree, Source, SourceEntry, SourceKind, seal};
use crate::store::Store;
use crate::testing::{copy_folder, noise};
use lantern_core::progress::Silent;
use proptest::prelude::*;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs;
use std::io::Read;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{LazyLock, Mutex};
use std::thread::ThreadId;

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

struct Scene {
    _temp: tempfile::TempDir,
    store: Store,
    folder: PathBuf,
}

fn scene() -> Scene {
    let temp = tempfile::tempdir().unwrap();
    Scene { store: Store::at(temp.path().join("store")), folder: temp.path().join("game"), _temp: temp }
}

fn wanted(recipes: &[RecipeId]) -> Wanted<'_> {
    Wanted { recipes, about: Value::Null, own_files: OwnFiles::Aside, private: None, updates: &[], read_all: false }
}

impl Scene {
    fn install(&self, build: &Build) -> Report {
        let sealed = build.seal(&self.store);
        self.try_install(sealed.recipe, &self.store).unwrap()
    }

    fn try_install(&self, recipe: RecipeId, fetch: &dyn Fetch) -> Result<Report, InstallError> {
        install(&self.folder, wanted(&[recipe]), fetch, &Silent)
    }

    fn write(&self, name: &str, bytes: &[u8]) {
        let path = self.folder.join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }

    fn read(&self, name: &str) -> Vec<u8> {
        fs::read(self.folder.join(name)).unwrap()
    }
}

/// What was moved aside, as pairs of names.
fn aside(report: &Report) -> Vec<(&str, &str)> {
    report.aside.iter().map(|aside| (aside.path.as_str(), aside.to.as_str())).collect()
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
fn what_is_the_players_is_moved_aside_and_named() {
    let scene = scene();
    scene.install(&Build::of(&[("a", b"1"), ("settings.ini", b"as shipped"), ("old.cfg", b"as shipped")]));
    scene.write("saves/slot1.sav", b"mine");
    scene.write("b/mine", b"mine too");
    scene.write("c", b"a file where a folder comes");
    scene.write("settings.ini", b"as I like it");
    scene.write("old.cfg", b"as I like it");
    fs::create_dir(scene.folder.join("empty")).unwrap();
    let build = Build::of(&[
        ("a", b"1"),
        ("saves/slot1.sav", b"the build's"),
        ("b", b"2"),
        ("c/d", b"3"),
        ("settings.ini", b"as shipped now"),
        ("empty", b"4"),
    ]);
    let report = scene.install(&build);
    assert_eq!(
        aside(&report),
        [
            ("b", "b.yours"),
            ("c", "c.yours"),
            ("empty", "empty.yours"),
            ("saves/slot1.sav", "saves/slot1.sav.yours"),
            ("settings.ini", "settings.ini.yours"),
        ]
    );
    assert_eq!(report.left, [TreePath::new("old.cfg").unwrap()]);
    assert_eq!((report.removed, report.written), (0, 5));
    for (name, bytes) in [
        ("saves/slot1.sav.yours", b"mine".as_slice()),
        ("b.yours/mine", b"mine too"),
        ("c.yours", b"a file where a folder comes"),
        ("settings.ini.yours", b"as I like it"),
        ("old.cfg", b"as I like it"),
    ] {
        assert_eq!(scene.read(name), bytes, "{name}");
    }
    assert!(verify(&scene.folder, &Silent).unwrap().wrong.is_empty());
    // Once more: a name that is taken gets a number.
    scene.write("b", b"mine again");
    assert_eq!(aside(&scene.install(&build)), [("b", "b.yours-2")]);
    // What equals the build's is nobody's but the build's.
    assert!(scene.install(&build).aside.is_empty());
}

#[test]
fn a_first_install_spares_what_is_there() {
    let scene = scene();
    scene.write("d.bin", b"my own");
    scene.write("same.txt", b"the same");
    let report = scene.install(&Build::of(&[("d.bin", b"the build's"), ("same.txt", b"the same")]));
    assert_eq!((aside(&report), report.written), (vec![("d.bin", "d.bin.yours")], 1));
    assert_eq!(scene.read("d.bin.yours"), b"my own");
}

#[test]
fn it_can_stop_instead() {
    let scene = scene();
    scene.install(&Build::of(&[("a", b"1")]));
    scene.write("b/mine", b"x");
    let before = contents(&scene.folder);
    let sealed = Build::of(&[("a", b"2"), ("b", b"2")]).seal(&scene.store);
    let wanted = Wanted { own_files: OwnFiles::Stop, ..wanted(std::slice::from_ref(&sealed.recipe)) };
    let error = install(&scene.folder, wanted, &scene.store, &Silent).unwrap_err();
    assert!(matches!(&error, InstallError::InTheWay { paths, .. } if paths.len() == 1), "{error:?}");
    assert!(error.to_string().starts_with("b in "), "{error}");
    assert_eq!(contents(&scene.folder), before, "nothing changed");
}

#[test]
fn what_the_player_changed_is_not_removed() {
    let scene = scene();
    scene.install(&Build::of(&[("a", b"1"), ("mods/list.txt", b"none"), ("mods/help.txt", b"help")]));
    scene.write("mods/list.txt", b"a mod");
    // The changed file is in the way of a file that has the name of its folder.
    let report = scene.install(&Build::of(&[("a", b"1"), ("mods", b"a file now")]));
    assert_eq!(aside(&report), [("mods", "mods.yours")]);
    assert_eq!((scene.read("mods.yours/list.txt"), scene.read("mods")), (b"a mod".to_vec(), b"a file now".to_vec()));
    assert!(!scene.folder.join("mods.yours/help.txt").exists(), "what a build brought and nobody changed goes");
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
    let report = scene.install(&Build::of(&[("a/one", b"2")]));
    assert_eq!((aside(&report), scene.read("a/one")), (vec![("a", "a.yours")], b"2".to_vec()));
    assert_eq!(fs::read_link(scene.folder.join("a.yours")).unwrap(), outside);
    fs::remove_dir_all(scene.folder.join("a")).unwrap();
    fs::rename(scene.folder.join("a.yours"), scene.folder.join("a")).unwrap();
    scene.install(&Build::of(&[("b", b"2")]));
    assert_eq!(fs::read(outside.join("one")).unwrap(), b"precious");
}

/// Sets something up in a state folder.
#[cfg(unix)]
type Trap<'a> = &'a dyn Fn(&Path);

#[cfg(unix)]
#[test]
fn a_strange_folder_harms_nothing() {
    use std::os::unix::fs::symlink;
    let scene = scene();
    let sealed = Build::of(&[("a", &noise(3, 100_000))]).seal(&scene.store);
    let outside = scene.folder.with_file_name("outside");
    fs::create_dir(&outside).unwrap();
    let precious = outside.join("precious.txt");
    let stage = Folder::stage_name(&[sealed.recipe]);
    // Everything that is written in the state leads to someone's file or folder.
    let traps: [(&str, Trap<'_>); 6] = [
        ("lock", &|state| symlink("../../outside/precious.txt", state.join("lock")).unwrap()),
        ("recipes", &|state| symlink("../../outside", state.join("recipes")).unwrap()),
        ("segments", &|state| symlink("../../outside", state.join("segments")).unwrap()),
        ("stage", &|state| symlink("../../outside", state.join(&stage)).unwrap()),
        ("staged", &|state| {
            fs::create_dir(state.join(&stage)).unwrap();
            symlink("../../../outside/precious.txt", state.join(&stage).join("0")).unwrap();
        }),
        ("staged twin", &|state| {
            fs::create_dir(state.join(&stage)).unwrap();
            fs::hard_link(&precious, state.join(&stage).join("0")).unwrap();
        }),
    ];
    for (name, trap) in traps {
        fs::write(&precious, b"precious").unwrap();
        let _ = fs::remove_dir_all(&scene.folder);
        fs::create_dir_all(scene.folder.join(STATE_FOLDER)).unwrap();
        trap(&scene.folder.join(STATE_FOLDER));
        let _ = verify(&scene.folder, &Silent);
        assert_eq!(fs::read(&precious).unwrap(), b"precious", "{name}: verify");
        let _ = scene.try_install(sealed.recipe, &scene.store);
        let _ = give_up(&scene.folder);
        assert_eq!(fs::read(&precious).unwrap(), b"precious", "{name}: install");
        assert_eq!(fs::read_dir(&outside).unwrap().count(), 1, "{name}: something was written outside");
    }
    // A link in the place of the state itself.
    fs::remove_dir_all(&scene.folder).unwrap();
    fs::create_dir(&scene.folder).unwrap();
    symlink("../outside", scene.folder.join(STATE_FOLDER)).unwrap();
    assert!(matches!(verify(&scene.folder, &Silent), Err(InstallError::NotInstalled(_))));
    assert!(matches!(scene.try_install(sealed.recipe, &scene.store), Err(InstallError::ForeignState(_))));
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 1);
}

#[test]
fn a_strange_journal_is_refused_and_verify_carries_none_out() {
    let scene = scene();
    let build = Build::of(&[("a", b"1")]);
    scene.install(&build);
    let precious = scene.folder.with_file_name("precious.txt");
    fs::write(&precious, b"precious").unwrap();
    let installed = Folder::open(&scene.folder).unwrap().installed().unwrap().unwrap();
    let good = serde_json::json!({
        "format": "lantern.switch/2", "direction": "forward", "phase": "clear", "stage": "stage-1", "before": "before-1",
        "respell": [], "take": [[0, "a"]], "gone": [], "aside": [], "folders": [], "made": [], "place": [], "links": [],
        "installed": installed, "previous": null,
    });
    let write = |journal: &Value| {
        fs::write(scene.folder.join(STATE_FOLDER).join("journal.json"), serde_json::to_vec(journal).unwrap()).unwrap();
    };
    let strange = [
        ("/stage", serde_json::json!("../..")),
        ("/stage", serde_json::json!("stage-1/../../..")),
        ("/before", serde_json::json!("elsewhere")),
        ("/take", serde_json::json!([[0, "../precious.txt"]])),
        ("/take", serde_json::json!([[0, ".lantern-install/lock"]])),
        ("/aside", serde_json::json!([{ "path": "a", "to": "b/a" }])),
        ("/aside", serde_json::json!([{ "path": "a", "to": "../a" }])),
        ("/respell", serde_json::json!([[0, "a", "b/A"]])),
        ("/links", serde_json::json!([{ "path": "x", "target": "../precious.txt", "is_folder": false }])),
        (
            "/links",
            serde_json::json!([
                { "path": "p/up", "target": "..", "is_folder": true },
                { "path": "x", "target": "p/up/../precious.txt", "is_folder": false },
            ]),
        ),
        ("/format", serde_json::json!("lantern.switch/3")),
    ];
    for (at, value) in strange {
        let mut journal = good.clone();
        *journal.pointer_mut(at).unwrap() = value.clone();
        write(&journal);
        for refused in [finish(&scene.folder).err(), give_up(&scene.folder).err(), verify(&scene.folder, &Silent).err()]
        {
            assert!(matches!(refused, Some(InstallError::State { .. })), "{at} {value}: {refused:?}");
        }
        assert_eq!(fs::read(&precious).unwrap(), b"precious");
        // An install does without it.
        scene.install(&build);
        assert_eq!(contents(&scene.folder), build.0);
    }
    // One of ours is left alone by those who only read.
    write(&good);
    assert!(matches!(verify(&scene.folder, &Silent), Err(InstallError::Unfinished(_))));
    assert_eq!(read_folder(&scene.folder).unwrap().unwrap().begun, Some(installed));
    assert_eq!(scene.read("a"), b"1");
}

#[test]
fn a_folder_that_lost_its_records_gets_them_again() {
    let scene = scene();
    let (first, second) = (Build::of(&[("a", b"1"), ("b", b"1")]), Build::of(&[("a", b"2")]));
    scene.install(&first);
    let state = scene.folder.join(STATE_FOLDER);
    for lost in ["segments", "recipes"] {
        fs::remove_dir_all(state.join(lost)).unwrap();
        assert!(matches!(verify(&scene.folder, &Silent), Err(InstallError::Lost(_))), "{lost}");
        assert_eq!(scene.install(&first).written, 0);
        assert!(verify(&scene.folder, &Silent).unwrap().wrong.is_empty(), "{lost}");
    }
    let segment = fs::read_dir(state.join("segments")).unwrap().next().unwrap().unwrap().path();
    fs::write(segment, b"damaged").unwrap();
    let report = scene.install(&second);
    assert_eq!((report.removed, report.is_past_unknown), (1, false));
    assert_eq!(contents(&scene.folder), second.0);
    // Without a word on what is installed, nothing of it is removed; what fits stays where it is.
    scene.install(&first);
    fs::write(state.join("installed.json"), b"{").unwrap();
    let report = scene.install(&second);
    assert!(report.is_past_unknown && aside(&report) == [("a", "a.yours")], "{report:?}");
    assert_eq!(scene.read("b"), b"1");
}

#[test]
fn what_is_installed_alone_is_kept_in_mind() {
    let scene = scene();
    scene.install(&Build::of(&[("a", &noise(1, 300_000))]));
    scene.install(&Build::of(&[("a", &noise(2, 300_000))]));
    let count = |folder: &str| fs::read_dir(scene.folder.join(STATE_FOLDER).join(folder)).unwrap().count();
    assert_eq!((count("recipes"), count("segments")), (1, 1));
}

#[test]
fn what_is_private_is_kept_from_others() {
    let scene = scene();
    let sealed = Build::of(&[("a", b"1")]).seal(&scene.store);
    let private = serde_json::json!({ "invitation": "not to be seen" });
    let wanted = Wanted { private: Some(private.clone()), ..wanted(std::slice::from_ref(&sealed.recipe)) };
    install(&scene.folder, wanted, &scene.store, &Silent).unwrap();
    scene.install(&Build::of(&[("a", b"2")]));
    assert_eq!(read_folder(&scene.folder).unwrap().unwrap().private, Some(private));
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let mode = fs::metadata(scene.folder.join(STATE_FOLDER).join("private.json")).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
    }
}

#[test]
fn room_is_asked_for_before_anything_is_written() {
    let scene = scene();
    let sealed = Build::of(&[("a", b"1")]).seal(&scene.store);
    let folder = Folder::open_or_make(&scene.folder).unwrap();
    let mut new = gather::recipes(&folder, &[sealed.recipe], &scene.store).unwrap();
    let Node::File { size, .. } = &mut new[0].node else { unreachable!() };
    *size = u64::MAX / 2;
    let plan = plan::Plan::make(&folder, &[], &new, OwnFiles::Aside, &Seen::default(), &Silent).unwrap();
    let error =
        gather::stage(&folder, &plan, (&[sealed.recipe], &[]), (&[], &[]), &[], &scene.store, &Silent).unwrap_err();
    assert!(matches!(error, InstallError::NoRoom(_)), "{error:?}");
}

#[test]
fn names_that_this_system_refuses_stop_before_anything_is_written() {
    let scene = scene();
    let build = Build::of(&[("game", b"x"), ("con", b"y")]);
    let sealed = build.seal(&scene.store);
    let (_, entries) = scene.store.recipe(sealed.recipe).unwrap();
    let refused = plan::refuse_names(&scene.folder, &entries, true);
    assert!(matches!(refused, Err(InstallError::Name { .. })), "{refused:?}");
    assert!(plan::refuse_names(&scene.folder, &entries, false).is_ok());
}

/// Counts down to the point at which a thread's work is cut, as by a kill.
static CUT_AT: LazyLock<Mutex<HashMap<ThreadId, u64>>> = LazyLock::new(Mutex::default);

struct Cut;

/// Does some work and cuts it at the n-th point; says whether it was cut.
fn cut_at(point: u64, work: impl FnOnce() + std::panic::UnwindSafe) -> bool {
    let this = std::thread::current().id();
    lantern_core::failpoint::listen(|_| {
        let is_cut = match CUT_AT.lock().unwrap().get_mut(&std::thread::current().id()) {
            None => false,
            Some(0) => true,
            Some(left) => {
                *left -= 1;
                false
            }
        };
        if is_cut { std::panic::resume_unwind(Box::new(Cut)) } else { Ok(()) }
    });
    CUT_AT.lock().unwrap().insert(this, point);
    let done = std::panic::catch_unwind(work);
    CUT_AT.lock().unwrap().remove(&this);
    done.is_err_and(|cut| cut.is::<Cut>() || std::panic::resume_unwind(cut))
}

#[test]
fn a_switch_that_was_cut_is_finished_or_given_up_offline() {
    let scene = scene();
    scene.install(&Build::of(&[("a", b"1"), ("b/c", b"1"), ("d", b"1"), ("mine/x", b"1")]));
    scene.write("mine/y", b"mine");
    scene.write("e", b"mine");
    let before = contents(&scene.folder);
    let mut second = Build::of(&[("a", b"2"), ("b", b"2"), ("e", b"2"), ("mine", b"2")]);
    if cfg!(unix) {
        second.0.insert("link".into(), Item::Link("a".into()));
    }
    second.0.insert("empty".into(), Item::Folder);
    let sealed = second.seal(&scene.store);
    let mut after = second.0.clone();
    after.insert("e.yours".into(), Item::File(b"mine".to_vec()));
    after.insert("mine.yours/y".into(), Item::File(b"mine".to_vec()));
    let (mut begun, mut points) = (0, 0);
    for point in 0.. {
        let (copy, other) = (scene.folder.with_file_name("copy"), scene.folder.with_file_name("other"));
        for folder in [&copy, &other] {
            let _ = fs::remove_dir_all(folder);
        }
        copy_folder(&scene.folder, &copy);
        let was_cut = cut_at(point, || {
            let _ = install(&copy, wanted(&[sealed.recipe]), &scene.store, &Silent);
        });
        if !was_cut {
            points = point;
            break;
        }
        copy_folder(&copy, &other);
        // A fresh start finishes what was begun and nothing else, without a storefront.
        let is_begun = read_folder(&copy).unwrap().is_some_and(|looked| looked.begun.is_some());
        assert_eq!(finish(&copy).unwrap(), is_begun, "cut at {point}");
        let is_done = contents(&copy) == after;
        assert!(is_done || (!is_begun && contents(&copy) == before), "cut at {point}: {:?}", contents(&copy));
        begun += u64::from(is_begun);
        // Or all of it is as it was.
        let given_up = give_up(&other).unwrap();
        if is_begun || !is_done {
            assert_eq!(contents(&other), before, "given up after a cut at {point}");
            assert_eq!(given_up.is_some_and(|given_up| given_up.was_begun), is_begun);
            assert!(verify(&other, &Silent).unwrap().wrong.iter().all(|w| w.path.as_str() == "mine/x"));
        }
    }
    assert!(begun > 20 && points > begun, "{begun} of {points} points lie in the switch");
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
    assert_eq!((first.id, first.recipe), (second.id, second.recipe));
    assert!(second.new_stored < first.new_stored);
    assert!(first.new_stored < (2 << 20) + 300_000 + 20_000, "the copy is stored once");
    let again = build.seal(&one.store);
    assert_eq!((again.new_chunks, again.new_stored, again.recipe), (0, 0, first.recipe));
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
    scene.try_install(sealed.recipe, &scene.store).unwrap();
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
        // Windows makes links for few of its users, and so not on every computer that runs this.
        1 => Just(if cfg!(unix) { Item::Link("x".into()) } else { Item::Folder }),
    ]
}

fn any_build() -> impl Strategy<Value = Build> {
    prop::collection::btree_map("[ab]{1,2}(/[ab]{1,2}){0,2}", any_item(), 1..8).prop_map(|mut items| {
        let names: Vec<String> = items.keys().cloned().collect();
        items.retain(|name, _| !names.iter().any(|other| name.starts_with(&format!("{other}/"))));
        Build(items)
    })
}

/// What a player does to an installed folder: writes files, removes files, makes folders.
fn any_actions() -> impl Strategy<Value = Vec<(String, Option<Vec<u8>>)>> {
    let bytes = prop::option::of(prop::collection::vec(any::<u8>(), 0..20));
    prop::collection::vec(("[ab]{1,2}(/[ab]{1,2}){0,2}", bytes), 0..5)
}

fn play(folder: &Path, actions: &[(String, Option<Vec<u8>>)]) {
    for (name, bytes) in actions {
        let path = folder.join(name);
        // Where the game's own files do not let it, the player does not do it.
        let _ = match bytes {
            Some(bytes) => fs::create_dir_all(path.parent().unwrap()).and_then(|()| fs::write(&path, bytes)),
            None => fs::remove_file(&path),
        };
    }
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

    #[test]
    fn nothing_of_a_players_is_lost_by_an_update_that_is_cut_or_given_up(
        old in any_build(), new in any_build(), actions in any_actions(), cut in 0_u64..90, gives_up: bool
    ) {
        let scene = scene();
        scene.install(&old);
        play(&scene.folder, &actions);
        let before = contents(&scene.folder);
        let sealed = new.seal(&scene.store);
        let was_cut = cut_at(cut, || {
            let _ = install(&scene.folder, wanted(&[sealed.recipe]), &scene.store, &Silent);
        });
        if was_cut && gives_up && read_folder(&scene.folder).unwrap().is_some_and(|looked| looked.begun.is_some()) {
            give_up(&scene.folder).unwrap();
            prop_assert_eq!(contents(&scene.folder), before);
            return Ok(());
        }
        scene.install(&new);
        let after = contents(&scene.folder);
        for (name, item) in &new.0 {
            // Of an empty folder only that it is there: the player may have put something in.
            let found = after.get(name);
            prop_assert!(found == Some(item) || (*item == Item::Folder && scene.folder.join(name).is_dir()), "{name}");
        }
        prop_assert!(verify(&scene.folder, &Silent).unwrap().wrong.is_empty());
        // Every content that no build brought there is still somewhere.
        let brought = |name: &String, item: &Item| old.0.get(name) == Some(item) || new.0.get(name) == Some(item);
        for (name, item) in before.iter().filter(|(name, item)| !brought(name, item)) {
            if matches!(item, Item::File(_) | Item::Link(_)) {
                prop_assert!(after.values().any(|kept| kept == item), "{name} is lost: {after:?}");
            }
        }
    }
}
