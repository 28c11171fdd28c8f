//! `Info.plist`: what a bundle for macOS or iOS says about itself. Source: Apple's "Information Property List"
//! (<https://developer.apple.com/documentation/bundleresources/information-property-list>), a page for each key.

use crate::offset_reader::FormatError;
use crate::plist;

/// Largest property list that is read, in bytes. Ours: real ones have a few kilobytes.
pub const MAX_INFO_LEN: u64 = 4 * 1024 * 1024;

/// What a bundle says about itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Info {
    /// `CFBundleIdentifier`: the identity.
    pub identifier: Option<String>,
    /// `CFBundleDisplayName`, or `CFBundleName`.
    pub name: Option<String>,
    /// `CFBundleShortVersionString`: the version for people.
    pub version: Option<String>,
    /// `CFBundleVersion`: the number that rises.
    pub number: Option<String>,
    /// `CFBundleExecutable`: the program, in `Contents/MacOS`.
    pub executable: Option<String>,
    /// `CFBundleIconFile`, with its ending.
    pub icon: Option<String>,
    /// `CFBundleIconFiles`, or those of `CFBundlePrimaryIcon` in `CFBundleIcons`: the beginnings of files' names.
    pub icon_files: Vec<String>,
    /// `LSMinimumSystemVersion`, or `MinimumOSVersion`.
    pub minimum_system: Option<String>,
    /// `LSApplicationCategoryType`.
    pub category: Option<String>,
}

impl Info {
    /// Reads a property list, in XML or binary.
    ///
    /// # Errors
    /// [`FormatError::Not`] for bytes that are none, or that hold no dictionary.
    pub fn read(bytes: &[u8]) -> Result<Self, FormatError> {
        let all = plist::read(bytes)?;
        let text = |key: &str| all.get(key).and_then(plist::Value::text).map(str::to_owned);
        let icon = text("CFBundleIconFile").map(|icon| if icon.contains('.') { icon } else { format!("{icon}.icns") });
        let primary = all.get("CFBundleIcons").and_then(plist::Value::dictionary);
        let primary = primary.and_then(|icons| icons.get("CFBundlePrimaryIcon")?.dictionary());
        let files = primary.and_then(|icon| icon.get("CFBundleIconFiles")).or_else(|| all.get("CFBundleIconFiles"));
        let icon_files = files.map_or(&[][..], plist::Value::list).iter().filter_map(plist::Value::text);
        Ok(Self {
            icon_files: icon_files.map(str::to_owned).collect(),
            identifier: text("CFBundleIdentifier"),
            name: text("CFBundleDisplayName").or_else(|| text("CFBundleName")),
            version: text("CFBundleShortVersionString"),
            number: text("CFBundleVersion"),
            executable: text("CFBundleExecutable"),
            icon,
            minimum_system: text("LSMinimumSystemVersion").or_else(|| text("MinimumOSVersion")),
            category: text("LSApplicationCategoryType"),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bundles_words() {
        let text = br#"<?xml version="1.0" encoding="UTF-8"?>
<plist version="1.0"><dict>
<key>CFBundleIdentifier</key><string>example.paperheron.saltmarsh</string>
<key>CFBundleName</key><string>Saltmarsh Post</string>
<key>CFBundleIconFile</key><string>heron</string>
<key>CFBundleVersion</key><string>27</string>
</dict></plist>"#;
        let info = Info::read(text).unwrap();
        assert_eq!(info.identifier.as_deref(), Some("example.paperheron.saltmarsh"));
        assert_eq!((info.icon.as_deref(), info.number.as_deref()), (Some("heron.icns"), Some("27")));
        assert_eq!(info.version, None);
        for other in [b"".as_slice(), b"bplist00", b"<plist><string>x</string></plist>", &text[..200]] {
            assert!(Info::read(other).is_err());
        }
    }
}
