//! A release that is taken away for good.

use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::version::ReleaseName;
use lantern_project::{WithdrawPlan, Withdrawals};
use serde::Serialize;

use crate::format;
use crate::paint::{care, faint, good, strong};
use crate::shared::{LiveDocument, live_on};
use crate::steps::{WalkDocument, walk_document};
use crate::table::Table;
use crate::view::View;

/// What `lantern releases withdraw --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    edition: &'a Name,
    release: &'a ReleaseName,
    because: &'a str,
    /// Storefronts that have it.
    storefronts: Vec<&'a Name>,
    /// Branches whose players have it.
    live_on: Vec<LiveDocument<'a>>,
    /// Whether it was carried out.
    done: bool,
    /// Storefronts that could not be reached, with the reason.
    not_told: Vec<NotTold>,
    /// What a person does at storefronts by hand.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    by_hand: Vec<WalkDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct NotTold {
    storefront: Name,
    why: String,
}

/// What a plan comes to; `at` is what came of it at the storefronts.
pub fn document<'a>(plan: &'a WithdrawPlan, done: bool, at: &'a Withdrawals) -> Document<'a> {
    let not_told = at.failed.iter().map(|(name, error)| NotTold { storefront: name.clone(), why: error.to_string() });
    Document {
        schema: "lantern.withdraw/1",
        edition: &plan.release.edition,
        release: &plan.release.name,
        because: &plan.because,
        storefronts: plan.storefronts.iter().map(|p| &p.storefront.name).collect(),
        live_on: live_on(&plan.live_on),
        done,
        not_told: not_told.collect(),
        by_hand: at.by_hand.iter().map(|open| walk_document(open, None)).collect(),
    }
}

/// Where it is withdrawn, and who has it until something else is put there.
pub fn plan(plan: &WithdrawPlan) -> View {
    let mut view = View::default();
    view.say(format!("Withdraw {} for good\n", strong(&plan.release.name)));
    let mut table = Table::default();
    table.row([faint("because"), shown(&plan.because)]);
    let storefronts = format::names(plan.storefronts.iter().map(|p| &p.storefront.name));
    let nowhere = "it was pushed nowhere".to_owned();
    table.row([faint("withdrawn at"), if storefronts.is_empty() { nowhere } else { storefronts }]);
    view.table(table);
    for of_storefront in plan.live_on.chunk_by(|a, b| a.0 == b.0) {
        let (storefront, branches) =
            (&of_storefront[0].0, format::names(of_storefront.iter().map(|(_, branch)| branch)));
        view.say(format!(
            "\n  {} players on {branches} at {storefront} have it until the branch moves",
            care("still live:")
        ));
        view.say("  withdrawing moves no branch: roll it back, or promote another release");
    }
    view
}

/// That there is nothing to do.
pub fn nothing_to_do(plan: &WithdrawPlan) -> View {
    let mut view = View::default();
    view.say(format!("nothing to do: {} is withdrawn everywhere", strong(&plan.release.name)));
    view
}

/// That it was withdrawn, and which storefront does not know it yet.
pub fn done(plan: &WithdrawPlan, not_told: Option<&Name>) -> View {
    let mut view = View::default();
    view.say(format!("\n{} {}: it can no longer be promoted", good("withdrawn"), strong(&plan.release.name)));
    if let Some(name) = not_told {
        view.say(format!("  {} {name} could not be reached; run the command again to tell it", care("but:")));
    }
    view
}
