//! Walking over copied bytes: the one place where a field's new value is predicted, for the side that makes an update file and the
//! side that applies it.

use crate::fields::{self, Field};
use crate::table::{Place, Table};

/// Fields are looked for in pieces of so many bytes, from where a stretch begins; none reaches over a piece's end.
pub(crate) const PIECE_LEN: usize = 64 * 1024;

/// How many places a file remembers of addresses whose new value it has seen.
const LEARNT: usize = 65_536;

/// Something copied from an old file into a new one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Copy {
    /// Where it goes, in the new file.
    pub new: u64,
    /// Where it comes from, in its old file.
    pub old: u64,
    /// Bytes, at least one.
    pub len: u64,
}

/// Where each byte of an old file went.
#[derive(Debug, Default)]
pub(crate) struct Moved {
    /// Old offset, length, new offset; by old offset, none overlapping another.
    pieces: Vec<(u64, u64, u64)>,
}

impl Moved {
    /// Makes it of what was copied: the longest first, of equals the one that goes first in the new file.
    pub(crate) fn of(copies: &[Copy]) -> Self {
        let mut order: Vec<&Copy> = copies.iter().collect();
        order.sort_unstable_by_key(|copy| (std::cmp::Reverse(copy.len), copy.new));
        let mut taken: std::collections::BTreeMap<u64, (u64, u64)> = std::collections::BTreeMap::new();
        for copy in order {
            let end = copy.old.saturating_add(copy.len);
            let mut at = copy.old;
            if let Some((old, (len, _))) = taken.range(..=at).next_back() {
                at = at.max(old.saturating_add(*len));
            }
            while at < end {
                let next = taken.range(at..end).next().map(|(old, (len, _))| (*old, *len));
                let to = next.map_or(end, |(old, _)| old);
                if to > at {
                    taken.insert(at, (to - at, copy.new.wrapping_add(at - copy.old)));
                }
                at = next.map_or(end, |(old, len)| old.saturating_add(len));
            }
        }
        Self { pieces: taken.into_iter().map(|(old, (len, new))| (old, len, new)).collect() }
    }

    /// Where an old byte went; one that was not copied as the nearest end of what was, the earlier of two.
    fn new_of(&self, offset: u64) -> Option<u64> {
        let next = self.pieces.partition_point(|(old, _, _)| *old <= offset);
        let before = next.checked_sub(1).and_then(|at| self.pieces.get(at));
        let after = self.pieces.get(next);
        let by = |(old, _, new): &(u64, u64, u64)| new.wrapping_add(offset.wrapping_sub(*old));
        match (before, after) {
            (Some(before), None) => Some(by(before)),
            (None, Some(after)) => Some(by(after)),
            (None, None) => None,
            (Some(before), Some(after)) => {
                let behind = offset.saturating_sub(before.0.saturating_add(before.1));
                let ahead = after.0 - offset;
                Some(if behind <= ahead { by(before) } else { by(after) })
            }
        }
    }
}

/// Stands in a slot that holds nothing yet; this address is never remembered.
const NOTHING: u64 = u64::MAX;

/// Addresses whose new value was seen: one for each slot, the last.
struct Learnt(Vec<(u64, u64)>);

impl Learnt {
    fn slot(target: u64) -> usize {
        (target.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 48) as usize & (LEARNT - 1)
    }

    fn find(&self, target: u64) -> Option<u64> {
        self.0.get(Self::slot(target)).filter(|(old, _)| *old == target && target != NOTHING).map(|(_, new)| *new)
    }

    fn learn(&mut self, target: u64, new: u64) {
        if let Some(slot) = self.0.get_mut(Self::slot(target)) {
            *slot = (target, new);
        }
    }
}

/// What really stands in the new file: known to the one who makes an update file, read from it by the one who applies it.
pub(crate) trait Truth {
    /// Why it could not be had.
    type Error;
    /// Bytes without fields, as they were.
    fn plain(&mut self, old: &[u8]) -> Result<(), Self::Error>;
    /// A field of 4 or 8 bytes, as it is predicted; returns what it really is.
    fn field(&mut self, field: &Field, row: usize, predicted: u64) -> Result<u64, Self::Error>;
}

/// What is known of a file's addresses, before and after.
pub(crate) struct Addresses<'a> {
    pub old: &'a Table,
    pub new: &'a Table,
    moved: &'a Moved,
    learnt: Learnt,
}

impl<'a> Addresses<'a> {
    pub(crate) fn new(old: &'a Table, new: &'a Table, moved: &'a Moved) -> Self {
        Self { old, new, moved, learnt: Learnt(vec![(NOTHING, 0); LEARNT]) }
    }

    /// The new address of what an old address meant.
    fn predict(&self, target: u64) -> Option<u64> {
        if let Some(new) = self.learnt.find(target) {
            return Some(new);
        }
        match self.old.place_of(target) {
            Place::Byte(offset) => self.new.address_of(self.moved.new_of(offset)?),
            Place::Empty(row, behind) => self.new.address_of_empty(row, behind),
            Place::Nothing(distance) => Some(self.new.base.wrapping_add(distance)),
        }
    }

