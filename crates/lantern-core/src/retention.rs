//! Which sealed releases stay, by rule.

use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};

use crate::board::{Board, KnownRelease};
use crate::digest::ReleaseId;
use crate::event::{BranchFacts, Event, EventBody, TitleKey};
use crate::names::Name;

/// What stays.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RetentionRule {
    /// The newest of each edition that are not withdrawn.
    pub last: usize,
    /// What players had on any branch within this many days.
    pub live_within_days: u32,
}

impl Default for RetentionRule {
    fn default() -> Self {
        Self { last: 5, live_within_days: 90 }
    }
}

/// Why a release stays.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reason {
    /// Players have it there.
    Live(Vec<(Name, Name)>),
    /// Players had it until then.
    WasLive(Timestamp),
    /// It is one of the newest.
    Last,
    /// An action with it was asked for and is not settled.
    Open,
}

/// Says of each release that still has its content whether it stays, and why; none: its content goes.
///
/// `boards` are those of all editions, `events` the whole ledger. `titles` are those that the project is connected to, with
/// its name for each storefront: what any other one has does not count.
pub fn choose(
    rule: RetentionRule,
    boards: &[Arc<Board>],
    events: &[Event],
    titles: &BTreeMap<TitleKey, Name>,
    now: Timestamp,
) -> Vec<(KnownRelease, Option<Reason>)> {
    let last_live = last_live(events, titles, now);
    let since = now.checked_sub(SignedDuration::from_hours(24 * i64::from(rule.live_within_days))).unwrap_or(now);
    let mut out = Vec::new();
    for board in boards {
        let mut newest: Vec<&KnownRelease> =
            board.releases.iter().filter(|r| !board.withdrawn.contains_key(&r.id)).collect();
        newest.sort_by_key(|r| std::cmp::Reverse(r.name.number));
        newest.truncate(rule.last);
        let is_here = |r: &&KnownRelease| r.found_at.is_none() && !board.freed.contains(&r.id);
        for release in board.releases.iter().filter(is_here) {
            let has = |facts: &BranchFacts| facts.targets.values().any(|b| b.release == release.id);
            let live: Vec<(Name, Name)> = (board.branches.iter())
                .filter(|(_, facts)| has(facts))
                .filter_map(|((title, branch), _)| Some((titles.get(title)?.clone(), branch.clone())))
                .collect();
            let reason = if !live.is_empty() {
                Some(Reason::Live(live))
            } else if board.open.values().any(|asked| asked.release == release.id) {
                Some(Reason::Open)
            } else if let Some(until) = last_live.get(&release.id).filter(|until| **until >= since) {
                Some(Reason::WasLive(*until))
            } else if newest.iter().any(|r| r.id == release.id) {
                Some(Reason::Last)
            } else {
                None
            };
            out.push((release.clone(), reason));
        }
    }
    out.sort_by_key(|(release, _)| release.name.number);
    out
}

