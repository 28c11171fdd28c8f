use std::collections::HashSet;
use std::fs;

use lantern_core::compression::Compression;
use lantern_core::digest::Digest;
use lantern_core::progress::Silent;
use proptest::prelude::*;

use super::*;
use crate::codec::difference::NoBases;
use crate::collect::{CollectPlan, Kept};
use crate::contents::Contents;
use crate::pack;
use crate::parcels::{Loader, Parcel, Portions, parcels};
use crate::repair::{Repair, chunks_of};
use crate::seal::SealedTree;
use crate::testing::{noise, sealed_after, sealed_files};
use crate::updates::Comparison;

/// Two million bytes in pieces, of which each is its own.
fn first() -> Vec<u8> {
    (0..40).flat_map(|piece| noise(piece, 50_000)).collect()
}

/// The same with 20 places changed, a piece that is new, and others in another order.
fn second() -> Vec<u8> {
    let mut bytes = first();
    for change in 0..20_usize {
        bytes[change * 48_000 + 7_000] ^= 0x55;
    }
    let order = (0..40).map(|piece| if piece < 20 { piece } else { 20 + (piece * 7) % 20 });
    let mut out: Vec<u8> = order.flat_map(|piece| bytes[piece * 50_000..][..50_000].to_vec()).collect();
    out.splice(480_000..480_000, noise(99, 3_000));
    out
}

fn bases_of(store: &Store, (pack, entry): &(Digest, ChunkEntry)) -> Vec<Digest> {
    store.bases_of(pack, std::slice::from_ref(entry)).unwrap().concat()
}

fn differences(store: &Store) -> Vec<(Digest, ChunkEntry)> {
    let entries = |pack: Digest| store.pack_table(&pack).unwrap().1.into_iter().map(move |entry| (pack, entry));
    let all = store.packs().unwrap().into_iter().flat_map(entries);
    all.filter(|(_, entry)| entry.codec == Codec::Difference).collect()
}

/// What a build gives, read by a store that remembers nothing, in which every pack is sound.
fn read_back(store: &Store, tree: &SealedTree) -> Vec<Vec<u8>> {
    let store = Store::at(store.root());
    assert!(store.packs().unwrap().iter().all(|pack| store.is_sound(pack)));
    read_back_of(&store, tree)
}

fn read_back_of(store: &Store, tree: &SealedTree) -> Vec<Vec<u8>> {
    let contents = Contents::open(store, tree.recipe).unwrap();
    let read = |entry: &Entry| {
        let mut out = Vec::new();
        contents.write_to(entry, &mut out).unwrap();
        out
    };
    contents.entries.iter().map(read).collect()
}

struct Scene {
    _temp: tempfile::TempDir,
    store: Store,
    one: SealedTree,
    two: SealedTree,
}

/// The first build, and the second after it.
fn scene() -> Scene {
    let temp = tempfile::tempdir().unwrap();
    let store = Store::at(temp.path());
    let one = sealed_files(&store, &[("marsh.pack", &first())]);
    let two = sealed_after(&store, &[("marsh.pack", &second())], Some(one.recipe));
    Scene { _temp: temp, store, one, two }
}

#[test]
fn a_build_that_changed_little_takes_little() {
    let Scene { store, one, two, _temp } = scene();
    let other = tempfile::tempdir().unwrap();
    let whole = Store::at(other.path());
    sealed_files(&whole, &[("marsh.pack", &first())]);
    let same = sealed_files(&whole, &[("marsh.pack", &second())]);
    assert_eq!((same.id, same.recipe), (two.id, two.recipe), "a difference changes no id");
    assert!(
        same.new_stored > 1_000_000 && two.new_stored < same.new_stored / 20,
        "{} {}",
        same.new_stored,
        two.new_stored
    );
    assert_eq!(two.new_chunks, same.new_chunks);
    assert!(read_back(&store, &one) == [first()] && read_back(&store, &two) == [second()]);
    assert!(differences(&store).len() > 20 && differences(&whole).is_empty());
    let size: u64 = store.packs().unwrap().iter().map(|pack| fs::metadata(store.pack_path(pack)).unwrap().len()).sum();
    assert_eq!(size, one.new_stored + two.new_stored, "what was written first is gone");
    // The same once more is the same.
    let again = tempfile::tempdir().unwrap();
    let third = Store::at(again.path());
    let one = sealed_files(&third, &[("marsh.pack", &first())]);
    sealed_after(&third, &[("marsh.pack", &second())], Some(one.recipe));
    assert_eq!(third.packs().unwrap(), store.packs().unwrap());
}

