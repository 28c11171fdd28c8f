//! Writes a version and a number into Android packages and bundles, before they are signed.
//!
//! Only the manifest changes, and in it only what the two are: the rest stays byte for byte. What was written is read again by
//! `lantern_formats::android`, which shares no code with the rewriters, before it is handed on.

mod binary;
pub(crate) mod info;
pub mod program;
mod protobuf;

use std::io::{Read, Seek};

use lantern_formats::android::Manifest;

use crate::SignError;
pub use crate::archive::Edits;
use crate::archive::{AGAIN, MANIFEST, Opener, manifest_of, readable};

/// What is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stamp {
    /// The version for people.
    pub version: String,
    /// The number that only rises.
    pub number: u32,
}

/// Resource ids of the attributes. Source: `public-final.xml` of the framework.
mod id {
    pub const NUMBER: u32 = 0x0101_021b;
    pub const VERSION: u32 = 0x0101_021c;
    /// What a number has above its first 32 bits.
    pub const NUMBER_MAJOR: u32 = 0x0101_0576;
}

/// What the path of each module's manifest ends with in a bundle.
const OF_MODULE: &str = "/manifest/AndroidManifest.xml";
/// The module that every bundle has; the others are for abilities that are delivered later.
const BASE: &str = "base/manifest/AndroidManifest.xml";

/// Returns the manifest of a package as it is with the stamp; nothing where it says so already.
///
/// # Errors
/// [`SignError::Refused`] where the manifest has no place for it.
pub fn package<R: Read + Seek + Send>(open: Opener<'_, R>, stamp: &Stamp) -> Result<Edits, SignError> {
    let mut from = open()?;
    let entries = readable(&mut from)?;
    let entry = entries.iter().find(|entry| entry.name == MANIFEST.as_bytes());
    let entry = entry.ok_or_else(|| SignError::refused(format!("it has no {MANIFEST}"), AGAIN))?;
    let after = manifest(&manifest_of(&mut from, entry)?, stamp)?;
    Ok(after.map(|after| (MANIFEST.to_owned(), after)).into_iter().collect())
}

/// Returns a package's manifest with the stamp; none where it says so already.
///
/// # Errors
/// As [`package`].
pub fn manifest(before: &[u8], stamp: &Stamp) -> Result<Option<Vec<u8>>, SignError> {
    if says(MANIFEST, Manifest::read(before), stamp)? {
        return Ok(None);
    }
    let after = binary::stamped(before, stamp)?;
    read_again(MANIFEST, Manifest::read, (before, &after), stamp)?;
    Ok(Some(after))
}

/// Returns the manifests of a bundle's modules as they are with the stamp, without those that say so already.
///
/// # Errors
/// As [`package`].
pub fn bundle<R: Read + Seek + Send>(open: Opener<'_, R>, stamp: &Stamp) -> Result<Edits, SignError> {
    let mut from = open()?;
    let mut edits = Edits::new();
    let entries = readable(&mut from)?;
    if !entries.iter().any(|entry| entry.name == BASE.as_bytes()) {
        return Err(SignError::refused(format!("it has no {BASE}"), AGAIN));
    }
    for entry in entries {
        let Some(path) = std::str::from_utf8(&entry.name).ok().filter(|path| is_of_module(path)) else { continue };
        let after = module(path, &manifest_of(&mut from, &entry)?, stamp)?;
        edits.extend(after.map(|after| (path.to_owned(), after)));
    }
    Ok(edits)
}

/// Returns the manifest of a bundle's module with the stamp; none where it says so already, and where a module that is not the base
/// names neither: such are given both by the storefront.
///
/// # Errors
/// As [`package`].
pub fn module(path: &str, before: &[u8], stamp: &Stamp) -> Result<Option<Vec<u8>>, SignError> {
    let (after, written) = protobuf::stamped(before, stamp).map_err(|error| unread(path, &error))?;
    if path != BASE && written == protobuf::Written::default() {
        return Ok(None);
    }
    written.is_whole().map_err(|what| lacks(path, what))?;
    read_again(path, Manifest::read_of_bundle, (before, &after), stamp)?;
    Ok((!says(path, Manifest::read_of_bundle(before), stamp)?).then_some(after))
}

/// Whether a path is the manifest of a bundle's module.
fn is_of_module(path: &str) -> bool {
    path.strip_suffix(OF_MODULE).is_some_and(|module| !module.is_empty() && !module.contains('/'))
}

/// What is said of a manifest that has no place for what is to be written.
fn lacks(path: &str, what: &str) -> SignError {
    let why = format!("{path} has no {what} to write over");
    SignError::refused(why, "set one in the engine, whichever, and export again")
}

fn unread(path: &str, error: &impl std::fmt::Display) -> SignError {
    SignError::refused(format!("{path} cannot be read: {error}"), AGAIN)
}

/// Whether a manifest says already what is to be written.
fn says<E: std::fmt::Display>(path: &str, read: Result<Manifest, E>, stamp: &Stamp) -> Result<bool, SignError> {
    let read = read.map_err(|error| unread(path, &error))?;
    Ok(read.version_code == Some(stamp.number.into()) && read.version_name.as_deref() == Some(&stamp.version))
}

/// Whether a manifest says what was written, and of everything else what it said before.
fn read_again<E: std::fmt::Display>(
    path: &str,
    read: impl Fn(&[u8]) -> Result<Manifest, E>,
    (before, after): (&[u8], &[u8]),
    stamp: &Stamp,
) -> Result<(), SignError> {
    let before = read(before).map_err(|error| unread(path, &error))?;
    let after = read(after).map_err(|error| SignError::NotValid(format!("{path}: {error}")))?;
    let wanted =
        Manifest { version_code: Some(stamp.number.into()), version_name: Some(stamp.version.clone()), ..before };
    if after == wanted { Ok(()) } else { Err(SignError::NotValid(format!("{path} says something else"))) }
}
