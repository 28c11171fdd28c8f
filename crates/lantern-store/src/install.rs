//! Installing: a folder comes to hold exactly a build, whatever it held of it before.
//!
//! Three stages, each of which a kill may cut: what is missing is staged and verified in `.lantern-install/`; a journal
//! says what is to be switched; the switch renames. A journal that is found is rolled forward first, also offline.
//! Files that no build brought (saved games, additions) are not touched. Described in `docs/formats/install.md`.

mod gather;
mod plan;
mod state;
mod switch;

use std::io;
use std::path::{Path, PathBuf};

use lantern_core::digest::{Digest, ManifestId};
use lantern_core::path::TreePath;
use lantern_core::progress::Progress;
use lantern_core::tree::TreeError;
use serde_json::Value;

use crate::durable::DurableError;
use crate::fetch::{Fetch, FetchError};
use crate::manifest::ManifestError;

pub use plan::{Problem, WrongFile};
pub use state::{Folder, Installed, STATE_FOLDER};

/// Why a folder could not be installed, updated or verified.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum InstallError {
    /// Another lantern works on the folder.
    #[error("another lantern is at work in {}", .0.display())]
    Busy(PathBuf),
    /// Nothing was ever installed there.
    #[error("{} holds no installed build", .0.display())]
    NotInstalled(PathBuf),
    /// What the folder says about itself cannot be read.
    #[error("{} is damaged: {why}", .path.display())]
    State {
        /// The file.
        path: PathBuf,
        /// How.
        why: String,
    },
    /// Something could not be fetched.
    #[error("could not fetch {what}")]
    Fetch {
        /// Such as "the manifest".
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
    /// The manifest is damaged or hostile.
    #[error("the manifest from the storefront cannot be used")]
    Manifest(#[from] ManifestError),
    /// Two depots bring different files of one name.
    #[error("the depots do not fit together")]
    Depots(#[source] TreeError),
    /// A file or folder of somebody else stands where the build needs another.
    #[error("{} is in the way: {why}", .path.display())]
    InTheWay {
        /// Which.
        path: PathBuf,
        /// Why it cannot be replaced.
        why: &'static str,
    },
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] DurableError),
    /// The switch from one build to the other was begun, and the disk refused.
    #[error("the switch to the new build is not finished")]
    HalfSwitched(#[source] Box<InstallError>),
    /// Somebody asked to stop.
    #[error("stopped")]
    Stopped,
}

impl InstallError {
    fn io(what: &'static str, path: &Path) -> impl FnOnce(io::Error) -> Self {
        move |e| Self::File(DurableError::on(what, path)(e))
    }
}

/// What an installation did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// Files of the build.
    pub files: u64,
    /// Their size, in bytes.
    pub size: u64,
    /// Files that were written.
    pub written: u64,
    /// Files that were removed because the build no longer has them.
    pub removed: u64,
    /// Bytes of packs that came.
    pub received: u64,
    /// Whether a switch that a break had cut was finished first.
    pub rolled_forward: bool,
}

/// Makes `folder` hold the build of `manifests`; `about` is kept beside it for whoever asks what is installed.
///
/// # Errors
/// [`InstallError`]. Until the journal is written the folder is as it was; from then on the switch is finished by the
/// next call, whatever it is asked for.
pub fn install(
    folder: &Path,
    manifests: &[ManifestId],
    about: Value,
    fetch: &dyn Fetch,
    progress: &dyn Progress,
) -> Result<Report, InstallError> {
    let folder = Folder::open_or_make(folder)?;
    let rolled_forward = switch::roll_forward(&folder)?;
    let old = folder.entries_installed()?;
    let new = gather::manifests(&folder, manifests, fetch)?;
    let plan = plan::Plan::make(&folder, &old, &new, progress)?;
    let received = gather::stage(&folder, &plan, manifests, &old, fetch, progress)?;
    let report = Report {
        files: plan.files,
        size: plan.size,
        written: plan.write.len() as u64,
        removed: plan.remove.len() as u64,
        received,
        rolled_forward,
    };
    let installed = Installed { format: state::FORMAT.to_owned(), manifests: manifests.to_vec(), about };
    switch::switch(&folder, &plan, installed)?;
    Ok(report)
}

/// Finishes a switch that a break had cut, and says what is installed.
///
/// # Errors
/// [`InstallError`].
pub fn installed(folder: &Path) -> Result<Installed, InstallError> {
    let folder = Folder::open(folder)?;
    switch::roll_forward(&folder)?;
    folder.installed()?.ok_or_else(|| InstallError::NotInstalled(folder.path().to_owned()))
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

/// Reads every file of an installed build and holds it against its digest.
///
/// # Errors
/// [`InstallError`]; a file that is wrong is no error but a finding.
pub fn verify(folder: &Path, progress: &dyn Progress) -> Result<Verified, InstallError> {
    let folder = Folder::open(folder)?;
    switch::roll_forward(&folder)?;
    let installed = folder.installed()?.ok_or_else(|| InstallError::NotInstalled(folder.path().to_owned()))?;
    let entries = folder.entries_installed()?;
    let checked = plan::check(&folder, &entries, progress)?;
    let wrong = entries
        .iter()
        .zip(checked)
        .filter_map(|(entry, problem)| problem.map(|problem| WrongFile { path: entry.path.clone(), problem }))
        .collect();
    let files = entries.iter().filter(|e| matches!(e.node, lantern_core::tree::Node::File { .. })).count() as u64;
    let size = entries.iter().map(|e| e.node.size()).sum();
    Ok(Verified { installed, files, size, wrong })
}

/// Where the chunks of installed files lie, for those that a new build shares.
type OldChunks<'a> = std::collections::HashMap<Digest, (&'a TreePath, u64, u32)>;

#[cfg(test)]
mod tests;
