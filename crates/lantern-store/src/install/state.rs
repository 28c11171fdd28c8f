//! What an installed folder knows about itself.

use std::fs::{self, File, TryLockError};
use std::io;
use std::path::{Path, PathBuf};

use lantern_core::digest::{Digest, ManifestId};
use serde::{Deserialize, Serialize};

use super::InstallError;
use crate::durable;
use crate::manifest::{self, Entry, SegmentRef};

/// The folder in an installed build that is ours.
pub const STATE_FOLDER: &str = ".lantern-install";
pub(super) const FORMAT: &str = "lantern.installed/1";
const MAX_STATE_LEN: u64 = 16 * 1024 * 1024;

/// What is installed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Installed {
    /// `lantern.installed/1`.
    pub format: String,
    /// One for each depot.
    pub manifests: Vec<ManifestId>,
    /// Where it came from and what it is, as the caller said.
    pub about: serde_json::Value,
}

/// A folder that holds or will hold a build; locked while this lives.
#[derive(Debug)]
pub struct Folder {
    path: PathBuf,
    /// The lock goes when the file is closed, also by a kill.
    _lock: File,
}

impl Folder {
    pub(super) fn open_or_make(path: &Path) -> Result<Self, InstallError> {
        durable::create_folders(&path.join(STATE_FOLDER))?;
        Self::open(path)
    }

    pub(super) fn open(path: &Path) -> Result<Self, InstallError> {
        let state = path.join(STATE_FOLDER);
        let is_real = fs::symlink_metadata(&state).is_ok_and(|m| m.is_dir());
        if !is_real {
            return Err(InstallError::NotInstalled(path.to_owned()));
        }
        let lock_path = state.join("lock");
        let lock = File::create(&lock_path).map_err(InstallError::io("open", &lock_path))?;
        match lock.try_lock() {
            Ok(()) => Ok(Self { path: path.to_owned(), _lock: lock }),
            Err(TryLockError::WouldBlock) => Err(InstallError::Busy(path.to_owned())),
            Err(TryLockError::Error(e)) => Err(InstallError::io("lock", &lock_path)(e)),
        }
    }

    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    pub(super) fn state(&self, name: &str) -> PathBuf {
        self.path.join(STATE_FOLDER).join(name)
    }

    pub(super) fn manifest_path(&self, id: ManifestId) -> PathBuf {
        self.state("manifests").join(id.0.hex())
    }

    pub(super) fn segment_path(&self, digest: &Digest) -> PathBuf {
        self.state("segments").join(digest.hex())
    }

    pub(super) fn stage(&self, manifests: &[ManifestId]) -> PathBuf {
        let names: Vec<u8> = manifests.iter().flat_map(|id| *id.0.as_bytes()).collect();
        self.state(&format!("stage-{}", Digest::of(&names).short()))
    }

    /// Reads a JSON file of the state; one that is not there is none.
    pub(super) fn read_json<T: serde::de::DeserializeOwned>(&self, name: &str) -> Result<Option<T>, InstallError> {
        let path = self.state(name);
        let bytes = match durable::read_limited(&path, MAX_STATE_LEN * 16) {
            Ok(bytes) => bytes,
            Err(e) if e.source.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(e.into()),
        };
        serde_json::from_slice(&bytes).map(Some).map_err(|e| InstallError::State { path, why: e.to_string() })
    }

    pub(super) fn write_json(&self, name: &str, value: &impl Serialize) -> Result<(), InstallError> {
        let bytes = serde_json::to_vec_pretty(value).expect("the state has only string keys");
        Ok(durable::write_whole(&self.state(name), &bytes)?)
    }

    pub(super) fn installed(&self) -> Result<Option<Installed>, InstallError> {
        let installed: Option<Installed> = self.read_json("installed.json")?;
        if let Some(other) = installed.as_ref().filter(|i| i.format != FORMAT) {
            let why = format!("its format is {:?}, this lantern reads {FORMAT:?}", other.format);
            return Err(InstallError::State { path: self.state("installed.json"), why });
        }
        Ok(installed)
    }

    /// Returns the entries of what is installed, in order; none when nothing is.
    pub(super) fn entries_installed(&self) -> Result<Vec<Entry>, InstallError> {
        let Some(installed) = self.installed()? else {
            return Ok(Vec::new());
        };
        let mut all = Vec::new();
        for id in installed.manifests {
            let path = self.manifest_path(id);
            let damaged = |e: manifest::ManifestError| InstallError::State { path: path.clone(), why: e.to_string() };
            let root = durable::read_limited(&path, manifest::MAX_ROOT_LEN)?;
            let segment = |segment: &SegmentRef| {
                Ok(durable::read_limited(&self.segment_path(&segment.digest), manifest::MAX_SEGMENT_LEN)?)
            };
            all.extend(manifest::assemble(id, &root, segment, damaged)?.1);
        }
        all.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(all)
    }
}
