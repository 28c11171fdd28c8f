use super::*;
use crate::event::NumberLeft;
use crate::event::{Action, BranchBuild, BuildGone, Freed, NextNumber, NotDone, Tried, Withdrawn};
use crate::notes::Notes;
use proptest::prelude::*;

fn storefront() -> StorefrontRef {
    StorefrontRef {
        id: "brambleyard-1".into(),
        name: "brambleyard".parse().unwrap(),
        handle: "saltmarsh-post".parse().unwrap(),
    }
}

fn id(n: u8) -> EventId {
    EventId::new(Timestamp::UNIX_EPOCH, [n; 10])
}

fn event(body: EventBody) -> Event {
    Event::sample(id(0), body)
}

fn name(text: &str) -> ReleaseName {
    text.parse().unwrap()
}

fn facts(revision: u64, release: &str) -> BranchFacts {
    let build = BranchBuild { number_there: revision, release: ReleaseId::of(release.as_bytes()), name: name(release) };
    BranchFacts {
        branch: "open-water".parse().unwrap(),
        revision,
        since: None,
        by: None,
        targets: [("linux".parse().unwrap(), build)].into(),
    }
}

fn sealed(release: &str) -> EventBody {
    let input = InputDigest::of(release.as_bytes());
    EventBody::Sealed(Sealed::new(ReleaseId::of(release.as_bytes()), name(release), input, Vec::new()))
}

fn boards(bodies: Vec<EventBody>) -> Boards {
    Boards::fold(&bodies.into_iter().map(event).collect::<Vec<_>>())
}

fn fold(bodies: Vec<EventBody>) -> Arc<Board> {
    boards(bodies).of(&Name::full_edition())
}

fn numbers(bodies: Vec<EventBody>) -> Arc<Numbers> {
    boards(bodies).numbers()
}

#[test]
fn releases_are_found_as_people_ask() {
    let board = fold(vec![sealed("1.3.2 (25)"), sealed("1.4.0 (26)"), sealed("1.4.0 (27)")]);
    let ask = |text: &str| board.release(Some(&text.parse().unwrap())).map(|r| r.name.to_string());
    assert_eq!(ask("1.4.0").as_deref(), Some("1.4.0 (27)"));
    assert_eq!(ask("26").as_deref(), Some("1.4.0 (26)"));
    assert_eq!(ask("2.0"), None);
    assert_eq!(board.release(None).unwrap().name.to_string(), "1.4.0 (27)");
    assert_eq!(numbers(vec![sealed("1.4.0 (27)")]).highest.unwrap().get(), 27);
}

#[test]
fn a_reserved_number_waits_for_its_release() {
    let input = InputDigest::of(b"1.4.0 (27)");
    let number = BuildNumber::new(27).unwrap();
    let reserved = EventBody::NumberReserved(NumberReserved { number, input });
    let board = fold(vec![reserved.clone()]);
    assert_eq!(board.reserved.get(&input), Some(&number));
    assert!(fold(vec![reserved, sealed("1.4.0 (27)")]).reserved.is_empty());
}

#[test]
fn a_number_seen_elsewhere_counts() {
    let there = numbers(vec![sealed("1.4.0 (27)"), found("0.9 (400)", 1)]);
    assert_eq!((there.highest.unwrap().get(), there.found_at.clone()), (400, Some(storefront().name)));
    let later = numbers(vec![found("0.9 (400)", 1), sealed("1.4.0 (401)")]);
    assert_eq!((later.highest.unwrap().get(), later.found_at.clone()), (401, None));
}

fn found(release: &str, build: u64) -> EventBody {
    let (name, targets) = (name(release), vec!["linux".parse().unwrap()]);
    let (storefront, release, by) = (storefront(), ReleaseId::of(release.as_bytes()), "fern".to_owned());
    EventBody::BuildFound(BuildFound {
        storefront,
        release,
        name,
        number_there: build,
        name_there: None,
        targets,
        by,
        message: None,
        notes: Notes::default(),
    })
}

#[test]
fn a_build_of_another_computer_is_a_release() {
    let board = fold(vec![sealed("1.3.2 (25)"), found("1.4.0 (26)", 3)]);
    let newest = board.release(None).unwrap();
    assert_eq!((newest.name.clone(), newest.found_at.clone()), (name("1.4.0 (26)"), Some(storefront())));
    assert_eq!(board.build_of(&storefront().key(), newest.id), Some(3));
    assert_eq!(numbers(vec![sealed("1.3.2 (25)"), found("1.4.0 (26)", 3)]).next().unwrap().get(), 27);
    // Anyone who sealed it later, or imported the ledger of who did, has it.
    let board = fold(vec![found("1.4.0 (26)", 3), sealed("1.4.0 (26)")]);
    assert_eq!((board.releases.len(), board.release(None).unwrap().found_at.clone()), (1, None));
    let gone = BuildGone { storefront: storefront(), release: newest.id, name: newest.name.clone(), number_there: 3 };
    assert!(fold(vec![found("1.4.0 (26)", 3), EventBody::BuildGone(gone)]).pushed.is_empty());
}

