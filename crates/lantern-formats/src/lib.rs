//! Readers of program and archive formats, over the first bytes of a file or `Read + Seek`; every byte is hostile.
//!
//! - [`program::Program`]: what a program of any system says about itself, by one call.
//! - [`elf::Elf`], [`pe::Pe`], [`macho::MachO`]: the readers behind it.
//! - [`elf::Details`], [`pe::Details`], [`macho::Details`]: libraries, versions, icons, debug data, signatures.
//! - [`macho::CodeSignature`]: what a code signature covers, and whether that is intact.
//! - [`bundle`]: how a bundle lies in its folders, and whether all of it is as it was signed.
//! - [`apk`], [`jar`], [`pe::verify`], [`profile::Profile`]: signatures of packages, archives and programs, verified.
//! - [`android::Manifest`], [`info::Info`], [`icon`]: what packages and bundles say about themselves.
//! - [`zip`], [`tar`]: what archives hold, read in place.
//! - [`Magic`]: what a file is by its first bytes, enough to decide whether it may be executed.
//!
//! ```
//! use lantern_formats::{Magic, program::Program};
//!
//! assert_eq!(Magic::of(b"#!/bin/sh\n"), Magic::Script);
//! assert!(Program::read(&mut std::io::Cursor::new(b"\x7fELF")).is_err());
//! ```
//!
//! Not here: configuration, network, terminal.

// Every byte is hostile: what remains of indexing and of narrowing casts says why it cannot go wrong.
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

pub mod android;
pub mod apk;
pub mod bundle;
pub mod certificate;
mod counting_writer;
pub mod elf;
pub mod hash;
pub mod icon;
pub mod info;
pub mod jar;
mod machine;
pub mod macho;
mod magic;
pub mod message;
mod offset_reader;
pub mod pe;
pub mod plist;
pub mod profile;
pub mod program;
#[allow(clippy::cast_possible_truncation, clippy::indexing_slicing, reason = "it makes what tests read")]
#[cfg(any(test, feature = "samples"))]
pub mod samples;
pub mod ssh;
pub mod tar;
pub mod zip;

pub use magic::{MAGIC_LEN, Magic};
pub use message::Signer;
pub use offset_reader::FormatError;
