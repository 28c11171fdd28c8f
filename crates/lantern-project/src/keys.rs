//! The keys of a project: which one signs what, what is wrong with them, and which each identity is known by.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use jiff::ToSpan;
use lantern_core::config::{self, AD_HOC, SignerKind, Target};
use lantern_core::digest::Digest;
use lantern_core::finding::{Code, Finding, Severity, join_some};
use lantern_core::names::{Identity, Name, nearest};
use lantern_core::path::shown;
use lantern_core::pins::{Fingerprint, Role, with_pin};
use lantern_core::release::ReleaseRecord;
use lantern_exports::WindowsProgram;
use lantern_exports::claims::PackageSigner;
use lantern_exports::export::Form;
use lantern_exports::intake::Intake;
use lantern_keys::keyring::{Facts, Keyring};
use lantern_keys::program::Program;
use lantern_keys::sheets::SheetError;
use lantern_keys::token::{Token, TokenError};
use lantern_keys::{KeyError, certificate, file, pem};
use lantern_sign::rotation::Lineage;
use lantern_store::durable;

use crate::doctor::Checkup;
use crate::error::{Class, Explained, fix_of_disk};
use crate::listed::{LIST, LIST_SIGNATURE};
use crate::sign_files::{Plan, Signs};
use crate::{Project, ProjectError, access, environment};

impl Explained for KeyError {
    fn class(&self) -> Class {
        match self {
            Self::Passphrase
            | Self::KeyPassphrase
            | Self::Program { .. }
            | Self::Remembered { .. }
            | Self::KeyStore { .. }
            | Self::Token { .. } => Class::Refused,
            Self::Sheet(SheetError::DoesNotOpen | SheetError::Twice { .. })
            | Self::Malformed(_)
            | Self::OtherKey
            | Self::OtherCopy { .. }
            | Self::NoKey => Class::Damaged,
            Self::Disk(_) | Self::NoRandom => Class::Computer,
            Self::Stopped => Class::Stopped,
            _ => Class::Usage,
        }
    }

    fn fixes(&self) -> Vec<String> {
        let fix = match self {
            Self::Passphrase => "try again; without the passphrase only a backup with another one helps",
            Self::KeyPassphrase => "give the key's own passphrase with --key-passphrase-file",
            Self::OldPem => "write it again: openssl pkcs8 -topk8 -in KEY.pem -out NEW.pem",
            Self::Malformed(_) => "take a backup of the key: lantern key import NAME BACKUP.p12",
            Self::TooManyRounds { .. } => "is it really a key file? Nothing honest asks for so much",
            Self::NoCertificate { .. } => "add the certificate: put its PEM behind the key in the same file",
            Self::OtherKey => "find the certificate that was made for this key",
            Self::SeveralKeys { .. } => "choose one: --alias NAME",
            Self::Subject(_) => "write it such as: CN=Paper Heron,O=Paper Heron,C=IS",
            Self::ShortPassphrase { .. } => "take a sentence of four or five words",
            Self::Years { .. } => "leave --years out: 30 years are made then",
            Self::Exists { .. } => "take another name: a key is never replaced",
            Self::Unknown { name, known } => match nearest(name, known.iter().map(String::as_str)) {
                Some(near) => return vec![format!("did you mean {near}?")],
                None => "lantern key list shows those that there are; lantern key new NAME makes one",
            },
            Self::NewerNotes { .. } => "use the newer lantern",
            Self::NotACopy { .. } => "write the copy to another disk: lantern key backup NAME FILE",
            Self::OtherCopy { .. } => "find the right copy, or make a new one: lantern key backup NAME FILE",
            Self::Remembered { .. } => {
                "unlock what keeps it; lantern key remember NAME, without a program, has it asked for again"
            }
            Self::KeyStore { .. } => {
                "unlock it; or leave --in-key-store out, and give the passphrase with --passphrase-file"
            }
            Self::Token { why, .. } => match why {
                TokenError::Module { .. } => "name the module of PKCS #11 that came with the token: module = \"FILE\"",
                TokenError::NoToken { .. } => "plug it in, and write its label below [signers]",
                TokenError::NoKey { .. } => "write the label of one of its keys below [signers]",
                TokenError::Pin => "try again with the right PIN; after some wrong ones the token locks itself",
                TokenError::Locked => "unlock it with the tool that came with it, and its other PIN",
                TokenError::OtherKey => "write the certificate of this very key into the file below [signers]",
                _ => "plug it in again, then the same command again",
            },
            Self::Program { .. } => "is its token there, and its service? Then the same command again",
            Self::Sheet(error) => fix_of_sheets(error),
            Self::Disk(error) => return fix_of_disk(error.source.kind()).map(str::to_owned).into_iter().collect(),
            _ => "lantern key --help says what can be read and made",
        };
        vec![fix.to_owned()]
    }
}

