use lantern_core::version::ReleaseAsked;
use lantern_project::HistoryAsked;
use lantern_views::history;

use super::Done;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern history
  lantern history --branch open-water --since 2026-11-01"#;

/// Show what happened, newest first
///
/// What was done and reported, from the ledger in .lantern/. An action is shown once, when it was answered; --all shows every
/// event, also the asking.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// How many at most
    #[arg(long, value_name = "N", default_value_t = 30)]
    count: usize,
    /// Every event, also those that an answer settled
    #[arg(long)]
    all: bool,
    /// Only what concerns a release: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(long, value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    /// Only what concerns a storefront
    #[arg(long, value_name = "NAME")]
    storefront: Option<String>,
    /// Only what concerns a branch
    #[arg(long, value_name = "NAME")]
    branch: Option<String>,
    /// Only from this day on, such as 2026-11-23
    #[arg(long, value_name = "DAY", value_parser = super::day)]
    since: Option<jiff::civil::Date>,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let open = super::open(ui)?;
    let found = open.history(&HistoryAsked {
        count: args.count,
        all: args.all,
        release: args.release.clone(),
        storefront: args.storefront.clone(),
        branch: args.branch.clone(),
        since: args.since,
        edition: ui.edition.clone(),
    })?;
    let view = history::view(&found, args.count, open.project.has_editions(), lantern_project::now());
    ui.answer(&history::document(&found), &view);
    Ok(())
}
