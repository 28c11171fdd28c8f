//! Who can follow a branch.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::names::Word;

/// Who can follow a branch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Audience {
    /// All players.
    Everyone,
    /// Who has an invitation.
    Invited,
    /// Some others, as a newer storefront has it.
    #[serde(untagged)]
    #[schemars(skip)]
    Other(Word),
}

impl Audience {
    /// Returns the word used in configuration and output.
    pub fn name(&self) -> &str {
        match self {
            Self::Everyone => "everyone",
            Self::Invited => "invited",
            Self::Other(word) => word.as_str(),
        }
    }

    /// Whether it may be that every player follows: so it is where nobody here knows who does.
    pub const fn may_be_everyone(self) -> bool {
        !matches!(self, Self::Invited)
    }
}
