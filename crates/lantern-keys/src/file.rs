//! Files with keys, of whatever kind: seen from their first bytes.

use crate::passphrase::Passphrase;
use crate::pkcs12::{self, Entry};
use crate::{KeyError, java_store, pem};

/// Largest file that is read, in bytes.
pub const MAX_LEN: u64 = pkcs12::MAX_LEN;

/// A file with keys, not opened yet.
#[derive(Debug)]
pub struct KeyFile<'a> {
    bytes: &'a [u8],
    kind: Kind,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    OpenPem,
    EncryptedPem,
    JavaStore,
    Pkcs12,
}

impl<'a> KeyFile<'a> {
    /// Sees what kind of file it is.
    ///
    /// # Errors
    /// [`KeyError::Malformed`] for what is none.
    pub fn of(bytes: &'a [u8]) -> Result<Self, KeyError> {
        let kind = match () {
            () if pem::is_pem(bytes) => {
                if pem::is_encrypted(bytes)? {
                    Kind::EncryptedPem
                } else {
                    Kind::OpenPem
                }
            }
            () if java_store::is_store(bytes) => Kind::JavaStore,
            () if pkcs12::may_be(bytes) => Kind::Pkcs12,
            () => return Err(KeyError::Malformed("the key")),
        };
        Ok(Self { bytes, kind })
    }

    /// Whether it opens only with a passphrase.
    pub fn needs_passphrase(&self) -> bool {
        self.kind != Kind::OpenPem
    }

    /// Reads a key: the only one, or the one of this name. `of_key` is the passphrase of the key within its store, where it is
    /// another one.
    ///
    /// # Errors
    /// Those of the kinds of files; [`KeyError::SeveralKeys`] where it is not clear which is meant.
    pub fn read(
        &self,
        passphrase: Option<&Passphrase>,
        of_key: Option<&Passphrase>,
        alias: Option<&str>,
    ) -> Result<Entry, KeyError> {
        let given = || passphrase.ok_or(KeyError::Passphrase);
        let mut entries = match self.kind {
            Kind::OpenPem | Kind::EncryptedPem => vec![pem::read(self.bytes, passphrase)?],
            Kind::JavaStore => java_store::read(self.bytes, given()?, of_key)?,
            Kind::Pkcs12 => pkcs12::read(self.bytes, given()?)?,
        };
        let place = match alias {
            Some(alias) => entries.iter().position(|entry| entry.alias == alias),
            None => (entries.len() == 1).then_some(0),
        };
        let several = || KeyError::SeveralKeys { aliases: entries.iter().map(|entry| entry.alias.clone()).collect() };
        let place = place.ok_or_else(several)?;
        Ok(entries.swap_remove(place))
    }
}