/// A store with a build that is all differences, and the pack that these are to.
fn all_differences(store: &Store, more: &[u8]) -> (SealedTree, SealedTree, Digest, Vec<u8>) {
    let one = sealed_files(store, &[("marsh.pack", &first()), ("more.pack", more)]);
    let pack = store.packs().unwrap()[0];
    let mut changed = first();
    changed.iter_mut().step_by(5_000).for_each(|byte| *byte ^= 0x55);
    let two = sealed_after(store, &[("marsh.pack", &changed)], Some(one.recipe));
    let thin = differences(store);
    assert!(!thin.is_empty() && thin.iter().all(|(of, _)| store.pack_table(of).unwrap().1.len() == thin.len()));
    (one, two, pack, changed)
}

#[test]
fn a_tree_whose_differences_are_to_what_is_lost_is_not_there() {
    let temp = tempfile::tempdir().unwrap();
    let store = Store::at(temp.path());
    let (one, two, pack, changed) = all_differences(&store, b"letters");
    assert!(store.has_tree(one.id).unwrap() && store.has_tree(two.id).unwrap());
    store.remove_pack(&pack).unwrap();
    assert!(!store.has_tree(one.id).unwrap() && !store.has_tree(two.id).unwrap());
    // Sealed once more, it is there again, in whatever packs.
    let again = Store::at(store.root());
    let two = sealed_after(&again, &[("marsh.pack", &changed)], Some(one.recipe));
    assert!(again.has_tree(two.id).unwrap());
    assert_eq!(read_back_of(&again, &two), [changed]);
}

#[test]
fn what_differences_are_to_moves_and_is_named_where_it_lies_then() {
    let temp = tempfile::tempdir().unwrap();
    let store = Store::at(temp.path());
    // Most of the pack is needed by nobody once the first build goes.
    let (one, two, pack, changed) = all_differences(&store, &noise(700, 30_000_000));
    let plan = CollectPlan::make(&store, &[Kept { tree: two.id, owner: 0 }], &[one.id]).unwrap();
    assert!(plan.removed > 29_000_000 && plan.written < 3_000_000, "{plan:?}");
    plan.carry_out(&store, &Silent).unwrap();
    let there = store.packs().unwrap();
    assert!(!there.contains(&pack), "it was to go");
    let store = Store::at(store.root());
    assert!(store.has_tree(two.id).unwrap());
    assert_eq!(read_back(&store, &two), [changed]);
    // And from there it is missed, too.
    let thin = differences(&store)[0].0;
    let base = there.into_iter().find(|pack| *pack != thin).unwrap();
    store.remove_pack(&base).unwrap();
    assert!(!store.has_tree(two.id).unwrap());
}

#[test]
fn a_file_that_was_renamed_is_found() {
    let temp = tempfile::tempdir().unwrap();
    let store = Store::at(temp.path());
    let one = sealed_files(&store, &[("a.pack", &first()), ("b.pack", &noise(500, 300_000))]);
    let two = sealed_after(&store, &[("c.pack", &noise(500, 290_000)), ("d.pack", &second())], Some(one.recipe));
    assert!(two.new_stored < 60_000, "{}", two.new_stored);
    assert_eq!(read_back(&store, &two), [noise(500, 290_000), second()]);
}

/// A store with the first build, and what sealing the second writes as packs, and nothing else of it.
fn cut_after_the_packs() -> (tempfile::TempDir, Store, SealedTree) {
    let (temp, other) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (store, whole) = (Store::at(temp.path()), Store::at(other.path()));
    let one = sealed_files(&store, &[("marsh.pack", &first())]);
    sealed_files(&whole, &[("marsh.pack", &first())]);
    sealed_files(&whole, &[("marsh.pack", &second())]);
    let there = store.packs().unwrap();
    for pack in whole.packs().unwrap().iter().filter(|pack| !there.contains(pack)) {
        store.note_fresh(pack).unwrap();
        store.write_pack(pack, &whole.read_pack(pack).unwrap()).unwrap();
    }
    (temp, store, one)
}

#[test]
fn what_a_cut_run_left_is_thinned_by_the_next() {
    let (_temp, store, one) = cut_after_the_packs();
    let two = sealed_after(&store, &[("marsh.pack", &second())], Some(one.recipe));
    assert_eq!(store.packs().unwrap(), scene().store.packs().unwrap());
    assert_eq!((two.new_chunks, store.fresh().unwrap()), (0, vec![]));
    assert!(two.new_stored > 0 && read_back(&store, &two) == [second()]);
}

