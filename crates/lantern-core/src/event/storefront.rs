//! What is asked of storefronts, what they did, and what they say of themselves.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::EventId;
use crate::digest::ReleaseId;
use crate::names::{Handle, Name};
use crate::notes::Notes;
use crate::version::ReleaseName;

/// A storefront as the ledger names it: the id of its discovery document, what the project calls it, and the title.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
pub struct StorefrontRef {
    /// From the discovery document; an address or a name may change, this does not.
    pub id: String,
    /// The project's name for it.
    pub name: Name,
    /// The title's handle there.
    pub handle: Handle,
}

/// What the id of a storefront by hand begins with; its name in the project follows.
const BY_HAND: &str = "by-hand:";

impl StorefrontRef {
    /// Returns the id of a storefront by hand: its name in the project is all that there is of it.
    pub fn id_by_hand(name: &Name) -> String {
        format!("{BY_HAND}{name}")
    }

    /// Whether people do what is done there, so that all that is known was said by one.
    pub fn is_by_hand(&self) -> bool {
        self.id.starts_with(BY_HAND)
    }

    /// Returns what the title is known by, whatever the project calls the storefront.
    pub fn key(&self) -> TitleKey {
        TitleKey { storefront: self.id.clone(), handle: self.handle.clone() }
    }

    /// Whether it is about this title.
    pub fn is_at(&self, title: &TitleKey) -> bool {
        self.id == title.storefront && self.handle == title.handle
    }
}

/// A title at a storefront: the storefront's own id, and the title's handle there.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct TitleKey {
    /// From the discovery document.
    pub storefront: String,
    /// The title's handle there.
    pub handle: Handle,
}

/// A build as a branch has it for one target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct BranchBuild {
    /// The storefront's own number.
    pub number_there: u64,
    /// The release it was made of.
    pub release: ReleaseId,
    /// How people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
}

/// A branch as its storefront states it: a map from target to build with one revision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct BranchFacts {
    /// The branch.
    pub branch: Name,
    /// Rises with every move; what stands in the ETag.
    pub revision: u64,
    /// When it came to be so, by the server's clock; none for a branch that never had anything.
    #[schemars(with = "Option<String>")]
    pub since: Option<Timestamp>,
    /// Who moved it, as the server knows them.
    pub by: Option<String>,
    /// What each target has.
    pub targets: BTreeMap<Name, BranchBuild>,
}

/// See [`super::EventBody::BuildFound`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BuildFound {
    /// Where.
    pub storefront: StorefrontRef,
    /// The release.
    pub release: ReleaseId,
    /// How people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
    /// The storefront's own number.
    pub number_there: u64,
    /// What the storefront calls it, where its publisher said so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name_there: Option<Handle>,
    /// The targets that the storefront has of it.
    pub targets: Vec<Name>,
    /// Who made it, as the server knows them.
    pub by: String,
    /// What the build is for, as the team reads it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// What is new, for players.
    #[serde(default, skip_serializing_if = "Notes::is_empty")]
    pub notes: Notes,
}

/// See [`super::EventBody::BuildGone`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BuildGone {
    /// Where.
    pub storefront: StorefrontRef,
    /// The release.
    pub release: ReleaseId,
    /// How people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
    /// The storefront's own number.
    pub number_there: u64,
}

/// See [`super::EventBody::BranchReported`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BranchReported {
    /// Where.
    pub storefront: StorefrontRef,
    /// What the branch has; of a storefront by hand: of the targets that are named.
    pub facts: BranchFacts,
    /// Of a storefront by hand: as in [`Moved::after`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Timestamp>,
}

impl BranchReported {
    /// What a storefront states.
    pub fn new(storefront: StorefrontRef, facts: BranchFacts) -> Self {
        Self { storefront, facts, after: None }
    }
}

/// See [`super::EventBody::BranchWentBack`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BranchWentBack {
    /// Where.
    pub storefront: StorefrontRef,
    /// What the branch has now.
    pub facts: BranchFacts,
    /// The revision that was known before.
    pub known: u64,
}

/// See [`super::EventBody::Connected`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Connected {
    /// Where.
    pub storefront: StorefrontRef,
    /// As whom.
    pub client: String,
}

/// See [`super::EventBody::Asked`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Asked {
    /// The idempotency key; the action's answer carries it too.
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
    /// Of a push: the release's targets that the storefront is to have.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<Name>,
}

