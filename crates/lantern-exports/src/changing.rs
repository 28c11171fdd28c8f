//! The place for stamping and signing, between what was taken in and what is sealed: changed bytes lie over the export's own.

use std::path::{Path, PathBuf};

use lantern_core::finding::Finding;
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::progress::Progress;
use lantern_core::release::ChangedBy;
use lantern_core::version::ReleaseName;
use lantern_store::durable::DurableError;

use crate::WindowsProgram;
pub use crate::export::Replacement;
use crate::intake::Intake;

/// Why something was not stamped, or not signed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ChangingError {
    /// Someone asked to stop.
    #[error("nothing is half done")]
    Stopped,
    /// Reading or writing failed.
    #[error("writing {path}")]
    Io {
        /// What was read or written.
        path: PathBuf,
        /// Why not.
        #[source]
        source: std::io::Error,
    },
    /// Someone else has to look at it first.
    #[error("{target} waits for {by}: {why}")]
    Waits {
        /// The target.
        target: Name,
        /// Who.
        by: Name,
        /// Since when, and what for.
        why: String,
        /// What to do.
        fix: String,
    },
    /// It cannot be done, or is refused.
    #[error("{target} was not {what}: {why}")]
    Refused {
        /// The target.
        target: Name,
        /// What was to be done: stamped, or signed.
        what: &'static str,
        /// Why.
        why: String,
        /// What to do.
        fix: String,
    },
}

impl From<DurableError> for ChangingError {
    fn from(error: DurableError) -> Self {
        Self::Io { path: error.path, source: error.source }
    }
}

/// Stamps and signs exports before they are sealed.
pub trait Changing: std::fmt::Debug + Send + Sync {
    /// What is done to a target, and who signs: with the unchanged bytes, the version and the number this is all that decides what
    /// a release holds. None for a target that stays as it is.
    fn by(&self, target: &Name) -> Option<ChangedBy>;

    /// Whether a target's bytes say which release they are of: the number is then taken before they are made.
    fn is_stamped(&self, target: &Name) -> bool;

    /// Stamps and signs an export. What comes back lies in `work`, where there may still be what a run that was cut short had
    /// finished of the very same. Signing it again may give other bytes.
    ///
    /// # Errors
    /// [`ChangingError`].
    fn change(
        &self,
        intake: &Intake<'_>,
        release: &ReleaseName,
        known: &KnownFiles<'_>,
        work: &Path,
        progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, ChangingError>;

    /// Has someone else look at what was changed, where that is wanted; what comes back belongs to it. `files` are what
    /// [`Self::change`] made, which stay as they are in `work` until then.
    ///
    /// # Errors
    /// [`ChangingError`].
    fn approve(
        &self,
        _intake: &Intake<'_>,
        _release: &ReleaseName,
        files: Vec<Replacement>,
        _work: &Path,
        _progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, ChangingError> {
        Ok(files)
    }

    /// What is worth knowing of what was changed so far, with the target that it is about.
    fn findings(&self) -> Vec<(Name, Finding)> {
        Vec::new()
    }
}

/// What is known of an export that is about to be changed.
#[derive(Clone, Copy)]
pub struct KnownFiles<'a> {
    /// The programs and libraries for Windows in it.
    pub windows: &'a [WindowsProgram],
    /// Writes what an earlier release has of a file, if it was made in the same way of the same bytes; says whether it did.
    pub earlier: &'a (dyn Fn(&TreePath, &Path) -> Result<bool, ChangingError> + Sync),
}

impl std::fmt::Debug for KnownFiles<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("KnownFiles").field("windows", &self.windows).finish_non_exhaustive()
    }
}
