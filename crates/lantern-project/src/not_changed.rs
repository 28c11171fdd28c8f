//! Why something was not stamped, or not signed, in the words of those who asked for it.

use std::path::Path;

use lantern_core::names::Name;
use lantern_exports::changing::ChangingError;
use lantern_sign::SignError;

use crate::error::Explained;

/// Why something was not signed: what is in the way, and what to do.
pub(crate) fn refused(target: &Name, why: impl Into<String>, fix: impl Into<String>) -> ChangingError {
    not_done("signed", target, why, fix)
}

pub(crate) fn not_done(
    what: &'static str,
    target: &Name,
    why: impl Into<String>,
    fix: impl Into<String>,
) -> ChangingError {
    ChangingError::Refused { target: target.clone(), what, why: why.into(), fix: fix.into() }
}

/// Why a target was not stamped, or not signed.
pub(crate) fn changing_error(what: &'static str, target: &Name, at: &Path, error: SignError) -> ChangingError {
    match error {
        SignError::Stopped => ChangingError::Stopped,
        SignError::Io(source) => ChangingError::Io { path: at.to_owned(), source },
        SignError::Refused { what: why, fix } => not_done(what, target, why, fix),
        SignError::Key(error) => not_done(what, target, error.to_string(), fix_of(&error)),
        other => not_done(what, target, other.to_string(), "export it again"),
    }
}

/// As [`changing_error`], of one file among others; `without` says how it is done without a time stamp.
pub(crate) fn of_file(
    what: &'static str,
    target: &Name,
    (file, at): (&str, &Path),
    error: SignError,
    without: &str,
) -> ChangingError {
    match error {
        SignError::Refused { what: why, fix } => not_done(what, target, format!("{file}: {why}"), fix),
        SignError::Stamp(error) => {
            not_done(what, target, format!("{file}: {error}"), format!("try again later, or {without}"))
        }
        other => changing_error(what, target, at, other),
    }
}

/// The first thing to do about an error.
pub(crate) fn fix_of(error: &impl Explained) -> String {
    error.fixes().into_iter().next().unwrap_or_default()
}
