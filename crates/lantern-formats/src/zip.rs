//! ZIP archives. Source: APPNOTE.TXT 6.3.10, sections 4.3.7 (local file header), 4.3.12 (central directory),
//! 4.3.14 to 4.3.16 (ends of it), 4.5.3 (Zip64): <https://pkware.cachefly.net/webdocs/casestudies/APPNOTE.TXT>.
//!
//! The central directory alone says what there is. Entries whose bytes overlap, that lie outside of the file, or that
//! claim a size which no compression reaches, are refused before anything is unpacked.

pub mod write;

use std::io::{self, Read, Seek, SeekFrom};

/// Largest central directory accepted, in bytes. Ours: bounds memory on hostile input.
pub const MAX_DIRECTORY_LEN: u64 = 256 * 1024 * 1024;
/// Deflate cannot do better than 1,032 to 1; Zstandard can, but no real file does.
const MAX_RATIO: u64 = 1_100;
const END_LEN: u64 = 22;
const MAX_COMMENT_LEN: u64 = 65_535;

/// Why an archive could not be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ZipError {
    /// There is no end of a central directory.
    #[error("not a ZIP archive, or it is cut off: the directory at its end is missing")]
    NotZip,
    /// Ends too early, or points beyond its end.
    #[error("the archive is cut off: {what} at byte {offset} lies beyond its end")]
    Truncated {
        /// What was being read.
        what: &'static str,
        /// Where.
        offset: u64,
    },
    /// Something that no archive may hold.
    #[error("the archive is broken: {0}")]
    Broken(String),
    /// Parts that this reader does not know.
    #[error("the archive {0}")]
    Unsupported(String),
    /// The file could not be read.
    #[error("reading the archive")]
    Io(#[from] io::Error),
}

/// How an entry's bytes are stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Method {
    /// As they are.
    Stored,
    /// Deflate (RFC 1951).
    Deflate,
    /// Zstandard (RFC 8878).
    Zstd,
    /// Another one, by its number.
    Other(u16),
}

impl Method {
    /// The number that stands for it. Source: section 4.4.5.
    pub fn number(self) -> u16 {
        match self {
            Self::Stored => 0,
            Self::Deflate => 8,
            Self::Zstd => 93,
            Self::Other(number) => number,
        }
    }

    fn of_number(number: u16) -> Self {
        match number {
            0 => Self::Stored,
            8 => Self::Deflate,
            93 => Self::Zstd,
            other => Self::Other(other),
        }
    }
}

/// One entry, as the central directory states it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZipEntry {
    /// As it is written; UTF-8 in every archive of the last fifteen years.
    pub name: Vec<u8>,
    /// Where and how its bytes are stored.
    pub packed: Packed,
    /// File mode, where the archive was made on a system that has one.
    pub unix_mode: Option<u32>,
}

/// Where and how the bytes of an entry are stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Packed {
    /// How it is stored.
    pub method: Method,
    /// Whether a password is needed.
    pub is_encrypted: bool,
    /// Of the unpacked bytes.
    pub crc32: u32,
    /// Bytes in the archive.
    pub compressed_len: u64,
    /// Bytes when unpacked.
    pub len: u64,
    /// Where its local header lies.
    pub header_offset: u64,
}

impl ZipEntry {
    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        self.name.ends_with(b"/") || self.unix_mode.is_some_and(|mode| mode & 0o170_000 == 0o040_000)
    }

    /// Whether it is a link; its bytes are where it points.
    pub fn is_link(&self) -> bool {
        self.unix_mode.is_some_and(|mode| mode & 0o170_000 == 0o120_000)
    }

    /// Whether it is something that is neither file nor folder nor link.
    pub fn is_special(&self) -> bool {
        let kind = self.unix_mode.map_or(0, |mode| mode & 0o170_000);
        !matches!(kind, 0 | 0o100_000 | 0o040_000 | 0o120_000)
    }
}

fn number<const N: usize>(bytes: &[u8], at: usize) -> u64 {
    let mut value = 0;
    for i in (0..N).rev() {
        value = value << 8 | u64::from(bytes.get(at + i).copied().unwrap_or(0));
    }
    value
}

pub(crate) fn read_at<R: Read + Seek>(
    from: &mut R,
    offset: u64,
    len: u64,
    what: &'static str,
) -> Result<Vec<u8>, ZipError> {
    let cut = || ZipError::Truncated { what, offset };
    if i64::try_from(offset).is_err() {
        return Err(cut());
    }
    from.seek(SeekFrom::Start(offset))?;
    let mut bytes = Vec::new();
    from.take(len).read_to_end(&mut bytes)?;
    if bytes.len() as u64 == len { Ok(bytes) } else { Err(cut()) }
}

