//! What is kept here: numbers, records, the store, and what is written out of it.

use std::fs;

use lantern_core::finding::Code;
use lantern_core::names::Name;
use lantern_core::next::Step;
use lantern_core::progress::Silent;
use lantern_core::retention::RetentionRule;
use lantern_core::version::BuildNumber;
use lantern_project::{Exports, PrepareOptions, Prepared, ProjectError, RecordsError, ReleaseError, TrialPlace};
use lantern_rehearsal::exports::GameVersion;

use crate::scene::{Scene, name};

fn number(number: u64) -> BuildNumber {
    BuildNumber::new(number).unwrap()
}

#[test]
fn numbers_only_rise_but_can_be_set() {
    let scene = Scene::new();
    assert_eq!(scene.session().workspace().next_number().unwrap().next, number(1));
    assert_eq!(scene.session().set_next_number(number(27)).unwrap().next, number(27));
    assert_eq!(scene.prepare(&PrepareOptions::default()).release.name.number, number(27));
    let error = scene.session().set_next_number(number(27)).unwrap_err();
    assert!(matches!(error, ProjectError::Records(RecordsError::NumberTaken { .. })), "{error:?}");
    assert_eq!(error.fixes(), ["numbers only rise; the lowest possible is 28"]);
    assert_eq!(scene.session().workspace().next_number().unwrap().next, number(28));
}

#[test]
fn where_a_game_stands_follows_from_its_exports() {
    let scene = Scene::new();
    let status = || scene.project().open().unwrap().status(&Name::full_edition()).unwrap();
    assert_eq!((status().exports, status().next), (Exports::Changed, Some(Step::Prepare)));
    let sealed = scene.prepare(&PrepareOptions::default());
    let push = Step::Push { storefront: name("brambleyard"), release: None };
    assert_eq!((status().exports, status().next), (Exports::Sealed, Some(push)));
    scene.release(&sealed);
    assert_eq!(status().next, None);
    assert_eq!(status().storefronts[0].live_on, [name("open-water")]);
    scene.export(GameVersion::New);
    assert_eq!((status().exports, status().next), (Exports::Changed, Some(Step::Prepare)));
    // What must not be taken in as it is has to be looked at first.
    fs::remove_file(scene.path("game/exports/linux/saltmarsh")).unwrap();
    assert_eq!((status().exports, status().next), (Exports::Wrong, Some(Step::Check)));
    let checked = scene.project().check(&Silent).unwrap();
    assert!(checked.findings.iter().any(|(_, finding)| finding.code == Code::StartMissing), "{:?}", checked.findings);
    fs::remove_dir_all(scene.path("game/exports")).unwrap();
    assert_eq!((status().exports, status().next), (Exports::NotHere, None));
}

#[test]
fn what_is_freed_is_only_a_record_until_it_is_prepared_again() {
    let scene = Scene::new();
    let old = scene.prepare(&PrepareOptions::default());
    scene.configure("1.4.1");
    scene.export(GameVersion::New);
    scene.prepare(&PrepareOptions::default());
    let rule = RetentionRule { last: 1, live_within_days: 0 };
    let mut session = scene.session();
    let plan = session.workspace().plan_keep(rule).unwrap();
    assert_eq!(plan.going().map(|release| release.id).collect::<Vec<_>>(), [old.release.id]);
    session.keep(&plan, &Silent).unwrap();
    assert!(session.workspace().plan_keep(rule).unwrap().going().next().is_none());
    let error = session.workspace().write_out(&old.release, None, false, &scene.path("out"), &Silent).unwrap_err();
    assert!(matches!(error, ProjectError::Release(ReleaseError::Freed(_))), "{error:?}");
    drop(session);
    assert!(scene.session().workspace().verify_store(&Silent).unwrap().wrong.is_empty());
}

