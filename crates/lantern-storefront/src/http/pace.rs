//! How much is sent in one request.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

/// How much is sent in one request, and by how many at a time: what a slow line brings in a few seconds.
#[derive(Debug)]
pub(super) struct Pace {
    piece: AtomicUsize,
}

/// Smallest piece, in bytes: even a line of one kilobyte a second brings it before it is taken for silent.
const MIN_PIECE: usize = 64 * 1024;
/// The first piece; a line that is fast soon gets whole packs.
const FIRST_PIECE: usize = 1024 * 1024;
/// A piece that comes within this time was small.
const QUICK: Duration = Duration::from_secs(2);
/// A piece that takes longer was large.
const SLOW: Duration = Duration::from_secs(8);

impl Default for Pace {
    fn default() -> Self {
        Self { piece: AtomicUsize::new(FIRST_PIECE) }
    }
}

impl Pace {
    pub(super) fn piece(&self) -> usize {
        self.piece.load(Ordering::Relaxed)
    }

    pub(super) fn took(&self, len: usize, time: Duration) {
        let piece = self.piece();
        let next = match time {
            time if time < QUICK && len >= piece => piece.saturating_mul(2).min(MAX_PIECE),
            time if time > SLOW => (piece / 2).max(MIN_PIECE),
            _ => piece,
        };
        self.piece.store(next, Ordering::Relaxed);
    }
}

/// Largest piece, in bytes: more than any pack has.
const MAX_PIECE: usize = 64 * 1024 * 1024;
