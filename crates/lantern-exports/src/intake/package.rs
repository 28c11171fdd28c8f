//! What a package says of itself, found in it wherever the package lies.

use std::io::{Read, Seek};

use lantern_formats::android::{MAX_MANIFEST_LEN, Manifest};
use lantern_formats::info::Info;
use lantern_formats::zip;

/// The manifest of a package.
pub enum Said {
    /// Of a package or bundle for Android.
    Android(Manifest),
    /// Of a package for iOS.
    Ios(Info),
}

impl Said {
    /// The number that rises.
    pub fn number(self) -> Option<String> {
        match self {
            Self::Android(manifest) => manifest.version_code.map(|code| code.to_string()),
            Self::Ios(info) => info.number,
        }
    }
}

/// Reads it; none for what is no package, or cannot be read.
pub fn said_by<R: Read + Seek + Send>(mut package: R) -> Option<Said> {
    let is_info = |name: &[u8]| {
        let depth = name.iter().filter(|b| **b == b'/').count();
        name.starts_with(b"Payload/") && name.ends_with(b".app/Info.plist") && depth == 2
    };
    let is_manifest = |name: &[u8]| matches!(name, b"AndroidManifest.xml" | b"base/manifest/AndroidManifest.xml");
    let entries = zip::read(&mut package).ok()?;
    let inside = entries.into_iter().find(|entry| is_manifest(&entry.name) || is_info(&entry.name))?;
    let mut bytes = Vec::new();
    zip::open(package, &inside.packed).ok()?.take(MAX_MANIFEST_LEN).read_to_end(&mut bytes).ok()?;
    match inside.name.as_slice() {
        b"AndroidManifest.xml" => Manifest::read(&bytes).ok().map(Said::Android),
        b"base/manifest/AndroidManifest.xml" => Manifest::read_of_bundle(&bytes).ok().map(Said::Android),
        _ => Info::read(&bytes).ok().map(Said::Ios),
    }
}
