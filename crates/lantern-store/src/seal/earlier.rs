//! The build before: a file that it has, too, need not be cut again. Its bytes say so, whatever its name and its times are.

use std::cmp::Reverse;
use std::io::{self, Read};
use std::sync::Mutex;

use lantern_chunker::Profile;
use lantern_core::digest::{Digest, RecipeId};
use lantern_core::parallel::{each, processors};
use lantern_core::path::TreePath;
use lantern_core::progress::{Meter, Progress};
use lantern_core::tree::Node;

use super::{FileChunks, FileRead, SealError, Source, SourceEntry};
use crate::chunk_index::ChunkIndex;
use crate::recipe::{ChunkRef, Entry};
use crate::store::Store;

/// Bytes that are read and hashed at a time.
const READ_LEN: usize = 256 * 1024;

/// The files of the build before.
#[derive(Default)]
pub(super) struct Earlier {
    entries: Vec<Entry>,
    /// Those with something in them, by their length and digest.
    files: Vec<(u64, Digest, u32)>,
    /// For each entry, the place of its first chunk when all are counted; behind the last one, how many there are.
    bounds: Vec<u32>,
    /// The places of chunks, in the order of their digests.
    by_digest: Vec<u32>,
}

/// What is known of a file before it is cut.
pub(super) enum Looked {
    /// It was not read: the build before has none of its length.
    Not,
    /// It was read, and its progress is counted: the build before does not have it.
    Differs,
    /// The build before has it.
    Same(FileRead),
}

impl Earlier {
    /// Reads it. What cannot be read, or was cut otherwise, has nothing to offer.
    pub(super) fn read(store: &Store, id: RecipeId, profile: Profile) -> Self {
        let entries = match store.recipe(id) {
            Ok((root, entries)) if root.profile == profile => entries,
            _ => Vec::new(),
        };
        let file = |(index, entry): (usize, &Entry)| match entry.node {
            Node::File { size, digest, .. } if size > 0 => Some((size, digest, u32::try_from(index).ok()?)),
            _ => None,
        };
        let mut files: Vec<_> = entries.iter().enumerate().filter_map(file).collect();
        files.sort_unstable();
        let mut out = Self { entries, files, bounds: vec![0], by_digest: Vec::new() };
        // By what each begins with: enough to find it, and of the same the first comes first.
        let mut places = Vec::new();
        for entry in &out.entries {
            for chunk in &entry.chunks {
                let place = u32::try_from(places.len()).expect("fewer than 2^32 chunks");
                places.push((chunk.digest.as_bytes().first_chunk::<8>().copied(), place));
            }
            out.bounds.push(u32::try_from(places.len()).expect("fewer than 2^32 chunks"));
        }
        places.sort_unstable();
        out.by_digest = places.into_iter().map(|(_, place)| place).collect();
        out
    }

    /// Returns the chunk at a place, and whether it ends its file.
    fn at(&self, place: u32) -> Option<(ChunkRef, bool)> {
        let entry = self.bounds.partition_point(|bound| *bound <= place).checked_sub(1)?;
        let chunks = &self.entries.get(entry)?.chunks;
        let index = (place - self.bounds.get(entry)?) as usize;
        Some((*chunks.get(index)?, index + 1 == chunks.len()))
    }

    /// Returns the first place of a chunk.
    fn place_of(&self, digest: &Digest) -> Option<u32> {
        let of = |place: u32| self.at(place).map(|(chunk, _)| chunk.digest);
        let at = self.by_digest.partition_point(|place| of(*place) < Some(*digest));
        self.by_digest.get(at).copied().filter(|place| of(*place) == Some(*digest))
    }

    /// Returns the place of a file's first chunk.
    fn place_of_file(&self, path: &TreePath) -> Option<u32> {
        let entry = self.entries.binary_search_by(|entry| entry.path.cmp(path)).ok()?;
        self.bounds.get(entry).copied()
    }

    /// Its entries, in the order of their paths.
    pub(super) fn into_entries(self) -> Vec<Entry> {
        self.entries
    }

