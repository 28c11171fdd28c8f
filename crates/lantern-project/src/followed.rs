//! What follows from the ledger's events, kept while it is open and, of a long ledger, over the next start: then only the
//! events behind it are read. It can be made again at any time, and `verify` compares it with all events.
//!
//! The file begins with the digest of the rest ([`durable::write_kept`]), which is MessagePack: the name of its format with the version of this
//! program, how far the ledger was read, with the digest of the last line of each computer, and the boards. It counts only
//! while the ledger has that very line there.

use std::borrow::Cow;
use std::path::Path;

use lantern_core::board::Boards;
use lantern_ledger::{LedgerError, Log, Reached};
use lantern_store::durable;
use serde::{Deserialize, Serialize};

/// Another version of the program may draw other conclusions from the same events.
const FORMAT: &str = concat!("lantern.boards/11 of ", env!("CARGO_PKG_VERSION"));
/// Longest file that is read, in bytes.
const MAX_LEN: u64 = 1024 * 1024 * 1024;
/// How many events are read again and again before what follows from them is kept. Ours: they take some milliseconds, and a
/// short ledger is compared line by line in every run.
const KEPT_FROM: u64 = 2_000;

/// Boards, with how far the ledger was read for them.
#[derive(Debug, Default)]
pub(crate) struct Followed {
    boards: Boards,
    reached: Reached,
    /// Events that were read since it was kept.
    fresh: u64,
}

/// What stands in the file.
#[derive(Serialize, Deserialize)]
struct Kept<'a> {
    format: Cow<'a, str>,
    reached: Cow<'a, Reached>,
    boards: Cow<'a, Boards>,
}

impl Followed {
    /// Where it is kept, in the state folder.
    pub(crate) const FILE: &'static str = "cache/boards";
    /// Where its recent part is kept, which is all that most commands ask for.
    pub(crate) const RECENT_FILE: &'static str = "cache/boards-recent";
    /// How many releases the recent part has.
    const RECENT: usize = 200;

    /// Returns the recent part, as long as there is one and nothing has happened since.
    fn recent(&self, ledger: &dyn Log) -> Option<&Boards> {
        if self.boards.left_out() == 0 {
            return None;
        }
        let (mut reached, mut is_behind) = (self.reached.clone(), false);
        ledger.follow(&mut reached, &mut |_| is_behind = true).ok()?;
        (!is_behind).then_some(&self.boards)
    }

    /// Keeps the recent part, where reading all of it would take a while.
    fn keep_recent(&self, path: &Path) {
        if self.boards.releases() >= 2 * Self::RECENT {
            self.write(path, &self.boards.recent(Self::RECENT));
        }
    }

    /// Whether the recent part that is kept, if it counts, is that of these boards.
    pub(crate) fn is_recent_of(path: &Path, ledger: &dyn Log, boards: &Boards) -> bool {
        Self::load(path, ledger).recent(ledger).is_none_or(|recent| *recent == boards.recent(Self::RECENT))
    }

    /// Reads what was kept; what is missing, damaged, of another version or of another ledger is nothing, which only costs
    /// reading.
    fn load(path: &Path, ledger: &dyn Log) -> Self {
        let read = || {
            let bytes = durable::read_kept(path, MAX_LEN)?;
            let Kept { format, reached, boards } = rmp_serde::from_slice(&bytes).ok()?;
            let is_ours = format == FORMAT && ledger.has_reached(&reached).ok()?;
            is_ours.then(|| Self { boards: boards.into_owned().indexed(), reached: reached.into_owned(), fresh: 0 })
        };
        read().unwrap_or_default()
    }

    /// Reads the events that were written since.
    fn renew(&mut self, ledger: &dyn Log) -> Result<(), LedgerError> {
        let (boards, fresh) = (&mut self.boards, &mut self.fresh);
        ledger.follow(&mut self.reached, &mut |event| {
            boards.add(&event);
            *fresh += 1;
        })
    }

    /// Keeps it, where reading the events again would take a while.
    fn keep(&mut self, path: &Path) {
        if self.fresh < KEPT_FROM {
            return;
        }
        if self.write(path, &self.boards) {
            self.fresh = 0;
        }
    }

