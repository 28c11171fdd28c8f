//! Stamping and signing as `lantern.toml` says: with the version and the number of the release, and with the keys that it names.

use std::collections::BTreeMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use lantern_core::config::{AD_HOC, Target};
use lantern_core::digest::Digest;
use lantern_core::finding::Finding;
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::progress::Progress;
use lantern_core::release::{ChangedBy, ReleaseRecord, TargetRecord};
use lantern_core::version::ReleaseName;
use lantern_exports::changing::{Changing, ChangingError, KnownFiles, Replacement};
use lantern_exports::export::{Export, Form};
use lantern_exports::intake::Intake;
use lantern_formats::apk as reader;
use lantern_keys::Passphrase;
use lantern_keys::key::Signer;
use lantern_keys::keyring::Keyring;
use lantern_sign::pe::Description;
use lantern_sign::rotation::{self, Lineage, Rotation};
use lantern_sign::stamp::{self, Edits, Stamp};
use lantern_sign::{apk, bundle_jar};

use crate::approvals::Approvals;
use crate::keys::Known;
use crate::not_changed::{changing_error, fix_of, refused};
use crate::sign_code::{self, CodeSeal, Words};
use crate::sign_files::{self, Clock, Signs};
use crate::{Project, ProjectError};

/// What signing and stamping do, as part of what decides whether something changed: another number for other bytes of the same
/// key, version and number.
const SIGNING: &str = "android packages and bundles, 1";
const PROGRAMS: &str = "windows programs, 1";
const CODE: &str = "programs and bundles for macos and ios, 1";
const LISTS: &str = "a list of files, 1";
const STAMPED_PROGRAMS: &str = "stamped version resources, 1";
const STAMPING: &str = "stamped android manifests, 1";
const APPROVAL: &str = "approval, 1";
const LINEAGE: &str = "a chain of keys, 1";
const VERSION_FILE: &str = "version file, 1";

/// What was done to the targets of a release before they were sealed.
#[derive(Debug, Clone, Default)]
pub struct DoneTo {
    /// For each target that was signed: the key of the keyring, or [`AD_HOC`].
    pub signed_with: BTreeMap<Name, Name>,
    /// For each target that came signed with its key, and stays as it is: that key.
    pub signed_before: BTreeMap<Name, Name>,
    /// For each target that is stamped: where the version and the number were written.
    pub stamped: BTreeMap<Name, String>,
    /// For each target with a ticket: whose.
    pub looked_at: BTreeMap<Name, Name>,
}

/// Gives the passphrase of a key, by asking or from where it is kept, and keeps what was opened with it: each once in a run.
#[derive(Clone)]
pub struct Passphrases {
    give: Arc<Give>,
    /// By their names.
    opened: Arc<Mutex<BTreeMap<Name, Arc<dyn Signer>>>>,
}

type Give = dyn Fn(&Name) -> Result<Passphrase, NoPassphrase> + Send + Sync;

/// Why there is no passphrase.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NoPassphrase {
    /// Nobody gave it: why.
    Missing(String),
    /// Someone asked to stop.
    Stopped,
}

impl Passphrases {
    /// Those that a function gives.
    pub fn new(give: impl Fn(&Name) -> Result<Passphrase, NoPassphrase> + Send + Sync + 'static) -> Self {
        Self { give: Arc::new(give), opened: Arc::default() }
    }
}

impl Default for Passphrases {
    /// None.
    fn default() -> Self {
        Self::new(|name| Err(NoPassphrase::Missing(format!("the passphrase of {name} is missing"))))
    }
}

impl fmt::Debug for Passphrases {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Passphrases")
    }
}

