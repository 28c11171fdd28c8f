//! The journal of a switch: everything that is done once it is begun, written down before the first step.
//!
//! Described in `docs/formats/install.md`. A journal that is found is compared with the rules of a tree: it may have been
//! written by anybody.

use lantern_core::path::TreePath;
use lantern_core::tree::links_that_leave;
use serde::{Deserialize, Serialize};

use super::plan::{Plan, Respell};
use super::state::{Folder, Installed};
use super::{Aside, InstallError};
use lantern_core::tree::Node;

pub(super) const NAME: &str = "journal.json";
const FORMAT: &str = "lantern.switch/2";
/// Longest journal that is written and read, in bytes: some eight million files.
const MAX_LEN: u64 = 1024 * 1024 * 1024;
/// How the names of folders begin that hold staged files, and those that made way.
pub(super) const STAGE: &str = "stage-";
pub(super) const BEFORE: &str = "before-";

/// Where a switch goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Direction {
    /// To the new build.
    Forward,
    /// To what was there before.
    Back,
}

/// Which half of the steps is under way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Phase {
    /// What was there makes way; nothing of the new build stands in the folder yet.
    Clear,
    /// What is new is put in place; everything has made way.
    Fill,
}

/// A link of the new build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct NewLink {
    pub path: TreePath,
    pub target: String,
    /// Whether it leads to a folder of the build: Windows keeps two kinds of links.
    pub is_folder: bool,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Journal {
    pub format: String,
    pub direction: Direction,
    pub phase: Phase,
    /// The folder with the staged files, in the state folder.
    pub stage: String,
    /// The folder with what made way, in the state folder.
    pub before: String,
    /// From the top down: by its number, the name on the disk and the one to have.
    pub respell: Vec<(usize, TreePath, TreePath)>,
    /// By its number in `before`: files and links of the old build.
    pub take: Vec<(usize, TreePath)>,
    /// Folders that are empty then, deepest first.
    pub gone: Vec<TreePath>,
    /// What stays the player's, under another name.
    pub aside: Vec<Aside>,
    /// Empty folders of the new build.
    pub folders: Vec<TreePath>,
    /// Folders of the new build that were not there before, in order.
    pub made: Vec<TreePath>,
    /// By its number in `stage`: files of the new build.
    pub place: Vec<(usize, TreePath)>,
    pub links: Vec<NewLink>,
    /// What is installed then.
    pub installed: Installed,
    /// What was installed before.
    pub previous: Option<Installed>,
}

impl Journal {
    pub(super) fn new(plan: &Plan<'_>, installed: Installed, previous: Option<Installed>) -> Self {
        let stage = Folder::stage_name(&installed.recipes);
        let before = format!("{BEFORE}{}", stage.strip_prefix(STAGE).unwrap_or_default());
        let numbered = |from: usize| move |(number, path): (usize, &TreePath)| (from + number, path.clone());
        let respell = plan.respell.iter().enumerate();
        let mut journal = Self {
            format: FORMAT.to_owned(),
            direction: Direction::Forward,
            phase: Phase::Clear,
            stage,
            before,
            respell: respell.map(|(n, Respell { from, to })| (n, from.clone(), to.clone())).collect(),
            take: plan.take.iter().enumerate().map(numbered(plan.respell.len())).collect(),
            gone: plan.gone.clone(),
            aside: plan.aside.clone(),
            folders: plan.folders.clone(),
            made: plan.made.clone(),
            place: Vec::new(),
            links: Vec::new(),
            installed,
            previous,
        };
        for (number, entry) in plan.write.iter().enumerate() {
            match &entry.node {
                Node::File { .. } => journal.place.push((number, entry.path.clone())),
                Node::EmptyFolder => {}
                Node::Link { target } => {
                    let leads_to = entry.path.resolve_link(target).unwrap_or_default();
                    let is_folder = plan.all_folders.binary_search_by(|f| f.as_str().cmp(&leads_to)).is_ok();
                    journal.links.push(NewLink { path: entry.path.clone(), target: target.clone(), is_folder });
                }
            }
        }
        journal
    }

    /// Reads the journal of a folder, if a switch is under way there.
    ///
    /// # Errors
    /// [`InstallError::State`] for one that cannot be understood, or that no lantern would have written.
    pub(super) fn read(folder: &Folder) -> Result<Option<Self>, InstallError> {
        let damaged = |why: String| InstallError::State { path: folder.state(NAME), why };
        let Some(text) = folder.read_json::<serde_json::Value>(NAME, MAX_LEN)? else { return Ok(None) };
        let format = text.get("format").and_then(serde_json::Value::as_str).unwrap_or_default();
        if format != FORMAT {
            return Err(damaged(format!("its format is {format:?}, this lantern reads {FORMAT:?}")));
        }
        let journal: Self = serde_json::from_value(text).map_err(|e| damaged(e.to_string()))?;
        journal.wrong().map_or(Ok(Some(journal)), |why| Err(damaged(why)))
    }

    pub(super) fn write(&self, folder: &Folder) -> Result<(), InstallError> {
        folder.write_json(NAME, self, MAX_LEN)
    }

    /// What no journal of ours says. Paths were checked when they were read.
    fn wrong(&self) -> Option<String> {
        let is_own = |name: &str, start: &str| {
            name.strip_prefix(start).is_some_and(|rest| rest.bytes().all(|b| b.is_ascii_alphanumeric()))
        };
        if !is_own(&self.stage, STAGE) || !is_own(&self.before, BEFORE) {
            return Some("it names a folder that is not ours".to_owned());
        }
        let above = |path: &TreePath| path.parents().next().map(str::to_owned);
        let beside = self.aside.iter().all(|aside| above(&aside.path) == above(&aside.to));
        let same = self.respell.iter().all(|(_, from, to)| above(from) == above(to));
        if !beside || !same {
            return Some("it moves a file to another folder".to_owned());
        }
        let links = self.links.iter().map(|link| (&link.path, link.target.as_str()));
        links_that_leave(links).first().map(|(path, _)| format!("its link {path} leads out of the folder"))
    }
}
