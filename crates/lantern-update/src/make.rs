//! Making an update file of two builds.

mod large;
mod pair;
mod record;

use std::collections::{HashMap, HashSet};
use std::io::{self, Write};
use std::sync::Mutex;

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::parallel;

use crate::apply::Files;
use crate::header::{Group, Header, MAX_GROUP_LEN, Part};
use crate::matching::Stopped;
use crate::streams::{self, COUNT, Streams};
use large::Pool;

/// A chunk of a file, as a recipe has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Chunk {
    /// Plain BLAKE3 of its bytes.
    pub digest: Digest,
    /// In bytes.
    pub len: u32,
}

/// A file of a build.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct File {
    /// Where, with `/` between its parts.
    pub path: String,
    /// In bytes.
    pub size: u64,
    /// Plain BLAKE3 of its content.
    pub digest: Digest,
    /// What it is made of, in order.
    pub chunks: Vec<Chunk>,
}

/// A build whose files can be read.
pub trait Build: Sync {
    /// Its files in the order of its recipe; what is no file does not count.
    fn files(&self) -> &[File];

    /// Reads bytes of one, all of which lie in it.
    ///
    /// # Errors
    /// The system's; also for what is damaged.
    fn read(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()>;
}

/// Why no update file was made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MakeError {
    /// A build could not be read.
    #[error("could not read a build")]
    Read(#[from] io::Error),
    /// What was made could not be put down.
    #[error("could not write")]
    Write(#[source] io::Error),
    /// It became larger than it may be: players get the chunks.
    #[error("an update file would not be smaller than what it stands for")]
    TooLarge,
    /// Someone asked to stop.
    #[error("nothing is half done")]
    Stopped,
}

/// What to make, and within which bounds.
pub struct Wanted<'a> {
    /// What is there.
    pub from: RecipeId,
    /// What shall be.
    pub to: RecipeId,
    /// Bytes that it may have at most.
    pub most: u64,
    /// Called with the bytes of each new file that is done.
    pub on: &'a (dyn Fn(u64) + Sync),
    /// Whether someone asks to stop. Looked at many times a second.
    pub stopped: &'a (dyn Fn() -> bool + Sync),
}

impl Wanted<'_> {
    /// An update file of any length between two recipes, that nobody watches and stops.
    pub fn between(from: RecipeId, to: RecipeId) -> Self {
        Self { from, to, most: u64::MAX, on: &|_| {}, stopped: &|| false }
    }
}

/// Programs of one path are compared in memory up to this size. It takes some three times as many bytes; few games have one that is larger.
const MAX_PROGRAM_LEN: u64 = 256 * 1024 * 1024;
/// Other files of one path up to this one.
const MAX_PAIR_LEN: u64 = 32 * 1024 * 1024;
/// Of a file with so many bytes that lie in other old files more is saved by taking them from there.
const MIN_ELSEWHERE: u64 = 64 * 1024;
/// Two pairs that are larger than this wait for each other.
const BIG_PAIR_LEN: u64 = 24 * 1024 * 1024;
/// Files are worked on together up to so many bytes.
const BATCH_LEN: u64 = 96 * 1024 * 1024;
/// A file that is larger than this and is new for the most part is left to its chunks.
const MAX_NEW_LEN: u64 = 16 * 1024 * 1024;
/// A group is closed with so many bytes in its streams. Small enough to begin again at after a break; solid enough to cost
/// some hundredths only.
const GROUP_LEN: usize = 8 * 1024 * 1024;
/// Bytes of streams up to which they are packed as well as can be, and up to which well: beyond them it would take too long.
const BEST_LEN: usize = 64 * 1024 * 1024;
const GOOD_LEN: usize = 512 * 1024 * 1024;

/// What a byte that differs costs of those that agree, in what is no program.
const PRICE: i64 = 3;
/// So much may be lost since the best before an extension ends.
const GIVE_UP: i64 = 256;
/// After so many bytes that are not alike that was the case.
const APART: usize = (GIVE_UP / PRICE) as usize;
/// Where the score falls so far below its best, the rest is literal.
const DROP: i64 = 24;

/// Takes the parts of a file as they are done.
type Sink<'a> = &'a mut dyn FnMut(Part, Streams) -> Result<(), MakeError>;

