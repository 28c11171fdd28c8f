//! What became of a damaged store.

use lantern_core::names::Name;
use lantern_core::version::ReleaseName;
use lantern_project::{BrokenRelease, StoreRepaired};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::shared::{UnreachableDocument, unreachable};
use crate::view::View;

/// What `lantern repair --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    releases: u64,
    /// Whether everything was as it should be from the start.
    was_intact: bool,
    damaged_files: u64,
    from_exports: bool,
    received: Vec<ReceivedDocument<'a>>,
    unreachable: Vec<UnreachableDocument<'a>>,
    repaired: &'a [ReleaseName],
    /// Releases of which something is still lost.
    broken: Vec<BrokenDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct BrokenDocument<'a> {
    #[serde(flatten)]
    release: &'a ReleaseName,
    /// What is lost, a sentence each.
    lost: &'a [String],
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ReceivedDocument<'a> {
    storefront: &'a Name,
    bytes: u64,
}

/// What was done, and what is still lost.
pub fn document(done: &StoreRepaired) -> Document<'_> {
    Document {
        schema: "lantern.repair/1",
        releases: done.releases,
        was_intact: done.was_intact,
        damaged_files: done.damaged,
        from_exports: done.from_exports,
        received: done
            .received
            .iter()
            .map(|(storefront, bytes)| ReceivedDocument { storefront, bytes: *bytes })
            .collect(),
        unreachable: unreachable(&done.unreachable),
        repaired: &done.repaired,
        broken: done.broken.iter().map(|b| BrokenDocument { release: &b.release, lost: &b.lost }).collect(),
    }
}

/// The same in sentences.
pub fn view(done: &StoreRepaired) -> View {
    let mut view = View::default();
    let releases = format::count(done.releases, "release", "releases");
    if done.was_intact {
        view.say(format!("{} {releases}, everything as it should be: nothing to repair", good("intact:")));
        return view;
    }
    if done.damaged > 0 {
        let files = format::count(done.damaged, "file of the store", "files of the store");
        view.say(format!("  {} {files}", faint("damaged:")));
    }
    if done.from_exports {
        view.say(format!("  {} what the exports still have", faint("taken:")));
    }
    for (name, bytes) in &done.received {
        view.say(format!("  {} {} from {name}", faint("fetched:"), format::bytes(*bytes)));
    }
    for (name, why) in &done.unreachable {
        view.say(format!("  {} {name} could not be asked: {why}", care("careful:")));
    }
    for release in &done.repaired {
        view.say(format!("{} {}", good("repaired:"), strong(release)));
    }
    if done.broken.is_empty() {
        if done.repaired.is_empty() {
            view.say(format!("{} the store; no release had lost anything", good("repaired:")));
        }
        view.next("lantern verify");
    }
    for BrokenRelease { release, lost } in &done.broken {
        for what in lost {
            view.say(format!("{} {release}: {what}", bad("lost:")));
        }
    }
    view
}
