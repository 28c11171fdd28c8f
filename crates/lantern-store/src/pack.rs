//! Packs: many chunks in one file, named by the BLAKE3 of all its bytes. Described in `docs/formats/pack.md`.

use std::num::NonZeroUsize;

use lantern_core::bytes::{ByteReader, Head, ReadError};
use lantern_core::digest::Digest;

use crate::codec::difference::Bases;
use crate::codec::{Codec, CodecError, Unpacker};

const HEAD: Head = Head { magic: *b"LNPK", version: 1, what: "a pack" };
const HEAD_LEN: usize = 10;
const FOOT_MAGIC: [u8; 4] = *b"LNPE";
/// Offset of the table (`u32`), number of entries (`u32`), magic.
const FOOT_LEN: usize = 12;
/// A pack is closed when its chunks come to this many bytes.
pub const TARGET_LEN: usize = 16 * 1024 * 1024;
/// Longest pack that is accepted, in bytes: the target, one more chunk, and the largest table.
pub const MAX_PACK_LEN: usize = 24 * 1024 * 1024;
/// Most chunks in one pack: keeps the table of a pack of tiny chunks below 8 MiB.
pub const MAX_CHUNKS: usize = 65_536;
const FITS: &str = "a pack is closed far below 4 GiB";

/// One chunk in a pack.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ChunkEntry {
    /// Plain BLAKE3 of the chunk's own bytes.
    pub digest: Digest,
    /// How it is stored.
    pub codec: Codec,
    /// From the pack's first byte.
    pub offset: u32,
    /// Bytes in the pack.
    pub stored_len: u32,
    /// Bytes of the chunk itself.
    pub raw_len: u32,
    /// Bytes that it takes where it is stored whole, as it travels: of a difference more than in this pack.
    pub whole_len: u32,
}

impl ChunkEntry {
    /// Digest, codec, three bytes for the length of a difference when it is whole, three lengths.
    pub(crate) const MIN_LEN: NonZeroUsize = NonZeroUsize::new(48).expect("not zero");
    /// Bytes that a chunk takes in a pack's table.
    pub const LEN: u64 = 48;

    pub(crate) fn write(&self, out: &mut Vec<u8>) {
        out.extend(self.digest.as_bytes());
        let whole_len = if self.codec == Codec::Difference { self.whole_len } else { 0 };
        let [a, b, c, _] = whole_len.to_le_bytes();
        out.extend([self.codec.number(), a, b, c]);
        for value in [self.offset, self.stored_len, self.raw_len] {
            out.extend(value.to_le_bytes());
        }
    }

    pub(crate) fn read(reader: &mut ByteReader<'_>) -> Result<Self, ReadError> {
        let at = reader.position();
        let digest = Digest::from_bytes(reader.array("a chunk's digest")?);
        let codec = Codec::of_number(reader.u8("a chunk's codec")?);
        let [a, b, c] = reader.array::<3>("a chunk's length when it is whole")?;
        let whole_len = u32::from_le_bytes([a, b, c, 0]);
        let offset = reader.u32("a chunk's offset")?;
        let stored_len = reader.u32("a chunk's stored length")?;
        let raw_len = reader.u32("a chunk's length")?;
        let whole_len = match codec {
            Codec::Difference if (1..=raw_len).contains(&whole_len) => whole_len,
            Codec::Plain | Codec::Zstd if whole_len == 0 => stored_len,
            // Whatever a newer lantern says there.
            Codec::Unknown(_) => stored_len,
            _ => {
                let why = "its length when it is whole is none".to_owned();
                return Err(ReadError::Value { what: "a chunk", offset: at, why });
            }
        };
        Ok(Self { digest, codec, offset, stored_len, raw_len, whole_len })
    }
}

