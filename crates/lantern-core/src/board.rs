//! The board: which release is live where. A pure fold over the ledger's events.
//!
//! [`Boards`] holds the fold of a whole ledger: [`Boards::add`] takes the next event in, so that nothing has to be folded
//! twice, and all of it can be written and read back as a snapshot.

mod by_hand;
mod rows;
mod words;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::digest::{InputDigest, ReleaseId};
use crate::event::{
    AcceptedFinding, Asked, BranchFacts, BranchReported, BranchWentBack, BuildFound, Event, EventBody, EventId, Moved,
    NumberReserved, Pushed, Sealed, StorefrontRef, TitleKey,
};
use crate::names::Name;
use crate::version::{BuildNumber, ReleaseAsked, ReleaseName, VersionError};
use crate::walk::Walk;

pub use by_hand::{ApprovalWord, LookAnswer, SaidOf};
pub use words::{Word, WordMove};

/// A sealed release as the ledger knows it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct KnownRelease {
    /// Its identity.
    pub id: ReleaseId,
    /// The edition that it is of.
    pub edition: Name,
    /// How people name it.
    pub name: ReleaseName,
    /// What went in; none for one that was sealed on another computer and found at a storefront.
    pub input: Option<InputDigest>,
    /// When it was sealed; for one that was found, when its build was made there.
    pub sealed_at: Timestamp,
    /// The targets that it has; empty where that is not known.
    pub targets: Vec<Name>,
    /// How many warnings there were when it was sealed.
    pub warnings: u64,
    /// The targets that were left unsigned, as someone had said.
    pub unsigned: Vec<Name>,
    /// What was found when it was sealed, and was meant to be so.
    pub accepted: Vec<AcceptedFinding>,
    /// Where it was found; none for one that was sealed here.
    pub found_at: Option<StorefrontRef>,
}

impl KnownRelease {
    /// One that was sealed here.
    pub fn sealed(sealed: &Sealed, edition: &Name, at: Timestamp) -> Self {
        Self {
            id: sealed.release,
            edition: edition.clone(),
            name: sealed.name.clone(),
            input: Some(sealed.input),
            sealed_at: at,
            targets: sealed.targets.clone(),
            warnings: sealed.warnings,
            unsigned: sealed.unsigned.clone(),
            accepted: sealed.accepted.clone(),
            found_at: None,
        }
    }

    /// One that was found at a storefront: how it was sealed is not known.
    fn found(
        (id, name): (ReleaseId, &ReleaseName),
        edition: &Name,
        at: Timestamp,
        (targets, storefront): (&[Name], &StorefrontRef),
    ) -> Self {
        Self {
            id,
            edition: edition.clone(),
            name: name.clone(),
            input: None,
            sealed_at: at,
            targets: targets.to_vec(),
            warnings: 0,
            unsigned: Vec::new(),
            accepted: Vec::new(),
            found_at: Some(storefront.clone()),
        }
    }

    /// By number; of two with one number the one that was sealed here comes last.
    fn order(&self) -> (BuildNumber, bool) {
        (self.name.number, self.found_at.is_none())
    }

    /// Whether it has a build for this target, as far as is known.
    pub fn has(&self, target: &Name) -> bool {
        self.targets.is_empty() || self.targets.contains(target)
    }
}

/// A branch of a storefront: the title there, and the branch's name.
pub type BranchKey = (TitleKey, Name);

/// How far above all known numbers one at a storefront may lie to be followed without a word. Ours: what is farther above
/// is more often a mistake than a way of numbering, and numbers never go down again.
pub const FAR: u32 = 1_000_000;

/// The numbers of all editions: a number names one release of the game.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Numbers {
    /// The number after which the next ones come.
    pub highest: Option<BuildNumber>,
    /// Every number that is taken, here or at a storefront.
    pub taken: BTreeSet<BuildNumber>,
    /// The number that someone set the next release to have.
    pub set: Option<BuildNumber>,
    /// The highest number at each storefront that lies too far above to be followed without a word, by the project's name.
    pub far: BTreeMap<Name, (StorefrontRef, ReleaseName)>,
    /// The storefront, by the project's name, that the highest number was first found at, where it was found at one.
    pub found_at: Option<Name>,
}

