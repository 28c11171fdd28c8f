//! `install`: a folder comes to hold what a branch has, as on a player's machine.

use std::path::{Path, PathBuf};

use lantern_core::config::Audience;
use lantern_core::digest::{Digest, ManifestId};
use lantern_core::event::BranchBuild;
use lantern_core::names::{Handle, Name};
use lantern_core::progress::Progress;
use lantern_core::release::{Start, start_for};
use lantern_core::system::System;
use lantern_store::fetch::{Fetch, FetchError};
use lantern_store::install::{self, Report, Verified};
use lantern_storefront::market::Market;
use lantern_storefront::protocol::{BuildDepot, BuildTarget, Play};
use lantern_storefront::{PlaceError, Player, Storefront};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::places::title_of;
use crate::project::Project;
use crate::{ProjectError, access};

/// What is kept beside an installed build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct About {
    /// The storefront's id.
    pub storefront: String,
    /// The title there.
    pub handle: Handle,
    /// The game, for people.
    pub name: String,
    /// The branch.
    pub branch: Name,
    /// The target.
    pub target: Name,
    /// What it runs on.
    pub systems: Vec<System>,
    /// The build.
    pub build: BranchBuild,
    /// How it starts: one for all systems, or one for each.
    #[serde(default)]
    pub starts: Vec<Start>,
    /// Depots that not everybody has, and that were asked for.
    #[serde(default)]
    pub with: Vec<Name>,
}

/// What is to be installed.
#[derive(Debug, Clone, Default)]
pub struct InstallWanted {
    /// The target; none for this computer's.
    pub target: Option<Name>,
    /// Depots that not everybody has, added to those that were asked for before.
    pub with: Vec<Name>,
    /// Such depots that are to go.
    pub without: Vec<Name>,
    /// Where; none for a folder of the name that the build states, here.
    pub folder: Option<PathBuf>,
}

/// What an installation did.
#[derive(Debug, Clone)]
pub struct InstallDone {
    /// Where.
    pub folder: PathBuf,
    /// What is installed now.
    pub about: About,
    /// What was there before.
    pub before: Option<About>,
    /// In numbers.
    pub report: Report,
}

struct FromBranch<'a> {
    market: &'a Market,
    title: &'a Handle,
    branch: &'a Name,
}

impl Fetch for FromBranch<'_> {
    fn manifest(&self, manifest: ManifestId) -> Result<Vec<u8>, FetchError> {
        Ok(self.market.play_manifest(self.title, self.branch, manifest)?)
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        Ok(self.market.play_segment(self.title, self.branch, digest)?)
    }
    fn locator(&self, manifest: ManifestId) -> Result<Vec<u8>, FetchError> {
        Ok(self.market.play_locator(self.title, self.branch, manifest)?)
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        Ok(self.market.play_pack(self.title, self.branch, pack, offset, len)?)
    }
}

