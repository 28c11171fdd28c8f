//! ELF programs. Source: System V ABI, edition 4.1, chapters 4 and 5 (<https://gabi.xinuos.com>), and the processor supplements for `e_machine`.
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
mod file;

use std::io::{Read, Seek};

pub use details::{Details, SymbolVersion};
use file::File;

use crate::machine::{Kind, Machine};
use crate::offset_reader::FormatError;

/// Longest interpreter path that is read, in bytes. Ours: `PATH_MAX`.
const MAX_INTERPRETER_LEN: u64 = 4096;
const PT_INTERP: u32 = 3;
const DT_FLAGS_1: u64 = 0x6fff_fffb;
/// In `DT_FLAGS_1`: the object is a position-independent program. Source: glibc's `elf.h`, `DF_1_PIE`.
const DF_1_PIE: u64 = 0x0800_0000;

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

impl Elf {
    /// Reads the file header and the program headers; a few hundred bytes, wherever they lie.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn read(from: &mut (impl Read + Seek)) -> Result<Self, FormatError> {
        let mut headers = File::read(from)?;
        // Files of debug data alone keep the header, without the bytes.
        let named = headers.segments.iter().find(|s| s.kind == PT_INTERP && s.len > 0).map(|s| (s.offset, s.len));
        let interpreter = named.map(|(offset, len)| interpreter(&mut headers, offset, len)).transpose()?;
        let flags = headers.dynamic()?.into_iter().find(|(tag, _)| *tag == DT_FLAGS_1);
        // Position-independent programs and libraries share e_type 3. A program has an interpreter or, when it is
        // static, says so in its dynamic flags. Libraries may have an entry point: old linkers gave them one.
        let kind = match headers.e_type {
            2 => Kind::Program,
            3 if interpreter.is_some() || flags.is_some_and(|(_, flags)| flags & DF_1_PIE != 0) => Kind::Program,
            3 => Kind::Library,
            _ => Kind::Other,
        };
        let (is_64_bit, is_little_endian) = (headers.wide, headers.fields.little);
        Ok(Self { is_64_bit, is_little_endian, machine: headers.machine, kind, interpreter })
    }
}

fn interpreter<R: Read + Seek>(file: &mut File<'_, R>, offset: u64, len: u64) -> Result<String, FormatError> {
    if len > MAX_INTERPRETER_LEN {
        return Err(FormatError::Value { what: "the length of PT_INTERP", value: len });
    }
    let bytes = file.fields.vec(offset, usize::try_from(len).unwrap_or(0), "PT_INTERP")?;
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
