//! What an installed folder knows about itself.

use std::collections::HashSet;
use std::fs::{self, File, TryLockError};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::failpoint;
use lantern_core::parallel::each;
use serde::{Deserialize, Serialize};

use super::InstallError;
use super::writes::Writes;
use crate::durable::{self, DurableError};
use crate::fetch::{Fetch, SMALL_FETCHERS, again};
use crate::recipe::{self, ChunkRef, Entry, Root, SegmentRef};

/// The folder in an installed build that is ours.
pub const STATE_FOLDER: &str = ".lantern-install";
pub(super) const FORMAT: &str = "lantern.installed/1";
const INSTALLED: &str = "installed.json";
/// The folder of the segments of recipes, named by their digests.
const SEGMENTS: &str = "segments";
const PRIVATE: &str = "private.json";
/// Longest `private.json` that is read, in bytes.
const MAX_PRIVATE_LEN: u64 = 64 * 1024;
/// Longest `installed.json` that is read, in bytes.
const MAX_INSTALLED_LEN: u64 = 16 * 1024 * 1024;

/// What is installed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Installed {
    /// `lantern.installed/1`.
    pub format: String,
    /// One for each depot.
    pub recipes: Vec<RecipeId>,
    /// Where it came from and what it is, as the caller said.
    pub about: serde_json::Value,
}

/// A folder that holds or will hold a build; locked while this lives.
#[derive(Debug)]
pub struct Folder {
    path: PathBuf,
    /// Whether segments of recipes were written that are not on the disk yet.
    has_unsynced: AtomicBool,
    /// The lock goes when the file is closed, also by a kill.
    _lock: Option<File>,
}

impl Folder {
    /// Opens a folder to change it; the folder and ours in it are made where they are missing.
    pub(super) fn open_or_make(path: &Path) -> Result<Self, InstallError> {
        durable::create_folders(path)?;
        let state = path.join(STATE_FOLDER);
        match fs::symlink_metadata(&state) {
            Ok(m) if m.is_dir() => {}
            Ok(_) => return Err(InstallError::ForeignState(state)),
            Err(_) => durable::create_folders(&state)?,
        }
        Self::open(path)
    }

    /// Opens a folder to change it.
    pub(super) fn open(path: &Path) -> Result<Self, InstallError> {
        let state = Self::state_of(path)?;
        let lock_path = state.join("lock");
        let lock = durable::open_own(&lock_path, true).map_err(InstallError::io("open", &lock_path))?;
        match lock.try_lock() {
            Ok(()) => Ok(Self::with(path, Some(lock))),
            Err(TryLockError::WouldBlock) => Err(InstallError::Busy(path.to_owned())),
            Err(TryLockError::Error(e)) => Err(InstallError::io("lock", &lock_path)(e)),
        }
    }

    /// Opens a folder to read it, which writes nothing there: it may lie on a disk that cannot be written, and may be
    /// anybody's.
    pub(super) fn open_to_read(path: &Path) -> Result<Self, InstallError> {
        let state = Self::state_of(path)?;
        let lock_path = state.join("lock");
        // Without a lock file nobody is at work there.
        let lock = File::open(&lock_path).ok().filter(|_| fs::symlink_metadata(&lock_path).is_ok_and(|m| m.is_file()));
        match lock.as_ref().map(File::try_lock_shared) {
            Some(Err(TryLockError::WouldBlock)) => Err(InstallError::Busy(path.to_owned())),
            _ => Ok(Self::with(path, lock)),
        }
    }

    fn with(path: &Path, lock: Option<File>) -> Self {
        Self { path: path.to_owned(), has_unsynced: AtomicBool::new(false), _lock: lock }
    }

    fn state_of(path: &Path) -> Result<PathBuf, InstallError> {
        let state = path.join(STATE_FOLDER);
        let is_there = durable::is_real_folder(&state);
        if is_there { Ok(state) } else { Err(InstallError::NotInstalled(path.to_owned())) }
    }

    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    pub(super) fn state(&self, name: &str) -> PathBuf {
        self.path.join(STATE_FOLDER).join(name)
    }

    /// Makes a folder in the state; whatever else has its name goes, and a link without what it leads to.
    pub(super) fn own_folder(&self, name: &str) -> Result<PathBuf, InstallError> {
        let path = self.state(name);
        match fs::symlink_metadata(&path) {
            Ok(m) if m.is_dir() => return Ok(path),
            Ok(_) => durable::remove_file(&path)?,
            Err(_) => {}
        }
        let made = failpoint::write().and_then(|()| fs::create_dir(&path));
        made.map_err(InstallError::io("make the folder", &path))?;
        Ok(path)
    }

    pub(super) fn stage_name(recipes: &[RecipeId]) -> String {
        let names: Vec<u8> = recipes.iter().flat_map(|id| *id.0.as_bytes()).collect();
        format!("stage-{}", Digest::of(&names).short())
    }

