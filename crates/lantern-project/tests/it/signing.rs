//! A signer between the exports and what is sealed of them, all the way to a player's folder.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};

use lantern_core::digest::Digest;
use lantern_core::finding::Code;
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::progress::{Progress, Silent};
use lantern_core::release::{SignedBy, TargetRecord};
use lantern_exports::intake::Intake;
use lantern_exports::signing::{Replacement, Signing, SigningError};
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
}

impl Signing for LastByte {
    fn by(&self, target: &Name) -> Option<SignedBy> {
        let by =
            || SignedBy { signer: Digest::of(b"certificate of wren"), settings: Digest::of(self.settings.as_bytes()) };
        (target.as_str() == "windows").then(by)
    }

    fn sign(&self, intake: &Intake<'_>, work: &Path, _: &dyn Progress) -> Result<Vec<Replacement>, SigningError> {
        if self.refuses {
            let (target, why) = (intake.name.clone(), "the key is not there".to_owned());
            return Err(SigningError::Refused { target, why, fix: "plug it in".to_owned() });
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
        let written = [("exe", EXE, bytes), ("list", "signed.txt", b"wren\n".to_vec())];
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
    PrepareOptions { signing: Some(signer.clone()), ..PrepareOptions::default() }
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
    let signed = windows.signed.as_ref().unwrap();
    let replaced: Vec<&str> = signed.replaced.keys().map(TreePath::as_str).collect();
    assert_eq!(replaced, [EXE, "signed.txt"]);
    assert_eq!(signed.replaced[&TreePath::new(EXE).unwrap()].unwrap().digest, Digest::of(&exported));
    assert_eq!(signed.replaced[&TreePath::new("signed.txt").unwrap()], None);
    assert!(target(&prepared, "linux").signed.is_none());
    assert!(!scene.path("game/.lantern/cache/signed").exists(), "what is sealed lies there no longer");

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
    fs::remove_file(scene.path("game/.lantern/cache/digests.json")).unwrap();
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
    assert_ne!(target(&third, "windows").signed, target(&second, "windows").signed);
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
    assert!(target(&prepared, "windows").signed.is_some());
}

#[test]
fn signed_files_that_were_changed_are_signed_again() {
    let (scene, signer) = broken_after_signing();
    let folder = fs::read_dir(scene.path("game/.lantern/cache/signed")).unwrap().next().unwrap().unwrap().path();
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
    assert!(matches!(error, ProjectError::Signing(_)), "{error:?}");
    assert_eq!(error.to_string(), "windows was not signed: the key is not there");
    assert_eq!((error.class(), error.fixes()), (Class::Refused, vec!["plug it in".to_owned()]));
    let workspace = scene.project().open().unwrap();
    assert!(workspace.board(&Name::full_edition()).unwrap().releases.is_empty());
    // Without it there is a release as ever, with the first number.
    let prepared = scene.prepare(&PrepareOptions::default());
    assert!(target(&prepared, "windows").signed.is_none());
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
