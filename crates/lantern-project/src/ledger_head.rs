//! How far the ledger had come, so that its loss is noticed.
//!
//! Next to the ledger lies its head, which says how far it had come, and in the store lies a record of every release.
//! Anyone who knows of more than the ledger does shows that it was lost, emptied or replaced by an older one.

use std::collections::BTreeSet;

use lantern_core::digest::Digest;
use lantern_core::event::{Event, EventBody};
use lantern_ledger::Log;
use lantern_store::durable;
use lantern_store::store::Store;
use serde::{Deserialize, Serialize};

use crate::ProjectError;
use crate::project::{LEDGER, Project};
use crate::records::RecordsError;

/// Where it lies, in the state folder.
pub(crate) const HEAD: &str = "ledger.head";
const HEAD_FORMAT: &str = "lantern.ledger-head/1";
/// Longest head that is read, in bytes.
const MAX_HEAD_LEN: u64 = 4 * 1024;

/// How far the ledger had come.
#[derive(Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Head {
    format: String,
    /// This computer, as the ledger names it.
    pub device: String,
    pub sequence: u64,
    /// Plain BLAKE3 of the event's line.
    line: Digest,
}

/// Notes an event as the last one. Should that fail, the head says less than the ledger, which does no harm.
pub(crate) fn write_head(project: &Project, event: &Event) {
    let head = Head {
        format: HEAD_FORMAT.to_owned(),
        device: event.device.clone(),
        sequence: event.sequence,
        line: Digest::of(event.to_line().as_bytes()),
    };
    let bytes = serde_json::to_vec_pretty(&head).expect("a head has only string keys");
    if let Err(error) = durable::write_whole(&project.state(HEAD), &bytes) {
        log::warn!("the head of the ledger was not written: {error}");
    }
}

pub(crate) fn read_head(project: &Project) -> Option<Head> {
    let bytes = durable::read_limited(&project.state(HEAD), MAX_HEAD_LEN).ok()?;
    serde_json::from_slice(&bytes).ok().filter(|head: &Head| head.format == HEAD_FORMAT)
}

/// Refuses to go on with a ledger that knows less than what lies beside it; `ledger` is none before it is opened.
pub(crate) fn refuse_lost(project: &Project, ledger: Option<&dyn Log>, store: &Store) -> Result<(), ProjectError> {
    let head = read_head(project);
    let lost = |why: String| Err(RecordsError::LedgerLost { path: project.state(LEDGER), why }.into());
    let Some(ledger) = ledger else {
        // Opening would make a new one.
        let had_one = head.is_some() || !store.records()?.is_empty();
        return if had_one && !project.has_ledger() { lost("the file is not there".to_owned()) } else { Ok(()) };
    };
    if let Some(head) = head {
        return match ledger.line_of(&head.device, head.sequence)? {
            Some(line) if Digest::of(line.as_bytes()) == head.line => Ok(()),
            Some(_) => lost(format!("its event {} is not the one that was written last", head.sequence)),
            None => lost(format!("its event {} is missing, and perhaps others", head.sequence)),
        };
    }
    // Without a head the records of the store know which releases there were.
    let records = store.records()?;
    if records.is_empty() {
        return Ok(());
    }
    let known: BTreeSet<u32> = ledger.events()?.iter().filter_map(number_of).collect();
    for id in records {
        // One that cannot be read says nothing here; verify finds it.
        let Ok(record) = store.record(id) else { continue };
        if !known.contains(&record.number.get()) {
            return lost(format!("it does not contain {}, whose record is in the store", record.name()));
        }
    }
    Ok(())
}

/// The number that an event takes for a release: one that is reserved may have a record already.
fn number_of(event: &Event) -> Option<u32> {
    match &event.body {
        EventBody::NumberReserved(reserved) => Some(reserved.number.get()),
        EventBody::Sealed(sealed) => Some(sealed.name.number.get()),
        _ => None,
    }
}