    /// Removes what lies in the state under names that start with `prefix`, but one.
    pub(super) fn remove_others(&self, prefix: &str, but: Option<&str>) -> Result<(), InstallError> {
        let state = self.state("");
        let entries = fs::read_dir(&state).map_err(InstallError::io("list", &state))?;
        for entry in entries.flatten() {
            let name = entry.file_name();
            let is_meant = name.to_str().is_some_and(|n| n.starts_with(prefix) && Some(n) != but);
            if !is_meant {
                continue;
            }
            let path = entry.path();
            let remove =
                || if durable::is_real_folder(&path) { fs::remove_dir_all(&path) } else { fs::remove_file(&path) };
            failpoint::remove().and_then(|()| remove()).map_err(InstallError::io("remove", &path))?;
        }
        Ok(())
    }

    /// Reads a JSON file of the state; one that is not there is none.
    pub(super) fn read_json<T: serde::de::DeserializeOwned>(
        &self,
        name: &str,
        limit: u64,
    ) -> Result<Option<T>, InstallError> {
        let path = self.state(name);
        let bytes = match durable::read_limited(&path, limit) {
            Ok(bytes) => bytes,
            Err(e) if e.source.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(e.into()),
        };
        serde_json::from_slice(&bytes).map(Some).map_err(|e| InstallError::State { path, why: e.to_string() })
    }

    /// Writes a JSON file of the state, whole or not at all.
    pub(super) fn write_json(&self, name: &str, value: &impl Serialize, limit: u64) -> Result<(), InstallError> {
        let bytes = serde_json::to_vec_pretty(value).expect("the state has only string keys");
        let path = self.state(name);
        if bytes.len() as u64 > limit {
            return Err(DurableError::on("write", &path)(io::ErrorKind::FileTooLarge.into()).into());
        }
        Ok(durable::write_whole(&path, &bytes)?)
    }

    pub(super) fn write_installed(&self, installed: &Installed) -> Result<(), InstallError> {
        self.write_json(INSTALLED, installed, MAX_INSTALLED_LEN)
    }

    /// Keeps what concerns the player alone: it is shown by nothing that speaks of the build.
    pub(super) fn write_private(&self, private: &serde_json::Value) -> Result<(), InstallError> {
        let bytes = serde_json::to_vec_pretty(private).expect("a value has only string keys");
        Ok(durable::write_private(&self.state(PRIVATE), &bytes)?)
    }

    /// Returns what concerns the player alone; none where there is none, or it cannot be understood.
    pub(super) fn private(&self) -> Option<serde_json::Value> {
        self.read_json(PRIVATE, MAX_PRIVATE_LEN).ok().flatten()
    }

    pub(super) fn remove_installed(&self) -> Result<(), InstallError> {
        Ok(durable::remove_file(&self.state(INSTALLED))?)
    }

    /// Whether the folder says what is installed, be it understood or not.
    pub(super) fn has_installed(&self) -> bool {
        fs::symlink_metadata(self.state(INSTALLED)).is_ok()
    }

    /// Whether anything lies in the state under a name that starts with `prefix`.
    pub(super) fn has_any(&self, prefix: &str) -> bool {
        let entries = fs::read_dir(self.state("")).into_iter().flatten().flatten();
        entries.into_iter().any(|entry| entry.file_name().to_str().is_some_and(|name| name.starts_with(prefix)))
    }

    /// Returns what is installed; none when nothing is.
    ///
    /// # Errors
    /// [`InstallError::State`] when it cannot be understood.
    pub(super) fn installed(&self) -> Result<Option<Installed>, InstallError> {
        let installed: Option<Installed> = self.read_json(INSTALLED, MAX_INSTALLED_LEN)?;
        if let Some(other) = installed.as_ref().filter(|i| i.format != FORMAT) {
            let why = format!("its format is {:?}, this lantern reads {FORMAT:?}", other.format);
            return Err(InstallError::State { path: self.state(INSTALLED), why });
        }
        Ok(installed)
    }

    /// Returns the entries of builds by their recipes' ids, in order. What the folder itself lost of them is fetched
    /// and kept again.
    ///
    /// # Errors
    /// [`InstallError::Lost`] without `fetch`; with it those of fetching.
    pub(super) fn entries_of(
        &self,
        recipes: &[RecipeId],
        fetch: Option<&dyn Fetch>,
    ) -> Result<Vec<Entry>, InstallError> {
        let mut all = Vec::new();
        for id in recipes {
            let root = self.recipe_root(*id, fetch)?;
            if fetch.is_some() {
                self.fetch_segments(&Root::decode(*id, &root)?, fetch)?;
            }
            let segment = |segment: &SegmentRef| self.segment(segment, fetch);
            all.extend(recipe::assemble(*id, &root, segment, InstallError::from)?.1);
        }
        all.sort_by(|a: &Entry, b| a.path.cmp(&b.path));
        // Equal entries of two depots are one.
        all.dedup_by(|a, b| a.path == b.path && a.node == b.node);
        Ok(all)
    }

