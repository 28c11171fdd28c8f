//! `lantern.toml`: its shape, its checks, and what it comes to.
//!
//! Three parts, one source of truth: [`raw`] is the shape as serde types, from which the JSON Schema is made;
//! a walk of the text against that schema finds every unknown key and wrong type in one go; [`Config::read`]
//! then checks the values. The resolved types hold nothing that is not valid.

pub mod raw;
mod shape;

use std::collections::BTreeMap;

use crate::digest::InputDigest;
use crate::finding::{Finding, Severity, TextPlace};
use crate::names::{Handle, Identity, Name};
use crate::patterns::Patterns;
use crate::system::System;
use crate::version::Version;

pub use shape::ConfigKey;

/// The file's name.
pub const FILE_NAME: &str = "lantern.toml";
/// Largest configuration accepted, in bytes. Ours: a real one has a few thousand.
pub const MAX_CONFIG_LEN: u64 = 1024 * 1024;

/// A whole, valid configuration.
#[derive(Debug, Clone)]
pub struct Config {
    /// What is published.
    pub game: Game,
    /// By name.
    pub targets: BTreeMap<Name, Target>,
    /// By name.
    pub storefronts: BTreeMap<Name, Storefront>,
}

/// `[game]`.
#[derive(Debug, Clone)]
pub struct Game {
    /// As players know it.
    pub name: String,
    /// Who makes it.
    pub studio: String,
    /// Reverse-domain.
    pub identity: Identity,
    /// Where the version stands.
    pub version: VersionSource,
}

/// Where the version stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum VersionSource {
    /// In the configuration.
    Here(Version),
    /// In a text file of its own, relative to the configuration.
    File(String),
}

/// `[targets.NAME]`.
#[derive(Debug, Clone)]
pub struct Target {
    /// The systems it says it is for; empty: to be seen from the start file.
    pub systems: Vec<System>,
    /// The export, relative to the configuration.
    pub export: String,
    /// The start file and its arguments; none: to be seen from the export.
    pub starts: Option<TargetStart>,
    /// What stays out.
    pub leave_out: Patterns,
    /// What must be there, each at least once.
    pub must_have: Patterns,
    /// What is executable although its content does not show it.
    pub executable: Patterns,
}

/// A start file as configured.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TargetStart {
    /// Path in the export.
    pub file: String,
    /// What it is called with.
    pub arguments: Vec<String>,
}

/// `[storefronts.NAME]`.
#[derive(Debug, Clone)]
pub struct Storefront {
    /// Scheme, host and port, without a slash at the end.
    pub address: String,
    /// What the place calls the title.
    pub handle: Handle,
    /// Our depots' names there.
    pub depots: BTreeMap<Name, Handle>,
    /// The branches that are used there.
    pub branches: BTreeMap<Name, Audience>,
}

pub use raw::Audience;

impl Config {
    /// Reads and checks a configuration; `file` is how the file is named in findings.
    ///
    /// # Errors
    /// Every finding that stops, in the order of the text; never empty.
    pub fn read(file: &str, text: &str) -> Result<Self, Vec<Finding>> {
        let shape = shape::Shape::read(text);
        let mut check = Check { file, text, shape: &shape, findings: Vec::new() };
        for problem in &shape.problems {
            check.findings.push(
                Finding::stops(problem.code, problem.what.clone(), problem.cure.clone()).at(TextPlace::of(
                    file,
                    text,
                    problem.span.clone(),
                )),
            );
        }
        let raw: Option<raw::Config> = if check.findings.is_empty() {
            match toml::from_str(text) {
                Ok(raw) => Some(raw),
                Err(error) => {
                    let place = TextPlace::of(file, text, error.span().unwrap_or(0..0));
                    let cure = "compare with the example in docs/configuration.md";
                    check.findings.push(Finding::stops("wrong-shape", error.message().to_owned(), cure).at(place));
                    None
                }
            }
        } else {
            None
        };
        let config = raw.and_then(|raw| check.resolve(raw));
        let mut findings = check.findings;
        match config {
            Some(config) if findings.is_empty() => Ok(config),
            _ => {
                findings.sort_by_key(|f| f.place.as_ref().map_or((0, 0), |p| (p.line, p.column)));
                Err(findings)
            }
        }
    }

    /// Returns where a value stands in the text; where it does not stand, the nearest thing above it that does.
    pub fn place(file: &str, text: &str, way: &[ConfigKey<'_>]) -> TextPlace {
        TextPlace::of(file, text, shape::Shape::read(text).span(way))
    }

    /// Returns the JSON Schema (2020-12) of the file, for editors.
    pub fn schema() -> serde_json::Value {
        shape::schema()
    }

    /// Returns the digest of everything that decides a release's content and record, except its number.
    ///
    /// `targets` holds each target's name with its systems, start and tree as they were seen.
    pub fn input_digest(
        game: &Identity,
        edition: &Name,
        version: &Version,
        targets: &[crate::release::TargetRecord],
    ) -> InputDigest {
        let whole = serde_json::json!({
            "format": "lantern.input/1",
            "game": game, "edition": edition, "version": version, "targets": targets,
        });
        InputDigest::of(whole.to_string().as_bytes())
    }
}

struct Check<'a> {
    file: &'a str,
    text: &'a str,
    shape: &'a shape::Shape,
    findings: Vec<Finding>,
}

