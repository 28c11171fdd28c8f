//! The board: which release is live where. A pure fold over the ledger's events.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;

use crate::digest::{InputDigest, ReleaseId};
use crate::event::{Asked, BranchFacts, Event, EventBody, EventId, PlaceRef, Pushed, Tried};
use crate::names::Name;
use crate::version::{BuildNumber, ReleaseAsked, ReleaseName, VersionError};

/// A sealed release as the ledger knows it.
#[derive(Debug, Clone, PartialEq)]
pub struct KnownRelease {
    /// Its identity.
    pub id: ReleaseId,
    /// The edition that it is of.
    pub edition: Name,
    /// How people name it.
    pub name: ReleaseName,
    /// What went in.
    pub input: InputDigest,
    /// When it was sealed.
    pub sealed_at: Timestamp,
}

/// A branch of a place, by the storefront's id, the title's handle and the branch's name.
pub type BranchKey = (PlaceRef, Name);

/// Everything that follows from the events of one edition.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Board {
    /// In the order of sealing.
    pub releases: Vec<KnownRelease>,
    /// The highest number ever reserved, of all editions: a number names one release of the game.
    pub highest_number: Option<BuildNumber>,
    /// The number that somebody wants the next release to have at least.
    pub wanted_number: Option<BuildNumber>,
    /// Numbers reserved and not yet sealed, by their input.
    pub reserved: BTreeMap<InputDigest, BuildNumber>,
    /// What each branch has: of all that was said, what has the highest server revision.
    pub branches: BTreeMap<BranchKey, BranchFacts>,
    /// Since when each target of a branch has what it has, as far as it was seen: a later move that leaves a target as
    /// it was does not count.
    pub since: BTreeMap<(BranchKey, Name), Option<Timestamp>>,
    /// Builds that were pushed, in order.
    pub pushed: Vec<Pushed>,
    /// Deeds that were asked for and of which nothing more is known.
    pub open: BTreeMap<EventId, Asked>,
    /// Releases that nobody may be given any more, with the reason.
    pub withdrawn: BTreeMap<ReleaseId, String>,
    /// Where each of them was withdrawn.
    pub withdrawn_at: BTreeSet<(PlaceRef, ReleaseId)>,
    /// What was said of sealed builds, by release and target: the last word counts.
    pub tried: BTreeMap<(ReleaseId, Name), Tried>,
    /// Releases whose content was freed.
    pub freed: BTreeSet<ReleaseId>,
}

