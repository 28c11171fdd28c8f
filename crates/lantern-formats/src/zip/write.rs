//! Writes ZIP archives: the same entries give the same bytes, on any system and at any time.
//!
//! Entries of another archive can be kept as they are packed, and what is stored can begin at a multiple of a number: systems
//! read it in place then. Source of the padding: APPNOTE.TXT 6.3.10, section 4.6.10, the extra field `0xa220`, which says of
//! itself that it is one; a record has eight bytes at least.
//!
//! To edit an archive, [`copy`] what stays and add what is new.

use std::io::{self, Read, Seek, SeekFrom, Write};

use super::{Method, ZipEntry, ZipError, data_offset};
use crate::counting_writer::CountingWriter;

/// 1980-01-01, midnight: the first time that the format can write.
const TIME: [u8; 4] = [0, 0, 0x21, 0];
const LIMIT: u64 = 0xffff_ffff;

/// Bytes of a local header before its name.
const LOCAL_HEADER_LEN: u64 = 30;
/// The extra field that is padding, and the mark in it; both of APPNOTE.TXT, section 4.6.10.
const PADDING_FIELD: u16 = 0xa220;
const PADDING_MARK: u16 = 0xa028;
/// Bytes of that field without any padding in it.
const MIN_PADDING: u64 = 8;
/// Bytes of the field with large sizes in a local header.
const LARGE_FIELD_LEN: u64 = 20;
/// Largest number that data can be aligned to: what a header can hold with everything else in it.
pub const MAX_ALIGNMENT: u16 = 32 * 1024;

struct Written {
    name: Vec<u8>,
    method: u16,
    /// As Unix has it; none where the entry has none.
    mode: Option<u32>,
    crc32: u32,
    compressed_len: u64,
    len: u64,
    offset: u64,
    /// Bytes of the padding before its data.
    padding: u64,
    /// Whether its local header has room for large sizes.
    is_large: bool,
}

impl Written {
    fn data_at(&self) -> u64 {
        let large = if self.is_large { LARGE_FIELD_LEN } else { 0 };
        self.offset + LOCAL_HEADER_LEN + self.name.len() as u64 + large + self.padding
    }

    /// Has its data begin at a multiple of a number.
    fn align(&mut self, to: u16) {
        let to = u64::from(to.clamp(1, MAX_ALIGNMENT));
        let over = self.data_at() % to;
        if over > 0 {
            self.padding = to - over;
            while self.padding < MIN_PADDING {
                self.padding += to;
            }
        }
    }
}

/// Writes entries one after the other.
pub struct ZipWriter<W> {
    out: W,
    at: u64,
    entries: Vec<Written>,
}

/// Sums up what goes through before it is packed.
struct Summed<W> {
    out: W,
    len: u64,
    crc: flate2::Crc,
}

impl<W: Write> Write for Summed<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let len = self.out.write(bytes)?;
        self.crc.update(bytes.get(..len).unwrap_or_default());
        self.len += len as u64;
        Ok(len)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

impl<W: Write + Seek> ZipWriter<W> {
    /// Starts an archive where `out` stands; it must be its beginning.
    pub fn new(out: W) -> Self {
        Self { out, at: 0, entries: Vec::new() }
    }

    /// Adds a file of `len` bytes, which `write` writes; [`Method::Stored`] and [`Method::Deflate`] can be written.
    ///
    /// # Errors
    /// The system's; [`io::ErrorKind::InvalidInput`] when another number of bytes was written.
    pub fn file(
        &mut self,
        name: &str,
        method: Method,
        mode: u32,
        len: u64,
        write: impl FnOnce(&mut dyn Write) -> io::Result<()>,
    ) -> io::Result<()> {
        self.aligned_file(name, method, mode, len, 1, write)
    }

    /// As [`Self::file`], with the first byte at a multiple of `alignment`, which is [`MAX_ALIGNMENT`] at most.
    ///
    /// # Errors
    /// Those of [`Self::file`].
    pub fn aligned_file(
        &mut self,
        name: &str,
        method: Method,
        mode: u32,
        len: u64,
        alignment: u16,
        write: impl FnOnce(&mut dyn Write) -> io::Result<()>,
    ) -> io::Result<()> {
        self.entry(name, method, 0o100_000 | mode, len, alignment, write)
    }

