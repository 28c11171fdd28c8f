mod show;
mod statement;
mod withdraw;
mod write;

use clap::Subcommand;
use lantern_core::version::ReleaseAsked;
use lantern_views::releases;

use super::Done;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern releases
  lantern releases 1.4.0 --files
  lantern releases write 1.4.0 saltmarsh-1.4.0.zip --target windows
  lantern releases statement 1.4.0 saltmarsh-1.4.0.json --key studio
  lantern releases withdraw 26 --because "a save bug""#;

/// List sealed releases, show what one holds, write one out, or withdraw one
///
/// Where each is: pushed to, and live on, by what is known here. With a release: its targets, depots, ids and files.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES, args_conflicts_with_subcommands = true)]
pub struct Args {
    #[command(subcommand)]
    action: Option<Action>,
    /// Which release to show: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    /// Every file with its size and digest
    #[arg(long, requires = "release")]
    files: bool,
    #[command(flatten)]
    edition: EditionArg,
}

#[derive(Debug, Subcommand)]
enum Action {
    /// Write a sealed release out again, as a folder or an archive (.zip, .tar, .tar.gz, .tar.zst)
    ///
    /// The same release gives the same bytes, on any computer. Several targets get a folder each.
    Write(write::Args),
    /// Write a signed statement of how a release was prepared, for those who get its files
    ///
    /// An in-toto statement in a DSSE envelope: every file with its SHA-256, what went in, who signed, what was accepted, and the last
    /// look. lantern verify checks it; docs/verifying.md says how with general tools alone.
    Statement(statement::Args),
    /// Take a release away for good, with a reason
    ///
    /// Nobody promotes it any more, here or at any storefront that has it. Players who have it keep it until something
    /// else is put on their branch: the plan says where.
    Withdraw(withdraw::Args),
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    match (&args.action, &args.release) {
        // Each has the edition that was named behind it.
        (Some(Action::Write(args)), _) => write::run(args, &ui.about(&args.edition)),
        (Some(Action::Statement(args)), _) => statement::run(args, &ui.about(&args.edition)),
        (Some(Action::Withdraw(args)), _) => withdraw::run(args, &ui.about(&args.edition)),
        (None, Some(asked)) => show::run(asked, args.files, &ui.about(&args.edition)),
        (None, None) => {
            let ui = &ui.about(&args.edition);
            let open = super::open(ui)?;
            let all = open.summaries()?;
            ui.answer(&releases::document(&all), &releases::view(&all, open.project.has_editions()));
            Ok(())
        }
    }
}
