//! Thinning: of what is new in a store, that is kept which is different from what it took the place of.
//!
//! A build that follows another changes little in many places, and every change makes one chunk new or two. Each of them is compared
//! with chunks that the build before had and this one has not: those that samples of its bytes lie in, and those that lay where it
//! lies now. What becomes much shorter as a difference is stored as one (`docs/formats/pack.md`); everything else stays as it is.
//!
//! The result does not depend on how many threads there are.

use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};

use lantern_chunker::samples;
use lantern_core::compression::Compression;
use lantern_core::digest::Digest;
use lantern_core::parallel::map;
use lantern_core::path::TreePath;
use lantern_core::progress::Progress;

use crate::chunk_index::ChunkIndex;
use crate::codec::Codec;
use crate::codec::difference::{self, Bases, MAX_BASES};
use crate::pack::{ChunkEntry, PackWriter};
use crate::recipe::Entry;
use crate::store::{OpenPacks, Store, StoreBases, StoreError};

/// A difference is kept when it takes at most so much of the chunk: nobody is to need two chunks for one to save a little.
const WORTH_IT_PERCENT: usize = 75;
/// A pack is written once more when so much of it is saved.
const WORTH_WRITING_PERCENT: u64 = 10;
/// Most chunks of the build before that samples are taken of: half a gigabyte. Where more of it is gone, little of it came back.
const MOST_LOST: usize = 16_384;
/// Where nothing but its place speaks for a difference, and that was nothing so many times in a row, the rest of the file is not tried.
const TRIES: u32 = 8;
/// Chunks that are looked at before it is counted what that brought.
const AT_ONCE: usize = 64;
/// Which part of the samples is nearly all of them: behind what holds those, others add little.
const NEARLY_ALL: (usize, usize) = (7, 8);
/// With fewer samples it is chance what they are of.
const FEW_SAMPLES: usize = 6;

/// The build before: its files one behind the other, cut as they are.
#[derive(Default)]
struct Before {
    /// In order.
    paths: Vec<TreePath>,
    /// For each file, its first chunk; what comes behind the last one.
    bounds: Vec<usize>,
    /// By their indices in what is known.
    chunks: Vec<u32>,
    /// Where each chunk begins; what comes behind the last one.
    starts: Vec<u64>,
    /// By its index in what is known, where a chunk occurs first; 0 where it does not, counted from 1.
    first: Vec<u32>,
}

impl Before {
    fn of(entries: Vec<Entry>, known: &ChunkIndex, fresh: &HashSet<u32>) -> Self {
        let mut out = Self { first: vec![0; known.len()], bounds: vec![0], ..Self::default() };
        let is_old = |index: &u32| known.at(*index).is_some_and(|(pack, _)| !fresh.contains(&pack));
        let mut end = 0;
        for Entry { path, chunks, .. } in entries.into_iter().filter(|entry| !entry.chunks.is_empty()) {
            for chunk in chunks {
                // A chunk that was not in the store before ends what can be had of the file.
                let Some(index) = known.index_of(&chunk.digest).filter(is_old) else { break };
                out.starts.push(end);
                end += u64::from(chunk.len);
                out.chunks.push(index);
                let place = u32::try_from(out.chunks.len()).expect("fewer than 2^32 chunks");
                if let Some(first) = out.first.get_mut(index as usize).filter(|first| **first == 0) {
                    *first = place;
                }
            }
            out.paths.push(path);
            out.bounds.push(out.chunks.len());
        }
        out.starts.push(end);
        out
    }

    /// Returns where a chunk occurs first: its file, where it begins and where it ends.
    fn find(&self, index: u32) -> Option<(usize, u64, u64)> {
        let place = (*self.first.get(index as usize)? as usize).checked_sub(1)?;
        let file = self.bounds.partition_point(|bound| *bound <= place).checked_sub(1)?;
        Some((file, *self.starts.get(place)?, *self.starts.get(place + 1)?))
    }

