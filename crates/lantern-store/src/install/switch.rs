//! The switch: a journal, then renames. Every step can be done again, so a cut switch is finished by doing it all again.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use lantern_core::path::TreePath;
use lantern_core::points;
use lantern_core::tree::Node;
use serde::{Deserialize, Serialize};

use super::InstallError;
use super::plan::Plan;
use super::state::{Folder, Installed};
use crate::durable;

const FORMAT: &str = "lantern.switch/1";
const JOURNAL: &str = "journal.json";

#[derive(Debug, Serialize, Deserialize)]
struct Journal {
    format: String,
    /// The folder with the staged files, below the state folder.
    stage: String,
    /// Removed first, so that a file can become a folder.
    remove: Vec<TreePath>,
    folders: Vec<TreePath>,
    links: Vec<(TreePath, String)>,
    /// Staged file and where it goes.
    rename: Vec<(usize, TreePath)>,
    installed: Installed,
}

/// Writes the journal and carries it out. The journal is the one moment that decides: before it the old build stands,
/// behind it the new one will.
pub(super) fn switch(folder: &Folder, plan: &Plan<'_>, installed: Installed) -> Result<(), InstallError> {
    let stage = folder.stage(&installed.manifests);
    let stage_name = stage.file_name().and_then(|n| n.to_str()).unwrap_or_default().to_owned();
    let mut journal = Journal {
        format: FORMAT.to_owned(),
        stage: stage_name,
        remove: plan.remove.clone(),
        folders: plan.folders.clone(),
        links: Vec::new(),
        rename: Vec::new(),
        installed,
    };
    for (file, entry) in plan.write.iter().enumerate() {
        match &entry.node {
            Node::File { .. } => journal.rename.push((file, entry.path.clone())),
            Node::EmptyFolder => {}
            Node::Link { target } => journal.links.push((entry.path.clone(), target.clone())),
        }
    }
    folder.write_json(JOURNAL, &journal)?;
    finish(folder, &journal)
}

/// Carries out a journal that a break left behind; says whether there was one.
pub(super) fn roll_forward(folder: &Folder) -> Result<bool, InstallError> {
    let Some(journal) = folder.read_json::<Journal>(JOURNAL)? else {
        return Ok(false);
    };
    let damaged = |why: &str| InstallError::State { path: folder.state(JOURNAL), why: why.to_owned() };
    if journal.format != FORMAT {
        return Err(damaged(&format!("its format is {:?}, this lantern reads {FORMAT:?}", journal.format)));
    }
    if journal.stage.contains(['/', '\\']) || !journal.stage.starts_with("stage-") {
        return Err(damaged("it names a folder that is not ours"));
    }
    finish(folder, &journal)?;
    Ok(true)
}

/// From here on the folder may hold some of both builds until all is done.
fn finish(folder: &Folder, journal: &Journal) -> Result<(), InstallError> {
    carry_out(folder, journal).map_err(|error| InstallError::HalfSwitched(Box::new(error)))
}

/// More folders than this are synced with the whole disk in one go.
#[cfg(target_os = "linux")]
const SINGLE_SYNCS: usize = 16;

