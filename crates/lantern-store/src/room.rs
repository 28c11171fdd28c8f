//! Room: what of a store some trees need, and what goes when only they are kept.
//!
//! Nothing that is kept changes its id: a pack of which little is needed is written anew with that little, and the
//! locators that named it are made again. Killed at any point, making and carrying out a plan again finishes the work.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use lantern_core::digest::{Digest, ManifestId, TreeId};
use lantern_core::progress::{Progress, Task};

use crate::durable;
use crate::known::Known;
use crate::locator::Locator;
use crate::manifest::{Root, different_chunks};
use crate::pack::{ChunkEntry, PackWriter};
use crate::store::{Store, StoreError};

/// A pack of which less than this part is needed is written anew.
const WORTH_KEEPING_PERCENT: u64 = 50;

/// What goes, and what is written anew for it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RoomPlan {
    /// Trees that go, with their manifests.
    trees: Vec<(TreeId, ManifestId)>,
    /// Segments that nobody needs any more.
    segments: Vec<Digest>,
    /// Packs that nobody needs any more, and those that are written anew.
    packs: Vec<Digest>,
    /// Chunks that are written anew, by the pack that they lie in.
    moving: Vec<(Digest, ChunkEntry)>,
    /// Manifests that are kept and whose locators are made again.
    relocated: Vec<ManifestId>,
    /// Bytes of packs that go.
    pub removed: u64,
    /// Bytes of packs that are written anew.
    pub written: u64,
}

impl RoomPlan {
    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.trees.is_empty() && self.packs.is_empty()
    }

    /// Finds out what goes when of all trees only `keep` stay; `go` are trees that may still be there.
    ///
    /// # Errors
    /// [`StoreError`]; a kept tree that cannot be read stops everything.
    pub fn make(store: &Store, keep: &[TreeId], go: &[TreeId]) -> Result<Self, StoreError> {
        let mut plan = Self::default();
        let mut kept_manifests = BTreeSet::new();
        let mut kept_segments: BTreeSet<Digest> = BTreeSet::new();
        let mut needed: BTreeMap<Digest, HashMap<Digest, ChunkEntry>> = BTreeMap::new();
        let mut packs_of: BTreeMap<ManifestId, BTreeSet<Digest>> = BTreeMap::new();
        for tree in keep {
            let manifest = store.manifest_of(*tree)?;
            if !kept_manifests.insert(manifest) {
                continue;
            }
            let (root, entries) = store.manifest(manifest)?;
            kept_segments.extend(root.segments.iter().map(|s| s.digest));
            let locator = store.locator(manifest)?;
            for chunk in different_chunks(&entries) {
                let missing = || StoreError::Missing { what: "the chunk", id: chunk.to_string() };
                let location = locator.find(&chunk).ok_or_else(missing)?;
                let (pack, _) = locator.packs.get(location.pack as usize).ok_or_else(missing)?;
                needed.entry(*pack).or_default().insert(chunk, location.entry);
                packs_of.entry(manifest).or_default().insert(*pack);
            }
        }
        let mut gone: BTreeSet<TreeId> = BTreeSet::new();
        for tree in go.iter().filter(|tree| !keep.contains(tree) && gone.insert(**tree)) {
            // One that is not there any more went before.
            let Ok(manifest) = store.manifest_of(*tree) else { continue };
            if kept_manifests.contains(&manifest) {
                continue;
            }
            let root = store.manifest_bytes(manifest).ok().and_then(|bytes| Root::decode(manifest, &bytes).ok());
            if let Some(root) = root {
                plan.segments.extend(root.segments.iter().map(|s| s.digest).filter(|s| !kept_segments.contains(s)));
            }
            plan.trees.push((*tree, manifest));
        }
        plan.segments.sort_unstable();
        plan.segments.dedup();
        let mut moving_from = BTreeSet::new();
        for pack in store.packs()? {
            let (len, table) = store.pack_table(&pack)?;
            let all: u64 = table.iter().map(|e| u64::from(e.stored_len)).sum();
            let some = needed.get(&pack);
            let used: u64 = some.iter().flat_map(|c| c.values()).map(|e| u64::from(e.stored_len)).sum();
            if some.is_some() && used * 100 >= all * WORTH_KEEPING_PERCENT {
                continue;
            }
            plan.packs.push(pack);
            plan.removed += u64::from(len);
            let mut chunks: Vec<ChunkEntry> = some.into_iter().flat_map(HashMap::values).copied().collect();
            chunks.sort_unstable_by_key(|entry| entry.offset);
            plan.written += used;
            if !chunks.is_empty() {
                moving_from.insert(pack);
            }
            plan.moving.extend(chunks.into_iter().map(|entry| (pack, entry)));
        }
        let moves = packs_of.into_iter().filter(|(_, packs)| !packs.is_disjoint(&moving_from));
        plan.relocated = moves.map(|(manifest, _)| manifest).collect();
        Ok(plan)
    }

    /// Carries the plan out.
    ///
    /// # Errors
    /// [`StoreError`]; what was kept is whole at any point.
    pub fn carry_out(&self, store: &Store, progress: &dyn Progress) -> Result<(), StoreError> {
        let meter = progress.start(Task::Seal, Some(self.written));
        let mut moved = Known::default();
        let mut writer = PackWriter::new();
        for (pack, entry) in &self.moving {
            let stored = store.read_pack_range(pack, entry.offset, entry.stored_len)?;
            writer.push(entry.digest, entry.codec, entry.raw_len, &stored);
            meter.add(u64::from(entry.stored_len));
            if writer.is_full() {
                close(store, &mut writer, &mut moved)?;
            }
        }
        close(store, &mut writer, &mut moved)?;
        for manifest in &self.relocated {
            // What has moved is known already, and so it stays; the rest is where the old locator says.
            let chunks = moved.add_manifest(store, *manifest)?;
            store.write_locator(&Locator::new(*manifest, &moved, chunks.into_iter()))?;
        }
        // Whoever needs what stays finds it now: the rest can go, and last of each what leads to it.
        for segment in &self.segments {
            store.remove_segment(segment)?;
        }
        for (tree, manifest) in &self.trees {
            store.remove_tree(*tree, *manifest)?;
        }
        for pack in &self.packs {
            durable::remove_file(&store.pack_path(pack))?;
        }
        Ok(())
    }
}

