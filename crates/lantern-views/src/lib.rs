//! What commands answer, once for each meaning: documents for `--json` with their schemas, and views for people.
//!
//! - Each module is one answer: `document` makes what `--json` prints, `view` the same for people. Both take what a use case of
//!   `lantern-project` returned, and decide nothing.
//! - A [`View`] is a value of [`Block`]s: text, a [`Table`], a sentence that folds, a finding, the next command. It is laid out where
//!   it is printed, for the window that is there; a page walks over the same blocks.
//! - [`mod@paint`] marks words by what they mean, [`mod@format`] writes numbers, sizes and times.
//!
//! ```
//! use lantern_views::{Block, View, paint::good};
//!
//! let mut view = View::default();
//! view.say(format!("{} 1.4.0 (27) to brambleyard", good("pushed")));
//! view.next("lantern live");
//! assert_eq!(view.blocks()[0].lay_out(Some(30)).lines().count(), 2);
//! assert!(matches!(view.blocks()[1], Block::Next(_)));
//! ```
//!
//! Not here: what is decided, what is printed where, prompts, progress bars.

pub mod adopt;
pub mod check;
pub mod connect;
pub mod depots;
pub mod doctor;
pub mod error;
pub mod format;
pub mod help_me;
pub mod history;
mod html;
pub mod init;
pub mod inspect;
pub mod install;
pub mod invite;
pub mod keep;
pub mod key;
pub mod last_look;
pub mod ledger;
pub mod live;
pub mod moves;
pub mod number;
pub mod paint;
pub mod prepare;
pub mod progress;
pub mod push;
pub mod recovery_sheet;
pub mod rehearse;
pub mod release_shown;
pub mod release_written;
pub mod releases;
pub mod repair;
#[cfg(test)]
mod schemas;
mod shared;
pub mod sheet;
pub mod sign;
pub mod statement;
pub mod status;
pub mod steps;
pub mod storefronts;
mod table;
pub mod trial;
pub mod verify;
mod view;
pub mod withdraw;

pub use table::Table;
pub use view::{Block, Folded, Next, View};
