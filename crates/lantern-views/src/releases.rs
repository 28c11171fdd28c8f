//! The releases that there are, and where each is.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::version::ReleaseName;
use lantern_project::ReleaseSummary;
use serde::Serialize;

use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::shared::{LiveDocument, live_on};
use crate::table::Table;
use crate::view::{Next, View};

/// What `lantern releases --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    /// Newest first.
    releases: Vec<ReleaseDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ReleaseDocument<'a> {
    edition: &'a Name,
    #[serde(flatten)]
    name: &'a ReleaseName,
    id: String,
    #[cfg_attr(test, schemars(with = "String"))]
    sealed_at: Timestamp,
    pushed_to: &'a BTreeSet<Name>,
    live_on: Vec<LiveDocument<'a>>,
    /// Targets that someone started and said yes to.
    tried: &'a BTreeSet<Name>,
    /// Targets that someone started and said no to.
    tried_no: &'a BTreeSet<Name>,
    /// The targets that it has; empty where that is not known.
    targets: &'a [Name],
    /// The storefront that it was found at, where it was sealed on another computer.
    found_at: Option<&'a Name>,
    /// What its builds are for, as it was said when they were pushed.
    messages: &'a BTreeSet<String>,
    /// What builds say of themselves inside and the release does not, by target.
    claims: &'a BTreeMap<Name, Vec<String>>,
    /// Why, when it was withdrawn.
    withdrawn: Option<&'a str>,
    /// Whether only its record is left.
    freed: bool,
}

/// Every release, and where it is.
pub fn document<'a>(all: &'a [ReleaseSummary]) -> Document<'a> {
    let release = |release: &'a ReleaseSummary| ReleaseDocument {
        edition: &release.edition,
        name: &release.name,
        id: release.id.to_string(),
        sealed_at: release.sealed_at,
        pushed_to: &release.pushed_to,
        live_on: live_on(&release.live_on),
        tried: &release.tried_yes,
        tried_no: &release.tried_no,
        targets: &release.targets,
        found_at: release.found_at.as_ref(),
        messages: &release.messages,
        claims: &release.claims,
        withdrawn: release.withdrawn.as_deref(),
        freed: release.is_freed,
    };
    Document { schema: "lantern.releases/1", releases: all.iter().map(release).collect() }
}

/// The same as columns.
pub fn view(all: &[ReleaseSummary], has_editions: bool) -> View {
    let mut view = View::default();
    let Some(newest) = all.first() else {
        view.say("nothing is sealed yet");
        view.next("lantern prepare");
        return view;
    };
    let mut table = Table::default();
    let edition_head = if has_editions { "edition" } else { "" };
    table.head(["release", edition_head, "sealed", "where", ""]);
    for release in all {
        table.row([
            strong(&release.name),
            if has_editions { release.edition.to_string() } else { String::new() },
            format::time(release.sealed_at),
            where_it_is(release),
            state(release),
        ]);
    }
    view.table(table);
    view.next(Next::of(format!("lantern releases {}", newest.name.number), "shows what it contains"));
    view
}

/// What is worth knowing of a release.
fn state(release: &ReleaseSummary) -> String {
    if let Some(because) = &release.withdrawn {
        return format!("{} {}", bad("withdrawn:"), shown(because));
    }
    if release.is_freed {
        return faint("content freed");
    }
    let mut parts = Vec::new();
    if !release.tried_no.is_empty() {
        parts.push(format!("{} {}", bad("tried, no:"), format::names(&release.tried_no)));
    }
    if !release.tried_yes.is_empty() {
        parts.push(format!("{} {}", good("tried"), format::names(&release.tried_yes)));
    }
    if !release.claims.is_empty() {
        parts.push(format!("{} {}", care("differs inside:"), format::names(release.claims.keys())));
    }
    if release.found_at.is_some() {
        parts.push(faint("sealed elsewhere"));
    }
    parts.join(", ")
}

/// Each storefront that has it, with the branches that it is live on.
fn where_it_is(release: &ReleaseSummary) -> String {
    let at = |storefront: &Name| {
        let branches = release.live_on.iter().filter(|(live, _)| live == storefront);
        let branches: Vec<&str> = branches.map(|(_, branch)| branch.as_str()).collect();
        if branches.is_empty() { storefront.to_string() } else { format!("{storefront}: {}", branches.join(", ")) }
    };
    let storefronts: Vec<String> = release.pushed_to.iter().map(at).collect();
    storefronts.join("; ")
}
