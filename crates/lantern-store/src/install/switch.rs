//! The switch from one build to another: a journal, then renames. Every step can be done again, and undone.
//!
//! Nothing is overwritten and, until all is done, nothing is removed: what makes way lies in the state folder and can
//! go back. What turns up in the way after the plan was made is moved aside.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use lantern_core::failpoint;
use lantern_core::path::TreePath;

use super::disk::{lists, lists_alike};
use super::journal::{BEFORE, Direction, Journal, NAME, Phase};
use super::plan::AsideNames;
use super::state::Folder;
use super::{Aside, InstallError};
use crate::durable;
use crate::links;

/// Writes the journal and carries it out. The journal is the one moment that decides: before it the old build stands,
/// behind it the new one will, unless it is given up. Returns what turned up in the way meanwhile and was moved aside.
pub(super) fn begin(folder: &Folder, mut journal: Journal) -> Result<Vec<Aside>, InstallError> {
    folder.remove_others(BEFORE, None)?;
    folder.own_folder(&journal.before)?;
    journal.write(folder)?;
    finish(folder, &mut journal)
}

/// Carries out a journal, in the direction that it says. From here on the folder may hold some of both builds until all is
/// done.
pub(super) fn finish(folder: &Folder, journal: &mut Journal) -> Result<Vec<Aside>, InstallError> {
    let mut switch = Switch::of(folder, journal);
    let done = match journal.direction {
        Direction::Forward => switch.forward(journal),
        Direction::Back => switch.back(journal),
    };
    let aside = switch.aside;
    done.map(|()| aside).map_err(|error| InstallError::HalfSwitched(Box::new(error)))
}

/// Turns a switch round and goes back to what was there before it.
pub(super) fn turn_back(folder: &Folder, journal: &mut Journal) -> Result<Vec<Aside>, InstallError> {
    journal.direction = Direction::Back;
    journal.write(folder)?;
    finish(folder, journal)
}

struct Switch<'a> {
    folder: &'a Folder,
    stage: PathBuf,
    before: PathBuf,
    names: AsideNames,
    /// What was moved aside although the journal does not say so.
    aside: Vec<Aside>,
    /// Folders whose names changed.
    touched: BTreeSet<PathBuf>,
}

impl<'a> Switch<'a> {
    fn of(folder: &'a Folder, journal: &Journal) -> Self {
        let new = journal.place.iter().map(|(_, path)| path.as_str());
        Self {
            folder,
            stage: folder.state(&journal.stage),
            before: folder.state(&journal.before),
            names: AsideNames::new(folder.path(), new),
            aside: Vec::new(),
            touched: BTreeSet::new(),
        }
    }

    fn forward(&mut self, journal: &mut Journal) -> Result<(), InstallError> {
        if journal.phase == Phase::Clear {
            self.clear(journal)?;
            self.sync()?;
            journal.phase = Phase::Fill;
            journal.write(self.folder)?;
        }
        for path in &journal.folders {
            self.make_folder(path)?;
        }
        for (number, path) in &journal.place {
            let staged = self.stage.join(number.to_string());
            // Done before the break: staged files leave the stage only by this rename.
            if exists(&staged) {
                self.put(&staged, path)?;
            }
        }
        // Behind the files: on Windows a link's kind is that of what it leads to.
        for link in &journal.links {
            self.make_link(&link.path, &link.target, link.is_folder)?;
        }
        self.sync()?;
        // The state first, then the journal: with both there, doing it all again changes nothing.
        self.folder.write_installed(&journal.installed)?;
        self.end(journal)
    }

