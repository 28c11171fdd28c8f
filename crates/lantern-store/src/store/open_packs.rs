//! Packs of a store that are held open: what is read next mostly lies in one of those that were read from last.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::fs::File;
use std::sync::{Mutex, PoisonError};

use lantern_core::digest::Digest;

use super::{Store, StoreError};

/// Most that are held open at a time.
const MOST: usize = 64;

/// Packs that are open.
#[derive(Debug)]
pub(crate) struct OpenPacks<'a> {
    store: &'a Store,
    files: Mutex<HashMap<Digest, File>>,
}

impl<'a> OpenPacks<'a> {
    /// Opens none yet.
    pub(crate) fn of(store: &'a Store) -> Self {
        Self { store, files: Mutex::default() }
    }

    /// Reads `len` bytes of a pack.
    pub(crate) fn read(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, StoreError> {
        let mut files = self.files.lock().unwrap_or_else(PoisonError::into_inner);
        if files.len() >= MOST && !files.contains_key(pack) {
            files.clear();
        }
        let file = match files.entry(*pack) {
            Entry::Occupied(file) => file.into_mut(),
            Entry::Vacant(place) => place.insert(self.store.open_pack(pack)?),
        };
        self.store.read_open_pack(pack, file, offset, len)
    }
}
