//! The digest of a file of which blocks are hashed in any order, as they happen to come.
//!
//! BLAKE3 is a tree over parts of 1,024 bytes whose left half always has a power of two of them: so what lies between two
//! multiples of such a power is a subtree of its own, whoever hashes it. Source: the BLAKE3 paper (O'Connor, Aumasson, Neves,
//! Wilcox-O'Hearn, 2021), sections 2.1 and 2.4.

use std::io::{self, ErrorKind, Read, Seek, SeekFrom};
use std::sync::Mutex;

use blake3::hazmat::{ChainingValue, HasherExt, Mode, merge_subtrees_non_root, merge_subtrees_root};

use super::Digest;
use crate::parallel::{each, processors};
use crate::progress::{Meter, Progress};

/// Bytes of a block; only the last one of a file may have fewer.
pub const BLOCK_LEN: u64 = BLOCK as u64;
/// The same, of memory.
pub const BLOCK: usize = 256 * 1024;
/// From how many bytes on a file is worth several processors. Ours: below, others take files of their own.
pub const LARGE: u64 = 64 * 1024 * 1024;
/// What one of them takes at a time, in bytes.
const PIECE_LEN: u64 = 64 * BLOCK_LEN;

/// What a block adds to the digest of the file that it is of. It depends on the block's place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BlockHash(ChainingValue);

impl BlockHash {
    /// Hashes the block that is the `index`th of a file, counted from 0, in which there are two or more.
    ///
    /// # Panics
    /// When it is empty or longer than a block.
    pub fn of(bytes: &[u8], index: u64) -> Self {
        assert!(!bytes.is_empty() && bytes.len() as u64 <= BLOCK_LEN, "no block has {} bytes", bytes.len());
        Self(blake3::Hasher::new().set_input_offset(index * BLOCK_LEN).update(bytes).finalize_non_root())
    }

    /// Reads that block of a file of `size` bytes into `buffer`, which has room for one, and hashes it.
    ///
    /// # Errors
    /// Those of reading; [`ErrorKind::InvalidData`] when the file ends before.
    pub fn read(file: &mut (impl Read + Seek), size: u64, index: u64, buffer: &mut [u8]) -> io::Result<Self> {
        let start = index * BLOCK_LEN;
        let len = usize::try_from(size.saturating_sub(start)).unwrap_or(BLOCK).min(BLOCK);
        let block = buffer.get_mut(..len).unwrap_or_default();
        file.seek(SeekFrom::Start(start))?;
        file.read_exact(block).map_err(|error| match error.kind() {
            ErrorKind::UnexpectedEof => ErrorKind::InvalidData.into(),
            _ => error,
        })?;
        Ok(Self::of(block, index))
    }
}

impl Digest {
    /// Returns the plain BLAKE3 digest of a file whose blocks these are, in order.
    ///
    /// # Panics
    /// When there are fewer than two: the digest of a file that is no longer than a block is not made of blocks.
    pub fn of_blocks(blocks: &[BlockHash]) -> Self {
        let (left, right) = halves(blocks).expect("a file of one block is hashed whole");
        Self(*merge_subtrees_root(&merged(left), &merged(right), Mode::Hash).as_bytes())
    }

    /// Returns the plain BLAKE3 digest of a large file of `size` bytes, which all processors read at once; each opens it with `open`.
    ///
    /// # Errors
    /// Those of opening and reading; [`ErrorKind::InvalidData`] when it has another length, [`ErrorKind::Interrupted`] when someone
    /// asked to stop.
    pub fn of_large<R: Read + Seek>(
        size: u64,
        open: impl Fn() -> io::Result<R> + Sync,
        meter: &dyn Meter,
        progress: &dyn Progress,
    ) -> io::Result<Self> {
        if size <= BLOCK_LEN {
            return Self::of_reader(&mut open()?, &mut [0; 8192], meter, progress);
        }
        let pieces: Vec<u64> = (0..size.div_ceil(PIECE_LEN)).collect();
        let hashed = Mutex::new(Vec::with_capacity(pieces.len()));
        let tools = || (None, vec![0; BLOCK]);
        each(&pieces, processors(), tools, |(reader, buffer), _, piece| {
            let reader = match reader {
                Some(reader) => reader,
                none => none.insert(open()?),
            };
            let blocks = piece_of(reader, size, *piece, buffer, meter, progress)?;
            hashed.lock().expect("nothing panics with the lock").push((*piece, blocks));
            Ok::<(), io::Error>(())
        })?;
        let mut hashed = hashed.into_inner().expect("nothing panics with the lock");
        hashed.sort_unstable_by_key(|(piece, _)| *piece);
        let blocks: Vec<BlockHash> = hashed.into_iter().flat_map(|(_, blocks)| blocks).collect();
        Ok(Self::of_blocks(&blocks))
    }
}

