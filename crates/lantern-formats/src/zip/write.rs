//! Writes ZIP archives: the same entries give the same bytes, on any system and at any time.

use std::io::{self, Seek, SeekFrom, Write};

use super::Method;
use crate::counting_writer::CountingWriter;

/// 1980-01-01, midnight: the first time that the format can write.
const TIME: [u8; 4] = [0, 0, 0x21, 0];
const LIMIT: u64 = 0xffff_ffff;

struct Written {
    name: String,
    method: u16,
    mode: u32,
    crc32: u32,
    compressed_len: u64,
    len: u64,
    offset: u64,
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
        self.crc.update(&bytes[..len]);
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
        self.entry(name, method, 0o100_000 | mode, len, write)
    }

    /// Adds a link.
    ///
    /// # Errors
    /// The system's.
    pub fn link(&mut self, name: &str, target: &str) -> io::Result<()> {
        let len = target.len() as u64;
        self.entry(name, Method::Stored, 0o120_777, len, |out| out.write_all(target.as_bytes()))
    }

    /// Adds an empty folder.
    ///
    /// # Errors
    /// The system's.
    pub fn folder(&mut self, name: &str) -> io::Result<()> {
        self.entry(&format!("{name}/"), Method::Stored, 0o040_755, 0, |_| Ok(()))
    }

    fn entry(
        &mut self,
        name: &str,
        method: Method,
        mode: u32,
        len: u64,
        write: impl FnOnce(&mut dyn Write) -> io::Result<()>,
    ) -> io::Result<()> {
        let number: u16 = match method {
            Method::Stored => 0,
            Method::Deflate => 8,
            _ => return Err(io::Error::new(io::ErrorKind::InvalidInput, "this method is not written")),
        };
        // Room for large sizes is made beforehand: the packed size is known only afterwards.
        let is_large = len > LIMIT - LIMIT / 100;
        let mut entry =
            Written { name: name.to_owned(), method: number, mode, crc32: 0, compressed_len: 0, len, offset: self.at };
        self.out.write_all(&local_header(&entry, is_large))?;
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
        let header = local_header(&entry, is_large);
        let end = entry.offset + header.len() as u64 + entry.compressed_len;
        self.out.seek(SeekFrom::Start(entry.offset))?;
        self.out.write_all(&header)?;
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

/// A number as the short fields hold it; what is too large stands elsewhere.
fn small(value: u64) -> u32 {
    u32::try_from(value).unwrap_or(u32::MAX)
}

/// What both headers begin with: needed version, flags (names are UTF-8), method, time, checksum.
fn common(entry: &Written) -> Vec<u8> {
    let mut out = vec![20, 0, 0, 8];
    out.extend(entry.method.to_le_bytes());
    out.extend(TIME);
    out.extend(entry.crc32.to_le_bytes());
    out
}

fn name_len(entry: &Written) -> [u8; 2] {
    u16::try_from(entry.name.len()).unwrap_or(u16::MAX).to_le_bytes()
}

fn local_header(entry: &Written, is_large: bool) -> Vec<u8> {
    let mut out = b"PK\x03\x04".to_vec();
    out.extend(common(entry));
    let (compressed, len) = if is_large { (LIMIT, LIMIT) } else { (entry.compressed_len, entry.len) };
    out.extend(small(compressed).to_le_bytes());
    out.extend(small(len).to_le_bytes());
    out.extend(name_len(entry));
    out.extend(if is_large { [20, 0] } else { [0, 0] });
    out.extend(entry.name.as_bytes());
    if is_large {
        out.extend([1, 0, 16, 0]);
        out.extend(entry.len.to_le_bytes());
        out.extend(entry.compressed_len.to_le_bytes());
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
        let len = u16::try_from(extra.len()).unwrap_or(0);
        extra = [&[1, 0][..], &len.to_le_bytes(), &extra].concat();
    }
    let mut out = b"PK\x01\x02\x14\x03".to_vec();
    out.extend(common(entry));
    out.extend(small(entry.compressed_len).to_le_bytes());
    out.extend(small(entry.len).to_le_bytes());
    out.extend(name_len(entry));
    out.extend(u16::try_from(extra.len()).unwrap_or(0).to_le_bytes());
    out.extend([0; 6]);
    out.extend((entry.mode << 16).to_le_bytes());
    out.extend(small(entry.offset).to_le_bytes());
    out.extend(entry.name.as_bytes());
    out.extend(extra);
    out
}
