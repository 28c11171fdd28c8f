//! Copies of the ledger, and a ledger that was made again.

use std::path::Path;

use lantern_core::finding::join_some;
use lantern_core::names::Name;
use lantern_core::version::ReleaseName;
use lantern_project::{LedgerCopied, LedgerRebuilt};
use serde::Serialize;

use crate::format;
use crate::paint::{care, faint, good};
use crate::shared::{UnreachableDocument, unreachable};
use crate::table::Table;
use crate::view::{Next, View};

/// What `lantern ledger export FILE --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct CopiedDocument<'a> {
    schema: &'static str,
    #[cfg_attr(test, schemars(with = "String"))]
    path: &'a Path,
    events: u64,
    bytes: u64,
}

/// What `lantern ledger import --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ImportedDocument {
    schema: &'static str,
    /// Events that were not known here.
    added: u64,
}

/// What `lantern ledger rebuild --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RebuiltDocument<'a> {
    schema: &'static str,
    /// Events that the old file or a copy still had.
    copied_events: u64,
    /// Events that this computer had recorded after the last one that was kept.
    lost_events: u64,
    /// Releases that are known only from their records.
    releases: Vec<&'a ReleaseName>,
    /// Those of them whose content is not in the store any more.
    without_content: &'a [ReleaseName],
    /// Builds at storefronts that were found again.
    pushed: u64,
    asked: &'a [Name],
    unreachable: Vec<UnreachableDocument<'a>>,
    /// What nothing could tell, a sentence each.
    not_known: Vec<String>,
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    old_file: Option<&'a Path>,
}

/// Why a copy was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Copied {
    /// Written to a file that is new.
    Export,
    /// Brought up to date.
    Backup,
}

/// A copy of the ledger.
pub fn copied_document(copied: &LedgerCopied, why: Copied) -> CopiedDocument<'_> {
    let schema = match why {
        Copied::Export => "lantern.ledger-export/1",
        Copied::Backup => "lantern.ledger-backup/1",
    };
    CopiedDocument { schema, path: &copied.path, events: copied.events, bytes: copied.bytes }
}

/// The same in a sentence.
pub fn copied(copied: &LedgerCopied, why: Copied) -> View {
    let mut view = View::default();
    let word = match why {
        Copied::Export => "wrote",
        Copied::Backup => "up to date:",
    };
    let events = format::count(copied.events, "event", "events");
    view.say(format!("{} {}, {events}, {}", good(word), copied.path.display(), format::bytes(copied.bytes)));
    view
}

/// How many events were added.
pub fn imported_document(added: u64) -> ImportedDocument {
    ImportedDocument { schema: "lantern.ledger-import/1", added }
}

/// The same in a sentence.
pub fn imported(added: u64) -> View {
    let mut view = View::default();
    view.say(match added {
        0 => "nothing to add: all of it is here already".to_owned(),
        _ => format!("{} {}", good("added"), format::count(added, "event", "events")),
    });
    view
}

/// What no copy, record or storefront reports.
fn not_known(done: &LedgerRebuilt) -> Vec<String> {
    let mut out = Vec::new();
    if done.lost > 0 {
        let events = format::count(done.lost, "event", "events");
        let since = done.last_kept.map_or(String::new(), |at| format!(" after {}", format::time(at)));
        out.push(format!("{events}{since}, except what storefronts reported above"));
    }
    if !done.releases.is_empty() {
        out.push("who sealed these releases and when, and the results of their trials".to_owned());
        out.push("which of them were withdrawn here and at no storefront".to_owned());
    }
    let names: Vec<String> = done.unreachable.iter().map(|(name, _)| name.to_string()).collect();
    if !names.is_empty() {
        out.push(format!("what is at {}: run lantern live when it answers", names.join(", ")));
    }
    out
}

/// What a ledger that was made again has.
pub fn rebuilt_document(done: &LedgerRebuilt) -> RebuiltDocument<'_> {
    RebuiltDocument {
        schema: "lantern.ledger-rebuild/1",
        copied_events: done.copied,
        lost_events: done.lost,
        releases: done.releases.iter().map(|(_, name)| name).collect(),
        without_content: &done.without_content,
        pushed: done.pushed,
        asked: &done.asked,
        unreachable: unreachable(&done.unreachable),
        not_known: not_known(done),
        old_file: done.old.as_deref(),
    }
}

/// The same as columns, with what nothing could tell.
pub fn rebuilt(done: &LedgerRebuilt) -> View {
    let mut view = View::default();
    view.say(format!("{}\n", good("rebuilt the ledger")));
    let mut table = Table::default();
    let kept = format::count(done.copied, "event", "events");
    table.row([faint("from old file and copy"), kept]);
    let names: Vec<String> = done.releases.iter().map(|(_, name)| name.to_string()).collect();
    let found = if names.is_empty() { "nothing more".to_owned() } else { join_some(&names, 5) };
    table.row([faint("from the store"), found]);
    let asked = match (&done.asked[..], done.pushed) {
        ([], _) => "none could be asked".to_owned(),
        (asked, 0) => format!("nothing more, at {}", format::names(asked)),
        (asked, pushed) => format!("{}, at {}", format::count(pushed, "build", "builds"), format::names(asked)),
    };
    table.row([faint("from storefronts"), asked]);
    view.table(table);
    for name in &done.without_content {
        view.say(format!("  {} only the record of {name} is left, its files are gone", care("careful:")));
    }
    for (name, why) in &done.unreachable {
        view.say(format!("  {} {name} could not be asked: {why}", care("careful:")));
    }
    for what in not_known(done) {
        view.say(format!("  {} {what}", care("not known:")));
    }
    if let Some(old) = &done.old {
        view.say(format!("  {} {}", faint("the old file is"), old.display()));
    }
    view.next(Next::new("lantern verify", "then: lantern live"));
    view
}
