//! What happened, in sentences.

use jiff::Timestamp;
use lantern_core::event::{Action, ApprovalSaid, ApprovalStanding, BranchFacts, Event, EventBody, StepStanding};
use lantern_core::path::shown;
use lantern_project::HistoryFound;
use serde::Serialize;

use crate::format;
use crate::paint::faint;
use crate::steps;
use crate::table::Table;
use crate::view::View;

/// What `lantern history --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document {
    schema: &'static str,
    /// How many there are to show; null in a long ledger, of which only the newest were read.
    total: Option<usize>,
    /// Newest first, as they stand in the ledger.
    events: Vec<serde_json::Value>,
}

/// The events that were found.
pub fn document(found: &HistoryFound) -> Document {
    let events = found.events.iter().map(|e| serde_json::from_str(&e.to_line()).unwrap_or_default()).collect();
    Document { schema: "lantern.history/1", total: found.total, events }
}

/// The same as columns; `count` is how many were asked for at most, `now` says which time zone the times are in.
pub fn view(found: &HistoryFound, count: usize, has_editions: bool, now: Timestamp) -> View {
    let mut view = View::default();
    if found.events.is_empty() && found.total == Some(0) {
        view.say(if found.has_begun { "no event matches that" } else { "nothing has happened yet" });
        view.next(if found.has_begun { "lantern history" } else { "lantern prepare" });
        return view;
    }
    let mut table = Table::default();
    table.head([format::zone(now).as_str(), "", "", ""]);
    for event in &found.events {
        let edition = if has_editions { faint(&event.edition) } else { String::new() };
        let time = faint(format::time_to_the_second(event.recorded_at));
        table.row([time, edition, shown(&event.actor), sentence(event)]);
    }
    view.table(table);
    let older = match found.total {
        _ if !found.has_more => return view,
        Some(total) => format!("{} older ones: --count {total}", total - found.events.len()),
        None => format!("there are older ones: --count {}", count.saturating_mul(10)),
    };
    view.say(format!("\n  {}", faint(older)));
    view
}

/// Says what became of a bundle that a system's vendor looks at.
fn approval(ApprovalSaid { approval, target, version, standing, .. }: &ApprovalSaid) -> String {
    match standing {
        ApprovalStanding::Waiting { .. } => format!("{target} of {version} waits for {approval}"),
        ApprovalStanding::Approved { .. } => format!("{approval} approved {target} of {version}"),
        ApprovalStanding::Refused { because } => format!("{approval} refused {target} of {version}: {because}"),
        ApprovalStanding::Other(_) => {
            format!("{approval} said something of {target} of {version} (noted by a newer lantern)")
        }
    }
}

/// Says what an event is.
pub fn sentence(event: &Event) -> String {
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
        EventBody::Pushed(e) if e.storefront.is_by_hand() => {
            let message = e.message.as_ref().map_or(String::new(), |message| format!(": {message}"));
            let (name, at, number) = (&e.name, &e.storefront.name, e.number_there);
            let on = e.live_on.as_ref().map_or(String::new(), |branch| format!(" and so on {branch}"));
            let of_targets = format::of_targets(e.numbers.iter().map(|(target, number)| (target, *number)));
            format!("brought {name} to {at}{on}, number there {number}{of_targets}, {}{message}", format::bytes(e.sent))
        }
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
        EventBody::ApprovalSaid(e) => approval(e),
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
        EventBody::Looked(e) => {
            let answer = if e.yes { "yes" } else { "no" };
            format!("answered {answer} for {}: {}", e.name, e.question)
        }
        EventBody::Adopted(e) => {
            let on = e.branch.as_ref().map_or(String::new(), |branch| format!(" on {branch}"));
            let since = e.since.map_or(String::new(), |since| format!(" since {}", format::since(since)));
            let because = e.because.as_ref().map_or(String::new(), |because| format!(": {because}"));
            let (name, at) = (&e.name, &e.storefront.name);
            format!("adopted {name}, which is{on} at {at}{since}, number there {}{because}", e.number_there)
        }
        EventBody::StepsBegun(e) => format!("began to {}", steps::action(e)),
        EventBody::StepSaid(e) => match &e.standing {
            StepStanding::Done { read_back } => {
                let answers: Vec<String> = read_back.iter().map(|(key, text)| format!("{key} {text}")).collect();
                let answers = if answers.is_empty() { String::new() } else { format!(": {}", answers.join(", ")) };
                format!("did the step {}{answers}", e.step)
            }
            StepStanding::Skipped { because } => format!("left out the step {}: {because}", e.step),
            StepStanding::Waiting { due } => {
                let due = due.map_or(String::new(), |due| format!(", usually until {}", format::day(due)));
                format!("waits for the step {}{due}", e.step)
            }
            StepStanding::Reopened => format!("went back to the step {}", e.step),
            StepStanding::Other(_) => format!("said something of the step {} (by a newer lantern)", e.step),
        },
        other => format!("{} (written by a newer lantern)", other.kind()),
    };
    shown(&text)
}

fn what_is_on(facts: &BranchFacts) -> String {
    let mut names: Vec<String> = facts.targets.values().map(|b| b.name.to_string()).collect();
    names.dedup();
    if names.is_empty() { "nothing".to_owned() } else { names.join(", ") }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The sentence of an event whose kind and payload are given.
    fn said(kind: &str, version: u32, payload: &str) -> String {
        let line = format!(
            r#"{{"id":"01a207a2-3280-7707-8707-070707070707","device":"desk","sequence":1,"predecessor":null,"actor":"wren","recorded_at":"1970-01-01T00:00:00Z","happened_at":null,"revision":null,"edition":"full","kind":"{kind}","version":{version},"payload":{payload}}}"#
        );
        sentence(&Event::from_line(&line).unwrap())
    }

    #[test]
    fn what_a_newer_lantern_wrote_is_not_guessed_at() {
        assert_eq!(said("share-raised", 1, r#"{"percent":10}"#), "share-raised (written by a newer lantern)");
        assert_eq!(said("sealed", 2, "{}"), "sealed (written by a newer lantern)");
        let asked = r#"{"key":"01a207a2-3280-7707-8707-070707070707","storefront":{"id":"b","name":"old-pier","handle":"h"},
            "action":{"share":{"percent":10}},"release":"RELEASE","version":"1.4.0","number":27}"#;
        let release = lantern_core::digest::ReleaseId::of(b"r").to_string();
        let asked = asked.replace('\n', "").replace("RELEASE", &release);
        assert_eq!(said("asked", 1, &asked), "asked old-pier for something about 1.4.0 (27) (by a newer lantern)");
    }

    #[test]
    fn a_reason_cannot_write_to_the_terminal() {
        let why = said("not-done", 1, r#"{"key":"01a207a2-3280-7707-8707-070707070707","why":"no\u001b[2J room"}"#);
        assert!(!why.contains('\u{1b}') && why.starts_with("not done: no"), "{why}");
    }
}
