//! Storefronts that have no interface for programs: what a person does there, step by step.
//!
//! [`HandRules`] is what the studio writes about one ([`raw`] is the file's shape): what is handed over, and the steps of each
//! action. An action that has begun is a [`crate::walk::Walk`].

mod draft;
pub mod raw;
mod read;

use jiff::SignedDuration;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::names::Name;
use crate::patterns::Patterns;
use crate::rules::{Accepted, Branches, Numbers};
use crate::step::{Paste, ReadBack, Step};
use crate::template::{Template, Values};

pub use draft::Draft;
pub use read::{Around, schema};

/// Largest file of rules accepted, in bytes. Ours: a real one has some thousands.
pub const MAX_RULES_LEN: u64 = 256 * 1024;
/// How many steps an action may have. Ours: nobody does a hundred things by hand for one release.
pub const MAX_STEPS: usize = 100;

/// What the studio writes about a storefront without an interface for programs.
#[derive(Debug, Clone)]
pub struct HandRules {
    /// For people; none: as the project calls it.
    pub name: Option<String>,
    /// Where people open it.
    pub address: Option<String>,
    /// How long it usually takes until they answer.
    pub usual_wait: Option<SignedDuration>,
    /// Whether the old file has to go before the new one may come.
    pub one_at_a_time: bool,
    /// Longest notes that are taken there, in characters of one language.
    pub notes_max: Option<u64>,
    /// The branch whose players get a release with the push.
    pub live_on_push: Option<Name>,
    /// What is handed over, by target; under no name what goes for all others.
    pub hand_over: Vec<(Option<Name>, HandOver)>,
    /// The steps of each action.
    pub steps: Steps,
    /// What is taken there.
    pub accepted: Option<Accepted>,
    /// What is asked of numbers.
    pub numbers: Option<Numbers>,
    /// The branches there.
    pub branches: Option<Branches>,
}

/// The steps of each action, in the order in which they are done.
#[derive(Debug, Clone, Default)]
pub struct Steps {
    /// To bring a release there.
    pub push: Vec<StepRule>,
    /// To put it on a branch.
    pub promote: Vec<StepRule>,
    /// To put back what a branch had before.
    pub rollback: Vec<StepRule>,
    /// To take a release away.
    pub withdraw: Vec<StepRule>,
}

/// What is handed over of a target.
#[derive(Debug, Clone)]
pub struct HandOver {
    /// Its form.
    pub form: HandForm,
    /// What it is called.
    pub name: Template,
    /// The folder on top of everything in it; empty for none.
    pub top: Template,
    /// What must be in it.
    pub must_have: Patterns,
}

/// The form of what is handed over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
pub enum HandForm {
    /// A folder with all files.
    #[serde(rename = "folder")]
    Folder,
    /// A ZIP archive.
    #[serde(rename = "zip")]
    Zip,
    /// A compressed tar archive.
    #[serde(rename = "tar.gz")]
    TarGz,
    /// The one file that the target is, such as a package for phones.
    #[serde(rename = "package")]
    Package,
}

impl HandForm {
    /// What the name of such a file ends with.
    pub const fn ending(self) -> &'static str {
        match self {
            Self::Folder | Self::Package => "",
            Self::Zip => ".zip",
            Self::TarGz => ".tar.gz",
        }
    }
}

/// A step as the rules have it.
#[derive(Debug, Clone)]
pub struct StepRule {
    /// Its name in commands.
    pub id: Name,
    /// What to do.
    pub text: Template,
    /// An address to open.
    pub open: Option<Template>,
    /// Whether the files that were laid out are needed.
    pub files: bool,
    /// Texts to copy, each with the field that it goes into.
    pub paste: Vec<(String, Template)>,
    /// What is read there and noted here.
    pub read_back: Vec<ReadBack>,
    /// How long it usually takes, in seconds.
    pub takes: Option<SignedDuration>,
    /// Whose step it is: a role, or an account.
    pub by: Option<String>,
    /// Whether it is done when they have answered.
    pub waits: bool,
    /// Whether players lose the old files with it.
    pub removes_old: bool,
    /// Whether players get the new files with it.
    pub brings_new: bool,
}

impl StepRule {
    /// The step for one release, with everything put in that is known when it begins; `account` is who does it.
    pub fn filled(&self, values: &Values, account: Option<&str>) -> Step {
        let text = |template: &Template| template.fill_known(values).to_string();
        let person = match (&self.by, account) {
            (Some(role), Some(account)) => Some(format!("{account} ({role})")),
            (role, _) => role.clone(),
        };
        Step {
            id: self.id.clone(),
            text: text(&self.text),
            open: self.open.as_ref().map(text),
            files: self.files,
            paste: self.paste.iter().map(|(field, t)| Paste { field: field.clone(), text: text(t) }).collect(),
            read_back: self.read_back.clone(),
            takes: self.takes.and_then(|takes| u64::try_from(takes.as_secs()).ok()),
            by: person,
            waits: self.waits,
            removes_old: self.removes_old,
            brings_new: self.brings_new,
        }
    }
}

#[cfg(test)]
mod tests;
