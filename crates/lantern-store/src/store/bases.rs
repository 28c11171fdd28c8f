//! The chunks of a store that differences are to, wherever they lie in it.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use lantern_core::digest::Digest;

use super::{OpenPacks, Store, StoreError};
use crate::codec::difference::{self, Bases, NoBases};
use crate::codec::{Codec, Unpacker};
use crate::pack::{self, ChunkEntry};

/// Chunks that are held unpacked: neighbours mostly have the same bases.
const HELD_CHUNKS: usize = 64;

/// Where every chunk lies that is whole, in 24 bytes each.
#[derive(Debug, Default)]
pub(crate) struct WholeChunks {
    packs: Vec<Digest>,
    /// In the order of what their digests begin with.
    places: Vec<Place>,
}

#[derive(Debug, Clone, Copy)]
struct Place {
    begins_with: u64,
    pack: u32,
    offset: u32,
    stored_len: u32,
    /// The highest bit says that it is compressed.
    raw_len: u32,
}

const IS_COMPRESSED: u32 = 1 << 31;

fn beginning(digest: &Digest) -> u64 {
    digest.as_bytes().first_chunk().map_or(0, |bytes| u64::from_le_bytes(*bytes))
}

impl WholeChunks {
    /// Adds what of a pack's table is whole.
    pub(crate) fn add(&mut self, pack: Digest, entries: &[ChunkEntry]) {
        let number = u32::try_from(self.packs.len()).expect("fewer than 2^32 packs");
        self.packs.push(pack);
        self.places.extend(entries.iter().filter_map(|entry| {
            let is_compressed = match entry.codec {
                Codec::Plain => 0,
                Codec::Zstd => IS_COMPRESSED,
                Codec::Difference | Codec::Unknown(_) => return None,
            };
            let ChunkEntry { digest, offset, stored_len, raw_len, .. } = entry;
            let raw_len = raw_len & !IS_COMPRESSED | is_compressed;
            Some(Place {
                begins_with: beginning(digest),
                pack: number,
                offset: *offset,
                stored_len: *stored_len,
                raw_len,
            })
        }));
    }

    /// Makes it ready to be asked.
    pub(crate) fn sorted(mut self) -> Self {
        self.places.sort_unstable_by_key(|place| (place.begins_with, place.pack, place.offset));
        self
    }

    /// Returns the places where a chunk may lie: those of all whose digests begin alike.
    pub(crate) fn find(&self, digest: &Digest) -> impl Iterator<Item = (Digest, ChunkEntry)> {
        let (digest, wanted) = (*digest, beginning(digest));
        let from = self.places.partition_point(|place| place.begins_with < wanted);
        let places = self.places.iter().skip(from).take_while(move |place| place.begins_with == wanted);
        places.filter_map(move |place| {
            let Place { pack, offset, stored_len, raw_len, .. } = *place;
            let codec = if raw_len & IS_COMPRESSED == 0 { Codec::Plain } else { Codec::Zstd };
            let raw_len = raw_len & !IS_COMPRESSED;
            let entry = ChunkEntry { digest, codec, offset, stored_len, raw_len, whole_len: stored_len };
            Some((*self.packs.get(pack as usize)?, entry))
        })
    }
}

/// What is known of a store's whole chunks, for all that read it.
#[derive(Debug, Default)]
pub(crate) struct Known {
    pub(crate) chunks: Option<Arc<WholeChunks>>,
    /// Whether packs were written since.
    pub(crate) is_behind: bool,
}