impl Project {
    /// What is stamped and signed of an edition's targets; none where nothing is. No passphrase is asked for before something is
    /// signed.
    pub(crate) fn stamp_and_sign(
        &self,
        edition: &Name,
        passphrases: Option<&Passphrases>,
        (unsigned, tickets): (bool, &[PathBuf]),
    ) -> Result<Option<Arc<dyn Changing>>, ProjectError> {
        // What is not signed nobody looks at.
        let approvals = self.approvals(edition, tickets);
        let mut by_target = BTreeMap::new();
        for (name, target) in self.config().targets_of(edition) {
            // What is wrong with a key is a finding, which stops before anything is signed.
            let signer = target.sign.as_ref().filter(|_| !unsigned).and_then(|key| self.known_key(key).ok());
            let rotation = signer.as_ref().and_then(|known| self.lineage_of(target, known).ok().flatten());
            let rotation = rotation.map(|(lineage, first)| Rotated {
                lineage,
                first,
                since: target.lineage_from.unwrap_or(rotation::SINCE),
            });
            let is_ad_hoc = target.sign.as_ref().is_some_and(|key| !unsigned && key.as_str() == AD_HOC);
            // What is wrong with them is a finding, too.
            let words = Words::read(self.root(), target).unwrap_or_default();
            let (is_stamped, version_file) = (target.stamp, target.version_file.clone());
            let approval = approvals.of(name).filter(|_| signer.is_some()).cloned();
            let config = target.clone();
            let wanted = Wanted { signer, is_ad_hoc, words, approval, rotation, is_stamped, version_file, config };
            if !wanted.is_nothing() {
                by_target.insert(name.clone(), wanted);
            }
        }
        if by_target.is_empty() {
            return Ok(None);
        }
        let passphrases = passphrases.cloned().unwrap_or_default();
        let are_there =
            by_target.values().any(|wanted| wanted.signer.is_some() && signs_of(&wanted.config) != Some(Signs::List));
        let clock = self.config().time_stamps.as_ref().filter(|_| are_there).map(|of| Clock::new(of, self.stop()));
        let clock = clock.transpose().map_err(|error| ProjectError::NoHttp(error.to_string()))?;
        let about = Description { name: self.config().game.name.clone(), address: None };
        Ok(Some(Arc::new(AsConfigured {
            keyring: self.keyring()?,
            by_target,
            passphrases,
            clock,
            about,
            approvals: Some(approvals),
        })))
    }

    /// Whether a target has something that version and number can be written into: a manifest, a version resource, or an `Info.plist`.
    pub(crate) fn can_be_stamped(&self, target: &Name) -> bool {
        let Some(target) = self.config().targets.get(target) else { return false };
        let is_package = matches!(Form::of_name(&target.export), Some(Form::Package(_)));
        is_package || matches!(signs_of(target), Some(Signs::Programs | Signs::Code))
    }

    /// Whether a target's own manifest gets the version and the number.
    pub(crate) fn is_stamped_inside(&self, target: &Name) -> bool {
        self.config().targets.get(target).is_some_and(|target| target.stamp)
    }

    /// What was done to the targets of a release.
    pub(crate) fn done_to(&self, record: &ReleaseRecord) -> DoneTo {
        let mut done = DoneTo { stamped: self.stamped(record), looked_at: self.looked_at(record), ..DoneTo::default() };
        for target in record.targets.iter().filter(|target| !target.unsigned) {
            let key = self.config().targets.get(&target.target).and_then(|of| of.sign.clone());
            let (Some(key), Some(changed)) = (key, &target.changed) else { continue };
            if target.signer().is_none() && key.as_str() != AD_HOC {
                continue;
            }
            let as_it_came = changed.replaced.is_empty();
            let by_target = if as_it_came { &mut done.signed_before } else { &mut done.signed_with };
            by_target.insert(target.target.clone(), key);
        }
        done
    }

    /// For each target of a release that says which one it is of: where that was written.
    fn stamped(&self, record: &ReleaseRecord) -> BTreeMap<Name, String> {
        let place = |of: &TargetRecord| {
            let target = self.config().targets.get(&of.target)?;
            let file = target.version_file.as_ref().map(TreePath::shown);
            let inside = match Signs::of_systems(&of.systems) {
                Some(Signs::Programs) => "the version resource",
                Some(Signs::Code) => "Info.plist",
                _ => "the manifest",
            };
            let places: Vec<String> = file.into_iter().chain(target.stamp.then(|| inside.to_owned())).collect();
            (!places.is_empty()).then(|| places.join(" and "))
        };
        record.targets.iter().filter_map(|target| Some((target.target.clone(), place(target)?))).collect()
    }
}

