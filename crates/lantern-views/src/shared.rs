//! Parts that several answers have.

use std::collections::BTreeMap;

use lantern_core::choices::Players;
use lantern_core::finding::Finding;
use lantern_core::names::Name;
use lantern_core::notes::UNDETERMINED;
use lantern_core::release::ReleaseRecord;
use lantern_core::version::ReleaseName;
use lantern_project::Exports;
use serde::Serialize;

use crate::format;
use crate::paint::{care, faint};
use crate::table::Table;
use crate::view::View;

/// A storefront that could not be asked.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct UnreachableDocument<'a> {
    storefront: &'a Name,
    why: &'a str,
}

/// Those that could not be asked, each with the reason.
pub(crate) fn unreachable(all: &[(Name, String)]) -> Vec<UnreachableDocument<'_>> {
    all.iter().map(|(storefront, why)| UnreachableDocument { storefront, why }).collect()
}

/// A branch whose players have a release.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct LiveDocument<'a> {
    /// By the project's name.
    storefront: &'a Name,
    branch: &'a Name,
}

/// Branches, each with its storefront before it.
pub(crate) fn live_on<'a>(all: impl IntoIterator<Item = &'a (Name, Name)>) -> Vec<LiveDocument<'a>> {
    all.into_iter().map(|(storefront, branch)| LiveDocument { storefront, branch }).collect()
}

/// A finding, with the target that it is about.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct FindingDocument<'a> {
    #[serde(skip_serializing_if = "Option::is_none")]
    target: Option<&'a Name>,
    #[serde(flatten)]
    finding: &'a Finding,
}

impl<'a> FindingDocument<'a> {
    pub(crate) fn of((target, finding): &'a (Option<Name>, Finding)) -> Self {
        Self { target: target.as_ref(), finding }
    }

    pub(crate) fn about(target: Option<&'a Name>, finding: &'a Finding) -> Self {
        Self { target, finding }
    }
}

/// Says that what is pushed may not be what lies in the exports.
pub(crate) fn say_of_exports(exports: Exports, view: &mut View) {
    let what = match exports {
        Exports::Changed => "the exports changed since it was sealed; they are not in it",
        Exports::Unread => {
            "files of the exports have other times since it was sealed; if they changed, that is not in it"
        }
        Exports::Sealed | Exports::Withdrawn | Exports::Wrong | Exports::NotHere => return,
    };
    view.say(format!("  {} {what}", care("careful:")));
}

/// Says that there were warnings when a release was sealed, and what of it was left unsigned, if there was any.
pub(crate) fn say_of_sealing(warnings: u64, unsigned: &[Name], view: &mut View) {
    if !unsigned.is_empty() {
        view.say(format!("  {} {}, as someone said when it was sealed", care("not signed:"), format::names(unsigned)));
    }
    if warnings > 0 {
        let count = format::count(warnings, "warning", "warnings");
        view.say(format!("  {} {count} when it was sealed: lantern check", care("warns:")));
    }
}

/// The heading of what players of a language read.
pub(crate) fn for_players(language: &str) -> String {
    if language == UNDETERMINED { "for players".to_owned() } else { format!("for players, {language}") }
}

/// For which targets a depot is, and for which of their players.
pub(crate) fn for_whom<'a>(targets: impl IntoIterator<Item = &'a Name>, players: &Players) -> String {
    let targets = format::names(targets);
    if players.are_all() { targets } else { format!("{targets}, {players}") }
}

/// The targets of a release as columns, each with what starts it, or since when it is the same.
pub(crate) fn targets(
    record: &ReleaseRecord,
    unchanged_since: &BTreeMap<Name, ReleaseName>,
    named: impl Fn(&Name) -> String,
) -> Table {
    let mut table = Table::default();
    for target in &record.targets {
        table.row([
            named(&target.target),
            format::systems(&target.systems),
            format::count(target.files(), "file", "files"),
            format::bytes(target.size()),
            match unchanged_since.get(&target.target) {
                Some(since) => faint(format!("unchanged since {since}")),
                None => format::starts(&target.starts),
            },
        ]);
    }
    table
}
