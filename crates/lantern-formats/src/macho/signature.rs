//! The code signature of a Mach-O slice: what it covers, whether that is intact, and whose it says it is.
//!
//! Source: Apple's `kern/cs_blobs.h`, `CS_CodeDirectory` and `CS_SuperBlob`
//! (<https://github.com/apple-oss-distributions/xnu/blob/main/osfmk/kern/cs_blobs.h>). All numbers are big-endian, whatever the slice's own order.
//!
//! | offset in a code directory | size | field           | meaning                                         |
//! |----------------------------|------|-----------------|-------------------------------------------------|
//! | 8                          | 4    | `version`       | 0x20200 has a team, 0x20500 a runtime           |
//! | 12                         | 4    | `flags`         | 0x2: ad hoc, 0x10000: hardened runtime          |
//! | 16                         | 4    | `hashOffset`    | of the first page's hash; special slots before  |
//! | 20                         | 4    | `identOffset`   | of the identifier                               |
//! | 24, 28                     | 4    | slots           | special ones, pages                             |
//! | 32                         | 4    | `codeLimit`     | bytes that are covered                          |
//! | 36, 37, 39                 | 1    | hash, page      | hash's length and kind, page size as power of 2 |
//! | 48                         | 4    | `teamOffset`    | of the team, from 0x20200 on                    |
//! | 56                         | 8    | `codeLimit64`   | instead of `codeLimit`, from 0x20300 on         |

use std::io::{Read, Seek};
use std::sync::Mutex;

use lantern_core::bytes::find;
use lantern_core::parallel::{each, processors};
use x509_cert::der::asn1::{ObjectIdentifier, OctetStringRef};

use super::Details;
use crate::hash::Hash;
use crate::message::{Message, Signer};
use crate::offset_reader::{FormatError, OffsetReader};
use crate::plist;

const CSMAGIC_EMBEDDED_SIGNATURE: u32 = 0xfade_0cc0;
const CSMAGIC_BLOBWRAPPER: u32 = 0xfade_0b01;
const CSMAGIC_CODEDIRECTORY: u32 = 0xfade_0c02;
const SLOT_CODE_DIRECTORY: u32 = 0;
const SLOT_ALTERNATES: std::ops::RangeInclusive<u32> = 0x1000..=0x1004;
const SLOT_CMS: u32 = 0x1_0000;
/// What else may stand in a signature, covered by nothing: who signed, and a ticket.
const SLOTS_NOT_COVERED: std::ops::RangeInclusive<u32> = 0x1_0001..=0x1_0002;
/// Special slots whose content lies within the signature.
const WITHIN: [std::ops::RangeInclusive<usize>; 3] = [2..=2, 4..=5, 7..=11];
/// The signed attribute that lists the hashes of all code directories, as a property list.
const HASHES: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.9.1");
const FLAG_AD_HOC: u32 = 0x2;
const FLAG_RUNTIME: u32 = 0x1_0000;
/// Bytes that are kept of the hash of a list of hashes.
const SHORT_HASH_LEN: usize = 20;
/// Bytes of a blob's magic and length.
const BLOB_HEAD: usize = 8;
/// Longest signature that is read, in bytes. Ours: 32 bytes for each 4 KiB of a program of 8 GB.
const MAX_LEN: u64 = 64 * 1024 * 1024;
/// Bytes that are read at once.
const CHUNK_LEN: usize = 1024 * 1024;
/// Bytes of a page whose hash is known from elsewhere.
const KNOWN_PAGE_LEN: usize = 4096;
/// Largest page, as a power of two. Ours: real ones have 4 or 16 KiB.
const MAX_PAGE_SHIFT: u8 = 20;

/// A slot that stands for something next to the code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Special {
    /// The bundle's `Info.plist`.
    Info = 1,
    /// Requirements, within the signature.
    Requirements = 2,
    /// The bundle's seal over its resources.
    Resources = 3,
    /// Entitlements as a property list, within the signature.
    Entitlements = 5,
    /// Entitlements in DER, within the signature.
    EntitlementsDer = 7,
    /// Another part of the signature, such as constraints on who starts it.
    Other = 8,
}

