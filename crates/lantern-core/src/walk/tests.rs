use proptest::prelude::*;

use super::*;
use crate::digest::ReleaseId;
use crate::event::{BranchBuild, BranchWanted, EventId, StorefrontRef};
use crate::step::{AnswerForm, ReadBack};

fn name(text: &str) -> Name {
    text.parse().unwrap()
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_796_000_000 + second).unwrap()
}

fn step(id: &str) -> Step {
    Step {
        id: name(id),
        text: format!("do {id}"),
        open: None,
        files: false,
        paste: Vec::new(),
        read_back: Vec::new(),
        takes: None,
        by: None,
        waits: false,
        removes_old: false,
        brings_new: false,
    }
}

fn begun(action: Action, steps: Vec<Step>) -> StepsBegun {
    let storefront = StorefrontRef {
        id: "by-hand:old-pier".into(),
        name: name("old-pier"),
        handle: "example.paperheron.saltmarsh".parse().unwrap(),
    };
    let release = (ReleaseId::of(b"r"), "1.4.0 (27)".parse().unwrap());
    let begun = StepsBegun::new(EventId::new(at(0), [7; 10]), storefront, action, release, steps);
    StepsBegun { message: Some("fog fix".into()), ..begun }
}

fn push() -> Walk {
    let mut letter = step("letter");
    let key = name(NUMBER_THERE);
    letter.read_back = vec![ReadBack { key, ask: "?".into(), form: AnswerForm::Digits, optional: false }];
    let mut look = step("look");
    look.text = "look at berth {read-back.number-there}".into();
    Walk::new(begun(Action::Push, vec![step("carry"), letter, look]), "punt".into(), at(0))
}

fn first() -> There {
    There { free: 1, ..There::default() }
}

fn done(answers: &[(&str, &str)]) -> StepStanding {
    StepStanding::Done { read_back: answers.iter().map(|(key, text)| (name(key), (*text).to_owned())).collect() }
}

/// Says it if it may be said, as a command would.
fn say(walk: &mut Walk, step: &str, standing: StepStanding, second: i64) -> Result<(), WalkError> {
    walk.may_say(&name(step), &standing)?;
    walk.take(&StepSaid { key: walk.begun.key, step: name(step), standing, after: None }, "oar", at(second));
    Ok(())
}

#[test]
fn steps_are_walked_through_and_what_is_read_back_shows_up_in_later_ones() {
    let mut walk = push();
    assert_eq!(walk.current().unwrap().id, name("carry"));
    say(&mut walk, "carry", done(&[]), 10).unwrap();
    let look = walk.step("look").unwrap().clone();
    assert_eq!(walk.shown(&look).text, "look at berth (number-there: not known yet)");
    say(&mut walk, "letter", done(&[("number-there", "12")]), 20).unwrap();
    assert_eq!(walk.shown(&look).text, "look at berth 12");
    assert!(walk.outcome(&first()).is_none());
    say(&mut walk, "look", StepStanding::Skipped { because: "seen before".into() }, 30).unwrap();
    let Some(EventBody::Pushed(pushed)) = walk.outcome(&first()) else { panic!("a push") };
    assert_eq!((pushed.number_there, pushed.message.as_deref()), (12, Some("fog fix")));
}

#[test]
fn what_is_settled_is_said_once_and_can_be_taken_back() {
    let mut walk = push();
    assert_eq!(walk.before_current(), None);
    assert_eq!(say(&mut walk, "carry", StepStanding::Reopened, 1), Err(WalkError::Open { step: name("carry") }));
    say(&mut walk, "carry", done(&[]), 2).unwrap();
    let again = say(&mut walk, "carry", done(&[]), 3).unwrap_err();
    assert_eq!(again.to_string(), "oar said before that the step carry is done");
    assert_eq!(walk.before_current().unwrap().id, name("carry"));
    say(&mut walk, "carry", StepStanding::Reopened, 4).unwrap();
    assert_eq!(walk.current().unwrap().id, name("carry"));
    assert!(matches!(say(&mut walk, "crary", done(&[]), 5), Err(WalkError::NoStep { .. })));
}

