//! What a branch of a storefront by hand has. No program can ask there, so it follows from what people said and from nothing
//! else: every word is put where it belongs in time, in whatever order the words became known here. Two computers that
//! know the same words say the same, and what was out long before can be added later.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Board, BranchKey};
use crate::digest::ReleaseId;
use crate::event::{
    Action, Adopted, BranchBuild, BranchFacts, BranchReported, Event, EventId, Moved, Pushed, StorefrontRef, counts_at,
};
use crate::names::Name;
use crate::version::{BuildNumber, ReleaseName};
use crate::walk::Walk;

/// What someone said of a branch.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Word {
    /// Since when it is so, as far as words can be put in order: what was adopted without a day comes before all others.
    pub at: Option<Timestamp>,
    /// Of the event; it decides between two of the same moment.
    pub id: EventId,
    /// Of the action that came to this; none for what was out before.
    pub key: Option<EventId>,
    /// What each target got; none for one that has nothing any more. Of other targets nothing was said.
    pub builds: BTreeMap<Name, Option<BranchBuild>>,
    /// Since when players have it, as it was said.
    pub since: Option<Timestamp>,
    /// Who put it there; not known of what was out before.
    pub by: Option<String>,
    /// Whether something was put back.
    pub goes_back: bool,
    /// Why, for the team.
    pub because: Option<String>,
}

impl Word {
    /// What an event says, without what only some say.
    fn new(
        event: &Event,
        at: Option<Timestamp>,
        key: Option<EventId>,
        builds: BTreeMap<Name, Option<BranchBuild>>,
    ) -> Self {
        Self { at, id: event.id, key, builds, since: None, by: None, goes_back: false, because: None }
    }

    fn order(&self) -> (Option<Timestamp>, EventId) {
        (self.at, self.id)
    }

    /// Whether both say the very same thing: the outcome of one action, or what was out before, as it was entered at two computers.
    fn is_same(&self, other: &Self) -> bool {
        match (self.key, other.key) {
            (None, None) => self.builds == other.builds && self.since == other.since,
            (own, other) => own == other,
        }
    }
}

/// The same build for each of these targets.
fn one_build(
    targets: &[Name],
    (number_there, release, name): (u64, ReleaseId, &ReleaseName),
) -> BTreeMap<Name, Option<BranchBuild>> {
    let build = BranchBuild { number_there, release, name: name.clone() };
    targets.iter().map(|target| (target.clone(), Some(build.clone()))).collect()
}

/// A move of a branch, as a storefront would state it.
#[derive(Debug, Clone, PartialEq)]
pub struct WordMove<'a> {
    /// What the branch had from then on.
    pub facts: BranchFacts,
    /// The earlier revision that was put back, where there is one.
    pub restores: Option<u64>,
    /// What was said.
    pub word: &'a Word,
}

/// All that was said of a branch.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(super) struct Words {
    /// In the order of time.
    said: Vec<Word>,
    /// What they come to.
    now: Standing,
}

/// What a branch has after some words.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Standing {
    facts: BranchFacts,
    /// The highest number that it had until it was put back.
    went_back: Option<BuildNumber>,
    /// Since when each target has what it has.
    since: BTreeMap<Name, Option<Timestamp>>,
}

impl Standing {
    fn nothing(branch: &Name) -> Self {
        let facts =
            BranchFacts { branch: branch.clone(), revision: 0, since: None, by: None, targets: BTreeMap::new() };
        Self { facts, went_back: None, since: BTreeMap::new() }
    }

    /// Takes in the word that comes after all others so far.
    fn take(&mut self, word: &Word) {
        let had = self.facts.targets.values().map(|build| build.name.number).max().max(self.went_back);
        self.went_back = if word.goes_back { had } else { None };
        for (target, build) in &word.builds {
            if self.facts.targets.get(target) == build.as_ref() {
                continue;
            }
            match build {
                Some(build) => {
                    self.facts.targets.insert(target.clone(), build.clone());
                    self.since.insert(target.clone(), word.since);
                }
                None => {
                    self.facts.targets.remove(target);
                    self.since.remove(target);
                }
            }
        }
        self.facts.revision += 1;
        self.facts.since = word.since;
        self.facts.by.clone_from(&word.by);
    }
}

impl Words {
    fn new(branch: &Name) -> Self {
        Self { said: Vec::new(), now: Standing::nothing(branch) }
    }

    fn take(&mut self, word: Word) {
        if let Some(known) = self.said.iter().position(|known| known.is_same(&word)) {
            if self.said.get(known).is_some_and(|known| known.order() <= word.order()) {
                return;
            }
            self.said.remove(known);
        } else if self.said.last().is_none_or(|last| last.order() <= word.order()) {
            self.now.take(&word);
            self.said.push(word);
            return;
        }
        let at = self.said.partition_point(|known| known.order() <= word.order());
        self.said.insert(at, word);
        self.now = Standing::nothing(&self.now.facts.branch);
        self.said.iter().for_each(|word| self.now.take(word));
    }
}

impl Board {
    /// Takes in a move by hand.
    pub(super) fn said_moved(&mut self, moved: &Moved, event: &Event) {
        let at = Some(counts_at(event.recorded_at, moved.after));
        let word = Word {
            since: moved.facts.since,
            by: moved.facts.by.clone(),
            goes_back: moved.restores.is_some(),
            because: moved.because.clone(),
            ..Word::new(event, at, Some(moved.key), moved.brings())
        };
        self.take_word(&moved.storefront, &moved.facts.branch, word);
    }

