//! Numbers of either byte order from `Read + Seek`, wherever they lie; what all readers of program headers share.

use std::io::{self, Read, Seek, SeekFrom};

/// Why a file could not be read as the format that it was taken for.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum FormatError {
    /// Does not start as files of this format do.
    #[error("not {format}")]
    Not {
        /// Such as "an ELF file".
        format: &'static str,
    },
    /// Ends too early, or points beyond its end.
    #[error("the file is cut off: {what} at byte {offset} lies beyond its end")]
    Truncated {
        /// What was being read.
        what: &'static str,
        /// Where.
        offset: u64,
    },
    /// A value that must not stand there.
    #[error("the file is broken: {what} is {value}")]
    Value {
        /// The field.
        what: &'static str,
        /// What stands there.
        value: u64,
    },
    /// The file could not be read.
    #[error("reading the file")]
    Io(#[source] io::Error),
}

/// Reads fields at offsets from the file's start.
pub(crate) struct OffsetReader<'a, R> {
    pub from: &'a mut R,
    pub little: bool,
}

impl<R: Read + Seek> OffsetReader<'_, R> {
    fn go_to(&mut self, offset: u64, what: &'static str) -> Result<(), FormatError> {
        // Some systems cannot seek beyond the largest signed number.
        if i64::try_from(offset).is_err() {
            return Err(FormatError::Truncated { what, offset });
        }
        self.from.seek(SeekFrom::Start(offset)).map(|_| ()).map_err(FormatError::Io)
    }

    pub(crate) fn bytes<const N: usize>(&mut self, offset: u64, what: &'static str) -> Result<[u8; N], FormatError> {
        let mut bytes = [0; N];
        self.go_to(offset, what)?;
        match self.from.read_exact(&mut bytes) {
            Ok(()) => Ok(bytes),
            Err(e) if e.kind() == io::ErrorKind::UnexpectedEof => Err(FormatError::Truncated { what, offset }),
            Err(e) => Err(FormatError::Io(e)),
        }
    }

    /// Reads `len` bytes; the caller bounds `len`.
    pub(crate) fn vec(&mut self, offset: u64, len: usize, what: &'static str) -> Result<Vec<u8>, FormatError> {
        let bytes = self.up_to(offset, len, what)?;
        if bytes.len() == len { Ok(bytes) } else { Err(FormatError::Truncated { what, offset }) }
    }

    /// Reads `len` bytes, or fewer where the file ends; the caller bounds `len`.
    pub(crate) fn up_to(&mut self, offset: u64, len: usize, what: &'static str) -> Result<Vec<u8>, FormatError> {
        self.go_to(offset, what)?;
        let mut bytes = Vec::new();
        (&mut *self.from).take(len as u64).read_to_end(&mut bytes).map_err(FormatError::Io)?;
        Ok(bytes)
    }

    /// Reads a text that ends with a zero byte, of at most `max` bytes.
    pub(crate) fn text(&mut self, offset: u64, max: usize, what: &'static str) -> Result<String, FormatError> {
        let bytes = self.up_to(offset, max, what)?;
        let end = bytes.iter().position(|b| *b == 0);
        match end.and_then(|end| bytes.get(..end)) {
            Some(text) => Ok(String::from_utf8_lossy(text).into_owned()),
            None => Err(FormatError::Truncated { what, offset }),
        }
    }

    /// Whether the file starts with these bytes; one that is shorter does not.
    pub(crate) fn starts_with<const N: usize>(&mut self, magic: [u8; N]) -> Result<bool, FormatError> {
        match self.bytes::<N>(0, "the magic") {
            Ok(first) => Ok(first == magic),
            Err(FormatError::Truncated { .. }) => Ok(false),
            Err(error) => Err(error),
        }
    }

    pub(crate) fn u16(&mut self, offset: u64, what: &'static str) -> Result<u16, FormatError> {
        let bytes = self.bytes(offset, what)?;
        Ok(if self.little { u16::from_le_bytes(bytes) } else { u16::from_be_bytes(bytes) })
    }

    pub(crate) fn u32(&mut self, offset: u64, what: &'static str) -> Result<u32, FormatError> {
        let bytes = self.bytes(offset, what)?;
        Ok(if self.little { u32::from_le_bytes(bytes) } else { u32::from_be_bytes(bytes) })
    }

    pub(crate) fn u64(&mut self, offset: u64, what: &'static str) -> Result<u64, FormatError> {
        let bytes = self.bytes(offset, what)?;
        Ok(if self.little { u64::from_le_bytes(bytes) } else { u64::from_be_bytes(bytes) })
    }
}
