//! The keyring: a folder of the user's own, outside every project, with one file of PKCS #12 for each key and one of notes
//! beside it. What is in the notes is public; docs/formats/keyring.md says how they look.

use std::fs;
use std::path::{Path, PathBuf};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use jiff::Timestamp;
use lantern_core::names::Name;
use lantern_formats::hash::Hash;
use lantern_store::durable::{self, DurableError};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::certificate::Purpose;
use crate::key::{Algorithm, PrivateKey, Signer};
use crate::key_store::Kept;
use crate::passphrase::Passphrase;
use crate::pkcs12::Entry;
use crate::sheets::{Recovered, Set};
use crate::{KeyError, certificate, pem, pkcs12, remembered};

const FORMAT: &str = "lantern.key/1";
const MAX_NOTES_LEN: u64 = 1024 * 1024;

/// How a key came into the keyring.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Origin {
    /// Made here.
    Made,
    /// Brought from a file.
    Imported,
    /// It is not known, or a word of a newer lantern.
    Unknown,
}

impl Origin {
    /// As it is noted.
    pub fn word(self) -> &'static str {
        match self {
            Self::Made => "made",
            Self::Imported => "imported",
            Self::Unknown => "unknown",
        }
    }

    fn of_word(word: &str) -> Self {
        let known = [Self::Made, Self::Imported].into_iter().find(|origin| origin.word() == word);
        known.unwrap_or(Self::Unknown)
    }
}

/// A copy of a key outside the keyring.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Backup {
    /// Where it was written to; of sheets, the name of their set.
    pub path: PathBuf,
    /// How many sheets it is on; none for a file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sheets: Option<Sheets>,
    /// When.
    pub at: Timestamp,
    /// When it last opened, signed, and fitted the certificate; none where that was never tried.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drilled: Option<Timestamp>,
    /// What a newer lantern noted.
    #[serde(flatten)]
    rest: Map<String, Value>,
}

/// How a key is divided over sheets of paper.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sheets {
    /// How many bring it back.
    pub needed: u8,
    /// How many were made; none where that is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<u8>,
}

/// What is noted beside a key.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Notes {
    format: String,
    /// A word of [`Origin`], or of a newer lantern.
    origin: String,
    at: Timestamp,
    algorithm: String,
    /// In base 64, its own first.
    certificates: Vec<String>,
    #[serde(default)]
    backups: Vec<Backup>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    used: Option<Timestamp>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    passphrase_from: Vec<String>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    passphrase_in_key_store: bool,
    /// What a newer lantern noted: it stays.
    #[serde(flatten)]
    rest: Map<String, Value>,
}

impl Notes {
    /// Those of a key that is new here.
    fn of(entry: &Entry, origin: Origin, since: Timestamp) -> Self {
        Self {
            format: FORMAT.to_owned(),
            origin: origin.word().to_owned(),
            at: since,
            algorithm: entry.key.algorithm().to_string(),
            certificates: entry.chain.iter().map(|found| STANDARD.encode(found)).collect(),
            backups: Vec::new(),
            used: None,
            passphrase_from: Vec::new(),
            passphrase_in_key_store: false,
            rest: Map::new(),
        }
    }

    fn bytes(&self) -> Vec<u8> {
        serde_json::to_vec_pretty(self).expect("notes have only string keys")
    }

    fn facts(self, name: &Name) -> Result<Facts, KeyError> {
        let decode = |text: &String| STANDARD.decode(text).map_err(|_| KeyError::Malformed("the key's certificate"));
        let chain: Vec<Vec<u8>> = self.certificates.iter().map(decode).collect::<Result<_, _>>()?;
        let own = chain.first().ok_or(KeyError::Malformed("the key's certificate"))?;
        Ok(Facts {
            name: name.clone(),
            origin: Origin::of_word(&self.origin),
            since: self.at,
            algorithm: self.algorithm,
            certificate: certificate::about(own)?,
            backups: self.backups,
            used: self.used,
            passphrase_from: match (self.passphrase_in_key_store, self.passphrase_from) {
                (true, _) => PassphraseFrom::KeyStore,
                (false, run) if run.is_empty() => PassphraseFrom::Nobody,
                (false, run) => PassphraseFrom::Program(run),
            },
            chain,
        })
    }

