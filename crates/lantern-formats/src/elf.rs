//! ELF programs. Source: System V ABI, chapters 4 and 5 (gABI 4.1), and the processor supplements for `e_machine`.
//!
//! | offset | size | field         | meaning                                                 |
//! |--------|------|---------------|---------------------------------------------------------|
//! | 0      | 4    | `EI_MAG`      | `7f 45 4c 46`                                           |
//! | 4      | 1    | `EI_CLASS`    | 1: 32-bit, 2: 64-bit                                    |
//! | 5      | 1    | `EI_DATA`     | 1: little-endian, 2: big-endian                         |
//! | 6      | 1    | `EI_VERSION`  | 1                                                       |
//! | 16     | 2    | `e_type`      | 2: program at a fixed address, 3: program or library    |
//! | 18     | 2    | `e_machine`   | 3: 386, 40: ARM, 62: x86-64, 183: AArch64               |
//! | 28, 32 | 4, 8 | `e_phoff`     | file offset of the program headers                      |
//! | 42, 54 | 2    | `e_phentsize` | size of one                                             |
//! | 44, 56 | 2    | `e_phnum`     | how many                                                |

mod details;

use std::io::{Read, Seek, SeekFrom};

pub use details::{Details, SymbolVersion};

use crate::fields::{Fields, FormatError};
use crate::program::{Kind, Machine};

/// Most program headers that are read. Ours: real programs have fewer than 20; bounds time on hostile input.
const MAX_PROGRAM_HEADERS: u16 = 256;
/// Longest interpreter path that is read, in bytes. Ours: `PATH_MAX`.
const MAX_INTERPRETER_LEN: u64 = 4096;
const PT_DYNAMIC: u32 = 2;
const PT_INTERP: u32 = 3;
const DT_NULL: u64 = 0;
const DT_FLAGS_1: u64 = 0x6fff_fffb;
/// In `DT_FLAGS_1`: the object is a position-independent program. Source: glibc's `elf.h`.
const DF_1_PIE: u64 = 0x0800_0000;
/// Most dynamic entries that are read. Ours: real programs have fewer than 100; bounds time on hostile input.
const MAX_DYNAMIC_ENTRIES: u64 = 4096;

/// What an ELF file says about itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Elf {
    /// Whether addresses have 64 bits.
    pub is_64_bit: bool,
    /// Whether numbers are stored little end first.
    pub is_little_endian: bool,
    /// The processor.
    pub machine: Machine,
    /// Program, library or something else.
    pub kind: Kind,
    /// The program that loads it, such as `/lib64/ld-linux-x86-64.so.2`; none for a static program.
    pub interpreter: Option<String>,
}

/// A field of 4 bytes in 32-bit files and 8 in 64-bit ones.
fn word<R: Read + Seek>(
    fields: &mut Fields<'_, R>,
    is_wide: bool,
    narrow: u64,
    wide: u64,
    what: &'static str,
) -> Result<u64, FormatError> {
    if is_wide { fields.u64(wide, what) } else { fields.u32(narrow, what).map(u64::from) }
}

impl Elf {
    /// Reads the file header and the program headers; a few hundred bytes, wherever they lie.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn read(from: &mut (impl Read + Seek)) -> Result<Self, FormatError> {
        let mut fields = Fields { from, little: true };
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
        let headers = ProgramHeaders::read(&mut fields, wide)?;
        // Position-independent programs and libraries share e_type 3. A program has an interpreter or, when it is
        // static, says so in its dynamic flags. Libraries may have an entry point: old linkers gave them one.
        let kind = match e_type {
            2 => Kind::Program,
            3 if headers.interpreter.is_some() || headers.says_program => Kind::Program,
            3 => Kind::Library,
            _ => Kind::Other,
        };
        Ok(Self { is_64_bit: wide, is_little_endian: fields.little, machine, kind, interpreter: headers.interpreter })
    }
}

struct ProgramHeaders {
    interpreter: Option<String>,
    says_program: bool,
}

impl ProgramHeaders {
    fn read<R: Read + Seek>(fields: &mut Fields<'_, R>, wide: bool) -> Result<Self, FormatError> {
        let e_phoff = word(fields, wide, 28, 32, "e_phoff")?;
        let (sizes_at, least) = if wide { (54, 56) } else { (42, 32) };
        let e_phentsize = fields.u16(sizes_at, "e_phentsize")?;
        let e_phnum = fields.u16(sizes_at + 2, "e_phnum")?;
        let mut out = Self { interpreter: None, says_program: false };
        if e_phnum == 0 {
            return Ok(out);
        }
        if e_phnum > MAX_PROGRAM_HEADERS {
            return Err(FormatError::Value { what: "e_phnum", value: u64::from(e_phnum) });
        }
        if e_phentsize < least {
            return Err(FormatError::Value { what: "e_phentsize", value: u64::from(e_phentsize) });
        }
        for i in 0..u64::from(e_phnum) {
            let beyond = FormatError::Truncated { what: "a program header", offset: e_phoff };
            let at = e_phoff.checked_add(i * u64::from(e_phentsize)).ok_or(beyond)?;
            match fields.u32(at, "p_type")? {
                PT_DYNAMIC => {
                    let p_offset = word(fields, wide, at + 4, at + 8, "p_offset")?;
                    let p_filesz = word(fields, wide, at + 16, at + 32, "p_filesz")?;
                    out.says_program = says_program(fields, wide, p_offset, p_filesz)?;
                }
                PT_INTERP if out.interpreter.is_none() => {
                    let p_offset = word(fields, wide, at + 4, at + 8, "p_offset")?;
                    let p_filesz = word(fields, wide, at + 16, at + 32, "p_filesz")?;
                    // Files of debug data alone keep the header, without the bytes.
                    if p_filesz > 0 {
                        out.interpreter = Some(interpreter(fields, p_offset, p_filesz)?);
                    }
                }
                _ => {}
            }
        }
        Ok(out)
    }
}

