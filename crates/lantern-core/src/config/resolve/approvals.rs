//! `[approvals]`: vendors of systems that look at signed bundles.

use std::collections::BTreeMap;
use std::time::Duration;

use super::{Check, K, Referred};
use crate::config::{Approval, ConfigKey, raw};
use crate::finding::Code;
use crate::names::Name;

/// How long a program has for one answer where no limit is set: a bundle has to travel.
const ANSWER_TIME: Duration = Duration::from_secs(30 * 60);

impl Check<'_> {
    pub(super) fn approvals(&mut self, raw: &raw::Config) -> BTreeMap<Name, Approval> {
        let known: Vec<&str> = raw.targets.keys().map(String::as_str).collect();
        let mut approvals = BTreeMap::new();
        let mut taken: BTreeMap<Name, &String> = BTreeMap::new();
        for (name, approval) in &raw.approvals {
            let at = [K("approvals"), K(name)];
            let below = |key| [at.as_slice(), &[K(key)]].concat();
            let key = self.parse::<Name>(&at, name, "rename the approval");
            if raw.storefronts.contains_key(name) {
                let what = format!("{name} is a storefront, too: it is not clear which is meant");
                self.stop(&at, Code::ListedTwice, what, "rename one of the two");
            }
            if approval.targets.is_empty() {
                self.stop(&below("targets"), Code::EmptyValue, "a target is missing here", "targets = [\"mac\"]");
            }
            let mut targets = Vec::new();
            for (number, target) in approval.targets.iter().enumerate() {
                let place = [below("targets").as_slice(), &[ConfigKey::Item(number)]].concat();
                let Some(target) = self.known(&place, target, Referred::Target, &known) else { continue };
                if let Some(other) = taken.insert(target.clone(), name) {
                    let what = format!("{target} is looked at by {other} already");
                    self.stop(&place, Code::ListedTwice, what, "remove it from one of the two");
                }
                targets.push(target);
            }
            if !approval.run.is_empty() {
                self.has_program(&below("run"), &approval.run, "run = [\"python3\", \"approvals/office.py\"]");
            }
            let mut time = |key, text: Option<&String>| {
                self.optional(text, |check, text| check.length_of_time(&below(key), text, "2 hours"))
            };
            let (limit, usually) =
                (time("time-limit", approval.time_limit.as_ref()), time("usually", approval.usually.as_ref()));
            if let (Some(key), Some(limit), Some(usually)) = (key, limit, usually) {
                let time_limit = limit.and_then(|limit| limit.try_into().ok()).unwrap_or(ANSWER_TIME);
                let approval = Approval {
                    targets,
                    run: approval.run.clone(),
                    time_limit,
                    values: approval.values.clone(),
                    how: approval.how.clone(),
                    address: approval.address.clone(),
                    usually,
                };
                approvals.insert(key, approval);
            }
        }
        approvals
    }
}