    /// Notes a copy as it is now: just made, or just opened.
    fn note_backup(&mut self, path: &Path, sheets: Option<Sheets>, now: Timestamp, drilled: Option<Timestamp>) {
        match self.backups.iter_mut().find(|backup| backup.path == path) {
            Some(backup) if drilled.is_some() => backup.drilled = drilled,
            Some(backup) => (backup.at, backup.drilled) = (now, None),
            None => self.backups.push(Backup { path: path.to_owned(), sheets, at: now, drilled, rest: Map::new() }),
        }
    }
}

/// What is known of a key without its passphrase.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Facts {
    /// Its name.
    pub name: Name,
    /// How it came here.
    pub origin: Origin,
    /// Since when it is here.
    pub since: Timestamp,
    /// Its kind, as people write it.
    pub algorithm: String,
    /// Its certificate, as DER, and those above it.
    pub chain: Vec<Vec<u8>>,
    /// What the certificate says.
    pub certificate: certificate::About,
    /// Its copies, in the order in which they were made.
    pub backups: Vec<Backup>,
    /// When it last signed.
    pub used: Option<Timestamp>,
    /// Who gives its passphrase.
    pub passphrase_from: PassphraseFrom,
}

/// Who gives the passphrase of a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PassphraseFrom {
    /// It is asked for.
    Nobody,
    /// A program, with its arguments.
    Program(Vec<String>),
    /// The key store of the system; it may be that nobody else knows it.
    KeyStore,
}

impl PassphraseFrom {
    /// Whether the key store of the system gives it.
    pub fn is_key_store(&self) -> bool {
        *self == Self::KeyStore
    }

    /// The program and its arguments; empty where there is none.
    pub fn program(&self) -> &[String] {
        match self {
            Self::Program(run) => run,
            Self::Nobody | Self::KeyStore => &[],
        }
    }
}

impl Facts {
    fn kept(&self) -> Kept<'_> {
        Kept::of(&self.name, &self.certificate.sha256)
    }

    /// When a copy of it last opened; none where no copy ever did.
    pub fn drilled(&self) -> Option<Timestamp> {
        self.backups.iter().filter_map(|backup| backup.drilled).max()
    }
}

/// An opened key.
#[derive(Debug)]
pub struct OpenKey {
    /// Its name in the keyring.
    pub name: Name,
    entry: Entry,
}

impl Signer for OpenKey {
    fn algorithm(&self) -> Algorithm {
        self.entry.algorithm()
    }

    fn chain(&self) -> &[Vec<u8>] {
        self.entry.chain()
    }

    fn sign(&self, hash: Hash, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        self.entry.sign(hash, message)
    }
}

/// Where keys are kept.
#[derive(Debug, Clone)]
pub struct Keyring {
    folder: PathBuf,
    rounds: u32,
}

impl Keyring {
    /// The keyring in a folder; nothing is made before a key is kept.
    pub fn new(folder: PathBuf) -> Self {
        Self { folder, rounds: pkcs12::ROUNDS }
    }

    /// The same, which hashes passphrases of what it writes only this often: for tests.
    #[must_use]
    pub fn with_rounds(self, rounds: u32) -> Self {
        Self { rounds, ..self }
    }

    /// Where all keys lie.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Where a key lies.
    pub fn path_of(&self, name: &Name) -> PathBuf {
        self.folder.join(format!("{name}.p12"))
    }

    fn notes_of(&self, name: &Name) -> PathBuf {
        self.folder.join(format!("{name}.json"))
    }

    /// The names of all keys, sorted.
    ///
    /// # Errors
    /// [`KeyError::Disk`].
    pub fn names(&self) -> Result<Vec<Name>, KeyError> {
        let found = match fs::read_dir(&self.folder) {
            Ok(found) => found,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(source) => return Err(DurableError { what: "read", path: self.folder.clone(), source }.into()),
        };
        let mut names: Vec<Name> =
            found.filter_map(|file| file.ok()?.file_name().to_str()?.strip_suffix(".p12")?.parse().ok()).collect();
        names.sort();
        Ok(names)
    }

    /// What is known of a key.
    ///
    /// # Errors
    /// [`KeyError::Unknown`]; [`KeyError::Malformed`] for notes that are damaged or missing: [`Self::open`] makes them again;
    /// [`KeyError::NewerNotes`].
    pub fn facts(&self, name: &Name) -> Result<Facts, KeyError> {
        self.notes(name)?.facts(name)
    }

