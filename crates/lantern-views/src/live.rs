//! Which release is live where.

use std::collections::BTreeMap;

use jiff::Timestamp;
use lantern_core::audience::Audience;
use lantern_core::event::BranchBuild;
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::version::ReleaseName;
use lantern_project::{Heard, LiveBranch, LiveBuild, LiveStorefront, NotAsked, ProjectError};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::status::{StepDocument, step, step_at};
use crate::view::View;

/// What `lantern live --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    game: &'a str,
    /// One for each edition and storefront that has it.
    storefronts: Vec<StorefrontDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct StorefrontDocument<'a> {
    edition: &'a Name,
    storefront: &'a Name,
    /// The newest release that is sealed and not withdrawn.
    newest: Option<&'a ReleaseName>,
    /// Whether it answered just now.
    answered_now: bool,
    /// When it was last heard.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    as_of: Option<Timestamp>,
    /// Why it was not heard now.
    why: Option<String>,
    /// Whether people do what is done there: then all of it was said by one.
    by_hand: bool,
    /// Whether a connector is asked to do it.
    connector: bool,
    /// What people have begun there.
    steps: Vec<StepDocument<'a>>,
    /// Who said so last, and when.
    said: Option<SaidDocument<'a>>,
    branches: Vec<BranchDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct SaidDocument<'a> {
    by: &'a str,
    #[cfg_attr(test, schemars(with = "String"))]
    at: Timestamp,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct BranchDocument<'a> {
    branch: &'a Name,
    audience: Option<Audience>,
    revision: u64,
    /// Whether the storefront has it, as far as it was ever heard.
    is_there: bool,
    /// By target.
    targets: BTreeMap<&'a Name, LiveDocument<'a>>,
}

/// What players of a target have on a branch.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LiveDocument<'a> {
    #[serde(flatten)]
    build: &'a BranchBuild,
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    since: Option<Timestamp>,
    by: Option<&'a str>,
    /// Whether there is a newer release for this target.
    behind: bool,
    /// The newest release, where it has nothing for this target.
    not_in: Option<&'a ReleaseName>,
    /// Why, when it was withdrawn.
    withdrawn: Option<&'a str>,
    /// The storefront's number of this target, where each has one of its own.
    number_of_target: Option<u64>,
    /// What the build is for.
    message: Option<&'a str>,
    /// What the build says of itself inside and the release does not.
    claims: &'a [String],
    /// Whether it was left unsigned, as someone had said.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    unsigned: bool,
    /// The first release that had the very same for this target, where that is an earlier one.
    unchanged_since: Option<&'a ReleaseName>,
}

/// What is live, and how the storefronts took part just now.
#[derive(Debug)]
pub struct Live<'a> {
    /// What players call the game.
    pub game: &'a str,
    /// What storefronts have, by what is known here.
    pub storefronts: &'a [LiveStorefront],
    /// Those that were asked.
    pub heard: &'a BTreeMap<Name, Heard>,
    /// When it is shown.
    pub now: Timestamp,
}

impl Live<'_> {
    fn why(&self, storefront: &Name) -> Option<String> {
        match self.heard.get(storefront)? {
            Heard::Now | Heard::ByHand | Heard::Unknown { .. } => None,
            // Its name is said already.
            Heard::Not(ProjectError::Storefront { source, .. }) => Some(source.to_string()),
            Heard::Not(other) => Some(other.to_string()),
        }
    }

    fn is_heard(&self, storefront: &Name) -> bool {
        matches!(self.heard.get(storefront), Some(Heard::Now | Heard::Unknown { .. }))
    }

    /// Returns the first storefront that did not answer just now.
    pub fn old(&self) -> Option<&Name> {
        let asked = self.storefronts.iter().filter(|live| !live.by_hand);
        asked.map(|live| &live.storefront).find(|name| !self.is_heard(name))
    }
}