fn fix_of_sheets(error: &SheetError) -> &'static str {
    match error {
        SheetError::Numbers { .. } => "--sheets 3/5 is a good choice: two may burn, and no two people have the key",
        SheetError::NoShare { .. } | SheetError::Word { .. } => {
            "scan the code of the share, or type its 40 words, into a text file"
        }
        SheetError::Checksum { .. } => "scan or type it once more, and look for words that were swapped",
        SheetError::TwoSets { .. } => "take sheets with the same set on them",
        SheetError::TooFew { .. } => "add more of them: lantern key drill NAME FILE FILE FILE",
        SheetError::Twice { .. } => "find out which of the two is right, and leave the other out",
        SheetError::NoStore { .. } => "scan all codes of the encrypted key, which are on every sheet",
        SheetError::OtherStore { .. } => "scan the codes of the encrypted key on one of these sheets",
        _ => "take another sheet instead of one of them, until it opens",
    }
}

/// The folder of the keyring.
///
/// # Errors
/// [`ProjectError::MissingAnswer`] when it is not known where the user's own folder is.
pub fn keyring() -> Result<Keyring, ProjectError> {
    keyring_in(None)
}

fn keyring_in(own: Option<&Path>) -> Result<Keyring, ProjectError> {
    let keyring = Keyring::new(access::own_folder(own)?.join("keys"));
    Ok(match environment::key_rounds() {
        Some(rounds) => keyring.with_rounds(rounds),
        None => keyring,
    })
}

/// Who knows an identity by the key of a package of this kind; none for what is not signed here.
pub(crate) fn role_of(form: Form) -> Option<Role> {
    match form {
        Form::Package("apk") => Some(Role::OnDevice),
        Form::Package("aab") => Some(Role::AtStorefront),
        _ => None,
    }
}

/// For how long a key has to last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Lasts {
    /// Its certificate is given out for a year or so, and what comes later may be signed with another key.
    UntilRenewed,
    /// As long as the game: devices know an Android package by it.
    Forever,
}

impl Lasts {
    fn of(form: Option<Form>) -> Self {
        if form.and_then(role_of).is_some() { Self::Forever } else { Self::UntilRenewed }
    }

    /// What it means that the key is lost.
    fn when_lost(self) -> &'static str {
        match self {
            Self::UntilRenewed => "what comes later is signed with another key",
            Self::Forever => "the game can never be updated again",
        }
    }
}

/// What signs a target, as far as it is public.
pub(crate) enum Known {
    /// A key of the keyring.
    Key(Facts),
    /// A program, with what its certificate says.
    Program(Program, certificate::About),
    /// A token, with what its certificate says.
    Token(Token, certificate::About),
}

impl Known {
    pub(crate) fn name(&self) -> &Name {
        match self {
            Self::Key(facts) => &facts.name,
            Self::Program(program, _) => &program.name,
            Self::Token(token, _) => &token.name,
        }
    }

