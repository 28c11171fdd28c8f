//! Whether packs are what their names say: each is looked at when it is first relied on.

use std::collections::BTreeSet;
use std::io::Read;
use std::sync::{Arc, OnceLock, PoisonError};

use lantern_core::digest::Digest;
use lantern_core::progress::Silent;

use super::{Store, StoreError};
use crate::codec::difference::Bases;
use crate::codec::{Codec, CodecError};
use crate::durable::DurableError;
use crate::pack::{self, PackError};

/// Bytes of a pack that are read and hashed at a time.
const READ_LEN: usize = 256 * 1024;

/// What is known of a pack since a store was opened.
#[derive(Debug, Default)]
pub(super) struct Checked {
    is_intact: OnceLock<bool>,
    is_sound: OnceLock<bool>,
}

impl Store {
    /// Whether a pack can be relied on: its bytes are what its name says, and so are those of the packs that what it is different from
    /// lies in. It is read the first time that this is asked; one that is damaged gets a mark, and nothing relies on it any more.
    ///
    /// What is in it is not unpacked: it was when it came, from wherever it came, and whoever reads a chunk compares it with its digest.
    pub fn is_sound(&self, pack: &Digest) -> bool {
        let checked = self.checked_of(pack);
        *checked.is_sound.get_or_init(|| self.is_intact(pack) && self.has_bases_of(pack))
    }

    /// Whether a pack's bytes are what its name says.
    fn is_intact(&self, pack: &Digest) -> bool {
        let checked = self.checked_of(pack);
        *checked.is_intact.get_or_init(|| {
            let read = self.open_pack(pack).and_then(|file| {
                let (mut reader, mut buffer) = (file.take(pack::MAX_PACK_LEN as u64 + 1), vec![0; READ_LEN]);
                let found = Digest::of_reader(&mut reader, &mut buffer, &Silent, &Silent);
                let found = found.map_err(DurableError::on("read", &self.pack_path(pack)))?;
                let source = PackError::Name { expected: *pack };
                if found == *pack { Ok(()) } else { Err(StoreError::Pack { pack: *pack, source }) }
            });
            self.mark_if_damaged(pack, read).is_some()
        })
    }

    /// Whether what is in a pack as a difference can be made whole.
    fn has_bases_of(&self, pack: &Digest) -> bool {
        let found = self.find_bases_of(pack);
        self.mark_if_damaged(pack, found).is_some()
    }

    fn find_bases_of(&self, pack: &Digest) -> Result<(), StoreError> {
        let mut differences = self.pack_table(pack)?.1;
        differences.retain(|entry| entry.codec == Codec::Difference);
        if differences.is_empty() {
            return Ok(());
        }
        let bases: BTreeSet<Digest> = self.bases_of(pack, &differences)?.into_iter().flatten().collect();
        let whole = self.whole_chunks(None)?.unwrap_or_default();
        let is_lost = |base: &Digest| !whole.find(base).any(|(pack, _)| self.is_intact(&pack));
        match bases.into_iter().find(is_lost) {
            None => Ok(()),
            Some(base) => Err(StoreError::Pack { pack: *pack, source: CodecError::WithoutBase(base).into() }),
        }
    }

    /// Unpacks all that is in a pack; one that is damaged gets a mark.
    ///
    /// # Errors
    /// [`StoreError`] when it cannot be read; damage is no error here.
    pub(crate) fn look_into(&self, pack: &Digest, bases: &dyn Bases) -> Result<(), StoreError> {
        let verified =
            |bytes: &[u8]| pack::verify(*pack, bytes, bases).map_err(|source| StoreError::Pack { pack: *pack, source });
        match self.read_pack(pack).and_then(|bytes| verified(&bytes)) {
            Err(error) if !matches!(error, StoreError::Pack { .. }) => Err(error),
            read => {
                self.mark_if_damaged(pack, read);
                Ok(())
            }
        }
    }

    /// Marks a pack as damaged that was read, if it is.
    fn mark_if_damaged<T>(&self, pack: &Digest, read: Result<T, StoreError>) -> Option<T> {
        if matches!(read, Err(StoreError::Pack { .. })) {
            // It is known here all the same; without the mark the next run has to find it again.
            let _ = self.mark_damaged(pack);
        }
        read.ok()
    }

    fn checked_of(&self, pack: &Digest) -> Arc<Checked> {
        self.checked.lock().unwrap_or_else(PoisonError::into_inner).entry(*pack).or_default().clone()
    }

    /// Takes note of a pack that was just written: it need not be read to be relied on.
    pub(super) fn was_written(&self, pack: &Digest) {
        let checked = Checked { is_intact: OnceLock::from(true), is_sound: OnceLock::from(true) };
        self.checked.lock().unwrap_or_else(PoisonError::into_inner).insert(*pack, Arc::new(checked));
    }
}
