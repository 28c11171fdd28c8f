use std::collections::BTreeMap;

use jiff::Timestamp;
use lantern_core::board::Board;
use lantern_core::config::Audience;
use lantern_core::digest::ReleaseId;
use lantern_core::event::{BranchBuild, BranchFacts, TitleKey};
use lantern_core::names::Name;
use lantern_core::release::ReleaseRecord;
use lantern_core::version::ReleaseName;
use lantern_project::{Heard, ProjectError, Workspace};
use serde::Serialize;

use super::Done;
use crate::args::EditionArg;
use crate::diagnostic::CommandError;
use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::ui::{Next, Ui};

/// Columns that a line takes at most.
const WIDEST: usize = 80;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern live
  lantern live --fresh --json > live.json
  lantern live --offline"#;

/// Show which release is live where
///
/// Asks the storefronts first and records what someone else changed. One that does not answer is shown as it was when
/// it last answered.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// Ask no storefront; show what is known here
    #[arg(long)]
    offline: bool,
    /// End with exit code 4 unless every storefront was asked just now and answered
    #[arg(long, conflicts_with = "offline")]
    fresh: bool,
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
    answered_now: bool,
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
    audience: Option<Audience>,
    revision: u64,
    /// Whether the storefront has it, as far as it was ever heard.
    is_there: bool,
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
    /// Whether there is a newer release for this target.
    behind: bool,
    /// The newest release, where it has nothing for this target.
    not_in: Option<ReleaseName>,
    /// Why, when it was withdrawn.
    withdrawn: Option<String>,
    /// What the build is for.
    message: Option<String>,
    /// What the build says of itself inside and the release does not.
    claims: Vec<String>,
    /// The first release that had the very same for this target, where that is an earlier one.
    unchanged_since: Option<ReleaseName>,
}

impl LiveDocument {
    /// Whether players of two targets have the same, as the board shows it.
    fn is_shown_as(&self, other: &Self) -> bool {
        self.build == other.build && self.since == other.since && self.behind == other.behind
    }
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let open = super::open(ui)?;
    let mut trouble: BTreeMap<Name, ProjectError> = BTreeMap::new();
    let (open, heard) = if args.offline {
        (open, BTreeMap::new())
    } else if open.is_read_only() {
        // What is heard could not be recorded, and so would be shown without being known the next time.
        ui.aside(&format!("{} the disk cannot be written to now; no storefront was asked", care("note:")));
        (open, BTreeMap::new())
    } else {
        match open.lock() {
            Ok(mut session) => {
                let mut heard = BTreeMap::new();
                for (name, answer) in session.refresh()? {
                    heard.insert(name.clone(), matches!(answer, Heard::Now));
                    if let Heard::Not(error) = answer {
                        trouble.insert(name, error);
                    }
                }
                (session.into_workspace(), heard)
            }
            // Nobody waits to read: what is known is shown, and that it may be old.
            Err(ProjectError::Busy { .. }) => {
                ui.aside(&format!("{} another lantern is working here; no storefront was asked", care("note:")));
                (super::open(ui)?, BTreeMap::new())
            }
            Err(error) => return Err(error.into()),
        }
    };
    let mut storefronts = Vec::new();
    for edition in open.project.editions() {
        storefronts.extend(view(&open, &edition, &heard, &trouble)?);
    }
    let document = Document { schema: "lantern.live/1", game: open.project.config().game.name.clone(), storefronts };
    ui.document(&document);
    show(&document, open.project.has_editions(), ui);
    let otherwise = otherwise(&open, &document);
    super::next(&open, ui, otherwise)?;
    let old = document.storefronts.iter().find(|s| !s.answered_now).filter(|_| args.fresh);
    match old {
        Some(old) => Err(CommandError::unreachable(format!("{} did not answer", old.storefront)).said_in(ui)),
        None => Ok(()),
    }
}

