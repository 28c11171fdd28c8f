//! Locators: which pack holds each chunk of a recipe. Made again wherever packs are kept; changes no id.
//! Written one for each segment, as `docs/formats/locator.md` says.

use std::collections::{BTreeSet, HashMap};
use std::num::NonZeroUsize;

use lantern_core::bytes::{ByteReader, Head, ReadError};
use lantern_core::digest::Digest;

use crate::chunk_index::ChunkIndex;
use crate::codec::{Codec, MAX_RAW_LEN};
use crate::pack::ChunkEntry;
use crate::recipe::ChunkRef;

const HEAD: Head = Head { magic: *b"LNLC", version: 2, what: "a locator" };
const PACK_LEN: NonZeroUsize = NonZeroUsize::new(36).expect("not zero");
const CODEC: u8 = 0x0f;
const IS_LOST: u8 = 0x10;
const HAS_PLACE: u8 = 0x20;
pub use lantern_core::limits::MAX_LOCATOR_LEN;

/// Where one chunk lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Location {
    /// Index into [`Locator::packs`].
    pub pack: u32,
    /// In that pack.
    pub entry: ChunkEntry,
}

/// Where some chunks lie: those of a segment, or of several.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Locator {
    /// Each pack's name and length in bytes, in the order of names: those that the chunks lie in, and those of what they are differences to.
    pub packs: Vec<(Digest, u32)>,
    /// Sorted by chunk digest.
    locations: Vec<Location>,
}

fn damaged() -> ReadError {
    ReadError::Value { what: "a locator", offset: 0, why: "its digest is another".to_owned() }
}

/// Reads what comes before the entries; returns the packs.
fn read_head<'a>(segment: &Digest, bytes: &'a [u8]) -> Result<(Vec<(Digest, u32)>, ByteReader<'a>), ReadError> {
    // The head is looked at first: another version may end otherwise.
    ByteReader::new(bytes).head(HEAD)?;
    let (body, digest) = bytes.split_last_chunk::<32>().ok_or_else(damaged)?;
    if Digest::of(body) != Digest::from_bytes(*digest) {
        return Err(damaged());
    }
    read_packs(segment, body)
}

fn read_packs<'a>(segment: &Digest, body: &'a [u8]) -> Result<(Vec<(Digest, u32)>, ByteReader<'a>), ReadError> {
    let mut reader = ByteReader::new(body);
    reader.head(HEAD)?;
    if reader.array("a locator's segment")? != *segment.as_bytes() {
        return Err(ReadError::Value { what: "a locator", offset: 10, why: "it is for another segment".to_owned() });
    }
    let count = reader.count(PACK_LEN, "a locator's packs")?;
    let mut packs = Vec::with_capacity(count);
    for _ in 0..count {
        packs.push((Digest::from_bytes(reader.array("a pack's digest")?), reader.u32("a pack's length")?));
    }
    Ok((packs, reader))
}

/// Returns the packs that a segment's locator names, without looking at its chunks.
///
/// # Errors
/// [`ReadError`].
pub fn packs_of(segment: &Digest, bytes: &[u8]) -> Result<Vec<(Digest, u32)>, ReadError> {
    Ok(read_head(segment, bytes)?.0)
}