    fn recipe_root(&self, id: RecipeId, fetch: Option<&dyn Fetch>) -> Result<Vec<u8>, InstallError> {
        let path = self.state("recipes").join(id.0.hex());
        let here = durable::read_limited(&path, recipe::MAX_ROOT_LEN).ok();
        if let Some(bytes) = here.filter(|bytes| RecipeId::of(bytes) == id) {
            return Ok(bytes);
        }
        let fetch = fetch.ok_or_else(|| InstallError::Lost(path.clone()))?;
        let once = || {
            let bytes = fetch.recipe(id).map_err(|source| InstallError::Fetch { what: "the recipe", source })?;
            if RecipeId::of(&bytes) != id {
                return Err(recipe::RecipeError::Digest { what: "the recipe" }.into());
            }
            Ok(bytes)
        };
        let bytes = again(once, InstallError::is_wrong)?;
        self.own_folder("recipes")?;
        durable::write_whole(&path, &bytes)?;
        Ok(bytes)
    }

    fn segment(&self, segment: &SegmentRef, fetch: Option<&dyn Fetch>) -> Result<Vec<u8>, InstallError> {
        let path = self.state(SEGMENTS).join(segment.digest.hex());
        let is_it = |packed: &[u8]| recipe::unpack_segment(&segment.digest, packed).map(drop);
        let here = durable::read_limited(&path, recipe::MAX_SEGMENT_LEN).ok();
        if let Some(packed) = here.filter(|packed| is_it(packed).is_ok()) {
            return Ok(packed);
        }
        let fetch = fetch.ok_or_else(|| InstallError::Lost(path.clone()))?;
        let once = || {
            let fetched = fetch.segment(&segment.digest);
            let packed = fetched.map_err(|source| InstallError::Fetch { what: "a segment of the recipe", source })?;
            is_it(&packed)?;
            Ok(packed)
        };
        let packed = again(once, InstallError::is_wrong)?;
        self.own_folder(SEGMENTS)?;
        self.has_unsynced.store(true, Ordering::Relaxed);
        durable::write_unsynced(&path, &packed)?;
        Ok(packed)
    }

    /// What is written of recipes from now on; [`Self::sync_recipes`] brings it to the disk.
    pub(super) fn writes_of_recipes(&self) -> Result<Writes, InstallError> {
        let folder = self.own_folder(SEGMENTS)?;
        Writes::begin(&folder).map_err(InstallError::io("open", &folder))
    }

    /// Brings to the disk what has come of recipes, all of it together.
    pub(super) fn sync_recipes(&self, writes: Writes) -> Result<(), InstallError> {
        if !self.has_unsynced.load(Ordering::Relaxed) {
            return Ok(());
        }
        let folder = self.state(SEGMENTS);
        writes.finish(&folder).map_err(InstallError::io("bring to the disk", &folder))
    }

    /// Brings the segments that are not there, side by side.
    fn fetch_segments(&self, root: &Root, fetch: Option<&dyn Fetch>) -> Result<(), InstallError> {
        let folder = self.own_folder(SEGMENTS)?;
        let is_there = |segment: &&SegmentRef| folder.join(segment.digest.hex()).exists();
        let lacking: Vec<&SegmentRef> = root.segments.iter().filter(|segment| !is_there(segment)).collect();
        each(&lacking, SMALL_FETCHERS, || (), |(), _, segment| self.segment(segment, fetch).map(drop))
    }

    /// Returns the segments of recipes that have chunks of some kind, with all of their chunks.
    pub(super) fn segments_with(
        &self,
        recipes: &[RecipeId],
        is_meant: &dyn Fn(&Digest) -> bool,
    ) -> Result<Vec<(Digest, Vec<ChunkRef>)>, InstallError> {
        let (mut out, mut seen) = (Vec::new(), HashSet::new());
        for id in recipes {
            let root = Root::decode(*id, &self.recipe_root(*id, None)?)?;
            for segment in root.segments.iter().filter(|segment| segment.chunks > 0 && seen.insert(segment.digest)) {
                let chunks = recipe::chunks_of_segment(segment, &self.segment(segment, None)?)?;
                if chunks.iter().any(|chunk| is_meant(&chunk.digest)) {
                    out.push((segment.digest, chunks));
                }
            }
        }
        Ok(out)
    }

    /// Removes recipes and segments that what is installed does not name.
    pub(super) fn forget_others(&self, recipes: &[RecipeId]) -> Result<(), InstallError> {
        let mut segments = HashSet::new();
        for id in recipes {
            let root = self.recipe_root(*id, None)?;
            segments.extend(Root::decode(*id, &root)?.segments.iter().map(|s| s.digest.hex()));
        }
        let kept: HashSet<String> = recipes.iter().map(|id| id.0.hex()).collect();
        for (folder, kept) in [("recipes", kept), (SEGMENTS, segments)] {
            let folder = self.own_folder(folder)?;
            let entries = fs::read_dir(&folder).map_err(InstallError::io("list", &folder))?;
            let names = entries.flatten().filter_map(|entry| entry.file_name().into_string().ok());
            for name in names.filter(|name| !kept.contains(name)) {
                durable::remove_file(&folder.join(name))?;
            }
        }
        Ok(())
    }
}
