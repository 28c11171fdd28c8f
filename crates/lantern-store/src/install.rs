//! Installing: a folder comes to hold exactly a build, whatever it held of it before.
//!
//! Three stages, each of which a kill may cut: what is missing is staged and verified in `.lantern-install/`; a journal
//! says what is to be switched; the switch renames. A journal that is found is carried out first, also offline, or given
//! up on request, which brings back what was there. Files that no build brought (saved games, additions) are never
//! written over or removed: one that stands where the build needs the place is moved aside, and reported. Described in
//! `docs/formats/install.md`.

mod disk;
mod fill;
mod gather;
mod journal;
mod plan;
mod seen;
mod state;
mod switch;
mod updates;
mod writes;

use std::io;
use std::path::{Path, PathBuf};

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::path::TreePath;
use lantern_core::progress::Progress;
use lantern_core::tree::{Node, TreeError};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::durable::DurableError;
use crate::fetch::{Counted, Fetch, FetchError, LocateError};
use crate::recipe::RecipeError;
use crate::room_left::NoRoom;

use journal::Journal;
pub use plan::{Problem, WrongFile};
use seen::Seen;
pub use state::{Folder, Installed, STATE_FOLDER};

/// Why a folder could not be installed, updated or verified.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum InstallError {
    /// Another lantern works on the folder.
    #[error("another lantern is at work in {}", .0.display())]
    Busy(PathBuf),
    /// Nothing was ever installed there.
    #[error("{} contains no installed build", .0.display())]
    NotInstalled(PathBuf),
    /// Something that is no folder of ours has the name of our state folder.
    #[error("{} is not a folder", .0.display())]
    ForeignState(PathBuf),
    /// What the folder says about itself cannot be read.
    #[error("{} is damaged: {why}", .path.display())]
    State {
        /// The file.
        path: PathBuf,
        /// How.
        why: String,
    },
    /// A file that says what the installed build holds is missing or damaged.
    #[error("{} is missing or damaged: it lists the files of the installed build", .0.display())]
    Lost(PathBuf),
    /// A switch was begun there and is not finished.
    #[error("the switch to another build is not finished in {}", .0.display())]
    Unfinished(PathBuf),
    /// Something could not be fetched.
    #[error("could not fetch {what}")]
    Fetch {
        /// Such as "the recipe".
        what: &'static str,
        /// The source's reason.
        #[source]
        source: FetchError,
    },
    /// What was fetched is not what it should be.
    #[error("{what} from the storefront is not what it should be: {why}")]
    Wrong {
        /// Such as "a chunk".
        what: &'static str,
        /// How.
        why: String,
    },
    /// What was fetched is of a newer form.
    #[error("{what} from the storefront cannot be read here: {why}")]
    Newer {
        /// Such as "a locator".
        what: &'static str,
        /// Which.
        why: String,
    },
    /// The recipe is damaged or hostile.
    #[error("the recipe from the storefront cannot be used")]
    Recipe(#[from] RecipeError),
    /// Two depots bring different files of one name.
    #[error("the depots do not fit together")]
    Depots(#[source] TreeError),
    /// Files of the player's own stand where the build needs the place, and nothing was to be moved aside.
    #[error("{} in {} {} in the way of the build", some(.paths), .folder.display(), if .paths.len() == 1 { "is" } else { "are" })]
    InTheWay {
        /// Where.
        folder: PathBuf,
        /// Which.
        paths: Vec<TreePath>,
    },
    /// This system does not take a name of the build.
    #[error("the build has the name {path}, which has {why}: this system refuses it")]
    Name {
        /// Where.
        folder: PathBuf,
        /// Which.
        path: TreePath,
        /// What is wrong with it.
        why: String,
    },
    /// The disk or the system makes no links.
    #[error("the build has links, and they cannot be made in {}", .folder.display())]
    NoLinks {
        /// Where.
        folder: PathBuf,
        /// The system's reason.
        #[source]
        source: io::Error,
    },
    /// A file cannot be replaced, or nothing can be written beside it.
    #[error("{} cannot be replaced", .path.display())]
    CannotReplace {
        /// Which.
        path: PathBuf,
        /// The system's reason.
        #[source]
        source: io::Error,
    },
    /// The disk has too little room.
    #[error(transparent)]
    NoRoom(#[from] NoRoom),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] DurableError),
    /// The switch from one build to the other was begun, and the disk refused.
    #[error("the switch to the new build is not finished")]
    HalfSwitched(#[source] Box<InstallError>),
    /// An installed file that looks as it did is not as it was, or cannot be read.
    #[error("{} is not what it was", .path.display())]
    NotAsSeen {
        /// Which.
        path: PathBuf,
        /// The system's reason, or ours.
        #[source]
        source: io::Error,
    },
    /// Someone asked to stop.
    #[error("nothing is half done")]
    Stopped,
}

/// The first of some paths, in words.
fn some(paths: &[TreePath]) -> String {
    let named: Vec<String> = paths.iter().take(3).map(ToString::to_string).collect();
    let more = paths.len() - named.len();
    if more > 0 { format!("{} and {more} more", named.join(", ")) } else { named.join(", ") }
}

impl From<LocateError> for InstallError {
    fn from(error: LocateError) -> Self {
        let what = "a locator";
        match error {
            LocateError::Fetch(source) => Self::Fetch { what, source },
            LocateError::Wrong(error) => Self::wrong(what, error.is_newer(), &error),
        }
    }
}

impl InstallError {
    /// Whether what came is not what it should be; it may be so when it is fetched again.
    pub(crate) const fn is_wrong(&self) -> bool {
        matches!(self, Self::Wrong { .. } | Self::Newer { .. } | Self::Recipe(RecipeError::Digest { .. }))
    }

    /// Whether a newer lantern may be able to do it.
    pub const fn is_newer(&self) -> bool {
        match self {
            Self::Newer { .. } => true,
            Self::Recipe(error) => error.is_newer(),
            _ => false,
        }
    }

    fn wrong(what: &'static str, is_newer: bool, error: &dyn std::error::Error) -> Self {
        let why = error.to_string();
        if is_newer { Self::Newer { what, why } } else { Self::Wrong { what, why } }
    }

    fn io(what: &'static str, path: &Path) -> impl FnOnce(io::Error) -> Self {
        move |e| Self::File(DurableError::on(what, path)(e))
    }
}

/// What becomes of a player's own file where the build needs the place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum OwnFiles {
    /// It is moved aside, beside itself.
    #[default]
    Aside,
    /// Nothing is done.
    Stop,
}

/// Something that was moved aside, beside itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Aside {
    /// Where it stood.
    pub path: TreePath,
    /// Where it is now.
    pub to: TreePath,
}

/// What an installation did.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Report {
    /// Files of the build.
    pub files: u64,
    /// Their size, in bytes.
    pub size: u64,
    /// Files that were written.
    pub written: u64,
    /// Files that were removed because the build no longer has them.
    pub removed: u64,
    /// Files that stay and were not read, because they look as they did when they were known to be right.
    pub unread: u64,
    /// All bytes that came: recipes, locators, update files, parts of packs; also what came twice.
    pub received: u64,
    /// Whether a switch that a break had cut was finished first.
    pub rolled_forward: bool,
    /// What stood in the way and was no build's, or was changed since a build brought it.
    pub aside: Vec<Aside>,
    /// What an earlier build brought, was changed since, and is no longer part of the build: left where it is.
    pub left: Vec<TreePath>,
    /// Whether it could not be found out what the earlier build had brought, so that nothing of it was removed.
    pub is_past_unknown: bool,
}

