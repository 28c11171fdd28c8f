//! What `promote` and `rollback` share: the plan on the screen, the question, the action.

use std::collections::BTreeMap;

use lantern_core::choices::Players;
use lantern_core::names::Name;
use lantern_project::{KnownOf, MovePlan, Session};
use serde::Serialize;

use super::{Agreement, Done};
use crate::diagnostic::CommandError;
use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::table::Table;
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

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    storefront: &'a lantern_core::event::StorefrontRef,
    branch: &'a Name,
    audience: lantern_core::audience::Audience,
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

/// `anyway` moves a release that someone tried and said no to.
pub fn run(session: &mut Session, plan: &MovePlan, options: &Options, anyway: bool, ui: &Ui) -> Done {
    let name = strong(&plan.release.name);
    let schema = if plan.restores.is_some() { "lantern.rollback/1" } else { "lantern.promote/1" };
    if plan.is_done() {
        ui.document(&document(schema, plan, true, Some(plan.before.revision)));
        ui.say(&format!("nothing to do: {} at {} has {name} already", plan.branch, plan.storefront_name));
        return Ok(());
    }
    let is_agreed = options.agreement.yes || options.confirm.is_some();
    if !(ui.is_quiet() && is_agreed && !options.agreement.plan) {
        show_plan(plan, session, ui);
    }
    if options.agreement.plan {
        ui.document(&document(schema, plan, false, None));
        return Ok(());
    }
    if let Some(known) = plan.known.as_ref().filter(|known| !known.tried_no.is_empty() && !anyway) {
        let what = format!("the trial of {} of {name} failed", format::names(&known.tried_no));
        return Err(CommandError::stopping(what, "export it again; or try it again and answer yes; or: --anyway"));
    }
    let agreed = if plan.is_for_everyone() {
        super::ask_for_name(ui, &plan.release.name, options.confirm.as_deref())?
    } else {
        options.confirm.is_some() || options.agreement.ask(ui)?
    };
    if !agreed {
        ui.document(&document(schema, plan, false, None));
        return Err(CommandError::declined("nothing was changed", ui));
    }
    let facts = session.move_branch(plan)?;
    ui.document(&document(schema, plan, true, Some(facts.revision)));
    let done = if plan.restores.is_some() { "back:" } else { "live:" };
    ui.say(&format!("\n{} {name} on {} at {}", good(done), strong(&plan.branch), plan.storefront_name));
    super::next(session.workspace(), ui, super::ASK_THEM)
}

fn document<'a>(schema: &'static str, plan: &'a MovePlan, done: bool, revision: Option<u64>) -> Document<'a> {
    Document {
        schema,
        storefront: &plan.storefront,
        branch: &plan.branch,
        audience: plan.audience,
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

fn show_plan(plan: &MovePlan, session: &Session, ui: &Ui) {
    let edition = super::edition_word(session.project(), &plan.edition);
    let name = format!("{edition}{}", strong(&plan.release.name));
    let (branch, storefront) = (strong(&plan.branch), strong(&plan.storefront_name));
    ui.say(&match plan.restores {
        Some(_) => format!("Put back {name} on {branch} at {storefront}\n"),
        None => format!("Promote {name} to {branch} at {storefront}\n"),
    });
    let mut table = Table::default();
    table.head(["system", "players have", "they get", "update download", "full download", "on disk"]);
    for change in &plan.changes {
        table.row([
            format::systems(&change.systems),
            change.before.as_ref().map_or_else(|| "nothing".to_owned(), |b| b.name.to_string()),
            change.after.as_ref().map_or_else(|| "nothing any more".to_owned(), |b| b.name.to_string()),
            match change.update {
                None => "–".to_owned(),
                Some(0) => "nothing".to_owned(),
                Some(bytes) => format::bytes(bytes),
            },
            format::bytes(change.whole),
            format::bytes(change.installed),
        ]);
    }
    ui.say(&table.lay_out());
    if !plan.stays.is_empty() {
        let mut by_release: BTreeMap<String, Vec<&Name>> = BTreeMap::new();
        for (target, build) in &plan.stays {
            by_release.entry(build.name.to_string()).or_default().push(target);
        }
        ui.say("");
        for (release, targets) in by_release {
            let stay = if targets.len() == 1 { "stays" } else { "stay" };
            ui.say(&format!("  {} {} {stay} at {release}", faint("unchanged:"), format::names(targets)));
        }
    }
    let more: BTreeMap<&Name, &Players> =
        plan.changes.iter().flat_map(|c| &c.more).map(|(depot, players)| (depot, players)).collect();
    if !more.is_empty() {
        let names: Vec<String> = more.into_iter().map(|(depot, players)| format!("{depot} ({players})")).collect();
        let text = format!("optional, not counted: {}", names.join(", "));
        ui.say("");
        for line in format::wrap(&text, format::columns().unwrap_or(80).min(80) - 4) {
            ui.say(&format!("  {}", faint(line)));
        }
    }
    let who = if plan.is_for_everyone() {
        format!("{} {} is the line that every player follows", care("everyone:"), plan.branch)
    } else {
        format!("{} {} is for those who were invited", faint("who:"), plan.branch)
    };
    ui.say(&format!("\n  {who}"));
    if let Some(because) = &plan.because {
        ui.say(&format!("  {} {}", faint("because:"), lantern_core::path::shown(because)));
    }
    for other in plan.same_version() {
        let text = format!("players have another release of the same version, {other}: is the version right?");
        ui.say(&format!("  {} {text}", care("careful:")));
    }
    if let Some(known) = &plan.known {
        show_known(known, ui);
        if plan.is_for_everyone() {
            super::show_warning_count(known.warnings, ui);
        }
    }
    if plan.goes_back() {
        ui.say(&format!("  {} players go back to an older release", care("careful:")));
    }
}

/// What someone said who tried it.
fn show_known(known: &KnownOf, ui: &Ui) {
    if !known.tried_no.is_empty() {
        let targets = format::names(&known.tried_no);
        ui.say(&format!("  {} {targets}: the trial failed", bad("tried:")));
    }
    if !known.tried_yes.is_empty() {
        ui.say(&format!("  {} {}", faint("tried:"), format::names(&known.tried_yes)));
    }
    if known.tried_no.is_empty() && known.tried_yes.is_empty() {
        ui.say(&format!("  {} not tried yet", faint("tried:")));
    }
}
