//! A step that a person does at a storefront, and what is read back there.

use jiff::{SignedDuration, Span, SpanRelativeTo};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::names::Name;

/// The key under which the storefront's own number is read back.
pub const NUMBER_THERE: &str = "number-there";

/// What such keys begin with that stand for the number of one target; the target's name follows.
pub const NUMBER_OF: &str = "number-there-";

/// Reads a length of time such as `6 days`, of at most a year; days have 24 hours.
pub fn length_of_time(text: &str) -> Option<SignedDuration> {
    let span: Span = text.parse().ok()?;
    let time = span.to_duration(SpanRelativeTo::days_are_24_hours()).ok()?;
    (time.is_positive() && time <= SignedDuration::from_hours(24 * 366)).then_some(time)
}

/// A step of one action, as it was when the action began. In its texts only what is read back is still in braces.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Step {
    /// Its name in commands.
    pub id: Name,
    /// What to do.
    pub text: String,
    /// An address to open.
    #[serde(default)]
    pub open: Option<String>,
    /// Whether the files that were laid out are needed.
    #[serde(default)]
    pub files: bool,
    /// Texts to copy.
    #[serde(default)]
    pub paste: Vec<Paste>,
    /// What is read there and noted here.
    #[serde(default)]
    pub read_back: Vec<ReadBack>,
    /// How long it usually takes, in seconds.
    #[serde(default)]
    pub takes: Option<u64>,
    /// Whose step it is.
    #[serde(default)]
    pub by: Option<String>,
    /// Whether it is done when they have answered.
    #[serde(default)]
    pub waits: bool,
    /// Whether players lose the old files with it.
    #[serde(default)]
    pub removes_old: bool,
    /// Whether players get the new files with it.
    #[serde(default)]
    pub brings_new: bool,
}

/// A text to copy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[schemars(extend("additionalProperties" = false))]
pub struct Paste {
    /// The field that it goes into.
    pub field: String,
    /// What goes there; in a file of rules with values in braces.
    pub text: String,
}

/// Something that is read there and noted here.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[schemars(extend("additionalProperties" = false))]
pub struct ReadBack {
    /// Its name in commands and templates; `number-there` is the storefront's own number, `number-there-TARGET` that of one target.
    pub key: Name,
    /// What is asked for.
    pub ask: String,
    /// What the answer looks like. Left out: any text.
    #[serde(default)]
    pub form: AnswerForm,
    /// Whether the answer may be left empty.
    #[serde(default)]
    pub optional: bool,
}

/// What an answer looks like.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AnswerForm {
    /// Any text.
    #[default]
    Text,
    /// Digits alone.
    Digits,
    /// An address that begins with http:// or https://.
    Address,
    /// A day, such as 2026-12-03.
    Date,
    /// A form that only a newer lantern knows: any text is taken.
    #[serde(untagged)]
    #[schemars(skip)]
    Other(String),
}

/// Longest answer, in characters. Ours.
pub const MAX_ANSWER: usize = 500;

/// Why an answer is not one.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{text:?} is not {wanted}")]
pub struct AnswerError {
    /// What was given.
    text: String,
    /// What it should be.
    wanted: &'static str,
}

impl ReadBack {
    /// Checks an answer, and returns it as it is kept; none for an empty one that may be empty.
    ///
    /// # Errors
    /// [`AnswerError`].
    pub fn check(&self, text: &str) -> Result<Option<String>, AnswerError> {
        let text = text.trim();
        let wrong = |wanted| Err(AnswerError { text: text.chars().take(80).collect(), wanted });
        if text.is_empty() {
            return if self.optional { Ok(None) } else { wrong("an answer") };
        }
        if text.chars().count() > MAX_ANSWER || text.chars().any(char::is_control) {
            return wrong("one line of at most 500 characters");
        }
        // The storefront's own number orders builds there, so it is one wherever it is asked for.
        let is_number = self.key.as_str() == NUMBER_THERE || self.key.as_str().starts_with(NUMBER_OF);
        let form = if is_number { &AnswerForm::Digits } else { &self.form };
        let is_address = |scheme| {
            let rest = text.strip_prefix(scheme);
            rest.is_some_and(|rest: &str| !rest.is_empty() && !rest.contains(char::is_whitespace))
        };
        match form {
            AnswerForm::Digits if !text.bytes().all(|b| b.is_ascii_digit()) || text.parse::<u64>().is_err() => {
                wrong("a number: digits and nothing else")
            }
            AnswerForm::Address if !["http://", "https://"].into_iter().any(is_address) => {
                wrong("an address such as https://old-pier.example/berths/12")
            }
            AnswerForm::Date if text.parse::<jiff::civil::Date>().is_err() => wrong("a day such as 2026-12-03"),
            _ => Ok(Some(text.to_owned())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_has_its_form() {
        let check = |key: &str, form, optional, text: &str| {
            ReadBack { key: key.parse().unwrap(), ask: "?".into(), form, optional }.check(text)
        };
        use AnswerForm::*;
        for (form, good, bad) in [
            (Digits, "0012", "12a"),
            (Digits, "18446744073709551615", "18446744073709551616"),
            (Address, "https://old-pier.example/12", "old-pier.example"),
            (Address, "http://a", "https://"),
            (Date, "2026-12-03", "3.12.2026"),
            (Text, "berth 12, left", "two\nlines"),
        ] {
            assert_eq!(check("berth", form.clone(), false, &format!(" {good} ")), Ok(Some(good.to_owned())));
            assert!(check("berth", form, false, bad).is_err(), "{bad}");
        }
        assert!(check(NUMBER_THERE, Text, false, "twelve").is_err());
        assert!(check("berth", Text, false, " ").is_err());
        assert_eq!(check("berth", Digits, true, " "), Ok(None));
        assert!(check("berth", Text, false, &"x".repeat(MAX_ANSWER)).is_ok());
        assert!(check("berth", Text, false, &"x".repeat(MAX_ANSWER + 1)).is_err());
    }
}