/// Everything that follows from the events of one edition.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Board {
    /// In the order of sealing.
    pub releases: Vec<KnownRelease>,
    /// Numbers reserved and not yet sealed, by their input.
    pub reserved: BTreeMap<InputDigest, BuildNumber>,
    /// Titles that were connected, by the project's name for the storefront.
    pub connected: BTreeMap<Name, StorefrontRef>,
    /// What each branch has: of all that was said, what has the highest server revision, unless its storefront went back.
    pub branches: BTreeMap<BranchKey, BranchFacts>,
    /// Branches that someone here put back, with the highest number that they had until then.
    pub went_back: BTreeMap<BranchKey, BuildNumber>,
    /// Since when each target of a branch has what it has, as far as it was seen: a later move that leaves a target as
    /// it was does not count.
    pub since: BTreeMap<(BranchKey, Name), Option<Timestamp>>,
    /// Builds that storefronts have, in the order in which it became known.
    #[serde(with = "rows")]
    pub pushed: Vec<Pushed>,
    /// Actions that were asked for and of which nothing more is known.
    pub open: BTreeMap<EventId, Asked>,
    /// Releases that nobody may be given any more, with the reason.
    pub withdrawn: BTreeMap<ReleaseId, String>,
    /// Where each of them was withdrawn.
    pub withdrawn_at: BTreeSet<(TitleKey, ReleaseId)>,
    /// What was said of sealed builds, by release and target: the last word counts.
    pub tried: BTreeMap<ReleaseId, BTreeMap<Name, bool>>,
    /// Releases whose content was freed.
    pub freed: BTreeSet<ReleaseId>,
    /// What was answered to the questions of the last look, by release and question: the last word counts.
    #[serde(default)]
    pub looked: BTreeMap<ReleaseId, BTreeMap<String, LookAnswer>>,
    /// Actions that people began by hand and did not end, by their keys. See [`Self::open_walks`].
    #[serde(default)]
    walks: BTreeMap<EventId, Walk>,
    /// What people said of the branches of storefronts by hand. Left out of [`Self::recent`].
    #[serde(default)]
    words: BTreeMap<BranchKey, words::Words>,
    /// Who last said something of a title that no program asks, and when.
    #[serde(default)]
    pub said: BTreeMap<TitleKey, SaidOf>,
    /// What was last said of bundles that are handed over for approval, by approval, target and the computer that hands them over.
    #[serde(default)]
    pub approvals: BTreeMap<(Name, Name, String), ApprovalWord>,
    /// How many older releases are left out of it; 0 for the whole board. See [`Self::recent`].
    pub left_out: usize,
    /// The number from which on none is left out.
    pub whole_from: Option<BuildNumber>,
    /// Where each release is in `releases`. Not kept: [`Boards::indexed`] makes it again.
    #[serde(skip)]
    at: BTreeMap<ReleaseId, usize>,
    /// The builds of each title that are in `pushed`; not kept either. Of one by hand two computers may have said the same
    /// number of two releases: nobody there counts for both.
    #[serde(skip)]
    builds: BTreeMap<TitleKey, BTreeSet<(u64, Option<ReleaseId>)>>,
}

/// What follows from all events of a ledger.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Boards {
    numbers: Arc<Numbers>,
    editions: BTreeMap<Name, Arc<Board>>,
}

