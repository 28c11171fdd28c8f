//! What every ledger can do, wherever its events are kept.

use lantern_core::event::{Event, EventBody};
use lantern_core::names::Name;

use crate::{LedgerError, Reached, ServerFacts, Stamp};

/// An append-only log of events, a chain of digests for each computer that writes to it. [`crate::conformance`] says what
/// that means, and tries it.
pub trait Log {
    /// Returns the name that this computer has in it.
    fn device(&self) -> &str;

    /// Adds an event; it is kept when this returns. With `after`, only if nothing was added since that was reached: one who
    /// decided by what was known then, such as which number is free, has to look again.
    ///
    /// # Errors
    /// [`LedgerError::Conflict`] where something was added since; nothing is added then, nor with any other error.
    fn append(
        &mut self,
        after: Option<&Reached>,
        edition: &Name,
        stamp: Stamp,
        server: Option<ServerFacts>,
        body: EventBody,
    ) -> Result<Event, LedgerError>;

    /// Gives the events after those that were reached, each compared with the one before it, in the order of writing; what
    /// was reached is moved on.
    ///
    /// # Errors
    /// [`LedgerError::Event`] and [`LedgerError::Chain`] at the first event that is damaged.
    fn follow(&self, reached: &mut Reached, take: &mut dyn FnMut(Event)) -> Result<(), LedgerError>;

    /// Whether what was reached is still so.
    ///
    /// # Errors
    /// Those of reading.
    fn has_reached(&self, reached: &Reached) -> Result<bool, LedgerError>;

    /// Gives the events from the newest to the oldest, without comparing them, until `take` says false.
    ///
    /// # Errors
    /// [`LedgerError::Event`].
    fn backwards(&self, take: &mut dyn FnMut(Event) -> bool) -> Result<(), LedgerError>;

    /// Returns the line of one computer's event; none where there is no such event.
    ///
    /// # Errors
    /// Those of reading.
    fn line_of(&self, device: &str, sequence: u64) -> Result<Option<String>, LedgerError>;

    /// Adds events as their lines, all of them or none; those that are here already are passed over. Returns how many were
    /// added.
    ///
    /// # Errors
    /// [`LedgerError::Foreign`] when a line is no event, differs from the one that is here, or does not follow it.
    fn add_lines(&mut self, lines: &[String]) -> Result<u64, LedgerError>;
}
