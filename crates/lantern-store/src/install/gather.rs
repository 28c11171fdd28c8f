//! Fetches what is missing and stages it.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io;
use std::path::Path;
use std::sync::mpsc::RecvTimeoutError;
use std::time::Duration;

use lantern_core::bytes::ReadError;
use lantern_core::digest::{Digest, ManifestId};
use lantern_core::points;
use lantern_core::progress::{Meter, Progress, Task};
use lantern_core::tree::{Node, Tree};
use lantern_core::work::{each, processors};

use super::plan::{self, Plan};
use super::state::Folder;
use super::{InstallError, OldChunks};
use crate::codec::Unpacker;
use crate::durable;
use crate::fetch::Fetch;
use crate::locator::Locator;
use crate::manifest::{self, Entry, SegmentRef};
use crate::pack::{self, ChunkEntry};

/// How often what has come is written to the disk.
const SYNC_EVERY: Duration = Duration::from_millis(250);
/// Ranges that are fetched at a time.
const FETCHERS: usize = 4;
/// Longest range that is asked for at once, in bytes.
const MAX_RANGE: u32 = 4 * 1024 * 1024;
/// Two chunks of one pack with so few bytes between them come in one range.
const MAX_GAP: u32 = 16 * 1024;

/// Fetches manifests, segments that are not here already, and puts the depots' entries together.
pub(super) fn manifests(folder: &Folder, ids: &[ManifestId], fetch: &dyn Fetch) -> Result<Vec<Entry>, InstallError> {
    let mut all = Vec::new();
    for id in ids {
        let bytes = fetch.manifest(*id).map_err(|source| InstallError::Fetch { what: "the manifest", source })?;
        let here_or_fetched = |segment: &SegmentRef| segment_of(folder, segment, fetch);
        all.extend(manifest::assemble(*id, &bytes, here_or_fetched, InstallError::from)?.1);
        durable::write_whole(&folder.manifest_path(*id), &bytes)?;
    }
    all.sort_by(|a: &Entry, b| a.path.cmp(&b.path));
    // Equal entries of two depots are one; others must not share a path.
    all.dedup_by(|a, b| a.path == b.path && a.node == b.node);
    Tree::new(all.iter().map(|e| (e.path.clone(), e.node.clone()))).map_err(InstallError::Depots)?;
    Ok(all)
}

/// Returns a segment from an earlier installation, or fetches and keeps it.
fn segment_of(folder: &Folder, segment: &SegmentRef, fetch: &dyn Fetch) -> Result<Vec<u8>, InstallError> {
    let path = folder.segment_path(&segment.digest);
    let here = durable::read_limited(&path, manifest::MAX_SEGMENT_LEN).ok();
    if let Some(bytes) = here.filter(|bytes| Digest::of(bytes) == segment.digest) {
        return Ok(bytes);
    }
    let fetched = fetch.segment(&segment.digest);
    let bytes = fetched.map_err(|source| InstallError::Fetch { what: "a segment of the manifest", source })?;
    if Digest::of(&bytes) != segment.digest {
        return Err(manifest::ManifestError::Digest { what: "a segment of the manifest" }.into());
    }
    durable::write_whole(&path, &bytes)?;
    Ok(bytes)
}

/// A place in a staged file that a chunk fills. There are as many as the build has chunks: nothing more is kept of each.
#[derive(Clone, Copy)]
struct Slot {
    chunk: Digest,
    len: u32,
    file: u32,
    offset: u64,
}

/// Every slot of a build, those of one chunk side by side.
struct Slots(Vec<Slot>);