    /// Writes boards that were read as far as this, and says whether they are kept now. It saves time alone.
    fn write(&self, path: &Path, boards: &Boards) -> bool {
        let (reached, boards) = (Cow::Borrowed(&self.reached), Cow::Borrowed(boards));
        let kept = Kept { format: FORMAT.into(), reached, boards };
        let kept = rmp_serde::to_vec(&kept).expect("boards have nothing that cannot be written");
        let written = durable::write_kept(path, &kept);
        if let Err(error) = &written {
            log::warn!("what follows from the ledger is not kept: {error}");
        }
        written.is_ok()
    }
}

/// What follows from a ledger, as far as it was asked for: its recent part as long as that is enough, then all of it.
#[derive(Debug, Default)]
pub(crate) struct Following {
    all: Option<Followed>,
    recent: Option<Followed>,
    is_recent_kept: bool,
}

impl Following {
    /// Returns what follows from all events; `path` is where it is kept, if it may be.
    pub(crate) fn all(&mut self, path: &Path, may_keep: bool, ledger: &dyn Log) -> Result<Boards, LedgerError> {
        let all = self.all.get_or_insert_with(|| Followed::load(path, ledger));
        all.renew(ledger)?;
        if may_keep {
            all.keep(path);
        }
        Ok(all.boards.clone())
    }

    /// Returns how far all events were read, once they were asked for.
    pub(crate) fn reached(&self) -> Reached {
        self.all.as_ref().map(|all| all.reached.clone()).unwrap_or_default()
    }

    /// Returns the recent part where that is kept and nothing happened since, else all; `paths` are where the one and the other
    /// are kept.
    pub(crate) fn recent(
        &mut self,
        paths: (&Path, &Path),
        may_keep: bool,
        ledger: &dyn Log,
    ) -> Result<Boards, LedgerError> {
        if self.all.is_none() {
            let recent = self.recent.get_or_insert_with(|| Followed::load(paths.0, ledger));
            if let Some(boards) = recent.recent(ledger) {
                return Ok(boards.clone());
            }
        }
        let boards = self.all(paths.1, may_keep, ledger)?;
        if let Some(all) = self.all.as_ref().filter(|_| may_keep && !self.is_recent_kept) {
            all.keep_recent(paths.0);
            self.is_recent_kept = true;
        }
        Ok(boards)
    }
}

#[cfg(test)]
mod tests {
    use lantern_core::event::StorefrontRef;
    use lantern_core::names::Name;
    use lantern_ledger::Ledger;
    use lantern_ledger::samples::{EVENTS_OF_A_RELEASE, busy};

    use super::*;

    /// More events than are read again in every run.
    fn lines() -> Vec<String> {
        let mut lines = Vec::new();
        busy(KEPT_FROM as u32 / EVENTS_OF_A_RELEASE + 1, |line| lines.push(line));
        lines
    }

    fn ledger(folder: &Path, lines: &[String]) -> Ledger {
        let mut ledger = Ledger::open(&folder.join("ledger.db"), [7; 16]).unwrap();
        ledger.add_lines(lines).unwrap();
        ledger
    }

    fn kept(file: &Path, ledger: &Ledger) -> Followed {
        let mut followed = Followed::load(file, ledger);
        followed.renew(ledger).unwrap();
        followed.keep(file);
        followed
    }

    #[test]
    fn what_was_kept_is_what_the_events_say() {
        let temp = tempfile::tempdir().unwrap();
        let file = temp.path().join("cache/boards");
        let lines = lines();
        let (most, last) = lines.split_at(KEPT_FROM as usize - 1);
        let mut ledger = ledger(temp.path(), most);
        let mut followed = kept(&file, &ledger);
        assert!(!file.exists(), "so few are read again in every run");

        ledger.add_lines(last).unwrap();
        followed.renew(&ledger).unwrap();
        followed.keep(&file);
        let mut again = Followed::load(&file, &ledger);
        assert_eq!((&again.boards, &again.reached, again.fresh), (&followed.boards, &followed.reached, 0));
        assert_eq!(again.boards, Boards::fold(&ledger.events().unwrap()));
        let board = again.boards.of(&Name::full_edition());
        assert!(board.open.len() == 1 && board.tried.len() == board.releases.len() && board.pushed.len() > 200);
        again.renew(&ledger).unwrap();
        assert_eq!(again.fresh, 0, "nothing is read twice");
    }