    /// Adds an entry of another archive as it is packed there; its data begins at a multiple of `alignment`.
    ///
    /// # Errors
    /// [`ZipError`]; an entry that needs a password is none that can be kept.
    pub fn keep(&mut self, from: &mut (impl Read + Seek), entry: &ZipEntry, alignment: u16) -> Result<(), ZipError> {
        let packed = &entry.packed;
        if packed.is_encrypted {
            return Err(ZipError::Unsupported("needs a password for it".to_owned()));
        }
        let mut written = Written {
            name: entry.name.clone(),
            method: packed.method.number(),
            mode: entry.unix_mode,
            crc32: packed.crc32,
            compressed_len: packed.compressed_len,
            len: packed.len,
            offset: self.at,
            padding: 0,
            is_large: packed.len >= LIMIT || packed.compressed_len >= LIMIT,
        };
        written.align(alignment);
        let offset = data_offset(from, packed)?;
        from.seek(SeekFrom::Start(offset))?;
        self.out.write_all(&local_header(&written))?;
        let copied = io::copy(&mut from.take(packed.compressed_len), &mut self.out)?;
        if copied < packed.compressed_len {
            return Err(ZipError::Truncated { what: "the data of an entry", offset });
        }
        self.at = written.data_at() + packed.compressed_len;
        self.entries.push(written);
        Ok(())
    }

    /// Adds a link.
    ///
    /// # Errors
    /// The system's.
    pub fn link(&mut self, name: &str, target: &str) -> io::Result<()> {
        let len = target.len() as u64;
        self.entry(name, Method::Stored, 0o120_777, len, 1, |out| out.write_all(target.as_bytes()))
    }

    /// Adds an empty folder.
    ///
    /// # Errors
    /// The system's.
    pub fn folder(&mut self, name: &str) -> io::Result<()> {
        self.entry(&format!("{name}/"), Method::Stored, 0o040_755, 0, 1, |_| Ok(()))
    }

    fn entry(
        &mut self,
        name: &str,
        method: Method,
        mode: u32,
        len: u64,
        alignment: u16,
        write: impl FnOnce(&mut dyn Write) -> io::Result<()>,
    ) -> io::Result<()> {
        if name.len() > usize::from(u16::MAX) {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "the name is longer than the format can hold"));
        }
        if !matches!(method, Method::Stored | Method::Deflate) {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "this method is not written"));
        }
        let mut entry = Written {
            name: name.as_bytes().to_vec(),
            method: method.number(),
            mode: Some(mode),
            crc32: 0,
            compressed_len: 0,
            len,
            offset: self.at,
            padding: 0,
            // Room for large sizes is made beforehand: the packed size is known only afterwards.
            is_large: len > LIMIT - LIMIT / 100,
        };
        entry.align(alignment);
        self.out.write_all(&local_header(&entry))?;
        let mut counted = CountingWriter { out: &mut self.out, len: 0 };
        let (crc32, written) = match method {
            Method::Deflate => {
                let encoder = flate2::write::DeflateEncoder::new(&mut counted, flate2::Compression::new(6));
                let mut summed = Summed { out: encoder, len: 0, crc: flate2::Crc::new() };
                write(&mut summed)?;
                let sums = (summed.crc.sum(), summed.len);
                summed.out.finish()?;
                sums
            }
            _ => {
                let mut summed = Summed { out: &mut counted, len: 0, crc: flate2::Crc::new() };
                write(&mut summed)?;
                (summed.crc.sum(), summed.len)
            }
        };
        entry.compressed_len = counted.len;
        if written != len {
            let what = format!("{written} bytes came for {name:?}, {len} were promised");
            return Err(io::Error::new(io::ErrorKind::InvalidInput, what));
        }
        entry.crc32 = crc32;
        let end = entry.data_at() + entry.compressed_len;
        self.out.seek(SeekFrom::Start(entry.offset))?;
        self.out.write_all(&local_header(&entry))?;
        self.out.seek(SeekFrom::Start(end))?;
        self.at = end;
        self.entries.push(entry);
        Ok(())
    }

    /// Writes the directory and returns what was written to.
    ///
    /// # Errors
    /// The system's.
    pub fn finish(mut self) -> io::Result<W> {
        let start = self.at;
        let mut directory = Vec::new();
        for entry in &self.entries {
            directory.extend(central_header(entry));
        }
        self.out.write_all(&directory)?;
        let (len, count) = (directory.len() as u64, self.entries.len() as u64);
        let needs_large = start > LIMIT || len > LIMIT || count > 0xffff;
        let mut end = Vec::new();
        if needs_large {
            let at = start + len;
            end.extend(b"PK\x06\x06");
            end.extend(44_u64.to_le_bytes());
            end.extend([45, 3, 45, 0]);
            end.extend([0; 8]);
            for value in [count, count, len, start] {
                end.extend(value.to_le_bytes());
            }
            end.extend(b"PK\x06\x07\0\0\0\0");
            end.extend(at.to_le_bytes());
            end.extend(1_u32.to_le_bytes());
        }
        end.extend(b"PK\x05\x06\0\0\0\0");
        let short = u16::try_from(count).unwrap_or(u16::MAX);
        end.extend(short.to_le_bytes());
        end.extend(short.to_le_bytes());
        end.extend(small(len).to_le_bytes());
        end.extend(small(start).to_le_bytes());
        end.extend([0, 0]);
        self.out.write_all(&end)?;
        self.out.flush()?;
        Ok(self.out)
    }
}

