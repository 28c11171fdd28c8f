//! Statements of how a release came about, for those who get its files: an in-toto statement in a signed envelope.
//! docs/formats/statement.md has its fields, and why each is there.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use lantern_core::board::KnownRelease;
use lantern_core::bytes::hex;
use lantern_core::event::AcceptedFinding;
use lantern_core::names::{Identity, Name};
use lantern_core::parallel::map;
use lantern_core::progress::{Progress, Task};
use lantern_core::release::{Claims, TargetRecord};
use lantern_core::system::System;
use lantern_core::tree::Node;
use lantern_core::version::{BuildNumber, Version};
use lantern_formats::hash::{Hash, Hasher};
use lantern_sign::statement::{self, PAYLOAD_TYPE};
use lantern_store::contents::{Contents, ContentsError};
use lantern_store::durable::{self, DurableError};
use serde::{Deserialize, Serialize};

use crate::keys::{keys_that, note_used};
use crate::listed::{files_below, sha256};
use crate::not_changed::changing_error;
use crate::outgoing::folder_name;
use crate::stamp_and_sign::AsConfigured;
use crate::workspace::{Session, Workspace};
use crate::{Passphrases, PrepareOptions, ProjectError, keyring};

/// The type of statements (in-toto, "Statement", version 1).
const STATEMENT: &str = "https://in-toto.io/Statement/v1";
/// The type of what is said in them.
pub const PREPARATION: &str = "https://kind-lantern.example/preparation/v1";

/// A statement about the files of a release.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Statement {
    /// What type of statement it is.
    #[serde(rename = "_type")]
    pub kind: String,
    /// The files, each as target and path.
    pub subject: Vec<Subject>,
    /// What is said of them.
    pub predicate_type: String,
    /// It.
    pub predicate: Preparation,
}

/// A file that a statement is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Subject {
    /// The target and the path in it, with `/` between.
    pub name: String,
    /// By hash function, in lower-case hex.
    pub digest: BTreeMap<String, String>,
}

impl Subject {
    fn target(&self) -> &str {
        self.name.split_once('/').map_or("", |(target, _)| target)
    }

    fn path(&self) -> &str {
        self.name.split_once('/').map_or(self.name.as_str(), |(_, path)| path)
    }

    fn sha256(&self) -> Option<&String> {
        self.digest.get("sha256")
    }
}

/// How a release was prepared.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Preparation {
    /// What players call the game.
    pub game: String,
    /// Its identity.
    pub identity: Identity,
    /// The edition.
    pub edition: Name,
    /// The version for people.
    pub version: Version,
    /// The number that only rises.
    pub number: BuildNumber,
    /// The release's identity: BLAKE3 of its record.
    pub release: String,
    /// What went in: BLAKE3 over the exports before they were stamped and signed, and what was done to them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub input: Option<String>,
    /// When it was sealed.
    pub sealed_at: Timestamp,
    /// What wrote this: of a statement that `prepare` kept, what sealed the release.
    pub tool: Tool,
    /// Each target.
    pub targets: Vec<PreparedTarget>,
    /// How many warnings there were.
    pub warnings: u64,
    /// What was found, and was meant to be so.
    pub accepted: Vec<AcceptedFinding>,
    /// The studio's own questions, as they were last answered.
    pub last_look: Vec<Answered>,
}

/// What wrote a statement.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tool {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
}

/// A target of a release.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct PreparedTarget {
    /// Its name.
    pub target: Name,
    /// What it runs on.
    pub systems: Vec<System>,
    /// What the build says of itself inside.
    pub claims: Claims,
    /// SHA-256 of the certificate of the key that signed in it, in hex; none where nothing was signed, or that key is not known here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signed_with: Option<String>,
    /// Whether it was left unsigned, as someone had said.
    pub unsigned: bool,
}

/// A question of the last look.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answered {
    /// What was asked.
    pub question: String,
    /// What was answered; none while nobody did.
    pub yes: Option<bool>,
    /// When.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<Timestamp>,
}

