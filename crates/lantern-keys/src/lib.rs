//! Signing keys: made, read, kept and drilled; and what signs with them.
//!
//! - [`key::PrivateKey`], [`key::Signer`]: a key in memory, and the one thing that all signing knows of it.
//! - [`certificate`]: certificates that keys make for themselves, and what others say.
//! - [`file`](mod@file): files with keys, of whatever kind; [`pkcs12`], [`pem`], [`java_store`]: each kind.
//! - [`program`]: a program that signs; [`token`]: a token that does.
//! - [`sheets`]: a key divided over sheets of paper.
//! - [`keyring::Keyring`]: the folder where they are kept, what is known of each, its copies and their drills.
//!
//! What is secret is wiped from memory when it is dropped, and shown by no `Debug`. Not here: configuration, terminal.

#![cfg_attr(not(test), warn(clippy::indexing_slicing))]

use std::path::PathBuf;

use lantern_store::durable::DurableError;

pub mod certificate;
pub mod der;
pub mod file;
pub mod java_store;
pub mod key;
mod key_store;
pub mod keyring;
mod passphrase;
pub mod pem;
pub mod pkcs12;
pub mod program;
mod protection;
pub mod remembered;
pub mod sheets;
pub mod ssh;
pub mod token;

pub use passphrase::Passphrase;

/// Why something with a key did not work.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum KeyError {
    /// Another passphrase.
    #[error("the passphrase is not the right one")]
    Passphrase,
    /// A new passphrase that machines would guess.
    #[error("the passphrase has {chars} characters; {least} are the least")]
    ShortPassphrase {
        /// How many it has.
        chars: usize,
        /// How many it must have.
        least: usize,
    },
    /// Another passphrase of the key within its store.
    #[error("the key in the store has another passphrase than the store")]
    KeyPassphrase,
    /// A file that is not what it should be.
    #[error("{0} cannot be read: the file is damaged, or not a key file")]
    Malformed(&'static str),
    /// Well-formed, and not understood or not done.
    #[error("{0}")]
    Unsupported(String),
    /// A passphrase that is encrypted in the old way of PEM.
    #[error("the key is encrypted in an old way, with MD5")]
    OldPem,
    /// More rounds than any honest file has.
    #[error("its passphrase would be hashed {count} times; {most} are the most that is done")]
    TooManyRounds {
        /// What the file asks for.
        count: u64,
        /// The limit.
        most: u64,
    },
    /// No certificate to a key.
    #[error("there is no certificate for the key{}", named(alias))]
    NoCertificate {
        /// How the file calls the key.
        alias: String,
    },
    /// A certificate of another key.
    #[error("the certificate is for another key")]
    OtherKey,
    /// No key at all.
    #[error("there is no private key in it")]
    NoKey,
    /// Several, and none was named.
    #[error("it has {} keys: {}", aliases.len(), aliases.join(", "))]
    SeveralKeys {
        /// How the file calls them.
        aliases: Vec<String>,
    },
    /// A name for the certificate that is none.
    #[error("{0:?} is not a name as RFC 4514 writes it")]
    Subject(String),
    /// A number of years that cannot be.
    #[error("a certificate for {years} years cannot be made; from 1 to {most} are possible")]
    Years {
        /// What was asked for.
        years: u16,
        /// The limit.
        most: u16,
    },
    /// The system gave no random numbers, or the library no key.
    #[error("the system gives no random numbers")]
    NoRandom,
    /// A name that is taken.
    #[error("there is a key {name} already")]
    Exists {
        /// The name.
        name: String,
    },
    /// No such key.
    #[error("there is no key {name}")]
    Unknown {
        /// What was asked for.
        name: String,
        /// Those that there are.
        known: Vec<String>,
    },
    /// Someone asked to stop.
    #[error("nothing is half done")]
    Stopped,
    /// A program that signs did not.
    #[error("the signer {name} did not sign: {why}")]
    Program {
        /// What `lantern.toml` calls it.
        name: String,
        /// What it said, or what is known.
        why: String,
    },
    /// A program that keeps a passphrase did not give it.
    #[error("{program} did not give the passphrase of the key {name}: {why}")]
    Remembered {
        /// The key.
        name: String,
        /// The program.
        program: String,
        /// Why not.
        why: String,
    },
    /// The key store of the system did not keep or give a passphrase.
    #[error("the key store of this system does not serve for the passphrase of the key {name}: {why}")]
    KeyStore {
        /// The key.
        name: String,
        /// Why not.
        why: String,
    },
    /// A token that signs did not.
    #[error("the signer {name} did not sign: {why}")]
    Token {
        /// What `lantern.toml` calls it.
        name: String,
        /// Why not.
        why: token::TokenError,
    },
    /// The copy holds another key.
    #[error("{} holds another key than {name}", path.display())]
    OtherCopy {
        /// The key.
        name: String,
        /// The copy.
        path: PathBuf,
    },
    /// Notes of a newer lantern, which are not touched.
    #[error("what is noted of the key {name} was written by a newer lantern")]
    NewerNotes {
        /// The key.
        name: String,
    },
    /// What is to be a copy lies in the keyring.
    #[error("{} lies in the keyring itself: what happens to the key happens to it", path.display())]
    NotACopy {
        /// Where it is, or would be.
        path: PathBuf,
    },
    /// Sheets that were not made, or did not bring a key back.
    #[error(transparent)]
    Sheet(#[from] sheets::SheetError),
    /// A file or folder.
    #[error(transparent)]
    Disk(#[from] DurableError),
}

fn named(alias: &str) -> String {
    if alias.is_empty() { String::new() } else { format!(" {alias:?}") }
}

impl From<der::Malformed> for KeyError {
    fn from(error: der::Malformed) -> Self {
        Self::Malformed(error.0)
    }
}
