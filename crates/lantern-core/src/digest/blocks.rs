//! The digest of a file of which blocks are hashed in any order, as they happen to come.
//!
//! BLAKE3 is a tree over parts of 1,024 bytes whose left half always has a power of two of them: so what lies between two
//! multiples of such a power is a subtree of its own, whoever hashes it. Source: the BLAKE3 paper (O'Connor, Aumasson, Neves,
//! Wilcox-O'Hearn, 2021), sections 2.1 and 2.4.

use blake3::hazmat::{ChainingValue, HasherExt, Mode, merge_subtrees_non_root, merge_subtrees_root};

use super::Digest;

/// Bytes of a block; only the last one of a file may have fewer.
pub const BLOCK_LEN: u64 = 256 * 1024;

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
    use super::*;

    fn blocks(bytes: &[u8]) -> Vec<BlockHash> {
        let blocks = bytes.chunks(BLOCK_LEN as usize).zip(0..);
        blocks.map(|(block, index)| BlockHash::of(block, index)).collect()
    }

    #[test]
    fn blocks_give_the_digest_of_the_whole() {
        let mut bytes = vec![0; 9 * BLOCK_LEN as usize];
        blake3::Hasher::new().update(b"tide").finalize_xof().fill(&mut bytes);
        for len in 1..=9 {
            for more in [0, 1, 1023, 1024, 1025, 200_000] {
                let len = ((len * BLOCK_LEN) as usize - BLOCK_LEN as usize + more).max(BLOCK_LEN as usize + 1);
                assert_eq!(Digest::of_blocks(&blocks(&bytes[..len])), Digest::of(&bytes[..len]), "{len}");
            }
        }
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
