//! Which packs travel: a pack of ours as it is, or one that is put together of the chunks that are missing elsewhere.
//!
//! A pack leaves whole only when every chunk in it belongs to one and the same depot that is being sent. What else would
//! lie in it (files of an earlier build, what is kept aside, another depot's or edition's) must not leave with it. The
//! decision is made on what a pack holds, never on how it came to be. Nor does a difference leave: what it is to need not be there.

use std::collections::{BTreeMap, HashSet};

use lantern_core::compression::Compression;
use lantern_core::digest::Digest;

use crate::chunk_index::ChunkIndex;
use crate::codec::difference::NoBases;
use crate::codec::{Codec, Packer, Unpacker};
use crate::pack::{self, ChunkEntry, MAX_CHUNKS, PackWriter, TARGET_LEN};
use crate::store::{OpenPacks, Store, StoreBases, StoreError};

/// A pack of which at least this part is missing elsewhere travels whole: no bytes are copied, and anyone who gets it can keep
/// it as it is.
const WHOLE_PACK_PERCENT: u64 = 80;

/// Which chunks belong to which of some portions: depots that are sent, trees that are kept. Chunks are meant by their
/// indices in what is [`ChunkIndex`].
#[derive(Debug, Clone, Default)]
pub struct Portions {
    count: usize,
    /// 64 portions each, for every chunk.
    words: usize,
    bits: Vec<u64>,
}

impl Portions {
    /// Notes the chunks of each portion. Those that more people may have come first.
    #[expect(clippy::indexing_slicing, reason = "there is room for the highest")]
    pub fn new(portions: &[Vec<u32>]) -> Self {
        let words = portions.len().div_ceil(64);
        let chunks = portions.iter().flatten().max().map_or(0, |last| *last as usize + 1);
        let mut bits = vec![0; chunks * words];
        for (number, chunks) in portions.iter().enumerate() {
            for chunk in chunks {
                bits[*chunk as usize * words + number / 64] |= 1 << (number % 64);
            }
        }
        Self { count: portions.len(), words, bits }
    }

    fn of(&self, chunk: u32) -> &[u64] {
        let from = chunk as usize * self.words;
        self.bits.get(from..from + self.words).unwrap_or_default()
    }

    /// Returns the first portion that a chunk belongs to.
    fn first(&self, chunk: u32) -> usize {
        let at = self.of(chunk).iter().enumerate().find(|(_, word)| **word != 0);
        at.map_or(self.count, |(at, word)| at * 64 + word.trailing_zeros() as usize)
    }

    /// Whether all chunks belong to one portion.
    fn has_in_common(&self, mut chunks: impl Iterator<Item = Option<u32>>) -> bool {
        let mut common = vec![u64::MAX; self.words];
        let each = chunks.all(|chunk| {
            let Some(of_chunk) = chunk.map(|chunk| self.of(chunk)).filter(|words| !words.is_empty()) else {
                return false;
            };
            common.iter_mut().zip(of_chunk).for_each(|(common, word)| *common &= word);
            common.iter().any(|word| *word != 0)
        });
        each && common.iter().any(|word| *word != 0)
    }
}

/// A pack to send.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Parcel {
    /// One of ours, as it is.
    Whole {
        /// Its name.
        pack: Digest,
        /// In bytes.
        len: u64,
    },
    /// Put together of chunks of several, all of one portion.
    Composed {
        /// By their indices in what is known.
        chunks: Vec<u32>,
        /// In bytes.
        len: u64,
    },
}

impl Parcel {
    /// Returns how many bytes travel.
    pub fn len(&self) -> u64 {
        match self {
            Self::Whole { len, .. } | Self::Composed { len, .. } => *len,
        }
    }

