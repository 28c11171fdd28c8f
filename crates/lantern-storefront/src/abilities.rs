//! What the use cases ask of a storefront, cut by ability: not every kind can do everything.

use std::fmt::Debug;
use std::io;

use bytes::Bytes;
use jiff::Timestamp;
use lantern_core::digest::{Digest, InvitationId, RecipeId};
use lantern_core::event::EventId;
use lantern_core::names::{Handle, Name};
use lantern_core::rules::HouseRules;

use crate::StorefrontError;
use crate::protocol::{
    Branch, Build, InvitationMade, Move, Moved, NewBuild, NewInvitation, Play, RecipeNeeds, Title, Withdraw,
};

/// A storefront of any kind, with what it can do.
///
/// Repeating any call harms nothing. An ability that a kind does not have is [`StorefrontError::Unable`], which is what the
/// methods here return where a kind does not write its own.
pub trait Storefront: Identify + Debug + Send + Sync {
    /// The content of builds.
    ///
    /// # Errors
    /// [`StorefrontError::Unable`].
    fn content(&self) -> Result<&dyn Content, StorefrontError> {
        Err(self.unable("take the content of builds"))
    }

    /// Builds.
    ///
    /// # Errors
    /// [`StorefrontError::Unable`].
    fn builds(&self) -> Result<&dyn Builds, StorefrontError> {
        Err(self.unable("keep builds"))
    }

    /// Branches.
    ///
    /// # Errors
    /// [`StorefrontError::Unable`].
    fn branches(&self) -> Result<&dyn Branches, StorefrontError> {
        Err(self.unable("keep branches"))
    }

    /// Invitations to branches.
    ///
    /// # Errors
    /// [`StorefrontError::Unable`].
    fn invitations(&self) -> Result<&dyn Invitations, StorefrontError> {
        Err(self.unable("invite players"))
    }

    /// What players get.
    ///
    /// # Errors
    /// [`StorefrontError::Unable`].
    fn player(&self) -> Result<&dyn Player, StorefrontError> {
        Err(self.unable("let players install with this tool"))
    }

    /// The error of an ability that is not there.
    fn unable(&self, what: &'static str) -> StorefrontError {
        StorefrontError::Unable { address: self.address().to_owned(), what }
    }
}

/// Who a storefront is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StorefrontFacts {
    /// Its identity, whatever its name or address.
    pub id: String,
    /// For people.
    pub name: String,
    /// What time it is by its clock, where it says so.
    pub now: Option<Timestamp>,
}

/// Who a storefront is, whom it lets in and what it demands. Every kind has this.
pub trait Identify {
    /// Returns where it is, for people; access is kept for this address alone.
    fn address(&self) -> &str;

    /// Waits longer from now on for a line that went away: content travels.
    fn be_patient(&self) {}

    /// Returns who it is. It is asked once.
    ///
    /// # Errors
    /// [`StorefrontError`].
    fn identify(&self) -> Result<StorefrontFacts, StorefrontError>;

    /// Tries the access and returns its rights.
    ///
    /// # Errors
    /// [`StorefrontError::WrongSecret`], [`StorefrontError::NotConnected`], and the others.
    fn try_access(&self) -> Result<Vec<String>, StorefrontError>;

    /// Returns what it demands.
    ///
    /// # Errors
    /// [`StorefrontError`].
    fn rules(&self) -> Result<HouseRules, StorefrontError>;

    /// Returns a title.
    ///
    /// # Errors
    /// [`StorefrontError`].
    fn title(&self, title: &Handle) -> Result<Title, StorefrontError>;
}

/// Something long that is sent: where a storefront takes pieces, no more than one of them is in memory.
pub trait Upload: Sync {
    /// In bytes.
    fn size(&self) -> u64;

    /// Returns bytes that lie in it.
    ///
    /// # Errors
    /// The system's.
    fn piece(&self, offset: u64, len: usize) -> io::Result<Bytes>;
}

impl Upload for Bytes {
    fn size(&self) -> u64 {
        self.len() as u64
    }

    fn piece(&self, offset: u64, len: usize) -> io::Result<Bytes> {
        let start = usize::try_from(offset).map_err(io::Error::other)?;
        let end = start.checked_add(len).filter(|end| *end <= self.len()).ok_or(io::ErrorKind::UnexpectedEof)?;
        Ok(self.slice(start..end))
    }
}

