//! `install`: a folder comes to hold what a branch has, as on a player's machine.

use lantern_core::choices::NotOffered;
use lantern_core::finding::one_of;
use std::path::{Component, Path, PathBuf};

use lantern_core::choices::{Asked, Chosen, Players};
use lantern_core::config::Storefront;
use lantern_core::digest::{Digest, RecipeId};
use lantern_core::event::BranchBuild;
use lantern_core::invitation::Invitation;
use lantern_core::names::{FolderName, Handle, Name};
use lantern_core::progress::Progress;
use lantern_core::release::{Start, start_for};
use lantern_core::system::System;
use lantern_store::fetch::{Fetch, FetchError};
use lantern_store::install::{
    self, FolderState, GivenUp, InstallError, Installed, OwnFiles, Report, UpdateOffer, Verified, Wanted,
};
use lantern_storefront::protocol::{BuildDepot, BuildTarget, Play, problem};
use lantern_storefront::{Access, Invited, Player, StorefrontError};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::error::{Class, Explained};
use crate::project::Project;
use crate::storefronts::{fails_at, title_of};
use crate::{ProjectError, environment};

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
    /// What the player has chosen of it.
    #[serde(default)]
    pub chosen: Chosen,
}

/// What is to be installed.
#[derive(Debug, Clone, Default)]
pub struct InstallWanted {
    /// The target; none for this computer's.
    pub target: Option<Name>,
    /// What the player chooses; what is not said stays as it was.
    pub asked: Asked,
    /// Where; none for a folder of the name that the build states, here.
    pub folder: Option<PathBuf>,
    /// What becomes of a player's own files in the way.
    pub own_files: OwnFiles,
    /// Whether every installed file is read, also those that look unchanged.
    pub read_all: bool,
    /// Lets a tester follow the branch; kept in the folder's own private state. None for the one that is kept there.
    pub invitation: Option<Invitation>,
}

/// What an installed folder keeps for itself, and shows to nobody but the storefront.
#[derive(Serialize, Deserialize)]
struct Private {
    format: String,
    /// The only storefront, by its id, that it is sent to.
    storefront: String,
    branch: Name,
    invitation: String,
    /// The number that the folder made up for itself.
    folder: String,
}

const PRIVATE_FORMAT: &str = "lantern.private/1";

impl Private {
    fn of(found_there: Option<&FolderState>) -> Option<Self> {
        let private = found_there?.private.clone()?;
        serde_json::from_value(private).ok().filter(|private: &Self| private.format == PRIVATE_FORMAT)
    }

    fn is_for(&self, storefront: &str, branch: &Name) -> bool {
        self.storefront == storefront && self.branch == *branch
    }
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
    player: &'a dyn Player,
    title: &'a Handle,
    branch: &'a Name,
}

impl FromBranch<'_> {
    fn failed(error: StorefrontError) -> FetchError {
        let is_gone = error.is(problem::NOT_FOUND);
        FetchError::new(error, is_gone)
    }
}

impl Fetch for FromBranch<'_> {
    fn recipe(&self, recipe: RecipeId) -> Result<Vec<u8>, FetchError> {
        self.player.recipe(self.title, self.branch, recipe).map_err(Self::failed)
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        self.player.segment(self.title, self.branch, digest).map_err(Self::failed)
    }
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError> {
        self.player.locator(self.title, self.branch, segment).map_err(Self::failed)
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        self.player.pack(self.title, self.branch, pack, offset, len).map_err(Self::failed)
    }
    fn give_back(&self, memory: Vec<u8>) {
        self.player.give_back(memory);
    }
    fn update(&self, from: RecipeId, to: RecipeId, offset: u64, len: u32) -> Result<Vec<u8>, FetchError> {
        let far = || FetchError::new("an update file of more than 4 GiB", true);
        let offset = u32::try_from(offset).map_err(|_| far())?;
        // Whatever a storefront refuses of it: nobody needs an update file.
        self.player.update(self.title, self.branch, (from, to), offset, len).map_err(|error| {
            let is_refused = matches!(error, StorefrontError::Refused(_));
            FetchError::new(error, is_refused)
        })
    }
}

