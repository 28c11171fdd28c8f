//! Temporary.
pub mod chunker;
pub mod codec;
pub mod durable;
pub mod locator;
pub mod manifest;
pub mod pack;
pub mod seal;
pub mod store;
