//! Why a use case ended without having done its work, and what to do about it.

use std::io::ErrorKind;
use std::path::PathBuf;

use lantern_core::finding::{Finding, one_of};
use lantern_core::names::Name;
use lantern_core::rules::Refusal;
use lantern_core::version::{ReleaseName, VersionError};
use lantern_exports::changing::ChangingError;
use lantern_keys::KeyError;
use lantern_ledger::{LedgerError, Outcome};
use lantern_store::durable::DurableError;
use lantern_store::install::InstallError;
use lantern_store::seal::SealError;
use lantern_store::store::StoreError;
use lantern_storefront::StorefrontError;
use lantern_storefront::protocol::problem;

use crate::adopt::AdoptError;
use crate::connector_run::ConnectorFailed;
use crate::history::HistoryError;
use crate::install::PlayError;
use crate::invite::InviteError;
use crate::outgoing::HandOverError;
use crate::promote::MoveError;
use crate::push::PushError;
use crate::records::RecordsError;
use crate::releases::ReleaseError;
use crate::steps::StepsError;
use crate::storefronts::ConnectError;

/// What kind of failure it is; each has an exit code of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Class {
    /// Findings that stop.
    Findings,
    /// Wrong usage or configuration.
    Usage,
    /// Refused by a storefront's rules or rights, or someone was faster.
    Refused,
    /// The storefront or network could not be reached.
    Unreachable,
    /// Damaged or wrong data.
    Damaged,
    /// This computer: disk, permission, another lantern at work.
    Computer,
    /// A question was answered with no, or nobody was there to answer it.
    NotConfirmed,
    /// Someone asked to stop.
    Stopped,
}

/// An error that says what kind of failure it is, and what to do about it.
pub trait Explained {
    /// What kind of failure it is.
    fn class(&self) -> Class;

    /// Returns what to do, a sentence each.
    fn fixes(&self) -> Vec<String>;
}

