//! Address tables of programs. Only for the one who makes an update file: what comes of it travels with it, so a guess that is wrong
//! costs bytes and nothing else.
//!
//! Sources: Microsoft PE Format (COFF header, optional header, section table); System V ABI, chapter 4 and 5 (ELF header, sections,
//! program headers); Mach-O: `mach-o/loader.h` and `mach-o/fat.h` of the open system sources.

use crate::table::{Row, Table, kinds};

/// Where a fat file's second program and those behind it are put, so that no two share an address.
const SLICE: u64 = 1 << 44;

/// What a file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    Pe,
    Elf,
    MachO,
}

/// A program: what it is, and where its bytes lie.
pub(crate) struct Program {
    pub kind: Kind,
    pub table: Table,
}

/// Bytes of a file, and numbers in them; none behind their end.
pub(crate) struct Bytes<'a>(pub &'a [u8]);

impl Bytes<'_> {
    fn u16(&self, at: usize) -> Option<u16> {
        self.0.get(at..)?.first_chunk().map(|b| u16::from_le_bytes(*b))
    }
    pub fn u32(&self, at: usize) -> Option<u32> {
        self.0.get(at..)?.first_chunk().map(|b| u32::from_le_bytes(*b))
    }
    fn u64(&self, at: usize) -> Option<u64> {
        self.0.get(at..)?.first_chunk().map(|b| u64::from_le_bytes(*b))
    }
    pub fn big(&self, at: usize) -> Option<u32> {
        self.0.get(at..)?.first_chunk().map(|b| u32::from_be_bytes(*b))
    }
}

/// Whether the first bytes are those of a program.
pub(crate) fn is_program(head: &[u8]) -> bool {
    head.starts_with(b"MZ")
        || head.starts_with(b"\x7fELF")
        || head.starts_with(&[0xcf, 0xfa, 0xed, 0xfe])
        || is_several(head)
}

/// Whether they are those of several programs in one file.
pub(crate) fn is_several(head: &[u8]) -> bool {
    head.starts_with(&[0xca, 0xfe, 0xba, 0xbe])
}

impl Program {
    /// How many bytes lie in its sections that hold fields, and not behind all of them.
    pub(crate) fn own_len(&self) -> u64 {
        let is_behind = |row: &&Row| row.address.wrapping_add(row.size) == self.table.top;
        self.table.rows().iter().filter(|row| row.kinds != 0 && !is_behind(row)).map(|row| row.size).sum()
    }
}

/// Reads a program of which `head` are the first bytes, or all.
pub(crate) fn read(head: &[u8], len: u64) -> Option<Program> {
    let bytes = Bytes(head);
    let (kind, base, top, rows) = if head.starts_with(b"MZ") {
        let (base, top, rows) = pe(&bytes, len)?;
        (Kind::Pe, base, top, rows)
    } else if head.starts_with(b"\x7fELF") {
        let (base, top, rows) = elf(&bytes)?;
        (Kind::Elf, base, top, rows)
    } else {
        let (base, top, rows) = mach_o(&bytes)?;
        (Kind::MachO, base, top, rows)
    };
    let table = Table::new(base, top, joined(rows), len);
    (!table.rows().is_empty()).then_some(Program { kind, table })
}

