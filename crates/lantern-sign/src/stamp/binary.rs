//! The binary manifest of a package. Source: `ResourceTypes.h` of the Android Open Source Project, as in
//! `lantern_formats::android`.
//!
//! A number is written where the old one stands. A text is added to the end of the string pool, so that no index changes; what
//! stood there before may be meant elsewhere, and stays.

use super::{Stamp, id, lacks, unread};
use crate::SignError;
use crate::archive::MANIFEST;

const WHOLE: u16 = 0x0003;
const POOL: u16 = 0x0001;
const RESOURCE_MAP: u16 = 0x0180;
const ELEMENT: u16 = 0x0102;
const IS_SORTED: u32 = 1;
const IS_UTF8: u32 = 0x100;
/// Kinds of values: a text of the pool, a number.
const TEXT: u8 = 0x03;
const NUMBER: u8 = 0x10;
const NOTHING: u32 = u32::MAX;
/// Bytes of a pool's head, and of what stands before an element's own fields.
const POOL_HEAD_LEN: usize = 28;
const NODE_HEAD_LEN: usize = 16;
/// Bytes of an attribute: namespace, name, text, size, an empty byte, kind, value.
const ATTRIBUTE_LEN: usize = 20;
/// Longest text that is written, in bytes: its length is then one unit in either form.
const MAX_LEN: usize = 127;

/// A chunk of the manifest: what it is, where it begins and where it ends.
struct Chunk {
    kind: u16,
    from: usize,
    to: usize,
}