/// A statement that was written.
#[derive(Debug)]
pub struct StatementWritten {
    /// How many files it is about.
    pub files: u64,
    /// SHA-256 of the certificate that signed it, in hex.
    pub key: String,
    /// Where.
    pub path: PathBuf,
}

/// What a statement was found to be.
#[derive(Debug)]
pub struct StatementVerified {
    /// What it says.
    pub statement: Statement,
    /// SHA-256 of the certificates of those who signed it, in hex, with what the key is called in the keyring.
    pub signers: Vec<(String, Option<Name>)>,
    /// How many of a folder's files are as it says; none where no folder was given.
    pub agree: Option<u64>,
    /// What of the folder is not as it says: the file, and how.
    pub wrong: Vec<(String, &'static str)>,
}

/// Counts nothing and hashes what is written.
struct Sha256Writer(Hasher);

impl Write for Sha256Writer {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Workspace {
    /// Writes the statement of a release, signed with a key. The private key alone decides whether it can be signed: everything in it
    /// is what the ledger and the store say.
    ///
    /// # Errors
    /// Those of the store, of the key, and of the disk.
    pub fn write_statement(
        &self,
        release: &KnownRelease,
        key: &Name,
        to: &Path,
        passphrases: Option<&Passphrases>,
        progress: &dyn Progress,
    ) -> Result<StatementWritten, ProjectError> {
        let known = self.project.known_key(key).map_err(|finding| ProjectError::Findings(vec![*finding]))?;
        let statement = self.statement(release, progress)?;
        let opening = AsConfigured::for_one(self.project.keyring()?, passphrases.cloned());
        let signer = opening.signer(key, &known)?;
        let bytes = serde_json::to_vec(&statement).expect("texts and numbers");
        let envelope = statement::seal(&bytes, &[&*signer]).map_err(|error| changing_error("used", key, to, error))?;
        let mut text = serde_json::to_vec_pretty(&envelope).expect("texts");
        text.push(b'\n');
        durable::write_whole(to, &text)?;
        note_used(&self.project.keyring()?, &known);
        let key = envelope.signatures.first().map(|signature| signature.keyid.clone()).unwrap_or_default();
        Ok(StatementWritten { files: statement.subject.len() as u64, key, path: to.to_owned() })
    }

    /// The statement of a release that `prepare` keeps as `lantern.toml` asks: where it lies in the project, none where nothing is asked.
    /// One that is there stays, so that what was said when the release was sealed stays said.
    ///
    /// # Errors
    /// As [`Self::write_statement`].
    pub(crate) fn keep_statement(
        &self,
        release: &KnownRelease,
        passphrases: Option<&Passphrases>,
        progress: &dyn Progress,
    ) -> Result<Option<PathBuf>, ProjectError> {
        let Some(key) = &self.project.config().statement else { return Ok(None) };
        let folder = self.project.state_for("statements")?;
        let to = folder.join(format!("{}.json", folder_name(release)));
        if !is_kept(&to, &hex(release.id.0.as_bytes())) {
            self.write_statement(release, key, &to, passphrases, progress)?;
        }
        Ok(Some(to.strip_prefix(self.project.root()).map(Path::to_owned).unwrap_or(to)))
    }

    /// What is said of a release.
    fn statement(&self, release: &KnownRelease, progress: &dyn Progress) -> Result<Statement, ProjectError> {
        self.refuse_without_content(release)?;
        let _held = self.hold_store(progress)?;
        let record = self.store.record(release.id)?;
        let mut subject = Vec::new();
        for target in &record.targets {
            subject.extend(self.subjects(target, progress)?);
        }
        subject.sort_by(|a, b| a.name.cmp(&b.name));
        let target = |of: &TargetRecord| PreparedTarget {
            target: of.target.clone(),
            systems: of.systems.clone(),
            claims: of.claims.clone(),
            signed_with: self.signed_with(of),
            unsigned: of.unsigned,
        };
        let looks = self.looks(release)?;
        let answered = |look: &crate::Look| Answered {
            question: look.question.clone(),
            yes: look.answer.as_ref().map(|answer| answer.yes),
            at: look.answer.as_ref().map(|answer| answer.at),
        };
        let predicate = Preparation {
            game: self.project.edition_name(&record.edition).to_owned(),
            identity: record.game.clone(),
            edition: record.edition.clone(),
            version: record.version.clone(),
            number: record.number,
            release: hex(release.id.0.as_bytes()),
            input: release.input.map(|input| hex(input.0.as_bytes())),
            sealed_at: release.sealed_at,
            tool: Tool { name: "lantern".to_owned(), version: env!("CARGO_PKG_VERSION").to_owned() },
            targets: record.targets.iter().map(target).collect(),
            warnings: release.warnings,
            accepted: release.accepted.clone(),
            last_look: looks.iter().map(answered).collect(),
        };
        Ok(Statement { kind: STATEMENT.to_owned(), subject, predicate_type: PREPARATION.to_owned(), predicate })
    }

