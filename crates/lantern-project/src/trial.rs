//! `try`: exactly what was sealed is started, and someone's yes is recorded.

use std::fs::File;
use std::path::PathBuf;

use lantern_core::board::KnownRelease;
use lantern_core::digest::RecipeId;
use lantern_core::event::{EventBody, Tried};
use lantern_core::names::Name;
use lantern_core::progress::Progress;
use lantern_core::release::{Start, TargetRecord, start_for};
use lantern_core::system::{Family, System};
use lantern_core::template::Values;
use lantern_store::install::{self, OwnFiles, Wanted};

use crate::ProjectError;
use crate::releases::ReleaseError;
use crate::workspace::Session;

/// A sealed build that lies ready to be started.
#[derive(Debug)]
pub struct Trial {
    /// The release.
    pub release: KnownRelease,
    /// The build.
    pub target: TargetRecord,
    /// Where its files lie.
    pub folder: PathBuf,
    /// What starts it.
    pub start: Start,
    /// Nobody lays out another build there, or removes it, while this lives; a kill frees it.
    _in_use: File,
}

impl Trial {
    /// Whether a browser opens it.
    pub fn is_for_browser(&self) -> bool {
        is_web(&self.target)
    }

    /// Returns the program, its arguments and the folder that it works in.
    pub fn command(&self) -> (PathBuf, Vec<String>, PathBuf) {
        let works_in = self.start.folder.as_ref().map_or_else(|| self.folder.clone(), |f| self.folder.join(f.as_str()));
        (self.folder.join(self.start.file.as_str()), self.start.arguments.clone(), works_in)
    }
}

fn is_web(target: &TargetRecord) -> bool {
    target.systems.iter().any(|system| system.family() == Family::Web)
}

/// Where a build is tried.
#[derive(Debug, Clone)]
pub enum TrialPlace {
    /// On this computer, or in a browser here.
    Here,
    /// On a device of these systems; of any, where none is named.
    Elsewhere(Vec<System>),
}

/// A command that puts a build on a device and starts it.
#[derive(Debug, Clone)]
pub struct DeviceCommand {
    /// The device.
    pub device: Name,
    /// The program.
    pub program: PathBuf,
    /// Its arguments.
    pub arguments: Vec<String>,
}

impl Session {
    /// Returns the systems of a device; of the only one, where none is named.
    ///
    /// # Errors
    /// [`ReleaseError::NoDevice`].
    pub fn device(&self, asked: Option<&Name>) -> Result<(Name, Vec<System>), ProjectError> {
        let devices = &self.project().config().devices;
        let mut fits = devices.iter().filter(|(name, _)| asked.is_none_or(|asked| asked == *name));
        match (fits.next(), fits.next()) {
            (Some((name, device)), None) => Ok((name.clone(), device.systems.clone())),
            _ => Err(ReleaseError::NoDevice { known: devices.keys().cloned().collect() }.into()),
        }
    }

    /// The command of a device for a build that lies ready.
    ///
    /// # Errors
    /// [`ReleaseError::NoDevice`].
    pub fn device_command(&self, device: &Name, trial: &Trial) -> Result<DeviceCommand, ProjectError> {
        let project = self.project();
        let devices = &project.config().devices;
        let unknown = || ReleaseError::NoDevice { known: devices.keys().cloned().collect() };
        let configured = devices.get(device).ok_or_else(unknown)?;
        let mut values = Values::default();
        values.set("game.name", project.edition_name(&trial.release.edition));
        values.set("game.identity", project.identity(&trial.release.edition).to_string());
        values.set("target", trial.target.target.to_string());
        values.set("release.version", trial.release.name.version.to_string());
        values.set("release.number", trial.release.name.number.to_string());
        let folder = std::path::absolute(&trial.folder).unwrap_or_else(|_| trial.folder.clone());
        values.set("folder", folder.display().to_string());
        values.set("file", folder.join(trial.start.file.as_str()).display().to_string());
        let mut words = configured.run.iter().map(|word| word.fill(&values));
        let program = words.next().unwrap_or_default();
        // A path is one from the project's folder; a name alone is looked for as the system does.
        let program = match program.contains(['/', '\\']) {
            true => project.root().join(program),
            false => program.into(),
        };
        Ok(DeviceCommand { device: device.clone(), program, arguments: words.collect() })
    }

    /// Lays a sealed build out with all its depots; without a target the one for this computer, else the browser's, or the one
    /// for the device.
    ///
    /// # Errors
    /// [`ReleaseError::NothingToTry`], [`ReleaseError::NoTarget`], [`ReleaseError::Freed`], and those of the store.
    pub fn lay_out_trial(
        &self,
        release: KnownRelease,
        target: Option<&Name>,
        place: &TrialPlace,
        progress: &dyn Progress,
    ) -> Result<Trial, ProjectError> {
        self.workspace.refuse_without_content(&release)?;
        let record = self.workspace.store.record(release.id)?;
        let names = || record.targets.iter().map(|t| t.target.clone()).collect();
        let runs = |t: &&TargetRecord| match place {
            TrialPlace::Here => System::any_runs_here(&t.systems) || is_web(t),
            TrialPlace::Elsewhere(systems) => systems.is_empty() || t.systems.iter().any(|s| systems.contains(s)),
        };
        let chosen = match target {
            Some(asked) => {
                let known =
                    || ReleaseError::NoTarget { release: release.name.clone(), asked: asked.clone(), known: names() };
                let found = record.targets.iter().find(|t| t.target == *asked).ok_or_else(known)?;
                Some(found).filter(runs)
            }
            None if matches!(place, TrialPlace::Elsewhere(_)) => record.targets.iter().find(runs),
            None => {
                let here = record.targets.iter().find(|t| System::any_runs_here(&t.systems));
                here.or_else(|| record.targets.iter().find(|t| is_web(t)))
            }
        };
        let nothing = || ReleaseError::NothingToTry { release: release.name.clone(), targets: names() };
        let chosen = chosen.ok_or_else(nothing)?.clone();
        let start = match place {
            TrialPlace::Here => start_for(&chosen.starts, System::this_computer()),
            TrialPlace::Elsewhere(_) => chosen.starts.first(),
        };
        let start = start.ok_or_else(nothing)?.clone();
        let folder = self.project().trials().join(chosen.target.as_str());
        let in_use = self.project().use_trial(&chosen.target)?;
        let _held = self.workspace.hold_store(progress)?;
        let recipes: Result<Vec<RecipeId>, _> =
            chosen.depots.iter().map(|d| self.workspace.store.recipe_of(d.tree)).collect();
        let about = serde_json::json!({ "release": release.name, "target": chosen.target });
        let wanted = Wanted {
            recipes: &recipes?,
            about,
            own_files: OwnFiles::Aside,
            private: None,
            updates: &[],
            read_all: false,
        };
        let laid_out = install::install(&folder, wanted, &self.workspace.store, progress);
        if laid_out.is_err() && !progress.stopped() {
            // Half a build is of no use to anybody, and the room that it takes may be all that there was.
            let _ = std::fs::remove_dir_all(&folder);
        }
        laid_out?;
        Ok(Trial { release, target: chosen, folder, start, _in_use: in_use })
    }

    /// Records what someone said of a build.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn record_trial(&mut self, trial: &Trial, yes: bool) -> Result<(), ProjectError> {
        let (release, name) = (trial.release.id, trial.release.name.clone());
        let tried = Tried { release, name, target: trial.target.target.clone(), yes };
        self.workspace.record(&trial.release.edition, EventBody::Tried(tried), None).map(|_| ())
    }
}
