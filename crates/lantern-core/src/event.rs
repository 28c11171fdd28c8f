//! Events of the ledger: what was asked, what was done, what storefronts said. Described in `docs/formats/events.md`.

mod by_hand;
mod id;

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use serde_json::value::RawValue;

use crate::digest::{Digest, InputDigest, InvitationId, ReleaseId};
use crate::names::{Handle, Name};
use crate::notes::Notes;
use crate::version::{BuildNumber, ReleaseName};

pub use by_hand::{Adopted, BranchWanted, HandedOver, Looked, StepSaid, StepStanding, StepsBegun};
pub use id::{EventId, EventIdError};

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

/// What happened. Kinds that this code does not know are kept as they are.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub enum EventBody {
    /// A build number is taken and will not be given again.
    NumberReserved(NumberReserved),
    /// A release was sealed.
    Sealed(Sealed),
    /// Access to a storefront was tried and kept.
    Connected(Connected),
    /// An action at a storefront is about to be asked for.
    Asked(Asked),
    /// The storefront confirmed a push.
    Pushed(Pushed),
    /// The storefront confirmed a move of a branch.
    Moved(Moved),
    /// An action that was asked for did not happen.
    NotDone(NotDone),
    /// A storefront said what a branch has; someone else may have moved it.
    BranchReported(BranchReported),
    /// A storefront has a build of a release that this ledger had not pushed there.
    BuildFound(BuildFound),
    /// A storefront has a build no longer.
    BuildGone(BuildGone),
    /// A storefront states an earlier revision of a branch than it did before, or another one of the same number.
    BranchWentBack(BranchWentBack),
    /// Someone said that numbers do not follow one far above them.
    NumberLeft(NumberLeft),
    /// A release was withdrawn, here or at a storefront.
    Withdrawn(Withdrawn),
    /// Someone started a sealed build and said whether it shows what it should.
    Tried(Tried),
    /// The content of releases was freed; their records stay.
    Freed(Freed),
    /// Someone said with which number the next release begins.
    NextNumber(NextNumber),
    /// Someone was invited to follow a branch.
    Invited(Invited),
    /// An invitation was ended.
    InvitationEnded(InvitationEnded),
    /// The ledger was lost, and rebuilt from what was left.
    Rebuilt(Rebuilt),
    /// An action that a person does by hand has begun.
    StepsBegun(StepsBegun),
    /// Someone said how a step of it stands.
    StepSaid(StepSaid),
    /// Someone said what was out already, before this tool came.
    Adopted(Adopted),
    /// Someone answered a question of the last look.
    Looked(Looked),
    /// Written by a newer lantern.
    Other {
        /// Its kind.
        kind: String,
        /// Its payload's version.
        version: u32,
        /// As it was, to the byte: JSON, of which no number is read.
        payload: String,
    },
}

/// See [`EventBody::NumberReserved`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NumberReserved {
    /// The number.
    pub number: BuildNumber,
    /// The input that it was reserved for: the same input takes it up again after a break.
    pub input: InputDigest,
}

/// See [`EventBody::NumberLeft`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NumberLeft {
    /// Where.
    pub storefront: StorefrontRef,
    /// The build that has it, as people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
}

/// See [`EventBody::Sealed`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Sealed {
    /// Its identity.
    pub release: ReleaseId,
    /// How people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
    /// What went in.
    pub input: InputDigest,
    /// The targets that it has.
    pub targets: Vec<Name>,
    /// How many warnings there were.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub warnings: u64,
}

fn is_false(value: &bool) -> bool {
    !*value
}

fn is_zero(count: &u64) -> bool {
    *count == 0
}

/// See [`EventBody::BuildFound`].
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

/// See [`EventBody::BuildGone`].
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

/// See [`EventBody::BranchWentBack`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BranchWentBack {
    /// Where.
    pub storefront: StorefrontRef,
    /// What the branch has now.
    pub facts: BranchFacts,
    /// The revision that was known before.
    pub known: u64,
}

/// See [`EventBody::Connected`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Connected {
    /// Where.
    pub storefront: StorefrontRef,
    /// As whom.
    pub client: String,
}

/// See [`EventBody::Asked`].
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

