//! Why a use case ended without having done its work, and what to do about it.

use std::io::ErrorKind;
use std::path::PathBuf;

use lantern_core::choices::NotOffered;
use lantern_core::finding::Finding;
use lantern_core::names::{Handle, Identity, Name};
use lantern_core::rules::Refusal;
use lantern_core::version::{BuildNumber, ReleaseAsked, ReleaseName, VersionError};
use lantern_exports::signing::SigningError;
use lantern_ledger::{LedgerError, Outcome};
use lantern_store::durable::DurableError;
use lantern_store::install::InstallError;
use lantern_store::seal::SealError;
use lantern_store::store::StoreError;
use lantern_storefront::StorefrontError;
use lantern_storefront::protocol::{Title, problem};

/// A branch that went back only a moment ago.
#[derive(Debug)]
pub struct WentBack {
    /// The project's name for the storefront.
    pub storefront: Name,
    /// The branch.
    pub branch: Name,
    /// What it has now.
    pub now: ReleaseName,
    /// Such as "2 minutes ago".
    pub ago: String,
    /// What it had before that; none when it had nothing.
    pub next: Option<ReleaseName>,
}

/// A title of another game.
#[derive(Debug)]
pub struct OtherTitle {
    /// The project's name for the storefront.
    pub storefront: Name,
    /// The title there.
    pub title: Title,
    /// The identity of the edition here.
    pub ours: Identity,
}

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