    /// Whether nothing travels; a parcel that is made always has something.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// Decides how the chunks of `missing`, each once, travel.
///
/// # Errors
/// [`StoreError`].
pub fn parcels(
    store: &Store,
    known: &ChunkIndex,
    portions: &Portions,
    missing: &[u32],
) -> Result<Vec<Parcel>, StoreError> {
    let mut needed: BTreeMap<u32, u64> = BTreeMap::new();
    for (pack, entry) in missing.iter().filter_map(|index| known.at(*index)) {
        *needed.entry(pack).or_default() += u64::from(entry.stored_len);
    }
    let mut whole: Vec<(Digest, u64)> = Vec::new();
    let mut taken: HashSet<u32> = HashSet::new();
    for (number, bytes) in needed {
        let Some((pack, len)) = known.pack(number) else { continue };
        let (_, entries) = store.pack_table(&pack)?;
        let all: u64 = entries.iter().map(|e| u64::from(e.stored_len)).sum();
        let is_worth_it = bytes * 100 >= all * WHOLE_PACK_PERCENT;
        let is_whole = entries.iter().all(|entry| entry.codec != Codec::Difference);
        if is_worth_it && is_whole && portions.has_in_common(entries.iter().map(|e| known.index_of(&e.digest))) {
            whole.push((pack, u64::from(len)));
            taken.insert(number);
        }
    }
    whole.sort_unstable();
    let mut out: Vec<Parcel> = whole.into_iter().map(|(pack, len)| Parcel::Whole { pack, len }).collect();
    let mut open: BTreeMap<usize, (Vec<u32>, u64)> = BTreeMap::new();
    let mut composed: Vec<(usize, Parcel)> = Vec::new();
    for index in missing {
        let Some((number, entry)) = known.at(*index) else { continue };
        if taken.contains(&number) {
            continue;
        }
        let portion = portions.first(*index);
        let (chunks, len) = open.entry(portion).or_insert_with(|| (Vec::new(), PackWriter::EMPTY_LEN));
        *len += u64::from(entry.whole_len) + ChunkEntry::LEN;
        chunks.push(*index);
        if *len >= TARGET_LEN as u64 || chunks.len() >= MAX_CHUNKS {
            let (chunks, len) = open.remove(&portion).unwrap_or_default();
            composed.push((portion, Parcel::Composed { chunks, len }));
        }
    }
    composed.extend(open.into_iter().map(|(portion, (chunks, len))| (portion, Parcel::Composed { chunks, len })));
    composed.sort_by_key(|(portion, _)| *portion);
    out.extend(composed.into_iter().map(|(_, parcel)| parcel));
    Ok(out)
}

/// Reads the bytes of parcels, each chunk checked against its digest: what is damaged here does not travel.
pub struct Loader<'a> {
    store: &'a Store,
    known: &'a ChunkIndex,
    packer: Packer,
    unpacker: Unpacker,
    packs: OpenPacks<'a>,
    bases: StoreBases<'a>,
}

impl<'a> Loader<'a> {
    /// Prepares to read. What is a difference here is made whole with so much work.
    pub fn new(store: &'a Store, known: &'a ChunkIndex, compression: Compression) -> Self {
        let (packer, unpacker) = (Packer::with(compression), Unpacker::new());
        Self { store, known, packer, unpacker, packs: OpenPacks::of(store), bases: store.bases() }
    }

