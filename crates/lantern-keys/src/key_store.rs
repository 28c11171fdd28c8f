//! Passphrases in the key store of the system, which opens when its user is there: the one that comes with macOS or with Windows, and on a
//! Linux desktop what speaks the Secret Service interface (freedesktop.org, "Secret Service API", version 0.2,
//! <https://specifications.freedesktop.org/secret-service/latest/>).

use std::sync::mpsc;
use std::thread;
use std::time::Duration;

use keyring::{Entry, Error};
use lantern_core::bytes::hex;
use lantern_core::names::Name;

use crate::KeyError;
use crate::passphrase::Passphrase;

/// What an entry belongs to.
const SERVICE: &str = "lantern";
/// How long it may take: someone may have to unlock the store.
const TIME_LIMIT: Duration = Duration::from_secs(300);

/// A passphrase in the key store of the system.
pub(crate) struct Kept<'a> {
    name: &'a Name,
    /// By name and certificate: another key of that name has another passphrase.
    account: String,
}

impl<'a> Kept<'a> {
    /// That of a key, which is known by the SHA-256 of its certificate.
    pub(crate) fn of(name: &'a Name, certificate: &[u8; 32]) -> Self {
        Self { name, account: format!("{name} {}", hex(certificate)) }
    }

    /// Asks the store, as long as that may take.
    fn ask<T: Send + 'static>(
        &self,
        what: impl FnOnce(&Entry) -> Result<T, Error> + Send + 'static,
    ) -> Result<Result<T, Error>, KeyError> {
        let (account, (answer, answered)) = (self.account.clone(), mpsc::channel());
        // It ends with the program where the store never answers.
        thread::spawn(move || answer.send(Entry::new(SERVICE, &account).and_then(|entry| what(&entry))));
        let silent = |_| KeyError::KeyStore { name: self.name.to_string(), why: "it does not answer".to_owned() };
        answered.recv_timeout(TIME_LIMIT).map_err(silent)
    }

    fn failed(&self, error: &Error) -> KeyError {
        let why = match error {
            Error::NoEntry => "it has none of this key".to_owned(),
            // The client of the bus speaks of the bus alone.
            Error::PlatformFailure(_) if !has_session() => "there is none here; it comes with a desktop".to_owned(),
            Error::NoStorageAccess(source) | Error::PlatformFailure(source) => source.to_string(),
            other => other.to_string(),
        };
        KeyError::KeyStore { name: self.name.to_string(), why }
    }

    /// Keeps it. One that is there is replaced: only the newest opens the key.
    pub(crate) fn keep(&self, passphrase: &Passphrase) -> Result<(), KeyError> {
        let passphrase = passphrase.clone();
        self.ask(move |entry| entry.set_password(passphrase.text()))?.map_err(|error| self.failed(&error))
    }

    pub(crate) fn passphrase(&self) -> Result<Passphrase, KeyError> {
        self.ask(|entry| entry.get_password().map(Passphrase::new))?.map_err(|error| self.failed(&error))
    }

    /// Takes it out; it may be gone already.
    pub(crate) fn forget(&self) -> Result<(), KeyError> {
        match self.ask(Entry::delete_credential)? {
            Ok(()) | Err(Error::NoEntry) => Ok(()),
            Err(error) => Err(self.failed(&error)),
        }
    }
}

/// Whether this system has a key store wherever somebody is signed in, or somebody's desktop does.
fn has_session() -> bool {
    cfg!(any(windows, target_os = "macos")) || std::env::var_os("DBUS_SESSION_BUS_ADDRESS").is_some()
}
