//! Repairing a store: what damaged packs still hold is saved, what is lost can be put in from elsewhere, and what says
//! where everything lies is made again.
//!
//! [`Repair::examine`] reads everything; [`Repair::salvage`] saves what is sound of damaged packs; [`Repair::fetch`] gets
//! what is lost from somewhere; [`Repair::finish`] makes locators, trees and pointers again, and removes damaged packs
//! last. Killed at any point, doing it all again finishes the work.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::io::Read;
use std::sync::Arc;

use lantern_core::digest::{Digest, RecipeId, TreeId};
use lantern_core::parallel::{each, processors};
use lantern_core::progress::{Progress, Task};
use lantern_core::tree::Tree;

use crate::chunk_index::ChunkIndex;
use crate::codec::difference::{Bases, NoBases};
use crate::codec::{Codec, Packer, Unpacker};
use crate::collect::Kept;
use crate::durable;
use crate::fetch::{Fetch, FetchError, locate};
use crate::pack::{self, ChunkEntry, PackWriter};
use crate::recipe::{self, Entry, Root, SegmentRef, different_chunks};
use crate::store::{Store, StoreBases, StoreError};
use lantern_chunker::Profile;

/// What is to be whole, and what is known of it.
#[derive(Debug)]
pub struct Repair<'a> {
    store: &'a Store,
    kept: Vec<Kept>,
    /// Packs that were found to be damaged.
    damaged: Vec<Digest>,
    /// Kept trees whose recipe is not there, or cannot be read.
    without_recipe: BTreeSet<TreeId>,
    /// Kept recipes that can be read, with the lowest owner of their trees.
    recipes: BTreeMap<RecipeId, u32>,
    /// Chunks that kept recipes name and no sound pack holds, with their owner.
    lost: HashMap<Digest, u32>,
    /// How many there were when it began.
    lost_first: usize,
    /// Whether something that says where things lie has to be made again.
    is_unlocated: bool,
}

/// Cuts a file as sealing does; what cannot be read of it ends it.
pub fn chunks_of(mut reader: impl Read) -> impl Iterator<Item = Vec<u8>> {
    let mut buffer: Vec<u8> = Vec::new();
    let mut is_at_end = false;
    std::iter::from_fn(move || {
        while !is_at_end && buffer.len() < Profile::MAX_LEN {
            let before = buffer.len();
            let wanted = (Profile::MAX_LEN * 4) as u64;
            is_at_end = (&mut reader).take(wanted).read_to_end(&mut buffer).is_err() || buffer.len() == before;
        }
        let len = Profile::Medium.cut(&buffer);
        let rest = buffer.split_off(len);
        let chunk = std::mem::replace(&mut buffer, rest);
        (!chunk.is_empty()).then_some(chunk)
    })
}

/// What could not be repaired.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct StillBroken {
    /// Trees of which something is lost.
    pub trees: BTreeSet<TreeId>,
    /// Chunks that are nowhere.
    pub chunks: u64,
}

impl<'a> Repair<'a> {
    /// Reads every pack, and finds out what is lost of the trees that are to be whole.
    ///
    /// # Errors
    /// [`StoreError::File`] when the disk refuses; damage is no error here.
    pub fn examine(store: &'a Store, kept: Vec<Kept>, progress: &dyn Progress) -> Result<Self, StoreError> {
        let packs = store.packs()?;
        let len = |pack: &Digest| std::fs::metadata(store.pack_path(pack)).map_or(0, |m| m.len());
        let meter = progress.start(Task::Verify, Some(packs.iter().map(len).sum()));
        let bases = store.bases();
        each(
            &packs,
            processors(),
            || (),
            |(), _, pack| {
                if progress.stopped() {
                    return Ok(());
                }
                store.look_into(pack, &bases)?;
                meter.add(len(pack));
                Ok::<_, StoreError>(())
            },
        )?;
        let mut repair = Self {
            store,
            kept,
            damaged: Vec::new(),
            without_recipe: BTreeSet::new(),
            recipes: BTreeMap::new(),
            lost: HashMap::new(),
            lost_first: 0,
            is_unlocated: false,
        };
        repair.rescan()?;
        repair.lost_first = repair.lost.len();
        Ok(repair)
    }

