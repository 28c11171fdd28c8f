//! A passphrase in memory: wiped when it is dropped, and shown by nothing.

use std::fmt;

use zeroize::Zeroizing;

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

    /// How many characters it has.
    pub fn chars(&self) -> usize {
        self.0.chars().count()
    }
}

impl fmt::Debug for Passphrase {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(a passphrase)")
    }
}
