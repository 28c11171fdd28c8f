//! The types of the storefront protocol, one definition for client and server. Unknown fields are ignored.

use std::collections::BTreeMap;

use jiff::Timestamp;
use lantern_core::choices::{Choices, Players};
use lantern_core::config::Audience;
use lantern_core::digest::{Digest, InvitationId, RecipeId, ReleaseId};
use lantern_core::event::{BranchFacts, EventId};
use lantern_core::names::{FolderName, Handle, Identity, Name};
use lantern_core::notes::Notes;
use lantern_core::release::Start;
use lantern_core::rules::Refusal;
use lantern_core::system::System;
use lantern_core::version::ReleaseName;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The major version of the protocol that this code speaks; stands in the discovery document.
pub const PROTOCOL: u32 = 1;
/// Where the discovery document lies.
pub const DISCOVERY_PATH: &str = "/.well-known/lantern-storefront";
/// Carries a player's invitation.
pub const INVITATION: &str = "Lantern-Invitation";
/// Carries the number that a player's installed folder made up for itself: an invitation may be for so many.
pub const FOLDER: &str = "Lantern-Folder";
/// Carries an action's idempotency key.
pub const IDEMPOTENCY_KEY: &str = "Idempotency-Key";

/// What a storefront is and what it can take.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Discovery {
    /// Its identity, whatever its name or address.
    pub id: String,
    /// For people.
    pub name: String,
    /// [`PROTOCOL`].
    pub protocol: u32,
    /// What time it is by its clock.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<String>")]
    pub now: Option<Timestamp>,
    /// Where access tokens are given (RFC 6749, section 4.4), relative to the origin.
    pub token_path: String,
    /// What it accepts at most.
    pub limits: Limits,
    /// What it can do beyond what every storefront does: `pieces`, `pages`. Words that are not known say nothing.
    #[serde(default)]
    pub capabilities: Vec<String>,
}

/// What a storefront accepts at most.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Limits {
    /// Bytes of a pack.
    pub pack_bytes: u64,
    /// Bytes of a recipe's root or segment.
    pub recipe_bytes: u64,
    /// Bytes of a chunk, unpacked.
    pub chunk_bytes: u64,
    /// Bytes of a release record.
    #[serde(default = "record_bytes")]
    pub record_bytes: u64,
    /// Bytes of a message, of a reason, and of whom an invitation is for.
    #[serde(default = "text_bytes")]
    pub text_bytes: u64,
    /// Bytes of the notes for players, in all languages together.
    #[serde(default = "notes_bytes")]
    pub notes_bytes: u64,
}

const fn record_bytes() -> u64 {
    lantern_core::release::MAX_RECORD_LEN
}

const fn text_bytes() -> u64 {
    MAX_TEXT_LEN
}

const fn notes_bytes() -> u64 {
    lantern_core::notes::MAX_LEN
}

/// Longest message or reason, in bytes.
pub const MAX_TEXT_LEN: u64 = 4096;

/// That packs are taken in pieces.
pub const PIECES: &str = "pieces";
/// That lists come page by page.
pub const PAGES: &str = "pages";
/// That update files are taken and handed out.
pub const UPDATES: &str = "updates";
/// That an update file that comes before its build is put together there, so that only what does not come out of it has to be brought.
pub const REBUILDS: &str = "rebuilds";

/// An access token. Source: RFC 6749, section 5.1.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub struct Token {
    /// The token.
    pub access_token: String,
    /// `Bearer`.
    pub token_type: String,
    /// Seconds from now.
    pub expires_in: u64,
    /// Rights, with spaces between: `read`, `send`, `release`, `setup`.
    pub scope: String,
}

/// Why no token was given. Source: RFC 6749, section 5.2.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct TokenError {
    /// Such as `invalid_client`.
    pub error: String,
    /// For people.
    #[serde(default)]
    pub error_description: Option<String>,
}

