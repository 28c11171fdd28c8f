//! Files that take the place of others: as a whole, or not at all.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use lantern_store::durable::DurableError;

use crate::ProjectError;
use crate::sign_files::keep;

/// What a run that was cut short leaves beside a file; the next one writes over it.
pub(crate) const PART: &str = ".lantern-part";

/// What was done to a file.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Did {
    /// It is signed now.
    Signed,
    /// It was signed with this key already.
    HadIt,
    /// Someone else has signed it: who.
    OfOthers(String),
    /// A signature was written beside it: the file.
    Beside(PathBuf),
}

/// That a file could not be read.
pub(crate) fn reading(path: &Path) -> impl FnOnce(io::Error) -> DurableError {
    let path = path.to_owned();
    move |source| DurableError { what: "read", path, source }
}

/// Writes a file beside its place, and puts it there once it is whole and on the disk, with the rights that `was` has, if it is there.
pub(crate) fn replace<E: Into<ProjectError>>(
    was: &Path,
    to: &Path,
    write: impl FnOnce(&Path) -> Result<(), E>,
) -> Result<(), ProjectError> {
    let name = to.file_name().unwrap_or_default().to_string_lossy();
    let part = to.with_file_name(format!(".{name}{PART}"));
    let rights = || match fs::metadata(was) {
        Ok(metadata) => fs::set_permissions(&part, metadata.permissions()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(error),
    };
    let done = write(&part).map_err(Into::into).and_then(|()| {
        rights().map_err(|source| DurableError { what: "write", path: part.clone(), source })?;
        Ok(keep(&part, to)?)
    });
    if done.is_err() {
        // Of no use to anyone; that it is there says nothing.
        let _ = fs::remove_file(&part);
    }
    done
}
