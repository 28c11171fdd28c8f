//! Patterns of paths: `*` within a name, `**` over folders, `?`, `[a-z]`, `{a,b}`.

use std::sync::OnceLock;

use globset::{Glob, GlobBuilder, GlobSet, GlobSetBuilder};

use crate::path::TreePath;

/// A pattern that is not one.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{pattern:?} is not a pattern: {why}")]
pub struct PatternError {
    pattern: String,
    why: String,
}

/// Longest texts together, in bytes, whose patterns are put together when they are first needed. Ours: far below what could be refused.
const MAX_LATER: usize = 1024;

/// Several patterns over paths of a tree. Letter case counts on every system.
#[derive(Debug, Clone, Default)]
pub struct Patterns {
    texts: Vec<String>,
    globs: Vec<Glob>,
    /// Put together when they are first needed: most commands need none of a configuration's.
    set: OnceLock<GlobSet>,
}

impl Patterns {
    /// Reads patterns.
    ///
    /// # Errors
    /// [`PatternError`] for the first that is none.
    pub fn new<'a>(texts: impl IntoIterator<Item = &'a str>) -> Result<Self, PatternError> {
        let mut patterns = Self::default();
        for text in texts {
            let wrong = |why: String| PatternError { pattern: text.to_owned(), why };
            let glob = GlobBuilder::new(text)
                .literal_separator(true)
                .backslash_escape(false)
                .build()
                .map_err(|e| wrong(e.kind().to_string()))?;
            patterns.globs.push(glob);
            patterns.texts.push(text.to_owned());
        }
        if patterns.texts.iter().map(String::len).sum::<usize>() > MAX_LATER {
            let together = together(&patterns.globs);
            let wrong =
                |e: globset::Error| PatternError { pattern: patterns.texts.join(", "), why: e.kind().to_string() };
            patterns.set = OnceLock::from(together.map_err(wrong)?);
        }
        Ok(patterns)
    }

    fn set(&self) -> &GlobSet {
        self.set.get_or_init(|| together(&self.globs).expect("each is a pattern, and they are short"))
    }

    /// Whether any pattern means this path.
    pub fn matches(&self, path: &TreePath) -> bool {
        self.set().is_match(path.as_str())
    }

    /// Whether any pattern means this word, such as a system's name.
    pub fn matches_word(&self, word: &str) -> bool {
        self.set().is_match(word)
    }

    /// Whether there is no pattern at all.
    pub fn is_empty(&self) -> bool {
        self.texts.is_empty()
    }

    /// Whether any pattern means this path or a folder that it lies in.
    pub fn covers(&self, path: &TreePath) -> bool {
        self.set().is_match(path.as_str()) || path.parents().any(|parent| self.set().is_match(parent))
    }

    /// Returns the patterns as they were written.
    pub fn texts(&self) -> &[String] {
        &self.texts
    }

    /// Returns the patterns that mean none of the paths, as they were written.
    #[expect(clippy::indexing_slicing, reason = "there is one for each pattern")]
    pub fn without_match<'a>(&self, paths: impl IntoIterator<Item = &'a TreePath>) -> Vec<&str> {
        let mut met = vec![false; self.texts.len()];
        for path in paths {
            for i in self.set().matches(path.as_str()) {
                met[i] = true;
            }
        }
        self.texts.iter().zip(met).filter(|(_, met)| !met).map(|(text, _)| text.as_str()).collect()
    }
}

fn together(globs: &[Glob]) -> Result<GlobSet, globset::Error> {
    let mut builder = GlobSetBuilder::new();
    for glob in globs {
        builder.add(glob.clone());
    }
    builder.build()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stars_and_folders() {
        let patterns = Patterns::new(["notes/**", "*.pdb", "data/*/a?.txt"]).unwrap();
        let case = |path: &str| patterns.matches(&TreePath::new(path).unwrap());
        assert!(case("notes/a/b.txt"));
        assert!(case("game.pdb"));
        assert!(!case("bin/game.pdb"), "a star stays within a name");
        assert!(!case("Notes/a"), "letter case counts");
        assert!(case("data/x/a1.txt"));
        assert!(!case("data/x/y/a1.txt"));
    }

    /// Whatever can be written into a short list is put together later without an error; a long one is at once.
    #[test]
    fn every_short_list_can_be_put_together() {
        let parts = [
            ("?", "x", true),
            ("*", "x", true),
            ("[!a-z]", "x", false),
            ("[a-z0-9]", "x", true),
            ("{a,b}", "b", true),
            ("{?y,x?,[!x]}", "xy", true),
            ("name", "names", false),
            ("é", "é", true),
        ];
        for (part, word, means) in parts {
            let longest = part.repeat(MAX_LATER / part.len());
            for (texts, word) in [
                (vec![longest.as_str()], word.repeat(MAX_LATER / part.len())),
                (vec![part; MAX_LATER / part.len()], word.to_owned()),
            ] {
                let patterns = Patterns::new(texts).unwrap();
                assert!(patterns.set.get().is_none(), "{part}");
                assert_eq!(patterns.matches_word(&word), means, "{part} of {word:?}");
            }
        }
        let long = vec!["saves/*.old"; 1_000];
        let patterns = Patterns::new(long).unwrap();
        assert!(patterns.set.get().is_some() && patterns.matches_word("saves/a.old"));
    }

    #[test]
    fn what_matches_nothing_is_named() {
        let patterns = Patterns::new(["a", "b/*"]).unwrap();
        let paths = [TreePath::new("a").unwrap()];
        assert_eq!(patterns.without_match(&paths), ["b/*"]);
        assert!(Patterns::new(["[z-a]"]).is_err());
    }
}
