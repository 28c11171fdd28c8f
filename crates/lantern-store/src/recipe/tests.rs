//! Recipes: written, read, damaged, forged.

use super::*;
use proptest::prelude::*;
use std::collections::HashMap;

fn chunk(i: u32) -> ChunkRef {
    ChunkRef { digest: Digest::of(&i.to_le_bytes()), len: 1 + i % 1000 }
}

/// A file of one chunk has that one's digest.
fn file(chunks: &[ChunkRef], name: &str) -> (TreePath, Node) {
    let size = chunks.iter().map(|c| u64::from(c.len)).sum();
    let digest = if let [one] = chunks { one.digest } else { Digest::of(name.as_bytes()) };
    (TreePath::new(name).unwrap(), Node::File { size, digest, executable: false })
}

fn encoded(counts: &[u32]) -> Encoded {
    let mut writer = Writer::new(Profile::Medium);
    for (i, count) in counts.iter().enumerate() {
        let chunks: Vec<ChunkRef> = (0..*count).map(|j| chunk(i as u32 * 10_000 + j)).collect();
        let (path, node) = file(&chunks, &format!("f{i:05}"));
        writer.push(path, node, chunks.iter().copied());
    }
    writer.push(TreePath::new("z/empty").unwrap(), Node::EmptyFolder, std::iter::empty());
    writer.push(TreePath::new("z/link").unwrap(), Node::Link { target: "../f00000".into() }, std::iter::empty());
    writer.finish().unwrap().0
}

fn decode(encoded: &Encoded) -> Result<Vec<Entry>, RecipeError> {
    let root = Root::decode(encoded.id, &encoded.root.encode())?;
    let mut reader = Reader::new();
    for (segment, (_, bytes)) in root.segments.iter().zip(&encoded.segments) {
        reader.segment(segment, bytes)?;
    }
    reader.finish(&root)
}

/// Changes the first segment, and everything that names it.
fn forged(encoded: &mut Encoded, change: impl FnOnce(&mut Vec<u8>)) {
    let (digest, packed) = &mut encoded.segments[0];
    let mut bytes = unpack_segment(digest, packed).unwrap();
    change(&mut bytes);
    (*digest, *packed) = (Digest::of(&bytes), pack_segment(&bytes));
    let reference = &mut encoded.root.segments[0];
    (reference.digest, reference.len) = (*digest, bytes.len() as u32);
    encoded.id = RecipeId::of(&encoded.root.encode());
}

#[test]
fn a_recipe_over_many_segments_is_read_back() {
    let encoded = encoded(&[5000, 0, 1, 3000]);
    assert!(encoded.segments.len() > 3);
    let entries = decode(&encoded).unwrap();
    let counts: Vec<usize> = entries.iter().map(|e| e.chunks.len()).collect();
    assert_eq!(counts, [5000, 0, 1, 3000, 0, 0]);
    assert_eq!(Tree::new(entries.into_iter().map(|e| (e.path, e.node))).unwrap().id(), encoded.root.tree);
}

#[test]
fn a_file_of_one_chunk_has_no_record_of_its_own() {
    let (small, none) = (encoded(&[1; 200]), encoded(&[0; 200]));
    let (with, without) = (&small.root.segments[0], &none.root.segments[0]);
    assert_eq!((with.entries, with.chunks, without.chunks, with.len), (202, 200, 0, without.len));
    assert_eq!(decode(&small).unwrap()[7].chunks, [chunk(70_000)]);
}

#[test]
fn segments_are_read_by_themselves_and_give_the_same_chunks() {
    let good = encoded(&[5000, 0, 1, 3000, 1]);
    let entries = decode(&good).unwrap();
    let packed: HashMap<&Digest, &[u8]> = good.segments.iter().map(|(d, packed)| (d, packed.as_slice())).collect();
    let mut count = 0;
    for (segment, chunks) in chunks_by_segment(&good.root, &entries) {
        assert_eq!(chunks_of_segment(segment, packed[&segment.digest]).unwrap(), chunks);
        count += chunks.len();
    }
    assert_eq!(count, 8002);
    let last = [chunk(40_000).digest];
    assert_eq!(segments_with(&good.root, &entries, |digest| last.contains(digest)).len(), 1);
}

#[test]
fn a_frame_that_claims_much_is_not_unpacked() {
    let mut bomb = zstd::stream::Encoder::new(Vec::new(), 1).unwrap();
    bomb.set_pledged_src_size(Some(MAX_SEGMENT_LEN + 1)).unwrap();
    std::io::copy(&mut std::io::Read::take(std::io::repeat(0), MAX_SEGMENT_LEN + 1), &mut bomb).unwrap();
    let bomb = bomb.finish().unwrap();
    let digest = Digest::of(&vec![0; MAX_SEGMENT_LEN as usize + 1]);
    assert!(bomb.len() < 10_000 && unpack_segment(&digest, &bomb).is_err());
    let mut without_size = zstd::stream::Encoder::new(Vec::new(), 1).unwrap();
    without_size.include_contentsize(false).unwrap();
    std::io::Write::write_all(&mut without_size, b"tide").unwrap();
    assert!(unpack_segment(&Digest::of(b"tide"), &without_size.finish().unwrap()).is_err());
    assert_eq!(unpack_segment(&Digest::of(b"tide"), &pack_segment(b"tide")).unwrap(), b"tide");
}