/// Why a chunk could not be had from a pack.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PackError {
    /// The pack's structure is broken.
    #[error(transparent)]
    Read(#[from] ReadError),
    /// A chunk's stored bytes are broken.
    #[error(transparent)]
    Codec(#[from] CodecError),
    /// A chunk's bytes are not what its digest says.
    #[error("the chunk {expected} is damaged")]
    Digest {
        /// What it should be.
        expected: Digest,
    },
    /// A pack's bytes are not what its name says.
    #[error("its bytes do not match its name")]
    Name {
        /// What it should be.
        expected: Digest,
    },
    /// The pack is longer than any that is written.
    #[error("the pack has {len} bytes, at most {MAX_PACK_LEN} are accepted")]
    TooLong {
        /// In bytes.
        len: usize,
    },
}

impl PackError {
    /// Whether a newer lantern may understand it.
    pub const fn is_newer(&self) -> bool {
        match self {
            Self::Read(error) => error.is_newer(),
            Self::Codec(error) => matches!(error, CodecError::Unknown(_)),
            _ => false,
        }
    }
}

/// Collects chunks until a pack is full.
#[derive(Debug)]
pub struct PackWriter {
    bytes: Vec<u8>,
    entries: Vec<ChunkEntry>,
}

impl PackWriter {
    /// Bytes of a pack without chunks.
    pub const EMPTY_LEN: u64 = (HEAD_LEN + FOOT_LEN) as u64;

    /// Starts an empty pack.
    pub fn new() -> Self {
        Self::in_buffer(Vec::new())
    }

    /// Starts an empty pack in memory that was used before.
    pub fn in_buffer(mut bytes: Vec<u8>) -> Self {
        bytes.clear();
        HEAD.write(&mut bytes);
        Self { bytes, entries: Vec::new() }
    }

    /// Appends a chunk's stored bytes; returns its entry.
    pub fn push(&mut self, digest: Digest, codec: Codec, raw_len: u32, stored: &[u8]) -> ChunkEntry {
        let stored_len = u32::try_from(stored.len()).expect(FITS);
        self.put(ChunkEntry { digest, codec, offset: 0, stored_len, raw_len, whole_len: stored_len }, stored)
    }

    /// Appends a chunk of another pack as a difference; returns its entry.
    pub fn push_difference(&mut self, whole: &ChunkEntry, stored: &[u8]) -> ChunkEntry {
        let stored_len = u32::try_from(stored.len()).expect(FITS);
        self.put(ChunkEntry { codec: Codec::Difference, stored_len, ..*whole }, stored)
    }

    /// Appends a chunk as another pack has it; returns its entry in this one.
    pub fn copy(&mut self, entry: &ChunkEntry, stored: &[u8]) -> ChunkEntry {
        self.put(*entry, stored)
    }

    fn put(&mut self, entry: ChunkEntry, stored: &[u8]) -> ChunkEntry {
        let entry = ChunkEntry { offset: u32::try_from(self.bytes.len()).expect(FITS), ..entry };
        self.entries.push(entry);
        self.bytes.extend(stored);
        entry
    }

    /// Whether the pack should be closed.
    pub fn is_full(&self) -> bool {
        self.bytes.len() >= TARGET_LEN || self.entries.len() >= MAX_CHUNKS
    }

    /// Whether nothing was pushed.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// Closes the pack and returns its name, bytes and table; the writer starts again.
    pub fn take(&mut self) -> (Digest, Vec<u8>, Vec<ChunkEntry>) {
        let Self { mut bytes, entries } = std::mem::take(self);
        let table = u32::try_from(bytes.len()).expect(FITS);
        for entry in &entries {
            entry.write(&mut bytes);
        }
        bytes.extend(table.to_le_bytes());
        bytes.extend(u32::try_from(entries.len()).expect("at most MAX_CHUNKS").to_le_bytes());
        bytes.extend(FOOT_MAGIC);
        (Digest::of(&bytes), bytes, entries)
    }
}

impl Default for PackWriter {
    fn default() -> Self {
        Self::new()
    }
}

/// Where a pack's table lies: the last bytes of a pack say it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Foot {
    /// Offset of the table from the pack's first byte.
    pub table: usize,
    /// Entries in it.
    pub count: usize,
}

impl Foot {
    /// Bytes at the pack's end that [`Self::read`] needs.
    pub const LEN: usize = FOOT_LEN;

    /// Reads the last [`Self::LEN`] bytes of a pack of `pack_len` bytes.
    ///
    /// # Errors
    /// [`PackError`].
    pub fn read(last: &[u8], pack_len: usize) -> Result<Self, PackError> {
        if pack_len > MAX_PACK_LEN {
            return Err(PackError::TooLong { len: pack_len });
        }
        let mut reader = ByteReader::new(last);
        let table = reader.u32("a pack's foot")? as usize;
        let count = reader.u32("a pack's foot")? as usize;
        if reader.array::<4>("a pack's foot")? != FOOT_MAGIC {
            return Err(ReadError::Magic { what: "the end of a pack" }.into());
        }
        let possible = pack_len.saturating_sub(FOOT_LEN + table) / ChunkEntry::MIN_LEN;
        if table < HEAD_LEN || count > possible || count > MAX_CHUNKS {
            return Err(ReadError::ImpossibleCount { what: "a pack", declared: count as u64, possible }.into());
        }
        Ok(Self { table, count })
    }
}

