//! House rules: what a storefront demands, as data that it publishes. Client and server ask the same functions here.
//!
//! A rule that is not understood closes the gate: it may be the one that forbids what is about to be done.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::config::Audience;
use crate::names::Name;
use crate::release::TargetRecord;
use crate::system::System;
use crate::version::{BuildNumber, ReleaseName};

/// All rules of one storefront.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct HouseRules {
    /// Raised whenever a rule changes.
    pub revision: u64,
    /// What is taken in.
    pub accepted: Accepted,
    /// Versions and numbers.
    pub numbers: Numbers,
    /// The branches there.
    pub branches: Branches,
    /// The dotted names of rules that anyone who brings something must understand, such as `numbers.number`; of those that
    /// are not named here, what is not known is passed over. Left out: every rule must be understood.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub must_understand: Option<Vec<String>>,
    /// Rules that this code does not know.
    #[serde(flatten)]
    #[schemars(skip)]
    pub unknown: Map<String, Value>,
}

/// What is taken in.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Accepted {
    /// Systems whose builds are taken.
    pub systems: Vec<System>,
    /// Largest depot, in bytes of its files.
    pub depot_max_bytes: u64,
    /// Rules that this code does not know.
    #[serde(flatten)]
    #[schemars(skip)]
    pub unknown: Map<String, Value>,
}

/// Versions and numbers.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Numbers {
    /// What is asked of a build number.
    pub number: NumberRule,
    /// Rules that this code does not know.
    #[serde(flatten)]
    #[schemars(skip)]
    pub unknown: Map<String, Value>,
}

/// What is asked of a build number.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum NumberRule {
    /// Any number, once.
    Free,
    /// Higher than every number there.
    MustRise,
    /// A rule that this code does not know.
    #[serde(untagged)]
    #[schemars(skip)]
    Unknown(String),
}

/// The branches there.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Branches {
    /// In the order in which they are listed.
    pub fixed: Vec<BranchRule>,
    /// Whether a build must have been on each of them before it goes on the next.
    #[serde(default)]
    pub in_order: bool,
    /// Rules that this code does not know.
    #[serde(flatten)]
    #[schemars(skip)]
    pub unknown: Map<String, Value>,
}

/// A branch there.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct BranchRule {
    /// Its name.
    pub name: Name,
    /// Who can follow it.
    pub audience: Audience,
    /// Rules that this code does not know.
    #[serde(flatten)]
    #[schemars(skip)]
    pub unknown: Map<String, Value>,
}

/// A rule that is in the way.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Refusal {
    /// A stable word: `unknown-rule`, `system-not-taken`, `depot-too-large`, `number-taken`, `number-not-raised`,
    /// `no-such-branch`, `not-in-order`, `withdrawn`.
    pub rule: String,
    /// What is in the way, in one sentence.
    pub what: String,
    /// What to do.
    pub fix: String,
}

impl Refusal {
    fn new(rule: &str, what: impl Into<String>, fix: impl Into<String>) -> Self {
        Self { rule: rule.into(), what: what.into(), fix: fix.into() }
    }
}

impl HouseRules {
    /// Returns the branch of this name.
    pub fn branch(&self, name: &Name) -> Option<&BranchRule> {
        self.branches.fixed.iter().find(|b| b.name == *name)
    }

