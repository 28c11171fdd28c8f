//! Copies of programs in which addresses do not disturb the search for what is alike. Not part of the format.

use crate::fields;
use crate::table::{Place, Table, kinds};
use crate::walk::PIECE_LEN;

/// What stands for an address in memory that is empty at first, and for one that leads nowhere.
const EMPTY: u32 = 0x5a5a_0001;
const NOWHERE: u32 = 0x5a5a_0002;
/// Bytes at a target that say what lies there.
const LABEL_OF: usize = 16;

/// Makes such a copy in place: a field is replaced by what lies at its target. A call of the same function looks the same, wherever
/// the function lies.
#[expect(clippy::indexing_slicing, reason = "fields lie within the bytes that they were found in")]
pub(crate) fn mask(bytes: &mut [u8], table: &Table) {
    // Small numbers are often taken for these: what lies in tables would all look the same.
    let table = &table.with_kinds(|_, row| row.kinds & !(kinds::SELF32 | kinds::OWN_ROW));
    // Where each lies, and what it means; a program of 64 MiB has some millions.
    let mut found: Vec<(u32, u32)> = Vec::new();
    for row in table.rows().iter().filter(|row| row.kinds != 0) {
        let (start, end) = (row.offset as usize, (row.offset + row.size) as usize);
        for offset in (start..end).step_by(PIECE_LEN) {
            let piece = &mut bytes[offset..end.min(offset + PIECE_LEN)];
            let mut at = 0;
            // Nothing before the end of the last one is looked at again.
            while let Some(field) = fields::next(piece, at, offset as u64, row, table) {
                at = field.at + field.size;
                piece[field.at..at].fill(0);
                found.push(((offset + field.at) as u32, meant(table, field.target)));
            }
        }
    }
    for (_, target) in &mut found {
        *target = label(bytes, *target);
    }
    for (place, label) in found {
        let place = place as usize;
        bytes[place..place + 4].copy_from_slice(&label.to_le_bytes());
    }
}

/// An offset that stands for an address which is empty at first, and for one that leads nowhere: no program is that long.
const AT_EMPTY: u32 = u32::MAX - 1;
const AT_NOTHING: u32 = u32::MAX;

fn meant(table: &Table, target: u64) -> u32 {
    match table.place_of(target) {
        Place::Empty(..) => AT_EMPTY,
        Place::Nothing(_) => AT_NOTHING,
        Place::Byte(offset) => u32::try_from(offset).unwrap_or(AT_NOTHING),
    }
}

fn label(zeroed: &[u8], meant: u32) -> u32 {
    match meant {
        AT_EMPTY => EMPTY,
        AT_NOTHING => NOWHERE,
        offset => {
            let rest = zeroed.get(offset as usize..).unwrap_or_default();
            let what = rest.get(..LABEL_OF).unwrap_or(rest);
            let mut hash = 0xcbf2_9ce4_8422_2325_u64;
            for byte in what {
                hash = (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3);
            }
            (hash >> 32) as u32 ^ hash as u32
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::Row;

    /// Two programs that call the same function, which lies elsewhere in the second.
    fn calls(function_at: usize) -> (Vec<u8>, Table) {
        let mut bytes = vec![0x90; 256];
        bytes[10] = 0xe8;
        bytes[11..15].copy_from_slice(&(function_at as i32 - 15).to_le_bytes());
        bytes[function_at..function_at + 16].copy_from_slice(b"what the tide do");
        let rows = vec![Row { offset: 0, size: 256, address: 0x1000, empty: 0, kinds: kinds::BRANCH }];
        (bytes, Table::new(0x1000, 0x1100, rows, 256))
    }

    #[test]
    fn a_call_of_what_moved_looks_the_same() {
        let (a, b) = (calls(100), calls(150));
        assert_ne!(a.0[11..15], b.0[11..15]);
        let masked = |(bytes, table): &(Vec<u8>, Table)| {
            let mut out = bytes.clone();
            mask(&mut out, table);
            out
        };
        let (masked_a, masked_b) = (masked(&a), masked(&b));
        assert_eq!(masked_a[..64], masked_b[..64]);
        assert_ne!(masked_a[11..15], [0; 4]);
        assert_eq!(masked_a[15..64], a.0[15..64]);
    }
}
