//! What an engine wrote: listed, taken in by the rules of a target, looked into, and remembered.
//!
//! - [`export::Export`]: a folder, an archive or a package, with everything in it, read in place.
//! - [`intake::Intake`]: an export after the rules of its target: what is sent, what is kept aside, what starts.
//! - [`inspect::inspect`]: what a file or folder is, without any project.
//! - [`gather::gather`]: everything that is asked of an export: what it says of itself, what should not be in it and what must.
//! - [`changing`]: signed bytes over an export's own, before it is sealed.
//! - [`cache`]: what was read before is not read again.
//!
//! The time of day comes in as a value, so that everything can be asked for any moment.
//!
//! ```
//! use std::path::Path;
//!
//! use lantern_core::progress::Silent;
//! use lantern_exports::inspect::inspect;
//!
//! let seen = inspect(Path::new("no/such/folder"), "no/such/folder", jiff::Timestamp::now(), &Silent)?;
//! assert_eq!(seen.findings.len(), 1);
//! # Ok::<(), lantern_exports::Stopped>(())
//! ```
//!
//! Not here: ledger, network, terminal; what is compared with earlier releases.

pub mod cache;
pub mod changing;
pub mod claims;
mod content;
pub mod export;
mod facts;
pub mod gather;
pub mod inspect;
pub mod intake;
mod metered;
mod metered_files;
mod scan;
mod too_new;

pub use content::WindowsProgram;
pub use scan::SignedBy;

/// Someone asked to stop.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("nothing is half done")]
pub struct Stopped;