/// More work makes fewer bytes of the very same files, and a release that is there already is not made again for it.
#[test]
fn a_release_can_be_sealed_small() {
    let (fast, small) = (Scene::new(), Scene::new());
    for scene in [&fast, &small] {
        let letters: String = (0..4_000_u64).map(|n| format!("letter {n}, street {}\n", n * n % 7_919)).collect();
        fs::write(scene.path("game/exports/linux/letters.txt"), letters).unwrap();
    }
    let config = fs::read_to_string(small.path("game/lantern.toml")).unwrap();
    fs::write(small.path("game/lantern.toml"), config + "[sealing]\ncompression = \"small\"\n").unwrap();
    let of = |scene: &Scene| scene.prepare(&PrepareOptions::default());
    let (of_fast, of_small) = (of(&fast), of(&small));
    let stored = |prepared: &Prepared| prepared.cost.unwrap().stored;
    assert!(stored(&of_small) < stored(&of_fast), "{} of {}", stored(&of_small), stored(&of_fast));
    assert_eq!(of_small.release.id, of_fast.release.id);
    let open = small.project().open().unwrap();
    open.write_out(&of_small.release, Some(&name("linux")), false, &small.path("linux"), &Silent).unwrap();
    let read = |path: &str| fs::read(small.path(path)).unwrap();
    assert!(read("linux/letters.txt") == read("game/exports/linux/letters.txt"));
    drop(open);
    let config = fs::read_to_string(fast.path("game/lantern.toml")).unwrap();
    fs::write(fast.path("game/lantern.toml"), config + "[sealing]\ncompression = \"small\"\n").unwrap();
    assert!(of(&fast).cost.is_none(), "nothing changed");
}

#[test]
fn a_release_is_written_out_as_it_was_sealed_and_over_nothing() {
    let scene = Scene::new();
    let sealed = scene.prepare(&PrepareOptions::default());
    let open = scene.project().open().unwrap();
    let write = |target: Option<&str>, aside: bool, to: &str| {
        let target = target.map(name);
        open.write_out(&sealed.release, target.as_ref(), aside, &scene.path(to), &Silent)
    };
    write(Some("linux"), false, "linux").unwrap();
    let same = |path: &str, export: &str| fs::read(scene.path(path)).unwrap() == fs::read(scene.path(export)).unwrap();
    assert!(same("linux/saltmarsh.dat", "game/exports/linux/saltmarsh.dat"));
    write(Some("windows"), true, "symbols").unwrap();
    assert!(same("symbols/saltmarsh.pdb", "game/exports/windows/saltmarsh.pdb"));
    write(Some("linux"), false, "linux.zip").unwrap();
    write(Some("linux"), false, "again.zip").unwrap();
    assert!(same("linux.zip", "again.zip"), "an archive is the same every time");
    let refused = |result: Result<_, ProjectError>| match result.map(|_: lantern_project::WrittenOut| ()) {
        Err(ProjectError::Release(error)) => error,
        other => panic!("{other:?}"),
    };
    assert!(matches!(refused(write(Some("linux"), false, "linux")), ReleaseError::OutputThere(_)));
    assert!(matches!(refused(write(Some("macos"), false, "macos")), ReleaseError::NoTarget { .. }));
    assert!(matches!(refused(write(Some("linux"), true, "aside")), ReleaseError::NothingAside(_)));
    assert!(matches!(refused(write(None, false, "all.rar")), ReleaseError::OutputForm(_)));
    assert!(!scene.path("macos").exists() && !scene.path("aside").exists() && !scene.path("all.rar").exists());
}

#[test]
fn what_is_tried_is_what_was_sealed_and_what_was_said_stays() {
    let scene = Scene::new();
    let sealed = scene.prepare(&PrepareOptions::default());
    scene.export_linux(GameVersion::New);
    let mut session = scene.session();
    let trial = session.lay_out_trial(sealed.release.clone(), Some(&name("linux")), &TrialPlace::Here, &Silent);
    if cfg!(not(all(target_os = "linux", target_arch = "x86_64"))) {
        assert!(matches!(trial, Err(ProjectError::Release(ReleaseError::NothingToTry { .. }))));
        return;
    }
    let trial = trial.unwrap();
    let now = fs::read(scene.path("game/exports/linux/saltmarsh.dat")).unwrap();
    assert_ne!(fs::read(trial.folder.join("saltmarsh.dat")).unwrap(), now, "the exports went on");
    let busy =
        session.lay_out_trial(sealed.release.clone(), Some(&name("linux")), &TrialPlace::Here, &Silent).unwrap_err();
    assert!(matches!(busy, ProjectError::Release(ReleaseError::BeingTried { .. })), "{busy:?}");
    session.record_trial(&trial, true).unwrap();
    session.record_trial(&trial, false).unwrap();
    let board = session.workspace().board(&Name::full_edition()).unwrap();
    assert!(!board.tried[&sealed.release.id][&name("linux")], "the last word counts");
    let status = session.workspace().status(&Name::full_edition()).unwrap();
    assert_eq!(status.tried_no, [name("linux")]);
}

