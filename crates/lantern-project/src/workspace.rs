//! A project that is open: its ledger and store, to read; and with the lock, to change.

use std::collections::BTreeMap;
use std::fs::{File, TryLockError};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use lantern_core::board::{Board, Boards, KnownRelease};
use lantern_core::event::{Event, EventBody, StorefrontRef, TitleKey};
use lantern_core::names::Name;
use lantern_core::progress::{Progress, Task};
use lantern_core::version::ReleaseAsked;
use lantern_ledger::{Ledger, LedgerError, Log, Outcome, Reached, ServerFacts};
use lantern_store::durable::{self, DurableError};
use lantern_store::store::Store;
use lantern_storefront::{Access, Storefront};

use crate::followed::{Followed, Following};
use crate::looked::Looked;
use crate::project::{LEDGER, Project};
use crate::releases::{MOST_NAMED, ReleaseError};
use crate::state_folder::{is_unwritable, keep_reserve, make_state_folder, take_lock};
use crate::{ProjectError, environment, ledger_head, network};

/// A project with its ledger open, to read.
#[derive(Debug)]
pub struct Workspace {
    /// The project.
    pub project: Project,
    /// Its sealed builds.
    pub store: Store,
    pub(crate) ledger: Box<dyn Log>,
    /// What follows from the events that were read; none before it is asked for.
    pub(crate) following: Mutex<Following>,
    /// What the exports of editions look like, as far as they were looked at.
    pub(crate) looked: Mutex<BTreeMap<Name, Looked>>,
    /// Storefronts that were asked already.
    pub(crate) connected: Mutex<BTreeMap<Name, Connected>>,
}

/// A storefront that answered.
#[derive(Debug)]
pub(crate) struct Connected {
    /// What opened it.
    pub access: Access,
    pub storefront: Arc<dyn Storefront>,
}

/// A project that no other lantern changes while this lives.
#[derive(Debug)]
pub struct Session {
    /// What can be read is read through this.
    pub(crate) workspace: Workspace,
    /// The lock goes when the file is closed, also by a kill.
    _lock: File,
}

impl Project {
    /// Opens the ledger and the store; `.lantern/` is made when it is missing. Where nothing can be written, what is there
    /// can still be read.
    ///
    /// # Errors
    /// [`ProjectError::ForeignState`], [`RecordsError::LedgerLost`](crate::RecordsError::LedgerLost), [`ProjectError::Ledger`], [`ProjectError::File`].
    pub fn open(self) -> Result<Workspace, ProjectError> {
        match make_state_folder(self.root()) {
            Err(ProjectError::File(error)) if self.has_ledger() && is_unwritable(&error.source) => {}
            other => other?,
        }
        if network::is_network(&self.state("")) {
            return Err(ProjectError::NetworkFolder(self.state("")));
        }
        let store = self.open_store();
        ledger_head::refuse_lost(&self, None, &store)?;
        let ledger = self.open_ledger()?;
        ledger_head::refuse_lost(&self, Some(&*ledger), &store)?;
        let (following, looked, connected) = Default::default();
        Ok(Workspace { project: self, store, ledger, following, looked, connected })
    }

    /// Opens the ledger; one on a disk that is full or can only be read is opened to be read.
    pub(crate) fn open_ledger(&self) -> Result<Box<dyn Log>, ProjectError> {
        let path = self.state(LEDGER);
        let has_ledger = self.has_ledger();
        match Ledger::open(&path, environment::random()?) {
            Err(error) if has_ledger && error.outcome() != Outcome::Damaged => match Ledger::open_to_read(&path, error)
            {
                Ok(ledger) => Ok(Box::new(ledger)),
                // The first error says more, and is found by trying once more.
                Err(_) => Ok(Box::new(Ledger::open(&path, environment::random()?)?)),
            },
            other => Ok(Box::new(other?)),
        }
    }
}

