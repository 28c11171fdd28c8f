//! `number`: the build number that the next release gets.

use lantern_core::event::{Event, EventBody, NextNumber};
use lantern_core::version::BuildNumber;

use crate::ProjectError;
use crate::project::{Locked, Open};

/// The next number, and why it is that.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NextNumberShown {
    /// What the next release gets.
    pub next: BuildNumber,
    /// The highest that was taken so far, here or at a storefront.
    pub highest: Option<BuildNumber>,
    /// Where the highest was taken, in words; none where it was here.
    pub seen_at: Option<String>,
    /// What somebody set it to, where that counts.
    pub set_to: Option<BuildNumber>,
}

impl Open {
    /// Says which number the next release gets.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`], [`ProjectError::Number`] when numbers ran out.
    pub fn next_number(&self) -> Result<NextNumberShown, ProjectError> {
        let board = self.board(&self.project.first_edition())?;
        let next = board.next_number()?;
        let highest = board.highest_number;
        let after = BuildNumber::after(highest)?;
        let seen_at = self.events()?.iter().rev().find_map(|event| seen_at(event, highest));
        Ok(NextNumberShown { next, highest, seen_at, set_to: board.wanted_number.filter(|set| *set >= after) })
    }
}

fn seen_at(event: &Event, highest: Option<BuildNumber>) -> Option<String> {
    match &event.body {
        EventBody::NumberSeen(seen) if Some(seen.name.number) == highest => Some(seen.place.name.to_string()),
        _ => None,
    }
}

impl Locked {
    /// Sets the number that the next release gets.
    ///
    /// # Errors
    /// [`ProjectError::NumberTaken`] when it is not above all that were taken.
    pub fn set_next_number(&mut self, next: BuildNumber) -> Result<NextNumberShown, ProjectError> {
        let shown = self.open.next_number()?;
        if let Some(highest) = shown.highest.filter(|highest| next <= *highest) {
            return Err(ProjectError::NumberTaken { asked: next, highest });
        }
        if shown.next != next {
            let edition = self.open.project.first_edition();
            self.open.record(&edition, EventBody::NextNumber(NextNumber { next }), None)?;
        }
        self.open.next_number()
    }
}