/// What a storefront refuses while something is fetched is its own refusal, with its own fix.
fn refused_by(storefront: &Name) -> impl FnOnce(InstallError) -> ProjectError + '_ {
    |error| match error {
        InstallError::Fetch { what, source: FetchError { is_gone: false, source } } => {
            match source.downcast::<StorefrontError>() {
                Ok(refused)
                    if matches!(*refused, StorefrontError::Refused(_) | StorefrontError::Certificate { .. }) =>
                {
                    ProjectError::Storefront { storefront: storefront.clone(), source: *refused }
                }
                Ok(other) => InstallError::Fetch { what, source: FetchError { is_gone: false, source: other } }.into(),
                Err(source) => InstallError::Fetch { what, source: FetchError { is_gone: false, source } }.into(),
            }
        }
        other => other.into(),
    }
}

/// The folder of a name in the one where the program works. The name was checked when it was read; where files go is
/// checked once more where it counts.
fn here(name: &FolderName) -> PathBuf {
    let path = PathBuf::from(name.as_str());
    let mut parts = path.components();
    assert!(
        matches!((parts.next(), parts.next()), (Some(Component::Normal(_)), None)),
        "a folder's name is one part: {name:?}"
    );
    path
}

fn about(installed: &Installed) -> Option<About> {
    serde_json::from_value(installed.about.clone()).ok()
}

/// A folder of another game is not touched, not even to finish what was begun in it.
fn refuse_other_game(folder: &Path, title: &Handle, installed: &Installed) -> Result<(), ProjectError> {
    let other = about(installed).filter(|about| about.handle != *title);
    other.map_or(Ok(()), |other| {
        let (found, wanted) = (format!("{} ({})", other.name, other.handle), title.to_string());
        Err(PlayError::OtherGame { folder: folder.to_owned(), found, wanted }.into())
    })
}

/// Looks at a folder, and finishes a switch that a break had cut there: that needs no storefront. Says whether it did.
fn read_and_finish(folder: &Path, title: &Handle) -> Result<(Option<FolderState>, bool), ProjectError> {
    let found_there = install::read_folder(folder)?;
    for installed in found_there.iter().flat_map(|found_there| found_there.installed.iter().chain(&found_there.begun)) {
        refuse_other_game(folder, title, installed)?;
    }
    if found_there.as_ref().is_none_or(|found_there| found_there.begun.is_none()) {
        return Ok((found_there, false));
    }
    let finished = install::finish(folder)?;
    Ok((install::read_folder(folder)?, finished))
}

/// Makes a folder hold what a branch has for a target; without one, for this computer's system.
///
/// # Errors
/// [`PlayError::NoBuildFor`], [`PlayError::NotOffered`], [`PlayError::OtherGame`],
/// [`ProjectError::Install`], [`ProjectError::Storefront`].
pub fn install_branch(
    project: &Project,
    storefront: &str,
    branch: &Name,
    wanted: &InstallWanted,
    progress: &dyn Progress,
) -> Result<InstallDone, ProjectError> {
    let (name, configured) = project.storefront(storefront)?;
    let fails = fails_at(name);
    let title = title_of(name, configured, &project.first_edition())?;
    let guessed = wanted.folder.clone().or_else(|| likely_folder(project));
    let (found_there, mut finished) =
        guessed.as_deref().map_or(Ok((None, false)), |folder| read_and_finish(folder, &title))?;
    let facts = project.ask_as(configured, None, None).and_then(|stranger| stranger.identify()).map_err(fails)?;
    let access = access_of_maker(project, configured, &facts.id);
    let kept = Private::of(found_there.as_ref()).filter(|kept| kept.is_for(&facts.id, branch));
    let (invited, private) = invitation(&facts.id, branch, wanted.invitation.as_ref(), kept)?;
    let at = project.ask_as(configured, access, invited).map_err(fails)?;
    at.be_patient();
    let player = at.player().map_err(fails)?;
    let play = player.branch(&title, branch).map_err(fails)?;
    let (target, build) = choose(name, branch, wanted.target.as_ref(), &play)?;
    let folder = match &wanted.folder {
        Some(folder) => folder.clone(),
        None => here(&build.folder.clone().unwrap_or_else(|| FolderName::of_title(&play.name))),
    };
    let found_there = if guessed.as_ref() == Some(&folder) {
        found_there
    } else {
        let (found_there, also_finished) = read_and_finish(&folder, &title)?;
        finished = also_finished;
        found_there
    };
    let before = found_there.and_then(|found_there| found_there.installed).as_ref().and_then(about);
    let nothing = || PlayError::NoBuildFor {
        storefront: name.clone(),
        branch: branch.clone(),
        wanted: target.to_string(),
        there: play.builds.keys().cloned().collect(),
    };
    let on_branch = play.facts.targets.get(target).ok_or_else(nothing)?;
    let chosen = chosen(branch, target, build, before.as_ref(), wanted)?;
    let about = About {
        storefront: facts.id,
        handle: title.clone(),
        name: play.name.clone(),
        branch: branch.clone(),
        target: target.clone(),
        systems: build.systems.clone(),
        build: on_branch.clone(),
        starts: build.starts.clone(),
        chosen,
    };
    if let Some(other) = before.as_ref().filter(|b| b.storefront != about.storefront) {
        return Err(PlayError::OtherGame {
            folder,
            found: format!("{} from another storefront", other.name),
            wanted: format!("{} from {name}", about.name),
        }
        .into());
    }
    let downloads = |depot: &&BuildDepot| about.chosen.takes(&depot.players);
    let recipes: Vec<RecipeId> = build.depots.iter().filter(downloads).map(|d| d.recipe).collect();
    let fetch = FromBranch { player, title: &title, branch };
    let document = serde_json::to_value(&about).expect("what is kept has only string keys");
    let offers = build.depots.iter().flat_map(|depot| {
        depot.updates.iter().map(|update| UpdateOffer { from: update.from, to: depot.recipe, bytes: update.bytes })
    });
    let updates: Vec<UpdateOffer> = offers.collect();
    let own_files = wanted.own_files;
    let wanted =
        Wanted { recipes: &recipes, about: document, own_files, private, updates: &updates, read_all: wanted.read_all };
    let mut report = install::install(&folder, wanted, &fetch, progress).map_err(refused_by(name))?;
    report.rolled_forward |= finished;
    Ok(InstallDone { folder, about, before, report })
}

