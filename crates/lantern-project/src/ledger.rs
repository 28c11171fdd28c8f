//! Copies of the ledger, and how it is rebuilt from what is left.

use std::collections::BTreeSet;
use std::fs;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use lantern_core::digest::ReleaseId;
use lantern_core::event::{Event, EventBody, Freed, Rebuilt, Sealed};
use lantern_core::names::Name;
use lantern_core::release::{ReleaseRecord, input_digest};
use lantern_ledger::{Chains, Ledger, Log, salvage};
use lantern_store::durable::{self, DurableError};
use lantern_store::store::Store;
use lantern_storefront::protocol::Build;
use serde::{Deserialize, Serialize};

use crate::ledger_head::{HEAD, read_head, write_head};
use crate::project::{LEDGER, Project};
use crate::records::RecordsError;
use crate::releases::ReleaseError;
use crate::state_folder::{make_state_folder, take_lock};
use crate::storefronts::open_storefront;
use crate::workspace::{Session, Workspace};
use crate::{ProjectError, changing, environment};

const EXPORT_FORMAT: &str = "lantern.ledger-export/1";
/// The copy that is brought up to date whenever a release is prepared, in the state folder.
const COPY: &str = "ledger-copy.jsonl";
/// Longest copy that is read, in bytes.
const MAX_COPY_LEN: u64 = 4 * 1024 * 1024 * 1024;

/// A copy of the ledger: its header, then each event's line as it stands.
#[derive(Debug, Serialize, Deserialize)]
struct Header {
    format: String,
}

fn header() -> String {
    serde_json::to_string(&Header { format: EXPORT_FORMAT.to_owned() }).expect("a header has only string keys")
}

/// Reads a copy: its events' lines, each following its computer's last. A last line that was cut off is left out.
fn read_copy(path: &Path) -> Result<Vec<String>, ProjectError> {
    let bytes = durable::read_limited(path, MAX_COPY_LEN)?;
    let text = String::from_utf8_lossy(&bytes);
    let foreign = |why: String| RecordsError::NoLedgerCopy { path: path.to_owned(), why };
    let mut lines = text.split_inclusive('\n');
    let first = lines.next().unwrap_or_default();
    let is_ours = serde_json::from_str::<Header>(first).is_ok_and(|header| header.format == EXPORT_FORMAT);
    if !is_ours {
        return Err(foreign(format!("it does not start with the format {EXPORT_FORMAT:?}")).into());
    }
    let mut chains = Chains::default();
    let mut out = Vec::new();
    for (line, number) in lines.zip(2..) {
        let Some(line) = line.strip_suffix('\n') else { break };
        chains.follow(line).map_err(|e| foreign(format!("line {number}: {e}")))?;
        out.push(line.to_owned());
    }
    Ok(out)
}

/// What writing a copy came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LedgerCopied {
    /// Where.
    pub path: PathBuf,
    /// Events that it holds.
    pub events: u64,
    /// Its size, in bytes.
    pub bytes: u64,
}

impl Workspace {
    /// Returns every event's line as it stands, behind a header, and how many there are.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`] when a line does not follow the one before it: nothing is copied that is damaged.
    pub fn ledger_export(&self) -> Result<(String, u64), ProjectError> {
        let count = self.events()?.len() as u64;
        let mut text = header() + "\n";
        for (_, line) in self.ledger_lines()? {
            text += &line;
            text.push('\n');
        }
        Ok((text, count))
    }

    /// Writes the ledger to a file where nothing is yet.
    ///
    /// # Errors
    /// [`ReleaseError::OutputThere`], [`ProjectError::Ledger`], [`ProjectError::File`].
    pub fn export_ledger_to(&self, path: &Path) -> Result<LedgerCopied, ProjectError> {
        if fs::symlink_metadata(path).is_ok() {
            return Err(ReleaseError::OutputThere(path.to_owned()).into());
        }
        let (text, events) = self.ledger_export()?;
        durable::write_whole(path, text.as_bytes())?;
        Ok(LedgerCopied { path: path.to_owned(), events, bytes: text.len() as u64 })
    }

    /// Brings the copy of the ledger up to date. `path` is another place than the usual one; the file there must be an older
    /// copy of this ledger.
    ///
    /// # Errors
    /// [`RecordsError::NoLedgerCopy`] for a file that is none, [`ProjectError::Ledger`], [`ProjectError::File`].
    pub fn back_ledger_up(&self, path: Option<&Path>) -> Result<LedgerCopied, ProjectError> {
        let usual = self.project.state(COPY);
        let path = path.unwrap_or(&usual);
        let (text, events) = self.ledger_export()?;
        let there = match durable::read_limited(path, MAX_COPY_LEN) {
            Ok(bytes) => bytes,
            Err(e) if e.source.kind() == ErrorKind::NotFound => Vec::new(),
            Err(e) => return Err(e.into()),
        };
        // A copy of another ledger is never written over; one that goes further than this ledger is worth more than it.
        let is_older = text.as_bytes().starts_with(&there);
        if !is_older && path != usual {
            let why = "it is not an older copy of this ledger".to_owned();
            return Err(RecordsError::NoLedgerCopy { path: path.to_owned(), why }.into());
        }
        if !is_older {
            let aside = free_name(&usual);
            durable::rename(&usual, &aside)?;
        }
        durable::write_whole(path, text.as_bytes())?;
        Ok(LedgerCopied { path: path.to_owned(), events, bytes: text.len() as u64 })
    }
}