#[test]
fn a_release_whose_number_is_taken_or_passed_cannot_go_there() {
    let release = ReleaseId::of(b"1.4.0 (26)");
    let is_passed = |bodies| fold(bodies).is_passed(release, BuildNumber::new(26).unwrap(), &storefront().key());
    assert!(!is_passed(vec![sealed("1.4.0 (26)"), found("1.3.2 (25)", 1)]));
    assert!(is_passed(vec![sealed("1.4.0 (26)"), found("1.3.9 (26)", 1)]));
    assert!(is_passed(vec![sealed("1.4.0 (26)"), found("1.5.0 (27)", 1)]));
    assert!(!is_passed(vec![found("1.4.0 (26)", 1), found("1.5.0 (27)", 2)]));
}

#[test]
fn a_number_far_above_is_not_followed() {
    let next = |bodies| numbers(bodies).next().unwrap().get();
    let typo = "1.4.0 (2100000000)";
    assert_eq!(next(vec![sealed("1.3.2 (25)"), found(typo, 1)]), 26);
    assert_eq!(next(vec![found(typo, 1)]), 1, "not even where nothing is known");
    assert_eq!(next(vec![found("1.4.0 (20261127)", 1)]), 20_261_128);
    assert_eq!(next(vec![sealed("1.3.2 (25)"), found("1.4.0 (900000)", 1)]), 900_001);
    let known = numbers(vec![sealed("1.3.2 (25)"), found("1.4.0 (20261127)", 1)]);
    assert_eq!(known.far.values().map(|(_, name)| name.to_string()).collect::<Vec<_>>(), ["1.4.0 (20261127)"]);
    assert_eq!(known.next().unwrap().get(), 26);
    let set = |next| EventBody::NextNumber(NextNumber { next: BuildNumber::new(next).unwrap() });
    let far = || vec![sealed("1.3.2 (25)"), found("1.4.0 (20261127)", 1)];
    assert_eq!(next([far(), vec![set(20_261_128)]].concat()), 20_261_128);
    // And back again, as long as nothing has the lower number.
    assert_eq!(next([far(), vec![set(20_261_128), sealed("1.4.0 (20261128)"), set(26)]].concat()), 26);
    let left = NumberLeft { storefront: storefront(), name: name("1.4.0 (20261127)") };
    assert!(numbers([far(), vec![EventBody::NumberLeft(left)]].concat()).far.is_empty());
}

#[test]
fn a_storefront_that_went_back_is_believed() {
    let seen =
        |revision, release| EventBody::BranchReported(BranchReported::new(storefront(), facts(revision, release)));
    let back = BranchWentBack { storefront: storefront(), facts: facts(1, "1.3.2 (25)"), known: 3 };
    let base = || vec![seen(3, "1.4.0 (27)"), EventBody::BranchWentBack(back.clone())];
    let has =
        |bodies| fold(bodies).branches.clone().into_values().next().unwrap().targets.into_values().next().unwrap().name;
    assert_eq!(has(base()), name("1.3.2 (25)"));
    assert_eq!(has([base(), vec![seen(2, "1.5.0 (28)")]].concat()), name("1.5.0 (28)"));
}

#[test]
fn a_storefront_is_one_whatever_it_is_called() {
    let seen = |revision, called: &str, release| {
        let storefront = StorefrontRef { name: called.parse().unwrap(), ..storefront() };
        EventBody::BranchReported(BranchReported::new(storefront, facts(revision, release)))
    };
    let board = fold(vec![seen(1, "brambleyard", "1.3.2 (25)"), seen(2, "yard", "1.4.0 (27)")]);
    assert_eq!(board.branches.len(), 1);
    assert_eq!(board.branches.values().next().unwrap().revision, 2);
}

#[test]
fn a_target_that_a_move_leaves_alone_is_there_since_before() {
    let at = |second: i64| Some(Timestamp::from_second(second).unwrap());
    let seen = |revision: u64, second: i64, release: &str| {
        let mut facts = facts(revision, release);
        facts.since = at(second);
        let macos = BranchBuild { number_there: 1, release: ReleaseId::of(b"m"), name: name("1.3.2 (25)") };
        facts.targets.insert("macos".parse().unwrap(), macos);
        EventBody::BranchReported(BranchReported::new(storefront(), facts))
    };
    let board = fold(vec![seen(1, 100, "1.3.2 (25)"), seen(2, 200, "1.4.0 (27)")]);
    let since =
        |target: &str| board.since[&((storefront().key(), "open-water".parse().unwrap()), target.parse().unwrap())];
    assert_eq!((since("linux"), since("macos")), (at(200), at(100)));
}