#[test]
fn a_step_that_waits_is_due_and_still_has_to_be_confirmed() {
    let mut walk = push();
    let mut waiting = step("carry");
    waiting.takes = Some(3 * 86_400);
    let due = Walk::due(&waiting, at(0));
    assert_eq!(due, Some(at(3 * 86_400)));
    say(&mut walk, "carry", StepStanding::Waiting { due }, 0).unwrap();
    assert_eq!(walk.waits_until(), Some((at(0), due)));
    assert_eq!(walk.current().unwrap().id, name("carry"));
    say(&mut walk, "carry", done(&[]), 9).unwrap();
    assert_eq!(walk.waits_until(), None);
}

#[test]
fn a_move_has_its_branch_the_day_that_was_read_and_who_said_so() {
    let build = BranchBuild { number_there: 12, release: ReleaseId::of(b"r"), name: "1.4.0 (27)".parse().unwrap() };
    let targets = BTreeMap::from([(name("linux"), build.clone())]);
    let now = BranchFacts {
        branch: name("pier"),
        revision: 3,
        since: None,
        by: None,
        targets: BTreeMap::from([(name("windows"), build)]),
    };
    let there = There { now: Some(now), ..first() };
    let mut body = begun(Action::Promote { branch: name("pier") }, vec![step("thursday")]);
    body.wanted = Some(BranchWanted { revision: 3, restores: None, changes: Vec::new(), targets, after: None });
    let mut walk = Walk::new(body, "punt".into(), at(0));
    say(&mut walk, "thursday", done(&[("since", "2026-12-03")]), 50).unwrap();
    let Some(EventBody::Moved(moved)) = walk.outcome(&there) else { panic!("a move") };
    assert_eq!((moved.facts.revision, moved.facts.by.as_deref()), (4, Some("oar")));
    // What was said of another target since it began stays.
    assert_eq!(moved.facts.targets.keys().map(Name::as_str).collect::<Vec<_>>(), ["linux", "windows"]);
    assert_eq!(moved.changes, [name("linux")]);
    assert_eq!(moved.facts.since.unwrap().to_string(), "2026-12-03T00:00:00Z");
}

#[test]
fn each_target_may_have_a_number_of_its_own_there() {
    let back = |key: &str| ReadBack { key: name(key), ask: "?".into(), form: AnswerForm::Text, optional: false };
    let mut upload = step("upload");
    upload.read_back = vec![back("number-there-linux"), back("number-there-moon")];
    assert!(upload.read_back[0].check("12a").is_err(), "it is a number, whatever the rules say");
    let file = HandedOver { target: name("linux"), name: "saltmarsh.zip".into(), bytes: 7, sha256: None };
    let begun = StepsBegun { hand_over: vec![file], ..begun(Action::Push, vec![upload]) };
    let mut walk = Walk::new(begun, "punt".into(), at(0));
    say(&mut walk, "upload", done(&[("number-there-linux", "41"), ("number-there-moon", "7")]), 1).unwrap();
    let Some(EventBody::Pushed(pushed)) = walk.outcome(&first()) else { panic!("a push") };
    assert_eq!((pushed.number_there, pushed.numbers), (1, BTreeMap::from([(name("linux"), 41)])));
}

