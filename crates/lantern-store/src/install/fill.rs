//! Writes chunks into staged files, neighbours at once, and hashes what goes by: what is known to be right need not be read back.

use std::collections::HashMap;
use std::fs::{self, File, Metadata};
use std::io;
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};

use lantern_core::digest::Digest;
use lantern_core::digest::blocks::{BLOCK, BLOCK_LEN, BlockHash};
use lantern_core::failpoint;
use lantern_core::progress::{Meter, Progress};
use lantern_core::stat_data::StatData;
use lantern_core::tree::Node;

use super::gather::Slot;
use super::plan;
use crate::durable;
use crate::recipe::Entry;

/// From how many bytes on what has come is written. Ours: the system takes more time for one write of each chunk.
const WRITE_LEN: usize = 512 * 1024;

/// What is known of the content of files that are staged, from what was written.
pub(super) struct Passed<'a> {
    files: &'a [&'a Entry],
    /// When each was last written to, in nanoseconds since 1970, as the file system says it: whoever else writes to one changes that.
    written: Vec<AtomicI64>,
    /// Those that were written whole at once, and have their digest.
    right: Vec<AtomicBool>,
    /// Of longer ones, the hashes of the blocks that were written whole at once.
    blocks: Mutex<HashMap<u32, HashMap<u64, BlockHash>>>,
}

impl<'a> Passed<'a> {
    /// Of files of which nothing was written yet.
    pub(super) fn none(files: &'a [&'a Entry]) -> Self {
        let written = files.iter().map(|_| AtomicI64::new(i64::MIN)).collect();
        Self { files, written, right: files.iter().map(|_| AtomicBool::new(false)).collect(), blocks: Mutex::default() }
    }

    /// Notes what was written to a file, and what the file system said of it then.
    fn note(&self, (file, start): (u32, u64), bytes: &[u8], metadata: &Metadata) {
        let at = file as usize;
        let known = (self.files.get(at), self.right.get(at), self.written.get(at));
        let (Some(entry), Some(right), Some(written)) = known else { return };
        written.fetch_max(StatData::of(metadata).modified_ns, Ordering::Relaxed);
        let Node::File { size, digest, .. } = &entry.node else { return };
        let end = start + bytes.len() as u64;
        if *size <= BLOCK_LEN {
            if (start, end) == (0, *size) {
                right.store(Digest::of(bytes) == *digest, Ordering::Relaxed);
            }
            return;
        }
        // What lies before the first block that begins here is of one that began before.
        let first = start.div_ceil(BLOCK_LEN);
        let skipped = usize::try_from(first * BLOCK_LEN - start).unwrap_or(usize::MAX);
        let rest = bytes.get(skipped..).unwrap_or_default();
        let is_whole = |block: &&[u8]| block.len() == BLOCK || end == *size;
        let whole = rest.chunks(BLOCK).take_while(is_whole).zip(first..);
        let hashed: Vec<(u64, BlockHash)> = whole.map(|(block, index)| (index, BlockHash::of(block, index))).collect();
        if hashed.is_empty() {
            return;
        }
        let mut blocks = self.blocks.lock().expect("nothing panics with the lock");
        blocks.entry(file).or_default().extend(hashed);
    }

    /// Returns the digest of a staged file; of what was written and hashed nothing is read, unless someone else wrote to it as well.
    pub(super) fn digest_of(
        &self,
        file: usize,
        path: &Path,
        meter: &dyn Meter,
        progress: &dyn Progress,
    ) -> io::Result<Digest> {
        let Some(Node::File { size, digest, .. }) = self.files.get(file).map(|entry| &entry.node) else {
            return Err(io::ErrorKind::InvalidInput.into());
        };
        let number = u32::try_from(file).unwrap_or(u32::MAX);
        let known = self.blocks.lock().expect("nothing panics with the lock").remove(&number);
        let now = fs::symlink_metadata(path)?;
        let written = self.written.get(file).map(|written| written.load(Ordering::Relaxed));
        let is_ours = now.is_file() && now.len() == *size && Some(StatData::of(&now).modified_ns) == written;
        if is_ours && self.right.get(file).is_some_and(|right| right.load(Ordering::Relaxed)) {
            meter.add(*size);
            return Ok(*digest);
        }
        let Some(known) = known.filter(|_| is_ours) else {
            return plan::hash_file(path, meter, progress);
        };
        let mut source = plan::open_plain(path)?;
        let mut buffer = vec![0; BLOCK];
        let mut blocks = Vec::new();
        for index in 0..size.div_ceil(BLOCK_LEN) {
            if progress.stopped() {
                return Err(io::ErrorKind::Interrupted.into());
            }
            blocks.push(match known.get(&index) {
                Some(hash) => *hash,
                None => BlockHash::read(&mut source, *size, index, &mut buffer)?,
            });
            meter.add((*size - index * BLOCK_LEN).min(BLOCK_LEN));
        }
        Ok(Digest::of_blocks(&blocks))
    }
}

