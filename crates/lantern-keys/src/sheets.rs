//! Recovery sheets: a key divided so that any K of N sheets of paper bring it back. docs/formats/recovery-sheets.md says what
//! stands on them, and why.

mod words;

use std::collections::BTreeMap;
use std::fmt;

use blahaj::Sharks;
use lantern_core::bytes::hex;
use lantern_formats::hash::Hash;
use zeroize::{Zeroize, Zeroizing};

use crate::KeyError;
use crate::passphrase::Passphrase;
use crate::pkcs12::{self, Entry};

/// Most sheets of a set.
pub const MOST: u8 = 16;
/// Fewest sheets that bring a key back: one alone would be the key.
pub const FEWEST: u8 = 2;
/// Largest text that is read, and largest store, in bytes. Ours: real stores have 1 to 8 KiB.
pub const MAX_TEXT_LEN: u64 = 1024 * 1024;
const MAX_STORE_LEN: usize = 32 * 1024;
const SECRET_LEN: usize = 32;
/// Characters of the store in one code: what a printer and a telephone still manage.
const PART_LEN: usize = 1200;
const MARK: &str = "KL1";
const BASE32: &[u8; 32] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZ234567";
/// Bytes that stand before the share in its words, and behind it.
const WORDS_HEAD: usize = 6;
const WORDS_CHECK: usize = 2;

/// Why sheets were not made, or did not bring a key back.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SheetError {
    /// Numbers that cannot be.
    #[error("{needed} of {of} sheets cannot be made: at least {FEWEST} must be needed, and there are {MOST} at most")]
    Numbers {
        /// How many would bring it back.
        needed: u8,
        /// Of how many.
        of: u8,
    },
    /// Neither code nor words.
    #[error("{text} has no share of a key: neither the text of a code nor 40 words")]
    NoShare {
        /// What was read.
        text: String,
    },
    /// A word that is not in the list.
    #[error("{text}: {word:?} is not one of the words on a sheet{}", near.map(|near| format!("; is it {near}?")).unwrap_or_default())]
    Word {
        /// What was read.
        text: String,
        /// The word.
        word: String,
        /// The one that may be meant.
        near: Option<&'static str>,
    },
    /// A line or words whose checksum does not fit.
    #[error("{text}: {what} read wrongly: the checksum does not fit")]
    Checksum {
        /// What was read.
        text: String,
        /// A code, or the words.
        what: &'static str,
    },
    /// Sheets of several sets.
    #[error("these sheets are of different sets: {one} and {other}")]
    TwoSets {
        /// The name of one.
        one: String,
        /// The name of another.
        other: String,
    },
    /// Not enough of them.
    #[error("there {} of the set {set}, and {needed} are needed", are(*there))]
    TooFew {
        /// The set.
        set: String,
        /// How many there are.
        there: usize,
        /// How many it takes.
        needed: u8,
    },
    /// Two shares of one sheet that differ.
    #[error("sheet {place} is there twice, and the two differ")]
    Twice {
        /// Which sheet.
        place: u8,
    },
    /// A store that is not whole.
    #[error("the encrypted key is not whole: {}", missing_parts(missing))]
    NoStore {
        /// The parts that are missing; none where there is not one.
        missing: Vec<usize>,
    },
    /// A store of another set.
    #[error("the encrypted key is of another set than the sheets ({set})")]
    OtherStore {
        /// That of the sheets.
        set: String,
    },
    /// The shares do not open the store.
    #[error("the sheets do not open the encrypted key: one of them was made up, or copied wrongly")]
    DoesNotOpen,
}

fn are(count: usize) -> String {
    if count == 1 { "is 1 sheet".to_owned() } else { format!("are {count} sheets") }
}

fn missing_parts(missing: &[usize]) -> String {
    match missing {
        [] => "none of its codes was read".to_owned(),
        some => {
            let list: Vec<String> = some.iter().map(ToString::to_string).collect();
            format!("part {} is missing", list.join(", "))
        }
    }
}

/// A set of sheets, as it is made.
pub struct Set {
    /// How it is called.
    pub name: String,
    /// How many bring the key back.
    pub needed: u8,
    /// The encrypted key: a file of PKCS #12.
    pub store: Vec<u8>,
    /// One for each sheet.
    pub shares: Vec<Share>,
}

impl fmt::Debug for Set {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Set").field("name", &self.name).finish_non_exhaustive()
    }
}

/// What one sheet has of the secret.
#[derive(Clone, PartialEq, Eq)]
pub struct Share {
    set: [u8; 4],
    needed: u8,
    /// The number of the sheet.
    pub place: u8,
    bytes: Zeroizing<[u8; SECRET_LEN]>,
}

