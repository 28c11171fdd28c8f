//! Fields: the places of a file that hold addresses. Found in old bytes only, so both sides find the same.
//!
//! x86 instructions: Intel 64 and IA-32 Architectures Software Developer's Manual, volume 2, sections 2.1.5 (ModR/M), 2.2.1.6
//! (RIP-relative addressing), and CALL, JMP, Jcc. ARM64: Arm Architecture Reference Manual for A-profile, C6.2, `B`, `BL`,
//! `ADRP`, `ADD (immediate)`, `LDR (immediate)`, `STR (immediate)`, and C4.1 for their encodings.

use crate::table::{Row, Table, kinds};

/// An address that is lower than this above the base is more likely a small number.
const LOW: u64 = 4096;

/// A field.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Field {
    /// From the first byte of the piece.
    pub at: usize,
    /// 4 or 8 bytes.
    pub size: usize,
    /// One of [`kinds`].
    pub kind: u16,
    /// Its bytes, little-endian.
    pub word: u64,
    /// The address that it means.
    pub target: u64,
}

fn word32(bytes: &[u8], at: usize) -> Option<u64> {
    bytes.get(at..)?.first_chunk().map(|b| u64::from(u32::from_le_bytes(*b)))
}

fn word64(bytes: &[u8], at: usize) -> Option<u64> {
    bytes.get(at..)?.first_chunk().map(|b| u64::from_le_bytes(*b))
}

const fn signed(value: u64, bits: u32) -> u64 {
    (((value << (64 - bits)) as i64) >> (64 - bits)) as u64
}

/// Finds the first field of a piece at or behind `from`. `offset` is where the piece begins in the file; all of it lies in `row`.
pub(crate) fn next(piece: &[u8], from: usize, offset: u64, row: &Row, table: &Table) -> Option<Field> {
    let any_place = row.kinds & (kinds::BRANCH | kinds::RELATIVE | kinds::ABSOLUTE32) != 0;
    let aligned = row.kinds & !(kinds::BRANCH | kinds::RELATIVE | kinds::ABSOLUTE32);
    let mut at = from;
    if !any_place {
        at += (offset.wrapping_add(from as u64).wrapping_neg() & 3) as usize;
    }
    while at + 4 <= piece.len() {
        let place = offset.wrapping_add(at as u64);
        if aligned != 0 && place & 3 == 0 {
            let found = aligned_field(piece, at, place, row, table);
            if found.is_some() {
                return found;
            }
        }
        if any_place {
            let found = unaligned_field(piece, at, place, row, table);
            if found.is_some() {
                return found;
            }
            at += 1;
        } else {
            at += 4;
        }
    }
    None
}

fn aligned_field(piece: &[u8], at: usize, place: u64, row: &Row, table: &Table) -> Option<Field> {
    let address = row.address.wrapping_add(place - row.offset);
    let has = |kind: u16| row.kinds & kind != 0;
    let word = word32(piece, at)?;
    let field = |kind, target| Some(Field { at, size: 4, kind, word, target });
    let reach = table.top.wrapping_sub(table.base);
    if has(kinds::OWN_ROW) {
        let target = table.base.wrapping_add(word);
        if target.wrapping_sub(row.address) < row.size {
            return field(kinds::OWN_ROW, target);
        }
    }
    let wide = if has(kinds::ABSOLUTE64) && place & 7 == 0 { word64(piece, at) } else { None };
    if let Some(word) = wide.filter(|word| (LOW..reach).contains(&word.wrapping_sub(table.base))) {
        return Some(Field { at, size: 8, kind: kinds::ABSOLUTE64, word, target: word });
    }
    if has(kinds::OFFSET32) && word >= LOW && word < reach {
        return field(kinds::OFFSET32, table.base.wrapping_add(word));
    }
    if has(kinds::SELF32) && word != 0 {
        let target = address.wrapping_add(signed(word, 32));
        if table.has(target) {
            return field(kinds::SELF32, target);
        }
    }
    if has(kinds::ARM_PAGE) {
        let pair = word64(piece, at).filter(|pair| second_of_page(*pair).is_some());
        let (size, word) = pair.map_or((4, word), |pair| (8, pair));
        if let Some(target) = target_of(kinds::ARM_PAGE, size, word, address, table).filter(|target| table.has(*target))
        {
            return Some(Field { at, size, kind: kinds::ARM_PAGE, word, target });
        }
    }
    if has(kinds::ARM_BRANCH) {
        let target = target_of(kinds::ARM_BRANCH, 4, word, address, table).filter(|target| table.has(*target))?;
        return field(kinds::ARM_BRANCH, target);
    }
    None
}