/// What the name of a file that was put aside ends in, with a number.
const ASIDE: &str = "before";

/// Returns the names beside a file under which it can be put aside.
fn names_aside(path: &Path) -> impl Iterator<Item = PathBuf> + '_ {
    (1_u64..).map(|n| with_ending(path, &format!(".{ASIDE}-{n}")))
}

/// Returns a name beside a file that nothing has yet.
fn free_name(path: &Path) -> PathBuf {
    names_aside(path).find(|path| fs::symlink_metadata(path).is_err()).unwrap_or_default()
}

impl Session {
    /// Adds what a copy of a ledger knows and this one does not: of this computer's or of another's.
    ///
    /// # Errors
    /// [`RecordsError::NoLedgerCopy`] for a file that is none, [`ProjectError::Ledger`] when it belongs to another history.
    pub fn import_ledger(&mut self, path: &Path) -> Result<u64, ProjectError> {
        let lines = read_copy(path)?;
        let added = self.workspace.ledger().add_lines(&lines)?;
        // Lines of this very computer may have come back.
        let device = self.workspace.ledger().device().to_owned();
        if let Some(event) = self.workspace.events()?.iter().rev().find(|event| event.device == device) {
            write_head(self.project(), event);
        }
        Ok(added)
    }
}

/// What rebuilding a ledger found.
#[derive(Debug, Clone, Default)]
pub struct LedgerRebuilt {
    /// Events that the old file or a copy still had.
    pub copied: u64,
    /// Releases that are known only from their records.
    pub releases: Vec<(Name, lantern_core::version::ReleaseName)>,
    /// Those of them whose content is not in the store any more.
    pub without_content: Vec<lantern_core::version::ReleaseName>,
    /// Builds that storefronts have of releases, and that were not known.
    pub pushed: u64,
    /// Storefronts that answered.
    pub asked: Vec<Name>,
    /// Storefronts that could not be asked, with the reason.
    pub unreachable: Vec<(Name, String)>,
    /// Events of this computer that came after the last one that could be kept, as the ledger's head tells.
    pub lost: u64,
    /// When the last event that could be kept was recorded.
    pub last_kept: Option<Timestamp>,
    /// Where the old ledger was put; none when there was none.
    pub old: Option<PathBuf>,
}

impl Project {
    /// Returns the ledgers that were put aside, the latest first.
    fn ledgers_aside(&self) -> Vec<PathBuf> {
        let ledger = self.state(LEDGER);
        let mut found: Vec<PathBuf> =
            names_aside(&ledger).take_while(|path| fs::symlink_metadata(path).is_ok()).collect();
        found.reverse();
        found
    }

    /// Makes a new ledger of what the old file, its copy, the records of the store and the storefronts still know. The old
    /// file is kept beside it.
    ///
    /// # Errors
    /// [`ProjectError::Busy`], [`ProjectError::File`], [`ProjectError::Ledger`]. Killed at any point, the same call does it.
    pub fn rebuild_ledger(self, copy: Option<&Path>) -> Result<(Workspace, LedgerRebuilt), ProjectError> {
        make_state_folder(self.root())?;
        let lock = take_lock(&self.state(""))?;
        let store = self.open_store();
        let mut done = LedgerRebuilt::default();
        let mut lines = salvage(&self.state(LEDGER));
        if !self.has_ledger() {
            // A run that was cut may have put the old file aside, and the new one not yet in its place.
            for path in std::iter::once(self.state("ledger-new.db")).chain(self.ledgers_aside()) {
                lines = joined(lines, salvage(&path));
            }
        }
        let copies = [copy.map(Path::to_owned), Some(self.state(COPY))];
        for path in copies.into_iter().flatten() {
            match read_copy(&path) {
                Ok(copied) => lines = joined(lines, copied),
                // Only the copy that someone named has to be one.
                Err(error) if Some(path.as_path()) == copy => return Err(error),
                Err(_) => {}
            }
        }
        done.copied = lines.len() as u64;
        let mut chains = Chains::default();
        for line in &lines {
            let recorded_at = chains.follow(line).ok().map(|event| event.recorded_at);
            done.last_kept = done.last_kept.max(recorded_at);
        }
        done.lost = read_head(&self).map_or(0, |head| head.sequence.saturating_sub(chains.last(&head.device)));

        // All of it comes into a file of its own first.
        let fresh = self.state("ledger-new.db");
        remove_database(&fresh)?;
        let mut ledger = Ledger::open(&fresh, environment::random()?)?;
        ledger.add_lines(&lines)?;
        let events = ledger.events()?;
        for (edition, record) in unknown_releases(&store, &events)? {
            let id = record.id();
            let inputs = changing::inputs_of(&store, &record)?;
            let input = input_digest(&record.game, &edition, &record.version, &inputs);
            let sealed = EventBody::Sealed(Sealed::of(id, &record, input));
            ledger.append(None, &edition, environment::origin()?, None, sealed)?;
            let mut there = true;
            for depot in record.sealed() {
                there &= store.has_tree(depot.tree)?;
            }
            if !there {
                let freed = EventBody::Freed(Freed { releases: vec![id] });
                ledger.append(None, &edition, environment::origin()?, None, freed)?;
                done.without_content.push(record.name());
            }
            done.releases.push((edition, record.name()));
        }
        ledger.close()?;

        let path = self.state(LEDGER);
        if fs::symlink_metadata(&path).is_ok() {
            let old = free_name(&path);
            for ending in ["-wal", "-shm"] {
                let beside = |path: &Path| with_ending(path, ending);
                if fs::symlink_metadata(beside(&path)).is_ok() {
                    durable::rename(&beside(&path), &beside(&old))?;
                }
            }
            durable::rename(&path, &old)?;
            done.old = Some(old);
        }
        // The head spoke of the old one.
        durable::remove_file(&self.state(HEAD))?;
        durable::rename(&fresh, &path)?;
        drop(lock);
        let mut locked = self.open()?.lock()?;
        locked.ask_after_rebuilding(&mut done)?;
        Ok((locked.workspace, done))
    }
}

