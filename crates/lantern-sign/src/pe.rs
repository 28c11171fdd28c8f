//! Signs Windows programs and libraries.
//!
//! Source: "Windows Authenticode Portable Executable Signature Format", version 1.0 (linked from
//! <https://learn.microsoft.com/windows-hardware/drivers/install/authenticode>), "Authenticode Signature in a PE file" and "Calculating
//! the PE Image Hash"; Microsoft, "PE Format", "Optional Header Data Directories" and "The Attribute Certificate Table"
//! (<https://learn.microsoft.com/windows/win32/debug/pe-format>); RFC 3161 for time stamps. docs/signing.md has the layout.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::Path;

use lantern_core::progress::{Progress, Task};
use lantern_formats::hash::{Hash, Hasher};
use lantern_formats::pe as reader;
use lantern_keys::der;
use lantern_keys::key::Signer;

use crate::SignError;
use crate::archive::Opener;
use crate::archive::create;
use crate::head::{Head, refused};
use crate::message::{attached, attribute, oid, sha256};
use crate::stamp::program::Patches;
use crate::time_stamp::{self, Authority};

/// 1.3.6.1.4.1.311.2.1.4, .15, .12, .11 and .21.
const INDIRECT_DATA: &[u8] = &[0x2b, 6, 1, 4, 1, 0x82, 0x37, 2, 1, 4];
const IMAGE_DATA: &[u8] = &[0x2b, 6, 1, 4, 1, 0x82, 0x37, 2, 1, 15];
const PROGRAM_INFORMATION: &[u8] = &[0x2b, 6, 1, 4, 1, 0x82, 0x37, 2, 1, 12];
/// 1.3.6.1.4.1.311.3.3.1.
const TIME_STAMP: &[u8] = &[0x2b, 6, 1, 4, 1, 0x82, 0x37, 3, 3, 1];
/// Bytes that are read and written at a time.
const BUFFER_LEN: usize = 256 * 1024;
const SECURITY: usize = 4;

/// What Windows shows of a program when it asks whether to start it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Description {
    /// Its name.
    pub name: String,
    /// Where more is said of it.
    pub address: Option<String>,
}

/// How a program is signed.
#[derive(Debug)]
pub struct Signing<'a> {
    /// With what.
    pub signer: &'a dyn Signer,
    /// What is said of it.
    pub about: &'a Description,
    /// Who states the time; none for a signature that ends with its certificate.
    pub authority: Option<&'a dyn Authority>,
}

/// Where a program has what no signature covers.
#[derive(Debug, Clone, Copy)]
struct Places {
    /// Of its checksum.
    checksum: u64,
    /// Of the entry of its certificate table.
    entry: u64,
    /// Where its bytes end: at its end, or at the table of an older signature.
    end: u64,
}

/// Reads where a program has what is not signed.
fn places(from: &mut (impl Read + Seek)) -> Result<Places, SignError> {
    let head = Head::read(from)?;
    let Some(entry) = head.directory_at(SECURITY)? else {
        return Err(refused("its head has no place for a signature"));
    };
    let (table, table_len) = (u64::from(head.long(entry)?), u64::from(head.long(entry + 4)?));
    let (checksum, entry) = (head.optional as u64 + 64, entry as u64);
    let end = match (table, table_len) {
        (0, _) | (_, 0) => head.len,
        _ if table + table_len == head.len && table >= entry + 8 => table,
        _ => return Err(refused("it has a signature that is not at its end: what lies behind it would be lost")),
    };
    Ok(Places { checksum, entry, end })
}

/// A sum of 16-bit words, which is folded at the end: the checksum of a program, whose own field counts as zero.
struct Checksum {
    sum: u64,
    odd: Option<u8>,
}

