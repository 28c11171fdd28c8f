//! What an installation will write and remove.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use lantern_core::digest::Digest;
use lantern_core::path::TreePath;
use lantern_core::progress::{Meter, Progress, Task};
use lantern_core::tree::Node;
use lantern_core::work::{each, processors};

use super::InstallError;
use super::state::{Folder, STATE_FOLDER};
use crate::manifest::Entry;

/// What is wrong with an installed file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Problem {
    /// It is not there.
    Missing,
    /// Its content is another.
    Content,
    /// Something else stands there: a folder, a link.
    Kind,
    /// It should be executable, or should not.
    Executable,
    /// It cannot be read.
    Unreadable,
}

/// An installed file that is not as the build has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrongFile {
    /// Which.
    pub path: TreePath,
    /// How.
    pub problem: Problem,
}

/// What to write and to remove.
pub(super) struct Plan<'a> {
    /// Entries that are not there as they should be.
    pub write: Vec<&'a Entry>,
    /// Paths of the old build that the new one does not have.
    pub remove: Vec<TreePath>,
    /// All empty folders of the new build: removing old files may take one away.
    pub folders: Vec<TreePath>,
    /// Files of the new build.
    pub files: u64,
    /// Their size, in bytes.
    pub size: u64,
}

impl<'a> Plan<'a> {
    pub(super) fn make(
        folder: &Folder,
        old: &[Entry],
        new: &'a [Entry],
        progress: &dyn Progress,
    ) -> Result<Self, InstallError> {
        let checked = check(folder, new, progress)?;
        let write: Vec<&Entry> =
            new.iter().zip(checked).filter(|(_, problem)| problem.is_some()).map(|(e, _)| e).collect();
        let kept: HashSet<&TreePath> = new.iter().map(|e| &e.path).collect();
        let remove: Vec<TreePath> = old.iter().map(|e| e.path.clone()).filter(|p| !kept.contains(p)).collect();
        let plan = Self {
            write,
            remove,
            folders: new.iter().filter(|e| e.node == Node::EmptyFolder).map(|e| e.path.clone()).collect(),
            files: new.iter().filter(|e| matches!(e.node, Node::File { .. })).count() as u64,
            size: new.iter().map(|e| e.node.size()).sum(),
        };
        plan.look_for_obstacles(folder, old)?;
        Ok(plan)
    }

    /// Looks for what somebody else put where the build needs something: found before anything changes.
    fn look_for_obstacles(&self, folder: &Folder, old: &[Entry]) -> Result<(), InstallError> {
        let ours: HashMap<&str, &Node> = old.iter().map(|e| (e.path.as_str(), &e.node)).collect();
        let removed: BTreeSet<&str> = self.remove.iter().map(TreePath::as_str).collect();
        let mut seen = HashSet::new();
        for entry in &self.write {
            if entry.path.as_str().split('/').next() == Some(STATE_FOLDER) {
                let path = folder.path().join(STATE_FOLDER);
                return Err(InstallError::InTheWay { path, why: "the build may not bring files into this folder" });
            }
            for parent in entry.path.parents().filter(|p| seen.insert((*p).to_owned())) {
                let path = folder.path().join(parent);
                match fs::symlink_metadata(&path) {
                    Ok(m) if !m.is_dir() && !ours.contains_key(parent) => {
                        return Err(InstallError::InTheWay { path, why: "the build needs a folder there" });
                    }
                    _ => {}
                }
            }
            let path = folder.path().join(entry.path.as_str());
            let is_folder = fs::symlink_metadata(&path).is_ok_and(|m| m.is_dir());
            if is_folder && entry.node != Node::EmptyFolder && !goes_empty(&path, entry.path.as_str(), &removed) {
                return Err(InstallError::InTheWay { path, why: "the build needs a file there" });
            }
        }
        Ok(())
    }
}

/// Whether a folder holds nothing but what is going to be removed.
fn goes_empty(path: &Path, name: &str, removed: &BTreeSet<&str>) -> bool {
    let Ok(entries) = fs::read_dir(path) else { return false };
    entries.flatten().all(|entry| {
        let Some(below) = entry.file_name().to_str().map(|n| format!("{name}/{n}")) else {
            return false;
        };
        let is_folder = entry.file_type().is_ok_and(|t| t.is_dir());
        removed.contains(below.as_str()) || (is_folder && goes_empty(&entry.path(), &below, removed))
    })
}

/// Holds every entry against the folder; the answers are in the entries' order.
pub(super) fn check(
    folder: &Folder,
    entries: &[Entry],
    progress: &dyn Progress,
) -> Result<Vec<Option<Problem>>, InstallError> {
    let there = |e: &Entry| fs::symlink_metadata(folder.path().join(e.path.as_str())).map_or(0, |m| m.len());
    let total: u64 = entries.iter().map(|e| e.node.size().min(there(e))).sum();
    let meter = progress.start(Task::Verify, Some(total));
    let problems = Mutex::new(vec![None; entries.len()]);
    each(
        entries,
        processors(),
        || (),
        |(), index, entry| {
            if progress.stopped() {
                return Err(InstallError::Stopped);
            }
            if let Some(problem) = problem_of(folder, entry, &*meter, progress) {
                problems.lock().expect("nothing panics with the lock")[index] = Some(problem);
            }
            Ok(())
        },
    )?;
    if progress.stopped() {
        return Err(InstallError::Stopped);
    }
    Ok(problems.into_inner().expect("nothing panics with the lock"))
}

fn problem_of(folder: &Folder, entry: &Entry, meter: &dyn Meter, progress: &dyn Progress) -> Option<Problem> {
    let path = folder.path().join(entry.path.as_str());
    // A link among the parents would lead out of the folder.
    if entry.path.parents().any(|p| fs::symlink_metadata(folder.path().join(p)).is_ok_and(|m| m.is_symlink())) {
        return Some(Problem::Kind);
    }
    let Ok(metadata) = fs::symlink_metadata(&path) else {
        return Some(Problem::Missing);
    };
    match &entry.node {
        Node::EmptyFolder => (!metadata.is_dir()).then_some(Problem::Kind),
        Node::Link { target } => {
            if !metadata.is_symlink() {
                return Some(Problem::Kind);
            }
            let points = fs::read_link(&path).ok();
            (points != Some(PathBuf::from(target))).then_some(Problem::Content)
        }
        Node::File { size, digest, executable } => {
            if !metadata.is_file() {
                return Some(Problem::Kind);
            }
            if metadata.len() != *size {
                return Some(Problem::Content);
            }
            match hash_file(&path, meter, progress) {
                Ok(found) if found == *digest => (!bit_fits(&metadata, *executable)).then_some(Problem::Executable),
                Ok(_) => Some(Problem::Content),
                Err(_) => Some(Problem::Unreadable),
            }
        }
    }
}

#[cfg(unix)]
fn bit_fits(metadata: &fs::Metadata, executable: bool) -> bool {
    use std::os::unix::fs::PermissionsExt;
    (metadata.permissions().mode() & 0o100 != 0) == executable
}

/// Windows has no such bit: what ends in `.exe` can be started.
#[cfg(not(unix))]
fn bit_fits(_: &fs::Metadata, _: bool) -> bool {
    true
}

/// Returns a file's digest; a stop ends it early with an error.
pub(super) fn hash_file(path: &Path, meter: &dyn Meter, progress: &dyn Progress) -> std::io::Result<Digest> {
    Digest::of_reader(&mut File::open(path)?, &mut vec![0; 256 * 1024], meter, progress)
}