/// Returns what is installed in a folder; none when nothing is.
fn about_of(folder: &Path) -> Result<Option<About>, ProjectError> {
    match install::installed(folder) {
        Ok(installed) => {
            let damaged = |e: serde_json::Error| {
                let path = folder.join(install::STATE_FOLDER).join("installed.json");
                ProjectError::Install(install::InstallError::State { path, why: e.to_string() })
            };
            serde_json::from_value(installed.about).map(Some).map_err(damaged)
        }
        Err(install::InstallError::NotInstalled(_)) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

/// Makes a folder hold what a branch has for a target; without one, for this computer's system.
///
/// # Errors
/// [`ProjectError::NoBuildFor`], [`ProjectError::NoSuchDepot`], [`ProjectError::OtherGame`],
/// [`ProjectError::Install`], [`ProjectError::Place`].
pub fn install_branch(
    project: &Project,
    storefront: &str,
    branch: &Name,
    wanted: &InstallWanted,
    progress: &dyn Progress,
) -> Result<InstallDone, ProjectError> {
    let (name, configured) = project.storefront(storefront)?;
    let fails = |source| match source {
        PlaceError::Stopped => ProjectError::Stopped,
        source => ProjectError::Place { place: name.clone(), source },
    };
    // A switch that a break had cut is finished whether or not the storefront answers.
    let known = wanted.folder.as_deref().map(about_of).transpose()?;
    // A line for those who were let in is asked for as somebody who makes the game.
    let is_open = configured.audience(branch).is_none_or(|audience| audience == Audience::Everyone);
    let access = if is_open { None } else { access::find(&configured.address)?.map(|found| found.access) };
    let title = title_of(name, configured, &project.first_edition())?;
    let market = Market::open(&configured.address, access, project.stop()).map_err(fails)?;
    let discovery = market.discovery().map_err(fails)?;
    let play = market.play(&title, branch).map_err(fails)?;
    let (target, build) = choose(name, branch, wanted.target.as_ref(), &play)?;
    let folder = match &wanted.folder {
        Some(folder) => folder.clone(),
        None => PathBuf::from(build.folder.as_ref().unwrap_or(&play.name).replace(['/', '\\', ':'], "-")),
    };
    let before = match known {
        Some(before) => before,
        None => about_of(&folder)?,
    };
    let nothing = || ProjectError::NoBuildFor {
        place: name.clone(),
        branch: branch.clone(),
        wanted: target.to_string(),
        there: play.builds.keys().cloned().collect(),
    };
    let on_branch = play.facts.targets.get(target).ok_or_else(nothing)?;
    let with = extras(branch, target, build, before.as_ref(), wanted)?;
    let about = About {
        storefront: discovery.id,
        handle: title.clone(),
        name: play.name.clone(),
        branch: branch.clone(),
        target: target.clone(),
        systems: build.systems.clone(),
        build: on_branch.clone(),
        starts: build.starts.clone(),
        with,
    };
    if let Some(other) = before.as_ref().filter(|b| (&b.storefront, &b.handle) != (&about.storefront, &about.handle)) {
        return Err(ProjectError::OtherGame {
            folder,
            found: format!("{} from another place", other.name),
            wanted: format!("{} from {name}", about.name),
        });
    }
    let downloads = |d: &&BuildDepot| d.when.is_always() || about.with.contains(&d.depot);
    let manifests: Vec<ManifestId> = build.depots.iter().filter(downloads).map(|d| d.manifest).collect();
    let fetch = FromBranch { market: &market, title: &title, branch };
    let document = serde_json::to_value(&about).expect("what is kept has only string keys");
    let report = install::install(&folder, &manifests, document, &fetch, progress)?;
    Ok(InstallDone { folder, about, before, report })
}

/// Chooses a target: the one that was asked for, or one that runs on this computer.
fn choose<'a>(
    place: &Name,
    branch: &Name,
    target: Option<&Name>,
    play: &'a Play,
) -> Result<(&'a Name, &'a BuildTarget), ProjectError> {
    let found = match target {
        Some(target) => play.builds.get_key_value(target),
        None => play.builds.iter().find(|(_, build)| System::any_runs_here(&build.systems)),
    };
    let wanted = match (target, System::this_computer()) {
        (Some(target), _) => target.to_string(),
        (None, Some(here)) => format!("this computer ({here})"),
        (None, None) => "this computer".to_owned(),
    };
    let there = || play.builds.keys().cloned().collect();
    let (place, branch) = (place.clone(), branch.clone());
    found.ok_or_else(|| ProjectError::NoBuildFor { place, branch, wanted, there: there() })
}

/// Returns the depots with conditions that are to be there: those asked for now and before, as far as the build has them.
fn extras(
    branch: &Name,
    target: &Name,
    build: &BuildTarget,
    before: Option<&About>,
    wanted: &InstallWanted,
) -> Result<Vec<Name>, ProjectError> {
    let there: Vec<Name> = build.depots.iter().filter(|d| !d.when.is_always()).map(|d| d.depot.clone()).collect();
    if let Some(depot) = wanted.with.iter().chain(&wanted.without).find(|depot| !there.contains(depot)) {
        let (branch, depot, target) = (branch.clone(), depot.clone(), target.clone());
        return Err(ProjectError::NoSuchDepot { branch, depot, target, there });
    }
    let asked = |depot: &Name| {
        let was = before.is_some_and(|b| b.with.contains(depot));
        (was || wanted.with.contains(depot)) && !wanted.without.contains(depot)
    };
    Ok(there.into_iter().filter(asked).collect())
}

/// Returns the program of an installed build, its arguments and its working folder; none when nothing is started.
pub fn start_of(folder: &Path, about: &About) -> Option<(PathBuf, Vec<String>, PathBuf)> {
    let folder = std::path::absolute(folder).unwrap_or_else(|_| folder.to_owned());
    let start = start_for(&about.starts, System::this_computer())?;
    let works_in = start.folder.as_ref().map_or_else(|| folder.clone(), |inside| folder.join(inside.as_str()));
    Some((folder.join(start.file.as_str()), start.arguments.clone(), works_in))
}

/// Checks every file of an installed build.
///
/// # Errors
/// [`ProjectError::Install`].
pub fn verify_installed(folder: &Path, progress: &dyn Progress) -> Result<(Option<About>, Verified), ProjectError> {
    let verified = install::verify(folder, progress)?;
    let about = serde_json::from_value(verified.installed.about.clone()).ok();
    Ok((about, verified))
}