/// The hash function of a number, and how many bytes of its digest are kept.
fn hash_of(kind: u8) -> Option<(Hash, usize)> {
    Some(match kind {
        1 => (Hash::Sha1, 20),
        2 => (Hash::Sha256, 32),
        3 => (Hash::Sha256, 20),
        4 => (Hash::Sha384, 48),
        _ => return None,
    })
}

/// One list of hashes; a signature may have several, with different hash functions.
#[derive(Debug, Clone)]
struct Directory {
    blob: Vec<u8>,
    flags: u32,
    identifier: String,
    team: Option<String>,
    hash: Hash,
    hash_len: usize,
    hashes_at: usize,
    specials: usize,
    pages: usize,
    page_len: usize,
    code_limit: u64,
}

fn broken(what: &'static str, value: impl Into<u64>) -> FormatError {
    FormatError::Value { what, value: value.into() }
}

impl Directory {
    fn read(blob: Vec<u8>) -> Result<Self, FormatError> {
        let mut cursor = std::io::Cursor::new(blob.as_slice());
        let mut fields = OffsetReader { from: &mut cursor, little: false };
        let version = fields.u32(8, "the code directory's version")?;
        let flags = fields.u32(12, "the code directory's flags")?;
        let hashes_at = fields.u32(16, "hashOffset")? as usize;
        let identifier_at = fields.u32(20, "identOffset")?;
        let specials = fields.u32(24, "nSpecialSlots")? as usize;
        let pages = fields.u32(28, "nCodeSlots")? as usize;
        let mut code_limit = u64::from(fields.u32(32, "codeLimit")?);
        let [hash_len, hash_kind, _, page_shift] = fields.bytes(36, "the code directory's hashes")?;
        let hash = hash_of(hash_kind).filter(|(_, len)| *len == usize::from(hash_len));
        let (hash, hash_len) = hash.ok_or_else(|| broken("hashType", hash_kind))?;
        if page_shift > MAX_PAGE_SHIFT {
            return Err(broken("pageSize", page_shift));
        }
        if version >= 0x2_0300 {
            match fields.u64(56, "codeLimit64")? {
                0 => {}
                limit => code_limit = limit,
            }
        }
        let max = blob.len();
        let identifier = fields.text(identifier_at.into(), max, "the identifier")?;
        let team_at = if version >= 0x2_0200 { fields.u32(48, "teamOffset")? } else { 0 };
        let team = if team_at == 0 { None } else { Some(fields.text(team_at.into(), max, "the team")?) };
        // A page size of 0 stands for one page without end.
        let page_len = if page_shift == 0 { usize::MAX } else { 1 << page_shift };
        let needs = code_limit.div_ceil(page_len as u64);
        if pages as u64 != needs {
            return Err(broken("nCodeSlots", pages as u64));
        }
        let fits = hashes_at.checked_sub(specials.saturating_mul(hash_len)).is_some()
            && hashes_at.saturating_add(pages.saturating_mul(hash_len)) <= blob.len();
        if !fits {
            return Err(broken("hashOffset", hashes_at as u64));
        }
        Ok(Self { flags, identifier, team, hash, hash_len, hashes_at, specials, pages, page_len, code_limit, blob })
    }

    fn digest(&self, bytes: &[u8]) -> Vec<u8> {
        let mut digest = self.hash.digest(bytes);
        digest.truncate(self.hash_len);
        digest
    }

    /// The hash that stands for this list everywhere else.
    fn short_hash(&self) -> Vec<u8> {
        let mut hash = self.digest(&self.blob);
        hash.truncate(SHORT_HASH_LEN);
        hash
    }

    fn page_hash(&self, page: usize) -> &[u8] {
        let at = self.hashes_at + page * self.hash_len;
        self.blob.get(at..at + self.hash_len).unwrap_or_default()
    }

    /// The hash of a special slot; none where there is none or it is all zeros, which stands for none.
    fn special_hash(&self, slot: Special) -> Option<&[u8]> {
        self.hash_of_slot(slot as usize)
    }

    fn hash_of_slot(&self, number: usize) -> Option<&[u8]> {
        if number > self.specials {
            return None;
        }
        let at = self.hashes_at - number * self.hash_len;
        self.blob.get(at..at + self.hash_len).filter(|hash| hash.iter().any(|b| *b != 0))
    }
}

