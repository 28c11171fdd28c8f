//! Update files: what they save, and that nothing depends on them.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use lantern_core::progress::Stoppable;

use super::fetching::Line;
use super::*;
use crate::collect::{CollectPlan, Kept};
use crate::updates::{Comparison, UpdateError};

/// Two builds, and the update file from the first to the second.
struct Two {
    scene: Scene,
    old: SealedTree,
    new: SealedTree,
    build: Build,
    offer: UpdateOffer,
}

fn edited(seed: u64, len: usize) -> Vec<u8> {
    let mut bytes = noise(seed, len);
    bytes.splice(len / 3..len / 3, *b"another letter came with the tide");
    for at in (len / 2..len).step_by(20_000) {
        bytes[at] ^= 0x55;
    }
    bytes
}

fn two() -> Two {
    let scene = scene();
    let old =
        Build::of(&[("game", &noise(1, 300_000)), ("data/a.pak", &noise(2, 900_000)), ("same", &noise(3, 9_000))]);
    let build = Build::of(&[
        ("game", &edited(1, 300_000)),
        ("data/a.pak", &edited(2, 900_000)),
        ("data/new.pak", &noise(4, 40_000)),
        ("same", &noise(3, 9_000)),
        ("same again", &noise(3, 9_000)),
    ]);
    let (old, new) = (old.seal(&scene.store), build.seal(&scene.store));
    let bytes =
        Comparison::open(&scene.store, old.recipe, new.recipe).unwrap().make(1_200_000, &Silent).unwrap().unwrap();
    let offer = UpdateOffer { from: old.recipe, to: new.recipe, bytes };
    Two { scene, old, new, build, offer }
}

impl Two {
    fn update(&self, fetch: &dyn Fetch) -> Result<Report, InstallError> {
        let recipes = [self.new.recipe];
        let updates = [self.offer];
        install(&self.scene.folder, Wanted { updates: &updates, ..wanted(&recipes) }, fetch, &Silent)
    }

    /// Bytes of the new recipe, of which the old one has no segment.
    fn recipe_len(&self) -> u64 {
        let store = &self.scene.store;
        let root = store.recipe_root(self.new.recipe).unwrap();
        let segments = root.segments.iter().map(|segment| store.segment_bytes(&segment.digest).unwrap().len());
        (root.encode().len() + segments.sum::<usize>()) as u64
    }

    fn is_whole(&self) {
        assert_eq!(contents(&self.scene.folder), self.build.0);
    }
}

#[test]
fn an_update_file_brings_an_update() {
    let two = two();
    two.scene.try_install(two.old.recipe, &two.scene.store).unwrap();
    let report = two.update(&two.scene.store).unwrap();
    two.is_whole();
    assert!(two.offer.bytes < 50_000, "{}", two.offer.bytes);
    assert_eq!(report.received, two.offer.bytes + two.recipe_len(), "and nothing else came");
    // A player who has something else gets chunks, and nobody asks for what does not fit.
    assert_eq!(two.update(&two.scene.store).unwrap().received, 0);
}

#[test]
fn what_the_player_changed_comes_as_chunks() {
    let two = two();
    two.scene.try_install(two.old.recipe, &two.scene.store).unwrap();
    let mut changed = noise(2, 900_000);
    changed[5] ^= 1;
    fs::write(two.scene.folder.join("data/a.pak"), &changed).unwrap();
    let report = two.update(&two.scene.store).unwrap();
    assert_eq!(two.scene.read("data/a.pak"), edited(2, 900_000));
    assert_eq!(two.scene.read("game"), edited(1, 300_000));
    assert_eq!(fs::read(two.scene.folder.join("data/a.pak.yours")).unwrap(), changed);
    assert!(report.received > two.offer.bytes && report.received < 1_000_000, "{}", report.received);
}

/// Serves update files with a byte changed, or cut off, or none at all.
struct Broken<'a> {
    store: &'a Store,
    at: u64,
    cut: bool,
    fails_after: u64,
    requests: AtomicU64,
}