    fn notes(&self, name: &Name) -> Result<Notes, KeyError> {
        self.must_have(name)?;
        let damaged = KeyError::Malformed("what is noted of the key");
        let bytes = match durable::read_limited(&self.notes_of(name), MAX_NOTES_LEN) {
            Ok(bytes) => bytes,
            Err(error) if error.source.kind() == std::io::ErrorKind::NotFound => return Err(damaged),
            Err(error) => return Err(error.into()),
        };
        let notes: Notes = serde_json::from_slice(&bytes).map_err(|_| damaged)?;
        match notes.format == FORMAT {
            true => Ok(notes),
            false => Err(KeyError::NewerNotes { name: name.to_string() }),
        }
    }

    fn must_have(&self, name: &Name) -> Result<(), KeyError> {
        if self.path_of(name).is_file() {
            return Ok(());
        }
        let known = self.names()?.iter().map(ToString::to_string).collect();
        Err(KeyError::Unknown { name: name.to_string(), known })
    }

    fn note(&self, name: &Name, notes: &Notes) -> Result<(), KeyError> {
        Ok(durable::write_private(&self.notes_of(name), &notes.bytes())?)
    }

    /// Changes what is noted of a key.
    fn change(&self, name: &Name, change: impl FnOnce(&mut Notes)) -> Result<Facts, KeyError> {
        let mut notes = self.notes(name)?;
        change(&mut notes);
        self.note(name, &notes)?;
        notes.facts(name)
    }

    /// Keeps a key under a passphrase, and that in the key store of the system where it is `in_key_store`. Nothing is ever replaced.
    ///
    /// # Errors
    /// [`KeyError::Exists`]; [`KeyError::Disk`]; [`KeyError::KeyStore`].
    pub fn add(
        &self,
        name: &Name,
        entry: Entry,
        (passphrase, in_key_store): (&Passphrase, bool),
        origin: Origin,
        now: Timestamp,
    ) -> Result<Facts, KeyError> {
        let path = self.path_of(name);
        let exists = || KeyError::Exists { name: name.to_string() };
        if path.exists() {
            return Err(exists());
        }
        durable::create_private_folder(&self.folder)?;
        let entry = Entry { alias: name.to_string(), ..entry };
        let bytes = pkcs12::write(&entry, passphrase, self.rounds)?;
        // What was written is read again, before anybody relies on it.
        let read = pkcs12::read(&bytes, passphrase)?;
        if read.first().is_none_or(|read| read.key.public() != entry.key.public() || read.chain != entry.chain) {
            return Err(KeyError::Malformed("the key that was written"));
        }
        let notes = Notes { passphrase_in_key_store: in_key_store, ..Notes::of(&entry, origin, now) };
        let facts = notes.clone().facts(name)?;
        if in_key_store {
            // It may be that nobody else knows it: the store has it, and the notes say so, before there is a key. Notes alone are none.
            facts.kept().keep(passphrase)?;
        }
        let noted = || match in_key_store {
            true => durable::write_private_new(&self.notes_of(name), &notes.bytes()).map(|_| ()),
            false => Ok(()),
        };
        let placed = noted().and_then(|()| durable::write_private_new(&path, &bytes));
        if in_key_store && !matches!(placed, Ok(true)) {
            // There is no such key; what went wrong is the error to report.
            let _ = facts.kept().forget();
        }
        if !placed? {
            return Err(exists());
        }
        self.note(name, &notes)?;
        Ok(facts)
    }

    /// Opens a key. Notes that are missing or damaged are made again.
    ///
    /// # Errors
    /// [`KeyError::Passphrase`]; [`KeyError::Unknown`]; those of a damaged file.
    pub fn open(&self, name: &Name, passphrase: &Passphrase) -> Result<OpenKey, KeyError> {
        self.must_have(name)?;
        let path = self.path_of(name);
        let bytes = durable::read_limited(&path, pkcs12::MAX_LEN)?;
        let entry = pkcs12::read(&bytes, passphrase)?.into_iter().next().ok_or(KeyError::NoKey)?;
        if let Err(KeyError::Malformed(_)) = self.facts(name) {
            let at =
                fs::metadata(&path).and_then(|stat| stat.modified()).ok().and_then(|at| Timestamp::try_from(at).ok());
            self.note(name, &Notes::of(&entry, Origin::Unknown, at.unwrap_or(Timestamp::UNIX_EPOCH)))?;
        }
        Ok(OpenKey { name: name.clone(), entry })
    }

    /// Notes that a key has signed.
    ///
    /// # Errors
    /// Those of [`Self::facts`].
    pub fn note_used(&self, name: &Name, now: Timestamp) -> Result<(), KeyError> {
        self.change(name, |notes| notes.used = Some(now)).map(|_| ())
    }

