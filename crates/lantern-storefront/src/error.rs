//! Why a storefront did not do what was asked.

use crate::protocol::{PROTOCOL, Problem, problem};

/// Why a storefront did not do what was asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StorefrontError {
    /// No answer came. Whether the action was done is not known.
    #[error("{address} could not be reached")]
    Unreachable {
        /// The origin.
        address: String,
        /// The reason.
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// The server that answered could not prove that it is the storefront; nothing was sent.
    #[error("{address} has a certificate that is not taken: {why}")]
    Certificate {
        /// The origin.
        address: String,
        /// What is wrong with it.
        why: String,
    },
    /// The storefront refused, and said why.
    #[error("{}", .0.detail)]
    Refused(Box<Problem>),
    /// The storefront failed.
    #[error("{address} answered with status {status}")]
    Failed {
        /// The origin.
        address: String,
        /// The HTTP status.
        status: u16,
    },
    /// What came is not what the protocol says.
    #[error("{address} answered with something that is not {what}")]
    Nonsense {
        /// The origin.
        address: String,
        /// What was expected.
        what: &'static str,
        /// How it is wrong.
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// The storefront speaks another protocol.
    #[error("{address} speaks version {theirs} of the protocol, this lantern speaks {PROTOCOL}")]
    Protocol {
        /// The origin.
        address: String,
        /// Its version.
        theirs: u32,
    },
    /// The name or secret is wrong.
    #[error("{address} does not accept this name and secret")]
    WrongSecret {
        /// The origin.
        address: String,
    },
    /// Access is given and at once not accepted, again and again. Whether the action was done is not known: an earlier
    /// try of it may have got through.
    #[error("{address} gives access and does not accept it")]
    AccessNotKept {
        /// The origin.
        address: String,
    },
    /// Nobody connected here yet.
    #[error("there is no access to {address} on this computer")]
    NotConnected {
        /// The origin.
        address: String,
    },
    /// A storefront of this kind cannot do that.
    #[error("{address} cannot {what}; no storefront of its kind can")]
    Unable {
        /// Where it is.
        address: String,
        /// What it cannot do, as a verb.
        what: &'static str,
    },
    /// Something is too long for one request, and pieces are not taken.
    #[error("{address} takes no pieces, and this is too long to be sent at once")]
    NoPieces {
        /// The origin.
        address: String,
    },
    /// What is to be sent could not be read.
    #[error("what is sent to {address} could not be read")]
    NotRead {
        /// The origin.
        address: String,
        /// Why.
        #[source]
        source: std::io::Error,
    },
    /// Someone asked to stop.
    #[error("nothing is half done")]
    Stopped,
    /// Someone asked to stop while an answer was waited for. Whether the action was done is not known.
    #[error("it was stopped before {address} answered")]
    Unanswered {
        /// The origin.
        address: String,
    },
}

impl StorefrontError {
    /// Whether the storefront refused for this reason.
    pub fn is(&self, kind: problem::Kind) -> bool {
        matches!(self, Self::Refused(problem) if problem.is(kind))
    }
}