/// The words for what a game is known as to its system: a prefix and its identity. On phones, and on computers.
pub const KNOWN_AS: [&str; 2] = ["application-identifier", "com.apple.application-identifier"];
/// What computers let every program do that asks for it, by how the words begin: no profile has to allow it.
const FREE_ON_DESKTOPS: &str = "com.apple.security.";

/// Whether a profile has to allow what a word stands for.
pub fn needs_profile(word: &str, is_for_phones: bool) -> bool {
    is_for_phones || !word.starts_with(FREE_ON_DESKTOPS)
}

/// What a program may do, by the system's words for it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Entitlements(pub(crate) plist::Dictionary);

impl Entitlements {
    /// Those of a dictionary.
    pub fn of(all: plist::Dictionary) -> Self {
        Self(all)
    }

    /// Words and values.
    pub fn words(&self) -> impl Iterator<Item = (&String, &plist::Value)> {
        self.0.iter()
    }

    /// What the game is known as: a prefix and its identity.
    pub fn known_as(&self) -> Option<&str> {
        KNOWN_AS.iter().find_map(|word| self.text(word))
    }

    /// A value by its word.
    pub fn value(&self, name: &str) -> Option<&plist::Value> {
        self.0.get(name)
    }

    /// The words, without their values.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }

    /// A text by its word.
    pub fn text(&self, name: &str) -> Option<&str> {
        self.0.get(name)?.text()
    }

    /// Whether something is allowed.
    pub fn is_on(&self, name: &str) -> bool {
        self.0.get(name) == Some(&plist::Value::Flag(true))
    }

    /// Words that another list does not allow: it lacks them, or says another thing. A text of the other may end with
    /// `*`, which stands for any rest.
    pub fn beyond(&self, allowed: &Self) -> Vec<&str> {
        let fits = |(name, value): &(&String, &plist::Value)| {
            allowed.0.get(*name).is_some_and(|limit| is_within(value, limit))
        };
        self.0.iter().filter(|pair| !fits(pair)).map(|(name, _)| name.as_str()).collect()
    }
}

fn is_within(value: &plist::Value, limit: &plist::Value) -> bool {
    use plist::Value;
    match (value, limit) {
        (Value::Text(text), Value::Text(limit)) => match limit.strip_suffix('*') {
            Some(start) => text.starts_with(start),
            None => text == limit,
        },
        (Value::List(values), Value::List(limits)) => {
            values.iter().all(|value| limits.iter().any(|limit| is_within(value, limit)))
        }
        // One of a list, and a list of one.
        (value, Value::List(limits)) => limits.iter().any(|limit| is_within(value, limit)),
        (Value::List(values), limit) => values.iter().all(|value| is_within(value, limit)),
        (Value::Flag(false), Value::Flag(_)) => true,
        (value, limit) => value == limit,
    }
}

/// A code signature, as it was found.
#[derive(Debug, Clone)]
pub struct CodeSignature {
    slice_offset: u64,
    signature_offset: u64,
    /// The preferred one first.
    directories: Vec<Directory>,
    slots: Vec<(u32, Vec<u8>)>,
    /// The signed message of an identity, as DER; none for an ad hoc signature.
    pub cms: Option<Vec<u8>>,
    /// Bytes between its end and that of the slice which are not zero: nothing covers them.
    pub spare: u64,
}

/// What makes a signature wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Wrong {
    /// A page of the code is not what was signed; its first byte, from the slice's start.
    Page(u64),
    /// Something next to the code is not what was signed.
    Special(Special),
    /// The hashes do not cover the program up to the signature.
    NotCovered,
    /// Nobody has signed it, and it does not say that it is ad hoc.
    NoMessage,
}

