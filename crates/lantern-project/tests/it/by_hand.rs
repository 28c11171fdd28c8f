//! A storefront that people do by hand: laid out, walked through, put on a branch, put back, taken away.

use std::fs;
use std::io::Read;

use lantern_core::event::{EventBody, StepStanding};
use lantern_core::names::Name;
use lantern_core::next::Step;
use lantern_core::notes::Notes;
use lantern_core::progress::Silent;
use lantern_core::walk::WalkError;
use lantern_project::{
    HandOverError, HandPush, Heard, OpenWalk, PrepareOptions, Prepared, ProjectError, PushTexts, Session, StepsError,
    check_answers,
};
use lantern_rehearsal::exports::GameVersion;

use crate::scene::{Scene, name};

const RULES: &str = r#"
name = "Old Pier"

[hand-over."*"]
name = "{game.name} {release.version} {target}.zip"
top = "{game.name}"

[[steps.push]]
id = "carry"
text = "Copy the archives into the shared folder of berth {values.berth}."
files = true

[[steps.push]]
id = "letter"
text = "Send them the letter."
paste = [{ field = "letter", text = "{notes.en}\n{hand-over.digests}" }]
read-back = [{ key = "number-there", ask = "The berth number they answer with" }]

[[steps.promote]]
id = "thursday"
text = "Berth {release.number-there} goes out on {branch} on Thursday."
waits = true
takes = "6 days"
"#;

const CONFIG: &str = r#"
[storefronts.old-pier]
kind = "by-hand"
rules = "places/old-pier.toml"
values = { berth = "7" }
branches = { pier = { audience = "everyone" } }
"#;

fn scene() -> Scene {
    let scene = Scene::new();
    fs::create_dir_all(scene.path("game/places")).unwrap();
    rules(&scene, RULES);
    scene
}

fn rules(scene: &Scene, text: &str) {
    fs::write(scene.path("game/places/old-pier.toml"), text).unwrap();
}

fn seal(scene: &Scene, version: &str, export: GameVersion) -> Prepared {
    scene.configure(version);
    let path = scene.path("game/lantern.toml");
    let text = fs::read_to_string(&path).unwrap() + CONFIG;
    fs::write(path, text).unwrap();
    scene.export(export);
    scene.prepare(&PrepareOptions::default())
}

fn plan(session: &mut Session, sealed: &Prepared) -> Result<HandPush, ProjectError> {
    let texts = PushTexts { message: Some("fog fix".into()), notes: Notes::plain("The lighthouse is lit.") };
    session.plan_push_by_hand("old-pier", sealed.release.clone(), texts)
}

fn begin(session: &mut Session, sealed: &Prepared) -> OpenWalk {
    let plan = plan(session, sealed).unwrap();
    session.begin_push(&plan, &Silent).unwrap()
}

/// Says that a step is done.
fn done(
    session: &mut Session,
    open: &OpenWalk,
    step: &str,
    answers: &[(&str, &str)],
) -> Result<Option<EventBody>, ProjectError> {
    let given: Vec<_> = answers.iter().map(|(key, text)| ((*key).to_owned(), (*text).to_owned())).collect();
    let read_back = check_answers(open.walk.step(step).unwrap(), &given)?;
    let standing = StepStanding::Done { read_back };
    Ok(session.record_step(&open.edition, open.walk.begun.key, &name(step), &standing)?.outcome)
}

/// Brings a release there, and puts it on the branch.
fn release(scene: &Scene, sealed: &Prepared, berth: &str) {
    let mut session = scene.session();
    let open = begin(&mut session, sealed);
    done(&mut session, &open, "carry", &[]).unwrap();
    done(&mut session, &open, "letter", &[("number-there", berth)]).unwrap().unwrap();
    let plan = session.plan_promote("old-pier", &name("pier"), sealed.release.clone(), None).unwrap();
    let open = session.begin_move(&plan).unwrap();
    done(&mut session, &open, "thursday", &[]).unwrap().unwrap();
}

