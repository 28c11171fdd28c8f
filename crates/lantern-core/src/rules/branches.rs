//! `branches`: which there are, and in which order a build goes on them.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Refusal, Section};
use crate::config::Audience;
use crate::names::Name;
use crate::version::ReleaseName;

/// The branches there.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Branches {
    /// In the order in which they are listed.
    pub fixed: Vec<BranchRule>,
    /// Whether a build must have been on each of them before it goes on the next.
    #[serde(default)]
    pub in_order: bool,
}

/// A branch there.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct BranchRule {
    /// Its name.
    pub name: Name,
    /// Who can follow it.
    pub audience: Audience,
}

impl Branches {
    /// Returns the branch of this name.
    pub fn named(&self, name: &Name) -> Option<&BranchRule> {
        self.fixed.iter().find(|b| b.name == *name)
    }

    /// Returns the branch that a build must have been on before it goes on this one.
    pub fn before(&self, branch: &Name) -> Option<&BranchRule> {
        let at = self.fixed.iter().position(|b| b.name == *branch)?;
        self.fixed.get(at.checked_sub(1)?).filter(|_| self.in_order)
    }

    /// Says whether a build may go on a branch by the order of branches; `been_before` is whether it has been on
    /// [`Self::before`].
    pub fn refuse_order(&self, branch: &Name, build: &ReleaseName, been_before: bool) -> Option<Refusal> {
        let before = self.before(branch).filter(|_| !been_before)?;
        let order: Vec<&str> = self.fixed.iter().map(|b| b.name.as_str()).collect();
        let what = format!("{build} has not been on {} yet; the order is {}", before.name, order.join(", "));
        Some(Refusal::new("not-in-order", what, format!("promote it to {} first", before.name)))
    }
}

impl Section for Branches {
    fn refuse_promote(&self, branch: &Name) -> Vec<Refusal> {
        if self.named(branch).is_some() {
            return Vec::new();
        }
        let names: Vec<&str> = self.fixed.iter().map(|b| b.name.as_str()).collect();
        let what = format!("there is no branch {branch:?}", branch = branch.as_str());
        let fix = match crate::names::nearest(branch.as_str(), names.iter().copied()) {
            Some(near) => format!("did you mean {near:?}?"),
            None => format!("there are {}", names.join(", ")),
        };
        vec![Refusal::new("no-such-branch", what, fix)]
    }
}
