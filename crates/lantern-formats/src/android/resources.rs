//! The table of resources of a package: which files stand for one resource.
//!
//! Source: the Android Open Source Project's `ResourceTypes.h` (`ResTable_header`, `ResTable_package`,
//! `ResTable_type`, `ResTable_entry`, `Res_value`;
//! <https://android.googlesource.com/platform/frameworks/base/+/main/libs/androidfw/include/androidfw/ResourceTypes.h>).
//!
//! | chunk | type | what it holds |
//! |---|---|---|
//! | the whole | 0x0002 | texts of values, then packages |
//! | package | 0x0200 | u32 id at 8; chunks |
//! | type | 0x0201 | u8 id at 8, u8 flags at 9, u32 count at 12, u32 where entries start at 16; offsets behind its head |
//! | entry | | u16 size, u16 flags, u32 name, then a value: u16 size, u8, u8 kind, u32 data |

use lantern_core::bytes::{ByteReader, ReadError};

use super::{CHUNK_STRINGS, Strings, TYPE_STRING};

const CHUNK_TABLE: u16 = 0x0002;
const CHUNK_PACKAGE: u16 = 0x0200;
const CHUNK_TYPE: u16 = 0x0201;
const FLAG_SPARSE: u8 = 0x01;
const FLAG_SHORT_OFFSETS: u8 = 0x02;
const FLAG_COMPLEX: u16 = 0x0001;
const FLAG_COMPACT: u16 = 0x0008;
/// Most files of one resource that are returned. Ours: one for each density and some more.
const MAX_FILES: usize = 64;

/// A chunk: its kind, its head and what follows the head.
type Chunk<'a> = (u16, &'a [u8], &'a [u8]);

/// Cuts the next chunk off.
fn chunk<'a>(rest: &mut &'a [u8]) -> Result<Chunk<'a>, ReadError> {
    let mut reader = ByteReader::new(rest);
    let kind = reader.u16("a chunk")?;
    let head = usize::from(reader.u16("a chunk's head")?);
    let len = reader.u32("a chunk's length")? as usize;
    if head < 8 || len < head || len > rest.len() {
        let why = "its length is impossible".to_owned();
        return Err(ReadError::Value { what: "a chunk of resources", offset: 0, why });
    }
    let (whole, after) = rest.split_at(len);
    *rest = after;
    Ok((kind, whole.get(..head).unwrap_or_default(), whole))
}

fn u16_at(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(*bytes.get(at..)?.first_chunk::<2>()?))
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(*bytes.get(at..)?.first_chunk::<4>()?))
}

/// Returns the paths of the files that a resource stands for, by its id; nothing for one that is no file.
///
/// # Errors
/// [`ReadError`] for bytes that are no table.
pub fn files_of(table: &[u8], id: u32) -> Result<Vec<String>, ReadError> {
    let (kind, head, whole) = chunk(&mut &table[..])?;
    if kind != CHUNK_TABLE {
        return Err(ReadError::Magic { what: "a table of resources" });
    }
    let mut rest = whole.get(head.len()..).unwrap_or_default();
    let mut strings = Strings::default();
    let mut out = Vec::new();
    while !rest.is_empty() {
        let (kind, head, whole) = chunk(&mut rest)?;
        match kind {
            CHUNK_STRINGS => strings = Strings::read(whole)?,
            CHUNK_PACKAGE if u32_at(head, 8) == Some(id >> 24) => {
                let mut rest = whole.get(head.len()..).unwrap_or_default();
                while !rest.is_empty() {
                    let (kind, head, whole) = chunk(&mut rest)?;
                    if kind == CHUNK_TYPE && head.get(8).map(|id| u32::from(*id)) == Some(id >> 16 & 0xff) {
                        let value = text_of(head, whole, (id & 0xffff) as usize);
                        out.extend(value.and_then(|index| strings.get(index)).filter(|_| out.len() < MAX_FILES));
                    }
                }
            }
            _ => {}
        }
    }
    out.sort();
    out.dedup();
    Ok(out)
}