    /// The certificate, as DER.
    pub(crate) fn own(&self) -> Option<&Vec<u8>> {
        self.chain().first()
    }

    /// The certificate and those above it.
    pub(crate) fn chain(&self) -> &[Vec<u8>] {
        match self {
            Self::Key(facts) => &facts.chain,
            Self::Program(program, _) => &program.chain,
            Self::Token(token, _) => &token.chain,
        }
    }

    fn certificate(&self) -> &certificate::About {
        match self {
            Self::Key(facts) => &facts.certificate,
            Self::Program(_, about) | Self::Token(_, about) => about,
        }
    }

    pub(crate) fn fingerprint(&self) -> Fingerprint {
        Fingerprint(self.certificate().sha256)
    }

    /// What is wrong with it, wherever it is named: its dates, or that no copy of it ever opened.
    fn findings(&self, lasts: Lasts) -> impl Iterator<Item = Finding> {
        let without = if let Self::Key(facts) = self { without_backup(facts, lasts) } else { None };
        validity(self, lasts).into_iter().chain(without)
    }
}

impl Project {
    /// The keyring.
    ///
    /// # Errors
    /// Those of [`keyring`].
    pub fn keyring(&self) -> Result<Keyring, ProjectError> {
        keyring_in(self.access_folder())
    }

    /// What is wrong with the key that is to sign a target, and whether it may sign it at all.
    pub(crate) fn key_findings(
        &self,
        edition: &Name,
        intake: &Intake<'_>,
        signed_by: Option<&PackageSigner>,
        (windows, has_earlier): (&[WindowsProgram], bool),
    ) -> Vec<Finding> {
        let Some(key) = &intake.target.sign else { return Vec::new() };
        // Unless it knows a better place.
        let at = |finding: Finding| match finding.place {
            Some(_) => finding,
            None => finding.at(self.place_of(&["targets", intake.name.as_str(), "sign"])),
        };
        let form = intake.export().form;
        let signs = Signs::of(intake);
        if key.as_str() == AD_HOC {
            return match signs {
                Some(Signs::Code) => self.code_findings(intake, None, environment::now()).into_iter().map(at).collect(),
                _ => {
                    let what = format!("{} cannot be signed ad hoc: that is for macOS", intake.name);
                    vec![at(Finding::of(
                        Code::CannotSign,
                        what,
                        "sign = \"KEY\": lantern key list shows those that there are",
                    ))]
                }
            };
        }
        let Some(role) = role_of(form) else {
            return match signs {
                Some(signs) => {
                    self.file_key_findings(intake, key, signs, (windows, has_earlier)).into_iter().map(at).collect()
                }
                None => {
                    let what = format!(
                        "{} is {} for {}: sign is for packages, and for builds of one kind of system",
                        intake.name,
                        form.name(),
                        join_some(&intake.systems.iter().map(ToString::to_string).collect::<Vec<_>>(), 3)
                    );
                    vec![at(Finding::of(Code::CannotSign, what, "remove sign from this target"))]
                }
            };
        };
        let known = match self.known_key(key) {
            Ok(known) => known,
            Err(finding) => return vec![at(*finding)],
        };
        let mut findings = Vec::new();
        let own = known.fingerprint();
        let identity = self.identity(edition);
        let before = match self.lineage_of(intake.target, &known) {
            Ok(lineage) => lineage.map(|(lineage, _)| fingerprints(&lineage)).unwrap_or_default(),
            Err(finding) => {
                findings.push(finding.at(self.place_of(&["targets", intake.name.as_str(), "lineage"])));
                Vec::new()
            }
        };
        let pinned = self.config().pins.get(identity, role);
        if let Some(pinned) = pinned.filter(|pinned| *pinned != own && !before.contains(pinned)) {
            findings.push(at(self.other_key(key, (identity, role), own, pinned)));
        }
        if let Some(signer) = signed_by.filter(|signer| !signer.is_debug && signer.fingerprint != own.0)
            && !intake.target.sign_again
        {
            let what = format!(
                "{} is signed already, by {} ({}), and sign names the key {key}",
                intake.found_at(),
                shown(&signer.subject),
                Fingerprint(signer.fingerprint)
            );
            let fix = "have the engine export it unsigned, or set sign-again = true";
            findings.push(at(Finding::of(Code::SignedWithAnotherKey, what, fix)));
        }
        findings.extend(known.findings(Lasts::Forever).map(at));
        findings
    }