impl Slots {
    fn of(plan: &Plan<'_>) -> Self {
        let mut slots = Vec::new();
        for (entry, file) in plan.write.iter().zip(0..) {
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
        rest.get(..rest.partition_point(|slot| slot.chunk == *chunk)).unwrap_or_default()
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

/// Stages every file of the plan, verified; returns how many bytes came.
pub(super) fn stage(
    folder: &Folder,
    plan: &Plan<'_>,
    ids: &[ManifestId],
    old: &[Entry],
    fetch: &dyn Fetch,
    progress: &dyn Progress,
) -> Result<u64, InstallError> {
    let stage = folder.stage(ids);
    remove_other_stages(folder, &stage)?;
    let was_there = stage.exists();
    durable::create_folders(&stage)?;
    for (file, entry) in plan.write.iter().enumerate() {
        let Node::File { size, .. } = entry.node else { continue };
        let path = stage.join(file.to_string());
        let options = || OpenOptions::new().create(true).write(true).truncate(false).open(&path);
        let made = points::write().and_then(|()| options()?.set_len(size));
        made.map_err(InstallError::io("write", &path))?;
    }
    let slots = Slots::of(plan);
    let old_chunks = index_old(old, &slots);
    let mut filler = Filler::new(&stage);
    let mut missing: Vec<Digest> = Vec::new();
    for slots in slots.by_chunk() {
        let Some(first) = slots.first() else { continue };
        // A stage that has just been made holds nothing yet.
        let staged = if was_there { from_stage(&stage, first) } else { None };
        let local = staged.or_else(|| from_old(folder, &old_chunks, &first.chunk));
        if local.is_none_or(|bytes| filler.fill(&bytes, slots).is_err()) {
            missing.push(first.chunk);
        }
    }
    drop(old_chunks);
    let ranges = ranges(ids, missing, fetch)?;
    let total: u64 = ranges.iter().map(|r| u64::from(r.end - r.start)).sum();
    receive(&stage, &slots, &ranges, total, fetch, progress)?;
    finish_files(&stage, plan, progress)?;
    Ok(total)
}

/// A stage of another build is of no use any more.
fn remove_other_stages(folder: &Folder, current: &Path) -> Result<(), InstallError> {
    let state = folder.state("");
    for entry in fs::read_dir(&state).map_err(InstallError::io("list", &state))?.flatten() {
        let is_stage = entry.file_name().to_str().is_some_and(|n| n.starts_with("stage-"));
        if is_stage && entry.path() != current {
            let removed = points::remove().and_then(|()| fs::remove_dir_all(entry.path()));
            removed.map_err(InstallError::io("remove", &entry.path()))?;
        }
    }
    Ok(())
}

fn index_old<'a>(old: &'a [Entry], wanted: &Slots) -> OldChunks<'a> {
    let mut out = HashMap::new();
    for entry in old {
        let mut offset = 0;
        for chunk in &entry.chunks {
            if !wanted.find(&chunk.digest).is_empty() {
                out.entry(chunk.digest).or_insert((&entry.path, offset, chunk.len));
            }
            offset += u64::from(chunk.len);
        }
    }
    out
}

/// What an interrupted run staged is used again, if it is what it should be.
fn from_stage(stage: &Path, slot: &Slot) -> Option<Vec<u8>> {
    read_chunk(&stage.join(slot.file.to_string()), slot.offset, slot.len, &slot.chunk)
}

fn from_old(folder: &Folder, old: &OldChunks<'_>, digest: &Digest) -> Option<Vec<u8>> {
    let (path, offset, len) = old.get(digest)?;
    read_chunk(&folder.path().join(path.as_str()), *offset, *len, digest)
}

fn read_chunk(path: &Path, offset: u64, len: u32, digest: &Digest) -> Option<Vec<u8>> {
    use std::io::{Read, Seek, SeekFrom};
    if !fs::symlink_metadata(path).is_ok_and(|m| m.is_file()) {
        return None;
    }
    let mut file = File::open(path).ok()?;
    file.seek(SeekFrom::Start(offset)).ok()?;
    let mut bytes = vec![0; len as usize];
    file.read_exact(&mut bytes).ok()?;
    (Digest::of(&bytes) == *digest).then_some(bytes)
}

/// Writes chunks into staged files; the last file stays open, for neighbours mostly go to the same.
struct Filler<'a> {
    stage: &'a Path,
    open: Option<(u32, File)>,
}

impl<'a> Filler<'a> {
    fn new(stage: &'a Path) -> Self {
        Self { stage, open: None }
    }

    fn fill(&mut self, bytes: &[u8], slots: &[Slot]) -> io::Result<()> {
        use std::io::{Seek, SeekFrom, Write};
        for slot in slots {
            let file = match &mut self.open {
                Some((number, file)) if *number == slot.file => file,
                other => {
                    let file = OpenOptions::new().write(true).open(self.stage.join(slot.file.to_string()))?;
                    &mut other.insert((slot.file, file)).1
                }
            };
            file.seek(SeekFrom::Start(slot.offset))?;
            points::write()?;
            file.write_all(bytes)?;
        }
        Ok(())
    }
}

/// Finds the missing chunks, which are in order, in packs and joins neighbours.
fn ranges(ids: &[ManifestId], mut missing: Vec<Digest>, fetch: &dyn Fetch) -> Result<Vec<Range>, InstallError> {
    let mut packs: Vec<Digest> = Vec::new();
    let mut chunks: Vec<(u32, ChunkEntry)> = Vec::new();
    for id in ids {
        if missing.is_empty() {
            break;
        }
        let bytes = fetch.locator(*id).map_err(|source| InstallError::Fetch { what: "the locator", source })?;
        let wrong = |e: ReadError| InstallError::Wrong { what: "the locator", why: e.to_string() };
        let locator = Locator::decode(*id, &bytes).map_err(wrong)?;
        drop(bytes);
        let first = u32::try_from(packs.len()).expect("fewer than 2^32 packs");
        packs.extend(locator.packs.iter().map(|(pack, _)| *pack));
        missing.retain(|digest| match locator.find(digest) {
            Some(location) => {
                chunks.push((first + location.pack, location.entry));
                false
            }
            None => true,
        });
    }
    if let Some(lost) = missing.first() {
        return Err(InstallError::Wrong { what: "the locator", why: format!("it does not know the chunk {lost}") });
    }
    drop(missing);
    let name = |number: u32| packs[number as usize];
    chunks.sort_unstable_by_key(|(pack, entry)| (name(*pack), entry.offset));
    let mut out: Vec<Range> = Vec::new();
    for (pack, entry) in chunks {
        let pack = name(pack);
        let end = entry.offset.saturating_add(entry.stored_len);
        match out.last_mut() {
            Some(range)
                if range.pack == pack
                    && entry.offset.saturating_sub(range.end) <= MAX_GAP
                    && end.saturating_sub(range.start) <= MAX_RANGE =>
            {
                range.end = range.end.max(end);
                range.chunks.push(entry);
            }
            _ => out.push(Range { pack, start: entry.offset, end, chunks: vec![entry] }),
        }
    }
    Ok(out)
}

