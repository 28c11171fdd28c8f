//! Room: what of a store some trees need, and what goes when only they are kept.
//!
//! Nothing that is kept changes its id: a pack of which little is needed is written once more with that little, and the
//! locators that named it are made again. What is written together belongs to one owner, so that no pack mixes what
//! different people may have. Killed at any point, making and carrying out a plan again finishes the work.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use lantern_core::digest::{Digest, RecipeId, TreeId};
use lantern_core::progress::{Progress, Task};

use crate::chunk_index::ChunkIndex;
use crate::codec::{Codec, Unpacker};
use crate::pack::{self, ChunkEntry, PackWriter};
use crate::recipe::{Root, different_chunks};
use crate::store::{Store, StoreError};

/// A pack of which less than this part is needed is written once more.
const WORTH_KEEPING_PERCENT: u64 = 50;

/// Whom a chunk belongs to that is kept because others are differences to it.
const OF_DIFFERENCES: u32 = u32::MAX;

/// Chunks that are needed, by the packs that they lie in; each with its owner.
type Needed = BTreeMap<Digest, HashMap<Digest, (u32, ChunkEntry)>>;

/// Whether a pack stays as it is.
fn stays(used: u64, all: u64) -> bool {
    used * 100 >= all * WORTH_KEEPING_PERCENT
}

fn stored_bytes<'a>(entries: impl Iterator<Item = &'a ChunkEntry>) -> u64 {
    entries.map(|entry| u64::from(entry.stored_len)).sum()
}

/// A tree that is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Kept {
    /// Which.
    pub tree: TreeId,
    /// Whose it is: a depot of an edition under a condition, or what is kept aside. A chunk that several need belongs to
    /// the lowest; those that more people may have come first.
    pub owner: u32,
}

/// A chunk that is written once more.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Moving {
    owner: u32,
    pack: Digest,
    entry: ChunkEntry,
}

/// What goes, and what is written once more for it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CollectPlan {
    /// Trees that go, with their recipes.
    trees: Vec<(TreeId, RecipeId)>,
    /// Segments that nobody needs any more.
    segments: Vec<Digest>,
    /// Packs that hold nothing that is needed.
    unneeded: Vec<Digest>,
    /// Packs whose needed chunks are written once more, or lie elsewhere as well.
    emptied: Vec<Digest>,
    /// In the order of their owners, and of their places.
    moving: Vec<Moving>,
    /// Recipes that are kept.
    kept: Vec<RecipeId>,
    /// Those of them whose locators are made again.
    relocated: Vec<RecipeId>,
    /// What differences are to that stay, and the pack that each lies in.
    bases: BTreeMap<Digest, Digest>,
    /// Bytes of packs that go.
    pub removed: u64,
    /// Bytes of packs that are written once more.
    pub written: u64,
}

