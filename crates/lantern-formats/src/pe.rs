//! PE programs. Source: Microsoft, "PE Format", "MS-DOS Stub", "COFF File Header (Object and Image)"
//! (<https://learn.microsoft.com/windows/win32/debug/pe-format>).
//!
//! | offset        | size | field             | meaning                                             |
//! |---------------|------|-------------------|-----------------------------------------------------|
//! | 0             | 2    | `e_magic`         | `MZ`                                                |
//! | 0x3c          | 4    | `e_lfanew`        | file offset of the signature                        |
//! | `e_lfanew`    | 4    | `Signature`       | `PE\0\0`                                            |
//! | +4            | 2    | `Machine`         | 0x14c: 386, 0x8664: x64, 0xaa64: ARM64              |
//! | +22           | 2    | `Characteristics` | 0x2: can be run, 0x2000: a library                  |

mod details;
mod image;
mod resources;
mod signature;
mod symbols;

use std::io::{Read, Seek};

pub use details::{Details, Subsystem, Symbols};
pub use resources::VersionInfo;
pub use signature::{Known, Signed, image_digest, signed_by, spans, verify, verify_known};
pub use symbols::id as symbols_id;

use crate::machine::{Kind, Machine};
use crate::offset_reader::{FormatError, OffsetReader};

const IMAGE_FILE_EXECUTABLE_IMAGE: u16 = 0x0002;
const IMAGE_FILE_DLL: u16 = 0x2000;

/// What a PE file says about itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pe {
    /// The processor.
    pub machine: Machine,
    /// Program, library or something else.
    pub kind: Kind,
}

impl Pe {
    /// Reads the file header.
    ///
    /// # Errors
    /// [`FormatError`]; a DOS program without a PE part is not a PE file.
    pub fn read(from: &mut (impl Read + Seek)) -> Result<Self, FormatError> {
        let mut fields = OffsetReader { from, little: true };
        if !fields.starts_with(*b"MZ")? {
            return Err(FormatError::Not { format: "a PE file" });
        }
        let e_lfanew = u64::from(fields.u32(0x3c, "e_lfanew")?);
        if fields.bytes::<4>(e_lfanew, "Signature")? != *b"PE\0\0" {
            return Err(FormatError::Not { format: "a PE file" });
        }
        let machine = match fields.u16(e_lfanew + 4, "Machine")? {
            0x014c => Machine::X86,
            0x8664 => Machine::X86_64,
            // The forms that run beside programs for x64 run on the same computers.
            0xaa64 | 0xa641 | 0xa64e => Machine::Aarch64,
            other => Machine::Other(other),
        };
        let characteristics = fields.u16(e_lfanew + 22, "Characteristics")?;
        let kind = if characteristics & IMAGE_FILE_DLL != 0 {
            Kind::Library
        } else if characteristics & IMAGE_FILE_EXECUTABLE_IMAGE != 0 {
            Kind::Program
        } else {
            Kind::Other
        };
        Ok(Self { machine, kind })
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Cursor;

    pub(crate) fn sample(machine: u16, characteristics: u16) -> Vec<u8> {
        let mut file = b"MZ".to_vec();
        file.resize(0x3c, 0);
        file.extend(0x80_u32.to_le_bytes());
        file.resize(0x80, 0);
        file.extend(b"PE\0\0");
        file.extend(machine.to_le_bytes());
        file.extend([0; 16]);
        file.extend(characteristics.to_le_bytes());
        file
    }

    fn read(bytes: &[u8]) -> Result<Pe, FormatError> {
        Pe::read(&mut Cursor::new(bytes))
    }

    #[test]
    fn programs_and_libraries() {
        let table = [
            (0x8664, 0x0022, Machine::X86_64, Kind::Program),
            (0xaa64, 0x2022, Machine::Aarch64, Kind::Library),
            (0x014c, 0x0102, Machine::X86, Kind::Program),
            (0x01c4, 0x0000, Machine::Other(0x1c4), Kind::Other),
        ];
        for (machine, characteristics, expected, kind) in table {
            assert_eq!(read(&sample(machine, characteristics)).unwrap(), Pe { machine: expected, kind });
        }
    }

    #[test]
    fn broken_files_are_errors() {
        let whole = sample(0x8664, 0x22);
        for len in 0..whole.len() {
            assert!(read(&whole[..len]).is_err(), "{len}");
        }
        let mut far = whole.clone();
        far[0x3f] = 0xff;
        assert!(matches!(read(&far), Err(FormatError::Truncated { what: "Signature", .. })));
        let mut dos = whole;
        dos[0x80] = b'N';
        assert!(matches!(read(&dos), Err(FormatError::Not { .. })));
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(at in 0_usize..152, value: u8) {
            let mut file = sample(0x8664, 0x22);
            file[at] = value;
            let _ = read(&file);
        }
    }
}