/// What is to be installed.
#[derive(Debug, Clone)]
pub struct Wanted<'a> {
    /// One for each depot.
    pub recipes: &'a [RecipeId],
    /// Kept next to the build for those who ask what is installed.
    pub about: Value,
    /// What becomes of a player's own files in the way.
    pub own_files: OwnFiles,
    /// What concerns the player alone, such as an invitation; none leaves what is kept already.
    pub private: Option<Value>,
    /// Update files that the source has.
    pub updates: &'a [UpdateOffer],
    /// Whether every file is read, also those that look as they did when they were known to be right. The same build once more reads all
    /// in any case.
    pub read_all: bool,
}

/// An update file that a source has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UpdateOffer {
    /// What must be installed.
    pub from: RecipeId,
    /// What it makes.
    pub to: RecipeId,
    /// All of its bytes.
    pub bytes: u64,
}

/// Makes `folder` hold a build.
///
/// # Errors
/// [`InstallError`]. Until the journal is written the folder is as it was; from then on the switch is finished by the
/// next call, whatever it is asked for, unless it is given up.
pub fn install(
    folder: &Path,
    wanted: Wanted<'_>,
    fetch: &dyn Fetch,
    progress: &dyn Progress,
) -> Result<Report, InstallError> {
    let Wanted { recipes, about, own_files, private, updates, read_all } = wanted;
    let fetch = &Counted::new(fetch);
    let folder = Folder::open_or_make(folder)?;
    if let Some(private) = private {
        folder.write_private(&private)?;
    }
    let (rolled_forward, mut aside) = match finish_begun(&folder) {
        // A journal that cannot be read can neither be finished nor given up: what is there is looked at as it is.
        Err(InstallError::State { .. }) => (false, Vec::new()),
        other => other?.map_or((false, Vec::new()), |aside| (true, aside)),
    };
    let previous = match folder.installed() {
        Err(InstallError::State { .. }) => None,
        other => other?,
    };
    let is_known = previous.is_some() || !folder.has_installed();
    let writes = folder.writes_of_recipes()?;
    let old = previous.as_ref().map_or(Ok(Some(Vec::new())), |installed| brought(&folder, installed, fetch))?;
    let is_past_unknown = old.is_none() || !is_known;
    let old = old.unwrap_or_default();
    let new = gather::recipes(&folder, recipes, fetch)?;
    folder.sync_recipes(writes)?;
    let was_installed: &[RecipeId] = previous.as_ref().map_or(&[], |installed| &installed.recipes);
    let reads_all = read_all || was_installed == recipes;
    let mut seen = if reads_all { Seen::default() } else { Seen::load(&folder, was_installed) };
    let fits = |offer: &&UpdateOffer| was_installed.contains(&offer.from) && recipes.contains(&offer.to);
    let offers: Vec<UpdateOffer> = updates.iter().filter(fits).copied().collect();
    let (plan, verified) = loop {
        // What was seen is of no more use: when anything is not as it was, everything is read.
        let plan = plan::Plan::make(&folder, &old, &new, own_files, &std::mem::take(&mut seen), progress)?;
        match gather::stage(&folder, &plan, (recipes, &new), (was_installed, &old), &offers, fetch, progress) {
            // A disk may lose what it was given, and say nothing.
            Err(InstallError::NotAsSeen { path, source }) if plan.unread > 0 => {
                log::info!("{} is not what it was: {source}", path.display());
            }
            verified => break (plan, verified?),
        }
    };
    let mut report = Report {
        files: plan.files,
        size: plan.size,
        written: plan.write.len() as u64,
        removed: plan.removed(),
        unread: plan.stayed_unread,
        received: fetch.bytes(),
        rolled_forward,
        aside: Vec::new(),
        left: plan.left.clone(),
        is_past_unknown,
    };
    aside.extend(plan.aside.clone());
    let installed = Installed { format: state::FORMAT.to_owned(), recipes: recipes.to_vec(), about };
    if plan.is_empty() {
        folder.remove_others(journal::STAGE, None)?;
        folder.write_installed(&installed)?;
    } else {
        let journal = Journal::new(&plan, installed, previous);
        aside.extend(switch::begin(&folder, journal)?);
    }
    folder.forget_others(recipes)?;
    // It is all there; without the note the next update reads more.
    if let Err(error) = Seen::note(&folder, recipes, &plan, verified) {
        log::info!("what was seen could not be noted: {error}");
    }
    report.aside = aside;
    Ok(report)
}