impl Session {
    /// Asks every storefront what it has of the releases that are known again.
    fn ask_after_rebuilding(&mut self, done: &mut LedgerRebuilt) -> Result<(), ProjectError> {
        for (name, editions) in self.storefronts_with_editions() {
            let mut failed = None;
            for edition in editions {
                match self.learn_builds(&edition, &name) {
                    Ok(pushed) => done.pushed += pushed,
                    Err(error) if error.is_of_storefront() => {
                        failed = Some(crate::verify::why_not_asked(&error));
                        break;
                    }
                    Err(error) => return Err(error),
                }
            }
            match failed {
                None => done.asked.push(name),
                Some(why) => done.unreachable.push((name, why)),
            }
        }
        let rebuilt = Rebuilt {
            copied: done.copied,
            releases: self.ids_of(&done.releases)?,
            asked: done.asked.clone(),
            unreachable: done.unreachable.iter().map(|(name, _)| name.clone()).collect(),
        };
        let edition = self.project().first_edition();
        self.workspace.record(&edition, EventBody::Rebuilt(rebuilt), None).map(|_| ())
    }

    fn ids_of(&self, releases: &[(Name, lantern_core::version::ReleaseName)]) -> Result<Vec<ReleaseId>, ProjectError> {
        let boards = self.workspace.boards()?;
        let id = |(edition, name): &(Name, lantern_core::version::ReleaseName)| {
            boards.of(edition).releases.iter().find(|r| r.name == *name).map(|r| r.id)
        };
        Ok(releases.iter().filter_map(id).collect())
    }

    /// Records which of the known releases a storefront has; returns how many were news.
    fn learn_builds(&mut self, edition: &Name, name: &Name) -> Result<u64, ProjectError> {
        let storefront = open_storefront(&self.workspace, edition, name.as_str())?;
        let (branches, builds) = self.news_of(&storefront)?;
        let board = self.workspace.board(edition)?;
        let title = storefront.reference.key();
        let is_news = |build: &&Build| {
            let is_known = board.releases.iter().any(|r| r.id == build.release && r.found_at.is_none());
            is_known && board.build_of(&title, build.release).is_none()
        };
        let count = builds.iter().filter(is_news).count() as u64;
        self.learn(&storefront, &branches, &builds)?;
        Ok(count)
    }
}

/// Returns the releases that only their records in the store tell of, in the order of their numbers.
fn unknown_releases(store: &Store, events: &[Event]) -> Result<Vec<(Name, ReleaseRecord)>, ProjectError> {
    let sealed: BTreeSet<ReleaseId> = events
        .iter()
        .filter_map(|event| match &event.body {
            EventBody::Sealed(sealed) => Some(sealed.release),
            _ => None,
        })
        .collect();
    let mut out: Vec<(Name, ReleaseRecord)> = Vec::new();
    for id in store.records()?.into_iter().filter(|id| !sealed.contains(id)) {
        if let Ok(record) = store.record(id) {
            out.push((record.edition.clone(), record));
        }
    }
    out.sort_by_key(|(_, record)| record.number);
    Ok(out)
}

/// Joins what two copies know of the same ledger: of each computer the longer chain, where one goes on with the other.
fn joined(one: Vec<String>, other: Vec<String>) -> Vec<String> {
    let mut chains = Chains::default();
    let mut out: Vec<String> = Vec::new();
    for line in one.into_iter().chain(other) {
        if chains.follow(&line).is_ok() {
            out.push(line);
        }
    }
    out
}

fn with_ending(path: &Path, ending: &str) -> PathBuf {
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    path.with_file_name(format!("{name}{ending}"))
}

fn remove_database(path: &Path) -> Result<(), DurableError> {
    for ending in ["", "-wal", "-shm"] {
        durable::remove_file(&with_ending(path, ending))?;
    }
    Ok(())
}