/// Writes where the chunks of a segment lie that are known; others are said to be lost. `bases` are the packs that hold what some of them
/// are differences to.
pub fn encode(segment: &Digest, chunks: &[ChunkRef], known: &ChunkIndex, bases: &[(Digest, u32)]) -> Vec<u8> {
    let places: Vec<_> = chunks.iter().map(|chunk| known.find(&chunk.digest)).collect();
    let mut packs: Vec<(Digest, u32)> = places.iter().flatten().map(|(name, len, _)| (*name, *len)).collect();
    packs.extend(bases);
    packs.sort_unstable();
    packs.dedup();
    let mut out = Vec::new();
    HEAD.write(&mut out);
    out.extend(segment.as_bytes());
    out.extend(u32::try_from(packs.len()).expect("fewer than 2^32 packs").to_le_bytes());
    for (pack, len) in &packs {
        out.extend(pack.as_bytes());
        out.extend(len.to_le_bytes());
    }
    let mut next: Option<(Digest, u32)> = None;
    for place in places {
        let Some((pack, _, entry)) = place else {
            out.push(IS_LOST);
            continue;
        };
        let follows = next == Some((pack, entry.offset));
        out.push(entry.codec.number() & CODEC | if follows { 0 } else { HAS_PLACE });
        if !follows {
            let number = packs.partition_point(|(name, _)| *name < pack);
            out.extend(u32::try_from(number).expect("fewer than 2^32 packs").to_le_bytes());
            out.extend(entry.offset.to_le_bytes());
        }
        if entry.codec != Codec::Plain {
            out.extend(entry.stored_len.to_le_bytes());
        }
        if entry.codec == Codec::Difference {
            out.extend(entry.whole_len.to_le_bytes());
        }
        next = Some((pack, entry.offset.saturating_add(entry.stored_len)));
    }
    let digest = Digest::of(&out);
    out.extend(digest.as_bytes());
    out
}

impl Locator {
    /// Reads a segment's locator; `chunks` are the segment's, each once.
    ///
    /// # Errors
    /// [`ReadError`] for broken bytes, another segment's locator, or a chunk that lies outside its pack.
    pub fn decode(segment: &Digest, chunks: &[ChunkRef], bytes: &[u8]) -> Result<Self, ReadError> {
        let (packs, reader) = read_head(segment, bytes)?;
        Self::decode_entries(packs, reader, chunks)
    }

    fn decode_entries(
        packs: Vec<(Digest, u32)>,
        mut reader: ByteReader<'_>,
        chunks: &[ChunkRef],
    ) -> Result<Self, ReadError> {
        let wrong = |offset, why: &str| ReadError::Value { what: "a locator", offset, why: why.to_owned() };
        if !packs.is_sorted_by(|a, b| a.0 < b.0) {
            return Err(wrong(46, "packs are not in order"));
        }
        let mut locations = Vec::with_capacity(chunks.len());
        let mut next: Option<(u32, u32)> = None;
        for chunk in chunks {
            let offset = reader.position();
            let flags = reader.u8("a chunk's place")?;
            if flags == IS_LOST {
                continue;
            }
            if flags & !(CODEC | HAS_PLACE) != 0 {
                return Err(wrong(offset, "unknown flags"));
            }
            let place = match flags & HAS_PLACE {
                0 => next,
                _ => Some((reader.u32("a chunk's pack")?, reader.u32("a chunk's offset")?)),
            };
            let (pack, at) = place.ok_or_else(|| wrong(offset, "the first chunk has no place"))?;
            let codec = Codec::of_number(flags & CODEC);
            let stored_len = if codec == Codec::Plain { chunk.len } else { reader.u32("a chunk's stored length")? };
            let whole_len = match codec {
                Codec::Difference => reader.u32("a chunk's length when it is whole")?,
                _ => stored_len,
            };
            let (_, len) = packs.get(pack as usize).ok_or_else(|| wrong(offset, "no such pack"))?;
            let end = at.checked_add(stored_len).filter(|end| end <= len);
            let end = end.ok_or_else(|| wrong(offset, "a chunk lies outside its pack"))?;
            if stored_len == 0 {
                return Err(wrong(offset, "a chunk without bytes"));
            }
            if stored_len > chunk.len || whole_len > chunk.len || chunk.len as usize > MAX_RAW_LEN {
                return Err(wrong(offset, "a chunk is longer than any that is written"));
            }
            let (digest, raw_len) = (chunk.digest, chunk.len);
            let entry = ChunkEntry { digest, codec, offset: at, stored_len, raw_len, whole_len };
            locations.push(Location { pack, entry });
            next = Some((pack, end));
        }
        reader.end("a locator")?;
        locations.sort_unstable_by_key(|l| l.entry.digest);
        Ok(Self { packs, locations })
    }

