use std::path::PathBuf;

use clap::Subcommand;
use lantern_project::Project;
use lantern_views::ledger::{self, Copied};

use super::Done;
use crate::ui::Ui;

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
            ui.answer(&ledger::copied_document(&copied, Copied::Export), &ledger::copied(&copied, Copied::Export));
            Ok(())
        }
        Action::Backup { to } => {
            let copied = super::lock(ui)?.workspace().back_ledger_up(to.as_deref())?;
            ui.answer(&ledger::copied_document(&copied, Copied::Backup), &ledger::copied(&copied, Copied::Backup));
            Ok(())
        }
        Action::Import { file } => {
            let added = super::lock(ui)?.import_ledger(file)?;
            ui.answer(&ledger::imported_document(added), &ledger::imported(added));
            Ok(())
        }
        Action::Rebuild { from } => {
            let project = Project::find(&ui.project, ui.stop.clone())?;
            crate::log_file::write_into(project.root());
            let (_, done) = project.rebuild_ledger(from.as_deref())?;
            ui.answer(&ledger::rebuilt_document(&done), &ledger::rebuilt(&done));
            Ok(())
        }
    }
}
