//! Files that are not held in memory, or have no old one that they belong to: by the chunks that are there, and by what became of
//! the old ones that are not there any more.

use std::collections::{HashMap, HashSet};
use std::io;

use lantern_core::digest::Digest;
use lantern_core::parallel;

use super::pair::of_data;
use super::record::{self, Found, OfWhole, Sides, Tables};
use super::{APART, Build, Chunk, DROP, File, GIVE_UP, MAX_NEW_LEN, MAX_PROGRAM_LEN, MakeError, PRICE, Sink};
use crate::apply::{Files, Op};
use crate::matching::{Index, Match, Stopped, backwards, extend, forwards, split, without_holes};
use crate::programs::{self, Program};
use crate::walk::Copy;

/// Bytes of a gap that are worked on at a time.
const SLICE_LEN: u64 = 8 * 1024 * 1024;
/// Most bytes of lost chunks that are searched; those behind are not.
const MAX_POOL_LEN: usize = 256 * 1024 * 1024;
/// A sample is taken at every so many bytes of the pool, or more.
const STRIDE: usize = 8;
/// Places of one chunk that are looked at.
const MAX_SAME: usize = 64;
/// A match that is shorter costs about as much to write down as its bytes.
const MIN_MATCH: usize = 32;
/// One that is found near where it was is taken first when it is so long.
const MIN_NEAR: usize = 16384;
/// How far beyond a gap's own length is looked for what moved, in bytes.
const NEAR: usize = 64 * 1024;
/// Bytes from which a program's sections are read.
const HEAD_LEN: u64 = 64 * 1024;

/// A chunk of an old file.
#[derive(Debug, Clone, Copy)]
struct Placed {
    file: usize,
    offset: u64,
    chunk: Chunk,
}

/// Where the old chunks lie.
pub(super) struct Known {
    chunks: Vec<Placed>,
    first: HashMap<Digest, u32>,
    /// For each chunk the next one that is the same; itself where there is none.
    next: Vec<u32>,
}

fn placed(files: &[File]) -> impl Iterator<Item = Placed> {
    files.iter().enumerate().flat_map(|(file, of)| {
        of.chunks.iter().scan(0, move |at, chunk| {
            let offset = *at;
            *at += u64::from(chunk.len);
            Some(Placed { file, offset, chunk: *chunk })
        })
    })
}

impl Known {
    pub(super) fn of(files: &[File]) -> Self {
        let chunks: Vec<Placed> = placed(files).collect();
        let mut first = HashMap::with_capacity(chunks.len());
        let mut next = vec![0; chunks.len()];
        for (at, (placed, next)) in chunks.iter().zip(&mut next).enumerate().rev() {
            let at = u32::try_from(at).unwrap_or(u32::MAX);
            *next = first.insert(placed.chunk.digest, at).unwrap_or(at);
        }
        Self { chunks, first, next }
    }

    /// The old chunk that is the same and lies nearest to where the last copy would go on; without one the first.
    fn nearest(&self, digest: Digest, new: u64, last: Option<&Op>) -> Option<usize> {
        let mut at = *self.first.get(&digest)? as usize;
        let Some(Op { file, copy }) = last else { return Some(at) };
        let wanted = copy.old.wrapping_add(new.wrapping_sub(copy.new));
        let distance =
            |at: usize| self.chunks.get(at).map(|placed| (placed.file != *file, placed.offset.abs_diff(wanted)));
        let mut best = at;
        for _ in 0..MAX_SAME {
            if distance(at) < distance(best) {
                best = at;
            }
            match self.next.get(at) {
                Some(next) if *next as usize != at => at = *next as usize,
                _ => break,
            }
        }
        Some(best)
    }

