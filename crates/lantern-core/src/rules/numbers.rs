//! `numbers`: versions and numbers.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Push, Refusal, Section};

/// Versions and numbers.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Numbers {
    /// What is asked of a build number.
    pub number: NumberRule,
}

/// What is asked of a build number.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum NumberRule {
    /// Any number, once.
    Free,
    /// Higher than every number there.
    MustRise,
    /// A rule that this code does not know.
    #[serde(untagged)]
    #[schemars(skip)]
    Unknown(String),
}

impl Section for Numbers {
    fn words_not_understood(&self) -> Vec<String> {
        match &self.number {
            NumberRule::Unknown(word) => vec![format!("numbers.number = {word:?}")],
            _ => Vec::new(),
        }
    }

    fn refuse_push(&self, push: &Push<'_>) -> Vec<Refusal> {
        let number = push.number;
        let fix = "prepare again: the next number will be above all that are there";
        if let Some(same) = push.there.iter().find(|r| r.number == number) {
            let what = format!("the number {number} is taken there by another release, {same}");
            return vec![Refusal::new("number-taken", what, fix)];
        }
        let highest = push.there.iter().max_by_key(|r| r.number).filter(|highest| highest.number > number);
        match highest.filter(|_| self.number == NumberRule::MustRise) {
            Some(highest) => {
                let what = format!("the number {number} is not above {}, the highest there", highest.number);
                vec![Refusal::new("number-not-raised", what, fix)]
            }
            None => Vec::new(),
        }
    }
}
