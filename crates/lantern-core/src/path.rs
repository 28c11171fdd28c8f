//! Names of files in a tree.

use std::fmt;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};
use unicode_normalization::UnicodeNormalization;

/// Longest path accepted, in bytes. Ours: bounds memory on hostile input; far above what any system allows.
pub const MAX_PATH_LEN: usize = 4096;

/// Why a name cannot stand in a tree.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PathError {
    /// No characters at all, or an empty part between two slashes.
    #[error("the name {} has an empty part", shown(.0))]
    Empty(String),
    /// A part is `.` or `..`.
    #[error("the name {} climbs through \".\" or \"..\"", shown(.0))]
    Climbs(String),
    /// The name starts at the root of a disk.
    #[error("the name {} is absolute", shown(.0))]
    Absolute(String),
    /// A control character or a backslash, which some systems read as a folder.
    #[error("the name {} contains a control character or a backslash", shown(.0))]
    Character(String),
    /// Longer than [`MAX_PATH_LEN`].
    #[error("a name is {0} bytes long, at most {MAX_PATH_LEN} are accepted")]
    Long(usize),
    /// Not UTF-8.
    #[error("the name {} is not UTF-8", shown(.0))]
    Encoding(String),
    /// A part starts with `.lantern`: see [`is_reserved`].
    #[error("the name {} belongs to Lantern's own files", shown(.0))]
    Reserved(String),
}

/// Whether a part of a path is reserved for Lantern's own files: no build may bring it, at any depth.
///
/// Every name that some file system takes for one that starts with `.lantern` is: in any letter case, with characters
/// between that HFS+ does not compare, with dots or spaces at its end as Windows drops them, and the short names
/// (8.3) that NTFS makes of such names. This is the one place that decides it.
pub fn is_reserved(part: &str) -> bool {
    // Nearly every name of a build is decided here, without copying it.
    let could_be = part.contains('~') || part.starts_with('.') || !part.is_ascii();
    if !could_be {
        return false;
    }
    let plain: String = part.nfc().filter(|c| !is_hidden(*c)).flat_map(char::to_lowercase).collect();
    let is_short = plain.strip_prefix("lanter~").is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_digit()));
    is_short || plain.starts_with(".lantern")
}

/// Characters that are not seen, or that turn the direction of those that follow.
fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}')
}

/// Writes a name so that no terminal can be fooled by it: control characters and direction overrides are escaped.
pub fn shown(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    for c in name.chars() {
        match is_hidden(c) {
            true => out.extend(c.escape_unicode()),
            false => out.push(c),
        }
    }
    out
}

/// The path of one entry of a tree: relative, `/` between parts, UTF-8 as the file system had it.
///
/// Never empty, absolute or climbing; without control characters, backslashes and [reserved](is_reserved) parts. The
/// order is by bytes.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(transparent)]
// Copies share the text: a build has many paths, which stand in its export, its tree and its recipe.
pub struct TreePath(Arc<str>);

impl TreePath {
    /// Checks a name and wraps it.
    ///
    /// # Errors
    /// [`PathError`], one variant per rule.
    pub fn new(name: impl Into<String>) -> Result<Self, PathError> {
        let name: String = name.into();
        if name.len() > MAX_PATH_LEN {
            return Err(PathError::Long(name.len()));
        }
        if name.starts_with('/') {
            return Err(PathError::Absolute(name));
        }
        if name.chars().any(|c| c.is_control() || c == '\\') {
            return Err(PathError::Character(name));
        }
        for part in name.split('/') {
            match part {
                "" => return Err(PathError::Empty(name)),
                "." | ".." => return Err(PathError::Climbs(name)),
                part if is_reserved(part) => return Err(PathError::Reserved(name)),
                _ => {}
            }
        }
        // "C:" as first part is a drive on one system; there is no honest use of it.
        let bytes = name.as_bytes();
        if matches!(bytes, [letter, b':', ..] if letter.is_ascii_alphabetic()) {
            return Err(PathError::Absolute(name));
        }
        Ok(Self(name.into()))
    }

