//! Signs programs and libraries for macOS and iOS.
//!
//! Source: Apple's `kern/cs_blobs.h`, `CS_CodeDirectory` and `CS_SuperBlob`
//! (<https://github.com/apple-oss-distributions/xnu/blob/main/osfmk/kern/cs_blobs.h>), and technical note 3126, "Inside Code Signing: Hashes"
//! (<https://developer.apple.com/documentation/technotes/tn3126-inside-code-signing-hashes>); CMS (RFC 5652) with signed attributes for the message; RFC
//! 3161 for time stamps. docs/signing.md has the layout.

mod entitlements;
mod layout;
pub(crate) mod requirement;

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::Path;
use std::sync::Mutex;

use lantern_core::parallel::{each, processors};
use lantern_core::progress::{Meter, Progress, Task};
use lantern_formats::FormatError;
use lantern_formats::bundle::{Files, ReadSeek};
use lantern_formats::hash::Hash;
use lantern_formats::info::Info;
use lantern_formats::macho::{CodeSignature, Details};
use lantern_keys::der;
use lantern_keys::key::{Algorithm, Signer};

pub use entitlements::Entitlements;
use layout::{Layout, Place, Slice};
use requirement::{Identity, Requirement};

use crate::SignError;
use crate::archive::create;
use crate::message::{self, SHA256, attribute, oid};
use crate::plist::{Item, write};
use crate::time_stamp::{self, Authority};

const EMBEDDED_SIGNATURE: u32 = 0xfade_0cc0;
const CODE_DIRECTORY: u32 = 0xfade_0c02;
const ENTITLEMENTS: u32 = 0xfade_7171;
const ENTITLEMENTS_DER: u32 = 0xfade_7172;
const MESSAGE: u32 = 0xfade_0b01;
/// Where the blobs stand in a signature; a special slot of the directory has the same number.
const INFO: u32 = 1;
const REQUIREMENTS: u32 = 2;
const RESOURCES: u32 = 3;
const SLOT_ENTITLEMENTS: u32 = 5;
const SLOT_ENTITLEMENTS_DER: u32 = 7;
const SLOT_MESSAGE: u32 = 0x1_0000;
const AD_HOC: u32 = 0x2;
const RUNTIME: u32 = 0x1_0000;
/// A directory with the place of the program's first segment, and one that also names a hardened runtime.
const WITH_SEGMENT: u32 = 0x2_0400;
const WITH_RUNTIME: u32 = 0x2_0500;
const MAIN_PROGRAM: u64 = 0x1;
const UNSIGNED_PAGES: u64 = 0x10;
const MADE_CODE: u64 = 0x40;
/// The oldest version of the system whose runtime is hardened: 10.14.
const OLDEST_RUNTIME: u32 = 0x000a_0e00;
/// 1.2.840.113635.100.9.1 and .2: the hashes of the directories, cut short as a list, and whole.
const HASHES: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x63, 0x64, 9, 1];
const HASH: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x63, 0x64, 9, 2];
/// `timeStampToken`, 1.2.840.113549.1.9.16.2.14 (RFC 3161, appendix A).
const TIME_STAMP: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 9, 0x10, 2, 14];
/// Bytes that are hashed as one.
const PAGE_SHIFT: u8 = 12;
const PAGE: u64 = 1 << PAGE_SHIFT;
/// Bytes that are read at a time: whole pages.
const CHUNK: u64 = 1024 * 1024;
/// Bytes of the hash that stands for a directory everywhere else.
const SHORT: usize = 20;
/// Room for what a message has besides certificates and its signature, and for a time stamp.
const ROOM: usize = 2048;
const ROOM_FOR_STAMP: usize = 12 * 1024;
const SIGNATURE_ALIGNMENT: usize = 16;

fn blob(magic: u32, content: &[u8]) -> Vec<u8> {
    let len = u32::try_from(content.len() + 8).unwrap_or(u32::MAX);
    [&magic.to_be_bytes(), &len.to_be_bytes(), content].concat()
}

