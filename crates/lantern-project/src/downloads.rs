//! How much a player downloads: recipes, locators, and update files or chunks.

use std::collections::{HashMap, HashSet};
use std::sync::{Mutex, PoisonError};

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::names::Handle;
use lantern_store::fetch::{self, Fetch, FetchError};
use lantern_store::locator::Locator;
use lantern_store::recipe::{self, ChunkRef, Entry, Root, SegmentRef};
use lantern_store::store::Store;
use lantern_storefront::protocol::BuildDepot;

use crate::ProjectError;
use crate::repair::FromTitle;
use crate::storefronts::OpenStorefront;

/// In bytes.
pub(crate) struct Downloads {
    /// For a player who has the old depots.
    pub update: u64,
    /// For a player who has nothing.
    pub whole: u64,
}

/// Adds up what it takes to get `new`.
///
/// # Errors
/// Those of asking the storefront for what is not in the store.
pub(crate) fn downloads(
    store: &Store,
    storefront: &OpenStorefront,
    old: &[&BuildDepot],
    new: &[&BuildDepot],
) -> Result<Downloads, ProjectError> {
    let (mut have, mut segments_had) = (HashSet::new(), HashSet::new());
    for depot in old {
        let recipe = recipe_of(store, storefront, depot.recipe)?;
        have.extend(recipe.entries.iter().flat_map(|e| &e.chunks).map(|c| c.digest));
        segments_had.extend(recipe.root.segments.iter().map(|segment| segment.digest));
    }
    let (mut update, mut whole) = (0, 0);
    let (mut counted, mut segments_counted) = (HashSet::new(), HashSet::new());
    for depot in new {
        // Where there is an update file from what players have, they take what is shorter.
        let from = old.iter().find(|old| old.depot == depot.depot).map(|old| old.recipe);
        let recipe = recipe_of(store, storefront, depot.recipe)?;
        let root = recipe.root.encode().len() as u64;
        whole += root;
        update += if from == Some(depot.recipe) { 0 } else { root };
        for SegmentRef { digest, .. } in &recipe.root.segments {
            if segments_counted.insert(*digest) {
                let len = recipe.segment_lens.get(digest).copied().unwrap_or_default();
                whole += len;
                update += if segments_had.contains(digest) { 0 } else { len };
            }
        }
        let located = locator_of(store, storefront, &recipe)?;
        let mut as_chunks = 0;
        let stored = |chunk: &ChunkRef| located.locator.find(&chunk.digest).map_or(0, |l| u64::from(l.entry.whole_len));
        for (segment, mut chunks) in recipe::chunks_by_segment(&recipe.root, &recipe.entries) {
            chunks.retain(|chunk| counted.insert(chunk.digest));
            let len = located.lens.get(&segment.digest).copied().unwrap_or_default();
            let with_locator = |bytes: u64| if bytes == 0 { 0 } else { bytes + len };
            whole += with_locator(chunks.iter().map(stored).sum());
            as_chunks += with_locator(chunks.iter().filter(|chunk| !have.contains(&chunk.digest)).map(stored).sum());
        }
        let file = depot.updates.iter().find(|update| Some(update.from) == from).map(|update| update.bytes);
        update += file.map_or(as_chunks, |bytes| bytes.min(as_chunks));
    }
    Ok(Downloads { update, whole })
}

/// A recipe, and the lengths of its segments as players fetch them.
struct KnownRecipe {
    root: Root,
    entries: Vec<Entry>,
    segment_lens: HashMap<Digest, u64>,
}

/// Reads a recipe from the store, or from the storefront when someone else pushed it.
fn recipe_of(store: &Store, storefront: &OpenStorefront, id: RecipeId) -> Result<KnownRecipe, ProjectError> {
    let mut segment_lens = HashMap::new();
    if let Ok((root, entries)) = store.recipe(id) {
        for segment in &root.segments {
            segment_lens.insert(segment.digest, store.segment_bytes(&segment.digest)?.len() as u64);
        }
        return Ok(KnownRecipe { root, entries, segment_lens });
    }
    let title: &Handle = &storefront.title;
    let content = storefront.content()?;
    let bytes = content.get_recipe(title, id).map_err(storefront.fails())?;
    let segment = |segment: &SegmentRef| {
        let bytes = content.get_segment(title, &segment.digest).map_err(storefront.fails())?;
        segment_lens.insert(segment.digest, bytes.len() as u64);
        Ok(bytes)
    };
    let (root, entries) = recipe::assemble(id, &bytes, segment, |e| storefront.nonsense("a recipe", e))?;
    Ok(KnownRecipe { root, entries, segment_lens })
}

/// Where lies what a recipe names, and the lengths of the locators by their segments.
struct Located {
    locator: Locator,
    lens: HashMap<Digest, u64>,
}

/// Finds out from the store, or from the storefront, where lies what a recipe names.
fn locator_of(store: &Store, storefront: &OpenStorefront, recipe: &KnownRecipe) -> Result<Located, ProjectError> {
    let KnownRecipe { root, entries, .. } = recipe;
    if let Ok(locator) = store.locator_of(root, entries) {
        let lens = store.locator_lens(root, entries)?.into_iter().collect();
        return Ok(Located { locator, lens });
    }
    let title = FromTitle { content: storefront.content()?, title: &storefront.title };
    let source = Locators { title, lens: Mutex::default() };
    let located = fetch::locate(&recipe::segments_with(root, entries, |_| true), &source);
    let locator = located.map_err(|error| FromTitle::error_of(storefront, error.into()))?;
    Ok(Located { locator, lens: source.lens.into_inner().unwrap_or_else(PoisonError::into_inner) })
}

/// A storefront's locators; notes how long each is.
struct Locators<'a> {
    title: FromTitle<'a>,
    lens: Mutex<HashMap<Digest, u64>>,
}

impl Fetch for Locators<'_> {
    fn recipe(&self, id: RecipeId) -> Result<Vec<u8>, FetchError> {
        self.title.recipe(id)
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        self.title.segment(digest)
    }
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError> {
        let bytes = self.title.locator(segment)?;
        self.lens.lock().unwrap_or_else(PoisonError::into_inner).insert(*segment, bytes.len() as u64);
        Ok(bytes)
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        self.title.pack_range(pack, offset, len)
    }
}