impl CollectPlan {
    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.trees.is_empty() && self.unneeded.is_empty() && self.emptied.is_empty()
    }

    /// Finds out what goes when of all trees only `keep` stay; `go` are trees that may still be there.
    ///
    /// # Errors
    /// [`StoreError`]; a kept tree that cannot be read stops everything.
    pub fn make(store: &Store, keep: &[Kept], go: &[TreeId]) -> Result<Self, StoreError> {
        let mut plan = Self::default();
        let mut kept_recipes: BTreeMap<RecipeId, u32> = BTreeMap::new();
        for kept in keep {
            let recipe = store.recipe_of(kept.tree)?;
            let owner = kept_recipes.entry(recipe).or_insert(kept.owner);
            *owner = kept.owner.min(*owner);
        }
        let mut kept_segments: BTreeSet<Digest> = BTreeSet::new();
        let mut needed = Needed::new();
        let mut packs_of: BTreeMap<RecipeId, BTreeSet<Digest>> = BTreeMap::new();
        let mut owners: HashMap<Digest, u32> = HashMap::new();
        for (recipe, owner) in &kept_recipes {
            let (root, entries) = store.recipe(*recipe)?;
            kept_segments.extend(root.segments.iter().map(|s| s.digest));
            let locator = store.locator_of(&root, &entries)?;
            for chunk in different_chunks(&entries) {
                let missing = || StoreError::Missing { what: "the chunk", id: chunk.to_string() };
                let location = locator.find(&chunk).ok_or_else(missing)?;
                let (pack, _) = locator.packs.get(location.pack as usize).ok_or_else(missing)?;
                let of_chunk = owners.entry(chunk).or_insert(*owner);
                *of_chunk = (*owner).min(*of_chunk);
                needed.entry(*pack).or_default().insert(chunk, (*owner, location.entry));
            }
            // Those of bases, too.
            packs_of.entry(*recipe).or_default().extend(locator.packs.iter().map(|(pack, _)| *pack));
        }
        plan.bases = add_bases(store, &mut needed)?;
        let kept_trees: BTreeSet<TreeId> = keep.iter().map(|kept| kept.tree).collect();
        let mut gone: BTreeSet<TreeId> = BTreeSet::new();
        for tree in go.iter().filter(|tree| !kept_trees.contains(tree) && gone.insert(**tree)) {
            // One that is not there any more went before.
            let Ok(recipe) = store.recipe_of(*tree) else { continue };
            if kept_recipes.contains_key(&recipe) {
                continue;
            }
            let root = store.recipe_bytes(recipe).ok().and_then(|bytes| Root::decode(recipe, &bytes).ok());
            if let Some(root) = root {
                plan.segments.extend(root.segments.iter().map(|s| s.digest).filter(|s| !kept_segments.contains(s)));
            }
            plan.trees.push((*tree, recipe));
        }
        plan.segments.sort_unstable();
        plan.segments.dedup();
        for pack in store.packs()? {
            let some = needed.get(&pack);
            let (len, all) = match store.pack_table(&pack) {
                Ok((len, table)) => (len, stored_bytes(table.iter())),
                // Nobody needs it, whatever is wrong with it.
                Err(StoreError::Pack { .. }) if some.is_none() => (0, 0),
                Err(error) => return Err(error),
            };
            let used = stored_bytes(some.iter().flat_map(|c| c.values()).map(|(_, entry)| entry));
            if some.is_some() && stays(used, all) {
                continue;
            }
            plan.removed += u64::from(len);
            plan.written += used;
            let Some(chunks) = some else {
                // One that is named goes when it is not named any more: what it held for others lies elsewhere, too.
                let is_named = packs_of.values().any(|packs| packs.contains(&pack));
                let list = if is_named { &mut plan.emptied } else { &mut plan.unneeded };
                list.push(pack);
                continue;
            };
            plan.emptied.push(pack);
            plan.moving.extend(chunks.values().map(|(owner, entry)| {
                let owner = owners.get(&entry.digest).copied().unwrap_or(*owner);
                Moving { owner, pack, entry: *entry }
            }));
        }
        plan.moving.sort_unstable_by_key(|m| (m.owner, m.pack, m.entry.offset));
        let emptied: BTreeSet<Digest> = plan.emptied.iter().copied().collect();
        let moves = packs_of.into_iter().filter(|(_, packs)| !packs.is_disjoint(&emptied));
        plan.relocated = moves.map(|(recipe, _)| recipe).collect();
        plan.kept = kept_recipes.into_keys().collect();
        Ok(plan)
    }

    /// Carries the plan out.
    ///
    /// # Errors
    /// [`StoreError`]; what was kept is whole at any point. [`StoreError::Pack`] when something that is to be kept is
    /// damaged: it is not copied on, and the pack that it lies in stays.
    pub fn carry_out(&self, store: &Store, progress: &dyn Progress) -> Result<(), StoreError> {
        let meter = progress.start(Task::Seal, Some(self.written));
        // First what takes no room to remove: a full disk has some then. Last of each, what leads to it.
        for segment in &self.segments {
            store.remove_segment(segment)?;
        }
        for (tree, recipe) in &self.trees {
            store.remove_tree(*tree, *recipe)?;
        }
        // A pack that an earlier, cut run wrote is not named by any locator yet, and may be one that is written below.
        let moving: HashSet<Digest> = self.moving.iter().map(|m| m.entry.digest).collect();
        let could_be_written = |pack: &Digest| {
            let table = store.pack_table(pack);
            table.is_ok_and(|(_, entries)| entries.iter().any(|entry| moving.contains(&entry.digest)))
        };
        for pack in self.unneeded.iter().filter(|pack| !could_be_written(pack)) {
            store.remove_pack(pack)?;
        }
        let mut moved = ChunkIndex::default();
        let mut writer = PackWriter::new();
        let (mut unpacker, bases) = (Unpacker::new(), store.bases());
        let mut owner = None;
        for Moving { owner: own, pack, entry } in &self.moving {
            if owner.replace(*own).is_some_and(|before| before != *own) {
                close(store, &mut writer, &mut moved)?;
            }
            let stored = store.read_pack_range(pack, entry.offset, entry.stored_len)?;
            let checked = pack::unpack(&mut unpacker, entry, &stored, &bases);
            checked.map_err(|source| StoreError::Pack { pack: *pack, source })?;
            writer.copy(entry, &stored);
            meter.add(u64::from(entry.stored_len));
            if writer.is_full() {
                close(store, &mut writer, &mut moved)?;
            }
        }
        close(store, &mut writer, &mut moved)?;
        let emptied: BTreeSet<Digest> = self.emptied.iter().copied().collect();
        if !self.relocated.is_empty() {
            self.add_bases_that_stay(store, &emptied, &mut moved)?;
        }
        for recipe in &self.relocated {
            // What has moved is known already, and so it stays; the rest is where the old locators say.
            let (root, entries) = store.recipe(*recipe)?;
            store.add_chunks(&root, &entries, &mut moved)?;
            store.write_locators(&root, &entries, &moved, &emptied)?;
        }
        // Whatever is named now stays, no matter who wrote it and when.
        let mut named: BTreeSet<Digest> = BTreeSet::new();
        for recipe in &self.kept {
            named.extend(store.packs_of(&store.recipe_root(*recipe)?)?.into_iter().map(|(pack, _)| pack));
        }
        named.extend(self.bases.iter().map(|(base, pack)| moved.find(base).map_or(*pack, |(pack, ..)| pack)));
        for pack in self.unneeded.iter().chain(&self.emptied).filter(|pack| !named.contains(pack)) {
            store.remove_pack(pack)?;
        }
        Ok(())
    }

    /// Adds what differences are to and does not move: locators name its packs.
    fn add_bases_that_stay(
        &self,
        store: &Store,
        emptied: &BTreeSet<Digest>,
        moved: &mut ChunkIndex,
    ) -> Result<(), StoreError> {
        let packs: BTreeSet<Digest> = self.bases.values().copied().collect();
        for pack in packs.difference(emptied) {
            let (len, entries) = store.pack_table(pack)?;
            let number = moved.add_pack(*pack, len);
            for entry in entries.iter().filter(|entry| self.bases.get(&entry.digest) == Some(pack)) {
                moved.add(number, entry);
            }
        }
        Ok(())
    }
}

