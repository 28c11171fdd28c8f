//! Writes tape archives: the same entries give the same bytes, on any system and at any time.

use std::io::{self, Write};

use super::BLOCK;
use crate::counting_writer::CountingWriter;

/// Writes entries one after the other.
pub struct TarWriter<W> {
    out: W,
}

impl<W: Write> TarWriter<W> {
    /// Starts an archive.
    pub fn new(out: W) -> Self {
        Self { out }
    }

    /// Adds a file of `len` bytes, which `write` writes.
    ///
    /// # Errors
    /// The system's; [`io::ErrorKind::InvalidInput`] when another number of bytes was written.
    pub fn file(
        &mut self,
        name: &str,
        mode: u32,
        len: u64,
        write: impl FnOnce(&mut dyn Write) -> io::Result<()>,
    ) -> io::Result<()> {
        self.headers(name, b'0', mode, len, "")?;
        let mut counted = CountingWriter { out: &mut self.out, len: 0 };
        write(&mut counted)?;
        if counted.len != len {
            let what = format!("{} bytes came for {name:?}, {len} were promised", counted.len);
            return Err(io::Error::new(io::ErrorKind::InvalidInput, what));
        }
        self.pad(len)
    }

    /// Adds a link.
    ///
    /// # Errors
    /// The system's.
    pub fn link(&mut self, name: &str, target: &str) -> io::Result<()> {
        self.headers(name, b'2', 0o777, 0, target)
    }

    /// Adds an empty folder.
    ///
    /// # Errors
    /// The system's.
    pub fn folder(&mut self, name: &str) -> io::Result<()> {
        self.headers(&format!("{name}/"), b'5', 0o755, 0, "")
    }

    /// Ends the archive and returns what was written to.
    ///
    /// # Errors
    /// The system's.
    pub fn finish(mut self) -> io::Result<W> {
        self.out.write_all(&[0; 2 * BLOCK])?;
        self.out.flush()?;
        Ok(self.out)
    }

    fn pad(&mut self, len: u64) -> io::Result<()> {
        let rest = usize::try_from(len % BLOCK as u64).unwrap_or(0);
        if rest == 0 { Ok(()) } else { self.out.write_all(&vec![0; BLOCK - rest]) }
    }

    /// What does not fit a header goes into an extended one before it.
    fn headers(&mut self, name: &str, flag: u8, mode: u32, len: u64, link: &str) -> io::Result<()> {
        let mut records = String::new();
        if name.len() > 100 || !name.is_ascii() {
            records += &record("path", name);
        }
        if link.len() > 100 || !link.is_ascii() {
            records += &record("linkpath", link);
        }
        if len >= 1 << 33 {
            records += &record("size", &len.to_string());
        }
        if !records.is_empty() {
            let len = records.len() as u64;
            self.out.write_all(&header("extended", b'x', 0o644, len, ""))?;
            self.out.write_all(records.as_bytes())?;
            self.pad(len)?;
        }
        self.out.write_all(&header(name, flag, mode, if len >= 1 << 33 { 0 } else { len }, link))
    }
}

/// `LENGTH KEY=VALUE\n`, where the length counts its own digits.
fn record(key: &str, value: &str) -> String {
    let rest = key.len() + value.len() + 3;
    let mut len = rest + 1;
    while rest + len.to_string().len() != len {
        len += 1;
    }
    format!("{len} {key}={value}\n")
}

fn header(name: &str, flag: u8, mode: u32, len: u64, link: &str) -> [u8; BLOCK] {
    let mut header = [0; BLOCK];
    let mut put = |at: usize, bytes: &[u8], room: usize| {
        let len = bytes.len().min(room);
        header.iter_mut().skip(at).zip(bytes.iter().take(len)).for_each(|(to, from)| *to = *from);
    };
    put(0, name.as_bytes(), 100);
    put(100, format!("{mode:07o}").as_bytes(), 8);
    put(108, b"0000000", 8);
    put(116, b"0000000", 8);
    put(124, format!("{len:011o}").as_bytes(), 12);
    put(136, b"00000000000", 12);
    put(148, b"        ", 8);
    put(156, &[flag], 1);
    put(157, link.as_bytes(), 100);
    put(257, b"ustar\x0000", 8);
    let sum: u32 = header.iter().map(|b| u32::from(*b)).sum();
    header[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    header
}