    /// Returns the file of a path, where it begins and where it ends.
    fn file(&self, path: &TreePath) -> Option<(usize, u64, u64)> {
        let file = self.paths.binary_search(path).ok()?;
        let at = |file: usize| self.starts.get(*self.bounds.get(file)?).copied();
        Some((file, at(file)?, at(file + 1)?))
    }

    /// Returns chunks of a file around a place, nearest first.
    fn around(&self, file: usize, at: u64) -> Vec<u32> {
        let bounds = self.bounds.get(file).zip(self.bounds.get(file + 1));
        let Some((from, to)) = bounds.filter(|(from, to)| from < to) else { return Vec::new() };
        let middle = self.starts.partition_point(|start| *start <= at).saturating_sub(1).clamp(*from, to - 1);
        let (start, end) = (self.starts.get(middle), self.starts.get(middle + 1));
        let is_in_first_half = start.zip(end).is_some_and(|(start, end)| at.saturating_sub(*start) < (end - start) / 2);
        let (before, after) = ([middle.checked_sub(1), middle.checked_sub(2)], [Some(middle + 1), Some(middle + 2)]);
        let (near, far) = if is_in_first_half { (before, after) } else { (after, before) };
        let order = [Some(middle), near[0], far[0], near[1]].into_iter().flatten();
        let in_file = order.filter(|place| (*from..*to).contains(place));
        in_file.filter_map(|place| self.chunks.get(place).copied()).collect()
    }
}

/// A place that the build before and a new file have in common: where it lies there, and in this one.
#[derive(Debug, Clone, Copy)]
struct Anchor {
    /// Of the build before.
    file: usize,
    old: u64,
    new: u64,
}

/// Says where a place of the new file was, between what stands around it.
fn place_before(low: Option<Anchor>, high: Option<Anchor>, at: u64) -> Option<(usize, u64)> {
    let after = |low: Anchor| low.old.saturating_add(at.saturating_sub(low.new));
    match (low, high) {
        (Some(low), Some(high)) if low.file == high.file && high.old >= low.old && high.new > low.new => {
            let part = u128::from(at.saturating_sub(low.new)) * u128::from(high.old - low.old);
            let part = part / u128::from(high.new - low.new);
            Some((low.file, low.old.saturating_add(u64::try_from(part).unwrap_or(u64::MAX))))
        }
        (Some(low), _) => Some((low.file, after(low))),
        (None, Some(high)) => Some((high.file, high.old.saturating_sub(high.new.saturating_sub(at)))),
        (None, None) => None,
    }
}

/// A chunk that is new, and what lay where it lies.
struct Fresh {
    index: u32,
    file: usize,
    around: Vec<u32>,
}

/// Finds the new chunks of a build, each at its first occurrence, by the pack that they were written to.
fn fresh_chunks(
    known: &ChunkIndex,
    packs: &HashSet<u32>,
    entries: &[Entry],
    before: &Before,
) -> HashMap<u32, Vec<Fresh>> {
    let mut out: HashMap<u32, Vec<Fresh>> = HashMap::new();
    let mut seen = HashSet::new();
    for (file, entry) in entries.iter().enumerate() {
        let indices: Vec<Option<u32>> = entry.chunks.iter().map(|chunk| known.index_of(&chunk.digest)).collect();
        let (starts, end) = crate::contents::starts(entry.chunks.iter().map(|chunk| chunk.len));
        let same = before.file(&entry.path);
        let is_fresh = |index: u32| known.at(index).is_some_and(|(pack, _)| packs.contains(&pack));
        let found: Vec<_> = indices.iter().map(|index| before.find((*index)?)).collect();
        // From the back: what of the build before comes next behind each chunk.
        let mut next = same.map(|(file, _, old)| Anchor { file, old, new: end });
        let mut high = vec![None; indices.len()];
        for ((high, found), start) in high.iter_mut().zip(&found).zip(&starts).rev() {
            *high = next;
            next = found.map(|(file, old, _)| Anchor { file, old, new: *start }).or(next);
        }
        let mut low = same.map(|(file, old, _)| Anchor { file, old, new: 0 });
        let ends = starts.iter().skip(1).chain([&end]);
        for (((index, found), high), (start, end)) in indices.iter().zip(found).zip(high).zip(starts.iter().zip(ends)) {
            low = found.map(|(file, _, old)| Anchor { file, old, new: *end }).or(low);
            let Some(index) = index.filter(|index| is_fresh(*index) && seen.insert(*index)) else { continue };
            let was = place_before(low, high, start + (end - start) / 2);
            let around = was.map_or_else(Vec::new, |(file, at)| before.around(file, at));
            if let Some((pack, _)) = known.at(index) {
                out.entry(pack).or_default().push(Fresh { index, file, around });
            }
        }
    }
    out
}

