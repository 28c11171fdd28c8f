//! Fetches what is missing and stages it.

use std::collections::{HashMap, HashSet};
use std::fs::{self, File};
use std::io::{self, BufReader, Read};
use std::path::{Path, PathBuf};
use std::sync::mpsc::RecvTimeoutError;
use std::sync::{Mutex, MutexGuard};
use std::time::Duration;

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::failpoint;
use lantern_core::parallel::{each, processors};
use lantern_core::progress::{Meter, Progress, Task};
use lantern_core::tree::{Node, Tree};

use super::fill::{Filler, Passed};
use super::journal::STAGE;
use super::plan::{self, Plan};
use super::state::Folder;
use super::writes::Writes;
use super::{InstallError, OldChunks, UpdateOffer, updates};
use crate::codec::Unpacker;
use crate::codec::difference::Bases;
use crate::durable;
use crate::fetch::{FETCHERS, Fetch, SMALL_FETCHERS, again, locate};
use crate::locator::Location;
use crate::pack::{ChunkEntry, PackError};
use crate::recipe::{ChunkRef, Entry};
use crate::room_left;

/// How often what has come is written to the disk.
const SYNC_EVERY: Duration = Duration::from_millis(250);
/// Longest range that is asked for at once, in bytes.
pub(super) const MAX_RANGE: u32 = 2 * 1024 * 1024;
/// Ranges up to here are small, in bytes.
const SMALL_RANGE: u32 = 256 * 1024;
/// Two chunks of one pack with so few bytes between them come in one range.
const MAX_GAP: u32 = 16 * 1024;

/// Puts the depots' entries together; what is not here already of their recipes is fetched.
pub(super) fn recipes(folder: &Folder, ids: &[RecipeId], fetch: &dyn Fetch) -> Result<Vec<Entry>, InstallError> {
    let all = folder.entries_of(ids, Some(fetch))?;
    // What depots share is there once; others must not share a path, and no link of one may lead out through another's.
    Tree::new(all.iter().map(|e| (e.path.clone(), e.node.clone()))).map_err(InstallError::Depots)?;
    Ok(all)
}

/// A place in a staged file that a chunk fills. There are as many as the build has chunks: nothing more is kept of each.
#[derive(Clone, Copy)]
pub(super) struct Slot {
    chunk: Digest,
    len: u32,
    file: u32,
    offset: u64,
}

impl Slot {
    /// The file, and the offset in it.
    pub(super) const fn place(&self) -> (u32, u64) {
        (self.file, self.offset)
    }

    #[cfg(test)]
    pub(super) const fn at(chunk: ChunkRef, (file, offset): (u32, u64)) -> Self {
        Self { chunk: chunk.digest, len: chunk.len, file, offset }
    }

    #[cfg(test)]
    pub(super) const fn chunk(&self) -> ChunkRef {
        ChunkRef { digest: self.chunk, len: self.len }
    }
}

/// Every slot of a build, those of one chunk side by side.
struct Slots(Vec<Slot>);

impl Slots {
    /// Those of all files but the ones that are `made` already.
    fn of(plan: &Plan<'_>, made: &HashSet<usize>) -> Self {
        let left = || plan.write.iter().zip(0_u32..).enumerate().filter(|(place, _)| !made.contains(place));
        // Counted first: a list that grows is there twice for a moment, and there may be millions.
        let mut slots = Vec::with_capacity(left().map(|(_, (entry, _))| entry.chunks.len()).sum());
        for (_, (entry, file)) in left() {
            let mut offset = 0;
            for chunk in &entry.chunks {
                slots.push(Slot { chunk: chunk.digest, len: chunk.len, file, offset });
                offset += u64::from(chunk.len);
            }
        }
        slots.sort_unstable_by_key(|slot| (slot.chunk, slot.file, slot.offset));
        Self(slots)
    }