/// See [`EventBody::Pushed`].
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

    /// When it counts as said.
    pub fn counts_at(&self, recorded_at: Timestamp) -> Timestamp {
        by_hand::counts_at(recorded_at, self.after)
    }
}

/// See [`EventBody::Moved`].
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
    /// behind that. Whoever knew another word comes after it, whatever the clocks of two computers say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Timestamp>,
}

impl Moved {
    /// Returns what it brought: a build for each target that it was about, or nothing.
    pub fn brings(&self) -> BTreeMap<Name, Option<BranchBuild>> {
        by_hand::builds_of(&self.changes, &self.facts.targets)
    }

    /// When it counts as said.
    pub fn counts_at(&self, recorded_at: Timestamp) -> Timestamp {
        by_hand::counts_at(recorded_at, self.after)
    }
}

/// See [`EventBody::NotDone`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NotDone {
    /// Of the [`Asked`] event.
    pub key: EventId,
    /// Why.
    pub why: String,
}

/// See [`EventBody::Withdrawn`].
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

/// See [`EventBody::Tried`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Tried {
    /// The release.
    pub release: ReleaseId,
    /// How people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
    /// Which of its builds.
    pub target: Name,
    /// Whether it shows what it should.
    pub yes: bool,
}

/// See [`EventBody::Freed`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Freed {
    /// Which.
    pub releases: Vec<ReleaseId>,
}

/// See [`EventBody::NextNumber`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NextNumber {
    /// The next release has at least this number. The last such event counts.
    pub next: BuildNumber,
}

/// See [`EventBody::Invited`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Invited {
    /// Where.
    pub storefront: StorefrontRef,
    /// The branch.
    pub branch: Name,
    /// What the storefront knows of the invitation; its text is written down nowhere.
    pub invitation: InvitationId,
    /// A person or a group.
    #[serde(rename = "for")]
    pub whom: String,
    /// When it ends.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
    /// How many installed folders may use it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folders: Option<u32>,
    /// Editions that anyone who has it counts as owning.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub owns: Vec<Name>,
}

/// See [`EventBody::InvitationEnded`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct InvitationEnded {
    /// Where.
    pub storefront: StorefrontRef,
    /// The branch.
    pub branch: Name,
    /// Which.
    pub invitation: InvitationId,
    /// A person or a group.
    #[serde(rename = "for")]
    pub whom: String,
}

/// See [`EventBody::Rebuilt`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Rebuilt {
    /// Events that an exported copy still had.
    pub copied: u64,
    /// Releases that are known only from their records in the store.
    pub releases: Vec<ReleaseId>,
    /// Storefronts that were asked what they have.
    pub asked: Vec<Name>,
    /// Storefronts that could not be asked.
    pub unreachable: Vec<Name>,
}

/// See [`EventBody::BranchReported`].
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

    /// When it counts as said.
    pub fn counts_at(&self, recorded_at: Timestamp) -> Timestamp {
        by_hand::counts_at(recorded_at, self.after)
    }
}

macro_rules! kinds {
    ($($variant:ident $kind:literal),* $(,)?) => {
        impl EventBody {
            /// Returns the kind's stable word.
            pub fn kind(&self) -> &str {
                match self {
                    $(Self::$variant(_) => $kind,)*
                    Self::Other { kind, .. } => kind,
                }
            }

            /// Returns the payload as JSON.
            pub fn payload(&self) -> String {
                let sorted = match self {
                    $(Self::$variant(payload) => serde_json::to_value(payload),)*
                    Self::Other { payload, .. } => return payload.clone(),
                };
                sorted.expect("payloads have only string keys").to_string()
            }

            /// Returns the payload's version.
            pub fn version(&self) -> u32 {
                match self {
                    Self::Other { version, .. } => *version,
                    _ => 1,
                }
            }

            /// Reads what [`Self::kind`], [`Self::version`] and [`Self::payload`] gave.
            ///
            /// # Errors
            /// The payload of a known kind and version has another shape.
            pub fn read(kind: &str, version: u32, payload: &str) -> Result<Self, serde_json::Error> {
                match (kind, version) {
                    $(($kind, 1) => Ok(Self::$variant(serde_json::from_str(payload)?)),)*
                    _ => Ok(Self::Other { kind: kind.to_owned(), version, payload: payload.to_owned() }),
                }
            }
        }
    };
}