/// Old chunks by the samples that they have.
struct Pool(HashMap<u64, u32>);

impl Pool {
    /// Takes samples of what the build before had and the new one has not.
    fn of(before: &Before, known: &ChunkIndex, entries: &[Entry], whole: &Whole<'_>) -> Result<Self, StoreError> {
        let mut stays = vec![false; known.len()];
        for index in entries.iter().flat_map(|entry| &entry.chunks).filter_map(|chunk| known.index_of(&chunk.digest)) {
            if let Some(stays) = stays.get_mut(index as usize) {
                *stays = true;
            }
        }
        let mut seen = HashSet::new();
        let mut lost = before.chunks.iter().filter(|index| stays.get(**index as usize) == Some(&false));
        let mut wanted = Vec::new();
        while let (true, Some(index)) = (wanted.len() < MOST_LOST, lost.next()) {
            for base in whole.bases_of(*index) {
                if seen.insert(base) {
                    wanted.push(base);
                }
            }
        }
        let taken = map(&wanted, |index| {
            let raw =
                known.at(*index).and_then(|(_, entry)| whole.bases.read(&entry.digest).transpose()).transpose()?;
            Ok::<_, StoreError>((*index, raw.map_or_else(Vec::new, |raw| samples(&raw))))
        })?;
        let mut pool = HashMap::new();
        for (index, samples) in taken {
            for sample in samples {
                pool.entry(sample).or_insert(index);
            }
        }
        Ok(Self(pool))
    }

    /// Returns the old chunks that bytes have samples of, those with the most first, as far as they are needed for nearly all of them; and
    /// whether nearly all that the bytes have are among these.
    fn like(&self, raw: &[u8]) -> (Vec<u32>, bool) {
        let samples = samples(raw);
        let mut counts: Vec<(u32, usize)> = Vec::new();
        for index in samples.iter().filter_map(|sample| self.0.get(sample)) {
            match counts.iter_mut().find(|(known, _)| known == index) {
                Some((_, count)) => *count += 1,
                None => counts.push((*index, 1)),
            }
        }
        counts.sort_by_key(|(_, count)| Reverse(*count));
        let shared: usize = counts.iter().map(|(_, count)| count).sum();
        let is_nearly_all = |some: usize, of: usize| some * NEARLY_ALL.1 >= of * NEARLY_ALL.0;
        let mut taken = 0;
        let needed = counts.iter().take_while(|(_, count)| {
            let is_needed = !is_nearly_all(taken, shared);
            taken += count;
            is_needed
        });
        let needed = needed.map(|(index, _)| *index).collect();
        (needed, samples.len() >= FEW_SAMPLES && is_nearly_all(shared, samples.len()))
    }
}

/// Reads chunks that are whole.
struct Whole<'a> {
    known: &'a ChunkIndex,
    packs: OpenPacks<'a>,
    bases: StoreBases<'a>,
}