    /// Takes in that players of a branch got a release with its push.
    pub(super) fn said_pushed(&mut self, pushed: &Pushed, event: &Event) {
        let Some(branch) = &pushed.live_on else { return };
        let at = Some(counts_at(event.recorded_at, pushed.after));
        let build = (pushed.number_there, pushed.release, &pushed.name);
        let word = Word {
            since: Some(event.recorded_at),
            by: Some(event.actor.clone()),
            ..Word::new(event, at, Some(pushed.key.unwrap_or(event.id)), one_build(&pushed.targets, build))
        };
        self.take_word(&pushed.storefront, branch, word);
    }

    /// Takes in what a connector found a branch to have.
    pub(super) fn said_reported(&mut self, reported: &BranchReported, event: &Event) {
        let at = Some(counts_at(event.recorded_at, reported.after));
        let facts = &reported.facts;
        let builds = facts.targets.iter().map(|(target, build)| (target.clone(), Some(build.clone()))).collect();
        let said = Word::new(event, at, Some(event.id), builds);
        let word = Word { since: facts.since, by: facts.by.clone(), ..said };
        self.take_word(&reported.storefront, &facts.branch, word);
    }

    /// Takes in what a branch has or had before.
    pub(super) fn said_adopted(&mut self, adopted: &Adopted, event: &Event) {
        let Some(branch) = &adopted.branch else { return };
        let build = (adopted.number_there, adopted.release, &adopted.name);
        let word = Word {
            since: adopted.since,
            because: adopted.because.clone(),
            ..Word::new(event, adopted.since, None, one_build(&adopted.targets, build))
        };
        self.take_word(&adopted.storefront, branch, word);
    }

    fn take_word(&mut self, storefront: &StorefrontRef, branch: &Name, word: Word) {
        let key = (storefront.key(), branch.clone());
        let words = self.words.entry(key.clone()).or_insert_with(|| Words::new(branch));
        let had: Vec<Name> = words.now.since.keys().cloned().collect();
        words.take(word);
        for target in had {
            self.since.remove(&(key.clone(), target));
        }
        let since = words.now.since.iter().map(|(target, since)| ((key.clone(), target.clone()), *since));
        self.since.extend(since);
        match words.now.went_back {
            Some(number) => self.went_back.insert(key.clone(), number),
            None => self.went_back.remove(&key),
        };
        self.branches.insert(key, words.now.facts.clone());
    }

    /// Returns every move of a branch by hand, oldest first.
    pub fn moves_by_hand(&self, key: &BranchKey) -> Vec<WordMove<'_>> {
        let mut moves: Vec<WordMove<'_>> = Vec::new();
        let mut now = Standing::nothing(&key.1);
        for word in self.words.get(key).into_iter().flat_map(|words| &words.said) {
            now.take(word);
            let had = |facts: &BranchFacts| word.builds.iter().all(|(t, build)| facts.targets.get(t) == build.as_ref());
            let earlier = moves.iter().rev().skip(1).find(|earlier| had(&earlier.facts));
            let restores = earlier.filter(|_| word.goes_back).map(|earlier| earlier.facts.revision);
            moves.push(WordMove { facts: now.facts.clone(), restores, word });
        }
        moves
    }

    /// Returns when the newest word on a branch counts as said.
    pub fn newest_word(&self, key: &BranchKey) -> Option<Timestamp> {
        self.words.get(key)?.said.last()?.at
    }

    /// Returns what a branch by hand has for one of these targets by a word that belongs after this day, if there is one: what
    /// is adopted now does not replace it.
    pub fn later_word(&self, key: &BranchKey, since: Option<Timestamp>, targets: &[Name]) -> Option<&ReleaseName> {
        let words = self.words.get(key)?;
        let is_later = |word: &&Word| word.at > since;
        let is_about = |word: &&Word| targets.iter().any(|target| word.builds.contains_key(target));
        let word = words.said.iter().rev().take_while(is_later).find(is_about)?;
        targets.iter().find_map(|target| word.builds.get(target)?.as_ref()).map(|build| &build.name)
    }

    /// Returns the actions that people are doing by hand, by their keys. What two of them began at two computers is one; what
    /// is so already, because one of them was faster, is none any more.
    pub fn open_walks(&self) -> Vec<Walk> {
        let mut open: Vec<Walk> = Vec::new();
        for walk in self.walks.values().filter(|walk| !self.is_so(walk)) {
            match open.iter_mut().find(|known| known.is_twin(walk)) {
                Some(known) => known.join(walk),
                None => open.push(walk.clone()),
            }
        }
        open
    }

    /// Whether what an action is to bring about was said to be so when it began, or by another outcome since.
    fn is_so(&self, walk: &Walk) -> bool {
        let begun = &walk.begun;
        let title = begun.storefront.key();
        match &begun.action {
            Action::Push => self.pushed.iter().any(|pushed| {
                let has_all = begun.hand_over.iter().all(|file| pushed.targets.contains(&file.target));
                pushed.release == begun.release && pushed.storefront.is_at(&title) && has_all
            }),
            Action::Promote { branch } | Action::Rollback { branch } => {
                let Some(words) = self.words.get(&(title, branch.clone())) else { return false };
                let (brings, began) = (begun.brings(), walk.knows_until());
                let known = words.said.partition_point(|word| word.at <= Some(began));
                let (before, since) = words.said.split_at(known);
                let mut then = Standing::nothing(branch);
                before.iter().for_each(|word| then.take(word));
                let had = brings.iter().all(|(target, build)| then.facts.targets.get(target) == build.as_ref());
                let says_it = |word: &Word| brings.iter().all(|(target, build)| word.builds.get(target) == Some(build));
                had || since.iter().any(says_it)
            }
            Action::Withdraw { .. } => self.withdrawn_at.contains(&(title, begun.release)),
            Action::Other(_) => false,
        }
    }
}

#[cfg(test)]
mod tests;