/// Those who make the game are let in everywhere. Access that cannot be read is no concern of a player's: whatever it is
/// needed for will be refused, and that says how to get it. It goes to nobody but the storefront that it was given by.
fn access_of_maker(project: &Project, configured: &Storefront, id: &str) -> Option<Access> {
    let found = project.access_to(configured).ok().flatten()?;
    (found.storefront == id).then_some(found.access)
}

/// Returns the folder here in which this game lies, if there is one: without a name it is the build that states it, and
/// which build that is may depend on the invitation that lies in the folder.
fn likely_folder(project: &Project) -> Option<PathBuf> {
    let edition = project.first_edition();
    let stated = project.config().targets_of(&edition).filter_map(|(_, target)| target.folder.clone());
    let names = stated.chain([FolderName::of_title(project.edition_name(&edition))]);
    names.map(|name| here(&name)).find(|folder| folder.join(install::STATE_FOLDER).is_dir())
}

/// What a player's machine shows to be let in, and what is to be kept of it: an invitation that has just been given, or
/// the one that was.
fn invitation(
    storefront: &str,
    branch: &Name,
    given: Option<&Invitation>,
    kept: Option<Private>,
) -> Result<(Option<Invited>, Option<Value>), ProjectError> {
    let Some(given) = given else {
        let invited =
            kept.and_then(|kept| Some(Invited { invitation: kept.invitation.parse().ok()?, folder: kept.folder }));
        return Ok((invited, None));
    };
    let folder = match kept {
        Some(kept) => kept.folder,
        None => Digest::from_bytes(environment::random()?).hex().chars().take(32).collect(),
    };
    let private = Private {
        format: PRIVATE_FORMAT.to_owned(),
        storefront: storefront.to_owned(),
        branch: branch.clone(),
        invitation: given.reveal(),
        folder: folder.clone(),
    };
    let private = serde_json::to_value(&private).expect("what is kept has only string keys");
    Ok((Some(Invited { invitation: given.clone(), folder }), Some(private)))
}

