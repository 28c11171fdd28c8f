//! Which chunks there are and where each lies, in little memory: a store may hold millions of them.

use std::collections::HashMap;

use indexmap::IndexMap;
use lantern_core::digest::Digest;

use crate::codec::Codec;
use crate::pack::ChunkEntry;

/// A chunk's place; some 80 bytes with its digest and the index over it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Place {
    pack: u32,
    offset: u32,
    stored_len: u32,
    raw_len: u32,
    whole_len: u32,
    codec: Codec,
}

impl Place {
    const fn of(pack: u32, entry: &ChunkEntry) -> Self {
        let ChunkEntry { codec, offset, stored_len, raw_len, whole_len, .. } = *entry;
        Self { pack, offset, stored_len, raw_len, whole_len, codec }
    }
}

/// Chunks by digest, each with its pack and its entry there. What comes in first stays, but for a difference.
#[derive(Debug, Clone, Default)]
pub struct ChunkIndex {
    /// None while it is being written.
    packs: Vec<Option<(Digest, u32)>>,
    numbers: HashMap<Digest, u32>,
    chunks: IndexMap<Digest, Place>,
}

impl ChunkIndex {
    /// Adds a pack of so many bytes, unless it is known; what it holds is added with the number that is returned.
    pub fn add_pack(&mut self, name: Digest, len: u32) -> u32 {
        if let Some(number) = self.number_of(&name) {
            return number;
        }
        let number = self.open_pack();
        self.name_pack(number, name, len);
        number
    }

    /// Returns the number of a pack.
    pub fn number_of(&self, name: &Digest) -> Option<u32> {
        self.numbers.get(name).copied()
    }

    /// Adds a pack that is still being written.
    pub fn open_pack(&mut self) -> u32 {
        self.packs.push(None);
        u32::try_from(self.packs.len() - 1).expect("fewer than 2^32 packs")
    }

    /// Gives a pack that was being written its name and length.
    pub fn name_pack(&mut self, number: u32, name: Digest, len: u32) {
        if let Some(pack) = self.packs.get_mut(number as usize) {
            *pack = Some((name, len));
            self.numbers.insert(name, number);
        }
    }

    /// Adds a chunk of a pack, unless it is known; returns its index. One that is whole is better than one that is a difference.
    pub fn add(&mut self, pack: u32, entry: &ChunkEntry) -> u32 {
        let slot = self.chunks.entry(entry.digest);
        let index = slot.index();
        let place = slot.or_insert_with(|| Place::of(pack, entry));
        if place.codec == Codec::Difference && entry.codec != Codec::Difference {
            *place = Place::of(pack, entry);
        }
        u32::try_from(index).expect("fewer than 2^32 chunks")
    }

    /// Gives a chunk another place than the one that was known.
    pub fn replace(&mut self, pack: u32, entry: &ChunkEntry) {
        self.chunks.insert(entry.digest, Place::of(pack, entry));
    }

    /// Whether a chunk is known.
    pub fn contains(&self, chunk: &Digest) -> bool {
        self.chunks.contains_key(chunk)
    }

    /// Returns the index of a chunk, in the order of adding.
    pub fn index_of(&self, chunk: &Digest) -> Option<u32> {
        self.chunks.get_index_of(chunk).and_then(|index| u32::try_from(index).ok())
    }

    /// Returns a chunk by its index, with the number of its pack.
    pub fn at(&self, index: u32) -> Option<(u32, ChunkEntry)> {
        let (digest, place) = self.chunks.get_index(index as usize)?;
        let Place { pack, offset, stored_len, raw_len, whole_len, codec } = *place;
        Some((pack, ChunkEntry { digest: *digest, codec, offset, stored_len, raw_len, whole_len }))
    }

    /// Returns the name and length of a chunk's pack, and its entry there.
    pub fn find(&self, chunk: &Digest) -> Option<(Digest, u32, ChunkEntry)> {
        let (pack, entry) = self.at(self.index_of(chunk)?)?;
        let (name, len) = self.pack(pack)?;
        Some((name, len, entry))
    }

    /// Returns a pack's name and length.
    pub fn pack(&self, number: u32) -> Option<(Digest, u32)> {
        self.packs.get(number as usize).copied().flatten()
    }

    /// Returns how many chunks there are.
    pub fn len(&self) -> usize {
        self.chunks.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.chunks.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_comes_first_stays() {
        let entry = |text: &str, offset| ChunkEntry {
            digest: Digest::of(text.as_bytes()),
            codec: Codec::Plain,
            offset,
            stored_len: 20,
            raw_len: 20,
            whole_len: 20,
        };
        let mut known = ChunkIndex::default();
        assert!(known.is_empty());
        let writing = known.open_pack();
        assert_eq!((known.add(writing, &entry("a", 10)), known.add(writing, &entry("b", 30))), (0, 1));
        known.name_pack(writing, Digest::of(b"p"), 100);
        assert_eq!(known.add_pack(Digest::of(b"p"), 100), writing);
        let other = known.add_pack(Digest::of(b"q"), 200);
        assert_eq!(known.add(other, &entry("a", 50)), 0, "it is known already");
        assert_eq!(known.find(&Digest::of(b"a")), Some((Digest::of(b"p"), 100, entry("a", 10))));
        assert_eq!(known.at(1), Some((writing, entry("b", 30))));
        assert_eq!((known.len(), known.at(2), known.find(&Digest::of(b"c"))), (2, None, None));
        let difference = ChunkEntry { codec: Codec::Difference, stored_len: 5, ..entry("d", 10) };
        for (entry, stays) in [(difference, difference), (entry("d", 70), entry("d", 70)), (difference, entry("d", 70))]
        {
            known.add(other, &entry);
            assert_eq!(known.find(&Digest::of(b"d")).map(|found| found.2), Some(stays));
        }
    }
}