/// Why a use case ended. What belongs to one use case alone stands beside it.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ProjectError {
    /// There is no `lantern.toml` here or above.
    #[error("there is no lantern.toml in {} or above it", .0.display())]
    NoProject(PathBuf),
    /// There is one already.
    #[error("{} is there already", .0.display())]
    AlreadyThere(PathBuf),
    /// The configuration is wrong.
    #[error("{} in {}", plural(.0.len(), "thing is wrong", "things are wrong"), file_of(.0))]
    Config(Vec<Finding>),
    /// An export cannot be taken as it is.
    #[error("the exports cannot be sealed: {}", plural(.0.iter().filter(|f| f.severity == lantern_core::finding::Severity::Error).count(), "error", "errors"))]
    Findings(Vec<Finding>),
    /// A value is missing that nobody can be asked for.
    #[error("{what} is missing")]
    MissingAnswer {
        /// Such as "the version".
        what: String,
        /// The option that gives it.
        option: String,
    },
    /// Another lantern works on the project.
    #[error("another lantern is working here{}", .pid.map_or(String::new(), |pid| format!(" (process {pid})")))]
    Busy {
        /// Its process, when it said so.
        pid: Option<u32>,
    },
    /// `.lantern` belongs to someone else's tool or is no folder.
    #[error("{} was not made by lantern", .0.display())]
    ForeignState(PathBuf),
    /// The ledger would lie on another computer's disk.
    #[error("{} is on a network disk, where a ledger cannot be kept safely", .0.display())]
    NetworkFolder(PathBuf),
    /// This computer cannot speak HTTP at all.
    #[error("no time-stamp authority can be asked: {0}")]
    NoHttp(String),
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] DurableError),
    /// The ledger could not be read or written.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The store could not be read or written.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// An export could not be sealed.
    #[error(transparent)]
    Seal(#[from] SealError),
    /// An installed copy could not be made or checked.
    #[error(transparent)]
    Install(#[from] InstallError),
    /// Numbers ran out.
    #[error(transparent)]
    Number(#[from] VersionError),
    /// The project knows no such edition.
    #[error("lantern.toml has no targets of an edition {asked:?}", asked = .asked.as_str())]
    NoEdition {
        /// What was asked for.
        asked: Name,
        /// Those that there are.
        known: Vec<Name>,
    },
    /// The configuration has no such target.
    #[error("there is no target {asked}")]
    NoTargetHere {
        /// What was asked for.
        asked: Name,
        /// Those that there are.
        known: Vec<Name>,
    },
    /// A storefront could not do what was asked.
    #[error("{storefront}")]
    Storefront {
        /// The project's name for it.
        storefront: Name,
        /// Why.
        #[source]
        source: StorefrontError,
    },
    /// House rules are in the way.
    #[error("{storefront} does not accept this")]
    Rules {
        /// The project's name for it.
        storefront: Name,
        /// What is in the way.
        refusals: Vec<Refusal>,
    },
    /// An action was asked for and no answer came.
    #[error("{storefront} was asked, and no answer came: whether it was done is not known yet")]
    Unsettled {
        /// The project's name for it.
        storefront: Name,
        /// Why no answer came.
        #[source]
        source: StorefrontError,
    },
    /// Someone asked to stop while something was on its way to a storefront.
    #[error("{storefront} was asked, and had not answered yet")]
    Unanswered {
        /// The project's name for it.
        storefront: Name,
    },
    /// A storefront has done what was asked, and this computer could not write it down.
    #[error("{storefront} did it, but it could not be recorded here")]
    Unrecorded {
        /// The project's name for it.
        storefront: Name,
        /// Why it could not.
        #[source]
        source: LedgerError,
    },
    /// A release is sealed, and its statement is not there.
    #[error("{release} is sealed, and its statement was not written")]
    Statement {
        /// Which.
        release: ReleaseName,
        /// Why not.
        #[source]
        source: Box<ProjectError>,
    },
    /// The start file could not be started.
    #[error("{file} could not be started")]
    Start {
        /// Which.
        file: String,
        /// The system's reason.
        #[source]
        source: std::io::Error,
    },
    /// A branch is not moved.
    #[error(transparent)]
    Move(#[from] MoveError),
    /// A release does not go to a storefront.
    #[error(transparent)]
    Push(#[from] PushError),
    /// An action by hand does not go on.
    #[error(transparent)]
    Steps(#[from] StepsError),
    /// Something is not laid out to be handed over.
    #[error(transparent)]
    HandOver(#[from] HandOverError),
    /// Something is not adopted.
    #[error(transparent)]
    Adopt(#[from] AdoptError),
    /// A connector did not do something.
    #[error(transparent)]
    Connector(#[from] ConnectorFailed),
    /// Nobody is invited.
    #[error(transparent)]
    Invite(#[from] InviteError),
    /// A player does not get a build.
    #[error(transparent)]
    Play(#[from] PlayError),
    /// Nothing can be done with a release.
    #[error(transparent)]
    Release(#[from] ReleaseError),
    /// Something is asked for that never happened.
    #[error(transparent)]
    History(#[from] HistoryError),
    /// A storefront is not the one that is meant.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The record of everything is not used.
    #[error(transparent)]
    Records(#[from] RecordsError),
    /// Something was not stamped, or not signed.
    #[error(transparent)]
    Changing(ChangingError),
    /// A key could not be made, read or used.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// Randomness could not be had.
    #[error("this computer gives no randomness: {0}")]
    Random(String),
    /// Someone asked to stop.
    #[error("nothing is half done")]
    Stopped,
}

/// The file that findings are about, where it is one.
fn file_of(findings: &[Finding]) -> &str {
    let mut files = findings.iter().filter_map(|finding| finding.place.as_ref()).map(|place| place.file.as_str());
    let first = files.next().unwrap_or("lantern.toml");
    if files.all(|file| file == first) { first } else { "the configuration" }
}

pub(crate) fn plural(count: usize, one: &str, many: &str) -> String {
    format!("{count} {}", if count == 1 { one } else { many })
}

impl From<lantern_exports::Stopped> for ProjectError {
    fn from(_: lantern_exports::Stopped) -> Self {
        Self::Stopped
    }
}

impl From<ChangingError> for ProjectError {
    fn from(error: ChangingError) -> Self {
        match error {
            ChangingError::Stopped => Self::Stopped,
            other => Self::Changing(other),
        }
    }
}

impl ProjectError {
    /// Whether the disk is full.
    pub(crate) fn is_full(&self) -> bool {
        match self {
            Self::Ledger(error) => error.outcome() == Outcome::Full,
            error => matches!(system_says(error), Some(ErrorKind::StorageFull | ErrorKind::QuotaExceeded)),
        }
    }

    /// Returns what kind of failure it is.
    pub fn class(&self) -> Class {
        match self {
            Self::Findings(_) => Class::Findings,
            Self::MissingAnswer { .. } => Class::NotConfirmed,
            Self::NoProject(_)
            | Self::AlreadyThere(_)
            | Self::Config(_)
            | Self::Number(_)
            | Self::NoEdition { .. }
            | Self::NoTargetHere { .. } => Class::Usage,
            Self::Changing(ChangingError::Waits { .. }) => Class::NotConfirmed,
            Self::Rules { .. } | Self::Changing(ChangingError::Refused { .. }) => Class::Refused,
            Self::Unsettled { source: StorefrontError::Unanswered { .. }, .. } => Class::Stopped,
            Self::Unsettled { .. } => Class::Unreachable,
            Self::Storefront { source, .. } => class_of_storefront(source),
            Self::Seal(SealError::Stopped)
            | Self::Install(InstallError::Stopped)
            | Self::Unanswered { .. }
            | Self::Stopped => Class::Stopped,
            Self::Store(error) | Self::Seal(SealError::Store(error)) => class_of_store(error),
            Self::Install(error) => class_of_install(error),
            Self::Ledger(error) if error.outcome() == Outcome::Foreign => Class::Usage,
            Self::Ledger(error) | Self::Unrecorded { source: error, .. } => class_of_ledger(error),
            Self::Statement { source, .. } => source.class(),
            Self::Key(error) => error.class(),
            Self::Move(error) => error.class(),
            Self::Push(error) => error.class(),
            Self::Steps(error) => error.class(),
            Self::Adopt(error) => error.class(),
            Self::Connector(error) => error.class(),
            Self::HandOver(error) => error.class(),
            Self::Invite(error) => error.class(),
            Self::Play(error) => error.class(),
            Self::Release(error) => error.class(),
            Self::History(error) => error.class(),
            Self::Connect(error) => error.class(),
            Self::Records(error) => error.class(),
            Self::Busy { .. }
            | Self::ForeignState(_)
            | Self::NoHttp(_)
            | Self::NetworkFolder(_)
            | Self::File(_)
            | Self::Seal(_)
            | Self::Start { .. }
            | Self::Changing(_)
            | Self::Random(_) => Class::Computer,
        }
    }

    /// Whether it is about one storefront alone, so that others can still be asked.
    pub(crate) const fn is_of_storefront(&self) -> bool {
        matches!(
            self,
            Self::Storefront { .. } | Self::Connect(ConnectError::OtherStorefront { .. } | ConnectError::OtherTitle(_))
        )
    }

    /// Returns what to do, a sentence each.
    pub fn fixes(&self) -> Vec<String> {
        let one = |text: &str| vec![text.to_owned()];
        match self {
            Self::NoProject(_) => one("go to the game's folder, name it with --project, or begin one: lantern init"),
            Self::AlreadyThere(path) => {
                vec![format!("it is never overwritten; change {} with your editor", path.display())]
            }
            Self::MissingAnswer { option, .. } => vec![format!("give it with {option}")],
            Self::Busy { .. } => one("wait until it has ended, then run the command again"),
            Self::ForeignState(path) => vec![format!("move {} away, or work in another folder", path.display())],
            Self::NetworkFolder(_) => one("keep the game's folder on a disk of this computer; exports may be anywhere"),
            Self::NoEdition { known, .. } => vec![one_of(known)],
            Self::NoTargetHere { known, .. } => vec![one_of(known)],
            Self::Rules { refusals, .. } => refusals.iter().map(|r| r.fix.clone()).collect(),
            Self::Unsettled { .. } => {
                one("run the same command again: it asks the storefront what happened before it does anything")
            }
            Self::Changing(ChangingError::Refused { fix, .. } | ChangingError::Waits { fix, .. }) => one(fix),
            Self::Storefront { storefront, source } => fixes_of_storefront(storefront, source),
            Self::Seal(SealError::Changed { .. }) => one(STILL_WRITING),
            Self::Seal(SealError::Read { source, .. }) if source.kind() == ErrorKind::NotFound => one(STILL_WRITING),
            Self::Store(error) | Self::Seal(SealError::Store(error)) => fixes_of_store(error),
            Self::Install(error) => fixes_of_install(error),
            Self::Ledger(error) if error.outcome() == Outcome::Damaged => vec![
                "lantern ledger rebuild".to_owned(),
                "it rebuilds the ledger from its copy, the store and the storefronts. Nothing was changed now"
                    .to_owned(),
            ],
            Self::Ledger(error) => fixes_of_ledger(error),
            Self::Unrecorded { source, .. } => {
                let mut fixes = fixes_of_ledger(source);
                fixes.push("the same command asks the storefront, records it, and does nothing twice".to_owned());
                fixes
            }
            Self::Stopped | Self::Unanswered { .. } | Self::Seal(SealError::Stopped) => {
                one("run the same command again to continue")
            }
            Self::Statement { source, .. } => {
                let mut fixes = source.fixes();
                fixes.push("then lantern prepare writes it".to_owned());
                fixes
            }
            Self::Key(error) => error.fixes(),
            Self::Move(error) => error.fixes(),
            Self::Push(error) => error.fixes(),
            Self::Steps(error) => error.fixes(),
            Self::Adopt(error) => error.fixes(),
            Self::Connector(error) => error.fixes(),
            Self::HandOver(error) => error.fixes(),
            Self::Invite(error) => error.fixes(),
            Self::Play(error) => error.fixes(),
            Self::Release(error) => error.fixes(),
            Self::History(error) => error.fixes(),
            Self::Connect(error) => error.fixes(),
            Self::Records(error) => error.fixes(),
            other => fixes_of_computer(other),
        }
    }
}

/// What to do when an export changes under our hands.
const STILL_WRITING: &str = "wait until the engine has finished writing, then prepare again";

/// Returns what to do when this computer's disk refuses something; none when the system's reason says it all.
pub const fn fix_of_disk(kind: ErrorKind) -> Option<&'static str> {
    match kind {
        ErrorKind::StorageFull | ErrorKind::QuotaExceeded => {
            Some("free some disk space, then run the same command again")
        }
        ErrorKind::PermissionDenied => Some("give yourself permission, then run the same command again"),
        ErrorKind::ReadOnlyFilesystem => {
            Some("its disk is read-only now: make it writable, then run the same command again")
        }
        ErrorKind::FileTooLarge => Some("the file is far larger than any real one: is it the right file?"),
        ErrorKind::NotFound
        | ErrorKind::AlreadyExists
        | ErrorKind::IsADirectory
        | ErrorKind::NotADirectory
        | ErrorKind::InvalidInput
        | ErrorKind::InvalidData
        | ErrorKind::InvalidFilename
        | ErrorKind::UnexpectedEof => None,
        _ => Some("run the same command again; if it fails there again, check the disk"),
    }
}

/// Longest path of a ledger, in bytes. Source: SQLite, os_unix.c, `MAX_PATHNAME` (512), less what it adds to names.
const MAX_LEDGER_PATH: usize = 500;

pub(crate) fn fixes_of_ledger(error: &LedgerError) -> Vec<String> {
    let fix = match error {
        LedgerError::Open { path, .. } if path.as_os_str().len() > MAX_LEDGER_PATH => {
            Some("move the game's folder to a shorter path: the ledger's database takes no path above 500 bytes")
        }
        LedgerError::Newer { .. } => Some("use the newer lantern for this project"),
        LedgerError::Changed { .. } => Some("use the lantern that made it, or the newest one"),
        other => match other.outcome() {
            Outcome::Denied => Some("make the folder .lantern writable for yourself, then run the same command again"),
            Outcome::Full => fix_of_disk(ErrorKind::StorageFull),
            Outcome::Conflict => Some("run the same command again: it decides by what is recorded now"),
            _ => None,
        },
    };
    vec![fix.unwrap_or("check the disk that .lantern is on, then run the same command again").to_owned()]
}

/// Looks for the system's own reason at the end of the chain.
fn system_says(error: &(dyn std::error::Error + 'static)) -> Option<ErrorKind> {
    let mut next = Some(error);
    while let Some(at) = next {
        if let Some(io) = at.downcast_ref::<std::io::Error>() {
            return Some(io.kind());
        }
        next = at.source();
    }
    None
}

fn fixes_of_computer(error: &(dyn std::error::Error + 'static)) -> Vec<String> {
    system_says(error).and_then(fix_of_disk).map(str::to_owned).into_iter().collect()
}

/// What cannot be read any more is damaged; whatever else a ledger says is this computer's.
pub(crate) fn class_of_ledger(error: &LedgerError) -> Class {
    if error.outcome() == Outcome::Damaged { Class::Damaged } else { Class::Computer }
}

fn class_of_store(error: &StoreError) -> Class {
    match error {
        StoreError::File(_) => Class::Computer,
        _ => Class::Damaged,
    }
}

fn fixes_of_store(error: &StoreError) -> Vec<String> {
    match class_of_store(error) {
        _ if error.is_newer() => vec!["use the newer lantern for this project".to_owned()],
        Class::Damaged => {
            vec!["lantern repair restores it; lantern verify shows what else is damaged".to_owned()]
        }
        _ => fixes_of_computer(error),
    }
}

/// The storefront's own error travels through the installer as a boxed one.
fn storefront_behind<'a>(source: &'a (dyn std::error::Error + 'static)) -> Option<&'a StorefrontError> {
    source.downcast_ref::<StorefrontError>()
}

fn class_of_install(error: &InstallError) -> Class {
    match error {
        InstallError::Fetch { source, .. } => match storefront_behind(source.source.as_ref()) {
            Some(storefront) => class_of_storefront(storefront),
            None => Class::Damaged,
        },
        InstallError::Wrong { .. }
        | InstallError::Newer { .. }
        | InstallError::Recipe(_)
        | InstallError::Depots(_)
        | InstallError::Lost(_)
        | InstallError::Unfinished(_)
        | InstallError::State { .. } => Class::Damaged,
        InstallError::NotInstalled(_) => Class::Usage,
        InstallError::Stopped => Class::Stopped,
        _ => Class::Computer,
    }
}

fn fixes_of_install(error: &InstallError) -> Vec<String> {
    let one = |text: &str| vec![text.to_owned()];
    match error {
        InstallError::Busy(_) => one("wait until it has ended, then run the command again"),
        InstallError::NotInstalled(_) => one("lantern install STOREFRONT BRANCH DIR"),
        InstallError::ForeignState(_) => one("move it away, or install into another folder"),
        InstallError::InTheWay { .. } => {
            one("move it away yourself, or leave out --own-files stop: then it is moved aside. Nothing was changed")
        }
        InstallError::NoLinks { .. } => {
            let fix = if cfg!(windows) {
                "turn on developer mode in Windows, which lets programs create links. Nothing was changed"
            } else {
                "install on a disk that has links. Nothing was changed"
            };
            one(fix)
        }
        InstallError::CannotReplace { source, .. } => {
            let fix = match source.kind() {
                ErrorKind::PermissionDenied if cfg!(unix) => {
                    "give yourself permission to write there. Nothing was changed"
                }
                _ => {
                    "is the game running, or the file open? Close it, then run the same command again. Nothing was changed"
                }
            };
            one(fix)
        }
        InstallError::NoRoom(_) => one("free some disk space, then run the same command again. Nothing was changed"),
        newer if newer.is_newer() => one("install a newer lantern, then run the same command again"),
        InstallError::Wrong { .. } | InstallError::Recipe(_) | InstallError::Depots(_) => {
            one("try again; if it happens again, report it to the storefront. Nothing was changed in the folder")
        }
        InstallError::Fetch { source, .. } => match storefront_behind(source.source.as_ref()) {
            Some(StorefrontError::Refused(problem)) => vec![problem.fix.clone()],
            _ => one("run the same command again: what has come is kept"),
        },
        InstallError::Stopped => one("run the same command again: what has come is kept"),
        InstallError::State { .. } | InstallError::Lost(_) => {
            one("install again into the same folder: what is missing is fetched, and what is yours stays")
        }
        InstallError::Unfinished(folder) => vec![
            "run the install again: it finishes the switch, and needs no storefront for that".to_owned(),
            format!("or go back to what was there: lantern install --give-up {}", folder.display()),
        ],
        InstallError::HalfSwitched(source) => {
            let mut fixes = fixes_of_install(source);
            fixes.push("do not play yet: the same command finishes it, and needs no storefront for that".to_owned());
            fixes.push("or go back to what was there: lantern install --give-up DIR".to_owned());
            fixes
        }
        other => fixes_of_computer(other),
    }
}

fn class_of_storefront(error: &StorefrontError) -> Class {
    match error {
        StorefrontError::Unreachable { .. }
        | StorefrontError::Certificate { .. }
        | StorefrontError::Failed { .. }
        | StorefrontError::AccessNotKept { .. }
        | StorefrontError::Nonsense { .. }
        | StorefrontError::Protocol { .. } => Class::Unreachable,
        StorefrontError::Stopped | StorefrontError::Unanswered { .. } => Class::Stopped,
        StorefrontError::NotRead { .. } => Class::Computer,
        _ => Class::Refused,
    }
}

fn fixes_of_storefront(storefront: &Name, error: &StorefrontError) -> Vec<String> {
    match error {
        StorefrontError::Unreachable { .. } | StorefrontError::Failed { .. } => {
            vec![
                "is the address right, and is the storefront there? Then run the same command again".to_owned(),
                "the stand-in is started with: lantern rehearse".to_owned(),
            ]
        }
        StorefrontError::Certificate { .. } => vec![
            "is the address right, and the clock of this computer? Nothing was sent".to_owned(),
            "an authority of your own is named with the variable SSL_CERT_FILE on Linux, elsewhere in the system's settings"
                .to_owned(),
        ],
        StorefrontError::AccessNotKept { .. } => {
            vec![
                "wait a moment, then run the same command again; if it happens again, report it to the storefront"
                    .to_owned(),
            ]
        }
        StorefrontError::Nonsense { .. } => vec!["is the address that of a storefront?".to_owned()],
        StorefrontError::Protocol { .. } => vec!["get a newer lantern".to_owned()],
        StorefrontError::Refused(problem) if problem.is(problem::NO_ACCESS) => {
            vec![format!("lantern connect {storefront}")]
        }
        StorefrontError::Refused(problem) if problem.is(problem::NOT_INVITED) => vec![
            format!("{}, then install with --invitation TEXT", problem.fix),
            format!("if you are the maker of the game: lantern connect {storefront}"),
        ],
        StorefrontError::Refused(problem) if problem.is(problem::NOT_OWNED) => vec![
            format!("{}: install with --invitation TEXT", problem.fix),
            "to install without it: --add-on none".to_owned(),
        ],
        StorefrontError::Refused(problem) => vec![problem.fix.clone()],
        StorefrontError::WrongSecret { .. } => {
            vec![format!(
                "copy name and secret again from the storefront's own pages, then: lantern connect {storefront} --client NAME"
            )]
        }
        StorefrontError::NotConnected { .. } => vec![format!("lantern connect {storefront}")],
        StorefrontError::Unable { .. } => vec![format!("do it on the storefront's own pages: {storefront}")],
        StorefrontError::Stopped | StorefrontError::Unanswered { .. } => vec!["run the same command again to continue".to_owned()],
        _ => Vec::new(),
    }
}