/// Makes an installed copy whole again, as the build that it is: nothing newer is installed. What was changed in it is moved
/// aside.
///
/// # Errors
/// [`PlayError::NoStorefrontFor`] when the project does not know the storefront that it came from,
/// [`ProjectError::Install`], [`ProjectError::Storefront`].
pub fn repair_installed(
    project: &Project,
    folder: &Path,
    progress: &dyn Progress,
) -> Result<InstallDone, ProjectError> {
    let not_installed = || InstallError::NotInstalled(folder.to_owned());
    let found_there = install::read_folder(folder)?.ok_or_else(not_installed)?;
    let unknown = || ProjectError::from(PlayError::NoStorefrontFor { folder: folder.to_owned() });
    let begun = found_there.begun.as_ref().or(found_there.installed.as_ref());
    let handle = begun.and_then(about).ok_or_else(unknown)?.handle;
    let (found_there, finished) = read_and_finish(folder, &handle)?;
    let private = Private::of(found_there.as_ref());
    let installed = found_there.and_then(|found_there| found_there.installed).ok_or_else(not_installed)?;
    let about = about(&installed).ok_or_else(unknown)?;
    let mut unreachable = None;
    for (name, configured) in &project.config().storefronts {
        if !configured.handles.values().any(|handle| *handle == about.handle) {
            continue;
        }
        let fails = fails_at(name);
        match project.ask_as(configured, None, None).and_then(|stranger| stranger.identify()) {
            Ok(facts) if facts.id == about.storefront => {}
            Ok(_) => continue,
            Err(source) => {
                unreachable = Some(fails(source));
                continue;
            }
        }
        let kept = private.filter(|kept| kept.is_for(&about.storefront, &about.branch));
        let access = access_of_maker(project, configured, &about.storefront);
        let (invited, _) = invitation(&about.storefront, &about.branch, None, kept)?;
        let at = project.ask_as(configured, access, invited).map_err(fails)?;
        let player = at.player().map_err(fails)?;
        let fetch = FromBranch { player, title: &about.handle, branch: &about.branch };
        let wanted = Wanted {
            recipes: &installed.recipes,
            about: installed.about.clone(),
            own_files: OwnFiles::Aside,
            private: None,
            updates: &[],
            read_all: true,
        };
        let mut report = install::install(folder, wanted, &fetch, progress).map_err(refused_by(name))?;
        report.rolled_forward |= finished;
        return Ok(InstallDone { folder: folder.to_owned(), before: Some(about.clone()), about, report });
    }
    Err(unreachable.unwrap_or_else(unknown))
}

/// What giving up an installation came to.
#[derive(Debug, Clone)]
pub struct InstallGivenUp {
    /// What is installed now, as before.
    pub about: Option<About>,
    /// In full.
    pub given_up: GivenUp,
}

/// Gives up an installation that was begun in a folder; none when there was nothing to give up.
///
/// # Errors
/// [`ProjectError::Install`].
pub fn give_up_install(folder: &Path) -> Result<Option<InstallGivenUp>, ProjectError> {
    let given_up = install::give_up(folder)?;
    Ok(given_up.map(|given_up| InstallGivenUp { about: given_up.installed.as_ref().and_then(about), given_up }))
}

/// Chooses a target: the one that was asked for, or one that runs on this computer.
fn choose<'a>(
    storefront: &Name,
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
    let (storefront, branch) = (storefront.clone(), branch.clone());
    found.ok_or_else(|| PlayError::NoBuildFor { storefront, branch, wanted, there: there() }.into())
}

/// Returns what the player has of a build: what is asked for, else what was chosen before, else the defaults.
fn chosen(
    branch: &Name,
    target: &Name,
    build: &BuildTarget,
    before: Option<&About>,
    wanted: &InstallWanted,
) -> Result<Chosen, ProjectError> {
    // Without them something may be missing, with them something be there that is another player's.
    if let Some(depot) = build.depots.iter().find(|depot| !depot.players.other.is_empty()) {
        let (target, depot) = (target.clone(), depot.depot.clone());
        return Err(PlayError::NewerDepot { branch: branch.clone(), target, depot }.into());
    }
    let offered: Vec<&Players> = build.depots.iter().map(|depot| &depot.players).collect();
    let before = before.map(|before| &before.chosen);
    let languages = environment::languages();
    Chosen::of(&offered, &build.choices, &wanted.asked, before, &languages).map_err(|what| {
        PlayError::NotOffered { branch: branch.clone(), target: target.clone(), what: Box::new(what) }.into()
    })
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
    Ok((about(&verified.installed), verified))
}