#[test]
fn what_is_named_by_then_stays_as_it_is() {
    let (_temp, store, one) = cut_after_the_packs();
    // Another build has a part of it, and is no build that follows: all of it is whole.
    let part = sealed_files(&store, &[("marsh.pack", &second()[..900_000])]);
    assert!(store.fresh().unwrap().is_empty());
    let packs = store.packs().unwrap();
    let two = sealed_after(&store, &[("marsh.pack", &second())], Some(one.recipe));
    assert!(packs.iter().all(|pack| store.packs().unwrap().contains(pack)));
    assert!(read_back(&store, &part) == [second()[..900_000].to_vec()] && read_back(&store, &two) == [second()]);
}

#[test]
fn what_is_like_nothing_stays_whole() {
    let temp = tempfile::tempdir().unwrap();
    let store = Store::at(temp.path());
    let one = sealed_files(&store, &[("marsh.pack", &first())]);
    let packs = store.packs().unwrap();
    let new = noise(777, 1_500_000);
    let two = sealed_after(&store, &[("marsh.pack", &new)], Some(one.recipe));
    assert!(differences(&store).is_empty() && store.packs().unwrap().len() == packs.len() + 1);
    assert_eq!(read_back(&store, &two), [new]);
}

#[test]
fn what_differences_are_to_is_whole_however_many_builds_follow() {
    let Scene { store, two, _temp, .. } = scene();
    let (mut bytes, mut before) = (second(), two);
    for build in 0..4_usize {
        bytes[build * 90_000 + 30_000] ^= 1;
        bytes[400_000] ^= 1 << build;
        before = sealed_after(&store, &[("marsh.pack", &bytes)], Some(before.recipe));
        assert!(before.new_stored < 10_000, "{build}: {}", before.new_stored);
        assert_eq!(read_back(&store, &before), [bytes.clone()]);
    }
    let thin: HashSet<Digest> = differences(&store).iter().map(|(_, entry)| entry.digest).collect();
    let bases = differences(&store).into_iter().flat_map(|thin| bases_of(&store, &thin));
    assert!(bases.collect::<HashSet<_>>().is_disjoint(&thin));
}

#[test]
fn what_leaves_is_whole_and_as_long_as_was_said() {
    let Scene { store, two, _temp, .. } = scene();
    let known = store.known_chunks().unwrap();
    let chunks: Vec<u32> = Contents::open(&store, two.recipe).unwrap().entries[0]
        .chunks
        .iter()
        .map(|chunk| known.index_of(&chunk.digest).unwrap())
        .collect();
    let missing: Vec<u32> = chunks.iter().copied().collect::<std::collections::BTreeSet<_>>().into_iter().collect();
    let sent = parcels(&store, &known, &Portions::new(&[chunks]), &missing).unwrap();
    let mut loader = Loader::new(&store, &known, Compression::default());
    let mut came = HashSet::new();
    for parcel in &sent {
        assert!(matches!(parcel, Parcel::Composed { .. }));
        let mut bytes = Vec::new();
        let name = loader.load(parcel, &mut bytes).unwrap();
        assert_eq!(bytes.len() as u64, parcel.len());
        came.extend(pack::verify(name, &bytes, &NoBases).unwrap().iter().map(|entry| entry.digest));
    }
    assert_eq!(came.len(), missing.len());
    // Nor does a pack leave as it is that has differences, however much of it is wanted.
    let thin: Vec<u32> = differences(&store).iter().map(|(_, entry)| known.index_of(&entry.digest).unwrap()).collect();
    let sent = parcels(&store, &known, &Portions::new(std::slice::from_ref(&thin)), &thin).unwrap();
    assert!(sent.iter().all(|parcel| matches!(parcel, Parcel::Composed { .. })));
}

#[test]
fn an_update_is_compared_with_chunks_as_they_travel() {
    let Scene { store, one, two, _temp } = scene();
    let other = tempfile::tempdir().unwrap();
    let whole = Store::at(other.path());
    sealed_files(&whole, &[("marsh.pack", &first())]);
    sealed_files(&whole, &[("marsh.pack", &second())]);
    let chunks = |store| Comparison::open(store, one.recipe, two.recipe).unwrap().chunks();
    assert_eq!(chunks(&store), chunks(&whole));
}