impl fmt::Debug for Share {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Share").field("place", &self.place).finish_non_exhaustive()
    }
}

impl Share {
    /// The share itself in hexadecimal digits.
    pub fn digits(&self) -> Zeroizing<String> {
        Zeroizing::new(hex(self.bytes.as_slice()))
    }

    /// The line of its code.
    pub fn line(&self) -> Zeroizing<String> {
        let (set, digits) = (set_name(self.set), Zeroizing::new(self.digits().to_uppercase()));
        Zeroizing::new(checked(&format!("{MARK}:SHARE:{set}:{}:{}:{}", self.needed, self.place, *digits)))
    }

    /// Its words.
    pub fn words(&self) -> Vec<&'static str> {
        let mut bytes = Zeroizing::new(vec![self.needed, self.place]);
        bytes.extend(self.set);
        bytes.extend(self.bytes.iter());
        let check = Hash::Sha256.digest(&bytes);
        bytes.extend(check.iter().take(WORDS_CHECK));
        words::of(&bytes)
    }
}

fn set_name(set: [u8; 4]) -> String {
    hex(&set).to_uppercase()
}

fn set_of(store: &[u8]) -> [u8; 4] {
    Hash::Sha256.digest(store).first_chunk().copied().unwrap_or_default()
}

/// A line with its checksum.
fn checked(line: &str) -> String {
    format!("{line}:{}", check_of(line))
}

fn check_of(line: &str) -> String {
    hex(Hash::Sha256.digest(line.as_bytes()).get(..4).unwrap_or_default()).to_uppercase()
}

impl Set {
    /// Divides a key over sheets; `rounds` is how often its passphrase is hashed. What was made is put together again before it
    /// is handed back.
    ///
    /// # Errors
    /// [`SheetError::Numbers`]; [`KeyError::NoRandom`].
    pub fn of(entry: &Entry, needed: u8, of: u8, rounds: u32) -> Result<Self, KeyError> {
        if needed < FEWEST || of < needed || of > MOST {
            return Err(SheetError::Numbers { needed, of }.into());
        }
        let mut secret = Zeroizing::new([0; SECRET_LEN]);
        getrandom::fill(secret.as_mut_slice()).map_err(|_| KeyError::NoRandom)?;
        let store = pkcs12::write(entry, &passphrase_of(secret.as_slice()), rounds)?.to_vec();
        let set = set_of(&store);
        let share = |share: blahaj::Share| {
            let mut bytes = Zeroizing::new(Vec::from(&share));
            let (place, own) = bytes.split_first()?;
            let share = Share { set, needed, place: *place, bytes: Zeroizing::new(own.try_into().ok()?) };
            bytes.zeroize();
            Some(share)
        };
        let shares: Vec<Share> =
            Sharks(needed).dealer(secret.as_slice()).take(usize::from(of)).filter_map(share).collect();
        let made = Self { name: set_name(set), needed, store, shares };
        for some in [made.shares.get(..needed.into()), made.shares.get(usize::from(of - needed)..)] {
            let mut read = Read { store: Some(made.store.clone()), ..Read::default() };
            some.unwrap_or_default().iter().try_for_each(|share| read.add(share.clone()))?;
            if read.open()?.entry.key.public() != entry.key.public() {
                return Err(KeyError::Malformed("the set of sheets"));
            }
        }
        Ok(made)
    }

    /// The lines of the codes that hold the encrypted key.
    pub fn store_lines(&self) -> Vec<String> {
        let text = base32(&self.store);
        let parts: Vec<&[u8]> = text.as_bytes().chunks(PART_LEN).collect();
        let line = |(number, part): (usize, &&[u8])| {
            let part = String::from_utf8_lossy(part);
            checked(&format!("{MARK}:STORE:{}:{number}:{}:{part}", self.name, parts.len()))
        };
        (1..).zip(&parts).map(line).collect()
    }
}

/// The passphrase that a secret is, of the encrypted key.
fn passphrase_of(secret: &[u8]) -> Passphrase {
    Passphrase::new(hex(secret))
}

/// What was read of a set.
#[derive(Default)]
pub struct Read {
    shares: BTreeMap<u8, Share>,
    /// Parts of the store by their number, and how many there are.
    parts: BTreeMap<usize, String>,
    of: usize,
    part_set: Option<String>,
    store: Option<Vec<u8>>,
}

impl fmt::Debug for Read {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Read").field("sheets", &self.shares.keys()).finish_non_exhaustive()
    }
}