/// A title: an edition of a game, as a storefront lists it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Title {
    /// The storefront's name for it.
    pub handle: Handle,
    /// For players.
    pub name: String,
    /// The game's identity.
    pub identity: Identity,
    /// The depots that were set up.
    pub depots: Vec<Handle>,
}

/// The titles that someone may see.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct TitlePage {
    /// In the order of their handles.
    pub titles: Vec<Title>,
    /// Ask with `?after=` this for those that come next; none on the last page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// How much of a pack has come, where it comes in pieces.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PackReceived {
    /// Bytes from its beginning. The next piece begins there.
    pub received: u64,
    /// Whether all of it has come, and it was found to be what it is named.
    pub whole: bool,
}

/// What a storefront still lacks of a recipe.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RecipeNeeds {
    /// Segments that are not there.
    pub segments: Vec<Digest>,
    /// Chunks that are not there, once all segments are: `[first, count]` over the recipe's different chunks in the
    /// order of their first appearance.
    pub chunks: Vec<(u64, u64)>,
}

/// A release to make a build of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct NewBuild {
    /// The release record's exact text: its digest is the release's id.
    pub record: String,
    /// The targets of the record that the storefront is to have; empty for all.
    #[serde(default)]
    pub targets: Vec<Name>,
    /// What the storefront is to call the build; none to let it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name_there: Option<Handle>,
    /// How each depot of those targets is fetched, and what the storefront calls it.
    pub depots: Vec<NewDepot>,
    /// For the team.
    #[serde(default)]
    pub message: Option<String>,
    /// What is new, for players.
    #[serde(default, skip_serializing_if = "Notes::is_empty")]
    pub notes: Notes,
}

/// A depot of a new build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct NewDepot {
    /// Our name, as in the record.
    pub depot: Name,
    /// The storefront's name.
    pub handle: Handle,
    /// A recipe whose tree is the depot's.
    pub recipe: RecipeId,
}

/// A build: a release as a storefront has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Build {
    /// The storefront's own number.
    pub number_there: u64,
    /// The release it was made of.
    pub release: ReleaseId,
    /// How people name it.
    #[serde(flatten)]
    pub name: ReleaseName,
    /// What the storefront calls it, where the publisher said so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name_there: Option<Handle>,
    /// For the team.
    pub message: Option<String>,
    /// What is new, for players.
    #[serde(default)]
    pub notes: Notes,
    /// When it was made.
    #[schemars(with = "String")]
    pub made_at: Timestamp,
    /// Who made it.
    pub made_by: String,
    /// By the record's target names.
    pub targets: BTreeMap<Name, BuildTarget>,
    /// The idempotency key that it was made with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<EventId>,
    /// Set when it was taken away for good.
    #[serde(default)]
    pub withdrawn: Option<WithdrawnBuild>,
}

/// That a build was taken away for good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct WithdrawnBuild {
    /// Why.
    pub because: String,
    /// When.
    #[schemars(with = "String")]
    pub at: Timestamp,
    /// Who.
    pub by: String,
}

/// Takes a build away for good: no branch can get it any more.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Withdraw {
    /// Why.
    pub because: String,
}

/// One target of a build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct BuildTarget {
    /// What it runs on.
    pub systems: Vec<System>,
    /// How it starts: one for all systems, or one for each.
    pub starts: Vec<Start>,
    /// The name of the folder it is installed into.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<FolderName>,
    /// What is downloaded.
    pub depots: Vec<BuildDepot>,
    /// What players can choose of it, each with its default.
    #[serde(default, skip_serializing_if = "Choices::is_empty")]
    pub choices: Choices,
}

/// One depot of a build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct BuildDepot {
    /// The publisher's name.
    pub depot: Name,
    /// The storefront's name.
    pub handle: Handle,
    /// How it is fetched.
    pub recipe: RecipeId,
    /// Which players download it.
    #[serde(default, skip_serializing_if = "Players::are_all")]
    pub players: Players,
    /// Number of files.
    pub files: u64,
    /// Size of all files, in bytes.
    pub size: u64,
    /// Update files to it, for those who have an earlier build of the depot.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub updates: Vec<DepotUpdate>,
}

