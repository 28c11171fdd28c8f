//! A log in memory, to try the suite on something that is not a database.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard};

use super::*;

/// Handles of one log share its lines.
#[derive(Debug, Clone, Default)]
pub(super) struct MemoryLog {
    lines: Arc<Mutex<Vec<String>>>,
    heard: Arc<Mutex<BTreeMap<String, Timestamp>>>,
}

impl MemoryLog {
    fn kept(&self) -> MutexGuard<'_, Vec<String>> {
        self.lines.lock().unwrap()
    }

    fn lines_and_events(&self) -> Result<Vec<(String, Event)>, LedgerError> {
        let lines = self.kept();
        let event = |(line, position): (&String, i64)| match Event::from_line(line) {
            Ok(event) => Ok((line.clone(), event)),
            Err(source) => Err(LedgerError::Event { position, source }),
        };
        lines.iter().zip(1..).map(event).collect()
    }
}

impl Log for MemoryLog {
    fn device(&self) -> &str {
        "memory"
    }

    fn is_read_only(&self) -> bool {
        false
    }

    fn lines(&self) -> Result<Vec<(i64, String)>, LedgerError> {
        Ok((1..).zip(self.kept().iter().cloned()).collect())
    }

    fn len_at_most(&self) -> Result<u64, LedgerError> {
        Ok(self.kept().len() as u64)
    }

    fn note_heard(&mut self, storefront: &str, at: Timestamp) -> Result<(), LedgerError> {
        self.heard.lock().unwrap().insert(storefront.to_owned(), at);
        Ok(())
    }

    fn heard(&self, storefront: &str) -> Result<Option<Timestamp>, LedgerError> {
        Ok(self.heard.lock().unwrap().get(storefront).copied())
    }

    fn append(
        &mut self,
        after: Option<&Reached>,
        edition: &Name,
        origin: Origin,
        server: Option<ServerFacts>,
        body: EventBody,
    ) -> Result<Event, LedgerError> {
        let count = i64::try_from(self.kept().len()).unwrap();
        if after.is_some_and(|after| after.position != count) {
            return Err(LedgerError::Conflict);
        }
        let last = self.lines_and_events()?.into_iter().rev().find(|(_, event)| event.device == "memory");
        let event = Event {
            id: EventId::new(origin.at, origin.random),
            device: "memory".to_owned(),
            sequence: last.as_ref().map_or(1, |(_, event)| event.sequence + 1),
            predecessor: last.map(|(line, _)| Digest::of(line.as_bytes())),
            actor: origin.actor,
            recorded_at: origin.at,
            happened_at: server.and_then(|s| s.happened_at),
            revision: server.map(|s| s.revision),
            edition: edition.clone(),
            body,
        };
        self.kept().push(event.to_line());
        Ok(event)
    }

    fn follow(&self, reached: &mut Reached, take: &mut dyn FnMut(Event)) -> Result<(), LedgerError> {
        let skipped = usize::try_from(reached.position).unwrap();
        for (line, position) in self.kept().iter().skip(skipped).zip(reached.position + 1..) {
            take(reached.chains.follow(line).map_err(|_| LedgerError::Chain { position })?);
            reached.position = position;
        }
        Ok(())
    }

    fn has_reached(&self, reached: &Reached) -> Result<bool, LedgerError> {
        let Some(last) = usize::try_from(reached.position).unwrap().checked_sub(1) else { return Ok(true) };
        let events = self.lines_and_events()?;
        let Some((line, event)) = events.get(last) else { return Ok(false) };
        Ok(reached.chains.end(&event.device).is_some_and(|(_, digest)| digest == Digest::of(line.as_bytes())))
    }

    fn backwards(&self, take: &mut dyn FnMut(Event) -> bool) -> Result<(), LedgerError> {
        self.lines_and_events()?.into_iter().rev().map(|(_, event)| event).all(take);
        Ok(())
    }

    fn line_of(&self, device: &str, sequence: u64) -> Result<Option<String>, LedgerError> {
        let mut events = self.lines_and_events()?.into_iter();
        Ok(events.find(|(_, e)| e.device == device && e.sequence == sequence).map(|(line, _)| line))
    }

    fn add_lines(&mut self, lines: &[String]) -> Result<u64, LedgerError> {
        let mut all = self.kept().clone();
        let mut chains = Chains::default();
        for line in &all {
            chains.follow(line).map_err(|_| LedgerError::Chain { position: 0 })?;
        }
        let before = all.len();
        for (line, number) in lines.iter().zip(1..) {
            if !all.contains(line) {
                chains.follow(line).map_err(|source| LedgerError::Foreign { line: number, source })?;
                all.push(line.clone());
            }
        }
        let added = all.len() - before;
        *self.kept() = all;
        Ok(added as u64)
    }
}
