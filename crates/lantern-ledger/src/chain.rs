//! The chains of events: one for each computer, each line bound to the one before it by its digest.

use std::collections::BTreeMap;

use lantern_core::digest::Digest;
use lantern_core::event::{Event, EventError};
use serde::{Deserialize, Serialize};

/// Why a line does not follow.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ChainError {
    /// It is no event.
    #[error(transparent)]
    Event(#[from] EventError),
    /// It does not follow its computer's event before it.
    #[error("it does not follow the event before it of the same computer")]
    Order,
}

/// How far each computer's chain has come.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Chains(BTreeMap<String, (u64, Digest)>);

impl Chains {
    /// Reads a line that must follow its computer's last.
    ///
    /// # Errors
    /// [`ChainError`]; the chain is then as it was.
    pub fn follow(&mut self, line: &str) -> Result<Event, ChainError> {
        let event = Event::from_line(line)?;
        let follows = match self.0.get(&event.device) {
            Some((sequence, digest)) => event.sequence == sequence + 1 && event.predecessor == Some(*digest),
            None => event.sequence == 1 && event.predecessor.is_none(),
        };
        if !follows {
            return Err(ChainError::Order);
        }
        self.0.insert(event.device.clone(), (event.sequence, Digest::of(line.as_bytes())));
        Ok(event)
    }

    /// Returns the last event of a computer: its sequence and the digest of its line.
    pub(crate) fn end(&self, device: &str) -> Option<(u64, Digest)> {
        self.0.get(device).copied()
    }

    /// Returns how far a computer's chain has come; zero where nothing of it was read.
    pub fn last(&self, device: &str) -> u64 {
        self.0.get(device).map_or(0, |(sequence, _)| *sequence)
    }
}
