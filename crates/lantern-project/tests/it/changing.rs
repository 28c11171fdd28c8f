//! Stamping and signing between the exports and what is sealed of them, all the way to a player's folder.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU8, Ordering};
use std::sync::{Arc, Mutex};

use lantern_core::digest::{Digest, InputDigest};
use lantern_core::event::{EventBody, NumberReserved};
use lantern_core::finding::Code;
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::progress::{Progress, Silent};
use lantern_core::release::{ChangedBy, TargetRecord};
use lantern_core::version::{BuildNumber, ReleaseName};
use lantern_exports::changing::{Changing, ChangingError, KnownFiles, Replacement};
use lantern_exports::intake::Intake;
use lantern_ledger::{Ledger, Log, Origin};
use lantern_project::{Class, PrepareOptions, Prepared, ProjectError};
use lantern_rehearsal::exports::GameVersion;
use lantern_store::seal::SealError;

use crate::scene::Scene;

const EXE: &str = "Saltmarsh Post.exe";

/// Writes another last byte into the program for Windows each time, and a file beside it.
#[derive(Debug, Default)]
struct LastByte {
    signed: AtomicU8,
    settings: &'static str,
    /// Whether it refuses.
    refuses: bool,
    /// A file of the export that is gone once it has signed.
    takes_away: Option<PathBuf>,
    /// A file of the export that the engine writes again while it signs.
    writes_again: Option<PathBuf>,
    /// Whether the file beside it says which release it is.
    stamps: bool,
    /// What someone else does while it signs for the first time.
    meanwhile: Mutex<Option<Meanwhile>>,
}

struct Meanwhile(Box<dyn FnOnce() + Send>);

impl std::fmt::Debug for Meanwhile {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Meanwhile")
    }
}

impl Changing for LastByte {
    fn by(&self, target: &Name) -> Option<ChangedBy> {
        let by = || ChangedBy {
            signer: Some(Digest::of(b"certificate of wren")),
            settings: Digest::of(self.settings.as_bytes()),
        };
        (target.as_str() == "windows").then(by)
    }

    fn is_stamped(&self, target: &Name) -> bool {
        self.stamps && target.as_str() == "windows"
    }

    fn change(
        &self,
        intake: &Intake<'_>,
        release: &ReleaseName,
        _: &KnownFiles<'_>,
        work: &Path,
        _: &dyn Progress,
    ) -> Result<Vec<Replacement>, ChangingError> {
        if self.refuses {
            let (target, why) = (intake.name.clone(), "the key is not there".to_owned());
            return Err(ChangingError::Refused { target, what: "signed", why, fix: "plug it in".to_owned() });
        }
        if let Some(Meanwhile(happens)) = self.meanwhile.lock().unwrap().take() {
            happens();
        }
        let export = intake.export();
        let mut bytes = Vec::new();
        export.open(export.place_of(EXE).unwrap()).unwrap().read_to_end(&mut bytes).unwrap();
        *bytes.last_mut().unwrap() = 0x80 + self.signed.fetch_add(1, Ordering::Relaxed);
        if let Some(path) = self.takes_away.as_ref().filter(|path| path.exists()) {
            fs::remove_file(path).unwrap();
        }
        if let Some(path) = &self.writes_again {
            fs::write(path, b"MZ, another build").unwrap();
        }
        let list = if self.stamps { format!("{release}\n") } else { "wren\n".to_owned() };
        let written = [("exe", EXE, bytes), ("list", "signed.txt", list.into_bytes())];
        Ok(written
            .map(|(file, path, bytes)| {
                let at = work.join(file);
                fs::write(&at, bytes).unwrap();
                Replacement { path: TreePath::new(path).unwrap(), at }
            })
            .to_vec())
    }
}

fn with(signer: &Arc<LastByte>) -> PrepareOptions {
    PrepareOptions { changing: Some(signer.clone()), ..PrepareOptions::default() }
}

fn target<'a>(prepared: &'a Prepared, name: &str) -> &'a TargetRecord {
    prepared.record.targets.iter().find(|target| target.target.as_str() == name).unwrap()
}

fn signed_times(signer: &LastByte) -> u8 {
    signer.signed.load(Ordering::Relaxed)
}

