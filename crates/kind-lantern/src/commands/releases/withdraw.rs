use lantern_core::version::ReleaseAsked;
use lantern_project::Withdrawals;
use lantern_views::withdraw;

use super::super::{ASK_THEM, Agreement, Done, by_hand, lock, next, release_asked};
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

#[derive(Debug, clap::Args)]
pub struct Args {
    /// Which release: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(value_parser = release_asked)]
    release: ReleaseAsked,
    /// Why; your team and the storefronts read it
    #[arg(long, value_name = "TEXT")]
    because: Option<String>,
    #[command(flatten)]
    agreement: Agreement,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut session = lock(ui)?;
    let release = session.release_anywhere(&args.release)?;
    let known = session.workspace().board(&release.edition)?.withdrawn.get(&release.id).cloned();
    let because = match (known, &args.because) {
        (Some(known), _) => known,
        (None, Some(because)) => because.clone(),
        (None, None) => ui.ask("Why is it withdrawn?", "the reason", "--because")?,
    };
    if because.trim().is_empty() {
        return Err(CommandError::usage("a withdrawal needs a reason", "give it with --because"));
    }
    let plan = session.plan_withdraw(release, because)?;
    if plan.is_known && plan.storefronts.iter().all(|p| p.is_done) {
        ui.answer(&withdraw::document(&plan, true, &Withdrawals::default()), &withdraw::nothing_to_do(&plan));
        return Ok(());
    }
    ui.show(&withdraw::plan(&plan));
    if args.agreement.plan || !args.agreement.ask(ui)? {
        ui.document(&withdraw::document(&plan, false, &Withdrawals::default()));
        if !args.agreement.plan {
            return Err(CommandError::declined("nothing was changed", ui));
        }
        return Ok(());
    }
    let mut at = session.withdraw(&plan)?;
    ui.show(&withdraw::done(&plan, at.failed.last().map(|(name, _)| name)));
    let mut is_over = true;
    for open in &mut at.by_hand {
        let outcome = by_hand::walk(&mut session, open, ui)?;
        by_hand::show_outcome(open, outcome.as_ref(), ui);
        is_over &= outcome.is_some();
    }
    ui.document(&withdraw::document(&plan, at.failed.is_empty() && is_over, &at));
    match at.failed.pop() {
        Some((_, error)) => Err(CommandError::from(error).said_in(ui)),
        None if is_over => next(session.workspace(), ui, ASK_THEM),
        None => Ok(()),
    }
}
