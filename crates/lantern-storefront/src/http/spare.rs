//! Memory that content came in, for more of it: new memory would have to be cleared each time, by the system and by us.

use std::io::{self, ErrorKind, Read};
use std::sync::{Mutex, PoisonError};

/// Pieces that are kept. Ours: as many as large parts of packs are fetched at a time.
const MOST: usize = 4;
/// Pieces from here on are kept, in bytes; what is smaller costs nothing.
const WORTH_IT: u64 = 256 * 1024;
/// Memory comes in whole steps of so many bytes: pieces differ by little, and memory that grows by a little each time is another one.
const STEP: usize = 1024 * 1024;
/// Longest piece that is made ready for what is to come, in bytes; for more it grows while it comes.
pub(super) const MOST_AT_ONCE: u64 = 8 * 1024 * 1024;

/// Memory that is used again.
#[derive(Debug, Default)]
pub(super) struct Spare(Mutex<Vec<Vec<u8>>>);

impl Spare {
    /// Gives memory for so many bytes, which may have others in it.
    pub(super) fn take(&self, expected: u64) -> Vec<u8> {
        let kept = || self.0.lock().unwrap_or_else(PoisonError::into_inner).pop();
        (expected >= WORTH_IT).then(kept).flatten().unwrap_or_default()
    }

    pub(super) fn give(&self, memory: Vec<u8>) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if memory.len() as u64 >= WORTH_IT && kept.len() < MOST {
            kept.push(memory);
        }
    }
}

/// Reads everything into memory that has any bytes in it, and clears nothing of it first.
pub(super) fn read_into(mut memory: Vec<u8>, expected: u64, from: &mut dyn Read) -> io::Result<Vec<u8>> {
    // One more: the end is seen where there is room left.
    let room = usize::try_from(expected.min(MOST_AT_ONCE)).unwrap_or_default() + 1;
    if memory.len() < room {
        let whole = if room as u64 > WORTH_IT { room.next_multiple_of(STEP) } else { room };
        memory.reserve_exact(whole - memory.len());
        memory.resize(room, 0);
    }
    let mut len = 0;
    loop {
        if len == memory.len() {
            memory.resize(2 * len, 0);
        }
        match from.read(memory.get_mut(len..).unwrap_or_default()) {
            Ok(0) => break,
            Ok(more) => len += more,
            Err(error) if error.kind() == ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    memory.truncate(len);
    Ok(memory)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_there_before_is_not_read() {
        let old = vec![9; 1000];
        for expected in [0, 3, 5, 2000] {
            for memory in [Vec::new(), vec![9; 2], old.clone()] {
                assert_eq!(read_into(memory, expected, &mut b"tide\n".as_slice()).unwrap(), b"tide\n", "{expected}");
            }
        }
        assert_eq!(read_into(old, 0, &mut io::empty()).unwrap(), b"");
    }

    #[test]
    fn memory_for_large_pieces_does_not_move() {
        let mut memory = Vec::new();
        let mut places = std::collections::HashSet::new();
        for len in [1_100_000, 1_900_000, 1_200_000, 2_000_000, 1_500_000, 2_090_000] {
            memory = read_into(memory, len, &mut io::repeat(7).take(len)).unwrap();
            assert_eq!((memory.len() as u64, memory.capacity()), (len, 2 * STEP), "{len}");
            places.insert(memory.as_ptr());
        }
        assert_eq!(places.len(), 1);
        assert!(read_into(Vec::new(), 5, &mut b"tide\n".as_slice()).unwrap().capacity() < 100);
    }

    #[test]
    fn large_pieces_are_used_again_and_a_few_are_kept() {
        let spare = Spare::default();
        let large = vec![7; 300_000];
        for _ in 0..9 {
            spare.give(large.clone());
            spare.give(vec![1; 1000]);
        }
        assert_eq!(spare.take(1000), b"", "a small answer has no use for it");
        let taken: Vec<usize> = (0..9).map(|_| spare.take(300_000).len()).collect();
        assert_eq!(taken, [300_000, 300_000, 300_000, 300_000, 0, 0, 0, 0, 0]);
    }
}