    /// Whether a rule of this dotted name closes the gate when it is not understood.
    fn must_be_understood(&self, name: &str) -> bool {
        let rule = name.split(" = ").next().unwrap_or(name);
        let covers = |marked: &String| {
            rule.strip_prefix(marked.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
        };
        self.must_understand.as_ref().is_none_or(|marked| marked.iter().any(covers))
    }

    /// Returns the dotted names of all rules that this code does not know.
    pub fn not_understood(&self) -> Vec<String> {
        let mut names: Vec<String> = self.unknown.keys().cloned().collect();
        names.extend(self.accepted.unknown.keys().map(|k| format!("accepted.{k}")));
        names.extend(self.numbers.unknown.keys().map(|k| format!("numbers.{k}")));
        if let NumberRule::Unknown(word) = &self.numbers.number {
            names.push(format!("numbers.number = {word:?}"));
        }
        names.extend(self.branches.unknown.keys().map(|k| format!("branches.{k}")));
        for branch in &self.branches.fixed {
            names.extend(branch.unknown.keys().map(|k| format!("branches.{}.{k}", branch.name)));
        }
        names
    }

    fn gate(&self) -> Vec<Refusal> {
        self.not_understood()
            .into_iter()
            .filter(|name| self.must_be_understood(name))
            .map(|name| {
                let what = format!("the house rule {name} is not one that this lantern understands");
                Refusal::new("unknown-rule", what, "get a newer lantern; nothing passes a rule that is not understood")
            })
            .collect()
    }

    /// Says what is in the way of pushing targets of a release; `there` are the other releases that the title has.
    pub fn refuse_push<'a>(
        &self,
        number: BuildNumber,
        targets: impl IntoIterator<Item = &'a TargetRecord>,
        there: &[ReleaseName],
    ) -> Vec<Refusal> {
        let mut out = self.gate();
        for target in targets {
            for system in target.systems.iter().filter(|s| !self.accepted.systems.contains(s)) {
                let taken: Vec<&str> = self.accepted.systems.iter().map(System::name).collect();
                let what = format!("builds for {system} (target {}) are not taken there", target.target);
                let fix = format!("leave it out of the storefront's targets = […]; taken are {}", taken.join(", "));
                out.push(Refusal::new("system-not-taken", what, fix));
            }
            for depot in target.depots.iter().filter(|d| d.size > self.accepted.depot_max_bytes) {
                let (name, size, max) = (&depot.depot, depot.size, self.accepted.depot_max_bytes);
                let what = format!("the depot {name} has {size} bytes, at most {max} are taken");
                out.push(Refusal::new("depot-too-large", what, "leave files out, or divide the depot"));
            }
        }
        out.extend(self.refuse_number(number, there));
        out
    }

    fn refuse_number(&self, number: BuildNumber, there: &[ReleaseName]) -> Option<Refusal> {
        if let Some(same) = there.iter().find(|r| r.number == number) {
            let what = format!("the number {number} is taken there by another release, {same}");
            let fix = "prepare again: the next number will be above all that are there";
            return Some(Refusal::new("number-taken", what, fix));
        }
        let highest = there.iter().max_by_key(|r| r.number)?;
        if self.numbers.number == NumberRule::MustRise && highest.number > number {
            let what = format!("the number {number} is not above {}, the highest there", highest.number);
            let fix = "prepare again: the next number will be above all that are there";
            return Some(Refusal::new("number-not-raised", what, fix));
        }
        None
    }

    /// Returns the branch that a build must have been on before it goes on this one.
    pub fn branch_before(&self, branch: &Name) -> Option<&BranchRule> {
        let at = self.branches.fixed.iter().position(|b| b.name == *branch)?;
        self.branches.fixed.get(at.checked_sub(1)?).filter(|_| self.branches.in_order)
    }

    /// Says whether a build may go on a branch by the order of branches; `been_before` is whether it has been on
    /// [`Self::branch_before`].
    pub fn refuse_order(&self, branch: &Name, build: &ReleaseName, been_before: bool) -> Option<Refusal> {
        let before = self.branch_before(branch).filter(|_| !been_before)?;
        let order: Vec<&str> = self.branches.fixed.iter().map(|b| b.name.as_str()).collect();
        let what = format!("{build} has not been on {} yet; the order is {}", before.name, order.join(", "));
        Some(Refusal::new("not-in-order", what, format!("promote it to {} first", before.name)))
    }

    /// Says that a withdrawn release goes nowhere.
    pub fn refuse_withdrawn(build: &ReleaseName, because: &str) -> Refusal {
        let what = format!("{build} was withdrawn: {}", crate::path::shown(because));
        Refusal::new("withdrawn", what, "fix it, raise the version, and prepare again")
    }

