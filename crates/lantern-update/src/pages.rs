//! Hashes of pages: a signed program for Apple's systems holds the SHA-256 of each of its pages. Each changed page would bring 32 bytes that nothing
//! predicts; so they are computed from the bytes before them, and are not in the update file.

use std::io;

use lantern_core::bytes::{ByteReader, ReadError};
use sha2::{Digest as _, Sha256};

use crate::programs::{self, Bytes};
use crate::sink::Sink;
use crate::varint;

/// Bytes of a hash.
const HASH_LEN: u64 = 32;
/// How many rows of hashes a file may have: one for each of its programs.
const MAX_COUNT: u64 = 16;
/// Longest row of hashes, in bytes: they are held in memory. Ours: for 512 MiB in pages of 4 KiB.
const MAX_ROW_LEN: u64 = 4 * 1024 * 1024;
/// Pages of 512 bytes to 64 KiB, as powers of two.
const PAGE_BITS: std::ops::RangeInclusive<u8> = 9..=16;

/// Bytes of a file, and where the hashes of their pages lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Pages {
    /// The first byte that is hashed.
    pub start: u64,
    /// How many are; the last page may be shorter.
    pub len: u64,
    /// A page has two to the power of this many bytes.
    pub bits: u8,
    /// Where the first hash lies, behind everything that is hashed; the others follow.
    pub hashes: u64,
}

impl Pages {
    fn page(&self) -> u64 {
        1 << self.bits
    }

    /// Where the hashes end; none beyond all numbers.
    pub fn end(&self) -> Option<u64> {
        self.len.div_ceil(self.page()).checked_mul(HASH_LEN)?.checked_add(self.hashes)
    }

    /// Whether they lie in a file of `size` bytes, behind `before`, and name something.
    fn fits(&self, before: u64, size: u64) -> bool {
        let hashed_to = self.start.checked_add(self.len);
        PAGE_BITS.contains(&self.bits)
            && self.len > 0
            && self.start >= before
            && hashed_to.is_some_and(|end| end <= self.hashes)
            && self.end().is_some_and(|end| end <= size && end - self.hashes <= MAX_ROW_LEN)
    }

    pub fn write_all(all: &[Self], out: &mut Vec<u8>) {
        varint::write(out, all.len() as u64);
        for of in all {
            varint::write(out, of.start);
            varint::write(out, of.len);
            varint::write(out, u64::from(of.bits));
            varint::write(out, of.hashes);
        }
    }

    /// Reads those of a file of `size` bytes.
    pub fn read_all(reader: &mut ByteReader<'_>, size: u64) -> Result<Vec<Self>, ReadError> {
        const WHAT: &str = "hashes of pages";
        let at = reader.position();
        let count = varint::read(reader, WHAT)?;
        if count == 0 || count > MAX_COUNT {
            let why = format!("{count} rows of hashes, of at most {MAX_COUNT}");
            return Err(ReadError::Value { what: WHAT, offset: at, why });
        }
        let mut all = Vec::new();
        let mut before = 0;
        for _ in 0..count {
            let offset = reader.position();
            let mut next = || varint::read(reader, WHAT);
            let (start, len, bits, hashes) = (next()?, next()?, next()?, next()?);
            let of = Self { start, len, bits: u8::try_from(bits).unwrap_or(u8::MAX), hashes };
            if !of.fits(before, size) {
                let why = "they lie outside of their file, or before what they are of".to_owned();
                return Err(ReadError::Value { what: WHAT, offset, why });
            }
            before = of.end().unwrap_or(size);
            all.push(of);
        }
        Ok(all)
    }
}

/// Passes on the bytes of a file, with hashes in their places.
pub(crate) struct Hashing<'a> {
    out: &'a mut dyn Sink,
    rows: &'a [Pages],
    at: u64,
    hasher: Sha256,
    hashes: Vec<u8>,
}

impl<'a> Hashing<'a> {
    pub fn new(out: &'a mut dyn Sink, rows: &'a [Pages]) -> Self {
        Self { out, rows, at: 0, hasher: Sha256::new(), hashes: Vec::new() }
    }
}

impl Sink for Hashing<'_> {
    fn write(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            let Some((row, later)) = self.rows.split_first() else { return self.out.write(bytes) };
            let hashed_to = row.start + row.len;
            let at = self.at;
            let to = match at {
                at if at < row.start => row.start,
                at if at < hashed_to => (at - (at - row.start) % row.page()).saturating_add(row.page()).min(hashed_to),
                at if at < row.hashes => row.hashes,
                _ => row.hashes + self.hashes.len() as u64,
            };
            let len = usize::try_from(to - at).unwrap_or(usize::MAX).min(bytes.len());
            let (now, rest) = bytes.split_at(len);
            self.at += len as u64;
            if at >= row.hashes {
                let from = usize::try_from(at - row.hashes).unwrap_or(usize::MAX);
                self.out.write(self.hashes.get(from..from + len).unwrap_or_default())?;
                if self.at == to {
                    self.rows = later;
                    self.hashes.clear();
                }
            } else {
                self.out.write(now)?;
                if at >= row.start && at < hashed_to {
                    self.hasher.update(now);
                    if self.at == to {
                        self.hashes.extend(self.hasher.finalize_reset());
                    }
                }
            }
            bytes = rest;
        }
        Ok(())
    }
}

/// Finds the hashes of a program for Apple's systems that are what they should be. Sources: `mach-o/loader.h`, `mach-o/fat.h` and
/// `kern/cs_blobs.h` of the open system sources. A guess that is wrong is found out here.
pub(crate) fn find(bytes: &[u8]) -> Vec<Pages> {
    let mut all = Vec::new();
    let mut before = 0;
    for start in programs::mach_o_starts(&Bytes(bytes)) {
        let Some(of) = of_thin(&Bytes(bytes), start) else { continue };
        if of.fits(before, bytes.len() as u64) && is_right(bytes, &of) {
            before = of.end().unwrap_or(u64::MAX);
            all.push(of);
        }
    }
    all
}

