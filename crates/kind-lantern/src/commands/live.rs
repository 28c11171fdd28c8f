use std::collections::BTreeMap;

use jiff::Timestamp;
use lantern_core::board::Board;
use lantern_core::event::{BranchFacts, PlaceRef};
use lantern_core::names::Name;
use lantern_project::{Heard, ProjectError};
use serde::Serialize;

use super::Done;
use crate::table::Table;
use crate::ui::{Ui, care, faint, strong};
use crate::words;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern live
  lantern live --offline --json"#;

/// Show which release is live where
///
/// Asks the storefronts first and records what somebody else changed. One that does not answer is shown as it was when
/// it was last heard.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// Ask nobody; show what is known here
    #[arg(long)]
    offline: bool,
}

#[derive(Serialize)]
struct Document {
    schema: &'static str,
    game: String,
    newest: Option<lantern_core::version::ReleaseName>,
    storefronts: Vec<StorefrontDocument>,
}

#[derive(Serialize)]
struct StorefrontDocument {
    storefront: Name,
    /// Whether it answered just now.
    heard_now: bool,
    /// When it was last heard.
    as_of: Option<Timestamp>,
    /// Why it was not heard now.
    why: Option<String>,
    branches: Vec<BranchFacts>,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let open = super::open(ui)?;
    let mut trouble: BTreeMap<Name, ProjectError> = BTreeMap::new();
    let (open, heard) = if args.offline {
        (open, BTreeMap::new())
    } else {
        match open.lock() {
            Ok(mut project) => {
                let mut heard = BTreeMap::new();
                for (name, answer) in project.refresh()? {
                    heard.insert(name.clone(), matches!(answer, Heard::Now));
                    if let Heard::Not(error) = answer {
                        trouble.insert(name, error);
                    }
                }
                (project.open, heard)
            }
            // Nobody waits to read: what is known is shown, and that it may be old.
            Err(ProjectError::Busy { .. }) => {
                ui.aside(&format!("{} another lantern is at work here; nobody was asked", care("note:")));
                (super::open(ui)?, BTreeMap::new())
            }
            Err(error) => return Err(error.into()),
        }
    };
    let board = open.board()?;
    let config = open.project.config();
    let mut document = Document {
        schema: "lantern.live/1",
        game: config.game.name.clone(),
        newest: board.release(None).map(|r| r.name.clone()),
        storefronts: Vec::new(),
    };
    for name in config.storefronts.keys() {
        let places: Vec<&PlaceRef> =
            board.branches.keys().map(|(place, _)| place).filter(|p| p.name == *name).collect();
        let as_of = match places.last() {
            Some(place) => open.last_heard(place)?,
            None => None,
        };
        let branches = board.branches.iter().filter(|((place, _), _)| place.name == *name).map(|(_, f)| f.clone());
        document.storefronts.push(StorefrontDocument {
            storefront: name.clone(),
            heard_now: heard.get(name).copied().unwrap_or(false),
            as_of,
            why: trouble.get(name).map(short),
            branches: branches.collect(),
        });
    }
    ui.document(&document);
    show(&document, &board, ui);
    let next = match (&document.newest, document.storefronts.first()) {
        (None, _) => Some("lantern prepare".to_owned()),
        (Some(_), None) => Some("add a storefront to lantern.toml; to try one: lantern rehearse".to_owned()),
        (Some(newest), Some(first)) => {
            let branch = config.storefronts.get(&first.storefront).and_then(|s| s.branches.keys().next());
            next_step(newest, first, branch, &board)
        }
    };
    if let Some(next) = next {
        ui.next(&next);
    }
    Ok(())
}

fn short(error: &ProjectError) -> String {
    match error {
        ProjectError::Place { source, .. } => source.to_string(),
        other => other.to_string(),
    }
}

fn next_step(
    newest: &lantern_core::version::ReleaseName,
    first: &StorefrontDocument,
    branch: Option<&Name>,
    board: &Board,
) -> Option<String> {
    let name = &first.storefront;
    let is_live = first.branches.iter().any(|b| b.targets.values().any(|t| t.name == *newest));
    let is_pushed = board.pushed.iter().any(|p| p.place.name == *name && p.name == *newest);
    if is_live {
        let branch = first.branches.iter().map(|b| &b.branch).next()?;
        return Some(format!("lantern install {name} {branch} DIR   gets it as a player does"));
    }
    let branch = branch.map_or("BRANCH", Name::as_str);
    Some(if is_pushed { format!("lantern promote {name} {branch}") } else { format!("lantern push {name}") })
}

/// Since when a target has what it has; a move of other targets does not count.
fn since(board: &Board, storefront: &StorefrontDocument, facts: &BranchFacts, target: &Name) -> Option<Timestamp> {
    let mut places = board.branches.iter().filter(|((p, _), f)| p.name == storefront.storefront && *f == facts);
    let (key, _) = places.next()?;
    board.since.get(&(key.clone(), target.clone())).copied().flatten()
}

fn shown_as_of(storefront: &StorefrontDocument) -> String {
    storefront.as_of.map_or_else(String::new, |at| format!("\n  it is shown as it was at {}", words::time(at)))
}

fn show(document: &Document, board: &Board, ui: &Ui) {
    ui.say(&format!("{}\n", strong(&document.game)));
    let mut table = Table::default();
    table.row(["storefront", "branch", "target", "live", "build there", "since", "by"].map(faint));
    let mut rows = 0;
    for storefront in &document.storefronts {
        for facts in &storefront.branches {
            for (target, build) in &facts.targets {
                rows += 1;
                table.row([
                    storefront.storefront.to_string(),
                    facts.branch.to_string(),
                    target.to_string(),
                    strong(&build.name),
                    build.build.to_string(),
                    since(board, storefront, facts, target).map_or_else(String::new, words::time),
                    facts.by.clone().map_or_else(String::new, |by| lantern_core::path::shown(&by)),
                ]);
            }
        }
    }
    if rows == 0 {
        ui.say("  nothing is live anywhere yet");
    } else {
        ui.say(&table.lay_out());
    }
    let mut notes = Vec::new();
    for storefront in &document.storefronts {
        let name = &storefront.storefront;
        if let Some(why) = &storefront.why {
            notes.push(format!("{} {name}: {why}{}", care("not heard:"), shown_as_of(storefront)));
        } else if !storefront.heard_now {
            notes.push(format!("{} {name}{}", faint("nobody was asked:"), shown_as_of(storefront)));
        }
    }
    if let Some(newest) = &document.newest {
        let behind = board.branches.values().flat_map(|f| f.targets.values()).filter(|b| b.name.number < newest.number);
        let behind = behind.count();
        let words = match (rows, behind) {
            (0, _) => "live nowhere yet".to_owned(),
            (_, 0) => "live on every line above".to_owned(),
            (_, n) => format!("{} an older release", words::count(n as u64, "line above has", "lines above have")),
        };
        notes.push(format!("{} {newest}; {words}", faint("newest sealed:")));
    }
    for note in notes {
        ui.say(&format!("\n  {note}"));
    }
}