    #[test]
    fn the_recent_part_counts_while_nothing_happened_since() {
        let temp = tempfile::tempdir().unwrap();
        let (all, recent) = (temp.path().join("boards"), temp.path().join("boards-recent"));
        let mut lines = Vec::new();
        busy(3 * Followed::RECENT as u32, |line| lines.push(line));
        let (most, last) = lines.split_at(lines.len() - 1);
        let open = ledger;
        let mut ledger = open(temp.path(), most);
        let mut followed = kept(&all, &ledger);
        followed.keep_recent(&recent);
        let loaded = Followed::load(&recent, &ledger);
        let boards = loaded.recent(&ledger).unwrap();
        assert!(Followed::is_recent_of(&recent, &ledger, &followed.boards));
        assert!(!Followed::is_recent_of(&recent, &ledger, &Boards::default()));
        let (some, whole) = (boards.of(&Name::full_edition()), followed.boards.of(&Name::full_edition()));
        assert!(some.releases.len() < 220 && some.left_out + some.releases.len() == whole.releases.len());
        assert_eq!((&some.branches, some.release(None)), (&whole.branches, whole.release(None)));
        let newest = whole.newest_first();
        assert_eq!(some.newest_first(), newest[..some.newest_first().len()]);
        for release in some.newest_first() {
            for title in some.connected.values().map(StorefrontRef::key) {
                assert_eq!(some.build_of(&title, release.id), whole.build_of(&title, release.id));
                let passed =
                    |board: &lantern_core::board::Board| board.is_passed(release.id, release.name.number, &title);
                assert_eq!(passed(&some), passed(&whole));
            }
        }
        ledger.add_lines(last).unwrap();
        assert!(Followed::load(&recent, &ledger).recent(&ledger).is_none(), "something happened since");
        assert!(loaded.recent(&ledger).is_none(), "also while it is open");
        followed.renew(&ledger).unwrap();
        followed.keep_recent(&recent);
        assert!(Followed::load(&recent, &ledger).recent(&ledger).is_some());
        // A short history has no older part.
        let short = tempfile::tempdir().unwrap();
        let mut few = Followed::default();
        few.renew(&open(short.path(), &lines[..500])).unwrap();
        few.keep_recent(&short.path().join("boards-recent"));
        assert!(!short.path().join("boards-recent").exists());
    }

    #[test]
    fn what_was_kept_of_another_ledger_does_not_count() {
        let temp = tempfile::tempdir().unwrap();
        let file = temp.path().join("cache/boards");
        let lines = lines();
        kept(&file, &ledger(temp.path(), &lines));
        // A copy of before was brought back: its last events are missing.
        let other = tempfile::tempdir().unwrap();
        let shorter = ledger(other.path(), &lines[..lines.len() - 1]);
        assert_eq!(Followed::load(&file, &shorter).reached, Reached::default());
    }

    #[test]
    fn what_another_version_kept_does_not_count() {
        let temp = tempfile::tempdir().unwrap();
        let file = temp.path().join("cache/boards");
        let ledger = ledger(temp.path(), &lines());
        let Followed { boards, reached, .. } = kept(&file, &ledger);
        let write = |format: &'static str| {
            let (reached, boards) = (Cow::Borrowed(&reached), Cow::Borrowed(&boards));
            let rest = rmp_serde::to_vec(&Kept { format: format.into(), reached, boards }).unwrap();
            durable::write_kept(&file, &rest).unwrap();
            Followed::load(&file, &ledger).reached
        };
        assert_eq!((write(FORMAT), write("lantern.boards/11 of 2.0.0")), (reached.clone(), Reached::default()));
    }

    #[test]
    fn what_was_kept_and_is_damaged_anywhere_does_not_count() {
        let temp = tempfile::tempdir().unwrap();
        let file = temp.path().join("cache/boards");
        let ledger = ledger(temp.path(), &lines());
        kept(&file, &ledger);
        let good = std::fs::read(&file).unwrap();
        let is_empty = |bytes: &[u8]| {
            std::fs::write(&file, bytes).unwrap();
            Followed::load(&file, &ledger).reached == Reached::default()
        };
        assert!(!is_empty(&good) && is_empty(b"") && is_empty(&good[..good.len() / 2]));
        for at in (0..good.len()).step_by(good.len() / 60) {
            let mut changed = good.clone();
            changed[at] ^= 1;
            assert!(is_empty(&changed), "byte {at} of {}", good.len());
        }
    }
}
