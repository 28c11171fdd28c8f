use std::collections::BTreeSet;
use std::path::PathBuf;

use clap::Subcommand;
use lantern_core::board::{Board, KnownRelease};
use lantern_core::names::Name;
use lantern_core::release::ReleaseRecord;
use lantern_core::tree::Node;
use lantern_core::version::{ReleaseAsked, ReleaseName};
use lantern_project::{Open, WithdrawPlan};
use serde::Serialize;

use super::{Agreement, Done};
use crate::diagnostic::CommandError;
use crate::table::Table;
use crate::ui::{Ui, bad, care, faint, good, strong};
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
}

#[derive(Debug, Subcommand)]
enum Deed {
    /// Write a sealed release out again, as a folder or an archive (.zip, .tar, .tar.gz, .tar.zst)
    ///
    /// The same release gives the same bytes, on any computer. Several targets get a folder each.
    Write(WriteArgs),
    /// Take a release away for good, with a reason
    ///
    /// Nobody promotes it any more, here or at any storefront that has it. Players who have it keep it until something
    /// else is put on their branch: the plan says where.
    Withdraw(WithdrawArgs),
}

#[derive(Debug, clap::Args)]
struct WriteArgs {
    /// Which release: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(value_parser = super::release_asked)]
    release: ReleaseAsked,
    /// Where to; nothing may be there yet
    to: PathBuf,
    /// This target alone
    #[arg(long, value_parser = super::name::<Name>)]
    target: Option<Name>,
    /// What was kept aside, such as symbols, instead of what players get
    #[arg(long)]
    aside: bool,
}

