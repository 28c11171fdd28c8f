//! A passphrase in memory: wiped when it is dropped, and shown by nothing.

use std::fmt;

use zeroize::Zeroizing;

use crate::KeyError;

/// Characters that a new passphrase has at least. Ours: shorter ones are guessed by machines.
const MIN_CHARS: usize = 10;

/// A passphrase.
#[derive(Clone, PartialEq, Eq)]
pub struct Passphrase(Zeroizing<String>);

impl Passphrase {
    /// Takes it over.
    pub fn new(text: String) -> Self {
        Self(Zeroizing::new(text))
    }

    /// The first line of what a file or a program gave; none where that is not text.
    pub fn of_bytes(bytes: Vec<u8>) -> Option<Self> {
        let bytes = Zeroizing::new(bytes);
        let text = std::str::from_utf8(&bytes).ok()?;
        Some(Self::new(text.lines().next().unwrap_or_default().to_owned()))
    }

    /// How it is written.
    pub(crate) fn text(&self) -> &str {
        &self.0
    }

    /// Whether there is nothing in it.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The same, if it is long enough for a key that is kept from now on.
    ///
    /// # Errors
    /// [`KeyError::ShortPassphrase`].
    pub fn long_enough(self) -> Result<Self, KeyError> {
        match self.0.chars().count() {
            chars if chars < MIN_CHARS => Err(KeyError::ShortPassphrase { chars, least: MIN_CHARS }),
            _ => Ok(self),
        }
    }
}

impl fmt::Debug for Passphrase {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(a passphrase)")
    }
}