/// Reads a piece of a file of `size` bytes, and hashes its blocks.
fn piece_of(
    file: &mut (impl Read + Seek),
    size: u64,
    piece: u64,
    buffer: &mut [u8],
    meter: &dyn Meter,
    progress: &dyn Progress,
) -> io::Result<Vec<BlockHash>> {
    const BLOCKS: u64 = PIECE_LEN / BLOCK_LEN;
    let last = size.div_ceil(BLOCK_LEN);
    let mut out = Vec::new();
    for index in piece * BLOCKS..((piece + 1) * BLOCKS).min(last) {
        if progress.stopped() {
            return Err(ErrorKind::Interrupted.into());
        }
        out.push(BlockHash::read(file, size, index, buffer)?);
        meter.add((size - index * BLOCK_LEN).min(BLOCK_LEN));
    }
    if (piece + 1) * BLOCKS >= last && file.read(buffer.get_mut(..1).unwrap_or_default())? > 0 {
        return Err(ErrorKind::InvalidData.into());
    }
    Ok(out)
}

fn merged(blocks: &[BlockHash]) -> ChainingValue {
    match (halves(blocks), blocks.first()) {
        (Some((left, right)), _) => merge_subtrees_non_root(&merged(left), &merged(right), Mode::Hash),
        (None, Some(BlockHash(one))) => *one,
        (None, None) => unreachable!("no half is empty"),
    }
}

/// The left half has the largest power of two of blocks that leaves something to the right; none where there is nothing to halve.
fn halves(blocks: &[BlockHash]) -> Option<(&[BlockHash], &[BlockHash])> {
    let left = blocks.len().div_ceil(2).checked_next_power_of_two()?;
    blocks.split_at_checked(left).filter(|(_, right)| !right.is_empty())
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use super::*;
    use crate::progress::Silent;

    fn blocks(bytes: &[u8]) -> Vec<BlockHash> {
        let blocks = bytes.chunks(BLOCK).zip(0..);
        blocks.map(|(block, index)| BlockHash::of(block, index)).collect()
    }

    #[test]
    fn blocks_give_the_digest_of_the_whole() {
        let mut bytes = vec![0; 9 * BLOCK];
        blake3::Hasher::new().update(b"tide").finalize_xof().fill(&mut bytes);
        for len in 1..=9 {
            for more in [0, 1, 1023, 1024, 1025, 200_000] {
                let len = ((len * BLOCK_LEN) as usize - BLOCK_LEN as usize + more).max(BLOCK_LEN as usize + 1);
                assert_eq!(Digest::of_blocks(&blocks(&bytes[..len])), Digest::of(&bytes[..len]), "{len}");
            }
        }
    }

    #[test]
    fn a_large_file_is_hashed_by_all_and_has_to_be_as_long_as_it_was_said_to_be() {
        let mut bytes = vec![0; 2 * PIECE_LEN as usize + 700_000];
        blake3::Hasher::new().update(b"ebb").finalize_xof().fill(&mut bytes);
        let hash = |len: usize, size: u64| {
            Digest::of_large(size, || Ok(Cursor::new(&bytes[..len])), &Silent, &Silent).map_err(|e| e.kind())
        };
        for len in [0, 1, BLOCK_LEN as usize, BLOCK_LEN as usize + 1, PIECE_LEN as usize, bytes.len() - 1, bytes.len()]
        {
            assert_eq!(hash(len, len as u64), Ok(Digest::of(&bytes[..len])), "{len}");
        }
        let len = bytes.len();
        for other in [len as u64 - 1, len as u64 + 1, PIECE_LEN, 5 * PIECE_LEN] {
            assert_eq!(hash(len, other), Err(ErrorKind::InvalidData), "{other}");
        }
        let broken = Digest::of_large(LARGE, || Err::<Cursor<&[u8]>, _>(ErrorKind::NotFound.into()), &Silent, &Silent);
        assert_eq!(broken.unwrap_err().kind(), ErrorKind::NotFound);
    }

    #[test]
    fn a_block_counts_where_it_lies() {
        let one = vec![7; BLOCK_LEN as usize];
        assert_ne!(BlockHash::of(&one, 0), BlockHash::of(&one, 1));
        let bytes = [one.as_slice(), &[8; BLOCK_LEN as usize]].concat();
        let mut swapped = blocks(&bytes);
        swapped.swap(0, 1);
        assert_ne!(Digest::of_blocks(&swapped), Digest::of(&bytes));
    }
}