/// Adds those entries of an archive that are to stay, as they are packed there and in its order. `alignment` says of each
/// what its data begins at a multiple of, and of one that is not to stay nothing.
///
/// # Errors
/// [`ZipError`].
pub fn copy<W: Write + Seek>(
    from: &mut (impl Read + Seek),
    to: &mut ZipWriter<W>,
    mut alignment: impl FnMut(&ZipEntry) -> Option<u16>,
) -> Result<(), ZipError> {
    for entry in super::read(from)? {
        if let Some(alignment) = alignment(&entry) {
            to.keep(from, &entry, alignment)?;
        }
    }
    Ok(())
}

/// A number as the short fields hold it; what is too large stands elsewhere.
fn small(value: u64) -> u32 {
    u32::try_from(value).unwrap_or(u32::MAX)
}

/// What both headers begin with: needed version, flags, method, time, checksum.
fn common(entry: &Written) -> Vec<u8> {
    // Names are UTF-8 wherever they can be read as such.
    let names = if std::str::from_utf8(&entry.name).is_ok() { 8 } else { 0 };
    // APPNOTE.TXT, section 4.4.3: 4.5 for large sizes, 6.3 for what is newer than deflate.
    let version = match entry.method {
        0 | 8 if entry.is_large || entry.offset >= LIMIT => 45,
        0 | 8 => 20,
        _ => 63,
    };
    let mut out = vec![version, 0, 0, names];
    out.extend(entry.method.to_le_bytes());
    out.extend(TIME);
    out.extend(entry.crc32.to_le_bytes());
    out
}

/// A length of sixteen bits; a name or a field that is longer was refused before.
fn short(len: u64) -> [u8; 2] {
    u16::try_from(len).unwrap_or(u16::MAX).to_le_bytes()
}

fn local_header(entry: &Written) -> Vec<u8> {
    let mut out = b"PK\x03\x04".to_vec();
    out.extend(common(entry));
    let (compressed, len) = if entry.is_large { (LIMIT, LIMIT) } else { (entry.compressed_len, entry.len) };
    out.extend(small(compressed).to_le_bytes());
    out.extend(small(len).to_le_bytes());
    out.extend(short(entry.name.len() as u64));
    let large_len = if entry.is_large { LARGE_FIELD_LEN } else { 0 };
    out.extend(short(large_len + entry.padding));
    out.extend(&entry.name);
    if entry.is_large {
        out.extend([1, 0, 16, 0]);
        out.extend(entry.len.to_le_bytes());
        out.extend(entry.compressed_len.to_le_bytes());
    }
    if let Some(zeros) = entry.padding.checked_sub(MIN_PADDING) {
        out.extend(PADDING_FIELD.to_le_bytes());
        out.extend(short(entry.padding - 4));
        out.extend(PADDING_MARK.to_le_bytes());
        out.extend([0, 0]);
        out.extend(std::iter::repeat_n(0, usize::try_from(zeros).unwrap_or(0)));
    }
    out
}

