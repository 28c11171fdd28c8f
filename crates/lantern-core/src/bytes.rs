//! A reader over bytes that cannot panic; every binary structure of ours is read through it.

use std::num::NonZeroUsize;

/// Why a structure could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ReadError {
    /// The bytes end too early.
    #[error("{what} at byte {offset} needs {wanted} bytes, {remaining} remain")]
    Truncated {
        /// What was being read.
        what: &'static str,
        /// Where, from the start of the structure.
        offset: usize,
        /// Bytes needed.
        wanted: usize,
        /// Bytes left.
        remaining: usize,
    },
    /// A count that the rest of the bytes cannot hold.
    #[error("{what} declares {declared} records, at most {possible} fit in the rest")]
    ImpossibleCount {
        /// What was being counted.
        what: &'static str,
        /// The count that stands there.
        declared: u64,
        /// How many could be there.
        possible: usize,
    },
    /// The first bytes are not those of this structure.
    #[error("these bytes do not start as {what} does")]
    Magic {
        /// The structure expected.
        what: &'static str,
    },
    /// Written by a newer lantern.
    #[error(
        "{what} has version {version} and demands features {features:#x}; this lantern reads version {known} without further features: a newer lantern wrote it"
    )]
    TooNew {
        /// The structure.
        what: &'static str,
        /// Its version.
        version: u16,
        /// Its demanded features.
        features: u32,
        /// The version that is understood.
        known: u16,
    },
    /// Written before the first release, in a form that was given up.
    #[error("{what} has version {version}, and this lantern reads version {known}: an older lantern wrote it")]
    TooOld {
        /// The structure.
        what: &'static str,
        /// Its version.
        version: u16,
        /// The version that is understood.
        known: u16,
    },
    /// A value that must not stand there.
    #[error("{what} at byte {offset} is wrong: {why}")]
    Value {
        /// What was being read.
        what: &'static str,
        /// Where.
        offset: usize,
        /// What is wrong with it.
        why: String,
    },
}

impl ReadError {
    /// Whether a newer lantern may understand it.
    pub const fn is_newer(&self) -> bool {
        matches!(self, Self::TooNew { .. })
    }
}

/// Takes little-endian values off the front of a slice.
#[derive(Debug, Clone)]
pub struct ByteReader<'a> {
    data: &'a [u8],
    pos: usize,
}

impl<'a> ByteReader<'a> {
    /// Starts at the first byte.
    pub fn new(data: &'a [u8]) -> Self {
        Self { data, pos: 0 }
    }

    /// Returns the offset of the next byte.
    pub fn position(&self) -> usize {
        self.pos
    }

    /// Returns how many bytes are left.
    pub fn remaining(&self) -> usize {
        self.data.len().saturating_sub(self.pos)
    }

    /// Takes the next `N` bytes.
    ///
    /// # Errors
    /// [`ReadError::Truncated`], as for every method here.
    pub fn array<const N: usize>(&mut self, what: &'static str) -> Result<[u8; N], ReadError> {
        let bytes = self.slice(N, what)?;
        Ok(*bytes.first_chunk::<N>().expect("slice returned N bytes"))
    }

