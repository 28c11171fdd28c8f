//! How the bytes of one chunk are stored.

pub mod difference;

use std::io::Cursor;

use lantern_chunker::{Profile, is_packed};
use lantern_core::compression::Compression;
use lantern_core::digest::Digest;

use difference::Bases;

/// Zstandard's level: its own default, and the first behind which the next ones save nothing more of chunks as short as these. The
/// format does not depend on it.
const fn level(compression: Compression) -> i32 {
    match compression {
        Compression::Fast => 3,
        Compression::Small => 16,
    }
}

/// Longest chunk that is ever unpacked, in bytes. Ours: stops a small frame that claims to be gigabytes.
pub const MAX_RAW_LEN: usize = Profile::MAX_LEN;

/// How a chunk's bytes are stored; the number stands in packs and locators.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum Codec {
    /// As they are.
    Plain,
    /// One Zstandard frame (RFC 8878) with its content size.
    Zstd,
    /// What is different from other chunks of the same store, as [`crate::codec::difference`] says.
    Difference,
    /// A codec of a newer lantern.
    Unknown(u8),
}

impl Codec {
    /// Returns the number.
    pub const fn number(self) -> u8 {
        match self {
            Self::Plain => 0,
            Self::Zstd => 1,
            Self::Difference => 2,
            Self::Unknown(number) => number,
        }
    }

    /// Returns the codec of a number.
    pub const fn of_number(number: u8) -> Self {
        match number {
            0 => Self::Plain,
            1 => Self::Zstd,
            2 => Self::Difference,
            other => Self::Unknown(other),
        }
    }
}

/// Why a chunk's stored bytes do not give it back.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum CodecError {
    /// Written by a newer lantern.
    #[error("the chunk is stored with codec {0}, which this lantern does not know")]
    Unknown(u8),
    /// The stored bytes are damaged.
    #[error("the chunk's stored bytes are damaged: {0}")]
    Damaged(String),
    /// It is stored as a difference to a chunk that cannot be read.
    #[error("the chunk is stored as a difference to {0}, which cannot be read here")]
    WithoutBase(Digest),
    /// The chunk claims or has another length.
    #[error("the chunk has {found} bytes, {expected} were stated")]
    Length {
        /// In bytes.
        found: usize,
        /// In bytes.
        expected: usize,
    },
}

/// Compresses chunks, into memory that is used again for each.
pub struct Packer {
    compressor: zstd::bulk::Compressor<'static>,
    packed: Vec<u8>,
}

impl Packer {
    /// Sets up the working memory.
    pub fn new() -> Self {
        Self::with(Compression::default())
    }

    /// Sets up the working memory.
    pub fn with(compression: Compression) -> Self {
        let compressor = zstd::bulk::Compressor::new(level(compression)).expect("the level is a valid one");
        Self { compressor, packed: Vec::with_capacity(zstd::zstd_safe::compress_bound(MAX_RAW_LEN)) }
    }

    /// Returns the shorter of compressed and plain; compression must save a thirty-second part to be worth its time. What looks as if it
    /// had been compressed before is not tried.
    pub fn pack<'a>(&'a mut self, raw: &'a [u8]) -> (Codec, &'a [u8]) {
        if is_packed(raw) {
            return (Codec::Plain, raw);
        }
        self.packed.clear();
        self.packed.reserve(zstd::zstd_safe::compress_bound(raw.len()));
        match self.compressor.compress_to_buffer(raw, &mut self.packed) {
            Ok(len) if len + raw.len() / 32 < raw.len() => (Codec::Zstd, &self.packed),
            _ => (Codec::Plain, raw),
        }
    }
}

impl Default for Packer {
    fn default() -> Self {
        Self::new()
    }
}

/// Unpacks chunks, into memory that is used again for each.
pub struct Unpacker {
    decompressor: zstd::bulk::Decompressor<'static>,
    raw: Vec<u8>,
    /// The bases of a difference, one behind the other.
    bases: Vec<u8>,
}

impl Unpacker {
    /// Sets up the working memory.
    pub fn new() -> Self {
        let decompressor = zstd::bulk::Decompressor::new().expect("a decompressor needs nothing but memory");
        Self { decompressor, raw: Vec::with_capacity(MAX_RAW_LEN), bases: Vec::new() }
    }

    /// Gives back `raw_len` bytes, until the next chunk is unpacked; what is stored as it is, is given as it is. `bases` gives what
    /// a difference is to.
    ///
    /// # Errors
    /// [`CodecError`].
    pub fn unpack<'a>(
        &'a mut self,
        codec: Codec,
        stored: &'a [u8],
        raw_len: usize,
        bases: &dyn Bases,
    ) -> Result<&'a [u8], CodecError> {
        if raw_len > MAX_RAW_LEN {
            return Err(CodecError::Length { found: raw_len, expected: MAX_RAW_LEN });
        }
        let raw = match codec {
            Codec::Plain => stored,
            Codec::Zstd => {
                self.raw.clear();
                let done = self.decompressor.decompress_to_buffer(stored, &mut self.raw);
                done.map_err(|e| CodecError::Damaged(e.to_string()))?;
                &self.raw
            }
            Codec::Difference => {
                let (names, frame) = difference::split(stored)?;
                self.bases.clear();
                for name in &names {
                    self.bases.extend_from_slice(&bases.base(name).ok_or(CodecError::WithoutBase(*name))?);
                }
                self.raw.clear();
                difference::undo(&self.bases, frame, &mut self.raw)?;
                &self.raw
            }
            Codec::Unknown(number) => return Err(CodecError::Unknown(number)),
        };
        if raw.len() == raw_len { Ok(raw) } else { Err(CodecError::Length { found: raw.len(), expected: raw_len }) }
    }
}