    /// What is wrong with the key that is to sign a build that is no package, and what it is asked for.
    fn file_key_findings(
        &self,
        intake: &Intake<'_>,
        key: &Name,
        signs: Signs,
        (windows, has_earlier): (&[WindowsProgram], bool),
    ) -> Vec<Finding> {
        let known = match self.known_key(key) {
            Ok(known) => known,
            Err(finding) => return vec![*finding],
        };
        let mut findings: Vec<Finding> = known.findings(Lasts::UntilRenewed).collect();
        match signs {
            Signs::Programs => {
                if known.own().is_some_and(|own| !certificate::is_for_code(own)) {
                    let what = format!("the certificate of the key {key} is not for signing programs");
                    findings.push(Finding::of(Code::CertificateKind, what, "sign with one that is"));
                }
                let stamped = intake.target.stamp.then(|| intake.starts.first()).flatten().map(|start| &start.file);
                let stamps = &self.config().time_stamps;
                let plan = Plan::of(intake.target, windows, known.fingerprint(), stamped, stamps.is_some());
                findings.push(plan.finding(key, has_earlier));
                if stamps.is_none() && !plan.to_sign.is_empty() {
                    findings.push(no_time_stamps(intake.name, &known));
                }
            }
            Signs::Code => {
                let chain = known.chain();
                findings.extend(self.code_findings(intake, Some((key, chain)), environment::now()));
                if self.config().time_stamps.is_none() && intake.export().form != Form::Package("ipa") {
                    findings.push(no_time_stamps(intake.name, &known));
                }
            }
            Signs::List => {
                let there = [LIST, LIST_SIGNATURE].iter().find(|name| intake.export().has(name));
                if let Some(name) = there {
                    let what = format!("{} brings {name}, and sign writes that file", intake.name);
                    findings.push(Finding::of(Code::CannotSign, what, "leave it out: leave-out = [\"SHA256SUMS*\"]"));
                }
            }
        }
        findings
    }

    /// What is wrong with the key of statements, unless a target that it signs says that already.
    pub(crate) fn statement_key_findings(&self, edition: &Name) -> Vec<Finding> {
        let Some(key) = &self.config().statement else { return Vec::new() };
        if self.config().targets_of(edition).any(|(_, target)| target.sign.as_ref() == Some(key)) {
            return Vec::new();
        }
        let findings = match self.known_key(key) {
            Ok(known) => known.findings(Lasts::UntilRenewed).collect(),
            Err(finding) => vec![*finding],
        };
        findings.into_iter().map(|finding| finding.at(self.place_of(&["sealing", "statement"]))).collect()
    }

