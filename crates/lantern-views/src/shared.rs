//! Parts that several answers have.

use lantern_core::finding::Finding;
use lantern_core::names::Name;
use lantern_core::notes::UNDETERMINED;
use serde::Serialize;

use crate::format;
use crate::paint::care;
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

/// Says that there were warnings when a release was sealed, if there were.
pub(crate) fn say_warnings_at_sealing(count: u64, view: &mut View) {
    if count > 0 {
        let count = format::count(count, "warning", "warnings");
        view.say(format!("  {} {count} when it was sealed: lantern check", care("warns:")));
    }
}

/// The heading of what players of a language read.
pub(crate) fn for_players(language: &str) -> String {
    if language == UNDETERMINED { "for players".to_owned() } else { format!("for players, {language}") }
}