fn unaligned_field(piece: &[u8], at: usize, place: u64, row: &Row, table: &Table) -> Option<Field> {
    let first = *piece.get(at)?;
    let distance = |kind: u16, skip: usize| {
        let word = word32(piece, at + skip).filter(|word| *word != 0)?;
        let behind = row.address.wrapping_add(place - row.offset).wrapping_add(skip as u64 + 4);
        let target = behind.wrapping_add(signed(word, 32));
        table.has(target).then_some(Field { at: at + skip, size: 4, kind, word, target })
    };
    if row.kinds & kinds::ABSOLUTE32 != 0 {
        let word = word32(piece, at)?;
        let from_base = word.wrapping_sub(table.base);
        if from_base >= LOW && from_base < table.top.wrapping_sub(table.base) {
            return Some(Field { at, size: 4, kind: kinds::ABSOLUTE32, word, target: word });
        }
    }
    if row.kinds & kinds::BRANCH != 0 {
        let found = match first {
            0xe8 | 0xe9 => distance(kinds::BRANCH, 1),
            0x0f if piece.get(at + 1).is_some_and(|second| second & 0xf0 == 0x80) => distance(kinds::BRANCH, 2),
            _ => None,
        };
        if found.is_some() {
            return found;
        }
    }
    if row.kinds & kinds::RELATIVE != 0 && first & 0xc7 == 0x05 {
        return distance(kinds::RELATIVE, 1);
    }
    None
}

/// How far the second instruction of an `ADRP` pair shifts its 12 bits; none when the two are no pair.
fn second_of_page(pair: u64) -> Option<u32> {
    let (first, second) = (pair as u32, (pair >> 32) as u32);
    if first & 0x9f00_0000 != 0x9000_0000 || (second >> 5) & 31 != first & 31 {
        return None;
    }
    if second & 0xffc0_0000 == 0x9100_0000 {
        return Some(0);
    }
    if second & 0x3b00_0000 != 0x3900_0000 {
        return None;
    }
    let is_vector = second & 0x0400_0000 != 0;
    Some(if is_vector && second & 0x0080_0000 != 0 && second >> 30 == 0 { 4 } else { second >> 30 })
}

/// What address a field means that lies at `address`; none when its bytes are of another kind.
pub(crate) fn target_of(kind: u16, size: usize, word: u64, address: u64, table: &Table) -> Option<u64> {
    match kind {
        kinds::BRANCH | kinds::RELATIVE => Some(address.wrapping_add(4).wrapping_add(signed(word, 32))),
        kinds::OWN_ROW | kinds::OFFSET32 => Some(table.base.wrapping_add(word)),
        kinds::ABSOLUTE64 | kinds::ABSOLUTE32 => Some(word),
        kinds::SELF32 => Some(address.wrapping_add(signed(word, 32))),
        kinds::ARM_BRANCH => {
            let is_branch = word as u32 & 0x7c00_0000 == 0x1400_0000;
            is_branch.then(|| address.wrapping_add(signed(word & 0x03ff_ffff, 26) << 2))
        }
        kinds::ARM_PAGE => {
            if word as u32 & 0x9f00_0000 != 0x9000_0000 {
                return None;
            }
            let pages = signed((word >> 29) & 3 | (word >> 3) & 0x001f_fffc, 21);
            let page = (address & !0xfff).wrapping_add(pages << 12);
            if size == 4 {
                return Some(page);
            }
            let shift = second_of_page(word)?;
            Some(page.wrapping_add(((word >> 42) & 0xfff) << shift))
        }
        _ => None,
    }
}

