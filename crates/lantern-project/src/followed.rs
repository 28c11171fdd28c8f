//! What follows from the ledger's events, kept while it is open and, of a long ledger, over the next start: then only the
//! events behind it are read. It can be made again at any time, and `verify` compares it with all events.
//!
//! The file is MessagePack: the name of its format with the version of this program, how far the ledger was read, with the
//! digest of the last line of each computer, and the boards. It counts only while the ledger has that very line there.

use std::path::Path;

use lantern_core::board::Boards;
use lantern_ledger::{Ledger, LedgerError, Reached};
use lantern_store::durable;
use serde::{Deserialize, Serialize};

/// Another version of the program may draw other conclusions from the same events.
const FORMAT: &str = concat!("lantern.boards/1 of ", env!("CARGO_PKG_VERSION"));
/// Longest file that is read, in bytes.
const MAX_LEN: u64 = 1024 * 1024 * 1024;
/// How many events are read again and again before what follows from them is kept. Ours: they take some milliseconds, and a
/// short ledger is compared line by line in every run.
const KEPT_FROM: u64 = 2_000;

/// Boards, with how far the ledger was read for them.
#[derive(Debug, Default)]
pub(crate) struct Followed {
    pub boards: Boards,
    reached: Reached,
    /// Events that were read since it was kept.
    fresh: u64,
}

#[derive(Serialize)]
struct Kept<'a> {
    format: &'a str,
    reached: &'a Reached,
    boards: &'a Boards,
}

#[derive(Deserialize)]
struct Head {
    format: String,
    reached: Reached,
    boards: Boards,
}

impl Followed {
    /// Where it is kept, in the state folder.
    pub(crate) const FILE: &'static str = "cache/boards";

    /// Reads what was kept; what is missing, damaged, of another version or of another ledger is nothing, which only costs
    /// reading.
    pub(crate) fn load(path: &Path, ledger: &Ledger) -> Self {
        let Ok(bytes) = durable::read_limited(path, MAX_LEN) else { return Self::default() };
        let Ok(Head { format, reached, boards }) = rmp_serde::from_slice(&bytes) else { return Self::default() };
        let is_ours = format == FORMAT && ledger.has_reached(&reached).unwrap_or(false);
        if is_ours { Self { boards, reached, fresh: 0 } } else { Self::default() }
    }

    /// Reads the events that were written since.
    pub(crate) fn renew(&mut self, ledger: &Ledger) -> Result<(), LedgerError> {
        let (boards, fresh) = (&mut self.boards, &mut self.fresh);
        ledger.follow(&mut self.reached, |event| {
            boards.add(&event);
            *fresh += 1;
        })
    }

    /// Keeps it, where reading the events again would take a while.
    pub(crate) fn keep(&mut self, path: &Path) {
        if self.fresh < KEPT_FROM {
            return;
        }
        let kept = Kept { format: FORMAT, reached: &self.reached, boards: &self.boards };
        let written = rmp_serde::to_vec_named(&kept).map_err(|error| error.to_string()).and_then(|bytes| {
            path.parent().map_or(Ok(()), durable::create_folders).map_err(|error| error.to_string())?;
            durable::write_whole(path, &bytes).map_err(|error| error.to_string())
        });
        match written {
            Ok(()) => self.fresh = 0,
            // It saves time alone.
            Err(error) => log::warn!("what follows from the ledger is not kept: {error}"),
        }
    }
}