fn live(scene: &Scene) -> Vec<String> {
    let open = scene.project().open().unwrap();
    let all = open.live(&Name::full_edition()).unwrap();
    let at = all.iter().find(|live| live.storefront == name("old-pier")).unwrap();
    assert!(at.by_hand);
    let build = |(target, live): (&Name, &lantern_project::LiveBuild)| {
        format!("{target} {} number there {}", live.build.name, live.build.number_there)
    };
    at.branches.iter().flat_map(|branch| branch.targets.iter().map(build)).collect()
}

#[test]
fn files_are_laid_out_the_same_each_time_and_digests_come_into_the_letter() {
    let scene = scene();
    let sealed = seal(&scene, "1.3.2", GameVersion::Old);
    let open = begin(&mut scene.session(), &sealed);
    let folder = open.folder.clone().unwrap();
    let path = folder.join("Saltmarsh Post 1.3.2 linux.zip");
    let first = fs::read(&path).unwrap();
    let mut archive = zip_names(&first);
    archive.sort();
    assert!(archive.iter().all(|entry| entry.starts_with("Saltmarsh Post/")), "{archive:?}");
    let letter = open.walk.shown(open.walk.step("letter").unwrap());
    let [linux, windows] = &*open.walk.begun.hand_over else { panic!("two files") };
    let digest = |file: &lantern_core::event::HandedOver| format!("{}  {}", file.sha256.as_ref().unwrap(), file.name);
    let expected = format!("The lighthouse is lit.\n{}\n{}", digest(linux), digest(windows));
    assert_eq!(letter.paste[0].text, expected);
    // Damaged or gone, it is laid out again, byte for byte, and the same steps go on.
    fs::write(&path, b"half").unwrap();
    fs::remove_file(folder.join("Saltmarsh Post 1.3.2 windows.zip")).unwrap();
    let again = begin(&mut scene.session(), &sealed);
    assert_eq!(again.walk, open.walk);
    assert_eq!(fs::read(&path).unwrap(), first);
    let mut windows = Vec::new();
    fs::File::open(folder.join("Saltmarsh Post 1.3.2 windows.zip")).unwrap().read_to_end(&mut windows).unwrap();
    assert!(windows.len() > 1000);
}

fn zip_names(bytes: &[u8]) -> Vec<String> {
    let entries = lantern_formats::zip::read(&mut std::io::Cursor::new(bytes)).unwrap();
    entries.into_iter().map(|entry| String::from_utf8(entry.name).unwrap()).collect()
}

#[test]
fn a_release_is_brought_put_on_a_branch_put_back_and_taken_away() {
    let scene = scene();
    let old = seal(&scene, "1.3.2", GameVersion::Old);
    let status = || scene.project().open().unwrap().status(&Name::full_edition()).unwrap();
    let old_pier = || status().storefronts.into_iter().find(|at| at.storefront == name("old-pier")).unwrap();
    assert!(old_pier().connected && !old_pier().pushed && old_pier().by_hand);
    release(&scene, &old, "11");
    assert_eq!(live(&scene), ["linux 1.3.2 (1) number there 11", "windows 1.3.2 (1) number there 11"]);
    assert_eq!(old_pier().live_on, [name("pier")]);
    let new = seal(&scene, "1.4.0", GameVersion::New);
    assert_eq!(old_pier().behind, [name("pier")]);
    release(&scene, &new, "12");
    assert_eq!(live(&scene), ["linux 1.4.0 (2) number there 12", "windows 1.4.0 (2) number there 12"]);
    // Nothing is asked of it, and nothing is made up.
    let heard = scene.session().refresh().unwrap();
    assert!(heard.iter().any(|(at, heard)| *at == name("old-pier") && matches!(heard, Heard::ByHand)));
    let already = plan(&mut scene.session(), &new).unwrap().already;
    assert_eq!(already, Some(12));
    let mut session = scene.session();
    let back = session
        .plan_rollback("old-pier", &Name::full_edition(), &name("pier"), None, None, Some("a save bug".into()))
        .unwrap();
    let open = session.begin_move(&back).unwrap();
    assert_eq!(open.walk.current().unwrap().text, "Put 1.3.2 back on pier.");
    done(&mut session, &open, "put-back", &[]).unwrap().unwrap();
    drop(session);
    assert_eq!(live(&scene), ["linux 1.3.2 (1) number there 11", "windows 1.3.2 (1) number there 11"]);
    let mut session = scene.session();
    let plan = session.plan_withdraw(new.release.clone(), "a save bug".into()).unwrap();
    let mut begun = session.withdraw(&plan).unwrap().by_hand;
    // Asked once more before anybody did it, the same steps go on.
    assert_eq!(session.withdraw(&plan).unwrap().by_hand[0].walk, begun[0].walk);
    let open = begun.remove(0);
    assert_eq!(open.walk.current().unwrap().text, "Take 1.4.0 away: a save bug");
    let outcome = done(&mut session, &open, "take-away", &[]).unwrap().unwrap();
    assert!(matches!(outcome, EventBody::Withdrawn(_)));
    let again = session.plan_withdraw(new.release.clone(), "a save bug".into()).unwrap();
    assert!(again.storefronts.iter().all(|at| at.is_done) && again.is_known);
}

