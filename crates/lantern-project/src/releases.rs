//! What is wrong with a release that someone asks for.

use std::path::PathBuf;

use lantern_core::finding::one_of;
use lantern_core::names::Name;
use lantern_core::version::{ReleaseAsked, ReleaseName};

use crate::error::{Class, Explained};

/// Most releases that are named where one is not found. Ours.
pub(crate) const MOST_NAMED: usize = 5;

/// Why nothing can be done with a release.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ReleaseError {
    /// There is no release yet.
    #[error("nothing is sealed yet")]
    NothingSealed,
    /// No release is meant by what was asked.
    #[error("there is no release {asked}")]
    NoRelease {
        /// What was asked for.
        asked: ReleaseAsked,
        /// The newest ones that there are.
        known: Vec<ReleaseName>,
    },
    /// A release has no such target.
    #[error("{release} has no target {asked}")]
    NoTarget {
        /// The release.
        release: ReleaseName,
        /// What was asked for.
        asked: Name,
        /// Those that it has.
        known: Vec<Name>,
    },
    /// The release was withdrawn.
    #[error("{release} was withdrawn: {}", lantern_core::path::shown(.because))]
    Withdrawn {
        /// The release.
        release: ReleaseName,
        /// Why.
        because: String,
    },
    /// The release's content was freed.
    #[error("the content of {0} was freed; only its record is left")]
    Freed(ReleaseName),
    /// Nothing of the release was kept aside.
    #[error("nothing of {0} was kept aside")]
    NothingAside(ReleaseName),
    /// The release was sealed on another computer, and its content is not here.
    #[error("{release} was sealed on another computer, and its content is not here")]
    SealedElsewhere {
        /// The release.
        release: ReleaseName,
        /// The project's name for the storefront that has it.
        storefront: Name,
    },
    /// The release was out before this tool came, and its files were not given.
    #[error("{0} was adopted without its files")]
    WithoutFiles(ReleaseName),
    /// An archive of a kind that is not written.
    #[error("{} would be an archive of a kind that is not written here", .0.display())]
    OutputForm(PathBuf),
    /// Something stands where a release was to be written.
    #[error("{} is there already", .0.display())]
    OutputThere(PathBuf),
    /// Nothing in the release can be started on this computer.
    #[error("{release} has nothing that starts on this computer")]
    NothingToTry {
        /// The release.
        release: ReleaseName,
        /// Its targets.
        targets: Vec<Name>,
    },
    /// No device is meant.
    #[error("{}", if .known.is_empty() { "lantern.toml has no device" } else { "it is not clear which device is meant" })]
    NoDevice {
        /// Those of the configuration.
        known: Vec<Name>,
    },
    /// Someone tries this very build now.
    #[error("{target} is being tried by another lantern")]
    BeingTried {
        /// The target.
        target: Name,
    },
}

impl Explained for ReleaseError {
    fn class(&self) -> Class {
        match self {
            Self::NothingSealed
            | Self::NoRelease { .. }
            | Self::NoTarget { .. }
            | Self::Freed(_)
            | Self::NothingAside(_)
            | Self::WithoutFiles(_)
            | Self::SealedElsewhere { .. }
            | Self::OutputForm(_)
            | Self::OutputThere(_)
            | Self::NoDevice { .. }
            | Self::NothingToTry { .. } => Class::Usage,
            Self::Withdrawn { .. } => Class::Refused,
            Self::BeingTried { .. } => Class::Computer,
        }
    }

    fn fixes(&self) -> Vec<String> {
        let one = |text: &str| vec![text.to_owned()];
        match self {
            Self::NothingSealed => one("lantern prepare"),
            Self::NoRelease { known, .. } if known.is_empty() => one("lantern prepare"),
            Self::NoRelease { known, .. } => vec![one_of(known)],
            Self::NoTarget { known, .. } => vec![one_of(known)],
            Self::Withdrawn { .. } => one("fix it, raise the version, and prepare again"),
            Self::NothingAside(_) => one("name what players do not get: keep-aside = [\"*.pdb\"] in its target"),
            Self::Freed(release) => {
                vec![format!("prepare the same exports again, and {release} comes back; or choose another release")]
            }
            Self::NothingToTry { targets, .. } => vec![format!(
                "try it on the device itself; sealed are {}",
                targets.iter().map(Name::as_str).collect::<Vec<_>>().join(", ")
            )],
            Self::NoDevice { known } if known.is_empty() => vec![
                "add [devices.phone] with systems and run: your platform's own device program".to_owned(),
                "or put it there yourself, and say what it shows: lantern try --by-hand --target TARGET".to_owned(),
            ],
            Self::NoDevice { known } => vec![one_of(known)],
            Self::OutputForm(_) => one("name it .zip, .tar, .tar.gz or .tar.zst; anything else becomes a folder"),
            Self::OutputThere(_) => one("name a path where nothing is yet; nothing is overwritten"),
            Self::WithoutFiles(_) => {
                vec!["export it again from its sources, and adopt it with --target NAME=EXPORT".to_owned()]
            }
            Self::SealedElsewhere { storefront, .. } => vec![
                "do it on the computer that sealed it, or prepare the same exports here".to_owned(),
                format!("to have it as players do: lantern install {storefront} BRANCH DIR"),
            ],
            Self::BeingTried { .. } => one("end it there, then run the same command again"),
        }
    }
}