/// Writes chunks into staged files.
pub(super) struct Filler<'a> {
    stage: &'a Path,
    passed: &'a Passed<'a>,
    /// The last one stays open, for neighbours mostly go to the same.
    open: Option<(u32, File)>,
    /// Where the bytes that wait go.
    next: (u32, u64),
    /// What is to be written at once.
    waiting: Vec<u8>,
    /// How much of it was placed.
    placed: usize,
}

impl<'a> Filler<'a> {
    pub(super) const fn new(stage: &'a Path, passed: &'a Passed<'a>) -> Self {
        Self { stage, passed, open: None, next: (0, 0), waiting: Vec::new(), placed: 0 }
    }

    pub(super) const fn stage(&self) -> &'a Path {
        self.stage
    }

    /// Puts a chunk into all of its places; it may wait for its neighbours until [`Self::flush`].
    pub(super) fn fill(&mut self, bytes: &[u8], slots: &[Slot]) -> io::Result<()> {
        self.room_for(slots)?.extend_from_slice(bytes);
        self.place(slots)
    }

    /// Gives the memory where a chunk for these places is to be put, behind what is there; what was put there and not placed is gone.
    pub(super) fn room_for(&mut self, slots: &[Slot]) -> io::Result<&mut Vec<u8>> {
        self.waiting.truncate(self.placed);
        let next = self.end();
        if self.placed == 0 || !slots.iter().any(|slot| slot.place() == next) {
            self.flush()?;
            self.next = slots.first().map_or(next, Slot::place);
        }
        Ok(&mut self.waiting)
    }

    /// Places the chunk that was put into the room for these places.
    #[expect(clippy::indexing_slicing, reason = "what waits never gets shorter than what was placed of it")]
    pub(super) fn place(&mut self, slots: &[Slot]) -> io::Result<()> {
        let next = self.end();
        let own = slots.iter().position(|slot| slot.place() == next);
        let waiting = std::mem::take(&mut self.waiting);
        let mut others = slots.iter().enumerate().filter(|(index, _)| Some(*index) != own);
        let written = others.try_for_each(|(_, slot)| self.write(slot.place(), &waiting[self.placed..]));
        self.waiting = waiting;
        written?;
        match own {
            Some(_) => self.placed = self.waiting.len(),
            None => self.waiting.truncate(self.placed),
        }
        if self.placed < WRITE_LEN {
            return Ok(());
        }
        // Up to where a block ends: what follows goes on with it.
        let (_, end) = self.end();
        let over = usize::try_from(end % BLOCK_LEN).unwrap_or(BLOCK);
        self.write_waiting(self.placed.saturating_sub(over))
    }

    /// Writes what waits.
    pub(super) fn flush(&mut self) -> io::Result<()> {
        self.write_waiting(self.placed)
    }

    /// Where the byte behind what waits goes.
    const fn end(&self) -> (u32, u64) {
        let (file, start) = self.next;
        (file, start + self.placed as u64)
    }

    #[expect(clippy::indexing_slicing, reason = "no more is written than waits")]
    fn write_waiting(&mut self, len: usize) -> io::Result<()> {
        let mut waiting = std::mem::take(&mut self.waiting);
        let (file, start) = self.next;
        let written = self.write((file, start), &waiting[..len]);
        waiting.drain(..len);
        self.next = (file, start + len as u64);
        self.placed -= len;
        self.waiting = waiting;
        written
    }

    fn write(&mut self, (number, offset): (u32, u64), bytes: &[u8]) -> io::Result<()> {
        if bytes.is_empty() {
            return Ok(());
        }
        let file = match &mut self.open {
            Some((open, file)) if *open == number => file,
            other => {
                let file = durable::open_own(&self.stage.join(number.to_string()), false)?;
                &mut other.insert((number, file)).1
            }
        };
        failpoint::write()?;
        durable::write_all_at(file, bytes, offset)?;
        self.passed.note((number, offset), bytes, &file.metadata()?);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use lantern_core::path::TreePath;
    use lantern_core::progress::Silent;
    use proptest::prelude::*;

    use super::*;
    use crate::recipe::ChunkRef;
    use crate::testing::noise;

    /// A file of so many bytes, in chunks of these lengths one after the other.
    fn file(bytes: &[u8], lens: &[usize]) -> Entry {
        let mut chunks = Vec::new();
        let mut rest = bytes;
        for len in lens.iter().cycle() {
            if rest.is_empty() {
                break;
            }
            let (chunk, after) = rest.split_at((*len).min(rest.len()));
            chunks.push(ChunkRef { digest: Digest::of(chunk), len: u32::try_from(chunk.len()).unwrap() });
            rest = after;
        }
        let node = Node::File { size: bytes.len() as u64, digest: Digest::of(bytes), executable: false };
        Entry { path: TreePath::new("a").unwrap(), node, chunks }
    }

    fn slots(entry: &Entry, file: u32) -> Vec<Slot> {
        let mut offset = 0;
        let place = |chunk: &ChunkRef| {
            let slot = Slot::at(*chunk, (file, offset));
            offset += u64::from(chunk.len);
            slot
        };
        entry.chunks.iter().map(place).collect()
    }

    /// Writes a file chunk by chunk, with the bytes that `bytes` begins with.
    fn fill_with(bytes: &[u8], filler: &mut Filler<'_>, (number, entry): (u32, &Entry)) {
        for slot in slots(entry, number) {
            let (_, offset) = slot.place();
            filler.fill(&bytes[offset as usize..][..slot.chunk().len as usize], &[slot]).unwrap();
        }
    }

    /// Stages files that all begin with the same bytes, and notes what was written.
    fn staged_with<'a>(bytes: &[u8], files: &'a [&'a Entry]) -> (tempfile::TempDir, Passed<'a>) {
        let stage = staged(files);
        let passed = Passed::none(files);
        let mut filler = Filler::new(stage.path(), &passed);
        for file in (0..).zip(files.iter().copied()) {
            fill_with(bytes, &mut filler, file);
        }
        filler.flush().unwrap();
        (stage, passed)
    }

    fn staged(entries: &[&Entry]) -> tempfile::TempDir {
        let stage = tempfile::tempdir().unwrap();
        for (number, entry) in entries.iter().enumerate() {
            File::create(stage.path().join(number.to_string())).unwrap().set_len(entry.node.size()).unwrap();
        }
        stage
    }

    #[test]
    fn what_was_written_in_one_go_is_not_read_back() {
        let bytes = noise(1, 3 * BLOCK + 77);
        let (large, small) = (file(&bytes, &[35_000]), file(&bytes[..90_000], &[35_000]));
        let files = [&large, &small];
        let (stage, passed) = staged_with(&bytes, &files);
        for (number, entry) in files.iter().enumerate() {
            let path = stage.path().join(number.to_string());
            let len = entry.node.size() as usize;
            assert_eq!(fs::read(&path).unwrap(), &bytes[..len]);
            // What is there is not looked at.
            let written = fs::metadata(&path).unwrap().modified().unwrap();
            fs::write(&path, vec![0; len]).unwrap();
            File::options().write(true).open(&path).unwrap().set_modified(written).unwrap();
            assert_eq!(passed.digest_of(number, &path, &Silent, &Silent).unwrap(), Digest::of(&bytes[..len]));
        }
    }

    #[test]
    fn what_someone_else_wrote_to_is_read() {
        let bytes = noise(1, 2 * BLOCK);
        let (large, small) = (file(&bytes, &[BLOCK]), file(&bytes[..90_000], &[90_000]));
        let files = [&large, &small];
        let (stage, passed) = staged_with(&bytes, &files);
        for (number, entry) in files.iter().enumerate() {
            let path = stage.path().join(number.to_string());
            let other = File::options().write(true).open(&path).unwrap();
            durable::write_all_at(&other, b"cleaned", 7).unwrap();
            let later = std::time::SystemTime::now() + std::time::Duration::from_millis(20);
            other.set_modified(later).unwrap();
            let found = passed.digest_of(number, &path, &Silent, &Silent).unwrap();
            assert_ne!(found, Digest::of(&bytes[..entry.node.size() as usize]));
            assert_eq!(found, Digest::of(&fs::read(&path).unwrap()));
        }
    }

    #[test]
    fn what_is_written_wrong_has_another_digest() {
        let bytes = noise(1, 3 * BLOCK);
        let (large, small) = (file(&bytes, &[BLOCK]), file(&bytes[..90_000], &[90_000]));
        for (entry, at) in [(&large, 300_000), (&small, 5)] {
            let files = [entry];
            let mut wrong = bytes[..entry.node.size() as usize].to_vec();
            wrong[at] ^= 1;
            let (stage, passed) = staged_with(&wrong, &files);
            let found = passed.digest_of(0, &stage.path().join("0"), &Silent, &Silent).unwrap();
            assert_eq!(found, Digest::of(&wrong));
        }
    }

    #[test]
    fn a_chunk_that_could_not_be_unpacked_leaves_nothing() {
        let bytes = noise(1, 200_000);
        let entry = file(&bytes, &[50_000]);
        let files = [&entry];
        let stage = staged(&files);
        let passed = Passed::none(&files);
        let mut filler = Filler::new(stage.path(), &passed);
        for slot in slots(&entry, 0) {
            let (_, offset) = slot.place();
            filler.room_for(&[slot]).unwrap().extend_from_slice(b"half of it, and then damage");
            filler.fill(&bytes[offset as usize..][..50_000], &[slot]).unwrap();
            // What nobody wants is put nowhere.
            filler.fill(b"unwanted", &[]).unwrap();
        }
        filler.flush().unwrap();
        assert_eq!(fs::read(stage.path().join("0")).unwrap(), bytes);
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

        /// Whatever the order in which chunks come, and whichever are in several files.
        #[test]
        fn files_are_written_and_known_in_any_order(
            lens in prop::collection::vec(1_usize..120_000, 1..6),
            sizes in prop::collection::vec(1_usize..1_500_000, 2),
            steps in prop::collection::vec(any::<u32>(), 64),
        ) {
            let bytes = noise(3, 1_500_000);
            let entries: Vec<Entry> = sizes.iter().map(|size| file(&bytes[..*size], &lens)).collect();
            let files: Vec<&Entry> = entries.iter().collect();
            let stage = staged(&files);
            let passed = Passed::none(&files);
            let mut filler = Filler::new(stage.path(), &passed);
            let mut all: HashMap<Digest, Vec<Slot>> = HashMap::new();
            for (number, entry) in (0..).zip(&files) {
                for slot in slots(entry, number) {
                    all.entry(slot.chunk().digest).or_default().push(slot);
                }
            }
            let mut order: Vec<Vec<Slot>> = all.into_values().collect();
            order.sort_by_key(|slots| slots[0].place().1);
            for step in steps {
                // Runs stay whole, and swap their places.
                let at = step as usize % order.len();
                order.rotate_left(at);
            }
            let cut = order.len() / 3;
            order[cut..].reverse();
            for slots in &order {
                let (_, offset) = slots[0].place();
                filler.fill(&bytes[offset as usize..][..slots[0].chunk().len as usize], slots).unwrap();
            }
            filler.flush().unwrap();
            for (number, size) in sizes.iter().enumerate() {
                let path = stage.path().join(number.to_string());
                prop_assert!(fs::read(&path).unwrap() == bytes[..*size]);
                let found = passed.digest_of(number, &path, &Silent, &Silent).unwrap();
                prop_assert_eq!(found, Digest::of(&bytes[..*size]));
            }
        }
    }
}