fn central_header(entry: &Written) -> Vec<u8> {
    let mut extra = Vec::new();
    for value in [entry.len, entry.compressed_len, entry.offset] {
        if value >= LIMIT {
            extra.extend(value.to_le_bytes());
        }
    }
    if !extra.is_empty() {
        extra = [&[1, 0][..], &short(extra.len() as u64), &extra].concat();
    }
    // Made by version 2.0 of the format, on Unix where it has a mode of there.
    let system = if entry.mode.is_some() { 3 } else { 0 };
    let mut out = [&b"PK\x01\x02\x14"[..], &[system]].concat();
    out.extend(common(entry));
    out.extend(small(entry.compressed_len).to_le_bytes());
    out.extend(small(entry.len).to_le_bytes());
    out.extend(short(entry.name.len() as u64));
    out.extend(short(extra.len() as u64));
    out.extend([0; 6]);
    out.extend((entry.mode.unwrap_or(0) << 16).to_le_bytes());
    out.extend(small(entry.offset).to_le_bytes());
    out.extend(&entry.name);
    out.extend(extra);
    out
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use proptest::prelude::*;

    use super::*;

    type Archive = Cursor<Vec<u8>>;

    fn archive(fill: impl FnOnce(&mut ZipWriter<Archive>)) -> Archive {
        let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
        fill(&mut writer);
        writer.finish().unwrap()
    }

    fn add(writer: &mut ZipWriter<Archive>, name: &str, method: Method, bytes: &[u8]) {
        writer.file(name, method, 0o644, bytes.len() as u64, |out| out.write_all(bytes)).unwrap();
    }

    fn unpacked(archive: &mut Archive, name: &str) -> Vec<u8> {
        let entries = super::super::read(archive).unwrap();
        let entry = entries.iter().find(|entry| entry.name == name.as_bytes()).unwrap();
        let mut bytes = Vec::new();
        super::super::open(archive, &entry.packed).unwrap().read_to_end(&mut bytes).unwrap();
        bytes
    }

    fn letter() -> Archive {
        archive(|to| {
            add(to, "letter.txt", Method::Deflate, &b"a letter ".repeat(100));
            add(to, "lib/arm64-v8a/libpost.so", Method::Stored, &[7; 5000]);
            to.link("latest", "letter.txt").unwrap();
            to.folder("empty").unwrap();
        })
    }

    #[test]
    fn what_is_kept_is_kept_as_it_is_packed() {
        let mut from = letter();
        let mut to = ZipWriter::new(Cursor::new(Vec::new()));
        copy(&mut from, &mut to, |_| Some(1)).unwrap();
        // Nothing was left out and nothing is new: it is the same archive again.
        assert_eq!(to.finish().unwrap().into_inner(), from.into_inner());
    }

    #[test]
    fn an_archive_is_edited() {
        let mut from = letter();
        let before = super::super::read(&mut from).unwrap();
        let mut to = ZipWriter::new(Cursor::new(Vec::new()));
        let stays = |entry: &ZipEntry| (entry.name != b"letter.txt").then_some(16 * 1024);
        copy(&mut from, &mut to, stays).unwrap();
        to.aligned_file("sealed.txt", Method::Stored, 0o644, 5, 4, |out| out.write_all(b"wren\n")).unwrap();
        let mut to = to.finish().unwrap();
        let after = super::super::read(&mut to).unwrap();
        let names: Vec<String> = after.iter().map(|e| String::from_utf8_lossy(&e.name).into_owned()).collect();
        assert_eq!(names, ["lib/arm64-v8a/libpost.so", "latest", "empty/", "sealed.txt"]);
        assert_eq!(unpacked(&mut to, "lib/arm64-v8a/libpost.so"), [7; 5000]);
        assert_eq!(unpacked(&mut to, "sealed.txt"), b"wren\n");
        for (entry, alignment) in after.iter().zip([16 * 1024, 16 * 1024, 16 * 1024, 4]) {
            assert_eq!(data_offset(&mut to, &entry.packed).unwrap() % alignment, 0, "{entry:?}");
        }
        let mode = |entries: &[ZipEntry]| entries.iter().find(|e| e.name == b"latest").map(|e| e.unix_mode);
        assert_eq!(mode(&after), mode(&before));
    }

    #[test]
    fn a_name_in_another_encoding_stays() {
        let mut from = letter();
        let mut entry = super::super::read(&mut from).unwrap().remove(1);
        entry.name = b"caf\x82.so".to_vec();
        entry.unix_mode = None;
        let mut to = ZipWriter::new(Cursor::new(Vec::new()));
        to.keep(&mut from, &entry, 1).unwrap();
        let kept = super::super::read(&mut to.finish().unwrap()).unwrap().remove(0);
        assert_eq!((kept.name, kept.unix_mode), (entry.name, None));
    }

    #[test]
    fn what_cannot_be_kept() {
        let mut from = letter();
        let mut entry = super::super::read(&mut from).unwrap().remove(1);
        let mut keep = |entry: &ZipEntry| ZipWriter::new(Cursor::new(Vec::new())).keep(&mut from, entry, 1);
        entry.packed.compressed_len += 1_000_000;
        assert!(matches!(keep(&entry), Err(ZipError::Truncated { .. })));
        entry.packed.is_encrypted = true;
        assert!(matches!(keep(&entry), Err(ZipError::Unsupported(_))));
    }

    proptest! {
        #[test]
        fn data_begins_where_it_should(name in "[a-z]{1,40}", before in 0_usize..300, power in 0_u32..=15) {
            let alignment = 1_u16 << power;
            let mut archive = archive(|to| {
                add(to, "before", Method::Stored, &vec![1; before]);
                let write = |out: &mut dyn Write| out.write_all(b"post");
                to.aligned_file(&name, Method::Stored, 0o644, 4, alignment, write).unwrap();
            });
            let entries = super::super::read(&mut archive).unwrap();
            let at = data_offset(&mut archive, &entries[1].packed).unwrap();
            prop_assert_eq!(at % u64::from(alignment), 0);
            prop_assert_eq!(unpacked(&mut archive, &name), b"post");
            // The fields before it fill their space: every reader finds its way through them.
            let bytes = archive.into_inner();
            let mut extra = &bytes[entries[1].packed.header_offset as usize + 30 + name.len()..at as usize];
            while !extra.is_empty() {
                let len = usize::from(u16::from_le_bytes([extra[2], extra[3]]));
                extra = &extra[4 + len..];
            }
        }
    }
}
