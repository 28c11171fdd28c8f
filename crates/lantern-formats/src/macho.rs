//! Mach-O programs, of one architecture or several. Source: Apple's `mach-o/loader.h`
//! (`mach_header`, `load_command`; <https://github.com/apple-oss-distributions/xnu/blob/main/EXTERNAL_HEADERS/mach-o/loader.h>) and
//! `mach-o/fat.h` (`fat_header`, `fat_arch`, beside it).
//!
//! A universal file starts with a big-endian table: magic `cafebabe`, count, and for each slice `cputype`, `cpusubtype`,
//! `offset`, `size`, `align` of 4 bytes (`cafebabf`: offset and size of 8). A slice starts with its own header:
//!
//! | offset | size | field      | meaning                                                   |
//! |--------|------|------------|-----------------------------------------------------------|
//! | 0      | 4    | `magic`    | `feedface` 32-bit, `feedfacf` 64-bit, in the file's order |
//! | 4      | 4    | `cputype`  | 7: 386, 0x01000007: x86-64, 0x0100000c: ARM64             |
//! | 12     | 4    | `filetype` | 2: program, 6: library, 8: plug-in                        |

mod code_resources;
mod details;
mod entitlements;
mod signature;

use std::io::{Read, Seek};

pub use code_resources::{FileHash, ResourceSeal, Sealed};
pub use details::{Details, Library, Platform, SystemVersion};
pub use signature::{CodeSignature, Entitlements, KNOWN_AS, Special, Wrong, needs_profile};

use crate::machine::{Kind, Machine};
use crate::offset_reader::{FormatError, OffsetReader};

const FAT_MAGIC: [u8; 4] = [0xca, 0xfe, 0xba, 0xbe];
const FAT_MAGIC_64: [u8; 4] = [0xca, 0xfe, 0xba, 0xbf];
/// How archives of object files start.
const ARCHIVE: &[u8] = b"!<arch>\n";
/// Most slices that are read. Compiled Java classes share the magic; where the count would be, they have a version of 45
/// or more. Real files have two or three slices.
const MAX_SLICES: u32 = 16;

/// One architecture of a Mach-O file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Slice {
    /// The processor.
    pub machine: Machine,
    /// Program, library or something else.
    pub kind: Kind,
    /// Where it starts, from the file's first byte.
    pub offset: u64,
}

/// What a Mach-O file says about itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MachO {
    /// In the file's order; one at least.
    pub slices: Vec<Slice>,
}

impl MachO {
    /// Reads the table and the header of each slice.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn read(from: &mut (impl Read + Seek)) -> Result<Self, FormatError> {
        let mut fields = OffsetReader { from, little: false };
        let wide = fields.starts_with(FAT_MAGIC_64)?;
        if !wide && !fields.starts_with(FAT_MAGIC)? {
            return Ok(Self { slices: vec![slice(&mut fields, 0)?] });
        }
        let count = fields.u32(4, "nfat_arch")?;
        if count > MAX_SLICES {
            return Err(FormatError::Not { format: "a Mach-O file" });
        }
        if count == 0 {
            return Err(FormatError::Value { what: "nfat_arch", value: 0 });
        }
        let mut slices = Vec::new();
        for i in 0..u64::from(count) {
            fields.little = false;
            let offset =
                if wide { fields.u64(8 + i * 32 + 8, "offset")? } else { fields.u32(8 + i * 20 + 8, "offset")?.into() };
            // Libraries for linkers come in universal files, too.
            if fields.up_to(offset, ARCHIVE.len(), "a slice")? == ARCHIVE {
                return Err(FormatError::Not { format: "a Mach-O file" });
            }
            let found = slice(&mut fields, offset).map_err(|e| match e {
                FormatError::Not { .. } => FormatError::Value { what: "the offset of a slice", value: offset },
                other => other,
            })?;
            slices.push(found);
        }
        Ok(Self { slices })
    }
}

