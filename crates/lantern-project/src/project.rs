//! A project: the folder with `lantern.toml` and `.lantern/`.

use std::collections::BTreeMap;
use std::fs::{self, File, TryLockError};
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use lantern_core::config::{self, Config, ConfigKey, STATE_FOLDER, Storefront, Target, VersionSource};
use lantern_core::failpoint;
use lantern_core::finding::{Code, Finding, TextPlace};
use lantern_core::names::{Identity, Name};
use lantern_core::version::Version;
use lantern_store::durable::{self, DurableError};
use lantern_store::store::Store;
use lantern_storefront::{Access, Invited, OnWait, Opening, StorefrontError};

use crate::ProjectError;
use crate::releases::ReleaseError;
use crate::state_folder::{make_state_folder, size_of};

/// The ledger, in the state folder.
pub(crate) const LEDGER: &str = "ledger.db";
/// Longest version file that is read, in bytes.
const MAX_VERSION_FILE_LEN: u64 = 1024;

/// A project that was found and whose configuration is valid.
#[derive(Debug)]
pub struct Project {
    root: PathBuf,
    config: Config,
    config_findings: Vec<Finding>,
    config_text: String,
    /// The one edition that is meant, where not all are.
    only: Option<Name>,
    /// The targets that are meant; empty for all.
    only_targets: Vec<Name>,
    stop: Arc<AtomicBool>,
    on_wait: Option<OnWait>,
    /// Where access is kept, instead of the user's own folder.
    access_folder: Option<PathBuf>,
}

impl Project {
    /// Finds `lantern.toml` in `from` or above it, and reads it.
    ///
    /// # Errors
    /// [`ProjectError::NoProject`], [`ProjectError::Config`], [`ProjectError::File`].
    pub fn find(from: &Path, stop: Arc<AtomicBool>) -> Result<Self, ProjectError> {
        let project = Self::find_to_check(from, stop)?;
        if project.config_findings.is_empty() {
            Ok(project)
        } else {
            Err(ProjectError::Config(project.config_findings))
        }
    }

    /// Returns the folder with `lantern.toml`, which is this one or above it; whether it can be read is not asked.
    pub fn root_above(from: &Path) -> Option<PathBuf> {
        let from = std::path::absolute(from).ok()?;
        let root = from.ancestors().find(|folder| folder.join(config::FILE_NAME).is_file());
        root.map(Path::to_owned)
    }

    /// Finds a project although values in its configuration are wrong, to be checked and for nothing else.
    ///
    /// # Errors
    /// [`ProjectError::NoProject`], [`ProjectError::File`]; [`ProjectError::Config`] when nothing of it can be read.
    pub fn find_to_check(from: &Path, stop: Arc<AtomicBool>) -> Result<Self, ProjectError> {
        let from = std::path::absolute(from)
            .map_err(|e| ProjectError::File(DurableError { what: "find", path: from.to_owned(), source: e }))?;
        // A folder that is not there is a mistake, although one above it may hold a game.
        let root = Self::root_above(&from).filter(|_| from.is_dir());
        let root = root.ok_or_else(|| ProjectError::NoProject(from.clone()))?;
        let path = root.join(config::FILE_NAME);
        let bytes = durable::read_limited(&path, config::MAX_CONFIG_LEN)?;
        let text = String::from_utf8(bytes).map_err(|e| {
            let at = e.utf8_error().valid_up_to();
            let good = String::from_utf8_lossy(&e.as_bytes()[..at]).into_owned();
            let what = "the file is not UTF-8 from here on";
            let finding = Finding::of(Code::NotUtf8, what, "save it as UTF-8 with your editor");
            ProjectError::Config(vec![finding.at(TextPlace::of(config::FILE_NAME, &good, at..at))])
        })?;
        let (config, config_findings) = Config::read_partly(config::FILE_NAME, &text);
        let Some(config) = config else { return Err(ProjectError::Config(config_findings)) };
        Ok(Self {
            root,
            config,
            config_findings,
            config_text: text,
            only: None,
            only_targets: Vec::new(),
            stop,
            on_wait: None,
            access_folder: None,
        })
    }

    /// A project whose `lantern.toml` is about to be written.
    pub(crate) fn beginning(root: &Path, config: Config, text: &str, stop: Arc<AtomicBool>) -> Self {
        let (root, config_text) = (root.to_owned(), text.to_owned());
        Self {
            root,
            config,
            config_findings: Vec::new(),
            config_text,
            only: None,
            only_targets: Vec::new(),
            stop,
            on_wait: None,
            access_folder: None,
        }
    }

    /// Whether only some editions or targets are meant.
    pub(crate) fn is_of_a_part(&self) -> bool {
        self.only.is_some() || !self.only_targets.is_empty()
    }