/// The content of builds, as those who make the game bring and read it. Every method fails with [`StorefrontError`].
pub trait Content: Sync {
    /// Brings a recipe's root and says what is still lacking.
    fn put_recipe(&self, title: &Handle, id: RecipeId, root: Vec<u8>) -> Result<RecipeNeeds, StorefrontError>;
    /// Brings a segment.
    fn put_segment(&self, title: &Handle, digest: &Digest, bytes: Vec<u8>) -> Result<(), StorefrontError>;
    /// Brings a pack.
    fn put_pack(&self, title: &Handle, digest: &Digest, bytes: Bytes) -> Result<(), StorefrontError>;
    /// Whether it takes update files.
    fn takes_updates(&self) -> Result<bool, StorefrontError>;
    /// Whether it puts together what an update file gives that comes before its build.
    fn rebuilds(&self) -> Result<bool, StorefrontError> {
        Ok(false)
    }
    /// Brings an update file from one recipe to another, both of which it has; `on` is called with the bytes that have arrived since.
    fn put_update(
        &self,
        title: &Handle,
        from_to: (RecipeId, RecipeId),
        update: &dyn Upload,
        on: &dyn Fn(u64),
    ) -> Result<(), StorefrontError>;
    /// Returns a recipe's root as the storefront has it.
    fn get_recipe(&self, title: &Handle, id: RecipeId) -> Result<Vec<u8>, StorefrontError>;
    /// Returns a segment as the storefront has it.
    fn get_segment(&self, title: &Handle, digest: &Digest) -> Result<Vec<u8>, StorefrontError>;
    /// Returns where the storefront has each chunk of a recipe.
    fn get_locator(&self, title: &Handle, segment: &Digest) -> Result<Vec<u8>, StorefrontError>;
    /// Returns `len` bytes of a pack from `offset`, as the storefront has it.
    fn get_pack(&self, title: &Handle, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, StorefrontError>;
}

/// Builds: releases as a storefront has them. Every method fails with [`StorefrontError`].
pub trait Builds: Sync {
    /// Returns all builds, oldest first.
    fn list(&self, title: &Handle) -> Result<Vec<Build>, StorefrontError>;
    /// Returns the exact text of the release record that a build was made of.
    fn record(&self, title: &Handle, build: u64) -> Result<Vec<u8>, StorefrontError>;
    /// Makes a build; equal content gives the build that exists.
    fn make(&self, title: &Handle, key: EventId, build: &NewBuild) -> Result<Build, StorefrontError>;
    /// Takes a build away for good; one that is away already stays so.
    fn withdraw(&self, title: &Handle, build: u64, key: EventId, why: &Withdraw) -> Result<Build, StorefrontError>;
}

/// Branches, and what each of them has. Every method fails with [`StorefrontError`].
pub trait Branches: Sync {
    /// Returns all branches.
    fn list(&self, title: &Handle) -> Result<Vec<Branch>, StorefrontError>;
    /// Returns every move of a branch, oldest first.
    fn moves(&self, title: &Handle, branch: &Name) -> Result<Vec<Moved>, StorefrontError>;
    /// Moves a branch that still is at `revision`.
    fn make_move(
        &self,
        title: &Handle,
        branch: &Name,
        revision: u64,
        key: EventId,
        wanted: &Move,
    ) -> Result<Branch, StorefrontError>;
}

/// Invitations to branches that are not for everybody. Every method fails with [`StorefrontError`].
pub trait Invitations: Sync {
    /// Returns all invitations to a branch, oldest first.
    fn list(&self, title: &Handle, branch: &Name) -> Result<Vec<InvitationMade>, StorefrontError>;
    /// Makes an invitation; one that is there already stays as it is.
    fn invite(
        &self,
        title: &Handle,
        branch: &Name,
        key: EventId,
        invitation: &NewInvitation,
    ) -> Result<InvitationMade, StorefrontError>;
    /// Ends an invitation; one that has ended already stays so.
    fn end(
        &self,
        title: &Handle,
        branch: &Name,
        key: EventId,
        id: InvitationId,
    ) -> Result<InvitationMade, StorefrontError>;
}

/// What a player's machine asks, without access. Every method fails with [`StorefrontError`].
pub trait Player: Sync {
    /// Returns what a branch has.
    fn branch(&self, title: &Handle, branch: &Name) -> Result<Play, StorefrontError>;
    /// Returns a recipe's root.
    fn recipe(&self, title: &Handle, branch: &Name, id: RecipeId) -> Result<Vec<u8>, StorefrontError>;
    /// Returns a segment.
    fn segment(&self, title: &Handle, branch: &Name, digest: &Digest) -> Result<Vec<u8>, StorefrontError>;
    /// Returns the locator of a segment.
    fn locator(&self, title: &Handle, branch: &Name, segment: &Digest) -> Result<Vec<u8>, StorefrontError>;
    /// Returns `len` bytes of a pack from `offset`.
    fn pack(
        &self,
        title: &Handle,
        branch: &Name,
        pack: &Digest,
        offset: u32,
        len: u32,
    ) -> Result<Vec<u8>, StorefrontError>;
    /// Returns `len` bytes of an update file from `offset`; fewer where it ends.
    fn update(
        &self,
        title: &Handle,
        branch: &Name,
        recipes: (RecipeId, RecipeId),
        offset: u32,
        len: u32,
    ) -> Result<Vec<u8>, StorefrontError>;
    /// Takes back the memory that a part came in, for the next one to come in.
    fn give_back(&self, _: Vec<u8>) {}
}