/// Returns what an installed build brought; none when nobody can say any more.
fn brought(
    folder: &Folder,
    installed: &Installed,
    fetch: &dyn Fetch,
) -> Result<Option<Vec<crate::recipe::Entry>>, InstallError> {
    match folder.entries_of(&installed.recipes, Some(fetch)) {
        Ok(entries) => Ok(Some(entries)),
        // The source does not have it any more, or gives something else.
        Err(InstallError::Fetch { source, .. }) if source.is_gone => Ok(None),
        Err(InstallError::Recipe(_)) => Ok(None),
        Err(other) => Err(other),
    }
}

/// Carries out a switch that a break had cut; none when there was none.
fn finish_begun(folder: &Folder) -> Result<Option<Vec<Aside>>, InstallError> {
    match Journal::read(folder)? {
        Some(mut journal) => switch::finish(folder, &mut journal).map(Some),
        None => Ok(None),
    }
}

/// What a folder says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FolderState {
    /// What is installed; none where nothing is, or where it cannot be understood.
    pub installed: Option<Installed>,
    /// What a switch that is not finished leads to; none where none is under way.
    pub begun: Option<Installed>,
    /// What concerns the player alone.
    pub private: Option<Value>,
}

/// Says what a folder holds; changes nothing there. None when nothing was ever installed.
///
/// # Errors
/// [`InstallError::Busy`], [`InstallError::File`].
pub fn read_folder(folder: &Path) -> Result<Option<FolderState>, InstallError> {
    let folder = match Folder::open_to_read(folder) {
        Err(InstallError::NotInstalled(_)) => return Ok(None),
        other => other?,
    };
    let understood = |result: Result<Option<Installed>, InstallError>| match result {
        Err(InstallError::State { .. }) => Ok(None),
        other => other,
    };
    let installed = understood(folder.installed())?;
    let begun = understood(Journal::read(&folder).map(|journal| {
        journal.map(|journal| match journal.direction {
            journal::Direction::Forward => journal.installed,
            journal::Direction::Back => journal.previous.unwrap_or(journal.installed),
        })
    }))?;
    Ok(Some(FolderState { installed, begun, private: folder.private() }))
}

