//! `install`: a folder comes to hold what a branch has, as on a player's machine.

use std::path::{Path, PathBuf};

use lantern_core::digest::{Digest, ManifestId};
use lantern_core::event::BranchBuild;
use lantern_core::names::{Handle, Name};
use lantern_core::progress::Progress;
use lantern_core::release::Start;
use lantern_core::system::System;
use lantern_store::fetch::{Fetch, FetchError};
use lantern_store::install::{self, Report, Verified};
use lantern_storefront::market::Market;
use lantern_storefront::{PlaceError, Player, Storefront};
use serde::{Deserialize, Serialize};

use crate::ProjectError;
use crate::project::Project;

/// What is kept beside an installed build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
    /// How it starts.
    pub starts: Start,
}

/// What an installation did.
#[derive(Debug, Clone)]
pub struct InstallDone {
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
/// [`ProjectError::NoBuildFor`], [`ProjectError::OtherGame`], [`ProjectError::Install`], [`ProjectError::Place`].
pub fn install_branch(
    project: &Project,
    storefront: &str,
    branch: &Name,
    folder: &Path,
    target: Option<&Name>,
    progress: &dyn Progress,
) -> Result<InstallDone, ProjectError> {
    let (name, configured) = project.storefront(storefront)?;
    let fails = |source| match source {
        PlaceError::Stopped => ProjectError::Stopped,
        source => ProjectError::Place { place: name.clone(), source },
    };
    // A switch that a break had cut is finished whether or not the storefront answers.
    let before = about_of(folder)?;
    let market = Market::open(&configured.address, None, project.stop()).map_err(fails)?;
    let discovery = market.discovery().map_err(fails)?;
    let play = market.play(&configured.handle, branch).map_err(fails)?;
    let here = System::this_computer();
    let found = match target {
        Some(target) => play.builds.get_key_value(target),
        None => play.builds.iter().find(|(_, build)| System::any_runs_here(&build.systems)),
    };
    let wanted = match (target, here) {
        (Some(target), _) => target.to_string(),
        (None, Some(here)) => format!("this computer ({here})"),
        (None, None) => "this computer".to_owned(),
    };
    let nothing = || ProjectError::NoBuildFor {
        place: name.clone(),
        branch: branch.clone(),
        wanted: wanted.clone(),
        there: play.builds.keys().cloned().collect(),
    };
    let (target, build) = found.ok_or_else(nothing)?;
    let on_branch = play.facts.targets.get(target).ok_or_else(nothing)?;
    let about = About {
        storefront: discovery.id,
        handle: configured.handle.clone(),
        name: play.name.clone(),
        branch: branch.clone(),
        target: target.clone(),
        systems: build.systems.clone(),
        build: on_branch.clone(),
        starts: build.starts.clone(),
    };
    if let Some(other) = before.as_ref().filter(|b| (&b.storefront, &b.handle) != (&about.storefront, &about.handle)) {
        return Err(ProjectError::OtherGame {
            folder: folder.to_owned(),
            found: format!("{} from another place", other.name),
            wanted: format!("{} from {name}", about.name),
        });
    }
    let manifests: Vec<ManifestId> = build.depots.iter().map(|d| d.manifest).collect();
    let fetch = FromBranch { market: &market, title: &configured.handle, branch };
    let document = serde_json::to_value(&about).expect("what is kept has only string keys");
    let report = install::install(folder, &manifests, document, &fetch, progress)?;
    Ok(InstallDone { about, before, report })
}

/// Returns the program of an installed build, its arguments and its working folder.
pub fn start_of(folder: &Path, about: &About) -> (PathBuf, Vec<String>, PathBuf) {
    let folder = std::path::absolute(folder).unwrap_or_else(|_| folder.to_owned());
    (folder.join(about.starts.file.as_str()), about.starts.arguments.clone(), folder)
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