impl Whole<'_> {
    /// Returns what a chunk can be a base as: itself, or what it is a difference to. What cannot be read has nothing to offer.
    fn bases_of(&self, index: u32) -> Vec<u32> {
        let stored = match self.stored(index, |entry| entry.codec == Codec::Difference) {
            Ok(None) => return vec![index],
            Ok(Some((_, stored))) => stored,
            Err(_) => return Vec::new(),
        };
        let names = difference::split(&stored).map(|(names, _)| names).unwrap_or_default();
        names.iter().filter_map(|name| self.known.index_of(name)).collect()
    }

    /// Reads a chunk's stored bytes, if its entry is one of those that are wanted.
    fn stored(
        &self,
        index: u32,
        is_wanted: impl Fn(&ChunkEntry) -> bool,
    ) -> Result<Option<(ChunkEntry, Vec<u8>)>, StoreError> {
        let Some((number, entry)) = self.known.at(index).filter(|(_, entry)| is_wanted(entry)) else { return Ok(None) };
        let Some((pack, _)) = self.known.pack(number) else { return Ok(None) };
        Ok(Some((entry, self.packs.read(&pack, entry.offset, entry.stored_len)?)))
    }
}

/// What became of a new chunk.
struct Tried {
    /// As a difference, where that is worth it.
    difference: Option<Vec<u8>>,
    /// Whether nothing but its place spoke for one, and it was tried.
    by_place: bool,
}

/// Compares new chunks with others.
struct Comparing<'a> {
    whole: Whole<'a>,
    pool: Pool,
    compression: Compression,
    /// By file, how many chunks in a row were compared with what lay there, for nothing.
    in_vain: HashMap<usize, u32>,
}

impl Comparing<'_> {
    /// Compares the new chunks of a pack, in their order; none when somebody asked to stop.
    fn all(&mut self, chunks: &[Fresh], progress: &dyn Progress) -> Result<Option<Vec<Tried>>, StoreError> {
        let mut out = Vec::with_capacity(chunks.len());
        for some in chunks.chunks(AT_ONCE) {
            if progress.stopped() {
                return Ok(None);
            }
            let tried = map(some, |fresh| self.one(fresh))?;
            for (fresh, tried) in some.iter().zip(&tried).filter(|(_, tried)| tried.by_place) {
                let count = self.in_vain.entry(fresh.file).or_default();
                *count = if tried.difference.is_some() { 0 } else { *count + 1 };
            }
            out.extend(tried);
        }
        Ok(Some(out))
    }

    fn one(&self, fresh: &Fresh) -> Result<Tried, StoreError> {
        let Self { whole, pool, compression, in_vain } = self;
        let mut out = Tried { difference: None, by_place: false };
        let Some((_, entry)) = whole.known.at(fresh.index) else { return Ok(out) };
        let Some(raw) = whole.bases.read(&entry.digest)? else { return Ok(out) };
        let (mut chosen, is_enough) = pool.like(&raw);
        let by_place = chosen.is_empty();
        if !is_enough && (!by_place || in_vain.get(&fresh.file).is_none_or(|count| *count < TRIES)) {
            for index in &fresh.around {
                chosen.extend(whole.bases_of(*index));
            }
        }
        let mut seen = HashSet::new();
        chosen.retain(|index| seen.insert(*index) && *index != fresh.index);
        chosen.truncate(MAX_BASES);
        let digests = chosen.iter().rev().filter_map(|index| whole.known.at(*index)).map(|(_, entry)| entry.digest);
        let bases: Vec<_> = digests.filter_map(|digest| Some((digest, whole.bases.base(&digest)?))).collect();
        if bases.is_empty() {
            return Ok(out);
        }
        out.by_place = by_place;
        let is_worth_it = |bytes: &Vec<u8>| bytes.len() * 100 <= entry.whole_len as usize * WORTH_IT_PERCENT;
        out.difference = difference::write(&raw, &bases, *compression).filter(is_worth_it);
        Ok(out)
    }

    /// Returns how many bytes are saved.
    fn saved(&self, chunks: &[Fresh], tried: &[Tried]) -> u64 {
        let saved = chunks.iter().zip(tried).filter_map(|(fresh, tried)| {
            let (_, entry) = self.whole.known.at(fresh.index)?;
            Some(u64::from(entry.stored_len).saturating_sub(tried.difference.as_ref()?.len() as u64))
        });
        saved.sum()
    }
}

