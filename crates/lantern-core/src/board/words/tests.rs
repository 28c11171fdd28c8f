use proptest::prelude::*;

use super::*;
use crate::board::Boards;
use crate::digest::ReleaseId;
use crate::event::{BranchWanted, EventBody, HandedOver, NotDone, StepSaid, StepStanding, StepsBegun};
use crate::step::{AnswerForm, ReadBack, Step};
use crate::walk::There;

fn name(text: &str) -> Name {
    text.parse().unwrap()
}

fn at(minute: i64) -> Timestamp {
    Timestamp::from_second(1_796_000_000 + 60 * minute).unwrap()
}

fn id(n: u8) -> EventId {
    EventId::new(at(0), [n; 10])
}

fn storefront() -> StorefrontRef {
    let name = name("old-pier");
    let id = StorefrontRef::id_by_hand(&name);
    StorefrontRef { id, name, handle: "example.paperheron.saltmarsh".parse().unwrap() }
}

fn pier() -> BranchKey {
    (storefront().key(), name("pier"))
}

fn release(text: &str) -> (ReleaseId, ReleaseName) {
    (ReleaseId::of(text.as_bytes()), text.parse().unwrap())
}

fn build(text: &str) -> BranchBuild {
    let (release, name) = release(text);
    BranchBuild { number_there: u64::from(name.number.get()), release, name }
}

/// An event of its own, recorded at this minute.
fn event(n: u8, minute: i64, body: EventBody) -> Event {
    Event { recorded_at: at(minute), ..Event::sample(id(n), body) }
}

fn fold(events: &[Event]) -> Board {
    Boards::fold(events).of(&Name::full_edition()).as_ref().clone()
}

/// What the branch has: target and release.
fn has(board: &Board) -> Vec<String> {
    let targets = board.branches.get(&pier()).into_iter().flat_map(|facts| &facts.targets);
    targets.map(|(target, build)| format!("{target} {}", build.name)).collect()
}

fn adopted(text: &str, targets: &[&str], since: Option<Timestamp>) -> EventBody {
    let build = build(text);
    EventBody::Adopted(Adopted {
        storefront: storefront(),
        branch: Some(name("pier")),
        release: build.release,
        name: build.name,
        number_there: build.number_there,
        targets: targets.iter().map(|target| name(target)).collect(),
        since,
        because: None,
    })
}

fn read_back() -> ReadBack {
    ReadBack { key: name("number-there"), ask: "which number?".into(), form: AnswerForm::Digits, optional: true }
}