/// Leaves nothing in the places of a file's hashes.
pub(crate) fn clear(bytes: &mut [u8], pages: &[Pages]) {
    for of in pages {
        let [from, to] = [of.hashes, of.end().unwrap_or(0)].map(|at| usize::try_from(at).unwrap_or(usize::MAX));
        bytes.get_mut(from..to).unwrap_or_default().fill(0);
    }
}

fn is_right(bytes: &[u8], of: &Pages) -> bool {
    let part = |from: u64, len: u64| {
        let from = usize::try_from(from).ok()?;
        bytes.get(from..from.checked_add(usize::try_from(len).ok()?)?)
    };
    let (Some(hashed), Some(hashes)) = (part(of.start, of.len), part(of.hashes, of.end().unwrap_or(0) - of.hashes))
    else {
        return false;
    };
    let page = usize::try_from(of.page()).unwrap_or(usize::MAX);
    hashed.chunks(page).map(Sha256::digest).eq(hashes.chunks(HASH_LEN as usize).map(|hash| {
        let mut is = sha2::digest::Output::<Sha256>::default();
        is.copy_from_slice(hash);
        is
    }))
}

fn of_thin(bytes: &Bytes<'_>, start: usize) -> Option<Pages> {
    const CODE_SIGNATURE: u32 = 0x1d;
    const SUPER_BLOB: u32 = 0xfade_0cc0;
    const CODE_DIRECTORY: u32 = 0xfade_0c02;
    const SHA256: u8 = 2;
    let (_, command) = programs::commands(bytes, start)?.into_iter().find(|(command, _)| *command == CODE_SIGNATURE)?;
    let blob = start.checked_add(bytes.u32(command + 8)? as usize)?;
    if bytes.big(blob)? != SUPER_BLOB {
        return None;
    }
    (0..bytes.big(blob + 8)?.min(16) as usize).find_map(|number| {
        let directory = blob.checked_add(bytes.big(blob + 12 + number * 8 + 4)? as usize)?;
        let byte = |at: usize| bytes.0.get(directory.checked_add(at)?).copied();
        let word = |at: usize| bytes.big(directory.checked_add(at)?);
        if word(0)? != CODE_DIRECTORY || byte(36)? != HASH_LEN as u8 || byte(37)? != SHA256 {
            return None;
        }
        let (len, bits) = (u64::from(word(32)?), byte(39)?);
        let hashes = directory as u64 + u64::from(word(16)?);
        let is_all = PAGE_BITS.contains(&bits) && len.div_ceil(1 << bits) == u64::from(word(28)?);
        is_all.then_some(Pages { start: start as u64, len, bits, hashes })
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn filled(bytes: &[u8], rows: &[Pages], cut: usize) -> Vec<u8> {
        let mut out: Vec<u8> = Vec::new();
        let mut hashing = Hashing::new(&mut out, rows);
        for piece in bytes.chunks(cut.max(1)) {
            hashing.write(piece).unwrap();
        }
        out
    }

    #[test]
    fn hashes_come_into_their_places() {
        let mut bytes: Vec<u8> = (0..2000_u32).map(|n| n as u8).collect();
        let rows = [
            Pages { start: 10, len: 600, bits: 9, hashes: 640 },
            Pages { start: 704, len: 512, bits: 9, hashes: 1216 },
        ];
        let hash = |bytes: &[u8]| Sha256::digest(bytes).to_vec();
        let mut expected = bytes.clone();
        expected[640..672].copy_from_slice(&hash(&bytes[10..522]));
        expected[672..704].copy_from_slice(&hash(&bytes[522..610]));
        expected[1216..1248].copy_from_slice(&hash(&bytes[704..1216]));
        bytes[640..704].fill(0);
        for cut in [1, 7, 512, 5000] {
            assert!(filled(&bytes, &rows, cut) == expected, "in pieces of {cut}");
        }
        assert!(rows.iter().all(|row| is_right(&expected, row)));
        assert!(!is_right(&bytes, &rows[0]));
    }

    /// What is held in memory is bounded, however long a file is.
    #[test]
    fn a_row_has_its_longest() {
        let pages = MAX_ROW_LEN / HASH_LEN;
        let row = |count: u64| Pages { start: 0, len: count << 12, bits: 12, hashes: count << 12 };
        assert!(row(pages).fits(0, u64::MAX));
        assert!(!row(pages + 1).fits(0, u64::MAX));
        assert!(!Pages { len: u64::MAX, ..row(1) }.fits(0, u64::MAX));
    }

    proptest! {
        #[test]
        fn rows_come_back_or_are_refused(rows in prop::collection::vec((0..3000_u64, 0..3000_u64, 8..18_u8, 0..5000_u64), 0..4), size in 0..9000_u64) {
            let rows: Vec<Pages> =
                rows.into_iter().map(|(start, len, bits, hashes)| Pages { start, len, bits, hashes }).collect();
            let mut written = Vec::new();
            Pages::write_all(&rows, &mut written);
            match Pages::read_all(&mut ByteReader::new(&written), size) {
                Ok(read) => {
                    prop_assert_eq!(&read, &rows);
                    // Whatever it is, as many bytes come out as go in.
                    let bytes = vec![7; usize::try_from(size).unwrap()];
                    prop_assert_eq!(filled(&bytes, &rows, 100).len(), bytes.len());
                }
                Err(_) => prop_assert!(rows.is_empty() || rows.iter().any(|row| !row.fits(0, size)) || rows.len() > 1),
            }
        }
    }
}