/// An update file to a depot of a build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DepotUpdate {
    /// The recipe that must be installed.
    pub from: RecipeId,
    /// All of its bytes.
    pub bytes: u64,
}

/// All builds of a title.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct BuildPage {
    /// In the order of making.
    pub builds: Vec<Build>,
    /// Ask with `?after=` this for those that come next; none on the last page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// A branch.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Branch {
    /// Who can follow it.
    pub audience: Audience,
    /// What it has.
    #[serde(flatten)]
    pub facts: BranchFacts,
}

/// All branches of a title.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct BranchList {
    /// In the order of the house rules.
    pub branches: Vec<Branch>,
}

/// Puts builds on a branch.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Move {
    /// The branch's whole new map, by target: the storefront's own numbers.
    pub targets: BTreeMap<Name, u64>,
    /// The earlier revision whose builds are put back; they must be the same. Left out for a promotion.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restores: Option<u64>,
    /// Why, for the team.
    #[serde(default)]
    pub because: Option<String>,
}

/// A move that was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Moved {
    /// What the branch had from then on.
    #[serde(flatten)]
    pub facts: BranchFacts,
    /// The idempotency key it was asked with.
    pub key: EventId,
    /// The earlier revision whose builds were put back; none for a promotion.
    #[serde(default)]
    pub restores: Option<u64>,
    /// Why, for the team.
    #[serde(default)]
    pub because: Option<String>,
}

/// All moves of a branch.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct MovePage {
    /// Oldest first.
    pub moves: Vec<Moved>,
    /// Ask with `?after=` this for those that come next; none on the last page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// An invitation to be made: anyone who has its text can follow the branch. The text itself is made by the one who asks for it,
/// and never sent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct NewInvitation {
    /// The one-way digest of its secret.
    pub id: InvitationId,
    /// Whom it is for: a person or a group, as the publisher calls them.
    #[serde(rename = "for")]
    pub whom: String,
    /// When it ends; none for no end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<String>")]
    pub until: Option<Timestamp>,
    /// How many installed folders may use it; none for any number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folders: Option<u32>,
    /// Editions that anyone who has it counts as owning.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub owns: Vec<Name>,
}

/// An invitation, as its storefront knows it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct InvitationMade {
    /// What was asked for.
    #[serde(flatten)]
    pub new: NewInvitation,
    /// The branch that it is for.
    pub branch: Name,
    /// When it was made.
    #[schemars(with = "String")]
    pub made_at: Timestamp,
    /// By whom.
    pub made_by: String,
    /// How many installed folders have used it.
    pub used_by: u32,
    /// When it was last used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<String>")]
    pub last_used: Option<Timestamp>,
    /// When someone ended it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<String>")]
    pub ended_at: Option<Timestamp>,
}

/// All invitations to a branch.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct InvitationPage {
    /// Oldest first.
    pub invitations: Vec<InvitationMade>,
    /// Ask with `?after=` this for those that come next; none on the last page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// Something that happened at the storefront.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StorefrontEvent {
    /// Rises; ask for what comes after it.
    pub cursor: u64,
    /// When.
    #[schemars(with = "String")]
    pub at: Timestamp,
    /// Who.
    pub by: String,
    /// `title-made`, `build-made`, `build-withdrawn`, `branch-moved`, `invitation-made`, `invitation-ended`.
    pub kind: String,
    /// The build or the branch's revision.
    pub number: u64,
    /// The branch, where one is meant.
    pub branch: Option<Name>,
}

/// What happened since a cursor.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StorefrontEvents {
    /// In order.
    pub events: Vec<StorefrontEvent>,
    /// Ask with this the next time.
    pub next: u64,
}

/// What a player's machine needs to know of a branch.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Play {
    /// For players.
    pub name: String,
    /// The game's identity.
    pub identity: Identity,
    /// What it has.
    #[serde(flatten)]
    pub facts: BranchFacts,
    /// How each target is fetched and started.
    pub builds: BTreeMap<Name, BuildTarget>,
}