    /// What is copied as whole chunks, neighbours joined.
    fn copies(&self, file: &File) -> Vec<Found> {
        let mut out: Vec<Found> = Vec::new();
        let (mut new, mut next) = (0, None);
        for chunk in &file.chunks {
            // The one that goes on where the last copy ended, or the first.
            let goes_on =
                next.filter(|at: &usize| self.chunks.get(*at).is_some_and(|p| p.chunk.digest == chunk.digest));
            let at = goes_on.or_else(|| self.nearest(chunk.digest, new, out.last().map(|last| &last.op)));
            if let Some(placed) = at.and_then(|at| self.chunks.get(at)) {
                let len = u64::from(chunk.len);
                match out.last_mut().map(|last| &mut last.op) {
                    Some(Op { file, copy })
                        if *file == placed.file
                            && copy.old + copy.len == placed.offset
                            && copy.new + copy.len == new =>
                    {
                        copy.len += len;
                    }
                    _ => {
                        let copy = Copy { new, old: placed.offset, len };
                        out.push(Found { op: Op { file: placed.file, copy }, is_same: true });
                    }
                }
            }
            next = at.map(|at| at + 1);
            new += u64::from(chunk.len);
        }
        out
    }
}

/// Old chunks that the new build does not have, one behind the other.
#[derive(Default)]
pub(super) struct Pool {
    bytes: Vec<u8>,
    /// Where each begins here, and where it lies.
    pieces: Vec<(usize, Placed)>,
}

impl Pool {
    pub(super) fn of(old: &dyn Build, new: &dyn Build, stopped: Stopped<'_>) -> io::Result<Self> {
        let there: HashSet<Digest> =
            new.files().iter().flat_map(|file| &file.chunks).map(|chunk| chunk.digest).collect();
        let mut seen = HashSet::new();
        let mut pool = Self::default();
        for lost in placed(old.files()) {
            if there.contains(&lost.chunk.digest) || !seen.insert(lost.chunk.digest) {
                continue;
            }
            let start = pool.bytes.len();
            if start + lost.chunk.len as usize > MAX_POOL_LEN || stopped() {
                break;
            }
            pool.bytes.resize(start + lost.chunk.len as usize, 0);
            old.read(lost.file, lost.offset, pool.bytes.get_mut(start..).unwrap_or_default())?;
            pool.pieces.push((start, lost));
        }
        Ok(pool)
    }

    pub(super) fn index(&self, stopped: Stopped<'_>) -> Option<Index<'_>> {
        (!self.bytes.is_empty()).then(|| Index::new(&self.bytes, STRIDE.max(self.bytes.len() >> 24), stopped))
    }

    /// Says where a match lies in the old files: in one for each piece that it touches, joined where pieces are neighbours there, too.
    fn placed(&self, found: Match, new_start: u64, out: &mut Vec<Found>) {
        let (mut at, end) = (found.old, found.old + found.len);
        while at < end {
            let number = self.pieces.partition_point(|(start, _)| *start <= at).saturating_sub(1);
            let Some((start, placed)) = self.pieces.get(number) else { return };
            let to = end.min(start + placed.chunk.len as usize);
            let copy = Copy {
                new: new_start + (found.new + (at - found.old)) as u64,
                old: placed.offset + (at - start) as u64,
                len: (to - at) as u64,
            };
            match out.last_mut().map(|last| &mut last.op) {
                Some(last)
                    if last.file == placed.file
                        && last.copy.old + last.copy.len == copy.old
                        && last.copy.new + last.copy.len == copy.new =>
                {
                    last.copy.len += copy.len;
                }
                _ => out.push(Found { op: Op { file: placed.file, copy }, is_same: false }),
            }
            at = to;
        }
    }
}

/// A part of a new file that no whole chunk gives, with what is copied right before and right behind it.
struct Gap {
    start: u64,
    end: u64,
    before: Option<Op>,
    behind: Option<Op>,
}

fn gaps(known: &[Found], size: u64) -> Vec<Gap> {
    let mut out = Vec::new();
    let mut add = |mut start: u64, end: u64, mut before: Option<Op>, behind: Option<Op>| {
        while start < end {
            let to = end.min(start + SLICE_LEN);
            out.push(Gap { start, end: to, before: before.take(), behind: behind.filter(|_| to == end) });
            start = to;
        }
    };
    let mut at = 0;
    let mut before = None;
    for Found { op, .. } in known {
        add(at, op.copy.new, before, Some(*op));
        at = op.copy.new + op.copy.len;
        before = Some(*op);
    }
    add(at, size, before, None);
    out
}

/// Where what a new file holds may be found.
pub(super) struct Sources<'a> {
    pub known: &'a Known,
    pub pool: &'a Pool,
    pub index: Option<&'a Index<'a>>,
    pub laid: &'a Files,
    pub stopped: Stopped<'a>,
}