fn keep(store: &Store, kept: &[&SealedTree], gone: &[&SealedTree]) {
    let kept: Vec<Kept> = kept.iter().map(|tree| Kept { tree: tree.id, owner: 0 }).collect();
    let gone: Vec<_> = gone.iter().map(|tree| tree.id).collect();
    CollectPlan::make(store, &kept, &gone).unwrap().carry_out(store, &Silent).unwrap();
    assert!(CollectPlan::make(store, &kept, &gone).unwrap().is_empty());
}

#[test]
fn what_differences_are_to_stays_as_long_as_they_do() {
    let Scene { store, one, two, _temp } = scene();
    keep(&store, &[&two], &[&one]);
    assert_eq!(read_back(&store, &two), [second()]);
    // Without them nothing holds it.
    let three = sealed_files(&store, &[("marsh.pack", &noise(1, 50_000))]);
    keep(&store, &[&three], &[&two]);
    assert!(differences(&store).is_empty());
    assert_eq!(read_back(&store, &three), [noise(1, 50_000)]);
    let size: u64 = store.packs().unwrap().iter().map(|pack| fs::metadata(store.pack_path(pack)).unwrap().len()).sum();
    assert!(size < 120_000, "{size}");
}

/// Changes one byte of a chunk's stored bytes.
fn damage(store: &Store, pack: &Digest, entry: &ChunkEntry) {
    let path = store.pack_path(pack);
    let mut bytes = fs::read(&path).unwrap();
    bytes[entry.offset as usize + 40] ^= 1;
    fs::write(&path, bytes).unwrap();
}

/// Damages what one difference is to; returns the packs that both lie in.
fn damage_a_base(store: &Store) -> (Digest, Digest) {
    let thin = differences(store)[3];
    let base = bases_of(store, &thin)[0];
    let (pack, entry) = store.whole_chunks(None).unwrap().unwrap().find(&base).next().unwrap();
    damage(store, &pack, &entry);
    (thin.0, pack)
}

#[test]
fn a_damaged_base_takes_only_what_is_a_difference_to_it() {
    let Scene { store, one, two, _temp } = scene();
    let (pack, of_base) = damage_a_base(&store);
    let store = Store::at(store.root());
    assert!(!store.is_sound(&pack) && !store.is_sound(&of_base));
    let kept = [&one, &two].map(|tree| Kept { tree: tree.id, owner: 0 });
    let mut repair = Repair::examine(&store, kept.to_vec(), &Silent).unwrap();
    assert_eq!(repair.damaged_packs(), 2);
    repair.salvage().unwrap();
    assert!(!repair.is_complete());
    // From the files of the first build comes what is lost of it, and with that what was a difference to it.
    assert_eq!(repair.put_in(&mut chunks_of(first().as_slice())).unwrap(), 1);
    assert!(repair.is_complete());
    let still = repair.finish().unwrap();
    assert!(still.trees.is_empty() && still.chunks == 0);
    assert!(read_back(&store, &one) == [first()] && read_back(&store, &two) == [second()]);
    assert!(differences(&store).is_empty(), "what was saved is whole");
}

#[test]
fn a_base_that_is_sound_in_a_damaged_pack_saves_what_is_a_difference_to_it() {
    let temp = tempfile::tempdir().unwrap();
    let store = Store::at(temp.path());
    let one = sealed_files(&store, &[("marsh.pack", &first()), ("sky.pack", &noise(600, 200_000))]);
    let two = sealed_after(&store, &[("marsh.pack", &second())], Some(one.recipe));
    // A chunk of the other file, in the pack that the bases lie in.
    let of_sky: HashSet<Digest> = chunks_of(noise(600, 200_000).as_slice()).map(|raw| Digest::of(&raw)).collect();
    let whole = store.whole_chunks(None).unwrap().unwrap();
    let (pack, other) = of_sky.iter().find_map(|chunk| whole.find(chunk).next()).unwrap();
    let bases: HashSet<Digest> = differences(&store).into_iter().flat_map(|thin| bases_of(&store, &thin)).collect();
    assert!(bases.iter().all(|base| whole.find(base).any(|(found, _)| found == pack)) && bases.is_disjoint(&of_sky));
    damage(&store, &pack, &other);
    let store = Store::at(store.root());
    let kept = [&one, &two].map(|tree| Kept { tree: tree.id, owner: 0 });
    let mut repair = Repair::examine(&store, kept.to_vec(), &Silent).unwrap();
    repair.salvage().unwrap();
    assert_eq!(repair.put_in(&mut chunks_of(noise(600, 200_000).as_slice())).unwrap(), 1, "all else was saved");
    assert!(repair.is_complete());
    repair.finish().unwrap();
    assert!(read_back(&store, &one) == [first(), noise(600, 200_000)] && read_back(&store, &two) == [second()]);
}

