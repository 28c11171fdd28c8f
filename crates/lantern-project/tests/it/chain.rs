//! The way of a release, use case by use case: each plan says what will be done, and changes nothing by itself.

use lantern_core::names::Name;
use lantern_core::progress::Silent;
use lantern_project::{Class, Exports, MoveError, PrepareOptions, ProjectError, PushTexts, ReleaseError};
use lantern_rehearsal::exports::GameVersion;

use crate::scene::{Scene, name};

fn full() -> Name {
    Name::full_edition()
}

#[test]
fn a_plan_of_a_push_changes_nothing_and_a_second_push_sends_nothing() {
    let scene = Scene::new();
    let prepared = scene.prepare(&PrepareOptions::default());
    let mut session = scene.session();
    for _ in 0..2 {
        let plan = session.plan_push("brambleyard", prepared.release.clone(), PushTexts::default(), &Silent).unwrap();
        assert_eq!((plan.already, plan.exports), (None, Exports::Sealed));
        assert_eq!(plan.targets, [name("linux"), name("windows")]);
        assert!(plan.upload > 1_000_000, "{}", plan.upload);
        assert!(session.workspace().board(&full()).unwrap().pushed.is_empty());
    }
    drop(session);
    let done = scene.push(&prepared);
    assert!(done.sent > 1_000_000 && done.packs > 0);
    let again = scene.push(&prepared);
    assert_eq!((again.number_there, again.sent, again.packs), (done.number_there, 0, 0));
    let board = scene.project().open().unwrap().board(&full()).unwrap();
    assert_eq!(board.pushed.len(), 1);
}

#[test]
fn only_what_is_new_travels() {
    let scene = Scene::new();
    let first = scene.push(&scene.prepare(&PrepareOptions::default()));
    scene.configure("1.4.1");
    scene.export(GameVersion::New);
    let second = scene.push(&scene.prepare(&PrepareOptions::default()));
    assert!(second.number_there > first.number_there);
    assert!(second.sent * 3 < first.sent, "{} of {}", second.sent, first.sent);
}

#[test]
fn what_was_not_pushed_is_not_promoted() {
    let scene = Scene::new();
    let prepared = scene.prepare(&PrepareOptions::default());
    let branch = name("open-water");
    let error = scene.session().plan_promote("brambleyard", &branch, prepared.release, None).unwrap_err();
    assert!(matches!(error, ProjectError::Move(MoveError::NotPushed { .. })), "{error:?}");
    assert_eq!(error.class(), Class::Refused);
}

#[test]
fn a_branch_goes_back_to_what_it_had() {
    let scene = Scene::new();
    let first = scene.push_next("1.4.0", GameVersion::Old);
    scene.promote(&first);
    let second = scene.push_next("1.4.1", GameVersion::New);
    scene.promote(&second);
    let branch = name("open-water");
    let back = |scene: &Scene| {
        scene.session().plan_rollback("brambleyard", &full(), &branch, None, None, Some("saves are lost".to_owned()))
    };
    let plan = back(&scene).unwrap();
    assert_eq!((&plan.release.name, plan.is_done()), (&first.release.name, false));
    assert!(plan.restores.is_some() && plan.changes.iter().all(|change| change.after.is_some()));
    let facts = scene.session().move_branch(&plan).unwrap();
    assert!(facts.targets.values().all(|on| on.release == first.release.id));
    // Once more without a name might be the very same wish, that was cut.
    assert!(matches!(back(&scene), Err(ProjectError::Move(MoveError::WentBack(_)))));
    let installed = scene.install("linux", "player");
    assert_eq!(installed.about.build.name, first.release.name);
}

#[test]
fn someone_else_is_faster() {
    let scene = Scene::new();
    let first = scene.push_next("1.4.0", GameVersion::Old);
    let second = scene.push_next("1.4.1", GameVersion::New);
    let branch = name("open-water");
    let late = scene.session().plan_promote("brambleyard", &branch, first.release.clone(), None).unwrap();
    scene.promote(&second);
    let error = scene.session().move_branch(&late).unwrap_err();
    assert!(matches!(error, ProjectError::Move(MoveError::Raced { .. })), "{error:?}");
    let board = scene.project().open().unwrap().board(&full()).unwrap();
    assert!(board.open.is_empty(), "nothing is left without an answer");
}

#[test]
fn what_is_withdrawn_goes_nowhere_and_stays_with_those_who_have_it() {
    let scene = Scene::new();
    let first = scene.push_next("1.4.0", GameVersion::Old);
    scene.promote(&first);
    scene.install("linux", "player");
    let second = scene.push_next("1.4.1", GameVersion::New);
    let mut session = scene.session();
    let plan = session.plan_withdraw(second.release.clone(), "saves are lost".to_owned()).unwrap();
    assert_eq!((plan.storefronts.len(), plan.live_on.len(), plan.is_known), (1, 0, false));
    assert!(session.withdraw(&plan).unwrap().failed.is_empty());
    let again = session.plan_withdraw(second.release.clone(), "another reason".to_owned()).unwrap();
    assert_eq!((again.because.as_str(), again.storefronts[0].is_done), ("saves are lost", true));
    let branch = name("open-water");
    let error = session.plan_promote("brambleyard", &branch, second.release, None).unwrap_err();
    assert!(matches!(error, ProjectError::Release(ReleaseError::Withdrawn { .. })), "{error:?}");
    drop(session);
    assert_eq!(scene.install("linux", "player").about.build.name, first.release.name);
}

#[test]
fn two_at_once_one_is_told() {
    let scene = Scene::new();
    let held = scene.session();
    let error = scene.project().open().unwrap().lock().unwrap_err();
    assert!(matches!(error, ProjectError::Busy { .. }), "{error:?}");
    assert_eq!(error.class(), Class::Computer);
    // Reading needs no lock.
    assert!(scene.project().check(&Silent).is_ok());
    drop(held);
    scene.session();
}

#[test]
fn one_sealed_build_is_found_again_by_another_computer() {
    let scene = Scene::new();
    let first = scene.push_next("1.4.0", GameVersion::Old);
    std::fs::remove_dir_all(scene.path("game/.lantern")).unwrap();
    let mut session = scene.project().open().unwrap().lock().unwrap();
    let heard = session.refresh().unwrap();
    assert_eq!(heard.len(), 1);
    let found = session.workspace().release(None).unwrap();
    assert_eq!((found.id, found.found_at.is_some()), (first.release.id, true));
    let record = session.workspace().record_of(&found).unwrap();
    assert_eq!(record.id(), first.release.id);
    let plan = session.plan_promote("brambleyard", &name("open-water"), found, None).unwrap();
    session.move_branch(&plan).unwrap();
    drop(session);
    assert_eq!(scene.install("linux", "player").about.build.name, first.release.name);
}
