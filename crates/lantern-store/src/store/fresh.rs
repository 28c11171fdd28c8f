//! Packs that may still be thinned: written by a run that goes on, or by one that was cut, and named by nothing.

use std::fs;
use std::path::PathBuf;

use lantern_core::digest::Digest;

use super::{Store, StoreError, list};
use crate::durable::{self, DurableError};

impl Store {
    fn fresh_path(&self, pack: &Digest) -> PathBuf {
        self.root.join("fresh").join(pack.hex())
    }

    /// Notes that a pack is about to be written that may be thinned: a run that is cut leaves it to the next. Unlike what it is about, the
    /// note need not outlast a power cut.
    pub(crate) fn note_fresh(&self, pack: &Digest) -> Result<(), StoreError> {
        let path = self.fresh_path(pack);
        durable::create_folders(&self.root.join("fresh"))?;
        Ok(fs::write(&path, b"").map_err(DurableError::on("write", &path))?)
    }

    /// Returns the packs that may still be thinned: nothing names them.
    pub(crate) fn fresh(&self) -> Result<Vec<Digest>, StoreError> {
        let names = list(&self.root.join("fresh"))?;
        Ok(names.iter().filter_map(|hex| Digest::from_hex(hex).ok()).collect())
    }

    /// Forgets that packs may be thinned.
    pub(crate) fn forget_fresh<'a>(&self, packs: impl IntoIterator<Item = &'a Digest>) -> Result<(), StoreError> {
        for pack in packs {
            durable::remove_file(&self.fresh_path(pack))?;
        }
        Ok(())
    }
}