/// Makes renames in these folders last.
#[cfg(target_os = "linux")]
fn sync_folders(root: &Path, folders: &BTreeSet<PathBuf>) -> Result<(), InstallError> {
    if folders.len() > SINGLE_SYNCS {
        return super::gather::sync_all(root).map_err(InstallError::io("sync", root));
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

fn carry_out(folder: &Folder, journal: &Journal) -> Result<(), InstallError> {
    let stage = folder.state(&journal.stage);
    let mut touched = BTreeSet::new();
    for path in &journal.remove {
        remove(folder, path)?;
        touched.extend(path.parents().map(|p| folder.path().join(p)));
    }
    for path in journal.remove.iter() {
        remove_empty_parents(folder, path);
    }
    for path in &journal.folders {
        real_parents(folder, path)?;
        let place = folder.path().join(path.as_str());
        clear(&place)?;
        match points::write().and_then(|()| fs::create_dir(&place)) {
            Err(e) if e.kind() != io::ErrorKind::AlreadyExists => {
                return Err(InstallError::io("make the folder", &place)(e));
            }
            _ => {}
        }
    }
    for (path, target) in &journal.links {
        real_parents(folder, path)?;
        let place = folder.path().join(path.as_str());
        clear(&place)?;
        points::write().and_then(|()| link(target, &place)).map_err(InstallError::io("make the link", &place))?;
        touched.extend(place.parent().map(Path::to_owned));
    }
    for (file, path) in &journal.rename {
        let from = stage.join(file.to_string());
        let place = folder.path().join(path.as_str());
        if !from.exists() {
            // Done before the break: staged files leave the stage only by this rename.
            continue;
        }
        real_parents(folder, path)?;
        if fs::symlink_metadata(&place).is_ok_and(|m| m.is_dir()) {
            fs::remove_dir(&place).map_err(InstallError::io("remove the folder", &place))?;
        }
        points::write().and_then(|()| fs::rename(&from, &place)).map_err(InstallError::io("rename to", &place))?;
        touched.extend(place.parent().map(Path::to_owned));
    }
    sync_folders(folder.path(), &touched)?;
    // The state first, then the journal: with both there, doing it all again changes nothing.
    folder.write_json("installed.json", &journal.installed)?;
    durable::remove_file(&folder.state(JOURNAL))?;
    if stage.exists() {
        points::remove().and_then(|()| fs::remove_dir_all(&stage)).map_err(InstallError::io("remove", &stage))?;
    }
    Ok(())
}

fn remove(folder: &Folder, path: &TreePath) -> Result<(), InstallError> {
    // Nothing is removed through a link that leads elsewhere.
    if path.parents().any(|p| fs::symlink_metadata(folder.path().join(p)).is_ok_and(|m| m.is_symlink())) {
        return Ok(());
    }
    let place = folder.path().join(path.as_str());
    match fs::symlink_metadata(&place) {
        Ok(m) if m.is_dir() => {
            // An empty folder of the old build; one that holds something now is somebody else's.
            let _ = fs::remove_dir(&place);
            Ok(())
        }
        Ok(_) => Ok(durable::remove_file(&place)?),
        Err(_) => Ok(()),
    }
}

/// Folders that the removal left empty go too; others stay, which is no error.
fn remove_empty_parents(folder: &Folder, path: &TreePath) {
    for parent in path.parents() {
        if fs::remove_dir(folder.path().join(parent)).is_err() {
            return;
        }
    }
}

/// Makes the folders above a path; a link or file of the old build in their place goes.
fn real_parents(folder: &Folder, path: &TreePath) -> Result<(), InstallError> {
    let mut parents: Vec<&str> = path.parents().collect();
    parents.reverse();
    for parent in parents {
        let place: PathBuf = folder.path().join(parent);
        match fs::symlink_metadata(&place) {
            Ok(m) if m.is_dir() => continue,
            Ok(_) => durable::remove_file(&place)?,
            Err(_) => {}
        }
        let made = points::write().and_then(|()| fs::create_dir(&place));
        made.map_err(InstallError::io("make the folder", &place))?;
    }
    Ok(())
}

/// Takes a file or link out of the way.
fn clear(place: &Path) -> Result<(), InstallError> {
    match fs::symlink_metadata(place) {
        Ok(m) if m.is_dir() => {
            let _ = fs::remove_dir(place);
            Ok(())
        }
        Ok(_) => Ok(durable::remove_file(place)?),
        Err(_) => Ok(()),
    }
}

#[cfg(unix)]
fn link(target: &str, place: &Path) -> io::Result<()> {
    std::os::unix::fs::symlink(target, place)
}

#[cfg(windows)]
fn link(target: &str, place: &Path) -> io::Result<()> {
    let is_folder = place.parent().is_some_and(|p| p.join(target).is_dir());
    let target = target.replace('/', "\\");
    if is_folder {
        std::os::windows::fs::symlink_dir(target, place)
    } else {
        std::os::windows::fs::symlink_file(target, place)
    }
}
