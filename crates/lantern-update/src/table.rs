//! Address tables: where the bytes of a file lie when it runs, and which parts of it hold addresses.

use lantern_core::bytes::{ByteReader, ReadError};

use crate::varint;

/// Rows of one table. Programs have some tens of sections.
pub const MAX_ROWS: usize = 256;

/// Kinds of fields that a row may hold: one bit each, in the order in which they are looked for.
pub mod kinds {
    /// x86: `E8` or `E9`, or `0F 80` to `0F 8F`, and a distance of 32 bits behind it.
    pub const BRANCH: u16 = 1;
    /// x86-64: any byte with `(b & C7h) = 05h`, and a distance of 32 bits behind it.
    pub const RELATIVE: u16 = 2;
    /// 4-aligned 32 bits from the base, into the very row.
    pub const OWN_ROW: u16 = 4;
    /// 8-aligned 64 bits: an address.
    pub const ABSOLUTE64: u16 = 8;
    /// 4-aligned 32 bits from the base.
    pub const OFFSET32: u16 = 16;
    /// 4-aligned 32 bits from the field itself.
    pub const SELF32: u16 = 32;
    /// 32 bits anywhere: an address.
    pub const ABSOLUTE32: u16 = 64;
    /// ARM64: `BL` and `B`.
    pub const ARM_BRANCH: u16 = 128;
    /// ARM64: `ADRP`, and an `ADD`, `LDR` or `STR` that takes its register right behind it.
    pub const ARM_PAGE: u16 = 256;
    /// All that are known.
    pub const ALL: u16 = 511;
}

/// A stretch of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Row {
    /// Its first byte in the file.
    pub offset: u64,
    /// Its bytes in the file.
    pub size: u64,
    /// The address of its first byte.
    pub address: u64,
    /// Bytes of zero that follow it in memory, and not in the file.
    pub empty: u64,
    /// What it may hold, of [`kinds`].
    pub kinds: u16,
}

/// Where a file's bytes lie in memory.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Table {
    /// The lowest address.
    pub base: u64,
    /// The address behind the highest.
    pub top: u64,
    /// By their offsets; none overlaps another.
    rows: Vec<Row>,
    /// Their numbers, by address.
    by_address: Vec<usize>,
}

/// What lies at an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Place {
    /// A byte of the file.
    Byte(u64),
    /// Of a row, so many bytes behind its last in the file.
    Empty(usize, u64),
    /// Nothing that the table knows: so far from the base.
    Nothing(u64),
}

impl Table {
    /// Makes a table. Rows that overlap another, or lie outside the file, are left out, and so are those above [`MAX_ROWS`].
    pub fn new(base: u64, top: u64, mut rows: Vec<Row>, file_len: u64) -> Self {
        rows.retain(|row| row.size > 0 && row.offset.checked_add(row.size).is_some_and(|end| end <= file_len));
        rows.sort_unstable_by_key(|row| (row.offset, row.size));
        let mut to = 0;
        rows.retain(|row| {
            let fits = row.offset >= to;
            if fits {
                to = row.offset + row.size;
            }
            fits
        });
        rows.truncate(MAX_ROWS);
        Self::of(base, top, rows)
    }

    fn of(base: u64, top: u64, rows: Vec<Row>) -> Self {
        let mut by_address: Vec<usize> = (0..rows.len()).collect();
        by_address.sort_by_key(|row| rows.get(*row).map_or(0, |row| row.address));
        Self { base, top, rows, by_address }
    }

    /// Its rows, by their offsets.
    pub fn rows(&self) -> &[Row] {
        &self.rows
    }

    /// The same with other kinds for each row.
    pub(crate) fn with_kinds(&self, kinds: impl Fn(usize, &Row) -> u16) -> Self {
        let rows = self.rows.iter().enumerate().map(|(at, row)| Row { kinds: kinds(at, row), ..*row }).collect();
        Self::of(self.base, self.top, rows)
    }

    /// Whether any row holds fields.
    pub(crate) fn has_fields(&self) -> bool {
        self.rows.iter().any(|row| row.kinds != 0)
    }

    /// Whether an address lies between the base and the top.
    pub(crate) fn has(&self, address: u64) -> bool {
        (self.base..self.top).contains(&address)
    }

    /// The row that a byte of the file lies in, or the offset at which the next one begins.
    pub(crate) fn row_at(&self, offset: u64) -> Result<(usize, &Row), u64> {
        let next = self.rows.partition_point(|row| row.offset <= offset);
        let before = next.checked_sub(1).and_then(|at| Some((at, self.rows.get(at)?)));
        match before {
            Some((at, row)) if offset - row.offset < row.size => Ok((at, row)),
            _ => Err(self.rows.get(next).map_or(u64::MAX, |row| row.offset)),
        }
    }

    /// The address of a byte of the file; outside of all rows it has none.
    pub(crate) fn address_of(&self, offset: u64) -> Option<u64> {
        let (_, row) = self.row_at(offset).ok()?;
        Some(row.address.wrapping_add(offset - row.offset))
    }

    /// What lies at an address: of the rows that begin at or below it, the one that begins last.
    pub(crate) fn place_of(&self, address: u64) -> Place {
        let row = |at: usize| self.by_address.get(at).and_then(|row| Some((*row, self.rows.get(*row)?)));
        let mut next = self.by_address.partition_point(|at| self.rows.get(*at).is_some_and(|r| r.address <= address));
        next = next.wrapping_sub(1);
        match row(next) {
            Some((_, row)) if address - row.address < row.size => Place::Byte(row.offset + (address - row.address)),
            Some((at, row)) if address - row.address - row.size < row.empty => {
                Place::Empty(at, address - row.address - row.size)
            }
            _ => Place::Nothing(address.wrapping_sub(self.base)),
        }
    }