    /// Finds out again what is lost, after something was put in.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn rescan(&mut self) -> Result<(), StoreError> {
        let store = self.store;
        store.mark_packs_without_bases()?;
        self.damaged = store.damaged()?;
        self.is_unlocated = !self.damaged.is_empty();
        (self.without_recipe, self.recipes, self.lost) = Default::default();
        let known = store.known_chunks()?;
        for kept in &self.kept {
            let Some(recipe) = self.recipe_of(kept.tree)? else {
                self.without_recipe.insert(kept.tree);
                continue;
            };
            let owner = self.recipes.entry(recipe).or_insert(kept.owner);
            *owner = kept.owner.min(*owner);
            if !store.has_tree(kept.tree)? {
                self.is_unlocated = true;
            }
        }
        for (recipe, owner) in &self.recipes {
            let Ok((_, entries)) = store.recipe(*recipe) else { continue };
            for chunk in different_chunks(&entries).into_iter().filter(|chunk| !known.contains(chunk)) {
                let of_chunk = self.lost.entry(chunk).or_insert(*owner);
                *of_chunk = (*owner).min(*of_chunk);
            }
        }
        Ok(())
    }

    /// Returns the recipe of a tree, if all of it can be read; the pointer to it is made again where it is lost.
    fn recipe_of(&self, tree: TreeId) -> Result<Option<RecipeId>, StoreError> {
        let is_of_tree = |id: RecipeId| self.store.recipe(id).is_ok_and(|(root, _)| root.tree == tree);
        if let Ok(recipe) = self.store.recipe_of(tree)
            && is_of_tree(recipe)
        {
            return Ok(Some(recipe));
        }
        for recipe in self.store.recipes()? {
            if self.store.recipe_root(recipe).is_ok_and(|root| root.tree == tree) && is_of_tree(recipe) {
                return Ok(Some(recipe));
            }
        }
        Ok(None)
    }

    /// Whether everything is as it should be.
    pub fn is_whole(&self) -> bool {
        self.damaged.is_empty() && !self.is_unlocated && self.is_complete()
    }

    /// Whether nothing is lost.
    pub fn is_complete(&self) -> bool {
        self.lost.is_empty() && self.without_recipe.is_empty()
    }

    /// Returns how many packs are damaged.
    pub fn damaged_packs(&self) -> usize {
        self.damaged.len()
    }

    /// Returns how many chunks were lost at first.
    pub fn lost_chunks(&self) -> usize {
        self.lost_first
    }

    /// Returns the kept trees whose recipe is lost.
    pub fn lost_recipes(&self) -> &BTreeSet<TreeId> {
        &self.without_recipe
    }

    /// Saves every lost chunk that a damaged pack still holds sound. That may be more once something was put in: what others are
    /// differences to.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn salvage(&mut self) -> Result<(), StoreError> {
        let mut writer = OwnedPacks::new(self.store);
        let bases = AnyBases::of(self.store, &self.damaged);
        let (mut packer, mut unpacker) = (Packer::new(), Unpacker::new());
        for pack in self.damaged.clone() {
            let Some(bytes) = read_damaged(self.store, &pack) else { continue };
            for (entry, stored) in pack::sound(&bytes, &bases) {
                let Some(owner) = self.lost.remove(&entry.digest) else { continue };
                // A difference is saved whole: what it is to may go with its pack.
                let is_difference = entry.codec == Codec::Difference;
                let raw = is_difference.then(|| pack::unpack(&mut unpacker, &entry, stored, &bases)).transpose();
                let raw = raw.map_err(|source| StoreError::Pack { pack, source })?;
                let (codec, stored) = raw.map_or((entry.codec, stored), |raw| packer.pack(raw));
                writer.push(owner, entry.digest, codec, entry.raw_len, stored)?;
            }
        }
        writer.close()?;
        self.rescan()
    }

    /// Gets a lost recipe from elsewhere; says whether it is that of a tree that is to be whole.
    ///
    /// # Errors
    /// The source's, or the store's.
    pub fn fetch_recipe(&mut self, id: RecipeId, fetch: &dyn Fetch) -> Result<bool, FetchError> {
        let root_bytes = fetch.recipe(id)?;
        let wrong = |e: recipe::RecipeError| FetchError::new(e, false);
        let root = Root::decode(id, &root_bytes).map_err(wrong)?;
        if !self.without_recipe.contains(&root.tree) {
            return Ok(false);
        }
        let segment = |segment: &SegmentRef| -> Result<Vec<u8>, FetchError> {
            let packed = fetch.segment(&segment.digest)?;
            recipe::unpack_segment(&segment.digest, &packed).map_err(wrong)?;
            self.store.write_segment(&segment.digest, &packed)?;
            Ok(packed)
        };
        // Checked whole before the root says that it is there.
        recipe::assemble(id, &root_bytes, segment, wrong)?;
        self.store.write_root(id, &root_bytes)?;
        self.rescan()?;
        Ok(true)
    }

    /// Gets lost chunks of a recipe from elsewhere; returns the bytes that came.
    ///
    /// # Errors
    /// The source's, or the store's.
    #[expect(clippy::indexing_slicing, reason = "reading it has checked its packs")]
    pub fn fetch(&mut self, id: RecipeId, fetch: &dyn Fetch, progress: &dyn Progress) -> Result<u64, FetchError> {
        let Ok((root, entries)) = self.store.recipe(id) else { return Ok(0) };
        let wanted: Vec<(Digest, u32)> =
            different_chunks(&entries).into_iter().filter_map(|c| Some((c, *self.lost.get(&c)?))).collect();
        let locator = locate(&recipe::segments_with(&root, &entries, |chunk| self.lost.contains_key(chunk)), fetch)?;
        let found: Vec<_> = wanted.iter().filter_map(|(chunk, owner)| Some((locator.find(chunk)?, *owner))).collect();
        let total: u64 = found.iter().map(|(location, _)| u64::from(location.entry.stored_len)).sum();
        let meter = progress.start(Task::Receive, Some(total));
        let mut writer = OwnedPacks::new(self.store);
        let (mut unpacker, mut came) = (Unpacker::new(), 0);
        for (location, owner) in found {
            if progress.stopped() {
                break;
            }
            let entry = location.entry;
            let (pack, _) = locator.packs[location.pack as usize];
            let stored = fetch.pack_range(&pack, entry.offset, entry.stored_len)?;
            came += stored.len() as u64;
            meter.add(stored.len() as u64);
            let checked = pack::unpack(&mut unpacker, &entry, &stored, &NoBases);
            checked.map_err(|e| FetchError::new(e, false))?;
            writer.push(owner, entry.digest, entry.codec, entry.raw_len, &stored)?;
        }
        writer.close()?;
        self.salvage()?;
        Ok(came)
    }

    /// Puts in chunks of files that someone has, as [`chunks_of`] cuts them: those that are lost. Returns how many of them
    /// were among these.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn put_in(&mut self, raw_chunks: &mut dyn Iterator<Item = Vec<u8>>) -> Result<u64, StoreError> {
        let mut writer = OwnedPacks::new(self.store);
        let (mut packer, mut found) = (Packer::new(), 0);
        while !self.lost.is_empty() {
            let Some(raw) = raw_chunks.next() else { break };
            let digest = Digest::of(&raw);
            let Some(owner) = self.lost.remove(&digest) else { continue };
            let (codec, stored) = packer.pack(&raw);
            writer.push(owner, digest, codec, u32::try_from(raw.len()).unwrap_or(u32::MAX), stored)?;
            found += 1;
        }
        writer.close()?;
        self.salvage()?;
        Ok(found)
    }

    /// Makes again what says where everything lies, and removes damaged packs; returns what is still lost.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn finish(mut self) -> Result<StillBroken, StoreError> {
        let known = self.store.known_chunks()?;
        let mut still = StillBroken { trees: self.without_recipe.clone(), chunks: self.lost.len() as u64 };
        for recipe in self.recipes.keys() {
            let (root, entries) = self.store.recipe(*recipe)?;
            if different_chunks(&entries).iter().any(|chunk| !known.contains(chunk)) {
                still.trees.insert(root.tree);
            }
            self.make_again(*recipe, &root, &entries, &known)?;
        }
        self.rescan()?;
        for pack in &self.damaged {
            self.store.remove_pack(pack)?;
        }
        Ok(still)
    }

    /// Locators name what there is; chunks that are lost are not in them, and anyone who asks for them gets that as the answer.
    fn make_again(&self, id: RecipeId, root: &Root, entries: &[Entry], known: &ChunkIndex) -> Result<(), StoreError> {
        let nodes = entries.iter().map(|entry| (entry.path.clone(), entry.node.clone()));
        let tree = Tree::new(nodes).map_err(|e| StoreError::Tree { id: root.tree, source: Some(e) })?;
        self.store.write_recipe(id, root, entries, known, &tree)
    }
}