#[test]
fn a_chunk_that_is_brought_again_is_whole() {
    let Scene { store, one, two, _temp } = scene();
    damage_a_base(&store);
    // Sealing them once more brings what is damaged again: the first build's chunks first, and others are differences to them.
    let store = Store::at(store.root());
    sealed_after(&store, &[("marsh.pack", &first())], Some(two.recipe));
    let two = sealed_after(&store, &[("marsh.pack", &second())], Some(one.recipe));
    let kept = [&one, &two].map(|tree| Kept { tree: tree.id, owner: 0 });
    let repair = Repair::examine(&store, kept.to_vec(), &Silent).unwrap();
    assert!(repair.is_complete());
    repair.finish().unwrap();
    assert!(read_back(&store, &one) == [first()] && read_back(&store, &two) == [second()]);
}

#[test]
fn no_more_chunks_are_compared_with_than_have_nearly_all_of_the_samples() {
    let pieces: Vec<Vec<u8>> = (0..4).map(|seed| noise(seed, 60_000)).collect();
    let of = |piece: &Vec<u8>, index: u32| samples(piece).into_iter().map(move |sample| (sample, index));
    let pool = Pool(pieces.iter().zip(10..).flat_map(|(piece, index)| of(piece, index)).collect());
    let mut edited = pieces[1].clone();
    edited.splice(30_000..30_100, *b"a letter");
    assert_eq!(pool.like(&edited), (vec![11], true));
    // A tenth of another is not needed, two halves are.
    let most = [&pieces[2][..56_000], &pieces[0][..4_000]].concat();
    assert_eq!(pool.like(&most), (vec![12], true));
    let halves = [&pieces[0][30_000..], &pieces[3][..34_000]].concat();
    assert_eq!(pool.like(&halves), (vec![13, 10], true));
    // Half of it is new: what lay there may have more of it. So it may where there is little to go by.
    assert_eq!(pool.like(&[&pieces[1][..30_000], &noise(9, 30_000)].concat()), (vec![11], false));
    assert!(!pool.like(&pieces[0][..3_000]).1);
    assert_eq!(pool.like(&noise(9, 60_000)), (vec![], false));
}

#[test]
fn a_place_is_guessed_between_what_stands_around_it() {
    let at = |file, old, new| Some(Anchor { file, old, new });
    assert_eq!(place_before(at(1, 100, 200), at(1, 300, 300), 250), Some((1, 200)));
    assert_eq!(place_before(at(1, 100, 200), at(2, 300, 300), 250), Some((1, 150)), "the one before counts");
    assert_eq!(place_before(None, at(2, 300, 300), 250), Some((2, 250)));
    assert_eq!(place_before(None, at(2, 10, 300), 250), Some((2, 0)));
    assert_eq!(place_before(None, None, 250), None);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(10))]
    #[test]
    fn whatever_follows_whatever_is_kept_can_be_read(
        edits in prop::collection::vec((0..600_000_usize, any::<u8>(), 0..3_usize), 1..30),
        drop in prop::collection::vec(any::<bool>(), 4),
    ) {
        let temp = tempfile::tempdir().unwrap();
        let store = Store::at(temp.path());
        let mut bytes = noise(3, 600_000);
        let mut builds: Vec<(SealedTree, Vec<u8>)> = Vec::new();
        for (build, drop) in drop.iter().enumerate() {
            for (at, with, how) in edits.iter().skip(build).step_by(2) {
                let at = at % bytes.len();
                match how {
                    0 => bytes[at] ^= with | 1,
                    1 => { bytes.splice(at..at, noise(u64::from(*with), 900)); }
                    _ => bytes.rotate_left(at),
                }
            }
            let before = builds.last().map(|(tree, _)| tree.recipe);
            builds.push((sealed_after(&store, &[("marsh.pack", &bytes)], before), bytes.clone()));
            if *drop && builds.len() > 1 {
                let gone = builds.remove(0);
                let kept: Vec<&SealedTree> = builds.iter().map(|(tree, _)| tree).collect();
                keep(&store, &kept, &[&gone.0]);
            }
            for (tree, bytes) in &builds {
                prop_assert!(read_back(&store, tree) == [bytes.clone()]);
            }
        }
    }
}
