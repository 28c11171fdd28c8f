//! Finding what two stretches of bytes have in common. None of this is part of the format: an update file says what was found.
//!
//! Extending matches into both directions by what agrees, and splitting the overlap where most agrees, follows "Naive differences of
//! executable code" (2003), section 3; samples of the old bytes in a table of chains take the place of its suffix array, which needs
//! a multiple of the memory.
#![expect(
    clippy::indexing_slicing,
    reason = "works on our own bytes with offsets that it found in them; nothing here reads an update file"
)]

/// Bytes that are compared by a lookup.
const KEY_LEN: usize = 16;
/// Candidates that are looked at for one place.
const MAX_CHAIN: usize = 32;
/// A run of equal bytes of so many on the way is passed over without a lookup.
const RUN: usize = 16;
/// A match must agree on so many more bytes than where we are.
const GAIN: usize = 8;

/// So many bits more of a hash say whether there is a sample with it than say where its chain begins.
const MORE_BITS: u32 = 3;

/// Places that are worked on before it is asked again whether to stop.
const STOP_EVERY: usize = 64 * 1024;

/// Whether someone asks to stop.
pub(crate) type Stopped<'a> = &'a (dyn Fn() -> bool + Sync);

/// Bytes that two stretches have in common, in places of each.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Match {
    pub new: usize,
    pub old: usize,
    pub len: usize,
}

/// Samples of old bytes, to be looked up.
pub(crate) struct Index<'a> {
    bytes: &'a [u8],
    stride: usize,
    shift: u32,
    /// By a longer piece of the hash, a bit that says whether there is a sample with it. Most places have none, and this is small enough to
    /// stay near the processor, which the tables are not.
    there: Vec<u64>,
    /// By hash, the number of the last sample with it, plus one.
    head: Vec<u32>,
    /// By sample, the number of the one before it with the same hash, plus one.
    next: Vec<u32>,
}

fn key(bytes: &[u8], at: usize) -> Option<(u64, u64)> {
    let bytes: &[u8; KEY_LEN] = bytes.get(at..)?.first_chunk()?;
    let (low, high) = bytes.split_at(8);
    Some((u64::from_le_bytes(low.try_into().ok()?), u64::from_le_bytes(high.try_into().ok()?)))
}

fn hash(low: u64, high: u64) -> u64 {
    (low.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ high).wrapping_mul(0xd6e8_feb8_6659_fd93)
}

/// How many bytes agree from the first on.
pub(crate) fn common(a: &[u8], b: &[u8]) -> usize {
    let len = a.len().min(b.len());
    let (a, b) = (&a[..len], &b[..len]);
    let mut at = 0;
    while at + 8 <= len {
        let x = u64::from_le_bytes(a[at..at + 8].try_into().expect("eight bytes"));
        let y = u64::from_le_bytes(b[at..at + 8].try_into().expect("eight bytes"));
        if x != y {
            return at + ((x ^ y).trailing_zeros() / 8) as usize;
        }
        at += 8;
    }
    while at < len && a[at] == b[at] {
        at += 1;
    }
    at
}

/// How many bytes agree in all.
fn agreeing(a: &[u8], b: &[u8]) -> usize {
    a.iter().zip(b).filter(|(a, b)| a == b).count()
}

impl<'a> Index<'a> {
    /// Takes a sample at every `stride`th byte; fewer when someone asks to stop.
    pub(crate) fn new(bytes: &'a [u8], stride: usize, stopped: Stopped<'_>) -> Self {
        let count = (bytes.len() / stride).max(1);
        let bits = count.ilog2().clamp(8, 24);
        let (head, there) = (vec![0; 1 << bits], vec![0; (1 << (bits + MORE_BITS)) / 64]);
        let mut index = Self { bytes, stride, shift: 64 - bits, there, head, next: vec![0; bytes.len() / stride + 1] };
        for (number, at) in (0..bytes.len()).step_by(stride).enumerate() {
            let Some((low, high)) = key(bytes, at) else { break };
            if number % STOP_EVERY == 0 && stopped() {
                break;
            }
            // Of a run of one byte, such as zeros, few samples are enough.
            if low == high && low == low.rotate_left(8) && number % 32 != 0 {
                continue;
            }
            let hash = hash(low, high);
            let slot = index.slot(hash);
            let (word, bit) = index.bit(hash);
            index.there[word] |= bit;
            index.next[number] = std::mem::replace(&mut index.head[slot], number as u32 + 1);
        }
        index
    }