/// Packs that are being written in place of others.
struct Replacing<'a> {
    store: &'a Store,
    writer: PackWriter,
    /// What was written.
    done: Vec<(Digest, u32, Vec<ChunkEntry>)>,
}

impl Replacing<'_> {
    fn push(&mut self, (entry, stored): (ChunkEntry, Vec<u8>), difference: Option<Vec<u8>>) -> Result<(), StoreError> {
        match difference {
            Some(bytes) => self.writer.push_difference(&entry, &bytes),
            None => self.writer.copy(&entry, &stored),
        };
        if self.writer.is_full() { self.close() } else { Ok(()) }
    }

    fn close(&mut self) -> Result<(), StoreError> {
        self.done.extend(self.store.write_packed(&mut self.writer)?);
        Ok(())
    }
}

/// Thins packs that were just written, or by a run that was cut, and that nothing names yet: those of which much is saved are written once more
/// and removed. `earlier` is what the build before holds. Returns the bytes of those of `packs` that are removed, and of what was written in
/// their place; none when somebody asked to stop.
///
/// # Errors
/// [`StoreError`]; until all of it is written, everything stays.
pub(crate) fn thin(
    store: &Store,
    known: &mut ChunkIndex,
    packs: &[u32],
    entries: &[Entry],
    (earlier, compression): (Vec<Entry>, Compression),
    progress: &dyn Progress,
) -> Result<Option<(u64, u64)>, StoreError> {
    if earlier.is_empty() {
        return Ok(Some((0, 0)));
    }
    // What a run that was cut left, too.
    let notes = store.fresh()?;
    let own: HashSet<u32> = packs.iter().copied().collect();
    let left = notes.iter().filter_map(|name| known.number_of(name)).filter(|number| !own.contains(number));
    let packs: Vec<u32> = left.chain(packs.iter().copied()).collect();
    if packs.is_empty() {
        return Ok(Some((0, 0)));
    }
    let written = packs.iter().copied().collect();
    let before = Before::of(earlier, known, &written);
    let mut fresh = fresh_chunks(known, &written, entries, &before);
    let whole = Whole { known, packs: OpenPacks::of(store), bases: store.bases() };
    let pool = Pool::of(&before, known, entries, &whole)?;
    let mut comparing = Comparing { whole, pool, compression, in_vain: HashMap::new() };
    let mut replacing = Replacing { store, writer: PackWriter::new(), done: Vec::new() };
    let mut replaced = Vec::new();
    for number in &packs {
        let Some(((name, len), chunks)) = known.pack(*number).zip(fresh.remove(number)) else { continue };
        if store.pack_table(&name)?.1.len() != chunks.len() {
            // It holds something else: not ours to remove.
            continue;
        }
        let Some(tried) = comparing.all(&chunks, progress)? else { return Ok(None) };
        if comparing.saved(&chunks, &tried) * 100 < u64::from(len) * WORTH_WRITING_PERCENT {
            continue;
        }
        for (fresh, tried) in chunks.iter().zip(tried) {
            // Its pack goes: none may be left out.
            let missing = || StoreError::Missing { what: "the chunk", id: fresh.index.to_string() };
            let stored = comparing.whole.stored(fresh.index, |_| true)?.ok_or_else(missing)?;
            replacing.push(stored, tried.difference)?;
        }
        replaced.push((name, if own.contains(number) { u64::from(len) } else { 0 }));
    }
    replacing.close()?;
    // It holds packs open that go.
    drop(comparing);
    let mut bytes = 0;
    for (name, len, entries) in &replacing.done {
        bytes += u64::from(*len);
        let number = known.add_pack(*name, *len);
        entries.iter().for_each(|entry| known.replace(number, entry));
    }
    for (name, _) in &replaced {
        store.remove_pack(name)?;
    }
    Ok(Some((replaced.iter().map(|(_, len)| len).sum(), bytes)))
}

#[cfg(test)]
mod tests;
