use std::collections::BTreeSet;

use lantern_core::event::{Action, BranchFacts, Event, EventBody};
use lantern_core::history::{History, Settling};
use lantern_core::names::Name;
use lantern_core::version::ReleaseAsked;
use lantern_project::Workspace;
use serde::Serialize;

use super::Done;
use crate::args::EditionArg;
use crate::diagnostic::CommandError;
use crate::format;
use crate::paint::faint;
use crate::table::Table;
use crate::ui::Ui;

/// Ledgers of so many events are read whole, which takes some tens of milliseconds. Ours.
const READ_WHOLE: u64 = 10_000;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern history
  lantern history --branch open-water --since 2026-11-01"#;

/// Show what happened, newest first
///
/// What was done and reported, from the ledger in .lantern/. An action is shown once, when it was answered; --all shows every
/// event, also the asking.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// How many at most
    #[arg(long, value_name = "N", default_value_t = 30)]
    count: usize,
    /// Every event, also those that an answer settled
    #[arg(long)]
    all: bool,
    /// Only what concerns a release: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(long, value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    /// Only what concerns a storefront
    #[arg(long, value_name = "NAME")]
    storefront: Option<String>,
    /// Only what concerns a branch
    #[arg(long, value_name = "NAME")]
    branch: Option<String>,
    /// Only from this day on, such as 2026-11-23
    #[arg(long, value_name = "DAY", value_parser = super::day)]
    since: Option<jiff::civil::Date>,
    #[command(flatten)]
    pub edition: EditionArg,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document {
    schema: &'static str,
    /// How many there are to show; null in a long ledger, of which only the newest were read.
    total: Option<usize>,
    /// Newest first, as they stand in the ledger.
    events: Vec<serde_json::Value>,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let open = super::open(ui)?;
    if !args.is_filtered() && open.event_count()? > READ_WHOLE {
        return newest(args, &open, ui);
    }
    let all = open.events()?;
    let history = History::of(&all);
    let mut settling = Settling::default();
    let mut events: Vec<&Event> = all.iter().rev().filter(|event| !settling.is_settled(event) || args.all).collect();
    let is_meant = |event: &Event| ui.edition.as_ref().is_none_or(|edition| event.edition == *edition);
    events.retain(|event| is_meant(event) && args.is_about(event, &history));
    if events.is_empty() {
        args.refuse_unknown(&all, &history, &open)?;
    }
    let shown = &events[..events.len().min(args.count)];
    document(shown, Some(events.len()), ui);
    if events.is_empty() && !all.is_empty() {
        ui.say("no event matches that");
        ui.next("lantern history");
        return Ok(());
    }
    if events.is_empty() {
        ui.say("nothing has happened yet");
        ui.next("lantern prepare");
        return Ok(());
    }
    table(shown, &open, ui);
    if events.len() > args.count {
        ui.say(&format!(
            "\n  {}",
            faint(format!("{} older ones: --count {}", events.len() - args.count, events.len()))
        ));
    }
    Ok(())
}

/// The newest events of a long ledger, read from its end.
fn newest(args: &Args, open: &Workspace, ui: &Ui) -> Done {
    let mut settling = Settling::default();
    let mut events = Vec::new();
    let mut more = false;
    open.events_backwards(|event| {
        let is_settled = settling.is_settled(&event) && !args.all;
        if !is_settled && ui.edition.as_ref().is_none_or(|edition| event.edition == *edition) {
            more = events.len() == args.count;
            if !more {
                events.push(event);
            }
        }
        !more
    })?;
    let shown: Vec<&Event> = events.iter().collect();
    document(&shown, None, ui);
    table(&shown, open, ui);
    if more {
        ui.say(&format!("\n  {}", faint(format!("there are older ones: --count {}", args.count.saturating_mul(10)))));
    }
    Ok(())
}

fn document(shown: &[&Event], total: Option<usize>, ui: &Ui) {
    let events = shown.iter().map(|e| serde_json::from_str(&e.to_line()).unwrap_or_default()).collect();
    ui.document(&Document { schema: "lantern.history/1", total, events });
}

fn table(shown: &[&Event], open: &Workspace, ui: &Ui) {
    let has_editions = open.project.has_editions();
    let mut table = Table::default();
    table.head([format::zone().as_str(), "", "", ""]);
    for event in shown {
        let edition = if has_editions { faint(&event.edition) } else { String::new() };
        let actor = lantern_core::path::shown(&event.actor);
        table.row([faint(format::time_to_the_second(event.recorded_at)), edition, actor, sentence(event)]);
    }
    ui.say(&table.lay_out());
}

impl Args {
    fn is_filtered(&self) -> bool {
        self.release.is_some() || self.storefront.is_some() || self.branch.is_some() || self.since.is_some()
    }

