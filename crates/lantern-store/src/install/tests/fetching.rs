//! Lines that break, and sources that lie.

use super::*;

/// A store whose packs come over a line of the test's own.
pub(super) struct Line<'a, F>(pub(super) &'a Store, pub(super) F);

impl<F: Fn(&Digest, u32, u32) -> Result<Vec<u8>, FetchError> + Sync> Fetch for Line<'_, F> {
    fn recipe(&self, id: RecipeId) -> Result<Vec<u8>, FetchError> {
        Fetch::recipe(self.0, id)
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        Fetch::segment(self.0, digest)
    }
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError> {
        Fetch::locator(self.0, segment)
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        self.1(pack, offset, len)
    }
    fn update(&self, from: RecipeId, to: RecipeId, offset: u64, len: u32) -> Result<Vec<u8>, FetchError> {
        Fetch::update(self.0, from, to, offset, len)
    }
}

/// Fails from a certain request on.
fn cut_after(requests: u64, store: &Store) -> impl Fetch {
    let asked = AtomicU64::new(0);
    Line(store, move |pack: &Digest, offset, len| match asked.fetch_add(1, Ordering::Relaxed) < requests {
        true => Ok(store.read_pack_range(pack, offset, len)?),
        false => Err(FetchError::new("the line was cut", false)),
    })
}

#[test]
fn a_cut_line_costs_only_what_had_not_come() {
    let scene = scene();
    let sealed = Build::of(&[("main.pack", &noise(7, 20 << 20))]).seal(&scene.store);
    let error = scene.try_install(sealed.recipe, &cut_after(6, &scene.store)).unwrap_err();
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

/// Installs over a line that changes a byte of some of a file's chunks, each of them so often; returns how many bytes were asked for, too. What
/// does not compress is stored as it is: such a byte makes another chunk of it, and no damage that unpacking finds.
fn with_changed(name: &str, len: usize, chunks: &[usize], times: u32) -> (Scene, Result<Report, InstallError>, u64) {
    let scene = scene();
    let files: [(&str, &[u8]); 3] = [(name, &noise(7, len)), ("twice/of-it", &noise(7, len)), ("small", b"a letter")];
    let sealed = Build::of(&files).seal(&scene.store);
    let (_, entries) = scene.store.recipe(sealed.recipe).unwrap();
    let of_file = &entries.iter().find(|entry| entry.path.as_str() == name).unwrap().chunks;
    let wrong: HashMap<Digest, u32> = chunks.iter().map(|chunk| (of_file[*chunk].digest, times)).collect();
    let (wrong, asked) = (Mutex::new(wrong), AtomicU64::new(0));
    let line = Line(&scene.store, |pack: &Digest, offset, len| {
        asked.fetch_add(u64::from(len), Ordering::Relaxed);
        let mut bytes = scene.store.read_pack_range(pack, offset, len)?;
        let mut wrong = wrong.lock().unwrap();
        for entry in scene.store.pack_table(pack)?.1 {
            let place = entry.offset.checked_sub(offset).filter(|_| entry.offset + entry.stored_len <= offset + len);
            if let (Some(place), Some(times)) = (place, wrong.get_mut(&entry.digest))
                && *times > 0
            {
                *times -= 1;
                bytes[place as usize + 5] ^= 1;
            }
        }
        Ok(bytes)
    });
    let installed = scene.try_install(sealed.recipe, &line);
    let left: u32 = wrong.into_inner().unwrap().values().sum();
    assert_eq!(left == 0, times < 3, "it came wrong as often as was meant");
    (scene, installed, asked.into_inner())
}

#[test]
fn what_came_wrong_is_found_at_the_end_of_its_file_and_fetched_alone() {
    let len = 3 << 20;
    for (chunks, times) in [(vec![1], 1), (vec![2, 3, 30], 1), (vec![5], 2)] {
        let (scene, installed, asked) = with_changed("main.pack", len, &chunks, times);
        let report = installed.unwrap();
        assert_eq!(scene.read("main.pack"), noise(7, len));
        assert_eq!(scene.read("twice/of-it"), noise(7, len));
        assert_eq!(report.written, 3);
        let more = asked as usize - len;
        assert!((1..1 << 20).contains(&more), "{more} bytes more for {chunks:?}");
    }
}

#[test]
fn what_always_comes_wrong_is_refused_and_named() {
    let (scene, installed, _) = with_changed("main.pack", 3 << 20, &[4], 100);
    let error = installed.unwrap_err();
    assert!(matches!(&error, InstallError::Wrong { what: "a chunk", why } if why.contains("is damaged")), "{error:?}");
    assert!(contents(&scene.folder).is_empty(), "nothing half-visible");
}

#[test]
fn a_source_of_which_everything_comes_wrong_is_refused_at_once() {
    let scene = scene();
    let sealed = Build::of(&[("main.pack", &noise(7, 48 << 20))]).seal(&scene.store);
    let asked = AtomicU64::new(0);
    let liar = Line(&scene.store, |pack: &Digest, offset, len| {
        asked.fetch_add(u64::from(len), Ordering::Relaxed);
        Ok(scene.store.read_pack_range(pack, offset, len)?.into_iter().map(|byte| byte ^ 1).collect())
    });
    let error = scene.try_install(sealed.recipe, &liar).unwrap_err();
    assert!(matches!(&error, InstallError::Wrong { what: "a chunk", .. }), "{error:?}");
    assert!(asked.into_inner() <= 24 << 20, "no more than was on its way");
}

#[test]
fn a_lying_server_is_refused_and_nothing_changes() {
    let scene = scene();
    scene.install(&Build::of(&[("a", b"old")]));
    let sealed = Build::of(&[("a", b"new")]).seal(&scene.store);
    let liar = Line(&scene.store, |pack: &Digest, offset, len| {
        let mut bytes = scene.store.read_pack_range(pack, offset, len)?;
        bytes[0] ^= 1;
        Ok(bytes)
    });
    let error = scene.try_install(sealed.recipe, &liar).unwrap_err();
    assert!(matches!(error, InstallError::Wrong { .. }), "{error:?}");
    assert_eq!(fs::read(scene.folder.join("a")).unwrap(), b"old");
}