/// Adds what those differences are to that are needed, or that lie in packs which stay; returns where each of these chunks lies.
fn add_bases(store: &Store, needed: &mut Needed) -> Result<BTreeMap<Digest, Digest>, StoreError> {
    /// A pack with differences.
    struct Thin {
        differences: Vec<ChunkEntry>,
        all: u64,
    }
    let mut packs: BTreeMap<Digest, Option<Thin>> = BTreeMap::new();
    let mut seen: HashSet<(Digest, Digest)> = HashSet::new();
    let mut out = BTreeMap::new();
    loop {
        let mut found = Vec::new();
        for (pack, chunks) in needed.iter() {
            let thin = match packs.get(pack) {
                Some(thin) => thin,
                None => {
                    let (_, mut table) = store.pack_table(pack)?;
                    let all = stored_bytes(table.iter());
                    table.retain(|entry| entry.codec == Codec::Difference);
                    let thin = (!table.is_empty()).then_some(Thin { differences: table, all });
                    packs.entry(*pack).or_insert(thin)
                }
            };
            let Some(Thin { differences, all }) = thin else { continue };
            let stays = stays(stored_bytes(chunks.values().map(|(_, entry)| entry)), *all);
            let kept = differences.iter().filter(|entry| stays || chunks.contains_key(&entry.digest));
            let new: Vec<ChunkEntry> = kept.filter(|entry| seen.insert((*pack, entry.digest))).copied().collect();
            if !new.is_empty() {
                found.extend(store.bases_of(pack, &new)?.into_iter().flatten());
            }
        }
        if found.is_empty() {
            return Ok(out);
        }
        for base in found {
            let missing = || StoreError::Missing { what: "the chunk", id: base.to_string() };
            let chunks = store.whole_chunks_now()?.ok_or_else(missing)?;
            let (pack, entry) = chunks.find(&base).next().ok_or_else(missing)?;
            needed.entry(pack).or_default().entry(base).or_insert((OF_DIFFERENCES, entry));
            out.insert(base, pack);
        }
    }
}

