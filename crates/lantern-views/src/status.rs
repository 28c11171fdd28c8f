//! Where the game stands, and the one next step.

use jiff::Timestamp;
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::version::ReleaseName;
use lantern_project::{AtStorefront, Exports, Status, StepAt, WaitingApproval};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::shared::FindingDocument;
use crate::table::Table;
use crate::view::{Next, View};

/// What `lantern --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    game: &'a str,
    /// One for each edition that has targets.
    editions: Vec<EditionDocument<'a>>,
    next: Option<String>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct EditionDocument<'a> {
    edition: &'a Name,
    newest: Option<&'a ReleaseName>,
    /// `sealed`, `changed`, `unread` (some files have other times: reading alone says whether they changed), `withdrawn`, `wrong` or `not-here`.
    exports: &'static str,
    /// Targets of the newest release that someone tried and said no to.
    tried_no: &'a [Name],
    /// What is said of keys of which no copy ever opened.
    keys: Vec<FindingDocument<'a>>,
    /// Bundles that a system's vendor looks at.
    approvals: Vec<ApprovalDocument<'a>>,
    storefronts: Vec<StorefrontDocument<'a>>,
}

/// A bundle that was handed over for approval.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ApprovalDocument<'a> {
    approval: &'a Name,
    target: &'a Name,
    /// Null where a newer lantern has noted it in a way that is not known here.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    since: Option<Timestamp>,
    /// Until when it usually is answered.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    due: Option<Timestamp>,
    /// Whether a person hands it over.
    by_hand: bool,
    /// Who handed it over on another computer; null for what waits here.
    elsewhere: Option<&'a str>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct StorefrontDocument<'a> {
    storefront: &'a Name,
    connected: bool,
    pushed: bool,
    live_on: &'a [Name],
    behind: &'a [Name],
    /// Whether people do what is done there.
    by_hand: bool,
    /// The step that comes next of each action that people have begun there.
    steps: Vec<StepDocument<'a>>,
}

/// The step that comes next of something that people have begun.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct StepDocument<'a> {
    step: &'a Name,
    release: &'a ReleaseName,
    by: Option<&'a str>,
    /// Since when it waits for someone; null while it is to be done.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    waits_since: Option<Timestamp>,
    /// Until when that usually takes.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    due: Option<Timestamp>,
}

pub(crate) fn step(at: &StepAt) -> StepDocument<'_> {
    StepDocument {
        step: &at.step,
        release: &at.release,
        by: at.by.as_deref(),
        waits_since: at.waits.map(|(since, _)| since),
        due: at.waits.and_then(|(_, due)| due),
    }
}

/// Where an edition stands, and its name.
#[derive(Debug)]
pub struct Standing<'a> {
    /// Which edition.
    pub edition: &'a Name,
    /// What players call it.
    pub game: &'a str,
    /// Where it stands.
    pub status: Status,
}

/// The first step that leads on.
fn next(all: &[Standing<'_>]) -> Option<String> {
    all.iter().find_map(|standing| standing.status.next.as_ref()).map(ToString::to_string)
}

/// Where every edition of a game stands.
pub fn document<'a>(game: &'a str, all: &'a [Standing<'_>]) -> Document<'a> {
    let editions = all.iter().map(|standing| edition(standing.edition, &standing.status));
    Document { schema: "lantern.status/1", game, editions: editions.collect(), next: next(all) }
}

/// The same as a table; `otherwise` is proposed where nothing is left to do.
pub fn view(all: &[Standing<'_>], otherwise: Next, now: Timestamp) -> View {
    let mut view = View::default();
    for (i, standing) in all.iter().enumerate() {
        if i > 0 {
            view.space();
        }
        show(standing.game, &standing.status, now, &mut view);
    }
    view.next(next(all).map_or(otherwise, Next::from));
    view
}

fn edition<'a>(edition: &'a Name, status: &'a Status) -> EditionDocument<'a> {
    let storefront = |s: &'a AtStorefront| StorefrontDocument {
        storefront: &s.storefront,
        connected: s.connected,
        pushed: s.pushed,
        live_on: &s.live_on,
        behind: &s.behind,
        by_hand: s.by_hand,
        steps: s.steps.iter().map(step).collect(),
    };
    EditionDocument {
        edition,
        newest: status.newest.as_ref().map(|r| &r.name),
        exports: match status.exports {
            Exports::Sealed => "sealed",
            Exports::Changed => "changed",
            Exports::Unread => "unread",
            Exports::Wrong => "wrong",
            Exports::Withdrawn => "withdrawn",
            Exports::NotHere => "not-here",
        },
        tried_no: &status.tried_no,
        keys: status.keys.iter().map(|finding| FindingDocument::about(None, finding)).collect(),
        approvals: status.approvals.iter().map(approval).collect(),
        storefronts: status.storefronts.iter().map(storefront).collect(),
    }
}