fn starts_at(bytes: &[u8], at: usize, with: &[u8]) -> bool {
    bytes.get(at..).is_some_and(|rest| rest.starts_with(with))
}

/// Where the central directory lies.
struct Directory {
    offset: u64,
    len: u64,
    count: u64,
    /// Where the record at the archive's end starts.
    end: u64,
}

fn directory<R: Read + Seek>(from: &mut R) -> Result<Directory, ZipError> {
    let file_len = from.seek(SeekFrom::End(0))?;
    let tail_len = file_len.min(END_LEN + MAX_COMMENT_LEN);
    let tail_at = file_len - tail_len;
    let tail = read_at(from, tail_at, tail_len, "the end")?;
    let is_end = |at: &usize| {
        let comment = number::<2>(&tail, at + 20);
        starts_at(&tail, *at, b"PK\x05\x06") && *at as u64 + END_LEN + comment == tail_len
    };
    let last = tail.len().checked_sub(22).ok_or(ZipError::NotZip)?;
    let end = (0..=last).rev().find(is_end).ok_or(ZipError::NotZip)?;
    let mut count = number::<2>(&tail, end + 10);
    let mut len = number::<4>(&tail, end + 12);
    let mut offset = number::<4>(&tail, end + 16);
    if number::<2>(&tail, end + 4) != 0 && number::<2>(&tail, end + 4) != 0xffff {
        return Err(ZipError::Unsupported("is divided into several files".to_owned()));
    }
    if let Some(locator) = end.checked_sub(20).filter(|at| starts_at(&tail, *at, b"PK\x06\x07")) {
        let at = number::<8>(&tail, locator + 8);
        let record = read_at(from, at, 56, "the Zip64 end of the directory")?;
        if !record.starts_with(b"PK\x06\x06") {
            return Err(ZipError::Broken("the Zip64 end of the directory is not where it should be".to_owned()));
        }
        count = number::<8>(&record, 32);
        len = number::<8>(&record, 40);
        offset = number::<8>(&record, 48);
    }
    if len > MAX_DIRECTORY_LEN {
        return Err(ZipError::Broken(format!("its directory claims {len} bytes")));
    }
    if count > len / 46 {
        return Err(ZipError::Broken(format!("its directory claims {count} entries in {len} bytes")));
    }
    if offset.checked_add(len).is_none_or(|end_of_it| end_of_it > tail_at + end as u64) {
        return Err(ZipError::Truncated { what: "the directory", offset });
    }
    Ok(Directory { offset, len, count, end: tail_at + end as u64 })
}

/// Reads the central directory.
///
/// # Errors
/// [`ZipError`].
pub fn read<R: Read + Seek>(from: &mut R) -> Result<Vec<ZipEntry>, ZipError> {
    let Directory { offset, len, count, .. } = directory(from)?;
    let directory = read_at(from, offset, len, "the directory")?;
    let entries = entries(&directory, count, offset)?;
    check_overlaps(&entries)?;
    Ok(entries)
}

fn entries(directory: &[u8], count: u64, directory_at: u64) -> Result<Vec<ZipEntry>, ZipError> {
    let mut entries = Vec::with_capacity(usize::try_from(count).unwrap_or(0));
    let mut at = 0;
    for _ in 0..count {
        let cut = || ZipError::Truncated { what: "an entry of the directory", offset: directory_at + at as u64 };
        let head = directory.get(at..at + 46).ok_or_else(cut)?;
        if !head.starts_with(b"PK\x01\x02") {
            return Err(ZipError::Broken(format!("there is no entry at byte {}", directory_at + at as u64)));
        }
        let part = |at: usize| usize::try_from(number::<2>(head, at)).unwrap_or(usize::MAX);
        let (name_len, extra_len, comment_len) = (part(28), part(30), part(32));
        let name = directory.get(at + 46..at + 46 + name_len).ok_or_else(cut)?;
        let extra = directory.get(at + 46 + name_len..at + 46 + name_len + extra_len).ok_or_else(cut)?;
        let flags = number::<2>(head, 8);
        let made_on_unix = matches!(number::<2>(head, 4) >> 8, 3 | 19);
        let mut packed = Packed {
            method: Method::of_number(u16::try_from(number::<2>(head, 10)).unwrap_or(u16::MAX)),
            is_encrypted: flags & 1 != 0,
            crc32: u32::try_from(number::<4>(head, 16)).unwrap_or(0),
            compressed_len: number::<4>(head, 20),
            len: number::<4>(head, 24),
            header_offset: number::<4>(head, 42),
        };
        take_zip64(&mut packed, extra);
        let who = || shown(name);
        if packed.method == Method::Stored && packed.len != packed.compressed_len && !packed.is_encrypted {
            return Err(ZipError::Broken(format!("{} is stored, and has two sizes", who())));
        }
        if packed.len / MAX_RATIO > packed.compressed_len {
            let (len, compressed) = (packed.len, packed.compressed_len);
            return Err(ZipError::Broken(format!("{} claims {len} bytes out of {compressed}", who())));
        }
        if packed.header_offset.checked_add(packed.compressed_len).is_none_or(|end| end > directory_at) {
            return Err(ZipError::Broken(format!("{} lies outside of the archive", who())));
        }
        let unix_mode = made_on_unix.then(|| u32::try_from(number::<4>(head, 38) >> 16).unwrap_or(0));
        entries.push(ZipEntry { name: name.to_vec(), packed, unix_mode });
        at += 46 + name_len + extra_len + comment_len;
    }
    Ok(entries)
}

