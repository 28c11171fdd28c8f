//! An action that a person does by hand: its steps, and what was said of each. A fold over the ledger's events, so that two
//! people at two computers see the same.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::event::{
    Action, BranchFacts, EventBody, EventId, HandedOver, Moved, Pushed, StepSaid, StepStanding, StepsBegun, Withdrawn,
    counts_at,
};
use crate::names::Name;
use crate::step::{NUMBER_OF, NUMBER_THERE, Step};
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
    /// The last that was said of each step, whether it is open again or not.
    pub said: BTreeMap<Name, Said>,
    /// The keys of the same action, begun at other computers that did not know of this.
    #[serde(default)]
    pub also: Vec<EventId>,
}

/// The numbers that a storefront gave to a build.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NumbersThere {
    /// Its own; none where it has none, or nobody read it back.
    pub there: Option<u64>,
    /// Those of single targets.
    pub of_targets: BTreeMap<Name, u64>,
}

/// What is known of the storefront when an action there is over.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct There {
    /// The number that a build gets there when nobody read one back.
    pub free: u64,
    /// What the branch has that it is about.
    pub now: Option<BranchFacts>,
    /// When the newest word on that branch counts as said, where the clock here is behind that.
    pub after: Option<Timestamp>,
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
        Self { begun, by, at, said: BTreeMap::new(), also: Vec::new() }
    }

    /// Takes in what was said of a step. What a newer lantern says of a step that is not there is passed over, and so is
    /// what was said before the word that is known.
    pub fn take(&mut self, said: &StepSaid, by: &str, recorded_at: Timestamp) {
        let at = counts_at(recorded_at, said.after);
        self.hear(&said.step, Said { standing: said.standing.clone(), by: by.to_owned(), at });
    }

    fn hear(&mut self, step: &Name, said: Said) {
        let is_own = self.begun.steps.iter().any(|own| own.id == *step);
        if is_own && self.said.get(step).is_none_or(|known| known.at <= said.at) {
            self.said.insert(step.clone(), said);
        }
    }

    /// Every key that it goes by.
    pub fn keys(&self) -> impl Iterator<Item = EventId> {
        std::iter::once(self.begun.key).chain(self.also.iter().copied())
    }

    /// Whether it goes by this key.
    pub fn is(&self, key: EventId) -> bool {
        self.keys().any(|known| known == key)
    }

    /// Whether this is the same action, begun a second time by someone who did not know of the first.
    pub fn is_twin(&self, other: &Self) -> bool {
        let (own, other) = (&self.begun, &other.begun);
        let is_same = match (&own.action, &other.action) {
            (Action::Withdraw { .. }, Action::Withdraw { .. }) => true,
            (Action::Other(_), _) => false,
            (own, other) => own == other,
        };
        let targets = |begun: &StepsBegun| -> Vec<Name> { begun.hand_over.iter().map(|f| f.target.clone()).collect() };
        let is_there = own.storefront.key() == other.storefront.key() && own.release == other.release;
        is_same && is_there && targets(own) == targets(other) && own.brings() == other.brings()
    }

    /// Takes in the same action, begun at another computer: what was said there of its steps was said of these.
    pub fn join(&mut self, twin: &Self) {
        self.also.push(twin.begun.key);
        for (step, said) in &twin.said {
            self.hear(step, said.clone());
        }
    }

    /// The time of the newest word that was known when it was begun.
    pub fn knows_until(&self) -> Timestamp {
        let after = self.begun.wanted.as_ref().and_then(|wanted| wanted.after);
        after.map_or(self.at, |after| after.max(self.at))
    }

    /// What stands of a step: what was said last, unless it is open again.
    pub fn standing(&self, step: &Name) -> Option<&Said> {
        self.said.get(step).filter(|said| said.standing != StepStanding::Reopened)
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
        let said = self.standing(step).map(|said| &said.standing);
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
        let said = self.standing(step);
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
        let said = self.standing(&self.current()?.id)?;
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

    /// What is to be recorded when every step is done or left out; none before.
    pub fn outcome(&self, there: &There) -> Option<EventBody> {
        if self.current().is_some() {
            return None;
        }
        let last = self.said.values().max_by_key(|said| said.at)?;
        let of_target = |file: &HandedOver| {
            let number = self.answer(&format!("{NUMBER_OF}{}", file.target))?.parse().ok()?;
            Some((file.target.clone(), number))
        };
        let numbers = NumbersThere {
            there: self.answer(NUMBER_THERE).and_then(|text| text.parse().ok()),
            of_targets: self.begun.hand_over.iter().filter_map(of_target).collect(),
        };
        let day = self.answer(SINCE).and_then(|text| text.parse::<jiff::civil::Date>().ok());
        let day = day.and_then(|day| day.to_zoned(jiff::tz::TimeZone::UTC).ok()).map(|day| day.timestamp());
        self.end(numbers, &last.by, day.unwrap_or(last.at), there)
    }

    /// What is to be recorded when it is over: with these numbers there, by whom, and since when players have it. None for an
    /// action that only a newer lantern knows.
    pub fn end(&self, numbers: NumbersThere, by: &str, since: Timestamp, there: &There) -> Option<EventBody> {
        let begun = &self.begun;
        let (key, storefront) = (begun.key, begun.storefront.clone());
        let (release, name) = (begun.release, begun.name.clone());
        let number_there = numbers.there.unwrap_or(there.free);
        Some(match (&begun.action, &begun.wanted) {
            (Action::Promote { branch } | Action::Rollback { branch }, Some(wanted)) => {
                // Of other targets something else may have been said since it began.
                let brings = wanted.brings();
                let mut targets = there.now.as_ref().map(|now| now.targets.clone()).unwrap_or_default();
                targets.retain(|target, _| !brings.contains_key(target));
                let changes = brings.keys().cloned().collect();
                targets.extend(brings.into_iter().filter_map(|(target, build)| Some((target, build?))));
                let facts = BranchFacts {
                    branch: branch.clone(),
                    revision: there.now.as_ref().map_or(0, |now| now.revision) + 1,
                    since: Some(since),
                    by: Some(by.to_owned()),
                    targets,
                };
                let (because, restores, after) = (begun.because.clone(), wanted.restores, there.after);
                EventBody::Moved(Moved { key, storefront, facts, because, restores, changes, after })
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
                name_there: begun.name_there.clone(),
                live_on: begun.live_on.clone(),
                sent: begun.hand_over.iter().map(|file| file.bytes).sum(),
                targets: begun.hand_over.iter().map(|file| file.target.clone()).collect(),
                message: begun.message.clone(),
                notes: begun.notes.clone(),
                numbers: numbers.of_targets,
                after: there.after.filter(|_| begun.live_on.is_some()),
                ..Pushed::new(storefront, (release, name), number_there)
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
