//! Readers of program formats, over the first bytes of a file or `Read + Seek`; every byte is hostile.
//!
//! - [`elf::Elf`]: what a Linux program says about itself.
//! - [`Magic`]: what a file is by its first bytes, enough to decide whether it may be executed.
//!
//! ```
//! use lantern_formats::{Magic, elf::Elf};
//!
//! assert_eq!(Magic::of(b"#!/bin/sh\n"), Magic::Script);
//! assert!(Elf::read(&mut std::io::Cursor::new(b"\x7fELF")).is_err());
//! ```
//!
//! Not here: configuration, network, terminal.

pub mod elf;
mod magic;

pub use magic::{MAGIC_LEN, Magic};