fn close(store: &Store, writer: &mut PackWriter, moved: &mut ChunkIndex) -> Result<(), StoreError> {
    let Some((name, len, entries)) = store.write_packed(writer)? else { return Ok(()) };
    let number = moved.add_pack(name, len);
    for entry in &entries {
        moved.add(number, entry);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::contents::Contents;
    use crate::seal::SealedTree;
    use crate::testing::{noise, sealed_files};
    use lantern_core::progress::Silent;
    use std::io;

    fn sealed(store: &Store, seeds: &[u64]) -> SealedTree {
        let files: Vec<(String, Vec<u8>)> = seeds.iter().map(|s| (format!("{s:03}"), noise(*s, 400_000))).collect();
        let files: Vec<(&str, &[u8])> = files.iter().map(|(name, bytes)| (name.as_str(), bytes.as_slice())).collect();
        sealed_files(store, &files)
    }

    fn is_whole(store: &Store, tree: &SealedTree) -> bool {
        let Ok(contents) = Contents::open(store, tree.recipe) else { return false };
        contents.entries.iter().all(|e| contents.write_to(e, &mut io::sink()).is_ok())
    }

    fn kept(tree: &SealedTree, owner: u32) -> Kept {
        Kept { tree: tree.id, owner }
    }

    #[test]
    fn what_is_kept_stays_whole_and_the_rest_goes() {
        let temp = tempfile::tempdir().unwrap();
        let store = Store::at(temp.path());
        // The second shares one file in ten with the first: its pack is written again.
        let old = sealed(&store, &[1, 2, 3, 4, 5, 6, 7, 8, 9, 10]);
        let new = sealed(&store, &[10, 11]);
        let both = CollectPlan::make(&store, &[kept(&old, 0), kept(&new, 0)], &[]).unwrap();
        assert!(both.is_empty());
        let plan = CollectPlan::make(&store, &[kept(&new, 0)], &[old.id]).unwrap();
        assert!(plan.removed > 3_900_000 && plan.written < 500_000, "{plan:?}");
        let before = store.packs().unwrap().len();
        plan.carry_out(&store, &Silent).unwrap();
        assert!(is_whole(&store, &new) && !is_whole(&store, &old));
        assert!(store.packs().unwrap().len() <= before);
        // Nothing is left to do, and what went can be sealed again.
        assert!(CollectPlan::make(&store, &[kept(&new, 0)], &[old.id]).unwrap().is_empty());
        let again = sealed(&store, &[1, 2, 3, 4, 5, 6, 7, 8, 9, 10]);
        assert_eq!(again.recipe, old.recipe);
        assert!(is_whole(&store, &again) && is_whole(&store, &new));
    }

    /// Two releases that share one file in ten, and the pack into which a first, cut run moved that file.
    fn cut_after_the_pack_was_written(store: &Store) -> (SealedTree, SealedTree) {
        let old = sealed(store, &[1, 2, 3, 4, 5, 6, 7, 8, 9, 10]);
        let new = sealed(store, &[10, 11]);
        let plan = CollectPlan::make(store, &[kept(&new, 0)], &[old.id]).unwrap();
        let other = tempfile::tempdir().unwrap();
        crate::testing::copy_folder(store.root(), other.path());
        let done = Store::at(other.path());
        plan.carry_out(&done, &Silent).unwrap();
        let before = store.packs().unwrap();
        for pack in done.packs().unwrap().iter().filter(|pack| !before.contains(pack)) {
            store.write_pack(pack, &done.read_pack(pack).unwrap()).unwrap();
        }
        assert!(store.packs().unwrap().len() > before.len());
        (old, new)
    }

    #[test]
    fn what_a_cut_run_wrote_is_not_lost_by_the_next() {
        let temp = tempfile::tempdir().unwrap();
        let store = Store::at(temp.path());
        let (old, new) = cut_after_the_pack_was_written(&store);
        CollectPlan::make(&store, &[kept(&new, 0)], &[old.id]).unwrap().carry_out(&store, &Silent).unwrap();
        assert!(is_whole(&store, &new));
        assert!(CollectPlan::make(&store, &[kept(&new, 0)], &[old.id]).unwrap().is_empty());
    }

    #[test]
    fn what_is_moved_is_not_mixed() {
        let temp = tempfile::tempdir().unwrap();
        let store = Store::at(temp.path());
        let old = sealed(&store, &[1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12]);
        let (free, paid, aside) = (sealed(&store, &[1, 2]), sealed(&store, &[2, 3]), sealed(&store, &[3, 4]));
        let keep = [kept(&aside, 2), kept(&paid, 1), kept(&free, 0)];
        CollectPlan::make(&store, &keep, &[old.id]).unwrap().carry_out(&store, &Silent).unwrap();
        assert!([&free, &paid, &aside].into_iter().all(|tree| is_whole(&store, tree)));
        let chunks = |tree: &SealedTree| different_chunks(&store.recipe(tree.recipe).unwrap().1);
        let owners = [chunks(&free), chunks(&paid), chunks(&aside)];
        let packs = store.packs().unwrap();
        assert_eq!(packs.len(), 3);
        for pack in packs {
            let (_, entries) = store.pack_table(&pack).unwrap();
            let holds_all = |chunks: &&Vec<Digest>| entries.iter().all(|e| chunks.contains(&e.digest));
            assert!(owners.iter().any(|chunks| holds_all(&chunks)), "a pack mixes what different people may have");
        }
    }

    #[test]
    fn what_is_damaged_is_not_copied_on() {
        let temp = tempfile::tempdir().unwrap();
        let store = Store::at(temp.path());
        let old = sealed(&store, &[1, 2, 3, 4, 5, 6, 7, 8, 9, 10]);
        let new = sealed(&store, &[10]);
        let pack = store.packs().unwrap().into_iter().find(|p| store.pack_table(p).unwrap().0 > 1_000_000).unwrap();
        let mut bytes = std::fs::read(store.pack_path(&pack)).unwrap();
        bytes[3_800_000] ^= 1;
        std::fs::write(store.pack_path(&pack), bytes).unwrap();
        let plan = CollectPlan::make(&store, &[kept(&new, 0)], &[old.id]).unwrap();
        assert!(matches!(plan.carry_out(&store, &Silent), Err(StoreError::Pack { .. })));
        assert_eq!(store.packs().unwrap(), [pack], "what can be saved of it is still there");
    }
}
