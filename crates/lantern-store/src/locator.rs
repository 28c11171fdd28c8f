//! Locators: which pack holds each chunk of a recipe. Made again wherever packs are kept; changes no id.
//! Described in `docs/formats/locator.md`.

use std::collections::{BTreeSet, HashMap};
use std::num::NonZeroUsize;

use lantern_core::bytes::{ByteReader, Head, ReadError};
use lantern_core::digest::{Digest, RecipeId};

use crate::chunk_index::ChunkIndex;
use crate::codec::MAX_RAW_LEN;
use crate::pack::ChunkEntry;

const HEAD: Head = Head { magic: *b"LNLC", version: 1, what: "a locator" };
const PACK_LEN: NonZeroUsize = NonZeroUsize::new(36).expect("not zero");
pub use lantern_core::limits::MAX_LOCATOR_LEN;

/// Where one chunk lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Location {
    /// Index into [`Locator::packs`].
    pub pack: u32,
    /// In that pack.
    pub entry: ChunkEntry,
}

/// Where the chunks of one recipe lie.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Locator {
    /// The recipe it is for.
    pub recipe: RecipeId,
    /// Each pack's name and length in bytes.
    pub packs: Vec<(Digest, u32)>,
    /// Sorted by chunk digest.
    locations: Vec<Location>,
}

impl Locator {
    /// Makes a locator of the chunks that a recipe names, by their indices in what is known.
    #[expect(clippy::indexing_slicing, reason = "every pack of it was put in")]
    pub fn new(recipe: RecipeId, known: &ChunkIndex, chunks: impl Iterator<Item = u32>) -> Self {
        let mut locations: Vec<Location> =
            chunks.filter_map(|index| known.at(index)).map(|(pack, entry)| Location { pack, entry }).collect();
        locations.sort_unstable_by_key(|l| l.entry.digest);
        let meant: BTreeSet<u32> = locations.iter().map(|l| l.pack).collect();
        let mut named: Vec<(Digest, u32, u32)> =
            meant.into_iter().filter_map(|n| known.pack(n).map(|(name, len)| (name, len, n))).collect();
        named.sort_unstable();
        let index: HashMap<u32, u32> = named.iter().zip(0..).map(|((_, _, number), i)| (*number, i)).collect();
        for location in &mut locations {
            location.pack = index[&location.pack];
        }
        Self { recipe, packs: named.into_iter().map(|(name, len, _)| (name, len)).collect(), locations }
    }

    /// Returns where a chunk lies.
    pub fn find(&self, chunk: &Digest) -> Option<&Location> {
        let at = self.locations.binary_search_by_key(chunk, |l| l.entry.digest).ok()?;
        self.locations.get(at)
    }

    /// Returns where each chunk lies, in the order of their digests.
    pub fn locations(&self) -> impl Iterator<Item = &Location> {
        self.locations.iter()
    }