impl Check<'_> {
    fn stop(&mut self, at: &[ConfigKey<'_>], code: &str, what: impl Into<String>, cure: impl Into<String>) {
        let place = TextPlace::of(self.file, self.text, self.shape.span(at));
        self.findings.push(Finding { severity: Severity::Stops, ..Finding::stops(code, what, cure) }.at(place));
    }

    /// Reads a text into a checked type; the error's own words say what is expected.
    fn parse<T>(&mut self, at: &[ConfigKey<'_>], text: &str, cure: &str) -> Option<T>
    where
        T: std::str::FromStr,
        T::Err: std::fmt::Display,
    {
        if let Some(mark) = placeholder(text) {
            self.stop(at, "placeholder", format!("{mark:?} was never filled in"), cure);
            return None;
        }
        match text.parse() {
            Ok(value) => Some(value),
            Err(error) => {
                self.stop(at, "wrong-value", error.to_string(), cure);
                None
            }
        }
    }

    fn patterns(&mut self, at: &[ConfigKey<'_>], texts: &[String]) -> Option<Patterns> {
        for (i, text) in texts.iter().enumerate() {
            let at = [at, &[ConfigKey::Item(i)]].concat();
            if text.contains('\\') {
                let cure = format!("write {:?}", text.replace('\\', "/"));
                self.stop(&at, "backslash", "paths use \"/\" on every system", cure);
                return None;
            }
            if let Err(error) = Patterns::new([text.as_str()]) {
                let cure = "a pattern is a path with * (within a name), ** (any folders), ? and [a-z]";
                self.stop(&at, "wrong-pattern", error.to_string(), cure);
                return None;
            }
        }
        Patterns::new(texts.iter().map(String::as_str)).ok()
    }

    fn path(&mut self, at: &[ConfigKey<'_>], text: &str) -> Option<String> {
        if let Some(mark) = placeholder(text) {
            self.stop(at, "placeholder", format!("{mark:?} was never filled in"), "write the path");
        } else if text.contains('\\') {
            let cure = format!("write {:?}", text.replace('\\', "/"));
            self.stop(at, "backslash", "paths use \"/\" on every system", cure);
        } else if text.trim().is_empty() {
            self.stop(at, "empty", "a path is missing here", "write the path");
        } else {
            return Some(text.to_owned());
        }
        None
    }

    fn words(&mut self, at: &[ConfigKey<'_>], text: &str) -> Option<String> {
        if let Some(mark) = placeholder(text) {
            self.stop(at, "placeholder", format!("{mark:?} was never filled in"), "write the name that players see");
        } else if text.trim().is_empty() || text.chars().any(char::is_control) {
            self.stop(
                at,
                "empty",
                "a name is missing here, or holds control characters",
                "write the name that players see",
            );
        } else {
            return Some(text.to_owned());
        }
        None
    }

    fn resolve(&mut self, raw: raw::Config) -> Option<Config> {
        use ConfigKey::Key as K;
        let game = {
            let name = self.words(&[K("game"), K("name")], &raw.game.name);
            let studio = self.words(&[K("game"), K("studio")], &raw.game.studio);
            let identity = self.parse(
                &[K("game"), K("identity")],
                &raw.game.identity,
                "write the reverse-domain identity that the game keeps for ever",
            );
            let version = match &raw.game.version {
                raw::Version::Text(text) => self
                    .parse(&[K("game"), K("version")], text, "write a version such as \"1.4.0\"")
                    .map(VersionSource::Here),
                raw::Version::File { file } => {
                    self.path(&[K("game"), K("version"), K("file")], file).map(VersionSource::File)
                }
            };
            (|| Some(Game { name: name?, studio: studio?, identity: identity?, version: version? }))()
        };
        if raw.targets.is_empty() {
            let cure = "add [targets.linux] with the export's folder: export = \"exports/linux\"";
            self.stop(&[K("targets")], "no-target", "there is no target", cure);
        }
        let mut targets = BTreeMap::new();
        for (name, target) in &raw.targets {
            let at = [K("targets"), K(name)];
            let key = self.parse::<Name>(&at, name, "rename the target");
            let value = self.target(&at, target);
            if let (Some(key), Some(value)) = (key, value) {
                targets.insert(key, value);
            }
        }
        let mut storefronts = BTreeMap::new();
        for (name, storefront) in &raw.storefronts {
            let at = [K("storefronts"), K(name)];
            let key = self.parse::<Name>(&at, name, "rename the storefront");
            let value = self.storefront(&at, storefront, &raw.targets);
            if let (Some(key), Some(value)) = (key, value) {
                storefronts.insert(key, value);
            }
        }
        Some(Config { game: game?, targets, storefronts })
    }

    fn target(&mut self, at: &[ConfigKey<'_>], raw: &raw::Target) -> Option<Target> {
        use ConfigKey::Key as K;
        let below = |keys: &[ConfigKey<'static>]| -> Vec<ConfigKey<'_>> { [at, keys].concat() };
        let export = self.path(&below(&[K("export")]), &raw.export);
        let mut systems = Vec::new();
        for (i, text) in raw.systems.iter().enumerate() {
            let at = below(&[K("systems"), ConfigKey::Item(i)]);
            let known = System::ALL.map(System::name);
            let cure = match crate::names::nearest(text, known) {
                Some(near) => format!("did you mean {near:?}? This lantern knows {}", known.join(", ")),
                None => format!("this lantern knows {}", known.join(", ")),
            };
            if let Some(system) = self.parse::<System>(&at, text, &cure) {
                if systems.contains(&system) {
                    self.stop(&at, "twice", format!("{system} stands twice"), "remove one of them");
                }
                systems.push(system);
            }
        }
        let starts = match &raw.starts {
            None => Some(None),
            Some(raw::Starts::File(file)) => {
                self.path(&below(&[K("starts")]), file).map(|file| Some(TargetStart { file, arguments: Vec::new() }))
            }
            Some(raw::Starts::Full { file, arguments }) => self
                .path(&below(&[K("starts"), K("file")]), file)
                .map(|file| Some(TargetStart { file, arguments: arguments.clone() })),
        };
        let leave_out = self.patterns(&below(&[K("leave-out")]), &raw.leave_out);
        let must_have = self.patterns(&below(&[K("must-have")]), &raw.must_have);
        let executable = self.patterns(&below(&[K("executable")]), &raw.executable);
        Some(Target {
            systems,
            export: export?,
            starts: starts?,
            leave_out: leave_out?,
            must_have: must_have?,
            executable: executable?,
        })
    }

    fn storefront(
        &mut self,
        at: &[ConfigKey<'_>],
        raw: &raw::Storefront,
        targets: &BTreeMap<String, raw::Target>,
    ) -> Option<Storefront> {
        use ConfigKey::Key as K;
        let address_at = [at, &[K("address")]].concat();
        let address = match crate::address::Address::parse(&raw.address) {
            Ok(address) => Some(address.to_string()),
            Err(error) => {
                self.stop(&address_at, "wrong-address", error.to_string(), error.cure());
                None
            }
        };
        let handle = self.parse(
            &[at, &[K("handle")]].concat(),
            &raw.handle,
            "copy the handle from the place; it is never guessed from the name",
        );
        let mut depots = BTreeMap::new();
        let ours: Vec<&str> = targets.keys().map(String::as_str).collect();
        for (name, theirs) in &raw.depots {
            let depot_at = [at, &[K("depots"), K(name)]].concat();
            if !targets.contains_key(name) {
                let cure = match crate::names::nearest(name, ours.iter().copied()) {
                    Some(near) => format!("did you mean {near:?}?"),
                    None => format!("there are {}; each target is one depot of its name", ours.join(", ")),
                };
                self.stop(&depot_at, "unknown-depot", format!("there is no depot {name:?}"), cure);
                continue;
            }
            let cure = "copy the depot's handle from the place";
            if let (Ok(name), Some(handle)) = (name.parse::<Name>(), self.parse::<Handle>(&depot_at, theirs, cure)) {
                if depots.values().any(|h| *h == handle) {
                    let what = format!("two depots have the handle {handle:?} there", handle = handle.as_str());
                    self.stop(&depot_at, "handle-twice", what, "each depot needs a handle of its own");
                }
                depots.insert(name, handle);
            }
        }
        for name in targets.keys().filter(|name| !raw.depots.contains_key(*name)) {
            let what = format!("the depot {name:?} has no handle at this storefront");
            let cure = format!("add the place's handle: depots = {{ {name} = \"…\" }}");
            let depots_at = [at, &[K("depots")]].concat();
            let here = if raw.depots.is_empty() { at.to_vec() } else { depots_at };
            self.stop(&here, "no-handle", what, cure);
        }
        let mut branches = BTreeMap::new();
        for (name, branch) in &raw.branches {
            let branch_at = [at, &[K("branches"), K(name)]].concat();
            if let Some(name) = self.parse::<Name>(&branch_at, name, "rename the branch as the place calls it") {
                branches.insert(name, branch.audience);
            }
        }
        Some(Storefront { address: address?, handle: handle?, depots, branches })
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

#[cfg(test)]
mod tests;
