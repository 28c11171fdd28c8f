//! What is not read again, and what happens where that was too much trust.

use super::*;
use crate::durable;
use std::time::{Duration, SystemTime};

/// Two builds that share all but one file, which is made of the first one's.
fn builds() -> [Build; 3] {
    let large = noise(1, 600_000);
    let at = |byte: usize| {
        let mut edited = large.clone();
        edited[byte] ^= 1;
        Build::of(&[("main.pack", &edited), ("tide.ogg", &noise(2, 50_000)), ("wren.txt", b"Dear Wren")])
    };
    [at(10), at(300_000), at(599_000)]
}

impl Scene {
    /// Lets a file be an hour old.
    fn age(&self, name: &str) {
        let file = fs::OpenOptions::new().write(true).open(self.folder.join(name)).unwrap();
        file.set_modified(SystemTime::now() - Duration::from_secs(3600)).unwrap();
    }

    /// Installs the first two of the builds, the second where all files are old: what it finds is noted.
    fn with_two_installed(builds: &[Build; 3]) -> Self {
        let scene = scene();
        scene.install(&builds[0]);
        builds[0].0.keys().for_each(|name| scene.age(name));
        assert_eq!(scene.install(&builds[1]).unread, 0, "what was just written may still be being written");
        scene
    }

    /// Lets what is noted of a file be what the file system says of it now.
    fn note(&self, name: &str) {
        let path = self.folder.join(STATE_FOLDER).join("seen.json");
        let mut seen: Value = serde_json::from_slice(&durable::read_kept(&path, 1 << 20).unwrap()).unwrap();
        let stat = lantern_core::stat_data::StatData::of(&fs::metadata(self.folder.join(name)).unwrap());
        seen["files"][name] = serde_json::to_value(stat).unwrap();
        durable::write_kept(&path, &serde_json::to_vec(&seen).unwrap()).unwrap();
    }
}

#[test]
fn what_looks_as_it_did_is_not_read_again() {
    let builds = builds();
    let scene = Scene::with_two_installed(&builds);
    let report = scene.install(&builds[2]);
    assert_eq!((report.unread, report.written), (2, 1));
    assert_eq!(contents(&scene.folder), builds[2].0);
}

#[test]
fn whoever_wants_it_has_everything_read() {
    let builds = builds();
    let scene = Scene::with_two_installed(&builds);
    // The same build once more is a repair.
    assert_eq!(scene.install(&builds[1]).unread, 0);
    let sealed = builds[2].seal(&scene.store);
    let wanted = Wanted { read_all: true, ..wanted(std::slice::from_ref(&sealed.recipe)) };
    assert_eq!(install(&scene.folder, wanted, &scene.store, &Silent).unwrap().unread, 0);
}

#[test]
fn what_was_touched_is_read() {
    let builds = builds();
    let scene = Scene::with_two_installed(&builds);
    // A player's own text, with the size and time of the one that was brought.
    scene.write("wren.txt", b"Dear Ouse");
    scene.age("wren.txt");
    let report = scene.install(&builds[2]);
    assert_eq!((report.unread, aside(&report)), (1, vec![("wren.txt", "wren.txt.yours")]));
    assert_eq!(scene.read("wren.txt.yours"), b"Dear Ouse");
}

#[test]
fn where_a_disk_lost_something_everything_is_read_after_all() {
    let builds = builds();
    let scene = Scene::with_two_installed(&builds);
    let mut rotten = scene.read("main.pack");
    rotten[100_000] ^= 1;
    scene.write("main.pack", &rotten);
    scene.note("main.pack");
    let report = scene.install(&builds[2]);
    assert_eq!((report.unread, report.written), (0, 1));
    let Item::File(right) = &builds[2].0["main.pack"] else { unreachable!() };
    assert!(scene.read("main.pack") == *right);
    assert_eq!(aside(&report), [("main.pack", "main.pack.yours")], "nobody knows whose the change was");
}

#[test]
fn notes_of_another_build_or_with_a_lost_bit_are_none() {
    let builds = builds();
    let scene = Scene::with_two_installed(&builds);
    let path = scene.folder.join(STATE_FOLDER).join("seen.json");
    let good = fs::read(&path).unwrap();
    for at in [3, 80, good.len() / 2] {
        let mut bad = good.clone();
        bad[at] ^= 1;
        fs::write(&path, bad).unwrap();
        let folder = Folder::open_to_read(&scene.folder).unwrap();
        let recipes = folder.installed().unwrap().unwrap().recipes;
        let wren = TreePath::new("wren.txt").unwrap();
        let metadata = fs::metadata(scene.folder.join("wren.txt")).unwrap();
        assert!(!Seen::load(&folder, &recipes).is_unchanged(&wren, &metadata), "{at}");
        fs::write(&path, &good).unwrap();
        assert!(Seen::load(&folder, &recipes).is_unchanged(&wren, &metadata));
        assert!(!Seen::load(&folder, &[]).is_unchanged(&wren, &metadata));
    }
}