#[test]
fn what_is_lacking_is_what_no_old_file_has() {
    let [a, b, c, d] = [1, 2, 3, 4].map(chunk);
    let entry = |chunks: &[ChunkRef], name: &str| {
        let (path, node) = file(chunks, name);
        Entry { path, node, chunks: chunks.to_vec() }
    };
    let old = [entry(&[a, b], "edited"), entry(&[c], "gone"), entry(&[a, a], "same")];
    let new = [entry(&[d, b, a], "edited"), entry(&[c, d], "moved"), entry(&[a, a], "same")];
    assert_eq!(lacking(&old, &new), [&d]);
    assert_eq!(lacking(&[], &new), [&d, &b, &a, &c]);
    assert!(lacking(&new, &new).is_empty());
}

#[test]
fn different_chunks_are_in_the_order_of_their_first_appearance() {
    let [a, b, c] = [1, 2, 3].map(chunk);
    let entry = |chunks: &[ChunkRef], name: &str| {
        let (path, node) = file(chunks, name);
        Entry { path, node, chunks: chunks.to_vec() }
    };
    let entries = [entry(&[b, a, b], "one"), entry(&[c, a], "two")];
    assert_eq!(different_chunks(&entries), [b.digest, a.digest, c.digest]);
}

#[test]
fn a_name_of_our_own_files_is_refused() {
    let mut writer = Writer::new(Profile::Medium);
    let (path, node) = file(&[], "data/.lantexn-install/lock");
    writer.push(path, node, std::iter::empty());
    let mut encoded = writer.finish().unwrap().0;
    let mut forge = |from: &[u8], to: &[u8]| {
        forged(&mut encoded, |bytes| {
            let at = bytes.windows(from.len()).position(|window| window == from).unwrap();
            bytes[at..at + to.len()].copy_from_slice(to);
        });
        decode(&encoded)
    };
    for (from, to) in [(".lantexn", ".lantern"), (".lantern", ".LANTERN"), (".LANTERN-install", "LANTER~1........")] {
        let error = forge(from.as_bytes(), to.as_bytes()).unwrap_err().to_string();
        assert!(error.contains("belongs to Lantern's own files"), "{to}: {error}");
    }
}

#[test]
fn a_change_in_the_middle_shares_the_other_segments() {
    let all: Vec<ChunkRef> = (0..20_000).map(chunk).collect();
    let make = |chunks: &[ChunkRef]| {
        let mut writer = Writer::new(Profile::Medium);
        let (path, node) = file(chunks, "main.pack");
        writer.push(path, node, chunks.iter().copied());
        writer.finish().unwrap().0
    };
    let mut edited = all.clone();
    edited.insert(10_000, chunk(99_999));
    // The first segment holds the file's size, so it changes too.
    let old = make(&all);
    let new = make(&edited);
    let shared = new.segments.iter().filter(|s| old.segments.iter().any(|o| o.0 == s.0)).count();
    assert!(old.segments.len() > 10);
    assert!(shared + 3 >= new.segments.len(), "{shared} of {}", new.segments.len());
}

#[test]
fn damage_is_found_everywhere() {
    let good = encoded(&[3, 2]);
    for at in 0..good.segments[0].1.len() {
        let mut bad = good.clone();
        bad.segments[0].1[at] ^= 1;
        // A frame's head may say the same in more than one way; what comes out is what counts.
        match decode(&bad) {
            Ok(entries) => assert_eq!(entries, decode(&good).unwrap()),
            Err(error) => assert_eq!(error, RecipeError::Digest { what: "a segment of the recipe" }),
        }
    }
    let mut root = good.root.encode();
    root[20] ^= 1;
    assert!(matches!(Root::decode(good.id, &root), Err(RecipeError::Digest { .. })));
    let missing = Encoded { segments: Vec::new(), ..good };
    assert!(matches!(decode(&missing), Err(RecipeError::Contradiction(_))));
}

#[test]
fn lies_in_well_formed_segments_are_found() {
    let lie = |change: fn(&mut Vec<u8>)| {
        let mut bad = encoded(&[2]);
        forged(&mut bad, change);
        decode(&bad)
    };
    assert!(lie(|_| {}).is_ok());
    // Record at 10: kind, flags, u16 length, "f00000", u64 size at 20, digest, u32 chunks at 60.
    assert!(lie(|b| b[20] ^= 1).is_err(), "size");
    assert!(lie(|b| b[60] = 3).is_err(), "chunks");
    assert!(lie(|b| b[60] = 1).is_err(), "chunks");
    assert!(lie(|b| b[14] = b'/').is_err(), "absolute path");
    assert!(lie(|b| b[28] ^= 1).is_err(), "digest of the file, which is in the tree's id");
}

proptest! {
    #[test]
    fn no_bytes_make_the_reader_panic(bytes in prop::collection::vec(any::<u8>(), 0..300), at in 10_usize..200, value: u8) {
        let mut root = encoded(&[2]).root.encode();
        let root_len = root.len();
        root[at % root_len] = value;
        for bytes in [&bytes, &root] {
            if let Ok(root) = Root::decode(RecipeId::of(bytes), bytes) {
                prop_assert_eq!(&root.encode(), bytes, "one root has one form");
            }
        }
        let reference = |b: &[u8]| SegmentRef { digest: Digest::of(b), len: b.len() as u32, entries: 1, chunks: 2 };
        let good = encoded(&[2]);
        let mut real = unpack_segment(&good.segments[0].0, &good.segments[0].1).unwrap();
        let len = real.len();
        real[at % len] = value;
        for bytes in [&bytes, &real] {
            let _ = Reader::new().segment(&reference(bytes), &pack_segment(bytes));
            let _ = chunks_of_segment(&reference(bytes), &pack_segment(bytes));
            let _ = unpack_segment(&Digest::of(bytes), bytes);
        }
    }
}
