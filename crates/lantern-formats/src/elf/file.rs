//! An ELF file's headers: what both the summary and the details are read from.

use std::io::{Read, Seek};

use crate::machine::Machine;
use crate::offset_reader::{FormatError, OffsetReader};

/// Most program headers that are read. Ours: real programs have fewer than 20; bounds time on hostile input.
const MAX_PROGRAM_HEADERS: u16 = 256;
/// Most dynamic entries that are read. Ours: real programs have fewer than 100; bounds time on hostile input.
const MAX_DYNAMIC_ENTRIES: u64 = 4096;
pub(super) const PT_LOAD: u32 = 1;
const PT_DYNAMIC: u32 = 2;
const DT_NULL: u64 = 0;

/// A part of the file, as a program header states it.
pub(super) struct Segment {
    pub kind: u32,
    pub offset: u64,
    pub address: u64,
    pub len: u64,
    pub align: u64,
}

pub(super) struct File<'a, R> {
    pub fields: OffsetReader<'a, R>,
    /// Whether addresses have 64 bits.
    pub wide: bool,
    pub e_type: u16,
    pub machine: Machine,
    pub segments: Vec<Segment>,
}

impl<'a, R: Read + Seek> File<'a, R> {
    /// Reads the file header and the program headers; a few hundred bytes, wherever they lie.
    pub(super) fn read(from: &'a mut R) -> Result<Self, FormatError> {
        let mut fields = OffsetReader { from, little: true };
        if !fields.starts_with(*b"\x7fELF")? {
            return Err(FormatError::Not { format: "an ELF file" });
        }
        let ident: [u8; 8] = fields.bytes(0, "the identification")?;
        let value = |what, value: u8| FormatError::Value { what, value: u64::from(value) };
        let wide = match ident[4] {
            1 => false,
            2 => true,
            other => return Err(value("EI_CLASS", other)),
        };
        fields.little = match ident[5] {
            1 => true,
            2 => false,
            other => return Err(value("EI_DATA", other)),
        };
        if ident[6] != 1 {
            return Err(value("EI_VERSION", ident[6]));
        }
        let e_type = fields.u16(16, "e_type")?;
        let machine = match fields.u16(18, "e_machine")? {
            3 => Machine::X86,
            40 => Machine::Arm,
            62 => Machine::X86_64,
            183 => Machine::Aarch64,
            other => Machine::Other(other),
        };
        let mut file = Self { fields, wide, e_type, machine, segments: Vec::new() };
        file.read_segments()?;
        Ok(file)
    }

    /// A field of 4 bytes in 32-bit files and 8 in 64-bit ones.
    pub(super) fn word(&mut self, narrow: u64, wide: u64, what: &'static str) -> Result<u64, FormatError> {
        if self.wide { self.fields.u64(wide, what) } else { self.fields.u32(narrow, what).map(u64::from) }
    }

    fn read_segments(&mut self) -> Result<(), FormatError> {
        let e_phoff = self.word(28, 32, "e_phoff")?;
        let (sizes_at, least) = if self.wide { (54, 56) } else { (42, 32) };
        let e_phentsize = self.fields.u16(sizes_at, "e_phentsize")?;
        let e_phnum = self.fields.u16(sizes_at + 2, "e_phnum")?;
        if e_phnum == 0 {
            return Ok(());
        }
        if e_phnum > MAX_PROGRAM_HEADERS {
            return Err(FormatError::Value { what: "e_phnum", value: u64::from(e_phnum) });
        }
        if e_phentsize < least {
            return Err(FormatError::Value { what: "e_phentsize", value: u64::from(e_phentsize) });
        }
        for i in 0..u64::from(e_phnum) {
            let at = e_phoff.saturating_add(i * u64::from(e_phentsize));
            let by = |by: u64| at.saturating_add(by);
            let kind = self.fields.u32(at, "p_type")?;
            let offset = self.word(by(4), by(8), "p_offset")?;
            let address = self.word(by(8), by(16), "p_vaddr")?;
            let len = self.word(by(16), by(32), "p_filesz")?;
            let align = self.word(by(28), by(48), "p_align")?;
            self.segments.push(Segment { kind, offset, address, len, align });
        }
        Ok(())
    }

    /// Turns an address within the program into an offset in the file.
    pub(super) fn offset(&self, address: u64) -> Option<u64> {
        let within = |s: &&Segment| s.kind == PT_LOAD && address.checked_sub(s.address).is_some_and(|by| by < s.len);
        let segment = self.segments.iter().find(within)?;
        segment.offset.checked_add(address - segment.address)
    }

    /// Reads what the linker says to the loader: tags with their values.
    pub(super) fn dynamic(&mut self) -> Result<Vec<(u64, u64)>, FormatError> {
        let Some(segment) = self.segments.iter().find(|s| s.kind == PT_DYNAMIC) else { return Ok(Vec::new()) };
        let (offset, len, size) = (segment.offset, segment.len, if self.wide { 16 } else { 8 });
        let mut out = Vec::new();
        for i in 0..(len / size).min(MAX_DYNAMIC_ENTRIES) {
            let at = offset.saturating_add(i * size);
            let tag = self.word(at, at, "d_tag")?;
            if tag == DT_NULL {
                break;
            }
            out.push((tag, self.word(at.saturating_add(4), at.saturating_add(8), "d_val")?));
        }
        Ok(out)
    }
}
