//! Patterns of paths: `*` within a name, `**` over folders, `?`, `[a-z]`, `{a,b}`.

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};

use crate::path::TreePath;

/// A pattern that is not one.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{pattern:?} is not a pattern: {why}")]
pub struct PatternError {
    pattern: String,
    why: String,
}

/// Several patterns over paths of a tree. Letter case counts on every system.
#[derive(Debug, Clone, Default)]
pub struct Patterns {
    texts: Vec<String>,
    set: GlobSet,
}

impl Patterns {
    /// Reads patterns.
    ///
    /// # Errors
    /// [`PatternError`] for the first that is none.
    pub fn new<'a>(texts: impl IntoIterator<Item = &'a str>) -> Result<Self, PatternError> {
        let mut builder = GlobSetBuilder::new();
        let mut kept = Vec::new();
        for text in texts {
            let wrong = |why: String| PatternError { pattern: text.to_owned(), why };
            let glob = GlobBuilder::new(text)
                .literal_separator(true)
                .backslash_escape(false)
                .build()
                .map_err(|e| wrong(e.kind().to_string()))?;
            builder.add(glob);
            kept.push(text.to_owned());
        }
        let set = builder.build().map_err(|e| PatternError { pattern: kept.join(", "), why: e.kind().to_string() })?;
        Ok(Self { texts: kept, set })
    }

    /// Whether any pattern means this path.
    pub fn matches(&self, path: &TreePath) -> bool {
        self.set.is_match(path.as_str())
    }

    /// Whether any pattern means this word, such as a system's name.
    pub fn matches_word(&self, word: &str) -> bool {
        self.set.is_match(word)
    }

    /// Whether there is no pattern at all.
    pub fn is_empty(&self) -> bool {
        self.texts.is_empty()
    }

    /// Whether any pattern means this path or a folder that it lies in.
    pub fn covers(&self, path: &TreePath) -> bool {
        self.set.is_match(path.as_str()) || path.parents().any(|parent| self.set.is_match(parent))
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
            for i in self.set.matches(path.as_str()) {
                met[i] = true;
            }
        }
        self.texts.iter().zip(met).filter(|(_, met)| !met).map(|(text, _)| text.as_str()).collect()
    }
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

    #[test]
    fn what_matches_nothing_is_named() {
        let patterns = Patterns::new(["a", "b/*"]).unwrap();
        let paths = [TreePath::new("a").unwrap()];
        assert_eq!(patterns.without_match(&paths), ["b/*"]);
        assert!(Patterns::new(["[z-a]"]).is_err());
    }
}
