//! Small names: editions, targets, depots, branches, handles, identities; and the nearest known one to a mistake.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};

use crate::path::TreePath;
use crate::portable::refused_by_windows;

/// Why a text is not a name of its kind.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{text:?} is not {what}: {rule}")]
pub struct NameError {
    text: String,
    what: &'static str,
    rule: &'static str,
}

macro_rules! name {
    ($(#[$doc:meta])* $name:ident, $what:literal, $rule:literal, $fits:expr) => {
        $(#[$doc])*
        #[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, JsonSchema)]
        #[serde(transparent)]
        pub struct $name(String);

        impl $name {
            /// Returns the text.
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }

        impl FromStr for $name {
            type Err = NameError;
            fn from_str(text: &str) -> Result<Self, NameError> {
                let fits: fn(&str) -> bool = $fits;
                if fits(text) {
                    return Ok(Self(text.to_owned()));
                }
                Err(NameError { text: text.chars().take(80).collect(), what: $what, rule: $rule })
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }

        impl<'de> Deserialize<'de> for $name {
            fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
            }
        }
    };
}

fn is_word(text: &str) -> bool {
    (1..=64).contains(&text.len())
        && text.starts_with(|c: char| c.is_ascii_lowercase() || c.is_ascii_digit())
        && text.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-' || b == b'_')
}

fn is_handle(text: &str) -> bool {
    // As parts of an address these two mean something else.
    (1..=255).contains(&text.len()) && !text.chars().any(char::is_control) && text != "." && text != ".."
}

impl Handle {
    /// Returns the text as one part of an address's path. Source: RFC 3986, section 2.3.
    pub fn in_path(&self) -> String {
        percent_encoded(&self.0)
    }
}

/// Writes a text as one part of an address. Source: RFC 3986, section 2.3.
pub fn percent_encoded(text: &str) -> String {
    let mut out = String::new();
    for byte in text.bytes() {
        if byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'.' | b'_' | b'~') {
            out.push(char::from(byte));
        } else {
            out.push_str(&format!("%{byte:02X}"));
        }
    }
    out
}

fn is_identity(text: &str) -> bool {
    let part = |p: &str| {
        !p.is_empty()
            && p.starts_with(|c: char| c.is_ascii_alphabetic())
            && p.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_')
    };
    text.len() <= 155 && text.split('.').count() >= 2 && text.split('.').all(part)
}

name!(
    /// The reverse-domain identity of a game.
    Identity,
    "an identity",
    "two or more parts of letters, digits, \"-\" and \"_\" with dots between, such as \"example.studio.game\"",
    is_identity
);
name!(
    /// A name that the project gives: of an edition, a target, a depot, a storefront or a branch.
    Name,
    "a name",
    "lower-case letters, digits, \"-\" and \"_\", 64 at most",
    is_word
);
name!(
    /// What a storefront calls a title or a depot of ours.
    Handle,
    "a handle",
    "any text without control characters, 255 bytes at most, but \".\" and \"..\"",
    is_handle
);

name!(
    /// The name of the folder that a build is installed into: one that every system takes, and that leads nowhere else.
    FolderName,
    "the name of a folder",
    "one part without / or \\, which Windows, macOS and Linux all take, 100 bytes at most",
    is_folder_name
);

/// A word of someone newer, which this code does not know and passes on: a system, an audience.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Word {
    bytes: [u8; Self::MAX_LEN],
    len: u8,
}

impl Word {
    /// Longest one, in bytes. Ours: it fits where the known ones are kept.
    pub const MAX_LEN: usize = 40;

    /// Returns the text.
    pub fn as_str(&self) -> &str {
        let bytes = self.bytes.get(..usize::from(self.len)).unwrap_or_default();
        std::str::from_utf8(bytes).unwrap_or_default()
    }
}

