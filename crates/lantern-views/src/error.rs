//! What went wrong, why, and what to do.

use lantern_core::finding::Finding;
use lantern_project::Class;
use serde::Serialize;

use crate::paint::{bad, care, command, faint};
use crate::view::View;

/// What every command prints with `--json` when it fails.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    error: Body<'a>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct Body<'a> {
    kind: &'static str,
    what: &'a str,
    why: &'a [String],
    fixes: &'a [String],
    findings: &'a [Finding],
}

/// A failure, as people and programs read it.
#[derive(Debug)]
pub struct Failure<'a> {
    /// Of what kind it is.
    pub class: Class,
    /// What happened.
    pub what: &'a str,
    /// Why, from the nearest reason to the last.
    pub why: &'a [String],
    /// What to do, a sentence each.
    pub fixes: &'a [String],
    /// What is wrong in files.
    pub findings: &'a [Finding],
}

const fn kind(class: Class) -> &'static str {
    match class {
        Class::Findings => "findings",
        Class::Usage => "usage",
        Class::Refused => "refused",
        Class::Unreachable => "unreachable",
        Class::Damaged => "damaged",
        Class::Computer => "computer",
        Class::NotConfirmed => "not-confirmed",
        Class::Stopped => "stopped",
    }
}

/// A failure for programs.
pub fn document<'a>(failure: &Failure<'a>) -> Document<'a> {
    let Failure { class, what, why, fixes, findings } = *failure;
    Document { schema: "lantern.error/1", error: Body { kind: kind(class), what, why, fixes, findings } }
}

/// The same for people.
pub fn view(failure: &Failure<'_>) -> View {
    let mut view = View::default();
    view.say(match failure.class {
        Class::Stopped => format!("{} {}", care("stopped:"), failure.what),
        _ => format!("{} {}", bad("error:"), failure.what),
    });
    for why in failure.why {
        view.say(format!("{} {why}", faint("  why:")));
    }
    for finding in failure.findings {
        view.space();
        view.finding(finding);
    }
    for fix in failure.fixes {
        view.say(format!("{} {}", faint("  fix:"), command(fix)));
    }
    view
}
