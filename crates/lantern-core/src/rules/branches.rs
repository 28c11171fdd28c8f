//! `branches`: which there are, and what a build must have gone through before it comes on them.

use jiff::{SignedDuration, Timestamp};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Refusal, Section};
use crate::config::Audience;
use crate::event::BranchFacts;
use crate::names::Name;
use crate::version::ReleaseName;

/// `branches`.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Branches {
    /// The only branches there are, in the order in which a release goes through them.
    pub fixed: Vec<BranchRule>,
}

/// A branch.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct BranchRule {
    /// Its name.
    pub name: Name,
    /// Who can follow it.
    pub audience: Audience,
    /// What must have had a build before it comes on this branch; none: nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub carried: Option<Carried>,
}

/// Another branch must have had a build for a time without a break.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Carried {
    /// The branch.
    pub by: Name,
    /// How long, in hours; 0: it must have been there.
    pub hours: u32,
}

/// Returns the longest time for which a branch had a build without a break, by what it had after each of its moves, oldest
/// first; none when it never had it.
pub fn longest_stay<'a>(
    moves: impl IntoIterator<Item = &'a BranchFacts>,
    number_there: u64,
    now: Timestamp,
) -> Option<SignedDuration> {
    let mut longest = None;
    let mut began: Option<Timestamp> = None;
    let mut moves = moves.into_iter().peekable();
    while let Some(facts) = moves.next() {
        let end = moves.peek().map_or(Some(now), |next| next.since).unwrap_or(now);
        let has_it = facts.targets.values().any(|build| build.number_there == number_there);
        began = has_it.then(|| began.or(facts.since).unwrap_or(end));
        longest = longest.max(began.map(|began| end.duration_since(began)));
    }
    longest
}

impl Branches {
    /// Returns the rule of a branch.
    pub fn named(&self, name: &Name) -> Option<&BranchRule> {
        self.fixed.iter().find(|b| b.name == *name)
    }

    /// Returns what must have had a build before it comes on a branch.
    pub fn carried(&self, branch: &Name) -> Option<&Carried> {
        self.named(branch)?.carried.as_ref()
    }

    /// Says why a build may not come on a branch yet. `stayed` is the longest time for which [`Carried::by`] had it without a
    /// break; none when it never did.
    pub fn refuse_too_early(
        &self,
        branch: &Name,
        build: &ReleaseName,
        stayed: Option<SignedDuration>,
    ) -> Option<Refusal> {
        let Carried { by, hours } = self.carried(branch)?;
        let needed = SignedDuration::from_hours(i64::from(*hours));
        let rule = match hours {
            0 => format!("{branch} takes what {by} has had"),
            1 => format!("{branch} takes what {by} has had for an hour"),
            hours => format!("{branch} takes what {by} has had for {hours} hours"),
        };
        match stayed {
            None => {
                let what = format!("{build} has not been on {by} yet; {rule}");
                Some(Refusal::new("not-carried", what, format!("promote it to {by} first")))
            }
            Some(stayed) if stayed < needed => {
                let what = format!("{build} has been on {by} for {}; {rule}", hours_and_minutes(stayed));
                let left = needed - stayed;
                Some(Refusal::new("not-carried", what, format!("wait {} more", hours_and_minutes(left))))
            }
            Some(_) => None,
        }
    }
}

/// Writes a time for people, never as less than a minute.
fn hours_and_minutes(time: SignedDuration) -> String {
    let minutes = time.as_secs().saturating_add(59).div_euclid(60).max(1);
    match (minutes / 60, minutes % 60) {
        (0, minutes) => format!("{minutes} min"),
        (hours, 0) => format!("{hours} h"),
        (hours, minutes) => format!("{hours} h {minutes} min"),
    }
}