    /// Those of a chunk; none for one that the build does not have.
    fn find(&self, chunk: &Digest) -> &[Slot] {
        let start = self.0.partition_point(|slot| slot.chunk < *chunk);
        let rest = self.0.get(start..).unwrap_or_default();
        rest.get(..rest.iter().take_while(|slot| slot.chunk == *chunk).count()).unwrap_or_default()
    }

    /// Those of each chunk.
    fn by_chunk(&self) -> impl Iterator<Item = &[Slot]> {
        self.0.chunk_by(|a, b| a.chunk == b.chunk)
    }
}

/// Consecutive bytes of a pack and the chunks in them.
struct Range {
    pack: Digest,
    start: u32,
    end: u32,
    chunks: Vec<ChunkEntry>,
}

impl Range {
    fn len(&self) -> u32 {
        self.end - self.start
    }
}

/// Stages every file of the plan, verified and on the disk; returns when the last look at what was written began.
pub(super) fn stage(
    folder: &Folder,
    plan: &Plan<'_>,
    (ids, new): (&[RecipeId], &[Entry]),
    (old_ids, old): (&[RecipeId], &[Entry]),
    offers: &[UpdateOffer],
    fetch: &dyn Fetch,
    progress: &dyn Progress,
) -> Result<jiff::Timestamp, InstallError> {
    let name = Folder::stage_name(ids);
    // A stage of another build is of no use any more.
    folder.remove_others(STAGE, Some(&name))?;
    let was_there = folder.state(&name).exists();
    let stage = folder.own_folder(&name)?;
    plan::prove(folder, plan, &stage)?;
    ask_for_room(folder, plan, was_there.then_some(stage.as_path()))?;
    let writes = Writes::begin(&stage).map_err(InstallError::io("open", &stage))?;
    for (file, entry) in plan.write.iter().enumerate() {
        let Node::File { size, .. } = entry.node else { continue };
        let path = stage.join(file.to_string());
        let made = failpoint::write().and_then(|()| open_staged(&path, was_there)?.set_len(size));
        made.map_err(InstallError::io("write", &path))?;
    }
    let made = updates::make(folder, plan, offers, [(old_ids, old), (ids, new)], (&stage, was_there), fetch, progress)?;
    let slots = Slots::of(plan, &made);
    let passed = Passed::none(&plan.write);
    let missing = gather_here(folder, plan, old, &slots, (Filler::new(&stage, &passed), was_there), progress)?;
    let receive = |chunks: &[Digest], compare| {
        let ranges = ranges(folder, ids, chunks, fetch)?;
        receive((&stage, &passed), &writes, &slots, (&ranges, compare), fetch, progress)
    };
    receive(&missing, Compare::Files)?;
    let mut verified = jiff::Timestamp::now();
    let staged = Staged { stage: &stage, plan, made: &made, passed: &passed };
    let size = |files: &[usize]| files.iter().filter_map(|file| plan.write.get(*file)).map(|e| e.node.size()).sum();
    let all: Vec<usize> = (0..plan.write.len()).collect();
    // Kept until everything is on the disk: the sync can take as long as the reading.
    let mut meter = progress.start(Task::Verify, Some(size(&all)));
    let wrong = staged.check(&all, &writes, &*meter, progress)?;
    if !wrong.is_empty() {
        drop(meter);
        // Something came wrong: once more only what did.
        receive(&staged.came_wrong(&wrong, &missing)?, Compare::Chunks)?;
        verified = jiff::Timestamp::now();
        meter = progress.start(Task::Verify, Some(size(&wrong)));
        if let Some(file) = staged.check(&wrong, &writes, &*meter, progress)?.first() {
            return Err(staged.wrong(*file)?);
        }
    }
    writes.finish(&stage).map_err(InstallError::io("bring to the disk", &stage))?;
    drop(meter);
    failpoint::pass();
    Ok(verified)
}