    /// What `sign` of a target names, or another key of `lantern.toml`.
    pub(crate) fn known_key(&self, name: &Name) -> Result<Known, Box<Finding>> {
        let not_there = |what: String, fix: String| Box::new(Finding::of(Code::KeyNotThere, what, fix));
        let keyring = self.keyring().map_err(|error| not_there(error.to_string(), "set LANTERN_HOME".to_owned()))?;
        let Some(signer) = self.config().signers.get(name) else {
            return keyring.facts(name).map(Known::Key).map_err(|error| {
                let fix = match &error {
                    // A new key of this name would be another one than devices know.
                    KeyError::Unknown { .. } if !self.config().pins.is_empty() => {
                        format!("lantern key import {name} FILE, from a backup or the computer that has it")
                    }
                    KeyError::Unknown { .. } => {
                        format!("lantern key list shows those that there are; lantern key new {name} makes it")
                    }
                    KeyError::Malformed(_) => format!("lantern key show {name}: its passphrase brings that back"),
                    other => other.fixes().into_iter().next().unwrap_or_default(),
                };
                not_there(error.to_string(), fix)
            });
        };
        if keyring.facts(name).is_ok() {
            let what = format!("{name} is a key of the keyring, and one of [signers]: it is not clear which is meant");
            return Err(not_there(what, "rename the signer in lantern.toml".to_owned()));
        }
        let read = || -> Result<_, KeyError> {
            let bytes = durable::read_limited(&self.root().join(&signer.certificate), file::MAX_LEN)?;
            let chain = pem::certificates(&bytes)?;
            let own = chain.first().ok_or(KeyError::NoKey)?;
            certificate::algorithm(own)?;
            Ok((certificate::about(own)?, chain))
        };
        let (about, chain) = read().map_err(|error| {
            let what = format!("the certificate of the signer {name}, {}: {error}", shown(&signer.certificate));
            not_there(what, "write there the certificate of its key as PEM, and those above it".to_owned())
        })?;
        let name = name.clone();
        Ok(match &signer.kind {
            SignerKind::Program { run, time_limit } => {
                let (run, folder, time_limit) = (run.clone(), self.root().to_owned(), *time_limit);
                Known::Program(Program { name, run, folder, chain, time_limit, stop: self.stop() }, about)
            }
            SignerKind::Token { module, token, key } => {
                // A path is one from the folder of lantern.toml; a name is looked for by the system.
                let is_name = !module.contains(['/', '\\']);
                let module = if is_name { PathBuf::from(module) } else { self.root().join(module) };
                Known::Token(Token { name, module, token: token.clone(), key: key.clone(), chain }, about)
            }
        })
    }

    /// The chain of keys that ends with a target's own, with the name of the first, which signs for older systems; none where the key
    /// came after no other.
    pub(crate) fn lineage_of(&self, target: &Target, known: &Known) -> Result<Option<(Lineage, Name)>, Box<Finding>> {
        let Some(path) = &target.lineage else { return Ok(None) };
        let wrong = |what: String, fix: &str| Box::new(Finding::of(Code::CannotSign, what, fix));
        if Form::of_name(&target.export) == Some(Form::Package("aab")) {
            let what = "bundles know no chain of keys: the storefront changes the key that devices know";
            return Err(wrong(what.to_owned(), "remove lineage, and ask the storefront"));
        }
        let written = "lantern key rotate writes it";
        let bytes = durable::read_limited(&self.root().join(path), file::MAX_LEN);
        let bytes =
            bytes.map_err(|error| wrong(format!("{} cannot be read: {}", shown(path), error.source), written))?;
        let lineage = Lineage::read(&bytes).map_err(|error| wrong(format!("{}: {error}", shown(path)), written))?;
        if lineage.certificates().last() != known.own() {
            let what = format!("the chain of keys in {} does not end with the key {}", shown(path), known.name());
            return Err(wrong(what, "sign with the key at its end"));
        }
        let first = fingerprints(&lineage).first().copied();
        let names = first.zip(self.keyring().ok()).map(|(first, keyring)| with_fingerprint(&keyring, first));
        let Some(name) = names.unwrap_or_default().into_iter().next() else {
            let what = "the first key of the chain is not in the keyring, and older systems know no other".to_owned();
            let fix = "import it: lantern key import NAME FILE".to_owned();
            return Err(Box::new(Finding::of(Code::KeyNotThere, what, fix)));
        };
        Ok(Some((lineage, name)))
    }

