//! The kind `by-hand`: a storefront without an interface for programs. It answers with what people said of it; nothing can be
//! asked of it, because that is done step by step by a person.

use std::collections::BTreeMap;

use lantern_core::event::EventId;
use lantern_core::names::{Handle, Name};
use lantern_core::rules::HouseRules;

use crate::protocol::{Branch, Build, Move, Moved, NewBuild, Title, Withdraw};
use crate::{Branches, Builds, Identify, Storefront, StorefrontError, StorefrontFacts};

/// What people said of a title.
#[derive(Debug, Clone)]
pub struct SaidThere {
    /// Who the storefront is.
    pub facts: StorefrontFacts,
    /// What it demands, as the studio wrote it down.
    pub rules: HouseRules,
    /// The title.
    pub title: Title,
    /// Its builds, oldest first.
    pub builds: Vec<Build>,
    /// Its branches.
    pub branches: Vec<Branch>,
    /// The moves of each branch, oldest first.
    pub moves: BTreeMap<Name, Vec<Moved>>,
}

/// A storefront without an interface for programs.
#[derive(Debug)]
pub struct ByHand(SaidThere);

impl ByHand {
    /// One of which this is known.
    pub const fn new(said: SaidThere) -> Self {
        Self(said)
    }

    fn by_a_person<T>(&self, what: &'static str) -> Result<T, StorefrontError> {
        Err(self.unable(what))
    }
}

impl Storefront for ByHand {
    fn builds(&self) -> Result<&dyn Builds, StorefrontError> {
        Ok(self)
    }

    fn branches(&self) -> Result<&dyn Branches, StorefrontError> {
        Ok(self)
    }
}

impl Identify for ByHand {
    fn address(&self) -> &str {
        &self.0.facts.name
    }

    fn identify(&self) -> Result<StorefrontFacts, StorefrontError> {
        Ok(self.0.facts.clone())
    }

    fn try_access(&self) -> Result<Vec<String>, StorefrontError> {
        self.by_a_person("take access")
    }

    fn rules(&self) -> Result<HouseRules, StorefrontError> {
        Ok(self.0.rules.clone())
    }

    fn title(&self, title: &Handle) -> Result<Title, StorefrontError> {
        if *title == self.0.title.handle {
            Ok(self.0.title.clone())
        } else {
            self.by_a_person("say what this title is")
        }
    }
}

impl Builds for ByHand {
    fn list(&self, _: &Handle) -> Result<Vec<Build>, StorefrontError> {
        Ok(self.0.builds.clone())
    }

    fn record(&self, _: &Handle, _: u64) -> Result<Vec<u8>, StorefrontError> {
        self.by_a_person("give the record of a release back")
    }

    fn make(&self, _: &Handle, _: EventId, _: &NewBuild) -> Result<Build, StorefrontError> {
        self.by_a_person("take a build from a program")
    }

    fn withdraw(&self, _: &Handle, _: u64, _: EventId, _: &Withdraw) -> Result<Build, StorefrontError> {
        self.by_a_person("take a build away by itself")
    }
}

impl Branches for ByHand {
    fn list(&self, _: &Handle) -> Result<Vec<Branch>, StorefrontError> {
        Ok(self.0.branches.clone())
    }

    fn moves(&self, _: &Handle, branch: &Name) -> Result<Vec<Moved>, StorefrontError> {
        Ok(self.0.moves.get(branch).cloned().unwrap_or_default())
    }

    fn make_move(&self, _: &Handle, _: &Name, _: u64, _: EventId, _: &Move) -> Result<Branch, StorefrontError> {
        self.by_a_person("move a branch by itself")
    }
}