    fn is_about<'a>(&self, event: &'a Event, history: &History<'a>) -> bool {
        let day = event.recorded_at.to_zoned(jiff::tz::TimeZone::system()).date();
        let about = history.about(&event.body);
        about.is_about(self.release.as_ref(), self.storefront.as_deref(), self.branch.as_deref())
            && self.since.is_none_or(|since| day >= since)
    }

    /// A name that nothing has is a mistake of the keyboard, not a fact.
    fn refuse_unknown<'a>(&self, all: &'a [Event], history: &History<'a>, open: &Workspace) -> Done {
        let configured = &open.project.config().storefronts;
        let storefronts: BTreeSet<&str> = configured
            .keys()
            .chain(all.iter().filter_map(|event| history.about(&event.body).storefront))
            .map(Name::as_str)
            .collect();
        let branches: BTreeSet<&str> = configured
            .values()
            .flat_map(|storefront| storefront.branches.iter().map(|(branch, _)| branch))
            .chain(all.iter().filter_map(|event| history.about(&event.body).branch))
            .map(Name::as_str)
            .collect();
        for (asked, known, what) in [(&self.storefront, storefronts, "storefront"), (&self.branch, branches, "branch")]
        {
            let Some(asked) = asked.as_deref().filter(|asked| !known.contains(asked)) else { continue };
            let fix = match lantern_core::names::nearest(asked, known.iter().copied()) {
                Some(near) => format!("did you mean {near}?"),
                None if known.is_empty() => "leave it out".to_owned(),
                None => format!("one of {}", known.iter().copied().collect::<Vec<_>>().join(", ")),
            };
            let what = format!("no {what} {asked:?} is known here, in lantern.toml or in what happened");
            return Err(CommandError::usage(what, fix));
        }
        match &self.release {
            Some(asked) if !all.iter().any(|e| history.about(&e.body).is_about(Some(asked), None, None)) => {
                Err(CommandError::usage(format!("no release {asked} is known here"), "lantern releases lists them"))
            }
            _ => Ok(()),
        }
    }
}

fn sentence(event: &Event) -> String {
    let text = match &event.body {
        EventBody::NumberReserved(e) => format!("took the number {}", e.number),
        EventBody::Sealed(e) => format!("sealed {}", e.name),
        EventBody::Connected(e) => format!("connected to {} as {}", e.storefront.name, e.client),
        EventBody::Asked(e) => match &e.action {
            Action::Push => format!("asked {} to take {}", e.storefront.name, e.name),
            Action::Promote { branch } => format!("asked {} to put {} on {branch}", e.storefront.name, e.name),
            Action::Rollback { branch } => format!("asked {} to put {} back on {branch}", e.storefront.name, e.name),
            Action::Withdraw { because } => format!("asked {} to withdraw {}: {because}", e.storefront.name, e.name),
            Action::Other(_) => {
                format!("asked {} for something about {} (by a newer lantern)", e.storefront.name, e.name)
            }
        },
        EventBody::Pushed(e) => {
            let message = e.message.as_ref().map_or(String::new(), |message| format!(": {message}"));
            format!(
                "pushed {} to {}, number there {}, {}{message}",
                e.name,
                e.storefront.name,
                e.number_there,
                format::bytes(e.sent)
            )
        }
        EventBody::Moved(e) => {
            let because = e.because.as_ref().map_or(String::new(), |c| format!(": {c}"));
            let back = if e.restores.is_some() { " back" } else { "" };
            format!("put {}{back} on {} at {}{because}", what_is_on(&e.facts), e.facts.branch, e.storefront.name)
        }
        EventBody::NotDone(e) => format!("not done: {}", e.why),
        EventBody::BranchReported(e) if e.facts.revision == 0 => {
            format!("saw the branch {} at {}, with nothing on it yet", e.facts.branch, e.storefront.name)
        }
        EventBody::BranchReported(e) => {
            let by = e.facts.by.as_ref().map_or(String::new(), |by| format!(" by {by}"));
            format!("saw {} on {} at {}{by}", what_is_on(&e.facts), e.facts.branch, e.storefront.name)
        }
        EventBody::BuildFound(e) => {
            let message = e.message.as_ref().map_or(String::new(), |message| format!(": {message}"));
            format!("found {} at {}, number there {}, by {}{message}", e.name, e.storefront.name, e.number_there, e.by)
        }
        EventBody::BuildGone(e) => {
            format!("{} is not at {} any more, number there {}", e.name, e.storefront.name, e.number_there)
        }
        EventBody::BranchWentBack(e) => format!(
            "{} at {} is at revision {} again, after {}, with {}: the storefront went back",
            e.facts.branch,
            e.storefront.name,
            e.facts.revision,
            e.known,
            what_is_on(&e.facts)
        ),
        EventBody::NumberLeft(e) => format!("numbers do not follow {} at {}", e.name, e.storefront.name),
        EventBody::Withdrawn(e) => match &e.storefront {
            Some(storefront) => format!("withdrew {} at {}: {}", e.name, storefront.name, e.because),
            None => format!("withdrew {}: {}", e.name, e.because),
        },
        EventBody::Tried(e) if e.yes => format!("tried {} of {}: yes, it shows what it should", e.target, e.name),
        EventBody::Tried(e) => format!("tried {} of {}: no, something is wrong", e.target, e.name),
        EventBody::Freed(e) => {
            format!("freed the content of {}", format::count(e.releases.len() as u64, "release", "releases"))
        }
        EventBody::NextNumber(e) => format!("set the next number to {}", e.next),
        EventBody::Invited(e) => {
            let until = e.until.map_or(String::new(), |until| format!(", until {}", format::day(until)));
            format!("invited {} to {} at {}{until}", e.whom, e.branch, e.storefront.name)
        }
        EventBody::InvitationEnded(e) => {
            format!("ended the invitation of {} to {} at {}", e.whom, e.branch, e.storefront.name)
        }
        EventBody::Rebuilt(e) => {
            let found = format::count(e.releases.len() as u64, "release", "releases");
            let copied = format::count(e.copied, "event", "events");
            format!(
                "rebuilt the ledger: {copied} of a copy, {found} by their records; what else happened before is not known"
            )
        }
        other => format!("{} (written by a newer lantern)", other.kind()),
    };
    lantern_core::path::shown(&text)
}

fn what_is_on(facts: &BranchFacts) -> String {
    let mut names: Vec<String> = facts.targets.values().map(|b| b.name.to_string()).collect();
    names.dedup();
    if names.is_empty() { "nothing".to_owned() } else { names.join(", ") }
}
