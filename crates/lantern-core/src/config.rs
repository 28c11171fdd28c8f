//! `lantern.toml`: its shape, its checks, and what it comes to.
//!
//! Three parts, one source of truth: [`raw`] is the shape as serde types, from which the JSON Schema is made;
//! a walk of the text against that schema finds every unknown key and wrong type; then the values are checked, all in
//! one go. The resolved types hold nothing that is not valid.

pub mod raw;
mod resolve;
pub(crate) mod shape;

use std::collections::{BTreeMap, BTreeSet};

use crate::choices::Choices;
use crate::compression::Compression;
use crate::depots::Rule;
use crate::finding::{Code, Finding, TextPlace};
use crate::names::{FolderName, Handle, Identity, Name};
use crate::path::TreePath;
use crate::patterns::Patterns;
use crate::pins::Pins;
use crate::system::System;
use crate::template::Template;
use crate::version::Version;

pub use shape::ConfigKey;

/// The file's name.
pub const FILE_NAME: &str = "lantern.toml";
/// The folder beside it that is ours.
pub const STATE_FOLDER: &str = ".lantern";
/// Largest configuration accepted, in bytes. Ours: a real one has a few thousand.
pub const MAX_CONFIG_LEN: u64 = 1024 * 1024;

/// A whole, valid configuration.
#[derive(Debug, Clone)]
pub struct Config {
    /// What is published.
    pub game: Game,
    /// By name; the full one is always there.
    pub editions: BTreeMap<Name, Edition>,
    /// By name.
    pub targets: BTreeMap<Name, Target>,
    /// What players choose, each with its default.
    pub choices: Choices,
    /// In the order of their names.
    pub depots: Vec<Rule>,
    /// By name.
    pub storefronts: BTreeMap<Name, Storefront>,
    /// Findings that are meant to be so.
    pub accept: Vec<Accept>,
    /// Codes of warnings that stop in this project.
    pub stop: BTreeSet<Code>,
    /// The questions of the last look, in the order in which they are asked.
    pub last_look: Vec<String>,
    /// Devices that builds are tried on, by their names.
    pub devices: BTreeMap<Name, Device>,
    /// What signs with keys that are not in the keyring, by their names.
    pub signers: BTreeMap<Name, Signer>,
    /// Who states when something was signed.
    pub time_stamps: Option<TimeStamps>,
    /// Vendors of systems that look at signed bundles.
    pub approvals: BTreeMap<Name, Approval>,
    /// How hard it is tried to make files short.
    pub compression: Compression,
    /// The key that signs a statement of how each release was prepared.
    pub statement: Option<Name>,
    /// The keys that identities are known by.
    pub pins: Pins,
}

/// `[approvals.NAME]`.
#[derive(Debug, Clone)]
pub struct Approval {
    /// Targets whose bundles are handed over.
    pub targets: Vec<Name>,
    /// The program that does it, then its arguments; none where a person does.
    pub run: Vec<String>,
    /// How long it has for one answer.
    pub time_limit: std::time::Duration,
    /// Values for the program.
    pub values: BTreeMap<String, String>,
    /// What a person does.
    pub how: Option<String>,
    /// Where.
    pub address: Option<String>,
    /// How long an answer usually takes.
    pub usually: Option<jiff::SignedDuration>,
}

/// An authority that states when something was signed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TimeStamps {
    /// Its address.
    pub authority: String,
    /// Whether things are signed without when it cannot be reached.
    pub may_be_missing: bool,
}

/// What signs with a key that is not in the keyring.
#[derive(Debug, Clone)]
pub struct Signer {
    /// The file with its certificates, relative to the configuration.
    pub certificate: String,
    /// What it is.
    pub kind: SignerKind,
}

/// What a signer is.
#[derive(Debug, Clone)]
pub enum SignerKind {
    /// A program.
    Program {
        /// The program, then its arguments.
        run: Vec<String>,
        /// How long one signature may take.
        time_limit: std::time::Duration,
    },
    /// A token with an interface of PKCS #11.
    Token {
        /// The library that speaks to it.
        module: String,
        /// Its label.
        token: String,
        /// The key's label on it.
        key: String,
    },
}

/// A device that builds are tried on.
#[derive(Debug, Clone)]
pub struct Device {
    /// Systems whose builds it takes.
    pub systems: Vec<System>,
    /// The program that puts a build on it and starts it, then its arguments.
    pub run: Vec<Template>,
}

/// What a release needs before it is put on a branch.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Needs {
    /// Whether someone has to have tried it and said yes; these targets of it, or any one where none is named.
    pub trial: Option<BTreeSet<Name>>,
    /// Whether the questions of the last look have to be answered with yes.
    pub last_look: bool,
}

impl Needs {
    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.trial.is_none() && !self.last_look
    }
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

/// An edition, with what it does not say itself taken from the game.
#[derive(Debug, Clone)]
pub struct Edition {
    /// As players know it.
    pub name: String,
    /// What it is.
    pub kind: EditionKind,
    /// Reverse-domain.
    pub identity: Identity,
    /// Where the version stands.
    pub version: VersionSource,
}

