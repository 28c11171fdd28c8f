//! What became of a bundle that a system's vendor has to look at.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::EventId;
use crate::names::Name;
use crate::version::Version;

/// See [`super::EventBody::ApprovalSaid`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ApprovalSaid {
    /// Of `[approvals.NAME]`.
    pub approval: Name,
    /// Whose bundle.
    pub target: Name,
    /// Of which version. The release itself has no identity before it is sealed.
    pub version: Version,
    /// The same in everything that is said of what was handed over once.
    pub attempt: EventId,
    /// When it was handed over.
    pub since: Timestamp,
    /// How it stands.
    #[serde(flatten)]
    pub standing: ApprovalStanding,
}

/// How it stands with an approval.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "standing")]
pub enum ApprovalStanding {
    /// It was handed over, or lies ready for the one who hands it over.
    Waiting {
        /// When it has usually been answered by.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        due: Option<Timestamp>,
    },
    /// The ticket is there.
    Approved {
        /// Its SHA-256, in hexadecimal digits.
        ticket: String,
    },
    /// It was refused.
    Refused {
        /// Why.
        because: String,
    },
    /// Something that a newer lantern says.
    #[serde(untagged)]
    Other(Value),
}