    /// Says what is in the way of anything being put on a branch.
    pub fn refuse_promote(&self, branch: &Name) -> Vec<Refusal> {
        let mut out = self.gate();
        if self.branch(branch).is_none() {
            let names: Vec<&str> = self.branches.fixed.iter().map(|b| b.name.as_str()).collect();
            let what = format!("there is no branch {branch:?}", branch = branch.as_str());
            let fix = match crate::names::nearest(branch.as_str(), names.iter().copied()) {
                Some(near) => format!("did you mean {near:?}?"),
                None => format!("there are {}", names.join(", ")),
            };
            out.push(Refusal::new("no-such-branch", what, fix));
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::release::ReleaseRecord;
    use crate::release::tests::record;

    fn rules() -> HouseRules {
        serde_json::from_value(serde_json::json!({
            "revision": 1,
            "accepted": { "systems": ["linux-x86_64"], "depot-max-bytes": 1000 },
            "numbers": { "number": "must-rise" },
            "branches": { "fixed": [{ "name": "open-water", "audience": "everyone" }] },
        }))
        .unwrap()
    }

    fn words(refusals: &[Refusal]) -> Vec<&str> {
        refusals.iter().map(|r| r.rule.as_str()).collect()
    }

    fn refuse(rules: &HouseRules, record: &ReleaseRecord, there: &[ReleaseName]) -> Vec<Refusal> {
        rules.refuse_push(record.number, &record.targets, there)
    }

    fn name(text: &str) -> ReleaseName {
        text.parse().unwrap()
    }

    #[test]
    fn what_fits_passes() {
        assert!(refuse(&rules(), &record("1.4.0", 27), &[name("1.3.2 (25)")]).is_empty());
        assert!(rules().refuse_promote(&"open-water".parse().unwrap()).is_empty());
    }

    #[test]
    fn each_rule_refuses() {
        let mut large = record("1.4.0", 27);
        large.targets[0].depots[0].size = 1001;
        assert_eq!(words(&refuse(&rules(), &large, &[])), ["depot-too-large"]);
        let mut arm = record("1.4.0", 27);
        arm.targets[0].systems = vec![System::LinuxAarch64];
        assert_eq!(words(&refuse(&rules(), &arm, &[])), ["system-not-taken"]);
        assert_eq!(words(&refuse(&rules(), &record("1.4.0", 27), &[name("1.3.9 (27)")])), ["number-taken"]);
        assert_eq!(words(&refuse(&rules(), &record("1.4.0", 27), &[name("1.5.0 (30)")])), ["number-not-raised"]);
        let refused = rules().refuse_promote(&"open-watre".parse().unwrap());
        assert_eq!(refused[0].fix, "did you mean \"open-water\"?");
    }

    #[test]
    fn branches_in_order() {
        let mut rules = rules();
        let (first, last): (Name, Name) = ("creek".parse().unwrap(), "open-water".parse().unwrap());
        assert_eq!(rules.refuse_order(&last, &name("1.4.0 (27)"), false), None);
        let creek = BranchRule { name: first.clone(), ..rules.branches.fixed[0].clone() };
        rules.branches.fixed.insert(0, creek);
        rules.branches.in_order = true;
        assert_eq!(rules.refuse_order(&first, &name("1.4.0 (27)"), false), None);
        assert_eq!(rules.refuse_order(&last, &name("1.4.0 (27)"), true), None);
        assert_eq!(rules.refuse_order(&last, &name("1.4.0 (27)"), false).unwrap().fix, "promote it to creek first");
    }

    #[test]
    fn a_free_number_may_be_lower() {
        let mut free = rules();
        free.numbers.number = NumberRule::Free;
        assert!(refuse(&free, &record("1.4.0", 27), &[name("1.5.0 (30)")]).is_empty());
    }

    #[test]
    fn unknown_rules_close_the_gate() {
        for (at, key) in [
            ("", "moon"),
            ("/accepted", "moon"),
            ("/numbers", "moon"),
            ("/branches", "moon"),
            ("/branches/fixed/0", "moon"),
        ] {
            let mut value = serde_json::to_value(rules()).unwrap();
            value.pointer_mut(at).unwrap()[key] = "must be full".into();
            let rules: HouseRules = serde_json::from_value(value).unwrap();
            assert_eq!(words(&rules.refuse_promote(&"open-water".parse().unwrap())), ["unknown-rule"], "{at}");
            assert_eq!(words(&refuse(&rules, &record("1.4.0", 27), &[])), ["unknown-rule"], "{at}");
        }
        // Those that say themselves that they need not be understood leave it open.
        let mut value = serde_json::to_value(rules()).unwrap();
        value["contact"] = "wren".into();
        value["accepted"]["moon"] = "must be full".into();
        for (marked, is_open) in [(&["numbers"][..], true), (&["accepted"], false), (&["accepted.moon"], false)] {
            value["must-understand"] = serde_json::to_value(marked).unwrap();
            let rules: HouseRules = serde_json::from_value(value.clone()).unwrap();
            assert_eq!(rules.refuse_promote(&"open-water".parse().unwrap()).is_empty(), is_open, "{marked:?}");
        }
        let mut value = serde_json::to_value(rules()).unwrap();
        value["numbers"]["number"] = "must-be-prime".into();
        let rules: HouseRules = serde_json::from_value(value).unwrap();
        assert_eq!(words(&rules.refuse_promote(&"open-water".parse().unwrap())), ["unknown-rule"]);
    }
}
