//! What was found becomes the streams of a part.

use std::io;

use super::{Build, MakeError, Sink};
use crate::apply::{Files, HAS_PAGES, HAS_TABLES, Op};
use crate::fields::Field;
use crate::header::Part;
use crate::matching::Stopped;
use crate::pages::Pages;
use crate::streams::{Streams, len, stream};
use crate::table::Table;
use crate::varint;
use crate::walk::{Addresses, Copy, Moved, PIECE_LEN, Stretch, Truth, stretches};

/// A part of a file ends with so many bytes in its streams.
const PART_LEN: usize = 16 * 1024 * 1024;
/// One that is a whole file may have so many.
const ONE_PART_LEN: usize = 64 * 1024 * 1024;
/// Bytes that are compared at a time where no fields are.
const RUN_LEN: usize = 1024 * 1024;

/// Something copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Found {
    pub op: Op,
    /// Whether it is known to be the same: a whole chunk.
    pub is_same: bool,
}

/// What is needed to read both files.
pub(super) struct Sides<'a> {
    pub old: &'a dyn Build,
    pub new: &'a dyn Build,
    pub file: usize,
    pub size: u64,
    pub laid: &'a Files,
    pub stopped: Stopped<'a>,
}

/// What is said of a file that is made as a whole, and of no other.
#[derive(Clone, Copy, Default)]
pub(super) struct OfWhole<'a> {
    pub tables: Option<&'a Tables>,
    pub pages: &'a [Pages],
}

impl OfWhole<'_> {
    fn is_none(&self) -> bool {
        self.tables.is_none() && self.pages.is_empty()
    }
}

/// A file's address tables, and the old file that they belong to.
pub(super) struct Tables {
    pub old: Table,
    pub new: Table,
}

/// Tries all kinds of fields that each row may hold, and keeps those whose prediction repairs more than it breaks.
pub(super) fn with_useful_kinds(
    sides: &Sides<'_>,
    source: usize,
    found: &[Found],
    tables: Tables,
) -> io::Result<Option<Tables>> {
    let mut scores = Scores::by_row(tables.old.rows().len());
    score(sides, source, found, &tables, &mut scores)?;
    let useful = |row: usize, kinds: u16| {
        let of = scores.of.get(row).copied().unwrap_or_default();
        (0..16).filter(|bit| of.get(*bit as usize).is_some_and(|score| *score > 0)).map(|bit| kinds & (1 << bit)).sum()
    };
    let old = tables.old.with_kinds(|row, of| useful(row, of.kinds));
    let new = tables.new.with_kinds(|_, _| 0);
    Ok(old.has_fields().then_some(Tables { old, new }))
}

/// Walks over everything that is copied from the source, and counts how often each kind is predicted well.
pub(super) fn score(
    sides: &Sides<'_>,
    source: usize,
    found: &[Found],
    tables: &Tables,
    scores: &mut Scores,
) -> io::Result<()> {
    let copies: Vec<Copy> = found.iter().filter(|f| f.op.file == source).map(|f| f.op.copy).collect();
    let moved = Moved::of(&copies);
    let mut addresses = Addresses::new(&tables.old, &tables.new, &moved);
    let mut piece = vec![0; PIECE_LEN];
    // Of what is no program, what did not change is not read: its offsets did not move.
    let is_by_block = scores.by_block;
    for of in found.iter().filter(|f| f.op.file == source && !(f.is_same && is_by_block)) {
        let copy = of.op.copy;
        for stretch in stretches(copy, Some(&tables.old)) {
            let Some(row) = stretch.row else { continue };
            pieces(sides, of.op, stretch, &mut piece, |piece, truth, at| {
                (scores.truth, scores.at, scores.old) = (truth.to_vec(), 0, copy.old + at);
                addresses.piece(piece, copy.old + at, copy.new + at, row, scores)
            })?;
        }
    }
    Ok(())
}

/// Reads both sides of a stretch piece by piece.
fn pieces(
    sides: &Sides<'_>,
    op: Op,
    stretch: Stretch,
    piece: &mut [u8],
    mut each: impl FnMut(&[u8], &[u8], u64) -> io::Result<()>,
) -> io::Result<()> {
    let step = piece.len();
    let mut truth = vec![0; usize::try_from(stretch.len).unwrap_or(step).min(step)];
    let mut done = 0;
    while done < stretch.len {
        if (sides.stopped)() {
            return Err(io::Error::other("stopped"));
        }
        let now = usize::try_from(stretch.len - done).unwrap_or(step).min(step);
        let at = stretch.at + done;
        let piece = piece.get_mut(..now).unwrap_or_default();
        let truth = truth.get_mut(..now).unwrap_or_default();
        sides.old.read(op.file, op.copy.old + at, piece)?;
        sides.new.read(sides.file, op.copy.new + at, truth)?;
        each(piece, truth, at)?;
        done += now as u64;
    }
    Ok(())
}

