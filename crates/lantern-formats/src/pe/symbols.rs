//! Files of debug data that belong to Windows programs, as far as it takes to know which program.
//!
//! Source: "The PDB File Format", "The MSF File Format" and "The PDB Info Stream", the LLVM project
//! (<https://llvm.org/docs/PDB/MsfFile.html>, <https://llvm.org/docs/PDB/PdbStream.html>): blocks of one size; the head names the block in which the numbers of
//! the directory's blocks stand; the directory holds the number of streams, the length of each, and their blocks. Stream
//! 1 starts with a version, a time, the age and the 16 bytes that the program has, too.
//!
//! | offset in the head | size | field |
//! |---|---|---|
//! | 0  | 32 | `Microsoft C/C++ MSF 7.00`, `\r\n\x1aDS\0\0\0` |
//! | 32 | 4  | block size |
//! | 44 | 4  | length of the directory |
//! | 52 | 4  | block with the numbers of the directory's blocks |

use std::io::{Read, Seek};

use crate::offset_reader::{FormatError, OffsetReader};

const MAGIC: [u8; 32] = *b"Microsoft C/C++ MSF 7.00\r\n\x1aDS\0\0\0";
/// Largest directory that is read, in bytes. Ours: that of a file of 4 GB has some four megabytes.
const MAX_DIRECTORY_LEN: u32 = 32 * 1024 * 1024;

/// Returns what such a file has in common with its program.
///
/// # Errors
/// [`FormatError::Not`] for files of other formats, and others for those that are cut off.
pub fn id(from: &mut (impl Read + Seek)) -> Result<[u8; 16], FormatError> {
    let mut fields = OffsetReader { from, little: true };
    if !fields.starts_with(MAGIC)? {
        return Err(FormatError::Not { format: "a file of debug data" });
    }
    let block_len = u64::from(fields.u32(32, "the block size")?);
    let directory_len = fields.u32(44, "the directory's length")?;
    if !matches!(block_len, 512 | 1024 | 2048 | 4096 | 8192 | 16384 | 32768) || directory_len > MAX_DIRECTORY_LEN {
        return Err(FormatError::Value { what: "the block size", value: block_len });
    }
    let map = u64::from(fields.u32(52, "the directory's place")?) * block_len;
    // The word at a place of the directory, whose blocks lie anywhere.
    let mut word = |at: u64| {
        let block = fields.u32(map + at / block_len * 4, "the directory")?;
        fields.u32(u64::from(block) * block_len + at % block_len, "the directory")
    };
    let streams = u64::from(word(0)?);
    if streams < 2 || streams * 4 > u64::from(directory_len) {
        return Err(FormatError::Value { what: "the number of streams", value: streams });
    }
    // A length of all ones stands for a stream that is not there.
    let first_len = Some(word(4)?).filter(|len| *len != u32::MAX).unwrap_or(0);
    let blocks_before = u64::from(first_len).div_ceil(block_len);
    let block = word(4 + streams * 4 + blocks_before * 4)?;
    fields.bytes(u64::from(block) * block_len + 12, "the file's name")
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use proptest::prelude::*;

    use super::*;

    /// Two streams: the first has 600 bytes in two blocks, the second starts with the name.
    fn sample() -> Vec<u8> {
        let mut file = vec![0; 512 * 8];
        file[..32].copy_from_slice(&MAGIC);
        let mut put = |at: usize, words: &[u32]| {
            words.iter().enumerate().for_each(|(i, word)| {
                file[at + i * 4..at + i * 4 + 4].copy_from_slice(&word.to_le_bytes());
            });
        };
        put(32, &[512, 1, 8, 24, 0, 2]);
        put(512 * 2, &[3]);
        put(512 * 3, &[2, 600, 28, 4, 5, 6]);
        put(512 * 6, &[20_000_404, 0, 1]);
        file[512 * 6 + 12..512 * 6 + 28].copy_from_slice(b"saltmarsh-post-1");
        file
    }

    #[test]
    fn what_it_has_in_common_with_its_program() {
        crate::samples::seed("program", "symbols", &sample());
        assert_eq!(&id(&mut Cursor::new(sample())).unwrap(), b"saltmarsh-post-1");
        assert!(matches!(id(&mut Cursor::new(b"MZ")), Err(FormatError::Not { .. })));
        assert!(matches!(id(&mut Cursor::new(&sample()[..2000])), Err(FormatError::Truncated { .. })));
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(at in 0_usize..4096, value: u8) {
            let mut file = sample();
            file[at] = value;
            let _ = id(&mut Cursor::new(file));
        }
    }
}
