use lantern_core::names::Name;
use lantern_core::retention::{Reason, RetentionRule};
use lantern_core::version::ReleaseName;
use lantern_project::RetentionPlan;
use serde::Serialize;

use super::{Agreement, Done};
use crate::args::EditionArg;
use crate::diagnostic::CommandError;
use crate::format;
use crate::paint::{care, faint, good, strong};
use crate::table::Table;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern keep --plan
  lantern keep --last 3 --live-within 30 --yes"#;

/// Keep the sealed releases that matter, and free the room of the others
///
/// What is live anywhere always stays, and so does what was live lately and what is newest. Of the others only the
/// record is left: what it held is still known, and preparing the same exports brings it back.
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

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    releases: Vec<ReleaseDocument<'a>>,
    freed_bytes: u64,
    /// Whether it was carried out.
    done: bool,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ReleaseDocument<'a> {
    edition: &'a Name,
    #[serde(flatten)]
    name: &'a ReleaseName,
    stays: bool,
    /// Why it stays.
    because: Option<String>,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let rule = RetentionRule { last: args.last, live_within_days: args.live_within };
    if args.agreement.plan {
        // Anyone who only looks needs nobody's leave, and no disk that can be written.
        let open = super::open(ui)?;
        let held = open.hold_store(&ui.progress())?;
        let plan = open.plan_keep(rule)?;
        drop(held);
        show(&plan, ui);
        ui.document(&document(&plan, plan.is_empty()));
        return Ok(());
    }
    let mut session = super::lock(ui)?;
    let plan = session.workspace().plan_keep(rule)?;
    show(&plan, ui);
    if plan.is_empty() {
        ui.document(&document(&plan, true));
        return Ok(());
    }
    if !args.agreement.ask(ui)? {
        ui.document(&document(&plan, false));
        return Err(CommandError::declined("nothing was changed", ui));
    }
    session.keep(&plan, &ui.progress())?;
    ui.document(&document(&plan, true));
    ui.say(&format!("\n{} {}", good("freed"), format::bytes(plan.freed())));
    Ok(())
}

fn document(plan: &RetentionPlan, done: bool) -> Document<'_> {
    let releases = plan.releases.iter().map(|(release, reason)| ReleaseDocument {
        edition: &release.edition,
        name: &release.name,
        stays: reason.is_some(),
        because: reason.as_ref().map(words_of),
    });
    Document { schema: "lantern.keep/1", releases: releases.collect(), freed_bytes: plan.freed(), done }
}

fn words_of(reason: &Reason) -> String {
    match reason {
        Reason::Live(branches) => {
            let names: Vec<String> =
                branches.iter().map(|(storefront, branch)| format!("{branch} at {storefront}")).collect();
            format!("live on {}", names.join(", "))
        }
        Reason::WasLive(until) => format!("was live until {}", format::time(*until)),
        Reason::Last => "one of the newest".to_owned(),
        Reason::Open => "an action with it is not settled yet".to_owned(),
    }
}

fn show(plan: &RetentionPlan, ui: &Ui) {
    let mut table = Table::default();
    for (release, reason) in plan.releases.iter().rev() {
        let (what, why) = match reason {
            Some(reason) => (good("stays"), words_of(reason)),
            None => (care("goes"), "its record is kept".to_owned()),
        };
        table.row([strong(&release.name), what, why]);
    }
    ui.say(&table.lay_out());
    if plan.is_empty() {
        ui.say("\nnothing to free");
    } else {
        ui.say(&format!("\n  {} {}", faint("room that is freed:"), strong(format::bytes(plan.freed()))));
    }
}