/// What is done to a target before it is sealed.
struct Wanted {
    signer: Option<Known>,
    is_ad_hoc: bool,
    /// What signatures for macOS and iOS say.
    words: Words,
    /// Who looks at it.
    approval: Option<Name>,
    rotation: Option<Rotated>,
    is_stamped: bool,
    version_file: Option<TreePath>,
    config: Target,
}

/// The keys that came before the one that signs.
struct Rotated {
    lineage: Lineage,
    /// The name of the first of them in the keyring.
    first: Name,
    since: u32,
}

impl Wanted {
    fn is_nothing(&self) -> bool {
        self.signer.is_none() && !self.is_ad_hoc && !self.is_stamped && self.version_file.is_none()
    }

    /// What is done, as part of what decides whether something changed.
    fn settings(&self, about: &Description, has_clock: bool) -> Digest {
        let form = Form::of_name(&self.config.export);
        let is_package = matches!(form, Some(Form::Package(_))) && form != Some(Form::Package("ipa"));
        let is_signed = self.signer.is_some() || self.is_ad_hoc;
        let signing = is_signed.then(|| match (is_package, signs_of(&self.config)) {
            (true, _) => SIGNING.to_owned(),
            (false, Some(Signs::Code)) => {
                let words = self.words.digest();
                format!("{CODE}: {words}, ad hoc: {}, time stamps: {has_clock}", self.is_ad_hoc)
            }
            (false, Some(Signs::List)) => LISTS.to_owned(),
            // Where the systems are seen from the export, it may be either.
            (false, _) => {
                let (name, files) = (&about.name, self.config.sign_files.texts().join("\n"));
                let words = self.words.digest();
                format!("{PROGRAMS}: {name:?}, {files:?}, {words}, time stamps: {has_clock}")
            }
        });
        let stamping = if is_package { STAMPING } else { STAMPED_PROGRAMS };
        let stamping = self.is_stamped.then(|| stamping.to_owned());
        let rotation = self.rotation.as_ref().map(|rotated| {
            let lineage = Digest::of(rotated.lineage.file().as_bytes());
            format!("{LINEAGE} since {}: {lineage}", rotated.since)
        });
        let file = self.version_file.as_ref().map(|path| format!("{VERSION_FILE}: {path}"));
        let approval = self.approval.as_ref().map(|by| format!("{APPROVAL} by {by}"));
        let all: Vec<String> =
            signing.into_iter().chain(approval).chain(stamping).chain(rotation).chain(file).collect();
        Digest::of(all.join("\n").as_bytes())
    }
}

/// Stamps, and signs with keys of the keyring and with programs.
pub(crate) struct AsConfigured {
    keyring: Keyring,
    by_target: BTreeMap<Name, Wanted>,
    passphrases: Passphrases,
    /// Who states when programs for Windows are signed.
    clock: Option<Clock>,
    /// What is said of them.
    about: Description,
    approvals: Option<Approvals>,
}

/// What `sign` does with a target that is no package, as far as the configuration alone says it: the systems of a build may be seen
/// from it.
fn signs_of(target: &Target) -> Option<Signs> {
    Signs::of_systems(&target.systems)
}

impl fmt::Debug for AsConfigured {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("AsConfigured").field("targets", &self.by_target.keys()).finish_non_exhaustive()
    }
}

impl AsConfigured {
    /// For one key alone, whatever is configured.
    pub(crate) fn for_one(keyring: Keyring, passphrases: Option<Passphrases>) -> Self {
        Self {
            keyring,
            by_target: BTreeMap::new(),
            passphrases: passphrases.unwrap_or_default(),
            clock: None,
            about: Description::default(),
            approvals: None,
        }
    }

    /// What signs: a program as it is, a key once it was opened.
    pub(crate) fn signer(&self, target: &Name, known: &Known) -> Result<Arc<dyn Signer>, ChangingError> {
        match known {
            Known::Program(program, _) => Ok(Arc::new(program.clone())),
            Known::Key(facts) => self.key(target, &facts.name, known.own()),
            Known::Token(token, _) => self.opened(target, &token.name, |pin| {
                let open = token.open(pin).map_err(|error| refused(target, error.to_string(), fix_of(&error)))?;
                Ok(Arc::new(open))
            }),
        }
    }

