//! What a build of very many files and chunks costs before a byte of it is read: `cargo bench -p lantern-store --bench scale`.
//!
//! 500,000 files of 2,000,000 chunks, a game of some 70 GB, with digests that are made up; in the next version one file in a hundred is
//! edited, all of them side by side. No content is stored.

use std::io::Write;
use std::time::Instant;

use lantern_chunker::Profile;
use lantern_core::digest::Digest;
use lantern_core::path::TreePath;
use lantern_core::tree::Node;
use lantern_store::chunk_index::ChunkIndex;
use lantern_store::codec::Codec;
use lantern_store::locator::{self, Locator};
use lantern_store::pack::ChunkEntry;
use lantern_store::recipe::{self, ChunkRef, Encoded, Entry, Writer};

const FILES: u64 = 500_000;
/// Of these, every tenth is large.
const CHUNKS_OF_LARGE: u64 = 31;
const LEN: u32 = 35_000;
const CHUNKS_OF_PACK: u32 = 480;

fn digest(kind: &str, a: u64, b: u64) -> Digest {
    Digest::of(format!("{kind} {a} {b}").as_bytes())
}

/// One file in a hundred is another from some version on.
fn entries(version: u64) -> Vec<Entry> {
    let entry = |number: u64| {
        let is_edited = version > 1 && (200_000..200_000 + FILES / 100).contains(&number);
        let seed = if is_edited { version } else { 1 };
        let count = if number.is_multiple_of(10) { CHUNKS_OF_LARGE } else { 1 };
        // Of an edited large file one chunk in the middle is another.
        let of_chunk = |at: u64| if count == 1 || at == count / 2 { seed } else { 1 };
        let digest_of = |at: u64| digest("chunk", number * 100 + at, of_chunk(at));
        let chunks: Vec<ChunkRef> = (0..count).map(|at| ChunkRef { digest: digest_of(at), len: LEN }).collect();
        let whole = if let [one] = chunks.as_slice() { one.digest } else { digest("file", number, seed) };
        let path = TreePath::new(format!("levels/{:03}/tile-{number:06}.mesh", number / 2000)).expect("a path");
        let node = Node::File { size: count * u64::from(LEN), digest: whole, executable: false };
        Entry { path, node, chunks }
    };
    (0..FILES).map(entry).collect()
}

fn encoded(entries: &[Entry]) -> Encoded {
    let mut writer = Writer::new(Profile::Medium);
    for entry in entries {
        writer.push(entry.path.clone(), entry.node.clone(), entry.chunks.iter().copied());
    }
    writer.finish().expect("they make a tree").0
}

/// Packs as sealing writes them: in the order of first appearance.
fn index(versions: &[&[Entry]]) -> ChunkIndex {
    let mut known = ChunkIndex::default();
    let (mut pack, mut offset, mut count) = (0, 10, CHUNKS_OF_PACK);
    for chunk in versions.iter().flat_map(|entries| entries.iter()).flat_map(|entry| &entry.chunks) {
        if known.contains(&chunk.digest) {
            continue;
        }
        if count == CHUNKS_OF_PACK {
            let number = known.len() as u64;
            pack = known.add_pack(digest("pack", number, 0), 24 * 1024 * 1024);
            (offset, count) = (10, 0);
        }
        // Half of it was compressed.
        let (codec, stored_len) = if known.len().is_multiple_of(2) {
            (Codec::Zstd, 20_000 + known.len() as u32 % 9973)
        } else {
            (Codec::Plain, LEN)
        };
        known.add(
            pack,
            &ChunkEntry { digest: chunk.digest, codec, offset, stored_len, raw_len: LEN, whole_len: stored_len },
        );
        (offset, count) = (offset + stored_len, count + 1);
    }
    known
}

/// Most memory that this process has had so far, where the system says so.
fn peak() -> String {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    line.and_then(|line| line.trim().strip_suffix(" kB")?.parse::<u64>().ok())
        .map_or_else(String::new, |kib| format!("{} MB", kib * 1024 / 1_000_000))
}