impl Session {
    /// Returns the project.
    pub fn project(&self) -> &Project {
        &self.workspace.project
    }

    /// Returns the project, to choose what of it is meant.
    pub fn project_mut(&mut self) -> &mut Project {
        &mut self.workspace.project
    }

    /// Returns what can be read of it.
    pub fn workspace(&self) -> &Workspace {
        &self.workspace
    }

    /// Gives the lock up; what can be read stays open.
    pub fn into_workspace(self) -> Workspace {
        self.workspace
    }

    /// Records what was decided by what is known, if nothing was added to the ledger meanwhile; else `decide` is asked again. So
    /// a number that is free has one owner, also with two programs on one ledger. Nothing is recorded where nothing is decided.
    ///
    /// # Errors
    /// Those of `decide`, and of the ledger.
    pub(crate) fn record_decided<T>(
        &mut self,
        edition: &Name,
        mut decide: impl FnMut(&Self) -> Result<(T, Option<EventBody>), ProjectError>,
    ) -> Result<T, ProjectError> {
        loop {
            let reached = self.workspace.reached()?;
            let (decided, body) = decide(self)?;
            let Some(body) = body else { return Ok(decided) };
            match self.workspace.ledger.append(Some(&reached), edition, environment::origin()?, None, body) {
                Err(LedgerError::Conflict) => {}
                event => {
                    ledger_head::write_head(self.project(), &event?);
                    return Ok(decided);
                }
            }
        }
    }
}

/// Keeps others from a store while this lives: from reading it, or from removing what is being read.
#[derive(Debug)]
pub struct StoreHold {
    _lock: Option<File>,
}

/// How often it is tried to get hold of a store that someone else uses.
const HOLD_EVERY: Duration = Duration::from_millis(50);

impl Workspace {
    /// Takes the lock.
    ///
    /// # Errors
    /// [`ProjectError::Busy`], [`ProjectError::File`].
    pub fn lock(self) -> Result<Session, ProjectError> {
        let lock = take_lock(&self.project.state(""))?;
        Ok(self.locked_by(lock))
    }

    pub(crate) fn locked_by(self, lock: File) -> Session {
        keep_reserve(&self.project.state(""));
        Session { workspace: self, _lock: lock }
    }

    /// Opens the ledger once more, after room was made for it.
    pub(crate) fn open_ledger_again(&mut self) -> Result<(), ProjectError> {
        if self.ledger.is_read_only() {
            self.ledger = self.project.open_ledger()?;
        }
        Ok(())
    }

    /// Lets nothing be removed from the store while it is read.
    ///
    /// # Errors
    /// [`ProjectError::File`], [`ProjectError::Stopped`].
    pub fn hold_store(&self, progress: &dyn Progress) -> Result<StoreHold, ProjectError> {
        self.hold(progress, File::try_lock_shared)
    }

    /// Waits until nobody reads the store, and lets nobody read it.
    pub(crate) fn hold_store_alone(&self, progress: &dyn Progress) -> Result<StoreHold, ProjectError> {
        self.hold(progress, File::try_lock)
    }

    fn hold(
        &self,
        progress: &dyn Progress,
        take: impl Fn(&File) -> Result<(), TryLockError>,
    ) -> Result<StoreHold, ProjectError> {
        let path = self.project.state("store.lock");
        let file = match durable::open_own(&path, true) {
            Ok(file) => file,
            // Where nothing can be written nothing can be removed either.
            Err(e) if is_unwritable(&e) => return Ok(StoreHold { _lock: File::open(&path).ok() }),
            Err(source) => return Err(DurableError { what: "open", path, source }.into()),
        };
        let mut waiting = None;
        loop {
            match take(&file) {
                Ok(()) => return Ok(StoreHold { _lock: Some(file) }),
                Err(TryLockError::Error(source)) => return Err(DurableError { what: "lock", path, source }.into()),
                Err(TryLockError::WouldBlock) => {
                    waiting.get_or_insert_with(|| progress.start(Task::Wait, None)).add(0);
                    if progress.stopped() {
                        return Err(ProjectError::Stopped);
                    }
                    std::thread::sleep(HOLD_EVERY);
                }
            }
        }
    }

