//! What players of a branch get when it is moved.

use std::collections::BTreeMap;

use lantern_core::audience::Audience;
use lantern_core::choices::Players;
use lantern_core::event::{BranchBuild, EventBody, StorefrontRef};
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::walk::gap;
use lantern_project::{KnownOf, MovePlan, OpenWalk, Project, WentBack};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::shared::say_of_sealing;
use crate::steps::{WalkDocument, gap_sentence, show_needs, show_steps, walk_document};
use crate::table::Table;
use crate::view::View;

/// What `lantern promote --json` and `lantern rollback --json` print.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    storefront: &'a StorefrontRef,
    branch: &'a Name,
    audience: Audience,
    /// The revision that is put back; null for a promotion.
    restores: Option<u64>,
    release: &'a BranchBuild,
    changes: Vec<ChangeDocument<'a>>,
    /// Whether it was carried out; also when the branch had it already.
    done: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    revision: Option<u64>,
    /// What a person does for it, at a storefront by hand, once that was begun.
    #[serde(skip_serializing_if = "Option::is_none")]
    by_hand: Option<WalkDocument<'a>>,
    /// What the branch needs of a release.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    needs: Vec<NeedDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct NeedDocument<'a> {
    /// `trial` or `last-look`.
    need: &'a str,
    /// What is lacking; null where it is met.
    lacks: Option<&'a str>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ChangeDocument<'a> {
    target: &'a Name,
    before: Option<&'a BranchBuild>,
    after: Option<&'a BranchBuild>,
    update_bytes: Option<u64>,
    /// Null where the storefront alone knows what players download.
    whole_bytes: Option<u64>,
    installed_bytes: u64,
    /// Depots that not everybody has; they are not in the bytes.
    more: Vec<&'a Name>,
}

/// What a plan comes to; `done` says whether it was carried out, also when the branch had it already.
pub fn document(plan: &MovePlan, done: bool, revision: Option<u64>) -> Document<'_> {
    let schema = if plan.restores.is_some() { "lantern.rollback/1" } else { "lantern.promote/1" };
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
        by_hand: None,
        needs: plan.needs.iter().map(|n| NeedDocument { need: n.need, lacks: n.lacks.as_deref() }).collect(),
    }
}

/// As [`document`], of a move that a person does; `outcome` is what it came to.
pub fn document_by_hand<'a>(plan: &'a MovePlan, open: &'a OpenWalk, outcome: Option<&EventBody>) -> Document<'a> {
    let revision = match outcome {
        Some(EventBody::Moved(moved)) => Some(moved.facts.revision),
        _ => None,
    };
    let by_hand = Some(walk_document(open, outcome));
    Document { by_hand, ..document(plan, outcome.is_some(), revision) }
}

/// What replaces what, how much each player downloads, and what to know before.
pub fn plan(plan: &MovePlan, project: &Project) -> View {
    let mut view = View::default();
    let edition = format::edition_word(project, &plan.edition);
    let name = format!("{edition}{}", strong(&plan.release.name));
    let (branch, storefront) = (strong(&plan.branch), strong(&plan.storefront_name));
    view.say(match plan.restores {
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
                None if change.whole.is_none() => String::new(),
                None => "–".to_owned(),
                Some(0) => "nothing".to_owned(),
                Some(bytes) => format::bytes(bytes),
            },
            change.whole.map(format::bytes).unwrap_or_default(),
            format::bytes(change.installed),
        ]);
    }
    view.table(table);
    if !plan.stays.is_empty() {
        let mut by_release: BTreeMap<String, Vec<&Name>> = BTreeMap::new();
        for (target, build) in &plan.stays {
            by_release.entry(build.name.to_string()).or_default().push(target);
        }
        view.space();
        for (release, targets) in by_release {
            let stay = if targets.len() == 1 { "stays" } else { "stay" };
            view.say(format!("  {} {} {stay} at {release}", faint("unchanged:"), format::names(targets)));
        }
    }
    let more: BTreeMap<&Name, &Players> =
        plan.changes.iter().flat_map(|c| &c.more).map(|(depot, players)| (depot, players)).collect();
    if !more.is_empty() {
        let names: Vec<String> = more.into_iter().map(|(depot, players)| format!("{depot} ({players})")).collect();
        let text = format!("optional, not counted: {}", names.join(", "));
        view.space();
        view.column("  ", 2, faint(text));
    }
    let who = if plan.is_for_everyone() {
        format!("{} {} is the line that every player follows", care("everyone:"), plan.branch)
    } else {
        format!("{} {} is for those who were invited", faint("who:"), plan.branch)
    };
    view.say(format!("\n  {who}"));
    if let Some(because) = &plan.because {
        view.say(format!("  {} {}", faint("because:"), shown(because)));
    }
    for other in plan.same_version() {
        let text = format!("players have another release of the same version, {other}: is the version right?");
        view.say(format!("  {} {text}", care("careful:")));
    }
    if let Some(known) = &plan.known {
        show_known(known, &mut view);
        if plan.is_for_everyone() {
            say_of_sealing(known.warnings, &known.unsigned, &mut view);
        }
    }
    show_needs(&plan.needs, &mut view);
    if let Some(steps) = plan.steps.as_ref().filter(|_| !plan.connector) {
        view.space();
        show_steps(steps, &mut view);
        if let Some(gap) = gap(steps) {
            view.say(format!("  {} {}", care("careful:"), gap_sentence(gap)));
        }
    }
    if plan.goes_back() {
        view.say(format!("  {} players go back to an older release", care("careful:")));
    }
    view
}

/// What someone said who tried it.
fn show_known(known: &KnownOf, view: &mut View) {
    if !known.tried_no.is_empty() {
        let targets = format::names(&known.tried_no);
        view.say(format!("  {} {targets}: the trial failed", bad("tried:")));
    }
    if !known.tried_yes.is_empty() {
        view.say(format!("  {} {}", faint("tried:"), format::names(&known.tried_yes)));
    }
    if known.tried_no.is_empty() && known.tried_yes.is_empty() {
        view.say(format!("  {} not tried yet", faint("tried:")));
    }
}

/// That the branch has it already.
pub fn nothing_to_do(plan: &MovePlan) -> View {
    let mut view = View::default();
    let name = strong(&plan.release.name);
    view.say(format!("nothing to do: {} at {} has {name} already", plan.branch, plan.storefront_name));
    view
}

/// That the branch was moved.
pub fn done(plan: &MovePlan) -> View {
    let mut view = View::default();
    let done = good(if plan.restores.is_some() { "back:" } else { "live:" });
    let (name, branch) = (strong(&plan.release.name), strong(&plan.branch));
    view.say(format!("\n{done} {name} on {branch} at {}", plan.storefront_name));
    view
}

/// That a branch went back just now, so that going back once more may be a mistake.
pub fn went_back(back: &WentBack) -> View {
    let mut view = View::default();
    let now = strong(&back.now);
    view.say(format!("{} {} at {} went back to {now} {}.", care("careful:"), back.branch, back.storefront, back.ago));
    view
}
