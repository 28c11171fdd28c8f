//! `adopt`: what was out before this tool came, with or without its files.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use lantern_core::board::KnownRelease;
use lantern_core::digest::ReleaseId;
use lantern_core::event::{Adopted, EventBody, Sealed, StorefrontRef};
use lantern_core::finding::one_of;
use lantern_core::names::Name;
use lantern_core::progress::Progress;
use lantern_core::release::{FORMAT, ReleaseRecord, input_digest};
use lantern_core::version::{BuildNumber, ReleaseName, Version};

use crate::error::{Class, Explained};
use crate::storefronts::{OpenStorefront, open_storefront};
use crate::workspace::Session;
use crate::{ProjectError, describe};

/// A release that is out, as someone says.
#[derive(Debug, Clone)]
pub struct ToAdopt {
    /// The branch that has or had it.
    pub branch: Option<Name>,
    /// Its version.
    pub version: Version,
    /// Its build number.
    pub number: BuildNumber,
    /// Its number there; none to count.
    pub number_there: Option<u64>,
    /// Since when players have it.
    pub since: Option<Date>,
    /// Its targets, each with its files where they are still there; empty for all that go there, without files.
    pub targets: BTreeMap<Name, Option<PathBuf>>,
    /// How it is known, for the team.
    pub because: Option<String>,
}

/// What adopting will do.
#[derive(Debug, Clone)]
pub struct AdoptPlan {
    /// Of which edition.
    pub edition: Name,
    /// Where.
    pub storefront: StorefrontRef,
    /// Its name for people.
    pub storefront_name: String,
    /// Each release, oldest first.
    pub releases: Vec<AdoptedRelease>,
}

/// What adopting will do with one release.
#[derive(Debug, Clone)]
pub struct AdoptedRelease {
    /// What is said of it.
    pub release: ToAdopt,
    /// The number that it has there.
    pub number_there: u64,
    /// Whether it was adopted before.
    pub is_known: bool,
    /// The release of this name that was sealed here.
    pub sealed: Option<ReleaseId>,
    /// What its branch has by something that belongs after its day, and has on: this one only stands before it in the history.
    pub later: Option<ReleaseName>,
}

impl AdoptedRelease {
    /// How people name it.
    pub fn name(&self) -> ReleaseName {
        ReleaseName { version: self.release.version.clone(), number: self.release.number }
    }
}

impl Session {
    /// Plans to record what is out at a storefront; changes nothing.
    ///
    /// # Errors
    /// [`AdoptError`], and those of the storefront and the ledger.
    pub fn plan_adopt(
        &mut self,
        storefront: &str,
        edition: &Name,
        mut releases: Vec<ToAdopt>,
    ) -> Result<AdoptPlan, ProjectError> {
        let (name, configured) = self.project().storefront(storefront)?;
        if configured.by_hand().is_none() {
            return Err(AdoptError::SaysItself(name.clone()).into());
        }
        let at = open_storefront(&self.workspace, edition, storefront)?;
        let going: BTreeSet<Name> = self
            .project()
            .config()
            .targets_of(edition)
            .map(|(target, _)| target.clone())
            .filter(|target| at.configured.takes(target))
            .collect();
        let title = at.reference.key();
        let board = self.workspace.board(edition)?;
        let mut there: BTreeMap<u64, ReleaseName> = board
            .pushed
            .iter()
            .filter(|p| p.storefront.is_at(&title))
            .map(|p| (p.number_there, p.name.clone()))
            .collect();
        releases.sort_by_key(|release| (release.since, release.number));
        let mut out = Vec::new();
        for mut release in releases {
            self.refuse_wrong(&at, &going, &release)?;
            if release.targets.is_empty() {
                release.targets = going.iter().map(|target| (target.clone(), None)).collect();
            }
            let name = ReleaseName { version: release.version.clone(), number: release.number };
            let known = there.iter().find(|(_, known)| **known == name).map(|(number, _)| *number);
            let free = there.keys().max().map_or(1, |highest| highest + 1);
            let number = release.number_there.or(known).unwrap_or(free);
            if let Some(other) = there.get(&number).filter(|other| **other != name) {
                return Err(AdoptError::NumberThere { number, by: other.clone() }.into());
            }
            let targets: Vec<Name> = release.targets.keys().cloned().collect();
            let later = release.branch.as_ref().and_then(|branch| {
                board.later_word(&(title.clone(), branch.clone()), since(&release), &targets).cloned()
            });
            let is_sealed = |known: &&KnownRelease| known.name == name && known.found_at.is_none();
            let sealed = board.releases.iter().find(is_sealed).map(|sealed| sealed.id);
            there.insert(number, name);
            let is_known = known == Some(number);
            out.push(AdoptedRelease { release, number_there: number, is_known, sealed, later });
        }
        Ok(AdoptPlan { edition: edition.clone(), storefront_name: at.name(), storefront: at.reference, releases: out })
    }

    fn refuse_wrong(&self, at: &OpenStorefront, going: &BTreeSet<Name>, release: &ToAdopt) -> Result<(), ProjectError> {
        if let Some(target) = release.targets.keys().find(|target| !going.contains(*target)) {
            let known = going.iter().cloned().collect();
            return Err(AdoptError::NoTarget { asked: target.clone(), known }.into());
        }
        if let Some(branch) = &release.branch {
            let refusals = at.rules()?.refuse_promote(branch);
            if !refusals.is_empty() {
                return Err(ProjectError::Rules { storefront: at.reference.name.clone(), refusals });
            }
        }
        for edition in self.workspace.all_editions()? {
            let board = self.workspace.board(&edition)?;
            let same = board.releases.iter().find(|known| known.name.number == release.number);
            if let Some(other) = same.filter(|known| known.name.version != release.version) {
                return Err(AdoptError::Number { number: release.number, by: other.name.clone() }.into());
            }
        }
        Ok(())
    }