fn main() -> std::io::Result<()> {
    let mut out = std::io::stdout().lock();
    let (old, new) = (entries(1), entries(2));
    let chunks: usize = old.iter().map(|entry| entry.chunks.len()).sum();
    writeln!(out, "{} files, {chunks} chunks, {} GB", old.len(), chunks as u64 * u64::from(LEN) / 1_000_000_000)?;
    let known = index(&[&old, &new]);
    let clock = Instant::now();
    let (first, second) = (encoded(&old), encoded(&new));
    writeln!(out, "both recipes written: {:.2} s", clock.elapsed().as_secs_f64())?;
    drop(old);
    let packed = |encoded: &Encoded| encoded.segments.iter().map(|(_, packed)| packed.len() as u64).sum::<u64>();
    let raw: u64 = first.root.segments.iter().map(|segment| u64::from(segment.len)).sum();
    let root = first.root.encode().len();
    let count = first.segments.len();
    writeln!(out, "recipe: root {root} bytes, {count} segments, {raw} bytes, packed {}", packed(&first))?;

    let clock = Instant::now();
    let parts: Vec<(Digest, Vec<ChunkRef>, Vec<u8>)> = recipe::chunks_by_segment(&second.root, &new)
        .map(|(segment, chunks)| (segment.digest, locator::encode(&segment.digest, &chunks, &known, &[]), chunks))
        .map(|(digest, bytes, chunks)| (digest, chunks, bytes))
        .collect();
    let all: u64 = parts.iter().map(|(_, _, bytes)| bytes.len() as u64).sum();
    writeln!(out, "locators written: {:.2} s, {all} bytes", clock.elapsed().as_secs_f64())?;

    // What a player's machine does for an update: it has the first recipe.
    let clock = Instant::now();
    let there: std::collections::HashSet<&Digest> = first.segments.iter().map(|(digest, _)| digest).collect();
    let fresh: u64 = second
        .segments
        .iter()
        .filter(|(digest, _)| !there.contains(digest))
        .map(|(_, packed)| packed.len() as u64)
        .sum();
    let read = |encoded: &Encoded| {
        let mut segments = encoded.segments.iter().map(|(_, packed)| packed.clone());
        let next = |_: &recipe::SegmentRef| segments.next().ok_or("no such segment".to_owned());
        recipe::assemble(encoded.id, &encoded.root.encode(), next, |error| error.to_string())
    };
    let ((_, old), (root, new)) = (read(&first).expect("it is whole"), read(&second).expect("it is whole"));
    writeln!(out, "both recipes read: {:.2} s", clock.elapsed().as_secs_f64())?;
    let clock = Instant::now();
    let lacking: std::collections::HashSet<Digest> =
        recipe::lacking(&old, &new).into_iter().map(|chunk| chunk.digest).collect();
    let asked = recipe::segments_with(&root, &new, |chunk| lacking.contains(chunk));
    let asked: std::collections::HashSet<Digest> = asked.into_iter().map(|(digest, _)| digest).collect();
    let mut located = Vec::new();
    let mut locator_bytes = 0;
    for (digest, chunks, bytes) in parts.iter().filter(|(digest, _, _)| asked.contains(digest)) {
        locator_bytes += bytes.len() as u64;
        located.push(Locator::decode(digest, chunks, bytes).expect("it is whole"));
    }
    let located = Locator::join(&located);
    assert!(lacking.iter().all(|chunk| located.find(chunk).is_some()), "everything that is lacking is found");
    writeln!(
        out,
        "what is lacking, and where it lies: {:.2} s, {} chunks",
        clock.elapsed().as_secs_f64(),
        lacking.len()
    )?;
    let root = second.root.encode().len() as u64;
    let sum = root + fresh + locator_bytes;
    writeln!(
        out,
        "metadata of the update: {sum} bytes (root {root}, segments {fresh}, locators {locator_bytes}); of a new installation {}",
        root + packed(&second) + all
    )?;
    writeln!(out, "peak memory of all of this, with what is made up: {}", peak())?;
    Ok(())
}
