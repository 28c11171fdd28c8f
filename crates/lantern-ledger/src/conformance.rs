//! What every [`Log`] must do, as a suite that any implementation runs in its tests.

use lantern_core::event::{Event, EventBody, NextNumber, Rebuilt};
use lantern_core::names::Name;
use lantern_core::version::BuildNumber;

use crate::{ChainError, LedgerError, Log, Origin, Reached};

/// Runs the suite. `open` opens a fresh log; called with one that it gave, it opens the same again, as another program would.
///
/// # Errors
/// A sentence that says what the log does otherwise.
pub fn run<L: Log>(open: impl Fn(Option<&L>) -> L) -> Result<(), String> {
    appended_events_come_back(&open)?;
    what_was_reached_is_not_read_again(&open)?;
    two_at_once_do_not_decide_by_the_same(&open)?;
    lines_of_another_log(&open)?;
    newest_first(&open)?;
    what_was_heard(&open)
}

fn ensure(is_so: bool, otherwise: &str) -> Result<(), String> {
    if is_so { Ok(()) } else { Err(otherwise.to_owned()) }
}

fn text(error: LedgerError) -> String {
    format!("an error where there should be none: {error}")
}

fn origin(n: u8) -> Result<Origin, String> {
    let at = jiff::Timestamp::from_second(1_764_000_000 + i64::from(n)).map_err(|error| error.to_string())?;
    Ok(Origin { at, random: [n; 10], actor: "wren".to_owned() })
}

fn body(n: u8) -> Result<EventBody, String> {
    let next = BuildNumber::new(u64::from(n)).map_err(|error| error.to_string())?;
    Ok(EventBody::NextNumber(NextNumber { next }))
}

fn append(log: &mut impl Log, after: Option<&Reached>, n: u8) -> Result<Result<Event, LedgerError>, String> {
    Ok(log.append(after, &Name::full_edition(), origin(n)?, None, body(n)?))
}

fn events(log: &impl Log, reached: &mut Reached) -> Result<Vec<Event>, String> {
    let mut out = Vec::new();
    log.follow(reached, &mut |event| out.push(event)).map_err(text)?;
    Ok(out)
}

fn appended_events_come_back<L: Log>(open: &impl Fn(Option<&L>) -> L) -> Result<(), String> {
    let mut log = open(None);
    let written = [1, 2, 3].map(|n| append(&mut log, None, n).and_then(|event| event.map_err(text)));
    let written: Vec<Event> = written.into_iter().collect::<Result<_, _>>()?;
    ensure(
        events(&log, &mut Reached::default())? == written,
        "the events that were appended do not come back as they are",
    )?;
    let again = open(Some(&log));
    ensure(
        events(&again, &mut Reached::default())? == written,
        "what was appended is not there when it is opened again",
    )?;
    ensure(written.iter().all(|event| event.device == log.device()), "an event has another device than its log")?;
    ensure(written.iter().map(|event| event.sequence).eq(1..=3), "sequences do not count from 1")?;
    for event in &written {
        let line = log.line_of(&event.device, event.sequence).map_err(text)?;
        ensure(line.as_deref() == Some(&event.to_line()), "the line of an event is not the one that was written")?;
    }
    ensure(log.line_of(log.device(), 4).map_err(text)?.is_none(), "there is a line that nobody wrote")
}

fn what_was_reached_is_not_read_again<L: Log>(open: &impl Fn(Option<&L>) -> L) -> Result<(), String> {
    let mut log = open(None);
    let mut reached = Reached::default();
    ensure(log.has_reached(&reached).map_err(text)?, "the beginning of an empty log is not known")?;
    append(&mut log, None, 1)?.map_err(text)?;
    ensure(events(&log, &mut reached)?.len() == 1, "the first event does not come")?;
    ensure(events(&log, &mut reached)?.is_empty(), "an event comes twice")?;
    ensure(log.has_reached(&reached).map_err(text)?, "what was reached is not known")?;
    append(&mut open(Some(&log)), None, 2)?.map_err(text)?;
    let more = events(&log, &mut reached)?;
    ensure(
        more.len() == 1 && more.iter().all(|event| event.sequence == 2),
        "what another program wrote does not come",
    )?;
    ensure(!open(None).has_reached(&reached).map_err(text)?, "another log claims to have been read")
}

