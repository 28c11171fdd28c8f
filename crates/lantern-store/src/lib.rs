//! Chunks, packs and recipes: sealing a list of files, installing it anywhere, verifying it.
//!
//! - [`seal::seal`] cuts, compresses and packs files into a [`store::Store`].
//! - [`install::install`] makes a folder hold a build, fetching only what is missing through [`fetch::Fetch`].
//! - [`updates`] are made of two builds of a store, for those who have the one and want the other.
//! - [`recipe`], [`pack`], [`locator`] and the chunker ([`lantern_chunker`]) are the formats; each is described in `docs/formats/`.
//!
//! ```
//! use lantern_core::{path::TreePath, progress::Silent};
//! use lantern_store::{install, seal::{Source, SourceEntry, SourceKind, seal}, store::Store};
//!
//! struct Letter;
//! impl Source for Letter {
//!     fn open(&self, _: usize) -> std::io::Result<Box<dyn std::io::Read + '_>> {
//!         Ok(Box::new(b"dear marsh".as_slice()))
//!     }
//!     fn is_executable(&self, _: usize, _: &[u8]) -> bool {
//!         false
//!     }
//!     fn is_unchanged(&self, _: usize) -> std::io::Result<bool> {
//!         Ok(true)
//!     }
//! }
//!
//! let temp = tempfile::tempdir()?;
//! let store = Store::at(temp.path().join("store"));
//! let entry = SourceEntry { path: TreePath::new("letter.txt")?, kind: SourceKind::File { size: 10 } };
//! let sealed = seal(&store, &[entry], &Letter, &Silent)?;
//! let game = temp.path().join("game");
//! let about = serde_json::Value::Null;
//! let wanted = install::Wanted { recipes: &[sealed.recipe], about, own_files: Default::default(), private: None, updates: &[], read_all: false };
//! install::install(&game, wanted, &store, &Silent)?;
//! assert_eq!(std::fs::read(game.join("letter.txt"))?, b"dear marsh");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! Not here: storefronts, configuration, the ledger. A player's own installer could be built on this crate alone.

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

pub mod chunk_index;
pub mod codec;
pub mod collect;
pub mod contents;
pub mod durable;
pub mod fetch;
pub mod held;
pub mod install;
pub mod links;
pub mod locator;
pub mod pack;
pub mod parcels;
pub mod rebuild;
pub mod recipe;
pub mod repair;
pub mod room_left;
pub mod seal;
pub mod store;
#[cfg(test)]
mod testing;
mod thin;
pub mod updates;