impl Checksum {
    fn add(&mut self, mut bytes: &[u8]) {
        if let (Some(low), [high, rest @ ..]) = (self.odd, bytes) {
            self.sum += u64::from(u16::from_le_bytes([low, *high]));
            (self.odd, bytes) = (None, rest);
        }
        let (words, rest) = bytes.as_chunks::<2>();
        self.sum += words.iter().map(|word| u64::from(u16::from_le_bytes(*word))).sum::<u64>();
        if let [odd] = rest {
            self.odd = Some(*odd);
        }
    }

    fn finish(mut self, len: u64) -> u32 {
        self.sum += u64::from(self.odd.unwrap_or(0));
        while self.sum > 0xffff {
            self.sum = (self.sum & 0xffff) + (self.sum >> 16);
        }
        // Programs end within 4 GB.
        u32::try_from(self.sum + len).unwrap_or(u32::MAX)
    }
}

/// Writes a program, and takes its digests on the way.
struct Writing<'a> {
    to: &'a mut File,
    places: Places,
    hasher: Hasher,
    checksum: Checksum,
    at: u64,
}

impl Writing<'_> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        self.to.write_all(bytes)?;
        self.checksum.add(bytes);
        let end = self.at + bytes.len() as u64;
        let mut from = self.at;
        for (gap, len) in [(self.places.checksum, 4), (self.places.entry, 8)] {
            if from < gap {
                self.hash(bytes, from, gap.min(end));
            }
            from = from.max((gap + len).min(end).max(self.at));
        }
        self.hash(bytes, from, end);
        self.at = end;
        Ok(())
    }

    fn hash(&mut self, bytes: &[u8], from: u64, to: u64) {
        let place = |at: u64| usize::try_from(at - self.at).unwrap_or(usize::MAX);
        if from < to {
            self.hasher.update(bytes.get(place(from)..place(to)).unwrap_or_default());
        }
    }
}

/// Signs a program into a new file, with other bytes at some of its places; an older signature goes. The result is verified.
///
/// # Errors
/// [`SignError`]; the new file is then of no use.
pub fn sign<R: Read + Seek + Send>(
    open: Opener<'_, R>,
    patches: &Patches,
    to: &Path,
    how: &Signing<'_>,
    progress: &dyn Progress,
) -> Result<(), SignError> {
    let mut from = patches.over(open()?);
    let places = places(&mut from)?;
    let end = places.end.next_multiple_of(8);
    // The table's place is a number of 32 bits.
    if end > u64::from(u32::MAX) - u64::from(u16::MAX) {
        return Err(SignError::refused(
            "no program of more than 4 GB can be signed, and Windows starts none",
            "put its data into files beside it",
        ));
    }
    let mut file = create(to)?;
    let meter = progress.start(Task::Sign, Some(end));
    let checksum = Checksum { sum: 0, odd: None };
    let mut writing = Writing { to: &mut file, places, hasher: Hash::Sha256.start(), checksum, at: 0 };
    from.rewind()?;
    let mut left = places.end;
    let mut buffer = vec![0; BUFFER_LEN];
    while left > 0 {
        if progress.stopped() {
            return Err(SignError::Stopped);
        }
        let len = usize::try_from(left).unwrap_or(BUFFER_LEN).min(BUFFER_LEN);
        let block = buffer.get_mut(..len).unwrap_or_default();
        from.read_exact(block)?;
        // The old checksum and the old table's place count as zeros until the new ones are known.
        blank(block, writing.at, places.checksum, 4);
        blank(block, writing.at, places.entry, 8);
        writing.write(block)?;
        meter.add(len as u64);
        left -= len as u64;
    }
    drop(meter);
    let padding = usize::try_from(end - places.end).unwrap_or(0);
    writing.write(vec![0; padding].as_slice())?;
    let Writing { hasher, mut checksum, .. } = writing;
    let digest = hasher.finish();
    let table = table(&digest, how)?;
    file.write_all(&table)?;
    let (Ok(place), Ok(len)) = (u32::try_from(end), u32::try_from(table.len())) else {
        return Err(refused("its signature is too large"));
    };
    let entry = [place.to_le_bytes(), len.to_le_bytes()].concat();
    checksum.add(&table);
    // The entry counted as zeros; it lies at an even place in all programs, and in others its bytes count the other way round.
    let mut own = Checksum { sum: 0, odd: (places.entry % 2 == 1).then_some(0) };
    own.add(&entry);
    checksum.sum += own.sum + u64::from(own.odd.unwrap_or(0));
    let len = end + table.len() as u64;
    let sum = checksum.finish(len);
    for (at, bytes) in [(places.checksum, &sum.to_le_bytes()[..]), (places.entry, &entry)] {
        file.seek(SeekFrom::Start(at))?;
        file.write_all(bytes)?;
    }
    file.flush()?;
    let spans = [(0, places.checksum), (places.checksum + 4, places.entry), (places.entry + 8, end)];
    verify(&mut file, &reader::Known { spans: &spans, digest: (Hash::Sha256, &digest) })
}

