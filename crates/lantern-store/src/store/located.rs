//! Where what a store holds lies: locators of segments, and the index of all chunks.

use std::collections::{BTreeMap, BTreeSet};

use lantern_core::digest::{Digest, RecipeId};

use super::{Store, StoreError};
use crate::chunk_index::ChunkIndex;
use crate::codec::Codec;
use crate::durable;
use crate::locator::{self, Locator};
use crate::pack::ChunkEntry;
use crate::recipe::{self, ChunkRef, Entry, Root, SegmentRef};

impl Store {
    /// Adds what a recipe names to the chunks that are known; returns its different chunks in the order of their first appearance, by
    /// their indices.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn add_chunks_of(&self, id: RecipeId, known: &mut ChunkIndex) -> Result<Vec<u32>, StoreError> {
        let (root, entries) = self.recipe(id)?;
        self.add_chunks(&root, &entries, known)
    }

    /// As [`Self::add_chunks_of`], of a recipe that was read.
    ///
    /// # Errors
    /// [`StoreError`].
    #[expect(clippy::indexing_slicing, reason = "indices are its own")]
    pub(crate) fn add_chunks(
        &self,
        root: &Root,
        entries: &[Entry],
        known: &mut ChunkIndex,
    ) -> Result<Vec<u32>, StoreError> {
        let locator = self.locator_of(root, entries)?;
        let numbers: Vec<u32> = locator.packs.iter().map(|(name, len)| known.add_pack(*name, *len)).collect();
        let mut is_listed: Vec<bool> = Vec::new();
        let mut out = Vec::new();
        for chunk in entries.iter().flat_map(|entry| &entry.chunks) {
            let missing = || StoreError::Missing { what: "the chunk", id: chunk.digest.to_string() };
            let index = match known.index_of(&chunk.digest) {
                Some(index) => index,
                None => {
                    let location = locator.find(&chunk.digest).ok_or_else(missing)?;
                    let number = numbers.get(location.pack as usize).ok_or_else(missing)?;
                    known.add(*number, &location.entry)
                }
            };
            if is_listed.len() <= index as usize {
                is_listed.resize(known.len(), false);
            }
            if !std::mem::replace(&mut is_listed[index as usize], true) {
                out.push(index);
            }
        }
        Ok(out)
    }

    /// Returns where every chunk of the store lies, without packs that are damaged.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn known_chunks(&self) -> Result<ChunkIndex, StoreError> {
        let mut known = ChunkIndex::default();
        self.each_table(|pack, len, entries| {
            let number = known.add_pack(pack, len);
            entries.iter().for_each(|entry| {
                known.add(number, entry);
            });
        })?;
        Ok(known)
    }

    /// Goes through the tables of packs that are not damaged; the length of each comes along.
    pub(super) fn each_table(&self, mut take: impl FnMut(Digest, u32, &[ChunkEntry])) -> Result<(), StoreError> {
        let damaged = self.damaged()?;
        for pack in self.packs()?.into_iter().filter(|pack| !damaged.contains(pack)) {
            let (len, entries) = match self.pack_table(&pack) {
                // One of which not even the table can be read.
                Err(StoreError::Pack { .. }) => {
                    self.mark_damaged(&pack)?;
                    continue;
                }
                other => other?,
            };
            take(pack, len, &entries);
        }
        Ok(())
    }

    /// Writes the locators of a recipe's segments. One stays that knows every chunk that is known, in packs that are there and are none of
    /// `leaving`.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn write_locators(
        &self,
        root: &Root,
        entries: &[Entry],
        known: &ChunkIndex,
        leaving: &BTreeSet<Digest>,
    ) -> Result<(), StoreError> {
        let (damaged, fresh) = (self.damaged()?, self.fresh()?);
        for (segment, chunks) in recipe::chunks_by_segment(root, entries) {
            let stays = self.locator_of_segment(segment, &chunks).is_ok_and(|there| {
                there.packs.iter().all(|(pack, len)| !leaving.contains(pack) && self.has_pack(pack, *len, &damaged))
                    && chunks.iter().all(|c| there.find(&c.digest).is_some() || !known.contains(&c.digest))
            });
            if !stays {
                // From now on they are named.
                let packs = chunks.iter().filter(|_| !fresh.is_empty()).filter_map(|chunk| known.find(&chunk.digest));
                let named: BTreeSet<Digest> = packs.map(|(pack, ..)| pack).collect();
                self.forget_fresh(fresh.iter().filter(|pack| named.contains(pack)))?;
                let bytes = locator::encode(&segment.digest, &chunks, known, &self.packs_of_bases(&chunks, known)?);
                durable::write_whole(&self.locator_path(&segment.digest), &bytes)?;
            }
        }
        Ok(())
    }

    /// Returns the packs that hold what some chunks are differences to, as far as these can be read.
    fn packs_of_bases(&self, chunks: &[ChunkRef], known: &ChunkIndex) -> Result<Vec<(Digest, u32)>, StoreError> {
        let mut thin: BTreeMap<Digest, Vec<ChunkEntry>> = BTreeMap::new();
        for (pack, _, entry) in chunks.iter().filter_map(|chunk| known.find(&chunk.digest)) {
            if entry.codec == Codec::Difference {
                thin.entry(pack).or_default().push(entry);
            }
        }
        let mut out = BTreeSet::new();
        for (pack, differences) in thin {
            match self.bases_of(&pack, &differences) {
                Err(StoreError::Pack { .. }) => {}
                bases => out.extend(
                    bases?.iter().flatten().filter_map(|base| known.find(base)).map(|(name, len, _)| (name, len)),
                ),
            }
        }
        Ok(out.into_iter().collect())
    }

    /// Reads the locator of a segment, as bytes that nobody has looked at.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn locator_bytes(&self, segment: &Digest) -> Result<Vec<u8>, StoreError> {
        self.read(&self.locator_path(segment), locator::MAX_LOCATOR_LEN, "the locator of the segment", segment)
    }

    fn locator_of_segment(&self, segment: &SegmentRef, chunks: &[ChunkRef]) -> Result<Locator, StoreError> {
        let segment = segment.digest;
        let damaged = |source| StoreError::Locator { segment, source };
        Locator::decode(&segment, chunks, &self.locator_bytes(&segment)?).map_err(damaged)
    }

    /// Returns how long the locator of each segment that has chunks is where these are whole, as elsewhere.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn locator_lens(&self, root: &Root, entries: &[Entry]) -> Result<Vec<(Digest, u64)>, StoreError> {
        let parts = recipe::chunks_by_segment(root, entries);
        let len = |(segment, chunks): (&SegmentRef, Vec<ChunkRef>)| {
            let len = self.locator_bytes(&segment.digest)?.len() as u64;
            Ok((segment.digest, len - self.locator_of_segment(segment, &chunks)?.of_differences()))
        };
        parts.map(len).collect()
    }

    /// Reads where everything lies that a recipe names.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn locator_of(&self, root: &Root, entries: &[Entry]) -> Result<Locator, StoreError> {
        let parts = recipe::chunks_by_segment(root, entries);
        let parts: Result<Vec<Locator>, StoreError> =
            parts.map(|(segment, chunks)| self.locator_of_segment(segment, &chunks)).collect();
        Ok(Locator::join(&parts?))
    }

    /// Reads the names and lengths of the packs in which everything lies that a recipe names.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn packs_of(&self, root: &Root) -> Result<BTreeSet<(Digest, u32)>, StoreError> {
        let mut out = BTreeSet::new();
        for SegmentRef { digest: segment, .. } in root.segments.iter().filter(|segment| segment.chunks > 0) {
            let damaged = |source| StoreError::Locator { segment: *segment, source };
            out.extend(locator::packs_of(segment, &self.locator_bytes(segment)?).map_err(damaged)?);
        }
        Ok(out)
    }
}