/// What `sign` says where nobody signs, but the system wants a signature.
pub const AD_HOC: &str = "ad-hoc";

/// `[targets.NAME]`.
#[derive(Debug, Clone)]
pub struct Target {
    /// The edition it is of.
    pub edition: Name,
    /// The systems it says it is for; empty: to be seen from the start file.
    pub systems: Vec<System>,
    /// The export, relative to the configuration; may be a pattern.
    pub export: String,
    /// The folder within it that is the build.
    pub export_root: Option<String>,
    /// The start files; none: to be seen from the export.
    pub starts: Vec<TargetStart>,
    /// Whether anything is started at all.
    pub needs_start: bool,
    /// The name of the folder it is installed into.
    pub folder: Option<FolderName>,
    /// What stays out.
    pub leave_out: Patterns,
    /// What is sealed and never sent.
    pub keep_aside: Patterns,
    /// What must be there, each at least once.
    pub must_have: Patterns,
    /// Texts that some file must hold.
    pub must_mention: Vec<String>,
    /// Texts that no file may hold.
    pub must_not_mention: Vec<String>,
    /// What is executable although its content does not show it.
    pub executable: Patterns,
    /// The key of the keyring that signs it, or [`AD_HOC`].
    pub sign: Option<Name>,
    /// Which programs and libraries for Windows are signed; nothing: all that nobody else has signed.
    pub sign_files: Patterns,
    /// Whether what was signed with another key is signed again.
    pub sign_again: bool,
    /// The file with the chain of keys, where the key came after another one.
    pub lineage: Option<String>,
    /// The API level since which the newer key is used.
    pub lineage_from: Option<u32>,
    /// Whether version and number are written into the package, or the program that starts, before it is signed.
    pub stamp: bool,
    /// The file that version and number are written to, in a build that is no package.
    pub version_file: Option<TreePath>,
    /// What signatures for macOS and iOS say.
    pub code: CodeSigning,
}

/// What signatures for macOS and iOS say.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CodeSigning {
    /// Of what starts.
    pub main: Inside,
    /// Of what lies inside of it, by its path in the build.
    pub inside: BTreeMap<TreePath, Inside>,
    /// Whether programs for macOS are signed for the hardened runtime.
    pub is_hardened: bool,
}

/// What the signature of one program says, as paths from the configuration.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Inside {
    /// The property list with what it may do.
    pub entitlements: Option<String>,
    /// The profile that is laid into its bundle.
    pub profile: Option<String>,
}

/// A finding that is meant to be so.
#[derive(Debug, Clone)]
pub struct Accept {
    /// Its code.
    pub code: Code,
    /// Why.
    pub because: String,
    /// The target that it is about; none: every one.
    pub target: Option<Name>,
    /// The files that it is about; none: any.
    pub path: Option<Patterns>,
    /// The last day; none: for ever.
    pub until: Option<jiff::civil::Date>,
}

impl Accept {
    /// Whether it takes everything of its kind, for ever.
    pub fn is_wide(&self) -> bool {
        self.target.is_none() && self.path.is_none() && self.until.is_none()
    }

    /// Whether it is about a finding.
    pub fn is_about(&self, target: Option<&Name>, finding: &Finding) -> bool {
        let is_target = self.target.is_none() || self.target.as_ref() == target;
        let fits = |path: &String| {
            TreePath::new(path.as_str()).is_ok_and(|path| self.path.as_ref().is_none_or(|own| own.covers(&path)))
        };
        let is_path = self.path.is_none() || (!finding.paths.is_empty() && finding.paths.iter().all(fits));
        finding.code == self.code && is_target && is_path
    }
}

/// A start file as configured.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TargetStart {
    /// Path in the export.
    pub file: String,
    /// What it is called with.
    pub arguments: Vec<String>,
    /// The folder it works in.
    pub folder: Option<TreePath>,
    /// The systems that start with it; empty for all.
    pub systems: Vec<System>,
}

/// `[storefronts.NAME]`.
#[derive(Debug, Clone)]
pub struct Storefront {
    /// What it is for programs.
    pub kind: StorefrontKind,
    /// What the storefront calls each edition that it has.
    pub handles: BTreeMap<Name, Handle>,
    /// The targets that go there; empty: all of those editions.
    pub targets: BTreeSet<Name>,
    /// Our depots' names there.
    pub depots: BTreeMap<Name, Handle>,
    /// How it is to name releases; none to let it.
    pub name_there: Option<Template>,
    /// The branches that are used there, in the order of the file: the one to begin with first.
    pub branches: Vec<(Name, Audience)>,
    /// What the storefront calls our branches, where that is something else.
    pub theirs: BTreeMap<Name, Handle>,
    /// What releases need before they are put on branches that ask for anything.
    pub needs: BTreeMap<Name, Needs>,
}