#[test]
fn signed_bytes_reach_the_player_and_nothing_changed_stays_so() {
    let scene = Scene::new();
    let signer = Arc::new(LastByte::default());
    let exported = fs::read(scene.path("game/exports/windows").join(EXE)).unwrap();

    let prepared = scene.prepare(&with(&signer));
    let windows = target(&prepared, "windows");
    let signed = windows.changed.as_ref().unwrap();
    let replaced: Vec<&str> = signed.replaced.keys().map(TreePath::as_str).collect();
    assert_eq!(replaced, [EXE, "signed.txt"]);
    assert_eq!(signed.replaced[&TreePath::new(EXE).unwrap()].unwrap().digest, Digest::of(&exported));
    assert_eq!(signed.replaced[&TreePath::new("signed.txt").unwrap()], None);
    assert!(target(&prepared, "linux").changed.is_none());
    assert!(!scene.path("game/.lantern/cache/changed").exists(), "what is sealed lies there no longer");

    scene.release(&prepared);
    scene.install("windows", "player");
    let mut wanted = exported.clone();
    *wanted.last_mut().unwrap() = 0x80;
    assert_eq!(fs::read(scene.path("player").join(EXE)).unwrap(), wanted, "one byte differs");
    assert_eq!(fs::read(scene.path("player/signed.txt")).unwrap(), b"wren\n");
    assert_eq!(fs::read(scene.path("game/exports/windows").join(EXE)).unwrap(), exported, "the export is as it was");

    // The same exports: nothing is made, and nothing is signed.
    for read_all in [false, true] {
        let again = scene.prepare(&PrepareOptions { read_all, ..with(&signer) });
        assert_eq!((again.release.id, again.cost), (prepared.release.id, None), "read all: {read_all}");
    }
    fs::remove_file(scene.path("game/.lantern/cache/digests")).unwrap();
    assert_eq!(scene.prepare(&with(&signer)).cost, None, "without what was remembered");
    assert_eq!(signed_times(&signer), 1);

    // A check compares the exports with what they were, and not with what was signed.
    let checked = scene.project().check(&Silent).unwrap();
    let codes: Vec<Code> = checked.findings.iter().map(|(_, finding)| finding.code).collect();
    for code in [Code::VersionReused, Code::UnchangedTarget, Code::SizeJump, Code::NumberNotRaised] {
        assert!(!codes.contains(&code), "{codes:?}");
    }
}

#[test]
fn what_is_as_it_was_is_not_signed_again() {
    let scene = Scene::new();
    let signer = Arc::new(LastByte::default());
    let first = scene.prepare(&with(&signer));
    scene.configure("1.4.1");
    scene.export_linux(GameVersion::New);
    let second = scene.prepare(&with(&signer));
    assert_ne!(second.release.id, first.release.id);
    assert_eq!(target(&second, "windows"), target(&first, "windows"), "players get nothing new");
    assert_eq!(second.unchanged_since.get(&"windows".parse().unwrap()), Some(&first.release.name));
    assert_eq!(signed_times(&signer), 1);

    // Another setting signs again, under a number of its own.
    let other = Arc::new(LastByte { settings: "with a time stamp", ..LastByte::default() });
    let third = scene.prepare(&with(&other));
    assert!(third.release.name.number > second.release.name.number);
    assert_ne!(target(&third, "windows").changed, target(&second, "windows").changed);
    assert_eq!(signed_times(&other), 1);
}

/// A scene whose first sealing breaks after the signing, and the signer of it.
fn broken_after_signing() -> (Scene, Arc<LastByte>) {
    let scene = Scene::new();
    let away = scene.path("game/exports/windows/letters/en.txt");
    let signer = Arc::new(LastByte { takes_away: Some(away.clone()), ..LastByte::default() });
    let letter = fs::read(&away).unwrap();
    let failed = scene.session().prepare(&Name::full_edition(), &with(&signer), &Silent);
    assert!(matches!(failed, Err(ProjectError::Seal(_))), "{failed:?}");
    fs::write(&away, letter).unwrap();
    assert_eq!(signed_times(&signer), 1);
    (scene, Arc::new(LastByte { signed: AtomicU8::new(1), ..LastByte::default() }))
}

#[test]
fn what_was_signed_before_a_break_is_used() {
    let (scene, signer) = broken_after_signing();
    let prepared = scene.prepare(&with(&signer));
    assert_eq!(signed_times(&signer), 1, "it lay ready");
    assert!(target(&prepared, "windows").signer().is_some());
}

#[test]
fn signed_files_that_were_changed_are_signed_again() {
    let (scene, signer) = broken_after_signing();
    let folder = fs::read_dir(scene.path("game/.lantern/cache/changed")).unwrap().next().unwrap().unwrap().path();
    fs::write(folder.join("exe"), b"something else").unwrap();
    let prepared = scene.prepare(&with(&signer));
    assert_eq!(signed_times(&signer), 2);
    scene.release(&prepared);
    scene.install("windows", "player");
    let installed = fs::read(scene.path("player").join(EXE)).unwrap();
    assert_eq!(installed.last(), Some(&0x81));
}

