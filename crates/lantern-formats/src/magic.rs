//! What a file is by its first bytes.

/// How many first bytes [`Magic::of`] looks at.
pub const MAGIC_LEN: usize = 8;

/// What a file is by its first bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Magic {
    /// `\x7fELF`: a Linux program or library.
    Elf,
    /// `MZ`: a Windows program or library.
    Mz,
    /// A Mach-O program or library.
    MachO,
    /// `#!`: a script with its interpreter.
    Script,
    /// Something else.
    Data,
}

impl Magic {
    /// Looks at the first bytes of a file; fewer than [`MAGIC_LEN`] are enough where the file ends.
    pub fn of(first: &[u8]) -> Self {
        match first.get(..MAGIC_LEN).unwrap_or(first) {
            [0x7f, b'E', b'L', b'F', ..] => Self::Elf,
            [b'M', b'Z', ..] => Self::Mz,
            [0xcf | 0xce, 0xfa, 0xed, 0xfe, ..] => Self::MachO,
            // Where a universal file has its count, a compiled Java class has a version of 45 or more.
            [0xca, 0xfe, 0xba, 0xbe | 0xbf, 0, 0, 0, 1..=16] => Self::MachO,
            [b'#', b'!', ..] => Self::Script,
            _ => Self::Data,
        }
    }

    /// Whether an installed copy needs the executable bit.
    pub const fn is_executable(self) -> bool {
        !matches!(self, Self::Data)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn first_bytes() {
        let table: [(&[u8], Magic); 8] = [
            (b"\x7fELF\x02", Magic::Elf),
            (b"MZ\x90", Magic::Mz),
            (b"\xcf\xfa\xed\xfe", Magic::MachO),
            (b"#!/bin/sh", Magic::Script),
            (b"\xca\xfe\xba\xbe\0\0\0\x02", Magic::MachO),
            (b"\xca\xfe\xba\xbe\0\0\0\x41", Magic::Data),
            (b"#", Magic::Data),
            (b"", Magic::Data),
        ];
        for (bytes, expected) in table {
            assert_eq!(Magic::of(bytes), expected, "{bytes:?}");
        }
    }
}
