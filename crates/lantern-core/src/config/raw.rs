//! The shape of `lantern.toml`, as serde reads it and as the JSON Schema describes it.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a game is, what its exports are, and where players get it.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "lantern.toml")]
pub struct Config {
    /// The game.
    pub game: Game,
    /// The exports, each under a name of your choice.
    #[serde(default)]
    pub targets: BTreeMap<String, Target>,
    /// The places where players get builds, each under a name of your choice.
    #[serde(default)]
    pub storefronts: BTreeMap<String, Storefront>,
}

/// The game.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Game {
    /// The name that players see.
    pub name: String,
    /// Who makes it.
    pub studio: String,
    /// Reverse-domain identity, kept for ever, such as "example.studio.game".
    pub identity: String,
    /// The version for people, or the file that holds it.
    pub version: Version,
}

/// A version, or the file that holds it.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Version {
    /// The version itself.
    Text(String),
    /// A text file with the version and nothing else.
    #[serde(rename_all = "kebab-case")]
    File {
        /// Path of the file, from the folder of lantern.toml.
        file: String,
    },
}

/// An export for one or several systems.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Target {
    /// Systems the export is for. Left out: seen from the start file.
    #[serde(default)]
    pub systems: Vec<String>,
    /// Folder that the engine wrote, from the folder of lantern.toml.
    pub export: String,
    /// File that starts the game. Left out: the only program at the top of the export.
    #[serde(default)]
    pub starts: Option<Starts>,
    /// Files that stay out, as patterns.
    #[serde(default)]
    pub leave_out: Vec<String>,
    /// Files without which the export is not whole, as patterns.
    #[serde(default)]
    pub must_have: Vec<String>,
    /// Files to be executable although neither their content nor being the start file shows it, as patterns.
    #[serde(default)]
    pub executable: Vec<String>,
}

/// A start file, alone or with arguments.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Starts {
    /// Path in the export.
    File(String),
    /// Path and arguments.
    #[serde(rename_all = "kebab-case")]
    Full {
        /// Path in the export.
        file: String,
        /// What it is called with.
        #[serde(default)]
        arguments: Vec<String>,
    },
}

/// What a storefront is for programs.
#[derive(Debug, Clone, Copy, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// Speaks the storefront protocol.
    Market,
}

/// A place where players get builds.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Storefront {
    /// What it is for programs.
    pub kind: Kind,
    /// Its address, such as "http://127.0.0.1:4870".
    pub address: String,
    /// What the place calls the game.
    pub handle: String,
    /// What the place calls our depots: ours = theirs.
    #[serde(default)]
    pub depots: BTreeMap<String, String>,
    /// The branches that are used there.
    #[serde(default)]
    pub branches: BTreeMap<String, Branch>,
}

/// A branch at a storefront.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Branch {
    /// Who can follow it.
    pub audience: Audience,
}

/// Who can follow a branch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Audience {
    /// All players.
    Everyone,
    /// Who knows its password.
    Password,
    /// Who was invited.
    Invited,
}

impl Audience {
    /// Returns the word used in configuration and output.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Everyone => "everyone",
            Self::Password => "password",
            Self::Invited => "invited",
        }
    }
}