/// Puts into the stage what is here already; returns the chunks that are not, in order. `was_there` says whether an earlier run has left the
/// stage.
fn gather_here(
    folder: &Folder,
    plan: &Plan<'_>,
    old: &[Entry],
    slots: &Slots,
    (mut filler, was_there): (Filler<'_>, bool),
    progress: &dyn Progress,
) -> Result<Vec<Digest>, InstallError> {
    let stage = filler.stage();
    let old_chunks = index_old(old, plan, slots);
    let mut missing: Vec<Digest> = Vec::new();
    let mut runs: Vec<Run> = Vec::new();
    for slots in slots.by_chunk() {
        if progress.stopped() {
            return Err(InstallError::Stopped);
        }
        let Some(first) = slots.first() else { continue };
        // A stage that has just been made holds nothing yet.
        let staged = if was_there { from_stage(stage, first) } else { None };
        if let Some(bytes) = staged {
            // What was staged is written again: after an error of the disk the system may still show what it lost.
            filler.fill(&bytes, slots).map_err(InstallError::io("write", stage))?;
            continue;
        }
        let place =
            old_chunks.get(&first.chunk).and_then(|(file, offset)| Some((*file, *offset, old.get(*file as usize)?)));
        match place {
            // It was read a moment ago and found to be as it was brought; what comes of it is compared with its digest in the end.
            Some((file, offset, entry)) if plan.intact.contains(&entry.path) => {
                let run =
                    |slot: &Slot| Run { to: slot.file, at: slot.offset, from: file, offset, len: u64::from(slot.len) };
                runs.extend(slots.iter().map(run));
            }
            Some((_, offset, entry)) => {
                match read_chunk(&folder.path().join(entry.path.as_str()), offset, first.len, &first.chunk) {
                    Some(bytes) => filler.fill(&bytes, slots).map_err(InstallError::io("write", stage))?,
                    None => missing.push(first.chunk),
                }
            }
            None => missing.push(first.chunk),
        }
    }
    filler.flush().map_err(InstallError::io("write", stage))?;
    drop(old_chunks);
    copy_runs(folder, plan, old, runs, stage, progress)?;
    Ok(missing)
}

/// Bytes of an old file that go into a staged one as they are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Run {
    to: u32,
    at: u64,
    from: u32,
    offset: u64,
    len: u64,
}

/// Longest run that is copied at once, in bytes: someone may ask to stop.
pub(super) const MAX_RUN: u64 = 64 * 1024 * 1024;

/// Copies runs, neighbours at once, file by file of the stage.
fn copy_runs(
    folder: &Folder,
    plan: &Plan<'_>,
    old: &[Entry],
    mut runs: Vec<Run>,
    stage: &Path,
    progress: &dyn Progress,
) -> Result<(), InstallError> {
    use std::io::{Seek, SeekFrom};
    runs.sort_unstable();
    runs.dedup_by(|next, run| {
        let goes_on = next.to == run.to
            && next.from == run.from
            && next.at == run.at + run.len
            && next.offset == run.offset + run.len
            && run.len + next.len <= MAX_RUN;
        if goes_on {
            run.len += next.len;
        }
        goes_on
    });
    let files: Vec<&[Run]> = runs.chunk_by(|a, b| a.to == b.to).collect();
    let meter = progress.start(Task::Write, Some(runs.iter().map(|run| run.len).sum()));
    each(
        &files,
        processors(),
        || (),
        |(), _, runs| {
            let Some(first) = runs.first() else { return Ok(()) };
            let path = stage.join(first.to.to_string());
            let io = |e| InstallError::io("write", &path)(e);
            let mut staged = durable::open_own(&path, false).map_err(io)?;
            let mut source: Option<(u32, File)> = None;
            for run in *runs {
                if progress.stopped() {
                    return Err(InstallError::Stopped);
                }
                let file = match &mut source {
                    Some((number, file)) if *number == run.from => file,
                    other => {
                        let Some(entry) = old.get(run.from as usize) else { continue };
                        let path = folder.path().join(entry.path.as_str());
                        let file = plan::open_plain(&path).map_err(|error| plan.unlike_seen(&path, "read", error))?;
                        &mut other.insert((run.from, file)).1
                    }
                };
                staged.seek(SeekFrom::Start(run.at)).map_err(io)?;
                file.seek(SeekFrom::Start(run.offset)).map_err(io)?;
                failpoint::write().map_err(io)?;
                // Whether reading or writing failed, nobody says.
                let copied = io::copy(&mut file.take(run.len), &mut staged);
                let copied = copied.map_err(|error| plan.unlike_seen(&path, "write", error))?;
                if copied != run.len {
                    return Err(plan.unlike_seen(&path, "write", io::ErrorKind::UnexpectedEof.into()));
                }
                meter.add(run.len);
            }
            Ok(())
        },
    )
}