/// How a file is to be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Job {
    /// Compared in memory with an old one.
    Pair { new: usize, old: usize },
    /// By its chunks, and what has become of the others.
    Large { new: usize, old: Option<usize> },
}

/// Makes an update file: writes its groups, one behind the other, to `groups`, and returns the bytes that go before them.
///
/// # Errors
/// [`MakeError`].
pub fn make(
    old: &dyn Build,
    new: &dyn Build,
    wanted: &Wanted<'_>,
    groups: &mut dyn Write,
) -> Result<Vec<u8>, MakeError> {
    let mut out = Groups {
        out: groups,
        most: wanted.most,
        stopped: wanted.stopped,
        done: Vec::new(),
        open: Open::default(),
        closed: Vec::new(),
        packed: 0,
        len: 0,
    };
    // What it searches in is gone before the last groups are packed, which takes as much memory.
    add_parts(old, new, wanted, &mut out)?;
    out.close();
    out.pack()?;
    let (header, bytes) = Header::new(wanted.from, wanted.to, out.done);
    if header.total_len() > wanted.most { Err(MakeError::TooLarge) } else { Ok(bytes) }
}

/// Finds for each file of the new build where it comes from, and adds its parts.
fn add_parts(old: &dyn Build, new: &dyn Build, wanted: &Wanted<'_>, out: &mut Groups<'_>) -> Result<(), MakeError> {
    let (old_files, new_files) = (old.files(), new.files());
    let sizes: Vec<u64> = old_files.iter().map(|file| file.size).collect();
    let laid = Files::of(&sizes);
    let jobs = jobs(old_files, new, old)?;
    // Only what has no old file of its own, or is too long for memory, is looked for everywhere.
    let is_everywhere = jobs.iter().any(|job| matches!(job, Job::Large { .. }));
    let pool = if is_everywhere { Pool::of(old, new, wanted.stopped)? } else { Pool::default() };
    let index = pool.index(wanted.stopped);
    let known = large::Known::of(if is_everywhere { old_files } else { &[] });
    let sources =
        large::Sources { known: &known, pool: &pool, index: index.as_ref(), laid: &laid, stopped: wanted.stopped };
    let one_big = Mutex::new(());
    let size = |new: usize| new_files.get(new).map_or(0, |file| file.size);
    let work = |job: &Job, out: Sink<'_>| {
        let (Job::Pair { new: file, .. } | Job::Large { new: file, .. }) = *job;
        let done = match *job {
            Job::Pair { old: source, .. } => {
                let _waits = (size(file) > BIG_PAIR_LEN).then(|| one_big.lock().expect("nothing panics with the lock"));
                pair::encode(old, source, new, file, &laid, wanted.stopped, out)
            }
            Job::Large { old: source, .. } => large::encode(old, source, new, file, &sources, out),
        };
        // What was found until then may be anything.
        if (wanted.stopped)() {
            return Err(MakeError::Stopped);
        }
        (wanted.on)(size(file));
        done
    };
    let mut rest = jobs.as_slice();
    while !rest.is_empty() {
        let (batch, after) = rest.split_at(batch(rest, new_files));
        rest = after;
        // One that is as large as many may have more parts than should be in memory.
        if let [one] = batch {
            work(one, &mut |part, streams| out.add(part, streams))?;
            continue;
        }
        let made = parallel::map(batch, |job| {
            let mut parts = Vec::new();
            work(job, &mut |part, streams| {
                parts.push((part, streams));
                Ok(())
            })?;
            Ok::<_, MakeError>(parts)
        })?;
        for (part, streams) in made.into_iter().flatten() {
            out.add(part, streams)?;
        }
    }
    Ok(())
}

/// Bytes that are compressed before it is asked again whether to stop.
const COMPRESS_LEN: usize = 128 * 1024;

/// Makes one Zstandard frame with its content size.
fn compress(bytes: &[u8], level: i32, stopped: Stopped<'_>) -> Result<Vec<u8>, MakeError> {
    let mut encoder = zstd::stream::write::Encoder::new(Vec::new(), level).map_err(MakeError::Write)?;
    encoder.set_pledged_src_size(Some(bytes.len() as u64)).map_err(MakeError::Write)?;
    for piece in bytes.chunks(COMPRESS_LEN) {
        if stopped() {
            return Err(MakeError::Stopped);
        }
        encoder.write_all(piece).map_err(MakeError::Write)?;
    }
    encoder.finish().map_err(MakeError::Write)
}