fn says_program<R: Read + Seek>(
    fields: &mut Fields<'_, R>,
    wide: bool,
    offset: u64,
    len: u64,
) -> Result<bool, FormatError> {
    let size = if wide { 16 } else { 8 };
    for i in 0..(len / size).min(MAX_DYNAMIC_ENTRIES) {
        let beyond = FormatError::Truncated { what: "PT_DYNAMIC", offset };
        let at = offset.checked_add(i * size).ok_or(beyond)?;
        match word(fields, wide, at, at, "d_tag")? {
            DT_NULL => break,
            DT_FLAGS_1 => return Ok(word(fields, wide, at + 4, at + 8, "d_val")? & DF_1_PIE != 0),
            _ => {}
        }
    }
    Ok(false)
}

fn interpreter<R: Read + Seek>(fields: &mut Fields<'_, R>, offset: u64, len: u64) -> Result<String, FormatError> {
    if len > MAX_INTERPRETER_LEN {
        return Err(FormatError::Value { what: "the length of PT_INTERP", value: len });
    }
    let truncated = || FormatError::Truncated { what: "PT_INTERP", offset };
    if i64::try_from(offset).is_err() {
        return Err(truncated());
    }
    fields.from.seek(SeekFrom::Start(offset)).map_err(FormatError::Io)?;
    let mut bytes = Vec::new();
    fields.from.take(len).read_to_end(&mut bytes).map_err(FormatError::Io)?;
    if (bytes.len() as u64) < len {
        return Err(truncated());
    }
    let text = bytes.split(|b| *b == 0).next().unwrap_or_default();
    Ok(String::from_utf8_lossy(text).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Cursor;

    /// A 64-bit header with one PT_INTERP header behind it.
    fn sample(e_type: u16, e_machine: u16) -> Vec<u8> {
        let mut file = b"\x7fELF\x02\x01\x01".to_vec();
        file.resize(16, 0);
        file.extend(e_type.to_le_bytes());
        file.extend(e_machine.to_le_bytes());
        file.extend(1_u32.to_le_bytes());
        file.extend(0x40_1000_u64.to_le_bytes());
        file.extend(64_u64.to_le_bytes());
        file.extend([0; 12]);
        file.extend([64, 0, 56, 0, 1, 0, 0, 0, 0, 0, 0, 0]);
        assert_eq!(file.len(), 64);
        file.extend(PT_INTERP.to_le_bytes());
        file.extend(0_u32.to_le_bytes());
        file.extend(120_u64.to_le_bytes());
        file.extend([0; 16]);
        file.extend(10_u64.to_le_bytes());
        file.extend([0; 16]);
        file.extend(b"/lib/ld.so");
        file
    }

    fn read(bytes: &[u8]) -> Result<Elf, FormatError> {
        Elf::read(&mut Cursor::new(bytes))
    }

    #[test]
    fn a_program_is_read() {
        let elf = read(&sample(3, 62)).unwrap();
        assert_eq!(elf.machine, Machine::X86_64);
        assert_eq!(elf.kind, Kind::Program);
        assert_eq!(elf.interpreter.as_deref(), Some("/lib/ld.so"));
        assert!(elf.is_64_bit && elf.is_little_endian);
        assert_eq!(read(&sample(2, 183)).unwrap().machine, Machine::Aarch64);
        assert_eq!(read(&sample(1, 62)).unwrap().kind, Kind::Other);
    }

    #[test]
    fn broken_files_are_errors() {
        assert!(matches!(read(b""), Err(FormatError::Not { .. })));
        assert!(matches!(read(b"MZ.........."), Err(FormatError::Not { .. })));
        let with = |at: usize, value: u8| {
            let mut file = sample(3, 62);
            file[at] = value;
            read(&file)
        };
        assert!(matches!(with(4, 9), Err(FormatError::Value { what: "EI_CLASS", .. })));
        assert!(matches!(with(5, 0), Err(FormatError::Value { what: "EI_DATA", .. })));
        assert!(matches!(with(57, 0xff), Err(FormatError::Value { what: "e_phnum", .. })));
        assert!(matches!(with(54, 8), Err(FormatError::Value { what: "e_phentsize", .. })));
        assert!(matches!(with(39, 0xff), Err(FormatError::Truncated { .. })));
        assert!(matches!(with(64 + 39, 0xff), Err(FormatError::Value { .. })));
    }

    #[test]
    fn a_file_of_debug_data_alone_names_no_interpreter() {
        let mut file = sample(3, 62);
        file[64 + 32] = 0;
        let elf = read(&file).unwrap();
        assert_eq!((elf.interpreter, elf.kind), (None, Kind::Library));
    }

    #[test]
    fn every_truncation_is_an_error() {
        let whole = sample(3, 62);
        for len in 0..whole.len() {
            assert!(read(&whole[..len]).is_err(), "{len}");
        }
    }

    #[test]
    fn this_very_test_is_read() {
        if cfg!(target_os = "linux") {
            let mut file = std::fs::File::open(std::env::current_exe().unwrap()).unwrap();
            let elf = Elf::read(&mut file).unwrap();
            assert_eq!(elf.kind, Kind::Program);
            assert!(elf.interpreter.is_some());
        }
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(bytes in prop::collection::vec(any::<u8>(), 0..200), at in 0_usize..130, value: u8) {
            let _ = read(&bytes);
            let mut real = sample(3, 62);
            real[at] = value;
            let _ = read(&real);
        }
    }
}
