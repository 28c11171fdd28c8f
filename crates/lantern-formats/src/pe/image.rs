//! Addresses of a PE file, and where they lie.

use std::io::{Read, Seek};

use crate::offset_reader::{FormatError, OffsetReader};

/// Most libraries that are read. Ours: real programs name fewer than 200; bounds time on hostile input.
const MAX_LIBRARIES: u64 = 4096;
/// Longest library name and symbol path that is read, in bytes. Ours.
pub(super) const MAX_NAME_LEN: usize = 1024;

/// Where a part of the program's memory lies in the file.
#[derive(Debug, Clone, Copy)]
pub(super) struct Section {
    pub address: u32,
    pub size: u32,
    pub offset: u32,
    pub stored: u32,
}

/// Addresses of a PE file and where they lie.
pub(super) struct Image<'a, R> {
    pub fields: OffsetReader<'a, R>,
    pub sections: Vec<Section>,
    pub directories: Vec<(u32, u32)>,
}

impl<R: Read + Seek> Image<'_, R> {
    /// Turns an address within the program into an offset in the file.
    pub(super) fn offset(&self, address: u32) -> Option<u64> {
        let section = self.sections.iter().find(|s| {
            let within = address.checked_sub(s.address);
            within.is_some_and(|within| within < s.size.max(s.stored) && within < s.stored)
        })?;
        Some(u64::from(section.offset) + u64::from(address - section.address))
    }

    pub(super) fn directory(&self, index: usize) -> Option<(u32, u32)> {
        self.directories.get(index).copied().filter(|(address, size)| *address != 0 && *size != 0)
    }

    pub(super) fn place(&self, address: u32, what: &'static str) -> Result<u64, FormatError> {
        self.offset(address).ok_or(FormatError::Value { what, value: u64::from(address) })
    }

    /// Names of libraries from a table whose entries have `size` bytes and the name's address at `name_at`.
    pub(super) fn libraries(&mut self, directory: usize, size: u64, name_at: u64) -> Result<Vec<String>, FormatError> {
        let Some((address, _)) = self.directory(directory) else { return Ok(Vec::new()) };
        let table = self.place(address, "the address of the import table")?;
        let mut out = Vec::new();
        for i in 0..MAX_LIBRARIES {
            let name = self.fields.u32(table + i * size + name_at, "an import")?;
            if name == 0 {
                return Ok(out);
            }
            let at = self.place(name, "the address of a library's name")?;
            out.push(self.fields.text(at, MAX_NAME_LEN, "a library's name")?);
        }
        Err(FormatError::Value { what: "the number of libraries", value: MAX_LIBRARIES })
    }
}