impl Boards {
    /// Folds events, given in the ledger's order.
    pub fn fold<'a>(events: impl IntoIterator<Item = &'a Event>) -> Self {
        let mut boards = Self::default();
        events.into_iter().for_each(|event| boards.add(event));
        boards
    }

    /// Returns boards that were read back, ready for more events.
    #[must_use]
    pub fn indexed(mut self) -> Self {
        self.editions.values_mut().for_each(|board| Arc::make_mut(board).index());
        self
    }

    /// Takes in the event that was written after all others. What was given out before stays as it is.
    pub fn add(&mut self, event: &Event) {
        Arc::make_mut(&mut self.numbers).add(&event.body);
        Arc::make_mut(self.editions.entry(event.edition.clone()).or_default()).apply(event);
    }

    /// Returns the board of an edition; an empty one where nothing was recorded of it.
    pub fn of(&self, edition: &Name) -> Arc<Board> {
        self.editions.get(edition).cloned().unwrap_or_default()
    }

    /// Returns the numbers of all editions.
    pub fn numbers(&self) -> Arc<Numbers> {
        self.numbers.clone()
    }

    /// Returns every edition that anything was recorded of, by name.
    pub fn editions(&self) -> impl Iterator<Item = &Name> {
        self.editions.keys()
    }

    /// Returns the boards with their recent releases alone, and without the numbers.
    #[must_use]
    pub fn recent(&self, count: usize) -> Self {
        let recent = |(edition, board): (&Name, &Arc<Board>)| (edition.clone(), Arc::new(board.recent(count)));
        Self { numbers: Arc::default(), editions: self.editions.iter().map(recent).collect() }
    }

    /// How many releases there are.
    pub fn releases(&self) -> usize {
        self.editions.values().map(|board| board.releases.len()).sum()
    }

    /// How many older releases are left out of them.
    pub fn left_out(&self) -> usize {
        self.editions.values().map(|board| board.left_out).sum()
    }
}

impl Numbers {
    fn add(&mut self, body: &EventBody) {
        let before = self.highest;
        let mut there = |storefront: &StorefrontRef, name: &ReleaseName| {
            self.taken.insert(name.number);
            let is_typo = name.number.get() > BuildNumber::MAX - FAR;
            let known = self.highest.map_or(0, BuildNumber::get);
            let is_far = self.highest.is_some() && name.number.get() > known.saturating_add(FAR);
            if !is_far && !is_typo {
                self.highest = self.highest.max(Some(name.number));
            } else if name.number.get() > known {
                let far = || (storefront.clone(), name.clone());
                let known = self.far.entry(storefront.name.clone()).or_insert_with(far);
                if known.1.number < name.number {
                    *known = far();
                }
            }
        };
        match body {
            EventBody::NumberReserved(NumberReserved { number, .. })
            | EventBody::Sealed(Sealed { name: ReleaseName { number, .. }, .. }) => {
                self.taken.insert(*number);
                self.highest = self.highest.max(Some(*number));
                self.far.retain(|_, (_, far)| far.number > *number);
            }
            EventBody::BuildFound(BuildFound { storefront, name, .. }) => {
                there(storefront, name);
                if self.highest == Some(name.number) {
                    self.found_at = Some(storefront.name.clone());
                }
                return;
            }
            EventBody::Pushed(pushed) => there(&pushed.storefront, &pushed.name),
            EventBody::Adopted(adopted) => there(&adopted.storefront, &adopted.name),
            EventBody::BranchReported(BranchReported { storefront, facts, .. })
            | EventBody::Moved(Moved { storefront, facts, .. })
            | EventBody::BranchWentBack(BranchWentBack { storefront, facts, .. }) => {
                facts.targets.values().for_each(|build| there(storefront, &build.name));
            }
            EventBody::NextNumber(set) => {
                self.set = Some(set.next);
                self.highest = set.next.before();
                self.far.clear();
            }
            EventBody::NumberLeft(left) => {
                self.far.retain(|_, (_, far)| far.number > left.name.number);
            }
            _ => {}
        }
        if self.highest != before {
            self.found_at = None;
        }
    }

    /// Returns the number that the next release will have: the first after the highest that nothing has.
    ///
    /// # Errors
    /// [`VersionError`] when numbers ran out.
    pub fn next(&self) -> Result<BuildNumber, VersionError> {
        let mut next = BuildNumber::after(self.highest)?;
        while self.taken.contains(&next) {
            next = BuildNumber::after(Some(next))?;
        }
        Ok(next)
    }
}