/// A key that sheets brought back.
#[derive(Debug)]
pub struct Recovered {
    /// The set.
    pub set: String,
    /// How many sheets of it were needed.
    pub needed: u8,
    /// The key.
    pub entry: Entry,
}

impl Read {
    /// Adds what stands in a file: an encrypted key, or text with codes or words, such as a sheet itself; `name` is what it is
    /// called in errors.
    ///
    /// # Errors
    /// [`SheetError`].
    pub fn file(&mut self, name: &str, bytes: &[u8]) -> Result<(), SheetError> {
        if pkcs12::may_be(bytes) {
            self.store = Some(bytes.to_vec());
            return Ok(());
        }
        let text = Zeroizing::new(String::from_utf8_lossy(bytes).into_owned());
        let lines = lines_in(&text);
        if lines.is_empty() {
            return self.words(name, &text);
        }
        lines.iter().try_for_each(|line| self.line(name, line))
    }

    fn line(&mut self, name: &str, line: &str) -> Result<(), SheetError> {
        let wrong = || SheetError::Checksum { text: name.to_owned(), what: "a code was" };
        let (content, check) = line.rsplit_once(':').ok_or_else(wrong)?;
        if check_of(content) != check {
            return Err(wrong());
        }
        let fields: Vec<&str> = content.split(':').collect();
        match fields.as_slice() {
            [_, "SHARE", set, needed, place, digits] => {
                let set = bytes_of(set).and_then(|bytes| <[u8; 4]>::try_from(bytes.as_slice()).ok());
                let own = bytes_of(digits).and_then(|bytes| <[u8; SECRET_LEN]>::try_from(bytes.as_slice()).ok());
                let (set, own) = set.zip(own).ok_or_else(wrong)?;
                let (needed, place) = (needed.parse().map_err(|_| wrong())?, place.parse().map_err(|_| wrong())?);
                self.add(Share { set, needed, place, bytes: Zeroizing::new(own) })
            }
            [_, "STORE", set, part, of, text] => {
                let number = |text: &str| text.parse().ok().filter(|number| (1..=MAX_STORE_LEN).contains(number));
                let (part, of) = number(part).zip(number(of)).filter(|(part, of)| part <= of).ok_or_else(wrong)?;
                let other = self.part_set.replace((*set).to_owned()).filter(|other| other != set);
                if let Some(one) = other {
                    return Err(SheetError::TwoSets { one, other: (*set).to_owned() });
                }
                self.of = of;
                self.parts.insert(part, (*text).to_owned());
                Ok(())
            }
            _ => Err(wrong()),
        }
    }

    fn words(&mut self, name: &str, text: &str) -> Result<(), SheetError> {
        let none = || SheetError::NoShare { text: name.to_owned() };
        let wrong = || SheetError::Checksum { text: name.to_owned(), what: "the words were" };
        let found: Vec<&str> = text.split(|c: char| !c.is_alphabetic()).filter(|word| !word.is_empty()).collect();
        const LEN: usize = WORDS_HEAD + SECRET_LEN + WORDS_CHECK;
        // Anything has some of these words in it; a share has nothing else.
        if found.len() > 2 * LEN {
            return Err(none());
        }
        let bytes: Zeroizing<Vec<u8>> = Zeroizing::new(found.iter().filter_map(|word| words::byte(word)).collect());
        if bytes.len() < LEN / 2 {
            return Err(none());
        }
        if let Some(word) = found.iter().find(|word| words::byte(word).is_none()) {
            let near = words::near(word);
            return Err(SheetError::Word { text: name.to_owned(), word: (*word).to_owned(), near });
        }
        let Some((content, check)) = bytes.split_at_checked(LEN - WORDS_CHECK).filter(|_| bytes.len() == LEN) else {
            return Err(SheetError::NoShare { text: format!("{name}, with {} words,", bytes.len()) });
        };
        if !Hash::Sha256.digest(content).starts_with(check) {
            return Err(wrong());
        }
        let ([needed, place, set @ ..], own) = content.split_first_chunk::<WORDS_HEAD>().ok_or_else(none)?;
        let own = <[u8; SECRET_LEN]>::try_from(own).map_err(|_| none())?;
        self.add(Share { set: *set, needed: *needed, place: *place, bytes: Zeroizing::new(own) })
    }

