//! The files of sealed builds, read back out of a store.

use std::io::{self, Write};

use lantern_core::digest::{Digest, ManifestId};
use lantern_core::tree::Node;

use crate::codec::Unpacker;
use crate::locator::Locator;
use crate::manifest::{Entry, ManifestError};
use crate::pack;
use crate::store::{Store, StoreError};

/// What a manifest gives, to be read file by file.
#[derive(Debug)]
pub struct Contents<'a> {
    store: &'a Store,
    id: ManifestId,
    locator: Locator,
    /// In order.
    pub entries: Vec<Entry>,
}

/// Why a file could not be read back or written on.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ContentsError {
    /// The store is damaged or cannot be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The other side does not take it.
    #[error("could not write")]
    Write(#[from] io::Error),
}

impl<'a> Contents<'a> {
    /// Opens what a manifest gives.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn open(store: &'a Store, manifest: ManifestId) -> Result<Self, StoreError> {
        let (_, entries) = store.manifest(manifest)?;
        Ok(Self { store, id: manifest, locator: store.locator(manifest)?, entries })
    }

    /// Writes a file's bytes, each chunk and the whole held against their digests.
    ///
    /// # Errors
    /// [`ContentsError`].
    pub fn write_to(&self, entry: &Entry, out: &mut dyn Write) -> Result<(), ContentsError> {
        let mut unpacker = Unpacker::new();
        let mut hasher = blake3::Hasher::new();
        for chunk in &entry.chunks {
            let missing = || StoreError::Missing { what: "the chunk", id: chunk.digest.to_string() };
            let location = self.locator.find(&chunk.digest).ok_or_else(missing)?;
            let (pack, _) = self.locator.packs.get(location.pack as usize).ok_or_else(missing)?;
            let stored = self.store.read_pack_range(pack, location.entry.offset, location.entry.stored_len)?;
            let raw = pack::unpack(&mut unpacker, &location.entry, &stored)
                .map_err(|source| StoreError::Pack { pack: *pack, source })?;
            hasher.update(raw);
            out.write_all(raw)?;
        }
        match &entry.node {
            Node::File { digest, .. } if Digest::from_bytes(*hasher.finalize().as_bytes()) != *digest => {
                let source = ManifestError::Digest { what: "the content of a file" };
                Err(StoreError::Manifest { id: self.id, source }.into())
            }
            _ => Ok(()),
        }
    }
}