/// For each kind, how many fields are right only because they are predicted, less those that are wrong because of it.
pub(super) struct Scores {
    truth: Vec<u8>,
    /// Where the next byte stands in what is true, and where that begins in the old file.
    at: usize,
    old: u64,
    by_block: bool,
    /// By row of the old table, or by block of [`PIECE_LEN`] of the old file.
    pub of: Vec<[i64; 16]>,
}

impl Scores {
    fn by_row(count: usize) -> Self {
        Self { truth: Vec::new(), at: 0, old: 0, by_block: false, of: vec![[0; 16]; count] }
    }

    /// Counts by block, where no rows are known.
    pub(super) fn by_block(len: u64) -> Self {
        let count = usize::try_from(len / PIECE_LEN as u64 + 1).unwrap_or(0);
        Self { by_block: true, ..Self::by_row(count) }
    }
}

impl Truth for Scores {
    type Error = io::Error;

    fn plain(&mut self, old: &[u8]) -> io::Result<()> {
        self.at += old.len();
        Ok(())
    }

    fn field(&mut self, field: &Field, row: usize, predicted: u64) -> io::Result<u64> {
        let is = word_at(&self.truth, self.at, field.size);
        let gain = i64::from(predicted == is) - i64::from(field.word == is);
        let bit = field.kind.trailing_zeros() as usize;
        let block = usize::try_from((self.old + self.at as u64) / PIECE_LEN as u64).unwrap_or(usize::MAX);
        let slot = self.of.get_mut(if self.by_block { block } else { row });
        if let Some(score) = slot.and_then(|of| of.get_mut(bit)) {
            *score += gain;
        }
        self.at += field.size;
        Ok(is)
    }
}

fn word_at(bytes: &[u8], at: usize, size: usize) -> u64 {
    let mut word = [0; 8];
    let bytes = bytes.get(at..at + size).unwrap_or_default();
    word.get_mut(..bytes.len()).unwrap_or_default().copy_from_slice(bytes);
    u64::from_le_bytes(word)
}

/// Writes down what differs from what is predicted.
#[derive(Default)]
struct Recorder {
    truth: Vec<u8>,
    at: usize,
    /// Bytes that are right since the last that was not.
    right: u64,
    streams: Streams,
}

impl Recorder {
    fn error(&mut self) {
        varint::write(&mut self.streams[stream::GAPS], self.right);
        self.right = 0;
    }
}

impl Truth for Recorder {
    type Error = io::Error;

    fn plain(&mut self, old: &[u8]) -> io::Result<()> {
        let end = self.at + old.len();
        let mut at = self.at;
        let mut old = old;
        while at < end {
            let is = self.truth.get(at..end).unwrap_or_default();
            let run = crate::matching::common(is, old);
            self.right += run as u64;
            at += run;
            let (Some(is), Some((was, rest))) = (is.get(run), old.get(run..).and_then(<[u8]>::split_first)) else {
                break;
            };
            let by = is.wrapping_sub(*was);
            self.error();
            self.streams[stream::BYTES].push(by);
            at += 1;
            old = rest;
        }
        self.at = end;
        Ok(())
    }

    fn field(&mut self, field: &Field, _row: usize, predicted: u64) -> io::Result<u64> {
        let is = word_at(&self.truth, self.at, field.size);
        if is == predicted {
            self.right += field.size as u64;
        } else {
            self.error();
            let by = is.wrapping_sub(predicted);
            let by = if field.size == 4 { i64::from(by as u32 as i32) } else { by as i64 };
            varint::write(&mut self.streams[stream::FIELDS], varint::zigzag(by));
        }
        self.at += field.size;
        Ok(is)
    }
}

/// Makes a file as one part, which alone can have tables and hashes of pages; none where its streams become too long, and where it has
/// neither.
pub(super) fn as_one(
    sides: &Sides<'_>,
    source: Option<usize>,
    found: &[Found],
    of_whole: OfWhole<'_>,
) -> io::Result<Option<(Part, Streams)>> {
    let literals = sides.size - found.iter().map(|f| f.op.copy.len).sum::<u64>();
    if of_whole.is_none() || literals > ONE_PART_LEN as u64 {
        return Ok(None);
    }
    part(sides, source, found, of_whole, (0, sides.size))
}

/// Makes a file's parts, however long it is, and hands over each when it is done. None knows what moved in the others.
pub(super) fn parts(sides: &Sides<'_>, source: Option<usize>, found: &[Found], out: Sink<'_>) -> Result<(), MakeError> {
    let mut rest = found;
    let mut begin = 0;
    while begin < sides.size {
        let (end, used) = reach(sides, rest, begin);
        let (of_part, after) = rest.split_at_checked(used).unwrap_or((rest, &[]));
        let made = part(sides, source, of_part, OfWhole::default(), (begin, end))?;
        made.map_or(Ok(()), |(part, streams)| out(part, streams))?;
        (begin, rest) = (end, after);
    }
    Ok(())
}

