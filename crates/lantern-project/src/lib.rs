//! The use cases: each joins the crates below it, holds the project's lock, and records what it did.
//!
//! - [`Project`] is found and valid; [`Workspace`] has its ledger and store; [`Session`] may change them.
//! - [`Session::prepare`], [`Session::connect`], [`Session::plan_push`] and [`Session::push`], [`Session::plan_promote`],
//!   [`Session::plan_rollback`] and [`Session::move_branch`], [`Session::plan_withdraw`], [`Workspace::plan_keep`], [`Session::lay_out_trial`],
//!   [`Session::refresh`], [`Workspace::live`], [`Workspace::history`], [`Workspace::write_out`], [`Project::check`], [`Project::depots`], [`install_branch`], [`verify_installed`] are the work.
//! - [`ProjectError`] says what went wrong, of which [`Class`], and what to do.
//!
//! ```
//! use lantern_project::{Class, Project};
//!
//! let temp = tempfile::tempdir()?;
//! let error = Project::find(temp.path(), Default::default()).unwrap_err();
//! assert_eq!(error.class(), Class::Usage);
//! assert_eq!(error.fixes().len(), 1);
//! # Ok::<(), std::io::Error>(())
//! ```
//!
//! Not here: arguments, prompts, tables, progress bars.

mod access;
mod actions;
mod adopt;
mod approvals;
mod changing;
mod check;
mod connect;
mod connector;
mod connector_list;
mod connector_run;
mod connector_trial;
mod depots;
mod describe;
mod divided;
mod doctor;
mod downloads;
mod environment;
mod error;
mod followed;
mod hand_push;
mod hand_rules;
mod hand_steps;
mod history;
mod in_place;
mod init;
mod install;
mod invite;
mod keys;
mod last_look;
mod ledger;
mod ledger_head;
mod listed;
mod live;
mod looked;
mod needs;
mod network;
mod not_changed;
mod number;
mod outgoing;
mod prepare;
mod project;
mod promote;
mod push;
mod records;
mod releases;
mod repair;
mod retention;
mod sign_code;
mod sign_code_path;
mod sign_files;
mod sign_path;
mod stamp_and_sign;
mod stamps;
mod state_folder;
mod statements;
mod status;
mod steps;
mod storefronts;
mod summary;
mod trial;
mod update_files;
mod verify;
mod verify_beside;
mod verify_file;
mod withdraw;
mod workspace;
mod write_out;

pub use access::known_secrets;
pub use adopt::{AdoptError, AdoptPlan, AdoptedRelease, ToAdopt};
pub use approvals::{Answered, WaitingApproval};
pub use check::{Checked, CheckedTarget};
pub use connect::{ConnectedTitle, Connection};
pub use connector::ConnectorEnd;
pub use connector_run::ConnectorFailed;
pub use connector_trial::ConnectorCheck;
pub use depots::{DepotShown, DepotsShown, Sized};
pub use doctor::{Checkup, CheckupState};
pub use environment::{Fixed, fix, now, today};
pub use error::{Class, Explained, ProjectError, fix_of_disk};
pub use hand_push::{HandFile, HandPush};
pub use history::{HistoryAsked, HistoryError, HistoryFound};
pub use in_place::Did;
pub use init::{
    EXPORT_FOLDERS, FoundExports, InitAnswers, InitDraft, InitStorefront, SeenExport, detect_export, find_exports,
    init, target_names,
};
pub use install::PlayError;
pub use install::{
    About, InstallDone, InstallGivenUp, InstallWanted, give_up_install, install_branch, repair_installed, start_of,
    verify_installed,
};
pub use invite::InviteError;
pub use invite::{Invitations, InviteDone, InviteWanted, short as short_invitation};
pub use keys::keyring;
pub use lantern_store::install::{Aside, OwnFiles};
pub use lantern_storefront::Access;
pub use last_look::Look;
pub use ledger::{LedgerCopied, LedgerRebuilt};
pub use live::{AskedAll, LiveBranch, LiveBuild, LiveStorefront, NotAsked};
pub use needs::{KnownOf, NeedShown};
pub use number::{FarNumber, NextNumberShown};
pub use outgoing::HandOverError;
pub use prepare::{PrepareOptions, Prepared, SealCost};
pub use project::Project;
pub use promote::{Change, MovePlan};
pub use promote::{MoveError, WentBack};
pub use push::PushError;
pub use push::{PushDepot, PushDone, PushPlan, PushTexts};
pub use records::RecordsError;
pub use releases::ReleaseError;
pub use repair::{BrokenRelease, StoreRepaired};
pub use retention::RetentionPlan;
pub use sign_path::{SignRequest, SignedPath, sign_path};
pub use stamp_and_sign::{DoneTo, NoPassphrase, Passphrases};
pub use statements::{Statement, StatementVerified, StatementWritten, is_statement, verify_statement};
pub use status::{AtStorefront, Exports, Status, StepAt};
pub use steps::{CameOf, OpenWalk, StepRecorded, StepsError, check_answers, waiting_since};
pub use storefronts::ConnectError;
pub use storefronts::Heard;
pub use summary::{BuildThere, FileHeld, ReleaseShown, ReleaseSummary};
pub use trial::{DeviceCommand, Trial, TrialPlace};
pub use update_files::{Pair, UpdateBrought};
pub use verify::{StoreVerified, in_full};
pub use verify_beside::{BesideVerified, ListedWrong, has_signature_beside, verify_beside};
pub use verify_file::{SignatureVerified, is_loose_bundle, verify_file};
pub use withdraw::{WithdrawAt, WithdrawPlan, Withdrawals};
pub use workspace::{Session, Workspace};
pub use write_out::WrittenOut;
