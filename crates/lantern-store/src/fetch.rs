//! Where an installer gets manifests and chunks from.

use lantern_core::digest::{Digest, ManifestId};

use crate::store::{Store, StoreError};

/// Why something could not be fetched; what to do about it is for the caller to know.
pub type FetchError = Box<dyn std::error::Error + Send + Sync>;

/// Hands out the pieces of a build. Nothing that it returns is trusted: the installer checks every digest.
pub trait Fetch: Sync {
    /// Returns a manifest's root.
    ///
    /// # Errors
    /// The source's own.
    fn manifest(&self, id: ManifestId) -> Result<Vec<u8>, FetchError>;

    /// Returns a segment of a manifest.
    ///
    /// # Errors
    /// The source's own.
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError>;

    /// Returns a manifest's locator.
    ///
    /// # Errors
    /// The source's own.
    fn locator(&self, id: ManifestId) -> Result<Vec<u8>, FetchError>;

    /// Returns `len` bytes of a pack from `offset`.
    ///
    /// # Errors
    /// The source's own.
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError>;
}

impl Fetch for Store {
    fn manifest(&self, id: ManifestId) -> Result<Vec<u8>, FetchError> {
        Ok(self.manifest_bytes(id)?)
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        Ok(self.segment_bytes(digest)?)
    }
    fn locator(&self, id: ManifestId) -> Result<Vec<u8>, FetchError> {
        Ok(Self::locator(self, id)?.encode())
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        let read: Result<_, StoreError> = self.read_pack_range(pack, offset, len);
        Ok(read?)
    }
}