/// Opens a staged file, one of an earlier run where there was one. What has another name somewhere is someone else's file too, and is not
/// written to.
fn open_staged(path: &Path, may_be_there: bool) -> io::Result<File> {
    if !may_be_there {
        return File::create_new(path);
    }
    let foreign = fs::symlink_metadata(path).is_ok_and(|m| !m.is_file() || has_other_names(&m));
    if foreign {
        fs::remove_file(path)?;
    }
    durable::open_own(path, true)
}

#[cfg(unix)]
fn has_other_names(metadata: &fs::Metadata) -> bool {
    use std::os::unix::fs::MetadataExt;
    metadata.nlink() > 1
}

/// Windows says it only of open files, through calls of its own; no archive brings such files there.
#[cfg(not(unix))]
fn has_other_names(_: &fs::Metadata) -> bool {
    false
}

/// Room next to the staged files, in bytes: for recipes and the journal.
const SPARE_ROOM: u64 = 16 * 1024 * 1024;

/// Asks for the room that the plan takes, less what an earlier run has staged, if there was one.
fn ask_for_room(folder: &Folder, plan: &Plan<'_>, stage: Option<&Path>) -> Result<(), InstallError> {
    let needed: u64 = plan.write.iter().map(|entry| entry.node.size()).sum();
    let files = |stage: &Path| (0..plan.write.len()).map(|file| written(&stage.join(file.to_string()))).sum::<u64>();
    let needed = needed.saturating_sub(stage.map_or(0, files));
    if needed == 0 {
        return Ok(());
    }
    Ok(room_left::ask(folder.path(), needed.saturating_add(SPARE_ROOM))?)
}

/// Returns the bytes of a file that take room already.
#[cfg(unix)]
fn written(path: &Path) -> u64 {
    use std::os::unix::fs::MetadataExt;
    fs::symlink_metadata(path).map_or(0, |m| m.blocks().saturating_mul(512).min(m.len()))
}

/// Elsewhere a file takes all of its room from the start.
#[cfg(not(unix))]
fn written(path: &Path) -> u64 {
    fs::symlink_metadata(path).map_or(0, |m| m.len())
}

/// Where the old chunks lie that are wanted: of several places the one in a file that is as it was brought.
fn index_old(old: &[Entry], plan: &Plan<'_>, wanted: &Slots) -> OldChunks {
    let mut out = HashMap::new();
    for is_intact in [true, false] {
        for (entry, file) in old.iter().zip(0_u32..) {
            if plan.intact.contains(&entry.path) != is_intact {
                continue;
            }
            let mut offset = 0;
            for chunk in &entry.chunks {
                if !wanted.find(&chunk.digest).is_empty() {
                    out.entry(chunk.digest).or_insert((file, offset));
                }
                offset += u64::from(chunk.len);
            }
        }
    }
    out
}

/// What an interrupted run staged is used again, if it is what it should be.
fn from_stage(stage: &Path, slot: &Slot) -> Option<Vec<u8>> {
    read_chunk(&stage.join(slot.file.to_string()), slot.offset, slot.len, &slot.chunk)
}

