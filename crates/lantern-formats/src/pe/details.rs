//! What a PE file says beyond its header: libraries, version, icons, symbols, where its signature lies.
//!
//! Source: Microsoft, "PE Format" (<https://learn.microsoft.com/windows/win32/debug/pe-format>), "Optional Header", "Section Table", ".idata", ".rsrc", ".debug"; the version
//! resource after "`VS_VERSIONINFO` structure" (<https://learn.microsoft.com/windows/win32/menurc/vs-versioninfo>), the icon group after "`GRPICONDIR`" in the resource file format.
//!
//! | offset in the optional header | field | meaning |
//! |---|---|---|
//! | 0 | `Magic` | 0x10b: 32-bit, 0x20b: 64-bit |
//! | 68 | `Subsystem` | 2: windows, 3: console |
//! | 92, 108 | `NumberOfRvaAndSizes` | data directories that follow, 8 bytes each |

use std::io::{Read, Seek};

use super::Pe;
use super::image::{Image, MAX_NAME_LEN, Section};
use super::resources::{self, VersionInfo};
use crate::offset_reader::{FormatError, OffsetReader};

/// Most sections that are read. Source: "PE Format", "COFF File Header", `NumberOfSections`: the limit of
/// the Windows loader.
const MAX_SECTIONS: u16 = 96;
/// Most entries of the debug directory that are read. Ours: real programs have fewer than 10.
const MAX_DEBUG_ENTRIES: u32 = 64;

const IMPORT: usize = 1;
const RESOURCE: usize = 2;
const SECURITY: usize = 4;
const DEBUG: usize = 6;
const DELAY_IMPORT: usize = 13;
const CLR: usize = 14;
const IMAGE_DEBUG_TYPE_CODEVIEW: u32 = 2;

/// How a program meets its user.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Subsystem {
    /// In windows of its own.
    Windows,
    /// In a console window, which opens with it.
    Console,
    /// Otherwise, by its number.
    Other(u16),
}

/// The file of debug data that belongs to a program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Symbols {
    /// Equal in both files; 16 bytes as they stand there.
    pub id: [u8; 16],
    /// Counts how often the linker wrote it.
    pub age: u32,
    /// Where it lay on the computer that built the program.
    pub path: String,
}

/// What a PE file says beyond its header.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Details {
    /// How it meets its user.
    pub subsystem: Subsystem,
    /// Libraries that must be there when it starts.
    pub libraries: Vec<String>,
    /// Libraries that it asks for when it first needs them.
    pub delayed_libraries: Vec<String>,
    /// Its version resource.
    pub version: Option<VersionInfo>,
    /// The widths of its icon, in pixels, in rising order.
    pub icon_sizes: Vec<u16>,
    /// The debug data that belongs to it.
    pub symbols: Option<Symbols>,
    /// Whether it holds code for the .NET runtime.
    pub is_managed: bool,
    /// Where its certificate table lies, as file offset and length.
    pub signature: Option<(u64, u64)>,
    /// Where the last of its sections ends in the file: what lies behind, before the signature, was appended to it.
    pub sections_end: u64,
    /// Where the checksum and the entry of that table lie: no signature covers them.
    pub(crate) unsigned_at: (u64, u64),
}

impl<R: Read + Seek> Image<'_, R> {
    fn symbols(&mut self) -> Result<Option<Symbols>, FormatError> {
        let Some((address, size)) = self.directory(DEBUG) else { return Ok(None) };
        // Some linkers leave the directory behind without its bytes.
        let Some(table) = self.offset(address) else { return Ok(None) };
        for i in 0..(size / 28).min(MAX_DEBUG_ENTRIES) {
            let at = table + u64::from(i) * 28;
            if self.fields.u32(at + 12, "a debug entry")? != IMAGE_DEBUG_TYPE_CODEVIEW {
                continue;
            }
            let data = u64::from(self.fields.u32(at + 24, "a debug entry")?);
            // Older forms than `RSDS` belong to linkers of the last century.
            if self.fields.bytes::<4>(data, "the debug data's name")? == *b"RSDS" {
                let id = self.fields.bytes(data + 4, "the debug data's id")?;
                let age = self.fields.u32(data + 20, "the debug data's age")?;
                let path = self.fields.text(data + 24, MAX_NAME_LEN, "the debug data's path")?;
                return Ok(Some(Symbols { id, age, path }));
            }
        }
        Ok(None)
    }
}