/// Values of `0xffffffff` stand in the Zip64 extra field, in this order.
fn take_zip64(entry: &mut Packed, mut extra: &[u8]) {
    while extra.len() >= 4 {
        let len = usize::try_from(number::<2>(extra, 2)).unwrap_or(usize::MAX);
        let field = extra.get(4..4 + len).unwrap_or_default();
        if number::<2>(extra, 0) == 1 {
            let mut at = 0;
            for value in [&mut entry.len, &mut entry.compressed_len, &mut entry.header_offset] {
                if *value == 0xffff_ffff && field.len() >= at + 8 {
                    *value = number::<8>(field, at);
                    at += 8;
                }
            }
        }
        extra = extra.get(4 + len..).unwrap_or_default();
    }
}

/// Where the central directory and the end record behind it start.
pub(crate) fn directory_and_end<R: Read + Seek>(from: &mut R) -> Result<(u64, u64), ZipError> {
    let Directory { offset, end, .. } = directory(from)?;
    Ok((offset, end))
}

fn check_overlaps(entries: &[ZipEntry]) -> Result<(), ZipError> {
    let mut spans: Vec<&ZipEntry> = entries.iter().collect();
    let end = |entry: &ZipEntry| entry.packed.header_offset + 30 + entry.packed.compressed_len;
    spans.sort_unstable_by_key(|entry| (entry.packed.header_offset, end(entry)));
    for (one, next) in spans.iter().zip(spans.iter().skip(1)) {
        if next.packed.header_offset < end(one) {
            let (one, other) = (shown(&one.name), shown(&next.name));
            return Err(ZipError::Broken(format!("{one} and {other} overlap")));
        }
    }
    Ok(())
}

/// Writes a name so that it can be shown.
fn shown(name: &[u8]) -> String {
    String::from_utf8_lossy(name).escape_debug().to_string()
}

/// Returns where an entry's bytes begin.
///
/// # Errors
/// [`ZipError`].
pub fn data_offset<R: Read + Seek>(from: &mut R, entry: &Packed) -> Result<u64, ZipError> {
    let head = read_at(from, entry.header_offset, 30, "a local header")?;
    if !head.starts_with(b"PK\x03\x04") {
        return Err(ZipError::Broken(format!("there is no local header at byte {}", entry.header_offset)));
    }
    Ok(entry.header_offset + 30 + number::<2>(&head, 26) + number::<2>(&head, 28))
}

/// Opens an entry to be read from its start; size and checksum are compared with the directory at its end.
///
/// # Errors
/// [`ZipError`]; reading gives [`io::ErrorKind::InvalidData`] when the bytes are not what the directory says.
pub fn open<'a, R: Read + Seek + Send + 'a>(
    mut from: R,
    entry: &Packed,
) -> Result<Box<dyn Read + Send + 'a>, ZipError> {
    if entry.is_encrypted {
        return Err(ZipError::Unsupported("needs a password for it".to_owned()));
    }
    let offset = data_offset(&mut from, entry)?;
    from.seek(SeekFrom::Start(offset))?;
    let raw = from.take(entry.compressed_len);
    let reader: Box<dyn Read + Send + 'a> = match entry.method {
        Method::Stored => Box::new(raw),
        Method::Deflate => Box::new(flate2::read::DeflateDecoder::new(raw)),
        Method::Zstd => Box::new(zstd::stream::read::Decoder::new(raw)?),
        Method::Other(number) => {
            return Err(ZipError::Unsupported(format!("stores it by the method {number}, which is not known here")));
        }
    };
    Ok(Box::new(Checked { reader, left: entry.len, crc32: entry.crc32, crc: flate2::Crc::new() }))
}