fn read_chunk(path: &Path, offset: u64, len: u32, digest: &Digest) -> Option<Vec<u8>> {
    use std::io::{Read, Seek, SeekFrom};
    let mut file = plan::open_plain(path).ok()?;
    file.seek(SeekFrom::Start(offset)).ok()?;
    let mut bytes = vec![0; len as usize];
    file.read_exact(&mut bytes).ok()?;
    (Digest::of(&bytes) == *digest).then_some(bytes)
}

/// Finds the missing chunks, which are in order, in packs and joins neighbours.
///
/// What lies between two neighbours comes along, and so must be named by a locator, too: a storefront hands out nothing
/// else.
#[expect(clippy::indexing_slicing, reason = "reading the locator has checked its packs")]
fn ranges(
    folder: &Folder,
    ids: &[RecipeId],
    missing: &[Digest],
    fetch: &dyn Fetch,
) -> Result<Vec<Range>, InstallError> {
    let is_missing = |chunk: &Digest| missing.binary_search(chunk).is_ok();
    let locator = locate(&folder.segments_with(ids, &is_missing)?, fetch)?;
    let mut chunks: Vec<(u32, ChunkEntry)> = Vec::new();
    // By pack, offset and length: what is named and not missing.
    let mut between: Vec<(u32, u32, u32)> = Vec::new();
    for Location { pack, entry } in locator.locations() {
        match is_missing(&entry.digest) {
            true => chunks.push((*pack, *entry)),
            false => between.push((*pack, entry.offset, entry.stored_len)),
        }
    }
    if let Some(lost) = missing.iter().find(|chunk| locator.find(chunk).is_none()) {
        return Err(InstallError::Wrong { what: "a locator", why: format!("it does not know the chunk {lost}") });
    }
    let name = |number: u32| locator.packs[number as usize].0;
    chunks.sort_unstable_by_key(|(pack, entry)| (*pack, entry.offset));
    between.sort_unstable();
    let mut between = between.into_iter().peekable();
    let mut out: Vec<Range> = Vec::new();
    // Up to where, from the end of the last range on, everything is named.
    let mut named_to = (u32::MAX, 0);
    for (pack, entry) in chunks {
        let end = entry.offset.saturating_add(entry.stored_len);
        while let Some((p, offset, len)) = between.next_if(|(p, offset, _)| (*p, *offset) < (pack, entry.offset)) {
            if (p, offset) == named_to {
                named_to.1 = offset.saturating_add(len);
            }
        }
        match out.last_mut() {
            Some(range)
                if named_to == (pack, entry.offset)
                    && entry.offset - range.end <= MAX_GAP
                    && end.saturating_sub(range.start) <= MAX_RANGE =>
            {
                range.end = end;
                range.chunks.push(entry);
            }
            _ => out.push(Range { pack: name(pack), start: entry.offset, end, chunks: vec![entry] }),
        }
        named_to = (pack, end);
    }
    Ok(out)
}

/// What is compared with its digest while it comes.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Compare {
    /// Each file, behind the last of its chunks; and the first chunk of each range, so that a source of which everything comes wrong is
    /// refused at once.
    Files,
    /// Each chunk, too: something came wrong before.
    Chunks,
}