#[test]
fn the_next_number_can_be_set_and_set_again() {
    let next = |next| EventBody::NextNumber(NextNumber { next: BuildNumber::new(next).unwrap() });
    let number = |bodies| numbers(bodies).next().unwrap().get();
    assert_eq!(number(vec![]), 1);
    assert_eq!(number(vec![next(25)]), 25);
    assert_eq!(number(vec![next(2500), next(25)]), 25, "a mistake can be taken back");
    assert_eq!(number(vec![next(25), sealed("1.4.0 (25)")]), 26);
    assert_eq!(number(vec![sealed("1.4.0 (25)"), next(25)]), 26, "a number is given once");
}

#[test]
fn an_action_is_open_until_something_is_known() {
    let asked = Asked {
        key: id(1),
        storefront: storefront(),
        action: Action::Promote { branch: "open-water".parse().unwrap() },
        release: ReleaseId::of(b"r"),
        name: name("1.4.0 (27)"),
        targets: Vec::new(),
    };
    let ask = EventBody::Asked(asked);
    assert_eq!(fold(vec![ask.clone()]).open.len(), 1);
    let moved = Moved {
        key: id(1),
        storefront: storefront(),
        facts: facts(3, "1.4.0 (27)"),
        because: None,
        restores: None,
        changes: Vec::new(),
        after: None,
    };
    assert!(fold(vec![ask.clone(), EventBody::Moved(moved)]).open.is_empty());
    let not_done = NotDone { key: id(1), why: "never arrived".into() };
    assert!(fold(vec![ask, EventBody::NotDone(not_done)]).open.is_empty());
}

#[test]
fn other_editions_and_unknown_kinds_change_nothing() {
    let mut other = event(sealed("1.4.0 (27)"));
    other.edition = "demo".parse().unwrap();
    let unknown = event(EventBody::Other { kind: "moon".into(), version: 3, payload: "null".into() });
    let boards = Boards::fold(&[other, unknown]);
    assert_eq!(*boards.of(&Name::full_edition()), Board::default());
    // But for the number: one names one release of the game, whatever its edition.
    assert_eq!(boards.numbers().highest.map(BuildNumber::get), Some(27));
}

#[test]
fn what_was_given_out_stays_as_it_was() {
    let mut boards = boards(vec![sealed("1.3.2 (25)")]);
    let before = boards.of(&Name::full_edition());
    boards.add(&event(sealed("1.4.0 (26)")));
    assert_eq!((before.releases.len(), boards.of(&Name::full_edition()).releases.len()), (1, 2));
    assert_eq!(boards.editions().map(Name::as_str).collect::<Vec<_>>(), ["full"]);
}

#[test]
fn what_is_withdrawn_is_not_the_newest_any_more() {
    let withdrawn = |storefront| {
        let release = ReleaseId::of(b"1.4.0-rc (26)");
        let because = "a save bug".to_owned();
        EventBody::Withdrawn(Withdrawn { key: None, storefront, release, name: name("1.4.0-rc (26)"), because })
    };
    let board =
        fold(vec![sealed("1.3.2 (25)"), sealed("1.4.0-rc (26)"), withdrawn(None), withdrawn(Some(storefront()))]);
    assert_eq!(board.release(None).unwrap().name, name("1.3.2 (25)"));
    let asked = "26".parse().unwrap();
    assert_eq!(board.withdrawn[&board.release(Some(&asked)).unwrap().id], "a save bug");
    assert_eq!(board.withdrawn_at.len(), 1);
}

#[test]
fn the_last_word_on_a_build_counts_and_sealing_again_brings_content_back() {
    let release = ReleaseId::of(b"1.3.2 (25)");
    let tried =
        |yes| EventBody::Tried(Tried { release, name: name("1.3.2 (25)"), target: "web".parse().unwrap(), yes });
    let freed = EventBody::Freed(Freed { releases: vec![release] });
    let board = fold(vec![sealed("1.3.2 (25)"), tried(false), tried(true), freed.clone()]);
    assert!(board.tried.values().flat_map(BTreeMap::values).eq([&true]));
    assert!(board.freed.contains(&release));
    assert!(fold(vec![sealed("1.3.2 (25)"), freed, sealed("1.3.2 (25)")]).freed.is_empty());
}

proptest! {
    #[test]
    fn the_highest_revision_wins_in_any_order(order in Just((1..9_u64).collect::<Vec<_>>()).prop_shuffle()) {
        let seen = |r: &u64| EventBody::BranchReported(BranchReported::new(storefront(), facts(*r, &format!("1.0.{r} ({r})"))));
        let board = fold(order.iter().map(seen).collect());
        prop_assert_eq!(board.branches.len(), 1);
        prop_assert_eq!(board.branches.values().next().unwrap().revision, 8);
    }
}
