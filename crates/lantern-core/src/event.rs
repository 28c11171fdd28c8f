//! Events of the ledger: what was asked, what was done, what storefronts said. Described in `docs/formats/events.md`.

mod approval;
mod by_hand;
mod id;
mod storefront;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;

use crate::digest::{Digest, InputDigest, InvitationId, ReleaseId};
use crate::names::Name;
use crate::release::{ReleaseRecord, TargetRecord};
use crate::version::{BuildNumber, ReleaseName};

pub use approval::{ApprovalSaid, ApprovalStanding};
pub use by_hand::{Adopted, BranchWanted, HandedOver, Looked, StepSaid, StepStanding, StepsBegun};
pub use id::{EventId, EventIdError};
pub use storefront::{
    Action, Asked, BranchBuild, BranchFacts, BranchReported, BranchWentBack, BuildFound, BuildGone, Connected, Moved,
    NotDone, Pushed, StorefrontRef, TitleKey, Withdrawn, counts_at,
};

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
    /// A bundle was handed over for approval, or answered.
    ApprovalSaid(ApprovalSaid),
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
    /// The targets that nobody signed although something was named that signs them: someone had said so.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unsigned: Vec<Name>,
    /// What was found, and was meant to be so.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub accepted: Vec<AcceptedFinding>,
}

impl Sealed {
    /// What is sealed under a name; nothing is known of what was found in it.
    pub fn new(release: ReleaseId, name: ReleaseName, input: InputDigest, targets: Vec<Name>) -> Self {
        Self { release, name, input, targets, warnings: 0, unsigned: Vec::new(), accepted: Vec::new() }
    }

    /// What a record says of itself.
    pub fn of(release: ReleaseId, record: &ReleaseRecord, input: InputDigest) -> Self {
        let name = |target: &TargetRecord| target.target.clone();
        let unsigned = record.targets.iter().filter(|target| target.unsigned).map(name).collect();
        Self { unsigned, ..Self::new(release, record.name(), input, record.targets.iter().map(name).collect()) }
    }
}

/// Something that was found when a release was sealed, and was meant to be so.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AcceptedFinding {
    /// Its code.
    pub code: String,
    /// The target that it is about; none: the release.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<Name>,
    /// Why it is accepted.
    pub because: String,
}

fn is_false(value: &bool) -> bool {
    !*value
}

fn is_zero(count: &u64) -> bool {
    *count == 0
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
    ApprovalSaid "approval-said",
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
