//! Stamps packages and programs with a version and a number ([`stamp`]) and signs them: Android packages ([`apk`]) and bundles
//! ([`bundle_jar`]), programs for Windows ([`pe`]), lists of files ([`ssh`]) and statements ([`statement`]), with whatever
//! [`Signer`](lantern_keys::key::Signer) is handed in.
//!
//! The same input, key and settings give the same bytes, where no authority states the time ([`time_stamp`]). What was signed is verified by the readers of `lantern-formats`, which
//! share no code with this crate beyond hash functions and the directory of ZIP archives, before it is handed back. Nothing
//! is ever changed in place: the result is a new file.
//!
//! Not here: configuration, network, terminal.

#![cfg_attr(not(test), warn(clippy::indexing_slicing))]

use std::io;

use lantern_core::path::shown;
use lantern_formats::apk::ApkError;
use lantern_formats::zip::ZipError;
use lantern_keys::KeyError;

pub mod apk;
pub mod apple_bundle;
mod archive;
pub mod authority;
pub mod bundle_jar;
mod digests;
mod head;
pub mod ipa;
mod jar;
pub mod macho;
mod message;
pub mod pe;
mod plist;
pub mod rotation;
pub mod ssh;
pub mod stamp;
pub mod statement;
pub mod team;
pub mod time_stamp;

/// Why something was not signed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SignError {
    /// The archive cannot be read.
    #[error(transparent)]
    Zip(ZipError),
    /// The file cannot be read or written.
    #[error("reading or writing the package")]
    Io(#[from] io::Error),
    /// The key does not sign.
    #[error(transparent)]
    Key(KeyError),
    /// There is no time stamp.
    #[error(transparent)]
    Stamp(time_stamp::StampError),
    /// It is not a package that can be signed so that devices take it.
    #[error("{what}")]
    Refused {
        /// What is in the way.
        what: String,
        /// What to do.
        fix: String,
    },
    /// What was written is not valid by our own reader: a mistake of this program.
    #[error("what was signed is not valid when it is read again ({0}); it was not kept")]
    NotValid(String),
    /// Someone asked to stop.
    #[error("nothing is half done")]
    Stopped,
}

impl SignError {
    /// The same, which happened to one of several files.
    fn within(path: &str, error: Self) -> Self {
        match error {
            Self::Refused { what, fix } => Self::Refused { what: format!("{}: {what}", shown(path)), fix },
            Self::NotValid(wrong) => Self::NotValid(format!("{}: {wrong}", shown(path))),
            other => other,
        }
    }

    fn refused(what: impl Into<String>, fix: impl Into<String>) -> Self {
        Self::Refused { what: what.into(), fix: fix.into() }
    }
}

impl From<KeyError> for SignError {
    fn from(error: KeyError) -> Self {
        match error {
            KeyError::Stopped => Self::Stopped,
            other => Self::Key(other),
        }
    }
}

impl From<ZipError> for SignError {
    fn from(error: ZipError) -> Self {
        match error {
            // A full disk is no broken archive.
            ZipError::Io(error) => Self::Io(error),
            other => Self::Zip(other),
        }
    }
}

impl From<ApkError> for SignError {
    fn from(error: ApkError) -> Self {
        match error {
            ApkError::Zip(error) => error.into(),
            ApkError::Io(error) => Self::Io(error),
            other => Self::NotValid(other.to_string()),
        }
    }
}