impl Fetch for Broken<'_> {
    fn recipe(&self, id: RecipeId) -> Result<Vec<u8>, FetchError> {
        Fetch::recipe(self.store, id)
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        Fetch::segment(self.store, digest)
    }
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError> {
        Fetch::locator(self.store, segment)
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        Fetch::pack_range(self.store, pack, offset, len)
    }
    fn update(&self, from: RecipeId, to: RecipeId, offset: u64, len: u32) -> Result<Vec<u8>, FetchError> {
        if self.requests.fetch_add(1, Ordering::Relaxed) >= self.fails_after {
            return Err(FetchError::new("the line was cut", false));
        }
        let mut bytes = Fetch::update(self.store, from, to, offset, len)?;
        let here = self.at.checked_sub(offset).and_then(|at| usize::try_from(at).ok());
        if let Some(at) = here.filter(|at| *at < bytes.len()) {
            if self.cut {
                bytes.truncate(at);
            } else {
                bytes[at] ^= 0x10;
            }
        }
        Ok(bytes)
    }
}

#[test]
fn whatever_comes_as_an_update_file_the_build_is_whole() {
    let two = two();
    let copy = two.scene.folder.with_file_name("installed before");
    two.scene.try_install(two.old.recipe, &two.scene.store).unwrap();
    copy_folder(&two.scene.folder, &copy);
    let places = (0..two.offer.bytes).step_by(usize::try_from(two.offer.bytes / 40).unwrap());
    for (at, cut) in places.flat_map(|at| [(at, false), (at, true)]) {
        fs::remove_dir_all(&two.scene.folder).unwrap();
        copy_folder(&copy, &two.scene.folder);
        let broken = Broken { store: &two.scene.store, at, cut, fails_after: u64::MAX, requests: AtomicU64::new(0) };
        two.update(&broken).unwrap_or_else(|error| panic!("{at}: {error}"));
        two.is_whole();
    }
}

#[test]
fn a_line_that_is_cut_in_the_middle_is_no_loss() {
    let two = two();
    two.scene.try_install(two.old.recipe, &two.scene.store).unwrap();
    let before = contents(&two.scene.folder);
    for fails_after in 0..2 {
        let cut =
            Broken { store: &two.scene.store, at: u64::MAX, cut: false, fails_after, requests: AtomicU64::new(0) };
        assert!(matches!(two.update(&cut), Err(InstallError::Fetch { .. })));
        assert_eq!(contents(&two.scene.folder), before);
    }
    two.update(&two.scene.store).unwrap();
    two.is_whole();
}

/// A source that says less than it is: what is longer than the chunks is left alone.
#[test]
fn an_offer_that_lies_about_its_length_costs_little() {
    let scene = scene();
    let (old, new) = (Build::of(&[("a", &noise(1, 200_000))]), Build::of(&[("a", &noise(9, 200_000))]));
    let (old, new) = (old.seal(&scene.store), new.seal(&scene.store));
    let bytes =
        Comparison::open(&scene.store, old.recipe, new.recipe).unwrap().make(1 << 30, &Silent).unwrap().unwrap();
    assert!(bytes > 200_000);
    scene.try_install(old.recipe, &scene.store).unwrap();
    let offer = [UpdateOffer { from: old.recipe, to: new.recipe, bytes: 1 }];
    let recipes = [new.recipe];
    let wanted = Wanted { updates: &offer, ..wanted(&recipes) };
    let report = install(&scene.folder, wanted, &scene.store, &Silent).unwrap();
    assert_eq!(scene.read("a"), noise(9, 200_000));
    assert!(report.received < 200_000 + 40_000, "{}", report.received);
}

