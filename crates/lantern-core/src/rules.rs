//! House rules: what a storefront demands, as data that it publishes. Client and server ask the same functions here.
//!
//! A rule that is not understood closes the gate: it may be the one that forbids what is about to be done. Each section is a
//! module; which keys it has is known from its type alone, and every other key of the document is a rule that is not understood.

mod accepted;
mod branches;
mod numbers;
mod texts;
mod unknown;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};
use serde_json::Value;

pub use accepted::Accepted;
pub use branches::{BranchRule, Branches, Carried, longest_stay};
pub use numbers::{NumberRule, Numbers};
pub use texts::Texts;

use crate::names::Name;
use crate::notes::Notes;
use crate::release::TargetRecord;
use crate::system::System;
use crate::version::{BuildNumber, ReleaseName};

/// All rules of one storefront.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
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
    /// What comes along with a build; left out where nothing is asked of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub texts: Option<Texts>,
    /// The dotted names of rules that anyone who brings something must understand, such as `numbers.number`; of those that
    /// are not named here, what is not known is passed over. Left out: every rule must be understood.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub must_understand: Option<Vec<String>>,
    /// The dotted names of rules that this code does not know.
    #[serde(skip)]
    #[schemars(skip)]
    unknown: Vec<String>,
}

impl<'de> Deserialize<'de> for HouseRules {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        /// What is known of a document.
        #[derive(Deserialize)]
        #[serde(rename_all = "kebab-case")]
        struct Known {
            revision: u64,
            accepted: Accepted,
            numbers: Numbers,
            branches: Branches,
            #[serde(default)]
            texts: Option<Texts>,
            #[serde(default)]
            must_understand: Option<Vec<String>>,
        }
        let document = Value::deserialize(deserializer)?;
        let unknown = unknown::keys(&document);
        let known: Known = serde_json::from_value(document).map_err(serde::de::Error::custom)?;
        let Known { revision, accepted, numbers, branches, texts, must_understand } = known;
        Ok(Self { revision, accepted, numbers, branches, texts, must_understand, unknown })
    }
}

/// A push, as far as rules are about it.
#[derive(Debug, Clone, Copy)]
pub struct Push<'a> {
    /// The release's number.
    pub number: BuildNumber,
    /// Its targets that are to go there.
    pub targets: &'a [&'a TargetRecord],
    /// The other releases that the title has.
    pub there: &'a [ReleaseName],
    /// What is new, for players.
    pub notes: &'a Notes,
}

/// A section of the rules: what it refuses.
trait Section {
    /// Words in it that this code does not know, each with the dotted name of its rule.
    fn words_not_understood(&self) -> Vec<String> {
        Vec::new()
    }

    /// What is in the way of a push.
    fn refuse_push(&self, _: &Push<'_>) -> Vec<Refusal> {
        Vec::new()
    }

    /// What is in the way of anything being put on a branch.
    fn refuse_promote(&self, _: &Name) -> Vec<Refusal> {
        Vec::new()
    }
}