impl Unpacker {
    /// As [`Self::unpack`], behind what is in `out` already. After an error something of it may be there.
    ///
    /// # Errors
    /// [`CodecError`].
    pub fn unpack_behind(
        &mut self,
        out: &mut Vec<u8>,
        (codec, stored): (Codec, &[u8]),
        raw_len: usize,
        bases: &dyn Bases,
    ) -> Result<(), CodecError> {
        if codec != Codec::Zstd || raw_len > MAX_RAW_LEN {
            out.extend_from_slice(self.unpack(codec, stored, raw_len, bases)?);
            return Ok(());
        }
        let start = out.len();
        // No more: many of these are filled at a time.
        out.reserve_exact(raw_len);
        let mut behind = Cursor::new(&mut *out);
        behind.set_position(start as u64);
        let done = self.decompressor.decompress_to_buffer(stored, &mut behind);
        let found = done.map_err(|e| CodecError::Damaged(e.to_string()))?;
        if found == raw_len { Ok(()) } else { Err(CodecError::Length { found, expected: raw_len }) }
    }
}

impl std::fmt::Debug for Unpacker {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Unpacker").finish_non_exhaustive()
    }
}

impl Default for Unpacker {
    fn default() -> Self {
        Self::new()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use difference::NoBases;

    #[test]
    fn the_shorter_one_is_kept_and_given_back() {
        let letters = b"low tide, high tide, ".repeat(100);
        let mut packer = Packer::new();
        let (codec, stored) = packer.pack(&letters);
        assert_eq!(codec, Codec::Zstd);
        assert!(stored.len() < letters.len() / 10);
        assert_eq!(Unpacker::new().unpack(codec, stored, letters.len(), &NoBases).unwrap(), letters);
        assert_eq!(packer.pack(b"x7"), (Codec::Plain, b"x7".as_slice()));
    }

    #[test]
    fn what_was_compressed_before_is_stored_as_it_is() {
        let mut noise = vec![0; 40_000];
        blake3::Hasher::new().update(b"tide").finalize_xof().fill(&mut noise);
        assert_eq!(Packer::new().pack(&noise), (Codec::Plain, noise.as_slice()));
        let twice = [&noise[..19_000], b"and again", &noise[..19_000]].concat();
        assert_eq!(Packer::new().pack(&twice).0, Codec::Zstd);
    }

    #[test]
    fn what_is_unpacked_behind_other_bytes_leaves_them() {
        let letters = b"low tide, high tide, ".repeat(100);
        let mut packer = Packer::new();
        let mut unpacker = Unpacker::new();
        let mut out = b"before".to_vec();
        for raw in [letters.as_slice(), b"x7", &letters[..300]] {
            let stored = packer.pack(raw);
            let before = out.clone();
            unpacker.unpack_behind(&mut out, stored, raw.len(), &NoBases).unwrap();
            assert_eq!(out, [&before, raw].concat());
            let wrong = unpacker.unpack_behind(&mut out, stored, raw.len() + 1, &NoBases);
            assert!(matches!(wrong, Err(CodecError::Length { .. })));
            out.truncate(before.len() + raw.len());
        }
        let bomb = zstd::bulk::compress(&vec![0; 10 << 20], 3).unwrap();
        assert!(unpacker.unpack_behind(&mut out, (Codec::Zstd, &bomb), 1000, &NoBases).is_err());
        assert!(out.capacity() < 1 << 20);
    }

    #[test]
    fn bombs_and_damage_are_refused() {
        let bomb = zstd::bulk::compress(&vec![0; 10 << 20], 3).unwrap();
        let mut unpacker = Unpacker::new();
        assert!(unpacker.unpack(Codec::Zstd, &bomb, 1000, &NoBases).is_err());
        assert!(matches!(unpacker.unpack(Codec::Zstd, &bomb, 10 << 20, &NoBases), Err(CodecError::Length { .. })));
        assert!(matches!(unpacker.unpack(Codec::Zstd, b"nonsense", 10, &NoBases), Err(CodecError::Damaged(_))));
        assert!(matches!(
            unpacker.unpack(Codec::Plain, b"abc", 4, &NoBases),
            Err(CodecError::Length { found: 3, expected: 4 })
        ));
        assert_eq!(unpacker.unpack(Codec::of_number(9), b"", 0, &NoBases), Err(CodecError::Unknown(9)));
    }
}