    /// What is said of the keys that an edition's targets name and of which no copy ever opened.
    pub(crate) fn keys_without_backup(&self, edition: &Name) -> Vec<Finding> {
        let keyring = self.keyring().ok();
        let targets = self.config().targets_of(edition).map(|(_, target)| target);
        let keys = lasting(targets, self.config().statement.as_ref()).into_iter();
        let facts = keys.filter_map(|(name, lasts)| Some((keyring.as_ref()?.facts(name).ok()?, lasts)));
        facts.filter_map(|(facts, lasts)| without_backup(&facts, lasts)).collect()
    }

    /// Whether each key is there that a target names, is valid, and has a backup that opened. No passphrase is asked for.
    pub(crate) fn keys_there(&self) -> Vec<Checkup> {
        let look = |(name, lasts): (&Name, Lasts)| {
            let what = format!("key {name}");
            let wrong = |finding: Finding| {
                Checkup::wrong(what.clone(), finding.what, finding.fix.unwrap_or_else(|| "lantern check".to_owned()))
            };
            let known = match self.known_key(name) {
                Ok(known) => known,
                Err(finding) => return wrong(*finding),
            };
            let until = known.certificate().valid.1.strftime("%Y-%m-%d");
            match known.findings(lasts).next() {
                Some(finding) => wrong(finding),
                None => Checkup::well(what.clone(), format!("its certificate is valid until {until}")),
            }
        };
        lasting(self.config().targets.values(), self.config().statement.as_ref()).into_iter().map(look).collect()
    }

    /// The refusal of a key that is not the pinned one: why it matters, and the ways out.
    fn other_key(
        &self,
        key: &Name,
        (identity, role): (&Identity, Role),
        own: Fingerprint,
        pinned: Fingerprint,
    ) -> Finding {
        let (who, would) = match role {
            Role::OnDevice => ("devices", "they would refuse an update"),
            Role::AtStorefront => ("storefronts", "they would refuse a bundle"),
        };
        let what = format!(
            "{who} know {identity} by another key ({}…): {would} that is signed with {key} ({}…)",
            pinned.short(),
            own.short()
        );
        let names = self.keyring().ok().map(|keyring| with_fingerprint(&keyring, pinned)).unwrap_or_default();
        let fix = match names.first() {
            Some(right) => format!("sign = \"{right}\": that is the pinned key"),
            None => format!(
                "import the pinned key (lantern key import); if nothing was ever given to players, remove {} below [pins.\"{identity}\".android]",
                role.key()
            ),
        };
        Finding::of(Code::OtherKey, what, fix)
    }

