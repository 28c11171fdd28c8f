//! Copies of programs in which addresses do not disturb the search for what is alike. Not part of the format.

use crate::fields;
use crate::table::{Place, Table, kinds};
use crate::walk::PIECE_LEN;

/// What stands for an address in memory that is empty at first, and for one that leads nowhere.
const EMPTY: u32 = 0x5a5a_0001;
const NOWHERE: u32 = 0x5a5a_0002;
/// Bytes at a target that say what lies there.
const LABEL_OF: usize = 16;

/// Makes such a copy: a field is replaced by what lies at its target. A call of the same function looks the same, wherever the
/// function lies.
#[expect(clippy::indexing_slicing, reason = "fields lie within the bytes that they were found in")]
pub(crate) fn masked(bytes: &[u8], table: &Table) -> Vec<u8> {
    let mut out = bytes.to_vec();
    // Small numbers are often taken for these: what lies in tables would all look the same.
    let table = &table.with_kinds(|_, row| row.kinds & !(kinds::SELF32 | kinds::OWN_ROW));
    // Place and size, and what is meant; a program of 64 MiB has some millions.
    let mut found: Vec<(u32, u64)> = Vec::new();
    for row in table.rows().iter().filter(|row| row.kinds != 0) {
        let (start, end) = (row.offset as usize, (row.offset + row.size) as usize);
        let row_bytes = &bytes[start..end];
        for (number, piece) in row_bytes.chunks(PIECE_LEN).enumerate() {
            let offset = start + number * PIECE_LEN;
            let mut at = 0;
            while let Some(field) = fields::next(piece, at, offset as u64, row, table) {
                at = field.at + field.size;
                let place = offset + field.at;
                out[place..place + field.size].fill(0);
                found.push((place as u32, field.target));
            }
        }
    }
    let labels: Vec<u32> = found.iter().map(|(_, target)| label(&out, table, *target)).collect();
    for ((place, _), label) in found.iter().zip(labels) {
        let place = *place as usize;
        out[place..place + 4].copy_from_slice(&label.to_le_bytes());
    }
    out
}

fn label(zeroed: &[u8], table: &Table, target: u64) -> u32 {
    match table.place_of(target) {
        Place::Empty(..) => EMPTY,
        Place::Nothing(_) => NOWHERE,
        Place::Byte(offset) => {
            let start = usize::try_from(offset).unwrap_or(usize::MAX);
            let rest = zeroed.get(start..).unwrap_or_default();
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
        let (masked_a, masked_b) = (masked(&a.0, &a.1), masked(&b.0, &b.1));
        assert_eq!(masked_a[..64], masked_b[..64]);
        assert_ne!(masked_a[11..15], [0; 4]);
        assert_eq!(masked_a[15..64], a.0[15..64]);
    }
}