/// Why a player does not get a build.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PlayError {
    /// The branch has nothing for the wanted target.
    #[error("{branch} at {storefront} has nothing for {wanted}")]
    NoBuildFor {
        /// The project's name for the storefront.
        storefront: Name,
        /// The branch.
        branch: Name,
        /// Target or system.
        wanted: String,
        /// Targets that it has something for.
        there: Vec<Name>,
    },
    /// Who downloads a depot depends on something that this lantern does not know.
    #[error(
        "{branch} has a build for {target} that a newer lantern made: who gets its depot {depot} is not known here"
    )]
    NewerDepot {
        /// The branch.
        branch: Name,
        /// The target.
        target: Name,
        /// The depot.
        depot: Name,
    },
    /// What a player asks for is not in the build.
    #[error("{branch} does not offer {what} for {target}")]
    NotOffered {
        /// The branch.
        branch: Name,
        /// The target.
        target: Name,
        /// What, and what there is.
        what: Box<NotOffered>,
    },
    /// The folder holds another game or another branch's state that must not be mixed.
    #[error("{} contains {found}, not {wanted}", .folder.display())]
    OtherGame {
        /// The folder.
        folder: PathBuf,
        /// What is installed there.
        found: String,
        /// What was to be installed.
        wanted: String,
    },
    /// The project does not know where an installed copy came from.
    #[error("{} came from a storefront that is not in lantern.toml", .folder.display())]
    NoStorefrontFor {
        /// The folder.
        folder: PathBuf,
    },
}

impl Explained for PlayError {
    fn class(&self) -> Class {
        match self {
            Self::NoBuildFor { .. }
            | Self::NotOffered { .. }
            | Self::NewerDepot { .. }
            | Self::OtherGame { .. }
            | Self::NoStorefrontFor { .. } => Class::Usage,
        }
    }

    fn fixes(&self) -> Vec<String> {
        let one = |text: &str| vec![text.to_owned()];
        match self {
            Self::NotOffered { what, .. } => match what.as_ref() {
                NotOffered::Choice { there, .. } if there.is_empty() => one("it offers no choice: leave --choose out"),
                NotOffered::AddOn { there, .. } if there.is_empty() => one("it offers none: leave --add-on out"),
                NotOffered::Choice { there, .. } | NotOffered::AddOn { there, .. } => vec![one_of(there)],
                NotOffered::Option { there, .. } => vec![format!("{}, or none", one_of(there))],
            },
            Self::NoBuildFor { there, .. } if there.is_empty() => one("nothing was promoted to this branch yet"),
            Self::NoBuildFor { there, .. } => {
                let names: Vec<&str> = there.iter().map(Name::as_str).collect();
                vec![format!("choose with --target: {}", names.join(", "))]
            }
            Self::NewerDepot { .. } => one("install a newer lantern, then run the same command again"),
            Self::OtherGame { .. } => one("install into another folder"),
            Self::NoStorefrontFor { .. } => {
                one("go to the game's folder, or install again: lantern install STOREFRONT BRANCH DIR")
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// An error keeps what it is on its way through the installer.
    #[test]
    fn a_storefront_that_went_away_is_no_damage() {
        let brambleyard = "brambleyard".parse().unwrap();
        let address = "http://127.0.0.1:9".to_owned();
        let failed = |error: StorefrontError| {
            refused_by(&brambleyard)(InstallError::Fetch { what: "the recipe", source: FetchError::new(error, false) })
        };
        let away = failed(StorefrontError::Unreachable { address: address.clone(), source: "no route".into() });
        assert_eq!(away.class(), Class::Unreachable);
        assert!(away.fixes().iter().any(|fix| fix.contains("what has come is kept")), "{:?}", away.fixes());
        let pretends = failed(StorefrontError::Certificate { address, why: "it has expired".into() });
        assert_eq!(pretends.class(), Class::Unreachable);
        assert!(pretends.fixes().iter().any(|fix| fix.contains("clock")), "{:?}", pretends.fixes());
    }

    #[test]
    fn a_depot_for_players_that_nobody_here_knows_is_no_depot_for_all() {
        let build = |players: &str| -> BuildTarget {
            let recipe = RecipeId::of(b"r");
            let text = format!(
                r#"{{"systems":["linux-x86_64"],"starts":[],"depots":[{{"depot":"letters","handle":"sp-letters",
                    "recipe":"{recipe}","files":1,"size":4,"players":{players}}}]}}"#
            );
            serde_json::from_str(&text).unwrap()
        };
        let (branch, target): (Name, Name) = ("creek".parse().unwrap(), "linux".parse().unwrap());
        let chosen = |players: &str| chosen(&branch, &target, &build(players), None, &InstallWanted::default());
        assert!(chosen("{}").unwrap().takes(&Players::default()));
        let error = chosen(r#"{"region":["north"]}"#).unwrap_err();
        assert!(matches!(&error, ProjectError::Play(PlayError::NewerDepot { .. })), "{error:?}");
        assert_eq!(error.fixes(), ["install a newer lantern, then run the same command again"]);
    }
}