/// How many jobs are worked on together.
fn batch(jobs: &[Job], files: &[File]) -> usize {
    let mut len = 0;
    let fits = jobs.iter().take_while(|job| {
        let (Job::Pair { new, .. } | Job::Large { new, .. }) = job;
        let before = len;
        len += files.get(*new).map_or(0, |file| file.size);
        before == 0 || len <= BATCH_LEN
    });
    fits.count().max(1)
}

/// What has to be made: files whose content no old file has.
fn jobs(old: &[File], new_build: &dyn Build, old_build: &dyn Build) -> Result<Vec<Job>, MakeError> {
    let there: HashSet<Digest> = old.iter().map(|file| file.digest).collect();
    let paths: HashMap<&str, usize> = old.iter().enumerate().map(|(at, file)| (file.path.as_str(), at)).collect();
    let new = new_build.files();
    let left: Vec<usize> =
        (0..new.len()).filter(|at| new.get(*at).is_some_and(|f| !there.contains(&f.digest))).collect();
    let kept: HashSet<&str> = new.iter().map(|file| file.path.as_str()).collect();
    let owners = Owners::of(old);
    let mut jobs = Vec::with_capacity(left.len());
    for at in left {
        let Some(file) = new.get(at) else { continue };
        if file.size == 0 {
            continue;
        }
        let source = paths.get(file.path.as_str()).copied();
        // One that has another name: by what they share, then by the name alone, of a file that is not there any more.
        let source = source.or_else(|| owners.nearest(file)).or_else(|| {
            let name = |path: &str| path.rsplit('/').next().unwrap_or_default().to_owned();
            let mut alike = old.iter().enumerate().filter(|(_, of)| {
                !kept.contains(of.path.as_str())
                    && name(&of.path) == name(&file.path)
                    && of.size / 2 <= file.size
                    && file.size / 2 <= of.size
            });
            alike.next().filter(|_| alike.next().is_none()).map(|(at, _)| at)
        });
        let pair = match source.and_then(|source| Some((source, old.get(source)?))) {
            Some((source, of)) if of.size > 0 => {
                let larger = of.size.max(file.size);
                // A program may have the game's data behind it, for which the search by chunks is better.
                let is_program = |build: &dyn Build, file: usize| {
                    let program = large::program(build, file);
                    program.map(|program| program.is_some_and(|program| program.own_len() >= larger / 8))
                };
                let limit = match larger > MAX_PAIR_LEN && larger <= MAX_PROGRAM_LEN {
                    true if is_program(old_build, source)? && is_program(new_build, at)? => MAX_PROGRAM_LEN,
                    _ => MAX_PAIR_LEN,
                };
                // What came here from another file, only the search by chunks finds.
                let is_pair = larger <= limit
                    && (owners.len_elsewhere(file, of) < MIN_ELSEWHERE || large::program(new_build, at)?.is_some());
                is_pair.then_some(source)
            }
            _ => None,
        };
        jobs.push(match pair {
            Some(old) => Job::Pair { new: at, old },
            None => Job::Large { new: at, old: source },
        });
    }
    Ok(jobs)
}

/// In which old file each chunk lies first, by the first bytes of its digest: there may be millions, and a mistake costs bytes alone.
struct Owners(HashMap<u64, usize>);

impl Owners {
    fn of(old: &[File]) -> Self {
        let mut owners = HashMap::new();
        for (at, file) in old.iter().enumerate() {
            for chunk in &file.chunks {
                owners.entry(Self::key(chunk)).or_insert(at);
            }
        }
        Self(owners)
    }

    fn key(chunk: &Chunk) -> u64 {
        chunk.digest.as_bytes().first_chunk().map_or(0, |first| u64::from_le_bytes(*first))
    }

    /// The old file with which a new one shares the most bytes in whole chunks.
    fn nearest(&self, new: &File) -> Option<usize> {
        let mut votes: HashMap<usize, u64> = HashMap::new();
        for chunk in &new.chunks {
            if let Some(old) = self.0.get(&Self::key(chunk)) {
                *votes.entry(*old).or_default() += u64::from(chunk.len);
            }
        }
        votes.into_iter().max_by_key(|(old, len)| (*len, std::cmp::Reverse(*old))).map(|(best, _)| best)
    }