impl Board {
    fn apply(&mut self, event: &Event) {
        self.follow_walks(event);
        match &event.body {
            EventBody::NumberReserved(reserved) => {
                self.reserved.insert(reserved.input, reserved.number);
            }
            EventBody::Sealed(sealed) => {
                self.reserved.remove(&sealed.input);
                self.freed.remove(&sealed.release);
                let known = self.at.get(&sealed.release).copied();
                let is_here = known.and_then(|at| self.releases.get(at)).is_some_and(|r| r.found_at.is_none());
                if !is_here {
                    // One that was found comes to the end of the list, as if it were sealed now.
                    if known.is_some() {
                        self.releases.retain(|r| r.id != sealed.release);
                        self.index();
                    }
                    self.keep(KnownRelease::sealed(sealed, &event.edition, event.recorded_at));
                }
            }
            EventBody::Connected(connected) => {
                self.connected.insert(connected.storefront.name.clone(), connected.storefront.clone());
            }
            EventBody::BuildFound(found) => {
                self.find(found, event);
            }
            EventBody::BuildGone(gone) => {
                let title = gone.storefront.key();
                if self.builds.get(&title).is_some_and(|builds| builds.contains(&(gone.number_there, None))) {
                    self.pushed.retain(|p| p.number_there != gone.number_there || !p.storefront.is_at(&title));
                    self.index();
                }
            }
            EventBody::BranchWentBack(back) => {
                let key = (back.storefront.key(), back.facts.branch.clone());
                self.branches.remove(&key);
                self.since.retain(|(known, _), _| *known != key);
                self.learn(&back.storefront, &back.facts);
            }
            EventBody::Asked(asked) => {
                self.open.insert(asked.key, asked.clone());
            }
            EventBody::Pushed(pushed) => {
                if let Some(key) = pushed.key {
                    self.open.remove(&key);
                }
                self.has_build(Pushed { live_on: None, after: None, ..pushed.clone() });
                self.said_pushed(pushed, event);
            }
            EventBody::Moved(moved) if moved.storefront.is_by_hand() => self.said_moved(moved, event),
            EventBody::Moved(moved) => {
                self.open.remove(&moved.key);
                let key = (moved.storefront.key(), moved.facts.branch.clone());
                let had = self.branches.get(&key).and_then(|f| f.targets.values().map(|b| b.name.number).max());
                let had = had.max(self.went_back.get(&key).copied());
                self.learn(&moved.storefront, &moved.facts);
                if let (Some(had), Some(_)) = (had, moved.restores) {
                    self.went_back.insert(key, had);
                }
            }
            EventBody::NotDone(not_done) => {
                self.open.remove(&not_done.key);
            }
            EventBody::BranchReported(seen) if seen.storefront.is_by_hand() => {
                self.said_reported(seen, event);
                self.heard_of(&seen.storefront, event);
            }
            EventBody::BranchReported(seen) => self.learn(&seen.storefront, &seen.facts),
            EventBody::Withdrawn(withdrawn) => {
                if let Some(key) = withdrawn.key {
                    self.open.remove(&key);
                }
                self.withdrawn.entry(withdrawn.release).or_insert_with(|| withdrawn.because.clone());
                if let Some(storefront) = &withdrawn.storefront {
                    self.withdrawn_at.insert((storefront.key(), withdrawn.release));
                }
            }
            EventBody::Tried(tried) => {
                self.tried.entry(tried.release).or_default().insert(tried.target.clone(), tried.yes);
            }
            EventBody::Freed(freed) => self.freed.extend(&freed.releases),
            EventBody::Adopted(adopted) => self.adopt(adopted, event),
            EventBody::Looked(looked) => {
                let answer = LookAnswer { yes: looked.yes, by: event.actor.clone(), at: event.recorded_at };
                self.looked.entry(looked.release).or_default().insert(looked.question.clone(), answer);
            }
            EventBody::ApprovalSaid(said) => {
                let key = (said.approval.clone(), said.target.clone(), event.device.clone());
                self.approvals.insert(key, ApprovalWord { said: said.clone(), by: event.actor.clone() });
            }
            EventBody::NextNumber(_)
            | EventBody::NumberLeft(_)
            | EventBody::Invited(_)
            | EventBody::InvitationEnded(_)
            | EventBody::Rebuilt(_)
            | EventBody::StepsBegun(_)
            | EventBody::StepSaid(_)
            | EventBody::Other { .. } => {}
        }
    }