/// Writes zeros into the part of a block, which lies at a place, that a field covers.
fn blank(block: &mut [u8], at: u64, field: u64, len: u64) {
    let end = at + block.len() as u64;
    let (from, to) = (field.clamp(at, end), (field + len).clamp(at, end));
    let place = |of: u64| usize::try_from(of - at).unwrap_or(usize::MAX);
    block.get_mut(place(from)..place(to)).unwrap_or_default().fill(0);
}

/// Reads what was signed again, with the reader, and says so when it does not hold.
fn verify(file: &mut File, known: &reader::Known<'_>) -> Result<(), SignError> {
    let not_valid = |error: lantern_formats::FormatError| SignError::NotValid(error.to_string());
    let details = reader::Details::read(file).map_err(not_valid)?;
    match reader::verify_known(file, &details, known).map_err(not_valid)? {
        None => Err(SignError::NotValid("there is no signature".to_owned())),
        Some(found) => found.signer.wrong.map_or(Ok(()), |wrong| Err(SignError::NotValid(wrong))),
    }
}

/// The table with the signature of a program that has this digest.
fn table(digest: &[u8], how: &Signing<'_>) -> Result<Vec<u8>, SignError> {
    // No flags, and a file without a name.
    let image = der::sequence(&[&der::value(der::BIT_STRING, &[&[0]]), &explicit(0, &explicit(2, &implicit(0, &[])))]);
    let content = der::sequence(&[
        &der::sequence(&[&oid(IMAGE_DATA), &image]),
        &der::sequence(&[&sha256(), &der::value(der::OCTET_STRING, &[digest])]),
    ]);
    let attributes = vec![attribute(PROGRAM_INFORMATION, &program_information(how.about))];
    let mut stamp = |signature: &[u8]| time_stamp::beside(signature, how.authority, TIME_STAMP);
    let message = attached(how.signer, (INDIRECT_DATA, 1), &content, attributes, &mut stamp)?;
    let len = (message.len() + 8).next_multiple_of(8);
    let Ok(stated) = u32::try_from(len) else { return Err(refused("its signature is too large")) };
    let mut table = [&stated.to_le_bytes()[..], &[0, 2, 2, 0], &message].concat();
    table.resize(len, 0);
    Ok(table)
}

fn explicit(number: u8, content: &[u8]) -> Vec<u8> {
    der::value(0xa0 | number, &[content]).to_vec()
}

fn implicit(number: u8, content: &[u8]) -> Vec<u8> {
    der::value(0x80 | number, &[content]).to_vec()
}

fn program_information(about: &Description) -> Vec<u8> {
    let name: Vec<u8> = about.name.encode_utf16().flat_map(u16::to_be_bytes).collect();
    let name = if name.is_empty() { Vec::new() } else { explicit(0, &implicit(0, &name)) };
    let address = about.address.as_ref().map(|address| explicit(1, &implicit(0, address.as_bytes())));
    der::sequence(&[&name, &address.unwrap_or_default()]).to_vec()
}