    /// Puts the locators of several segments together; of a chunk that several have, one place stays.
    #[expect(clippy::indexing_slicing, reason = "reading them has checked their packs")]
    pub fn join(parts: &[Self]) -> Self {
        let packs: BTreeSet<(Digest, u32)> = parts.iter().flat_map(|part| &part.packs).copied().collect();
        let packs: Vec<(Digest, u32)> = packs.into_iter().collect();
        let numbers: HashMap<(Digest, u32), u32> = packs.iter().copied().zip(0..).collect();
        let mut locations: Vec<Location> = Vec::with_capacity(parts.iter().map(|part| part.locations.len()).sum());
        for part in parts {
            let renumbered: Vec<u32> = part.packs.iter().map(|pack| numbers[pack]).collect();
            let own = part.locations.iter();
            locations.extend(own.map(|l| Location { pack: renumbered[l.pack as usize], entry: l.entry }));
        }
        locations.sort_unstable_by_key(|l| (l.entry.digest, l.pack, l.entry.offset));
        locations.dedup_by_key(|l| l.entry.digest);
        Self { packs, locations }
    }

    /// Returns where a chunk lies.
    pub fn find(&self, chunk: &Digest) -> Option<&Location> {
        let at = self.locations.binary_search_by_key(chunk, |l| l.entry.digest).ok()?;
        self.locations.get(at)
    }

    /// Returns how much longer a locator is than one would be that says the same of whole chunks.
    pub fn of_differences(&self) -> u64 {
        let thin = self.locations.iter().filter(|location| location.entry.codec == Codec::Difference);
        // A plain chunk has no length of its own there, a compressed one has one.
        let lens: u64 =
            thin.map(|location| if location.entry.whole_len == location.entry.raw_len { 8 } else { 4 }).sum();
        let used: BTreeSet<u32> = self.locations.iter().map(|location| location.pack).collect();
        lens + ((self.packs.len() - used.len()) * PACK_LEN.get()) as u64
    }