pub(super) fn encode(
    old: &dyn Build,
    source: Option<usize>,
    new: &dyn Build,
    file: usize,
    sources: &Sources<'_>,
    out: Sink<'_>,
) -> Result<(), MakeError> {
    let Sources { known, pool, index, laid, stopped } = *sources;
    let Some(of) = new.files().get(file) else { return Ok(()) };
    let whole = known.copies(of);
    let sides = Sides { old, new, file, size: of.size, laid, stopped };
    let between = parallel::map(&gaps(&whole, of.size), |gap| fill(&sides, gap, pool, index))?;
    let mut found: Vec<Found> = whole.into_iter().chain(between.into_iter().flatten()).collect();
    found.sort_unstable_by_key(|found| found.op.copy.new);
    let copied: u64 = found.iter().map(|found| found.op.copy.len).sum();
    if of.size > MAX_NEW_LEN && copied < of.size / 8 {
        return Ok(());
    }
    // The old file that most comes from, whatever its name.
    let mut votes: HashMap<usize, u64> = HashMap::new();
    for Found { op, .. } in &found {
        *votes.entry(op.file).or_default() += op.copy.len;
    }
    let most = votes.into_iter().max_by_key(|(file, len)| (*len, std::cmp::Reverse(*file))).map(|(file, _)| file);
    let source = source.filter(|source| found.iter().any(|f| f.op.file == *source)).or(most);
    let tables = match source {
        Some(source) => tables(&sides, source, &found)?,
        None => None,
    };
    match record::as_one(&sides, source, &found, OfWhole { tables: tables.as_ref(), pages: &[] })? {
        Some((part, streams)) => out(part, streams),
        None => record::parts(&sides, source, &found, out),
    }
}

/// What a file says of itself as a program. Its head says it; of several programs in one file each has its own.
pub(super) fn program(build: &dyn Build, file: usize) -> io::Result<Option<Program>> {
    let len = build.files().get(file).map_or(0, |file| file.size);
    let read = |len: u64| {
        let mut bytes = vec![0; usize::try_from(len).unwrap_or(0)];
        build.read(file, 0, &mut bytes).map(|()| bytes)
    };
    let mut head = read(len.min(HEAD_LEN))?;
    if programs::is_several(&head) && len <= MAX_PROGRAM_LEN {
        head = read(len)?;
    }
    Ok(programs::is_program(&head).then(|| programs::read(&head, len)).flatten())
}

fn tables(sides: &Sides<'_>, source: usize, found: &[Found]) -> io::Result<Option<Tables>> {
    let programs = program(sides.old, source)?.zip(program(sides.new, sides.file)?);
    match programs.filter(|(old, new)| old.kind == new.kind) {
        Some((old, new)) => record::with_useful_kinds(sides, source, found, Tables { old: old.table, new: new.table }),
        None => of_data(sides, source, sides.old.files().get(source).map_or(0, |file| file.size), found),
    }
}

