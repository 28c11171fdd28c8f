use lantern_core::names::Name;
use lantern_core::version::{ReleaseAsked, ReleaseName};
use lantern_project::WithdrawPlan;
use serde::Serialize;

use super::super::{ASK_THEM, Agreement, Done, lock, next, release_asked};
use crate::args::EditionArg;
use crate::diagnostic::CommandError;
use crate::format;
use crate::paint::{care, faint, good, strong};
use crate::table::Table;
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

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    edition: &'a Name,
    release: &'a ReleaseName,
    because: &'a str,
    /// Storefronts that have it.
    storefronts: Vec<&'a Name>,
    /// Branches whose players have it.
    live_on: Vec<LiveDocument<'a>>,
    /// Whether it was carried out.
    done: bool,
    /// Storefronts that could not be reached, with the reason.
    not_told: Vec<NotTold>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LiveDocument<'a> {
    storefront: &'a Name,
    branch: &'a Name,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct NotTold {
    storefront: Name,
    why: String,
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
        ui.document(&document(&plan, true, Vec::new()));
        ui.say(&format!("nothing to do: {} is withdrawn everywhere", strong(&plan.release.name)));
        return Ok(());
    }
    show(&plan, ui);
    if args.agreement.plan || !args.agreement.ask(ui)? {
        ui.document(&document(&plan, false, Vec::new()));
        if !args.agreement.plan {
            return Err(CommandError::declined("nothing was changed", ui));
        }
        return Ok(());
    }
    let mut failed = session.withdraw(&plan)?;
    let not_told = failed.iter().map(|(name, error)| NotTold { storefront: name.clone(), why: error.to_string() });
    ui.document(&document(&plan, failed.is_empty(), not_told.collect()));
    ui.say(&format!("\n{} {}: it can no longer be promoted", good("withdrawn"), strong(&plan.release.name)));
    if failed.is_empty() {
        return next(session.workspace(), ui, ASK_THEM);
    }
    if let Some((name, error)) = failed.pop() {
        ui.say(&format!("  {} {name} could not be reached; run the command again to tell it", care("but:")));
        return Err(CommandError::from(error).said_in(ui));
    }
    Ok(())
}

fn document(plan: &WithdrawPlan, done: bool, not_told: Vec<NotTold>) -> Document<'_> {
    Document {
        schema: "lantern.withdraw/1",
        edition: &plan.release.edition,
        release: &plan.release.name,
        because: &plan.because,
        storefronts: plan.storefronts.iter().map(|p| &p.storefront.name).collect(),
        live_on: plan.live_on.iter().map(|(storefront, branch)| LiveDocument { storefront, branch }).collect(),
        done,
        not_told,
    }
}

fn show(plan: &WithdrawPlan, ui: &Ui) {
    ui.say(&format!("Withdraw {} for good\n", strong(&plan.release.name)));
    let mut table = Table::default();
    table.row([faint("because"), lantern_core::path::shown(&plan.because)]);
    let storefronts = format::names(plan.storefronts.iter().map(|p| &p.storefront.name));
    let nowhere = "it was pushed nowhere".to_owned();
    table.row([faint("withdrawn at"), if storefronts.is_empty() { nowhere } else { storefronts }]);
    ui.say(&table.lay_out());
    for of_storefront in plan.live_on.chunk_by(|a, b| a.0 == b.0) {
        let (storefront, branches) =
            (&of_storefront[0].0, format::names(of_storefront.iter().map(|(_, branch)| branch)));
        ui.say(&format!(
            "\n  {} players on {branches} at {storefront} have it until the branch moves",
            care("still live:")
        ));
        ui.say("  withdrawing moves no branch: roll it back, or promote another release");
    }
}