    /// What it is of.
    pub(crate) fn bytes(&self) -> &'a [u8] {
        self.bytes
    }

    fn slot(&self, hash: u64) -> usize {
        (hash >> self.shift) as usize
    }

    /// The word and the bit of it that say whether there is a sample with a hash.
    fn bit(&self, hash: u64) -> (usize, u64) {
        let place = hash >> (self.shift - MORE_BITS);
        ((place / 64) as usize, 1 << (place % 64))
    }

    /// The longest match of what begins at `at`; of equals the one that is nearest to where we are.
    fn find(&self, new: &[u8], at: usize, diagonal: Option<isize>) -> Option<(usize, usize)> {
        let (low, high) = key(new, at)?;
        let hash = hash(low, high);
        let (word, bit) = self.bit(hash);
        if self.there[word] & bit == 0 {
            return None;
        }
        let mut number = self.head[self.slot(hash)];
        let mut best: Option<(usize, usize)> = None;
        let distance = |old: usize| diagonal.map_or(0, |d| (old as isize - at as isize - d).unsigned_abs());
        for _ in 0..MAX_CHAIN {
            if number == 0 {
                break;
            }
            let old = (number as usize - 1) * self.stride;
            number = self.next[number as usize - 1];
            if key(self.bytes, old) != Some((low, high)) {
                continue;
            }
            let len = common(&new[at..], &self.bytes[old..]);
            let better = best.is_none_or(|(best_old, best_len)| {
                len > best_len || (len == best_len && distance(old) < distance(best_old))
            });
            if better {
                best = Some((old, len));
            }
        }
        best
    }

    /// Finds where in the old bytes the new ones go on as they did elsewhere: one place for each change of the distance between the
    /// two, in order, and one more of the same distance behind more than `apart` bytes that are not alike, where an extension may have
    /// ended. What comes of it is of no use once someone has asked to stop.
    pub(crate) fn anchors(&self, new: &[u8], apart: usize, stopped: Stopped<'_>) -> Vec<Match> {
        let mut out: Vec<Match> = Vec::new();
        let mut at = 0;
        let mut diagonal: Option<isize> = None;
        let mut asked = 0;
        let mut end = 0;
        while at + KEY_LEN <= new.len() {
            if at >= asked {
                if stopped() {
                    break;
                }
                asked = at + STOP_EVERY;
            }
            let here =
                diagonal.and_then(|d| usize::try_from(at as isize + d).ok()).filter(|old| *old < self.bytes.len());
            if let Some(old) = here {
                let run = common(&new[at..], &self.bytes[old..]);
                if run >= RUN {
                    if at - end > apart {
                        out.push(Match { new: at, old, len: run });
                    }
                    at += run;
                    end = at;
                    continue;
                }
            }
            let Some((old, len)) = self.find(new, at, diagonal) else {
                at += 1;
                continue;
            };
            let agree = here.map_or(0, |here| {
                let end = (here + len).min(self.bytes.len());
                agreeing(&new[at..at + len], &self.bytes[here..end])
            });
            if len > agree + GAIN {
                out.push(Match { new: at, old, len });
                diagonal = Some(old as isize - at as isize);
                at += len;
                end = at;
            } else {
                at += 1;
            }
        }
        out
    }
}

/// How far two stretches go on alike: the length at which most is won, a byte that differs costing `price` of those that agree.
/// Ends where so much was lost since the best that nothing is to be hoped for.
pub(crate) fn forwards(new: &[u8], old: &[u8], price: i64, give_up: i64) -> usize {
    let len = new.len().min(old.len());
    let (mut at, mut score, mut best, mut best_len) = (0, 0_i64, 0_i64, 0);
    while at < len {
        let run = common(&new[at..len], &old[at..len]);
        at += run;
        score += run as i64;
        if score > best {
            (best, best_len) = (score, at);
        }
        if at >= len || score < best - give_up {
            break;
        }
        score -= price;
        at += 1;
    }
    best_len
}

/// The same from the ends on.
pub(crate) fn backwards(new: &[u8], old: &[u8], price: i64, give_up: i64) -> usize {
    let len = new.len().min(old.len());
    let (mut score, mut best, mut best_len) = (0_i64, 0_i64, 0);
    for (at, (a, b)) in new.iter().rev().zip(old.iter().rev()).take(len).enumerate() {
        score += if a == b { 1 } else { -price };
        if score > best {
            (best, best_len) = (score, at + 1);
        } else if score < best - give_up {
            break;
        }
    }
    best_len
}