fn read_damaged(store: &Store, pack: &Digest) -> Option<Vec<u8>> {
    durable::read_limited(&store.pack_path(pack), pack::MAX_PACK_LEN as u64).ok()
}

/// What differences are to, in sound packs and in what is sound of damaged ones.
struct AnyBases<'a> {
    store: &'a Store,
    sound: StoreBases<'a>,
    /// Of damaged packs.
    saved: HashMap<Digest, (Digest, ChunkEntry)>,
}

impl<'a> AnyBases<'a> {
    fn of(store: &'a Store, damaged: &[Digest]) -> Self {
        let mut saved = HashMap::new();
        for pack in damaged {
            let bytes = read_damaged(store, pack).unwrap_or_default();
            saved.extend(pack::sound(&bytes, &NoBases).into_iter().map(|(entry, _)| (entry.digest, (*pack, entry))));
        }
        Self { store, sound: store.bases(), saved }
    }
}

impl Bases for AnyBases<'_> {
    fn base(&self, digest: &Digest) -> Option<Arc<[u8]>> {
        self.sound.base(digest).or_else(|| {
            let (pack, entry) = self.saved.get(digest)?;
            let stored = self.store.read_pack_range(pack, entry.offset, entry.stored_len).ok()?;
            Some(pack::unpack(&mut Unpacker::new(), entry, &stored, &NoBases).ok()?.into())
        })
    }
}

