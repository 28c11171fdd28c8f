//! How the bytes of one chunk are stored.

use lantern_chunker::Profile;

/// Zstandard's level: its own default. The format does not depend on it.
const LEVEL: i32 = 3;
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
    /// A codec of a newer lantern.
    Unknown(u8),
}

impl Codec {
    /// Returns the number.
    pub const fn number(self) -> u8 {
        match self {
            Self::Plain => 0,
            Self::Zstd => 1,
            Self::Unknown(number) => number,
        }
    }

    /// Returns the codec of a number.
    pub const fn of_number(number: u8) -> Self {
        match number {
            0 => Self::Plain,
            1 => Self::Zstd,
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
    /// The chunk claims or has another length.
    #[error("the chunk has {found} bytes, {expected} were stated")]
    Length {
        /// In bytes.
        found: usize,
        /// In bytes.
        expected: usize,
    },
}

/// Compresses chunks; keeps its working memory between them.
pub struct Packer(zstd::bulk::Compressor<'static>);

impl Packer {
    /// Sets up the working memory.
    pub fn new() -> Self {
        Self(zstd::bulk::Compressor::new(LEVEL).expect("the level is a valid one"))
    }

    /// Returns the shorter of compressed and plain; compression must save a thirty-second part to be worth its time.
    pub fn pack(&mut self, raw: &[u8]) -> (Codec, Vec<u8>) {
        match self.0.compress(raw) {
            Ok(packed) if packed.len() + raw.len() / 32 < raw.len() => (Codec::Zstd, packed),
            _ => (Codec::Plain, raw.to_vec()),
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
}

impl Unpacker {
    /// Sets up the working memory.
    pub fn new() -> Self {
        let decompressor = zstd::bulk::Decompressor::new().expect("a decompressor needs nothing but memory");
        Self { decompressor, raw: Vec::with_capacity(MAX_RAW_LEN) }
    }

    /// Gives back `raw_len` bytes, until the next chunk is unpacked; what is stored as it is, is given as it is.
    ///
    /// # Errors
    /// [`CodecError`].
    pub fn unpack<'a>(&'a mut self, codec: Codec, stored: &'a [u8], raw_len: usize) -> Result<&'a [u8], CodecError> {
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
            Codec::Unknown(number) => return Err(CodecError::Unknown(number)),
        };
        if raw.len() == raw_len { Ok(raw) } else { Err(CodecError::Length { found: raw.len(), expected: raw_len }) }
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

    #[test]
    fn the_shorter_one_is_kept_and_given_back() {
        let letters = b"low tide, high tide, ".repeat(100);
        let (codec, stored) = Packer::new().pack(&letters);
        assert_eq!(codec, Codec::Zstd);
        assert!(stored.len() < letters.len() / 10);
        assert_eq!(Unpacker::new().unpack(codec, &stored, letters.len()).unwrap(), letters);
        let (codec, stored) = Packer::new().pack(b"x7");
        assert_eq!((codec, stored.as_slice()), (Codec::Plain, b"x7".as_slice()));
    }

    #[test]
    fn bombs_and_damage_are_refused() {
        let bomb = zstd::bulk::compress(&vec![0; 10 << 20], 3).unwrap();
        let mut unpacker = Unpacker::new();
        assert!(unpacker.unpack(Codec::Zstd, &bomb, 1000).is_err());
        assert!(matches!(unpacker.unpack(Codec::Zstd, &bomb, 10 << 20), Err(CodecError::Length { .. })));
        assert!(matches!(unpacker.unpack(Codec::Zstd, b"nonsense", 10), Err(CodecError::Damaged(_))));
        assert!(matches!(unpacker.unpack(Codec::Plain, b"abc", 4), Err(CodecError::Length { found: 3, expected: 4 })));
        assert_eq!(unpacker.unpack(Codec::of_number(9), b"", 0), Err(CodecError::Unknown(9)));
    }
}