impl FromStr for Word {
    type Err = NameError;
    fn from_str(text: &str) -> Result<Self, NameError> {
        let fits = (1..=Self::MAX_LEN).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_graphic());
        let (what, rule) = ("a word", "visible ASCII characters, 40 at most");
        let wrong = || NameError { text: text.chars().take(80).collect(), what, rule };
        let mut bytes = [0; Self::MAX_LEN];
        let storefront = bytes.get_mut(..text.len()).filter(|_| fits).ok_or_else(wrong)?;
        storefront.copy_from_slice(text.as_bytes());
        Ok(Self { bytes, len: u8::try_from(text.len()).map_err(|_| wrong())? })
    }
}

impl fmt::Debug for Word {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(self.as_str(), f)
    }
}

impl Serialize for Word {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.as_str())
    }
}

impl<'de> Deserialize<'de> for Word {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// Longest folder name, in bytes. Ours: leaves room for what lies below it on Windows, and for what is beside it while it is made.
const MAX_FOLDER_NAME: usize = 100;

fn is_folder_name(text: &str) -> bool {
    let one_part = TreePath::new(text).ok().filter(|path| path.parents().next().is_none());
    // A dot in front hides it; a space in front or a tilde is taken for something else by shells.
    text.len() <= MAX_FOLDER_NAME
        && !text.starts_with(['.', ' ', '~', '-'])
        && one_part.is_some_and(|path| refused_by_windows(&path).is_none())
}

impl FolderName {
    /// Makes a folder's name of a game's: what no folder may have is left out or becomes `-`.
    pub fn of_title(title: &str) -> Self {
        let allowed = |c: char| !c.is_control() && !r#"/\:<>"|?*"#.contains(c);
        let mut text = String::new();
        for c in title.chars().map(|c| if allowed(c) { c } else { '-' }) {
            if text.len() + c.len_utf8() > MAX_FOLDER_NAME {
                break;
            }
            text.push(c);
        }
        let text = text.trim_matches(['.', ' ', '~', '-']);
        let plain = || "game".parse().expect("it fits");
        // Such as the name of a device.
        text.parse().or_else(|_| format!("{text}-game").parse()).unwrap_or_else(|_| plain())
    }
}

impl Name {
    /// The edition that a project has when it names none.
    pub fn full_edition() -> Self {
        Self("full".to_owned())
    }
}

/// Words that engines and templates write where an identity is to come.
const PLACEHOLDERS: [&str; 18] = [
    "company",
    "mycompany",
    "yourcompany",
    "defaultcompany",
    "companyname",
    "example",
    "studio",
    "mystudio",
    "yourstudio",
    "name",
    "yourname",
    "product",
    "myproduct",
    "productname",
    "game",
    "mygame",
    "yourgame",
    "app",
];

/// Whether an identity is one that was never filled in: behind its first part there is nothing but such words.
pub fn is_placeholder_identity(identity: &Identity) -> bool {
    let mut rest = identity.as_str().split('.').skip(1).peekable();
    let is_placeholder = |part: &str| PLACEHOLDERS.contains(&part.to_lowercase().replace(['-', '_'], "").as_str());
    rest.peek().is_some() && rest.all(is_placeholder)
}

/// Returns the known word nearest to a mistake, if one is near enough to be meant.
pub fn nearest<'a>(typed: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let allowed = (typed.chars().count() / 3).clamp(1, 3);
    known
        .into_iter()
        .map(|word| (distance(&typed.to_lowercase(), word), word))
        .filter(|(d, _)| *d <= allowed)
        .min_by_key(|(d, _)| *d)
        .map(|(_, word)| word)
}

