//! The model and all computation of Kind Lantern, without I/O, clock, randomness, network or terminal.
//!
//! - [`config::Config`]: a checked `lantern.toml`, or every finding with its place and fix.
//! - [`tree::Tree`] and [`release::ReleaseRecord`]: what a build is; their ids are in [`digest`].
//! - [`event::Event`] and [`board::Board`]: what happened, and which release is live where because of it.
//! - [`depots::Mapping`]: which file lands in which depot; [`retention::choose`]: which releases stay.
//! - [`rules::HouseRules`]: what a storefront demands; asked by client and server alike.
//!
//! ```
//! use lantern_core::{digest::Digest, path::TreePath, tree::{Node, Tree}};
//!
//! let letter = Node::File { size: 5, digest: Digest::of(b"tides"), executable: false };
//! let tree = Tree::new([(TreePath::new("data/letter.txt")?, letter)])?;
//! assert_eq!(tree.size(), 5);
//! assert_eq!(Tree::decode(&tree.encode())?.id(), tree.id());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! Not here: how bytes are cut, packed, stored or sent (`lantern-store`, `lantern-storefront`).

// What comes from outside is counted in types of its own size: a number that does not fit is an error, and never cut.
#![cfg_attr(
    not(test),
    warn(
        clippy::indexing_slicing,
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        clippy::cast_possible_wrap,
        clippy::cast_lossless
    )
)]

pub mod address;
pub mod audience;
pub mod board;
pub mod branch;
pub mod by_hand;
pub mod bytes;
pub mod choices;
pub mod compression;
pub mod config;
pub mod depots;
pub mod digest;
pub mod event;
pub mod failpoint;
pub mod finding;
pub mod history;
pub mod invitation;
pub mod limits;
pub mod names;
pub mod next;
pub mod notes;
pub mod parallel;
pub mod path;
pub mod patterns;
pub mod pins;
pub mod portable;
pub mod progress;
pub mod redact;
pub mod release;
pub mod retention;
pub mod rules;
pub mod secrets;
pub mod size;
pub mod stat_data;
pub mod step;
pub mod system;
pub mod template;
pub mod tree;
pub mod version;
pub mod walk;
