//! Passphrases of keys: from a file, from the environment, or asked for.

use std::io::Read as _;
use std::path::{Path, PathBuf};

use lantern_core::names::Name;
use lantern_keys::Passphrase;

use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// Characters that a new passphrase has at least. Ours: shorter ones are guessed by machines.
const MIN_PASSPHRASE: usize = 10;

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
        let given = std::env::var("LANTERN_KEY_PASSPHRASE").ok().filter(|text| !text.is_empty());
        Ok(given.map(Passphrase::new))
    }

    /// The passphrase of a key: given, or asked for.
    pub fn of_key(&self, name: &Name, ui: &Ui) -> Result<Passphrase, CommandError> {
        match self.given()? {
            Some(given) => Ok(given),
            None => self.ask(&format!("The passphrase of the key {name} (not shown):"), ui),
        }
    }

    /// The answer to a question that is not shown while it is typed.
    #[expect(clippy::unused_self, reason = "it names the option that answers it")]
    pub fn ask(&self, question: &str, ui: &Ui) -> Result<Passphrase, CommandError> {
        ui.ask_secret(question, "the passphrase", "--passphrase-file or the variable LANTERN_KEY_PASSPHRASE")
            .map(Passphrase::new)
    }
}

/// Longest file with a passphrase, in bytes.
const MAX_PASSPHRASE_LEN: u64 = 64 * 1024;

/// The passphrase that is the first line of a file; also of a pipe, such as /dev/fd/3.
pub fn passphrase_in(path: &Path) -> Result<Passphrase, CommandError> {
    let doing = || format!("read the passphrase in {}", path.display());
    let mut bytes = Vec::new();
    let file = std::fs::File::open(path).map_err(|error| CommandError::io(&doing(), error))?;
    file.take(MAX_PASSPHRASE_LEN).read_to_end(&mut bytes).map_err(|error| CommandError::io(&doing(), error))?;
    Passphrase::of_bytes(bytes).filter(|passphrase| passphrase.chars() > 0).ok_or_else(|| {
        CommandError::usage(
            format!("{} has no passphrase in it", path.display()),
            "write it into the first line, in UTF-8",
        )
    })
}

impl PassphraseArg {
    /// A new passphrase: given, or asked for twice.
    pub fn for_new(&self, question: &str, ui: &Ui) -> Result<Passphrase, CommandError> {
        let passphrase = match self.given()? {
            Some(given) => given,
            None => {
                let first = self.ask(question, ui)?;
                let again = self.ask("The same again:", ui)?;
                if first != again {
                    return Err(CommandError::usage("the two passphrases differ", "run the same command again"));
                }
                first
            }
        };
        long_enough(passphrase)
    }

    /// As [`Self::for_new`], with another one for who only presses Enter.
    pub fn for_new_or(&self, question: &str, other: Passphrase, ui: &Ui) -> Result<Passphrase, CommandError> {
        let asked =
            rpassword::prompt_password(format!("{question} ")).map_err(|error| CommandError::io("read it", error))?;
        if asked.is_empty() {
            return Ok(other);
        }
        let first = Passphrase::new(asked);
        let again = self.ask("The same again:", ui)?;
        match first == again {
            true => long_enough(first),
            false => Err(CommandError::usage("the two passphrases differ", "run the same command again")),
        }
    }
}

fn long_enough(passphrase: Passphrase) -> Result<Passphrase, CommandError> {
    if passphrase.chars() < MIN_PASSPHRASE {
        let what = format!("the passphrase has {} characters; {MIN_PASSPHRASE} are the least", passphrase.chars());
        return Err(CommandError::usage(what, "take a sentence of four or five words"));
    }
    Ok(passphrase)
}