    fn back(&mut self, journal: &mut Journal) -> Result<(), InstallError> {
        if journal.phase == Phase::Fill {
            for link in &journal.links {
                let place = self.place(&link.path);
                if self.has_real_parents(&link.path) && links::target(&place).as_ref() == Some(&link.target) {
                    let removed = failpoint::remove().and_then(|()| links::remove(&place));
                    removed.map_err(InstallError::io("remove the link", &place))?;
                    self.touch(&place);
                }
            }
            for (number, path) in &journal.place {
                let (staged, place) = (self.stage.join(number.to_string()), self.place(path));
                let is_placed = !exists(&staged) && self.has_real_parents(path) && is_file(&place);
                if is_placed {
                    self.rename(&place, &staged)?;
                }
            }
            for path in journal.made.iter().rev() {
                self.remove_empty(path);
            }
            self.sync()?;
            journal.phase = Phase::Clear;
            journal.write(self.folder)?;
        }
        for Aside { path, to } in journal.aside.iter().rev() {
            if self.has_real_parents(to) && exists(&self.place(to)) && !exists(&self.place(path)) {
                let (from, back) = (self.place(to), self.place(path));
                self.rename(&from, &back)?;
            }
        }
        for (number, path) in &journal.take {
            let kept = self.before.join(number.to_string());
            if exists(&kept) {
                self.put(&kept, path)?;
            }
        }
        for path in journal.gone.iter().rev() {
            self.make_folder(path)?;
        }
        for (number, from, to) in journal.respell.iter().rev() {
            self.respell(*number, to, from)?;
        }
        self.sync()?;
        match &journal.previous {
            Some(previous) => self.folder.write_installed(previous)?,
            None => self.folder.remove_installed()?,
        }
        self.end(journal)
    }

    /// What was there makes way: nothing of it is removed.
    fn clear(&mut self, journal: &Journal) -> Result<(), InstallError> {
        for (number, from, to) in &journal.respell {
            self.respell(*number, from, to)?;
        }
        for (number, path) in &journal.take {
            let (kept, place) = (self.before.join(number.to_string()), self.place(path));
            // What became a folder meanwhile is someone's, and makes way when its place is needed.
            let stands = fs::symlink_metadata(&place).is_ok_and(|m| !m.is_dir());
            if !exists(&kept) && stands && self.has_real_parents(path) {
                self.rename(&place, &kept)?;
            }
        }
        for (_, path) in &journal.take {
            self.remove_empty_parents(path);
        }
        for path in &journal.gone {
            self.remove_empty(path);
            self.remove_empty_parents(path);
        }
        for Aside { path, to } in &journal.aside {
            let (place, aside) = (self.place(path), self.place(to));
            if exists(&place) && !exists(&aside) && self.has_real_parents(path) {
                self.rename(&place, &aside)?;
            }
        }
        Ok(())
    }

    fn end(&mut self, journal: &Journal) -> Result<(), InstallError> {
        durable::remove_file(&self.folder.state(NAME))?;
        self.folder.remove_others(BEFORE, None)?;
        self.folder.remove_others(&journal.stage, None)
    }

    fn place(&self, path: &TreePath) -> PathBuf {
        self.folder.path().join(path.as_str())
    }

    fn touch(&mut self, place: &Path) {
        self.touched.extend(place.parent().map(Path::to_owned));
    }

    fn rename(&mut self, from: &Path, to: &Path) -> Result<(), InstallError> {
        failpoint::write().and_then(|()| durable::move_file(from, to)).map_err(InstallError::io("rename to", to))?;
        failpoint::pass();
        self.touch(from);
        self.touch(to);
        Ok(())
    }

    /// Whether no link stands among the folders above: nothing is done through one.
    fn has_real_parents(&self, path: &TreePath) -> bool {
        !path.parents().any(|p| fs::symlink_metadata(self.folder.path().join(p)).is_ok_and(|m| m.is_symlink()))
    }

    /// Puts a file of ours in its place.
    fn put(&mut self, from: &Path, path: &TreePath) -> Result<(), InstallError> {
        self.real_parents(path)?;
        self.make_way(path)?;
        let place = self.place(path);
        self.rename(from, &place)
    }

    /// Makes the folders above a path.
    fn real_parents(&mut self, path: &TreePath) -> Result<(), InstallError> {
        let mut parents: Vec<&str> = path.parents().collect();
        parents.reverse();
        for parent in parents {
            let parent = TreePath::new(parent).expect("what is above a path is a path");
            self.make_folder(&parent)?;
        }
        Ok(())
    }

    fn make_folder(&mut self, path: &TreePath) -> Result<(), InstallError> {
        let place = self.place(path);
        if durable::is_real_folder(&place) {
            return Ok(());
        }
        if path.parents().next().is_some_and(|above| !durable::is_real_folder(&self.folder.path().join(above))) {
            self.real_parents(path)?;
        }
        self.make_way(path)?;
        let made = failpoint::write().and_then(|()| fs::create_dir(&place));
        made.map_err(InstallError::io("make the folder", &place))?;
        self.touch(&place);
        Ok(())
    }