fn receive(
    (stage, passed): (&Path, &Passed<'_>),
    writes: &Writes,
    slots: &Slots,
    (ranges, compare): (&[Range], Compare),
    fetch: &dyn Fetch,
    progress: &dyn Progress,
) -> Result<(), InstallError> {
    if ranges.is_empty() {
        return Ok(());
    }
    let total = ranges.iter().map(|range| u64::from(range.len())).sum();
    let (meter, bases) = (progress.start(Task::Receive, Some(total)), fetch.bases());
    let (done, is_done) = std::sync::mpsc::channel::<()>();
    std::thread::scope(|scope| {
        // What has come is written to the disk while the rest comes: the last sync has little left to do.
        scope.spawn(move || {
            while is_done.recv_timeout(SYNC_EVERY) == Err(RecvTimeoutError::Timeout) {
                writes.start();
            }
        });
        let tools = Tools { stage, passed, free: Mutex::default() };
        let work = |(): &mut (), _, range: &&Range| {
            if progress.stopped() {
                return Err(InstallError::Stopped);
            }
            // What came well of it is written once more, which changes nothing.
            let once = || receive_range(&tools, slots, (range, compare), (fetch, &*bases));
            again(once, InstallError::is_wrong)?;
            meter.add(u64::from(range.len()));
            Ok(())
        };
        let (small, large): (Vec<&Range>, Vec<&Range>) = ranges.iter().partition(|range| range.len() <= SMALL_RANGE);
        let received = each(&large, FETCHERS, || (), work).and_then(|()| each(&small, SMALL_FETCHERS, || (), work));
        drop(done);
        received
    })
}

/// What a range is unpacked with, half a megabyte each: most fetchers wait for their range, and need none meanwhile.
struct Tools<'a> {
    stage: &'a Path,
    passed: &'a Passed<'a>,
    free: Mutex<Vec<(Unpacker, Filler<'a>)>>,
}

impl<'a> Tools<'a> {
    fn free(&self) -> MutexGuard<'_, Vec<(Unpacker, Filler<'a>)>> {
        self.free.lock().expect("nothing panics with the lock")
    }

    fn take(&self) -> (Unpacker, Filler<'a>) {
        let free = self.free().pop();
        free.unwrap_or_else(|| (Unpacker::new(), Filler::new(self.stage, self.passed)))
    }
}

fn receive_range(
    tools: &Tools<'_>,
    slots: &Slots,
    (range, compare): (&Range, Compare),
    (fetch, bases): (&dyn Fetch, &dyn Bases),
) -> Result<(), InstallError> {
    let len = range.len();
    let fetched = fetch.pack_range(&range.pack, range.start, len);
    let bytes = fetched.map_err(|source| InstallError::Fetch { what: "a part of a pack", source })?;
    if bytes.len() != len as usize {
        let why = format!("{} bytes came, {len} were asked for", bytes.len());
        return Err(InstallError::Wrong { what: "a part of a pack", why });
    }
    let (mut unpacker, mut filler) = tools.take();
    for (number, entry) in range.chunks.iter().enumerate() {
        let start = (entry.offset - range.start) as usize;
        let stored = bytes.get(start..start + entry.stored_len as usize).unwrap_or_default();
        let wrong = |e: PackError| InstallError::wrong("a chunk", e.is_newer(), &e);
        let slots = slots.find(&entry.digest);
        let stage = filler.stage();
        let room = filler.room_for(slots).map_err(InstallError::io("write", stage))?;
        let start = room.len();
        let unpacked = unpacker.unpack_behind(room, (entry.codec, stored), entry.raw_len as usize, bases);
        unpacked.map_err(|error| wrong(error.into()))?;
        let is_compared = number == 0 || compare == Compare::Chunks;
        if is_compared && Digest::of(room.get(start..).unwrap_or_default()) != entry.digest {
            return Err(wrong(PackError::Digest { expected: entry.digest }));
        }
        filler.place(slots).map_err(InstallError::io("write", stage))?;
    }
    filler.flush().map_err(InstallError::io("write", filler.stage()))?;
    // After an error nobody needs them as they are.
    tools.free().push((unpacker, filler));
    fetch.give_back(bytes);
    Ok(())
}

/// Files that are staged, to be compared with their digests.
struct Staged<'a> {
    stage: &'a Path,
    plan: &'a Plan<'a>,
    /// Those that came of update files, which are compared already.
    made: &'a HashSet<usize>,
    passed: &'a Passed<'a>,
}

