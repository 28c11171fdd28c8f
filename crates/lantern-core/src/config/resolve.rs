//! The values of `lantern.toml`: each is checked, and reported with its place and fix.

mod approvals;
mod signers;
mod storefronts;
mod targets;

use std::collections::{BTreeMap, BTreeSet};

use jiff::SignedDuration;

use super::shape::{MAX_PROBLEMS, Shape};
use super::{Accept, Config, ConfigKey, Device, Edition, EditionKind, Game, VersionSource, raw};
use crate::choices::{BY_LANGUAGE, Choices, DefaultOption, NO_OPTION, Players};
use crate::depots::Rule;
use crate::finding::{Code, Finding, Severity, TextPlace, one_of};
use crate::names::{Identity, Name, is_placeholder_identity};
use crate::notes::is_language;
use crate::path::{TreePath, shown};
use crate::patterns::Patterns;
use crate::step::length_of_time;
use crate::system::System;
use crate::template::{DEVICE, Template};

use ConfigKey::Key as K;

/// Reads a configuration as far as it can be read, with everything that is wrong with it.
pub(super) fn read(file: &str, text: &str) -> (Option<Config>, Vec<Finding>) {
    let mut shape = Shape::read(text);
    let mut findings = shape.findings(file, text);
    if shape.problems.len() > MAX_PROBLEMS {
        // Nobody reads on from here: something else than a configuration was saved under this name.
        let more = shape.problems.len() - MAX_PROBLEMS;
        let what = format!("and {more} more; is this the right file?");
        let fix = "compare with the example in docs/configuration.md";
        findings.push(Finding::of(Code::TooManyFindings, what, fix));
        return (None, findings);
    }
    let raw = shape.values((file, text), "docs/configuration.md", &mut findings);
    let mut check = Check { file, text, shape: &shape, findings };
    let config = raw.and_then(|raw| check.resolve(raw));
    (config, check.findings)
}

/// What a name in one place of the file refers to in another.
#[derive(Clone, Copy)]
enum Referred {
    Target,
    Edition,
    Depot,
    Choice,
    Option,
}

impl Referred {
    fn word_and_code(self) -> (&'static str, Code) {
        match self {
            Self::Target => ("target", Code::UnknownTarget),
            Self::Edition => ("edition", Code::UnknownEdition),
            Self::Depot => ("depot", Code::UnknownDepot),
            Self::Choice => ("choice", Code::UnknownChoice),
            Self::Option => ("option", Code::UnknownOption),
        }
    }
}

struct Check<'a> {
    file: &'a str,
    text: &'a str,
    shape: &'a Shape<'a>,
    findings: Vec<Finding>,
}

