//! The storefront protocol: its types, its client, and the trait behind which every kind of storefront stands.
//!
//! - [`protocol`]: the documents that travel; client and server share them.
//! - [`Storefront`] and [`Player`]: what the use cases ask of a place.
//! - [`http::HttpStorefront`]: the client for places that speak the protocol.
//!
//! ```no_run
//! use lantern_storefront::{Storefront, http::HttpStorefront};
//!
//! let place = HttpStorefront::open("http://127.0.0.1:4870", None, Default::default())?;
//! println!("{}", place.discovery()?.name);
//! # Ok::<(), lantern_storefront::PlaceError>(())
//! ```
//!
//! Not here: what is sent when and why (`lantern-project`), and where access is kept.

pub mod http;
pub mod protocol;

use bytes::Bytes;
use lantern_core::digest::{Digest, InvitationId, RecipeId};
use lantern_core::event::EventId;
use lantern_core::names::{Handle, Name};
use lantern_core::rules::HouseRules;

use protocol::{
    Branch, Branches, Build, Builds, Discovery, InvitationMade, InvitationsMade, Move, Moves, NewBuild, NewInvitation,
    Play, Problem, RecipeNeeds, Title, Token, Withdraw,
};

/// Why a storefront did not do what was asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PlaceError {
    /// No answer came. Whether the deed was done is not known.
    #[error("{address} could not be reached")]
    Unreachable {
        /// The origin.
        address: String,
        /// The reason.
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// The storefront refused, and said why.
    #[error("{}", .0.detail)]
    Refused(Box<Problem>),
    /// The storefront failed.
    #[error("{address} answered with status {status}")]
    Failed {
        /// The origin.
        address: String,
        /// The HTTP status.
        status: u16,
    },
    /// What came is not what the protocol says.
    #[error("{address} answered with something that is not {what}")]
    Nonsense {
        /// The origin.
        address: String,
        /// What was expected.
        what: &'static str,
        /// How it is wrong.
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// The storefront speaks another protocol.
    #[error("{address} speaks version {theirs} of the protocol, this lantern speaks {ours}", ours = protocol::PROTOCOL)]
    Protocol {
        /// The origin.
        address: String,
        /// Its version.
        theirs: u32,
    },
    /// The name or secret is wrong.
    #[error("{address} does not accept this name and secret")]
    WrongSecret {
        /// The origin.
        address: String,
    },
    /// Access is given and at once not accepted, again and again. Whether the deed was done is not known: an earlier
    /// try of it may have got through.
    #[error("{address} gives access and does not accept it")]
    AccessNotKept {
        /// The origin.
        address: String,
    },
    /// Nobody connected here yet.
    #[error("there is no access to {address} on this computer")]
    NotConnected {
        /// The origin.
        address: String,
    },
    /// Someone asked to stop.
    #[error("stopped")]
    Stopped,
}

impl PlaceError {
    /// Returns the problem's stable name when the storefront refused.
    pub fn problem(&self) -> Option<&str> {
        match self {
            Self::Refused(problem) => Some(problem.name()),
            _ => None,
        }
    }
}

/// What the use cases ask of a place, as its publisher. Repeating any of it harms nothing.
///
/// Every method fails with [`PlaceError`].
pub trait Storefront: Sync {
    /// Returns what the place is.
    fn discovery(&self) -> Result<Discovery, PlaceError>;
    /// Tries the access and returns its rights.
    fn try_access(&self) -> Result<Token, PlaceError>;
    /// Returns what the place demands.
    fn rules(&self) -> Result<HouseRules, PlaceError>;
    /// Returns a title.
    fn title(&self, title: &Handle) -> Result<Title, PlaceError>;
    /// Brings a recipe's root and says what is still lacking.
    fn put_recipe(&self, title: &Handle, id: RecipeId, root: Vec<u8>) -> Result<RecipeNeeds, PlaceError>;
    /// Brings a segment.
    fn put_segment(&self, title: &Handle, digest: &Digest, bytes: Vec<u8>) -> Result<(), PlaceError>;
    /// Brings a pack.
    fn put_pack(&self, title: &Handle, digest: &Digest, bytes: Bytes) -> Result<(), PlaceError>;
    /// Returns a recipe's root as the place has it.
    fn get_recipe(&self, title: &Handle, id: RecipeId) -> Result<Vec<u8>, PlaceError>;
    /// Returns a segment as the place has it.
    fn get_segment(&self, title: &Handle, digest: &Digest) -> Result<Vec<u8>, PlaceError>;
    /// Returns where the place has each chunk of a recipe.
    fn get_locator(&self, title: &Handle, id: RecipeId) -> Result<Vec<u8>, PlaceError>;
    /// Returns `len` bytes of a pack from `offset`, as the place has it.
    fn get_pack(&self, title: &Handle, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, PlaceError>;
    /// Returns all builds.
    fn builds(&self, title: &Handle) -> Result<Builds, PlaceError>;
    /// Returns the exact text of the release record that a build was made of.
    fn record(&self, title: &Handle, build: u64) -> Result<Vec<u8>, PlaceError>;
    /// Makes a build; equal content gives the build that exists.
    fn make_build(&self, title: &Handle, key: EventId, build: &NewBuild) -> Result<Build, PlaceError>;
    /// Takes a build away for good; one that is away already stays so.
    fn withdraw_build(&self, title: &Handle, build: u64, key: EventId, why: &Withdraw) -> Result<Build, PlaceError>;
    /// Returns all branches.
    fn branches(&self, title: &Handle) -> Result<Branches, PlaceError>;
    /// Returns every move of a branch.
    fn moves(&self, title: &Handle, branch: &Name) -> Result<Moves, PlaceError>;
    /// Moves a branch that still is at `revision`.
    fn move_branch(
        &self,
        title: &Handle,
        branch: &Name,
        revision: u64,
        key: EventId,
        wanted: &Move,
    ) -> Result<Branch, PlaceError>;
    /// Makes an invitation to a branch; one that is there already stays as it is.
    fn invite(
        &self,
        title: &Handle,
        branch: &Name,
        key: EventId,
        invitation: &NewInvitation,
    ) -> Result<InvitationMade, PlaceError>;
    /// Returns all invitations to a branch.
    fn invitations(&self, title: &Handle, branch: &Name) -> Result<InvitationsMade, PlaceError>;
    /// Ends an invitation; one that has ended already stays so.
    fn end_invitation(
        &self,
        title: &Handle,
        branch: &Name,
        key: EventId,
        id: InvitationId,
    ) -> Result<InvitationMade, PlaceError>;
}

/// What a player's machine asks of a place, without access.
pub trait Player: Sync {
    /// Returns what a branch has.
    fn play(&self, title: &Handle, branch: &Name) -> Result<Play, PlaceError>;
    /// Returns a recipe's root.
    fn play_recipe(&self, title: &Handle, branch: &Name, id: RecipeId) -> Result<Vec<u8>, PlaceError>;
    /// Returns a segment.
    fn play_segment(&self, title: &Handle, branch: &Name, digest: &Digest) -> Result<Vec<u8>, PlaceError>;
    /// Returns a locator.
    fn play_locator(&self, title: &Handle, branch: &Name, id: RecipeId) -> Result<Vec<u8>, PlaceError>;
    /// Returns `len` bytes of a pack from `offset`.
    fn play_pack(
        &self,
        title: &Handle,
        branch: &Name,
        pack: &Digest,
        offset: u32,
        len: u32,
    ) -> Result<Vec<u8>, PlaceError>;
}