/// An action at a storefront.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Action {
    /// Make a build.
    Push,
    /// Move a branch.
    Promote {
        /// Which.
        branch: Name,
    },
    /// Put back what a branch had before.
    Rollback {
        /// Which.
        branch: Name,
    },
    /// Take a build away for good.
    Withdraw {
        /// Why.
        because: String,
    },
    /// One that a newer lantern asked for.
    #[serde(untagged)]
    Other(Value),
}

/// See [`super::EventBody::Pushed`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Pushed {
    /// Of the [`Asked`] event; none when the build was there already.
    pub key: Option<EventId>,
    /// Where.
    pub storefront: StorefrontRef,
    /// The release.
    pub release: ReleaseId,
    /// How people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
    /// The storefront's own number.
    pub number_there: u64,
    /// What the storefront was asked to call it; none where it names it itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name_there: Option<Handle>,
    /// Bytes of packs that travelled; of what was carried there by hand, the size of the files.
    pub sent: u64,
    /// The branch whose players got it with the push; none where it has to be put there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub live_on: Option<Name>,
    /// The targets that were carried there by hand; empty where the storefront itself says which it has.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<Name>,
    /// What the build is for, as the team reads it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// What is new, for players.
    #[serde(default, skip_serializing_if = "Notes::is_empty")]
    pub notes: Notes,
    /// The numbers of single targets, where what is carried there by hand gets one for each.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub numbers: BTreeMap<Name, u64>,
    /// Of one by hand that players get at once: as in [`Moved::after`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Timestamp>,
}

impl Pushed {
    /// A build that a storefront has, without what only some have.
    pub fn new(storefront: StorefrontRef, (release, name): (ReleaseId, ReleaseName), number_there: u64) -> Self {
        Self {
            key: None,
            storefront,
            release,
            name,
            number_there,
            name_there: None,
            sent: 0,
            live_on: None,
            targets: Vec::new(),
            message: None,
            notes: Notes::default(),
            numbers: BTreeMap::new(),
            after: None,
        }
    }
}

/// See [`super::EventBody::Moved`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Moved {
    /// Of the [`Asked`] event.
    pub key: EventId,
    /// Where.
    pub storefront: StorefrontRef,
    /// What the branch has now.
    pub facts: BranchFacts,
    /// Why, for the team.
    #[serde(default)]
    pub because: Option<String>,
    /// The revision that was put back; none for a promotion.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restores: Option<u64>,
    /// Of a move by hand: the targets that it was about; empty for all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changes: Vec<Name>,
    /// Of a move by hand: when the newest word on the branch counts as said that was known then, where the clock here is
    /// behind that. What is said by someone who knew another word comes after it, whatever two clocks say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Timestamp>,
}

impl Moved {
    /// Returns what it brought: a build for each target that it was about, or nothing.
    pub fn brings(&self) -> BTreeMap<Name, Option<BranchBuild>> {
        builds_of(&self.changes, &self.facts.targets)
    }
}

/// See [`super::EventBody::NotDone`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NotDone {
    /// Of the [`Asked`] event.
    pub key: EventId,
    /// Why.
    pub why: String,
}

/// See [`super::EventBody::Withdrawn`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Withdrawn {
    /// Of the [`Asked`] event; none for what was withdrawn here, or by someone else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<EventId>,
    /// Where; none for here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub storefront: Option<StorefrontRef>,
    /// The release.
    pub release: ReleaseId,
    /// How people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
    /// Why.
    pub because: String,
}

/// What was said of the targets that a move is about; of all of them where nothing else is written.
pub(super) fn builds_of(
    changes: &[Name],
    targets: &BTreeMap<Name, BranchBuild>,
) -> BTreeMap<Name, Option<BranchBuild>> {
    let about: Vec<&Name> = if changes.is_empty() { targets.keys().collect() } else { changes.iter().collect() };
    about.into_iter().map(|target| (target.clone(), targets.get(target).cloned())).collect()
}

/// When a word counts as said: by the clock here, but never before the one that was known when it was said, whatever the clock
/// of that other computer.
pub fn counts_at(recorded_at: Timestamp, after: Option<Timestamp>) -> Timestamp {
    let next = after.and_then(|after| after.checked_add(SignedDuration::from_nanos(1)).ok());
    next.map_or(recorded_at, |next| next.max(recorded_at))
}
