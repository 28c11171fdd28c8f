use std::path::{Path, PathBuf};

use lantern_core::names::Name;
use lantern_core::version::{ReleaseAsked, ReleaseName};
use lantern_project::{BrokenRelease, StoreRepaired};
use serde::Serialize;

use super::Done;
use crate::args::EditionArg;
use crate::diagnostic::CommandError;
use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern repair
  lantern repair --release 1.3.2
  lantern repair ~/games/saltmarsh"#;

/// Repair the store, one release, or an installed copy
///
/// The store: what damaged files still hold is saved, what is lost is taken from the exports as they are now, and what they
/// do not have is fetched from storefronts. Nothing that is damaged is ever sent or copied on. With a folder: the copy that
/// is installed there is made whole, as the build that it is; what you changed in it is moved aside.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// A folder that lantern installed into. Left out: the project's store
    dir: Option<PathBuf>,
    /// Only what this release needs of the store: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(long, value_name = "RELEASE", conflicts_with = "dir", value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    #[command(flatten)]
    pub edition: EditionArg,
}

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
    unreachable: Vec<super::UnreachableDocument<'a>>,
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

pub fn run(args: &Args, ui: &Ui) -> Done {
    match &args.dir {
        Some(folder) => installed(folder, ui),
        None => store(args, ui),
    }
}

fn installed(folder: &Path, ui: &Ui) -> Done {
    let project = super::find(ui)?;
    let done = lantern_project::repair_installed(&project, folder, &ui.progress())?;
    super::install::say_repaired(&done, ui);
    Ok(())
}

fn store(args: &Args, ui: &Ui) -> Done {
    let done = super::lock(ui)?.repair_store(args.release.as_ref(), &ui.progress())?;
    ui.document(&document(&done));
    let releases = format::count(done.releases, "release", "releases");
    if done.was_intact {
        ui.say(&format!("{} {releases}, everything as it should be: nothing to repair", good("intact:")));
        return Ok(());
    }
    if done.damaged > 0 {
        ui.say(&format!(
            "  {} {}",
            faint("damaged:"),
            format::count(done.damaged, "file of the store", "files of the store")
        ));
    }
    if done.from_exports {
        ui.say(&format!("  {} what the exports still have", faint("taken:")));
    }
    for (name, bytes) in &done.received {
        ui.say(&format!("  {} {} from {name}", faint("fetched:"), format::bytes(*bytes)));
    }
    for (name, why) in &done.unreachable {
        ui.say(&format!("  {} {name} could not be asked: {why}", care("careful:")));
    }
    for release in &done.repaired {
        ui.say(&format!("{} {}", good("repaired:"), strong(release)));
    }
    if done.broken.is_empty() {
        if done.repaired.is_empty() {
            ui.say(&format!("{} the store; no release had lost anything", good("repaired:")));
        }
        ui.next("lantern verify");
        return Ok(());
    }
    for BrokenRelease { release, lost } in &done.broken {
        for what in lost {
            ui.say(&format!("{} {release}: {what}", bad("lost:")));
        }
    }
    let names: Vec<String> = done.broken.iter().map(|broken| broken.release.to_string()).collect();
    let what = format!("{} cannot be repaired from what is here", names.join(", "));
    let fix = "bring back its export, or connect a storefront that has it, then: lantern repair";
    Err(CommandError::damaged(what, fix).said_in(ui))
}

fn document(done: &StoreRepaired) -> Document<'_> {
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
        unreachable: done
            .unreachable
            .iter()
            .map(|(storefront, why)| super::UnreachableDocument { storefront, why })
            .collect(),
        repaired: &done.repaired,
        broken: done.broken.iter().map(|b| BrokenDocument { release: &b.release, lost: &b.lost }).collect(),
    }
}