    /// The targets of a release that were signed, each with what is known of what signed it.
    fn signed_targets<'a>(
        &'a self,
        edition: &'a Name,
        record: &'a ReleaseRecord,
    ) -> impl Iterator<Item = (&'a Name, &'a Target, Known)> {
        self.config().targets_of(edition).filter_map(move |(name, target)| {
            let known = self.known_key(target.sign.as_ref()?).ok()?;
            let by = record.targets.iter().find(|of| of.target == *name)?.signer()?;
            known.own().is_some_and(|own| Digest::of(own) == by).then_some((name, target, known))
        })
    }

    /// Notes which keys have signed a release.
    pub(crate) fn note_signed(&self, edition: &Name, record: &ReleaseRecord) {
        let Ok(keyring) = self.keyring() else { return };
        self.signed_targets(edition, record).for_each(|(_, _, known)| note_used(&keyring, &known));
    }

    /// Pins the keys that have signed a release, where no key is pinned yet.
    pub(crate) fn pin_signed(&self, edition: &Name, record: &ReleaseRecord) -> Vec<(Option<Name>, Finding)> {
        let identity = self.identity(edition);
        let mut findings = Vec::new();
        let mut pinned = BTreeSet::new();
        for (name, target, known) in self.signed_targets(edition, record) {
            let Some(role) = Form::of_name(&target.export).and_then(role_of) else { continue };
            let before = self.lineage_of(target, &known).ok().flatten();
            let before = before.map(|(lineage, _)| fingerprints(&lineage)).unwrap_or_default();
            let is_new = match self.config().pins.get(identity, role) {
                None => true,
                // The key that came after the pinned one takes its place.
                Some(pinned) => pinned != known.fingerprint() && before.contains(&pinned),
            };
            if is_new && pinned.insert(role) {
                let finding = self.pin(identity, role, known.fingerprint(), known.name());
                findings.push((Some(name.clone()), finding));
            }
        }
        findings
    }

    /// Pins a key of the keyring before anything was signed here, such as the one that an engine has signed with so far.
    ///
    /// # Errors
    /// [`ProjectError::Findings`] where another key is pinned; those of the keyring.
    pub fn pin_key(&self, edition: &Name, role: Role, key: &Name) -> Result<Finding, ProjectError> {
        let known = self.known_key(key).map_err(|finding| ProjectError::Findings(vec![*finding]))?;
        let (identity, own) = (self.identity(edition), known.fingerprint());
        match self.config().pins.get(identity, role).filter(|pinned| *pinned != own) {
            Some(pinned) => Err(ProjectError::Findings(vec![self.other_key(key, (identity, role), own, pinned)])),
            None => Ok(self.pin(identity, role, own, key)),
        }
    }

    /// Writes a pin into `lantern.toml`, or says which line is to be written.
    fn pin(&self, identity: &Identity, role: Role, fingerprint: Fingerprint, key: &Name) -> Finding {
        let path = self.root().join(config::FILE_NAME);
        let has_pin = |text: &str| {
            let read = config::Config::read(config::FILE_NAME, text);
            read.is_ok_and(|config| config.pins.get(identity, role) == Some(fingerprint))
        };
        let write = || {
            let text = std::fs::read_to_string(&path).ok()?;
            if has_pin(&text) {
                return Some(());
            }
            // What cannot be read again is not written.
            let text = with_pin(&text, identity, role, fingerprint).filter(|text| has_pin(text))?;
            durable::write_whole(&path, text.as_bytes()).ok()
        };
        let fix = match write() {
            Some(()) => "commit lantern.toml".to_owned(),
            None => {
                let line = format!("{} = \"{fingerprint}\"", role.key());
                format!("add to lantern.toml below [pins.\"{identity}\".android]: {line}")
            }
        };
        let what = format!("{identity} is now pinned to the key {key} ({}): {fix}", role.key());
        Finding::of(Code::KeyPinned, what, fix)
    }
}

/// The fingerprints of a chain of keys, oldest first.
fn fingerprints(lineage: &Lineage) -> Vec<Fingerprint> {
    let of = |certificate: &Vec<u8>| certificate::about(certificate).ok().map(|about| Fingerprint(about.sha256));
    lineage.certificates().iter().filter_map(of).collect()
}

/// The keys that have a certificate.
fn with_fingerprint(keyring: &Keyring, fingerprint: Fingerprint) -> Vec<Name> {
    keys_that(keyring, |facts| facts.certificate.sha256 == fingerprint.0)
}

/// Notes that a key has signed.
pub(crate) fn note_used(keyring: &Keyring, known: &Known) {
    let Known::Key(facts) = known else { return };
    if let Err(error) = keyring.note_used(&facts.name, environment::now()) {
        log::warn!("that {} has signed is not noted: {error}", facts.name);
    }
}

/// The keys of a keyring of which something is so.
pub(crate) fn keys_that(keyring: &Keyring, is_so: impl Fn(&Facts) -> bool) -> Vec<Name> {
    let names = keyring.names().unwrap_or_default();
    names.into_iter().filter(|name| keyring.facts(name).is_ok_and(|facts| is_so(&facts))).collect()
}

/// Until when a certificate has to be valid for some storefronts: beyond 22 October 2033. Source: "Sign your app", "Considerations for app
/// signing", Android developers' documentation (<https://developer.android.com/studio/publish/app-signing>).
const DEMANDED_UNTIL: jiff::Timestamp = jiff::Timestamp::constant(2_013_638_400, 0);