    fn has_build(&mut self, pushed: Pushed) {
        if self.builds.entry(pushed.storefront.key()).or_default().insert(numbered(&pushed)) {
            self.pushed.push(pushed);
        }
    }

    fn keep(&mut self, release: KnownRelease) {
        self.at.insert(release.id, self.releases.len());
        self.releases.push(release);
    }

    /// Makes the indexes of what is in the lists.
    fn index(&mut self) {
        self.at = self.releases.iter().enumerate().map(|(at, release)| (release.id, at)).collect();
        self.builds.clear();
        for pushed in &self.pushed {
            self.builds.entry(pushed.storefront.key()).or_default().insert(numbered(pushed));
        }
    }

    fn find(&mut self, found: &BuildFound, event: &Event) {
        self.has_build(Pushed {
            name_there: found.name_there.clone(),
            message: found.message.clone(),
            notes: found.notes.clone(),
            ..Pushed::new(found.storefront.clone(), (found.release, found.name.clone()), found.number_there)
        });
        let known = self.at.get(&found.release).copied();
        match known.and_then(|at| self.releases.get_mut(at)) {
            // Another build of the same release has other targets.
            Some(known) if known.found_at.is_some() => {
                let more = found.targets.iter().filter(|target| !known.targets.contains(target)).cloned();
                known.targets.extend(more.collect::<Vec<_>>());
            }
            Some(_) => {}
            None => {
                let at = event.happened_at.unwrap_or(event.recorded_at);
                let there = (found.targets.as_slice(), &found.storefront);
                self.keep(KnownRelease::found((found.release, &found.name), &event.edition, at, there));
            }
        }
    }

    /// Branch facts are ordered by the server's revision, never by clocks.
    fn learn(&mut self, storefront: &StorefrontRef, facts: &BranchFacts) {
        let key = (storefront.key(), facts.branch.clone());
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
        self.went_back.remove(&key);
        self.branches.insert(key, facts.clone());
    }

    /// Returns the newest release that is meant by what was asked; when nothing was, the newest that is not withdrawn.
    pub fn release(&self, asked: Option<&ReleaseAsked>) -> Option<&KnownRelease> {
        let fits = |r: &&KnownRelease| match asked {
            Some(asked) => asked.matches(&r.name),
            None => !self.withdrawn.contains_key(&r.id),
        };
        self.releases.iter().filter(fits).max_by_key(|r| r.order())
    }

    /// Returns the newest release with a build for a target that is not withdrawn.
    pub fn newest_of(&self, target: &Name) -> Option<&KnownRelease> {
        let fits = |r: &&KnownRelease| r.has(target) && !self.withdrawn.contains_key(&r.id);
        self.releases.iter().filter(fits).max_by_key(|r| r.order())
    }

    /// Whether a release can no longer go to a title: it is not there, and another one with its number or a higher one is.
    pub fn is_passed(&self, release: ReleaseId, number: BuildNumber, title: &TitleKey) -> bool {
        let mut there = self.pushed.iter().filter(|p| p.storefront.is_at(title));
        !there.clone().any(|p| p.release == release) && there.any(|p| p.name.number >= number)
    }