    /// Returns a parcel's name; its bytes are in `buffer`, which is emptied first.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn load(&mut self, parcel: &Parcel, buffer: &mut Vec<u8>) -> Result<Digest, StoreError> {
        match parcel {
            Parcel::Whole { pack, .. } => {
                self.store.read_pack_into(pack, buffer)?;
                pack::verify(*pack, buffer, &NoBases).map_err(|source| StoreError::Pack { pack: *pack, source })?;
                Ok(*pack)
            }
            Parcel::Composed { chunks, .. } => {
                let mut writer = PackWriter::in_buffer(std::mem::take(buffer));
                for index in chunks {
                    self.push(*index, &mut writer)?;
                }
                let (name, bytes, _) = writer.take();
                *buffer = bytes;
                Ok(name)
            }
        }
    }

    fn push(&mut self, index: u32, writer: &mut PackWriter) -> Result<(), StoreError> {
        let missing = || StoreError::Missing { what: "the chunk", id: index.to_string() };
        let (number, entry) = self.known.at(index).ok_or_else(missing)?;
        let (pack, _) = self.known.pack(number).ok_or_else(missing)?;
        let stored = self.packs.read(&pack, entry.offset, entry.stored_len)?;
        let checked = pack::unpack(&mut self.unpacker, &entry, &stored, &self.bases);
        let raw = checked.map_err(|source| StoreError::Pack { pack, source })?;
        let (codec, stored) = match entry.codec {
            Codec::Difference => self.packer.pack(raw),
            codec => (codec, stored.as_slice()),
        };
        writer.push(entry.digest, codec, entry.raw_len, stored);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::Codec;

    /// A store of packs with these chunks, each of a thousand bytes that are its own.
    fn store(packs: &[&[u8]]) -> (tempfile::TempDir, Store, ChunkIndex) {
        let temp = tempfile::tempdir().unwrap();
        let store = Store::at(temp.path());
        for chunks in packs {
            let mut writer = PackWriter::new();
            for chunk in *chunks {
                let bytes = [*chunk; 1000];
                writer.push(Digest::of(&bytes), Codec::Plain, 1000, &bytes);
            }
            let (name, bytes, _) = writer.take();
            store.write_pack(&name, &bytes).unwrap();
        }
        let known = store.known_chunks().unwrap();
        (temp, store, known)
    }

    fn indices(known: &ChunkIndex, chunks: &[u8]) -> Vec<u32> {
        chunks.iter().map(|chunk| known.index_of(&Digest::of(&[*chunk; 1000])).unwrap()).collect()
    }

    /// How the chunks of some portions travel: `whole`, or the chunks that are put together.
    fn travel(packs: &[&[u8]], portions: &[&[u8]], missing: &[u8]) -> Vec<String> {
        let (_temp, store, known) = store(packs);
        let portions: Vec<Vec<u32>> = portions.iter().map(|chunks| indices(&known, chunks)).collect();
        let parcels = parcels(&store, &known, &Portions::new(&portions), &indices(&known, missing)).unwrap();
        let mut loader = Loader::new(&store, &known, Compression::default());
        let mut out = Vec::new();
        for parcel in parcels {
            let mut bytes = Vec::new();
            let name = loader.load(&parcel, &mut bytes).unwrap();
            assert_eq!(bytes.len() as u64, parcel.len());
            let entries = pack::verify(name, &bytes, &NoBases).unwrap();
            let letters: String = entries.iter().map(|e| char::from(bytes[e.offset as usize])).collect();
            out.push(if matches!(parcel, Parcel::Whole { .. }) { format!("whole {letters}") } else { letters });
        }
        out
    }

    #[test]
    fn a_pack_travels_whole_when_all_of_it_is_sent() {
        assert_eq!(travel(&[b"abcde"], &[b"abcde"], b"abcde"), ["whole abcde"]);
        assert_eq!(travel(&[b"abcde"], &[b"abcde"], b"abcd"), ["whole abcde"], "what is there already may come again");
        assert_eq!(travel(&[b"abcde"], &[b"abcde"], b"ab"), ["ab"], "most of it is there already");
    }

    #[test]
    fn what_does_not_belong_to_it_stays_here() {
        // One chunk in ten is of a file that is not part of the build any more.
        assert_eq!(travel(&[b"abcdefghiX"], &[b"abcdefghi"], b"abcdefghi"), ["abcdefghi"]);
        // One in ten is of another depot of the same push.
        assert_eq!(travel(&[b"abcdefghiP"], &[b"abcdefghi", b"P"], b"abcdefghiP"), ["abcdefghi", "P"]);
    }

    #[test]
    fn what_depots_share_goes_with_the_first() {
        let sent = travel(&[b"abc", b"sd", b"P"], &[b"abcs", b"sd", b"sP"], b"abcsdP");
        // The pack of s and d belongs to the second depot alone as a whole, and goes as it is.
        assert_eq!(sent.iter().filter(|parcel| parcel.starts_with("whole")).count(), 3, "{sent:?}");
        assert_eq!(travel(&[b"abcsdP"], &[b"abcs", b"sd", b"sP"], b"abcsdP"), ["abcs", "d", "P"]);
    }

    #[test]
    fn many_portions() {
        let all: Vec<Vec<u8>> = (0..150_u8).map(|n| vec![n, 200]).collect();
        let portions: Vec<&[u8]> = all.iter().map(Vec::as_slice).collect();
        let packs: Vec<u8> = (0..150).chain([200]).collect();
        let (_temp, store, known) = store(&[&packs]);
        let portions: Vec<Vec<u32>> = portions.iter().map(|chunks| indices(&known, chunks)).collect();
        let missing = indices(&known, &packs);
        let sent = parcels(&store, &known, &Portions::new(&portions), &missing).unwrap();
        assert_eq!(sent.len(), 150);
        assert!(sent.iter().all(|parcel| matches!(parcel, Parcel::Composed { .. })));
    }

    #[test]
    fn what_is_damaged_does_not_travel() {
        let (_temp, store, known) = store(&[b"abcdef"]);
        let pack = store.packs().unwrap()[0];
        let path = store.pack_path(&pack);
        let mut bytes = std::fs::read(&path).unwrap();
        bytes[1500] ^= 1;
        std::fs::write(&path, bytes).unwrap();
        let mut loader = Loader::new(&store, &known, Compression::default());
        let load = |loader: &mut Loader<'_>, parcel| loader.load(&parcel, &mut Vec::new()).is_ok();
        assert!(!load(&mut loader, Parcel::Whole { pack, len: 0 }));
        assert!(!load(&mut loader, Parcel::Composed { chunks: indices(&known, b"ab"), len: 0 }));
        assert!(load(&mut loader, Parcel::Composed { chunks: indices(&known, b"ac"), len: 0 }));
    }
}
