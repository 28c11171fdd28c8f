//! Signing with the keys that `lantern.toml` names.

use std::collections::BTreeMap;
use std::fmt;
use std::path::Path;
use std::sync::{Arc, Mutex};

use lantern_core::digest::Digest;
use lantern_core::names::Name;
use lantern_core::progress::Progress;
use lantern_core::release::SignedBy;
use lantern_exports::export::{Export, Form, Replacement};
use lantern_exports::intake::Intake;
use lantern_exports::signing::{Signing, SigningError};
use lantern_formats::apk as reader;
use lantern_keys::Passphrase;
use lantern_keys::key::Signer;
use lantern_keys::keyring::Keyring;
use lantern_sign::{SignError, apk, bundle_jar};

use crate::error::Explained;
use crate::keys::Known;
use crate::{Project, ProjectError};

/// What signing does, as part of what decides whether something changed: another number for other bytes of the same key.
const SETTINGS: &str = "android packages and bundles, 1";

/// Gives the passphrase of a key, by asking or from where it is kept.
#[derive(Clone)]
pub struct Passphrases(Arc<Give>);

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
        Self(Arc::new(give))
    }
}

impl fmt::Debug for Passphrases {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Passphrases")
    }
}

impl Project {
    /// The signing of an edition's targets; none where no target names a key. No passphrase is asked for before something is
    /// signed.
    pub(crate) fn key_signing(
        &self,
        edition: &Name,
        passphrases: Option<&Passphrases>,
    ) -> Result<Option<Arc<dyn Signing>>, ProjectError> {
        // What is wrong with a key is a finding, which stops before anything is signed.
        let known = self.config().targets_of(edition).filter_map(|(name, target)| {
            let known = self.known_key(target.sign.as_ref()?).ok()?;
            Some((name.clone(), known))
        });
        let by_target: BTreeMap<Name, Known> = known.collect();
        if by_target.is_empty() {
            return Ok(None);
        }
        let (passphrases, opened) = (passphrases.cloned(), Mutex::default());
        Ok(Some(Arc::new(KeySigning { keyring: self.keyring()?, by_target, passphrases, opened })))
    }
}

/// Signs with keys of the keyring, and with programs.
struct KeySigning {
    keyring: Keyring,
    by_target: BTreeMap<Name, Known>,
    passphrases: Option<Passphrases>,
    /// Keys that were opened, by their names.
    opened: Mutex<BTreeMap<Name, Arc<dyn Signer>>>,
}

impl fmt::Debug for KeySigning {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("KeySigning").field("targets", &self.by_target.keys()).finish_non_exhaustive()
    }
}

/// Why something was not signed: what is in the way, and what to do.
fn refused(target: &Name, why: impl Into<String>, fix: impl Into<String>) -> SigningError {
    SigningError::Refused { target: target.clone(), why: why.into(), fix: fix.into() }
}

/// The first thing to do about an error.
fn fix_of(error: &impl Explained) -> String {
    error.fixes().into_iter().next().unwrap_or_default()
}

impl KeySigning {
    /// What signs: a program as it is, a key once it was opened.
    fn signer(&self, target: &Name, known: &Known) -> Result<Arc<dyn Signer>, SigningError> {
        let name = match known {
            Known::Program(program, _) => return Ok(Arc::new(program.clone())),
            Known::Key(facts) => &facts.name,
        };
        let mut opened = self.opened.lock().expect("nothing panics with the lock");
        if let Some(key) = opened.get(name) {
            return Ok(key.clone());
        }
        let missing = || Err(NoPassphrase::Missing(format!("the passphrase of the key {name} is missing")));
        let passphrase = self.passphrases.as_ref().map_or_else(missing, |passphrases| (passphrases.0)(name));
        let option = "set LANTERN_KEY_PASSPHRASE, or give --passphrase-file";
        let passphrase = passphrase.map_err(|none| match none {
            NoPassphrase::Missing(why) => refused(target, why, option),
            NoPassphrase::Stopped => SigningError::Stopped,
        })?;
        let key = self.keyring.open(name, &passphrase);
        let key = key.map_err(|error| refused(target, format!("the key {name}: {error}"), fix_of(&error)))?;
        if key.chain().first() != known.own() {
            let fix = format!("remove {name}.json in the keyring, and prepare again");
            return Err(refused(target, format!("what is noted of the key {name} is of another key"), fix));
        }
        let key: Arc<dyn Signer> = Arc::new(key);
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

impl Signing for KeySigning {
    fn by(&self, target: &Name) -> Option<SignedBy> {
        let own = self.by_target.get(target)?.own()?;
        Some(SignedBy { signer: Digest::of(own), settings: Digest::of(SETTINGS.as_bytes()) })
    }

    fn sign(
        &self,
        intake: &Intake<'_>,
        work: &Path,
        progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, SigningError> {
        let (target, export) = (intake.name, intake.export());
        let (Some(known), Some(entry)) = (self.by_target.get(target), intake.entries().first()) else {
            return Ok(Vec::new());
        };
        // What the engine signed with this very key stays as it is.
        if signed_by(export) == Some(known.fingerprint().0) {
            return Ok(Vec::new());
        }
        let signer = self.signer(target, known)?;
        let at = work.join("signed");
        let open = || export.open_itself();
        let signed = match export.form {
            Form::Package("aab") => bundle_jar::sign(&open, &at, &*signer, progress),
            _ => apk::sign(&open, &at, &*signer, progress).map(|_| ()),
        };
        match signed {
            Ok(()) => Ok(vec![Replacement { path: entry.source.path.clone(), at }]),
            Err(SignError::Stopped) => Err(SigningError::Stopped),
            Err(SignError::Io(source)) => Err(SigningError::Io { path: at, source }),
            Err(SignError::Refused { what, fix }) => Err(refused(target, what, fix)),
            Err(SignError::Key(error)) => Err(refused(target, error.to_string(), fix_of(&error))),
            Err(other) => Err(refused(target, other.to_string(), "export it again")),
        }
    }
}