    /// Returns what the board says of the newest `count` releases, of the newest of each target, and of those that are on a
    /// branch: enough to say what is live where, what lacks it, and what comes next, without what happened long ago. How
    /// many releases are left out stands in it: an older one is found on the whole board alone.
    #[must_use]
    pub fn recent(&self, count: usize) -> Self {
        let mut newest: Vec<&KnownRelease> = self.releases.iter().collect();
        newest.sort_by_key(|release| std::cmp::Reverse(release.order()));
        let targets: BTreeSet<&Name> = self.releases.iter().flat_map(|release| &release.targets).collect();
        let of_targets = targets.into_iter().filter_map(|target| self.newest_of(target)).chain(self.release(None));
        let on_branches = self.branches.values().flat_map(|facts| facts.targets.values()).map(|build| build.release);
        let walks = self.open_walks();
        let begun = walks.iter().map(|walk| walk.begun.release);
        let asked_for = self.open.values().map(|asked| asked.release).chain(begun);
        let mut kept: BTreeSet<ReleaseId> = newest.iter().take(count).map(|release| release.id).collect();
        kept.extend(of_targets.map(|release| release.id));
        kept.extend(on_branches.chain(asked_for));
        // Who has taken a number, or a higher one, at a storefront, is asked for the newest releases.
        let lowest = newest.iter().take(count).map(|release| release.name.number).min();
        let is_high = |pushed: &Pushed| lowest.is_none_or(|lowest| pushed.name.number >= lowest);
        let mut recent = Self {
            releases: self.releases.iter().filter(|release| kept.contains(&release.id)).cloned().collect(),
            reserved: self.reserved.clone(),
            connected: self.connected.clone(),
            branches: self.branches.clone(),
            went_back: self.went_back.clone(),
            since: self.since.clone(),
            pushed: self.pushed.iter().filter(|p| kept.contains(&p.release) || is_high(p)).cloned().collect(),
            open: self.open.clone(),
            walks: walks.into_iter().map(|walk| (walk.begun.key, walk)).collect(),
            words: BTreeMap::new(),
            looked: only_of(&self.looked, &kept),
            said: self.said.clone(),
            approvals: self.approvals.clone(),
            withdrawn: only_of(&self.withdrawn, &kept),
            withdrawn_at: self.withdrawn_at.iter().filter(|(_, id)| kept.contains(id)).cloned().collect(),
            tried: only_of(&self.tried, &kept),
            freed: self.freed.iter().filter(|id| kept.contains(*id)).copied().collect(),
            left_out: 0,
            whole_from: lowest,
            at: BTreeMap::new(),
            builds: BTreeMap::new(),
        };
        recent.left_out = self.releases.len() - recent.releases.len();
        recent.index();
        recent
    }

    /// Returns the releases of which none between them is left out, the newest first.
    pub fn newest_first(&self) -> Vec<&KnownRelease> {
        let is_whole = |release: &&KnownRelease| self.whole_from.is_none_or(|from| release.name.number >= from);
        let mut newest: Vec<&KnownRelease> = self.releases.iter().filter(is_whole).collect();
        newest.sort_by_key(|release| std::cmp::Reverse(release.name.number));
        newest
    }

    /// Returns the newest build that a title has of a release.
    pub fn build_of(&self, title: &TitleKey, release: ReleaseId) -> Option<u64> {
        let there = self.pushed.iter().filter(|p| p.storefront.is_at(title) && p.release == release);
        there.map(|p| p.number_there).max()
    }
}

/// What a build is known by at its title.
fn numbered(pushed: &Pushed) -> (u64, Option<ReleaseId>) {
    (pushed.number_there, pushed.storefront.is_by_hand().then_some(pushed.release))
}

/// What is known of some releases alone.
fn only_of<T: Clone>(all: &BTreeMap<ReleaseId, T>, kept: &BTreeSet<ReleaseId>) -> BTreeMap<ReleaseId, T> {
    all.iter().filter(|(id, _)| kept.contains(*id)).map(|(id, of)| (*id, of.clone())).collect()
}

#[cfg(test)]
mod tests;
