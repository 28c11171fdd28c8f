//! Programs that need a newer system than many players have.

use lantern_formats::elf::{self, SymbolVersion};
use lantern_formats::macho::{Details, Platform, SystemVersion};

/// The family of glibc's symbol versions.
pub(crate) const GLIBC: &str = "GLIBC";
/// glibc 2.35 is the one of 2022; what needs a newer one leaves out systems that are still looked after.
const NEW_GLIBC: [u32; 2] = [2, 35];
/// The newest systems that may be demanded without a word: those of 2022, as with glibc.
pub(crate) const NEWEST_MACOS: SystemVersion = SystemVersion(13, 255, 255);
/// As [`NEWEST_MACOS`].
pub(crate) const NEWEST_IOS: SystemVersion = SystemVersion(16, 255, 255);

/// The C library that a program needs, where that is newer than many systems have.
pub(crate) fn too_new_for_linux(details: &elf::Details) -> Option<&SymbolVersion> {
    details.needs.get(GLIBC).filter(|version| **version > SymbolVersion(NEW_GLIBC.to_vec()))
}

/// The oldest system that a program of several processors starts on.
pub(crate) fn oldest_of(details: &[Details]) -> Option<(Platform, SystemVersion)> {
    details.iter().filter_map(|d| d.minimum).min_by_key(|(_, version)| *version)
}

/// The system that it needs, where that is newer than many have, with the newest that is not.
pub(crate) fn too_new_for_macos(details: &[Details]) -> Option<(&'static str, SystemVersion, SystemVersion)> {
    let (platform, version) = oldest_of(details)?;
    let (system, newest) = match platform {
        Platform::MacOs => ("macOS", NEWEST_MACOS),
        Platform::Ios => ("iOS", NEWEST_IOS),
        _ => return None,
    };
    (version > newest).then_some((system, version, newest))
}
