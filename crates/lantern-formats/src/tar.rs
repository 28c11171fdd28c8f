//! Tape archives. Source: POSIX.1-2024, `pax`, "ustar Interchange Format" and "pax Header Block"
//! (<https://pubs.opengroup.org/onlinepubs/9799919799/utilities/pax.html>); GNU tar's manual for its long
//! names and base-256 numbers.
//!
//! | offset | size | field      | meaning                                              |
//! |--------|------|------------|------------------------------------------------------|
//! | 0      | 100  | `name`     | ends with a zero byte or with the field              |
//! | 124    | 12   | `size`     | octal digits, or base 256 where the first bit is set |
//! | 148    | 8    | `chksum`   | sum of the header's bytes, this field as spaces      |
//! | 156    | 1    | `typeflag` | what it is                                           |
//! | 157    | 100  | `linkname` | where a link points                                  |
//! | 345    | 155  | `prefix`   | goes before the name, in ustar headers               |

pub mod write;

use std::io::{self, Read, Seek, SeekFrom};

const BLOCK: usize = 512;
/// Longest extended header accepted, in bytes. Ours: bounds memory on hostile input.
const MAX_EXTENDED_LEN: u64 = 1024 * 1024;

/// Why an archive could not be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum TarError {
    /// The first block is no header.
    #[error("not a tape archive")]
    NotTar,
    /// Ends in the middle.
    #[error("the archive is cut off at byte {0}")]
    Truncated(u64),
    /// Something that no archive may hold.
    #[error("the archive is broken: {0}")]
    Broken(String),
    /// The file could not be read.
    #[error("reading the archive")]
    Io(#[from] io::Error),
}

/// What an entry is.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum TarKind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A link to a path.
    Link(Vec<u8>),
    /// The same file as an earlier entry.
    Same(Vec<u8>),
    /// Something that is neither: a device, a pipe, a file with holes; by its type flag.
    Special(u8),
}

/// One entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TarEntry {
    /// As it is written.
    pub name: Vec<u8>,
    /// What it is.
    pub kind: TarKind,
    /// Where its bytes begin.
    pub offset: u64,
    /// How many they are.
    pub len: u64,
}

/// Lists the entries of an archive; the bytes of files are passed over. The list takes at most `max_list_len` bytes of
/// memory: an archive that was compressed as a whole may hold any number of entries.
///
/// # Errors
/// [`TarError`].
pub fn read<R: Read + Seek>(from: &mut R, max_list_len: u64) -> Result<Vec<TarEntry>, TarError> {
    let file_len = from.seek(SeekFrom::End(0))?;
    let mut left = max_list_len;
    let mut entries = Vec::new();
    let mut next = Extended::default();
    let mut at = 0;
    while let Some(header) = block(from, at, file_len)? {
        if header.iter().all(|byte| *byte == 0) {
            break;
        }
        if !checksum_fits(&header) {
            let wrong = || TarError::Broken(format!("the header at byte {at} has a wrong checksum"));
            return Err(if at == 0 { TarError::NotTar } else { wrong() });
        }
        at += BLOCK as u64;
        let flag = header[156];
        let len = next.size.filter(|_| !is_extension(flag)).map_or_else(|| size_of(&header, at), Ok)?;
        let padded = len.checked_add(511).map(|len| len / 512 * 512);
        let end = padded.and_then(|len| at.checked_add(len)).filter(|_| at + len <= file_len);
        let end = end.ok_or(TarError::Truncated(file_len))?;
        match flag {
            b'x' | b'L' | b'K' | b'g' => {
                if len > MAX_EXTENDED_LEN {
                    return Err(TarError::Broken(format!("an extended header claims {len} bytes")));
                }
                from.seek(SeekFrom::Start(at))?;
                let mut bytes = Vec::new();
                from.take(len).read_to_end(&mut bytes)?;
                match flag {
                    b'x' => next.read_pax(&bytes)?,
                    b'L' => next.name = Some(until_zero(&bytes).to_vec()),
                    b'K' => next.link = Some(until_zero(&bytes).to_vec()),
                    // What a global header says of all entries is not what we read.
                    _ => {}
                }
            }
            _ => {
                let extended = std::mem::take(&mut next);
                let name = extended.name.unwrap_or_else(|| name_of(&header));
                let link = extended.link.unwrap_or_else(|| until_zero(&header[157..257]).to_vec());
                let kind = match flag {
                    _ if extended.is_sparse => TarKind::Special(b'S'),
                    b'0' | 0 | b'7' if name.ends_with(b"/") => TarKind::Folder,
                    b'0' | 0 | b'7' => TarKind::File,
                    b'5' => TarKind::Folder,
                    b'2' => TarKind::Link(link),
                    b'1' => TarKind::Same(link),
                    other => TarKind::Special(other),
                };
                let target_len =
                    if let TarKind::Link(target) | TarKind::Same(target) = &kind { target.len() } else { 0 };
                let takes = (std::mem::size_of::<TarEntry>() + name.len() + target_len) as u64;
                let too_many = || TarError::Broken("it has more and longer names than any real one".to_owned());
                left = left.checked_sub(takes).ok_or_else(too_many)?;
                entries.push(TarEntry { name, kind, offset: at, len });
            }
        }
        at = end;
    }
    if at == 0 {
        return Err(TarError::NotTar);
    }
    Ok(entries)
}