/// Until when players had each release, by what storefronts said; a branch that still has it counts as now.
fn last_live(events: &[Event], titles: &BTreeMap<TitleKey, Name>, now: Timestamp) -> BTreeMap<ReleaseId, Timestamp> {
    // Of each branch what was said, in the order of revisions; a storefront that went back begins again.
    let mut said: BTreeMap<(TitleKey, &Name), Vec<BTreeMap<u64, &BranchFacts>>> = BTreeMap::new();
    for event in events {
        let (storefront, facts, is_back) = match &event.body {
            EventBody::Moved(moved) => (&moved.storefront, &moved.facts, false),
            EventBody::BranchReported(seen) => (&seen.storefront, &seen.facts, false),
            EventBody::BranchWentBack(back) => (&back.storefront, &back.facts, true),
            _ => continue,
        };
        if !titles.contains_key(&storefront.key()) {
            continue;
        }
        let times = said.entry((storefront.key(), &facts.branch)).or_default();
        if is_back || times.is_empty() {
            times.push(BTreeMap::new());
        }
        if let Some(last) = times.last_mut() {
            last.insert(facts.revision, facts);
        }
    }
    let mut out: BTreeMap<ReleaseId, Timestamp> = BTreeMap::new();
    for times in said.into_values() {
        let facts: Vec<&BranchFacts> = times.into_iter().flat_map(BTreeMap::into_values).collect();
        for (i, at) in facts.iter().enumerate() {
            let until = facts.get(i + 1).and_then(|next| next.since).unwrap_or(now);
            for build in at.targets.values() {
                let known = out.entry(build.release).or_insert(until);
                *known = (*known).max(until);
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::board::Boards;
    use crate::digest::InputDigest;
    use crate::event::{BranchBuild, BranchReported, EventId, Sealed, StorefrontRef, Withdrawn};

    fn at(day: i64) -> Timestamp {
        Timestamp::from_second(day * 86_400).unwrap()
    }

    fn id(number: u64) -> ReleaseId {
        ReleaseId::of(&number.to_le_bytes())
    }

    fn event(body: EventBody) -> Event {
        Event {
            id: EventId::new(at(0), [0; 10]),
            device: "d".into(),
            sequence: 1,
            predecessor: None,
            actor: "wren".into(),
            recorded_at: at(0),
            happened_at: None,
            revision: None,
            edition: Name::full_edition(),
            body,
        }
    }

    fn sealed(number: u64) -> Event {
        let name = format!("1.{number}.0 ({number})").parse().unwrap();
        event(EventBody::Sealed(Sealed::new(id(number), name, InputDigest::of(&number.to_le_bytes()), Vec::new())))
    }

    fn storefront() -> StorefrontRef {
        StorefrontRef {
            id: "b".into(),
            name: "brambleyard".parse().unwrap(),
            handle: "saltmarsh-post".parse().unwrap(),
        }
    }

    fn seen(revision: u64, day: i64, number: u64) -> Event {
        let name = format!("1.{number}.0 ({number})").parse().unwrap();
        let build = BranchBuild { number_there: number, release: id(number), name };
        let storefront = storefront();
        let facts = BranchFacts {
            branch: "open-water".parse().unwrap(),
            revision,
            since: Some(at(day)),
            by: None,
            targets: [("linux".parse().unwrap(), build)].into(),
        };
        event(EventBody::BranchReported(BranchReported::new(storefront, facts)))
    }

    fn stay(rule: RetentionRule, events: &[Event], today: i64) -> Vec<(u32, Option<Reason>)> {
        let board = Boards::fold(events).of(&Name::full_edition());
        let titles = [(storefront().key(), storefront().name)].into();
        let chosen = choose(rule, &[board], events, &titles, at(today));
        chosen.into_iter().map(|(release, reason)| (release.name.number.get(), reason)).collect()
    }

    #[test]
    fn what_is_live_or_was_lately_or_is_new_stays() {
        let mut events: Vec<Event> = (1..=5).map(sealed).collect();
        events.extend([seen(1, 10, 1), seen(2, 20, 2), seen(3, 100, 3)]);
        let rule = RetentionRule { last: 1, live_within_days: 30 };
        let live = Reason::Live(vec![("brambleyard".parse().unwrap(), "open-water".parse().unwrap())]);
        let expected =
            [(1, None), (2, Some(Reason::WasLive(at(100)))), (3, Some(live)), (4, None), (5, Some(Reason::Last))];
        assert_eq!(stay(rule, &events, 120), expected);
    }

    #[test]
    fn what_was_withdrawn_is_not_one_of_the_last() {
        let mut events: Vec<Event> = (1..=3).map(sealed).collect();
        let name = "1.3.0 (3)".parse().unwrap();
        let because = "a save bug".to_owned();
        events.push(event(EventBody::Withdrawn(Withdrawn {
            key: None,
            storefront: None,
            release: id(3),
            name,
            because,
        })));
        let rule = RetentionRule { last: 1, live_within_days: 30 };
        assert_eq!(stay(rule, &events, 1), [(1, None), (2, Some(Reason::Last)), (3, None)]);
    }
}
