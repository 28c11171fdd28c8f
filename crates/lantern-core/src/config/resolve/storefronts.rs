//! The storefronts of `lantern.toml`.

use std::collections::{BTreeMap, BTreeSet};

use super::{Check, Referred, placeholder, raw};
use crate::config::ConfigKey::Key as K;
use crate::config::{
    Audience, ConfigKey, ConnectorStorefront, HandStorefront, Needs, ProtocolStorefront, Storefront, StorefrontKind,
};
use crate::finding::Code;
use crate::names::{Handle, Name};
use crate::path::shown;
use crate::template::{Template, TemplateError};

/// Branches with their audiences, what they are called there, and what they need.
type BranchesThere = (Vec<(Name, Audience)>, BTreeMap<Name, Handle>, BTreeMap<Name, Needs>);

impl Check<'_> {
    pub(super) fn storefront(
        &mut self,
        at: &[ConfigKey<'_>],
        raw: &raw::Storefront,
        config: &raw::Config,
    ) -> Option<Storefront> {
        match raw {
            raw::Storefront::Protocol(raw) => self.protocol(at, raw, config),
            raw::Storefront::ByHand(raw) => self.by_hand(at, raw, config),
            raw::Storefront::Connector(raw) => self.connector(at, raw, config),
        }
    }

    fn connector(&mut self, at: &[ConfigKey<'_>], raw: &raw::Connector, config: &raw::Config) -> Option<Storefront> {
        let run_at = [at, &[K("run")]].concat();
        if !self.has_program(&run_at, &raw.run, "run = [\"python3\", \"places/gull_rock.py\"]") {
            return None;
        }
        let time_limit = match raw.time_limit.as_deref().map(crate::step::length_of_time) {
            None => jiff::SignedDuration::from_hours(6),
            Some(Some(limit)) => limit,
            Some(None) => {
                let what = "this is not a length of time of at most a year";
                self.stop(&[at, &[K("time-limit")]].concat(), Code::WrongValue, what, "write \"3 hours\"");
                return None;
            }
        };
        let mut storefront = self.by_hand(at, &raw.by_hand, config)?;
        if let StorefrontKind::ByHand(hand) = storefront.kind {
            let run = raw.run.clone();
            storefront.kind = StorefrontKind::Connector(ConnectorStorefront { run, time_limit, hand });
        }
        Some(storefront)
    }

    fn protocol(&mut self, at: &[ConfigKey<'_>], raw: &raw::Protocol, config: &raw::Config) -> Option<Storefront> {
        let below = |key: &'static str| -> Vec<ConfigKey<'_>> { [at, &[K(key)]].concat() };
        let address = match crate::address::Address::parse(&raw.address) {
            Ok(address) => Some(address.to_string()),
            Err(error) => {
                self.stop(&below("address"), Code::WrongAddress, error.to_string(), error.fix());
                None
            }
        };
        let handles = self.handles(&below("handle"), &raw.handle, config);
        let targets = self.targets_there(at, &raw.targets, config);
        let depots = self.depot_handles(at, raw, config);
        let name_there = self.name_there(&below("name-there"), raw.name_there.as_ref());
        let (branches, theirs, needs) = self.branches(at, &raw.branches, config);
        let kind = StorefrontKind::Protocol(ProtocolStorefront { address: address? });
        Some(Storefront { kind, handles: handles?, targets, depots, name_there: name_there?, branches, theirs, needs })
    }

    fn by_hand(&mut self, at: &[ConfigKey<'_>], raw: &raw::ByHand, config: &raw::Config) -> Option<Storefront> {
        let below = |key: &'static str| -> Vec<ConfigKey<'_>> { [at, &[K(key)]].concat() };
        let handles = match &raw.handle {
            Some(handle) => self.handles(&below("handle"), handle, config),
            None => {
                let identity = config.game.identity.parse::<Handle>().ok();
                identity.map(|identity| BTreeMap::from([(Name::full_edition(), identity)]))
            }
        };
        let rules = self.optional(raw.rules.as_ref(), |check, text| check.path(&below("rules"), text));
        for (table, keys) in [("values", &raw.values), ("people", &raw.people)] {
            for key in keys.keys().filter(|key| key.parse::<Name>().is_err()) {
                let at = [at, &[K(table), K(key)]].concat();
                let what = format!("{:?} is not a name for one of {table}", shown(key));
                self.stop(&at, Code::WrongValue, what, "lower-case letters, digits, - and _");
            }
        }
        for (key, text) in &raw.values {
            if let Some(mark) = placeholder(text) {
                let at = [at, &[K("values"), K(key)]].concat();
                self.stop(&at, Code::Placeholder, format!("{mark:?} was never filled in"), "write the text there");
            }
        }
        let targets = self.targets_there(at, &raw.targets, config);
        let name_there = self.name_there(&below("name-there"), raw.name_there.as_ref());
        let (mut branches, theirs, needs) = self.branches(at, &raw.branches, config);
        if raw.branches.is_empty() {
            let public = "public".parse().expect("it is a name");
            branches.push((public, Audience::Everyone));
        }
        let (values, people) = (raw.values.clone(), raw.people.clone());
        let kind = StorefrontKind::ByHand(HandStorefront { rules: rules?, values, people });
        let depots = BTreeMap::new();
        Some(Storefront { kind, handles: handles?, targets, depots, name_there: name_there?, branches, theirs, needs })
    }

    fn targets_there(&mut self, at: &[ConfigKey<'_>], raw: &[String], config: &raw::Config) -> BTreeSet<Name> {
        let known: Vec<&str> = config.targets.keys().map(String::as_str).collect();
        let mut targets = BTreeSet::new();
        for (i, text) in raw.iter().enumerate() {
            let at = [at, &[K("targets"), ConfigKey::Item(i)]].concat();
            targets.extend(self.known(&at, text, Referred::Target, &known));
        }
        targets
    }

    fn name_there(&mut self, at: &[ConfigKey<'_>], raw: Option<&String>) -> Option<Option<Template>> {
        self.optional(raw, |check, text| {
            let name: Result<Template, TemplateError> = text.parse();
            name.inspect_err(|error| check.stop(at, Code::WrongValue, error.to_string(), error.fix())).ok()
        })
    }

    /// The branches in the order of the file, what the storefront calls them, and what they need.
    fn branches(
        &mut self,
        at: &[ConfigKey<'_>],
        raw: &BTreeMap<String, raw::Branch>,
        config: &raw::Config,
    ) -> BranchesThere {
        let (mut branches, mut theirs, mut needs) = (Vec::new(), BTreeMap::new(), BTreeMap::new());
        for (name, branch) in raw {
            let branch_at = [at, &[K("branches"), K(name)]].concat();
            if let Some(name) = self.parse::<Name>(
                &branch_at,
                name,
                "give it a name of ours; what the storefront calls it goes into theirs = \"…\"",
            ) {
                let at = [&branch_at[..], &[K("theirs")]].concat();
                let called = branch.theirs.as_ref();
                let called = called.and_then(|text| self.parse::<Handle>(&at, text, "write it as the storefront does"));
                theirs.extend(called.map(|called| (name.clone(), called)));
                let of_branch = self.needs(&branch_at, branch, config);
                needs.extend((!of_branch.is_empty()).then(|| (name.clone(), of_branch)));
                branches.push((self.shape.span(&branch_at).start, name, branch.audience.into()));
            }
        }
        branches.sort();
        (branches.into_iter().map(|(_, name, audience)| (name, audience)).collect(), theirs, needs)
    }

    fn handles(
        &mut self,
        at: &[ConfigKey<'_>],
        raw: &raw::Handles,
        config: &raw::Config,
    ) -> Option<BTreeMap<Name, Handle>> {
        let fix = "copy the handle from the storefront; it is never guessed from the name";
        match raw {
            raw::Handles::One(text) => {
                self.parse(at, text, fix).map(|handle| BTreeMap::from([(Name::full_edition(), handle)]))
            }
            raw::Handles::Each(each) => {
                let known: Vec<&str> =
                    std::iter::once("full").chain(config.editions.keys().map(String::as_str)).collect();
                let mut handles = BTreeMap::new();
                for (edition, text) in each {
                    let at = [at, &[K(edition)]].concat();
                    let edition = self.known(&at, edition, Referred::Edition, &known);
                    if let (Some(edition), Some(handle)) = (edition, self.parse::<Handle>(&at, text, fix)) {
                        if handles.values().any(|h| *h == handle) {
                            let what =
                                format!("two editions have the handle {handle:?} there", handle = handle.as_str());
                            self.stop(&at, Code::DuplicateHandle, what, "each edition is a title of its own");
                        }
                        handles.insert(edition, handle);
                    }
                }
                if each.is_empty() {
                    self.stop(at, Code::EmptyValue, "no edition has a handle there", fix);
                }
                Some(handles)
            }
        }
    }

    fn depot_handles(
        &mut self,
        at: &[ConfigKey<'_>],
        raw: &raw::Protocol,
        config: &raw::Config,
    ) -> BTreeMap<Name, Handle> {
        let known = depots_of(config, None);
        let known: Vec<&str> = known.iter().map(String::as_str).collect();
        let mut depots = BTreeMap::new();
        for (name, theirs) in &raw.depots {
            let depot_at = [at, &[K("depots"), K(name)]].concat();
            let fix = "copy the depot's handle from the storefront";
            let name = self.known(&depot_at, name, Referred::Depot, &known);
            if let (Some(name), Some(handle)) = (name, self.parse::<Handle>(&depot_at, theirs, fix)) {
                if depots.values().any(|h| *h == handle) {
                    let what = format!("two depots have the handle {handle:?} there", handle = handle.as_str());
                    self.stop(&depot_at, Code::DuplicateHandle, what, "each depot needs a handle of its own");
                }
                depots.insert(name, handle);
            }
        }
        for name in depots_of(config, Some(raw)).iter().filter(|name| !raw.depots.contains_key(*name)) {
            let what = format!("the depot {name:?} has no handle at this storefront");
            let fix = format!("add the storefront's handle: depots = {{ {name} = \"…\" }}");
            let depots_at = [at, &[K("depots")]].concat();
            let here = if raw.depots.is_empty() { at.to_vec() } else { depots_at };
            self.stop(&here, Code::NoHandle, what, fix);
        }
        depots
    }

    /// What a branch needs.
    fn needs(&mut self, at: &[ConfigKey<'_>], raw: &raw::Branch, config: &raw::Config) -> Needs {
        let below = |key: &'static str| -> Vec<ConfigKey<'_>> { [at, &[K(key)]].concat() };
        let has = |need: raw::Need| raw.needs.contains(&need);
        let known: Vec<&str> = config.targets.keys().map(String::as_str).collect();
        let mut of = BTreeSet::new();
        for (i, text) in raw.trial_of.iter().enumerate() {
            let at = [at, &[K("trial-of"), ConfigKey::Item(i)]].concat();
            of.extend(self.known(&at, text, Referred::Target, &known));
        }
        if !raw.trial_of.is_empty() && !has(raw::Need::Trial) {
            let fix = "add it: needs = [\"trial\"]";
            self.stop(&below("trial-of"), Code::InconsistentValues, "no trial is needed for this branch", fix);
        }
        if has(raw::Need::LastLook) && config.last_look.questions.is_empty() {
            let fix = "write questions = [\"…\"] into [last-look]";
            self.stop(&below("needs"), Code::InconsistentValues, "the last look has no questions", fix);
        }
        Needs { trial: has(raw::Need::Trial).then_some(of), last_look: has(raw::Need::LastLook) }
    }
}

/// Returns the names of all depots that there will be; of a storefront only those that go there.
fn depots_of(config: &raw::Config, storefront: Option<&raw::Protocol>) -> BTreeSet<String> {
    let goes_there = |name: &str, target: &raw::Target| {
        let edition = target.edition.as_deref().unwrap_or("full");
        storefront.is_none_or(|storefront| {
            let has_edition = match &storefront.handle {
                raw::Handles::One(_) => edition == "full",
                raw::Handles::Each(each) => each.contains_key(edition),
            };
            has_edition && (storefront.targets.is_empty() || storefront.targets.iter().any(|t| t == name))
        })
    };
    let targets = config.targets.iter().filter(|(name, target)| goes_there(name, target)).map(|(name, _)| name);
    let mut names = BTreeSet::new();
    for target in targets {
        let rules = config.depots.iter().filter(|(_, depot)| depot.from.has(target));
        let before = names.len();
        names.extend(rules.map(|(name, _)| name.clone()));
        if names.len() == before {
            names.insert(target.clone());
        }
    }
    names
}
