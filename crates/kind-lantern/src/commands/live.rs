use std::collections::BTreeMap;

use jiff::Timestamp;
use lantern_core::board::Board;
use lantern_core::config::Audience;
use lantern_core::event::{BranchBuild, BranchFacts};
use lantern_core::names::Name;
use lantern_core::version::ReleaseName;
use lantern_project::{Heard, Open, ProjectError};
use serde::Serialize;

use super::Done;
use crate::args::EditionArg;
use crate::ui::{Ui, bad, care, faint, good, strong};
use crate::words;

/// Columns that a line takes at most.
const WIDTH: usize = 80;

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
    #[command(flatten)]
    pub edition: EditionArg,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document {
    schema: &'static str,
    game: String,
    /// One for each edition and storefront that has it.
    storefronts: Vec<StorefrontDocument>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct StorefrontDocument {
    edition: Name,
    storefront: Name,
    /// The newest release that is sealed and not withdrawn.
    newest: Option<ReleaseName>,
    /// Whether it answered just now.
    heard_now: bool,
    /// When it was last heard.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    as_of: Option<Timestamp>,
    /// Why it was not heard now.
    why: Option<String>,
    branches: Vec<BranchDocument>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct BranchDocument {
    branch: Name,
    audience: Option<&'static str>,
    revision: u64,
    /// By target.
    targets: BTreeMap<Name, LiveDocument>,
}

/// What players of a target have on a branch.
#[derive(Serialize, Clone, PartialEq)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LiveDocument {
    #[serde(flatten)]
    build: BranchBuild,
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    since: Option<Timestamp>,
    by: Option<String>,
    /// Whether a newer release is sealed.
    behind: bool,
    /// Why, when it was withdrawn.
    withdrawn: Option<String>,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let open = super::open(ui)?;
    let mut trouble: BTreeMap<Name, ProjectError> = BTreeMap::new();
    let (open, heard) = if args.offline {
        (open, BTreeMap::new())
    } else if open.is_read_only() {
        // What is heard could not be recorded, and so would be shown without being known the next time.
        ui.aside(&format!("{} nothing can be written to the disk now; nobody was asked", care("note:")));
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
    let mut storefronts = Vec::new();
    for edition in open.project.editions() {
        storefronts.extend(look(&open, &edition, &heard, &trouble)?);
    }
    let document = Document { schema: "lantern.live/1", game: open.project.config().game.name.clone(), storefronts };
    ui.document(&document);
    show(&document, open.project.has_editions(), ui);
    if let Some(next) = next_step(&open, &document)? {
        ui.next(&next);
    }
    Ok(())
}

/// What the storefronts of one edition have.
fn look(
    open: &Open,
    edition: &Name,
    heard: &BTreeMap<Name, bool>,
    trouble: &BTreeMap<Name, ProjectError>,
) -> Result<Vec<StorefrontDocument>, ProjectError> {
    let board = open.board(edition)?;
    let mut out = Vec::new();
    for (name, configured) in &open.project.config().storefronts {
        if !configured.handles.contains_key(edition) {
            continue;
        }
        let mut places: Vec<_> = board.branches.keys().map(|(place, _)| place).filter(|p| p.name == *name).collect();
        places.dedup();
        let as_of = match places.last() {
            Some(place) => open.last_heard(place)?,
            None => None,
        };
        let of_place = board.branches.iter().filter(|((place, _), _)| place.name == *name);
        let branches = of_place.map(|((place, branch), facts)| BranchDocument {
            branch: branch.clone(),
            audience: configured.audience(branch).map(Audience::name),
            revision: facts.revision,
            targets: (facts.targets.iter())
                .map(|(target, build)| {
                    let key = ((place.clone(), branch.clone()), target.clone());
                    (target.clone(), live(&board, facts, build, board.since.get(&key).copied().flatten()))
                })
                .collect(),
        });
        let mut branches: Vec<BranchDocument> = branches.collect();
        let unheard = configured.branches.iter().filter(|(name, _)| !branches.iter().any(|b| b.branch == *name));
        let unheard = unheard.map(|(branch, audience)| BranchDocument {
            branch: branch.clone(),
            audience: Some(audience.name()),
            revision: 0,
            targets: BTreeMap::new(),
        });
        branches.extend(unheard.collect::<Vec<_>>());
        // In the order of lantern.toml; those that only the place knows come last.
        let place_of = |name: &Name| configured.branches.iter().position(|(known, _)| known == name);
        branches.sort_by_key(|b| (place_of(&b.branch).unwrap_or(usize::MAX), b.branch.clone()));
        out.push(StorefrontDocument {
            edition: edition.clone(),
            storefront: name.clone(),
            newest: board.release(None).map(|r| r.name.clone()),
            heard_now: heard.get(name).copied().unwrap_or(false),
            as_of,
            why: trouble.get(name).map(short),
            branches,
        });
    }
    Ok(out)
}

fn live(board: &Board, facts: &BranchFacts, build: &BranchBuild, since: Option<Timestamp>) -> LiveDocument {
    let newest = board.release(None).map(|r| r.name.number);
    LiveDocument {
        build: build.clone(),
        since,
        by: facts.by.clone(),
        behind: newest.is_some_and(|newest| build.name.number < newest),
        withdrawn: board.withdrawn.get(&build.release).cloned(),
    }
}

fn short(error: &ProjectError) -> String {
    match error {
        ProjectError::Place { source, .. } => source.to_string(),
        other => other.to_string(),
    }
}

/// Leads on for the first storefront: the next branch in its order that lacks the newest release.
fn next_step(open: &Open, document: &Document) -> Result<Option<String>, ProjectError> {
    let Some(first) = document.storefronts.first() else {
        let next = if open.board(&open.project.first_edition())?.releases.is_empty() {
            "lantern prepare"
        } else {
            "add a storefront to lantern.toml; to try one: lantern rehearse"
        };
        return Ok(Some(next.to_owned()));
    };
    let Some(newest) = &first.newest else { return Ok(Some("lantern prepare".to_owned())) };
    let name = &first.storefront;
    let has = |branch: &Name| {
        let found = first.branches.iter().find(|b| b.branch == *branch);
        found.is_some_and(|b| b.targets.values().any(|t| t.build.name == *newest))
    };
    let configured = open.project.config().storefronts.get(name);
    let lacking = configured.and_then(|s| s.branches.iter().map(|(branch, _)| branch).find(|branch| !has(branch)));
    let board = open.board(&first.edition)?;
    let is_pushed = board.pushed.iter().any(|p| p.place.name == *name && p.name == *newest);
    Ok(Some(match (is_pushed, lacking) {
        (false, _) => format!("lantern push {name}"),
        (true, Some(branch)) => format!("lantern promote {name} {branch}"),
        (true, None) => {
            let Some(branch) = configured.and_then(|s| s.branches.last()).map(|(branch, _)| branch) else {
                return Ok(None);
            };
            format!("lantern install {name} {branch} DIR   gets it as a player does")
        }
    }))
}

/// Targets of a branch that have the very same, together.
fn groups(branch: &BranchDocument) -> Vec<(&LiveDocument, Vec<&Name>)> {
    let mut groups: Vec<(&LiveDocument, Vec<&Name>)> = Vec::new();
    for (target, live) in &branch.targets {
        match groups.iter_mut().find(|(known, _)| *known == live) {
            Some((_, targets)) => targets.push(target),
            None => groups.push((live, vec![target])),
        }
    }
    groups.sort_by_key(|(live, _)| std::cmp::Reverse(live.build.name.number));
    groups
}

fn show(document: &Document, has_editions: bool, ui: &Ui) {
    ui.say(&strong(&document.game));
    let lives = || document.storefronts.iter().flat_map(|s| &s.branches).flat_map(|b| b.targets.values());
    let branches = document.storefronts.iter().flat_map(|s| &s.branches);
    let wide = branches.map(|b| b.branch.as_str().len()).max().unwrap_or(0);
    let release_wide = lives().map(|l| l.build.name.to_string().len()).max().unwrap_or(0);
    for storefront in &document.storefronts {
        let edition = if has_editions { format!(", {}", storefront.edition) } else { String::new() };
        let newest = match &storefront.newest {
            Some(newest) => faint(format!("   newest sealed: {newest}")),
            None => faint("   nothing sealed yet"),
        };
        ui.say(&format!("\n  {}{edition}{newest}", strong(&storefront.storefront)));
        for branch in &storefront.branches {
            show_branch(branch, wide, release_wide, ui);
        }
        let as_of = storefront.as_of.map_or_else(String::new, |at| format!(", shown as it was at {}", words::time(at)));
        if let Some(why) = &storefront.why {
            for (i, line) in words::wrap(&format!("{why}{as_of}"), WIDTH - 16).into_iter().enumerate() {
                ui.say(&format!("    {} {line}", if i == 0 { care("not heard:") } else { " ".repeat(10) }));
            }
        } else if !storefront.heard_now {
            ui.say(&format!("    {}", faint(format!("nobody was asked{as_of}"))));
        }
    }
}

/// A line for each release on a branch, and under it who has it: this folds well in a narrow window.
fn show_branch(branch: &BranchDocument, wide: usize, release_wide: usize, ui: &Ui) {
    let groups = groups(branch);
    if groups.is_empty() {
        ui.say(&format!("    {:wide$}   {}", branch.branch, faint("nothing yet")));
    }
    for (i, (live, targets)) in groups.into_iter().enumerate() {
        let name = if i == 0 { branch.branch.to_string() } else { String::new() };
        let release = live.build.name.to_string();
        let pad = " ".repeat(release_wide - release.len());
        let state = match (&live.withdrawn, live.behind) {
            (Some(because), _) => format!("{} {}", bad("withdrawn:"), lantern_core::path::shown(because)),
            (None, true) => care("behind"),
            (None, false) => good("newest"),
        };
        ui.say(&format!("    {name:wide$}   {}{pad}   {state}", strong(&release)));
        let indent = " ".repeat(4 + wide + 3);
        for line in words::wrap(&words::names(targets), WIDTH - indent.len()) {
            ui.say(&format!("{indent}{line}"));
        }
        let since = live.since.map_or_else(String::new, |at| format!(", since {}", words::time(at)));
        let by = live.by.as_ref().map_or_else(String::new, |by| format!(" by {}", lantern_core::path::shown(by)));
        ui.say(&format!("{indent}{}", faint(format!("build {} there{since}{by}", live.build.build))));
    }
}