/// Reads the table, `bytes` being everything from [`Foot::table`] to the pack's end.
///
/// # Errors
/// [`PackError`]; chunks must lie one behind the other without gaps, so nothing is hidden between them.
pub fn read_table(foot: Foot, bytes: &[u8]) -> Result<Vec<ChunkEntry>, PackError> {
    let mut reader = ByteReader::new(bytes);
    let mut next = HEAD_LEN;
    let mut entries = Vec::with_capacity(foot.count);
    for _ in 0..foot.count {
        let offset = reader.position();
        let entry = ChunkEntry::read(&mut reader)?;
        if entry.offset as usize != next {
            let why = "chunks do not lie one behind the other".to_owned();
            return Err(ReadError::Value { what: "a pack's table", offset, why }.into());
        }
        next = next.saturating_add(entry.stored_len as usize);
        entries.push(entry);
    }
    reader.slice(FOOT_LEN, "a pack's foot")?;
    reader.end("a pack's table")?;
    if next != foot.table {
        let why = "its chunks do not end where the table starts".to_owned();
        return Err(ReadError::Value { what: "a pack's table", offset: 0, why }.into());
    }
    Ok(entries)
}

/// Reads the table of a whole pack in memory.
///
/// # Errors
/// [`PackError`].
pub fn read_whole(bytes: &[u8]) -> Result<Vec<ChunkEntry>, PackError> {
    ByteReader::new(bytes).head(HEAD)?;
    let last = bytes.len().saturating_sub(FOOT_LEN);
    let foot = Foot::read(bytes.get(last..).unwrap_or_default(), bytes.len())?;
    read_table(foot, bytes.get(foot.table..).unwrap_or_default())
}

/// Unpacks one chunk's stored bytes and compares them with its digest.
///
/// # Errors
/// [`PackError`].
pub fn unpack<'a>(
    unpacker: &'a mut Unpacker,
    entry: &ChunkEntry,
    stored: &'a [u8],
    bases: &dyn Bases,
) -> Result<&'a [u8], PackError> {
    let raw = unpacker.unpack(entry.codec, stored, entry.raw_len as usize, bases)?;
    if Digest::of(raw) == entry.digest { Ok(raw) } else { Err(PackError::Digest { expected: entry.digest }) }
}

/// Checks a pack against its name, and every chunk in it; returns its table. One that came from elsewhere has no differences: there are
/// [`crate::codec::difference::NoBases`] for it.
///
/// # Errors
/// [`PackError`].
pub fn verify(name: Digest, bytes: &[u8], bases: &dyn Bases) -> Result<Vec<ChunkEntry>, PackError> {
    if bytes.len() > MAX_PACK_LEN {
        return Err(PackError::TooLong { len: bytes.len() });
    }
    if Digest::of(bytes) != name {
        return Err(PackError::Name { expected: name });
    }
    let entries = read_whole(bytes)?;
    let mut unpacker = Unpacker::new();
    for entry in &entries {
        let start = entry.offset as usize;
        let stored = bytes.get(start..start + entry.stored_len as usize).unwrap_or_default();
        unpack(&mut unpacker, entry, stored, bases)?;
    }
    Ok(entries)
}

