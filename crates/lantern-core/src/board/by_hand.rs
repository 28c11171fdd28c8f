//! What people do by hand, and what they say of it.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Board, KnownRelease};
use crate::event::{Adopted, BranchBuild, BranchFacts, Event, EventBody, Moved, NotDone, Pushed, Withdrawn};
use crate::notes::Notes;
use crate::walk::Walk;

/// An answer to a question of the last look.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LookAnswer {
    /// Whether it is so.
    pub yes: bool,
    /// Who said so.
    pub by: String,
    /// When.
    pub at: Timestamp,
}

/// Who said last how things stand at a storefront, and when.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SaidOf {
    /// Who.
    pub by: String,
    /// When.
    pub at: Timestamp,
}

impl Board {
    /// Takes in what people do by hand.
    pub(super) fn follow_walks(&mut self, event: &Event) {
        let key = match &event.body {
            EventBody::StepsBegun(begun) => {
                let walk = Walk::new(begun.clone(), event.actor.clone(), event.recorded_at);
                self.walks.insert(begun.key, walk);
                return;
            }
            EventBody::StepSaid(said) => {
                if let Some(walk) = self.walks.get_mut(&said.key) {
                    walk.take(said, &event.actor, event.recorded_at);
                }
                return;
            }
            EventBody::Pushed(Pushed { key: Some(key), .. })
            | EventBody::Moved(Moved { key, .. })
            | EventBody::Withdrawn(Withdrawn { key: Some(key), .. })
            | EventBody::NotDone(NotDone { key, .. }) => key,
            _ => return,
        };
        if let Some(walk) = self.walks.remove(key)
            && !matches!(event.body, EventBody::NotDone(_))
        {
            let said = SaidOf { by: event.actor.clone(), at: event.recorded_at };
            self.said.insert(walk.begun.storefront.key(), said);
        }
    }

    /// Takes in that players of a branch got a release with its push.
    pub(super) fn goes_live(&mut self, pushed: &Pushed, event: &Event) {
        let Some(branch) = &pushed.live_on else { return };
        let known = self.branches.get(&(pushed.storefront.key(), branch.clone()));
        let build =
            BranchBuild { number_there: pushed.number_there, release: pushed.release, name: pushed.name.clone() };
        let mut targets = known.map(|facts| facts.targets.clone()).unwrap_or_default();
        targets.extend(pushed.targets.iter().map(|target| (target.clone(), build.clone())));
        let facts = BranchFacts {
            branch: branch.clone(),
            revision: known.map_or(0, |facts| facts.revision) + 1,
            since: Some(event.recorded_at),
            by: Some(event.actor.clone()),
            targets,
        };
        self.learn(&pushed.storefront, &facts);
    }

    /// Takes in what was out already. What came later on its branch stays.
    pub(super) fn adopt(&mut self, adopted: &Adopted, event: &Event) {
        let title = adopted.storefront.key();
        self.has_build(Pushed {
            key: None,
            storefront: adopted.storefront.clone(),
            release: adopted.release,
            name: adopted.name.clone(),
            number_there: adopted.number_there,
            name_there: None,
            sent: 0,
            live_on: None,
            targets: adopted.targets.clone(),
            message: None,
            notes: Notes::default(),
        });
        if !self.at.contains_key(&adopted.release) {
            self.keep(KnownRelease {
                id: adopted.release,
                edition: event.edition.clone(),
                name: adopted.name.clone(),
                input: None,
                sealed_at: adopted.since.unwrap_or(event.recorded_at),
                targets: adopted.targets.clone(),
                warnings: 0,
                found_at: Some(adopted.storefront.clone()),
            });
        }
        self.said.insert(title.clone(), SaidOf { by: event.actor.clone(), at: event.recorded_at });
        let Some(branch) = &adopted.branch else { return };
        let known = self.branches.get(&(title, branch.clone()));
        let is_later = |facts: &BranchFacts| match (facts.since, adopted.since) {
            (Some(there), Some(since)) => there > since,
            (there, since) => there.is_some() && since.is_none(),
        };
        if known.is_some_and(is_later) {
            return;
        }
        let build =
            BranchBuild { number_there: adopted.number_there, release: adopted.release, name: adopted.name.clone() };
        let mut targets = known.map(|facts| facts.targets.clone()).unwrap_or_default();
        targets.extend(adopted.targets.iter().map(|target| (target.clone(), build.clone())));
        let facts = BranchFacts {
            branch: branch.clone(),
            revision: known.map_or(0, |facts| facts.revision) + 1,
            since: adopted.since,
            // Who put it there is not known; who said so is.
            by: None,
            targets,
        };
        self.learn(&adopted.storefront, &facts);
    }
}
