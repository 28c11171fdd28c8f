use std::path::{Path, PathBuf};

use clap::Subcommand;
use lantern_core::names::Name;
use lantern_core::version::ReleaseName;
use lantern_project::{LedgerCopied, LedgerRebuilt, Project};
use serde::Serialize;

use super::Done;
use crate::format;
use crate::paint::{care, faint, good};
use crate::ui::{Next, Ui};

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern ledger backup --to ~/backups/saltmarsh-ledger.jsonl
  lantern ledger rebuild"#;

/// Copy, bring in or rebuild the record of everything that was done
///
/// The ledger says which releases there are, under which numbers, and what was put where. A copy of it is brought up to date
/// with every prepare, next to it in .lantern; another one, on another disk, is worth having.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES, subcommand_required = true)]
pub struct Args {
    #[command(subcommand)]
    action: Action,
}

#[derive(Debug, Subcommand)]
enum Action {
    /// Write every event, a line of JSON each, to a file or to standard output
    #[command(after_help = "Examples:\n  lantern ledger export\n  lantern ledger export ledger-2026-11-27.jsonl")]
    Export {
        /// The file to write; nothing may be there yet. Left out: standard output
        file: Option<PathBuf>,
    },
    /// Bring a copy of the ledger up to date: the usual one, or one elsewhere
    #[command(
        after_help = "Examples:\n  lantern ledger backup\n  lantern ledger backup --to /media/stick/ledger.jsonl"
    )]
    Backup {
        /// Another place for the copy; a file that is there must be an older copy of this ledger
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
    },
    /// Add what an exported ledger knows and this one does not
    #[command(
        after_help = "Examples:\n  lantern ledger import ledger.jsonl\n  lantern ledger import ../laptop/ledger.jsonl"
    )]
    Import {
        /// A file that export or backup has written
        file: PathBuf,
    },
    /// Make the ledger again when it was lost or is damaged
    ///
    /// Of what the old file and its copy still hold, of the release records in the store, and of what the storefronts have.
    /// It reports what could not be found out. The old file is kept next to the new one.
    #[command(
        after_help = "Examples:\n  lantern ledger rebuild\n  lantern ledger rebuild --from /media/stick/ledger.jsonl"
    )]
    Rebuild {
        /// A file that export or backup has written
        #[arg(long, value_name = "FILE")]
        from: Option<PathBuf>,
    },
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct CopiedDocument<'a> {
    schema: &'static str,
    #[cfg_attr(test, schemars(with = "String"))]
    path: &'a Path,
    events: u64,
    bytes: u64,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ImportedDocument {
    schema: &'static str,
    /// Events that were not known here.
    added: u64,
}

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
    unreachable: Vec<super::UnreachableDocument<'a>>,
    /// What nothing could tell, a sentence each.
    not_known: Vec<String>,
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    old_file: Option<&'a Path>,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    match &args.action {
        Action::Export { file: None } => {
            // The lines are the data, with and without --json.
            let (text, _) = super::open(ui)?.ledger_export()?;
            crate::ui::print(text.trim_end());
            Ok(())
        }
        Action::Export { file: Some(file) } => {
            let copied = super::open(ui)?.export_ledger_to(file)?;
            said(&copied, "lantern.ledger-export/1", "wrote", ui);
            Ok(())
        }
        Action::Backup { to } => {
            let copied = super::lock(ui)?.workspace().back_ledger_up(to.as_deref())?;
            said(&copied, "lantern.ledger-backup/1", "up to date:", ui);
            Ok(())
        }
        Action::Import { file } => {
            let added = super::lock(ui)?.import_ledger(file)?;
            ui.document(&ImportedDocument { schema: "lantern.ledger-import/1", added });
            ui.say(&match added {
                0 => "nothing to add: all of it is here already".to_owned(),
                _ => format!("{} {}", good("added"), format::count(added, "event", "events")),
            });
            Ok(())
        }
        Action::Rebuild { from } => {
            let project = Project::find(&ui.project, ui.stop.clone())?;
            crate::log_file::write_into(project.root());
            let (_, done) = project.rebuild_ledger(from.as_deref())?;
            show_rebuilt(&done, ui);
            Ok(())
        }
    }
}

fn said(copied: &LedgerCopied, schema: &'static str, word: &str, ui: &Ui) {
    ui.document(&CopiedDocument { schema, path: &copied.path, events: copied.events, bytes: copied.bytes });
    let events = format::count(copied.events, "event", "events");
    ui.say(&format!("{} {}, {events}, {}", good(word), copied.path.display(), format::bytes(copied.bytes)));
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

fn show_rebuilt(done: &LedgerRebuilt, ui: &Ui) {
    let not_known = not_known(done);
    let unreachable = done.unreachable.iter().map(|(storefront, why)| super::UnreachableDocument { storefront, why });
    ui.document(&RebuiltDocument {
        schema: "lantern.ledger-rebuild/1",
        copied_events: done.copied,
        lost_events: done.lost,
        releases: done.releases.iter().map(|(_, name)| name).collect(),
        without_content: &done.without_content,
        pushed: done.pushed,
        asked: &done.asked,
        unreachable: unreachable.collect(),
        not_known: not_known.clone(),
        old_file: done.old.as_deref(),
    });
    ui.say(&format!("{}\n", good("rebuilt the ledger")));
    let mut table = crate::table::Table::default();
    let kept = format::count(done.copied, "event", "events");
    table.row([faint("from old file and copy"), kept]);
    let names: Vec<String> = done.releases.iter().map(|(_, name)| name.to_string()).collect();
    let found = if names.is_empty() { "nothing more".to_owned() } else { lantern_core::finding::join_some(&names, 5) };
    table.row([faint("from the store"), found]);
    let asked = match (&done.asked[..], done.pushed) {
        ([], _) => "none could be asked".to_owned(),
        (asked, 0) => format!("nothing more, at {}", format::names(asked)),
        (asked, pushed) => format!("{}, at {}", format::count(pushed, "build", "builds"), format::names(asked)),
    };
    table.row([faint("from storefronts"), asked]);
    ui.say(&table.lay_out());
    for name in &done.without_content {
        ui.say(&format!("  {} only the record of {name} is left, its files are gone", care("careful:")));
    }
    for (name, why) in &done.unreachable {
        ui.say(&format!("  {} {name} could not be asked: {why}", care("careful:")));
    }
    for what in &not_known {
        ui.say(&format!("  {} {what}", care("not known:")));
    }
    if let Some(old) = &done.old {
        ui.say(&format!("  {} {}", faint("the old file is"), old.display()));
    }
    ui.next(Next::new("lantern verify", "then: lantern live"));
}