    /// Returns where each chunk lies, in the order of their digests.
    pub fn locations(&self) -> impl Iterator<Item = &Location> {
        self.locations.iter()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const SEGMENT: &[u8] = b"segment";

    fn chunk(name: &str) -> ChunkRef {
        ChunkRef { digest: Digest::of(name.as_bytes()), len: 20 }
    }

    fn chunks() -> Vec<ChunkRef> {
        ["a", "c", "d", "b", "lost", "f"].map(chunk).to_vec()
    }

    fn known() -> ChunkIndex {
        let mut known = ChunkIndex::default();
        let packs = [b"p", b"q", b"r"].map(|name| known.add_pack(Digest::of(name), 100));
        let places =
            [(0, "a", 10, 20), (1, "b", 10, 20), (0, "c", 30, 20), (0, "d", 50, 7), (0, "f", 57, 20), (2, "e", 10, 20)];
        for (pack, name, offset, stored_len) in places {
            let (codec, whole_len) = match stored_len {
                20 => (Codec::Plain, 20),
                7 => (Codec::Difference, 19),
                _ => (Codec::Zstd, stored_len),
            };
            let ChunkRef { digest, len: raw_len } = chunk(name);
            known.add(packs[pack], &ChunkEntry { digest, codec, offset, stored_len, raw_len, whole_len });
        }
        known
    }

    fn sample() -> Vec<u8> {
        encode(&Digest::of(SEGMENT), &chunks(), &known(), &[])
    }

    fn decode(bytes: &[u8]) -> Result<Locator, ReadError> {
        Locator::decode(&Digest::of(SEGMENT), &chunks(), bytes)
    }

    #[test]
    fn a_locator_is_written_and_read_back() {
        let bytes = sample();
        let locator = decode(&bytes).unwrap();
        assert_eq!(packs_of(&Digest::of(SEGMENT), &bytes).unwrap(), locator.packs);
        assert_eq!(locator.packs.len(), 2, "nothing of it lies in the third");
        for one in chunks() {
            let expected = known().find(&one.digest);
            let found = locator.find(&one.digest).map(|l| {
                let (name, len) = locator.packs[l.pack as usize];
                (name, len, l.entry)
            });
            assert_eq!(found, expected);
        }
        assert!(locator.find(&chunk("e").digest).is_none() && locator.find(&chunk("lost").digest).is_none());
        // Head, segment, two packs; a place, behind it plain, behind it a difference with two lengths, two places, nothing; the digest.
        assert_eq!(bytes.len(), 10 + 32 + 4 + 2 * 36 + 9 + 1 + 9 + 9 + 1 + 9 + 32);
    }

    #[test]
    fn packs_that_differences_need_are_named_too() {
        let base = (Digest::of(b"r"), 100);
        let locator = decode(&encode(&Digest::of(SEGMENT), &chunks(), &known(), &[base])).unwrap();
        let without = decode(&sample()).unwrap();
        assert!(locator.packs.contains(&base) && !without.packs.contains(&base));
        assert_eq!((locator.packs.len(), locator.locations.len()), (3, without.locations.len()));
        // Whoever has whole chunks has neither the name nor the second length.
        assert_eq!((locator.of_differences(), without.of_differences()), (36 + 4, 4));
    }

    #[test]
    fn parts_are_joined_and_each_chunk_is_there_once() {
        let part = |names: &[&str]| {
            let own: Vec<ChunkRef> = names.iter().map(|name| chunk(name)).collect();
            Locator::decode(&Digest::of(SEGMENT), &own, &encode(&Digest::of(SEGMENT), &own, &known(), &[])).unwrap()
        };
        let joined = Locator::join(&[part(&["b", "a"]), part(&["a", "c", "d", "lost", "f"])]);
        assert_eq!(joined, decode(&sample()).unwrap());
    }

    #[test]
    fn another_segments_locator_is_refused() {
        assert!(Locator::decode(&Digest::of(b"n"), &chunks(), &sample()).is_err());
        let fewer = &chunks()[1..];
        assert!(Locator::decode(&Digest::of(SEGMENT), fewer, &sample()).is_err());
    }

    #[test]
    fn an_older_form_is_named() {
        let mut old = sample();
        old[4] = 1;
        assert!(matches!(decode(&old), Err(ReadError::TooOld { version: 1, known: 2, .. })));
    }

    #[test]
    fn every_truncation_is_an_error() {
        let bytes = sample();
        for len in 0..bytes.len() {
            assert!(decode(&bytes[..len]).is_err(), "{len}");
        }
    }

    #[test]
    fn any_changed_bit_is_noticed() {
        let bytes = sample();
        for at in 0..bytes.len() {
            let mut changed = bytes.clone();
            changed[at] ^= 0x40;
            assert!(decode(&changed).is_err(), "{at}");
        }
    }

    proptest! {
        #[test]
        fn what_is_read_lies_inside_its_pack(at in 10_usize..400, value: u8) {
            let mut bytes = sample();
            let len = bytes.len() - 32;
            bytes[at % len] = value;
            let read = read_packs(&Digest::of(SEGMENT), &bytes[..len]);
            let read = read.and_then(|(packs, reader)| Locator::decode_entries(packs, reader, &chunks()));
            if let Ok(locator) = read {
                for location in locator.locations() {
                    let ChunkEntry { offset, stored_len, raw_len, .. } = location.entry;
                    prop_assert!(offset + stored_len <= locator.packs[location.pack as usize].1);
                    prop_assert!(stored_len > 0 && stored_len <= raw_len);
                }
            }
        }
    }
}
