//! What every ledger can do, wherever its events are kept.

use jiff::Timestamp;
use lantern_core::event::{Event, EventBody};
use lantern_core::names::Name;

use crate::{LedgerError, Origin, Reached, ServerFacts};

/// An append-only log of events, a chain of digests for each computer that writes to it. The module `conformance`
/// says what that means, and tries it.
pub trait Log: std::fmt::Debug + Send {
    /// Returns the name that this computer has in it.
    fn device(&self) -> &str;

    /// Whether it can only be read.
    fn is_read_only(&self) -> bool;

    /// Adds an event; it is kept when this returns. With `after`, only if nothing was added since that was reached: one who
    /// decided by what was known then, such as which number is free, has to look again.
    ///
    /// # Errors
    /// [`LedgerError::Conflict`] where something was added since; nothing is added then, nor with any other error.
    fn append(
        &mut self,
        after: Option<&Reached>,
        edition: &Name,
        origin: Origin,
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

    /// Returns every event's line with its position, in the order of writing, as it stands: nothing is checked.
    ///
    /// # Errors
    /// Those of reading.
    fn lines(&self) -> Result<Vec<(i64, String)>, LedgerError>;

    /// Returns how many events there are, at most: in a ledger that never lost any, exactly.
    ///
    /// # Errors
    /// Those of reading.
    fn len_at_most(&self) -> Result<u64, LedgerError>;

    /// Notes when a storefront was last heard, where it can be written to. A convenience, not an event: it may be lost.
    ///
    /// # Errors
    /// Those of writing.
    fn note_heard(&mut self, storefront: &str, at: Timestamp) -> Result<(), LedgerError>;

    /// Returns when a storefront was last heard.
    ///
    /// # Errors
    /// Those of reading.
    fn heard(&self, storefront: &str) -> Result<Option<Timestamp>, LedgerError>;

    /// Returns every event in the order of writing, each compared with the one before it.
    ///
    /// # Errors
    /// Those of [`Self::follow`].
    fn events(&self) -> Result<Vec<Event>, LedgerError> {
        let mut out = Vec::new();
        self.follow(&mut Reached::default(), &mut |event| out.push(event))?;
        Ok(out)
    }
}