/// Who signs. Without anybody the signature is ad hoc: it says that nothing changed, and the system starts it.
#[derive(Debug, Clone, Copy)]
pub struct By<'a> {
    /// With what.
    pub signer: &'a dyn Signer,
    /// Who states the time; none for a signature that ends with its certificate.
    pub authority: Option<&'a dyn Authority>,
}

/// What a signature says of a program.
#[derive(Debug, Clone, Copy, Default)]
pub struct Code<'a> {
    /// What it is known as.
    pub identifier: &'a str,
    /// Whether the hardened runtime is asked for.
    pub is_hardened: bool,
    /// What it may do.
    pub entitlements: Option<&'a Entitlements>,
    /// The bundle's `Info.plist`, and its seal.
    pub info: Option<&'a [u8]>,
    /// The seal over its resources.
    pub seal: Option<&'a [u8]>,
}

/// What a program is known by once it is signed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Known {
    /// The short hash of each slice's directory, in the order of the file.
    pub hashes: Vec<Vec<u8>>,
    /// What is demanded of it, as seals say it.
    pub requirement: String,
}

/// Opens a file to be read at any place, and from its start.
pub trait Source: Sync {
    /// To be read at any place.
    ///
    /// # Errors
    /// Those of the system.
    fn anywhere(&self) -> io::Result<Box<dyn ReadSeek + '_>>;

    /// To be read once, from its start.
    ///
    /// # Errors
    /// Those of the system.
    fn whole(&self) -> io::Result<Box<dyn Read + Send + '_>>;
}

impl Source for Path {
    fn anywhere(&self) -> io::Result<Box<dyn ReadSeek + '_>> {
        Ok(Box::new(File::open(self)?))
    }

    fn whole(&self) -> io::Result<Box<dyn Read + Send + '_>> {
        Ok(Box::new(File::open(self)?))
    }
}

/// A program among other files.
#[derive(Clone, Copy)]
pub struct FileOf<'a> {
    /// The files.
    pub files: &'a dyn Files,
    /// Its path.
    pub path: &'a str,
}

impl std::fmt::Debug for FileOf<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("FileOf").field("path", &self.path).finish_non_exhaustive()
    }
}

impl Source for FileOf<'_> {
    fn anywhere(&self) -> io::Result<Box<dyn ReadSeek + '_>> {
        self.files.open_anywhere(self.path)
    }

    fn whole(&self) -> io::Result<Box<dyn Read + Send + '_>> {
        self.files.open(self.path)
    }
}

/// What is known of who signs, once for all programs.
struct Signing<'a> {
    by: Option<By<'a>>,
    identity: Option<Identity>,
}

/// Signs a program into a new file; an older signature goes. The result is verified.
///
/// # Errors
/// [`SignError`]; the new file is then of no use.
pub fn sign(
    from: &(impl Source + ?Sized),
    to: &Path,
    code: &Code<'_>,
    by: Option<By<'_>>,
    progress: &dyn Progress,
) -> Result<Known, SignError> {
    let layout = Layout::read(&mut from.anywhere()?)?;
    let identity = by.map(|by| Identity::of(by.signer.chain())).transpose()?;
    let signing = Signing { by, identity };
    let infos = layout
        .slices
        .iter()
        .map(|slice| own_info(slice, code, &mut *from.anywhere()?))
        .collect::<Result<Vec<_>, _>>()?;
    let mut spare = 0;
    loop {
        let slices: Vec<Signed<'_>> = layout
            .slices
            .iter()
            .zip(&infos)
            .map(|(slice, info)| Signed::new(slice, code, info.as_deref(), &signing, spare))
            .collect::<Result<_, _>>()?;
        let lens: Vec<u64> = slices.iter().map(|slice| slice.signature_len).collect();
        let places = layout.places(&lens)?;
        let hashes = copy(from, to, &layout, &places, &slices, progress)?;
        match finish(to, &places, &slices, &hashes, &signing) {
            Err(Unfinished::TooLong(by)) if spare == 0 => spare = by + ROOM,
            Err(Unfinished::TooLong(_)) => {
                return Err(SignError::refused(
                    "its signature is too large",
                    "sign it with another time-stamp authority",
                ));
            }
            Err(Unfinished::Other(error)) => return Err(error),
            Ok(known) => {
                verify(to, &hashes)?;
                return Ok(known);
            }
        }
    }
}

