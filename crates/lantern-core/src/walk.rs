//! An action that a person does by hand: its steps, and what was said of each. A fold over the ledger's events, so that two
//! people at two computers see the same.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::event::{Action, BranchFacts, EventBody, Moved, Pushed, StepSaid, StepStanding, StepsBegun, Withdrawn};
use crate::names::Name;
use crate::step::{NUMBER_THERE, Step};
use crate::template::{Template, Values};

/// The key under which the day is read back since which players have it.
pub const SINCE: &str = "since";

/// What was said of a step, by whom and when.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Said {
    /// How it stands.
    pub standing: StepStanding,
    /// Who said so.
    pub by: String,
    /// When.
    pub at: Timestamp,
}

/// An action on its way.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Walk {
    /// How it began.
    pub begun: StepsBegun,
    /// By whom.
    pub by: String,
    /// When.
    pub at: Timestamp,
    /// The last that was said of each step.
    pub said: BTreeMap<Name, Said>,
}

/// Why nothing can be said of a step.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum WalkError {
    /// There is none of this name.
    #[error("there is no step {asked:?}")]
    NoStep {
        /// What was asked for.
        asked: String,
        /// Those that there are.
        known: Vec<Name>,
    },
    /// It was said before that it is done or left out.
    #[error("{by} said before that the step {step} is {how}")]
    Settled {
        /// Which.
        step: Name,
        /// Who said so.
        by: String,
        /// `done`, or `left out`.
        how: &'static str,
    },
    /// Nothing was said of it that could be taken back.
    #[error("the step {step} is open")]
    Open {
        /// Which.
        step: Name,
    },
}

impl Walk {
    /// An action that begins.
    pub fn new(begun: StepsBegun, by: String, at: Timestamp) -> Self {
        Self { begun, by, at, said: BTreeMap::new() }
    }

    /// Takes in what was said of a step. What a newer lantern says of a step that is not there is passed over.
    pub fn take(&mut self, said: &StepSaid, by: &str, at: Timestamp) {
        if self.begun.steps.iter().any(|step| step.id == said.step) {
            let said_of = Said { standing: said.standing.clone(), by: by.to_owned(), at };
            match said.standing {
                StepStanding::Reopened => self.said.remove(&said.step),
                _ => self.said.insert(said.step.clone(), said_of),
            };
        }
    }

    /// Returns the step of this name.
    ///
    /// # Errors
    /// [`WalkError::NoStep`].
    pub fn step(&self, name: &str) -> Result<&Step, WalkError> {
        let known = || self.begun.steps.iter().map(|step| step.id.clone()).collect();
        let found = self.begun.steps.iter().find(|step| step.id.as_str() == name);
        found.ok_or_else(|| WalkError::NoStep { asked: name.to_owned(), known: known() })
    }

    /// Whether a step is done or left out.
    pub fn is_settled(&self, step: &Name) -> bool {
        let said = self.said.get(step).map(|said| &said.standing);
        matches!(said, Some(StepStanding::Done { .. } | StepStanding::Skipped { .. }))
    }

    /// Returns the step that comes next; none when all are done or left out.
    pub fn current(&self) -> Option<&Step> {
        self.begun.steps.iter().find(|step| !self.is_settled(&step.id))
    }

    /// Returns the last settled step before the current one, which going back opens again.
    pub fn before_current(&self) -> Option<&Step> {
        let current = self.current().map(|step| &step.id);
        let before = self.begun.steps.iter().take_while(|step| Some(&step.id) != current);
        before.filter(|step| self.is_settled(&step.id)).last()
    }

    /// Returns the number of a step, from 1, and how many there are.
    pub fn place_of(&self, step: &Name) -> (usize, usize) {
        let at = self.begun.steps.iter().position(|known| known.id == *step).unwrap_or(0);
        (at + 1, self.begun.steps.len())
    }

    /// Says whether this may be said of a step now.
    ///
    /// # Errors
    /// [`WalkError`].
    pub fn may_say(&self, step: &Name, standing: &StepStanding) -> Result<(), WalkError> {
        self.step(step.as_str())?;
        let said = self.said.get(step);
        match (standing, said) {
            (StepStanding::Reopened, None) => Err(WalkError::Open { step: step.clone() }),
            (StepStanding::Reopened, Some(_)) | (_, None) => Ok(()),
            (_, Some(said)) => {
                let how = match &said.standing {
                    StepStanding::Done { .. } => "done",
                    StepStanding::Skipped { .. } => "left out",
                    StepStanding::Waiting { .. } | StepStanding::Reopened | StepStanding::Other(_) => return Ok(()),
                };
                Err(WalkError::Settled { step: step.clone(), by: said.by.clone(), how })
            }
        }
    }

    /// Returns what was read back, by its key.
    pub fn read_back(&self) -> BTreeMap<&Name, &str> {
        let answers = self.said.values().filter_map(|said| match &said.standing {
            StepStanding::Done { read_back } => Some(read_back),
            _ => None,
        });
        answers.flatten().map(|(key, text)| (key, text.as_str())).collect()
    }