/// Makes matches of anchors: each is extended into both directions, and where two meet, the place is taken at which most agrees.
pub(crate) fn extend(new: &[u8], old: &[u8], anchors: &[Match], price: i64, give_up: i64) -> Vec<Match> {
    let mut out: Vec<Match> = Vec::with_capacity(anchors.len());
    for (number, anchor) in anchors.iter().enumerate() {
        let from = out.last().map_or(0, |last| last.new + last.len);
        let to = anchors.get(number + 1).map_or(new.len(), |next| next.new);
        let ahead = forwards(&new[anchor.new..to], &old[anchor.old..], price, give_up);
        // Before the anchor: up to the one before, whose own end may give way.
        let floor = number.checked_sub(1).map_or(0, |before| anchors[before].new);
        let back = backwards(&new[floor..anchor.new], &old[..anchor.old], price, give_up);
        let mut start = anchor.new - back;
        if start < from {
            let last = out.last_mut().expect("something ends there");
            let first = |at: usize| old[last.old + (at - last.new)] == new[at];
            let second = |at: usize| old[anchor.old - (anchor.new - at)] == new[at];
            // At most as far back as the first goes.
            start = split(start.max(last.new), from, first, second);
            last.len = start - last.new;
        }
        let back = anchor.new - start;
        let found = Match { new: start, old: anchor.old - back, len: back + ahead };
        match out.last_mut() {
            Some(last) if last.new + last.len == found.new && last.old + last.len == found.old => last.len += found.len,
            _ => out.push(found),
        }
    }
    out.retain(|found| found.len > 0);
    out
}

/// Where between `start` and `end`, which two matches cover, the first gives way to the second: where most agrees.
pub(crate) fn split(start: usize, end: usize, first: impl Fn(usize) -> bool, second: impl Fn(usize) -> bool) -> usize {
    let (mut score, mut best, mut keep) = (0_i64, 0_i64, start);
    for at in start..end {
        score += i64::from(first(at)) - i64::from(second(at));
        if score > best {
            (best, keep) = (score, at + 1);
        }
    }
    keep
}

/// Cuts out of a match what does not agree: where the score falls `drop` below its best, and on from the next run of eight bytes that agree.
pub(crate) fn without_holes(new: &[u8], old: &[u8], found: Match, price: i64, drop: i64) -> Vec<Match> {
    let (new, old) = (&new[found.new..found.new + found.len], &old[found.old..found.old + found.len]);
    let mut out = Vec::new();
    let mut start = 0;
    while start < new.len() {
        let len = forwards(&new[start..], &old[start..], price, drop);
        if len > 0 {
            out.push(Match { new: found.new + start, old: found.old + start, len });
        }
        // On to the next eight that agree.
        let mut at = start + len;
        let mut agree = 0;
        while at < new.len() && agree < 8 {
            agree = if new[at] == old[at] { agree + 1 } else { 0 };
            at += 1;
        }
        if agree < 8 {
            break;
        }
        start = at - 8;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::noise;
    use proptest::prelude::*;

    fn matches(old: &[u8], new: &[u8]) -> Vec<Match> {
        extend(new, old, &Index::new(old, 2, &|| false).anchors(new, 100, &|| false), 1, 100)
    }

    #[test]
    fn what_moved_is_found() {
        let old = noise("1", 10_000);
        let mut new = old.clone();
        new.splice(5_000..5_000, noise("2", 100));
        let found = matches(&old, &new);
        assert_eq!(found, [Match { new: 0, old: 0, len: 5_000 }, Match { new: 5_100, old: 5_000, len: 5_000 }]);
    }

    #[test]
    fn single_changed_bytes_stay_in_a_match_and_long_runs_are_cut_out() {
        let old = noise("1", 10_000);
        let mut new = old.clone();
        for at in (100..9_000).step_by(500) {
            new[at] ^= 0xff;
        }
        let whole = Match { new: 0, old: 0, len: 10_000 };
        assert_eq!(matches(&old, &new), [whole]);
        new[2_000..3_000].copy_from_slice(&noise("9", 1_000));
        let cut = without_holes(&new, &old, whole, 3, 24);
        assert_eq!(cut.len(), 2);
        assert!((1_990..2_010).contains(&cut[0].len) && (2_985..3_005).contains(&cut[1].new), "{cut:?}");
    }

    #[test]
    fn runs_of_one_byte_take_no_time() {
        let zeros = vec![0; 4 << 20];
        let found = matches(&zeros, &zeros[..3 << 20]);
        assert_eq!(found.iter().map(|found| found.len).sum::<usize>(), 3 << 20);
    }

    proptest! {
        #[test]
        fn matches_lie_inside_and_in_order(old in prop::collection::vec(0_u8..3, 0..400), new in prop::collection::vec(0_u8..3, 0..400), price in 1_i64..4, apart in 0_usize..30) {
            let found = extend(&new, &old, &Index::new(&old, 1, &|| false).anchors(&new, apart, &|| false), price, 50);
            let mut at = 0;
            for one in &found {
                prop_assert!(one.new >= at && one.len > 0);
                prop_assert!(one.old + one.len <= old.len() && one.new + one.len <= new.len());
                at = one.new + one.len;
                for hole in without_holes(&new, &old, *one, price, 24) {
                    prop_assert!(hole.new >= one.new && hole.new + hole.len <= at && hole.new - one.new == hole.old - one.old);
                }
            }
        }
    }
}