/// The property list that stands in a program without a bundle.
fn own_info(
    slice: &Slice,
    code: &Code<'_>,
    from: &mut (impl Read + Seek + ?Sized),
) -> Result<Option<Vec<u8>>, SignError> {
    let Some((at, len)) = slice.info.filter(|_| code.info.is_none()) else { return Ok(None) };
    from.seek(SeekFrom::Start(slice.at + at))?;
    let mut out = Vec::new();
    from.take(len.min(lantern_formats::info::MAX_INFO_LEN)).read_to_end(&mut out)?;
    Ok(Some(out))
}

/// What a program without a bundle says that it is known as, in a property list of its own; none where it has none.
///
/// # Errors
/// Those of reading; [`SignError::Refused`] for what is no such program.
pub fn own_identifier(from: &(impl Source + ?Sized)) -> Result<Option<String>, SignError> {
    let layout = Layout::read(&mut from.anywhere()?)?;
    for slice in &layout.slices {
        let info = own_info(slice, &Code::default(), &mut *from.anywhere()?)?;
        let named = info.and_then(|bytes| Info::read(bytes.trim_ascii_end()).ok()?.identifier);
        if named.is_some() {
            return Ok(named);
        }
    }
    Ok(None)
}

/// A slice with its signature, as far as it is known before its code was read.
struct Signed<'a> {
    slice: &'a Slice,
    code: &'a Code<'a>,
    flags: u32,
    team: Option<String>,
    /// Special slots: their numbers, and what is hashed for each.
    beside: Vec<(u32, Vec<u8>)>,
    requirement: Option<Requirement>,
    /// With the room behind it that is left.
    signature_len: u64,
    head: Vec<u8>,
}

impl<'a> Signed<'a> {
    fn new(
        slice: &'a Slice,
        code: &'a Code<'a>,
        info: Option<&[u8]>,
        signing: &Signing<'_>,
        spare: usize,
    ) -> Result<Self, SignError> {
        let mut beside = Vec::new();
        beside.extend(code.info.or(info).map(|info| (INFO, info.to_vec())));
        let requirement = signing.identity.as_ref().map(|identity| identity.requirement(code.identifier));
        beside.push((REQUIREMENTS, requirement.as_ref().map_or_else(Requirement::none, Requirement::set)));
        beside.extend(code.seal.map(|seal| (RESOURCES, seal.to_vec())));
        // Libraries may do what the program may that loads them.
        if let Some(entitlements) = code.entitlements.filter(|_| slice.is_program) {
            beside.push((SLOT_ENTITLEMENTS, blob(ENTITLEMENTS, entitlements.xml())));
            beside.push((SLOT_ENTITLEMENTS_DER, blob(ENTITLEMENTS_DER, &entitlements.der()?)));
        }
        let flags = if signing.by.is_some() { 0 } else { AD_HOC } | if code.is_hardened { RUNTIME } else { 0 };
        let team = signing.identity.as_ref().and_then(|identity| identity.team.clone());
        let mut out = Self { slice, code, flags, team, beside, requirement, signature_len: 0, head: Vec::new() };
        let empty = vec![0; out.pages() * Hash::Sha256.len()];
        let message = signing.by.map_or(0, |by| {
            let own: usize = by.signer.chain().iter().map(Vec::len).sum();
            let signature = match by.signer.algorithm() {
                Algorithm::Rsa(bits) => usize::from(bits).div_ceil(8),
                Algorithm::P256 => 72,
            };
            own + signature + ROOM + if by.authority.is_some() { ROOM_FOR_STAMP } else { 0 }
        });
        let len = out.blobs(&out.directory(&empty), &vec![0; message + spare]).len();
        out.signature_len = len.next_multiple_of(SIGNATURE_ALIGNMENT) as u64;
        out.head = slice.head(out.signature_len);
        Ok(out)
    }

    fn pages(&self) -> usize {
        usize::try_from(self.slice.code_end().div_ceil(PAGE)).unwrap_or(usize::MAX)
    }