    /// Returns the chunks of a file of it.
    pub(super) fn chunks(&self, index: u32) -> &[ChunkRef] {
        self.entries.get(index as usize).map_or(&[], |entry| &entry.chunks)
    }

    fn has_size(&self, size: u64) -> bool {
        let at = self.files.partition_point(|(of, ..)| *of < size);
        self.files.get(at).is_some_and(|(of, ..)| *of == size)
    }

    fn find(&self, size: u64, digest: Digest) -> Option<u32> {
        let at = self.files.partition_point(|(of, found, _)| (*of, *found) < (size, digest));
        self.files.get(at).filter(|(of, found, _)| (*of, *found) == (size, digest)).map(|(_, _, index)| *index)
    }

    /// Hashes the files that it has one of the same length as, on all processors, and says which it has. Of those every chunk is in the
    /// store, in packs that can be relied on. What cannot be read here is read again, and its error told then.
    pub(super) fn look(
        &self,
        (store, known): (&Store, &ChunkIndex),
        (entries, source): (&[SourceEntry], &dyn Source),
        meter: &dyn Meter,
        progress: &dyn Progress,
    ) -> Result<Vec<Looked>, SealError> {
        let mut wanted: Vec<(usize, u64)> =
            entries.iter().map(SourceEntry::size).enumerate().filter(|(_, size)| self.has_size(*size)).collect();
        // The longest first: otherwise one thread has it for itself at the end.
        wanted.sort_by_key(|(_, size)| Reverse(*size));
        let out = Mutex::new(entries.iter().map(|_| Looked::Not).collect::<Vec<_>>());
        each(
            &wanted,
            processors(),
            || vec![0; READ_LEN],
            |buffer, _, (index, size)| {
                let read = digest(source, (*index, *size), buffer, meter, progress).ok().flatten();
                let same = read.and_then(|(digest, executable)| {
                    let file = self.find(*size, digest).filter(|file| are_sound(store, known, self.chunks(*file)))?;
                    let node = Node::File { size: *size, digest, executable };
                    Some(FileRead { node, chunks: FileChunks::Earlier(file) })
                });
                if progress.stopped() {
                    return Err(SealError::Stopped);
                }
                let mut out = out.lock().expect("no thread panics with the lock");
                if let Some(looked) = out.get_mut(*index) {
                    *looked = same.map_or(Looked::Differs, Looked::Same);
                }
                Ok(())
            },
        )?;
        Ok(out.into_inner().expect("no thread panics with the lock"))
    }
}

/// Expects a file to go on as the build before does: behind a chunk that is known comes the one that came behind it. Where that is so, its
/// digest says it, and nothing has to look for where it ends; where a chunk ends depends on what is in it alone.
pub(super) struct Following<'a> {
    earlier: &'a Earlier,
    /// The place of what is expected.
    next: Option<u32>,
}

impl<'a> Following<'a> {
    /// Expects nothing before the first file.
    pub(super) fn new(earlier: &'a Earlier) -> Self {
        Self { earlier, next: None }
    }

    /// Expects a file to be the one that has its path.
    pub(super) fn begin(&mut self, path: &TreePath) {
        self.next = self.earlier.place_of_file(path);
    }

    /// Returns how long the first chunk of `data` is, and its digest.
    pub(super) fn cut(&mut self, profile: Profile, data: &[u8], at_end: bool) -> (usize, Option<Digest>) {
        if let Some((chunk, ends)) = self.next.and_then(|next| self.earlier.at(next)) {
            let len = chunk.len as usize;
            // What a file ends with is cut where it ends, and nowhere else.
            let may_come = !ends || (at_end && len == data.len());
            if let Some(expected) = data.get(..len).filter(|_| may_come)
                && Digest::of(expected) == chunk.digest
            {
                self.next = self.next.map(|next| next + 1);
                return (len, Some(chunk.digest));
            }
        }
        let len = profile.cut(data);
        let digest = Digest::of(data.get(..len).unwrap_or_default());
        self.next = self.earlier.place_of(&digest).map(|place| place + 1);
        (len, Some(digest))
    }
}