/// Counts the letters to insert, remove, change, or swap with the neighbour.
#[expect(clippy::indexing_slicing, reason = "each row is as long as the word")]
fn distance(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().take(100).collect(), b.chars().take(100).collect());
    let mut before: Vec<usize> = Vec::new();
    let mut above: Vec<usize> = (0..=b.len()).collect();
    for i in 0..a.len() {
        let mut row = vec![i + 1];
        for j in 0..b.len() {
            let mut best = (above[j] + usize::from(a[i] != b[j])).min(above[j + 1] + 1).min(row[j] + 1);
            if i > 0 && j > 0 && a[i] == b[j - 1] && a[i - 1] == b[j] {
                best = best.min(before[j - 1] + 1);
            }
            row.push(best);
        }
        before = std::mem::replace(&mut above, row);
    }
    above[b.len()]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn identities_of_templates_are_known() {
        let is = |text: &str| is_placeholder_identity(&text.parse().unwrap());
        assert!(is("com.company.product") && is("com.MyCompany.my-game") && is("org.example"));
        assert!(!is("example.paperheron.saltmarsh") && !is("com.company.saltmarsh") && !is("com.paperheron.game"));
    }

    #[test]
    fn names_and_identities() {
        assert!("open-water".parse::<Name>().is_ok());
        for bad in ["", "Open", "a b", "-a", "é", &"a".repeat(65)] {
            assert!(bad.parse::<Name>().is_err(), "{bad:?}");
        }
        assert!("example.paperheron.saltmarsh".parse::<Identity>().is_ok());
        for bad in ["saltmarsh", "a..b", ".a.b", "a.1b", "a.b/c"] {
            assert!(bad.parse::<Identity>().is_err(), "{bad:?}");
        }
    }

    #[test]
    fn folders_have_names_that_lead_nowhere_else() {
        for good in ["Saltmarsh Post", "Saltmarsh Post 1.5", "潮", "Punt & Oar (demo)"] {
            assert!(good.parse::<FolderName>().is_ok(), "{good:?}");
        }
        for bad in [
            "",
            ".",
            "..",
            "a/b",
            "a\\b",
            "C:",
            "con",
            "NUL.txt",
            "a.",
            "a ",
            ".x",
            "-r",
            "~",
            "a:b",
            ".Lantern",
            &"a".repeat(101),
        ] {
            assert!(bad.parse::<FolderName>().is_err(), "{bad:?}");
        }
    }

    #[test]
    fn any_title_makes_a_folder_name() {
        let cases = [
            ("Saltmarsh Post", "Saltmarsh Post"),
            ("Post: First Tide", "Post- First Tide"),
            ("..", "game"),
            ("", "game"),
            ("CON", "CON-game"),
            ("../../x", "x"),
            (".lantern", "lantern"),
        ];
        for (title, folder) in cases {
            assert_eq!(FolderName::of_title(title).as_str(), folder, "{title:?}");
        }
    }

    #[test]
    fn the_nearest_word_is_found_when_it_is_near() {
        let known = ["export", "starts", "systems", "leave-out", "must-have"];
        for (typed, meant) in
            [("exports", "export"), ("start", "starts"), ("sytsems", "systems"), ("leave_out", "leave-out")]
        {
            assert_eq!(nearest(typed, known), Some(meant), "{typed}");
        }
        assert_eq!(nearest("colour", known), None);
    }

    #[test]
    fn handles_are_kept_as_the_place_writes_them() {
        for good in ["sp-linux", "Saltmarsh Post", "480/1", "潮", "a?b#c", &"a".repeat(255)] {
            assert_eq!(good.parse::<Handle>().unwrap().as_str(), good);
        }
        for bad in ["", "a\nb", "\u{7f}", ".", "..", &"a".repeat(256)] {
            assert!(bad.parse::<Handle>().is_err(), "{bad:?}");
        }
        assert_eq!("Salt/Marsh 潮?".parse::<Handle>().unwrap().in_path(), "Salt%2FMarsh%20%E6%BD%AE%3F");
    }

    #[test]
    fn words_of_someone_newer() {
        let word: Word = "linux-riscv64".parse().unwrap();
        assert_eq!(
            (word.as_str(), serde_json::to_string(&word).unwrap().as_str()),
            ("linux-riscv64", "\"linux-riscv64\"")
        );
        for bad in ["", "a b", "\u{1b}[31m", "é", &"a".repeat(41)] {
            assert!(bad.parse::<Word>().is_err(), "{bad:?}");
        }
    }

    #[test]
    fn distances() {
        assert_eq!(distance("", "abc"), 3);
        assert_eq!(distance("abc", "abc"), 0);
        assert_eq!(distance("acb", "abc"), 1);
        assert_eq!(distance("kitten", "sitting"), 3);
    }
}
