use lantern_core::names::Name;
use lantern_core::version::ReleaseAsked;
use lantern_project::PromotePlan;
use serde::Serialize;

use super::{Agreement, Done};
use crate::table::Table;
use crate::ui::{Ui, care, faint, good, strong};
use crate::words;

/// Put a pushed release on a branch that players follow
///
/// Shows what replaces what and how much each player downloads, and asks. For a branch that everyone follows, the
/// release's name must be typed or given with --confirm; --yes is not enough there. If somebody else moves the branch
/// in between, nothing is done.
///
/// Examples:
///   lantern promote brambleyard open-water --plan
///   lantern promote brambleyard open-water 1.4.0 --confirm "1.4.0 (27)"
#[derive(Debug, clap::Args)]
#[command(verbatim_doc_comment)]
pub struct Args {
    /// The storefront's name in lantern.toml
    storefront: String,
    /// The branch there
    #[arg(value_parser = super::name::<Name>)]
    branch: Name,
    /// Which release: 1.4.0, 27, or "1.4.0 (27)". Left out: the newest
    #[arg(value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    /// The release's name, exactly as the plan shows it
    #[arg(long, value_name = "RELEASE")]
    confirm: Option<String>,
    /// Why, for your team
    #[arg(long, value_name = "TEXT")]
    comment: Option<String>,
    #[command(flatten)]
    agreement: Agreement,
}

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    storefront: &'a lantern_core::event::PlaceRef,
    branch: &'a Name,
    audience: &'static str,
    release: &'a lantern_core::version::ReleaseName,
    id: String,
    build: u64,
    changes: Vec<ChangeDocument<'a>>,
    /// Whether it was carried out; also when the branch had it already.
    done: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    revision: Option<u64>,
}

#[derive(Serialize)]
struct ChangeDocument<'a> {
    target: &'a Name,
    before: Option<&'a lantern_core::event::BranchBuild>,
    update_bytes: Option<u64>,
    whole_bytes: u64,
    installed_bytes: u64,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut project = super::lock(ui)?;
    project.open.project.storefront(&args.storefront)?;
    let release = project.open.release(args.release.as_ref())?;
    let plan = project.plan_promote(&args.storefront, &args.branch, release, args.comment.clone())?;
    let name = strong(&plan.release.name);
    if plan.is_done() {
        ui.document(&document(&plan, true, Some(plan.before.revision)));
        ui.say(&format!("nothing to do: {} at {} has {name} already", plan.branch, plan.place_name));
        return Ok(());
    }
    show_plan(&plan, ui);
    if args.agreement.plan {
        ui.document(&document(&plan, false, None));
        return Ok(());
    }
    let agreed = if plan.is_for_everyone() {
        super::ask_for_name(ui, &plan.release.name, args.confirm.as_deref())?
    } else {
        args.confirm.is_some() || args.agreement.ask(ui)?
    };
    if !agreed {
        ui.say("nothing was changed");
        return Ok(());
    }
    let facts = project.promote(&plan)?;
    ui.document(&document(&plan, true, Some(facts.revision)));
    ui.say(&format!("\n{} {name} on {} at {}", good("live:"), strong(&plan.branch), plan.place_name));
    ui.next("lantern live");
    Ok(())
}

fn document(plan: &PromotePlan, done: bool, revision: Option<u64>) -> Document<'_> {
    Document {
        schema: "lantern.promote/1",
        storefront: &plan.place,
        branch: &plan.branch,
        audience: plan.audience.name(),
        release: &plan.release.name,
        id: plan.release.id.to_string(),
        build: plan.build,
        changes: plan
            .changes
            .iter()
            .map(|c| ChangeDocument {
                target: &c.target,
                before: c.before.as_ref(),
                update_bytes: c.update,
                whole_bytes: c.whole,
                installed_bytes: c.installed,
            })
            .collect(),
        done,
        revision,
    }
}

fn show_plan(plan: &PromotePlan, ui: &Ui) {
    let name = strong(&plan.release.name);
    ui.say(&format!("Promote {name} to {} at {}\n", strong(&plan.branch), strong(&plan.place_name)));
    let mut table = Table::default();
    table.row(["system", "players have", "they get", "update download", "full download", "on disk"].map(faint));
    for change in &plan.changes {
        let systems: Vec<&str> = change.systems.iter().map(|s| s.name()).collect();
        table.row([
            systems.join(", "),
            change.before.as_ref().map_or_else(|| "nothing".to_owned(), |b| b.name.to_string()),
            plan.release.name.to_string(),
            change.update.map_or_else(|| "–".to_owned(), words::bytes),
            words::bytes(change.whole),
            words::bytes(change.installed),
        ]);
    }
    ui.say(&table.lay_out());
    let who = if plan.is_for_everyone() {
        format!("{} {} is the line that every player follows", care("everyone:"), plan.branch)
    } else {
        format!("{} {} is for {}", faint("who:"), plan.branch, plan.audience.name())
    };
    ui.say(&format!("\n  {who}"));
    if let Some(comment) = &plan.comment {
        ui.say(&format!("  {} {}", faint("comment:"), lantern_core::path::shown(comment)));
    }
    let going_back =
        plan.changes.iter().any(|c| c.before.as_ref().is_some_and(|b| b.name.number > plan.release.name.number));
    if going_back {
        ui.say(&format!("  {} players go back to an older release", care("careful:")));
    }
}
