//! How hard it is tried to make files short. What is stored says nothing of it.

use schemars::JsonSchema;
use serde::Deserialize;

/// As someone chooses it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Compression {
    /// As fast as files can be read.
    #[default]
    Fast,
    /// As small as it is worth: some twenty times the work for 5 to 12 per cent less.
    Small,
}