impl Details {
    /// Reads them.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn read(from: &mut (impl Read + Seek)) -> Result<Self, FormatError> {
        Pe::read(from)?;
        let mut fields = OffsetReader { from, little: true };
        let header = u64::from(fields.u32(0x3c, "e_lfanew")?) + 4;
        let section_count = fields.u16(header + 2, "NumberOfSections")?;
        if section_count > MAX_SECTIONS {
            return Err(FormatError::Value { what: "NumberOfSections", value: section_count.into() });
        }
        let optional_len = u64::from(fields.u16(header + 16, "SizeOfOptionalHeader")?);
        let optional = header + 20;
        let counted_at = match fields.u16(optional, "Magic")? {
            0x10b => 92,
            0x20b => 108,
            other => return Err(FormatError::Value { what: "Magic", value: other.into() }),
        };
        let subsystem = match fields.u16(optional + 68, "Subsystem")? {
            2 => Subsystem::Windows,
            3 => Subsystem::Console,
            other => Subsystem::Other(other),
        };
        let declared = fields.u32(optional + counted_at, "NumberOfRvaAndSizes")?;
        let possible = optional_len.saturating_sub(counted_at + 4) / 8;
        let mut directories = Vec::new();
        for i in 0..u64::from(declared).min(possible).min(16) {
            let at = optional + counted_at + 4 + i * 8;
            directories.push((fields.u32(at, "a data directory")?, fields.u32(at + 4, "a data directory")?));
        }
        let mut sections = Vec::new();
        for i in 0..u64::from(section_count) {
            let at = optional + optional_len + i * 40;
            let mut value = |by: u64| fields.u32(at + by, "a section");
            sections.push(Section { size: value(8)?, address: value(12)?, stored: value(16)?, offset: value(20)? });
        }
        let sections_end = sections.iter().map(|s| u64::from(s.offset) + u64::from(s.stored)).max().unwrap_or(0);
        let mut image = Image { fields, sections, directories };
        let (mut version, mut icon_sizes) = (None, Vec::new());
        if let Some((address, _)) = image.directory(RESOURCE)
            && let Some(root) = image.offset(address)
        {
            (version, icon_sizes) = resources::read(&mut image, root)?;
        }
        // This directory alone holds an offset in the file in the place of an address.
        let signature = image.directory(SECURITY).map(|(offset, len)| (u64::from(offset), u64::from(len)));
        Ok(Self {
            subsystem,
            libraries: image.libraries(IMPORT, 20, 12)?,
            delayed_libraries: image.libraries(DELAY_IMPORT, 32, 4)?,
            version,
            icon_sizes,
            symbols: image.symbols()?,
            is_managed: image.directory(CLR).is_some(),
            signature,
            sections_end,
            unsigned_at: (optional + 64, optional + counted_at + 4 + SECURITY as u64 * 8),
        })
    }

    /// Whether it was linked with the libraries that only a developer's computer has: those of debug builds.
    pub fn debug_runtime(&self) -> Option<&str> {
        self.libraries.iter().map(String::as_str).find(|name| is_debug_runtime(name))
    }
}

/// The C and C++ runtime for debug builds, which may not be given to others and is on no player's computer.
fn is_debug_runtime(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    let Some(stem) = lower.strip_suffix("d.dll") else { return false };
    let is_numbered = |prefix: &str| {
        stem.strip_prefix(prefix).is_some_and(|rest| {
            rest.starts_with(|c: char| c.is_ascii_digit()) && rest.chars().all(|c| c.is_ascii_digit() || c == '_')
        })
    };
    stem == "ucrtbase" || ["msvcr", "msvcp", "vcruntime", "concrt", "mfc", "vccorlib"].iter().any(|p| is_numbered(p))
}