    /// The key that signed in a target, by its certificate.
    fn signed_with(&self, target: &TargetRecord) -> Option<String> {
        let by = target.signer()?;
        let key = self.project.config().targets.get(&target.target)?.sign.as_ref()?;
        let known = self.project.known_key(key).ok()?;
        let own = known.own().filter(|own| lantern_core::digest::Digest::of(own) == by)?;
        Some(hex(&Hash::Sha256.digest(own)))
    }

    /// The files of a target with their digests. What is kept aside never leaves, and is not named.
    fn subjects(&self, target: &TargetRecord, progress: &dyn Progress) -> Result<Vec<Subject>, ProjectError> {
        let mut out = Vec::new();
        for depot in &target.depots {
            let contents = Contents::open(&self.store, self.store.recipe_of(depot.tree)?)?;
            let meter = progress.start(Task::Verify, Some(depot.size));
            out.extend(map(&contents.entries, |entry| {
                let Node::File { size, .. } = &entry.node else { return Ok(None) };
                if progress.stopped() {
                    return Err(ProjectError::Stopped);
                }
                let mut hasher = Sha256Writer(Hash::Sha256.start());
                contents.write_to(entry, &mut hasher).map_err(|error| match error {
                    ContentsError::Store(error) => ProjectError::Store(error),
                    other => ProjectError::File(DurableError {
                        what: "read",
                        path: PathBuf::from(entry.path.as_str()),
                        source: io::Error::other(other),
                    }),
                })?;
                meter.add(*size);
                let digest = BTreeMap::from([("sha256".to_owned(), hex(&hasher.0.finish()))]);
                Ok(Some(Subject { name: format!("{}/{}", target.target, entry.path), digest }))
            })?);
        }
        Ok(out.into_iter().flatten().collect())
    }
}

impl Session {
    /// Keeps the statement of a release that is sealed.
    pub(crate) fn keep_statement(
        &self,
        release: &KnownRelease,
        options: &PrepareOptions,
        progress: &dyn Progress,
    ) -> Result<Option<PathBuf>, ProjectError> {
        if options.unsigned {
            return Ok(None);
        }
        let kept = self.workspace.keep_statement(release, options.passphrases.as_ref(), progress);
        kept.map_err(|error| match error {
            error @ (ProjectError::Stopped | ProjectError::Findings(_)) => error,
            error => ProjectError::Statement { release: release.name.clone(), source: Box::new(error) },
        })
    }
}

/// Whether a statement is there that is whole, and about this very release as far as that is known: one of another kind is of a newer
/// lantern, and is not touched.
fn is_kept(file: &Path, release: &str) -> bool {
    let Ok(bytes) = durable::read_limited(file, statement::MAX_LEN) else { return false };
    let Ok(opened) = statement::open(&bytes) else { return false };
    let Ok(said) = serde_json::from_slice::<serde_json::Value>(&opened.statement) else { return false };
    let is_about_it = said["predicateType"] != PREPARATION || said["predicate"]["release"] == release;
    is_about_it && !opened.signers.is_empty()
}

/// Whether a file is a statement in its envelope.
pub fn is_statement(file: &Path) -> bool {
    let is_small = fs::metadata(file).is_ok_and(|metadata| metadata.is_file() && metadata.len() <= statement::MAX_LEN);
    let bytes = is_small.then(|| durable::read_limited(file, statement::MAX_LEN).ok()).flatten().unwrap_or_default();
    bytes.starts_with(b"{") && lantern_core::bytes::find(&bytes, PAYLOAD_TYPE.as_bytes(), 0).is_some()
}

/// Verifies a statement, and the files of a folder against it.
///
/// # Errors
/// Why its signature does not hold, in words; those of reading.
pub fn verify_statement(
    file: &Path,
    of: Option<&Path>,
    progress: &dyn Progress,
) -> Result<Result<StatementVerified, String>, ProjectError> {
    let bytes = durable::read_limited(file, statement::MAX_LEN)?;
    let opened = match statement::open(&bytes) {
        Ok(opened) if opened.signers.is_empty() => return Ok(Err("nobody has signed it".to_owned())),
        Ok(opened) => opened,
        Err(why) => return Ok(Err(why)),
    };
    let statement: Statement = match serde_json::from_slice(&opened.statement) {
        Ok(statement) => statement,
        Err(error) => return Ok(Err(format!("what is signed is no statement of this kind: {error}"))),
    };
    if statement.kind != STATEMENT || statement.predicate_type != PREPARATION {
        return Ok(Err("what is signed is a statement of another kind".to_owned()));
    }
    let named =
        |own: &Vec<u8>| keys_that(&keyring().ok()?, |facts| facts.chain.first() == Some(own)).into_iter().next();
    let signers = opened.signers.iter().map(|own| (hex(&Hash::Sha256.digest(own)), named(own))).collect();
    let mut verified = StatementVerified { statement, signers, agree: None, wrong: Vec::new() };
    if let Some(folder) = of {
        compare(&mut verified, folder, progress)?;
    }
    Ok(Ok(verified))
}

/// Compares the files of a folder, which has a target or a folder for each of several, with what a statement says of them.
fn compare(verified: &mut StatementVerified, folder: &Path, progress: &dyn Progress) -> Result<(), ProjectError> {
    let fails = |path: &Path| {
        let path = path.to_owned();
        move |source| match progress.stopped() {
            true => ProjectError::Stopped,
            false => DurableError { what: "read", path, source }.into(),
        }
    };
    let files = files_below(folder).map_err(fails(folder))?;
    let meter = progress.start(Task::Verify, None);
    let files = map(&files, |(name, path)| {
        let digest = fs::File::open(path).and_then(|file| sha256(file, &*meter, progress));
        Ok::<_, ProjectError>((name.clone(), digest.map_err(fails(path))?))
    })?;
    // By what a file may be called: with its target, and without.
    let mut by_name: HashMap<&str, Vec<&Subject>> = HashMap::new();
    for subject in &verified.statement.subject {
        by_name.entry(&subject.name).or_default().push(subject);
        by_name.entry(subject.path()).or_default().push(subject);
    }
    let (mut agree, mut wrong) = (0, Vec::new());
    // What was seen, as path and digest: targets that share a file have it in the folder once.
    let (mut seen, mut targets) = (HashSet::new(), HashSet::new());
    for (name, own) in files {
        let named = by_name.get(name.as_str()).map(Vec::as_slice).unwrap_or_default();
        let (same, other): (Vec<&Subject>, Vec<&Subject>) = named.iter().partition(|of| of.sha256() == Some(&own));
        match (same.as_slice(), other.as_slice()) {
            ([], []) => wrong.push((name, "not in the statement")),
            ([], others) => {
                seen.extend(others.iter().map(|of| (of.path(), of.sha256())));
                wrong.push((name, "different content"));
            }
            (same, _) => {
                agree += 1;
                seen.extend(same.iter().map(|of| (of.path(), of.sha256())));
                targets.extend(same.iter().map(|of| of.target()).filter(|_| same.len() == 1));
            }
        }
    }
    // Of a target that is there, all of it should be.
    let is_missing = |of: &&Subject| targets.contains(of.target()) && !seen.contains(&(of.path(), of.sha256()));
    let missing = verified.statement.subject.iter().filter(is_missing).map(|of| (of.name.clone(), "missing"));
    wrong.extend(missing);
    (verified.agree, verified.wrong) = (Some(agree), wrong);
    Ok(())
}