    /// Records it, and seals the files that are there. Releases that were adopted so before stay as they are.
    ///
    /// # Errors
    /// [`ProjectError::Findings`] for files that cannot be taken in, and those of the store and the ledger.
    pub fn adopt(&mut self, plan: &AdoptPlan, progress: &dyn Progress) -> Result<(), ProjectError> {
        for one in plan.releases.iter().filter(|one| !one.is_known) {
            let (release, name) = (&one.release, one.name());
            let files: BTreeMap<Name, String> = release
                .targets
                .iter()
                .filter_map(|(target, path)| Some((target.clone(), path.as_ref()?.display().to_string())))
                .collect();
            let sealed = match files.is_empty() {
                true => one.sealed,
                false => Some(self.seal_adopted(&plan.edition, one, &files, progress)?),
            };
            let by_name = || ReleaseId::of(format!("adopted by name: {} {name}", plan.edition).as_bytes());
            let adopted = Adopted {
                storefront: plan.storefront.clone(),
                branch: release.branch.clone(),
                release: sealed.unwrap_or_else(by_name),
                name,
                number_there: one.number_there,
                targets: release.targets.keys().cloned().collect(),
                since: since(release),
                because: release.because.clone(),
            };
            self.workspace.record(&plan.edition, EventBody::Adopted(adopted), None)?;
        }
        Ok(())
    }

    /// Seals the files of a release that is out, whatever a check would say of them: players have them.
    fn seal_adopted(
        &mut self,
        edition: &Name,
        one: &AdoptedRelease,
        files: &BTreeMap<Name, String>,
        progress: &dyn Progress,
    ) -> Result<ReleaseId, ProjectError> {
        let name = one.name();
        let before = self.project_mut().take_exports_from(files);
        let sealed = self.seal_exports(edition, &name, progress);
        self.project_mut().take_exports_as_before(before);
        let (record, input) = sealed?;
        if one.sealed.is_some_and(|sealed| sealed != record.id()) {
            return Err(AdoptError::OtherFiles(name).into());
        }
        let id = self.workspace.store.write_record(&record)?;
        let board = self.workspace.board(edition)?;
        if !board.releases.iter().any(|known| known.id == id && known.found_at.is_none()) {
            let sealed = Sealed::of(id, &record, input);
            self.workspace.record(edition, EventBody::Sealed(sealed), None)?;
        }
        Ok(id)
    }

    fn seal_exports(
        &self,
        edition: &Name,
        name: &ReleaseName,
        progress: &dyn Progress,
    ) -> Result<(ReleaseRecord, lantern_core::digest::InputDigest), ProjectError> {
        let divided = self.project().divide(edition);
        if let Some(findings) = divided.stopping() {
            return Err(ProjectError::Findings(findings));
        }
        let (trees, _) = self.seal_parcels(edition, &divided, None, progress)?;
        let targets = describe::describe(&divided, &trees)?;
        let game = self.project().identity(edition).clone();
        let input = input_digest(&game, edition, &name.version, &targets);
        let (version, number) = (name.version.clone(), name.number);
        Ok((
            ReleaseRecord { format: FORMAT.to_owned(), game, edition: edition.clone(), version, number, targets },
            input,
        ))
    }
}

/// The moment since when players have it, as far as it was said.
fn since(release: &ToAdopt) -> Option<Timestamp> {
    let day = release.since.and_then(|day| day.to_zoned(TimeZone::UTC).ok());
    day.map(|day| day.timestamp())
}

/// Why something is not adopted.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AdoptError {
    /// The storefront says itself what it has.
    #[error("{0} says itself what it has: there is nothing to adopt")]
    SaysItself(Name),
    /// No such target goes there.
    #[error("no target {asked} goes there")]
    NoTarget {
        /// What was asked for.
        asked: Name,
        /// Those that go there.
        known: Vec<Name>,
    },
    /// Another release has the number.
    #[error("the number {number} is that of {by}")]
    Number {
        /// The number.
        number: BuildNumber,
        /// Which.
        by: ReleaseName,
    },
    /// The release of this name was sealed here, and its files are others.
    #[error("{0} was sealed here, with other files than these")]
    OtherFiles(ReleaseName),
    /// Another release has that number there.
    #[error("{by} has the number {number} there")]
    NumberThere {
        /// The number.
        number: u64,
        /// Which.
        by: ReleaseName,
    },
}

impl Explained for AdoptError {
    fn class(&self) -> Class {
        match self {
            Self::SaysItself(_) | Self::NoTarget { .. } => Class::Usage,
            Self::Number { .. } | Self::NumberThere { .. } | Self::OtherFiles(_) => Class::Refused,
        }
    }

    fn fixes(&self) -> Vec<String> {
        vec![match self {
            Self::SaysItself(_) => "lantern live asks it, and records what it has".to_owned(),
            Self::NoTarget { known, .. } => one_of(known),
            Self::Number { .. } => "give the number that this release has inside, or one that is free".to_owned(),
            Self::OtherFiles(_) => "leave --target out to adopt it with the files that were sealed".to_owned(),
            Self::NumberThere { .. } => "look there once more; each release has a number of its own".to_owned(),
        }]
    }
}
