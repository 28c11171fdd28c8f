mod show;
mod withdraw;
mod write;

#[cfg(test)]
pub use show::Document as ShowDocument;
#[cfg(test)]
pub use withdraw::Document as WithdrawDocument;
#[cfg(test)]
pub use write::Document as WrittenDocument;

use std::collections::{BTreeMap, BTreeSet};

use clap::Subcommand;
use lantern_core::board::{Board, KnownRelease};
use lantern_core::event::TitleKey;
use lantern_core::names::Name;
use lantern_core::version::{ReleaseAsked, ReleaseName};
use lantern_project::Workspace;
use serde::Serialize;

use super::Done;
use crate::args::EditionArg;
use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::table::Table;
use crate::ui::{Next, Ui};

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
    action: Option<Action>,
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
enum Action {
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

/// A branch that has it, by the project's name for its storefront.
#[derive(Serialize, PartialEq, Eq, PartialOrd, Ord)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LiveDocument {
    storefront: String,
    branch: Name,
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
    live_on: BTreeSet<LiveDocument>,
    /// Targets that someone started and said yes to.
    tried: BTreeSet<String>,
    /// Targets that someone started and said no to.
    tried_no: BTreeSet<String>,
    /// The targets that it has; empty where that is not known.
    targets: Vec<Name>,
    /// The storefront that it was found at, where it was sealed on another computer.
    found_at: Option<Name>,
    /// What its builds are for, as it was said when they were pushed.
    messages: BTreeSet<String>,
    /// What builds say of themselves inside and the release does not, by target.
    claims: BTreeMap<Name, Vec<String>>,
    /// Why, when it was withdrawn.
    withdrawn: Option<String>,
    /// Whether only its record is left.
    freed: bool,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    match (&args.action, &args.release) {
        (Some(Action::Write(args)), _) => write::run(args, &ui.about(&args.edition)),
        (Some(Action::Withdraw(args)), _) => withdraw::run(args, &ui.about(&args.edition)),
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

fn list(open: &Workspace, ui: &Ui) -> Done {
    let mut releases = Vec::new();
    for edition in open.project.editions() {
        let board = open.board(&edition)?;
        let titles = open.titles(&board, &edition)?;
        releases.extend(board.releases.iter().map(|release| describe(open, &board, &titles, release)));
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
    table.head(["release", edition_head, "sealed", "where", ""]);
    for release in &document.releases {
        let state = match (&release.withdrawn, release.freed) {
            (Some(because), _) => format!("{} {}", bad("withdrawn:"), lantern_core::path::shown(because)),
            (None, true) => faint("content freed"),
            (None, false) => {
                let mut parts = Vec::new();
                if !release.tried_no.is_empty() {
                    parts.push(format!("{} {}", bad("tried, no:"), join(&release.tried_no)));
                }
                if !release.tried.is_empty() {
                    parts.push(format!("{} {}", good("tried"), join(&release.tried)));
                }
                if !release.claims.is_empty() {
                    parts.push(format!("{} {}", care("differs inside:"), format::names(release.claims.keys())));
                }
                if release.found_at.is_some() {
                    parts.push(faint("sealed elsewhere"));
                }
                parts.join(", ")
            }
        };
        table.row([
            strong(&release.name),
            if has_editions { release.edition.to_string() } else { String::new() },
            format::time(release.sealed_at),
            where_it_is(release),
            state,
        ]);
    }
    ui.say(&table.lay_out());
    ui.next(Next::of(format!("lantern releases {}", document.releases[0].name.number), "shows what it contains"));
    Ok(())
}

/// Each storefront that has it, with the branches that it is live on.
fn where_it_is(release: &ReleaseDocument) -> String {
    let at = |storefront: &String| {
        let branches = release.live_on.iter().filter(|live| live.storefront == *storefront);
        let branches: Vec<&str> = branches.map(|live| live.branch.as_str()).collect();
        if branches.is_empty() { storefront.clone() } else { format!("{storefront}: {}", branches.join(", ")) }
    };
    let storefronts: Vec<String> = release.pushed_to.iter().map(at).collect();
    storefronts.join("; ")
}

fn describe(
    open: &Workspace,
    board: &Board,
    titles: &BTreeMap<Name, TitleKey>,
    release: &KnownRelease,
) -> ReleaseDocument {
    let called = |title: &TitleKey| titles.iter().find(|(_, known)| *known == title).map(|(name, _)| name.to_string());
    let pushed = || board.pushed.iter().filter(|p| p.release == release.id);
    let live = board.branches.iter().filter(|(_, facts)| facts.targets.values().any(|b| b.release == release.id));
    let live = live
        .filter_map(|((title, branch), _)| Some(LiveDocument { storefront: called(title)?, branch: branch.clone() }));
    let tried = |yes: bool| {
        let said = board.tried.get(&release.id).into_iter().flatten();
        said.filter(move |(_, said)| **said == yes).map(|(target, _)| target.to_string()).collect()
    };
    let record = open.store.record(release.id).ok();
    let differing = record.iter().flat_map(|record| record.targets.iter().map(move |target| (record, target)));
    let differing = differing.map(|(record, t)| (t.target.clone(), t.claims.differing(&record.game, &release.name)));
    ReleaseDocument {
        edition: release.edition.clone(),
        name: release.name.clone(),
        id: release.id.to_string(),
        sealed_at: release.sealed_at,
        pushed_to: pushed().filter_map(|p| called(&p.storefront.key())).collect(),
        live_on: live.collect(),
        tried: tried(true),
        tried_no: tried(false),
        targets: release.targets.clone(),
        found_at: release.found_at.as_ref().map(|storefront| storefront.name.clone()),
        messages: pushed().filter_map(|p| p.message.clone()).collect(),
        claims: differing.filter(|(_, claims)| !claims.is_empty()).collect(),
        withdrawn: board.withdrawn.get(&release.id).cloned(),
        freed: board.freed.contains(&release.id),
    }
}