/// That nobody states when something is signed.
fn no_time_stamps(target: &Name, known: &Known) -> Finding {
    let until = known.certificate().valid.1.strftime("%Y-%m-%d");
    let what = format!("no authority states when {target} is signed: its signatures end on {until}");
    Finding::of(Code::NoTimeStamp, what, "[time-stamps] authority = \"ADDRESS\": who issues certificates has one")
}

/// The keys that targets and statements name, each with how long it has to last: of one for packages and for other things, the packages count.
fn lasting<'a>(targets: impl Iterator<Item = &'a Target>, statement: Option<&'a Name>) -> BTreeMap<&'a Name, Lasts> {
    let mut keys: BTreeMap<&Name, Lasts> = statement.iter().map(|key| (*key, Lasts::UntilRenewed)).collect();
    for target in targets {
        let Some(key) = target.sign.as_ref().filter(|key| key.as_str() != AD_HOC) else { continue };
        let lasts = Lasts::of(Form::of_name(&target.export));
        keys.entry(key).and_modify(|known| *known = lasts.max(*known)).or_insert(lasts);
    }
    keys
}

/// What is wrong with the dates of a key's certificate.
fn validity(known: &Known, lasts: Lasts) -> Option<Finding> {
    let renew = "ask who issued it for a new one; what has a time stamp stays valid";
    let (over, days, early) = match lasts {
        Lasts::UntilRenewed => (renew, 30, renew),
        Lasts::Forever => (
            "devices still take updates that are signed with it, storefronts may not: ask them before you accept this",
            365,
            "ask each storefront how it takes a new key, while there is time",
        ),
    };
    if let Some(finding) = validity_now(known, over) {
        return Some(finding);
    }
    let (_, until) = known.certificate().valid;
    let (now, day, name) = (environment::now(), until.strftime("%Y-%m-%d"), known.name());
    if lasts == Lasts::Forever && until < DEMANDED_UNTIL {
        let what = format!(
            "the certificate of the key {name} ends on {day}, and some storefronts take none for Android that ends before 2033-10-23"
        );
        let fix =
            "ask yours before the first release; later the key can only be followed by another: lantern key rotate";
        return Some(Finding::of(Code::KeyExpires, what, fix));
    }
    let soon = until.checked_sub((24 * days).hours()).is_ok_and(|soon| soon <= now);
    soon.then(|| {
        let what = format!("the certificate of the key {name} expires on {day}");
        Finding::of(Code::KeyExpires, what, early)
    })
}

/// What is wrong with a certificate that is over, or not valid yet.
fn validity_now(known: &Known, over: &str) -> Option<Finding> {
    let (from, until) = known.certificate().valid;
    let now = environment::now();
    let day = |at: jiff::Timestamp| at.strftime("%Y-%m-%d");
    let name = known.name();
    if until <= now {
        let what = format!("the certificate of the key {name} expired on {}", day(until));
        return Some(Finding::of(Code::KeyExpires, what, over).with_severity(Severity::Error));
    }
    (from > now).then(|| {
        let what = format!("the certificate of the key {name} is valid from {} on", day(from));
        Finding::of(Code::KeyExpires, what, "is the clock of this computer right?").with_severity(Severity::Error)
    })
}

fn without_backup(facts: &Facts, lasts: Lasts) -> Option<Finding> {
    if facts.drilled().is_some() {
        return None;
    }
    let name = &facts.name;
    let (what, fix) = match facts.backups.last() {
        None => (
            format!("there is no backup of the key {name}: if this disk fails, {}", lasts.when_lost()),
            format!("lantern key backup {name} FILE, on another disk"),
        ),
        Some(backup) => (
            format!("no backup of the key {name} was ever opened"),
            format!("lantern key drill {name} {}", backup.path.display()),
        ),
    };
    Some(Finding::of(Code::NoDrilledBackup, what, fix))
}