impl CodeSignature {
    /// Reads that of a slice; none where it has none.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn read(from: &mut (impl Read + Seek), details: &Details) -> Result<Option<Self>, FormatError> {
        let Some((offset, len)) = details.signature else { return Ok(None) };
        let slice_offset = details.slice.offset;
        let mut fields = OffsetReader { from, little: false };
        let start = slice_offset.saturating_add(offset);
        if fields.u32(start, "the code signature")? != CSMAGIC_EMBEDDED_SIGNATURE {
            return Err(broken("the magic of the code signature", fields.u32(start, "the code signature")?));
        }
        let whole = u64::from(fields.u32(start + 4, "the code signature's length")?);
        if whole > len || whole > MAX_LEN {
            return Err(broken("the length of the code signature", whole));
        }
        let bytes = fields.vec(start, usize::try_from(whole).unwrap_or(0), "the code signature")?;
        let room = usize::try_from((len - whole).min(MAX_LEN)).unwrap_or(0);
        let room = fields.vec(start + whole, room, "the room behind the code signature")?;
        let spare = room.iter().filter(|byte| **byte != 0).count() as u64;
        let number = |at: usize| {
            let four = bytes.get(at..at + 4).and_then(|b| b.try_into().ok());
            four.map(u32::from_be_bytes).ok_or(FormatError::Truncated { what: "the code signature", offset: start })
        };
        let count = number(8)? as usize;
        if count > bytes.len() / 8 {
            return Err(broken("the number of blobs in the code signature", count as u64));
        }
        let (mut directories, mut slots, mut cms) = (Vec::new(), Vec::new(), None);
        let mut left = bytes.len();
        for i in 0..count {
            let (slot, at) = (number(12 + i * 8)?, number(16 + i * 8)? as usize);
            let len = number(at.saturating_add(4).min(bytes.len()))? as usize;
            let blob = bytes.get(at..at.saturating_add(len)).filter(|blob| blob.len() >= BLOB_HEAD);
            // Blobs that lie over one another would be copied again and again.
            let fits = blob.filter(|blob| left.checked_sub(blob.len()).is_some());
            let blob = fits.ok_or_else(|| broken("the place of a blob in the code signature", at as u64))?.to_vec();
            left -= blob.len();
            match slot {
                SLOT_CODE_DIRECTORY => directories.insert(0, Self::directory(blob)?),
                slot if SLOT_ALTERNATES.contains(&slot) => directories.push(Self::directory(blob)?),
                SLOT_CMS if !blob.starts_with(&CSMAGIC_BLOBWRAPPER.to_be_bytes()) => {
                    return Err(broken("the magic of the signed message", at as u64));
                }
                SLOT_CMS => cms = blob.get(BLOB_HEAD..).map(<[u8]>::to_vec).filter(|der| !der.is_empty()),
                slot if WITHIN.iter().any(|within| within.contains(&(slot as usize))) => slots.push((slot, blob)),
                slot if SLOTS_NOT_COVERED.contains(&slot) => {}
                slot => return Err(broken("the kind of a blob in the code signature", slot)),
            }
        }
        // What no blob holds within its stated length nobody would have looked at.
        if left != 12 + count * 8 {
            return Err(broken("the length of the code signature", whole));
        }
        if directories.is_empty() {
            return Err(broken("the number of code directories", 0_u32));
        }
        Ok(Some(Self { slice_offset, signature_offset: offset, directories, slots, cms, spare }))
    }

    fn directory(blob: Vec<u8>) -> Result<Directory, FormatError> {
        let magic = blob.first_chunk::<4>().map_or(0, |b| u32::from_be_bytes(*b));
        if magic == CSMAGIC_CODEDIRECTORY { Directory::read(blob) } else { Err(broken("a code directory", magic)) }
    }

    #[expect(clippy::indexing_slicing, reason = "`read` gives none without a directory")]
    fn first(&self) -> &Directory {
        &self.directories[0]
    }

    /// What the program calls itself.
    pub fn identifier(&self) -> &str {
        &self.first().identifier
    }

    /// The team of the identity.
    pub fn team(&self) -> Option<&str> {
        self.first().team.as_deref()
    }

    /// Whether nobody's identity stands behind it, but the hashes alone.
    pub fn is_ad_hoc(&self) -> bool {
        self.cms.is_none() || self.first().flags & FLAG_AD_HOC != 0
    }

    /// Whether the hardened runtime is asked for.
    pub fn is_hardened(&self) -> bool {
        self.first().flags & FLAG_RUNTIME != 0
    }

    /// What the program may do, by the system's words for it; nothing where nothing readable is stated.
    pub fn entitlements(&self) -> Entitlements {
        let blob = self.blob(Special::Entitlements).and_then(|blob| blob.get(BLOB_HEAD..));
        Entitlements(blob.and_then(|bytes| plist::read(bytes.trim_ascii_start()).ok()).unwrap_or_default())
    }

    /// The entitlements as the property list that they are; none where there are none.
    pub fn entitlements_as_they_are(&self) -> Option<&[u8]> {
        self.blob(Special::Entitlements)?.get(BLOB_HEAD..)
    }

    /// Whether the entitlements in DER say what the property list says; none where there is only one of the two.
    pub fn entitlements_agree(&self) -> Option<bool> {
        let in_der = self.blob(Special::EntitlementsDer)?;
        self.blob(Special::Entitlements)?;
        Some(super::entitlements::read(in_der.get(BLOB_HEAD..)?).as_ref() == Some(&self.entitlements().0))
    }

    /// Whether the entitlements stand in DER next to the property list, as newer systems for phones want them.
    pub fn has_entitlements_in_der(&self) -> bool {
        self.blob(Special::EntitlementsDer).is_some()
    }

    /// The hash of its preferred list of hashes, which stands for the signature everywhere else.
    pub fn known_as(&self) -> Vec<u8> {
        self.first().short_hash()
    }

    /// Whether a hash is that of one of its lists of hashes: how a bundle's seal names the programs in it.
    pub fn is_known_as(&self, hash: &[u8]) -> bool {
        self.directories.iter().any(|directory| directory.short_hash() == hash)
    }

    /// Whether bytes hold the hash of one of its lists of hashes.
    pub fn is_named_in(&self, bytes: &[u8]) -> bool {
        self.directories.iter().any(|directory| find(bytes, &directory.short_hash(), 0).is_some())
    }

    /// Who signed, verified over the first list of hashes, which must name all of them; none for an ad hoc signature.
    ///
    /// # Errors
    /// [`FormatError`] when the message cannot even be read.
    pub fn signer(&self) -> Result<Option<Signer>, FormatError> {
        let Some(cms) = self.cms.as_ref().filter(|_| !self.is_ad_hoc()) else { return Ok(None) };
        let message = Message::read(cms)?;
        let mut signer = message.verify(&self.first().blob);
        let named = message.signed_attribute(HASHES).and_then(|any| any.decode_as::<OctetStringRef<'_>>().ok());
        let named = named.map(|text| plist::read(text.as_bytes()));
        let holds = match named {
            Some(list) => {
                let list = list?;
                let own: Vec<Vec<u8>> = self.directories.iter().map(Directory::short_hash).collect();
                let hashes = list.get("cdhashes").map_or(&[][..], plist::Value::list);
                hashes.iter().filter_map(plist::Value::data).eq(own.iter().map(Vec::as_slice))
            }
            // Before there were several lists of hashes there was no need to name them.
            None => self.directories.len() == 1,
        };
        if !holds {
            signer.wrong = signer.wrong.or(Some("it does not cover all lists of hashes".to_owned()));
        }
        Ok(Some(signer))
    }

    fn blob(&self, slot: Special) -> Option<&[u8]> {
        self.slots.iter().find(|(known, _)| *known == slot as u32).map(|(_, blob)| blob.as_slice())
    }

    /// Compares everything within the file with the hashes: each page of the code, and the blobs of the signature.
    /// Returns the first that is wrong.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn verify(&self, from: &mut (impl Read + Seek + Send)) -> Result<Option<Wrong>, FormatError> {
        for directory in &self.directories {
            if let Some(wrong) = self.wrong_beside_pages(directory) {
                return Ok(Some(wrong));
            }
            if let Some(page) = self.wrong_page(directory, from)? {
                return Ok(Some(Wrong::Page(page as u64 * directory.page_len as u64)));
            }
        }
        Ok(None)
    }

    /// The first page that is not what its hash says; hashed on all processors.
    fn wrong_page(
        &self,
        directory: &Directory,
        from: &mut (impl Read + Seek + Send),
    ) -> Result<Option<usize>, FormatError> {
        let at_once = (CHUNK_LEN / directory.page_len).max(1);
        let chunks: Vec<usize> = (0..directory.pages).step_by(at_once).collect();
        let (from, first) = (Mutex::new(from), Mutex::new(None::<usize>));
        each(&chunks, processors(), Vec::new, |bytes: &mut Vec<u8>, _, page| {
            let is_late = |known: usize| known < *page;
            if first.lock().expect("nothing panics with the lock").is_some_and(is_late) {
                return Ok(());
            }
            let start = *page as u64 * directory.page_len as u64;
            let len = (directory.code_limit - start).min((at_once as u64).saturating_mul(directory.page_len as u64));
            let len = usize::try_from(len).ok().filter(|len| *len as u64 <= MAX_LEN * 16);
            let len = len.ok_or_else(|| broken("codeLimit", directory.code_limit))?;
            {
                let mut from = from.lock().expect("nothing panics with the lock");
                let mut fields = OffsetReader { from: &mut **from, little: false };
                *bytes = fields.vec(self.slice_offset.saturating_add(start), len, "a page of the code")?;
            }
            let mut pages = bytes.chunks(directory.page_len).enumerate();
            let differs = pages.find(|(by, bytes)| directory.digest(bytes) != directory.page_hash(page + by));
            if let Some((by, _)) = differs {
                let mut first = first.lock().expect("nothing panics with the lock");
                *first = Some(first.map_or(page + by, |known| known.min(page + by)));
            }
            Ok::<_, FormatError>(())
        })?;
        Ok(first.into_inner().expect("nothing panics with the lock"))
    }

    /// As [`Self::verify`], where the SHA-256 of each page of 4 KiB is known, one after the other.
    pub fn verify_known(&self, pages: &[u8]) -> Option<Wrong> {
        let wrong = |directory: &Directory| {
            let is_like_known = directory.page_len == KNOWN_PAGE_LEN && directory.hash_len == Hash::Sha256.len();
            if !is_like_known || directory.hash != Hash::Sha256 {
                return Some(Wrong::Page(0));
            }
            let listed = directory.blob.get(directory.hashes_at..).unwrap_or_default();
            let hashes = listed.chunks(directory.hash_len).take(directory.pages).zip(pages.chunks(directory.hash_len));
            let differs = hashes.enumerate().find(|(_, (one, other))| one != other);
            let is_short = directory.pages * directory.hash_len != pages.len();
            let first = differs.map(|(page, _)| page).or(is_short.then_some(directory.pages));
            first.map(|page| Wrong::Page(page as u64 * directory.page_len as u64))
        };
        self.directories.iter().find_map(|directory| self.wrong_beside_pages(directory).or_else(|| wrong(directory)))
    }

    /// What is wrong with what a list of hashes covers, or with a blob of the signature.
    fn wrong_beside_pages(&self, directory: &Directory) -> Option<Wrong> {
        if directory.code_limit != self.signature_offset {
            return Some(Wrong::NotCovered);
        }
        if self.cms.is_none() && directory.flags & FLAG_AD_HOC == 0 {
            return Some(Wrong::NoMessage);
        }
        let differs = |number: &usize| {
            let blob = self.slots.iter().find(|(slot, _)| *slot as usize == *number);
            let found = blob.map(|(_, blob)| directory.digest(blob));
            found.as_deref() != directory.hash_of_slot(*number)
        };
        let wrong = WITHIN.into_iter().flatten().find(differs)?;
        Some(Wrong::Special(match wrong {
            5 => Special::Entitlements,
            7 => Special::EntitlementsDer,
            2 => Special::Requirements,
            _ => Special::Other,
        }))
    }

    /// Whether the signature says anything of something next to the code. Linkers sign the code alone.
    pub fn covers(&self, slot: Special) -> bool {
        self.directories.iter().any(|directory| directory.special_hash(slot).is_some())
    }

    /// Whether bytes next to the program are what the signature says of them; without them, whether it says nothing.
    pub fn holds(&self, slot: Special, bytes: Option<&[u8]>) -> bool {
        self.directories
            .iter()
            .all(|directory| bytes.map(|bytes| directory.digest(bytes)).as_deref() == directory.special_hash(slot))
    }
}

#[cfg(test)]
mod tests;
