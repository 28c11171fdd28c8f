//! The place for signing, between what was taken in and what is sealed: signed bytes lie over the export's own.

use std::path::{Path, PathBuf};

use lantern_core::names::Name;
use lantern_core::progress::Progress;
use lantern_core::release::SignedBy;

pub use crate::export::Replacement;
use crate::intake::Intake;

/// Why something was not signed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SigningError {
    /// Someone asked to stop.
    #[error("nothing is half done")]
    Stopped,
    /// Reading or writing failed.
    #[error("signing {path}")]
    Io {
        /// What was read or written.
        path: PathBuf,
        /// Why not.
        #[source]
        source: std::io::Error,
    },
    /// The signer refused, or cannot.
    #[error("{target} was not signed: {why}")]
    Refused {
        /// The target.
        target: Name,
        /// Why.
        why: String,
        /// What to do.
        fix: String,
    },
}

/// Signs exports before they are sealed.
pub trait Signing: std::fmt::Debug + Send + Sync {
    /// Who signs a target, and with which settings: with the unsigned bytes this is all that decides what a release holds. None
    /// for a target that is not signed.
    fn by(&self, target: &Name) -> Option<SignedBy>;

    /// Signs an export. What comes back lies in `work`, which is empty before. Signing it again may give other bytes.
    ///
    /// # Errors
    /// [`SigningError`].
    fn sign(&self, intake: &Intake<'_>, work: &Path, progress: &dyn Progress)
    -> Result<Vec<Replacement>, SigningError>;
}