impl Check<'_> {
    fn stop(&mut self, at: &[ConfigKey<'_>], code: Code, what: impl Into<String>, fix: impl Into<String>) {
        // What was put in the place of a wrong or missing value has been reported already.
        if self.shape.is_replaced(at) {
            return;
        }
        let place = TextPlace::of(self.file, self.text, self.shape.span(at));
        self.findings.push(Finding::of(code, what, fix).with_severity(Severity::Error).at(place));
    }

    /// Reads a text into a checked type; the error's own words say what is expected.
    fn parse<T>(&mut self, at: &[ConfigKey<'_>], text: &str, fix: &str) -> Option<T>
    where
        T: std::str::FromStr,
        T::Err: std::fmt::Display,
    {
        if let Some(mark) = placeholder(text) {
            self.stop(at, Code::Placeholder, format!("{mark:?} was never filled in"), fix);
            return None;
        }
        match text.parse() {
            Ok(value) => Some(value),
            Err(error) => {
                self.stop(at, Code::WrongValue, error.to_string(), fix);
                None
            }
        }
    }

    fn patterns(&mut self, at: &[ConfigKey<'_>], texts: &[String]) -> Option<Patterns> {
        for (i, text) in texts.iter().enumerate() {
            let at = [at, &[ConfigKey::Item(i)]].concat();
            if text.contains('\\') {
                let fix = format!("write {:?}", text.replace('\\', "/"));
                self.stop(&at, Code::Backslash, "paths use \"/\" on every system", fix);
                return None;
            }
            if let Err(error) = Patterns::new([text.as_str()]) {
                let fix = "a pattern is a path with * (within a name), ** (any folders), ? and [a-z]";
                self.stop(&at, Code::WrongPattern, error.to_string(), fix);
                return None;
            }
        }
        Patterns::new(texts.iter().map(String::as_str)).ok()
    }

    fn path(&mut self, at: &[ConfigKey<'_>], text: &str) -> Option<String> {
        if let Some(mark) = placeholder(text) {
            self.stop(at, Code::Placeholder, format!("{mark:?} was never filled in"), "write the path");
        } else if text.contains('\\') {
            let fix = format!("write {:?}", text.replace('\\', "/"));
            self.stop(at, Code::Backslash, "paths use \"/\" on every system", fix);
        } else if text.trim().is_empty() {
            self.stop(at, Code::EmptyValue, "a path is missing here", "write the path");
        } else {
            return Some(text.to_owned());
        }
        None
    }

    fn words(&mut self, at: &[ConfigKey<'_>], text: &str) -> Option<String> {
        if let Some(mark) = placeholder(text) {
            self.stop(
                at,
                Code::Placeholder,
                format!("{mark:?} was never filled in"),
                "write the name that players see",
            );
        } else if text.trim().is_empty() || text.chars().any(char::is_control) {
            self.stop(
                at,
                Code::EmptyValue,
                "a name is missing here, or contains control characters",
                "write the name that players see",
            );
        } else {
            return Some(text.to_owned());
        }
        None
    }

    fn resolve(&mut self, raw: raw::Config) -> Option<Config> {
        let game = self.game(&raw.game);
        // What is wrong in [game] must not keep the rest from being looked at.
        let game = game.unwrap_or_else(|| Game {
            name: String::new(),
            studio: String::new(),
            identity: "not.known".parse().expect("two parts with a dot"),
            version: VersionSource::Here("0".parse().expect("a digit")),
        });
        let editions = self.editions(&game, &raw.editions);
        if raw.targets.is_empty() {
            let fix = "add [targets.linux] with the export's folder: export = \"exports/linux\"";
            self.stop(&[K("targets")], Code::NoTarget, "there is no target", fix);
        }
        let known: Vec<&str> = std::iter::once("full").chain(raw.editions.keys().map(String::as_str)).collect();
        let mut targets = BTreeMap::new();
        for (name, target) in &raw.targets {
            let at = [K("targets"), K(name)];
            let key = self.parse::<Name>(&at, name, "rename the target");
            let before = self.findings.len();
            let value = self.target(&at, target, &raw.editions, &known);
            let is_clean = self.findings.len() == before && !self.shape.has_replaced(&["targets", name]);
            if let (Some(key), Some(value), true) = (key, value, is_clean) {
                targets.insert(key, value);
            }
        }
        let choices = self.choices(&raw);
        let add_ons = self.add_ons(&raw);
        let mut depots = Vec::new();
        for (name, depot) in &raw.depots {
            let at = [K("depots"), K(name)];
            let key = self.parse::<Name>(&at, name, "rename the depot");
            let add_on = add_ons.get(name.as_str()).cloned();
            depots.extend(key.and_then(|key| self.depot(&at, key, depot, add_on, &raw)));
        }
        self.depots_named_twice(&raw);
        let mut storefronts = BTreeMap::new();
        for (name, storefront) in &raw.storefronts {
            let at = [K("storefronts"), K(name)];
            let key = self.parse::<Name>(&at, name, "rename the storefront");
            let value = self.storefront(&at, storefront, &raw);
            if let (Some(key), Some(value)) = (key, value) {
                storefronts.insert(key, value);
            }
        }
        let accept = self.accepts(&raw);
        let stop = self.stopping(&raw);
        let last_look = self.last_look(&raw);
        let devices = self.devices(&raw);
        let signers = self.signers(&raw);
        let approvals = self.approvals(&raw);
        let time_stamps = raw.time_stamps.as_ref().and_then(|raw| self.time_stamps(raw));
        let statement = raw.sealing.statement.as_ref().and_then(|key| {
            self.parse(&[K("sealing"), K("statement")], key, "write the key's name, as lantern key list shows it")
        });
        let pins = self.pins(&raw);
        Some(Config {
            game,
            editions,
            targets,
            choices,
            depots,
            storefronts,
            accept,
            stop,
            last_look,
            devices,
            signers,
            approvals,
            compression: raw.sealing.compression,
            statement,
            time_stamps,
            pins,
        })
    }

    fn devices(&mut self, raw: &raw::Config) -> BTreeMap<Name, Device> {
        let mut devices = BTreeMap::new();
        for (name, device) in &raw.devices {
            let at = [K("devices"), K(name)];
            let key = self.parse::<Name>(&at, name, "rename the device");
            let systems = self.systems(&[at.as_slice(), &[K("systems")]].concat(), &device.systems);
            let run_at = [at.as_slice(), &[K("run")]].concat();
            self.has_program(&run_at, &device.run, "run = [\"devices/try.sh\", \"{file}\"]");
            let mut run = Vec::new();
            for (i, text) in device.run.iter().enumerate() {
                match Template::read(text, &DEVICE) {
                    Ok(template) => run.push(template),
                    Err(error) => {
                        let at = [run_at.as_slice(), &[ConfigKey::Item(i)]].concat();
                        self.stop(&at, Code::WrongValue, error.to_string(), error.fix());
                    }
                }
            }
            devices.extend(key.map(|key| (key, Device { systems, run })));
        }
        devices
    }

    /// Whether a command names a program.
    fn has_program(&mut self, at: &[ConfigKey<'_>], run: &[String], example: &str) -> bool {
        let has = run.first().is_some_and(|program| !program.trim().is_empty());
        if !has {
            let fix = format!("write the program, then its arguments: {example}");
            self.stop(at, Code::EmptyValue, "a program is missing here", fix);
        }
        has
    }

    fn last_look(&mut self, raw: &raw::Config) -> Vec<String> {
        let mut questions: Vec<String> = Vec::new();
        for (i, question) in raw.last_look.questions.iter().enumerate() {
            let at = [K("last-look"), K("questions"), ConfigKey::Item(i)];
            if questions.contains(question) {
                self.stop(&at, Code::ListedTwice, "this question is asked twice", "remove one of them");
            }
            questions.extend(self.words(&at, question));
        }
        questions
    }

    fn accepts(&mut self, raw: &raw::Config) -> Vec<Accept> {
        let targets: Vec<&str> = raw.targets.keys().map(String::as_str).collect();
        let mut out = Vec::new();
        for (i, accept) in raw.checks.accept.iter().enumerate() {
            let at = [K("checks"), K("accept"), ConfigKey::Item(i)];
            let below = |key| [at.as_slice(), &[K(key)]].concat();
            if accept.because.trim().is_empty() {
                self.stop(&below("because"), Code::EmptyValue, "a reason is missing here", "give the reason");
            }
            let code = self.code(&below("code"), &accept.code);
            let target = self.optional(accept.target.as_ref(), |check, name| {
                check.known(&below("target"), name, Referred::Target, &targets)
            });
            let until = self.optional(accept.until.as_ref(), |check, text| {
                check.parse::<Day>(&below("until"), text, "write a day such as \"2027-03-01\"").map(|day| day.0)
            });
            let path = self.optional(accept.path.as_ref(), |check, text| {
                check.patterns(&below("path"), std::slice::from_ref(text))
            });
            if let (Some(code), Some(target), Some(until), Some(path)) = (code, target, until, path) {
                let because = accept.because.clone();
                out.push(Accept { code, because, target, path, until });
            }
        }
        out
    }

    /// The codes of warnings that stop here.
    fn stopping(&mut self, raw: &raw::Config) -> BTreeSet<Code> {
        let codes = raw.checks.stop.iter().enumerate();
        codes.filter_map(|(i, code)| self.code(&[K("checks"), K("stop"), ConfigKey::Item(i)], code)).collect()
    }

    fn code(&mut self, at: &[ConfigKey<'_>], text: &str) -> Option<Code> {
        let code = text.parse().ok();
        if code.is_none() {
            let what = format!("no finding has the code {:?}", shown(text));
            let fix = match Code::nearest(text) {
                Some(near) => format!("did you mean \"{near}\"?"),
                None => "write the code that the finding shows in brackets".to_owned(),
            };
            self.stop(at, Code::UnknownCode, what, fix);
        }
        code
    }

    fn game(&mut self, raw: &raw::Game) -> Option<Game> {
        let name = self.words(&[K("game"), K("name")], &raw.name);
        let studio = self.words(&[K("game"), K("studio")], &raw.studio);
        let identity = self.identity(&[K("game"), K("identity")], &raw.identity);
        let version = self.version(&[K("game"), K("version")], &raw.version);
        Some(Game { name: name?, studio: studio?, identity: identity?, version: version? })
    }

    fn identity(&mut self, at: &[ConfigKey<'_>], text: &str) -> Option<Identity> {
        let fix = "write the reverse-domain identity that the game keeps forever";
        let identity = self.parse::<Identity>(at, text, fix)?;
        if is_placeholder_identity(&identity) {
            self.stop(at, Code::Placeholder, format!("{text:?} was never filled in"), fix);
            return None;
        }
        Some(identity)
    }

    fn version(&mut self, at: &[ConfigKey<'_>], raw: &raw::Version) -> Option<VersionSource> {
        match raw {
            raw::Version::Text(text) => {
                self.parse(at, text, "write a version such as \"1.4.0\"").map(VersionSource::Here)
            }
            raw::Version::File { file } => self.path(&[at, &[K("file")]].concat(), file).map(VersionSource::File),
        }
    }

    fn editions(&mut self, game: &Game, raw: &BTreeMap<String, raw::Edition>) -> BTreeMap<Name, Edition> {
        let full = Edition {
            name: game.name.clone(),
            kind: EditionKind::Game,
            identity: game.identity.clone(),
            version: game.version.clone(),
        };
        let mut editions = BTreeMap::from([(Name::full_edition(), full)]);
        for (name, edition) in raw {
            let at = [K("editions"), K(name)];
            let below = |key| [at.as_slice(), &[K(key)]].concat();
            if name == Name::full_edition().as_str() {
                self.stop(&at, Code::EditionFull, "the full edition is the game itself", "write it in [game]");
                continue;
            }
            if name == NO_OPTION {
                let what =
                    format!("{name:?} is not a name for an edition: install --add-on {name} has a meaning of its own");
                self.stop(&at, Code::WrongValue, what, "rename the edition");
                continue;
            }
            let key = self.parse::<Name>(&at, name, "rename the edition");
            let shown = self.words(&below("name"), &edition.name);
            let identity = match &edition.identity {
                Some(text) => self.identity(&below("identity"), text),
                None => Some(game.identity.clone()),
            };
            let version = match &edition.version {
                Some(version) => self.version(&below("version"), version),
                None => Some(game.version.clone()),
            };
            if let (Some(key), Some(name), Some(identity), Some(version)) = (key, shown, identity, version) {
                editions.insert(key, Edition { name, kind: edition.kind, identity, version });
            }
        }
        editions
    }

    /// Reads the name of something that stands elsewhere in the file.
    fn known(&mut self, at: &[ConfigKey<'_>], text: &str, kind: Referred, known: &[&str]) -> Option<Name> {
        if known.contains(&text) {
            return self.parse(at, text, "rename it");
        }
        let (what, code) = kind.word_and_code();
        let fix = match crate::names::nearest(text, known.iter().copied()) {
            Some(near) => format!("did you mean {near:?}?"),
            None if known.is_empty() => format!("there is no {what} yet"),
            None => one_of(known),
        };
        self.stop(at, code, format!("there is no {what} {:?}", shown(text)), fix);
        None
    }

    fn systems(&mut self, at: &[ConfigKey<'_>], texts: &[String]) -> Vec<System> {
        let mut systems = Vec::new();
        for (i, text) in texts.iter().enumerate() {
            let at = [at, &[ConfigKey::Item(i)]].concat();
            let fix = if text.parse::<System>().is_ok() { String::new() } else { known_systems(text) };
            if let Some(system) = self.parse::<System>(&at, text, &fix) {
                if systems.contains(&system) {
                    self.stop(&at, Code::ListedTwice, format!("{system} is listed twice"), "remove one of them");
                }
                systems.push(system);
            }
        }
        systems
    }

    /// Checks a value where there is one; none only when there is one and it is wrong.
    fn optional<V, T>(&mut self, value: Option<V>, check: impl FnOnce(&mut Self, V) -> Option<T>) -> Option<Option<T>> {
        match value {
            None => Some(None),
            Some(value) => check(self, value).map(Some),
        }
    }

    /// A length of time, such as "2 hours".
    fn length_of_time(&mut self, at: &[ConfigKey<'_>], text: &str, example: &str) -> Option<SignedDuration> {
        let time = length_of_time(text);
        if time.is_none() {
            let fix = format!("write it such as: {example:?}");
            self.stop(at, Code::WrongValue, format!("{text:?} is not a length of time"), fix);
        }
        time
    }

    /// A path within a build.
    fn tree_path(&mut self, at: &[ConfigKey<'_>], text: &str, fix: &str) -> Option<TreePath> {
        let text = self.path(at, text)?;
        match TreePath::new(text) {
            Ok(path) => Some(path),
            Err(error) => {
                self.stop(at, Code::WrongValue, error.to_string(), fix);
                None
            }
        }
    }

    /// `[choices]`: the options of each are what depots name.
    fn choices(&mut self, raw: &raw::Config) -> Choices {
        let mut choices = Choices::new();
        for (name, choice) in &raw.choices {
            let at = [K("choices"), K(name)];
            let key = self.parse::<Name>(&at, name, "rename the choice");
            let options: Vec<&str> =
                raw.depots.values().filter_map(|d| d.choice.get(name)).map(String::as_str).collect();
            if options.is_empty() {
                let what = format!("no depot is for an option of the choice {:?}", shown(name));
                let fix = format!("write choice = {{ {name} = \"…\" }} into a depot, or remove the choice");
                self.stop(&at, Code::ChoiceEmpty, what, fix);
            }
            let default_at = [K("choices"), K(name), K("default")];
            let default = match choice.default.as_deref() {
                None | Some(NO_OPTION) => Some(DefaultOption::None),
                Some(BY_LANGUAGE) => Some(DefaultOption::ByLanguage),
                Some(option) => self.known(&default_at, option, Referred::Option, &options).map(DefaultOption::Option),
            };
            if let (Some(key), Some(default)) = (key, default) {
                choices.insert(key, default);
            }
        }
        choices
    }

    /// The depots that add-ons bring, each with its add-on.
    fn add_ons<'r>(&mut self, raw: &'r raw::Config) -> BTreeMap<&'r str, Name> {
        let known: Vec<&str> = raw.depots.keys().map(String::as_str).collect();
        let mut brought = BTreeMap::new();
        for (name, edition) in raw.editions.iter().filter(|(_, edition)| !edition.depots.is_empty()) {
            let Ok(add_on) = name.parse::<Name>() else { continue };
            let list_at = [K("editions"), K(name), K("depots")];
            if edition.kind != EditionKind::AddOn {
                let fix = "write kind = \"add-on\", or give the edition targets of its own";
                self.stop(&list_at, Code::InconsistentValues, "only an add-on brings depots of the game", fix);
            }
            for (i, depot) in edition.depots.iter().enumerate() {
                let at = [&list_at[..], &[ConfigKey::Item(i)]].concat();
                if self.known(&at, depot, Referred::Depot, &known).is_none() {
                    continue;
                }
                let is_own =
                    |target: &String| raw.targets.get(target).is_some_and(|t| t.edition.as_ref() == Some(name));
                if raw.depots.get(depot).is_some_and(|depot| depot.from.names().iter().any(is_own)) {
                    let what = format!("the depot {depot} is of a target of {name} itself");
                    let fix = "list depots of the game's targets; those of its own targets it has anyway";
                    self.stop(&at, Code::InconsistentValues, what, fix);
                }
                if let Some(other) = brought.insert(depot.as_str(), add_on.clone()) {
                    let what = format!("the depot {depot} is brought by {other} already");
                    self.stop(&at, Code::ListedTwice, what, "remove one of them");
                }
            }
        }
        brought
    }

    fn depot(
        &mut self,
        at: &[ConfigKey<'_>],
        name: Name,
        raw: &raw::Depot,
        add_on: Option<Name>,
        config: &raw::Config,
    ) -> Option<Rule> {
        let below = |key: &'static str| -> Vec<ConfigKey<'_>> { [at, &[K(key)]].concat() };
        let from = self.depot_from(&below("from"), &raw.from, config);
        let only = self.patterns(&below("only"), &raw.only);
        let leave_out = self.patterns(&below("leave-out"), &raw.leave_out);
        let known: Vec<&str> = config.choices.keys().map(String::as_str).collect();
        let mut players = Players { add_on, ..Players::default() };
        for (choice, option) in &raw.choice {
            let at = [at, &[K("choice"), K(choice)]].concat();
            if matches!(option.as_str(), NO_OPTION | BY_LANGUAGE) {
                let what = format!("{option:?} is not an option: it has a meaning of its own");
                self.stop(&at, Code::WrongValue, what, "call the option something else");
                continue;
            }
            let by_language = config.choices.get(choice).and_then(|c| c.default.as_deref()) == Some(BY_LANGUAGE);
            if by_language && !is_language(option) {
                let what = format!("{:?} is not a language, and players get {choice} by their language", shown(option));
                let fix = "write a language tag in lower case, such as \"fr\", \"ja\" or \"pt-br\"";
                self.stop(&at, Code::WrongValue, what, fix);
                continue;
            }
            let choice = self.known(&at, choice, Referred::Choice, &known);
            let fix = "an option has lower-case letters, digits, - and _; a language is written \"fr\" or \"pt-br\"";
            if let (Some(choice), Some(option)) = (choice, self.parse::<Name>(&at, option, fix)) {
                players.choice.insert(choice, option);
            }
        }
        Some(Rule { name, from: from?, only: only?, leave_out: leave_out?, players })
    }

    /// The targets that a depot takes its files from.
    fn depot_from(&mut self, at: &[ConfigKey<'_>], raw: &raw::DepotFrom, config: &raw::Config) -> Option<Vec<Name>> {
        let known: Vec<&str> = config.targets.keys().map(String::as_str).collect();
        let mut from: Vec<Name> = Vec::new();
        for (i, text) in raw.names().iter().enumerate() {
            let at = match raw {
                raw::DepotFrom::One(_) => at.to_vec(),
                raw::DepotFrom::Several(_) => [at, &[ConfigKey::Item(i)]].concat(),
            };
            let target = self.known(&at, text, Referred::Target, &known)?;
            if from.contains(&target) {
                self.stop(&at, Code::ListedTwice, format!("{target} is listed twice"), "remove one of them");
            }
            let edition = |name: &str| config.targets.get(name).and_then(|t| t.edition.as_deref()).unwrap_or("full");
            let of = edition(text);
            if let Some(other) = from.iter().find(|other| edition(other.as_str()) != of) {
                let what = format!("{target} is of the edition {of}, and {other} of {}", edition(other.as_str()));
                let fix = "a depot is shared within one edition; write one for each";
                self.stop(&at, Code::InconsistentValues, what, fix);
            }
            from.push(target);
        }
        if from.is_empty() {
            self.stop(
                at,
                Code::EmptyValue,
                "a target is missing here",
                "write from = \"windows\", or a list of targets",
            );
            return None;
        }
        Some(from)
    }

    /// A target without rules is a depot of its own name, which a rule for another target may not take.
    fn depots_named_twice(&mut self, raw: &raw::Config) {
        for (name, depot) in &raw.depots {
            let is_taken = raw.targets.contains_key(name)
                && !depot.from.has(name)
                && !raw.depots.values().any(|other| other.from.has(name));
            if is_taken {
                let what = format!("two depots have the name {name:?}: this one, and that of the target without rules");
                self.stop(&[K("depots"), K(name)], Code::DuplicateDepot, what, "rename this depot");
            }
        }
    }
}

/// Finds marks that people leave where a value is to come: `<…>`, `…`, words such as `CHANGE-ME`.
fn placeholder(text: &str) -> Option<&str> {
    let upper = text.to_uppercase();
    let marked = (text.starts_with('<') && text.ends_with('>'))
        || (text.starts_with("{{") && text.ends_with("}}"))
        || text == "…"
        || text == "..."
        || ["CHANGE-ME", "CHANGEME", "CHANGE_ME", "FILL-IN", "FILL_IN", "XXX", "TBD"].contains(&upper.as_str());
    marked.then_some(text)
}

/// A day, whose error is in words for people.
struct Day(jiff::civil::Date);

impl std::str::FromStr for Day {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        text.parse().map(Self).map_err(|_| format!("{text:?} is not a day"))
    }
}

/// The systems that there are, for someone who wrote another one.
fn known_systems(text: &str) -> String {
    let known: Vec<&str> = System::ALL.iter().map(System::name).collect();
    let all = known.join(", ");
    match crate::names::nearest(text, known.iter().copied()) {
        Some(near) => format!("did you mean {near:?}? This lantern knows {all}"),
        None => format!("this lantern knows {all}"),
    }
}