    /// Returns the bytes that are stored.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Vec::with_capacity(64 + self.packs.len() * 36 + self.locations.len() * 52);
        HEAD.write(&mut out);
        out.extend(self.recipe.0.as_bytes());
        out.extend(u32::try_from(self.packs.len()).expect("fewer than 2^32 packs").to_le_bytes());
        for (pack, len) in &self.packs {
            out.extend(pack.as_bytes());
            out.extend(len.to_le_bytes());
        }
        out.extend(u32::try_from(self.locations.len()).expect("fewer than 2^32 chunks").to_le_bytes());
        for location in &self.locations {
            out.extend(location.pack.to_le_bytes());
            location.entry.write(&mut out);
        }
        let digest = Digest::of(&out);
        out.extend(digest.as_bytes());
        out
    }

    /// Reads the bytes of a locator.
    ///
    /// # Errors
    /// [`ReadError`] for broken bytes, another recipe's locator, or a chunk that lies outside its pack.
    pub fn decode(recipe: RecipeId, bytes: &[u8]) -> Result<Self, ReadError> {
        let damaged = || ReadError::Value { what: "a locator", offset: 0, why: "its digest is another".to_owned() };
        let (body, digest) = bytes.split_last_chunk::<32>().ok_or_else(damaged)?;
        // The head is looked at first: a newer version may end otherwise.
        ByteReader::new(bytes).head(HEAD)?;
        if Digest::of(body) != Digest::from_bytes(*digest) {
            return Err(damaged());
        }
        Self::decode_body(recipe, body)
    }

    fn decode_body(recipe: RecipeId, bytes: &[u8]) -> Result<Self, ReadError> {
        let mut reader = ByteReader::new(bytes);
        reader.head(HEAD)?;
        let wrong = |offset, why: &str| ReadError::Value { what: "a locator", offset, why: why.to_owned() };
        if reader.array("a locator's recipe")? != *recipe.0.as_bytes() {
            return Err(wrong(10, "it is for another recipe"));
        }
        let count = reader.count(PACK_LEN, "a locator's packs")?;
        let mut packs = Vec::with_capacity(count);
        for _ in 0..count {
            packs.push((Digest::from_bytes(reader.array("a pack's digest")?), reader.u32("a pack's length")?));
        }
        let count = reader.count(ChunkEntry::MIN_LEN, "a locator's chunks")?;
        let mut locations: Vec<Location> = Vec::with_capacity(count);
        for _ in 0..count {
            let offset = reader.position();
            let pack = reader.u32("a chunk's pack")?;
            let entry = ChunkEntry::read(&mut reader)?;
            let (_, len) = packs.get(pack as usize).ok_or_else(|| wrong(offset, "no such pack"))?;
            if entry.offset.checked_add(entry.stored_len).is_none_or(|end| end > *len) {
                return Err(wrong(offset, "a chunk lies outside its pack"));
            }
            if entry.stored_len == 0 {
                return Err(wrong(offset, "a chunk without bytes"));
            }
            if entry.stored_len > entry.raw_len || entry.raw_len as usize > MAX_RAW_LEN {
                return Err(wrong(offset, "a chunk is longer than any that is written"));
            }
            if locations.last().is_some_and(|last| last.entry.digest >= entry.digest) {
                return Err(wrong(offset, "chunks are not in order"));
            }
            locations.push(Location { pack, entry });
        }
        reader.end("a locator")?;
        Ok(Self { recipe, packs, locations })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::Codec;
    use proptest::prelude::*;

    fn sample() -> Locator {
        let mut known = ChunkIndex::default();
        let packs = [b"p", b"q", b"r"].map(|name| known.add_pack(Digest::of(name), 100));
        for (pack, chunk, offset) in [(0, "a", 10), (1, "b", 10), (0, "c", 30), (2, "e", 10)] {
            let digest = Digest::of(chunk.as_bytes());
            let entry = ChunkEntry { digest, codec: Codec::Plain, offset, stored_len: 20, raw_len: 20 };
            known.add(packs[pack], &entry);
        }
        Locator::new(RecipeId::of(b"m"), &known, 0..3)
    }

    #[test]
    fn a_locator_is_written_and_read_back() {
        let locator = sample();
        assert_eq!(locator.packs.len(), 2);
        assert_eq!(Locator::decode(RecipeId::of(b"m"), &locator.encode()).unwrap(), locator);
        let location = locator.find(&Digest::of(b"c")).unwrap();
        assert_eq!(locator.packs[location.pack as usize].0, Digest::of(b"p"));
        assert_eq!(location.entry.offset, 30);
        assert!(locator.find(&Digest::of(b"d")).is_none());
    }

    #[test]
    fn another_recipes_locator_is_refused() {
        assert!(Locator::decode(RecipeId::of(b"n"), &sample().encode()).is_err());
    }

    #[test]
    fn every_truncation_is_an_error() {
        let bytes = sample().encode();
        for len in 0..bytes.len() {
            assert!(Locator::decode(RecipeId::of(b"m"), &bytes[..len]).is_err(), "{len}");
        }
    }

    #[test]
    fn any_changed_bit_is_noticed() {
        let bytes = sample().encode();
        for at in 0..bytes.len() {
            let mut changed = bytes.clone();
            changed[at] ^= 0x40;
            assert!(Locator::decode(RecipeId::of(b"m"), &changed).is_err(), "{at}");
        }
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(at in 10_usize..300, value: u8) {
            let mut bytes = sample().encode();
            let len = bytes.len();
            bytes[at % len] = value;
            let body = &bytes[..len - 32];
            if let Ok(locator) = Locator::decode_body(RecipeId::of(b"m"), body) {
                prop_assert_eq!(&locator.encode()[..len - 32], body, "one locator has one form");
            }
        }
    }
}