#[test]
fn a_signer_that_refuses_makes_nothing() {
    let scene = Scene::new();
    let signer = Arc::new(LastByte { refuses: true, ..LastByte::default() });
    let error = scene.session().prepare(&Name::full_edition(), &with(&signer), &Silent).unwrap_err();
    assert!(matches!(error, ProjectError::Changing(_)), "{error:?}");
    assert_eq!(error.to_string(), "windows was not signed: the key is not there");
    assert_eq!((error.class(), error.fixes()), (Class::Refused, vec!["plug it in".to_owned()]));
    let workspace = scene.project().open().unwrap();
    assert!(workspace.board(&Name::full_edition()).unwrap().releases.is_empty());
    // Without it there is a release as ever, with the first number.
    let prepared = scene.prepare(&PrepareOptions::default());
    assert!(target(&prepared, "windows").changed.is_none());
}

#[test]
fn a_ledger_that_was_lost_knows_what_was_signed() {
    let scene = Scene::new();
    let signer = Arc::new(LastByte::default());
    let prepared = scene.prepare(&with(&signer));
    for name in ["ledger.db", "ledger.db-wal", "ledger.db-shm", "ledger-copy.jsonl"] {
        let _ = fs::remove_file(scene.path("game/.lantern").join(name));
    }
    scene.project().rebuild_ledger(None).unwrap();
    let again = scene.prepare(&with(&signer));
    assert_eq!((again.release.id, again.cost), (prepared.release.id, None));
    assert_eq!(signed_times(&signer), 1);
}

#[test]
fn an_export_that_changes_while_it_is_signed_is_noticed() {
    let scene = Scene::new();
    let exe = scene.path("game/exports/windows").join(EXE);
    let signer = Arc::new(LastByte { writes_again: Some(exe), ..LastByte::default() });
    let failed = scene.session().prepare(&Name::full_edition(), &with(&signer), &Silent);
    assert!(matches!(failed, Err(ProjectError::Seal(SealError::Changed { .. }))), "{failed:?}");
    assert!(scene.project().open().unwrap().board(&Name::full_edition()).unwrap().releases.is_empty());
}

/// What the stamped file of a release holds, as a player gets it.
fn stamp_in(scene: &Scene, prepared: &Prepared, player: &str) -> String {
    scene.release(prepared);
    scene.install("windows", player);
    fs::read_to_string(scene.path(player).join("signed.txt")).unwrap()
}

#[test]
fn a_stamp_is_made_for_each_release_and_not_twice_for_one() {
    let scene = Scene::new();
    let signer = Arc::new(LastByte { stamps: true, ..LastByte::default() });
    let first = scene.prepare(&with(&signer));
    assert_eq!(stamp_in(&scene, &first, "player"), format!("{}\n", first.release.name));
    assert_eq!(scene.prepare(&with(&signer)).cost, None, "nothing changed");
    assert_eq!(signed_times(&signer), 1);
    // Another target has changed: the release gets a number of its own, and what says so is made again.
    scene.configure("1.4.1");
    scene.export_linux(GameVersion::New);
    let second = scene.prepare(&with(&signer));
    assert_eq!(stamp_in(&scene, &second, "second"), format!("{}\n", second.release.name));
    assert_eq!(signed_times(&signer), 2);
}

#[test]
fn a_number_that_someone_else_took_meanwhile_is_not_stamped() {
    let scene = Scene::new();
    let first = scene.prepare(&PrepareOptions::default());
    let next = BuildNumber::new(u64::from(first.release.name.number.get()) + 1).unwrap();
    scene.configure("1.4.1");
    scene.export_linux(GameVersion::New);
    let ledger = scene.path("game/.lantern/ledger.db");
    let happens = move || {
        let mut ledger = Ledger::open(&ledger, [7; 16]).unwrap();
        let at = "2026-11-28T09:00:00Z".parse().unwrap();
        let origin = Origin { at, random: [1; 10], actor: "punt".into() };
        let body = NumberReserved { number: next, input: InputDigest::of(b"the build of punt") };
        ledger.append(None, &Name::full_edition(), origin, None, EventBody::NumberReserved(body)).unwrap();
    };
    let meanwhile = Mutex::new(Some(Meanwhile(Box::new(happens))));
    let signer = Arc::new(LastByte { stamps: true, meanwhile, ..LastByte::default() });
    let prepared = scene.prepare(&with(&signer));
    assert_eq!(prepared.release.name.number.get(), next.get() + 1);
    assert_eq!(signed_times(&signer), 2, "once for the number that was taken, once for the next");
    assert_eq!(stamp_in(&scene, &prepared, "player"), format!("{}\n", prepared.release.name));
}