fn is_extension(flag: u8) -> bool {
    matches!(flag, b'x' | b'g' | b'L' | b'K')
}

/// What the headers before an entry say of it.
#[derive(Default)]
struct Extended {
    name: Option<Vec<u8>>,
    link: Option<Vec<u8>>,
    size: Option<u64>,
    is_sparse: bool,
}

impl Extended {
    /// Records of `LENGTH KEY=VALUE\n`.
    fn read_pax(&mut self, mut bytes: &[u8]) -> Result<(), TarError> {
        let broken = || TarError::Broken("an extended header is not one".to_owned());
        while !bytes.is_empty() {
            let space = bytes.iter().position(|b| *b == b' ').ok_or_else(broken)?;
            let (len, _) = bytes.split_at_checked(space).ok_or_else(broken)?;
            let len: usize = std::str::from_utf8(len).ok().and_then(|t| t.parse().ok()).ok_or_else(broken)?;
            let record = bytes.get(space + 1..len).and_then(|r| r.strip_suffix(b"\n")).ok_or_else(broken)?;
            let equals = record.iter().position(|b| *b == b'=').ok_or_else(broken)?;
            let (key, value) = record.split_at_checked(equals).ok_or_else(broken)?;
            let value = value.strip_prefix(b"=").ok_or_else(broken)?;
            match key {
                b"path" => self.name = Some(value.to_vec()),
                b"linkpath" => self.link = Some(value.to_vec()),
                b"size" => {
                    let size = std::str::from_utf8(value).ok().and_then(|t| t.parse().ok());
                    self.size = Some(size.ok_or_else(broken)?);
                }
                _ if key.starts_with(b"GNU.sparse.") => self.is_sparse = true,
                _ => {}
            }
            bytes = bytes.get(len..).ok_or_else(broken)?;
        }
        Ok(())
    }
}

/// Reads a header; none where the archive ends between two entries.
fn block<R: Read + Seek>(from: &mut R, at: u64, file_len: u64) -> Result<Option<[u8; BLOCK]>, TarError> {
    if at == file_len {
        return Ok(None);
    }
    let mut header = [0; BLOCK];
    from.seek(SeekFrom::Start(at))?;
    match from.read_exact(&mut header) {
        Ok(()) => Ok(Some(header)),
        Err(e) if e.kind() == io::ErrorKind::UnexpectedEof && at == 0 => Err(TarError::NotTar),
        Err(e) if e.kind() == io::ErrorKind::UnexpectedEof => Err(TarError::Truncated(file_len)),
        Err(e) => Err(e.into()),
    }
}

fn checksum_fits(header: &[u8; BLOCK]) -> bool {
    let sum: u64 =
        header.iter().enumerate().map(|(i, b)| u64::from(if (148..156).contains(&i) { b' ' } else { *b })).sum();
    octal(&header[148..156]) == Some(sum)
}

fn octal(field: &[u8]) -> Option<u64> {
    let text = std::str::from_utf8(field).ok()?;
    let digits = text.trim_matches(|c| c == ' ' || c == '\0');
    if digits.is_empty() { Some(0) } else { u64::from_str_radix(digits, 8).ok() }
}

fn size_of(header: &[u8; BLOCK], at: u64) -> Result<u64, TarError> {
    let field = &header[124..136];
    let broken = || TarError::Broken(format!("the header before byte {at} has no size"));
    let (first, rest) = field.split_first().ok_or_else(broken)?;
    if first & 0x80 == 0 {
        return octal(field).ok_or_else(broken);
    }
    let number = |value: u64, byte: &u8| value.checked_mul(256)?.checked_add(u64::from(*byte));
    rest.iter().try_fold(u64::from(first & 0x7f), number).ok_or_else(broken)
}

fn until_zero(bytes: &[u8]) -> &[u8] {
    bytes.split(|b| *b == 0).next().unwrap_or_default()
}