impl Section for Branches {
    fn refuse_promote(&self, branch: &Name) -> Vec<Refusal> {
        if self.named(branch).is_some() {
            return Vec::new();
        }
        let names: Vec<&str> = self.fixed.iter().map(|b| b.name.as_str()).collect();
        let what = format!("there is no branch {branch:?}", branch = branch.as_str());
        let fix = match crate::names::nearest(branch.as_str(), names.iter().copied()) {
            Some(near) => format!("did you mean {near:?}?"),
            None => crate::finding::one_of(&names),
        };
        vec![Refusal::new("no-such-branch", what, fix)]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::ReleaseId;
    use crate::event::BranchBuild;

    fn at(hour: i64) -> Timestamp {
        Timestamp::from_second(hour * 3600).unwrap()
    }

    /// A move to build 1, or to none.
    fn after(since: Option<Timestamp>, has_it: bool) -> BranchFacts {
        let build = BranchBuild { number_there: 1, release: ReleaseId::of(b"r"), name: "1.4.0 (27)".parse().unwrap() };
        let targets = has_it.then(|| ("linux".parse().unwrap(), build)).into_iter().collect();
        BranchFacts { branch: "creek".parse().unwrap(), revision: 1, since, by: None, targets }
    }

    fn stayed(stays: &[(i64, bool)], now: i64) -> Option<i64> {
        let moves: Vec<BranchFacts> = stays.iter().map(|(hour, has_it)| after(Some(at(*hour)), *has_it)).collect();
        longest_stay(&moves, 1, at(now)).map(|time| time.as_hours())
    }

    #[test]
    fn a_stay_is_without_a_break() {
        assert_eq!(stayed(&[], 9), None);
        assert_eq!(stayed(&[(1, false), (3, false)], 9), None);
        assert_eq!(stayed(&[(1, true)], 9), Some(8));
        assert_eq!(stayed(&[(1, true), (2, true), (4, true)], 9), Some(8), "what else moves is no break");
        assert_eq!(stayed(&[(1, true), (6, false)], 9), Some(5), "what was long enough once stays so");
        assert_eq!(stayed(&[(1, true), (2, false), (6, true)], 9), Some(3), "a break begins it again");
        assert_eq!(stayed(&[(9, true)], 9), Some(0));
        let unknown = [after(None, true)];
        assert_eq!(longest_stay(&unknown, 1, at(9)), Some(SignedDuration::ZERO), "nobody knows since when");
    }

    #[test]
    fn a_build_comes_on_a_branch_when_another_has_had_it() {
        let rule =
            |name: &str, carried| BranchRule { name: name.parse().unwrap(), audience: Audience::Everyone, carried };
        let carried = |hours| Some(Carried { by: "creek".parse().unwrap(), hours });
        let refuse = |hours: u32, stayed: Option<i64>| {
            let branches = Branches { fixed: vec![rule("creek", None), rule("open-water", carried(hours))] };
            let stayed = stayed.map(SignedDuration::from_mins);
            let refused =
                branches.refuse_too_early(&"open-water".parse().unwrap(), &"1.4.0 (27)".parse().unwrap(), stayed);
            refused.map(|refusal| (refusal.what, refusal.fix))
        };
        let pair = |what: &str, fix: &str| Some((what.to_owned(), fix.to_owned()));
        let rule = "open-water takes what creek has had for 24 hours";
        assert_eq!(
            refuse(24, None),
            pair(&format!("1.4.0 (27) has not been on creek yet; {rule}"), "promote it to creek first")
        );
        assert_eq!(
            refuse(24, Some(24 * 60 - 1)),
            pair(&format!("1.4.0 (27) has been on creek for 23 h 59 min; {rule}"), "wait 1 min more")
        );
        assert_eq!(
            refuse(24, Some(180)),
            pair(&format!("1.4.0 (27) has been on creek for 3 h; {rule}"), "wait 21 h more")
        );
        assert_eq!(refuse(24, Some(24 * 60)), None);
        assert_eq!(refuse(0, Some(0)), None);
        assert!(refuse(0, None).is_some());
        let free = Branches { fixed: vec![rule_of_creek()] };
        assert_eq!(free.refuse_too_early(&"creek".parse().unwrap(), &"1.4.0 (27)".parse().unwrap(), None), None);
    }

    fn rule_of_creek() -> BranchRule {
        BranchRule { name: "creek".parse().unwrap(), audience: Audience::Invited, carried: None }
    }
}
