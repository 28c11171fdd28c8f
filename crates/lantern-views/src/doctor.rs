//! Is all there that is needed?

use lantern_core::path::shown;
use lantern_project::{Checkup, CheckupState};
use serde::Serialize;

use crate::paint::{bad, care, faint, good};
use crate::view::View;

/// What `lantern doctor --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    checks: Vec<CheckDocument<'a>>,
    /// Whether nothing is wrong.
    well: bool,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct CheckDocument<'a> {
    what: &'a str,
    /// `well`, `absent` or `wrong`.
    state: &'static str,
    said: &'a str,
    fix: Option<&'a str>,
}

/// Everything that was looked at.
pub fn document(all: &[Checkup]) -> Document<'_> {
    let checks = all.iter().map(|one| {
        let (state, said, fix) = match &one.state {
            CheckupState::Well(said) => ("well", said, None),
            CheckupState::Absent(said) => ("absent", said, None),
            CheckupState::Wrong(said, fix) => ("wrong", said, Some(fix.as_str())),
        };
        CheckDocument { what: &one.what, state, said, fix }
    });
    Document { schema: "lantern.doctor/1", checks: checks.collect(), well: is_well(all) }
}

/// Whether nothing is wrong.
pub fn is_well(all: &[Checkup]) -> bool {
    !all.iter().any(|one| matches!(one.state, CheckupState::Wrong(..)))
}

/// The same as a list, each with its fix.
pub fn view(all: &[Checkup]) -> View {
    let mut view = View::default();
    let wide = all.iter().map(|one| one.what.chars().count()).max().unwrap_or(0);
    for one in all {
        let (mark, said) = match &one.state {
            CheckupState::Well(said) => (good("yes"), said),
            CheckupState::Absent(said) => (care("–  "), said),
            CheckupState::Wrong(said, _) => (bad("no "), said),
        };
        let lead = format!("  {mark}  {}{}   ", shown(&one.what), " ".repeat(wide - one.what.chars().count()));
        view.sentence(lead, 10 + wide, shown(said));
        if let CheckupState::Wrong(_, fix) = &one.state {
            view.sentence(format!("{}{} ", " ".repeat(10 + wide), faint("fix:")), 15 + wide, shown(fix));
        }
    }
    view
}
