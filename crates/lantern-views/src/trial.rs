//! A trial of a release.

use lantern_core::names::Name;
use lantern_core::version::ReleaseName;
use lantern_project::Trial;
use serde::Serialize;

use crate::paint::{bad, good, strong};
use crate::view::View;

/// What `lantern try --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    release: &'a ReleaseName,
    target: &'a Name,
    /// Where its files lie.
    folder: String,
    exit_code: Option<i32>,
    /// What was said of it.
    yes: bool,
}

/// What became of it.
pub fn document(trial: &Trial, exit_code: Option<i32>, yes: bool) -> Document<'_> {
    Document {
        schema: "lantern.try/1",
        release: &trial.release.name,
        target: &trial.target.target,
        folder: trial.folder.display().to_string(),
        exit_code,
        yes,
    }
}

/// What lies there now.
pub fn laid_out(trial: &Trial) -> View {
    let mut view = View::default();
    let (name, target) = (strong(&trial.release.name), &trial.target.target);
    view.say(format!("{} {name}, {target}: every file is unchanged since sealing", good("laid out")));
    view
}

/// What was recorded.
pub fn recorded(trial: &Trial, yes: bool) -> View {
    let mut view = View::default();
    let (name, target) = (strong(&trial.release.name), &trial.target.target);
    view.say(match yes {
        true => format!("{} {target} of {name} shows what it should", good("yes recorded:")),
        false => format!("{} {target} of {name} does not show what it should", bad("no recorded:")),
    });
    view
}
