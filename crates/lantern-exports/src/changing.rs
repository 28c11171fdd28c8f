//! The place for stamping and signing, between what was taken in and what is sealed: changed bytes lie over the export's own.

use std::path::{Path, PathBuf};

use lantern_core::names::Name;
use lantern_core::progress::Progress;
use lantern_core::release::ChangedBy;
use lantern_core::version::ReleaseName;

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

/// Stamps and signs exports before they are sealed.
pub trait Changing: std::fmt::Debug + Send + Sync {
    /// What is done to a target, and who signs: with the unchanged bytes, the version and the number this is all that decides what
    /// a release holds. None for a target that stays as it is.
    fn by(&self, target: &Name) -> Option<ChangedBy>;

    /// Whether a target's bytes say which release they are of: the number is then taken before they are made.
    fn is_stamped(&self, target: &Name) -> bool;

    /// Stamps and signs an export. What comes back lies in `work`, which is empty before. Signing it again may give other bytes.
    ///
    /// # Errors
    /// [`ChangingError`].
    fn change(
        &self,
        intake: &Intake<'_>,
        release: &ReleaseName,
        work: &Path,
        progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, ChangingError>;
}