/// Packs that are being written, one for each owner: no pack mixes what different people may have.
struct OwnedPacks<'a> {
    store: &'a Store,
    open: BTreeMap<u32, PackWriter>,
    there: HashSet<Digest>,
}

impl<'a> OwnedPacks<'a> {
    fn new(store: &'a Store) -> Self {
        Self { store, open: BTreeMap::new(), there: HashSet::new() }
    }

    fn push(
        &mut self,
        owner: u32,
        digest: Digest,
        codec: Codec,
        raw_len: u32,
        stored: &[u8],
    ) -> Result<(), StoreError> {
        if !self.there.insert(digest) {
            return Ok(());
        }
        let writer = self.open.entry(owner).or_default();
        writer.push(digest, codec, raw_len, stored);
        if writer.is_full() {
            let (name, bytes, _) = writer.take();
            self.store.write_pack(&name, &bytes)?;
        }
        Ok(())
    }

    fn close(self) -> Result<(), StoreError> {
        for mut writer in self.open.into_values().filter(|writer| !writer.is_empty()) {
            let (name, bytes, _) = writer.take();
            self.store.write_pack(&name, &bytes)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::contents::Contents;
    use crate::testing::{copy_folder, noise, sealed_files};
    use lantern_core::progress::Silent;
    use std::fs;
    use std::path::PathBuf;

    struct Scene {
        _temp: tempfile::TempDir,
        store: Store,
        /// The same before anything was damaged.
        good: Store,
        trees: Vec<(TreeId, RecipeId)>,
    }

    /// Two releases that share much.
    fn scene() -> Scene {
        let temp = tempfile::tempdir().unwrap();
        let store = Store::at(temp.path().join("store"));
        let (one, two, three) = (noise(1, 900_000), noise(2, 900_000), noise(3, 50_000));
        let first = sealed_files(&store, &[("a", &one), ("b", &two)]);
        let second = sealed_files(&store, &[("a", &one), ("b", &two), ("c", &three)]);
        let trees = vec![(first.id, first.recipe), (second.id, second.recipe)];
        copy_folder(&temp.path().join("store"), &temp.path().join("good"));
        // Anyone who opens it now has checked nothing yet.
        let (store, good) = (Store::at(temp.path().join("store")), Store::at(temp.path().join("good")));
        Scene { _temp: temp, store, good, trees }
    }

    impl Scene {
        fn examine(&self) -> Repair<'_> {
            let kept = self.trees.iter().zip(0..).map(|((tree, _), owner)| Kept { tree: *tree, owner }).collect();
            Repair::examine(&self.store, kept, &Silent).unwrap()
        }

        fn largest_pack(&self) -> PathBuf {
            let packs = self.store.packs().unwrap();
            let paths = packs.iter().map(|pack| self.store.pack_path(pack));
            paths.max_by_key(|path| fs::metadata(path).unwrap().len()).unwrap()
        }

        fn flip(&self, at: usize) {
            let path = self.largest_pack();
            let mut bytes = fs::read(&path).unwrap();
            bytes[at] ^= 1;
            fs::write(path, bytes).unwrap();
        }

        #[track_caller]
        fn assert_whole(&self) {
            let store = Store::at(self.store.root());
            for (tree, recipe) in &self.trees {
                assert!(store.has_tree(*tree).unwrap());
                let contents = Contents::open(&store, *recipe).unwrap();
                for entry in &contents.entries {
                    contents.write_to(entry, &mut std::io::sink()).unwrap();
                }
            }
            assert!(store.packs().unwrap().iter().all(|pack| store.is_sound(pack)));
            assert!(self.examine().is_whole());
        }
    }

    #[test]
    fn a_sound_store_has_nothing_to_repair() {
        let scene = scene();
        assert!(scene.examine().is_whole());
        scene.assert_whole();
    }

    #[test]
    fn what_is_sound_of_a_damaged_pack_is_saved_and_the_rest_put_in() {
        let scene = scene();
        scene.flip(1_000_000);
        let mut repair = scene.examine();
        assert!(!repair.is_whole() && repair.damaged_packs() == 1 && repair.lost_chunks() > 20);
        repair.salvage().unwrap();
        assert!(!repair.is_complete() && repair.lost.len() == 1, "{}", repair.lost.len());
        let came = repair.fetch(scene.trees[1].1, &scene.good, &Silent).unwrap();
        assert!((1..140_000).contains(&came), "{came}");
        assert_eq!(repair.finish().unwrap(), StillBroken::default());
        scene.assert_whole();
    }

    #[test]
    fn what_is_nowhere_is_said() {
        let scene = scene();
        scene.flip(1_000_000);
        let mut repair = scene.examine();
        repair.salvage().unwrap();
        let still = repair.finish().unwrap();
        assert_eq!((still.chunks, still.trees.len()), (1, 2));
        // It can still be put in later.
        let mut repair = scene.examine();
        let files = [noise(3, 50_000), noise(1, 900_000), noise(2, 900_000)];
        assert_eq!(repair.put_in(&mut files.iter().flat_map(|file| chunks_of(file.as_slice()))).unwrap(), 1);
        assert_eq!(repair.finish().unwrap(), StillBroken::default());
        scene.assert_whole();
    }

    #[test]
    fn a_pack_that_is_gone_or_without_its_table_is_fetched() {
        type Harm = fn(&Scene);
        let harms: [Harm; 3] = [
            |scene| fs::remove_file(scene.largest_pack()).unwrap(),
            |scene| scene.flip(fs::metadata(scene.largest_pack()).unwrap().len() as usize - 3),
            |scene| fs::write(scene.largest_pack(), b"").unwrap(),
        ];
        for harm in harms {
            let scene = scene();
            harm(&scene);
            let mut repair = scene.examine();
            repair.salvage().unwrap();
            for (_, recipe) in &scene.trees {
                repair.fetch(*recipe, &scene.good, &Silent).unwrap();
            }
            assert_eq!(repair.finish().unwrap(), StillBroken::default());
            scene.assert_whole();
        }
    }

    #[test]
    fn what_says_where_things_lie_is_made_again() {
        for folder in ["locators", "trees", "by-tree"] {
            let scene = scene();
            for entry in fs::read_dir(scene.store.root().join(folder)).unwrap() {
                let path = entry.unwrap().path();
                let files = if path.is_dir() {
                    fs::read_dir(&path).unwrap().map(|e| e.unwrap().path()).collect()
                } else {
                    vec![path]
                };
                files.iter().for_each(|file| fs::write(file, b"damaged").unwrap());
            }
            let mut repair = scene.examine();
            assert!(!repair.is_whole() && repair.is_complete(), "{folder}");
            repair.salvage().unwrap();
            assert_eq!(repair.finish().unwrap(), StillBroken::default(), "{folder}");
            scene.assert_whole();
        }
    }

    #[test]
    fn a_recipe_that_is_lost_is_fetched_by_its_id() {
        for folder in ["recipes", "segments"] {
            let scene = scene();
            fs::remove_dir_all(scene.store.root().join(folder)).unwrap();
            let mut repair = scene.examine();
            assert_eq!(repair.lost_recipes().len(), 2, "{folder}");
            for (_, recipe) in &scene.trees {
                assert!(repair.fetch_recipe(*recipe, &scene.good).unwrap());
            }
            assert_eq!(repair.finish().unwrap(), StillBroken::default(), "{folder}");
            scene.assert_whole();
        }
    }
}
