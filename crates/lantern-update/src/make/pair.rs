//! Two files that fit into memory.

use std::io;

use super::Build;
use super::record::{self, Found, OfWhole, Sides, Tables};
use super::{APART, DROP, GIVE_UP, MakeError, PRICE, Sink};
use crate::apply::{Files, Op};
use crate::labels;
use crate::matching::{Index, Stopped, extend, without_holes};
use crate::pages::{self, Pages};
use crate::programs;
use crate::table::{Row, Table, kinds};
use crate::walk::{Copy, PIECE_LEN};

/// A sample is taken at every so many bytes of a program, and of anything else.
const PROGRAM_STRIDE: usize = 4;
const DATA_STRIDE: usize = 2;

fn whole(build: &dyn Build, file: usize) -> io::Result<Vec<u8>> {
    let size = build.files().get(file).map_or(0, |file| file.size);
    let mut bytes = vec![0; usize::try_from(size).unwrap_or(usize::MAX)];
    build.read(file, 0, &mut bytes)?;
    Ok(bytes)
}

/// One file of a build, held in memory.
struct Held<'a> {
    build: &'a dyn Build,
    file: usize,
    bytes: &'a [u8],
}

impl Build for Held<'_> {
    fn files(&self) -> &[super::File] {
        self.build.files()
    }

    fn read(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()> {
        let start = usize::try_from(offset).unwrap_or(usize::MAX);
        match self.bytes.get(start..start.saturating_add(out.len())) {
            Some(bytes) if file == self.file => out.copy_from_slice(bytes),
            _ => self.build.read(file, offset, out)?,
        }
        Ok(())
    }
}

pub(super) fn encode(
    old: &dyn Build,
    source: usize,
    new: &dyn Build,
    file: usize,
    laid: &Files,
    stopped: Stopped<'_>,
    out: Sink<'_>,
) -> Result<(), MakeError> {
    let made = whole(new, file)?;
    let pages = pages::find(&made);
    Pair { old, source, new, file, laid, stopped, pages: &pages }.encode(made, out)
}

/// Two files that are compared.
#[derive(Clone, Copy)]
struct Pair<'a> {
    old: &'a dyn Build,
    source: usize,
    new: &'a dyn Build,
    file: usize,
    laid: &'a Files,
    stopped: Stopped<'a>,
    /// Hashes that are computed when it is applied, and are like nothing that was there.
    pages: &'a [Pages],
}

impl Pair<'_> {
    /// Makes its parts of the new file's bytes.
    fn encode(&self, mut made: Vec<u8>, out: Sink<'_>) -> Result<(), MakeError> {
        let Pair { old, source, new, file, laid, stopped, pages } = *self;
        pages::clear(&mut made, pages);
        let mut old_bytes = whole(old, source)?;
        let read =
            |bytes: &[u8]| programs::is_program(bytes).then(|| programs::read(bytes, bytes.len() as u64)).flatten();
        let programs = read(&old_bytes).zip(read(&made)).filter(|(a, b)| a.kind == b.kind);
        let matches = match &programs {
            Some((old_program, new_program)) => {
                labels::mask(&mut old_bytes, &old_program.table);
                labels::mask(&mut made, &new_program.table);
                let index = Index::new(&old_bytes, PROGRAM_STRIDE, stopped);
                let anchors = index.anchors(&made, usize::MAX, stopped);
                drop(index);
                let matches = extend(&made, &old_bytes, &anchors, 1, i64::MAX / 2);
                // Nothing is held twice: both are read again.
                old.read(source, 0, &mut old_bytes)?;
                new.read(file, 0, &mut made)?;
                pages::clear(&mut made, pages);
                matches
            }
            None => {
                let index = Index::new(&old_bytes, DATA_STRIDE, stopped);
                let found = extend(&made, &old_bytes, &index.anchors(&made, APART, stopped), PRICE, GIVE_UP);
                found.iter().flat_map(|one| without_holes(&made, &old_bytes, *one, PRICE, DROP)).collect()
            }
        };
        let found: Vec<Found> = matches
            .iter()
            .map(|m| Copy { new: m.new as u64, old: m.old as u64, len: m.len as u64 })
            .map(|copy| Found { op: Op { file: source, copy }, is_same: false })
            .collect();
        let (held_old, held_new) =
            (Held { build: old, file: source, bytes: &old_bytes }, Held { build: new, file, bytes: &made });
        let sides = Sides { old: &held_old, new: &held_new, file, size: made.len() as u64, laid, stopped };
        let tables = match programs {
            Some((old, new)) => {
                record::with_useful_kinds(&sides, source, &found, Tables { old: old.table, new: new.table })?
            }
            None => of_data(&sides, source, old_bytes.len() as u64, &found)?,
        };
        let of_whole = OfWhole { tables: tables.as_ref(), pages };
        match record::as_one(&sides, Some(source), &found, of_whole)? {
            Some((part, streams)) => out(part, streams),
            None if pages.is_empty() => record::parts(&sides, Some(source), &found, out),
            // Of a file in several parts none is hashed from its start.
            None => {
                drop(old_bytes);
                new.read(file, 0, &mut made)?;
                Pair { pages: &[], ..*self }.encode(made, out)
            }
        }
    }
}

/// Rows of what is no program: blocks that hold offsets of the file itself, such as the list of what a pack contains.
pub(super) fn of_data(sides: &Sides<'_>, source: usize, old_len: u64, found: &[Found]) -> io::Result<Option<Tables>> {
    let table =
        |len: u64, kinds| Table::new(0, len, vec![Row { offset: 0, size: len, address: 0, empty: 0, kinds }], len);
    let all = kinds::ABSOLUTE64 | kinds::OFFSET32;
    let whole = Tables { old: table(old_len, all), new: table(sides.size, 0) };
    let mut scores = record::Scores::by_block(old_len);
    record::score(sides, source, found, &whole, &mut scores)?;
    let mut rows: Vec<Row> = Vec::new();
    for (block, of) in scores.of.iter().enumerate() {
        // A few that happen to fit cost more than they bring.
        let useful = |kind: u16| of.get(kind.trailing_zeros() as usize).is_some_and(|score| *score > 8);
        let kinds: u16 = [kinds::ABSOLUTE64, kinds::OFFSET32].into_iter().filter(|kind| useful(*kind)).sum();
        let offset = (block * PIECE_LEN) as u64;
        let size = (PIECE_LEN as u64).min(old_len - offset);
        match rows.last_mut() {
            _ if kinds == 0 || size == 0 => {}
            Some(last) if last.kinds == kinds && last.offset + last.size == offset => last.size += size,
            _ => rows.push(Row { offset, size, address: offset, empty: 0, kinds }),
        }
    }
    if rows.is_empty() || rows.len() > crate::table::MAX_ROWS / 2 {
        return Ok(None);
    }
    // What lies between has addresses, too, and no fields.
    let mut between = Vec::new();
    let mut at = 0;
    for row in &rows {
        between.push(Row { offset: at, size: row.offset - at, address: at, empty: 0, kinds: 0 });
        at = row.offset + row.size;
    }
    between.push(Row { offset: at, size: old_len - at, address: at, empty: 0, kinds: 0 });
    rows.extend(between);
    Ok(Some(Tables { old: Table::new(0, old_len, rows, old_len), new: whole.new }))
}