    /// The address of what [`Self::place_of`] found in another table of the same make.
    pub(crate) fn address_of_empty(&self, row: usize, behind: u64) -> Option<u64> {
        let row = self.rows.get(row)?;
        Some(row.address.wrapping_add(row.size).wrapping_add(behind))
    }

    pub(crate) fn write(&self, out: &mut Vec<u8>) {
        varint::write(out, self.base);
        varint::write(out, self.top.wrapping_sub(self.base));
        varint::write(out, self.rows.len() as u64);
        let (mut offset, mut address) = (0_u64, self.base);
        for row in &self.rows {
            varint::write(out, row.offset - offset);
            varint::write(out, row.size);
            varint::write(out, varint::zigzag(row.address.wrapping_sub(address) as i64));
            varint::write(out, row.empty);
            varint::write(out, u64::from(row.kinds));
            offset = row.offset + row.size;
            address = row.address.wrapping_add(row.size).wrapping_add(row.empty);
        }
    }

    pub(crate) fn read(reader: &mut ByteReader<'_>, file_len: u64) -> Result<Self, ReadError> {
        const WHAT: &str = "an address table";
        let at = reader.position();
        let wrong = |why: &str| ReadError::Value { what: WHAT, offset: at, why: why.to_owned() };
        let base = varint::read(reader, WHAT)?;
        let top = base.wrapping_add(varint::read(reader, WHAT)?);
        let count = varint::read(reader, WHAT)?;
        if count > MAX_ROWS as u64 {
            return Err(ReadError::ImpossibleCount { what: WHAT, declared: count, possible: MAX_ROWS });
        }
        let mut rows = Vec::new();
        let (mut offset, mut address) = (0_u64, base);
        for _ in 0..count {
            let skipped = varint::read(reader, WHAT)?;
            let size = varint::read(reader, WHAT)?;
            let moved = varint::unzigzag(varint::read(reader, WHAT)?);
            let empty = varint::read(reader, WHAT)?;
            let kinds = varint::read(reader, WHAT)?;
            let begin = offset.checked_add(skipped).ok_or_else(|| wrong("a row lies outside the file"))?;
            let end = begin.checked_add(size).filter(|end| *end <= file_len);
            let end = end.ok_or_else(|| wrong("a row lies outside the file"))?;
            if size == 0 || kinds & !u64::from(kinds::ALL) != 0 {
                return Err(wrong("a row of no bytes, or of fields that are not known"));
            }
            let begins = address.wrapping_add(moved as u64);
            rows.push(Row { offset: begin, size, address: begins, empty, kinds: kinds as u16 });
            offset = end;
            address = begins.wrapping_add(size).wrapping_add(empty);
        }
        Ok(Self::of(base, top, rows))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sample() -> Table {
        let rows = vec![
            Row { offset: 0x400, size: 0x200, address: 0x1000, empty: 0, kinds: kinds::BRANCH },
            Row { offset: 0x600, size: 0x100, address: 0x3000, empty: 0x80, kinds: kinds::ABSOLUTE64 },
        ];
        Table::new(0x1000, 0x4000, rows, 0x800)
    }

    #[test]
    fn offsets_and_addresses_lead_to_each_other() {
        let table = sample();
        assert_eq!(table.address_of(0x400), Some(0x1000));
        assert_eq!(table.address_of(0x6ff), Some(0x30ff));
        assert_eq!((table.address_of(0x3ff), table.address_of(0x700)), (None, None));
        assert_eq!(table.place_of(0x1001), Place::Byte(0x401));
        assert_eq!(table.place_of(0x3100), Place::Empty(1, 0));
        assert_eq!(table.place_of(0x3180), Place::Nothing(0x2180));
        assert_eq!(table.place_of(0x10), Place::Nothing(0x10_u64.wrapping_sub(0x1000)));
        assert_eq!(table.address_of_empty(1, 5), Some(0x3105));
        assert_eq!(table.row_at(0).unwrap_err(), 0x400);
        assert_eq!(table.row_at(0x700).unwrap_err(), u64::MAX);
    }

    #[test]
    fn rows_that_overlap_are_left_out() {
        let row = |offset, size| Row { offset, size, ..Row::default() };
        let table = Table::new(0, 100, vec![row(10, 10), row(15, 10), row(0, 10), row(90, 20), row(5, 0)], 100);
        assert_eq!(table.rows().iter().map(|row| row.offset).collect::<Vec<_>>(), [0, 10]);
    }

    proptest! {
        #[test]
        fn a_table_comes_back(base: u64, top: u64, rows in prop::collection::vec((0_u64..900, 1_u64..99, any::<u64>(), any::<u64>(), 0..=kinds::ALL), 0..9)) {
            let rows = rows.into_iter().map(|(offset, size, address, empty, kinds)| Row { offset, size, address, empty, kinds }).collect();
            let table = Table::new(base, top, rows, 1000);
            let mut out = Vec::new();
            table.write(&mut out);
            let mut reader = ByteReader::new(&out);
            prop_assert_eq!(Table::read(&mut reader, 1000).unwrap(), table);
            prop_assert_eq!(reader.remaining(), 0);
        }

        #[test]
        fn no_bytes_make_the_reader_panic(bytes in prop::collection::vec(any::<u8>(), 0..99), address: u64, offset: u64) {
            if let Ok(table) = Table::read(&mut ByteReader::new(&bytes), 1 << 40) {
                let _ = (table.place_of(address), table.address_of(offset), table.row_at(offset).is_ok());
            }
        }
    }
}