#[test]
fn what_is_finished_in_the_stage_is_not_made_again() {
    let two = two();
    two.scene.try_install(two.old.recipe, &two.scene.store).unwrap();
    // The packs are gone: the file that the update file cannot make ends the first run.
    let no_packs = Line(&two.scene.store, |_: &Digest, _, _| Err(FetchError::new("the line was cut", false)));
    fs::write(two.scene.folder.join("game"), b"broken").unwrap();
    assert!(two.update(&no_packs).is_err());
    // a.pak is whole in the stage: without its source, and without an update file, only the game comes.
    let report = two.scene.try_install(two.new.recipe, &two.scene.store).unwrap();
    assert!(report.received < 360_000, "{}", report.received);
    assert_eq!(two.scene.read("data/a.pak"), edited(2, 900_000));
}

#[test]
fn none_is_kept_that_is_not_worth_it_and_none_of_a_build_that_is_gone() {
    let two = two();
    let (store, silent) = (&two.scene.store, &Silent);
    assert_eq!(store.updates_to(two.new.recipe).unwrap(), [(two.old.recipe, two.offer.bytes)]);
    // Back there is next to nothing to fetch, so it is remembered that there is no update file.
    assert_eq!(Comparison::open(store, two.new.recipe, two.old.recipe).unwrap().make(1_000, silent).unwrap(), None);
    assert_eq!(store.update_len(two.new.recipe, two.old.recipe), Some(0));
    assert_eq!(store.updates_to(two.old.recipe).unwrap(), []);
    // One that was damaged is made again.
    let path = store.update_path(two.old.recipe, two.new.recipe);
    let whole = fs::read(&path).unwrap();
    let mut damaged = whole.clone();
    damaged[whole.len() / 2] ^= 1;
    fs::write(&path, damaged).unwrap();
    assert_eq!(
        Comparison::open(store, two.old.recipe, two.new.recipe).unwrap().make(1_200_000, silent).unwrap(),
        Some(two.offer.bytes)
    );
    assert!(fs::read(&path).unwrap() == whole);
    let stops = Stoppable(Arc::new(AtomicBool::new(true)));
    fs::remove_file(store.update_path(two.new.recipe, two.old.recipe)).unwrap();
    let stopped = Comparison::open(store, two.new.recipe, two.old.recipe).unwrap().make(1_200_000, &stops);
    assert!(matches!(stopped, Err(UpdateError::Stopped)));
    let left = fs::read_dir(store.update_path(two.new.recipe, two.old.recipe).parent().unwrap()).unwrap().count();
    assert_eq!(left, 0, "nothing half done is left");
    let kept = [Kept { tree: two.new.id, owner: 0 }];
    CollectPlan::make(store, &kept, &[two.old.id]).unwrap().carry_out(store, silent).unwrap();
    assert_eq!(store.updates_to(two.new.recipe).unwrap(), []);
}

#[test]
fn what_comes_from_elsewhere_is_looked_at() {
    let two = two();
    let store = &two.scene.store;
    let bytes = fs::read(store.update_path(two.old.recipe, two.new.recipe)).unwrap();
    let other = Store::at(two.scene.folder.with_file_name("other store"));
    let path = two.scene.folder.with_file_name("came");
    let take = |bytes: &[u8], from, to| {
        fs::write(&path, bytes).unwrap();
        other.take_update(from, to, &path)
    };
    let is_damaged = |result| matches!(result, Err(UpdateError::Damaged(_)));
    for at in (0..bytes.len()).step_by(97) {
        let mut changed = bytes.clone();
        changed[at] ^= 2;
        assert!(is_damaged(take(&changed, two.old.recipe, two.new.recipe)), "{at}");
        assert!(is_damaged(take(&bytes[..at], two.old.recipe, two.new.recipe)), "{at}");
    }
    assert!(is_damaged(take(&bytes, two.new.recipe, two.old.recipe)), "another one");
    assert!(
        is_damaged(take(&[bytes.as_slice(), b"x"].concat(), two.old.recipe, two.new.recipe)),
        "something behind it"
    );
    take(&bytes, two.old.recipe, two.new.recipe).unwrap();
    assert_eq!(other.update_len(two.old.recipe, two.new.recipe), Some(bytes.len() as u64));
}