/// A rule that is in the way.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Refusal {
    /// A stable word: `unknown-rule`, `system-not-taken`, `depot-too-large`, `number-taken`, `number-not-raised`,
    /// `no-such-branch`, `not-carried`, `withdrawn`, `notes-too-long`, `unsigned`.
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
    /// Rules that the studio wrote down itself; what is none of them asks for nothing.
    pub fn written(
        accepted: Option<Accepted>,
        numbers: Option<Numbers>,
        branches: Branches,
        notes_max: Option<u64>,
    ) -> Self {
        let accepted = accepted.unwrap_or_else(|| Accepted {
            systems: System::ALL.to_vec(),
            depot_max_bytes: u64::MAX,
            refuse_unsigned: false,
        });
        let numbers = numbers.unwrap_or(Numbers { number: NumberRule::Free });
        let texts = notes_max.map(|notes_max| Texts { notes_max });
        Self { revision: 0, accepted, numbers, branches, texts, must_understand: None, unknown: Vec::new() }
    }

    /// Every section, in the order in which they speak.
    fn sections(&self) -> Vec<&dyn Section> {
        let all: [&dyn Section; 3] = [&self.accepted, &self.numbers, &self.branches];
        all.into_iter().chain(self.texts.iter().map(|texts| texts as &dyn Section)).collect()
    }

    /// Returns the branch of this name.
    pub fn branch(&self, name: &Name) -> Option<&BranchRule> {
        self.branches.named(name)
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
        let words = self.sections().into_iter().flat_map(Section::words_not_understood);
        self.unknown.iter().cloned().chain(words).collect()
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

    /// Says what is in the way of pushing targets of a release.
    pub fn refuse_push(&self, push: &Push<'_>) -> Vec<Refusal> {
        let of_sections = self.sections().into_iter().flat_map(|section| section.refuse_push(push));
        self.gate().into_iter().chain(of_sections).collect()
    }

    /// Says what is in the way of anything being put on a branch.
    pub fn refuse_promote(&self, branch: &Name) -> Vec<Refusal> {
        let of_sections = self.sections().into_iter().flat_map(|section| section.refuse_promote(branch));
        self.gate().into_iter().chain(of_sections).collect()
    }

    /// Says that a withdrawn release goes nowhere.
    pub fn refuse_withdrawn(build: &ReleaseName, because: &str) -> Refusal {
        let what = format!("{build} was withdrawn: {}", crate::path::shown(because));
        Refusal::new("withdrawn", what, "fix it, raise the version, and prepare again")
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
        let targets: Vec<&TargetRecord> = record.targets.iter().collect();
        rules.refuse_push(&Push { number: record.number, targets: &targets, there, notes: &Notes::default() })
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
    fn what_was_knowingly_left_unsigned_may_be_refused() {
        let (mut rules, mut unsigned) = (rules(), record("1.4.0", 27));
        unsigned.targets[0].unsigned = true;
        assert!(refuse(&rules, &unsigned, &[]).is_empty());
        rules.accepted.refuse_unsigned = true;
        assert_eq!(words(&refuse(&rules, &unsigned, &[])), ["unsigned"]);
        assert!(refuse(&rules, &record("1.4.0", 27), &[]).is_empty());
        // It is a rule that is understood, and left out where it asks for nothing.
        let written = serde_json::to_value(&rules).unwrap();
        assert_eq!(written["accepted"]["refuse-unsigned"], true);
        let read: HouseRules = serde_json::from_value(written).unwrap();
        assert!(read.not_understood().is_empty() && read.accepted.refuse_unsigned);
    }

    #[test]
    fn notes_are_as_long_as_the_storefront_takes_them() {
        let mut rules = rules();
        rules.texts = Some(Texts { notes_max: 5 });
        let record = record("1.4.0", 27);
        let targets: Vec<&TargetRecord> = record.targets.iter().collect();
        let refuse = |text: &str| {
            let notes = &Notes::plain(text);
            rules.refuse_push(&Push { number: record.number, targets: &targets, there: &[], notes })
        };
        assert!(refuse("灯台 灯台").is_empty(), "characters are counted, not bytes");
        assert_eq!(
            (words(&refuse("ablaze")), refuse("ablaze")[0].fix.as_str()),
            (vec!["notes-too-long"], "shorten them by 1")
        );
        let again: HouseRules = serde_json::from_str(&serde_json::to_string(&rules).unwrap()).unwrap();
        assert_eq!(again, rules);
        let more = serde_json::json!({ "revision": 1, "accepted": rules.accepted, "numbers": rules.numbers,
            "branches": rules.branches, "texts": { "notes-max": 5, "notes-min": 1 } });
        let more: HouseRules = serde_json::from_value(more).unwrap();
        assert_eq!(more.not_understood(), ["texts.notes-min"]);
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