/// What the storefronts of one edition have.
fn view(
    open: &Workspace,
    edition: &Name,
    heard: &BTreeMap<Name, bool>,
    trouble: &BTreeMap<Name, ProjectError>,
) -> Result<Vec<StorefrontDocument>, ProjectError> {
    let board = open.recent_board(edition)?;
    let titles = open.titles(&board, edition)?;
    let mut builds = Builds { open, board: &board, known: BTreeMap::new() };
    let mut out = Vec::new();
    for (name, configured) in &open.project.config().storefronts {
        if !configured.handles.contains_key(edition) {
            continue;
        }
        let title = titles.get(name);
        let as_of = match title {
            Some(title) => open.last_heard(title)?,
            None => None,
        };
        let mut branches = Vec::new();
        for ((of, branch), facts) in board.branches.iter().filter(|((of, _), _)| Some(of) == title) {
            let mut targets = BTreeMap::new();
            for (target, build) in &facts.targets {
                targets.insert(target.clone(), builds.live(of, facts, target, build)?);
            }
            let (branch, revision) = (branch.clone(), facts.revision);
            let audience = configured.audience(&branch);
            branches.push(BranchDocument { branch, audience, revision, is_there: true, targets });
        }
        let is_heard = !branches.is_empty();
        let unheard = configured.branches.iter().filter(|(name, _)| !branches.iter().any(|b| b.branch == *name));
        let unheard = unheard.map(|(branch, audience)| BranchDocument {
            branch: branch.clone(),
            audience: Some(*audience),
            revision: 0,
            is_there: !is_heard,
            targets: BTreeMap::new(),
        });
        branches.extend(unheard.collect::<Vec<_>>());
        // In the order of lantern.toml; those that only the storefront knows come last.
        let place_of = |name: &Name| configured.branches.iter().position(|(known, _)| known == name);
        branches.sort_by_key(|b| (place_of(&b.branch).unwrap_or(usize::MAX), b.branch.clone()));
        out.push(StorefrontDocument {
            edition: edition.clone(),
            storefront: name.clone(),
            newest: board.release(None).map(|r| r.name.clone()),
            answered_now: heard.get(name).copied().unwrap_or(false),
            as_of,
            why: trouble.get(name).map(short),
            branches,
        });
    }
    Ok(out)
}

/// A record, and since when each of its targets is the same.
type KnownBuild = (ReleaseRecord, BTreeMap<Name, ReleaseName>);

/// What is known of the builds that are live.
struct Builds<'a> {
    open: &'a Workspace,
    board: &'a Board,
    /// By release: its record, and since when each of its targets is the same.
    known: BTreeMap<ReleaseId, Option<KnownBuild>>,
}

impl Builds<'_> {
    fn live(
        &mut self,
        title: &TitleKey,
        facts: &BranchFacts,
        target: &Name,
        build: &BranchBuild,
    ) -> Result<LiveDocument, ProjectError> {
        let board = self.board;
        let key = ((title.clone(), facts.branch.clone()), target.clone());
        let newest = board.newest_of(target).map(|r| r.name.number);
        let pushed = board.pushed.iter().find(|p| p.storefront.is_at(title) && p.number_there == build.number_there);
        if !self.known.contains_key(&build.release) {
            let release = board.releases.iter().find(|r| r.id == build.release);
            let record = release.and_then(|r| Some((r, self.open.store.record(r.id).ok()?)));
            let known = match record {
                Some((release, record)) => {
                    let since = self.open.unchanged_since(release, &record)?;
                    Some((record, since))
                }
                None => None,
            };
            self.known.insert(build.release, known);
        }
        let known = self.known.get(&build.release).and_then(Option::as_ref);
        let record = known.and_then(|(record, _)| Some((record, record.targets.iter().find(|t| t.target == *target)?)));
        Ok(LiveDocument {
            build: build.clone(),
            since: board.since.get(&key).copied().flatten(),
            by: facts.by.clone(),
            behind: newest.is_some_and(|newest| build.name.number < newest),
            not_in: board.release(None).filter(|newest| !newest.has(target)).map(|newest| newest.name.clone()),
            withdrawn: board.withdrawn.get(&build.release).cloned(),
            message: pushed.and_then(|pushed| pushed.message.clone()),
            claims: record.map(|(record, t)| t.claims.differing(&record.game, &build.name)).unwrap_or_default(),
            unchanged_since: known.and_then(|(_, since)| since.get(target).cloned()),
        })
    }
}

fn short(error: &ProjectError) -> String {
    match error {
        ProjectError::Storefront { source, .. } => source.to_string(),
        other => other.to_string(),
    }
}

/// What is said where all is done.
fn otherwise(open: &Workspace, document: &Document) -> Next {
    let of_first = document.storefronts.first().and_then(|first| {
        let configured = open.project.config().storefronts.get(&first.storefront)?;
        Some((&first.storefront, &configured.branches.last()?.0))
    });
    match of_first {
        Some((name, branch)) => Next::of(format!("lantern install {name} {branch} DIR"), "gets it as a player does"),
        None => super::ASK_THEM,
    }
}