    /// Walks over one piece of copied bytes. `old_offset` and `new_offset` are those of its first byte; the row is the one that it lies in.
    pub(crate) fn piece<T: Truth>(
        &mut self,
        piece: &[u8],
        old_offset: u64,
        new_offset: u64,
        row: usize,
        truth: &mut T,
    ) -> Result<(), T::Error> {
        let (old, new) = (self.old, self.new);
        let Some(of) = old.rows().get(row) else { return truth.plain(piece) };
        let mut at = 0;
        while let Some(field) = fields::next(piece, at, old_offset, of, old) {
            truth.plain(piece.get(at..field.at).unwrap_or_default())?;
            let Field { kind, size, word, target, .. } = field;
            let address = new.address_of(new_offset.wrapping_add(field.at as u64));
            let predicted = address
                .and_then(|address| Some(fields::word_of(kind, size, word, address, self.predict(target)?, new)))
                .unwrap_or(word);
            let is = truth.field(&field, row, predicted)?;
            if let Some(meant) = address.and_then(|address| fields::target_of(kind, size, is, address, new)) {
                self.learnt.learn(target, meant);
            }
            at = field.at + size;
        }
        truth.plain(piece.get(at..).unwrap_or_default())
    }
}

/// A stretch of copied bytes that lies in one row that holds fields, or in none.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Stretch {
    /// From the first byte of what is copied.
    pub at: u64,
    pub len: u64,
    /// None where no fields are.
    pub row: Option<usize>,
}

/// Cuts what is copied where rows with fields begin and end.
pub(crate) fn stretches(copy: Copy, table: Option<&Table>) -> impl Iterator<Item = Stretch> {
    let mut at = 0;
    std::iter::from_fn(move || {
        let rest = copy.len - at;
        if rest == 0 {
            return None;
        }
        let start = copy.old.saturating_add(at);
        let found = table.map_or(Err(u64::MAX), |table| table.row_at(start));
        let (end, row) = match found {
            Ok((number, row)) => (row.offset + row.size, (row.kinds != 0).then_some(number)),
            Err(next) => (next, None),
        };
        let stretch = Stretch { at, len: rest.min(end - start), row };
        at += stretch.len;
        Some(stretch)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::{Row, kinds};
    use proptest::prelude::*;

    fn copy(old: u64, len: u64, new: u64) -> Copy {
        Copy { new, old, len }
    }

    #[test]
    fn the_longest_copy_says_where_a_byte_went() {
        let moved = Moved::of(&[copy(10, 5, 100), copy(12, 20, 200), copy(40, 5, 300)]);
        assert_eq!(moved.pieces, [(10, 2, 100), (12, 20, 200), (40, 5, 300)]);
        assert_eq!(moved.new_of(13), Some(201));
        assert_eq!(moved.new_of(11), Some(101));
        // In a hole: the nearest end; before and behind everything: the only one.
        assert_eq!((moved.new_of(33), moved.new_of(36), moved.new_of(39)), (Some(221), Some(224), Some(299)));
        assert_eq!((moved.new_of(5), moved.new_of(50)), (Some(95), Some(310)));
        assert_eq!(Moved::of(&[]).new_of(5), None);
    }

    #[test]
    fn stretches_end_where_rows_do() {
        let row = |offset, size, kinds| Row { offset, size, kinds, ..Row::default() };
        let table = Table::new(0, 9, vec![row(10, 10, kinds::BRANCH), row(20, 10, 0), row(40, 10, kinds::SELF32)], 99);
        let got: Vec<_> = stretches(copy(5, 40, 0), Some(&table)).map(|s| (s.at, s.len, s.row)).collect();
        assert_eq!(got, [(0, 5, None), (5, 10, Some(0)), (15, 10, None), (25, 10, None), (35, 5, Some(2))]);
        assert_eq!(stretches(copy(5, 40, 0), None).count(), 1);
    }

    proptest! {
        #[test]
        fn moved_pieces_never_overlap(copies in prop::collection::vec((0_u64..200, 1_u64..60, any::<u32>()), 0..30), at in 0_u64..300) {
            let copies: Vec<Copy> = copies.into_iter().map(|(old, len, new)| copy(old, len, u64::from(new))).collect();
            let moved = Moved::of(&copies);
            prop_assert!(moved.pieces.windows(2).all(|two| two[0].0 + two[0].1 <= two[1].0));
            let covered: u64 = moved.pieces.iter().map(|(_, len, _)| len).sum();
            let wanted = (0..300).filter(|at| copies.iter().any(|c| (c.old..c.old + c.len).contains(at))).count();
            prop_assert_eq!(covered, wanted as u64);
            if let Some(best) = copies.iter().filter(|c| (c.old..c.old + c.len).contains(&at)).map(|c| c.len).max() {
                let new = moved.new_of(at).unwrap();
                prop_assert!(copies.iter().any(|c| c.len <= best && (c.old..c.old + c.len).contains(&at) && c.new + (at - c.old) == new));
            }
        }
    }
}
