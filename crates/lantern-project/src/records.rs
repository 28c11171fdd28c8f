//! What is wrong with what was recorded.

use std::path::PathBuf;

use lantern_core::version::BuildNumber;

use crate::error::{Class, Explained};

/// Why the record of everything is not used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RecordsError {
    /// What lies next to the ledger knows of more than the ledger does.
    #[error("the ledger {} is lost or out of date: {why}", .path.display())]
    LedgerLost {
        /// The file.
        path: PathBuf,
        /// How it is known.
        why: String,
    },
    /// A file is no copy of a ledger, or of another one.
    #[error("{} is not a copy of this ledger: {why}", .path.display())]
    NoLedgerCopy {
        /// The file.
        path: PathBuf,
        /// How it is known.
        why: String,
    },
    /// A number was taken already, or a higher one was.
    #[error("the number {asked} is not above {highest}, the highest that was taken")]
    NumberTaken {
        /// What was asked for.
        asked: BuildNumber,
        /// The highest so far.
        highest: BuildNumber,
    },
}

impl Explained for RecordsError {
    fn class(&self) -> Class {
        match self {
            Self::LedgerLost { .. } => Class::Damaged,
            Self::NoLedgerCopy { .. } | Self::NumberTaken { .. } => Class::Usage,
        }
    }

    fn fixes(&self) -> Vec<String> {
        let one = |text: &str| vec![text.to_owned()];
        match self {
            Self::NumberTaken { highest, .. } => {
                let next = BuildNumber::after(Some(*highest)).map_or_else(|_| "none".to_owned(), |n| n.to_string());
                vec![format!("numbers only rise; the lowest possible is {next}")]
            }
            Self::LedgerLost { .. } => vec![
                "to rebuild it from its copy, the store and the storefronts: lantern ledger rebuild".to_owned(),
                "or put the right file back from a backup of yours. Nothing was changed".to_owned(),
            ],
            Self::NoLedgerCopy { .. } => one("name a file that lantern ledger export or backup has written"),
        }
    }
}
