//! What people do by hand, and what they say of it: the steps of an action, what was out before, and the last look.

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::storefront::{Action, BranchBuild, StorefrontRef, builds_of};
use super::{EventId, is_false};
use crate::digest::ReleaseId;
use crate::names::{Handle, Name};
use crate::notes::Notes;
use crate::step::Step;
use crate::version::ReleaseName;

/// See [`super::EventBody::StepsBegun`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StepsBegun {
    /// What its steps, and in the end its outcome, refer to.
    pub key: EventId,
    /// Where.
    pub storefront: StorefrontRef,
    /// What.
    pub action: Action,
    /// The release.
    pub release: ReleaseId,
    /// How people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
    /// Its steps, as they are from now on, whatever becomes of the rules.
    pub steps: Vec<Step>,
    /// Whether a connector is asked first; then a person does what that does not do.
    #[serde(default, skip_serializing_if = "is_false")]
    pub connector: bool,
    /// Of a push: the branch whose players get it with that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub live_on: Option<Name>,
    /// Of a push: what is handed over.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hand_over: Vec<HandedOver>,
    /// Of a push: what the storefront is asked to call it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name_there: Option<Handle>,
    /// Of a push: what the build is for, as the team reads it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// Of a push: what is new, for players.
    #[serde(default, skip_serializing_if = "Notes::is_empty")]
    pub notes: Notes,
    /// Of a move: what the branch has when it is done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wanted: Option<BranchWanted>,
    /// Why, for the team.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
}

impl StepsBegun {
    /// An action that begins, without what only some of them have.
    pub fn new(
        key: EventId,
        storefront: StorefrontRef,
        action: Action,
        (release, name): (ReleaseId, ReleaseName),
        steps: Vec<Step>,
    ) -> Self {
        Self {
            key,
            storefront,
            action,
            release,
            name,
            steps,
            connector: false,
            live_on: None,
            hand_over: Vec::new(),
            name_there: None,
            message: None,
            notes: Notes::default(),
            wanted: None,
            because: None,
        }
    }

    /// Returns what a move brings to its branch: a build for each target that it is about, or nothing.
    pub fn brings(&self) -> BTreeMap<Name, Option<BranchBuild>> {
        self.wanted.as_ref().map(BranchWanted::brings).unwrap_or_default()
    }
}

/// What is handed over of one target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HandedOver {
    /// The target.
    pub target: Name,
    /// Name of the file or folder.
    pub name: String,
    /// Size of all its files, in bytes.
    pub bytes: u64,
    /// SHA-256 of the file, in hexadecimal digits; none for a folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
}

/// What a branch has when a move by hand is done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct BranchWanted {
    /// The revision that it had before.
    pub revision: u64,
    /// The revision that is put back; none for a promotion.
    #[serde(default)]
    pub restores: Option<u64>,
    /// The targets that it is about; empty for all.
    #[serde(default)]
    pub changes: Vec<Name>,
    /// What each target has.
    pub targets: BTreeMap<Name, BranchBuild>,
    /// When the newest word counts as said that was known when it was begun. See [`super::Moved::after`].
    #[serde(default)]
    #[schemars(with = "Option<String>")]
    pub after: Option<Timestamp>,
}

impl BranchWanted {
    /// Returns what it brings: a build for each target that it is about, or nothing.
    pub fn brings(&self) -> BTreeMap<Name, Option<BranchBuild>> {
        builds_of(&self.changes, &self.targets)
    }
}

/// See [`super::EventBody::StepSaid`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StepSaid {
    /// Of the [`StepsBegun`] event.
    pub key: EventId,
    /// Which step.
    pub step: Name,
    /// How it stands.
    #[serde(flatten)]
    pub standing: StepStanding,
    /// When the word on this step was said that this one follows, where the clock here is behind that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Timestamp>,
}

/// See [`super::EventBody::Looked`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Looked {
    /// The release.
    pub release: ReleaseId,
    /// How people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
    /// What was asked, to the letter: another wording is another question.
    pub question: String,
    /// The answer.
    pub yes: bool,
}

/// See [`super::EventBody::Adopted`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Adopted {
    /// Where.
    pub storefront: StorefrontRef,
    /// The branch that has or had it; none for a build that was on none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub branch: Option<Name>,
    /// The release: sealed from its files, or known by its name alone.
    pub release: ReleaseId,
    /// How people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
    /// Its number there.
    pub number_there: u64,
    /// The targets.
    pub targets: Vec<Name>,
    /// Since when players have it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<Timestamp>,
    /// How it is known, for the team.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
}

/// How a step stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "standing")]
pub enum StepStanding {
    /// It was done.
    Done {
        /// What was read there, by its key.
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        read_back: BTreeMap<Name, String>,
    },
    /// It was left out.
    Skipped {
        /// Why.
        because: String,
    },
    /// It was asked for there, and is done when they have answered.
    Waiting {
        /// When they have usually answered by.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(with = "Option<String>")]
        due: Option<Timestamp>,
    },
    /// Someone went back to it.
    Reopened,
    /// Something that a newer lantern says.
    #[serde(untagged)]
    Other(Value),
}