/// What a newer lantern says of a step, or wants to read back, is kept as it is, and settles nothing here.
#[test]
fn words_of_a_newer_lantern_are_kept() {
    let line = r#"{"key":"01a207a2-3280-7707-8707-070707070707","step":"carry","standing":"handed-on","to":"oar"}"#;
    let Ok(EventBody::StepSaid(said)) = EventBody::read("step-said", 1, line) else { panic!("it is read") };
    let again: serde_json::Value = serde_json::from_str(&EventBody::StepSaid(said.clone()).payload()).unwrap();
    assert_eq!(again, serde_json::from_str::<serde_json::Value>(line).unwrap());
    let mut walk = push();
    walk.take(&StepSaid { key: walk.begun.key, ..said }, "oar", at(1));
    assert!(!walk.is_settled(&name("carry")));
    say(&mut walk, "carry", done(&[]), 2).unwrap();
    let back: ReadBack =
        serde_json::from_str(r#"{"key":"berth","ask":"?","form":"colour","optional":false,"hint":"on the gate"}"#)
            .unwrap();
    assert_eq!(back.form, AnswerForm::Other("colour".into()));
    assert_eq!(back.check("blue").unwrap().as_deref(), Some("blue"));
}

#[test]
fn the_gap_is_what_the_steps_in_between_take() {
    let (mut remove, mut bring) = (step("remove"), step("bring"));
    (remove.removes_old, bring.brings_new, bring.takes) = (true, true, Some(60));
    assert_eq!(gap(&[step("a"), bring.clone()]), None);
    assert_eq!(gap(&[bring.clone(), remove.clone()]), None);
    let both = gap(&[remove.clone(), bring.clone()]);
    assert_eq!(both, Some(Gap { seconds: 60, is_known: true, ends: true }));
    let unknown = gap(&[remove.clone(), step("a"), bring]);
    assert_eq!(unknown, Some(Gap { seconds: 60, is_known: false, ends: true }));
    assert_eq!(gap(&[remove]), Some(Gap { seconds: 0, is_known: true, ends: false }));
}

proptest! {
    /// Where the old file has to go first it goes right before the new one comes, whatever the rules look like, and no step
    /// is lost or turned round with one of its own kind.
    #[test]
    fn players_have_nothing_for_as_short_as_can_be(kinds in prop::collection::vec(0_u8..4, 1..12)) {
        let steps: Vec<Step> = kinds.iter().enumerate().map(|(i, kind)| {
            let mut step = step(&format!("s{i}"));
            (step.removes_old, step.brings_new, step.takes) = (*kind == 1, *kind == 2, Some(1));
            step
        }).collect();
        let ordered = in_order(steps.clone(), true);
        let ids = |steps: &[Step], is: fn(&Step) -> bool| -> Vec<Name> {
            steps.iter().filter(|s| is(s)).map(|s| s.id.clone()).collect()
        };
        prop_assert_eq!(ids(&ordered, |s| s.removes_old), ids(&steps, |s| s.removes_old));
        prop_assert_eq!(ids(&ordered, |s| !s.removes_old), ids(&steps, |s| !s.removes_old));
        let removes = steps.iter().filter(|s| s.removes_old).count() as u64;
        if removes > 0 && steps.iter().any(|s| s.brings_new) {
            prop_assert_eq!(gap(&ordered), Some(Gap { seconds: removes, is_known: true, ends: true }));
        }
        prop_assert_eq!(in_order(steps.clone(), false), steps);
    }

    /// People say things in any order, twice, and go back: what is settled is what was said last, the outcome comes when
    /// all is settled and not before, and taking the same events in again gives the same.
    #[test]
    fn any_order_of_words_comes_to_what_was_said_last(words in prop::collection::vec((0_usize..3, 0_u8..4), 0..40)) {
        let mut walk = push();
        let ids = ["carry", "letter", "look"];
        let mut settled = [false; 3];
        let mut taken = Vec::new();
        for (second, (step, word)) in words.into_iter().enumerate() {
            let standing = match word {
                0 => done(&[]),
                1 => StepStanding::Skipped { because: "x".into() },
                2 => StepStanding::Waiting { due: None },
                _ => StepStanding::Reopened,
            };
            let second = second as i64;
            if say(&mut walk, ids[step], standing.clone(), second).is_ok() {
                settled[step] = word < 2;
                taken.push((StepSaid { key: walk.begun.key, step: name(ids[step]), standing, after: None }, second));
            }
            for (id, is_settled) in ids.iter().zip(settled) {
                prop_assert_eq!(walk.is_settled(&name(id)), is_settled);
            }
            prop_assert_eq!(walk.outcome(&first()).is_some(), settled == [true; 3]);
            prop_assert_eq!(walk.current().map(|s| s.id.to_string()), ids.iter().zip(settled).find(|(_, s)| !s).map(|(id, _)| (*id).to_string()));
        }
        let mut again = push();
        taken.iter().for_each(|(said, second)| again.take(said, "oar", at(*second)));
        prop_assert_eq!(again, walk);
    }
}