    /// Returns all events.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn events(&self) -> Result<Vec<Event>, ProjectError> {
        Ok(self.ledger.events()?)
    }

    /// Returns every event's line, as it stands, with its row.
    pub(crate) fn ledger_lines(&self) -> Result<Vec<(i64, String)>, ProjectError> {
        Ok(self.ledger.lines()?)
    }

    /// Whether nothing can be recorded now, because the disk is full or can only be read.
    pub fn is_read_only(&self) -> bool {
        self.ledger.is_read_only()
    }

    /// Returns what follows from the events of an edition.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn board(&self, edition: &Name) -> Result<Arc<Board>, ProjectError> {
        Ok(self.boards()?.of(edition))
    }

    /// Returns what follows from all events. Only those are read that were written since it was asked last.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn boards(&self) -> Result<Boards, ProjectError> {
        let path = self.project.state(Followed::FILE);
        Ok(self.following().all(&path, !self.is_read_only(), &*self.ledger)?)
    }

    /// Returns how far the ledger was read for what follows from all events.
    fn reached(&self) -> Result<Reached, ProjectError> {
        self.boards()?;
        Ok(self.following().reached())
    }

    fn following(&self) -> MutexGuard<'_, Following> {
        self.following.lock().expect("nothing panics with the lock")
    }

    /// Returns what follows from the events of an edition, without what happened long ago: see [`Board::recent`].
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn recent_board(&self, edition: &Name) -> Result<Arc<Board>, ProjectError> {
        let (recent, all) = (self.project.state(Followed::RECENT_FILE), self.project.state(Followed::FILE));
        let boards = self.following().recent((&recent, &all), !self.is_read_only(), &*self.ledger)?;
        Ok(boards.of(edition))
    }

    /// Whether the recent part that is kept, if there is one, is that of these boards.
    pub(crate) fn is_recent_of(&self, boards: &Boards) -> bool {
        Followed::is_recent_of(&self.project.state(Followed::RECENT_FILE), &*self.ledger, boards)
    }

    /// Returns how many events the ledger has, at most.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn event_count(&self) -> Result<u64, ProjectError> {
        Ok(self.ledger.len_at_most()?)
    }

    /// Gives the events from the newest to the oldest, until `take` has enough and says false.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn events_backwards(&self, mut take: impl FnMut(Event) -> bool) -> Result<(), ProjectError> {
        Ok(self.ledger.backwards(&mut take)?)
    }

    /// Returns every edition that anything was recorded of; one alone when someone asked for it.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub(crate) fn all_editions(&self) -> Result<Vec<Name>, ProjectError> {
        if let Some(only) = self.project.only_one() {
            return Ok(vec![only.clone()]);
        }
        Ok(self.boards()?.editions().cloned().collect())
    }

    /// Returns the release that is meant; the newest of the first edition when nothing was asked.
    ///
    /// # Errors
    /// [`ReleaseError::NothingSealed`], [`ReleaseError::NoRelease`].
    pub fn release(&self, asked: Option<&ReleaseAsked>) -> Result<KnownRelease, ProjectError> {
        let first = self.board(&self.project.first_edition())?;
        let Some(asked) = asked else {
            return first.release(None).cloned().ok_or(ReleaseError::NothingSealed.into());
        };
        // A number names one release of the game: it says of which edition.
        for edition in self.project.editions() {
            if let Some(found) = self.board(&edition)?.release(Some(asked)) {
                return Ok(found.clone());
            }
        }
        let known = first.releases.iter().rev().take(MOST_NAMED).map(|r| r.name.clone()).collect();
        Err(ReleaseError::NoRelease { asked: asked.clone(), known }.into())
    }

    /// A release can only be read whose content is in the store.
    pub(crate) fn refuse_without_content(&self, release: &KnownRelease) -> Result<(), ProjectError> {
        if self.board(&release.edition)?.freed.contains(&release.id) {
            return Err(ReleaseError::Freed(release.name.clone()).into());
        }
        match &release.found_at {
            // Nothing is ever found there but what was said.
            Some(at) if at.is_by_hand() => Err(ReleaseError::WithoutFiles(release.name.clone()).into()),
            Some(at) => {
                Err(ReleaseError::SealedElsewhere { release: release.name.clone(), storefront: at.name.clone() }.into())
            }
            None => Ok(()),
        }
    }

    pub(crate) fn record(
        &mut self,
        edition: &Name,
        body: EventBody,
        server: Option<ServerFacts>,
    ) -> Result<Event, ProjectError> {
        let event = self.ledger.append(None, edition, environment::origin()?, server, body)?;
        ledger_head::write_head(&self.project, &event);
        Ok(event)
    }

    pub(crate) fn ledger(&mut self) -> &mut dyn Log {
        &mut *self.ledger
    }

    /// Records what a storefront has done. That it was done must be reported even when it cannot be recorded.
    pub(crate) fn record_done(
        &mut self,
        storefront: &StorefrontRef,
        edition: &Name,
        body: EventBody,
        server: Option<ServerFacts>,
    ) -> Result<(), ProjectError> {
        self.record(edition, body, server).map(|_| ()).map_err(|error| match error {
            ProjectError::Ledger(source) => ProjectError::Unrecorded { storefront: storefront.name.clone(), source },
            other => other,
        })
    }

    pub(crate) fn note_heard(&mut self, storefront: &StorefrontRef) -> Result<(), ProjectError> {
        Ok(self.ledger.note_heard(&storefront.id, environment::now())?)
    }

    pub(crate) fn heard(&self, title: &TitleKey) -> Result<Option<jiff::Timestamp>, ProjectError> {
        Ok(self.ledger.heard(&title.storefront)?)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use lantern_core::event::NextNumber;
    use lantern_core::version::BuildNumber;
    use lantern_ledger::Ledger;

    use super::*;

    const CONFIG: &str = r#"
[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "1.4.0"

[targets.web]
export = "exports/web"
"#;

    #[test]
    fn what_was_decided_by_old_knowledge_is_decided_again() {
        let temp = tempfile::tempdir().unwrap();
        std::fs::write(temp.path().join("lantern.toml"), CONFIG).unwrap();
        let project = Project::find(temp.path(), Arc::default()).unwrap();
        let ledger = project.state(LEDGER);
        let mut session = project.open().unwrap().lock().unwrap();
        let edition = Name::full_edition();
        let next = |number: BuildNumber| EventBody::NextNumber(NextNumber { next: number });
        // Another program, which the lock of this folder does not hold back, is faster: twice.
        let mut decided = Vec::new();
        let number = session.record_decided(&edition, |session| {
            let number = session.workspace().next_number()?.next;
            decided.push(number.get());
            if decided.len() < 3 {
                let mut other = Ledger::open(&ledger, [9; 16])?;
                let body = next(BuildNumber::new(u64::from(number.get()) + 10).unwrap());
                other.append(None, &edition, environment::origin()?, None, body)?;
            }
            Ok((number, Some(next(BuildNumber::after(Some(number))?))))
        });
        assert_eq!((number.unwrap().get(), &decided[..]), (21, &[1, 11, 21][..]));
        assert_eq!(session.workspace().next_number().unwrap().next.get(), 22);
        let before = session.workspace().event_count().unwrap();
        let nothing = session.record_decided(&edition, |_| Ok((7, None)));
        assert_eq!((nothing.unwrap(), session.workspace().event_count().unwrap()), (7, before));
    }
}
