//! Lines that break, and sources that lie.

use super::*;

/// Counts, and fails or lies from a certain request on.
struct Flaky<'a> {
    store: &'a Store,
    fails_after: u64,
    lies: bool,
    requests: AtomicU64,
}

impl Fetch for Flaky<'_> {
    fn recipe(&self, id: RecipeId) -> Result<Vec<u8>, FetchError> {
        self.store.recipe_bytes(id).map_err(Into::into)
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        self.store.segment_bytes(digest).map_err(Into::into)
    }
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError> {
        Fetch::locator(self.store, segment)
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        let mut bytes = self.store.read_pack_range(pack, offset, len)?;
        if self.requests.fetch_add(1, Ordering::Relaxed) < self.fails_after {
            return Ok(bytes);
        }
        if self.lies {
            bytes[0] ^= 1;
            return Ok(bytes);
        }
        Err(FetchError::new("the line was cut", false))
    }
}

#[test]
fn a_cut_line_costs_only_what_had_not_come() {
    let scene = scene();
    let sealed = Build::of(&[("main.pack", &noise(7, 20 << 20))]).seal(&scene.store);
    let flaky = Flaky { store: &scene.store, fails_after: 3, lies: false, requests: AtomicU64::new(0) };
    let error = scene.try_install(sealed.recipe, &flaky).unwrap_err();
    assert!(matches!(error, InstallError::Fetch { .. }));
    assert!(contents(&scene.folder).is_empty(), "nothing half-visible");
    let report = scene.try_install(sealed.recipe, &scene.store).unwrap();
    assert!(report.received < 12 << 20, "{}", report.received);
    assert_eq!(fs::read(scene.folder.join("main.pack")).unwrap(), noise(7, 20 << 20));
}

/// A line that changes the first byte of everything, the first time that it is asked for.
struct Noisy<'a> {
    store: &'a Store,
    heard: Mutex<HashSet<String>>,
}

impl Noisy<'_> {
    fn once_wrong(&self, what: String, mut bytes: Vec<u8>) -> Vec<u8> {
        if self.heard.lock().unwrap().insert(what) {
            bytes[0] ^= 1;
        }
        bytes
    }
}

impl Fetch for Noisy<'_> {
    fn recipe(&self, id: RecipeId) -> Result<Vec<u8>, FetchError> {
        Ok(self.once_wrong(format!("recipe {id}"), self.store.recipe_bytes(id)?))
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        Ok(self.once_wrong(format!("segment {digest}"), self.store.segment_bytes(digest)?))
    }
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError> {
        Ok(self.once_wrong(format!("locator {segment}"), Fetch::locator(self.store, segment)?))
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        Ok(self.once_wrong(format!("range {pack} {offset}"), self.store.read_pack_range(pack, offset, len)?))
    }
}

#[test]
fn what_came_wrong_once_is_fetched_again() {
    let scene = scene();
    let build = Build::of(&[("game", &noise(1, 300_000)), ("data/a.pak", &noise(2, 900_000))]);
    let sealed = build.seal(&scene.store);
    let noisy = Noisy { store: &scene.store, heard: Default::default() };
    scene.try_install(sealed.recipe, &noisy).unwrap();
    assert!(noisy.heard.lock().unwrap().len() >= 4, "each kind came wrong once");
    assert_eq!(scene.read("game"), noise(1, 300_000));
}

#[test]
fn a_lying_server_is_refused_and_nothing_changes() {
    let scene = scene();
    scene.install(&Build::of(&[("a", b"old")]));
    let sealed = Build::of(&[("a", b"new")]).seal(&scene.store);
    let liar = Flaky { store: &scene.store, fails_after: 0, lies: true, requests: AtomicU64::new(0) };
    let error = scene.try_install(sealed.recipe, &liar).unwrap_err();
    assert!(matches!(error, InstallError::Wrong { .. }), "{error:?}");
    assert_eq!(fs::read(scene.folder.join("a")).unwrap(), b"old");
}