/// What every storefront has.
pub fn document<'a>(live: &Live<'a>) -> Document<'a> {
    let storefront = |of: &'a LiveStorefront| StorefrontDocument {
        edition: &of.edition,
        storefront: &of.storefront,
        newest: of.newest.as_ref(),
        answered_now: live.is_heard(&of.storefront),
        as_of: of.as_of,
        why: live.why(&of.storefront),
        by_hand: of.by_hand,
        connector: of.connector,
        steps: of.steps.iter().map(step).collect(),
        said: of.said.as_ref().map(|said| SaidDocument { by: &said.by, at: said.at }),
        branches: of.branches.iter().map(branch).collect(),
    };
    Document {
        schema: "lantern.live/1",
        game: live.game,
        storefronts: live.storefronts.iter().map(storefront).collect(),
    }
}

fn branch(of: &LiveBranch) -> BranchDocument<'_> {
    BranchDocument {
        branch: &of.branch,
        audience: of.audience,
        revision: of.revision,
        is_there: of.is_there,
        targets: of.targets.iter().map(|(target, live)| (target, build(live))).collect(),
    }
}

fn build(live: &LiveBuild) -> LiveDocument<'_> {
    LiveDocument {
        build: &live.build,
        since: live.since,
        by: live.by.as_deref(),
        behind: live.is_behind,
        not_in: live.not_in.as_ref(),
        withdrawn: live.withdrawn.as_deref(),
        number_of_target: live.number_of_target,
        message: live.message.as_deref(),
        claims: &live.claims,
        unsigned: live.unsigned,
        unchanged_since: live.unchanged_since.as_ref(),
    }
}

/// Why no storefront was asked.
pub fn not_asked(why: NotAsked) -> View {
    let mut view = View::default();
    let why = match why {
        NotAsked::ReadOnly => "the disk cannot be written to now; no storefront was asked",
        NotAsked::Busy => "another lantern is working here; no storefront was asked",
    };
    view.say(format!("{} {why}", care("note:")));
    view
}

/// Whether players of two targets have the same, as the board shows it.
fn is_shown_as(one: &LiveBuild, other: &LiveBuild) -> bool {
    one.build == other.build && one.since == other.since && one.is_behind == other.is_behind
}

/// Targets of a branch that have the very same, together.
fn groups(branch: &LiveBranch) -> Vec<(&LiveBuild, Vec<&Name>)> {
    let mut groups: Vec<(&LiveBuild, Vec<&Name>)> = Vec::new();
    for (target, live) in &branch.targets {
        match groups.iter_mut().find(|(known, _)| is_shown_as(known, live)) {
            Some((_, targets)) => targets.push(target),
            None => groups.push((live, vec![target])),
        }
    }
    groups.sort_by_key(|(live, _)| std::cmp::Reverse(live.build.name.number));
    groups
}

/// What every storefront has, for people.
pub fn view(live: &Live<'_>, has_editions: bool) -> View {
    let mut view = View::default();
    view.say(strong(live.game));
    let lives = || live.storefronts.iter().flat_map(|s| &s.branches).flat_map(|b| b.targets.values());
    let branches = live.storefronts.iter().flat_map(|s| &s.branches);
    let wide = branches.map(|b| b.branch.as_str().len()).max().unwrap_or(0);
    let release_wide = lives().map(|l| l.build.name.to_string().len()).max().unwrap_or(0);
    for storefront in live.storefronts {
        let edition = if has_editions { format!(", {}", storefront.edition) } else { String::new() };
        let newest = match &storefront.newest {
            Some(newest) => faint(format!("   newest sealed: {newest}")),
            None => faint("   nothing sealed yet"),
        };
        view.say(format!("\n  {}{edition}{newest}", strong(&storefront.storefront)));
        for branch in &storefront.branches {
            show_branch(branch, wide, release_wide, &mut view);
        }
        for step in &storefront.steps {
            view.column("    ", 4, step_at(step, live.now));
        }
        let as_of = storefront.as_of.map_or_else(String::new, |at| format!(", last known {}", format::time(at)));
        if storefront.by_hand {
            let said = match &storefront.said {
                _ if matches!(live.heard.get(&storefront.storefront), Some(Heard::Now)) => {
                    "as its connector says".to_owned()
                }
                Some(said) if storefront.connector => {
                    let (by, ago) = (shown(&said.by), format::ago(said.at, live.now));
                    format!("as its connector said when {by} last ran it, {ago}")
                }
                Some(said) => format!("said by {}, {}", shown(&said.by), format::ago(said.at, live.now)),
                None if storefront.connector => "its connector did nothing yet".to_owned(),
                None => "by hand: nobody said anything yet".to_owned(),
            };
            view.say(format!("    {}", faint(said)));
            if let Some(why) = live.why(&storefront.storefront) {
                view.column(format!("    {} ", care("no answer:")), 15, why);
            }
            if let Some(Heard::Unknown { branch, number }) = live.heard.get(&storefront.storefront) {
                let number = shown(number);
                let what = format!(
                    "its connector says that {branch} has number {number} now, which nobody brought there with lantern"
                );
                view.column(format!("    {} ", care("not known:")), 15, what);
                let fix = format!("lantern adopt {} {branch} --number-there {number}", storefront.storefront);
                view.column(format!("    {} ", faint("fix:")), 9, fix);
            }
        } else if let Some(why) = live.why(&storefront.storefront) {
            view.column(format!("    {} ", care("no answer:")), 15, format!("{why}{as_of}"));
        } else if !live.is_heard(&storefront.storefront) {
            view.say(format!("    {}", faint(format!("not asked{as_of}"))));
        }
    }
    view
}