    /// A key of the keyring, opened, if its certificate is the one that is known.
    fn key(&self, target: &Name, name: &Name, own: Option<&Vec<u8>>) -> Result<Arc<dyn Signer>, ChangingError> {
        self.opened(target, name, |passphrase| {
            let key = self.keyring.open(name, passphrase);
            let key = key.map_err(|error| refused(target, format!("the key {name}: {error}"), fix_of(&error)))?;
            if key.chain().first() != own {
                let fix = format!("remove {name}.json in the keyring, and prepare again");
                return Err(refused(target, format!("what is noted of the key {name} is of another key"), fix));
            }
            Ok(Arc::new(key))
        })
    }

    /// What signs, opened once in a run with a passphrase or a PIN.
    fn opened(
        &self,
        target: &Name,
        name: &Name,
        open: impl FnOnce(&Passphrase) -> Result<Arc<dyn Signer>, ChangingError>,
    ) -> Result<Arc<dyn Signer>, ChangingError> {
        let mut opened = self.passphrases.opened.lock().expect("nothing panics with the lock");
        if let Some(key) = opened.get(name) {
            return Ok(key.clone());
        }
        let passphrase = (self.passphrases.give)(name);
        let option = "set LANTERN_KEY_PASSPHRASE, or give --passphrase-file";
        let passphrase = passphrase.map_err(|none| match none {
            NoPassphrase::Missing(why) => refused(target, why, option),
            NoPassphrase::Stopped => ChangingError::Stopped,
        })?;
        let key = open(&passphrase)?;
        opened.insert(name.clone(), key.clone());
        Ok(key)
    }
}

/// The certificate's fingerprint of who has signed a package, by its newest valid signature.
fn signed_by(export: &Export) -> Option<[u8; 32]> {
    let whole = reader::verify(&|| export.open_itself()).unwrap_or_default();
    if let Some(scheme) = whole.last().filter(|scheme| scheme.wrong.is_none()) {
        return scheme.signers.first().map(|signer| signer.fingerprint);
    }
    let found = bundle_jar::signed_by(&|| export.open_itself()).ok().flatten()?;
    reader::SignedBy::of(&found).ok().map(|signer| signer.fingerprint)
}

impl Changing for AsConfigured {
    fn by(&self, target: &Name) -> Option<ChangedBy> {
        let wanted = self.by_target.get(target)?;
        let own = wanted.signer.as_ref().and_then(Known::own);
        Some(ChangedBy {
            signer: own.map(|own| Digest::of(own)),
            settings: wanted.settings(&self.about, self.clock.is_some()),
        })
    }

    fn is_stamped(&self, target: &Name) -> bool {
        self.by_target.get(target).is_some_and(|wanted| wanted.is_stamped || wanted.version_file.is_some())
    }

