//! Names that some systems refuse, or take for one another.

use std::collections::{BTreeMap, BTreeSet};

use unicode_normalization::UnicodeNormalization;

use crate::path::TreePath;

/// Why Windows refuses a path, in words; none when it does not. Source: Microsoft, "Naming Files, Paths, and Namespaces",
/// "Naming Conventions" (<https://learn.microsoft.com/windows/win32/fileio/naming-a-file>).
pub fn refused_by_windows(path: &TreePath) -> Option<&'static str> {
    path.as_str().split('/').find_map(|part| {
        if part.contains(['<', '>', ':', '"', '|', '?', '*']) {
            return Some("one of the characters < > : \" | ? *");
        }
        if part.ends_with([' ', '.']) {
            return Some("a space or a dot at its end");
        }
        let stem = part.split('.').next().unwrap_or(part).trim_end().to_ascii_uppercase();
        let is_numbered = |name: &str| {
            let digit = stem.strip_prefix(name).and_then(|rest| rest.parse::<char>().ok());
            digit.is_some_and(|c| c.is_ascii_digit() || matches!(c, '\u{b9}' | '\u{b2}' | '\u{b3}'))
        };
        let is_device =
            matches!(stem.as_str(), "CON" | "PRN" | "AUX" | "NUL") || is_numbered("COM") || is_numbered("LPT");
        is_device.then_some("the name of a device")
    })
}

/// Folds a name as file systems do that take letter case and normalisation for nothing: names that fold alike are, or may
/// be, one name there.
pub fn folded(name: &str) -> String {
    if name.is_ascii() { name.to_ascii_lowercase() } else { name.nfc().flat_map(char::to_lowercase).nfc().collect() }
}

/// Returns groups of names, of files or of folders above them, that are one name where letter case does not count or
/// names are normalised: Windows, macOS. Each group is sorted.
pub fn colliding_names<'a>(paths: impl IntoIterator<Item = &'a TreePath>) -> Vec<Vec<String>> {
    let mut groups: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for path in paths {
        for name in std::iter::once(path.as_str()).chain(path.parents()) {
            groups.entry(folded(name)).or_default().insert(name.to_owned());
        }
    }
    groups.into_values().filter(|names| names.len() > 1).map(|names| names.into_iter().collect()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(name: &str) -> TreePath {
        TreePath::new(name).unwrap()
    }

    #[test]
    fn what_windows_refuses() {
        for bad in ["a/con", "NUL.txt", "com1", "LPT9.log", "a?", "what: now.txt", "a/b./c", "end ", "AUX .x"] {
            assert!(refused_by_windows(&path(bad)).is_some(), "{bad}");
        }
        for good in ["console.txt", "com", "com10", "a.b/c", ".hidden", "nullable", "lpt"] {
            assert!(refused_by_windows(&path(good)).is_none(), "{good}");
        }
    }

    #[test]
    fn names_that_fold_together_are_found() {
        let paths = ["Data/a", "data/b", "e\u{301}", "\u{e9}", "x"].map(path);
        assert_eq!(colliding_names(&paths), [vec!["Data", "data"], vec!["e\u{301}", "\u{e9}"]]);
    }
}