    /// Returns what is wrong with the configuration; only after [`Self::find_to_check`] there can be something.
    pub(crate) fn config_findings(&self) -> &[Finding] {
        &self.config_findings
    }

    /// Returns the folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Returns the configuration.
    pub fn config(&self) -> &Config {
        &self.config
    }

    /// Returns all editions that have targets; one alone when someone asked for it.
    pub fn editions(&self) -> Vec<Name> {
        let mut editions =
            self.only.as_ref().map_or_else(|| self.config.editions_with_targets(), |only| vec![only.clone()]);
        editions.retain(|edition| self.targets_of(edition).any(|target| self.means(target)));
        editions
    }

    /// Returns the edition that is meant where nothing says which.
    pub fn first_edition(&self) -> Name {
        self.editions().into_iter().next().unwrap_or_else(Name::full_edition)
    }

    /// Works on this edition alone.
    ///
    /// # Errors
    /// [`ProjectError::NoEdition`].
    pub fn only_edition(&mut self, edition: &Name) -> Result<(), ProjectError> {
        if !self.config.editions_with_targets().contains(edition) {
            let known = self.config.editions_with_targets();
            return Err(ProjectError::NoEdition { asked: edition.clone(), known });
        }
        self.only = Some(edition.clone());
        Ok(())
    }

    /// Works on these targets alone; empty for all. The editions that have none of them are left out.
    ///
    /// # Errors
    /// [`ProjectError::NoTargetHere`].
    pub fn only_targets(&mut self, targets: &[Name]) -> Result<(), ProjectError> {
        let known = || self.editions().into_iter().flat_map(|e| self.targets_of(&e).cloned().collect::<Vec<_>>());
        if let Some(asked) = targets.iter().find(|target| !known().any(|known| known == **target)) {
            return Err(ProjectError::NoTargetHere { asked: asked.clone(), known: known().collect() });
        }
        self.only_targets = targets.to_vec();
        Ok(())
    }

    fn targets_of<'a>(&'a self, edition: &'a Name) -> impl Iterator<Item = &'a Name> {
        self.config.targets_of(edition).map(|(name, _)| name)
    }

    /// Takes the exports of these targets, and of no others, from elsewhere. Returns what undoes it.
    pub(crate) fn take_exports_from(
        &mut self,
        elsewhere: &BTreeMap<Name, String>,
    ) -> (BTreeMap<Name, Target>, Vec<Name>) {
        let before = (self.config.targets.clone(), self.only_targets.clone());
        for (name, path) in elsewhere {
            if let Some(target) = self.config.targets.get_mut(name) {
                target.export.clone_from(path);
            }
        }
        self.only_targets = elsewhere.keys().cloned().collect();
        before
    }

    /// Undoes [`Self::take_exports_from`].
    pub(crate) fn take_exports_as_before(&mut self, (targets, only): (BTreeMap<Name, Target>, Vec<Name>)) {
        (self.config.targets, self.only_targets) = (targets, only);
    }

    /// Whether a target is one of those that are meant.
    pub(crate) fn means(&self, target: &Name) -> bool {
        self.only_targets.is_empty() || self.only_targets.contains(target)
    }

    /// Returns the one edition that someone asked for; none where all are meant.
    pub(crate) fn only_one(&self) -> Option<&Name> {
        self.only.as_ref()
    }

    /// Where builds are laid out to be tried.
    pub(crate) fn trials(&self) -> PathBuf {
        self.state("cache").join("try")
    }

    /// Keeps a laid out build for the one who tries it now.
    ///
    /// # Errors
    /// [`ReleaseError::BeingTried`], [`ProjectError::File`].
    pub(crate) fn use_trial(&self, target: &Name) -> Result<File, ProjectError> {
        let folder = self.trials();
        durable::create_folders(&folder)?;
        let path = folder.join(format!("{target}.lock"));
        let io = |what| {
            let path = path.clone();
            move |source| ProjectError::File(DurableError { what, path, source })
        };
        let lock = durable::open_own(&path, true).map_err(io("open"))?;
        match lock.try_lock() {
            Ok(()) => Ok(lock),
            Err(TryLockError::WouldBlock) => Err(ReleaseError::BeingTried { target: target.clone() }.into()),
            Err(TryLockError::Error(e)) => Err(io("lock")(e)),
        }
    }

    /// Returns the laid out builds that nobody tries now, each with what keeps it from being tried meanwhile.
    fn spare_trials(&self) -> Vec<(PathBuf, File)> {
        let entries = fs::read_dir(self.trials()).into_iter().flatten().flatten();
        let names = entries.filter_map(|entry| entry.file_name().into_string().ok()?.parse::<Name>().ok());
        names.filter_map(|name| Some((self.trials().join(name.as_str()), self.use_trial(&name).ok()?))).collect()
    }