    fn make_link(&mut self, path: &TreePath, target: &str, is_folder: bool) -> Result<(), InstallError> {
        self.real_parents(path)?;
        let place = self.place(path);
        if links::target(&place).as_deref() == Some(target) {
            return Ok(());
        }
        self.make_way(path)?;
        let made = failpoint::write().and_then(|()| links::make(target, &place, is_folder));
        made.map_err(InstallError::io("make the link", &place))?;
        self.touch(&place);
        Ok(())
    }

    /// Everything that was known made way already; whatever stands here turned up since.
    fn make_way(&mut self, path: &TreePath) -> Result<(), InstallError> {
        let place = self.place(path);
        if !exists(&place) {
            return Ok(());
        }
        let to = self.names.choose(path);
        let aside = self.place(&to);
        self.rename(&place, &aside)?;
        self.aside.push(Aside { path: path.clone(), to });
        Ok(())
    }

    /// Writes a name otherwise, in two steps: some disks take the two names for one and would do nothing.
    fn respell(&mut self, number: usize, from: &TreePath, to: &TreePath) -> Result<(), InstallError> {
        let between = self.before.join(number.to_string());
        let (place, wanted) = (self.place(from), self.place(to));
        let name_of = |path: &TreePath| path.as_str().rsplit('/').next().unwrap_or_default().to_owned();
        let above = place.parent().unwrap_or(self.folder.path()).to_owned();
        if !exists(&between) {
            if !lists(&above, &name_of(from)) || !self.has_real_parents(from) {
                return Ok(());
            }
            self.rename(&place, &between)?;
        }
        if lists_alike(&above, &name_of(to)) {
            self.make_way(to)?;
        }
        self.rename(&between, &wanted)?;
        if lists(&above, &name_of(to)) {
            return Ok(());
        }
        // A system that still takes the new name for the old one renames nothing, and says that it did.
        Err(InstallError::io("rename to", &wanted)(io::Error::other("the disk did nothing; try again in a moment")))
    }

    fn remove_empty(&mut self, path: &TreePath) {
        let place = self.place(path);
        // One that holds something now is someone's, and stays.
        if self.has_real_parents(path) && durable::is_real_folder(&place) && fs::remove_dir(&place).is_ok() {
            self.touch(&place);
        }
    }

    /// Folders that the removal left empty go too; others stay, which is no error.
    fn remove_empty_parents(&mut self, path: &TreePath) {
        if !self.has_real_parents(path) {
            return;
        }
        for parent in path.parents() {
            let place = self.folder.path().join(parent);
            if fs::remove_dir(&place).is_err() {
                return;
            }
            self.touch(&place);
        }
    }

    /// Makes the renames last.
    fn sync(&mut self) -> Result<(), InstallError> {
        let touched = std::mem::take(&mut self.touched);
        sync_folders(self.folder.path(), &touched)
    }
}

fn exists(place: &Path) -> bool {
    fs::symlink_metadata(place).is_ok()
}

fn is_file(place: &Path) -> bool {
    fs::symlink_metadata(place).is_ok_and(|m| m.is_file())
}

/// More folders than this are synced with the whole disk in one go.
#[cfg(target_os = "linux")]
const SINGLE_SYNCS: usize = 16;

/// Makes renames in these folders last.
#[cfg(target_os = "linux")]
fn sync_folders(root: &Path, folders: &BTreeSet<PathBuf>) -> Result<(), InstallError> {
    if folders.len() > SINGLE_SYNCS {
        return super::writes::sync_disk(root).map_err(InstallError::io("sync", root));
    }
    sync_each(folders)
}

/// Makes renames in these folders last.
#[cfg(not(target_os = "linux"))]
fn sync_folders(_: &Path, folders: &BTreeSet<PathBuf>) -> Result<(), InstallError> {
    sync_each(folders)
}

fn sync_each(folders: &BTreeSet<PathBuf>) -> Result<(), InstallError> {
    for place in folders.iter().filter(|p| p.is_dir()) {
        durable::sync_folder(place)?;
    }
    Ok(())
}