/// What a storefront is for programs, with what each kind needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StorefrontKind {
    /// It speaks the storefront protocol.
    Protocol(ProtocolStorefront),
    /// A person does it.
    ByHand(HandStorefront),
    /// A program of the studio's own does it, and a person what that does not do.
    Connector(ConnectorStorefront),
}

/// A storefront at which a program of the studio's own does what is done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ConnectorStorefront {
    /// The program, then its arguments.
    pub run: Vec<String>,
    /// How long it has for one action.
    pub time_limit: jiff::SignedDuration,
    /// What a person does, and the texts.
    pub hand: HandStorefront,
}

/// A storefront without an interface for programs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HandStorefront {
    /// The file with its rules, relative to the configuration; none for the plain ones.
    pub rules: Option<String>,
    /// Texts that only this storefront knows.
    pub values: BTreeMap<String, String>,
    /// Accounts, by their roles.
    pub people: BTreeMap<String, String>,
}

/// A storefront that speaks the storefront protocol.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProtocolStorefront {
    /// Scheme, host and port, without a slash at the end.
    pub address: String,
}

impl StorefrontKind {
    /// Returns where it is, for people; access is kept for this address alone.
    pub fn address(&self) -> &str {
        match self {
            Self::Protocol(storefront) => &storefront.address,
            Self::ByHand(_) | Self::Connector(_) => "by hand",
        }
    }
}

impl Storefront {
    /// Returns it, where what is done there is done in steps: by a person, or by a connector.
    pub fn by_hand(&self) -> Option<&HandStorefront> {
        match &self.kind {
            StorefrontKind::ByHand(at) => Some(at),
            StorefrontKind::Connector(at) => Some(&at.hand),
            StorefrontKind::Protocol(_) => None,
        }
    }

    /// Returns the connector that does what is done there.
    pub fn connector(&self) -> Option<&ConnectorStorefront> {
        match &self.kind {
            StorefrontKind::Connector(at) => Some(at),
            StorefrontKind::ByHand(_) | StorefrontKind::Protocol(_) => None,
        }
    }

    /// Returns who follows a branch, as far as the configuration knows it.
    pub fn audience(&self, branch: &Name) -> Option<Audience> {
        self.branches.iter().find(|(name, _)| name == branch).map(|(_, audience)| *audience)
    }

    /// Whether a target goes there.
    pub fn takes(&self, target: &Name) -> bool {
        self.targets.is_empty() || self.targets.contains(target)
    }
}

pub use crate::audience::Audience;
pub use raw::EditionKind;

impl Config {
    /// Reads and checks a configuration; `file` is how the file is named in findings.
    ///
    /// # Errors
    /// Every finding that stops, in the order of the text; never empty.
    pub fn read(file: &str, text: &str) -> Result<Self, Vec<Finding>> {
        match Self::read_partly(file, text) {
            (Some(config), findings) if findings.is_empty() => Ok(config),
            (_, findings) => Err(findings),
        }
    }

    /// Reads as much of a configuration as is valid, to look further although something is wrong: the targets that
    /// have no finding. Nothing may be made of it when there are findings, which come in the order of the text.
    pub fn read_partly(file: &str, text: &str) -> (Option<Self>, Vec<Finding>) {
        let (config, mut findings) = resolve::read(file, text);
        findings.sort_by_key(|f| f.place.as_ref().map_or((usize::MAX, 0), |p| (p.line, p.column)));
        (config, findings)
    }

    /// Returns the targets of an edition, in the order of their names.
    pub fn targets_of<'a>(&'a self, edition: &'a Name) -> impl Iterator<Item = (&'a Name, &'a Target)> {
        self.targets.iter().filter(move |(_, target)| target.edition == *edition)
    }

    /// Returns the depots that an edition's exports are divided into, in the order of their targets.
    pub fn depots_of(&self, edition: &Name) -> Vec<Name> {
        let mut names = Vec::new();
        for (name, _) in self.targets_of(edition) {
            let mut rules = self.depots.iter().filter(|rule| rule.from.contains(name)).peekable();
            if rules.peek().is_none() {
                names.push(name.clone());
            }
            for rule in rules {
                if !names.contains(&rule.name) {
                    names.push(rule.name.clone());
                }
            }
        }
        names
    }

    /// Returns the editions that have targets, the full one first.
    pub fn editions_with_targets(&self) -> Vec<Name> {
        let mut names: Vec<Name> = self.targets.values().map(|target| target.edition.clone()).collect();
        names.sort_by_key(|name| (*name != Name::full_edition(), name.clone()));
        names.dedup();
        names
    }

    /// Returns where a value stands in the text; where it does not stand, the nearest thing above it that does.
    pub fn place(file: &str, text: &str, way: &[ConfigKey<'_>]) -> TextPlace {
        TextPlace::of(file, text, shape::Shape::read(text).span(way))
    }

    /// The JSON Schema (2020-12) of the file, for editors. Every command compares the one beside the configuration with it, so it
    /// is not made anew; a test compares it with the types.
    pub const SCHEMA: &'static str = include_str!("config/lantern.schema.json");
}

#[cfg(test)]
mod tests;