/// Says what of a gap is copied: what goes on before and behind it, and between them what is found in the pool.
fn fill(sides: &Sides<'_>, gap: &Gap, pool: &Pool, index: Option<&Index<'_>>) -> io::Result<Vec<Found>> {
    let len = usize::try_from(gap.end - gap.start).unwrap_or(usize::MAX);
    let mut new = vec![0; len];
    sides.new.read(sides.file, gap.start, &mut new)?;
    let size_of = |file: usize| sides.old.files().get(file).map_or(0, |file| file.size);
    let mut ahead = Vec::new();
    if let Some(Op { file, copy }) = gap.before {
        let from = copy.old + copy.len;
        ahead.resize(usize::try_from(size_of(file) - from).unwrap_or(usize::MAX).min(len + NEAR), 0);
        sides.old.read(file, from, &mut ahead)?;
    }
    let mut back = Vec::new();
    if let Some(Op { file, copy }) = gap.behind {
        let most = usize::try_from(copy.old).unwrap_or(usize::MAX).min(len + NEAR);
        back.resize(most, 0);
        sides.old.read(file, copy.old - most as u64, &mut back)?;
    }
    let mut front = forwards(&new, &ahead, PRICE, GIVE_UP);
    let mut tail = backwards(&new, &back, PRICE, GIVE_UP);
    if front + tail > len {
        let behind = back.len();
        let in_ahead = |at: usize| ahead.get(at) == new.get(at);
        let in_back = |at: usize| (behind + at).checked_sub(len).and_then(|at| back.get(at)) == new.get(at);
        front = split(len - tail, front, in_ahead, in_back);
        tail = len - front;
    }
    let has_middle = front + tail + MIN_MATCH <= len;
    let near = |file, offset, bytes| Near {
        file,
        offset,
        bytes,
        index: has_middle.then(|| Index::new(bytes, STRIDE, sides.stopped)),
    };
    let from_ahead = gap.before.map(|op| near(op.file, op.copy.old + op.copy.len, &ahead));
    let from_back = gap.behind.map(|op| near(op.file, op.copy.old - back.len() as u64, &back));
    let mut out = Vec::new();
    if let Some(near) = &from_ahead {
        near.place(&new, 0, Match { new: 0, old: 0, len: front }, gap.start, 0, &mut out);
    }
    // What lies between: long runs in what went on there once, then what is lost, then short runs nearby.
    let mut rest = vec![(front, len - tail)];
    let nearby = |min_len: usize, rest: &mut Vec<(usize, usize)>, out: &mut Vec<Found>| {
        for near in [&from_ahead, &from_back].into_iter().flatten() {
            if let Some(index) = &near.index {
                let place = |middle: &[u8], from, found, out: &mut Vec<Found>| {
                    near.place(middle, from, found, gap.start, min_len, out);
                };
                *rest = search(sides, &new, gap.start, rest, index, place, out);
            }
        }
    };
    nearby(MIN_NEAR, &mut rest, &mut out);
    if let Some(index) = index {
        let place = |middle: &[u8], from: usize, found, out: &mut Vec<Found>| {
            for part in without_holes(middle, &pool.bytes, found, PRICE, DROP) {
                if part.len >= MIN_MATCH {
                    pool.placed(part, gap.start + from as u64, out);
                }
            }
        };
        rest = search(sides, &new, gap.start, &rest, index, place, &mut out);
    }
    nearby(MIN_MATCH, &mut rest, &mut out);
    if let Some(near) = &from_back {
        let whole = Match { new: len - tail, old: back.len() - tail, len: tail };
        near.place(&new, 0, whole, gap.start, 0, &mut out);
    }
    Ok(out)
}

/// Bytes of an old file near to where a gap's would be.
struct Near<'a> {
    file: usize,
    offset: u64,
    bytes: &'a [u8],
    /// None where nothing is to be looked for.
    index: Option<Index<'a>>,
}

impl Near<'_> {
    /// Notes what agrees of a match. `middle` begins at `from` in the gap, and the gap at `start` in its file.
    fn place(&self, middle: &[u8], from: usize, found: Match, start: u64, min_len: usize, out: &mut Vec<Found>) {
        for part in without_holes(middle, self.bytes, found, PRICE, DROP) {
            if part.len >= min_len {
                let new = start + (from + part.new) as u64;
                let copy = Copy { new, old: self.offset + part.old as u64, len: part.len as u64 };
                out.push(Found { op: Op { file: self.file, copy }, is_same: false });
            }
        }
    }
}

/// Looks for parts of a gap that begins at `start` in its file; returns what is left of them.
fn search(
    sides: &Sides<'_>,
    new: &[u8],
    start: u64,
    parts: &[(usize, usize)],
    index: &Index<'_>,
    place: impl Fn(&[u8], usize, Match, &mut Vec<Found>),
    out: &mut Vec<Found>,
) -> Vec<(usize, usize)> {
    let mut rest = Vec::new();
    for (from, to) in parts {
        let middle = new.get(*from..*to).unwrap_or_default();
        let before = out.len();
        for found in extend(middle, index.bytes(), &index.anchors(middle, APART, sides.stopped), PRICE, GIVE_UP) {
            place(middle, *from, found, out);
        }
        let mut at = *from;
        for Found { op, .. } in out.get(before..).unwrap_or_default() {
            let begin = usize::try_from(op.copy.new - start).unwrap_or(usize::MAX);
            if begin > at {
                rest.push((at, begin));
            }
            at = begin + usize::try_from(op.copy.len).unwrap_or(usize::MAX);
        }
        if *to > at {
            rest.push((at, *to));
        }
    }
    rest
}
