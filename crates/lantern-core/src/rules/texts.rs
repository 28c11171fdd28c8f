//! `texts`: what comes along with a build.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Push, Refusal, Section};

/// What comes along with a build.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Texts {
    /// Longest notes for players, in characters of one language.
    pub notes_max: u64,
}

impl Section for Texts {
    fn refuse_push(&self, push: &Push<'_>) -> Vec<Refusal> {
        let max = self.notes_max;
        let len = |text: &str| text.chars().count() as u64;
        let long = push.notes.iter().filter(|(_, text)| len(text) > max);
        let refusal = |(language, text): (&str, &str)| {
            let what = format!("the notes ({language}) have {} characters, {max} are taken", len(text));
            Refusal::new("notes-too-long", what, format!("shorten them by {}", len(text) - max))
        };
        long.map(refusal).collect()
    }
}
