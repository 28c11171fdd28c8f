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
const FORMAT: &str = concat!("lantern.boards/2 of ", env!("CARGO_PKG_VERSION"));
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
        let written = rmp_serde::to_vec(&kept).map_err(|error| error.to_string()).and_then(|bytes| {
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

#[cfg(test)]
mod tests {
    use lantern_core::digest::{Digest, InputDigest, ReleaseId};
    use lantern_core::event::{
        Asked, BranchBuild, BranchFacts, Deed, Event, EventBody, EventId, Moved, PlaceRef, Pushed, Sealed, Tried,
    };
    use lantern_core::names::Name;
    use lantern_core::notes::Notes;
    use lantern_core::version::ReleaseName;

    use super::*;

    fn place() -> PlaceRef {
        PlaceRef {
            storefront: "brambleyard-1".to_owned(),
            name: "brambleyard".parse().unwrap(),
            handle: "saltmarsh-post".parse().unwrap(),
        }
    }

    /// Five events for each release: more than are read again in every run, and of every kind that a board is made of.
    fn lines(releases: u64) -> Vec<String> {
        let (mut lines, mut predecessor) = (Vec::new(), None);
        let at = jiff::Timestamp::UNIX_EPOCH;
        for n in 1..=releases {
            let name: ReleaseName = format!("1.0.{n} ({n})").parse().unwrap();
            let (release, input) = (ReleaseId::of(&n.to_be_bytes()), InputDigest::of(&n.to_be_bytes()));
            let key = EventId::new(at, n.to_be_bytes().repeat(2)[..10].try_into().unwrap());
            let (target, branch): (Name, Name) = ("linux".parse().unwrap(), "creek".parse().unwrap());
            let build = BranchBuild { build: n, release, name: name.clone() };
            let facts = BranchFacts {
                branch: branch.clone(),
                revision: n,
                since: Some(at),
                by: None,
                targets: [(target.clone(), build)].into(),
            };
            let pushed = Pushed {
                key: None,
                place: place(),
                release,
                name: name.clone(),
                build: n,
                sent: 7,
                message: (n % 2 == 0).then(|| "fog".to_owned()),
                notes: if n % 3 == 0 { Notes::plain("The lighthouse is lit.") } else { Notes::default() },
            };
            let targets = vec![target.clone()];
            let asked = Asked {
                key,
                place: place(),
                deed: Deed::Promote { branch },
                release,
                name: name.clone(),
                targets: Vec::new(),
            };
            let moved = Moved { key, place: place(), facts, because: None, restores: None };
            for body in [
                EventBody::Sealed(Sealed { release, name: name.clone(), input, targets, warnings: 1 }),
                EventBody::Tried(Tried { release, name, target, yes: n % 2 == 1 }),
                EventBody::Pushed(pushed),
                EventBody::Asked(asked),
                // The last one is open.
                if n < releases {
                    EventBody::Moved(moved)
                } else {
                    EventBody::Freed(lantern_core::event::Freed { releases: vec![] })
                },
            ] {
                let event = Event {
                    id: EventId::new(at, [&[7, 7], &lines.len().to_be_bytes()[..]].concat().try_into().unwrap()),
                    device: "desk".to_owned(),
                    sequence: lines.len() as u64 + 1,
                    predecessor,
                    actor: "wren".to_owned(),
                    recorded_at: at,
                    happened_at: None,
                    revision: None,
                    edition: Name::full_edition(),
                    body,
                };
                let line = event.to_line();
                predecessor = Some(Digest::of(line.as_bytes()));
                lines.push(line);
            }
        }
        lines
    }

    fn ledger(folder: &Path, lines: &[String]) -> Ledger {
        let mut ledger = Ledger::open(&folder.join("ledger.db"), [7; 16]).unwrap();
        ledger.add_lines(lines).unwrap();
        ledger
    }

    #[test]
    fn what_was_kept_is_what_the_events_say() {
        let temp = tempfile::tempdir().unwrap();
        let file = temp.path().join("cache/boards");
        let lines = lines(KEPT_FROM / 5);
        let (most, last) = lines.split_at(lines.len() - 3);
        let mut ledger = ledger(temp.path(), most);
        let mut followed = Followed::load(&file, &ledger);
        followed.renew(&ledger).unwrap();
        followed.keep(&file);
        assert!(!file.exists(), "so few are read again in every run");

        ledger.add_lines(last).unwrap();
        followed.renew(&ledger).unwrap();
        followed.keep(&file);
        let mut again = Followed::load(&file, &ledger);
        assert_eq!((&again.boards, &again.reached, again.fresh), (&followed.boards, &followed.reached, 0));
        let folded = Boards::fold(&ledger.events().unwrap());
        assert_eq!(again.boards, folded);
        let board = folded.of(&Name::full_edition());
        assert!(board.open.len() == 1 && board.tried.len() == board.releases.len() && board.pushed.len() > 300);
        again.renew(&ledger).unwrap();
        assert_eq!(again.fresh, 0, "nothing is read twice");
    }

    #[test]
    fn what_was_kept_of_another_ledger_or_is_damaged_does_not_count() {
        let temp = tempfile::tempdir().unwrap();
        let file = temp.path().join("cache/boards");
        let lines = lines(KEPT_FROM / 5);
        let whole = ledger(temp.path(), &lines);
        let mut followed = Followed::load(&file, &whole);
        followed.renew(&whole).unwrap();
        followed.keep(&file);
        assert!(Followed::load(&file, &whole).reached != Reached::default());
        // A copy of before was brought back: its last events are missing.
        let other = tempfile::tempdir().unwrap();
        let shorter = ledger(other.path(), &lines[..lines.len() - 1]);
        assert_eq!(Followed::load(&file, &shorter).reached, Reached::default());
        let good = std::fs::read(&file).unwrap();
        for damaged in [&good[..good.len() / 2], b"", b"lantern", &[good.as_slice(), b"x"].concat()[..]] {
            std::fs::write(&file, damaged).unwrap();
            let loaded = Followed::load(&file, &whole);
            assert!(loaded.boards == followed.boards || loaded.reached == Reached::default());
        }
        std::fs::write(&file, [b"?", &good[1..]].concat()).unwrap();
        assert_eq!(Followed::load(&file, &whole).reached, Reached::default());
    }
}
