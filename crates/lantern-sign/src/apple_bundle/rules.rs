//! Which files of a bundle its seal lists, and how: the rules that every seal carries.
//!
//! Source: Apple's technical note 2206, "Resource Rules" (<https://developer.apple.com/library/archive/technotes/tn2206/>), and public bundles for the
//! rules themselves. They stand in each seal as regular expressions; here they are code, and the reader follows the expressions.

use crate::plist::Item;

/// What a seal does with a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Rule {
    /// It lists the file with its hash.
    File,
    /// As a file, which players may remove.
    Optional,
    /// It says nothing of it.
    Omit,
    /// Only code may lie there, which is listed with what is demanded of it.
    Code,
}

/// How a bundle keeps its resources.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Shape {
    /// In `Resources`, with code in folders of its own.
    WithResources,
    /// All in one folder.
    Flat,
}

/// Folders in which code lies.
const CODE: [&str; 7] =
    ["Frameworks/", "SharedFrameworks/", "PlugIns/", "Plug-ins/", "XPCServices/", "Helpers/", "MacOS/"];
const CODE_IN_LIBRARY: [&str; 3] = ["Library/Automator/", "Library/Spotlight/", "Library/LoginItems/"];
const RESOURCES: &str = "Resources/";

/// Whether a path lies in a folder for one language, below this folder.
fn is_localised(path: &str, below: &str) -> bool {
    path.strip_prefix(below).is_some_and(|rest| rest.contains(".lproj/"))
}

impl Shape {
    /// The rule for a path within a bundle, of `files2`: of those that fit the heaviest.
    pub(super) fn rule(self, path: &str) -> Rule {
        let below = if self == Self::Flat { "" } else { RESOURCES };
        let name = path.rsplit('/').next().unwrap_or(path);
        let is_in_resources = self == Self::WithResources && path.starts_with(RESOURCES);
        if name == ".DS_Store" {
            return Rule::Omit;
        }
        if let Some(rule) = Self::of_language(path, below) {
            return rule;
        }
        match path {
            "Info.plist" | "PkgInfo" => Rule::Omit,
            "embedded.provisionprofile" | "version.plist" => Rule::File,
            _ if is_in_resources || path.contains(".dSYM/") || path.ends_with(".dSYM") => Rule::File,
            _ if self == Self::Flat => Rule::File,
            _ if !path.contains('/') || CODE.iter().chain(&CODE_IN_LIBRARY).any(|folder| path.starts_with(folder)) => {
                Rule::Code
            }
            _ => Rule::File,
        }
    }

    /// The rule for a path in the older list, `files`, which knows no code.
    pub(super) fn older_rule(self, path: &str) -> Rule {
        let below = if self == Self::Flat { "" } else { RESOURCES };
        if let Some(rule) = Self::of_language(path, below) {
            return rule;
        }
        match self {
            Self::Flat => Rule::File,
            Self::WithResources if path.starts_with(RESOURCES) || path == "version.plist" => Rule::File,
            Self::WithResources => Rule::Omit,
        }
    }

    fn of_language(path: &str, below: &str) -> Option<Rule> {
        if !is_localised(path, below) {
            return None;
        }
        let is_base = path.strip_prefix(below).is_some_and(|rest| rest.starts_with("Base.lproj/"));
        Some(match path.ends_with(".lproj/locversion.plist") {
            true => Rule::Omit,
            false if is_base => Rule::File,
            false => Rule::Optional,
        })
    }

    /// The older rules, as a seal carries them.
    pub(super) fn older(self) -> Item {
        let below = if self == Self::Flat { "" } else { RESOURCES };
        let first = if self == Self::Flat { "^.*".to_owned() } else { format!("^{below}") };
        let mut rules = vec![(first, Item::True)];
        rules.extend(languages(below));
        rules.push(("^version.plist$".to_owned(), Item::True));
        dictionary(rules)
    }

