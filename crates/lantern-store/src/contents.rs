//! The files of sealed builds, read back out of a store.

use std::collections::HashMap;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::tree::Node;

use crate::codec::Unpacker;
use crate::locator::Locator;
use crate::pack;
use crate::recipe::{Entry, RecipeError};
use crate::store::{OpenPacks, Store, StoreBases, StoreError};

/// Chunks that are held unpacked: those around the places that are being read.
const HELD_CHUNKS: usize = 256;

/// What a recipe gives, to be read file by file.
#[derive(Debug)]
pub struct Contents<'a> {
    id: RecipeId,
    pub(crate) locator: Locator,
    packs: OpenPacks<'a>,
    bases: StoreBases<'a>,
    held: Mutex<HashMap<Digest, Arc<[u8]>>>,
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
        let (root, entries) = store.recipe(recipe)?;
        let locator = store.locator_of(&root, &entries)?;
        let (packs, bases) = (OpenPacks::of(store), store.bases());
        Ok(Self { id: recipe, locator, packs, bases, held: Mutex::default(), entries })
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
            self.unpack(chunk.digest, &mut unpacker, &mut raw)?;
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
        let (starts, len) = starts(entry.chunks.iter().map(|chunk| chunk.len));
        StoredFile { contents: self, entry, starts, len, at: 0 }
    }

    /// Returns the bytes of a chunk. The last ones are held, and so are their packs.
    ///
    /// # Errors
    /// [`StoreError`].
    pub(crate) fn chunk(&self, digest: Digest) -> Result<Arc<[u8]>, StoreError> {
        if let Some(raw) = lock(&self.held).get(&digest) {
            return Ok(raw.clone());
        }
        let mut raw = Vec::new();
        self.unpack(digest, &mut Unpacker::new(), &mut raw)?;
        let raw: Arc<[u8]> = raw.into();
        let mut held = lock(&self.held);
        if held.len() >= HELD_CHUNKS {
            held.clear();
        }
        held.insert(digest, raw.clone());
        Ok(raw)
    }

    fn unpack(&self, digest: Digest, unpacker: &mut Unpacker, raw: &mut Vec<u8>) -> Result<(), StoreError> {
        let missing = || StoreError::Missing { what: "the chunk", id: digest.to_string() };
        let location = self.locator.find(&digest).ok_or_else(missing)?;
        let (pack, _) = self.locator.packs.get(location.pack as usize).ok_or_else(missing)?;
        let stored = self.packs.read(pack, location.entry.offset, location.entry.stored_len)?;
        let unpacked = pack::unpack(unpacker, &location.entry, &stored, &self.bases);
        raw.clear();
        raw.extend(unpacked.map_err(|source| StoreError::Pack { pack: *pack, source })?);
        Ok(())
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Returns where each of some chunks begins that lie one behind the other, and where the last one ends.
pub(crate) fn starts(lens: impl Iterator<Item = u32>) -> (Vec<u64>, u64) {
    let mut end = 0;
    let begin = |len: u32| {
        let start = end;
        end += u64::from(len);
        start
    };
    let starts = lens.map(begin).collect();
    (starts, end)
}

/// A file of a sealed build, read at any place.
pub struct StoredFile<'a> {
    contents: &'a Contents<'a>,
    entry: &'a Entry,
    /// Where each chunk begins.
    starts: Vec<u64>,
    len: u64,
    at: u64,
}

impl Read for StoredFile<'_> {
    #[expect(clippy::indexing_slicing, reason = "places are found in these very lists")]
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at >= self.len {
            return Ok(0);
        }
        let place = self.starts.partition_point(|start| *start <= self.at).saturating_sub(1);
        let chunk = self.contents.chunk(self.entry.chunks[place].digest);
        let chunk = chunk.map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error.to_string()))?;
        let from = usize::try_from(self.at - self.starts[place]).unwrap_or(usize::MAX);
        let rest = chunk.get(from..).unwrap_or_default();
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