    /// Returns a step with everything put in that was read back so far.
    pub fn shown(&self, step: &Step) -> Step {
        let mut values = Values::default();
        for (key, text) in self.read_back() {
            values.set(format!("read-back.{key}"), text);
        }
        // What was not read back yet is shown as what is asked for.
        for back in self.begun.steps.iter().flat_map(|step| &step.read_back) {
            if !self.read_back().contains_key(&back.key) {
                values.set(format!("read-back.{}", back.key), format!("({}: not known yet)", back.key));
            }
        }
        let fill = |text: &String| Template::read_again(text).map_or_else(|_| text.clone(), |t| t.fill(&values));
        let mut shown = step.clone();
        shown.text = fill(&step.text);
        shown.open = step.open.as_ref().map(fill).filter(|open| !open.is_empty());
        for (paste, kept) in shown.paste.iter_mut().zip(&step.paste) {
            paste.text = fill(&kept.text);
        }
        shown
    }

    /// Returns when the current step is due, if it waits for someone.
    pub fn waits_until(&self) -> Option<(Timestamp, Option<Timestamp>)> {
        let said = self.said.get(&self.current()?.id)?;
        match said.standing {
            StepStanding::Waiting { due } => Some((said.at, due)),
            _ => None,
        }
    }

    /// When a step that waits from `at` on is usually over.
    pub fn due(step: &Step, at: Timestamp) -> Option<Timestamp> {
        let takes = SignedDuration::from_secs(i64::try_from(step.takes?).ok()?);
        at.checked_add(takes).ok()
    }

    /// What is to be recorded when every step is done or left out; none before. `free` is the number that it gets there when
    /// none was read back.
    pub fn outcome(&self, free: u64) -> Option<EventBody> {
        if self.current().is_some() {
            return None;
        }
        let last = self.said.values().max_by_key(|said| said.at)?;
        let number = self.answer(NUMBER_THERE).and_then(|text| text.parse().ok());
        let day = self.answer(SINCE).and_then(|text| text.parse::<jiff::civil::Date>().ok());
        let day = day.and_then(|day| day.to_zoned(jiff::tz::TimeZone::UTC).ok()).map(|day| day.timestamp());
        self.end(number.unwrap_or(free), &last.by, day.unwrap_or(last.at))
    }

    /// What is to be recorded when it is over: with this number there, by whom, and since when players have it. None for an
    /// action that only a newer lantern knows.
    pub fn end(&self, number_there: u64, by: &str, since: Timestamp) -> Option<EventBody> {
        let begun = &self.begun;
        let (key, storefront) = (begun.key, begun.storefront.clone());
        let (release, name) = (begun.release, begun.name.clone());
        Some(match (&begun.action, &begun.wanted) {
            (Action::Promote { branch } | Action::Rollback { branch }, Some(wanted)) => {
                let facts = BranchFacts {
                    branch: branch.clone(),
                    revision: wanted.revision + 1,
                    since: Some(since),
                    by: Some(by.to_owned()),
                    targets: wanted.targets.clone(),
                };
                let (because, restores) = (begun.because.clone(), wanted.restores);
                EventBody::Moved(Moved { key, storefront, facts, because, restores })
            }
            (Action::Withdraw { because }, _) => EventBody::Withdrawn(Withdrawn {
                key: Some(key),
                storefront: Some(storefront),
                release,
                name,
                because: because.clone(),
            }),
            (Action::Push, _) => EventBody::Pushed(Pushed {
                key: Some(key),
                storefront,
                release,
                name,
                number_there,
                name_there: begun.name_there.clone(),
                live_on: begun.live_on.clone(),
                sent: begun.hand_over.iter().map(|file| file.bytes).sum(),
                targets: begun.hand_over.iter().map(|file| file.target.clone()).collect(),
                message: begun.message.clone(),
                notes: begun.notes.clone(),
            }),
            _ => return None,
        })
    }

    fn answer(&self, key: &str) -> Option<&str> {
        self.read_back().into_iter().find(|(known, _)| known.as_str() == key).map(|(_, text)| text)
    }
}

/// Puts the steps into the order in which players have nothing for as short as can be: where the old file has to go first,
/// what removes it comes right before what brings the new one. All others stay in the order in which they were written.
pub fn in_order(steps: Vec<Step>, one_at_a_time: bool) -> Vec<Step> {
    if !one_at_a_time || !steps.iter().any(|step| step.brings_new) {
        return steps;
    }
    let (mut removing, others): (Vec<Step>, Vec<Step>) =
        steps.into_iter().partition(|step| step.removes_old && !step.brings_new);
    let mut out = Vec::new();
    for step in others {
        if step.brings_new {
            out.append(&mut removing);
        }
        out.push(step);
    }
    out
}

/// For how long players have nothing, by what the rules say of the steps in between.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Gap {
    /// In seconds, as far as it is known.
    pub seconds: u64,
    /// Whether it is known of every step how long it takes.
    pub is_known: bool,
    /// Whether it ends within these steps.
    pub ends: bool,
}

/// Returns for how long players have nothing while these steps are done; none where they always have something.
pub fn gap(steps: &[Step]) -> Option<Gap> {
    let first = steps.iter().position(|step| step.removes_old)?;
    let brings = steps.iter().position(|step| step.brings_new);
    if brings.is_some_and(|brings| brings <= first) {
        return None;
    }
    let until = brings.map_or(steps.len(), |brings| brings + 1);
    let between = steps.get(first + 1..until).unwrap_or_default();
    let seconds = between.iter().filter_map(|step| step.takes).sum();
    Some(Gap { seconds, is_known: between.iter().all(|step| step.takes.is_some()), ends: brings.is_some() })
}

#[cfg(test)]
mod tests;