impl Store {
    /// Gives the chunks that others in the store are differences to.
    pub fn bases(&self) -> StoreBases<'_> {
        StoreBases::of(self)
    }

    pub(super) fn whole(&self) -> MutexGuard<'_, Known> {
        self.whole.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns where the whole chunks of packs lie that are not known to be damaged. None where something was not found in `asked`, and
    /// nothing was written since.
    pub(crate) fn whole_chunks(
        &self,
        asked: Option<&Arc<WholeChunks>>,
    ) -> Result<Option<Arc<WholeChunks>>, StoreError> {
        {
            let whole = self.whole();
            if let Some(chunks) = &whole.chunks {
                let is_asked = asked.is_some_and(|asked| Arc::ptr_eq(asked, chunks));
                if !is_asked || !whole.is_behind {
                    return Ok((!is_asked).then(|| chunks.clone()));
                }
            }
        }
        // Not while others wait for it: a pack may be found to be damaged here.
        let mut chunks = WholeChunks::default();
        self.each_table(|pack, _, entries| chunks.add(pack, entries))?;
        let chunks = Arc::new(chunks.sorted());
        *self.whole() = Known { chunks: Some(chunks.clone()), is_behind: false };
        Ok(Some(chunks))
    }

    /// As [`Self::whole_chunks`], with all that was written up to now.
    pub(crate) fn whole_chunks_now(&self) -> Result<Option<Arc<WholeChunks>>, StoreError> {
        if self.whole().is_behind {
            self.forget_whole_chunks();
        }
        self.whole_chunks(None)
    }

    /// Returns what each of some chunks of a pack is a difference to.
    pub(crate) fn bases_of(&self, pack: &Digest, differences: &[ChunkEntry]) -> Result<Vec<Vec<Digest>>, StoreError> {
        let file = self.open_pack(pack)?;
        let each = differences.iter().map(|entry| {
            let len = entry.stored_len.min(difference::MAX_HEAD_LEN);
            let head = self.read_open_pack(pack, &file, entry.offset, len)?;
            let split = difference::split(&head).map_err(|e| StoreError::Pack { pack: *pack, source: e.into() })?;
            Ok(split.0)
        });
        each.collect()
    }

    /// Marks packs as damaged that hold differences to what no sound pack holds any more.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub(crate) fn mark_packs_without_bases(&self) -> Result<(), StoreError> {
        loop {
            let mut thin = Vec::new();
            self.each_table(|pack, _, entries| {
                let differences: Vec<ChunkEntry> =
                    entries.iter().filter(|entry| entry.codec == Codec::Difference).copied().collect();
                thin.extend((!differences.is_empty()).then_some((pack, differences)));
            })?;
            let Some(whole) = self.whole_chunks_now()? else { return Ok(()) };
            let mut lacking = Vec::new();
            for (pack, differences) in &thin {
                let are_there = match self.bases_of(pack, differences) {
                    Ok(bases) => bases.iter().flatten().all(|base| whole.find(base).next().is_some()),
                    Err(StoreError::Pack { .. }) => false,
                    Err(error) => return Err(error),
                };
                lacking.extend((!are_there).then_some(*pack));
            }
            if lacking.is_empty() {
                return Ok(());
            }
            // What is whole in these is not there any more, either.
            for pack in lacking {
                self.mark_damaged(&pack)?;
            }
        }
    }

    /// Forgets where whole chunks lie: some do not any more.
    pub(super) fn forget_whole_chunks(&self) {
        *self.whole() = Known::default();
    }
}

/// Reads bases from a store. Nothing is looked up before the first is asked for.
#[derive(Debug)]
pub struct StoreBases<'a> {
    store: &'a Store,
    packs: OpenPacks<'a>,
    held: Mutex<HashMap<Digest, Arc<[u8]>>>,
    /// Tools that nobody uses at the moment: setting one up takes as long as unpacking a chunk.
    unpackers: Mutex<Vec<Unpacker>>,
}

impl<'a> StoreBases<'a> {
    pub(crate) fn of(store: &'a Store) -> Self {
        Self { store, packs: OpenPacks::of(store), held: Mutex::default(), unpackers: Mutex::default() }
    }

    fn held(&self) -> MutexGuard<'_, HashMap<Digest, Arc<[u8]>>> {
        self.held.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Reads a chunk from the first of its places that gives it, and does not hold it.
    pub(crate) fn read(&self, digest: &Digest) -> Result<Option<Arc<[u8]>>, StoreError> {
        let unpackers = || self.unpackers.lock().unwrap_or_else(PoisonError::into_inner);
        let unpacker = unpackers().pop();
        let mut unpacker = unpacker.unwrap_or_default();
        let read = self.read_with(&mut unpacker, digest);
        unpackers().push(unpacker);
        read
    }

    fn read_with(&self, unpacker: &mut Unpacker, digest: &Digest) -> Result<Option<Arc<[u8]>>, StoreError> {
        let mut asked = None;
        loop {
            let chunks = self.store.whole_chunks(asked.as_ref())?;
            let Some(chunks) = chunks else { return Ok(None) };
            for (pack, entry) in chunks.find(digest) {
                let Ok(stored) = self.packs.read(&pack, entry.offset, entry.stored_len) else { continue };
                if let Ok(raw) = pack::unpack(unpacker, &entry, &stored, &NoBases) {
                    return Ok(Some(raw.into()));
                }
            }
            asked = Some(chunks);
        }
    }
}

impl Bases for StoreBases<'_> {
    fn base(&self, digest: &Digest) -> Option<Arc<[u8]>> {
        if let Some(raw) = self.held().get(digest) {
            return Some(raw.clone());
        }
        let read = self.read(digest);
        let raw = read.inspect_err(|error| log::warn!("could not look for the chunk {digest}: {error}")).ok()??;
        let mut held = self.held();
        if held.len() >= HELD_CHUNKS {
            held.clear();
        }
        held.insert(*digest, raw.clone());
        Some(raw)
    }
}