#[derive(Debug, clap::Args)]
struct WithdrawArgs {
    /// Which release: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(value_parser = super::release_asked)]
    release: ReleaseAsked,
    /// Why; your team and the storefronts read it
    #[arg(long, value_name = "TEXT")]
    because: Option<String>,
    #[command(flatten)]
    agreement: Agreement,
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

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ShowDocument<'a> {
    schema: &'static str,
    id: String,
    #[cfg_attr(test, schemars(with = "String"))]
    sealed_at: jiff::Timestamp,
    release: &'a ReleaseRecord,
    withdrawn: Option<String>,
    freed: bool,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    files: Vec<FileDocument>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FileDocument {
    depot: String,
    path: String,
    bytes: u64,
    digest: lantern_core::digest::Digest,
    executable: bool,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct WrittenDocument<'a> {
    schema: &'static str,
    release: &'a ReleaseName,
    path: String,
    targets: &'a [Name],
    files: u64,
    bytes: u64,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct WithdrawDocument<'a> {
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
    /// Storefronts that could not be told, with the reason.
    not_told: Vec<NotTold>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LiveDocument<'a> {
    storefront: &'a Name,
    branch: &'a Name,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct NotTold {
    storefront: Name,
    why: String,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    match (&args.deed, &args.release) {
        (Some(Deed::Write(write)), _) => write_out(write, ui),
        (Some(Deed::Withdraw(withdraw)), _) => self::withdraw(withdraw, ui),
        (None, Some(asked)) => {
            let mut open = super::open(ui)?;
            let release = open.release(Some(asked))?;
            show(&open, &release, args.files, ui)
        }
        (None, None) => list(&super::open(ui)?, ui),
    }
}

fn list(open: &Open, ui: &Ui) -> Done {
    let mut releases = Vec::new();
    for edition in open.project.editions() {
        let board = open.board_of(&edition)?;
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

fn show(open: &Open, release: &KnownRelease, with_files: bool, ui: &Ui) -> Done {
    let record = open.store.record(release.id).map_err(lantern_project::ProjectError::from)?;
    let board = open.board_of(&release.edition)?;
    let (withdrawn, freed) = (board.withdrawn.get(&release.id).cloned(), board.freed.contains(&release.id));
    if with_files && freed {
        return Err(lantern_project::ProjectError::Freed(release.name.clone()).into());
    }
    let files = if with_files { files(open, &record)? } else { Vec::new() };
    let edition = super::edition_word(&open.project, &release.edition);
    let sealed = words::time(release.sealed_at);
    ui.say(&format!("{edition}{} {}, sealed {sealed}\n", strong(&release.name), release.id.0.short()));
    if let Some(because) = &withdrawn {
        ui.say(&format!("  {} {}\n", bad("withdrawn:"), lantern_core::path::shown(because)));
    }
    if freed {
        ui.say(&format!("  {} only its record is left\n", care("content freed:")));
    }
    let mut table = Table::default();
    for target in &record.targets {
        table.row([
            strong(&target.target),
            words::systems(&target.systems),
            words::count(target.files(), "file", "files"),
            words::bytes(target.size()),
            words::starts(&target.starts),
        ]);
    }
    ui.say(&table.lay_out());
    let mut table = Table::default();
    table.row(["depot", "files", "size", "tree", "for"].map(faint));
    for (_, depot) in record.different_depots() {
        let having = record.targets.iter().filter(|t| t.depots.iter().any(|d| d.depot == depot.depot));
        let who = if depot.when.is_always() { String::new() } else { format!(", {}", depot.when) };
        table.row([
            depot.depot.to_string(),
            depot.files.to_string(),
            words::bytes(depot.size),
            depot.tree.0.short(),
            faint(format!("{}{who}", words::names(having.map(|t| &t.target)))),
        ]);
    }
    for target in &record.targets {
        if let Some(aside) = &target.aside {
            table.row([
                faint("kept aside"),
                aside.files.to_string(),
                words::bytes(aside.size),
                aside.tree.0.short(),
                faint(format!("nobody; of {}", target.target)),
            ]);
        }
    }
    ui.say(&format!("\n{}", table.lay_out()));
    if with_files {
        let mut table = Table::default();
        for file in &files {
            table.row([
                file.depot.clone(),
                words::bytes(file.bytes),
                faint(file.digest.short()),
                if file.executable { "program".to_owned() } else { String::new() },
                lantern_core::path::shown(&file.path),
            ]);
        }
        ui.say(&format!("\n{}", table.lay_out()));
    }
    ui.document(&ShowDocument {
        schema: "lantern.release-shown/1",
        id: release.id.to_string(),
        sealed_at: release.sealed_at,
        release: &record,
        withdrawn,
        freed,
        files,
    });
    Ok(())
}

fn files(open: &Open, record: &ReleaseRecord) -> Result<Vec<FileDocument>, lantern_project::ProjectError> {
    let mut out = Vec::new();
    for (_, depot) in record.different_depots() {
        for (path, node) in open.store.tree(depot.tree)?.iter() {
            if let Node::File { size, digest, executable } = node {
                out.push(FileDocument {
                    depot: depot.depot.to_string(),
                    path: path.as_str().to_owned(),
                    bytes: *size,
                    digest: *digest,
                    executable: *executable,
                });
            }
        }
    }
    Ok(out)
}

fn write_out(args: &WriteArgs, ui: &Ui) -> Done {
    let mut open = super::open(ui)?;
    let release = open.release(Some(&args.release))?;
    let written = open.write_out(&release, args.target.as_ref(), args.aside, &args.to, &ui.progress())?;
    let path = args.to.display().to_string();
    ui.document(&WrittenDocument {
        schema: "lantern.release-written/1",
        release: &release.name,
        path: path.clone(),
        targets: &written.targets,
        files: written.files,
        bytes: written.size,
    });
    ui.say(&format!("{} {} to {path}", good("written"), strong(&release.name)));
    let (files, size) = (words::count(written.files, "file", "files"), words::bytes(written.size));
    ui.say(&format!("  {}: {files}, {size}", words::names(&written.targets)));
    Ok(())
}

fn withdraw(args: &WithdrawArgs, ui: &Ui) -> Done {
    let mut project = super::lock(ui)?;
    let release = project.open.release(Some(&args.release))?;
    let known = project.open.board()?.withdrawn.get(&release.id).cloned();
    let because = match (known, &args.because) {
        (Some(known), _) => known,
        (None, Some(because)) => because.clone(),
        (None, None) => ui.ask("Why is it withdrawn?", "the reason", "--because")?,
    };
    if because.trim().is_empty() {
        return Err(CommandError::usage("a withdrawal needs a reason", "give it with --because"));
    }
    let plan = project.plan_withdraw(release, because)?;
    if plan.is_known && plan.places.iter().all(|p| p.is_done) {
        ui.document(&withdraw_document(&plan, true, Vec::new()));
        ui.say(&format!("nothing to do: {} is withdrawn everywhere", strong(&plan.release.name)));
        return Ok(());
    }
    show_withdraw(&plan, ui);
    if args.agreement.plan || !args.agreement.ask(ui)? {
        ui.document(&withdraw_document(&plan, false, Vec::new()));
        if !args.agreement.plan {
            ui.say("nothing was changed");
        }
        return Ok(());
    }
    let mut failed = project.withdraw(&plan)?;
    let not_told = failed.iter().map(|(name, error)| NotTold { storefront: name.clone(), why: error.to_string() });
    ui.document(&withdraw_document(&plan, failed.is_empty(), not_told.collect()));
    ui.say(&format!("\n{} {}: nobody promotes it any more", good("withdrawn"), strong(&plan.release.name)));
    if let Some((place, branch)) = plan.live_on.first() {
        ui.next(&format!("lantern rollback {place} {branch}"));
    }
    if let Some((name, error)) = failed.pop() {
        ui.say(&format!("  {} {name} could not be told; the same command tells it", care("but:")));
        return Err(CommandError::from(error).said_in(ui));
    }
    Ok(())
}

fn withdraw_document(plan: &WithdrawPlan, done: bool, not_told: Vec<NotTold>) -> WithdrawDocument<'_> {
    WithdrawDocument {
        schema: "lantern.withdraw/1",
        edition: &plan.release.edition,
        release: &plan.release.name,
        because: &plan.because,
        storefronts: plan.places.iter().map(|p| &p.place.name).collect(),
        live_on: plan.live_on.iter().map(|(storefront, branch)| LiveDocument { storefront, branch }).collect(),
        done,
        not_told,
    }
}

fn show_withdraw(plan: &WithdrawPlan, ui: &Ui) {
    ui.say(&format!("Withdraw {} for good\n", strong(&plan.release.name)));
    let mut table = Table::default();
    table.row([faint("because"), lantern_core::path::shown(&plan.because)]);
    let places = words::names(plan.places.iter().map(|p| &p.place.name));
    let nowhere = "it was pushed nowhere".to_owned();
    table.row([faint("will be told"), if places.is_empty() { nowhere } else { places }]);
    ui.say(&table.lay_out());
    for (place, branch) in &plan.live_on {
        ui.say(&format!("\n  {} players on {branch} at {place} have it, and keep it until a", care("still live:")));
        ui.say("  rollback or another release; this alone changes no branch");
    }
}