fn name_of(header: &[u8; BLOCK]) -> Vec<u8> {
    let name = until_zero(&header[..100]);
    let prefix = until_zero(&header[345..500]);
    // GNU's own headers use the prefix for something else.
    if prefix.is_empty() || &header[257..263] != b"ustar\0" {
        return name.to_vec();
    }
    [prefix, b"/", name].concat()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Cursor;

    fn header(name: &str, flag: u8, len: u64, link: &str) -> Vec<u8> {
        let mut header = vec![0; BLOCK];
        header[..name.len()].copy_from_slice(name.as_bytes());
        header[124..135].copy_from_slice(format!("{len:011o}").as_bytes());
        header[156] = flag;
        header[157..157 + link.len()].copy_from_slice(link.as_bytes());
        header[257..263].copy_from_slice(b"ustar\0");
        header[148..156].fill(b' ');
        let sum: u64 = header.iter().map(|b| u64::from(*b)).sum();
        header[148..155].copy_from_slice(format!("{sum:06o}\0").as_bytes());
        header
    }

    fn archive(entries: &[(&str, u8, &[u8], &str)]) -> Vec<u8> {
        let mut out = Vec::new();
        for (name, flag, bytes, link) in entries {
            out.extend(header(name, *flag, bytes.len() as u64, link));
            out.extend(*bytes);
            out.resize(out.len().div_ceil(BLOCK) * BLOCK, 0);
        }
        out.extend([0; 2 * BLOCK]);
        out
    }

    fn list(bytes: &[u8]) -> Result<Vec<TarEntry>, TarError> {
        read(&mut Cursor::new(bytes), u64::MAX)
    }

    #[test]
    fn every_kind() {
        let found = list(&archive(&[
            ("game/", b'5', b"", ""),
            ("game/run", b'0', b"program", ""),
            ("game/link", b'2', b"", "run"),
            ("game/same", b'1', b"", "game/run"),
            ("game/pipe", b'6', b"", ""),
        ]))
        .unwrap();
        let kinds: Vec<&TarKind> = found.iter().map(|e| &e.kind).collect();
        let expected = [
            TarKind::Folder,
            TarKind::File,
            TarKind::Link(b"run".to_vec()),
            TarKind::Same(b"game/run".to_vec()),
            TarKind::Special(b'6'),
        ];
        assert_eq!(kinds, expected.iter().collect::<Vec<_>>());
        assert_eq!((found[1].offset, found[1].len), (1024, 7));
    }

    #[test]
    fn long_names_by_either_way() {
        let long = format!("{}/file", "folder".repeat(40));
        let record = format!("{} path={long}\n", long.len() + 10);
        assert_eq!(record.len(), long.len() + 10);
        let gnu = format!("{long}\0");
        for (flag, bytes) in [(b'x', record.as_bytes()), (b'L', gnu.as_bytes())] {
            let whole = archive(&[("@", flag, bytes, ""), ("short", b'0', b"x", "")]);
            crate::samples::seed("tape", &format!("long-{flag}"), &whole);
            let found = list(&whole).unwrap();
            assert_eq!((found.len(), String::from_utf8_lossy(&found[0].name).into_owned()), (1, long.clone()));
        }
    }

    #[test]
    fn damage_is_noticed() {
        let good = archive(&[("a", b'0', b"letter", ""), ("b", b'0', &[1; 2000], "")]);
        assert!(matches!(list(b""), Err(TarError::NotTar)));
        assert!(matches!(list(&[1; 600]), Err(TarError::NotTar)));
        assert!(matches!(list(&good[..1600]), Err(TarError::Truncated(1600))));
        let mut changed = good.clone();
        changed[1024] ^= 1;
        assert!(matches!(list(&changed), Err(TarError::Broken(_))));
    }

    #[test]
    fn a_list_that_is_longer_than_any_real_one() {
        let link = "n".repeat(100);
        let tar = archive(&[("a", b'0', b"letter", ""), ("b", b'2', b"", &link)]);
        let entry = std::mem::size_of::<TarEntry>() as u64;
        let whole = 2 * (entry + 1) + 100;
        assert_eq!(read(&mut Cursor::new(&tar), whole).unwrap().len(), 2);
        let error = read(&mut Cursor::new(&tar), whole - 1).unwrap_err();
        assert!(error.to_string().contains("more and longer names"), "{error}");
    }

    #[test]
    fn what_is_written_is_read() {
        let mut tar = write::TarWriter::new(Vec::new());
        let long = format!("{}/file", "folder".repeat(40));
        tar.file("run", 0o755, 3, |out| out.write_all(b"abc")).unwrap();
        tar.file(&long, 0o644, 0, |_| Ok(())).unwrap();
        tar.link("link", &long).unwrap();
        tar.folder("empty").unwrap();
        let found = list(&tar.finish().unwrap()).unwrap();
        let names: Vec<String> = found.iter().map(|e| String::from_utf8_lossy(&e.name).into_owned()).collect();
        assert_eq!(names, ["run", long.as_str(), "link", "empty/"]);
        assert_eq!((found[0].len, found[0].kind.clone()), (3, TarKind::File));
        assert_eq!(found[2].kind, TarKind::Link(long.into_bytes()));
        assert_eq!(found[3].kind, TarKind::Folder);
    }

    proptest! {
        #[test]
        fn hostile_bytes_do_no_harm(at in 0_usize..3000, value in any::<u8>(), cut in 0_usize..3000) {
            let mut bytes = archive(&[("@", b'x', b"10 path=b\n", ""), ("b", b'0', &[1; 700], "")]);
            let len = bytes.len();
            bytes[at % len] = value;
            bytes.truncate(len - cut % len);
            let _ = list(&bytes);
        }
    }
}