fn slice<R: Read + Seek>(fields: &mut OffsetReader<'_, R>, offset: u64) -> Result<Slice, FormatError> {
    let not = FormatError::Not { format: "a Mach-O file" };
    let magic = match fields.bytes::<4>(offset, "a slice") {
        Err(FormatError::Truncated { .. }) if offset == 0 => return Err(not),
        other => other?,
    };
    fields.little = match magic {
        [0xce | 0xcf, 0xfa, 0xed, 0xfe] => true,
        [0xfe, 0xed, 0xfa, 0xce | 0xcf] => false,
        _ => return Err(not),
    };
    let at = |by: u64| offset.checked_add(by).ok_or(FormatError::Truncated { what: "a slice", offset });
    let machine = match fields.u32(at(4)?, "cputype")? {
        7 => Machine::X86,
        0x0100_0007 => Machine::X86_64,
        0x0100_000c => Machine::Aarch64,
        other => Machine::Other(u16::try_from(other & 0xffff).unwrap_or(u16::MAX)),
    };
    let kind = match fields.u32(at(12)?, "filetype")? {
        2 => Kind::Program,
        6 | 8 => Kind::Library,
        _ => Kind::Other,
    };
    Ok(Slice { machine, kind, offset })
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Cursor;

    pub(crate) fn thin(cputype: u32, filetype: u32) -> Vec<u8> {
        let mut file = vec![0xcf, 0xfa, 0xed, 0xfe];
        file.extend(cputype.to_le_bytes());
        file.extend(0_u32.to_le_bytes());
        file.extend(filetype.to_le_bytes());
        file.extend([0; 16]);
        file
    }

    pub(crate) fn universal(slices: &[(u32, u32)]) -> Vec<u8> {
        let mut file = FAT_MAGIC.to_vec();
        file.extend((slices.len() as u32).to_be_bytes());
        for (i, (cputype, _)) in slices.iter().enumerate() {
            for value in [*cputype, 0, 4096 * (i as u32 + 1), 32, 12] {
                file.extend(value.to_be_bytes());
            }
        }
        for (i, (cputype, filetype)) in slices.iter().enumerate() {
            file.resize(4096 * (i + 1), 0);
            file.extend(thin(*cputype, *filetype));
        }
        file
    }

    fn read(bytes: &[u8]) -> Result<MachO, FormatError> {
        MachO::read(&mut Cursor::new(bytes))
    }

    #[test]
    fn one_architecture_and_several() {
        let one = read(&thin(0x0100_000c, 2)).unwrap();
        assert_eq!(one.slices, [Slice { machine: Machine::Aarch64, kind: Kind::Program, offset: 0 }]);
        let two = read(&universal(&[(0x0100_0007, 6), (0x0100_000c, 6)])).unwrap();
        let machines: Vec<Machine> = two.slices.iter().map(|s| s.machine).collect();
        assert_eq!(machines, [Machine::X86_64, Machine::Aarch64]);
        assert!(two.slices.iter().all(|s| s.kind == Kind::Library));
    }

    #[test]
    fn compiled_java_is_not_taken_for_it() {
        assert!(matches!(read(b"\xca\xfe\xba\xbe\0\0\0\x34...."), Err(FormatError::Not { .. })));
    }

    #[test]
    fn broken_files_are_errors() {
        let whole = universal(&[(0x0100_0007, 2), (0x0100_000c, 2)]);
        for len in (0..whole.len() - 16).step_by(7) {
            assert!(read(&whole[..len]).is_err(), "{len}");
        }
        let mut nowhere = whole.clone();
        nowhere[16] = 0x7f;
        assert!(matches!(read(&nowhere), Err(FormatError::Truncated { .. })));
        let mut wrong = whole;
        wrong[19] = 1;
        assert!(matches!(read(&wrong), Err(FormatError::Value { .. })));
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(at in 0_usize..60, value: u8) {
            let mut file = universal(&[(0x0100_0007, 2), (0x0100_000c, 2)]);
            file[at] = value;
            let _ = read(&file);
            let _ = read(&file[..at]);
        }
    }
}
