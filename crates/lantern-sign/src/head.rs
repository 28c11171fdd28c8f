//! The head of a Windows program, as those who change one read it: on its own, without the reader that verifies afterwards. Source:
//! Microsoft, "PE Format", "COFF File Header" to "Section Table" (<https://learn.microsoft.com/windows/win32/debug/pe-format>).

use std::io::{Read, Seek, SeekFrom};

use crate::SignError;
use crate::archive::AGAIN;

/// Longest head that is read: all before the first section. Ours: real ones have some kilobytes.
const MAX_LEN: u64 = 1024 * 1024;

pub(crate) fn refused(what: &str) -> SignError {
    SignError::refused(what, AGAIN)
}

/// Numbers within bytes, the lowest byte first; what lies beyond their end is refused with these words.
pub(crate) struct Fields<'a> {
    pub bytes: &'a [u8],
    pub beyond: &'static str,
}

impl Fields<'_> {
    fn array<const N: usize>(&self, at: usize) -> Result<[u8; N], SignError> {
        let bytes = self.bytes.get(at..).and_then(|rest| rest.first_chunk::<N>());
        bytes.copied().ok_or_else(|| refused(self.beyond))
    }

    pub(crate) fn word(&self, at: usize) -> Result<usize, SignError> {
        Ok(u16::from_le_bytes(self.array(at)?).into())
    }

    pub(crate) fn long(&self, at: usize) -> Result<u32, SignError> {
        Ok(u32::from_le_bytes(self.array(at)?))
    }
}

/// The head of a program.
pub(crate) struct Head {
    bytes: Vec<u8>,
    /// How long the whole file is.
    pub len: u64,
    /// Where the optional header begins, and the data directories.
    pub optional: usize,
    directories: usize,
}

impl Head {
    pub(crate) fn read(from: &mut (impl Read + Seek)) -> Result<Self, SignError> {
        let len = from.seek(SeekFrom::End(0))?;
        from.rewind()?;
        let mut head = Self { bytes: Vec::new(), len, optional: 0, directories: 0 };
        from.take(MAX_LEN).read_to_end(&mut head.bytes)?;
        let magic = head.fields().array(0)?;
        let file_header = head.fields().long(0x3c)? as usize;
        if &magic != b"MZ" || &head.fields().array(file_header)? != b"PE\0\0" {
            return Err(refused("it is no program for Windows"));
        }
        head.optional = file_header + 24;
        head.directories = head.optional
            + match head.fields().word(head.optional)? {
                0x10b => 96,
                0x20b => 112,
                _ => return Err(refused("it is neither a 32-bit nor a 64-bit program")),
            };
        Ok(head)
    }

    fn fields(&self) -> Fields<'_> {
        Fields { bytes: &self.bytes, beyond: "it is cut off within its head" }
    }

    fn optional_len(&self) -> Result<usize, SignError> {
        self.fields().word(self.optional - 4)
    }

    /// Where the entry of a data directory stands; none where the head has no place for it.
    pub(crate) fn directory_at(&self, number: usize) -> Result<Option<usize>, SignError> {
        let entry = self.directories + number * 8;
        let is_there = self.fields().long(self.directories - 4)? as usize > number
            && self.optional + self.optional_len()? >= entry + 8;
        Ok(is_there.then_some(entry))
    }

    /// What stands at a place.
    pub(crate) fn long(&self, at: usize) -> Result<u32, SignError> {
        self.fields().long(at)
    }

    /// Where the row of each section begins: 40 bytes.
    pub(crate) fn sections(&self) -> Result<Vec<usize>, SignError> {
        let table = self.optional + self.optional_len()?;
        let count = self.fields().word(self.optional - 18)?;
        Ok((0..count).map(|number| table + number * 40).collect())
    }
}