fn two_at_once_do_not_decide_by_the_same<L: Log>(open: &impl Fn(Option<&L>) -> L) -> Result<(), String> {
    let mut one = open(None);
    let mut two = open(Some(&one));
    let (mut of_one, mut of_two) = (Reached::default(), Reached::default());
    append(&mut one, Some(&of_one), 1)?.map_err(text)?;
    let late = append(&mut two, Some(&of_two), 2)?;
    ensure(matches!(late, Err(LedgerError::Conflict)), "an append after something else is not refused")?;
    events(&one, &mut of_one)?;
    ensure(events(&two, &mut of_two)?.len() == 1, "a refused append left something behind")?;
    append(&mut two, Some(&of_two), 2)?.map_err(text)?;
    let late = append(&mut one, Some(&of_one), 3)?;
    ensure(matches!(late, Err(LedgerError::Conflict)), "an append after something else is not refused the second time")
}

fn lines_of_another_log<L: Log>(open: &impl Fn(Option<&L>) -> L) -> Result<(), String> {
    let mut from = open(None);
    let lines: Vec<String> = [1, 2, 3]
        .into_iter()
        .map(|n| append(&mut from, None, n)?.map(|event| event.to_line()).map_err(text))
        .collect::<Result<_, _>>()?;
    let mut to = open(None);
    ensure(to.add_lines(&lines[..2]).map_err(text)? == 2, "lines of another log are not added")?;
    ensure(to.add_lines(&lines).map_err(text)? == 1, "lines that are there are not passed over")?;
    ensure(events(&to, &mut Reached::default())?.len() == 3, "added lines are no events")?;
    let gap = open(None).add_lines(&lines[1..]);
    let is_order = |result: &Result<u64, LedgerError>| {
        matches!(result, Err(LedgerError::Foreign { source: ChainError::Order, .. }))
    };
    ensure(is_order(&gap), "a line without the one before it is taken")?;
    let other = Rebuilt { copied: 0, releases: Vec::new(), asked: Vec::new(), unreachable: Vec::new() };
    let mut changed = Event::from_line(&lines[1]).map_err(|error| error.to_string())?;
    changed.body = EventBody::Rebuilt(other);
    let mut both = open(None);
    let result = both.add_lines(&[lines[0].clone(), changed.to_line(), lines[1].clone()]);
    ensure(is_order(&result), "a line that differs from the one that is here is taken")?;
    ensure(events(&both, &mut Reached::default())?.is_empty(), "a part of what was refused is there")?;
    ensure(
        matches!(both.add_lines(&["{".to_owned()]), Err(LedgerError::Foreign { line: 1, .. })),
        "what is no event is taken",
    )
}

fn newest_first<L: Log>(open: &impl Fn(Option<&L>) -> L) -> Result<(), String> {
    let mut log = open(None);
    for n in 1..=5 {
        append(&mut log, None, n)?.map_err(text)?;
    }
    let mut sequences = Vec::new();
    let mut take = |event: Event| {
        sequences.push(event.sequence);
        sequences.len() < 3
    };
    log.backwards(&mut take).map_err(text)?;
    ensure(sequences == [5, 4, 3], "reading backwards does not begin at the newest, or does not stop")
}

fn what_was_heard<L: Log>(open: &impl Fn(Option<&L>) -> L) -> Result<(), String> {
    let mut log = open(None);
    ensure(log.heard("b-1").map_err(text)?.is_none(), "a fresh log has heard a storefront")?;
    let (first, later) = (origin(1)?.at, origin(2)?.at);
    log.note_heard("b-1", first).map_err(text)?;
    log.note_heard("b-1", later).map_err(text)?;
    let again = open(Some(&log));
    ensure(again.heard("b-1").map_err(text)? == Some(later), "when a storefront was last heard is not kept")?;
    ensure(again.heard("b-2").map_err(text)?.is_none(), "one storefront is taken for another")?;
    append(&mut log, None, 1)?.map_err(text)?;
    append(&mut log, None, 2)?.map_err(text)?;
    ensure(log.len_at_most().map_err(text)? == 2, "the number of events is another")?;
    let lines: Vec<String> = log.lines().map_err(text)?.into_iter().map(|(_, line)| line).collect();
    let events = log.events().map_err(text)?;
    ensure(
        lines.iter().eq(events.iter().map(Event::to_line).collect::<Vec<_>>().iter()),
        "lines are not those of the events",
    )
}
