//! The id of an event.

use std::fmt;
use std::str::FromStr;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use uuid::Uuid;

/// A UUID of version 7: sorts by time, written in the usual 8-4-4-4-12 form. Source: RFC 9562, section 5.7.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct EventId(Uuid);

impl EventId {
    /// Makes an id of a time and random bytes.
    pub fn new(at: Timestamp, random: [u8; 10]) -> Self {
        let ms = u64::try_from(at.as_millisecond()).unwrap_or(0);
        Self(uuid::Builder::from_unix_timestamp_millis(ms, &random).into_uuid())
    }
}

impl fmt::Display for EventId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(&self.0.hyphenated(), f)
    }
}

impl fmt::Debug for EventId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

/// A text that is no event id.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not an id of an event")]
pub struct EventIdError(String);

impl FromStr for EventId {
    type Err = EventIdError;
    fn from_str(text: &str) -> Result<Self, EventIdError> {
        let wrong = || EventIdError(text.chars().take(80).collect());
        let id = Self(Uuid::try_parse(text).map_err(|_| wrong())?);
        // One of the forms alone: the ledger hashes texts.
        if id.to_string() == text { Ok(id) } else { Err(wrong()) }
    }
}

impl Serialize for EventId {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for EventId {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

impl JsonSchema for EventId {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "EventId".into()
    }
    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "type": "string", "format": "uuid" })
    }
}