/// Compares what is read with its size and checksum.
struct Checked<R> {
    reader: R,
    left: u64,
    crc32: u32,
    crc: flate2::Crc,
}

impl<R: Read> Read for Checked<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let wrong = |what: &str| io::Error::new(io::ErrorKind::InvalidData, what.to_owned());
        let len = self.reader.read(buffer)?;
        self.left = self.left.checked_sub(len as u64).ok_or_else(|| wrong("it unpacks to more than it states"))?;
        self.crc.update(buffer.get(..len).unwrap_or_default());
        if len == 0 && !buffer.is_empty() {
            if self.left > 0 {
                return Err(wrong("it unpacks to less than it states"));
            }
            // Who looks for bytes that do harm gets past the checksum.
            if self.crc.sum() != self.crc32 && !cfg!(fuzzing) {
                return Err(wrong("its checksum is another"));
            }
        }
        Ok(len)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Cursor;

    /// Writes an archive of entries: name, bytes, whether they are deflated.
    fn archive(entries: &[(&str, &[u8], bool)]) -> Vec<u8> {
        let mut zip = write::ZipWriter::new(Cursor::new(Vec::new()));
        for (name, bytes, deflated) in entries {
            let method = if *deflated { Method::Deflate } else { Method::Stored };
            zip.file(name, method, 0o644, bytes.len() as u64, |out| out.write_all(bytes)).unwrap();
        }
        zip.finish().unwrap().into_inner()
    }

    fn unpack(bytes: &[u8]) -> Result<Vec<(String, Vec<u8>)>, ZipError> {
        let mut cursor = Cursor::new(bytes.to_vec());
        let entries = read(&mut cursor)?;
        let mut out = Vec::new();
        for entry in entries {
            let mut content = Vec::new();
            open(cursor.clone(), &entry.packed)?.read_to_end(&mut content)?;
            out.push((String::from_utf8_lossy(&entry.name).into_owned(), content));
        }
        Ok(out)
    }

    #[test]
    fn what_is_written_is_read() {
        let long = vec![7; 100_000];
        let bytes = archive(&[("a.txt", b"letter", false), ("b/c.dat", &long, true), ("b/empty", b"", false)]);
        let found = unpack(&bytes).unwrap();
        assert_eq!(found[0], ("a.txt".to_owned(), b"letter".to_vec()));
        assert_eq!(found[1], ("b/c.dat".to_owned(), long));
        assert_eq!(found[2].1, b"");
    }

    #[test]
    fn a_comment_at_the_end_does_no_harm() {
        let mut bytes = archive(&[("a", b"x", false)]);
        let at = bytes.len() - 2;
        bytes[at] = 5;
        bytes.extend(b"PK\x05\x06!");
        assert_eq!(unpack(&bytes).unwrap().len(), 1);
    }

    #[test]
    fn damage_is_noticed() {
        let good = archive(&[("a.txt", b"letter", false), ("b.txt", b"another letter", true)]);
        assert!(matches!(unpack(b""), Err(ZipError::NotZip)));
        assert!(matches!(unpack(&good[..good.len() - 1]), Err(ZipError::NotZip)));
        let mut changed = good.clone();
        changed[36] ^= 1;
        assert!(unpack(&changed).unwrap_err().to_string().contains("reading the archive"));
        // The second entry is said to lie where the first does.
        let at = good.windows(4).rposition(|w| w == b"PK\x01\x02").unwrap();
        let mut overlapping = good.clone();
        overlapping[at + 42..at + 46].copy_from_slice(&[0; 4]);
        assert!(unpack(&overlapping).unwrap_err().to_string().contains("overlap"));
        let mut bomb = good.clone();
        bomb[at + 24..at + 28].copy_from_slice(&u32::MAX.to_le_bytes()[..]);
        bomb[at + 27] = 0x7f;
        assert!(unpack(&bomb).unwrap_err().to_string().contains("claims"));
        let mut encrypted = good;
        encrypted[at + 8] |= 1;
        assert!(unpack(&encrypted).unwrap_err().to_string().contains("password"));
    }

    proptest! {
        #[test]
        fn hostile_bytes_do_no_harm(at in 0_usize..400, value in any::<u8>(), cut in 0_usize..400) {
            let mut bytes = archive(&[("a.txt", b"letter", false), ("b/c.dat", &[1; 500], true)]);
            let len = bytes.len();
            bytes[at % len] = value;
            bytes.truncate(len - (cut % len) / 8);
            let _ = unpack(&bytes);
        }
    }
}