impl Staged<'_> {
    fn path(&self, file: usize) -> PathBuf {
        self.stage.join(file.to_string())
    }

    /// Compares files with their digests, sets their bits, and begins to bring them to the disk; returns those that are not what they should
    /// be.
    fn check(
        &self,
        files: &[usize],
        writes: &Writes,
        meter: &dyn Meter,
        progress: &dyn Progress,
    ) -> Result<Vec<usize>, InstallError> {
        let wrong = Mutex::new(Vec::new());
        std::thread::scope(|scope| {
            // The disk is written while the processors read: what is left for the last sync is little.
            scope.spawn(|| writes.start());
            each(
                files,
                processors(),
                || (),
                |(), _, file| {
                    if !self.is_right(*file, meter, progress)? {
                        wrong.lock().expect("nothing panics with the lock").push(*file);
                    }
                    Ok::<(), InstallError>(())
                },
            )
        })?;
        let mut wrong = wrong.into_inner().expect("nothing panics with the lock");
        wrong.sort_unstable();
        Ok(wrong)
    }

    fn is_right(&self, file: usize, meter: &dyn Meter, progress: &dyn Progress) -> Result<bool, InstallError> {
        let node = self.plan.write.get(file).map(|entry| &entry.node);
        let Some(Node::File { size, digest, executable }) = node else { return Ok(true) };
        let path = self.path(file);
        if self.made.contains(&file) {
            meter.add(*size);
        } else {
            let found = self.passed.digest_of(file, &path, meter, progress);
            if progress.stopped() {
                return Err(InstallError::Stopped);
            }
            if found.map_err(InstallError::io("read", &path))? != *digest {
                return Ok(false);
            }
        }
        set_bit(&path, *executable).map_err(InstallError::io("set the executable bit of", &path))?;
        Ok(true)
    }

    /// Returns the chunks of files that are not what they should be, in order; they all came from the source.
    fn came_wrong(&self, files: &[usize], came: &[Digest]) -> Result<Vec<Digest>, InstallError> {
        let mut out = Vec::new();
        for file in files {
            let lost = self.lost_chunks(*file)?;
            if lost.is_empty() || lost.iter().any(|chunk| came.binary_search(chunk).is_err()) {
                return Err(self.wrong(*file)?);
            }
            out.extend(lost);
        }
        out.sort_unstable();
        out.dedup();
        Ok(out)
    }

    /// Why a file is not what it should be, when all that came was compared with its digest, or came from this computer.
    fn wrong(&self, file: usize) -> Result<InstallError, InstallError> {
        if !self.lost_chunks(file)?.is_empty() {
            let other = io::Error::other("the disk gives back other bytes than were written");
            return Ok(self.plan.unlike_seen(&self.path(file), "read back", other));
        }
        let path = self.plan.write.get(file).map(|entry| entry.path.to_string()).unwrap_or_default();
        let why = format!("the chunks of {path} do not give its content");
        Ok(InstallError::Wrong { what: "the recipe", why })
    }

    /// Returns those chunks of a file that are not what they should be.
    fn lost_chunks(&self, file: usize) -> Result<Vec<Digest>, InstallError> {
        let path = self.path(file);
        let chunks = self.plan.write.get(file).map(|entry| entry.chunks.as_slice()).unwrap_or_default();
        lost_chunks(&path, chunks).map_err(InstallError::io("read", &path))
    }
}

fn lost_chunks(path: &Path, chunks: &[ChunkRef]) -> io::Result<Vec<Digest>> {
    let mut file = BufReader::new(File::open(path)?);
    let mut bytes = Vec::new();
    let mut out = Vec::new();
    for chunk in chunks {
        bytes.clear();
        (&mut file).take(u64::from(chunk.len)).read_to_end(&mut bytes)?;
        if Digest::of(&bytes) != chunk.digest {
            out.push(chunk.digest);
        }
    }
    Ok(out)
}

#[cfg(unix)]
fn set_bit(path: &Path, executable: bool) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(path, fs::Permissions::from_mode(if executable { 0o755 } else { 0o644 }))
}

/// Windows has no such bit.
#[cfg(not(unix))]
fn set_bit(_: &Path, _: bool) -> io::Result<()> {
    Ok(())
}