    /// Returns the path as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Returns the path with hidden characters escaped, for a terminal.
    pub fn shown(&self) -> String {
        shown(&self.0)
    }

    /// Returns the paths of the folders above, nearest first.
    pub fn parents(&self) -> impl Iterator<Item = &str> {
        let mut rest = self.as_str();
        std::iter::from_fn(move || {
            rest = rest.rsplit_once('/')?.0;
            Some(rest)
        })
    }

    /// Resolves a relative link target from this path's folder; `None` when it leaves the tree or is malformed.
    pub fn resolve_link(&self, target: &str) -> Option<String> {
        if target.is_empty()
            || target.starts_with('/')
            || target.chars().any(|c| c.is_control() || c == '\\' || c == ':')
        {
            return None;
        }
        let mut parts: Vec<&str> = self.0.split('/').collect();
        parts.pop();
        for part in target.split('/') {
            match part {
                "" | "." => {}
                ".." => {
                    parts.pop()?;
                }
                name => parts.push(name),
            }
        }
        Some(parts.join("/"))
    }
}

impl fmt::Display for TreePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.shown())
    }
}

impl fmt::Debug for TreePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", self.0)
    }
}

impl<'de> Deserialize<'de> for TreePath {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Self::new(String::deserialize(deserializer)?).map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn honest_names_are_accepted() {
        for name in
            ["a", "data/letters.txt", "Saltmarsh Post.x86_64", "干潟/手紙.txt", "a/.hidden", "..a", "a..", "ab:c"]
        {
            assert_eq!(TreePath::new(name).unwrap().as_str(), name);
        }
    }

    #[test]
    fn each_rule_refuses() {
        let case = |name: &str| TreePath::new(name).unwrap_err();
        assert!(matches!(case(""), PathError::Empty(_)));
        assert!(matches!(case("a//b"), PathError::Empty(_)));
        assert!(matches!(case("a/"), PathError::Empty(_)));
        assert!(matches!(case("../a"), PathError::Climbs(_)));
        assert!(matches!(case("a/./b"), PathError::Climbs(_)));
        assert!(matches!(case("/etc/passwd"), PathError::Absolute(_)));
        assert!(matches!(case("C:/windows"), PathError::Absolute(_)));
        assert!(matches!(case("a\\b"), PathError::Character(_)));
        assert!(matches!(case("a\u{1b}[31m"), PathError::Character(_)));
        assert!(matches!(case(&"a".repeat(5000)), PathError::Long(5000)));
    }

    #[test]
    fn names_of_our_own_files_are_reserved() {
        for bad in [
            ".lantern",
            ".lantern-install/installed.json",
            "data/.Lantern-Install",
            ".LANTERN",
            ".lantern-install.",
            ".lantern . .",
            ".lan\u{200c}tern-install",
            "\u{feff}.lantern",
            "LANTER~1",
            "x/lanter~2/journal.json",
        ] {
            assert!(matches!(TreePath::new(bad), Err(PathError::Reserved(_))), "{bad}");
        }
        for good in ["lantern", "a.lantern", ".lanter", "lantern~1", "x~1", ".hidden", "\u{e9}.lantern.txt", "lanter~x"]
        {
            assert!(TreePath::new(good).is_ok(), "{good}");
        }
    }

    #[test]
    fn hidden_characters_are_escaped() {
        assert_eq!(shown("a\u{202e}gnp.exe\u{7}"), "a\\u{202e}gnp.exe\\u{7}");
        assert_eq!(shown("手紙 ok"), "手紙 ok");
    }

    #[test]
    fn links_stay_inside() {
        let at = TreePath::new("lib/x/libtide.so").unwrap();
        assert_eq!(at.resolve_link("libtide.so.1").as_deref(), Some("lib/x/libtide.so.1"));
        assert_eq!(at.resolve_link("../../a").as_deref(), Some("a"));
        assert_eq!(at.resolve_link("../../../a"), None);
        assert_eq!(at.resolve_link("/a"), None);
        assert_eq!(at.resolve_link(""), None);
    }
}