#[test]
fn two_people_at_the_same_steps_see_what_the_other_said() {
    let scene = scene();
    let sealed = seal(&scene, "1.3.2", GameVersion::Old);
    let open = begin(&mut scene.session(), &sealed);
    done(&mut scene.session(), &open, "carry", &[]).unwrap();
    // The other one still has the old state before their eyes: the same once more is no news, something else is refused.
    let count = |scene: &Scene| scene.project().open().unwrap().event_count().unwrap();
    let before = count(&scene);
    done(&mut scene.session(), &open, "carry", &[]).unwrap();
    assert_eq!(count(&scene), before);
    let skipped = StepStanding::Skipped { because: "not today".into() };
    let error = scene.session().record_step(&open.edition, open.walk.begun.key, &name("carry"), &skipped).unwrap_err();
    assert!(matches!(error, ProjectError::Steps(StepsError::Walk(WalkError::Settled { .. }))), "{error:?}");
    assert_eq!(error.fixes(), ["to take that back, give --again"]);
    done(&mut scene.session(), &open, "letter", &[("number-there", "11")]).unwrap().unwrap();
    let gone = done(&mut scene.session(), &open, "letter", &[("number-there", "11")]).unwrap_err();
    assert!(matches!(gone, ProjectError::Steps(StepsError::Gone)), "{gone:?}");
}

#[test]
fn what_is_read_back_has_to_fit() {
    let scene = scene();
    let old = seal(&scene, "1.3.2", GameVersion::Old);
    release(&scene, &old, "11");
    let new = seal(&scene, "1.4.0", GameVersion::New);
    let mut session = scene.session();
    let open = begin(&mut session, &new);
    for (answers, expected) in [
        (&[][..], "the step letter needs an answer: The berth number they answer with"),
        (&[("number-there", "twelve")], "number-there: \"twelve\" is not a number: digits and nothing else"),
        (&[("berth", "12"), ("number-there", "12")], "the step letter does not read \"berth\" back"),
        (&[("number-there", "11")], "1.3.2 (1) has the number 11 there"),
    ] {
        assert_eq!(done(&mut session, &open, "letter", answers).unwrap_err().to_string(), expected);
    }
    assert_eq!(session.workspace().walks(Some("old-pier")).unwrap()[0].walk, open.walk, "nothing was recorded");
}