    /// How many bytes of a new file are whole chunks of old ones, and not of its own.
    fn len_elsewhere(&self, new: &File, own: &File) -> u64 {
        let own: HashSet<u64> = own.chunks.iter().map(Self::key).collect();
        let is_elsewhere = |chunk: &&Chunk| {
            let key = Self::key(chunk);
            !own.contains(&key) && self.0.contains_key(&key)
        };
        new.chunks.iter().filter(is_elsewhere).map(|chunk| u64::from(chunk.len)).sum()
    }
}

/// The group that is being filled.
#[derive(Default)]
struct Open {
    parts: Vec<Part>,
    streams: Streams,
}

/// Collects parts into groups, packs them, and puts them down in order.
struct Groups<'a> {
    out: &'a mut dyn Write,
    most: u64,
    stopped: Stopped<'a>,
    done: Vec<Group>,
    open: Open,
    closed: Vec<Open>,
    /// Bytes of all streams that were packed.
    packed: usize,
    len: u64,
}

impl Groups<'_> {
    fn add(&mut self, part: Part, streams: Streams) -> Result<(), MakeError> {
        let len = streams::len(&streams);
        if len > MAX_GROUP_LEN {
            return Err(MakeError::TooLarge);
        }
        if streams::len(&self.open.streams) + len > MAX_GROUP_LEN {
            self.close();
        }
        self.open.parts.push(part);
        for (to, from) in self.open.streams.iter_mut().zip(&streams) {
            to.extend(from);
        }
        if streams::len(&self.open.streams) >= GROUP_LEN {
            self.close();
            // As many as there are processors to pack them.
            if self.closed.len() >= parallel::processors() {
                self.pack()?;
            }
        }
        Ok(())
    }

    fn close(&mut self) {
        if !self.open.parts.is_empty() {
            self.closed.push(std::mem::take(&mut self.open));
        }
    }

    fn pack(&mut self) -> Result<(), MakeError> {
        let closed = std::mem::take(&mut self.closed);
        self.packed += closed.iter().map(|group| streams::len(&group.streams)).sum::<usize>();
        let level = match self.packed {
            packed if packed <= BEST_LEN => 19,
            packed if packed <= GOOD_LEN => 12,
            _ => 5,
        };
        // The longest first: it is the one that all others wait for.
        let mut streams: Vec<(usize, usize, &[u8])> = Vec::new();
        for (group, open) in closed.iter().enumerate() {
            streams.extend(open.streams.iter().enumerate().map(|(number, bytes)| (group, number, bytes.as_slice())));
        }
        streams.sort_by_key(|(_, _, bytes)| std::cmp::Reverse(bytes.len()));
        let packed = parallel::map(&streams, |(group, number, bytes)| {
            let packed = if bytes.is_empty() { Vec::new() } else { compress(bytes, level, self.stopped)? };
            Ok::<_, MakeError>((*group, *number, packed))
        });
        let mut packed = packed?;
        packed.sort_by_key(|(group, number, _)| (*group, *number));
        let mut packed = packed.into_iter();
        for open in closed {
            let mut stored = Vec::new();
            let (mut raw_lens, mut stored_lens) = ([0; COUNT], [0; COUNT]);
            let lens = raw_lens.iter_mut().zip(&mut stored_lens).zip(&open.streams);
            for ((raw, len), bytes) in lens {
                let (_, _, one) = packed.next().expect("one for each stream");
                let fits = "a group is far shorter";
                (*raw, *len) = (u32::try_from(bytes.len()).expect(fits), u32::try_from(one.len()).expect(fits));
                stored.extend(one);
            }
            self.len += stored.len() as u64;
            if self.len > self.most {
                return Err(MakeError::TooLarge);
            }
            self.out.write_all(&stored).map_err(MakeError::Write)?;
            let digest = Digest::of(&stored);
            self.done.push(Group { parts: open.parts, raw: raw_lens, stored: stored_lens, digest, offset: 0 });
        }
        Ok(())
    }
}
