//! Time stamps: an authority states when a signature was there, so that it holds when its certificate is over. Source: RFC 3161,
//! sections 2.4 and 2.2 (<https://www.rfc-editor.org/rfc/rfc3161>).
//!
//! How a request travels is not known here: [`Authority`] is handed in.

use lantern_formats::hash::Hash;
use lantern_formats::message::TimeStamp;
use lantern_keys::der::{self, Reader};

use crate::SignError;
use crate::message::{attribute, sha256};

/// Longest answer that is read, in bytes. Ours: real ones have some five kilobytes.
pub const MAX_REPLY_LEN: u64 = 1024 * 1024;

/// Who states the time of a signature.
pub trait Authority: std::fmt::Debug + Send + Sync {
    /// Its name, as people know it: its address.
    fn name(&self) -> String;

    /// Sends a request, and returns what came back.
    ///
    /// # Errors
    /// Why nothing came back.
    fn ask(&self, request: &[u8]) -> Result<Vec<u8>, Unreachable>;
}

/// Why an authority did not answer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{why}")]
pub struct Unreachable {
    /// In words.
    pub why: String,
    /// Whether someone asked to stop.
    pub is_stopped: bool,
}

/// Why there is no time stamp.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum StampError {
    /// The authority did not answer.
    #[error("the time-stamp authority {name} did not answer: {why}")]
    Unreachable {
        /// Who.
        name: String,
        /// Why.
        why: Unreachable,
    },
    /// It answered that it does not.
    #[error("the time-stamp authority {name} refused: {why}")]
    Refused {
        /// Who.
        name: String,
        /// What it said.
        why: String,
    },
    /// What came back is not what was asked for.
    #[error("what the time-stamp authority {name} sent cannot be used: {why}")]
    Lying {
        /// Who.
        name: String,
        /// What is wrong with it.
        why: String,
    },
}

impl StampError {
    /// Whether nobody answered: that passes.
    pub fn is_unreachable(&self) -> bool {
        matches!(self, Self::Unreachable { .. })
    }
}

/// Asks for the time stamp of a signature, and verifies what comes back: that it is of this signature, of this request, and as its
/// authority signed it. Returns it as DER.
///
/// # Errors
/// [`StampError`].
pub fn of(signature: &[u8], authority: &dyn Authority, nonce: [u8; 8]) -> Result<Vec<u8>, StampError> {
    let name = authority.name();
    let reply = authority.ask(&request(signature, nonce));
    let reply = reply.map_err(|why| StampError::Unreachable { name: name.clone(), why })?;
    let lying = |why: String| StampError::Lying { name: name.clone(), why };
    let answer = Answer::read(&reply).map_err(|_| lying("it is no answer to a request for a time stamp".to_owned()))?;
    let token = match answer {
        Answer::Token(token) => token,
        Answer::Refused(why) => return Err(StampError::Refused { name, why }),
    };
    let stamp = TimeStamp::read(&token).map_err(&lying)?;
    if !stamp.covers(signature) {
        return Err(lying("it is of another signature".to_owned()));
    }
    let wanted = nonce.iter().position(|byte| *byte != 0).and_then(|first| nonce.get(first..)).unwrap_or_default();
    if stamp.nonce.as_deref() != Some(wanted) {
        return Err(lying("it answers another request (its nonce differs)".to_owned()));
    }
    Ok(token)
}

/// The attribute with a time stamp that stands next to a signature, by the name that a format has for it; nothing where no authority is asked.
pub(crate) fn beside(signature: &[u8], authority: Option<&dyn Authority>, name: &[u8]) -> Result<Vec<u8>, SignError> {
    let Some(authority) = authority else { return Ok(Vec::new()) };
    let mut nonce = [0; 8];
    getrandom::fill(&mut nonce).map_err(|_| SignError::Key(lantern_keys::KeyError::NoRandom))?;
    let token = of(signature, authority, nonce).map_err(|error| match error {
        StampError::Unreachable { why, .. } if why.is_stopped => SignError::Stopped,
        other => SignError::Stamp(other),
    })?;
    Ok(attribute(name, &token))
}

fn request(signature: &[u8], nonce: [u8; 8]) -> Vec<u8> {
    let imprint = der::sequence(&[&sha256(), &der::value(der::OCTET_STRING, &[&Hash::Sha256.digest(signature)])]);
    // The authority's certificate is to come with it: what verifies it later may not have it.
    let with_certificate = der::value(0x01, &[&[0xff]]);
    der::sequence(&[&der::integer(1), &imprint, &der::unsigned(&nonce), &with_certificate]).to_vec()
}

enum Answer {
    Token(Vec<u8>),
    Refused(String),
}

/// What the bits of a failure mean (section 2.4.2).
const FAILURES: [(usize, &str); 8] = [
    (0, "it does not know the hash function"),
    (2, "it does not take such requests"),
    (5, "the request could not be read"),
    (14, "its clock is not available"),
    (15, "it does not know the policy"),
    (16, "it does not know an extension"),
    (17, "something that was asked for is not available"),
    (25, "something is wrong with it"),
];

impl Answer {
    fn read(reply: &[u8]) -> Result<Self, der::Malformed> {
        const WHAT: &str = "the answer";
        let mut answer = Reader::new(reply).inside(der::SEQUENCE, WHAT)?;
        let mut status = answer.inside(der::SEQUENCE, WHAT)?;
        // Granted, and granted with changes.
        if let 0 | 1 = status.number(WHAT)? {
            return Ok(Self::Token(answer.whole(WHAT)?.to_vec()));
        }
        let mut why = Vec::new();
        if status.tag() == Some(der::SEQUENCE) {
            let mut texts = status.inside(der::SEQUENCE, WHAT)?;
            while !texts.is_empty() {
                why.push(String::from_utf8_lossy(texts.bytes(der::UTF8_STRING, WHAT)?).into_owned());
            }
        }
        if status.tag() == Some(der::BIT_STRING) {
            let bits = status.bytes(der::BIT_STRING, WHAT)?.get(1..).unwrap_or_default();
            let is_set = |bit: usize| bits.get(bit / 8).is_some_and(|byte| byte & (0x80 >> (bit % 8)) != 0);
            why.extend(FAILURES.iter().filter(|(bit, _)| is_set(*bit)).map(|(_, says)| (*says).to_owned()));
        }
        if why.is_empty() {
            why.push("it did not say why".to_owned());
        }
        Ok(Self::Refused(why.join("; ")))
    }
}
