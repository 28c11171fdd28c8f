//! What is new, as players read it: in one language or several.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};

/// The tag of text whose language nobody named. Source: RFC 5646, section 4.1.
pub const UNDETERMINED: &str = "und";
/// Longest text of all languages together, in bytes. Ours.
pub const MAX_LEN: u64 = 256 * 1024;

/// Notes by language, each tag as RFC 5646 writes it, such as `en` or `pt-BR`; `und` where none was named.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(transparent)]
pub struct Notes(BTreeMap<String, String>);

/// Why a text is not notes.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NotesError {
    /// A heading is no language.
    #[error("line {line}: {text:?} is not a language, such as \"en\" or \"pt-BR\"")]
    Language {
        /// From 1.
        line: usize,
        /// The heading.
        text: String,
    },
    /// A language has two headings.
    #[error("line {line}: {language} has a heading already")]
    Twice {
        /// From 1.
        line: usize,
        /// The language.
        language: String,
    },
    /// A language has no text.
    #[error("there is nothing under the heading {0}")]
    Empty(String),
    /// Text stands before the first heading.
    #[error("line {0} comes before the first heading; a heading is a line such as \"# en\"")]
    Before(usize),
    /// Nothing at all.
    #[error("there is no text")]
    Nothing,
}

/// Whether a text is shaped as a language tag. Source: RFC 5646, sections 2.1 and 4.4.1.
pub fn is_language(text: &str) -> bool {
    let part = |part: &str| (1..=8).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_alphanumeric());
    let mut parts = text.split('-');
    let first = parts.next().is_some_and(|p| (2..=8).contains(&p.len()) && p.bytes().all(|b| b.is_ascii_alphabetic()));
    text.len() <= 35 && first && parts.all(part)
}

impl Notes {
    /// Notes in one language that is not named; none of an empty text.
    pub fn plain(text: &str) -> Self {
        let text = text.trim();
        let one = (!text.is_empty()).then(|| (UNDETERMINED.to_owned(), text.to_owned()));
        Self(one.into_iter().collect())
    }

    /// Reads a file: a heading `# LANGUAGE` for each language, and its text below. A file without headings is one text.
    ///
    /// # Errors
    /// [`NotesError`] with the line.
    pub fn read(text: &str) -> Result<Self, NotesError> {
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let heading = |line: &str| line.strip_prefix("# ").map(|rest| rest.trim().to_owned());
        if !text.lines().any(|line| heading(line).is_some()) {
            let notes = Self::plain(text);
            return if notes.is_empty() { Err(NotesError::Nothing) } else { Ok(notes) };
        }
        let mut languages: BTreeMap<String, String> = BTreeMap::new();
        let mut current: Option<String> = None;
        for (line, number) in text.lines().zip(1..) {
            match (heading(line), &current) {
                (Some(language), _) if !is_language(&language) => {
                    return Err(NotesError::Language { line: number, text: language.chars().take(80).collect() });
                }
                (Some(language), _) => {
                    if languages.insert(language.clone(), String::new()).is_some() {
                        return Err(NotesError::Twice { line: number, language });
                    }
                    current = Some(language);
                }
                (None, Some(language)) => {
                    if let Some(text) = languages.get_mut(language) {
                        text.push_str(line);
                        text.push('\n');
                    }
                }
                (None, None) if line.trim().is_empty() => {}
                (None, None) => return Err(NotesError::Before(number)),
            }
        }
        for (language, text) in &mut languages {
            *text = text.trim().to_owned();
            if text.is_empty() {
                return Err(NotesError::Empty(language.clone()));
            }
        }
        Ok(Self(languages))
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Each language with its text, in the order of the tags.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &str)> {
        self.0.iter().map(|(language, text)| (language.as_str(), text.as_str()))
    }
}

impl<'de> Deserialize<'de> for Notes {
    /// One text stands for one whose language is not named.
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Form {
            None(()),
            One(String),
            Each(BTreeMap<String, String>),
        }
        Ok(match Form::deserialize(deserializer)? {
            Form::None(()) => Self::default(),
            Form::One(text) => Self::plain(&text),
            Form::Each(languages) => Self(languages),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_heading_for_each_language() {
        let notes = Notes::read("\u{feff}\n# en\nThe lighthouse is lit.\n\n# de\nDer Turm\nleuchtet.\n").unwrap();
        let all: Vec<_> = notes.iter().collect();
        assert_eq!(all, [("de", "Der Turm\nleuchtet."), ("en", "The lighthouse is lit.")]);
        assert_eq!(Notes::read("The lighthouse is lit.\n").unwrap(), Notes::plain("The lighthouse is lit."));
    }

    #[test]
    fn what_is_wrong_is_named_with_its_line() {
        let wrong = |text: &str| Notes::read(text).unwrap_err().to_string();
        assert_eq!(wrong(""), "there is no text");
        assert!(wrong("hello\n# en\nx").starts_with("line 1 comes before"));
        assert!(wrong("# en\nx\n# what is new\ny").starts_with("line 3: \"what is new\" is not a language"));
        assert_eq!(wrong("# en\nx\n# en\ny"), "line 3: en has a heading already");
        assert_eq!(wrong("# en\n\n# de\nx"), "there is nothing under the heading en");
    }

    #[test]
    fn one_text_is_read_as_one_of_no_language() {
        let read = |json: &str| serde_json::from_str::<Notes>(json).unwrap();
        assert_eq!(read("\"lit\""), Notes::plain("lit"));
        assert!(read("null").is_empty());
        assert_eq!(serde_json::to_string(&read(r#"{"en":"lit"}"#)).unwrap(), r#"{"en":"lit"}"#);
    }
}