/// Targets of a branch that have the very same, together.
fn groups(branch: &BranchDocument) -> Vec<(&LiveDocument, Vec<&Name>)> {
    let mut groups: Vec<(&LiveDocument, Vec<&Name>)> = Vec::new();
    for (target, live) in &branch.targets {
        match groups.iter_mut().find(|(known, _)| known.is_shown_as(live)) {
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
        let as_of = storefront.as_of.map_or_else(String::new, |at| format!(", last known {}", format::time(at)));
        if let Some(why) = &storefront.why {
            for (i, line) in format::wrap(&format!("{why}{as_of}"), width() - 16).into_iter().enumerate() {
                ui.say(&format!("    {} {line}", if i == 0 { care("no answer:") } else { " ".repeat(10) }));
            }
        } else if !storefront.answered_now {
            ui.say(&format!("    {}", faint(format!("not asked{as_of}"))));
        }
    }
}

fn width() -> usize {
    format::columns().unwrap_or(WIDEST).min(WIDEST)
}

/// A line for each release on a branch, and under it who has it: this folds well in a narrow window.
fn show_branch(branch: &BranchDocument, wide: usize, release_wide: usize, ui: &Ui) {
    let groups = groups(branch);
    if groups.is_empty() {
        let what = if branch.is_there { faint("nothing yet") } else { care("not a branch there") };
        ui.say(&format!("    {:wide$}   {what}", branch.branch));
    }
    for (i, (live, targets)) in groups.into_iter().enumerate() {
        let name = if i == 0 { branch.branch.to_string() } else { String::new() };
        let release = live.build.name.to_string();
        let pad = " ".repeat(release_wide - release.len());
        let state = match (&live.withdrawn, live.behind, &live.not_in) {
            (Some(because), ..) => format!("{} {}", bad("withdrawn:"), lantern_core::path::shown(because)),
            (None, true, _) => care("behind"),
            (None, false, Some(newest)) => care(format!("not in {newest}")),
            (None, false, None) => good("newest"),
        };
        ui.say(&format!("    {name:wide$}   {}{pad}   {state}", strong(&release)));
        let indent = " ".repeat(4 + wide + 3);
        for line in format::wrap(&format::names(targets.iter().copied()), width() - indent.len()) {
            ui.say(&format!("{indent}{line}"));
        }
        let of_targets: Vec<(&Name, &LiveDocument)> =
            targets.iter().filter_map(|target| Some((*target, branch.targets.get(*target)?))).collect();
        for line in said_of(&of_targets).iter().flat_map(|line| format::wrap(line, width() - indent.len())) {
            ui.say(&format!("{indent}{line}"));
        }
        let since = live.since.map(|at| format!("since {}", format::time(at)));
        let by = live.by.as_ref().map(|by| format!("by {}", lantern_core::path::shown(by)));
        let moved: Vec<String> = since.into_iter().chain(by).collect();
        let there = format!("number there {}", live.build.number_there);
        let parts: Vec<String> = [moved.join(" "), there].into_iter().filter(|part| !part.is_empty()).collect();
        ui.say(&format!("{indent}{}", faint(parts.join(", "))));
        if let Some(message) = &live.message {
            for line in format::wrap(&lantern_core::path::shown(message), width() - indent.len()) {
                ui.say(&format!("{indent}{}", faint(line)));
            }
        }
    }
}

/// What is worth knowing of the builds of a group of targets.
fn said_of(targets: &[(&Name, &LiveDocument)]) -> Vec<String> {
    let mut lines = Vec::new();
    for (target, live) in targets.iter().filter(|(_, live)| !live.claims.is_empty()) {
        lines.push(format!("{} {target} declares {}", care("differs:"), live.claims.join(", ")));
    }
    let mut by_release: BTreeMap<String, Vec<&Name>> = BTreeMap::new();
    for (target, live) in targets {
        if let Some(since) = &live.unchanged_since {
            by_release.entry(since.to_string()).or_default().push(target);
        }
    }
    for (since, of) in by_release {
        let who = if of.len() == targets.len() { String::new() } else { format!("{}: ", format::names(of)) };
        lines.push(faint(format!("{who}unchanged since {since}")));
    }
    lines
}
