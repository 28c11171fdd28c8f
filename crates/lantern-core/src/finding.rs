//! Findings: what is wrong, where, and what to do about it.

mod catalogue;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::path::{TreePath, shown};
use crate::redact::without_values;

pub use catalogue::{Code, Explanation, UnknownCode};

/// How much a finding weighs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth knowing.
    Note,
    /// Probably wrong; work continues.
    Warning,
    /// Wrong; work stops.
    Error,
}

impl Severity {
    /// As it is written.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Note => "note",
            Self::Warning => "warning",
            Self::Error => "error",
        }
    }
}

/// A place in a text file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct TextPlace {
    /// The file, as it was named.
    pub file: String,
    /// From 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    /// The whole line, with hidden characters escaped and without values that are secret by their names.
    pub text: String,
    /// How many characters of the line are meant, at least 1.
    pub len: usize,
}

impl TextPlace {
    /// Finds line and column of a span of bytes. A span that reaches over the line's end is cut there.
    pub fn of(file: &str, text: &str, span: std::ops::Range<usize>) -> Self {
        let mut start = span.start.min(text.len());
        while !text.is_char_boundary(start) {
            start -= 1;
        }
        let (before, after) = text.split_at(start);
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        let line_end = start + after.find('\n').unwrap_or(after.len());
        let whole = text[line_start..line_end].trim_end_matches('\r');
        let left = shown(&text[line_start..start]).replace('\t', " ");
        let end = span.end.clamp(start, line_start + whole.len().max(start - line_start));
        let meant = text.get(start..end).map_or(1, |t| shown(t).chars().count());
        Self {
            file: file.to_owned(),
            line: before.matches('\n').count() + 1,
            column: left.chars().count() + 1,
            text: shown(&without_values(&whole.replace('\t', " "))),
            len: meant.max(1),
        }
    }
}

/// One thing that is wrong or worth knowing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Finding {
    /// A stable word for programs, such as `unknown-key`.
    pub code: Code,
    /// How much it weighs.
    pub severity: Severity,
    /// Where, when it is in a text file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<TextPlace>,
    /// One sentence that says what is wrong.
    pub what: String,
    /// What to do about it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fix: Option<String>,
    /// The files of the export that it is about, where it is about files.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub paths: Vec<String>,
}

impl Finding {
    /// Makes a finding that weighs as its code does: what is wrong, and how to fix it.
    pub fn of(code: Code, what: impl Into<String>, fix: impl Into<String>) -> Self {
        Self { severity: code.severity(), fix: Some(fix.into()), ..Self::note(code, what) }
    }

    /// Makes a finding that is only worth knowing.
    pub fn note(code: Code, what: impl Into<String>) -> Self {
        Self { code, severity: Severity::Note, place: None, what: what.into(), fix: None, paths: Vec::new() }
    }

    /// Whether it is about what happened while something was prepared: nobody finds it again later.
    pub const fn is_of_now(&self) -> bool {
        matches!(self.code, Code::StoreDamaged | Code::StaleLedgerCopy)
    }

    /// Lets it weigh more or less than others of its code.
    #[must_use]
    pub fn with_severity(mut self, severity: Severity) -> Self {
        self.severity = severity;
        self
    }

    /// Adds the files that it is about.
    #[must_use]
    pub fn about<'a>(mut self, paths: impl IntoIterator<Item = &'a TreePath>) -> Self {
        self.paths = paths.into_iter().map(|path| path.as_str().to_owned()).collect();
        self
    }

    /// Adds the place.
    #[must_use]
    pub fn at(mut self, place: TextPlace) -> Self {
        self.place = Some(place);
        self
    }
}

/// Names things in a sentence: the first of them, and how many more there are.
#[expect(clippy::indexing_slicing, reason = "not more than there are")]
pub fn join_some(names: &[String], most: usize) -> String {
    let more = names.len().saturating_sub(most);
    let first = names[..names.len().min(most)].join(", ");
    if more > 0 { format!("{first} and {more} more") } else { first }
}

/// What there is to choose from, as a fix says it.
pub fn one_of<T: std::fmt::Display>(names: &[T]) -> String {
    match names {
        [] => "there is none yet".to_owned(),
        [one] => format!("the only one is {one}"),
        several => format!("one of {}", several.iter().map(T::to_string).collect::<Vec<_>>().join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_there_is_to_choose_from() {
        assert_eq!(one_of::<&str>(&[]), "there is none yet");
        assert_eq!(one_of(&["public"]), "the only one is public");
        assert_eq!(one_of(&["creek", "open-water"]), "one of creek, open-water");
    }

    #[test]
    fn a_place_is_counted_in_characters_from_one() {
        let text = "first\n  ключ = 1\nlast";
        let at = text.find("ключ").unwrap();
        let place = TextPlace::of("x.toml", text, at..at + 8);
        assert_eq!((place.line, place.column, place.len), (2, 3, 4));
        assert_eq!(place.text, "  ключ = 1");
    }

    #[test]
    fn spans_that_make_no_sense_do_no_harm() {
        for span in [0..0, 5..5, 3..900, 900..901] {
            let place = TextPlace::of("x", "ab\ncd", span);
            assert!(place.len >= 1 && place.line >= 1 && place.column >= 1);
        }
        assert_eq!(TextPlace::of("x", "", 0..9).line, 1);
        assert_eq!(TextPlace::of("x", "a\u{1b}b\r\nc", 0..1).text, "a\\u{1b}b");
    }

    #[test]
    fn the_first_of_many() {
        let names = ["a", "b", "c"].map(str::to_owned);
        assert_eq!(join_some(&names, 3), "a, b, c");
        assert_eq!(join_some(&names, 1), "a and 2 more");
        assert_eq!(join_some(&[], 1), "");
    }
}
