//! The shape of a file of rules, as serde reads it and as the JSON Schema describes it.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Deserialize;

use super::HandForm;
use crate::rules::{Accepted, Branches, Numbers};
use crate::step::{Paste, ReadBack};

/// What a storefront without an interface for programs wants, and what a person does there.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "rules of a storefront by hand")]
pub struct Rules {
    /// The storefront's name for people. Left out: as lantern.toml calls it.
    #[serde(default)]
    pub name: Option<String>,
    /// Address at which people open it.
    #[serde(default)]
    pub address: Option<String>,
    /// How long it usually takes until they answer, such as "6 days".
    #[serde(default)]
    pub usual_wait: Option<String>,
    /// Whether the old file has to be removed before the new one may come. Players have nothing in between.
    #[serde(default)]
    pub one_at_a_time: bool,
    /// Longest notes for players that are taken there, in characters of one language. Left out: any length.
    #[serde(default)]
    pub notes_max: Option<u64>,
    /// Branch whose players get a release with the push, where there is no step in between.
    #[serde(default)]
    pub live_on_push: Option<String>,
    /// What is handed over, by target; "*" for all others. Left out: a ZIP archive for each target.
    #[serde(default)]
    pub hand_over: BTreeMap<String, HandOver>,
    /// What a person does, by action. An action without steps has one that says it in a sentence.
    #[serde(default)]
    pub steps: Steps,
    /// What is taken there. Left out: everything.
    #[serde(default)]
    pub accepted: Option<Accepted>,
    /// What is asked of numbers. Left out: nothing.
    #[serde(default)]
    pub numbers: Option<Numbers>,
    /// The branches there. Left out: those of lantern.toml.
    #[serde(default)]
    pub branches: Option<Branches>,
}

/// What is handed over of a target.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct HandOver {
    /// Its form. Left out: zip.
    #[serde(default)]
    pub form: Option<HandForm>,
    /// Name of the file or folder, with values in braces. Left out: "{game.name} {release.version} {target}".
    #[serde(default)]
    pub name: Option<String>,
    /// Name of the one folder that everything lies in. Left out: everything lies on top.
    #[serde(default)]
    pub top: Option<String>,
    /// Patterns of files that must be in it.
    #[serde(default)]
    pub must_have: Vec<String>,
}

/// What a person does, by action.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Steps {
    /// To bring a release there.
    #[serde(default)]
    pub push: Vec<Step>,
    /// To put it on a branch.
    #[serde(default)]
    pub promote: Vec<Step>,
    /// To put back what a branch had before.
    #[serde(default)]
    pub rollback: Vec<Step>,
    /// To take a release away.
    #[serde(default)]
    pub withdraw: Vec<Step>,
}

/// One thing that a person does.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Step {
    /// A short name of your choice, for commands.
    pub id: String,
    /// What to do, with values in braces.
    pub text: String,
    /// Address to open for it.
    #[serde(default)]
    pub open: Option<String>,
    /// Whether the files that were laid out are needed.
    #[serde(default)]
    pub files: bool,
    /// Texts to copy, each with the field that it goes into.
    #[serde(default)]
    pub paste: Vec<Paste>,
    /// What is read there and noted here.
    #[serde(default)]
    pub read_back: Vec<ReadBack>,
    /// How long it usually takes, such as "20 minutes".
    #[serde(default)]
    pub takes: Option<String>,
    /// Whose step it is: a role of people = { … } in lantern.toml, or an account.
    #[serde(default)]
    pub by: Option<String>,
    /// Whether it is done only when they have answered.
    #[serde(default)]
    pub waits: bool,
    /// Whether players lose the old files with it.
    #[serde(default)]
    pub removes_old: bool,
    /// Whether players get the new files with it.
    #[serde(default)]
    pub brings_new: bool,
}