    /// Keeps the passphrase of a key in the key store of the system. It has to open the key.
    ///
    /// # Errors
    /// [`KeyError::Passphrase`]; [`KeyError::KeyStore`]; those of [`Self::facts`].
    pub fn keep_in_key_store(&self, name: &Name, passphrase: &Passphrase) -> Result<Facts, KeyError> {
        self.open(name, passphrase)?;
        self.facts(name)?.kept().keep(passphrase)?;
        self.change(name, |notes| (notes.passphrase_from, notes.passphrase_in_key_store) = (Vec::new(), true))
    }

    /// Notes that the passphrase of a key is asked for again. Who takes it out of the key store of the system has to know it: nobody
    /// loses a key by taking out what nobody else knows.
    ///
    /// # Errors
    /// [`KeyError::Passphrase`]; [`KeyError::KeyStore`]; those of [`Self::facts`].
    pub fn ask_again(&self, name: &Name, known: Option<&Passphrase>) -> Result<Facts, KeyError> {
        if self.facts(name)?.passphrase_from.is_key_store() {
            self.open(name, known.ok_or(KeyError::Passphrase)?)?;
        }
        self.note_program(name, &[])
    }

    /// Notes which program gives the passphrase of a key. What it gives has to open the key.
    ///
    /// # Errors
    /// [`KeyError::Passphrase`]; those of the program, and of [`Self::facts`].
    pub fn remember(&self, name: &Name, run: &[String], stopped: &dyn Fn() -> bool) -> Result<Facts, KeyError> {
        self.open(name, &remembered::passphrase(name, run, &self.folder, stopped)?)?;
        self.note_program(name, run)
    }

    fn note_program(&self, name: &Name, run: &[String]) -> Result<Facts, KeyError> {
        let was = self.facts(name)?;
        let facts = self.change(name, |notes| {
            (notes.passphrase_from, notes.passphrase_in_key_store) = (run.to_vec(), false);
        })?;
        if was.passphrase_from.is_key_store() {
            was.kept().forget()?;
        }
        Ok(facts)
    }

    /// The passphrase of a key from who keeps it; none where nobody does.
    ///
    /// # Errors
    /// Those of the program.
    pub fn remembered(&self, name: &Name, stopped: &dyn Fn() -> bool) -> Result<Option<Passphrase>, KeyError> {
        let Ok(facts) = self.facts(name) else { return Ok(None) };
        match &facts.passphrase_from {
            PassphraseFrom::KeyStore => facts.kept().passphrase().map(Some),
            PassphraseFrom::Nobody => Ok(None),
            PassphraseFrom::Program(run) => remembered::passphrase(name, run, &self.folder, stopped).map(Some),
        }
    }

    /// Writes a copy of a key under a passphrase, which may be another one, and notes where. A file that is there is not replaced.
    ///
    /// # Errors
    /// [`KeyError::Disk`].
    pub fn back_up(&self, key: &OpenKey, to: &Path, passphrase: &Passphrase, now: Timestamp) -> Result<(), KeyError> {
        self.refuse_inside(to)?;
        self.export(key, to, passphrase)?;
        self.change(&key.name, |notes| notes.note_backup(to, None, now, None)).map(|_| ())
    }

    /// Writes an opened key as a file of PKCS #12. A file that is there is not replaced.
    ///
    /// # Errors
    /// [`KeyError::Disk`].
    pub fn export(&self, key: &OpenKey, to: &Path, passphrase: &Passphrase) -> Result<(), KeyError> {
        let bytes = pkcs12::write(&key.entry, passphrase, self.rounds)?;
        must_be_new(durable::write_private_new(to, &bytes)?, to)
    }

    /// Writes the certificates of a key as PEM: they are public. A file that is there is not replaced.
    ///
    /// # Errors
    /// [`KeyError::Disk`].
    pub fn export_certificates(&self, facts: &Facts, to: &Path) -> Result<(), KeyError> {
        let text: String = facts.chain.iter().map(|found| pem::write("CERTIFICATE", found)).collect();
        must_be_new(durable::write_new(to, text.as_bytes())?, to)
    }

    /// Refuses a copy that lies in the keyring.
    fn refuse_inside(&self, copy: &Path) -> Result<(), KeyError> {
        let real = |path: &Path| path.canonicalize().ok();
        let folder = copy.parent().and_then(real);
        match folder.is_some() && folder == real(&self.folder) {
            true => Err(KeyError::NotACopy { path: copy.to_owned() }),
            false => Ok(()),
        }
    }

