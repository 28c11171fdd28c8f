//! What people do by hand, and what they say of it.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Board, KnownRelease};
use crate::event::{Adopted, ApprovalSaid, Event, EventBody, Moved, NotDone, Pushed, StorefrontRef, Withdrawn};
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

/// What was last said of a bundle that was handed over for approval.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ApprovalWord {
    /// What.
    pub said: ApprovalSaid,
    /// By whom.
    pub by: String,
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
        let (key, storefront) = match &event.body {
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
            EventBody::NotDone(NotDone { key, .. }) => {
                self.walks.remove(key);
                return;
            }
            EventBody::Pushed(Pushed { key, storefront, .. })
            | EventBody::Withdrawn(Withdrawn { key, storefront: Some(storefront), .. }) => (*key, storefront),
            EventBody::Moved(Moved { key, storefront, .. }) => (Some(*key), storefront),
            _ => return,
        };
        if let (Some(key), true) = (key, storefront.is_by_hand()) {
            self.walks.remove(&key);
            self.heard_of(storefront, event);
        }
    }

    /// Takes in what was out already. What came later on its branch stays.
    pub(super) fn adopt(&mut self, adopted: &Adopted, event: &Event) {
        self.has_build(Pushed {
            targets: adopted.targets.clone(),
            ..Pushed::new(adopted.storefront.clone(), (adopted.release, adopted.name.clone()), adopted.number_there)
        });
        if !self.at.contains_key(&adopted.release) {
            let at = adopted.since.unwrap_or(event.recorded_at);
            let there = (adopted.targets.as_slice(), &adopted.storefront);
            self.keep(KnownRelease::found((adopted.release, &adopted.name), &event.edition, at, there));
        }
        self.heard_of(&adopted.storefront, event);
        self.said_adopted(adopted, event);
    }

    pub(super) fn heard_of(&mut self, storefront: &StorefrontRef, event: &Event) {
        let said = SaidOf { by: event.actor.clone(), at: event.recorded_at };
        let title = storefront.key();
        if self.said.get(&title).is_none_or(|known| known.at <= said.at) {
            self.said.insert(title, said);
        }
    }
}
