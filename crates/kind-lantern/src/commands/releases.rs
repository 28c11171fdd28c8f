mod show;
mod withdraw;
mod write;

#[cfg(test)]
pub use show::Document as ShowDocument;
#[cfg(test)]
pub use withdraw::Document as WithdrawDocument;
#[cfg(test)]
pub use write::Document as WrittenDocument;

use std::collections::BTreeSet;

use clap::Subcommand;
use lantern_core::board::{Board, KnownRelease};
use lantern_core::names::Name;
use lantern_core::version::{ReleaseAsked, ReleaseName};
use lantern_project::Open;
use serde::Serialize;

use super::Done;
use crate::args::EditionArg;
use crate::table::Table;
use crate::ui::{Ui, bad, faint, good, strong};
use crate::words;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern releases
  lantern releases 1.4.0 --files
  lantern releases write 1.4.0 saltmarsh-1.4.0.zip --target windows
  lantern releases withdraw 26 --because "a save bug""#;

/// List sealed releases, show what one holds, write one out, or withdraw one
///
/// Where each is: pushed to, and live on, by what is known here. With a release: its targets, depots, ids and files.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES, args_conflicts_with_subcommands = true)]
pub struct Args {
    #[command(subcommand)]
    deed: Option<Deed>,
    /// Which release to show: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    /// Every file with its size and digest
    #[arg(long, requires = "release")]
    files: bool,
    #[command(flatten)]
    edition: EditionArg,
}

#[derive(Debug, Subcommand)]
enum Deed {
    /// Write a sealed release out again, as a folder or an archive (.zip, .tar, .tar.gz, .tar.zst)
    ///
    /// The same release gives the same bytes, on any computer. Several targets get a folder each.
    Write(write::Args),
    /// Take a release away for good, with a reason
    ///
    /// Nobody promotes it any more, here or at any storefront that has it. Players who have it keep it until something
    /// else is put on their branch: the plan says where.
    Withdraw(withdraw::Args),
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ListDocument {
    schema: &'static str,
    /// Newest first.
    releases: Vec<ReleaseDocument>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ReleaseDocument {
    edition: Name,
    #[serde(flatten)]
    name: ReleaseName,
    id: String,
    #[cfg_attr(test, schemars(with = "String"))]
    sealed_at: jiff::Timestamp,
    pushed_to: BTreeSet<String>,
    live_on: BTreeSet<String>,
    /// Targets that somebody started and said yes to.
    tried: BTreeSet<String>,
    /// Why, when it was withdrawn.
    withdrawn: Option<String>,
    /// Whether only its record is left.
    freed: bool,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    match (&args.deed, &args.release) {
        (Some(Deed::Write(args)), _) => write::run(args, &ui.about(&args.edition)),
        (Some(Deed::Withdraw(args)), _) => withdraw::run(args, &ui.about(&args.edition)),
        (None, Some(asked)) => {
            let ui = &ui.about(&args.edition);
            let open = super::open(ui)?;
            let release = open.release(Some(asked))?;
            show::run(&open, &release, args.files, ui)
        }
        (None, None) => {
            let ui = &ui.about(&args.edition);
            list(&super::open(ui)?, ui)
        }
    }
}

fn list(open: &Open, ui: &Ui) -> Done {
    let mut releases = Vec::new();
    for edition in open.project.editions() {
        let board = open.board(&edition)?;
        releases.extend(board.releases.iter().map(|release| describe(&board, release)));
    }
    releases.sort_by_key(|r: &ReleaseDocument| std::cmp::Reverse(r.name.number));
    let document = ListDocument { schema: "lantern.releases/1", releases };
    ui.document(&document);
    if document.releases.is_empty() {
        ui.say("nothing is sealed yet");
        ui.next("lantern prepare");
        return Ok(());
    }
    let join = |names: &BTreeSet<String>| names.iter().cloned().collect::<Vec<_>>().join(", ");
    let mut table = Table::default();
    let has_editions = open.project.has_editions();
    let edition_head = if has_editions { "edition" } else { "" };
    table.row(["release", edition_head, "sealed", "where", ""].map(faint));
    for release in &document.releases {
        let state = match (&release.withdrawn, release.freed) {
            (Some(because), _) => format!("{} {}", bad("withdrawn:"), lantern_core::path::shown(because)),
            (None, true) => faint("content freed"),
            (None, false) if !release.tried.is_empty() => format!("{} {}", good("tried"), join(&release.tried)),
            (None, false) => String::new(),
        };
        table.row([
            strong(&release.name),
            if has_editions { release.edition.to_string() } else { String::new() },
            words::time(release.sealed_at),
            where_it_is(release),
            state,
        ]);
    }
    ui.say(&table.lay_out());
    ui.next(&format!("lantern releases {}   shows what it holds", document.releases[0].name.number));
    Ok(())
}

/// Each storefront that has it, with the branches that it is live on.
fn where_it_is(release: &ReleaseDocument) -> String {
    let at = |storefront: &String| {
        let lines = release.live_on.iter().filter_map(|line| line.strip_suffix(&format!(" at {storefront}")));
        let lines: Vec<&str> = lines.collect();
        if lines.is_empty() { storefront.clone() } else { format!("{storefront}: {}", lines.join(", ")) }
    };
    let storefronts: Vec<String> = release.pushed_to.iter().map(at).collect();
    storefronts.join("; ")
}

fn describe(board: &Board, release: &KnownRelease) -> ReleaseDocument {
    let pushed = board.pushed.iter().filter(|p| p.release == release.id);
    let live = board.branches.iter().filter(|(_, facts)| facts.targets.values().any(|b| b.release == release.id));
    let tried = board.tried.values().filter(|t| t.release == release.id && t.yes);
    ReleaseDocument {
        edition: release.edition.clone(),
        name: release.name.clone(),
        id: release.id.to_string(),
        sealed_at: release.sealed_at,
        pushed_to: pushed.map(|p| p.place.name.to_string()).collect(),
        live_on: live.map(|((place, branch), _)| format!("{branch} at {}", place.name)).collect(),
        tried: tried.map(|t| t.target.to_string()).collect(),
        withdrawn: board.withdrawn.get(&release.id).cloned(),
        freed: board.freed.contains(&release.id),
    }
}