kinds!(
    NumberReserved "number-reserved",
    Sealed "sealed",
    Connected "connected",
    Asked "asked",
    Pushed "pushed",
    Moved "moved",
    NotDone "not-done",
    BranchReported "branch-reported",
    BuildFound "build-found",
    BuildGone "build-gone",
    BranchWentBack "branch-went-back",
    NumberLeft "number-left",
    Withdrawn "withdrawn",
    Tried "tried",
    Freed "freed",
    NextNumber "next-number",
    Invited "invited",
    InvitationEnded "invitation-ended",
    Rebuilt "rebuilt",
    StepsBegun "steps-begun",
    StepSaid "step-said",
    Adopted "adopted",
    Looked "looked",
);

/// An event as the ledger keeps it.
#[derive(Debug, Clone, PartialEq)]
pub struct Event {
    /// Its id.
    pub id: EventId,
    /// The computer that wrote it: random, made once per ledger.
    pub device: String,
    /// That computer's own counter, from 1.
    pub sequence: u64,
    /// Digest of that computer's event before; none for the first.
    pub predecessor: Option<Digest>,
    /// Who, as their computer knows them.
    pub actor: String,
    /// When it was written, by that computer's clock.
    pub recorded_at: Timestamp,
    /// When it happened, by the server's clock.
    pub happened_at: Option<Timestamp>,
    /// The server's revision of what it is about.
    pub revision: Option<u64>,
    /// The edition it is about.
    pub edition: Name,
    /// What happened.
    pub body: EventBody,
}

#[cfg(test)]
impl Event {
    /// An event whose body alone matters.
    pub(crate) fn sample(id: EventId, body: EventBody) -> Self {
        Self {
            id,
            device: "desk".into(),
            sequence: 1,
            predecessor: None,
            actor: "wren".into(),
            recorded_at: Timestamp::UNIX_EPOCH,
            happened_at: None,
            revision: None,
            edition: Name::full_edition(),
            body,
        }
    }
}

/// Why a text is not an event.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EventError {
    /// Not JSON of this shape.
    #[error("not an event")]
    Shape(#[from] serde_json::Error),
    /// More than one line: what is not known of it is written again as it was, and would break a file of lines.
    #[error("an event is one line")]
    Lines,
}

/// The fields of an event as they are written; the order is that of the text.
#[derive(Serialize, Deserialize)]
struct Line {
    id: EventId,
    device: String,
    sequence: u64,
    predecessor: Option<Digest>,
    actor: String,
    recorded_at: Timestamp,
    happened_at: Option<Timestamp>,
    revision: Option<u64>,
    edition: Name,
    kind: String,
    version: u32,
    payload: Box<RawValue>,
}

impl Event {
    /// Returns the event as one line of JSON. These very bytes are stored, and hashed for the event after it.
    pub fn to_line(&self) -> String {
        let line = Line {
            id: self.id,
            device: self.device.clone(),
            sequence: self.sequence,
            predecessor: self.predecessor,
            actor: self.actor.clone(),
            recorded_at: self.recorded_at,
            happened_at: self.happened_at,
            revision: self.revision,
            edition: self.edition.clone(),
            kind: self.body.kind().to_owned(),
            version: self.body.version(),
            payload: RawValue::from_string(self.body.payload()).expect("a payload is JSON"),
        };
        serde_json::to_string(&line).expect("an event has only string keys")
    }

    /// Reads a line of JSON.
    ///
    /// # Errors
    /// [`EventError`].
    pub fn from_line(text: &str) -> Result<Self, EventError> {
        if text.contains('\n') {
            return Err(EventError::Lines);
        }
        let line: Line = serde_json::from_str(text)?;
        Ok(Self {
            id: line.id,
            device: line.device,
            sequence: line.sequence,
            predecessor: line.predecessor,
            actor: line.actor,
            recorded_at: line.recorded_at,
            happened_at: line.happened_at,
            revision: line.revision,
            edition: line.edition,
            body: EventBody::read(&line.kind, line.version, line.payload.get())?,
        })
    }
}

#[cfg(test)]
mod tests;