/// Why a request was refused. Source: RFC 9457; `type` is one of [`problem`], relative to the storefront.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Problem {
    /// `/problems/NAME`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The same for every occurrence.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What happened this time.
    pub detail: String,
    /// What to do.
    pub fix: String,
    /// The house rules that are in the way.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub refusals: Vec<Refusal>,
}

impl Problem {
    /// Returns the stable name, without the path.
    pub fn name(&self) -> &str {
        self.kind.rsplit('/').next().unwrap_or_default()
    }

    /// Whether it is of this kind.
    pub fn is(&self, kind: problem::Kind) -> bool {
        self.name() == kind.0
    }
}

/// Kinds of problems: name, status, title.
pub mod problem {
    /// A stable name, its HTTP status and its title.
    pub type Kind = (&'static str, u16, &'static str);

    /// Every kind, for the document.
    pub const ALL: [Kind; 18] = [
        MALFORMED,
        NO_ACCESS,
        NO_RIGHT,
        NOT_INVITED,
        NOT_OWNED,
        NOT_FOUND,
        NUMBER_TAKEN,
        EXISTS,
        BRANCH_MOVED,
        TOO_LARGE,
        RULES,
        DAMAGED,
        INCOMPLETE,
        KEY_REUSED,
        CONDITION_MISSING,
        WRONG_OFFSET,
        BUSY,
        FAILED,
    ];
    /// The request cannot be read.
    pub const MALFORMED: Kind = ("malformed", 400, "The request cannot be read");
    /// No token, or one that expired.
    pub const NO_ACCESS: Kind = ("no-access", 401, "Access is missing or has expired");
    /// The token's rights do not cover this.
    pub const NO_RIGHT: Kind = ("no-right", 403, "Your access does not cover this");
    /// The branch is for those who were invited, and no invitation came that holds.
    pub const NOT_INVITED: Kind = ("not-invited", 403, "This branch is for those who were invited");
    /// The depot is for those who own an edition, and nothing came that proves it.
    pub const NOT_OWNED: Kind = ("not-owned", 403, "This is for those who own it");
    /// There is no such thing, or it is someone else's.
    pub const NOT_FOUND: Kind = ("not-found", 404, "There is no such thing here");
    /// Another release has the number.
    pub const NUMBER_TAKEN: Kind = ("number-taken", 409, "Another release has this number");
    /// A title with this handle is there.
    pub const EXISTS: Kind = ("exists", 409, "This exists already");
    /// Someone was faster.
    pub const BRANCH_MOVED: Kind = ("branch-moved", 412, "Someone else moved the branch");
    /// Above a limit of the discovery document.
    pub const TOO_LARGE: Kind = ("too-large", 413, "This is larger than the limit");
    /// A house rule forbids it.
    pub const RULES: Kind = ("house-rules", 422, "A house rule forbids it");
    /// Bytes are not what they are named.
    pub const DAMAGED: Kind = ("damaged", 422, "The bytes are not those that were declared");
    /// A build needs chunks that never came.
    pub const INCOMPLETE: Kind = ("incomplete", 422, "Parts of the build have not arrived");
    /// The key was used for another request.
    pub const KEY_REUSED: Kind = ("key-reused", 422, "The idempotency key belongs to another request");
    /// A piece of a pack begins behind what has come.
    pub const WRONG_OFFSET: Kind = ("wrong-offset", 409, "The piece begins behind what has come");
    /// Too much at once; `Retry-After` says when to come again.
    pub const BUSY: Kind = ("busy", 429, "Too much is asked at once");
    /// The storefront itself failed.
    pub const FAILED: Kind = ("failed", 500, "The storefront failed");
    /// `If-Match` or the key is missing.
    pub const CONDITION_MISSING: Kind = ("condition-missing", 428, "A header that guards this action is missing");
}