#[test]
fn what_waits_comes_up_when_it_is_due_and_a_branch_goes_one_way_at_a_time() {
    let scene = scene();
    let old = seal(&scene, "1.3.2", GameVersion::Old);
    release(&scene, &old, "11");
    let new = seal(&scene, "1.4.0", GameVersion::New);
    let mut session = scene.session();
    let open = begin(&mut session, &new);
    let next = |session: &Session| session.workspace().next_step().unwrap();
    scene_push_elsewhere(&scene, &mut session, &new);
    assert_eq!(next(&session), Some(Step::Confirm { storefront: name("old-pier") }));
    done(&mut session, &open, "carry", &[]).unwrap();
    done(&mut session, &open, "letter", &[("number-there", "12")]).unwrap().unwrap();
    let plan = session.plan_promote("old-pier", &name("pier"), new.release.clone(), None).unwrap();
    let open = session.begin_move(&plan).unwrap();
    assert_eq!(open.walk.current().unwrap().text, "Berth 12 goes out on pier on Thursday.");
    let step = open.walk.current().unwrap().clone();
    let standing = lantern_project::waiting_since(&step, lantern_project::now());
    session.record_step(&open.edition, open.walk.begun.key, &step.id, &standing).unwrap();
    assert_eq!(next(&session), None, "it waits for others");
    let waits = &session.workspace().status(&Name::full_edition()).unwrap();
    let at = waits.storefronts.iter().find(|at| at.storefront == name("old-pier")).unwrap();
    assert!(at.steps[0].waits.unwrap().1.is_some());
    // Another move of the branch has to wait for this one; the same goes on.
    assert_eq!(session.begin_move(&plan).unwrap().walk.begun.key, open.walk.begun.key);
    let other = session.plan_promote("old-pier", &name("pier"), old.release.clone(), None).unwrap();
    let error = session.begin_move(&other).unwrap_err();
    assert_eq!(error.to_string(), "pier at old-pier is being moved to 1.4.0 (2)");
    session.give_up_walk(&open.edition, open.walk.begun.key, "not this week").unwrap();
    assert!(session.workspace().walks(None).unwrap().is_empty());
}

/// Brings a release to the storefront that programs can ask, so that nothing is left to do there.
fn scene_push_elsewhere(scene: &Scene, session: &mut Session, sealed: &Prepared) {
    let plan = session.plan_push("brambleyard", sealed.release.clone(), PushTexts::default(), &Silent).unwrap();
    session.push(&plan, &Silent).unwrap();
    let plan = session.plan_promote("brambleyard", &name("open-water"), sealed.release.clone(), None).unwrap();
    session.move_branch(&plan).unwrap();
    assert!(scene.path("game").is_dir());
}

#[test]
fn rules_that_cannot_be_met_are_found_before_anything_is_laid_out() {
    let scene = scene();
    let sealed = seal(&scene, "1.3.2", GameVersion::Old);
    let mut session = scene.session();
    let mut fails = |text: &str| {
        rules(&scene, text);
        plan(&mut session, &sealed).unwrap_err()
    };
    let error = fails("[hand-over.\"*\"]\nname = \"game.zip\"\n");
    assert!(matches!(error, ProjectError::HandOver(HandOverError::SameName { .. })), "{error:?}");
    let error = fails("[hand-over.\"*\"]\nname = \"a/b {target}.zip\"\n");
    assert!(matches!(error, ProjectError::HandOver(HandOverError::FileName { .. })), "{error:?}");
    let error = fails("[hand-over.\"*\"]\nmust-have = [\"*.moon\"]\n");
    assert!(matches!(error, ProjectError::HandOver(HandOverError::Lacks { .. })), "{error:?}");
    let error = fails("[accepted]\nsystems = [\"linux-x86_64\"]\ndepot-max-bytes = 1000000000\n");
    assert!(matches!(error, ProjectError::Rules { .. }), "{error:?}");
    let error = fails("usual-wiat = \"6 days\"\n");
    assert!(matches!(error, ProjectError::Config(_)), "{error:?}");
    rules(&scene, "[hand-over.\"*\"]\nform = \"package\"\nname = \"{target}.apk\"\n");
    let plan = plan(&mut session, &sealed).unwrap();
    let error = session.begin_push(&plan, &Silent).unwrap_err();
    assert!(matches!(error, ProjectError::HandOver(HandOverError::NotOneFile { .. })), "{error:?}");
    fs::remove_file(scene.path("game/places/old-pier.toml")).unwrap();
    let error = session.plan_push_by_hand("old-pier", sealed.release.clone(), PushTexts::default()).unwrap_err();
    assert!(error.to_string().contains("lantern.toml") || matches!(error, ProjectError::Config(_)), "{error}");
    assert!(session.workspace().walks(None).unwrap().is_empty());
}
