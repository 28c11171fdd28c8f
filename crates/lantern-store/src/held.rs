//! What a store holds before something is sealed: where a disk is too full for all of it, none of it is left.

use std::collections::BTreeSet;

use lantern_core::digest::{Digest, RecipeId, ReleaseId, TreeId};

use crate::store::{Store, StoreError};

/// The names of what a store held.
#[derive(Debug, Clone, Default)]
pub struct Held {
    trees: BTreeSet<TreeId>,
    recipes: BTreeSet<RecipeId>,
    segments: BTreeSet<Digest>,
    packs: BTreeSet<Digest>,
    records: BTreeSet<ReleaseId>,
}

impl Held {
    /// Notes what is there.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn by(store: &Store) -> Result<Self, StoreError> {
        Ok(Self {
            trees: store.trees()?.into_iter().collect(),
            recipes: store.recipes()?.into_iter().collect(),
            segments: store.segments()?.into_iter().collect(),
            packs: store.packs()?.into_iter().collect(),
            records: store.records()?.into_iter().collect(),
        })
    }

    /// Removes what came since, but for what something that was there before relies on now.
    ///
    /// # Errors
    /// [`StoreError::File`]; what is left then is found by the next run.
    pub fn restore(&self, store: &Store) -> Result<(), StoreError> {
        for record in store.records()?.into_iter().filter(|record| !self.records.contains(record)) {
            store.remove_record(record)?;
        }
        for recipe in store.recipes()?.into_iter().filter(|recipe| !self.recipes.contains(recipe)) {
            store.remove_recipe(recipe)?;
        }
        // A tree that had been lost, of a recipe that was there before, is made again and stays.
        for tree in store.trees()?.into_iter().filter(|tree| !self.trees.contains(tree)) {
            let recipe = store.recipe_of(tree).ok();
            if recipe.is_none_or(|recipe| !self.recipes.contains(&recipe)) {
                store.remove_tree_alone(tree)?;
            }
        }
        // What is left may name something new: it was damaged, and was made whole.
        let (mut segments, mut packs) = (self.segments.clone(), self.packs.clone());
        for recipe in store.recipes()? {
            // One that cannot be read names nothing that it could lose.
            if let Ok(root) = store.recipe_root(recipe) {
                segments.extend(root.segments.iter().map(|segment| segment.digest));
                if let Ok(named) = store.packs_of(&root) {
                    packs.extend(named.into_iter().map(|(pack, _)| pack));
                }
            }
        }
        for segment in store.segments()?.into_iter().filter(|segment| !segments.contains(segment)) {
            store.remove_segment(&segment)?;
        }
        for pack in store.packs()?.into_iter().filter(|pack| !packs.contains(pack)) {
            store.remove_pack(&pack)?;
        }
        store.remove_unfinished()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{noise, sealed_files};
    use std::collections::BTreeMap;
    use std::path::Path;

    fn files(folder: &Path) -> BTreeMap<String, u64> {
        let mut out = BTreeMap::new();
        let mut open = vec![folder.to_owned()];
        while let Some(at) = open.pop() {
            for entry in std::fs::read_dir(&at).unwrap().map(Result::unwrap) {
                match entry.file_type().unwrap().is_dir() {
                    true => open.push(entry.path()),
                    false => {
                        out.insert(entry.path().display().to_string(), entry.metadata().unwrap().len());
                    }
                }
            }
        }
        out
    }

    #[test]
    fn what_came_since_goes_and_the_rest_stays() {
        let temp = tempfile::tempdir().unwrap();
        let store = Store::at(temp.path());
        let (one, two) = (noise(1, 500_000), noise(2, 500_000));
        sealed_files(&store, &[("a", &one)]);
        let (held, before) = (Held::by(&store).unwrap(), files(temp.path()));
        sealed_files(&store, &[("a", &one), ("b", &two)]);
        // What a cut run leaves: a pack that nothing names, and a part.
        let stray = crate::pack::PackWriter::new().take();
        store.write_pack(&stray.0, &stray.1).unwrap();
        std::fs::write(temp.path().join(".part-1-1"), b"x").unwrap();
        held.restore(&store).unwrap();
        assert_eq!(files(temp.path()), before);
    }

    #[test]
    fn what_was_made_whole_stays_whole() {
        let temp = tempfile::tempdir().unwrap();
        let store = Store::at(temp.path());
        let (one, two) = (noise(1, 500_000), noise(2, 500_000));
        let first = sealed_files(&store, &[("a", &one)]);
        std::fs::remove_dir_all(temp.path().join("trees")).unwrap();
        let pack = store.packs().unwrap()[0];
        let mut bytes = std::fs::read(store.pack_path(&pack)).unwrap();
        bytes[1000] ^= 1;
        std::fs::write(store.pack_path(&pack), bytes).unwrap();
        let store = Store::at(temp.path());
        let held = Held::by(&store).unwrap();
        // Sealed again, it is taken from the files once more; then comes what does not fit.
        sealed_files(&store, &[("a", &one)]);
        sealed_files(&store, &[("b", &two)]);
        held.restore(&store).unwrap();
        let contents = crate::contents::Contents::open(&store, first.recipe).unwrap();
        assert!(contents.entries.iter().all(|entry| contents.write_to(entry, &mut std::io::sink()).is_ok()));
    }
}
