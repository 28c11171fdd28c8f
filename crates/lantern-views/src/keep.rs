//! Which releases stay in the store, and which go.

use lantern_core::names::Name;
use lantern_core::retention::Reason;
use lantern_core::version::ReleaseName;
use lantern_project::RetentionPlan;
use serde::Serialize;

use crate::format;
use crate::paint::{care, faint, good, strong};
use crate::table::Table;
use crate::view::View;

/// What `lantern keep --json` prints.
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

/// What a plan comes to; `done` says whether it was carried out.
pub fn document(plan: &RetentionPlan, done: bool) -> Document<'_> {
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

/// What stays, what goes, and why.
pub fn plan(plan: &RetentionPlan) -> View {
    let mut view = View::default();
    let mut table = Table::default();
    for (release, reason) in plan.releases.iter().rev() {
        let (what, why) = match reason {
            Some(reason) => (good("stays"), words_of(reason)),
            None => (care("goes"), "its record is kept".to_owned()),
        };
        table.row([strong(&release.name), what, why]);
    }
    view.table(table);
    if plan.is_empty() {
        view.say("\nnothing to free");
    } else {
        view.say(format!("\n  {} {}", faint("disk space that is freed:"), strong(format::bytes(plan.freed()))));
    }
    view
}

/// What was freed.
pub fn done(plan: &RetentionPlan) -> View {
    let mut view = View::default();
    view.say(format!("\n{} {}", good("freed"), format::bytes(plan.freed())));
    view
}