/// About how many bytes what differs in a copy takes in the streams.
fn of_worst(of: &Found) -> u64 {
    if of.is_same { 0 } else { of.op.copy.len / 4 }
}

/// Where a part ends that begins at `begin`, and how many of the copies it uses. That has to be known before anything is predicted: only its own
/// copies say what moved where. A guess that errs on the short side: literals, and a quarter of what is not known to be the same.
fn reach(sides: &Sides<'_>, found: &[Found], begin: u64) -> (u64, usize) {
    let most = PART_LEN as u64;
    let (mut end, mut cost, mut used) = (begin, 0_u64, 0);
    for of in found {
        let literal = of.op.copy.new - end;
        if cost + literal > most {
            return (end + literal.min(most.saturating_sub(cost)), used);
        }
        cost += literal + of_worst(of);
        end = of.op.copy.new + of.op.copy.len;
        used += 1;
    }
    // What is literal to the end of the file.
    (end + (sides.size - end).min(most.saturating_sub(cost).max(1)), used)
}

/// Makes one part of what is copied in it; none where it has tables or hashes of pages and becomes too long.
fn part(
    sides: &Sides<'_>,
    source: Option<usize>,
    found: &[Found],
    of_whole: OfWhole<'_>,
    (begin, end): (u64, u64),
) -> io::Result<Option<(Part, Streams)>> {
    let OfWhole { tables, pages } = of_whole;
    let of_source: Vec<Copy> = if tables.is_some() {
        found.iter().filter(|f| Some(f.op.file) == source).map(|f| f.op.copy).collect()
    } else {
        Vec::new()
    };
    let moved = Moved::of(&of_source);
    let mut addresses = tables.map(|tables| Addresses::new(&tables.old, &tables.new, &moved));
    let mut recorder = Recorder::default();
    let mut buffer = vec![0; RUN_LEN];
    let mut field_piece = vec![0; PIECE_LEN];
    let (mut at, mut old_at) = (begin, 0_u64);
    for of in found {
        let Op { file, copy } = of.op;
        literal(sides, at, copy.new, &mut recorder)?;
        let global = sides.laid.start_of(file) + copy.old;
        let ops = &mut recorder.streams[stream::OPS];
        varint::write(ops, copy.len);
        varint::write(ops, varint::zigzag(global.wrapping_sub(old_at) as i64));
        old_at = global + copy.len;
        at = copy.new + copy.len;
        let table = addresses.as_ref().filter(|_| Some(file) == source).map(|addresses| addresses.old);
        for stretch in stretches(copy, table) {
            if stretch.row.is_none() && of.is_same {
                recorder.right += stretch.len;
                continue;
            }
            let piece = if stretch.row.is_some() { &mut field_piece } else { &mut buffer };
            pieces(sides, of.op, stretch, piece, |piece, truth, at| {
                recorder.truth.clear();
                recorder.truth.extend(truth);
                recorder.at = 0;
                match (&mut addresses, stretch.row) {
                    (Some(addresses), Some(row)) => {
                        addresses.piece(piece, copy.old + at, copy.new + at, row, &mut recorder)
                    }
                    _ => recorder.plain(piece),
                }
            })?;
        }
        if !of_whole.is_none() && len(&recorder.streams) > ONE_PART_LEN {
            return Ok(None);
        }
    }
    // At the very end of a part no copy follows.
    if at < end {
        literal(sides, at, end, &mut recorder)?;
    }
    let mut streams = recorder.streams;
    let mut of_part = Vec::new();
    varint::write(&mut of_part, source.map_or(0, |file| file as u64 + 1));
    let has = |is: bool, bit: u8| if is { bit } else { 0 };
    of_part.push(has(tables.is_some(), HAS_TABLES) | has(!pages.is_empty(), HAS_PAGES));
    if let Some(tables) = tables {
        tables.old.write(&mut of_part);
        tables.new.write(&mut of_part);
    }
    if !pages.is_empty() {
        Pages::write_all(pages, &mut of_part);
    }
    for bytes in streams.iter().skip(1) {
        varint::write(&mut of_part, bytes.len() as u64);
    }
    streams[stream::TABLES] = of_part;
    debug_assert!(len(&streams) > 0);
    let file = u32::try_from(sides.file).unwrap_or(u32::MAX);
    Ok(Some((Part { file, offset: begin, len: end - begin }, streams)))
}

fn literal(sides: &Sides<'_>, from: u64, to: u64, recorder: &mut Recorder) -> io::Result<()> {
    varint::write(&mut recorder.streams[stream::OPS], to - from);
    let literals = &mut recorder.streams[stream::LITERALS];
    let before = literals.len();
    literals.resize(before + usize::try_from(to - from).unwrap_or(usize::MAX), 0);
    sides.new.read(sides.file, from, literals.get_mut(before..).unwrap_or_default())
}
