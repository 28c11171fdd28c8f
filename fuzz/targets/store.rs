#![no_main]
//! Trees, roots and segments of recipes, locators and packs: what is read of a tree or root is written again as the very same bytes, and nothing lies
//! outside of its pack.

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::tree::Tree;
use lantern_store::recipe::{ChunkRef, Reader, Root, SegmentRef, chunks_of_segment, pack_segment, unpack_segment};
use lantern_store::codec::{Codec, Unpacker};
use lantern_store::codec::difference::{Bases, MAX_BASES, NoBases, split};
use lantern_store::{locator::Locator, pack};

/// Every base is the same.
struct Same;

impl Bases for Same {
    fn base(&self, _: &Digest) -> Option<std::sync::Arc<[u8]>> {
        Some(b"low tide, high tide, ".repeat(100).into())
    }
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Ok(tree) = Tree::decode(bytes) {
        assert_eq!(tree.encode(), bytes);
    }
    if let Ok(root) = Root::decode(RecipeId::of(bytes), bytes) {
        assert_eq!(root.encode(), bytes);
    }
    let digest = Digest::of(bytes);
    let _ = unpack_segment(&digest, bytes);
    let [entries, count] = [0, 1].map(|at| u32::from(bytes.get(at).copied().unwrap_or_default()));
    let segment = SegmentRef { digest, len: bytes.len() as u32, entries, chunks: count };
    let packed = pack_segment(bytes);
    let _ = Reader::new().segment(&segment, &packed);
    let _ = chunks_of_segment(&segment, &packed);
    // What ends a locator is the digest of the rest: made here, so that it is not all that is ever found wrong.
    let closed = [bytes, digest.as_bytes().as_slice()].concat();
    let chunks: Vec<ChunkRef> =
        (0..bytes.len().min(50)).map(|n| ChunkRef { digest: Digest::of(&[n as u8]), len: 20 + n as u32 }).collect();
    if let Ok(locator) = Locator::decode(&Digest::of(b"segment"), &chunks, &closed) {
        for at in locator.locations() {
            assert!(at.entry.offset + at.entry.stored_len <= locator.packs[at.pack as usize].1);
            assert!(at.entry.stored_len > 0 && at.entry.stored_len <= at.entry.raw_len);
        }
    }
    if let Ok((names, frame)) = split(bytes) {
        assert!((1..=MAX_BASES).contains(&names.len()) && frame.len() + 32 < bytes.len());
        let len = bytes.len().saturating_mul(3);
        let raw = Unpacker::new().unpack(Codec::Difference, bytes, len, &Same).map(<[u8]>::len);
        assert!(raw.is_err() || raw == Ok(len));
    }
    // What is unpacked behind other bytes is what is unpacked by itself.
    let len = usize::from(u16::from_le_bytes([count as u8, entries as u8]));
    for codec in [Codec::Plain, Codec::Zstd, Codec::Difference] {
        let mut behind = b"before".to_vec();
        let done = Unpacker::new().unpack_behind(&mut behind, (codec, bytes), len, &Same);
        let alone = Unpacker::new().unpack(codec, bytes, len, &Same).map(<[u8]>::to_vec);
        assert!(behind.starts_with(b"before"));
        // Why it fails may differ: one has more room than the other.
        assert_eq!(done.ok().map(|()| behind[6..].to_vec()), alone.ok());
    }
    if let Ok(entries) = pack::verify(Digest::of(bytes), bytes, &NoBases) {
        assert!(entries.iter().all(|entry| u64::from(entry.offset) + u64::from(entry.stored_len) <= bytes.len() as u64));
    }
});
