//! Resources of a PE file: a tree of three levels (type, name, language) whose leaves are bytes. Source: Microsoft, "PE
//! Format", "The .rsrc Section" (<https://learn.microsoft.com/windows/win32/debug/pe-format>).

use std::io::{Read, Seek};

use super::image::Image;
use crate::offset_reader::FormatError;

const RT_GROUP_ICON: u32 = 14;
const RT_VERSION: u32 = 16;
/// Most entries of one level that are read. Ours: bounds time on hostile input.
const MAX_ENTRIES: u16 = 1024;
/// Longest version resource that is read, in bytes. Ours: its own length field has 16 bits.
const MAX_VERSION_LEN: u32 = 0xffff;
/// Longest icon group that is read, in bytes: a thousand sizes.
const MAX_GROUP_LEN: u32 = 16 * 1024;
/// Deepest nesting of blocks in a version resource. Source: "`VS_VERSIONINFO` structure":
/// a resource has four levels.
const MAX_DEPTH: usize = 4;
/// First number of the fixed part.
const FIXED_SIGNATURE: u32 = 0xfeef_04bd;
const HIGH: u32 = 0x8000_0000;

/// What a version resource says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct VersionInfo {
    /// The file's own version, four numbers.
    pub file: Option<[u16; 4]>,
    /// That of the product it belongs to.
    pub product: Option<[u16; 4]>,
    /// Texts by name, such as `ProductName`, in the file's order; the first language's.
    pub texts: Vec<(String, String)>,
}

impl VersionInfo {
    /// Returns the text of a name; none when it is missing or empty.
    pub fn text(&self, name: &str) -> Option<&str> {
        let found = self.texts.iter().find(|(known, _)| known == name);
        found.map(|(_, text)| text.trim()).filter(|text| !text.is_empty())
    }
}

/// Reads version and icon sizes.
pub(super) fn read<R: Read + Seek>(
    image: &mut Image<'_, R>,
    root: u64,
) -> Result<(Option<VersionInfo>, Vec<u16>), FormatError> {
    let mut version = None;
    if let Some(bytes) = first_leaf(image, root, RT_VERSION, MAX_VERSION_LEN)? {
        let mut info = VersionInfo::default();
        block(&bytes, 0, &mut info);
        version = Some(info);
    }
    let mut sizes = Vec::new();
    if let Some(bytes) = first_leaf(image, root, RT_GROUP_ICON, MAX_GROUP_LEN)? {
        // Six bytes of head, then 14 for each picture, the first its width; 0 stands for 256.
        sizes.extend(bytes.get(6..).unwrap_or_default().as_chunks::<14>().0.iter().map(|[width, ..]| match width {
            0 => 256,
            width => u16::from(*width),
        }));
        sizes.sort_unstable();
        sizes.dedup();
    }
    Ok((version, sizes))
}

/// Goes to the first name and language of a type.
fn first_leaf<R: Read + Seek>(
    image: &mut Image<'_, R>,
    root: u64,
    kind: u32,
    max: u32,
) -> Result<Option<Vec<u8>>, FormatError> {
    let Some(names) = entry(image, root, root, Some(kind))? else { return Ok(None) };
    let Some(languages) = entry(image, root, names, None)? else { return Ok(None) };
    let Some(leaf) = entry(image, root, languages, None)? else { return Ok(None) };
    let address = image.fields.u32(leaf, "a resource")?;
    let len = image.fields.u32(leaf + 4, "a resource's length")?;
    if len > max {
        return Err(FormatError::Value { what: "a resource's length", value: len.into() });
    }
    let offset = image.offset(address).ok_or(FormatError::Value { what: "a resource", value: address.into() })?;
    Ok(Some(image.fields.vec(offset, len as usize, "a resource")?))
}

/// Finds an entry of a level by its number, or the first; returns where what it leads to lies.
fn entry<R: Read + Seek>(
    image: &mut Image<'_, R>,
    root: u64,
    level: u64,
    wanted: Option<u32>,
) -> Result<Option<u64>, FormatError> {
    let named = image.fields.u16(level + 12, "a resource level")?;
    let numbered = image.fields.u16(level + 14, "a resource level")?;
    for i in 0..u64::from(named.saturating_add(numbered).min(MAX_ENTRIES)) {
        let at = level + 16 + i * 8;
        let id = image.fields.u32(at, "a resource entry")?;
        if wanted.is_none_or(|wanted| id == wanted) {
            return Ok(Some(root + u64::from(image.fields.u32(at + 4, "a resource entry")? & !HIGH)));
        }
    }
    Ok(None)
}

/// A block of a version resource: length, length of the value, its kind, a name, the value, further blocks; each part
/// starts at a multiple of four. Broken ones end the reading of this block: what came before is still true.
fn block(bytes: &[u8], depth: usize, into: &mut VersionInfo) -> Option<usize> {
    let word = |at: usize| Some(u16::from_le_bytes(bytes.get(at..at + 2)?.try_into().ok()?));
    let (len, value_len, is_text) = (usize::from(word(0)?), usize::from(word(2)?), word(4)? == 1);
    let bytes = bytes.get(..len).filter(|_| len >= 6)?;
    let units = |from: usize| {
        let pairs = bytes.get(from..).unwrap_or_default().as_chunks().0.iter();
        let units: Vec<u16> = pairs.map(|b| u16::from_le_bytes(*b)).take_while(|unit| *unit != 0).collect();
        (String::from_utf16_lossy(&units), from + units.len() * 2 + 2)
    };
    let (name, after) = units(6);
    let value = after.next_multiple_of(4);
    // Some writers count a text in units, some in bytes: it ends with a zero in any case.
    let value_bytes = if is_text { value_len * 2 } else { value_len };
    if depth == 0 {
        let fixed = |at: usize| Some(u32::from_le_bytes(bytes.get(value + at..value + at + 4)?.try_into().ok()?));
        if fixed(0) == Some(FIXED_SIGNATURE) {
            let four = |at: usize| {
                let words = |value: u32| {
                    let [a, b, c, d] = value.to_be_bytes();
                    [u16::from_be_bytes([a, b]), u16::from_be_bytes([c, d])]
                };
                let ([one, two], [three, four]) = (words(fixed(at)?), words(fixed(at + 4)?));
                Some([one, two, three, four])
            };
            (into.file, into.product) = (four(8), four(16));
        }
    } else if depth == 3 && into.texts.iter().all(|(known, _)| *known != name) && into.texts.len() < 256 {
        into.texts.push((name, units(value).0));
    }
    if depth + 1 < MAX_DEPTH {
        let mut at = (value + value_bytes.min(len)).next_multiple_of(4);
        while let Some(rest) = bytes.get(at..).filter(|rest| !rest.is_empty()) {
            let Some(len) = block(rest, depth + 1, into) else { break };
            at = (at + len).next_multiple_of(4);
        }
    }
    Some(len)
}
