//! What was out before this tool came.

use lantern_core::event::StorefrontRef;
use lantern_core::names::Name;
use lantern_core::version::ReleaseName;
use lantern_project::AdoptPlan;
use serde::Serialize;

use crate::format;
use crate::paint::{faint, good, strong};
use crate::table::Table;
use crate::view::View;

/// What `lantern adopt --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    storefront: &'a StorefrontRef,
    edition: &'a Name,
    /// Oldest first.
    releases: Vec<ReleaseDocument<'a>>,
    /// Whether it was carried out.
    done: bool,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ReleaseDocument<'a> {
    release: ReleaseName,
    branch: Option<&'a Name>,
    number_there: u64,
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    since: Option<jiff::civil::Date>,
    targets: Vec<TargetDocument<'a>>,
    /// Whether it was adopted before.
    known: bool,
    /// What the branch has by something later, and has on; null where it is this release that the branch has now.
    later: Option<&'a ReleaseName>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct TargetDocument<'a> {
    target: &'a Name,
    /// The files that are sealed; null without.
    files: Option<String>,
}

/// What a plan comes to.
pub fn document(plan: &AdoptPlan, done: bool) -> Document<'_> {
    let releases = plan.releases.iter().map(|one| ReleaseDocument {
        release: one.name(),
        branch: one.release.branch.as_ref(),
        number_there: one.number_there,
        since: one.release.since,
        targets: one
            .release
            .targets
            .iter()
            .map(|(target, path)| TargetDocument {
                target,
                files: path.as_ref().map(|path| path.display().to_string()),
            })
            .collect(),
        known: one.is_known,
        later: one.later.as_ref(),
    });
    Document {
        schema: "lantern.adopt/1",
        storefront: &plan.storefront,
        edition: &plan.edition,
        releases: releases.collect(),
        done,
    }
}

/// What would be recorded.
pub fn plan(plan: &AdoptPlan) -> View {
    let mut view = View::default();
    view.say(format!("Adopt what is out at {}\n", strong(&plan.storefront_name)));
    let mut table = Table::default();
    table.head(["release", "on", "since", "number there", "targets", "files"]);
    for one in &plan.releases {
        let release = &one.release;
        let files = release.targets.values().filter(|path| path.is_some()).count();
        let files = match (one.is_known, files) {
            (true, _) => faint("adopted before"),
            (false, 0) if one.sealed.is_some() => "as sealed here".to_owned(),
            (false, 0) => "none: known by name".to_owned(),
            (false, files) if files == release.targets.len() => "sealed".to_owned(),
            (false, files) => format!("sealed for {files}"),
        };
        table.row([
            strong(one.name()),
            release.branch.as_ref().map(ToString::to_string).unwrap_or_default(),
            release.since.map(|since| since.to_string()).unwrap_or_default(),
            one.number_there.to_string(),
            format::names(release.targets.keys()),
            files,
        ]);
    }
    view.table(table);
    for one in plan.releases.iter().filter(|one| !one.is_known) {
        if let (Some(branch), Some(later)) = (&one.release.branch, &one.later) {
            let day = if one.release.since.is_some() { "" } else { ", which has no day," };
            view.say(format!("\n  {branch} keeps {later}: {}{day} goes into the history before it", one.name()));
        }
    }
    view
}

/// That it was recorded.
pub fn done(plan: &AdoptPlan) -> View {
    let mut view = View::default();
    let count = plan.releases.iter().filter(|one| !one.is_known).count() as u64;
    view.say(match count {
        0 => "nothing to do: all of it was adopted before".to_owned(),
        count => format!("\n{} {}", good("adopted:"), format::count(count, "release", "releases")),
    });
    view
}
