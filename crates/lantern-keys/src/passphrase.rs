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

    /// One that nobody knows yet: 25 letters and digits in groups of five, 125 random bits.
    ///
    /// # Errors
    /// [`KeyError::NoRandom`].
    pub fn generate() -> Result<Self, KeyError> {
        // Without those that look like others.
        const LETTERS: &str = "abcdefghijkmnpqrstuvwxyz23456789";
        let mut random = Zeroizing::new([0; 25]);
        getrandom::fill(&mut *random).map_err(|_| KeyError::NoRandom)?;
        let mut text = Zeroizing::new(String::with_capacity(29));
        for (at, byte) in random.iter().enumerate() {
            if at > 0 && at % 5 == 0 {
                text.push('-');
            }
            text.extend(LETTERS.chars().nth(usize::from(byte % 32)));
        }
        Ok(Self(text))
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn made_up_ones_are_long_and_each_another() {
        let all: std::collections::HashSet<String> =
            (0..100).map(|_| Passphrase::generate().unwrap().text().to_owned()).collect();
        assert_eq!(all.len(), 100);
        for one in &all {
            let groups: Vec<&str> = one.split('-').collect();
            assert!(groups.len() == 5 && groups.iter().all(|group| group.len() == 5), "{one}");
        }
        // Each letter is there, and none that looks like another.
        let letters: std::collections::BTreeSet<char> = all.iter().flat_map(|one| one.chars()).collect();
        assert!(letters.len() == 33 && !letters.contains(&'l') && !letters.contains(&'0'), "{letters:?}");
    }
}