    /// Takes the next `len` bytes.
    ///
    /// # Errors
    /// [`ReadError::Truncated`].
    pub fn slice(&mut self, len: usize, what: &'static str) -> Result<&'a [u8], ReadError> {
        let rest = self.data.get(self.pos..).unwrap_or_default();
        let bytes = rest.get(..len).ok_or(ReadError::Truncated {
            what,
            offset: self.pos,
            wanted: len,
            remaining: rest.len(),
        })?;
        self.pos += len; // in bounds: len bytes were there
        Ok(bytes)
    }

    /// Takes one byte.
    ///
    /// # Errors
    /// [`ReadError::Truncated`].
    pub fn u8(&mut self, what: &'static str) -> Result<u8, ReadError> {
        Ok(self.array::<1>(what)?[0])
    }

    /// Takes two bytes, little-endian.
    ///
    /// # Errors
    /// [`ReadError::Truncated`].
    pub fn u16(&mut self, what: &'static str) -> Result<u16, ReadError> {
        self.array(what).map(u16::from_le_bytes)
    }

    /// Takes four bytes, little-endian.
    ///
    /// # Errors
    /// [`ReadError::Truncated`].
    pub fn u32(&mut self, what: &'static str) -> Result<u32, ReadError> {
        self.array(what).map(u32::from_le_bytes)
    }

    /// Takes eight bytes, little-endian.
    ///
    /// # Errors
    /// [`ReadError::Truncated`].
    pub fn u64(&mut self, what: &'static str) -> Result<u64, ReadError> {
        self.array(what).map(u64::from_le_bytes)
    }

    /// Takes a text: its length in bytes as `u16`, then UTF-8. [`write_text`] writes it.
    ///
    /// # Errors
    /// [`ReadError::Truncated`], [`ReadError::Value`] for what is not UTF-8.
    pub fn text(&mut self, what: &'static str) -> Result<String, ReadError> {
        let offset = self.position();
        let len = usize::from(self.u16(what)?);
        let bytes = self.slice(len, what)?;
        let not = |_| ReadError::Value { what, offset, why: "not UTF-8".to_owned() };
        String::from_utf8(bytes.to_vec()).map_err(not)
    }

    /// Takes a `u32` count and checks that records of at least `min_len` bytes could fit in the rest.
    ///
    /// # Errors
    /// [`ReadError::Truncated`], [`ReadError::ImpossibleCount`].
    pub fn count(&mut self, min_len: NonZeroUsize, what: &'static str) -> Result<usize, ReadError> {
        let declared = self.u32(what)?;
        let possible = self.remaining() / min_len;
        usize::try_from(declared).ok().filter(|count| *count <= possible).ok_or(ReadError::ImpossibleCount {
            what,
            declared: u64::from(declared),
            possible,
        })
    }

    /// Takes the head that all our binary structures share and checks it.
    ///
    /// # Errors
    /// [`ReadError::Magic`], [`ReadError::TooNew`], [`ReadError::TooOld`], [`ReadError::Truncated`].
    pub fn head(&mut self, head: Head) -> Result<(), ReadError> {
        if self.remaining() < 4 || self.array::<4>(head.what)? != head.magic {
            return Err(ReadError::Magic { what: head.what });
        }
        let (version, features) = (self.u16(head.what)?, self.u32(head.what)?);
        if version < head.version {
            return Err(ReadError::TooOld { what: head.what, version, known: head.version });
        }
        if version != head.version || features != 0 {
            return Err(ReadError::TooNew { what: head.what, version, features, known: head.version });
        }
        Ok(())
    }

    /// Checks that nothing is left.
    ///
    /// # Errors
    /// [`ReadError::Value`] where something is.
    pub fn end(&self, what: &'static str) -> Result<(), ReadError> {
        if self.remaining() == 0 {
            return Ok(());
        }
        let why = format!("{} bytes follow the end", self.remaining());
        Err(ReadError::Value { what, offset: self.pos, why })
    }
}

/// Appends a text as [`ByteReader::text`] reads it.
///
/// # Panics
/// For a text of 65,536 bytes or more; names are at most 4096.
pub fn write_text(out: &mut Vec<u8>, text: &str) {
    out.extend(u16::try_from(text.len()).expect("names are at most 4096 bytes").to_le_bytes());
    out.extend(text.as_bytes());
}

/// The first ten bytes of a binary structure: magic, version (`u16`), bits of demanded features (`u32`).
#[derive(Debug, Clone, Copy)]
pub struct Head {
    /// Four letters.
    pub magic: [u8; 4],
    /// The one version that is written and read.
    pub version: u16,
    /// The structure's name in errors.
    pub what: &'static str,
}

impl Head {
    /// Appends the ten bytes; no feature is demanded.
    pub fn write(self, out: &mut Vec<u8>) {
        out.extend(self.magic);
        out.extend(self.version.to_le_bytes());
        out.extend(0_u32.to_le_bytes());
    }
}

/// Bytes as lower-case hexadecimal digits.
#[expect(clippy::indexing_slicing, reason = "a nibble is below 16")]
pub fn hex(bytes: &[u8]) -> String {
    let mut out = String::with_capacity(bytes.len() * 2);
    for byte in bytes {
        for nibble in [byte >> 4, byte & 15] {
            out.push(char::from(b"0123456789abcdef"[usize::from(nibble)]));
        }
    }
    out
}

/// Bytes of lower-case hexadecimal digits; none for any other text.
pub fn from_hex(text: &str) -> Option<Vec<u8>> {
    const NONE: u8 = u8::MAX;
    let nibble = |digit: u8| match digit {
        b'0'..=b'9' => digit - b'0',
        b'a'..=b'f' => digit - b'a' + 10,
        _ => NONE,
    };
    let (pairs, []) = text.as_bytes().as_chunks::<2>() else { return None };
    let mut out = Vec::with_capacity(pairs.len());
    for [high, low] in pairs {
        let (high, low) = (nibble(*high), nibble(*low));
        if high == NONE || low == NONE {
            return None;
        }
        out.push(high << 4 | low);
    }
    Some(out)
}

/// Returns where some bytes stand in others, from a place on; no bytes stand nowhere.
pub fn find(bytes: &[u8], what: &[u8], from: usize) -> Option<usize> {
    if what.is_empty() {
        return None;
    }
    Some(from + memchr::memmem::find(bytes.get(from..)?, what)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    const HEAD: Head = Head { magic: *b"LNXX", version: 1, what: "an example" };

    #[test]
    fn a_head_is_read_back_and_newer_ones_are_refused() {
        let mut bytes = Vec::new();
        HEAD.write(&mut bytes);
        assert_eq!(bytes.len(), 10);
        assert_eq!(ByteReader::new(&bytes).head(HEAD), Ok(()));
        for (at, value) in [(4, 2_u8), (6, 1), (9, 0x80)] {
            let mut newer = bytes.clone();
            newer[at] = value;
            assert!(matches!(ByteReader::new(&newer).head(HEAD), Err(ReadError::TooNew { .. })));
        }
        bytes[0] = b'Q';
        assert!(matches!(ByteReader::new(&bytes).head(HEAD), Err(ReadError::Magic { .. })));
    }

    #[test]
    fn a_count_is_a_claim() {
        let mut bytes = u32::MAX.to_le_bytes().to_vec();
        bytes.extend([0; 100]);
        let ten = NonZeroUsize::new(10).unwrap();
        let error = ByteReader::new(&bytes).count(ten, "records").unwrap_err();
        assert_eq!(error, ReadError::ImpossibleCount { what: "records", declared: u64::from(u32::MAX), possible: 10 });
    }

    #[test]
    fn every_truncation_is_an_error() {
        let bytes = [1_u8; 8];
        for len in 0..8 {
            assert!(ByteReader::new(&bytes[..len]).u64("a number").is_err());
        }
        assert_eq!(ByteReader::new(&bytes).u64("a number"), Ok(0x0101_0101_0101_0101));
    }

    #[test]
    fn bytes_are_found_from_a_place_on() {
        let text = b"low tide, high tide, tid";
        let found = |what: &[u8], from| find(text, what, from);
        assert_eq!([found(b"tide", 0), found(b"tide", 4), found(b"tide", 5)], [Some(4), Some(4), Some(15)]);
        assert_eq!([found(b"tide", 16), found(b"", 0), found(b"l", text.len() + 1)], [None; 3]);
    }
}