fn receive(
    stage: &Path,
    slots: &Slots,
    ranges: &[Range],
    total: u64,
    fetch: &dyn Fetch,
    progress: &dyn Progress,
) -> Result<(), InstallError> {
    if ranges.is_empty() {
        return Ok(());
    }
    let meter = progress.start(Task::Receive, Some(total));
    let (done, is_done) = std::sync::mpsc::channel::<()>();
    std::thread::scope(|scope| {
        // What has come is written to the disk while the rest comes: the last sync has little left to do.
        scope.spawn(move || {
            while is_done.recv_timeout(SYNC_EVERY) == Err(RecvTimeoutError::Timeout) {
                start_sync(stage);
            }
        });
        let received = each(
            ranges,
            FETCHERS,
            || (Unpacker::new(), Filler::new(stage)),
            |(unpacker, filler), _, range| {
                if progress.stopped() {
                    return Err(InstallError::Stopped);
                }
                receive_range(filler, slots, range, fetch, unpacker, &*meter)
            },
        );
        drop(done);
        received
    })
}

fn receive_range(
    filler: &mut Filler<'_>,
    slots: &Slots,
    range: &Range,
    fetch: &dyn Fetch,
    unpacker: &mut Unpacker,
    meter: &dyn Meter,
) -> Result<(), InstallError> {
    let len = range.end - range.start;
    let fetched = fetch.pack_range(&range.pack, range.start, len);
    let bytes = fetched.map_err(|source| InstallError::Fetch { what: "a part of a pack", source })?;
    if bytes.len() != len as usize {
        let why = format!("{} bytes came, {len} were asked for", bytes.len());
        return Err(InstallError::Wrong { what: "a part of a pack", why });
    }
    for entry in &range.chunks {
        let start = (entry.offset - range.start) as usize;
        let stored = bytes.get(start..start + entry.stored_len as usize).unwrap_or_default();
        let wrong = |e: pack::PackError| InstallError::Wrong { what: "a chunk", why: e.to_string() };
        let raw = pack::unpack(unpacker, entry, stored).map_err(wrong)?;
        filler.fill(raw, slots.find(&entry.digest)).map_err(InstallError::io("write", filler.stage))?;
    }
    meter.add(u64::from(len));
    Ok(())
}

/// Holds every staged file against its digest, sets its bit, and syncs them together.
fn finish_files(stage: &Path, plan: &Plan<'_>, progress: &dyn Progress) -> Result<(), InstallError> {
    // Kept until everything is on disk: the sync can take as long as the reading.
    let meter = progress.start(Task::Verify, Some(plan.write.iter().map(|e| e.node.size()).sum()));
    std::thread::scope(|scope| {
        // The disk is written while the processors read: what is left for the last sync is little.
        scope.spawn(|| start_sync(stage));
        each(&plan.write, processors(), || (), |(), file, entry| finish_file(stage, file, entry, &*meter, progress))
    })?;
    points::write().and_then(|()| sync_all(stage)).map_err(InstallError::io("sync", stage))
}

fn finish_file(
    stage: &Path,
    file: usize,
    entry: &Entry,
    meter: &dyn Meter,
    progress: &dyn Progress,
) -> Result<(), InstallError> {
    let Node::File { digest, executable, .. } = &entry.node else {
        return Ok(());
    };
    let path = stage.join(file.to_string());
    let found = plan::hash_file(&path, meter, progress);
    if progress.stopped() {
        return Err(InstallError::Stopped);
    }
    let found = found.map_err(InstallError::io("read", &path))?;
    if found != *digest {
        let why = format!("the chunks of {} do not give its content", entry.path);
        return Err(InstallError::Wrong { what: "the manifest", why });
    }
    set_bit(&path, *executable).map_err(InstallError::io("set the executable bit of", &path))
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

/// Begins to write to the disk what has been staged. Whether it worked is seen by the sync that follows.
#[cfg(target_os = "linux")]
fn start_sync(stage: &Path) {
    let _ = sync_all(stage);
}

/// Elsewhere each file would have to be opened for it; the sync that follows does that once.
#[cfg(not(target_os = "linux"))]
fn start_sync(_: &Path) {}

/// One sync of the whole disk is far cheaper than one for each of thousands of files.
#[cfg(target_os = "linux")]
pub(super) fn sync_all(stage: &Path) -> io::Result<()> {
    Ok(rustix::fs::syncfs(File::open(stage)?)?)
}

#[cfg(not(target_os = "linux"))]
fn sync_all(stage: &Path) -> io::Result<()> {
    for entry in fs::read_dir(stage)? {
        OpenOptions::new().write(true).open(entry?.path())?.sync_all()?;
    }
    Ok(())
}
