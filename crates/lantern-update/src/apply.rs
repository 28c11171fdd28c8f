//! Applying: a part of a new file is made of old files and what a group holds.

use std::io;

use lantern_core::bytes::{ByteReader, ReadError};
use lantern_core::digest::Digest;

use crate::fields::Field;
use crate::header::{Group, Part, unpack};
use crate::pages::{Hashing, Pages};
use crate::sink::Sink;
use crate::streams::{COUNT, Streams, stream};
use crate::table::Table;
use crate::varint;
use crate::walk::{Addresses, Copy, Moved, PIECE_LEN, Truth, stretches};

/// Why a group or a part of it could not be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ApplyError {
    /// It is not what the head says of it.
    #[error("a group of the update file is not what its head says")]
    Digest,
    /// It contradicts itself.
    #[error("the update file is damaged")]
    Damaged(#[from] ReadError),
    /// What it needs of an old file is not there.
    #[error("an old file could not be read")]
    Old(#[source] io::Error),
    /// What comes of it could not be written.
    #[error("could not write")]
    Write(#[source] io::Error),
}

/// The files that are there: those of the old recipe, in their order.
pub trait Old {
    /// Their lengths, in bytes.
    fn sizes(&self) -> &[u64];

    /// Reads bytes of one. All that are asked for must be there.
    ///
    /// # Errors
    /// The system's; also for a file that is not what the old recipe says.
    fn read(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()>;
}

/// A group, unpacked.
pub struct OpenGroup {
    streams: Streams,
    parts: Vec<(Part, Plan)>,
}

/// What a group says of a part, apart from its bytes.
struct Plan {
    /// The old file that it mostly comes from.
    source: Option<usize>,
    tables: Option<(Table, Table)>,
    /// Hashes that are made and not brought.
    pages: Vec<Pages>,
    /// Where its bytes begin and end in each stream.
    spans: [(usize, usize); COUNT],
}

/// Bits of what stands before a part's tables: address tables, hashes of pages.
pub(crate) const HAS_TABLES: u8 = 1;
pub(crate) const HAS_PAGES: u8 = 2;

/// Copied bytes that go from one place to another without a look at them are worth a call of the system from here on.
const MIN_COPY: u64 = 64 * 1024;

fn wrong(what: &'static str, offset: usize, why: &str) -> ReadError {
    ReadError::Value { what, offset, why: why.to_owned() }
}

impl OpenGroup {
    /// Unpacks a group and reads what it says of its parts. `sizes` are the lengths of the old files, `new_sizes` those of the new ones.
    ///
    /// # Errors
    /// [`ApplyError::Digest`], [`ApplyError::Damaged`].
    pub fn open(group: &Group, stored: &[u8], sizes: &[u64], new_sizes: &[u64]) -> Result<Self, ApplyError> {
        Ok(Self::of_streams(group, Self::streams_of(group, stored)?, sizes, new_sizes)?)
    }

    pub(crate) fn streams_of(group: &Group, stored: &[u8]) -> Result<Streams, ApplyError> {
        if stored.len() as u64 != group.len() || Digest::of(stored) != group.digest {
            return Err(ApplyError::Digest);
        }
        let mut streams = Streams::default();
        let mut rest = stored;
        for (stream, (raw, len)) in streams.iter_mut().zip(group.raw.iter().zip(&group.stored)) {
            let (packed, after) = rest.split_at(*len as usize);
            rest = after;
            let damaged = || wrong("a stream", 0, "it cannot be unpacked");
            *stream =
                if *len == 0 && *raw == 0 { Vec::new() } else { unpack(packed, *raw as usize).ok_or_else(damaged)? };
        }
        Ok(streams)
    }

    pub(crate) fn of_streams(
        group: &Group,
        streams: Streams,
        sizes: &[u64],
        new_sizes: &[u64],
    ) -> Result<Self, ReadError> {
        let parts = plans(group, &streams, sizes, new_sizes)?;
        Ok(Self { streams, parts })
    }

    /// Takes streams as they are, unpacked and without a digest: for a fuzzer.
    ///
    /// # Errors
    /// [`ReadError`].
    #[cfg(fuzzing)]
    pub fn of_parts(parts: Vec<Part>, streams: Streams, sizes: &[u64], new_sizes: &[u64]) -> Result<Self, ReadError> {
        let group = Group { parts, raw: [0; COUNT], stored: [0; COUNT], digest: Digest::of(b""), offset: 0 };
        Self::of_streams(&group, streams, sizes, new_sizes)
    }

    /// What it makes, in order.
    pub fn parts(&self) -> impl Iterator<Item = &Part> {
        self.parts.iter().map(|(part, _)| part)
    }

    /// Makes one part, by its place among those of the group.
    ///
    /// # Errors
    /// [`ApplyError`]; what was written until then is of no use. What comes of a whole file is compared with its digest by the caller:
    /// the update file is never trusted.
    pub fn apply(&self, part: usize, old: &dyn Old, out: &mut dyn Sink) -> Result<(), ApplyError> {
        let Some((part, plan)) = self.parts.get(part) else { return Ok(()) };
        let mut hashing;
        let out: &mut dyn Sink = if plan.pages.is_empty() {
            out
        } else {
            hashing = Hashing::new(out, &plan.pages);
            &mut hashing
        };
        let bytes = |number: usize| {
            let (from, to) = plan.spans.get(number).copied().unwrap_or_default();
            self.streams.get(number).and_then(|stream| stream.get(from..to)).unwrap_or_default()
        };
        let files = Files::of(old.sizes());
        let ops = read_ops(bytes(stream::OPS), part, &files)?;
        let of_source: Vec<Copy> = match &plan.tables {
            Some(_) => ops.iter().filter(|op| Some(op.file) == plan.source).map(|op| op.copy).collect(),
            None => Vec::new(),
        };
        let moved = Moved::of(&of_source);
        let mut addresses = plan.tables.as_ref().map(|(old, new)| Addresses::new(old, new, &moved));
        let mut writer = Residue {
            gaps: ByteReader::new(bytes(stream::GAPS)),
            bytes: ByteReader::new(bytes(stream::BYTES)),
            fields: ByteReader::new(bytes(stream::FIELDS)),
            right: 0,
            made: Vec::with_capacity(PIECE_LEN + 8),
        };
        writer.next_gap()?;
        let mut literals = ByteReader::new(bytes(stream::LITERALS));
        let mut piece = vec![0; PIECE_LEN];
        let mut at = part.offset;
        for op in &ops {
            let Op { file, copy } = *op;
            let literal = usize::try_from(copy.new - at).unwrap_or(usize::MAX);
            out.write(literals.slice(literal, "the literals")?).map_err(ApplyError::Write)?;
            at = copy.new + copy.len;
            let table = addresses.as_ref().filter(|_| Some(file) == plan.source).map(|addresses| addresses.old);
            for stretch in stretches(copy, table) {
                let mut done = 0;
                if stretch.row.is_none() && stretch.len >= MIN_COPY && writer.right >= stretch.len {
                    let from = copy.old + stretch.at;
                    if out.copy(file, from, stretch.len).map_err(ApplyError::Write)? {
                        writer.skip(stretch.len);
                        done = stretch.len;
                    }
                }
                while done < stretch.len {
                    let len = usize::try_from(stretch.len - done).unwrap_or(PIECE_LEN).min(PIECE_LEN);
                    let piece = piece.get_mut(..len).unwrap_or_default();
                    let from = copy.old + stretch.at + done;
                    old.read(file, from, piece).map_err(ApplyError::Old)?;
                    writer.made.clear();
                    match (&mut addresses, stretch.row) {
                        (Some(addresses), Some(row)) => {
                            addresses.piece(piece, from, copy.new + stretch.at + done, row, &mut writer)?;
                        }
                        _ => writer.plain(piece)?,
                    }
                    out.write(&writer.made).map_err(ApplyError::Write)?;
                    done += len as u64;
                }
            }
        }
        let literal = usize::try_from(part.offset + part.len - at).unwrap_or(usize::MAX);
        out.write(literals.slice(literal, "the literals")?).map_err(ApplyError::Write)?;
        writer.end()?;
        Ok(literals.end("the literals")?)
    }
}

fn plans(group: &Group, streams: &Streams, sizes: &[u64], new_sizes: &[u64]) -> Result<Vec<(Part, Plan)>, ReadError> {
    const WHAT: &str = "a group's tables";
    let mut reader = ByteReader::new(&streams[stream::TABLES]);
    let mut parts = Vec::with_capacity(group.parts.len());
    let mut ends = [0_usize; COUNT];
    for part in &group.parts {
        let at = reader.position();
        let new_size = usize::try_from(part.file).ok().and_then(|file| new_sizes.get(file));
        let new_size = *new_size.ok_or_else(|| wrong(WHAT, at, "a file that the new build does not have"))?;
        if part.offset.checked_add(part.len).is_none_or(|end| end > new_size) {
            return Err(wrong(WHAT, at, "a part lies outside its file"));
        }
        let source = varint::read(&mut reader, WHAT)?;
        let source = source.checked_sub(1).map(|file| usize::try_from(file).unwrap_or(usize::MAX));
        let old_size =
            source.map(|file| sizes.get(file).copied().ok_or_else(|| wrong(WHAT, at, "an old file that is not there")));
        let old_size = old_size.transpose()?;
        let has = reader.u8(WHAT)?;
        if has & !(HAS_TABLES | HAS_PAGES) != 0 {
            return Err(wrong(WHAT, at, "it has what is not known here"));
        }
        // One table of what was learnt for each file, in any valid update file; and all of it is hashed from its start.
        if has != 0 && part.len != new_size {
            return Err(wrong(WHAT, at, "tables of a part of a file"));
        }
        let tables = match old_size {
            _ if has & HAS_TABLES == 0 => None,
            Some(old_size) => Some((Table::read(&mut reader, old_size)?, Table::read(&mut reader, new_size)?)),
            None => return Err(wrong(WHAT, at, "tables of nothing")),
        };
        let pages = if has & HAS_PAGES == 0 { Vec::new() } else { Pages::read_all(&mut reader, new_size)? };
        let mut spans = [(0, 0); COUNT];
        for ((span, end), bytes) in spans.iter_mut().zip(&mut ends).zip(streams).skip(1) {
            let len = usize::try_from(varint::read(&mut reader, WHAT)?).unwrap_or(usize::MAX);
            let to = end.checked_add(len).filter(|to| *to <= bytes.len());
            let to = to.ok_or_else(|| wrong(WHAT, at, "more bytes than a stream has"))?;
            *span = (*end, to);
            *end = to;
        }
        parts.push((*part, Plan { source, tables, pages, spans }));
    }
    reader.end(WHAT)?;
    for (end, bytes) in ends.iter().zip(streams).skip(1) {
        if *end != bytes.len() {
            return Err(wrong(WHAT, 0, "bytes of a stream belong to no part"));
        }
    }
    Ok(parts)
}

/// The old files, laid end to end.
pub(crate) struct Files {
    starts: Vec<u64>,
    end: u64,
}

impl Files {
    pub(crate) fn of(sizes: &[u64]) -> Self {
        let mut end = 0_u64;
        let starts = sizes
            .iter()
            .map(|size| {
                let start = end;
                end = end.saturating_add(*size);
                start
            })
            .collect();
        Self { starts, end }
    }

    /// Where a file begins.
    pub(crate) fn start_of(&self, file: usize) -> u64 {
        self.starts.get(file).copied().unwrap_or(self.end)
    }

    /// The file and the offset in it of so many bytes, all of which must lie in it.
    pub(crate) fn find(&self, at: u64, len: u64) -> Option<(usize, u64)> {
        let next = self.starts.partition_point(|start| *start <= at);
        let file = next.checked_sub(1)?;
        let end = self.starts.get(next).copied().unwrap_or(self.end);
        at.checked_add(len).filter(|to| *to <= end)?;
        Some((file, at - self.starts.get(file)?))
    }
}

/// A copy, and the old file that it comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Op {
    pub file: usize,
    pub copy: Copy,
}

fn read_ops(bytes: &[u8], part: &Part, files: &Files) -> Result<Vec<Op>, ReadError> {
    const WHAT: &str = "what is copied";
    let mut reader = ByteReader::new(bytes);
    let mut ops = Vec::new();
    let (mut at, mut old) = (part.offset, 0_u64);
    let end = part.offset + part.len;
    while at < end {
        let offset = reader.position();
        let beyond = || wrong(WHAT, offset, "it leads out of the part");
        let literal = varint::read(&mut reader, WHAT)?;
        at = at.checked_add(literal).filter(|at| *at <= end).ok_or_else(beyond)?;
        if at == end {
            break;
        }
        let len = varint::read(&mut reader, WHAT)?;
        let new = at;
        at = at.checked_add(len).filter(|at| *at <= end && len > 0).ok_or_else(beyond)?;
        old = old.wrapping_add(varint::unzigzag(varint::read(&mut reader, WHAT)?) as u64);
        let found = files.find(old, len).ok_or_else(|| wrong(WHAT, offset, "it is in no old file"))?;
        ops.push(Op { file: found.0, copy: Copy { new, old: found.1, len } });
        old = old.wrapping_add(len);
    }
    reader.end(WHAT)?;
    Ok(ops)
}

/// Corrects copied bytes by what a part holds.
struct Residue<'a> {
    gaps: ByteReader<'a>,
    bytes: ByteReader<'a>,
    fields: ByteReader<'a>,
    /// Bytes that are right before the next that is not; without end where no more are wrong.
    right: u64,
    made: Vec<u8>,
}

impl Residue<'_> {
    fn next_gap(&mut self) -> Result<(), ReadError> {
        self.right = if self.gaps.remaining() == 0 { u64::MAX } else { varint::read(&mut self.gaps, "the gaps")? };
        Ok(())
    }

    fn skip(&mut self, len: u64) {
        if self.right != u64::MAX {
            self.right -= len;
        }
    }

    fn end(&self) -> Result<(), ReadError> {
        if self.right != u64::MAX {
            return Err(wrong("the gaps", self.gaps.position(), "an error behind everything that is copied"));
        }
        self.bytes.end("the wrong bytes")?;
        self.fields.end("the wrong fields")
    }
}