/// Finishes a switch that a break had cut, and says whether there was one.
///
/// # Errors
/// [`InstallError`].
pub fn finish(folder: &Path) -> Result<bool, InstallError> {
    let folder = Folder::open(folder)?;
    finish_begun(&folder).map(|done| done.is_some())
}

/// What giving up came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GivenUp {
    /// What is installed now, as before; none when nothing was.
    pub installed: Option<Installed>,
    /// Whether a switch had been begun and was undone; else only what had come for it is gone.
    pub was_begun: bool,
    /// What turned up meanwhile where an old file had to go back.
    pub aside: Vec<Aside>,
}

/// Gives up an installation that was begun: the folder is again what it was before. None when there was nothing to give up.
///
/// # Errors
/// [`InstallError`]; the same call again goes on.
pub fn give_up(folder: &Path) -> Result<Option<GivenUp>, InstallError> {
    let path = folder;
    let folder = Folder::open(path)?;
    let (was_begun, aside) = match Journal::read(&folder)? {
        Some(mut journal) => (true, switch::turn_back(&folder, &mut journal)?),
        None => (false, Vec::new()),
    };
    let had_stage = folder.has_any(journal::STAGE);
    folder.remove_others(journal::STAGE, None)?;
    let installed = folder.installed()?;
    match &installed {
        Some(installed) => folder.forget_others(&installed.recipes)?,
        None => {
            drop(folder);
            let state = path.join(STATE_FOLDER);
            std::fs::remove_dir_all(&state).map_err(InstallError::io("remove", &state))?;
            // It goes when nothing else is in it.
            let _ = std::fs::remove_dir(path);
        }
    }
    Ok((was_begun || had_stage).then_some(GivenUp { installed, was_begun, aside }))
}

/// What verifying found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verified {
    /// What is installed.
    pub installed: Installed,
    /// Files of the build.
    pub files: u64,
    /// Their size, in bytes.
    pub size: u64,
    /// Those that are not as the build has them, in order.
    pub wrong: Vec<WrongFile>,
}

/// Reads every file of an installed build and checks it against its digest. Changes nothing, and can be used on a folder of
/// anybody's.
///
/// # Errors
/// [`InstallError`]; a file that is wrong is no error but a finding.
pub fn verify(folder: &Path, progress: &dyn Progress) -> Result<Verified, InstallError> {
    let folder = Folder::open_to_read(folder)?;
    if Journal::read(&folder)?.is_some() {
        return Err(InstallError::Unfinished(folder.path().to_owned()));
    }
    let installed = folder.installed()?.ok_or_else(|| InstallError::NotInstalled(folder.path().to_owned()))?;
    let entries = folder.entries_of(&installed.recipes, None)?;
    let checked = plan::check(&folder, &entries, progress)?;
    let wrong = entries
        .iter()
        .zip(checked)
        .filter_map(|(entry, problem)| problem.map(|problem| WrongFile { path: entry.path.clone(), problem }))
        .collect();
    let files = entries.iter().filter(|e| matches!(e.node, Node::File { .. })).count() as u64;
    let size = entries.iter().map(|e| e.node.size()).sum();
    Ok(Verified { installed, files, size, wrong })
}

/// Where the chunks of installed files lie, for those that a new build shares: the file, by its place among the old entries, and the
/// offset in it.
type OldChunks = std::collections::HashMap<Digest, (u32, u64)>;

#[cfg(test)]
mod tests;
