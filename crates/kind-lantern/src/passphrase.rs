//! Passphrases of keys: from a file, from the environment, or asked for.

use std::fs::File;
use std::io::Read as _;
use std::path::{Path, PathBuf};

use lantern_core::names::Name;
use lantern_keys::Passphrase;

use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// Gives a passphrase where nobody can be asked.
pub const VARIABLE: &str = "LANTERN_KEY_PASSPHRASE";
/// Longest file with a passphrase, in bytes.
const MAX_LEN: u64 = 64 * 1024;

/// Where the passphrase of a key comes from, where it is not asked for.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct PassphraseArg {
    /// The key's passphrase is the first line of this file. Left out: the variable LANTERN_KEY_PASSPHRASE, or it is asked for
    #[arg(long, value_name = "FILE")]
    pub passphrase_file: Option<PathBuf>,
}

impl PassphraseArg {
    /// The passphrase that is given by a file or the variable; none where neither is there.
    pub fn given(&self) -> Result<Option<Passphrase>, CommandError> {
        if let Some(path) = &self.passphrase_file {
            return passphrase_in(path).map(Some);
        }
        let given = std::env::var(VARIABLE).ok().filter(|text| !text.is_empty());
        Ok(given.map(Passphrase::new))
    }

    /// The passphrase that is given, or the answer to a question.
    pub fn given_or_asked(&self, question: &str, ui: &Ui) -> Result<Passphrase, CommandError> {
        self.given()?.map_or_else(|| ask(question, ui), Ok)
    }

    /// The passphrase of a key that a file gives, a program or the key store of the system keeps, or the variable gives; none where nothing does.
    pub fn given_or_kept(&self, name: &Name, ui: &Ui) -> Result<Option<Passphrase>, CommandError> {
        if self.passphrase_file.is_some() {
            return self.given();
        }
        // The variable stands for every key, and what is kept for one alone: it knows better, where it can be had.
        match (lantern_project::keyring()?.remembered(name, &|| ui.is_stopped()), self.given()?) {
            (Ok(kept), given) => Ok(kept.or(given)),
            (Err(error), Some(given)) if !ui.is_stopped() => {
                ui.aside(&format!("{error}; the variable {VARIABLE} is taken"));
                Ok(Some(given))
            }
            (Err(error), _) => Err(error.into()),
        }
    }

    /// The passphrase of a key: given, kept somewhere, or asked for.
    pub fn of_key(&self, name: &Name, ui: &Ui) -> Result<Passphrase, CommandError> {
        self.given_or_kept(name, ui)?.map_or_else(|| self.given_or_typed(name, ui), Ok)
    }

    /// The passphrase of a key from someone who knows it.
    pub fn given_or_typed(&self, name: &Name, ui: &Ui) -> Result<Passphrase, CommandError> {
        self.given_or_asked(&format!("The passphrase of the key {name} (not shown):"), ui)
    }

    /// The PIN of a token: given, or asked for.
    pub fn of_token(&self, name: &Name, ui: &Ui) -> Result<Passphrase, CommandError> {
        self.given_or_asked(&format!("The PIN of the token {name} (not shown):"), ui)
    }

    /// A passphrase for a key that is new here: given, or asked for twice.
    pub fn for_new(&self, name: &Name, ui: &Ui) -> Result<Passphrase, CommandError> {
        self.given_or_asked_twice(&format!("A passphrase for the key {name} (not shown):"), ui)
    }

    /// A passphrase for a copy of a key whose own nobody has to know: given, or asked for twice.
    pub fn for_copy(&self, name: &Name, ui: &Ui) -> Result<Passphrase, CommandError> {
        self.given_or_asked_twice(&format!("A passphrase for this copy of the key {name} (not shown):"), ui)
    }

    fn given_or_asked_twice(&self, question: &str, ui: &Ui) -> Result<Passphrase, CommandError> {
        let passphrase = match self.given()? {
            Some(given) => given,
            None => again(ask(question, ui)?, ui)?,
        };
        Ok(passphrase.long_enough()?)
    }
}

/// A passphrase for a key that came from a file: given, the file's own, or another one, which is asked for at a terminal.
pub fn for_imported(
    arg: &PassphraseArg,
    of_file: Passphrase,
    name: &Name,
    ui: &Ui,
) -> Result<Passphrase, CommandError> {
    if let Some(given) = arg.given()? {
        return Ok(given);
    }
    if !ui.can_ask() {
        return Ok(of_file);
    }
    let question = format!("A passphrase for the key {name} in the keyring (Enter: the same):");
    let asked = Passphrase::new(ui.ask_secret_or_nothing(&question)?);
    match asked.is_empty() {
        true => Ok(of_file),
        false => Ok(again(asked, ui)?.long_enough()?),
    }
}

/// The answer to a question that is not shown while it is typed.
fn ask(question: &str, ui: &Ui) -> Result<Passphrase, CommandError> {
    let asked = ui.ask_secret(question, "the passphrase", &format!("--passphrase-file or the variable {VARIABLE}"));
    asked.map(Passphrase::new)
}

/// The same passphrase, if it is typed again.
fn again(passphrase: Passphrase, ui: &Ui) -> Result<Passphrase, CommandError> {
    match ask("The same again:", ui)? == passphrase {
        true => Ok(passphrase),
        false => Err(CommandError::usage("the two passphrases differ", "run the same command again")),
    }
}

/// The passphrase that is the first line of a file; also of a pipe, such as /dev/fd/3.
pub fn passphrase_in(path: &Path) -> Result<Passphrase, CommandError> {
    let failed = |error| CommandError::io(&format!("read the passphrase in {}", path.display()), error);
    let mut bytes = Vec::new();
    File::open(path).and_then(|file| file.take(MAX_LEN).read_to_end(&mut bytes)).map_err(failed)?;
    Passphrase::of_bytes(bytes).filter(|passphrase| !passphrase.is_empty()).ok_or_else(|| {
        let what = format!("{} has no passphrase in it", path.display());
        CommandError::usage(what, "write it into the first line, in UTF-8")
    })
}
