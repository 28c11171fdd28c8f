//! The stand-in storefronts and example exports that ship with Kind Lantern.
//!
//! - [`stand_in::StandIn`]: a storefront's state, with house rules from a document of data.
//! - [`server::Running`]: answers the storefront protocol on loopback until dropped.
//! - [`server::openapi`]: the protocol's document, made of the very table that the router is made of.
//! - [`weather::Weather`]: the faults that it shows; [`page::Page`]: a local server for browser builds.
//! - [`exports`]: small, true exports as an engine would write them, the same on every computer.
//!
//! ```
//! use lantern_rehearsal::{stand_in::{StandIn, StandInDocument}, server::Running};
//!
//! let temp = tempfile::tempdir()?;
//! let stand_in = StandIn::open(temp.path(), StandInDocument::brambleyard()).expect("a fresh folder");
//! let running = Running::start(stand_in, 0).expect("a free port");
//! assert!(running.origin().starts_with("http://127.0.0.1:"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! Not here: anything that a real storefront does with money or people.

mod api;
pub mod exports;
pub mod page;
mod refusal;
pub mod server;
pub mod stand_in;
pub mod weather;

pub use refusal::Refused;