/// Why a use case ended.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ProjectError {
    /// An archive of a kind that is not written.
    #[error("{} would be an archive of a kind that is not written here", .0.display())]
    OutputForm(PathBuf),
    /// There is no `lantern.toml` here or above.
    #[error("there is no lantern.toml in {} or above it", .0.display())]
    NoProject(PathBuf),
    /// There is one already.
    #[error("{} is there already", .0.display())]
    AlreadyThere(PathBuf),
    /// The configuration is wrong.
    #[error("{} in lantern.toml", plural(.0.len(), "thing is wrong", "things are wrong"))]
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
    #[error("{} is not a folder of ours", .0.display())]
    ForeignState(PathBuf),
    /// The ledger would lie on another computer's disk.
    #[error("{} is on a network disk, where a ledger cannot be kept safely", .0.display())]
    NetworkFolder(PathBuf),
    /// Someone tries this very build now.
    #[error("{target} is being tried by another lantern")]
    BeingTried {
        /// The target.
        target: Name,
    },
    /// The project does not know where an installed copy came from.
    #[error("{} came from a storefront that is not in lantern.toml", .folder.display())]
    NoStorefrontFor {
        /// The folder.
        folder: PathBuf,
    },
    /// Everybody follows the branch: nobody needs an invitation.
    #[error("{branch} at {storefront} is for everyone")]
    OpenBranch {
        /// The project's name for the storefront.
        storefront: Name,
        /// The branch.
        branch: Name,
    },
    /// No invitation is meant by what was asked, or several are.
    #[error("{} {asked:?}", if *.several { "several invitations match" } else { "there is no invitation" })]
    NoInvitation {
        /// What was asked for.
        asked: String,
        /// Whether more than one is meant.
        several: bool,
        /// Those that there are.
        there: Vec<String>,
    },
    /// A number was taken already, or a higher one was.
    #[error("the number {asked} is not above {highest}, the highest that was taken")]
    NumberTaken {
        /// What was asked for.
        asked: BuildNumber,
        /// The highest so far.
        highest: BuildNumber,
    },
    /// What lies next to the ledger knows of more than the ledger does.
    #[error("the ledger {} is lost or out of date: {why}", .path.display())]
    LedgerLost {
        /// The file.
        path: PathBuf,
        /// How it is known.
        why: String,
    },
    /// A file is no copy of a ledger, or of another one.
    #[error("{} is no copy of this ledger: {why}", .path.display())]
    NoLedgerCopy {
        /// The file.
        path: PathBuf,
        /// How it is known.
        why: String,
    },
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
    /// The project knows no such storefront.
    #[error("lantern.toml has no storefront {asked:?}")]
    NoStorefront {
        /// What was asked for.
        asked: String,
        /// Those that there are.
        known: Vec<Name>,
    },
    /// The project knows no such edition.
    #[error("lantern.toml has no targets of an edition {asked:?}", asked = .asked.as_str())]
    NoEdition {
        /// What was asked for.
        asked: Name,
        /// Those that there are.
        known: Vec<Name>,
    },
    /// The storefront does not have the edition.
    #[error("{storefront} does not have the edition {edition}")]
    NoTitle {
        /// The project's name for the storefront.
        storefront: Name,
        /// The edition.
        edition: Name,
    },
    /// None of a release's targets goes to the storefront.
    #[error("{release} has nothing for {storefront}")]
    NothingFor {
        /// The release.
        release: ReleaseName,
        /// The project's name for the storefront.
        storefront: Name,
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
    /// What a player asks for is not in the build.
    #[error("{branch} does not offer {what} for {target}")]
    NotOffered {
        /// The branch.
        branch: Name,
        /// The target.
        target: Name,
        /// What, and what there is.
        what: NotOffered,
    },
    /// Nothing in the release can be started on this computer.
    #[error("{release} has nothing that starts on this computer")]
    NothingToTry {
        /// The release.
        release: ReleaseName,
        /// Its targets.
        targets: Vec<Name>,
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
    /// The configuration has no such target.
    #[error("there is no target {asked}")]
    NoTargetHere {
        /// What was asked for.
        asked: Name,
        /// Those that there are.
        known: Vec<Name>,
    },
    /// Something stands where a release was to be written.
    #[error("{} is there already", .0.display())]
    OutputThere(PathBuf),
    /// A storefront could not do what was asked.
    #[error("{storefront}")]
    Storefront {
        /// The project's name for it.
        storefront: Name,
        /// Why.
        #[source]
        source: StorefrontError,
    },
    /// Another storefront answers at the address than the one that was connected.
    #[error("another storefront answers at {address} than the one you connected to")]
    OtherStorefront {
        /// The project's name for it.
        storefront: Name,
        /// Its address.
        address: String,
    },
    /// The handle is that of another game's title.
    #[error("the title {} at {} belongs to another game, {}", .0.title.handle, .0.storefront, .0.title.identity)]
    OtherTitle(Box<OtherTitle>),
    /// The release was sealed on another computer, and its content is not here.
    #[error("{release} was sealed on another computer, and its content is not here")]
    SealedElsewhere {
        /// The release.
        release: ReleaseName,
        /// The project's name for the storefront that has it.
        storefront: Name,
    },
    /// House rules are in the way.
    #[error("{storefront} does not accept this")]
    Rules {
        /// The project's name for it.
        storefront: Name,
        /// What is in the way.
        refusals: Vec<Refusal>,
    },
    /// The title has no such depot.
    #[error("{storefront} has no depot {handle:?} in the title {title:?}", handle = .handle.as_str(), title = .title.as_str())]
    NoDepot {
        /// The project's name for the storefront.
        storefront: Name,
        /// The title.
        title: Handle,
        /// The handle that is not there.
        handle: Handle,
    },
    /// The release is not at the storefront.
    #[error("{release} is not at {storefront} yet")]
    NotPushed {
        /// The release.
        release: ReleaseName,
        /// The project's name for the storefront.
        storefront: Name,
    },
    /// A branch has nothing to go back to.
    #[error("{branch} at {storefront} had nothing before")]
    NothingBefore {
        /// The project's name for the storefront.
        storefront: Name,
        /// The branch.
        branch: Name,
    },
    /// A branch went back only a moment ago.
    #[error("{} at {} went back to {} only {}", .0.branch, .0.storefront, .0.now, .0.ago)]
    WentBack(Box<WentBack>),
    /// A release was never on a branch.
    #[error("{branch} at {storefront} never had {asked}")]
    NeverThere {
        /// The project's name for the storefront.
        storefront: Name,
        /// The branch.
        branch: Name,
        /// What was asked for.
        asked: ReleaseAsked,
        /// What it had, newest first.
        had: Vec<ReleaseName>,
    },
    /// Someone else moved the branch in between.
    #[error("{branch} at {storefront} was moved by someone else in the meantime")]
    Raced {
        /// The project's name for the storefront.
        storefront: Name,
        /// The branch.
        branch: Name,
        /// The storefront's words.
        detail: String,
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
    /// An invitation was made, and the ledger could not be written.
    #[error("the invitation is made, and this could not be recorded here")]
    InvitationUnrecorded(#[source] LedgerError),
    /// A storefront has done what was asked, and this computer could not write it down.
    #[error("{storefront} did it, but it could not be recorded here")]
    Unrecorded {
        /// The project's name for it.
        storefront: Name,
        /// Why it could not.
        #[source]
        source: LedgerError,
    },
    /// The branch has nothing for the wanted target.
    #[error("{branch} at {storefront} has nothing for {wanted}")]
    NoBuildFor {
        /// The project's name for the storefront.
        storefront: Name,
        /// The branch.
        branch: Name,
        /// Target or system.
        wanted: String,
        /// Targets that it has something for.
        there: Vec<Name>,
    },
    /// The folder holds another game or another branch's state that must not be mixed.
    #[error("{} contains {found}, not {wanted}", .folder.display())]
    OtherGame {
        /// The folder.
        folder: PathBuf,
        /// What is installed there.
        found: String,
        /// What was to be installed.
        wanted: String,
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
    /// Something was not signed.
    #[error(transparent)]
    Signing(SigningError),
    /// Randomness could not be had.
    #[error("this computer gives no randomness: {0}")]
    Random(String),
    /// Someone asked to stop.
    #[error("stopped")]
    Stopped,
}

fn plural(count: usize, one: &str, many: &str) -> String {
    format!("{count} {}", if count == 1 { one } else { many })
}

impl From<lantern_exports::Stopped> for ProjectError {
    fn from(_: lantern_exports::Stopped) -> Self {
        Self::Stopped
    }
}

impl From<SigningError> for ProjectError {
    fn from(error: SigningError) -> Self {
        match error {
            SigningError::Stopped => Self::Stopped,
            other => Self::Signing(other),
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
            | Self::OutputForm(_)
            | Self::AlreadyThere(_)
            | Self::Config(_)
            | Self::Number(_)
            | Self::NothingSealed
            | Self::NoRelease { .. }
            | Self::NoStorefront { .. }
            | Self::NoEdition { .. }
            | Self::NoTitle { .. }
            | Self::NoTarget { .. }
            | Self::NoTargetHere { .. }
            | Self::NothingFor { .. }
            | Self::NothingToTry { .. }
            | Self::NotOffered { .. }
            | Self::OutputThere(_)
            | Self::Freed(_)
            | Self::SealedElsewhere { .. }
            | Self::NothingAside(_)
            | Self::NoDepot { .. }
            | Self::NoBuildFor { .. }
            | Self::OtherGame { .. } => Class::Usage,
            Self::OtherStorefront { .. }
            | Self::OtherTitle(_)
            | Self::Rules { .. }
            | Self::Withdrawn { .. }
            | Self::NotPushed { .. }
            | Self::NothingBefore { .. }
            | Self::WentBack(_)
            | Self::NeverThere { .. }
            | Self::Raced { .. } => Class::Refused,
            Self::Signing(SigningError::Refused { .. }) => Class::Refused,
            Self::Unsettled { .. } => Class::Unreachable,
            Self::Storefront { source, .. } => class_of_storefront(source),
            Self::Store(error) => class_of_store(error),
            Self::Seal(SealError::Stopped) | Self::Install(InstallError::Stopped) | Self::Stopped => Class::Stopped,
            Self::Seal(SealError::Store(error)) => class_of_store(error),
            Self::Install(error) => class_of_install(error),
            Self::NoStorefrontFor { .. }
            | Self::OpenBranch { .. }
            | Self::NoInvitation { .. }
            | Self::NumberTaken { .. } => Class::Usage,
            Self::LedgerLost { .. } => Class::Damaged,
            Self::NoLedgerCopy { .. } => Class::Usage,
            Self::Ledger(error) if error.outcome() == Outcome::Foreign => Class::Usage,
            Self::Ledger(error) | Self::Unrecorded { source: error, .. } | Self::InvitationUnrecorded(error)
                if error.outcome() == Outcome::Damaged =>
            {
                Class::Damaged
            }
            Self::Busy { .. }
            | Self::BeingTried { .. }
            | Self::ForeignState(_)
            | Self::NetworkFolder(_)
            | Self::File(_)
            | Self::Ledger(_)
            | Self::Unrecorded { .. }
            | Self::InvitationUnrecorded(_)
            | Self::Seal(_)
            | Self::Start { .. }
            | Self::Signing(_)
            | Self::Random(_) => Class::Computer,
        }
    }

    /// Whether it is about one storefront alone, so that others can still be asked.
    pub(crate) const fn is_of_storefront(&self) -> bool {
        matches!(self, Self::Storefront { .. } | Self::OtherStorefront { .. } | Self::OtherTitle(_))
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
            Self::NothingSealed => one("lantern prepare"),
            Self::NoRelease { known, .. } if known.is_empty() => one("lantern prepare"),
            Self::NoRelease { known, .. } => {
                let names: Vec<String> = known.iter().map(ToString::to_string).collect();
                vec![format!("one of {}", names.join(", "))]
            }
            Self::NoStorefront { asked, known } => {
                let names: Vec<&str> = known.iter().map(Name::as_str).collect();
                match lantern_core::names::nearest(asked, names.iter().copied()) {
                    Some(near) => vec![format!("did you mean {near}?")],
                    None if names.is_empty() => one("add [storefronts.NAME] to lantern.toml"),
                    None => vec![format!("one of {}", names.join(", "))],
                }
            }
            Self::NoEdition { known, .. } => vec![one_of(known)],
            Self::NoTarget { known, .. } | Self::NoTargetHere { known, .. } => vec![one_of(known)],
            Self::NoTitle { storefront, edition } => {
                vec![format!("add its handle to [storefronts.{storefront}]: handle = {{ {edition} = \"…\" }}")]
            }
            Self::NothingFor { storefront, .. } => vec![format!("check targets = […] in [storefronts.{storefront}]")],
            Self::Withdrawn { .. } => one("fix it, raise the version, and prepare again"),
            Self::NothingAside(_) => one("name what players do not get: keep-aside = [\"*.pdb\"] in its target"),
            Self::Freed(release) => {
                vec![format!("prepare the same exports again, and {release} comes back; or choose another release")]
            }
            Self::NotOffered { what, .. } => match what {
                NotOffered::Choice { there, .. } if there.is_empty() => one("it offers no choice: leave --choose out"),
                NotOffered::AddOn { there, .. } if there.is_empty() => one("it offers none: leave --add-on out"),
                NotOffered::Choice { there, .. } | NotOffered::AddOn { there, .. } => vec![one_of(there)],
                NotOffered::Option { there, .. } => vec![format!("{}, or none", one_of(there))],
            },
            Self::NothingToTry { targets, .. } => vec![format!(
                "try it on the device itself; sealed are {}",
                targets.iter().map(Name::as_str).collect::<Vec<_>>().join(", ")
            )],
            Self::OutputForm(_) => one("name it .zip, .tar, .tar.gz or .tar.zst; anything else becomes a folder"),
            Self::OutputThere(_) => one("name a path where nothing is yet; nothing is overwritten"),
            Self::OtherStorefront { storefront, .. } => vec![
                "if the storefront was set up again, connect again and check what is there before you push".to_owned(),
                format!("lantern connect {storefront}"),
            ],
            Self::OtherTitle(other) => {
                let OtherTitle { storefront, ours, .. } = &**other;
                vec![format!("fix the handle in [storefronts.{storefront}]; in lantern.toml this game is {ours}")]
            }
            Self::SealedElsewhere { storefront, .. } => vec![
                "do it on the computer that sealed it, or prepare the same exports here".to_owned(),
                format!("to have it as players do: lantern install {storefront} BRANCH DIR"),
            ],
            Self::Rules { refusals, .. } => refusals.iter().map(|r| r.fix.clone()).collect(),
            Self::NoDepot { .. } => one("create the depot at the storefront, or fix its handle in lantern.toml"),
            Self::NotPushed { release, storefront } => vec![format!("lantern push {storefront} \"{release}\"")],
            Self::NothingBefore { storefront, branch } => {
                vec![format!("choose a release yourself: lantern promote {storefront} {branch} VERSION")]
            }
            Self::WentBack(back) => match &back.next {
                Some(next) => vec![
                    "if that is what you wanted, nothing is left to do".to_owned(),
                    format!("to go back once more: lantern rollback {} {} \"{next}\"", back.storefront, back.branch),
                ],
                None => one("that is all there is: it had nothing before"),
            },
            Self::NeverThere { storefront, branch, had, asked } if had.is_empty() => {
                vec![format!("to put it there: lantern promote {storefront} {branch} \"{asked}\"")]
            }
            Self::NeverThere { storefront, branch, had, asked } => {
                let names: Vec<String> = had.iter().take(5).map(ToString::to_string).collect();
                vec![
                    format!("it had {}", names.join(", ")),
                    format!("to put another one there: lantern promote {storefront} {branch} \"{asked}\""),
                ]
            }
            Self::Raced { storefront, .. } => {
                vec![format!(
                    "check what is there now, then decide again: lantern live, lantern promote {storefront} …"
                )]
            }
            Self::Unsettled { .. } => {
                one("run the same command again: it asks the storefront what happened before it does anything")
            }
            Self::NoBuildFor { there, .. } if there.is_empty() => one("nothing was promoted to this branch yet"),
            Self::NoBuildFor { there, .. } => {
                let names: Vec<&str> = there.iter().map(Name::as_str).collect();
                vec![format!("choose with --target: {}", names.join(", "))]
            }
            Self::OtherGame { .. } => one("install into another folder"),
            Self::Signing(SigningError::Refused { fix, .. }) => one(fix),
            Self::Storefront { storefront, source } => fixes_of_storefront(storefront, source),
            Self::Seal(SealError::Changed { .. }) => one(STILL_WRITING),
            Self::Seal(SealError::Read { source, .. }) if source.kind() == ErrorKind::NotFound => one(STILL_WRITING),
            Self::Store(error) | Self::Seal(SealError::Store(error)) => fixes_of_store(error),
            Self::Install(error) => fixes_of_install(error),
            Self::BeingTried { .. } => one("end it there, then run the same command again"),
            Self::NoStorefrontFor { .. } => {
                one("go to the game's folder, or install again: lantern install STOREFRONT BRANCH DIR")
            }
            Self::OpenBranch { storefront, branch } => vec![
                "installing from it needs no invitation".to_owned(),
                format!(
                    "to give someone an add-on there: lantern invite {storefront} {branch} --owns EDITION --for NAME"
                ),
            ],
            Self::NoInvitation { there, .. } if there.is_empty() => one("there is no valid one"),
            Self::NoInvitation { there, .. } => vec![format!("there are {}", there.join(", "))],
            Self::NumberTaken { highest, .. } => {
                let next = BuildNumber::after(Some(*highest)).map_or_else(|_| "none".to_owned(), |n| n.to_string());
                vec![format!("numbers only rise; the lowest possible is {next}")]
            }
            Self::LedgerLost { .. } => vec![
                "to rebuild it from its copy, the store and the storefronts: lantern ledger rebuild".to_owned(),
                "or put the right file back from a backup of yours. Nothing was changed".to_owned(),
            ],
            Self::NoLedgerCopy { .. } => one("name a file that lantern ledger export or backup has written"),
            Self::Ledger(error) if error.outcome() == Outcome::Damaged => vec![
                "lantern ledger rebuild".to_owned(),
                "it rebuilds the ledger from its copy, the store and the storefronts. Nothing was changed now"
                    .to_owned(),
            ],
            Self::Ledger(error) => fixes_of_ledger(error),
            Self::InvitationUnrecorded(source) => {
                let mut fixes = fixes_of_ledger(source);
                fixes.push("the invitation above is valid all the same".to_owned());
                fixes
            }
            Self::Unrecorded { source, .. } => {
                let mut fixes = fixes_of_ledger(source);
                fixes.push("the same command asks the storefront, records it, and does nothing twice".to_owned());
                fixes
            }
            Self::Stopped | Self::Seal(SealError::Stopped) => one("run the same command again to continue"),
            other => fixes_of_computer(other),
        }
    }
}

/// What to do when an export changes under our hands.
const STILL_WRITING: &str = "wait until the engine has finished writing, then prepare again";

fn one_of(names: &[Name]) -> String {
    let names: Vec<&str> = names.iter().map(Name::as_str).collect();
    format!("one of {}", names.join(", "))
}

/// Returns what to do when this computer's disk refuses something; none when the system's reason says it all.
pub const fn fix_of_disk(kind: ErrorKind) -> Option<&'static str> {
    match kind {
        ErrorKind::StorageFull | ErrorKind::QuotaExceeded => Some("free some room, then run the same command again"),
        ErrorKind::PermissionDenied => Some("give yourself the right to it, then run the same command again"),
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

fn fixes_of_ledger(error: &LedgerError) -> Vec<String> {
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

fn class_of_store(error: &StoreError) -> Class {
    match error {
        StoreError::File(_) => Class::Computer,
        _ => Class::Damaged,
    }
}

fn fixes_of_store(error: &StoreError) -> Vec<String> {
    match class_of_store(error) {
        Class::Damaged => {
            vec!["lantern repair restores it; lantern verify shows what else is damaged".to_owned()]
        }
        _ => fixes_of_computer(error),
    }
}

/// The storefront's own error travels through the installer as a boxed one.
fn place_behind<'a>(source: &'a (dyn std::error::Error + 'static)) -> Option<&'a StorefrontError> {
    source.downcast_ref::<StorefrontError>()
}

fn class_of_install(error: &InstallError) -> Class {
    match error {
        InstallError::Fetch { source, .. } => match place_behind(source.source.as_ref()) {
            Some(storefront) => class_of_storefront(storefront),
            None => Class::Damaged,
        },
        InstallError::Wrong { .. }
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
                    "give yourself the right to write there. Nothing was changed"
                }
                _ => {
                    "is the game running, or the file open? Close it, then run the same command again. Nothing was changed"
                }
            };
            one(fix)
        }
        InstallError::NoRoom(_) => one("free some room, then run the same command again. Nothing was changed"),
        InstallError::Wrong { .. } | InstallError::Recipe(_) | InstallError::Depots(_) => {
            one("try again; if it happens again, report it to the storefront. Nothing was changed in the folder")
        }
        InstallError::Fetch { source, .. } => match place_behind(source.source.as_ref()) {
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
        | StorefrontError::Failed { .. }
        | StorefrontError::AccessNotKept { .. }
        | StorefrontError::Nonsense { .. }
        | StorefrontError::Protocol { .. } => Class::Unreachable,
        StorefrontError::Stopped => Class::Stopped,
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
        StorefrontError::Unable { .. } => vec![format!("do it at the pages of {storefront} itself")],
        StorefrontError::Stopped => vec!["run the same command again to continue".to_owned()],
        _ => Vec::new(),
    }
}
