//! The storefront protocol: its types, its client, and the traits behind which every kind of storefront stands.
//!
//! - [`Storefront`]: a storefront of any kind, with what it can do: [`Identify`], [`Content`], [`Builds`], [`Branches`],
//!   [`Invitations`], [`Player`].
//! - [`open`]: makes one of what the configuration says.
//! - [`protocol`]: the documents that travel; client and server share them.
//! - [`http::HttpStorefront`]: the kind `protocol`.
//! - [`ByHand`]: the kind `by-hand`.
//! - [`connector`]: programs of the studio's own that do what is done at a storefront.
//! - [`conformance`]: what every kind must do, as a suite.
//!
//! ```no_run
//! use lantern_core::config::{ProtocolStorefront, StorefrontKind};
//! use lantern_storefront::Opening;
//!
//! let kind = StorefrontKind::Protocol(ProtocolStorefront { address: "http://127.0.0.1:4870".to_owned() });
//! let storefront = lantern_storefront::open(&kind, Opening::default())?;
//! println!("{}", storefront.identify()?.name);
//! # Ok::<(), lantern_storefront::StorefrontError>(())
//! ```
//!
//! Not here: what is sent when and why (`lantern-project`), and where access is kept.

mod abilities;
mod by_hand;
pub mod conformance;
pub mod connector;
mod error;
pub mod http;
mod open;
mod opening;
pub mod protocol;

pub use abilities::{Branches, Builds, Content, Identify, Invitations, Player, Storefront, StorefrontFacts, Upload};
pub use by_hand::{ByHand, SaidThere};
pub use error::StorefrontError;
pub use open::open;
pub use opening::{Access, Invited, OnWait, Opening};