#[test]
fn what_the_store_lost_comes_back_from_the_exports_or_the_storefront() {
    let scene = Scene::new();
    let sealed = scene.prepare(&PrepareOptions::default());
    scene.release(&sealed);
    let lose_packs = || {
        for entry in walk(&scene.path("game/.lantern/store/packs")) {
            fs::remove_file(entry).unwrap();
        }
    };
    for exports_are_there in [true, false] {
        lose_packs();
        let broken = scene.session().workspace().verify_store(&Silent).unwrap().broken;
        assert_eq!(broken, std::slice::from_ref(&sealed.release.name));
        if !exports_are_there {
            fs::remove_dir_all(scene.path("game/exports")).unwrap();
        }
        let done = scene.session().repair_store(None, &Silent).unwrap();
        assert_eq!((done.from_exports, done.received.is_empty()), (exports_are_there, exports_are_there));
        if exports_are_there {
            assert_eq!(
                (done.repaired.as_slice(), done.broken.as_slice()),
                (&[sealed.release.name.clone()][..], &[][..])
            );
        } else {
            // Symbols are at no storefront: they were never sent.
            assert_eq!(done.broken.len(), 1);
            assert!(done.broken[0].lost.iter().all(|lost| lost.contains("kept aside")), "{:?}", done.broken);
        }
    }
}

#[test]
fn preparing_again_brings_back_what_the_store_lost_and_says_so() {
    let scene = Scene::new();
    let sealed = scene.prepare(&PrepareOptions::default());
    let again = scene.prepare(&PrepareOptions::default());
    let codes = |prepared: &Prepared| prepared.findings.iter().map(|(_, finding)| finding.code).collect::<Vec<_>>();
    assert!(again.cost.is_none() && !codes(&again).contains(&Code::StoreDamaged));
    for pack in walk(&scene.path("game/.lantern/store/packs")) {
        fs::remove_file(pack).unwrap();
    }
    let again = scene.prepare(&PrepareOptions::default());
    assert_eq!((again.release.id, again.cost.is_none()), (sealed.release.id, true));
    assert!(codes(&again).contains(&Code::StoreDamaged), "{:?}", again.findings);
    assert_eq!(scene.session().workspace().verify_store(&Silent).unwrap().wrong, Vec::<String>::new());
    let again = scene.prepare(&PrepareOptions::default());
    assert!(!codes(&again).contains(&Code::StoreDamaged));
    // The next release says so, too: what the one before had is not stored any more.
    for pack in walk(&scene.path("game/.lantern/store/packs")) {
        fs::remove_file(pack).unwrap();
    }
    scene.configure("1.4.1");
    let next = scene.prepare(&PrepareOptions::default());
    assert!(next.cost.is_some() && codes(&next).contains(&Code::StoreDamaged), "{:?}", next.findings);
}

fn walk(folder: &std::path::Path) -> Vec<std::path::PathBuf> {
    let mut out = Vec::new();
    for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
        if entry.file_type().unwrap().is_dir() {
            out.extend(walk(&entry.path()));
        } else {
            out.push(entry.path());
        }
    }
    out
}

#[test]
fn a_copy_of_the_ledger_carries_everything_that_happened() {
    let scene = Scene::new();
    let sealed = scene.prepare(&PrepareOptions::default());
    scene.release(&sealed);
    let copy = scene.path("copy.jsonl");
    let (before, count) = {
        let open = scene.project().open().unwrap();
        open.export_ledger_to(&copy).unwrap();
        (open.boards().unwrap(), open.event_count().unwrap())
    };
    assert_eq!(scene.session().import_ledger(&copy).unwrap(), 0, "nothing is there twice");
    for file in ["ledger.db", "ledger.db-wal", "ledger.db-shm", "ledger.head", "ledger-copy.jsonl"] {
        let _ = fs::remove_file(scene.path("game/.lantern").join(file));
    }
    let lost = scene.project().open().map(|_| ()).unwrap_err();
    assert!(matches!(lost, ProjectError::Records(RecordsError::LedgerLost { .. })), "{lost:?}");
    fs::write(scene.path("other.jsonl"), "not a copy").unwrap();
    let error = scene.project().rebuild_ledger(Some(&scene.path("other.jsonl"))).map(|_| ()).unwrap_err();
    assert!(matches!(error, ProjectError::Records(RecordsError::NoLedgerCopy { .. })), "{error:?}");
    let (open, _) = scene.project().rebuild_ledger(Some(&copy)).unwrap();
    let board = |boards: &lantern_core::board::Boards| boards.of(&Name::full_edition());
    let (now, before) = (board(&open.boards().unwrap()), board(&before));
    assert_eq!(
        (&now.releases, &now.branches, now.pushed.len()),
        (&before.releases, &before.branches, before.pushed.len())
    );
    assert!(open.event_count().unwrap() > count, "that it was rebuilt is an event of its own");
}