    /// Returns the bytes of what can be made again at any time.
    pub(crate) fn spare_size(&self) -> u64 {
        self.spare_trials().iter().map(|(folder, _)| size_of(folder)).sum()
    }

    /// Removes what can be made again at any time, and takes much room.
    ///
    /// # Errors
    /// [`ProjectError::File`].
    pub(crate) fn clear_spare(&self) -> Result<(), ProjectError> {
        for (folder, _in_use) in self.spare_trials() {
            match failpoint::remove().and_then(|()| fs::remove_dir_all(&folder)) {
                Err(e) if e.kind() != ErrorKind::NotFound => {
                    return Err(DurableError { what: "remove", path: folder, source: e }.into());
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Whether there is more than one edition, so that its name must be said.
    pub fn has_editions(&self) -> bool {
        self.config.editions_with_targets().len() > 1
    }

    /// Returns what players know the edition as.
    pub fn edition_name(&self, edition: &Name) -> &str {
        self.config.editions.get(edition).map_or(self.config.game.name.as_str(), |e| e.name.as_str())
    }

    /// Returns the identity of an edition.
    pub fn identity(&self, edition: &Name) -> &Identity {
        self.config.editions.get(edition).map_or(&self.config.game.identity, |e| &e.identity)
    }

    /// Keeps access in a folder of its own from now on, instead of the user's.
    pub fn keep_access_in(&mut self, folder: PathBuf) {
        self.access_folder = Some(folder);
    }

    pub(crate) fn access_folder(&self) -> Option<&Path> {
        self.access_folder.as_deref()
    }

    /// Tells someone of waiting for storefronts from now on.
    pub fn tell_of_waiting(&mut self, tell: impl Fn(Duration, &str) + Send + Sync + 'static) {
        self.on_wait = Some(OnWait::new(tell));
    }

    /// Opens a storefront; nothing is sent yet.
    pub(crate) fn ask_as(
        &self,
        at: &Storefront,
        access: Option<Access>,
        invited: Option<Invited>,
    ) -> Result<Arc<dyn lantern_storefront::Storefront>, StorefrontError> {
        let (branches, on_wait, stop) = (at.theirs.clone(), self.on_wait.clone(), self.stop());
        lantern_storefront::open(&at.kind, Opening { access, invited, branches, on_wait, said: None, stop })
    }

    /// Returns the flag that ends waiting.
    pub(crate) fn stop(&self) -> Arc<AtomicBool> {
        self.stop.clone()
    }

    pub(crate) fn state(&self, name: &str) -> PathBuf {
        self.root.join(STATE_FOLDER).join(name)
    }

    /// Returns where a value stands in the configuration, for findings about values that were valid by themselves.
    pub(crate) fn place_of(&self, way: &[&str]) -> TextPlace {
        let way: Vec<ConfigKey<'_>> = way.iter().map(|key| ConfigKey::Key(key)).collect();
        Config::place(config::FILE_NAME, &self.config_text, &way)
    }

    /// Returns the version that is configured for an edition, read from its file where it has one.
    pub(crate) fn version(&self, edition: &Name) -> Result<Version, ProjectError> {
        let of_edition = self.config.editions.get(edition).map(|e| &e.version);
        match of_edition.unwrap_or(&self.config.game.version) {
            VersionSource::Here(version) => Ok(version.clone()),
            VersionSource::File(name) => {
                let bytes = durable::read_limited(&self.root.join(name), MAX_VERSION_FILE_LEN)?;
                let text = String::from_utf8_lossy(&bytes).trim().to_owned();
                text.parse().map_err(|e: lantern_core::version::VersionError| {
                    let what = format!("the version file {name}: {e}");
                    let finding =
                        Finding::of(Code::WrongVersion, what, "write a version such as 1.4.0 and nothing else");
                    ProjectError::Config(vec![finding.at(self.place_of(&["game", "version"]))])
                })
            }
        }
    }

    /// Makes `.lantern/` where it is missing and returns the path of something in it.
    ///
    /// # Errors
    /// [`ProjectError::ForeignState`], [`ProjectError::File`].
    pub fn state_for(&self, name: &str) -> Result<PathBuf, ProjectError> {
        make_state_folder(&self.root)?;
        Ok(self.state(name))
    }

    /// Whether anything was recorded yet.
    pub fn has_ledger(&self) -> bool {
        self.state(LEDGER).is_file()
    }

    pub(crate) fn open_store(&self) -> Store {
        Store::at(self.state("store"))
    }
}
