//! The document that goes into a connector, and the lines that come out.

use std::collections::BTreeMap;
use std::fmt;

use lantern_core::digest::ReleaseId;
use lantern_core::event::EventId;
use lantern_core::names::{Identity, Name};
use lantern_core::notes::Notes;
use lantern_core::system::System;
use lantern_core::version::{BuildNumber, Version};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::Access;

/// What the document that goes in is called, with its version.
pub const SCHEMA: &str = "lantern.connector/1";

/// What a connector is asked to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Asked {
    /// Say whether access is there and the storefront answers.
    Probe,
    /// Bring a release there.
    Push,
    /// Put it on a branch.
    Promote,
    /// Put back what a branch had before.
    Rollback,
    /// Take a release away.
    Withdraw,
    /// Say what became of the attempt, which may never have arrived.
    Query,
    /// Say what each branch has.
    List,
    /// Hand a bundle over for approval.
    Submit,
}

/// The document that goes in.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Document {
    /// [`SCHEMA`].
    pub schema: String,
    /// What to do.
    pub action: Asked,
    /// The same for every try of one action: what was done once for it is not done again.
    pub attempt: EventId,
    /// Of a query: what the attempt was asked to do.
    pub of: Option<Asked>,
    /// Where.
    pub storefront: DocumentStorefront,
    /// What the release is of.
    pub game: DocumentGame,
    /// The release; none for a probe.
    pub release: Option<DocumentRelease>,
    /// What the build is for, for the team.
    pub message: Option<String>,
    /// What is new, for players.
    pub notes: Notes,
    /// Why, for the team.
    pub because: Option<String>,
    /// Of a push: what was laid out for it.
    pub hand_over: Vec<DocumentFile>,
    /// Of a move: the branch, as the storefront calls it.
    pub branch: Option<String>,
    /// Of a move: what the branch has before it.
    pub before: Option<DocumentBefore>,
    /// The access that is kept on this computer for it; none where nobody connected.
    pub access: Option<DocumentAccess>,
}

impl Document {
    /// A document that asks for an action, without what only some of them need.
    pub fn new(action: Asked, attempt: EventId, storefront: DocumentStorefront, game: DocumentGame) -> Self {
        Self {
            schema: SCHEMA.to_owned(),
            action,
            attempt,
            of: None,
            storefront,
            game,
            release: None,
            message: None,
            notes: Notes::default(),
            because: None,
            hand_over: Vec::new(),
            branch: None,
            before: None,
            access: None,
        }
    }
}

/// Where.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DocumentStorefront {
    /// The project's name for it.
    pub name: Name,
    /// What `values` of `lantern.toml` has.
    pub values: BTreeMap<String, String>,
}

/// What a release is of.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DocumentGame {
    /// As players know it.
    pub name: String,
    /// Reverse-domain.
    pub identity: Identity,
    /// Which edition.
    pub edition: Name,
    /// What the storefront calls it.
    pub handle: String,
}

/// A release.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DocumentRelease {
    /// For people.
    pub version: Version,
    /// Its build number.
    pub number: BuildNumber,
    /// Its identity.
    pub id: ReleaseId,
    /// How it is to be named there.
    pub name_there: String,
    /// Its number there, once it has one.
    pub number_there: Option<String>,
    /// The numbers that single targets have there, where they have some.
    pub per_target: BTreeMap<Name, String>,
}

/// A file or folder that was laid out.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DocumentFile {
    /// Of which target.
    pub target: Name,
    /// What it runs on.
    pub systems: Vec<System>,
    /// Where it lies.
    pub path: String,
    /// Size of all its files, in bytes.
    pub bytes: u64,
    /// SHA-256 of the file, in hexadecimal digits; none for a folder.
    pub sha256: Option<String>,
    /// What starts it.
    pub starts: Vec<String>,
}

/// What a branch has before it is moved.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DocumentBefore {
    /// For people.
    pub version: Version,
    /// Its number there.
    pub number_there: String,
}

/// A name and its secret.
#[derive(Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DocumentAccess {
    /// As whom.
    pub name: String,
    /// Shown nowhere.
    pub secret: String,
}

impl From<Access> for DocumentAccess {
    fn from(access: Access) -> Self {
        Self { name: access.client_id, secret: access.client_secret }
    }
}

impl fmt::Debug for DocumentAccess {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "DocumentAccess({}, secret not shown)", self.name)
    }
}

/// One line that comes out; each has one of these keys. Those below `say` are results: exactly one, as the last line.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Line {
    /// How far it is.
    #[serde(default)]
    pub progress: Option<LineProgress>,
    /// Something for the one who waits.
    #[serde(default)]
    pub say: Option<String>,
    /// It was done; exit code 0.
    #[serde(default)]
    pub done: Option<LineDone>,
    /// It was refused, and nothing changed there; exit code 3.
    #[serde(default)]
    pub refused: Option<LineRefused>,
    /// These steps of the rules have to be done by a person, the others are done; exit code 0.
    #[serde(default)]
    pub by_hand: Option<Vec<Name>>,
    /// The connector does not do this: all steps are done by a person; exit code 0.
    #[serde(default)]
    pub unknown_action: Option<bool>,
    /// Of a query: the attempt never arrived, and can be made again; exit code 0.
    #[serde(default)]
    pub not_begun: Option<bool>,
}

/// How far a transfer is.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
pub struct LineProgress {
    /// Bytes that are done.
    pub bytes: u64,
    /// Of so many.
    #[serde(default)]
    pub of: Option<u64>,
}

/// That it was done.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct LineDone {
    /// Of a push: its number there, in digits. Left out where it has none: releases are counted.
    #[serde(default)]
    pub number_there: Option<String>,
    /// Of a push: the numbers of single targets, where each gets one of its own.
    #[serde(default)]
    pub per_target: BTreeMap<Name, String>,
    /// Where it can be seen.
    #[serde(default)]
    pub address: Option<String>,
    /// Of `list`: what each branch has, by its name there.
    #[serde(default)]
    pub branches: Option<BTreeMap<String, LineBranch>>,
    /// Of `submit`, and of `query` after it: the file of the ticket, from the folder of `lantern.toml`.
    #[serde(default)]
    pub ticket: Option<String>,
    /// `live` (also where this is left out): players have it. `waiting`: it waits for someone there.
    #[serde(default)]
    pub state: LineState,
}

/// What a branch has.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum LineBranch {
    /// The number there of one build, with all targets that it was brought with.
    Build(String),
    /// A number there for each target. Of targets that are not named nothing is said.
    Targets(BTreeMap<Name, String>),
}

/// How something that was done stands.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LineState {
    /// It is over.
    #[default]
    Live,
    /// It waits for someone there; it is asked for again with `query`.
    Waiting,
}

/// That it was refused.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct LineRefused {
    /// Why.
    pub because: String,
    /// What to do.
    #[serde(default)]
    pub fix: Option<String>,
}