    fn change(
        &self,
        intake: &Intake<'_>,
        release: &ReleaseName,
        known_files: &KnownFiles<'_>,
        work: &Path,
        progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, ChangingError> {
        let (target, export) = (intake.name, intake.export());
        let Some(wanted) = self.by_target.get(target) else { return Ok(Vec::new()) };
        if !intake.is_package() || export.form == Form::Package("ipa") {
            return self.change_files(intake, wanted, release, known_files, work, progress);
        }
        let (Some(known), Some(entry)) = (&wanted.signer, intake.entries().first()) else { return Ok(Vec::new()) };
        let (at, open) = (work.join("signed"), || export.open_itself());
        let is_bundle = export.form == Form::Package("aab");
        let edits = match (wanted.is_stamped, is_bundle) {
            (false, _) => Ok(Edits::new()),
            (true, false) => stamp::package(&open, &stamp_of(release)),
            (true, true) => stamp::bundle(&open, &stamp_of(release)),
        };
        let edits = edits.map_err(|error| changing_error("stamped", target, &at, error))?;
        // What the engine signed with this very key stays as it is, unless a chain has to be in it.
        let may_stay = edits.is_empty() && wanted.rotation.is_none();
        if may_stay && signed_by(export) == Some(known.fingerprint().0) {
            return Ok(Vec::new());
        }
        let signer = self.signer(target, known)?;
        let first = wanted.rotation.as_ref().map(|rotated| {
            let own = rotated.lineage.certificates().first();
            Ok::<_, ChangingError>((rotated, self.key(target, &rotated.first, own)?))
        });
        let first = first.transpose()?;
        let rotation = first.as_ref().map(|(rotated, first)| Rotation {
            first: &**first,
            lineage: &rotated.lineage,
            since: rotated.since,
        });
        let signed = match is_bundle {
            true => bundle_jar::sign(&open, &edits, &at, &*signer, progress),
            false => apk::sign((&open, &edits), &at, &*signer, rotation.as_ref(), progress).map(|_| ()),
        };
        signed.map_err(|error| changing_error("signed", target, &at, error))?;
        Ok(vec![Replacement { path: entry.source.path.clone(), at }])
    }

    fn approve(
        &self,
        intake: &Intake<'_>,
        release: &ReleaseName,
        files: Vec<Replacement>,
        work: &Path,
        progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, ChangingError> {
        let is_looked_at = self.by_target.get(intake.name).is_some_and(|wanted| wanted.approval.is_some());
        match self.approvals.as_ref().filter(|_| is_looked_at) {
            Some(approvals) => approvals.approve(intake, &release.version, files, work, progress),
            None => Ok(files),
        }
    }

    fn findings(&self) -> Vec<(Name, Finding)> {
        self.clock.as_ref().map(Clock::findings).unwrap_or_default()
    }
}

impl AsConfigured {
    /// Stamps and signs a build that is no package.
    fn change_files(
        &self,
        intake: &Intake<'_>,
        wanted: &Wanted,
        release: &ReleaseName,
        known_files: &KnownFiles<'_>,
        work: &Path,
        progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, ChangingError> {
        let mut files = Vec::new();
        if let Some(path) = &wanted.version_file {
            let at = work.join("version");
            let written = std::fs::write(&at, version_file(release));
            written.map_err(|source| ChangingError::Io { path: at.clone(), source })?;
            files.push(Replacement { path: path.clone(), at });
        }
        let start = intake.starts.first().map(|start| start.file.clone()).filter(|_| wanted.is_stamped);
        let stamp = start.map(|start| (start, stamp_of(release)));
        let signs = Signs::of(intake);
        let signer = wanted.signer.as_ref().map(|known| self.signer(intake.name, known)).transpose()?;
        if signs == Some(Signs::Code) {
            let stamp = wanted.is_stamped.then(|| stamp_of(release));
            let seal = CodeSeal {
                name: intake.name,
                signer: signer.as_deref(),
                is_unsigned: signer.is_none() && !wanted.is_ad_hoc,
                in_parallel: !matches!(wanted.signer, Some(Known::Program(..))),
                clock: self.clock.as_ref(),
                words: &wanted.words,
                stamp: stamp.as_ref(),
            };
            if !seal.is_unsigned || wanted.is_stamped {
                files.extend(sign_code::sign(intake, &seal, work, progress)?);
            }
            return Ok(files);
        }
        let (Some(known), Some(signer)) = (&wanted.signer, signer) else {
            if let Some((path, stamp)) = &stamp {
                files.extend(sign_files::stamp_alone(intake, path, stamp, work)?);
            }
            return Ok(files);
        };
        match signs {
            Some(Signs::Programs) => {
                let seal = sign_files::Seal {
                    name: intake.name,
                    signer: &*signer,
                    about: &self.about,
                    clock: self.clock.as_ref(),
                };
                let programs = sign_files::Programs {
                    seal,
                    config: intake.target,
                    // A program of the studio's own may ask a person.
                    in_parallel: !matches!(known, Known::Program(..)),
                    stamp,
                };
                files.extend(programs.sign(intake, known_files, work, progress)?);
            }
            Some(Signs::List) => {
                let list = sign_files::sign_list(intake, &files, &*signer, work, progress)?;
                files.extend(list);
            }
            Some(Signs::Code) | None => {
                return Err(refused(intake.name, "nothing in it can be signed", "remove sign from this target"));
            }
        }
        Ok(files)
    }
}

fn stamp_of(release: &ReleaseName) -> Stamp {
    Stamp { version: release.version.to_string(), number: release.number.get() }
}

/// What a version file holds: the version in its first line, the number in its second.
pub(crate) fn version_file(release: &ReleaseName) -> String {
    format!("{}\n{}\n", release.version, release.number)
}