/// The bytes are cut off, or say what cannot be.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
struct Broken(&'static str);

fn u16_at(bytes: &[u8], at: usize) -> Result<u16, Broken> {
    let field = bytes.get(at..).and_then(|rest| rest.first_chunk());
    field.map(|field| u16::from_le_bytes(*field)).ok_or(Broken("it is cut off"))
}

fn u32_at(bytes: &[u8], at: usize) -> Result<u32, Broken> {
    let field = bytes.get(at..).and_then(|rest| rest.first_chunk());
    field.map(|field| u32::from_le_bytes(*field)).ok_or(Broken("it is cut off"))
}

/// A length or a place, which fits into memory wherever the file does.
fn place_at(bytes: &[u8], at: usize) -> Result<usize, Broken> {
    usize::try_from(u32_at(bytes, at)?).map_err(|_| Broken("it is too large"))
}

fn write(bytes: &mut [u8], at: usize, new: &[u8]) -> Result<(), Broken> {
    let place = bytes.get_mut(at..at + new.len()).ok_or(Broken("it is cut off"))?;
    place.copy_from_slice(new);
    Ok(())
}

fn sum(value: usize) -> Result<u32, Broken> {
    u32::try_from(value).map_err(|_| Broken("it is too large"))
}

/// Returns a manifest with the stamp.
///
/// # Errors
/// [`SignError::Refused`].
pub(super) fn stamped(bytes: &[u8], stamp: &Stamp) -> Result<Vec<u8>, SignError> {
    if stamp.version.len() > MAX_LEN {
        let what = format!("the version is longer than {MAX_LEN} bytes, which is more than a package is given");
        return Err(SignError::refused(what, "shorten it"));
    }
    let wrong = |error: Broken| unread(MANIFEST, &error);
    let chunks = chunks(bytes).map_err(wrong)?;
    let find = |kind| chunks.iter().find(|chunk| chunk.kind == kind);
    let none = || wrong(Broken("it has no elements"));
    let (pool, element) = (find(POOL).ok_or_else(none)?, find(ELEMENT).ok_or_else(none)?);
    let ids = find(RESOURCE_MAP).map(|map| bytes.get(map.from + 8..map.to).unwrap_or_default());
    let ids = ids.unwrap_or_default();

    let mut out = bytes.to_vec();
    let index = u32_at(bytes, pool.from + 8).map_err(wrong)?;
    let (mut has_version, mut has_number) = (false, false);
    for at in attributes(bytes, element).map_err(wrong)? {
        let name = place_at(bytes, at + 4).map_err(wrong)?;
        let value = match name.checked_mul(4).and_then(|at| u32_at(ids, at).ok()) {
            Some(id::NUMBER) => {
                has_number = true;
                (NOTHING, NUMBER, stamp.number)
            }
            Some(id::NUMBER_MAJOR) => (NOTHING, NUMBER, 0),
            Some(id::VERSION) => {
                has_version = true;
                (index, TEXT, index)
            }
            _ => continue,
        };
        let (text, kind, data) = value;
        let fields = [&text.to_le_bytes()[..], &[8, 0, 0, kind], &data.to_le_bytes()].concat();
        write(&mut out, at + 8, &fields).map_err(wrong)?;
    }
    for (has, what) in [(has_number, "versionCode"), (has_version, "versionName")] {
        if !has {
            return Err(lacks(MANIFEST, what));
        }
    }
    let longer = with_text(bytes.get(pool.from..pool.to).unwrap_or_default(), &stamp.version).map_err(wrong)?;
    let len = bytes.len() - (pool.to - pool.from) + longer.len();
    out.splice(pool.from..pool.to, longer);
    write(&mut out, 4, &sum(len).map_err(wrong)?.to_le_bytes()).map_err(wrong)?;
    Ok(out)
}

/// Lists the chunks of a manifest.
fn chunks(bytes: &[u8]) -> Result<Vec<Chunk>, Broken> {
    if u16_at(bytes, 0)? != WHOLE || place_at(bytes, 4)? != bytes.len() {
        return Err(Broken("it is no binary manifest, or not whole"));
    }
    let (mut out, mut from) = (Vec::new(), usize::from(u16_at(bytes, 2)?));
    while from < bytes.len() {
        let len = place_at(bytes, from + 4)?;
        let to = from.checked_add(len).filter(|to| len >= 8 && *to <= bytes.len());
        let to = to.ok_or(Broken("the length of a chunk is impossible"))?;
        out.push(Chunk { kind: u16_at(bytes, from)?, from, to });
        from = to;
    }
    Ok(out)
}

/// Where each attribute of an element begins.
fn attributes(bytes: &[u8], element: &Chunk) -> Result<impl Iterator<Item = usize>, Broken> {
    let own = element.from + NODE_HEAD_LEN;
    let field = |at| u16_at(bytes, own + at).map(usize::from);
    let (first, len, count) = (own + field(8)?, field(10)?, field(12)?);
    if len < ATTRIBUTE_LEN || first + len * count > element.to {
        return Err(Broken("its attributes do not fit"));
    }
    Ok((0..count).map(move |place| first + place * len))
}

/// A string pool with one more text at its end.
fn with_text(pool: &[u8], text: &str) -> Result<Vec<u8>, Broken> {
    let head_len = usize::from(u16_at(pool, 2)?);
    let (count, styles, flags) = (place_at(pool, 8)?, place_at(pool, 12)?, u32_at(pool, 16)?);
    let (texts_at, styles_at) = (place_at(pool, 20)?, place_at(pool, 24)?);
    let offsets_end = count.checked_mul(4).and_then(|len| len.checked_add(head_len));
    let texts_end = if styles == 0 { pool.len() } else { styles_at };
    let is_whole = |end: &usize| *end <= texts_at && texts_at <= texts_end && texts_end <= pool.len();
    let offsets_end = offsets_end.filter(is_whole).filter(|_| head_len >= POOL_HEAD_LEN);
    let offsets_end = offsets_end.ok_or(Broken("its string pool is not whole"))?;
    let part = |from: usize, to: usize| pool.get(from..to).unwrap_or_default();

    let mut texts = part(texts_at, texts_end).to_vec();
    texts.resize(texts.len().next_multiple_of(4), 0);
    let offset = sum(texts.len())?;
    texts.extend(encoded(text, flags & IS_UTF8 != 0));
    texts.resize(texts.len().next_multiple_of(4), 0);
    let mut out = part(0, offsets_end).to_vec();
    out.extend(offset.to_le_bytes());
    out.extend(part(offsets_end, texts_at));
    out.extend(&texts);
    let styles_begin = if styles == 0 { sum(styles_at)? } else { sum(out.len())? };
    out.extend(part(texts_end, pool.len()));
    let len = sum(out.len())?;
    // What is added at the end has no place in an order.
    let fields =
        [(4, len), (8, sum(count + 1)?), (16, flags & !IS_SORTED), (20, sum(texts_at + 4)?), (24, styles_begin)];
    for (at, value) in fields {
        write(&mut out, at, &value.to_le_bytes())?;
    }
    Ok(out)
}

/// A short text as a pool has it: in UTF-8 with both lengths, in characters of UTF-16 and in bytes; in UTF-16 with one. A zero
/// ends it.
fn encoded(text: &str, is_utf8: bool) -> Vec<u8> {
    let units: Vec<u16> = text.encode_utf16().collect();
    let short = |len: usize| u8::try_from(len).unwrap_or(u8::MAX);
    if is_utf8 {
        return [&[short(units.len()), short(text.len())], text.as_bytes(), &[0]].concat();
    }
    let bytes = units.iter().flat_map(|unit| unit.to_le_bytes());
    u16::from(short(units.len())).to_le_bytes().into_iter().chain(bytes).chain([0, 0]).collect()
}

#[cfg(test)]
mod tests {
    use std::io::Read;

    use lantern_formats::android::Manifest;
    use lantern_formats::zip;
    use lantern_rehearsal::exports::{GameVersion, write_android};

    use super::*;

    /// A pool of these texts; one with a style has one of a single span over the first text.
    fn pool(texts: &[&str], flags: u32, has_style: bool) -> Vec<u8> {
        let (mut offsets, mut region) = (Vec::new(), Vec::new());
        for text in texts {
            offsets.extend(sum(region.len()).unwrap().to_le_bytes());
            region.extend(encoded(text, flags & IS_UTF8 != 0));
        }
        region.resize(region.len().next_multiple_of(4), 0);
        let styles: &[u32] = if has_style { &[0, 0, 1, NOTHING, NOTHING, NOTHING] } else { &[] };
        let count = sum(texts.len()).unwrap();
        let style_count = u32::from(has_style);
        let texts_at = 28 + 4 * count + 4 * style_count;
        let styles_at = if has_style { texts_at + sum(region.len()).unwrap() } else { 0 };
        let len = texts_at + sum(region.len() + 4 * styles.len()).unwrap();
        let mut out = [POOL.to_le_bytes(), 28_u16.to_le_bytes()].concat();
        for value in [len, count, style_count, flags, texts_at, styles_at] {
            out.extend(value.to_le_bytes());
        }
        out.extend(&offsets);
        if has_style {
            out.extend(0_u32.to_le_bytes());
        }
        out.extend(&region);
        out.extend(styles.iter().flat_map(|value| value.to_le_bytes()));
        assert_eq!(out.len(), len as usize);
        out
    }

    #[test]
    fn a_pool_gets_one_more_text_and_keeps_the_others() {
        for flags in [0, IS_UTF8] {
            for has_style in [false, true] {
                for text in ["1.4.0", "", "1.4.0-ó紙"] {
                    let before = ["reeds", "ebb", "ó"];
                    let after = [&before[..], &[text]].concat();
                    let longer = with_text(&pool(&before, flags, has_style), text).unwrap();
                    let expected = pool(&after, flags, has_style);
                    // Padding between what was there and what is new is the only difference there may be.
                    let read = |bytes: &[u8], place: usize| {
                        let from = place_at(bytes, 20).unwrap() + place_at(bytes, 28 + 4 * place).unwrap();
                        let len = encoded(after[place], flags != 0).len();
                        bytes[from..from + len].to_vec()
                    };
                    for (place, text) in after.iter().enumerate() {
                        assert_eq!(read(&longer, place), encoded(text, flags != 0), "{flags} {has_style} {text}");
                    }
                    let head = |bytes: &[u8]| [8, 12, 16].map(|at| u32_at(bytes, at).unwrap());
                    assert_eq!(head(&longer), head(&expected));
                    assert_eq!(place_at(&longer, 4).unwrap(), longer.len());
                    if has_style {
                        let styles = place_at(&longer, 24).unwrap();
                        assert_eq!(
                            longer[styles..],
                            pool(&before, flags, true)[place_at(&pool(&before, flags, true), 24).unwrap()..]
                        );
                    }
                }
            }
        }
    }

    #[test]
    fn an_order_is_given_up() {
        let longer = with_text(&pool(&["ebb", "reeds"], IS_SORTED | IS_UTF8, false), "1").unwrap();
        assert_eq!(u32_at(&longer, 16).unwrap(), IS_UTF8);
    }

    /// The example's manifest, whose texts are UTF-16.
    fn of_game() -> Vec<u8> {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("game.apk");
        write_android(&path, GameVersion::Old, false).unwrap();
        let mut file = std::fs::File::open(&path).unwrap();
        let entry = zip::read(&mut file).unwrap().into_iter().find(|entry| entry.name == MANIFEST.as_bytes()).unwrap();
        let mut bytes = Vec::new();
        zip::open(file, &entry.packed).unwrap().read_to_end(&mut bytes).unwrap();
        bytes
    }

    #[test]
    fn a_manifest_in_either_encoding_is_stamped() {
        let wide = of_game();
        let found = chunks(&wide).unwrap().into_iter().find(|chunk| chunk.kind == POOL).unwrap();
        let old = &wide[found.from..found.to];
        let texts: Vec<String> = (0..place_at(old, 8).unwrap())
            .map(|place| {
                let from = place_at(old, 20).unwrap() + place_at(old, 28 + 4 * place).unwrap();
                let len = usize::from(u16_at(old, from).unwrap());
                let units: Vec<u16> = (0..len).map(|at| u16_at(old, from + 2 + 2 * at).unwrap()).collect();
                String::from_utf16(&units).unwrap()
            })
            .collect();
        let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
        let mut narrow = wide.clone();
        narrow.splice(found.from..found.to, pool(&texts, IS_UTF8, false));
        let len = sum(narrow.len()).unwrap();
        write(&mut narrow, 4, &len.to_le_bytes()).unwrap();
        assert_eq!(Manifest::read(&narrow).unwrap(), Manifest::read(&wide).unwrap());
        let stamp = Stamp { version: "1.4.0-ó".to_owned(), number: 27 };
        let [wide, narrow] = [wide, narrow].map(|bytes| Manifest::read(&stamped(&bytes, &stamp).unwrap()).unwrap());
        assert_eq!((narrow.version_name.as_deref(), narrow.version_code), (Some("1.4.0-ó"), Some(27)));
        assert_eq!(narrow, wide);
    }
}