/// Reads a file for its digest, and whether an installed copy gets the executable bit. None where it is not as it was listed.
fn digest(
    source: &dyn Source,
    (index, size): (usize, u64),
    buffer: &mut [u8],
    meter: &dyn Meter,
    progress: &dyn Progress,
) -> io::Result<Option<(Digest, bool)>> {
    let mut reader = source.open(index)?;
    let mut first = Vec::new();
    (&mut reader).take(8).read_to_end(&mut first)?;
    let executable = source.is_executable(index, &first);
    // One byte more, so that a file is noticed that grows, and none is read without end.
    let mut all = first.as_slice().chain(reader).take(size + 1);
    let digest = Digest::of_reader(&mut all, buffer, meter, progress)?;
    Ok((all.limit() == 1 && source.is_unchanged(index)?).then_some((digest, executable)))
}

/// Whether chunks are in the store, in packs that can be relied on.
fn are_sound(store: &Store, known: &ChunkIndex, chunks: &[ChunkRef]) -> bool {
    let mut last = None;
    chunks.iter().all(|chunk| {
        let Some((pack, ..)) = known.find(&chunk.digest) else { return false };
        // Neighbours mostly lie in the same.
        if last != Some(pack) && !store.is_sound(&pack) {
            return false;
        }
        last = Some(pack);
        true
    })
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;
    use std::fs;
    use std::sync::atomic::{AtomicU64, Ordering};

    use lantern_core::progress::{Silent, Task};
    use proptest::prelude::*;

    use super::*;
    use crate::contents::Contents;
    use crate::seal::{SealedTree, Sealer, SourceKind};
    use crate::testing::noise;

    /// Files that count how often each of them is opened.
    struct Counted<'a> {
        files: &'a BTreeMap<&'a str, Vec<u8>>,
        opened: Vec<AtomicU64>,
        is_unchanged: bool,
        executable: bool,
    }

    impl<'a> Counted<'a> {
        fn of(files: &'a BTreeMap<&'a str, Vec<u8>>) -> Self {
            let opened = files.iter().map(|_| AtomicU64::new(0)).collect();
            Self { files, opened, is_unchanged: true, executable: false }
        }

        fn opened(&self) -> Vec<u64> {
            self.opened.iter().map(|count| count.load(Ordering::Relaxed)).collect()
        }

        fn seal(
            &self,
            store: &Store,
            earlier: Option<&SealedTree>,
            progress: &dyn Progress,
        ) -> Result<SealedTree, SealError> {
            let entry = |(name, bytes): (&&str, &Vec<u8>)| SourceEntry {
                path: TreePath::new(*name).unwrap(),
                kind: SourceKind::File { size: bytes.len() as u64 },
            };
            let entries: Vec<_> = self.files.iter().map(entry).collect();
            Sealer::new(store).seal(&entries, self, earlier.map(|tree| tree.recipe), progress)
        }
    }

    impl Source for Counted<'_> {
        fn open(&self, index: usize) -> io::Result<Box<dyn Read + '_>> {
            self.opened[index].fetch_add(1, Ordering::Relaxed);
            Ok(Box::new(self.files.values().nth(index).unwrap().as_slice()))
        }
        fn is_executable(&self, _: usize, _: &[u8]) -> bool {
            self.executable
        }
        fn is_unchanged(&self, _: usize) -> io::Result<bool> {
            Ok(self.is_unchanged)
        }
    }

    /// Counts what progress is told.
    #[derive(Default)]
    struct Told(AtomicU64);

    struct ToldMeter<'a>(&'a AtomicU64);

    impl Meter for ToldMeter<'_> {
        fn add(&self, amount: u64) {
            self.0.fetch_add(amount, Ordering::Relaxed);
        }
    }

    impl Progress for Told {
        fn start(&self, _: Task, _: Option<u64>) -> Box<dyn Meter + '_> {
            Box::new(ToldMeter(&self.0))
        }
        fn careful(&self, _: &str) {}
        fn stopped(&self) -> bool {
            false
        }
    }

    fn before() -> BTreeMap<&'static str, Vec<u8>> {
        let files = [("buoy.png", 1, 90_000), ("chart.pack", 2, 400_000), ("sky.pack", 3, 250_000), ("empty", 4, 0)];
        files.into_iter().map(|(name, seed, len)| (name, noise(seed, len))).collect()
    }

    /// A store with the build before, its files, and what came of it.
    fn sealed_before() -> (tempfile::TempDir, Store, BTreeMap<&'static str, Vec<u8>>, SealedTree) {
        let (temp, files) = (tempfile::tempdir().unwrap(), before());
        let store = Store::at(temp.path());
        let one = Counted::of(&files).seal(&store, None, &Silent).unwrap();
        (temp, store, files, one)
    }

    /// As it comes out of a store that has nothing.
    fn alone(files: &BTreeMap<&str, Vec<u8>>) -> SealedTree {
        let temp = tempfile::tempdir().unwrap();
        Counted::of(files).seal(&Store::at(temp.path()), None, &Silent).unwrap()
    }

    #[test]
    fn what_the_build_before_has_is_read_once_under_any_name() {
        let (_temp, store, mut files, one) = sealed_before();
        // One is renamed, one has another byte, one is new.
        let sky = files.remove("sky.pack").unwrap();
        files.insert("sky/night.pack", sky);
        files.get_mut("chart.pack").unwrap()[200_000] ^= 1;
        files.insert("dawn.ogg", noise(9, 10_000));
        let (source, told) = (Counted::of(&files), Told::default());
        let two = source.seal(&store, Some(&one), &told).unwrap();
        let names: Vec<&str> = files.keys().copied().collect();
        assert_eq!(names, ["buoy.png", "chart.pack", "dawn.ogg", "empty", "sky/night.pack"]);
        assert_eq!(source.opened(), [1, 2, 1, 1, 1], "what changed and kept its length is read twice");
        let size: usize = files.values().map(Vec::len).sum();
        assert_eq!((told.0.into_inner(), two.read), (size as u64, size as u64), "and counted once");
        let alone = alone(&files);
        assert_eq!((two.recipe, two.id, &two.tree), (alone.recipe, alone.id, &alone.tree));
        let contents = Contents::open(&store, two.recipe).unwrap();
        for entry in &contents.entries {
            let mut out = Vec::new();
            contents.write_to(entry, &mut out).unwrap();
            assert_eq!(out, files[entry.path.as_str()]);
        }
    }

    #[test]
    fn a_file_in_a_damaged_pack_is_sealed_again() {
        let (temp, _, files, one) = sealed_before();
        let store = Store::at(temp.path());
        let [pack] = store.packs().unwrap()[..] else { panic!("one pack has it all") };
        let mut bytes = store.read_pack(&pack).unwrap();
        bytes[1_000] ^= 1;
        fs::write(store.pack_path(&pack), bytes).unwrap();
        let source = Counted::of(&files);
        let two = source.seal(&store, Some(&one), &Silent).unwrap();
        assert_eq!(source.opened(), [2, 2, 1, 2]);
        assert!(two.recipe == one.recipe && two.new_stored > 700_000, "{}", two.new_stored);
        // The same chunks make the same pack.
        let store = Store::at(temp.path());
        assert_eq!((store.packs().unwrap(), store.damaged().unwrap()), (vec![pack], vec![]));
        assert!(store.is_sound(&pack));
        let again = Counted::of(&files);
        assert_eq!(again.seal(&store, Some(&two), &Silent).unwrap().new_stored, 0);
        assert_eq!(again.opened(), [1, 1, 1, 1]);
    }

    #[test]
    fn the_bit_of_a_program_is_that_of_now_and_a_file_that_moves_is_refused() {
        let (_temp, store, files, one) = sealed_before();
        let two = Counted { executable: true, ..Counted::of(&files) }.seal(&store, Some(&one), &Silent).unwrap();
        let bits = two.tree.iter().map(|(_, node)| matches!(node, Node::File { executable: true, .. }));
        assert_eq!(bits.collect::<Vec<_>>(), [true, true, true, true]);
        let moving = Counted { is_unchanged: false, ..Counted::of(&files) };
        assert!(matches!(moving.seal(&store, Some(&one), &Silent), Err(SealError::Changed { .. })));
    }

    #[test]
    fn a_recipe_that_is_gone_has_nothing_to_offer() {
        let (_temp, store, files, one) = sealed_before();
        store.remove_recipe(one.recipe).unwrap();
        let source = Counted::of(&files);
        assert_eq!(source.seal(&store, Some(&one), &Silent).unwrap().recipe, one.recipe);
        assert_eq!(source.opened(), [1, 1, 1, 1]);
    }

    #[test]
    fn what_comes_behind_a_chunk_is_expected_until_it_is_not() {
        let temp = tempfile::tempdir().unwrap();
        let store = Store::at(temp.path());
        let one: BTreeMap<&str, Vec<u8>> = [("a.pack", noise(1, 900_000)), ("b.pack", noise(2, 300_000))].into();
        let first = Counted::of(&one).seal(&store, None, &Silent).unwrap();
        let earlier = Earlier::read(&store, first.recipe, Profile::Medium);
        let mut following = Following::new(&earlier);
        // Returns which chunks were expected, having checked that each is what it would be if nothing were.
        let mut follow = |path: &str, data: &[u8]| {
            following.begin(&TreePath::new(path).unwrap());
            let (mut at, mut out) = (0, Vec::new());
            while at < data.len() {
                let expected = following.next.and_then(|next| earlier.at(next)).map(|(chunk, _)| chunk.digest);
                let (len, digest) = following.cut(Profile::Medium, &data[at..], true);
                assert_eq!(len, Profile::Medium.cut(&data[at..]));
                assert_eq!(digest, Some(Digest::of(&data[at..at + len])));
                out.push(expected == digest);
                at += len;
            }
            out
        };
        let count = follow("a.pack", &one["a.pack"]).len();
        assert!(count > 15 && follow("a.pack", &one["a.pack"]).iter().all(|expected| *expected));
        // Under another name it is found with its first chunk.
        let renamed = follow("c.pack", &one["a.pack"]);
        assert_eq!(renamed.iter().filter(|expected| !**expected).count(), 1);
        // What goes on, where the other ended.
        let longer = [one["a.pack"].as_slice(), &noise(3, 100_000)].concat();
        assert_eq!(follow("a.pack", &longer).iter().filter(|expected| **expected).count(), count - 1);
        let mut edited = one["a.pack"].clone();
        edited.splice(500_000..500_000, *b"a line");
        let missed = follow("a.pack", &edited).iter().filter(|expected| !**expected).count();
        assert!((1..=4).contains(&missed), "{missed}");
        let swapped = [&one["b.pack"][..200_000], &one["a.pack"], &one["b.pack"][200_000..]].concat();
        let missed = follow("b.pack", &swapped).iter().filter(|expected| !**expected).count();
        assert!((2..=10).contains(&missed), "{missed}");
        assert!(follow("a.pack", &noise(9, 300_000)).iter().all(|expected| !*expected));
        assert!(follow("a.pack", b"").is_empty());
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn the_build_before_changes_nothing_but_the_time_it_takes(
            one in prop::collection::btree_map(prop::sample::select(vec!["a", "b", "c", "d", "e"]), 0..6_u64, 0..5),
            two in prop::collection::btree_map(prop::sample::select(vec!["a", "b", "c", "d", "e"]), 0..6_u64, 0..5),
        ) {
            // Some of one length, and one that is the beginning of another.
            let bytes = |seed: u64| if seed < 3 { noise(seed, 70_000) } else { noise(2, 40_000 * seed as usize - 120_000) };
            let files = |build: BTreeMap<&'static str, u64>| -> BTreeMap<&str, Vec<u8>> {
                build.into_iter().map(|(name, seed)| (name, bytes(seed))).collect()
            };
            let (one, two) = (files(one), files(two));
            let temp = tempfile::tempdir().unwrap();
            let store = Store::at(temp.path());
            let first = Counted::of(&one).seal(&store, None, &Silent).unwrap();
            let after = Counted::of(&two).seal(&store, Some(&first), &Silent).unwrap();
            let alone = alone(&two);
            prop_assert_eq!((after.recipe, after.id, after.tree), (alone.recipe, alone.id, alone.tree));
        }
    }
}