fn close(store: &Store, writer: &mut PackWriter, moved: &mut Known) -> Result<(), StoreError> {
    if writer.is_empty() {
        return Ok(());
    }
    let (name, bytes, entries) = writer.take();
    store.write_pack(&name, &bytes)?;
    let len = u32::try_from(bytes.len()).expect("a pack is closed far below 4 GiB");
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
    use crate::seal::{SealedTree, Source, SourceEntry, SourceKind, seal};
    use lantern_core::path::TreePath;
    use lantern_core::progress::Silent;
    use std::io::{self, Read};

    struct Files(Vec<Vec<u8>>);
    impl Source for Files {
        fn open(&self, index: usize) -> io::Result<Box<dyn Read + '_>> {
            Ok(Box::new(self.0[index].as_slice()))
        }
        fn is_executable(&self, _: usize, _: &[u8]) -> bool {
            false
        }
        fn is_unchanged(&self, _: usize) -> io::Result<bool> {
            Ok(true)
        }
    }

    fn noise(seed: u64, len: usize) -> Vec<u8> {
        let mut hasher = blake3::Hasher::new();
        hasher.update(&seed.to_le_bytes());
        let mut out = vec![0; len];
        hasher.finalize_xof().fill(&mut out);
        out
    }

    fn sealed(store: &Store, seeds: &[u64]) -> SealedTree {
        let files: Vec<Vec<u8>> = seeds.iter().map(|s| noise(*s, 400_000)).collect();
        let entries: Vec<SourceEntry> = seeds
            .iter()
            .map(|s| SourceEntry {
                path: TreePath::new(format!("{s:03}")).unwrap(),
                kind: SourceKind::File { size: 400_000 },
            })
            .collect();
        seal(store, &entries, &Files(files), &Silent).unwrap()
    }

    fn is_whole(store: &Store, tree: &SealedTree) -> bool {
        let Ok(contents) = Contents::open(store, tree.manifest) else { return false };
        contents.entries.iter().all(|e| contents.write_to(e, &mut io::sink()).is_ok())
    }

    #[test]
    fn what_is_kept_stays_whole_and_the_rest_goes() {
        let temp = tempfile::tempdir().unwrap();
        let store = Store::at(temp.path());
        // The second shares one file in ten with the first: its pack is written anew.
        let old = sealed(&store, &[1, 2, 3, 4, 5, 6, 7, 8, 9, 10]);
        let new = sealed(&store, &[10, 11]);
        let both = RoomPlan::make(&store, &[old.id, new.id], &[]).unwrap();
        assert!(both.is_empty());
        let plan = RoomPlan::make(&store, &[new.id], &[old.id]).unwrap();
        assert!(plan.removed > 3_900_000 && plan.written < 500_000, "{plan:?}");
        let before = store.packs().unwrap().len();
        plan.carry_out(&store, &Silent).unwrap();
        assert!(is_whole(&store, &new) && !is_whole(&store, &old));
        assert!(store.packs().unwrap().len() <= before);
        // Nothing is left to do, and what went can be sealed again.
        assert!(RoomPlan::make(&store, &[new.id], &[old.id]).unwrap().is_empty());
        let again = sealed(&store, &[1, 2, 3, 4, 5, 6, 7, 8, 9, 10]);
        assert_eq!(again.manifest, old.manifest);
        assert!(is_whole(&store, &again) && is_whole(&store, &new));
    }
}