/// The text that an entry of a type has as its value, by its place among the texts.
fn text_of(head: &[u8], whole: &[u8], entry: usize) -> Option<u32> {
    let flags = *head.get(9)?;
    let (count, start) = (u32_at(head, 12)? as usize, u32_at(head, 16)? as usize);
    let offsets = whole.get(head.len()..)?;
    let offset = if flags & FLAG_SPARSE != 0 {
        // Pairs of a place and a quarter of the offset.
        let pairs = offsets.chunks_exact(4).take(count);
        let mut pairs = pairs.map(|pair| (u16_at(pair, 0), u16_at(pair, 2)));
        usize::from(pairs.find(|(place, _)| place.map(usize::from) == Some(entry))?.1?) * 4
    } else if entry >= count {
        return None;
    } else if flags & FLAG_SHORT_OFFSETS != 0 {
        usize::from(u16_at(offsets, entry * 2).filter(|offset| *offset != u16::MAX)?) * 4
    } else {
        u32_at(offsets, entry * 4).filter(|offset| *offset != u32::MAX)? as usize
    };
    let at = start.checked_add(offset)?;
    let flags = u16_at(whole, at + 2)?;
    if flags & FLAG_COMPACT != 0 {
        // The kind stands in the upper byte of the flags, the value where the name's end would be.
        return (flags >> 8 == u16::from(TYPE_STRING)).then(|| u32_at(whole, at + 4))?;
    }
    if flags & FLAG_COMPLEX != 0 {
        return None;
    }
    let value = at + usize::from(u16_at(whole, at)?);
    (*whole.get(value + 3)? == TYPE_STRING).then(|| u32_at(whole, value + 4))?
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn wrapped(kind: u16, head: &[u8], content: &[u8]) -> Vec<u8> {
        let head_len = head.len() as u16 + 8;
        let len = u32::from(head_len) + content.len() as u32;
        [&kind.to_le_bytes()[..], &head_len.to_le_bytes(), &len.to_le_bytes(), head, content].concat()
    }

    fn words(words: &[u32]) -> Vec<u8> {
        words.iter().flat_map(|word| word.to_le_bytes()).collect()
    }

    /// A table with one icon in two densities.
    fn sample() -> Vec<u8> {
        let texts = ["res/a.png", "res/b.png"];
        let pool: Vec<u8> = texts.iter().flat_map(|t| [&[9, 9][..], t.as_bytes(), &[0]].concat()).collect();
        let offsets = words(&[0, 12]);
        let strings = wrapped(CHUNK_STRINGS, &words(&[2, 0, 0x100, 36, 0]), &[offsets, pool].concat());
        let of_type = |text: u32, flags: u32| {
            // Type 2, two entries, of which the second is ours; the value behind a head of eight bytes.
            let entry = [&[8, 0, 0, 0][..], &words(&[7]), &[8, 0, 0, TYPE_STRING], &words(&[text])].concat();
            let head_len = 8 + 12 + 4;
            let head = words(&[2 | flags << 8, 2, head_len + 8, 4]);
            wrapped(CHUNK_TYPE, &head, &[words(&[u32::MAX, 0]), entry].concat())
        };
        let package = wrapped(CHUNK_PACKAGE, &words(&[0x7f]), &[of_type(0, 0), of_type(1, 0)].concat());
        wrapped(CHUNK_TABLE, &words(&[1]), &[strings, package].concat())
    }

    #[test]
    fn the_files_of_an_icon() {
        crate::samples::seed("manifest", "resources", &sample());
        assert_eq!(files_of(&sample(), 0x7f02_0001).unwrap(), ["res/a.png", "res/b.png"]);
        assert!(files_of(&sample(), 0x7f02_0000).unwrap().is_empty(), "an entry that is not there");
        assert!(files_of(&sample(), 0x0102_0001).unwrap().is_empty(), "another package");
        assert!(files_of(b"", 1).is_err() && files_of(&sample()[..60], 0x7f02_0001).is_err());
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(at: prop::sample::Index, value: u8) {
            let mut bytes = sample();
            let at = at.index(bytes.len());
            bytes[at] = value;
            let _ = files_of(&bytes, 0x7f02_0001);
        }
    }
}