    /// The rules, as a seal carries them.
    pub(super) fn newer(self) -> Item {
        let mut rules = vec![
            (".*\\.dSYM($|/)".to_owned(), weight(11, &[])),
            ("^(.*/)?\\.DS_Store$".to_owned(), weight(2000, &["omit"])),
            ("^.*".to_owned(), Item::True),
            ("^Info\\.plist$".to_owned(), weight(20, &["omit"])),
            ("^PkgInfo$".to_owned(), weight(20, &["omit"])),
            ("^embedded\\.provisionprofile$".to_owned(), weight(20, &[])),
            ("^version\\.plist$".to_owned(), weight(20, &[])),
        ];
        if self == Self::WithResources {
            let code = "^(Frameworks|SharedFrameworks|PlugIns|Plug-ins|XPCServices|Helpers|MacOS|Library/(Automator|Spotlight|LoginItems))/";
            rules.push((code.to_owned(), weight(10, &["nested"])));
            rules.push((format!("^{RESOURCES}"), weight(20, &[])));
            rules.push(("^[^/]+$".to_owned(), weight(10, &["nested"])));
        }
        rules.extend(languages(if self == Self::Flat { "" } else { RESOURCES }));
        dictionary(rules)
    }
}

/// The rules for folders of one language.
fn languages(below: &str) -> [(String, Item); 3] {
    [
        (format!("^{below}.*\\.lproj/"), weight(1000, &["optional"])),
        (format!("^{below}.*\\.lproj/locversion.plist$"), weight(1100, &["omit"])),
        (format!("^{below}Base\\.lproj/"), weight(1010, &[])),
    ]
}

fn weight(weight: u32, words: &[&str]) -> Item {
    let words = words.iter().map(|word| ((*word).to_owned(), Item::True));
    Item::Dictionary(words.chain([("weight".to_owned(), Item::Real(weight))]).collect())
}

fn dictionary(mut rules: Vec<(String, Item)>) -> Item {
    rules.sort_by(|one, other| one.0.cmp(&other.0));
    Item::Dictionary(rules)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plist::write;
    use lantern_formats::macho::ResourceSeal;
    use proptest::prelude::*;

    /// What the reader makes of the expressions is what the code does.
    fn agrees(shape: Shape, path: &str) {
        let seal = write(&Item::of([("files2", Item::of([])), ("rules2", shape.newer())]));
        let seal = ResourceSeal::read(seal.as_bytes()).unwrap();
        let rule = shape.rule(path);
        assert_eq!(seal.leaves_out(path), rule == Rule::Omit, "{shape:?} {path}");
        assert_eq!(seal.is_optional(path), rule == Rule::Optional, "{shape:?} {path}");
        let seal = write(&Item::of([("files", Item::of([])), ("rules", shape.older())]));
        let seal = ResourceSeal::read(seal.as_bytes()).unwrap();
        assert_eq!(seal.leaves_out(path), shape.older_rule(path) == Rule::Omit, "older, {shape:?} {path}");
        assert_eq!(seal.is_optional(path), shape.older_rule(path) == Rule::Optional, "older, {shape:?} {path}");
    }

    #[test]
    fn where_code_lies() {
        let rule = |path: &str| Shape::WithResources.rule(path);
        assert_eq!(rule("Frameworks/Tide.framework"), Rule::Code);
        assert_eq!(rule("MacOS/Saltmarsh Post"), Rule::Code);
        assert_eq!(rule("notes.txt"), Rule::Code);
        assert_eq!(rule("Frameworks/Tide.framework.dSYM/Contents/Info.plist"), Rule::File);
        assert_eq!(rule("Library/SystemExtensions/post.systemextension/Contents/MacOS/post"), Rule::File);
        assert_eq!(rule("Resources/fi.lproj/letter.strings"), Rule::Optional);
        assert_eq!(rule("Resources/Base.lproj/letter.strings"), Rule::File);
        assert_eq!(Shape::Flat.rule("Frameworks/Tide.framework/Tide"), Rule::File);
        assert_eq!(Shape::Flat.rule("fi.lproj/letter.strings"), Rule::Optional);
    }

    proptest! {
        #[test]
        fn the_expressions_say_what_the_code_does(
            parts in prop::collection::vec(
                prop::sample::select(vec![
                    "Resources", "MacOS", "Frameworks", "Library", "Automator", "a.lproj", "Base.lproj", "locversion.plist", "x.dSYM",
                    ".DS_Store", "Info.plist", "PkgInfo", "version.plist", "embedded.provisionprofile", "heron", ".lproj", "ä b",
                ]),
                1..5,
            ),
        ) {
            let path = parts.join("/");
            agrees(Shape::WithResources, &path);
            agrees(Shape::Flat, &path);
        }
    }
}