impl Board {
    /// Folds events, given in the ledger's order, of one edition; others are passed over.
    pub fn fold<'a>(edition: &Name, events: impl IntoIterator<Item = &'a Event>) -> Self {
        let mut board = Self::default();
        for event in events {
            let number = match &event.body {
                EventBody::NumberReserved(reserved) => Some(reserved.number),
                EventBody::NumbersBegin(begin) => Some(begin.last),
                EventBody::Sealed(sealed) => Some(sealed.name.number),
                EventBody::NumberSeen(seen) => Some(seen.name.number),
                _ => None,
            };
            board.highest_number = board.highest_number.max(number);
            if let EventBody::NextNumber(wanted) = &event.body {
                board.wanted_number = Some(wanted.next);
            }
            if event.edition == *edition {
                board.apply(event);
            }
        }
        board
    }

    fn apply(&mut self, event: &Event) {
        match &event.body {
            EventBody::NumberReserved(reserved) => {
                self.reserved.insert(reserved.input, reserved.number);
            }
            EventBody::Sealed(sealed) => {
                self.reserved.remove(&sealed.input);
                self.freed.remove(&sealed.release);
                if !self.releases.iter().any(|r| r.id == sealed.release) {
                    self.releases.push(KnownRelease {
                        id: sealed.release,
                        edition: event.edition.clone(),
                        name: sealed.name.clone(),
                        input: sealed.input,
                        sealed_at: event.recorded_at,
                    });
                }
            }
            EventBody::Asked(asked) => {
                self.open.insert(asked.key, asked.clone());
            }
            EventBody::Pushed(pushed) => {
                if let Some(key) = pushed.key {
                    self.open.remove(&key);
                }
                let same = |p: &Pushed| p.place == pushed.place && p.release == pushed.release;
                if !self.pushed.iter().any(same) {
                    self.pushed.push(pushed.clone());
                }
            }
            EventBody::Moved(moved) => {
                self.open.remove(&moved.key);
                self.learn(&moved.place, &moved.facts);
            }
            EventBody::NotDone(not_done) => {
                self.open.remove(&not_done.key);
            }
            EventBody::Seen(seen) => self.learn(&seen.place, &seen.facts),
            EventBody::Withdrawn(withdrawn) => {
                if let Some(key) = withdrawn.key {
                    self.open.remove(&key);
                }
                self.withdrawn.entry(withdrawn.release).or_insert_with(|| withdrawn.because.clone());
                if let Some(place) = &withdrawn.place {
                    self.withdrawn_at.insert((place.clone(), withdrawn.release));
                }
            }
            EventBody::Tried(tried) => {
                self.tried.insert((tried.release, tried.target.clone()), tried.clone());
            }
            EventBody::Freed(freed) => self.freed.extend(&freed.releases),
            EventBody::NumbersBegin(_)
            | EventBody::NextNumber(_)
            | EventBody::NumberSeen(_)
            | EventBody::Connected(_)
            | EventBody::Invited(_)
            | EventBody::InvitationEnded(_)
            | EventBody::Rebuilt(_)
            | EventBody::Other { .. } => {}
        }
    }

    /// Branch facts are ordered by the server's revision, never by clocks.
    fn learn(&mut self, place: &PlaceRef, facts: &BranchFacts) {
        let key = (place.clone(), facts.branch.clone());
        let known = self.branches.get(&key);
        if known.is_some_and(|known| known.revision >= facts.revision) {
            return;
        }
        for (target, build) in &facts.targets {
            let as_before = known.and_then(|k| k.targets.get(target)) == Some(build);
            if !as_before {
                self.since.insert((key.clone(), target.clone()), facts.since);
            }
        }
        self.branches.insert(key, facts.clone());
    }

    /// Returns the newest release that is meant by what was asked; when nothing was, the newest that is not withdrawn.
    pub fn release(&self, asked: Option<&ReleaseAsked>) -> Option<&KnownRelease> {
        let fits = |r: &&KnownRelease| match asked {
            Some(asked) => asked.matches(&r.name),
            None => !self.withdrawn.contains_key(&r.id),
        };
        self.releases.iter().filter(fits).max_by_key(|r| r.name.number)
    }

    /// Returns the number that the next release will have.
    ///
    /// # Errors
    /// [`VersionError`] when numbers ran out.
    pub fn next_number(&self) -> Result<BuildNumber, VersionError> {
        let after = BuildNumber::after(self.highest_number)?;
        Ok(self.wanted_number.map_or(after, |wanted| wanted.max(after)))
    }

    /// Returns the build that a release has at a place.
    pub fn build_of(&self, place: &PlaceRef, release: ReleaseId) -> Option<u64> {
        self.pushed.iter().find(|p| p.place == *place && p.release == release).map(|p| p.build)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{BranchBuild, Deed, Freed, Moved, NotDone, NumberReserved, Sealed, Seen, Withdrawn};
    use proptest::prelude::*;

    fn place() -> PlaceRef {
        PlaceRef {
            storefront: "brambleyard-1".into(),
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
        let build = BranchBuild { build: revision, release: ReleaseId::of(release.as_bytes()), name: name(release) };
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
        EventBody::Sealed(Sealed { release: ReleaseId::of(release.as_bytes()), name: name(release), input })
    }

    fn fold(bodies: Vec<EventBody>) -> Board {
        let events: Vec<Event> = bodies.into_iter().map(event).collect();
        Board::fold(&Name::full_edition(), &events)
    }

    #[test]
    fn releases_are_found_as_people_ask() {
        let board = fold(vec![sealed("1.3.2 (25)"), sealed("1.4.0 (26)"), sealed("1.4.0 (27)")]);
        let ask = |text: &str| board.release(Some(&text.parse().unwrap())).map(|r| r.name.to_string());
        assert_eq!(ask("1.4.0").as_deref(), Some("1.4.0 (27)"));
        assert_eq!(ask("26").as_deref(), Some("1.4.0 (26)"));
        assert_eq!(ask("2.0"), None);
        assert_eq!(board.release(None).unwrap().name.to_string(), "1.4.0 (27)");
        assert_eq!(board.highest_number.unwrap().get(), 27);
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
        let seen = crate::event::NumberSeen { place: place(), name: name("0.9 (400)") };
        let board = fold(vec![sealed("1.4.0 (27)"), EventBody::NumberSeen(seen)]);
        assert_eq!(board.highest_number.unwrap().get(), 400);
    }

    #[test]
    fn a_target_that_a_move_leaves_alone_is_there_since_before() {
        let at = |second: i64| Some(Timestamp::from_second(second).unwrap());
        let seen = |revision: u64, second: i64, release: &str| {
            let mut facts = facts(revision, release);
            facts.since = at(second);
            let macos = BranchBuild { build: 1, release: ReleaseId::of(b"m"), name: name("1.3.2 (25)") };
            facts.targets.insert("macos".parse().unwrap(), macos);
            EventBody::Seen(Seen { place: place(), facts })
        };
        let board = fold(vec![seen(1, 100, "1.3.2 (25)"), seen(2, 200, "1.4.0 (27)")]);
        let since = |target: &str| board.since[&((place(), "open-water".parse().unwrap()), target.parse().unwrap())];
        assert_eq!((since("linux"), since("macos")), (at(200), at(100)));
    }

    #[test]
    fn numbers_go_on_after_those_of_before() {
        let begin = crate::event::NumbersBegin { last: BuildNumber::new(24).unwrap() };
        assert_eq!(fold(vec![EventBody::NumbersBegin(begin)]).highest_number.unwrap().get(), 24);
    }

    #[test]
    fn the_next_number_can_be_set_and_set_again() {
        let next = |next| EventBody::NextNumber(crate::event::NextNumber { next: BuildNumber::new(next).unwrap() });
        let number = |bodies| fold(bodies).next_number().unwrap().get();
        assert_eq!(number(vec![]), 1);
        assert_eq!(number(vec![next(25)]), 25);
        assert_eq!(number(vec![next(2500), next(25)]), 25, "a mistake can be taken back");
        assert_eq!(number(vec![next(25), sealed("1.4.0 (25)")]), 26);
        assert_eq!(number(vec![sealed("1.4.0 (27)"), next(25)]), 28, "numbers only rise");
    }

    #[test]
    fn a_deed_is_open_until_something_is_known() {
        let asked = Asked {
            key: id(1),
            place: place(),
            deed: Deed::Promote { branch: "open-water".parse().unwrap() },
            release: ReleaseId::of(b"r"),
            name: name("1.4.0 (27)"),
            targets: Vec::new(),
        };
        let ask = EventBody::Asked(asked);
        assert_eq!(fold(vec![ask.clone()]).open.len(), 1);
        let moved = Moved { key: id(1), place: place(), facts: facts(3, "1.4.0 (27)"), comment: None, restores: None };
        assert!(fold(vec![ask.clone(), EventBody::Moved(moved)]).open.is_empty());
        let not_done = NotDone { key: id(1), why: "never arrived".into() };
        assert!(fold(vec![ask, EventBody::NotDone(not_done)]).open.is_empty());
    }

    #[test]
    fn other_editions_and_unknown_kinds_change_nothing() {
        let mut other = event(sealed("1.4.0 (27)"));
        other.edition = "demo".parse().unwrap();
        let unknown = event(EventBody::Other { kind: "moon".into(), version: 3, payload: serde_json::Value::Null });
        let board = Board::fold(&Name::full_edition(), &[other, unknown]);
        // But for the number: one names one release of the game, whatever its edition.
        assert_eq!(board, Board { highest_number: board.highest_number, ..Board::default() });
        assert_eq!(board.highest_number.map(BuildNumber::get), Some(27));
    }

    #[test]
    fn what_is_withdrawn_is_not_the_newest_any_more() {
        let withdrawn = |place| {
            let release = ReleaseId::of(b"1.4.0-rc (26)");
            let because = "a save bug".to_owned();
            EventBody::Withdrawn(Withdrawn { key: None, place, release, name: name("1.4.0-rc (26)"), because })
        };
        let board =
            fold(vec![sealed("1.3.2 (25)"), sealed("1.4.0-rc (26)"), withdrawn(None), withdrawn(Some(place()))]);
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
        assert!(board.tried.values().all(|t| t.yes) && board.tried.len() == 1);
        assert!(board.freed.contains(&release));
        assert!(fold(vec![sealed("1.3.2 (25)"), freed, sealed("1.3.2 (25)")]).freed.is_empty());
    }

    proptest! {
        #[test]
        fn the_highest_revision_wins_in_any_order(order in Just((1..9_u64).collect::<Vec<_>>()).prop_shuffle()) {
            let seen = |r: &u64| EventBody::Seen(Seen { place: place(), facts: facts(*r, &format!("1.0.{r} ({r})")) });
            let board = fold(order.iter().map(seen).collect());
            prop_assert_eq!(board.branches.len(), 1);
            prop_assert_eq!(board.branches.values().next().unwrap().revision, 8);
        }
    }
}