    /// Opens a copy in memory, signs with it, verifies that with the certificate of the keyring, and notes the day.
    ///
    /// # Errors
    /// [`KeyError::OtherCopy`]; those of reading it.
    pub fn drill(&self, name: &Name, copy: &Path, passphrase: &Passphrase, now: Timestamp) -> Result<Facts, KeyError> {
        self.refuse_inside(copy)?;
        let facts = self.facts(name)?;
        let bytes = durable::read_limited(copy, pkcs12::MAX_LEN)?;
        let read = pkcs12::read(&bytes, passphrase)?;
        Self::must_sign(&facts, read, copy, now)?;
        self.change(name, |notes| notes.note_backup(copy, None, now, Some(now)))
    }

    /// Divides an opened key over sheets, any `needed` of which bring it back.
    ///
    /// # Errors
    /// Those of [`Set::of`].
    pub fn divide(&self, key: &OpenKey, needed: u8, of: u8) -> Result<Set, KeyError> {
        Set::of(&key.entry, needed, of, self.rounds)
    }

    /// Notes that sheets were written.
    ///
    /// # Errors
    /// Those of [`Self::facts`].
    pub fn note_sheets(&self, name: &Name, set: &Set, now: Timestamp) -> Result<Facts, KeyError> {
        let of = u8::try_from(set.shares.len()).ok();
        let sheets = Sheets { needed: set.needed, of };
        self.change(name, |notes| notes.note_backup(Path::new(&set.name), Some(sheets), now, None))
    }

    /// As [`Self::drill`], with a key that sheets brought back.
    ///
    /// # Errors
    /// Those of [`Self::drill`].
    pub fn drill_sheets(&self, name: &Name, found: Recovered, now: Timestamp) -> Result<Facts, KeyError> {
        let Recovered { set, needed, entry } = found;
        let (path, sheets) = (PathBuf::from(set), Sheets { needed, of: None });
        Self::must_sign(&self.facts(name)?, vec![entry], &path, now)?;
        self.change(name, |notes| notes.note_backup(&path, Some(sheets), now, Some(now)))
    }

    /// Whether one of the keys of a copy signs as the key of the keyring.
    fn must_sign(facts: &Facts, read: Vec<Entry>, copy: &Path, now: Timestamp) -> Result<(), KeyError> {
        let name = &facts.name;
        let own = facts.chain.first().ok_or(KeyError::Malformed("the key's certificate"))?;
        let public = certificate::public_key(own)?;
        let other = || KeyError::OtherCopy { name: name.to_string(), path: copy.to_owned() };
        let entry = read.into_iter().find(|entry| entry.key.public() == public).ok_or_else(other)?;
        let message = format!("a drill of the key {name} at {now}");
        let signature = entry.key.sign(Hash::Sha256, message.as_bytes())?;
        match certificate::has_signed(own, message.as_bytes(), &signature)? {
            true => Ok(()),
            false => Err(other()),
        }
    }
}

fn must_be_new(is_written: bool, path: &Path) -> Result<(), KeyError> {
    match is_written {
        true => Ok(()),
        false => {
            let source = std::io::Error::new(std::io::ErrorKind::AlreadyExists, "a file is there already");
            Err(DurableError { what: "write", path: path.to_owned(), source }.into())
        }
    }
}

/// Makes a new key with a certificate of its own.
///
/// # Errors
/// [`KeyError::Years`]; [`KeyError::NoRandom`].
pub fn make(algorithm: Algorithm, subject: &[u8], years: u16, now: Timestamp) -> Result<Entry, KeyError> {
    let mut serial = [0; 16];
    getrandom::fill(&mut serial).map_err(|_| KeyError::NoRandom)?;
    with_certificate(PrivateKey::generate(algorithm)?, subject, Purpose::Code, years, now, serial)
}

/// Gives a key a certificate of its own with this serial number.
///
/// # Errors
/// [`KeyError::Years`].
pub fn with_certificate(
    key: PrivateKey,
    subject: &[u8],
    purpose: Purpose,
    years: u16,
    now: Timestamp,
    serial: [u8; 16],
) -> Result<Entry, KeyError> {
    let certificate = certificate::self_signed(&key, subject, purpose, now, years, serial)?;
    Ok(Entry { alias: String::new(), key, chain: vec![certificate] })
}