/// The bytes of a field that lies at `address` and means `target`, its other bits as they were.
pub(crate) fn word_of(kind: u16, size: usize, old: u64, address: u64, target: u64, table: &Table) -> u64 {
    let low = 0xffff_ffff;
    match kind {
        kinds::BRANCH | kinds::RELATIVE => target.wrapping_sub(address.wrapping_add(4)) & low,
        kinds::OWN_ROW | kinds::OFFSET32 => target.wrapping_sub(table.base) & low,
        kinds::ABSOLUTE32 => target & low,
        kinds::SELF32 => target.wrapping_sub(address) & low,
        kinds::ARM_BRANCH => old & 0xfc00_0000 | (target.wrapping_sub(address) >> 2) & 0x03ff_ffff,
        kinds::ARM_PAGE => {
            let pages = (target >> 12).wrapping_sub(address >> 12);
            let adrp = old & 0x9f00_001f | (pages & 3) << 29 | (pages & 0x001f_fffc) << 3;
            match second_of_page(old) {
                Some(shift) if size == 8 => {
                    let second = (old >> 32) & 0xffc0_03ff | ((target & 0xfff) >> shift & 0xfff) << 10;
                    adrp | second << 32
                }
                _ => adrp,
            }
        }
        _ => target,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const BASE: u64 = 0x1_4000_0000;

    fn table(kinds: u16) -> Table {
        let rows = vec![Row { offset: 0x400, size: 0x1000, address: BASE + 0x1000, empty: 0, kinds }];
        Table::new(BASE, BASE + 0x2_0000, rows, 0x2000)
    }

    fn found(kinds: u16, piece: &[u8]) -> Option<(usize, usize, u64)> {
        let table = table(kinds);
        next(piece, 0, 0x400, &table.rows()[0], &table).map(|f| (f.at, f.size, f.target - BASE))
    }

    #[test]
    fn each_kind_has_its_form() {
        let call = [0x90, 0xe8, 0x10, 0, 0, 0, 0x90, 0x90];
        assert_eq!(found(kinds::BRANCH, &call), Some((2, 4, 0x1016)));
        assert_eq!(found(kinds::RELATIVE, &call), None);
        assert_eq!(found(kinds::BRANCH, &[0x0f, 0x84, 0x10, 0, 0, 0]), Some((2, 4, 0x1016)));
        assert_eq!(found(kinds::BRANCH, &[0xe8, 0, 0, 0, 0x7f]), None, "outside the image");
        assert_eq!(found(kinds::BRANCH, &[0xe8, 0, 0, 0, 0]), None, "no distance");
        assert_eq!(found(kinds::BRANCH, &[0xe8, 1, 0, 0]), None, "cut off");
        assert_eq!(found(kinds::RELATIVE, &[0x48, 0x8d, 0x0d, 0x20, 0, 0, 0]), Some((3, 4, 0x1027)));
        assert_eq!(found(kinds::OWN_ROW, &[0, 0x11, 0, 0]), Some((0, 4, 0x1100)));
        assert_eq!(found(kinds::OWN_ROW, &[0, 0x30, 0, 0]), None);
        assert_eq!(found(kinds::OFFSET32, &[0, 0x30, 0, 0]), Some((0, 4, 0x3000)));
        assert_eq!(found(kinds::OFFSET32, &[9, 0, 0, 0]), None, "a small number");
        assert_eq!(found(kinds::ABSOLUTE64, &(BASE + 0x1234).to_le_bytes()), Some((0, 8, 0x1234)));
        assert_eq!(found(kinds::SELF32, &[0xf0, 0xff, 0xff, 0xff]), Some((0, 4, 0xff0)));
        // BL +8, and ADRP x0 to the next page with ADD x0, x0, #0x123.
        assert_eq!(found(kinds::ARM_BRANCH, &0x9400_0002_u32.to_le_bytes()), Some((0, 4, 0x1008)));
        let pair = [0xb000_0000_u32.to_le_bytes(), 0x9104_8c00_u32.to_le_bytes()].concat();
        assert_eq!(found(kinds::ARM_PAGE, &pair), Some((0, 8, 0x2123)));
        assert_eq!(found(kinds::ARM_PAGE, &pair[..4]), Some((0, 4, 0x2000)));
    }

    proptest! {
        /// Whatever a field means, its own word is what gives that.
        #[test]
        fn word_and_target_lead_to_each_other(piece in prop::collection::vec(any::<u8>(), 0..64), bit in 0_u32..9, base: u32) {
            let base = u64::from(base) & !0xfff;
            let kind = 1_u16 << bit;
            let rows = vec![Row { offset: 0, size: 64, address: base + 0x1000, empty: 0, kinds: kind }];
            let table = Table::new(base, base + 0x9000_0000, rows, 64);
            let row = table.rows()[0];
            let mut from = 0;
            while let Some(field) = next(&piece, from, 0, &row, &table) {
                prop_assert!(field.at >= from && field.at + field.size <= piece.len());
                let address = row.address + field.at as u64;
                prop_assert_eq!(target_of(field.kind, field.size, field.word, address, &table), Some(field.target));
                let word = word_of(field.kind, field.size, field.word, address, field.target, &table);
                prop_assert_eq!(word, field.word);
                from = field.at + field.size;
            }
        }
    }
}
