//! What `promote` and `rollback` share: the plan on the screen, the question, the action.

use lantern_project::{MovePlan, Session};
use lantern_views::{moves, push};

use super::{Agreement, Done, by_hand};
use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// What can be said on the command line of any move.
#[derive(Debug, clap::Args)]
pub struct Options {
    /// The release's name, exactly as the plan shows it
    #[arg(long, value_name = "RELEASE")]
    confirm: Option<String>,
    /// Why, for your team
    #[arg(long, value_name = "TEXT")]
    pub because: Option<String>,
    #[command(flatten)]
    agreement: Agreement,
}

impl Options {
    /// Returns the release that was named beforehand.
    pub fn confirmed(&self) -> Option<&str> {
        self.confirm.as_deref()
    }
}

/// `anyway` moves a release that someone tried and said no to.
pub fn run(session: &mut Session, plan: &MovePlan, options: &Options, anyway: bool, ui: &Ui) -> Done {
    if plan.is_done() {
        ui.answer(&moves::document(plan, true, Some(plan.before.revision)), &moves::nothing_to_do(plan));
        return Ok(());
    }
    let is_agreed = options.agreement.yes || options.confirm.is_some();
    if !(ui.is_quiet() && is_agreed && !options.agreement.plan) {
        ui.show(&moves::plan(plan, session.project()));
    }
    if options.agreement.plan {
        ui.document(&moves::document(plan, false, None));
        return Ok(());
    }
    plan.refuse_failed_trial(anyway)?;
    plan.refuse_lacking()?;
    let agreed = if plan.is_for_everyone() {
        super::ask_for_name(ui, &plan.release.name, options.confirm.as_deref())?
    } else {
        options.confirm.is_some() || options.agreement.ask(ui)?
    };
    if !agreed {
        ui.document(&moves::document(plan, false, None));
        return Err(CommandError::declined("nothing was changed", ui));
    }
    if plan.steps.is_some() {
        let mut open = session.begin_move(plan)?;
        let outcome = by_hand::walk(session, &mut open, ui)?;
        by_hand::show_outcome(&open, outcome.as_ref(), ui);
        ui.document(&moves::document_by_hand(plan, &open, outcome.as_ref()));
        return if outcome.is_some() { super::next(session.workspace(), ui, super::ASK_THEM) } else { Ok(()) };
    }
    let updates = session.bring_updates_for(plan, &ui.progress())?;
    let facts = session.move_branch(plan)?;
    ui.show(&push::updates(&updates));
    ui.answer(&moves::document(plan, true, Some(facts.revision)), &moves::done(plan));
    super::next(session.workspace(), ui, super::ASK_THEM)
}