impl Truth for Residue<'_> {
    type Error = ReadError;

    fn plain(&mut self, mut old: &[u8]) -> Result<(), ReadError> {
        loop {
            let right = usize::try_from(self.right).unwrap_or(usize::MAX).min(old.len());
            let (same, rest) = old.split_at(right);
            self.made.extend(same);
            self.skip(right as u64);
            let Some((byte, rest)) = rest.split_first() else { return Ok(()) };
            self.made.push(byte.wrapping_add(self.bytes.u8("the wrong bytes")?));
            self.next_gap()?;
            old = rest;
        }
    }

    fn field(&mut self, field: &Field, _row: usize, predicted: u64) -> Result<u64, ReadError> {
        let size = field.size as u64;
        let word = if self.right >= size {
            self.skip(size);
            predicted
        } else if self.right == 0 {
            let by = varint::unzigzag(varint::read(&mut self.fields, "the wrong fields")?) as u64;
            self.next_gap()?;
            predicted.wrapping_add(by)
        } else {
            return Err(wrong("the gaps", self.gaps.position(), "an error in the middle of a field"));
        };
        let bytes = word.to_le_bytes();
        self.made.extend(bytes.get(..field.size).unwrap_or_default());
        Ok(if field.size == 4 { word & 0xffff_ffff } else { word })
    }
}
