//! The keys that an identity is known by: the fingerprint of the certificate that signed first is the only one that goes on.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use crate::bytes::hex;
use crate::names::Identity;

/// SHA-256 of a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Fingerprint(pub [u8; 32]);

/// Why a text is no fingerprint.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("this is not a SHA-256 fingerprint: it has 64 digits from 0 to f, with or without colons")]
pub struct FingerprintError;

impl FromStr for Fingerprint {
    type Err = FingerprintError;
    fn from_str(text: &str) -> Result<Self, FingerprintError> {
        let digits: Vec<u8> = text
            .chars()
            .filter(|c| !matches!(c, ':' | ' '))
            .map(|c| c.to_digit(16).and_then(|digit| u8::try_from(digit).ok()).ok_or(FingerprintError))
            .collect::<Result<_, _>>()?;
        let mut out = [0; 32];
        if digits.len() != 2 * out.len() {
            return Err(FingerprintError);
        }
        for (byte, pair) in out.iter_mut().zip(digits.chunks(2)) {
            *byte = pair.iter().fold(0, |value, digit| value << 4 | digit);
        }
        Ok(Self(out))
    }
}

impl fmt::Display for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&hex(&self.0))
    }
}

impl Fingerprint {
    /// Its first digits, to tell keys apart by eye.
    pub fn short(&self) -> String {
        self.to_string().chars().take(12).collect()
    }
}

/// Who knows an identity by a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Role {
    /// Players' devices: they take an update only when it is signed with the key of what they have.
    OnDevice,
    /// Storefronts, which sign again for devices what is sent to them.
    AtStorefront,
}

impl Role {
    /// How `lantern.toml` calls it.
    pub fn key(self) -> &'static str {
        match self {
            Self::OnDevice => "on-device",
            Self::AtStorefront => "at-storefront",
        }
    }
}

/// The keys of all identities.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Pins(BTreeMap<(Identity, Role), Fingerprint>);

impl Pins {
    /// Adds one.
    pub fn add(&mut self, identity: Identity, role: Role, fingerprint: Fingerprint) {
        self.0.insert((identity, role), fingerprint);
    }

    /// Whether no key is pinned.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The key that an identity is known by; none where nothing was signed yet.
    pub fn get(&self, identity: &Identity, role: Role) -> Option<Fingerprint> {
        self.0.get(&(identity.clone(), role)).copied()
    }

    /// Where a key is pinned.
    pub fn places_of(&self, fingerprint: Fingerprint) -> impl Iterator<Item = (&Identity, Role)> {
        self.0.iter().filter(move |(_, pinned)| **pinned == fingerprint).map(|((identity, role), _)| (identity, *role))
    }
}

/// Returns the text of a configuration with a pin in it, in place of an older one: in the table of its identity where that stands,
/// else in a new one at its end. None where the table is written in a form that cannot be added to by lines.
pub fn with_pin(text: &str, identity: &Identity, role: Role, fingerprint: Fingerprint) -> Option<String> {
    let header = format!("[pins.\"{identity}\".android]");
    let line = format!("{} = \"{fingerprint}\"", role.key());
    let end = if text.contains("\r\n") { "\r\n" } else { "\n" };
    let place = text.split_inclusive('\n').scan(0, |at, line| {
        *at += line.len();
        Some((*at, line.trim()))
    });
    if let Some((at, _)) = place.into_iter().find(|(_, line)| *line == header) {
        let (before, after) = text.split_at(at);
        // One that is there gives way: a key came after it.
        let table = after.split_inclusive('\n').take_while(|line| !line.trim_start().starts_with('['));
        let is_old = |line: &str| line.split_once('=').is_some_and(|(key, _)| key.trim() == role.key());
        let mut from = 0;
        for old in table {
            if is_old(old) {
                let (kept, rest) = (after.get(..from)?, after.get(from + old.len()..)?);
                return Some(format!("{before}{kept}{line}{end}{rest}"));
            }
            from += old.len();
        }
        let gap = if before.ends_with('\n') { "" } else { end };
        return Some(format!("{before}{gap}{line}{end}{after}"));
    }
    let other_forms = [format!("pins.\"{identity}\""), "[pins]".to_owned(), "pins =".to_owned()];
    if other_forms.iter().any(|form| text.contains(form)) {
        return None;
    }
    let gap = if text.is_empty() || text.ends_with('\n') { "" } else { end };
    let why = match role {
        Role::OnDevice => "# Devices know the game by this key: what is signed with another one is no update for them.",
        Role::AtStorefront => "# Storefronts know bundles of the game by this key.",
    };
    Some(format!("{text}{gap}{end}{why}{end}{header}{end}{line}{end}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::Config;

    fn identity() -> Identity {
        "example.paperheron.saltmarsh".parse().unwrap()
    }

    #[test]
    fn fingerprints_with_and_without_colons() {
        let plain = "ab".repeat(32);
        let colons = vec!["AB"; 32].join(":");
        assert_eq!(plain.parse::<Fingerprint>(), colons.parse());
        assert_eq!(colons.parse::<Fingerprint>().unwrap().to_string(), plain);
        for text in ["", "ab", &"ab".repeat(31), &"ab".repeat(33), &"gg".repeat(32)] {
            assert_eq!(text.parse::<Fingerprint>(), Err(FingerprintError), "{text}");
        }
    }

    #[test]
    fn a_pin_that_was_written_is_read_again() {
        let game = "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nidentity = \"example.paperheron.saltmarsh\"\nversion = \"1.4.0\"\n[targets.phone]\nexport = \"saltmarsh.apk\"\n";
        let first = Fingerprint([1; 32]);
        let second = Fingerprint([2; 32]);
        for start in [game.to_owned(), game.trim_end().to_owned(), game.replace('\n', "\r\n")] {
            let one = with_pin(&start, &identity(), Role::OnDevice, first).unwrap();
            assert!(one.starts_with(&start));
            let both = with_pin(&one, &identity(), Role::AtStorefront, second).unwrap();
            let read = Config::read("lantern.toml", &both).unwrap();
            assert_eq!(read.pins.get(&identity(), Role::OnDevice), Some(first));
            assert_eq!(read.pins.get(&identity(), Role::AtStorefront), Some(second));
            assert_eq!(read.pins.places_of(second).count(), 1);
        }
        for other in ["[pins]\n", "pins = {}\n", "[pins.\"example.paperheron.saltmarsh\"]\nandroid = {}\n"] {
            assert_eq!(with_pin(&format!("{game}{other}"), &identity(), Role::OnDevice, first), None, "{other}");
        }
    }

    #[test]
    fn a_pin_takes_the_place_of_an_older_one() {
        let fingerprint = |digit: &str| digit.repeat(64).parse::<Fingerprint>().unwrap();
        for end in ["\n", "\r\n"] {
            let text = format!("[game]{end}name = \"x\"{end}");
            let one = with_pin(&text, &identity(), Role::AtStorefront, fingerprint("a")).unwrap();
            let two = with_pin(&one, &identity(), Role::OnDevice, fingerprint("b")).unwrap();
            let more = format!("{two}[checks]{end}on-device = 1{end}");
            let three = with_pin(&more, &identity(), Role::OnDevice, fingerprint("c")).unwrap();
            assert_eq!(three, more.replace(&"b".repeat(64), &"c".repeat(64)));
        }
    }
}
