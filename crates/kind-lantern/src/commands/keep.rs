use lantern_core::retention::RetentionRule;
use lantern_views::keep;

use super::{Agreement, Done};
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern keep --plan
  lantern keep --last 3 --live-within 30 --yes"#;

/// Keep the sealed releases that matter, and free the room of the others
///
/// What is live anywhere always stays, and so does what was live lately and what is newest. Of the others only the
/// record is left: what it held is still known, and preparing the same exports brings it back. What a release that
/// stays has in common with them stays with it, and so does what it is stored as a difference to.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// How many of the newest stay, of each edition
    #[arg(long, value_name = "N", default_value_t = RetentionRule::default().last)]
    last: usize,
    /// What was live on any branch within so many days stays
    #[arg(long, value_name = "DAYS", default_value_t = RetentionRule::default().live_within_days)]
    live_within: u32,
    #[command(flatten)]
    agreement: Agreement,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let rule = RetentionRule { last: args.last, live_within_days: args.live_within };
    if args.agreement.plan {
        // Anyone who only looks needs nobody's leave, and no disk that can be written.
        let open = super::open(ui)?;
        let held = open.hold_store(&ui.progress())?;
        let plan = open.plan_keep(rule)?;
        drop(held);
        ui.answer(&keep::document(&plan, plan.is_empty()), &keep::plan(&plan));
        return Ok(());
    }
    let mut session = super::lock(ui)?;
    let plan = session.workspace().plan_keep(rule)?;
    ui.show(&keep::plan(&plan));
    if plan.is_empty() {
        ui.document(&keep::document(&plan, true));
        return Ok(());
    }
    if !args.agreement.ask(ui)? {
        ui.document(&keep::document(&plan, false));
        return Err(CommandError::declined("nothing was changed", ui));
    }
    session.keep(&plan, &ui.progress())?;
    ui.answer(&keep::document(&plan, true), &keep::done(&plan));
    Ok(())
}