    fn add(&mut self, share: Share) -> Result<(), SheetError> {
        if let Some(other) = self.shares.values().find(|other| other.set != share.set || other.needed != share.needed) {
            return Err(SheetError::TwoSets { one: set_name(other.set), other: set_name(share.set) });
        }
        let place = share.place;
        match self.shares.insert(place, share.clone()) {
            Some(other) if other != share => Err(SheetError::Twice { place }),
            _ => Ok(()),
        }
    }

    /// Puts the key together.
    ///
    /// # Errors
    /// [`SheetError`], and those of reading the encrypted key.
    pub fn open(&self) -> Result<Recovered, KeyError> {
        let some = self.shares.values().next().ok_or(SheetError::NoShare { text: "what was given".to_owned() })?;
        let (set, needed) = (set_name(some.set), some.needed);
        if self.shares.len() < usize::from(needed.max(1)) {
            return Err(SheetError::TooFew { set, there: self.shares.len(), needed }.into());
        }
        let store = self.store()?;
        if set_of(&store) != some.set {
            return Err(SheetError::OtherStore { set }.into());
        }
        let share = |share: &Share| {
            let bytes = Zeroizing::new([&[share.place][..], share.bytes.as_slice()].concat());
            blahaj::Share::try_from(bytes.as_slice()).ok()
        };
        let shares: Vec<blahaj::Share> = self.shares.values().filter_map(share).collect();
        let secret = Sharks(needed).recover(&shares).map_err(|_| SheetError::DoesNotOpen)?;
        let secret = Zeroizing::new(secret);
        let entries = pkcs12::read(&store, &passphrase_of(&secret)).map_err(|error| match error {
            KeyError::Passphrase => SheetError::DoesNotOpen.into(),
            other => other,
        })?;
        let entry = entries.into_iter().next().ok_or(KeyError::NoKey)?;
        Ok(Recovered { set, needed, entry })
    }

    fn store(&self) -> Result<Vec<u8>, SheetError> {
        if let Some(store) = &self.store {
            return Ok(store.clone());
        }
        let missing: Vec<usize> = (1..=self.of).filter(|part| !self.parts.contains_key(part)).collect();
        if self.of == 0 || !missing.is_empty() {
            return Err(SheetError::NoStore { missing });
        }
        let text: String = self.parts.values().map(String::as_str).collect();
        of_base32(&text).filter(|store| store.len() <= MAX_STORE_LEN).ok_or(SheetError::NoStore { missing: Vec::new() })
    }
}

/// The lines of codes in a text, in upper case.
fn lines_in(text: &str) -> Vec<Zeroizing<String>> {
    let upper = Zeroizing::new(text.to_uppercase());
    let begin = format!("{MARK}:");
    let lines = upper.match_indices(begin.as_str()).map(|(at, _)| {
        let rest = upper.get(at..).unwrap_or_default();
        let end = rest.find(|c: char| !(c.is_ascii_alphanumeric() || c == ':')).unwrap_or(rest.len());
        Zeroizing::new(rest.get(..end).unwrap_or_default().to_owned())
    });
    lines.collect()
}

fn bytes_of(digits: &str) -> Option<Zeroizing<Vec<u8>>> {
    let digit = |c: u8| char::from(c).to_digit(16).and_then(|digit| u8::try_from(digit).ok());
    let pairs = digits.as_bytes().chunks(2).map(|pair| match pair {
        [high, low] => Some(digit(*high)? << 4 | digit(*low)?),
        _ => None,
    });
    pairs.collect::<Option<Vec<u8>>>().map(Zeroizing::new)
}

/// Base32 of RFC 4648, section 6, without padding.
fn base32(bytes: &[u8]) -> String {
    let mut out = String::new();
    let (mut held, mut bits) = (0_u32, 0);
    let mut put = |value: u32| out.extend(BASE32.get((value & 31) as usize).map(|letter| char::from(*letter)));
    for byte in bytes {
        (held, bits) = (held << 8 | u32::from(*byte), bits + 8);
        while bits >= 5 {
            bits -= 5;
            put(held >> bits);
        }
        held &= (1 << bits) - 1;
    }
    if bits > 0 {
        put(held << (5 - bits));
    }
    out
}

fn of_base32(text: &str) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    let (mut held, mut bits) = (0_u32, 0);
    for letter in text.bytes() {
        let value = BASE32.iter().position(|known| *known == letter).and_then(|place| u32::try_from(place).ok())?;
        (held, bits) = (held << 5 | value, bits + 5);
        if bits >= 8 {
            bits -= 8;
            out.push(((held >> bits) & 0xff) as u8);
            held &= (1 << bits) - 1;
        }
    }
    (held == 0 && bits < 5).then_some(out)
}

#[cfg(test)]
mod tests;