    /// The code directory, with the hashes of all pages one after the other.
    fn directory(&self, pages: &[u8]) -> Vec<u8> {
        let (version, fixed) = if self.code.is_hardened { (WITH_RUNTIME, 96) } else { (WITH_SEGMENT, 88) };
        let four = |value: usize| u32::try_from(value).unwrap_or(u32::MAX).to_be_bytes();
        let identifier = [self.code.identifier.as_bytes(), &[0]].concat();
        let team = self.team.as_ref().map(|team| [team.as_bytes(), &[0]].concat()).unwrap_or_default();
        let team_at = if team.is_empty() { 0 } else { fixed + identifier.len() };
        let specials = self.beside.iter().map(|(slot, _)| *slot).max().unwrap_or(0) as usize;
        let hashes_at = fixed + identifier.len() + team.len() + specials * Hash::Sha256.len();
        let is_allowed = |name: &str| self.code.entitlements.is_some_and(|list| list.is_on(name));
        let mut about = if self.slice.is_program { MAIN_PROGRAM } else { 0 };
        if self.slice.is_program && (is_allowed("get-task-allow") || is_allowed("com.apple.security.get-task-allow")) {
            about |= UNSIGNED_PAGES;
        }
        if self.slice.is_program && is_allowed("dynamic-codesigning") {
            about |= MADE_CODE;
        }
        let mut out = Vec::with_capacity(hashes_at + pages.len());
        out.extend(version.to_be_bytes());
        out.extend(self.flags.to_be_bytes());
        [hashes_at, fixed, specials, self.pages()].iter().for_each(|value| out.extend(four(*value)));
        out.extend(four(usize::try_from(self.slice.code_end()).unwrap_or(usize::MAX)));
        // Length and kind of the hashes, no platform, and the size of a page.
        out.extend([32, 2, 0, PAGE_SHIFT]);
        // Spare, no scattered pages, the team, spare; the limit of 8 bytes is for what the one of 4 cannot say.
        [0, 0, team_at, 0].iter().for_each(|value| out.extend(four(*value)));
        [0, self.slice.text.0, self.slice.text.1, about].iter().for_each(|value| out.extend(value.to_be_bytes()));
        if self.code.is_hardened {
            out.extend(self.slice.sdk.unwrap_or(0).max(OLDEST_RUNTIME).to_be_bytes());
            out.extend(four(0));
        }
        out.extend(identifier);
        out.extend(team);
        // From the highest number down, so that each stands before the first page's by its number.
        for slot in (1..=specials).rev() {
            let content = self.beside.iter().find(|(known, _)| *known as usize == slot);
            out.extend(content.map_or_else(|| vec![0; 32], |(_, content)| Hash::Sha256.digest(content)));
        }
        out.extend(pages);
        blob(CODE_DIRECTORY, &out)
    }

    /// The whole signature.
    fn blobs(&self, directory: &[u8], message: &[u8]) -> Vec<u8> {
        let message = blob(MESSAGE, message);
        let mut parts: Vec<(u32, &[u8])> = vec![(0, directory)];
        let within = |(slot, _): &&(u32, Vec<u8>)| !matches!(*slot, INFO | RESOURCES);
        parts.extend(self.beside.iter().filter(within).map(|(slot, content)| (*slot, content.as_slice())));
        parts.push((SLOT_MESSAGE, &message));
        let four = |value: usize| u32::try_from(value).unwrap_or(u32::MAX).to_be_bytes();
        let mut index = four(parts.len()).to_vec();
        let mut at = 12 + parts.len() * 8;
        for (slot, content) in &parts {
            index.extend([slot.to_be_bytes(), four(at)].concat());
            at += content.len();
        }
        parts.iter().for_each(|(_, content)| index.extend(*content));
        blob(EMBEDDED_SIGNATURE, &index)
    }
}

/// A part of a slice that is copied and hashed at once.
struct Chunk {
    slice: usize,
    /// From the slice's start.
    at: u64,
    len: usize,
    /// Whether it is the code's last, behind which there may be zeros.
    is_last: bool,
}