/// A line for each release on a branch, and under it who has it: this folds well in a narrow window.
fn show_branch(branch: &LiveBranch, wide: usize, release_wide: usize, view: &mut View) {
    let groups = groups(branch);
    if groups.is_empty() {
        let what = if branch.is_there { faint("nothing yet") } else { care("not a branch there") };
        view.say(format!("    {:wide$}   {what}", branch.branch));
    }
    for (i, (live, targets)) in groups.into_iter().enumerate() {
        let name = if i == 0 { branch.branch.to_string() } else { String::new() };
        let release = live.build.name.to_string();
        let pad = " ".repeat(release_wide - release.len());
        let state = match (&live.withdrawn, live.is_behind, &live.not_in) {
            (Some(because), ..) => format!("{} {}", bad("withdrawn:"), shown(because)),
            (None, true, _) => care("behind"),
            (None, false, Some(newest)) => care(format!("not in {newest}")),
            (None, false, None) => good("newest"),
        };
        view.say(format!("    {name:wide$}   {}{pad}   {state}", strong(&release)));
        let indent = " ".repeat(4 + wide + 3);
        view.column(&indent, indent.len(), format::names(targets.iter().copied()));
        let of_targets: Vec<(&Name, &LiveBuild)> =
            targets.iter().filter_map(|target| Some((*target, branch.targets.get(*target)?))).collect();
        for line in said_of(&of_targets) {
            view.column(&indent, indent.len(), line);
        }
        let since = live.since.map(|at| format!("since {}", format::since(at)));
        let by = live.by.as_ref().map(|by| format!("by {}", shown(by)));
        let moved: Vec<String> = since.into_iter().chain(by).collect();
        let own = of_targets.iter().filter_map(|(target, live)| Some((*target, live.number_of_target?)));
        let there = format!("number there {}{}", live.build.number_there, format::of_targets(own));
        let parts: Vec<String> = [moved.join(" "), there].into_iter().filter(|part| !part.is_empty()).collect();
        view.say(format!("{indent}{}", faint(parts.join(", "))));
        if let Some(message) = &live.message {
            view.column(&indent, indent.len(), faint(shown(message)));
        }
    }
}

/// What is worth knowing of the builds of a group of targets.
fn said_of(targets: &[(&Name, &LiveBuild)]) -> Vec<String> {
    let mut lines = Vec::new();
    for (target, live) in targets.iter().filter(|(_, live)| !live.claims.is_empty()) {
        lines.push(format!("{} {target} declares {}", care("differs:"), live.claims.join(", ")));
    }
    let unsigned: Vec<&Name> = targets.iter().filter(|(_, live)| live.unsigned).map(|(target, _)| *target).collect();
    if !unsigned.is_empty() {
        lines.push(format!("{} {}", care("not signed:"), format::names(unsigned)));
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