/// Returns the chunks of a damaged pack that are what they should be, with their stored bytes. Where its table is damaged,
/// too, nobody can tell them apart, and there are none.
pub fn sound<'a>(bytes: &'a [u8], bases: &dyn Bases) -> Vec<(ChunkEntry, &'a [u8])> {
    let mut unpacker = Unpacker::new();
    let entries = read_whole(bytes).unwrap_or_default().into_iter();
    let with_bytes = entries.filter_map(|entry| {
        let start = entry.offset as usize;
        Some((entry, bytes.get(start..start.checked_add(entry.stored_len as usize)?)?))
    });
    with_bytes.filter(|(entry, stored)| unpack(&mut unpacker, entry, stored, bases).is_ok()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::Packer;
    use crate::codec::difference::{self, NoBases};
    use crate::testing::noise;
    use lantern_core::compression::Compression;
    use proptest::prelude::*;

    #[test]
    fn what_is_sound_of_a_damaged_pack_is_told_apart() {
        let (_, bytes, entries) = sample();
        let digests = |bytes: &[u8]| sound(bytes, &NoBases).iter().map(|(entry, _)| entry.digest).collect::<Vec<_>>();
        assert_eq!(digests(&bytes), entries.iter().map(|entry| entry.digest).collect::<Vec<_>>());
        let mut damaged = bytes.clone();
        damaged[entries[1].offset as usize] ^= 1;
        assert_eq!(digests(&damaged), [entries[0].digest, entries[2].digest]);
        for cut in 0..bytes.len() {
            assert!(sound(&bytes[..cut], &NoBases).len() <= entries.len());
        }
    }

    fn sample() -> (Digest, Vec<u8>, Vec<ChunkEntry>) {
        let (mut writer, mut packer) = (PackWriter::new(), Packer::new());
        for raw in [b"tide ".repeat(50).as_slice(), b"x", b"a letter"] {
            let (codec, stored) = packer.pack(raw);
            writer.push(Digest::of(raw), codec, u32::try_from(raw.len()).unwrap(), stored);
        }
        writer.take()
    }

    #[test]
    fn a_pack_is_written_and_read_back() {
        let (digest, bytes, entries) = sample();
        assert_eq!(digest, Digest::of(&bytes));
        assert_eq!(verify(digest, &bytes, &NoBases).unwrap(), entries);
        assert_eq!(entries[0].codec, Codec::Zstd);
        let stored: u64 = entries.iter().map(|e| u64::from(e.stored_len) + ChunkEntry::LEN).sum();
        assert_eq!(bytes.len() as u64, PackWriter::EMPTY_LEN + stored);
    }

    #[test]
    fn every_truncation_and_every_flipped_byte_is_found() {
        let (name, bytes, _) = sample();
        for len in 0..bytes.len() {
            assert!(verify(name, &bytes[..len], &NoBases).is_err(), "{len}");
            assert!(verify(Digest::of(&bytes[..len]), &bytes[..len], &NoBases).is_err(), "{len}, under its own name");
        }
        for at in 0..bytes.len() {
            let mut damaged = bytes.clone();
            damaged[at] ^= 0x10;
            assert!(verify(name, &damaged, &NoBases).is_err(), "{at}");
        }
    }

    #[test]
    fn a_pack_that_lies_about_a_chunk_is_refused_under_its_own_name() {
        let mut writer = PackWriter::new();
        writer.push(Digest::of(b"honest"), Codec::Plain, 3, b"lie");
        let (name, bytes, _) = writer.take();
        assert!(matches!(verify(name, &bytes, &NoBases), Err(PackError::Digest { .. })));
    }

    #[test]
    fn a_difference_says_how_long_the_chunk_is_when_it_is_whole_and_nothing_else_does() {
        let entry = sample().2[0];
        let read = |entry: ChunkEntry, extra: u8| {
            let mut out = Vec::new();
            entry.write(&mut out);
            out[33] += extra;
            ChunkEntry::read(&mut ByteReader::new(&out))
        };
        let difference = ChunkEntry { codec: Codec::Difference, whole_len: entry.raw_len, ..entry };
        assert_eq!((read(entry, 0), read(difference, 0)), (Ok(entry), Ok(difference)));
        let refused = [(entry, 1), (difference, 1), (ChunkEntry { whole_len: 0, ..difference }, 0)];
        for (entry, extra) in refused {
            assert!(matches!(read(entry, extra), Err(ReadError::Value { .. })), "{entry:?}");
        }
    }

    #[test]
    fn a_pack_from_elsewhere_has_no_differences() {
        let (base, raw) = (noise(1, 5_000), noise(1, 5_000));
        let stored = difference::write(&raw, &[(Digest::of(&base), base.into())], Compression::default()).unwrap();
        let mut writer = PackWriter::new();
        writer.push(Digest::of(&raw), Codec::Difference, 5_000, &stored);
        let (name, bytes, _) = writer.take();
        assert!(matches!(verify(name, &bytes, &NoBases), Err(PackError::Codec(CodecError::WithoutBase(_)))));
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(bytes in prop::collection::vec(any::<u8>(), 0..300), foot in any::<[u8; 8]>()) {
            let _ = verify(Digest::of(&bytes), &bytes, &NoBases);
            let mut real = sample().1;
            let at = real.len() - FOOT_LEN;
            real[at..at + 8].copy_from_slice(&foot);
            if let Ok(entries) = verify(Digest::of(&real), &real, &NoBases) {
                let inside = entries.iter().all(|entry| u64::from(entry.offset) + u64::from(entry.stored_len) <= at as u64);
                prop_assert!(inside && !entries.is_empty(), "every chunk lies in the pack, before its foot");
            }
        }
    }
}
