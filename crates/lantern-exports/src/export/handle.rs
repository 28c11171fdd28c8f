//! Files that are opened once and read by several, each from a place of its own.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;

use super::ReadSeek;

/// A file, or a part of one, with a place to read at.
#[derive(Debug, Clone)]
pub struct Shared {
    file: Arc<File>,
    start: u64,
    len: u64,
    at: u64,
}

#[cfg(unix)]
fn read_at(file: &File, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
    std::os::unix::fs::FileExt::read_at(file, buffer, offset)
}

/// Windows: it moves the file's own place as well, at which nobody reads.
#[cfg(windows)]
fn read_at(file: &File, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
    std::os::windows::fs::FileExt::seek_read(file, buffer, offset)
}

impl Shared {
    /// The whole of a file, from its start.
    pub(super) fn whole(file: File) -> io::Result<Self> {
        let len = file.metadata()?.len();
        Ok(Self { file: Arc::new(file), start: 0, len, at: 0 })
    }

    /// What is read, unpacked to a file that goes with the last who reads it.
    pub(super) fn unpacked(from: &mut dyn Read) -> io::Result<Self> {
        let mut file = tempfile::tempfile()?;
        io::copy(from, &mut file)?;
        Self::whole(file)
    }

    /// A part of it, from its start.
    pub(super) fn part(&self, start: u64, len: u64) -> Self {
        Self { file: self.file.clone(), start: self.start.saturating_add(start), len, at: 0 }
    }

    /// The same, from its start.
    pub(super) fn again(&self) -> Self {
        Self { at: 0, ..self.clone() }
    }

    /// Bytes of it.
    pub(crate) fn len(&self) -> u64 {
        self.len
    }
}

impl Read for Shared {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let left = usize::try_from(self.len.saturating_sub(self.at)).unwrap_or(usize::MAX);
        let wanted = buffer.len().min(left);
        let offset = self.start.checked_add(self.at).ok_or(io::ErrorKind::UnexpectedEof)?;
        let len = read_at(&self.file, &mut buffer[..wanted], offset)?;
        self.at += len as u64;
        Ok(len)
    }
}

impl Seek for Shared {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let to = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
            SeekFrom::End(by) => self.len.checked_add_signed(by),
        };
        self.at = to.filter(|at| self.start.checked_add(*at).is_some()).ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

/// An entry that was opened: what lies there as it is can be read at any place, what is packed only on and on.
pub(crate) enum Opened {
    /// At any place.
    Anywhere(Box<dyn ReadSeek>),
    /// On and on.
    Stream(Box<dyn Read + Send>),
}

impl Opened {
    /// Makes it one that can be read at any place. What is packed is unpacked to a file for that; `read` is what was read of it
    /// so far.
    pub(crate) fn anywhere(self, read: &[u8]) -> io::Result<Box<dyn ReadSeek>> {
        match self {
            Self::Anywhere(file) => Ok(file),
            Self::Stream(mut rest) => Ok(Box::new(Shared::unpacked(&mut read.chain(&mut rest))?)),
        }
    }
}

impl Read for Opened {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::Anywhere(file) => file.read(buffer),
            Self::Stream(file) => file.read(buffer),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    fn file(bytes: &[u8]) -> Shared {
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(bytes).unwrap();
        Shared::whole(file).unwrap()
    }

    #[test]
    fn each_reads_from_a_place_of_its_own() {
        let whole = file(b"saltmarsh post");
        let mut part = whole.part(4, 5);
        let (mut one, mut text) = (whole.again(), String::new());
        one.seek(SeekFrom::End(-4)).unwrap();
        part.read_to_string(&mut text).unwrap();
        assert_eq!(text, "marsh");
        text.clear();
        one.read_to_string(&mut text).unwrap();
        assert_eq!(text, "post");
        assert!(part.seek(SeekFrom::Current(-6)).is_err());
        part.seek(SeekFrom::Start(9)).unwrap();
        assert_eq!(part.read(&mut [0; 4]).unwrap(), 0, "behind its end");
    }

    #[test]
    fn what_is_packed_is_read_on_where_it_was() {
        let mut opened = Opened::Stream(Box::new(io::Cursor::new(b"a letter".to_vec())));
        let mut head = [0; 2];
        opened.read_exact(&mut head).unwrap();
        let mut file = opened.anywhere(&head).unwrap();
        let mut text = String::new();
        file.read_to_string(&mut text).unwrap();
        assert_eq!(text, "a letter");
    }
}
