//! The storefronts of a project.

use lantern_core::audience::Audience;
use lantern_core::config::{Config, Storefront, StorefrontKind};
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_project::ConnectorCheck;
use serde::Serialize;

use crate::paint::{bad, faint, good, strong};
use crate::table::Table;
use crate::view::View;

/// What `lantern storefronts --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    storefronts: Vec<StorefrontDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct StorefrontDocument<'a> {
    storefront: &'a Name,
    /// `protocol`, `by-hand` or `connector`.
    kind: &'static str,
    /// Its address, its file of rules, or the program that is run.
    at: String,
    /// What it calls each edition.
    handles: Vec<HandleDocument<'a>>,
    branches: Vec<BranchDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct HandleDocument<'a> {
    edition: &'a Name,
    handle: &'a str,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct BranchDocument<'a> {
    branch: &'a Name,
    audience: Audience,
}

fn kind(at: &Storefront) -> (&'static str, String) {
    match &at.kind {
        StorefrontKind::Protocol(protocol) => ("protocol", protocol.address.clone()),
        StorefrontKind::ByHand(hand) => ("by-hand", hand.rules.clone().unwrap_or_default()),
        StorefrontKind::Connector(connector) => ("connector", connector.run.join(" ")),
    }
}

/// Those of the configuration.
pub fn document(config: &Config) -> Document<'_> {
    let one = |(name, at): (&'_ Name, &'_ Storefront)| (name.clone(), kind(at));
    let kinds: Vec<(Name, (&'static str, String))> = config.storefronts.iter().map(one).collect();
    let all = config.storefronts.iter().zip(kinds);
    let storefronts = all.map(|((name, at), (_, (kind, place)))| StorefrontDocument {
        storefront: name,
        kind,
        at: place,
        handles: at
            .handles
            .iter()
            .map(|(edition, handle)| HandleDocument { edition, handle: handle.as_str() })
            .collect(),
        branches: at.branches.iter().map(|(branch, audience)| BranchDocument { branch, audience: *audience }).collect(),
    });
    Document { schema: "lantern.storefronts/1", storefronts: storefronts.collect() }
}

/// The same as columns.
pub fn view(config: &Config) -> View {
    let mut view = View::default();
    if config.storefronts.is_empty() {
        view.say("lantern.toml has no storefront yet");
        view.next("lantern storefronts new NAME");
        return view;
    }
    let mut table = Table::default();
    table.head(["storefront", "kind", "at", "branches"]);
    for (name, at) in &config.storefronts {
        let (kind, place) = kind(at);
        let branches: Vec<String> =
            at.branches.iter().map(|(branch, audience)| format!("{branch} ({})", audience.name())).collect();
        table.row([strong(name), kind.to_owned(), shown(&place), branches.join(", ")]);
    }
    view.table(table);
    view
}

/// What `lantern storefronts try --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct TrialDocument<'a> {
    schema: &'static str,
    storefront: &'a str,
    checks: Vec<CheckDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct CheckDocument<'a> {
    what: &'a str,
    is_well: bool,
    /// What came of it.
    said: &'a str,
}

/// How a connector stood its trial.
pub fn trial_document<'a>(storefront: &'a str, checks: &'a [ConnectorCheck]) -> TrialDocument<'a> {
    let check = |check: &'a ConnectorCheck| {
        let (Ok(said) | Err(said)) = &check.result;
        CheckDocument { what: check.what, is_well: check.result.is_ok(), said }
    };
    TrialDocument { schema: "lantern.storefronts-try/1", storefront, checks: checks.iter().map(check).collect() }
}

/// The same as a list.
pub fn trial(checks: &[ConnectorCheck]) -> View {
    let mut view = View::default();
    for check in checks {
        let (mark, said) = match &check.result {
            Ok(said) => (good("yes"), said),
            Err(said) => (bad("no "), said),
        };
        view.say(format!("  {mark}  {}", check.what));
        view.sentence("       ", 7, faint(shown(said)));
    }
    view
}