fn steps() -> Vec<Step> {
    vec![serde_json::from_str(r#"{"id":"put-on","text":"put it on"}"#).unwrap()]
}

/// A move that begins, as a computer plans it that knows this board.
fn begun(n: u8, text: &str, targets: &[&str], back: bool, board: &Board) -> StepsBegun {
    let (branch, key) = (name("pier"), EventId::new(at(1), [n; 10]));
    let action = if back { Action::Rollback { branch } } else { Action::Promote { branch } };
    let mut now = board.branches.get(&pier()).map(|facts| facts.targets.clone()).unwrap_or_default();
    now.extend(targets.iter().map(|target| (name(target), build(text))));
    let wanted = BranchWanted {
        revision: 0,
        restores: back.then_some(1),
        changes: targets.iter().map(|target| name(target)).collect(),
        targets: now,
        after: board.newest_word(&pier()),
    };
    StepsBegun { wanted: Some(wanted), ..StepsBegun::new(key, storefront(), action, release(text), steps()) }
}

fn there(board: &Board) -> There {
    let now = board.branches.get(&pier()).cloned();
    There { free: board.pushed.len() as u64 + 1, now, after: board.newest_word(&pier()) }
}

fn done(key: EventId) -> EventBody {
    let standing = StepStanding::Done { read_back: BTreeMap::new() };
    EventBody::StepSaid(StepSaid { key, step: name("put-on"), standing, after: None })
}

/// A computer with a ledger and a clock of its own.
#[derive(Clone, Default)]
struct Computer {
    events: Vec<Event>,
    /// By how many minutes its clock is ahead.
    ahead: i64,
    next: u8,
}

impl Computer {
    fn new(first: u8, ahead: i64) -> Self {
        Self { events: Vec::new(), ahead, next: first }
    }

    fn record(&mut self, minute: i64, body: EventBody) {
        self.next += 1;
        self.events.push(event(self.next, minute + self.ahead, body));
    }

    fn board(&self) -> Board {
        fold(&self.events)
    }

    fn begin(&mut self, minute: i64, text: &str, targets: &[&str], back: bool) -> EventId {
        let begun = begun(self.next, text, targets, back, &self.board());
        let key = begun.key;
        self.record(minute, EventBody::StepsBegun(begun));
        key
    }

    /// Records what all open actions come to.
    fn finish(&mut self, minute: i64) {
        for walk in self.board().open_walks() {
            self.record(minute, done(walk.begun.key));
        }
        let board = self.board();
        for walk in board.open_walks() {
            let outcome = walk.outcome(&there(&board)).unwrap();
            self.record(minute, outcome);
        }
    }

    fn bring(&mut self, minute: i64, text: &str, targets: &[&str], back: bool) {
        self.begin(minute, text, targets, back);
        self.finish(minute);
    }

    /// Records what a connector finds, where that is news.
    fn report(&mut self, minute: i64, text: &str, targets: &[&str]) {
        let board = self.board();
        let targets: BTreeMap<Name, BranchBuild> = targets.iter().map(|target| (name(target), build(text))).collect();
        let known = board.branches.get(&pier());
        if targets.iter().all(|(target, build)| known.and_then(|known| known.targets.get(target)) == Some(build)) {
            return;
        }
        let facts = BranchFacts { branch: name("pier"), revision: 0, since: None, by: None, targets: targets.clone() };
        let after = board.newest_word(&pier()).filter(|newest| *newest >= at(minute + self.ahead));
        self.record(
            minute,
            EventBody::BranchReported(BranchReported { after, ..BranchReported::new(storefront(), facts) }),
        );
        let now = self.board().branches.get(&pier()).cloned().unwrap();
        assert!(targets.iter().all(|(target, build)| now.targets.get(target) == Some(build)), "what is found is so");
    }

    /// Takes in what the other has and this has not, in the order in which it stands there.
    fn import(&mut self, other: &Self) {
        for event in &other.events {
            if !self.events.iter().any(|known| known.id == event.id) {
                self.events.push(event.clone());
            }
        }
    }
}

/// All that people see of a branch and of what is open.
fn seen(board: &Board) -> impl PartialEq + std::fmt::Debug + use<> {
    let moves: Vec<(BranchFacts, Option<u64>)> =
        board.moves_by_hand(&pier()).into_iter().map(|moved| (moved.facts, moved.restores)).collect();
    let mut pushed: Vec<(u64, ReleaseId)> = board.pushed.iter().map(|p| (p.number_there, p.release)).collect();
    pushed.sort();
    (board.branches.clone(), board.since.clone(), board.went_back.clone(), moves, board.open_walks(), pushed)
}

#[test]
fn what_was_out_before_can_be_added_later() {
    let mut desk = Computer::new(0, 0);
    desk.record(0, adopted("1.2.9 (24)", &["linux"], Some(at(-500))));
    desk.bring(10, "1.3.2 (25)", &["linux"], false);
    desk.record(20, adopted("1.1.0 (15)", &["linux"], Some(at(-900))));
    let board = desk.board();
    assert_eq!(has(&board), ["linux 1.3.2 (25)"]);
    let history: Vec<String> = board
        .moves_by_hand(&pier())
        .iter()
        .map(|moved| format!("{} {}", moved.facts.revision, moved.facts.targets[&name("linux")].name))
        .collect();
    assert_eq!(history, ["1 1.1.0 (15)", "2 1.2.9 (24)", "3 1.3.2 (25)"]);
    let later = board.later_word(&pier(), Some(at(-950)), &[name("linux")]);
    assert_eq!(later.map(ToString::to_string).as_deref(), Some("1.3.2 (25)"));
    assert_eq!(board.later_word(&pier(), Some(at(30)), &[name("linux")]), None);
    assert_eq!(board.later_word(&pier(), None, &[name("windows")]), None);
    // Of two targets, that one counts which the later word is about.
    desk.record(30, adopted("1.2.9 (24)", &["android", "windows"], Some(at(-500))));
    desk.bring(40, "1.4.0 (27)", &["windows"], false);
    let later = desk.board().later_word(&pier(), Some(at(-400)), &[name("android"), name("windows")]).cloned();
    assert_eq!(later.map(|name| name.to_string()).as_deref(), Some("1.4.0 (27)"));
}

#[test]
fn a_move_says_nothing_of_other_targets() {
    let (mut desk, mut laptop) = (Computer::new(0, 0), Computer::new(50, 0));
    desk.record(0, adopted("1.2.9 (24)", &["linux", "windows"], Some(at(-500))));
    laptop.import(&desk);
    desk.bring(10, "1.3.2 (25)", &["linux"], false);
    laptop.bring(11, "1.3.2 (25)", &["windows"], false);
    desk.import(&laptop);
    laptop.import(&desk);
    assert_eq!(has(&desk.board()), ["linux 1.3.2 (25)", "windows 1.3.2 (25)"]);
    assert_eq!(seen(&desk.board()), seen(&laptop.board()));
}

#[test]
fn what_two_began_at_two_computers_is_one() {
    let (mut desk, mut laptop) = (Computer::new(0, 0), Computer::new(50, 0));
    let first = desk.begin(1, "1.3.2 (25)", &["linux"], false);
    let second = laptop.begin(2, "1.3.2 (25)", &["linux"], false);
    desk.import(&laptop);
    let open = desk.board().open_walks();
    assert_eq!((open.len(), open[0].begun.key, open[0].also.as_slice()), (1, first, [second].as_slice()));
    assert!(open[0].is(second) && open[0].is(first) && !open[0].is(id(3)));
    // The other one, who knows of one alone, is done with it; then it is so for both.
    laptop.finish(3);
    desk.import(&laptop);
    laptop.import(&desk);
    assert!(desk.board().open_walks().is_empty() && laptop.board().open_walks().is_empty());
    assert_eq!(seen(&desk.board()), seen(&laptop.board()));
    assert_eq!(desk.board().moves_by_hand(&pier()).len(), 1);
    // It does not come back when the branch goes on.
    desk.bring(5, "1.4.0 (27)", &["linux"], false);
    assert!(desk.board().open_walks().is_empty());
    assert_eq!(has(&desk.board()), ["linux 1.4.0 (27)"]);
}

#[test]
fn a_push_that_another_finished_is_not_open_any_more() {
    let file = HandedOver { target: name("linux"), name: "saltmarsh.zip".into(), bytes: 7, sha256: None };
    let begun = |n: u8| {
        EventBody::StepsBegun(StepsBegun {
            hand_over: vec![file.clone()],
            ..StepsBegun::new(id(n), storefront(), Action::Push, release("1.3.2 (25)"), steps())
        })
    };
    let (mut desk, mut laptop) = (Computer::new(0, 0), Computer::new(50, 0));
    desk.record(1, begun(201));
    laptop.record(9, begun(200));
    desk.finish(3);
    assert_eq!(laptop.board().open_walks().len(), 1);
    laptop.import(&desk);
    desk.import(&laptop);
    assert_eq!((desk.board().open_walks(), laptop.board().open_walks()), (Vec::new(), Vec::new()));
    assert_eq!((desk.board().pushed.len(), seen(&desk.board())), (1, seen(&laptop.board())));
    // Another release whose number there was counted at the other computer is lost at none.
    let other = |n: u8, text: &str| {
        let (release, name) = release(text);
        EventBody::Pushed(Pushed {
            key: Some(id(n)),
            targets: vec![self::name("linux")],
            ..Pushed::new(storefront(), (release, name), 2)
        })
    };
    desk.record(20, other(202, "1.4.0 (26)"));
    laptop.record(20, other(203, "1.4.1 (27)"));
    desk.import(&laptop);
    laptop.import(&desk);
    assert_eq!((desk.board().pushed.len(), seen(&desk.board())), (3, seen(&laptop.board())));
}

/// Given up is what was begun, under every key that it has.
#[test]
fn what_is_given_up_is_not_open() {
    let (mut desk, mut laptop) = (Computer::new(0, 0), Computer::new(50, 0));
    desk.begin(1, "1.3.2 (25)", &["linux"], false);
    laptop.begin(2, "1.3.2 (25)", &["linux"], false);
    desk.import(&laptop);
    for walk in desk.board().open_walks() {
        for key in walk.keys() {
            desk.record(3, EventBody::NotDone(NotDone { key, why: "not today".to_owned() }));
        }
    }
    laptop.import(&desk);
    assert!(desk.board().open_walks().is_empty() && laptop.board().open_walks().is_empty());
}

/// What is said by someone who knew another word comes after it, whatever the clocks say.
#[test]
fn a_clock_that_is_behind_loses_nothing() {
    let (mut desk, mut laptop) = (Computer::new(0, 600), Computer::new(50, 0));
    desk.bring(10, "1.3.2 (25)", &["linux"], false);
    laptop.import(&desk);
    laptop.bring(20, "1.4.0 (27)", &["linux"], false);
    assert_eq!(has(&laptop.board()), ["linux 1.4.0 (27)"]);
    // And the first once more, which was never out at this time by this clock.
    laptop.begin(30, "1.3.2 (25)", &["linux"], true);
    assert_eq!(laptop.board().open_walks().len(), 1);
    laptop.finish(31);
    assert_eq!(has(&laptop.board()), ["linux 1.3.2 (25)"]);
    desk.import(&laptop);
    assert_eq!(seen(&desk.board()), seen(&laptop.board()));
    assert_eq!(desk.board().went_back.get(&pier()).map(|number| number.get()), Some(27));
    assert_eq!(desk.board().moves_by_hand(&pier())[2].restores, Some(1));
}

/// Boards are kept in a file, without the names of fields: what people do and say comes back from there as it was.
#[test]
fn what_was_said_can_be_kept() {
    let mut desk = Computer::new(0, 0);
    let standings = [
        StepStanding::Done { read_back: BTreeMap::from([(name("number-there"), "12".to_owned())]) },
        StepStanding::Skipped { because: "it is there".into() },
        StepStanding::Waiting { due: Some(at(90)) },
        StepStanding::Waiting { due: None },
        StepStanding::Reopened,
        StepStanding::Other(serde_json::json!({ "standing": "handed-on", "to": "oar" })),
    ];
    let mut steps = Vec::new();
    for n in 0..standings.len() {
        let step = Step { id: name(&format!("s{n}")), ..self::steps().remove(0) };
        steps.push(Step { read_back: vec![read_back()], takes: (n == 2).then_some(60), ..step });
    }
    let file = HandedOver { target: name("linux"), name: "saltmarsh".into(), bytes: 7, sha256: None };
    let begun = StepsBegun {
        hand_over: vec![file],
        message: Some("fog fix".into()),
        ..StepsBegun::new(id(200), storefront(), Action::Push, release("1.3.2 (25)"), steps)
    };
    desk.record(0, adopted("1.2.9 (24)", &["linux"], None));
    desk.bring(1, "1.4.0 (27)", &["linux"], false);
    desk.record(1, EventBody::StepsBegun(begun));
    for (n, standing) in standings.into_iter().enumerate() {
        let said = StepSaid { key: id(200), step: name(&format!("s{n}")), standing, after: None };
        desk.record(2, EventBody::StepSaid(said));
    }
    desk.begin(4, "1.2.9 (24)", &["linux"], true);
    let boards = Boards::fold(&desk.events);
    let kept = rmp_serde::to_vec(&boards).unwrap();
    let again: Boards = rmp_serde::from_slice(&kept).unwrap();
    assert_eq!(again.indexed(), boards);
    let recent = boards.recent(1);
    let again: Boards = rmp_serde::from_slice(&rmp_serde::to_vec(&recent).unwrap()).unwrap();
    assert_eq!(again.indexed(), recent);
    let open = |boards: &Boards| boards.of(&Name::full_edition()).open_walks();
    assert_eq!((open(&recent).len(), open(&recent)), (2, open(&boards)));
}

#[derive(Debug, Clone)]
enum Doing {
    Adopt(bool, u8, Option<i64>),
    Begin(bool, u8, u8, bool),
    Finish(bool),
    Import(bool),
    Report(bool, u8, u8),
}

fn doing() -> impl Strategy<Value = Doing> {
    let text = 1_u8..5;
    prop_oneof![
        (any::<bool>(), text.clone(), 0_u8..3).prop_map(|(a, b, c)| Doing::Report(a, b, c)),
        (any::<bool>(), text.clone(), prop::option::of(-50_i64..50)).prop_map(|(a, b, c)| Doing::Adopt(a, b, c)),
        (any::<bool>(), text, 0_u8..3, any::<bool>()).prop_map(|(a, b, c, d)| Doing::Begin(a, b, c, d)),
        any::<bool>().prop_map(Doing::Finish),
        any::<bool>().prop_map(Doing::Import),
    ]
}

proptest! {
    /// Two people at two computers, whose clocks differ, do what they like, and hear of each other now and then. When they
    /// have heard everything, both see the same, and it is what the ledger says in any other order that it may come in.
    #[test]
    fn two_computers_that_know_the_same_say_the_same(
        all in prop::collection::vec(doing(), 1..16),
        ahead in -3_i64..4,
    ) {
        let mut computers = [Computer::new(0, 0), Computer::new(100, ahead)];
        for (minute, doing) in all.into_iter().enumerate() {
            let minute = minute as i64;
            let text = |n: u8| format!("1.{n}.0 ({n})");
            let targets = |which: u8| match which { 0 => &["linux"][..], 1 => &["windows"][..], _ => &["linux", "windows"][..] };
            match doing {
                Doing::Adopt(who, n, since) => {
                    computers[usize::from(who)].record(minute, adopted(&text(n), &["linux"], since.map(at)));
                }
                Doing::Begin(who, n, which, back) => {
                    // As a command would: one move at a time, and none to what is there.
                    let computer = &mut computers[usize::from(who)];
                    let board = computer.board();
                    let now = board.branches.get(&pier()).map(|facts| facts.targets.clone()).unwrap_or_default();
                    let is_so = targets(which).iter().all(|target| now.get(&name(target)) == Some(&build(&text(n))));
                    if board.open_walks().is_empty() && !is_so {
                        computer.begin(minute, &text(n), targets(which), back);
                    }
                }
                Doing::Report(who, n, which) => {
                    let computer = &mut computers[usize::from(who)];
                    computer.report(minute, &text(n), targets(which));
                }
                Doing::Finish(who) => computers[usize::from(who)].finish(minute),
                Doing::Import(who) => {
                    let other = computers[usize::from(!who)].clone();
                    computers[usize::from(who)].import(&other);
                }
            }
        }
        let [mut desk, mut laptop] = computers;
        desk.import(&laptop);
        laptop.import(&desk);
        prop_assert_eq!(seen(&desk.board()), seen(&laptop.board()));
        prop_assert_eq!(desk.board().said, laptop.board().said);
    }
}