/// Reads a file from its start on, chunk by chunk.
struct Reading<'a> {
    from: Box<dyn Read + Send + 'a>,
    at: u64,
    chunks: std::vec::IntoIter<Chunk>,
}

impl Reading<'_> {
    /// Reads the next chunk; none behind the last.
    fn next(&mut self, slices: &[Signed<'_>], buffer: &mut Vec<u8>) -> io::Result<Option<Chunk>> {
        let Some(chunk) = self.chunks.next() else { return Ok(None) };
        let start = slices.get(chunk.slice).map_or(0, |signed| signed.slice.at) + chunk.at;
        let between = start.saturating_sub(self.at);
        let skipped = io::copy(&mut (&mut self.from).take(between), &mut io::sink())?;
        buffer.resize(chunk.len, 0);
        self.from.read_exact(buffer)?;
        self.at += skipped + chunk.len as u64;
        Ok(Some(chunk))
    }
}

/// Writes everything but the signatures, and returns the hashes of each slice's pages.
fn copy(
    from: &(impl Source + ?Sized),
    to: &Path,
    layout: &Layout,
    places: &[Place],
    slices: &[Signed<'_>],
    progress: &dyn Progress,
) -> Result<Vec<Vec<u8>>, SignError> {
    let mut chunks = Vec::new();
    for number in layout.order() {
        let Some(signed) = slices.get(number) else { continue };
        let end = signed.slice.code_len;
        for at in (0..end).step_by(usize::try_from(CHUNK).unwrap_or(usize::MAX)) {
            let len = CHUNK.min(end - at);
            chunks.push(Chunk { slice: number, at, len: usize::try_from(len).unwrap_or(0), is_last: at + len == end });
        }
    }
    let meter = progress.start(Task::Sign, Some(chunks.iter().map(|chunk| chunk.len as u64).sum()));
    let mut file = create(to)?;
    let end = places.iter().map(|place| place.at + place.len).max().unwrap_or(0);
    file.set_len(end)?;
    file.write_all(&layout.table(places))?;
    let hashes: Vec<Mutex<Vec<u8>>> = slices.iter().map(|signed| Mutex::new(vec![0; signed.pages() * 32])).collect();
    let reading = Mutex::new(Reading { from: from.whole()?, at: 0, chunks: chunks.into_iter() });
    let threads = processors();
    each(
        &vec![(); threads],
        threads,
        || (),
        |(), _, ()| work(to, &reading, (places, slices), &hashes, &*meter, progress),
    )?;
    Ok(hashes.into_iter().map(|of| of.into_inner().expect("nothing panics with the lock")).collect())
}

/// Takes chunk after chunk: reads it, puts the new head over it, hashes its pages, and writes it.
fn work(
    to: &Path,
    reading: &Mutex<Reading<'_>>,
    (places, slices): (&[Place], &[Signed<'_>]),
    hashes: &[Mutex<Vec<u8>>],
    meter: &dyn Meter,
    progress: &dyn Progress,
) -> Result<(), SignError> {
    let mut file = File::options().write(true).open(to)?;
    let mut buffer = Vec::new();
    let mut made = Vec::new();
    loop {
        if progress.stopped() {
            return Err(SignError::Stopped);
        }
        let next = reading.lock().expect("nothing panics with the lock").next(slices, &mut buffer)?;
        let Some(chunk) = next else { return Ok(()) };
        let (Some(signed), Some(place)) = (slices.get(chunk.slice), places.get(chunk.slice)) else { continue };
        meter.add(buffer.len() as u64);
        if chunk.is_last {
            let padding = signed.slice.code_end() - signed.slice.code_len;
            buffer.resize(chunk.len + usize::try_from(padding).unwrap_or(0), 0);
        }
        let at = usize::try_from(chunk.at).unwrap_or(usize::MAX);
        let head = signed.head.get(at..).unwrap_or_default();
        buffer.iter_mut().zip(head).for_each(|(byte, new)| *byte = *new);
        made.clear();
        buffer.chunks(1 << PAGE_SHIFT).for_each(|page| made.extend(Hash::Sha256.digest(page)));
        let first = (at >> PAGE_SHIFT) * 32;
        if let Some(of) = hashes.get(chunk.slice) {
            let mut of = of.lock().expect("nothing panics with the lock");
            if let Some(part) = of.get_mut(first..first + made.len()) {
                part.copy_from_slice(&made);
            }
        }
        file.seek(SeekFrom::Start(place.at + chunk.at))?;
        file.write_all(&buffer)?;
    }
}

enum Unfinished {
    /// The signature is longer than the room for it, by so many bytes.
    TooLong(usize),
    Other(SignError),
}

impl<E: Into<SignError>> From<E> for Unfinished {
    fn from(error: E) -> Self {
        Self::Other(error.into())
    }
}

/// Signs the directories, and writes the signatures.
fn finish(
    to: &Path,
    places: &[Place],
    slices: &[Signed<'_>],
    hashes: &[Vec<u8>],
    signing: &Signing<'_>,
) -> Result<Known, Unfinished> {
    let mut file = File::options().write(true).open(to)?;
    let mut short = Vec::new();
    for ((signed, place), pages) in slices.iter().zip(places).zip(hashes) {
        let directory = signed.directory(pages);
        let hash = Hash::Sha256.digest(&directory);
        let cut = hash.get(..SHORT).unwrap_or_default().to_vec();
        let message = match &signing.by {
            None => Vec::new(),
            Some(by) => {
                let list = write(&Item::of([("cdhashes", Item::List(vec![Item::Data(cut.clone())]))]));
                let whole = der::sequence(&[&oid(SHA256), &der::value(der::OCTET_STRING, &[&hash])]);
                let attributes = vec![
                    attribute(HASHES, &der::value(der::OCTET_STRING, &[list.as_bytes()])),
                    attribute(HASH, &whole),
                ];
                let mut stamp = |signature: &[u8]| time_stamp::beside(signature, by.authority, TIME_STAMP);
                message::beside(by.signer, &directory, attributes, &mut stamp)?
            }
        };
        let signature = signed.blobs(&directory, &message);
        let room = usize::try_from(signed.signature_len).unwrap_or(0);
        if signature.len() > room {
            return Err(Unfinished::TooLong(signature.len() - room));
        }
        file.seek(SeekFrom::Start(place.at + signed.slice.code_end()))?;
        file.write_all(&signature)?;
        short.push(cut);
    }
    file.flush()?;
    let by_hash = || {
        short
            .iter()
            .map(|hash| format!("cdhash H\"{}\"", lantern_core::bytes::hex(hash)))
            .collect::<Vec<_>>()
            .join(" or ")
    };
    let requirement = slices.first().and_then(|signed| signed.requirement.as_ref()).map(Requirement::text);
    Ok(Known { requirement: requirement.unwrap_or_else(by_hash), hashes: short })
}

/// Reads what was signed again, with the reader, and says so when it does not hold. The pages' hashes are known from writing them.
fn verify(to: &Path, hashes: &[Vec<u8>]) -> Result<(), SignError> {
    let not_valid = |error: FormatError| SignError::NotValid(error.to_string());
    let mut file = File::open(to)?;
    let details = Details::read(&mut file).map_err(not_valid)?;
    for (details, pages) in details.iter().zip(hashes) {
        let signature = CodeSignature::read(&mut file, details).map_err(not_valid)?;
        let signature = signature.ok_or_else(|| SignError::NotValid("a slice has no signature".to_owned()))?;
        if let Some(wrong) = signature.verify_known(pages) {
            return Err(SignError::NotValid(format!("{wrong:?}")));
        }
        let signer = signature.signer().map_err(not_valid)?;
        if let Some(wrong) = signer.and_then(|signer| signer.wrong) {
            return Err(SignError::NotValid(wrong));
        }
        if signature.entitlements_agree() == Some(false) {
            return Err(SignError::NotValid("its two lists of entitlements differ".to_owned()));
        }
    }
    if details.len() == hashes.len() { Ok(()) } else { Err(SignError::NotValid("a slice is missing".to_owned())) }
}
