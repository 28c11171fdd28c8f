//! What `promote` and `rollback` share: the plan on the screen, the question, the deed.

use std::collections::BTreeMap;

use lantern_core::names::Name;
use lantern_core::release::When;
use lantern_project::{Locked, MovePlan};
use serde::Serialize;

use super::{Agreement, Done};
use crate::table::Table;
use crate::ui::{Ui, care, faint, good, strong};
use crate::words;

/// What can be said on the command line of any move.
#[derive(Debug, clap::Args)]
pub struct Options {
    /// The release's name, exactly as the plan shows it
    #[arg(long, value_name = "RELEASE")]
    confirm: Option<String>,
    /// Why, for your team
    #[arg(long, value_name = "TEXT")]
    pub comment: Option<String>,
    #[command(flatten)]
    agreement: Agreement,
}

impl Options {
    /// Returns the release that was named beforehand.
    pub fn confirmed(&self) -> Option<&str> {
        self.confirm.as_deref()
    }
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    storefront: &'a lantern_core::event::PlaceRef,
    branch: &'a Name,
    audience: &'static str,
    /// The revision that is put back; null for a promotion.
    restores: Option<u64>,
    release: &'a lantern_core::event::BranchBuild,
    changes: Vec<ChangeDocument<'a>>,
    /// Whether it was carried out; also when the branch had it already.
    done: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    revision: Option<u64>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ChangeDocument<'a> {
    target: &'a Name,
    before: Option<&'a lantern_core::event::BranchBuild>,
    after: Option<&'a lantern_core::event::BranchBuild>,
    update_bytes: Option<u64>,
    whole_bytes: u64,
    installed_bytes: u64,
    /// Depots that not everybody has; they are not in the bytes.
    more: Vec<&'a Name>,
}

pub fn run(project: &mut Locked, plan: &MovePlan, options: &Options, ui: &Ui) -> Done {
    let name = strong(&plan.release.name);
    let schema = if plan.restores.is_some() { "lantern.rollback/1" } else { "lantern.promote/1" };
    if plan.is_done() {
        ui.document(&document(schema, plan, true, Some(plan.before.revision)));
        ui.say(&format!("nothing to do: {} at {} has {name} already", plan.branch, plan.place_name));
        return Ok(());
    }
    show_plan(plan, ui);
    if options.agreement.plan {
        ui.document(&document(schema, plan, false, None));
        return Ok(());
    }
    let agreed = if plan.is_for_everyone() {
        super::ask_for_name(ui, &plan.release.name, options.confirm.as_deref())?
    } else {
        options.confirm.is_some() || options.agreement.ask(ui)?
    };
    if !agreed {
        ui.say("nothing was changed");
        return Ok(());
    }
    let facts = project.move_branch(plan)?;
    ui.document(&document(schema, plan, true, Some(facts.revision)));
    let done = if plan.restores.is_some() { "back:" } else { "live:" };
    ui.say(&format!("\n{} {name} on {} at {}", good(done), strong(&plan.branch), plan.place_name));
    ui.next("lantern live");
    Ok(())
}

fn document<'a>(schema: &'static str, plan: &'a MovePlan, done: bool, revision: Option<u64>) -> Document<'a> {
    Document {
        schema,
        storefront: &plan.place,
        branch: &plan.branch,
        audience: plan.audience.name(),
        restores: plan.restores,
        release: &plan.release,
        changes: plan
            .changes
            .iter()
            .map(|c| ChangeDocument {
                target: &c.target,
                before: c.before.as_ref(),
                after: c.after.as_ref(),
                update_bytes: c.update,
                whole_bytes: c.whole,
                installed_bytes: c.installed,
                more: c.more.iter().map(|(depot, _)| depot).collect(),
            })
            .collect(),
        done,
        revision,
    }
}

fn show_plan(plan: &MovePlan, ui: &Ui) {
    let name = strong(&plan.release.name);
    let (branch, place) = (strong(&plan.branch), strong(&plan.place_name));
    ui.say(&match plan.restores {
        Some(_) => format!("Put back {name} on {branch} at {place}\n"),
        None => format!("Promote {name} to {branch} at {place}\n"),
    });
    let mut table = Table::default();
    table.row(["system", "players have", "they get", "update download", "full download", "on disk"].map(faint));
    for change in &plan.changes {
        table.row([
            words::systems(&change.systems),
            change.before.as_ref().map_or_else(|| "nothing".to_owned(), |b| b.name.to_string()),
            change.after.as_ref().map_or_else(|| "nothing any more".to_owned(), |b| b.name.to_string()),
            match change.update {
                None => "–".to_owned(),
                Some(0) => "nothing".to_owned(),
                Some(bytes) => words::bytes(bytes),
            },
            words::bytes(change.whole),
            words::bytes(change.installed),
        ]);
    }
    ui.say(&table.lay_out());
    let more: BTreeMap<&Name, &When> = plan.changes.iter().flat_map(|c| &c.more).map(|(d, w)| (d, w)).collect();
    if !more.is_empty() {
        let names: Vec<String> = more.into_iter().map(|(depot, when)| format!("{depot} ({when})")).collect();
        let text = format!("by choice, not counted: {}", names.join(", "));
        ui.say("");
        for line in words::wrap(&text, 76) {
            ui.say(&format!("  {}", faint(line)));
        }
    }
    let who = if plan.is_for_everyone() {
        format!("{} {} is the line that every player follows", care("everyone:"), plan.branch)
    } else {
        format!("{} {} is for those who were invited", faint("who:"), plan.branch)
    };
    ui.say(&format!("\n  {who}"));
    if let Some(comment) = &plan.comment {
        ui.say(&format!("  {} {}", faint("comment:"), lantern_core::path::shown(comment)));
    }
    if plan.goes_back() {
        ui.say(&format!("  {} players go back to an older release", care("careful:")));
    }
}