/// Sections that lie side by side in the file and in memory, and hold the same, are one row.
fn joined(mut rows: Vec<Row>) -> Vec<Row> {
    rows.sort_unstable_by_key(|row| row.offset);
    let mut out: Vec<Row> = Vec::with_capacity(rows.len());
    for row in rows {
        match out.last_mut() {
            Some(last)
                if last.kinds == row.kinds
                    && last.empty == 0
                    && row.offset >= last.offset.saturating_add(last.size)
                    && row.offset - last.offset - last.size < 64
                    && row.address.wrapping_sub(last.address) == row.offset - last.offset =>
            {
                last.size = (row.offset - last.offset).saturating_add(row.size);
                last.empty = row.empty;
            }
            _ => out.push(row),
        }
    }
    out
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Machine {
    X64,
    X86,
    Arm64,
    Other,
}

fn kinds_of(machine: Machine, is_code: bool, data: u16) -> u16 {
    match (machine, is_code) {
        (Machine::X64, true) => kinds::BRANCH | kinds::RELATIVE | kinds::OWN_ROW,
        (Machine::X86, true) => kinds::BRANCH | kinds::ABSOLUTE32,
        (Machine::X86, false) => kinds::ABSOLUTE32,
        (Machine::Arm64, true) => kinds::ARM_BRANCH | kinds::ARM_PAGE,
        (Machine::X64 | Machine::Arm64, false) => data,
        (Machine::Other, _) => 0,
    }
}

fn pe(bytes: &Bytes<'_>, len: u64) -> Option<(u64, u64, Vec<Row>)> {
    let at = bytes.u32(0x3c)? as usize;
    if bytes.u32(at)? != 0x4550 {
        return None;
    }
    let machine = match bytes.u16(at + 4)? {
        0x8664 => Machine::X64,
        0x014c => Machine::X86,
        0xaa64 => Machine::Arm64,
        _ => Machine::Other,
    };
    let optional = at + 24;
    let base = match bytes.u16(optional)? {
        0x20b => bytes.u64(optional + 24)?,
        _ => u64::from(bytes.u32(optional + 28)?),
    };
    let mut top = base.checked_add(u64::from(bytes.u32(optional + 56)?))?;
    let sections = optional + usize::from(bytes.u16(at + 20)?);
    let mut rows = Vec::new();
    let mut end = 0;
    for number in 0..usize::from(bytes.u16(at + 6)?) {
        let section = sections + number * 40;
        let in_memory = u64::from(bytes.u32(section + 8)?);
        let address = base.wrapping_add(u64::from(bytes.u32(section + 12)?));
        let (size, offset) = (u64::from(bytes.u32(section + 16)?), u64::from(bytes.u32(section + 20)?));
        let is_code = bytes.u32(section + 36)? & 0x2000_0020 != 0;
        let kinds = kinds_of(machine, is_code, kinds::ABSOLUTE64 | kinds::OFFSET32);
        end = end.max(offset + size);
        // What the file has beyond the section's size in memory only fills it up; it has addresses all the same.
        rows.push(Row { offset, size, address, empty: in_memory.saturating_sub(size), kinds });
    }
    // What lies behind everything may be programs, too: of one that was put together of several.
    if end < len && rows.len() < 16 {
        let kinds = kinds_of(machine, true, 0);
        rows.push(Row { offset: end, size: len - end, address: top, empty: 0, kinds });
        top = top.checked_add(len - end)?;
    }
    Some((base, top, rows))
}

fn elf(bytes: &Bytes<'_>) -> Option<(u64, u64, Vec<Row>)> {
    let wide = *bytes.0.get(4)? == 2;
    if *bytes.0.get(5)? != 1 {
        return None;
    }
    let machine = match bytes.u16(18)? {
        62 => Machine::X64,
        3 => Machine::X86,
        183 => Machine::Arm64,
        _ => Machine::Other,
    };
    let word = |at: usize| if wide { bytes.u64(at) } else { bytes.u32(at).map(u64::from) };
    let data = kinds::ABSOLUTE64 | kinds::SELF32;
    let (segments, segment_len, segment_count) =
        if wide { (word(32)?, bytes.u16(54)?, bytes.u16(56)?) } else { (word(28)?, bytes.u16(42)?, bytes.u16(44)?) };
    let (mut base, mut top) = (u64::MAX, 0);
    let mut of_segments = Vec::new();
    for number in 0..usize::from(segment_count) {
        let at = usize::try_from(segments).ok()?.checked_add(number * usize::from(segment_len))?;
        if bytes.u32(at)? != 1 {
            continue;
        }
        let (offset, address, size, in_memory, flags) = if wide {
            (word(at + 8)?, word(at + 16)?, word(at + 32)?, word(at + 40)?, bytes.u32(at + 4)?)
        } else {
            (word(at + 4)?, word(at + 8)?, word(at + 16)?, word(at + 20)?, bytes.u32(at + 24)?)
        };
        (base, top) = (base.min(address), top.max(address.checked_add(in_memory)?));
        let kinds = kinds_of(machine, flags & 1 != 0, data);
        of_segments.push(Row { offset, size, address, empty: in_memory.saturating_sub(size), kinds });
    }
    let (sections, section_len, section_count) =
        if wide { (word(40)?, bytes.u16(58)?, bytes.u16(60)?) } else { (word(32)?, bytes.u16(46)?, bytes.u16(48)?) };
    let of_sections = || {
        let mut rows: Vec<Row> = Vec::new();
        for number in 0..usize::from(section_count) {
            let at = usize::try_from(sections).ok()?.checked_add(number * usize::from(section_len))?;
            let (flags, address, offset, size) = if wide {
                (word(at + 8)?, word(at + 16)?, word(at + 24)?, word(at + 32)?)
            } else {
                (word(at + 8)?, word(at + 12)?, word(at + 16)?, word(at + 20)?)
            };
            // SHF_ALLOC; SHT_NOBITS has no bytes in the file.
            match (bytes.u32(at + 4)?, flags & 2 != 0) {
                (8, true) => {
                    let before = rows.iter_mut().max_by_key(|row| row.address);
                    if let Some(row) = before.filter(|row| row.address.saturating_add(row.size) <= address) {
                        row.empty = (address - row.address - row.size).saturating_add(size);
                    }
                }
                (_, true) => {
                    let kinds = kinds_of(machine, flags & 4 != 0, data);
                    rows.push(Row { offset, size, address, empty: 0, kinds });
                }
                _ => {}
            }
        }
        Some(rows)
    };
    let rows = of_sections().filter(|rows| !rows.is_empty()).unwrap_or(of_segments);
    Some((base.min(top), top, rows))
}

/// Where the programs of a Mach-O file begin: of a fat one several.
pub(crate) fn mach_o_starts(bytes: &Bytes<'_>) -> Vec<usize> {
    if bytes.big(0) != Some(0xcafe_babe) {
        return if bytes.0.starts_with(&[0xcf, 0xfa, 0xed, 0xfe]) { vec![0] } else { Vec::new() };
    }
    let count = bytes.big(4).filter(|count| *count <= 8).unwrap_or(0);
    (0..count as usize).map_while(|number| bytes.big(8 + number * 20 + 8).map(|start| start as usize)).collect()
}

fn mach_o(bytes: &Bytes<'_>) -> Option<(u64, u64, Vec<Row>)> {
    let (mut base, mut top, mut rows) = (u64::MAX, 0, Vec::new());
    for (start, number) in mach_o_starts(bytes).into_iter().zip(0_u64..) {
        let (of_base, of_top, of_rows) = thin(bytes, start, number * SLICE)?;
        (base, top) = (base.min(of_base), top.max(of_top));
        rows.extend(of_rows);
    }
    Some((base.min(top), top, rows))
}

/// The load commands of a program that begins at `start`, and where each lies; none where they do not end well.
pub(crate) fn commands(bytes: &Bytes<'_>, start: usize) -> Option<Vec<(u32, usize)>> {
    let mut at = start.checked_add(32)?;
    let mut out = Vec::new();
    for _ in 0..bytes.u32(start + 16)?.min(1000) {
        out.push((bytes.u32(at)?, at));
        at = at.checked_add((bytes.u32(at + 4)? as usize).max(8))?;
    }
    Some(out)
}

fn thin(bytes: &Bytes<'_>, start: usize, moved: u64) -> Option<(u64, u64, Vec<Row>)> {
    if bytes.u32(start)? != 0xfeed_facf {
        return None;
    }
    let machine = match bytes.u32(start + 4)? {
        0x0100_0007 => Machine::X64,
        0x0100_000c => Machine::Arm64,
        _ => Machine::Other,
    };
    let (mut base, mut top, mut rows) = (u64::MAX, 0, Vec::new());
    for (command, at) in commands(bytes, start)? {
        if command == 0x19 {
            let (address, size) = (bytes.u64(at + 24)?.wrapping_add(moved), bytes.u64(at + 32)?);
            let is_there = bytes.u64(at + 48)? > 0;
            if is_there {
                (base, top) = (base.min(address), top.max(address.checked_add(size)?));
            }
            for number in 0..bytes.u32(at + 64)?.min(256) as usize {
                let section = at + 72 + number * 80;
                let (address, size) = (bytes.u64(section + 32)?.wrapping_add(moved), bytes.u64(section + 40)?);
                let offset = u64::from(bytes.u32(section + 48)?) + start as u64;
                let flags = bytes.u32(section + 64)?;
                // S_ZEROFILL, S_GB_ZEROFILL, S_THREAD_LOCAL_ZEROFILL
                if matches!(flags & 0xff, 1 | 0xc | 0x12) {
                    if let Some(row) =
                        rows.last_mut().filter(|row: &&mut Row| row.address.saturating_add(row.size) <= address)
                    {
                        row.empty = (address - row.address - row.size).saturating_add(size);
                    }
                    continue;
                }
                let is_code = flags & 0x8000_0400 != 0;
                let kinds = kinds_of(machine, is_code, kinds::ABSOLUTE64 | kinds::SELF32);
                rows.push(Row { offset, size, address, empty: 0, kinds });
            }
        }
    }
    Some((base.min(top), top, rows))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn this_very_test_is_a_program() {
        let bytes = std::fs::read(std::env::current_exe().unwrap()).unwrap();
        assert!(is_program(&bytes));
        let program = read(&bytes, bytes.len() as u64).unwrap();
        let has_code = |kind: u16| program.table.rows().iter().any(|row| row.kinds & kind != 0 && row.size > 10_000);
        assert!(has_code(kinds::BRANCH | kinds::ARM_BRANCH), "{:?}", program.table);
        assert!(has_code(kinds::ABSOLUTE64), "{:?}", program.table);
        assert!(program.table.top > program.table.base);
        // Of a large one only the first bytes are read.
        assert!(read(&bytes[..4096], bytes.len() as u64).is_some());
    }

    #[test]
    fn a_program_for_windows_has_its_sections() {
        let mut bytes = vec![0; 0x800];
        let mut put = |at: usize, value: &[u8]| bytes[at..at + value.len()].copy_from_slice(value);
        put(0, b"MZ");
        put(0x3c, &0x80_u32.to_le_bytes());
        put(0x80, b"PE\0\0");
        put(0x84, &0x8664_u16.to_le_bytes());
        put(0x86, &1_u16.to_le_bytes());
        put(0x94, &0xf0_u16.to_le_bytes());
        put(0x98, &0x20b_u16.to_le_bytes());
        put(0x98 + 24, &0x1_4000_0000_u64.to_le_bytes());
        put(0x98 + 56, &0x9000_u32.to_le_bytes());
        let section = 0x98 + 0xf0;
        for (at, value) in [(8, 0x900_u32), (12, 0x1000), (16, 0x200), (20, 0x400), (36, 0x6000_0020)] {
            put(section + at, &value.to_le_bytes());
        }
        let program = read(&bytes, 0x800).unwrap();
        let rows = program.table.rows();
        assert_eq!(
            (rows[0].offset, rows[0].size, rows[0].address, rows[0].empty),
            (0x400, 0x200, 0x1_4000_1000, 0x700)
        );
        assert_eq!((rows[1].offset, rows[1].size, rows[1].address), (0x600, 0x200, 0x1_4000_9000), "what lies behind");
        assert_eq!(program.table.top, 0x1_4000_9200);
    }

    proptest! {
        #[test]
        fn nothing_makes_a_reader_panic(head in 0_usize..5, bytes in prop::collection::vec(any::<u8>(), 0..400), len: u64) {
            let magic: &[u8] = [&b"MZ"[..], b"\x7fELF\x02\x01", b"\x7fELF\x01\x01", &[0xcf, 0xfa, 0xed, 0xfe], &[0xca, 0xfe, 0xba, 0xbe]][head];
            let whole = [magic, &bytes].concat();
            prop_assert!(is_program(&whole));
            if let Some(program) = read(&whole, len) {
                prop_assert!(program.table.rows().iter().all(|row| row.offset + row.size <= len));
            }
        }
    }
}
