//! The files of sealed builds, read back out of a store.

use std::io::{self, Read, Seek, SeekFrom, Write};

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::tree::Node;

use crate::codec::Unpacker;
use crate::locator::Locator;
use crate::pack;
use crate::recipe::{ChunkRef, Entry, RecipeError};
use crate::store::{Store, StoreError};

/// What a recipe gives, to be read file by file.
#[derive(Debug)]
pub struct Contents<'a> {
    store: &'a Store,
    id: RecipeId,
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
    /// Opens what a recipe gives.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn open(store: &'a Store, recipe: RecipeId) -> Result<Self, StoreError> {
        let (_, entries) = store.recipe(recipe)?;
        Ok(Self { store, id: recipe, locator: store.locator(recipe)?, entries })
    }

    /// Writes a file's bytes, each chunk and the whole compared with their digests.
    ///
    /// # Errors
    /// [`ContentsError`].
    pub fn write_to(&self, entry: &Entry, out: &mut dyn Write) -> Result<(), ContentsError> {
        let mut unpacker = Unpacker::new();
        let mut hasher = blake3::Hasher::new();
        let mut raw = Vec::new();
        for chunk in &entry.chunks {
            self.unpack(chunk, &mut unpacker, &mut raw)?;
            hasher.update(&raw);
            out.write_all(&raw)?;
        }
        match &entry.node {
            Node::File { digest, .. } if Digest::from_bytes(*hasher.finalize().as_bytes()) != *digest => {
                let source = RecipeError::Digest { what: "the content of a file" };
                Err(StoreError::Recipe { id: self.id, source }.into())
            }
            _ => Ok(()),
        }
    }

    /// Opens a file to be read at any place; each chunk is compared with its digest.
    pub fn read_anywhere<'b>(&'b self, entry: &'b Entry) -> StoredFile<'b> {
        let mut starts = Vec::with_capacity(entry.chunks.len());
        let mut len = 0;
        for chunk in &entry.chunks {
            starts.push(len);
            len += u64::from(chunk.len);
        }
        StoredFile { contents: self, entry, starts, len, at: 0, unpacked: (usize::MAX, Vec::new()) }
    }

    fn unpack(&self, chunk: &ChunkRef, unpacker: &mut Unpacker, raw: &mut Vec<u8>) -> Result<(), StoreError> {
        let missing = || StoreError::Missing { what: "the chunk", id: chunk.digest.to_string() };
        let location = self.locator.find(&chunk.digest).ok_or_else(missing)?;
        let (pack, _) = self.locator.packs.get(location.pack as usize).ok_or_else(missing)?;
        let stored = self.store.read_pack_range(pack, location.entry.offset, location.entry.stored_len)?;
        let unpacked = pack::unpack(unpacker, &location.entry, &stored);
        raw.clear();
        raw.extend(unpacked.map_err(|source| StoreError::Pack { pack: *pack, source })?);
        Ok(())
    }
}

/// A file of a sealed build, read at any place.
pub struct StoredFile<'a> {
    contents: &'a Contents<'a>,
    entry: &'a Entry,
    /// Where each chunk begins.
    starts: Vec<u64>,
    len: u64,
    at: u64,
    /// The chunk that was read last, by its place.
    unpacked: (usize, Vec<u8>),
}

impl Read for StoredFile<'_> {
    #[expect(clippy::indexing_slicing, reason = "places are found in these very lists")]
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at >= self.len {
            return Ok(0);
        }
        let place = self.starts.partition_point(|start| *start <= self.at).saturating_sub(1);
        if self.unpacked.0 != place {
            let chunk = &self.entry.chunks[place];
            let unpacked = self.contents.unpack(chunk, &mut Unpacker::new(), &mut self.unpacked.1);
            unpacked.map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error.to_string()))?;
            self.unpacked.0 = place;
        }
        let from = usize::try_from(self.at - self.starts[place]).unwrap_or(usize::MAX);
        let rest = self.unpacked.1.get(from..).unwrap_or_default();
        let len = rest.len().min(buffer.len());
        buffer[..len].copy_from_slice(&rest[..len]);
        self.at += len as u64;
        Ok(len)
    }
}

impl Seek for StoredFile<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let to = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
            SeekFrom::End(by) => self.len.checked_add_signed(by),
        };
        self.at = to.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}
