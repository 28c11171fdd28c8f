//! Whether an installed copy or the store is as it should be.

use lantern_core::version::ReleaseName;
use lantern_project::{About, StoreVerified};
use lantern_store::install::{Problem, Verified};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, good, strong};
use crate::view::View;

/// What `lantern verify DIR --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct InstalledDocument<'a> {
    schema: &'static str,
    installed: Option<&'a About>,
    files: u64,
    bytes: u64,
    wrong: Vec<WrongDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct WrongDocument<'a> {
    path: &'a str,
    problem: &'static str,
}

/// What `lantern verify --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct StoreDocument<'a> {
    schema: &'static str,
    releases: u64,
    bytes: u64,
    wrong: &'a [String],
    broken: &'a [ReleaseName],
}

fn words_of(problem: Problem) -> &'static str {
    match problem {
        Problem::Missing => "missing",
        Problem::Content => "different content",
        Problem::Kind => "something else is there",
        Problem::Executable => "the executable bit is wrong",
        Problem::Unreadable => "cannot be read",
    }
}

/// What is wrong with an installed copy.
pub fn installed_document<'a>(about: Option<&'a About>, verified: &'a Verified) -> InstalledDocument<'a> {
    let wrong = verified.wrong.iter();
    InstalledDocument {
        schema: "lantern.verify/1",
        installed: about,
        files: verified.files,
        bytes: verified.size,
        wrong: wrong.map(|w| WrongDocument { path: w.path.as_str(), problem: words_of(w.problem) }).collect(),
    }
}

/// What an installed copy is.
pub fn name_of(about: Option<&About>) -> String {
    about.map_or_else(|| "the build".to_owned(), |a| format!("{} {}", a.name, a.build.name))
}

/// The same in sentences.
pub fn installed(about: Option<&About>, verified: &Verified) -> View {
    let mut view = View::default();
    if verified.wrong.is_empty() {
        let (name, files) = (strong(name_of(about)), format::count(verified.files, "file", "files"));
        view.say(format!("{} {name}: {files}, {}", good("intact:"), format::bytes(verified.size)));
    }
    for wrong in &verified.wrong {
        view.say(format!("  {} {}: {}", bad("wrong"), wrong.path, words_of(wrong.problem)));
    }
    view
}

/// What is wrong with the store.
pub fn store_document(found: &StoreVerified) -> StoreDocument<'_> {
    StoreDocument {
        schema: "lantern.verify-store/1",
        releases: found.releases,
        bytes: found.size,
        wrong: &found.wrong,
        broken: &found.broken,
    }
}

/// The same in sentences.
pub fn store(found: &StoreVerified) -> View {
    let mut view = View::default();
    if found.wrong.is_empty() {
        let releases = format::count(found.releases, "release", "releases");
        view.say(format!("{} {releases}, {}", good("intact:"), format::bytes(found.size)));
    }
    for wrong in &found.wrong {
        view.say(format!("  {} {wrong}", bad("wrong")));
    }
    view
}