fn approval(of: &WaitingApproval) -> ApprovalDocument<'_> {
    ApprovalDocument {
        approval: &of.approval,
        target: &of.target,
        since: of.since,
        due: of.due,
        by_hand: of.by_hand,
        elsewhere: of.elsewhere.as_deref(),
    }
}

/// What is waited for before a release is sealed.
fn waits_for(of: &WaitingApproval, now: Timestamp) -> String {
    let when = match (of.due, of.since) {
        (Some(due), _) => format::due(due, now),
        (None, Some(since)) => format!("since {}", format::day(since)),
        (None, None) => return format!("{} its look at {}, as a newer lantern noted", care("waiting:"), of.target),
    };
    if let Some(by) = &of.elsewhere {
        return format!(
            "{} its look at {}, {when}; handed over by {} on another computer",
            care("waiting:"),
            of.target,
            shown(by)
        );
    }
    let how = if of.by_hand { "lantern prepare --ticket FILE goes on" } else { "lantern prepare asks again" };
    format!("{} its look at {}, {when}; {how}", care("waiting:"), of.target)
}

fn show(game: &str, status: &Status, now: Timestamp, view: &mut View) {
    view.say(format!("{}\n", strong(game)));
    let mut table = Table::default();
    let newest = status.newest.as_ref().map_or_else(|| "nothing yet".to_owned(), |r| strong(&r.name));
    table.row([faint("newest sealed"), newest]);
    let exports = match (status.exports, &status.newest) {
        (Exports::Sealed, _) => good("as sealed"),
        (Exports::Changed, Some(_)) => format!("{} since then", care("changed")),
        (Exports::Unread, Some(_)) => format!("{} since then: some files have other times", care("maybe changed")),
        (Exports::Changed | Exports::Unread, None) => "ready to be taken in".to_owned(),
        (Exports::Wrong, _) => format!("{} cannot be taken in as they are", bad("wrong:")),
        (Exports::Withdrawn, _) => format!("exactly a release that was {}", care("withdrawn")),
        (Exports::NotHere, _) => "not on this computer".to_owned(),
    };
    table.row([faint("exports"), exports]);
    if !status.tried_no.is_empty() {
        table.row([faint("tried"), format!("{} {}", bad("no:"), format::names(&status.tried_no))]);
    }
    for of in &status.approvals {
        table.row([faint(&of.approval), waits_for(of, now)]);
    }
    for at in &status.storefronts {
        table.row([faint(&at.storefront), at_storefront(at, status.newest.is_some())]);
        for step in &at.steps {
            table.row([String::new(), step_at(step, now)]);
        }
    }
    view.table(table);
    for finding in &status.keys {
        view.space();
        view.sentence(format!("{} ", care("careful:")), 9, &finding.what);
        if let Some(fix) = &finding.fix {
            view.say(format!("  {} {fix}", faint("fix:")));
        }
    }
}

/// What a person does there next, or waits for.
pub(crate) fn step_at(step: &StepAt, now: Timestamp) -> String {
    let (name, release) = (&step.step, &step.release);
    let whose = step.by.as_deref().map(|by| format!(", for {}", shown(by))).unwrap_or_default();
    match step.waits {
        None => format!("{} {name} of {release}{whose}", care("to do:")),
        Some((since, None)) => format!("{} {name} of {release}, since {}{whose}", care("waiting:"), format::day(since)),
        Some((_, Some(due))) => {
            let word = if due < now { bad("waiting:") } else { care("waiting:") };
            format!("{word} {name} of {release}, {}{whose}", format::due(due, now))
        }
    }
}

fn at_storefront(at: &AtStorefront, is_sealed: bool) -> String {
    match (at.connected, is_sealed, at.pushed) {
        (false, _, _) => "not connected".to_owned(),
        (true, false, _) if at.by_hand => "by hand".to_owned(),
        (true, false, _) => "connected".to_owned(),
        (true, true, false) if at.by_hand && !at.steps.is_empty() => "on its way, by hand".to_owned(),
        (true, true, false) => format!("{} there yet", care("not")),
        (true, true, true) if at.behind.is_empty() && at.live_on.is_empty() => "there".to_owned(),
        (true, true, true) if at.behind.is_empty() => format!("{} on {}", good("live"), format::names(&at.live_on)),
        (true, true, true) if at.live_on.is_empty() => {
            format!("there, {} on {}", care("not live"), format::names(&at.behind))
        }
        (true, true, true) => {
            format!(
                "{} on {}, {} on {}",
                good("live"),
                format::names(&at.live_on),
                care("not"),
                format::names(&at.behind)
            )
        }
    }
}
