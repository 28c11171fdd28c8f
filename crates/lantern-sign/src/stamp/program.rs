//! Writes a version and a number into the version resource of a Windows program.
//!
//! Source: Microsoft, "PE Format", "Section Table" and "The .rsrc Section"
//! (<https://learn.microsoft.com/windows/win32/debug/pe-format>); "`VS_VERSIONINFO` structure" and those it names
//! (<https://learn.microsoft.com/windows/win32/menurc/vs-versioninfo>).
//!
//! Only the resource changes, and in it only what the two are. It stays where it is where the new texts fit; where they are longer, it
//! moves behind the last resource, if there is room within its section: nothing else of the program moves.

use std::io::{Read, Seek, SeekFrom};

use lantern_formats::pe::Details;

use super::Stamp;
use crate::SignError;
use crate::archive::Opener;
use crate::head::{Fields, Head, refused};

const RT_VERSION: u32 = 16;
const RESOURCES: usize = 2;
/// Largest section with resources, and most entries of them, that are looked through. Ours: icons and texts of real programs stay far below.
const MAX_SECTION: u64 = 256 * 1024 * 1024;
const MAX_ENTRIES: usize = 262_144;
const HIGH: u32 = 0x8000_0000;
/// The first number of the fixed part.
const FIXED: [u8; 4] = 0xfeef_04bd_u32.to_le_bytes();

/// Other bytes at places of a file, which stays as long as it is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Patches(Vec<(u64, Vec<u8>)>);

impl Patches {
    /// Whether nothing changes.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// A file as it is with them.
    pub fn over<R>(&self, from: R) -> Patched<'_, R> {
        Patched { from, patches: self }
    }

    /// Writes what falls into a block, which lies at a place.
    fn apply(&self, at: u64, block: &mut [u8]) {
        let end = at + block.len() as u64;
        for (place, bytes) in &self.0 {
            let (from, to) = ((*place).clamp(at, end), (place + bytes.len() as u64).clamp(at, end));
            let within = |of: u64, start: u64| usize::try_from(of - start).unwrap_or(usize::MAX);
            if from < to {
                let source = bytes.get(within(from, *place)..within(to, *place)).unwrap_or_default();
                block.get_mut(within(from, at)..within(to, at)).unwrap_or_default().copy_from_slice(source);
            }
        }
    }
}

/// Four numbers: those of the version, and the release's where it has at most 16 bits, as the resource has no more.
fn four(stamp: &Stamp) -> [u16; 4] {
    let mut numbers = stamp.version.split(['.', '-', '+']).map(|part| part.parse().unwrap_or(0));
    let mut next = || numbers.next().unwrap_or(0);
    [next(), next(), next(), u16::try_from(stamp.number).unwrap_or(0)]
}

/// What is to be said in a text of this name; none where it stays.
fn text_of(name: &str, stamp: &Stamp) -> Option<String> {
    match name {
        "ProductVersion" => Some(stamp.version.clone()),
        "FileVersion" => {
            let [a, b, c, _] = four(stamp);
            Some(format!("{a}.{b}.{c}.{}", stamp.number))
        }
        _ => None,
    }
}

const BROKEN: &str = "its version resource cannot be read";

fn broken() -> SignError {
    refused(BROKEN)
}

fn fields(bytes: &[u8]) -> Fields<'_> {
    Fields { bytes, beyond: BROKEN }
}

/// What was found below a level of resources.
#[derive(Default)]
struct Leaves {
    /// Where the entries of leaves lie.
    places: Vec<usize>,
    /// How many entries of levels were looked at.
    entries: usize,
}

/// The section that has the resources, and what of the head belongs to it.
struct Section {
    /// Its bytes in the file.
    bytes: Vec<u8>,
    /// Where they lie in the file, and in memory.
    offset: u64,
    address: u32,
    /// How much memory it has, where that is stated, and how much it may have before the next one begins.
    size: u32,
    size_at: u64,
    room: u32,
    /// Where the resources begin in it, how long they say to be, and where that is stated.
    root: usize,
    len: u32,
    len_at: u64,
}

impl Section {
    /// None where there are no resources.
    fn read(from: &mut (impl Read + Seek)) -> Result<Option<Self>, SignError> {
        let head = Head::read(from)?;
        let Some(entry) = head.directory_at(RESOURCES)? else { return Ok(None) };
        let (root, len) = (head.long(entry)?, head.long(entry + 4)?);
        let rows = head.sections()?;
        let addresses: Vec<u32> = rows.iter().map(|row| head.long(row + 12)).collect::<Result<_, _>>()?;
        for (row, address) in rows.iter().zip(&addresses) {
            let (size, stored, offset) = (head.long(row + 8)?, head.long(row + 16)?, head.long(row + 20)?);
            let within = root.checked_sub(*address).filter(|within| root != 0 && *within < stored);
            let Some(within) = within else { continue };
            if u64::from(stored) > MAX_SECTION {
                return Err(refused("its resources are larger than any real ones"));
            }
            let next = addresses.iter().filter(|other| *other > address).min().unwrap_or(&u32::MAX);
            return Ok(Some(Self {
                bytes: read_at(from, offset.into(), stored.into())?,
                offset: offset.into(),
                address: *address,
                size,
                size_at: *row as u64 + 8,
                room: (next - address).min(stored),
                root: within as usize,
                len,
                len_at: entry as u64 + 4,
            }));
        }
        Ok(None)
    }

    /// The leaves below a level of resources, as where their entries lie; of one type where that is given.
    fn leaves(&self, level: usize, wanted: Option<u32>, depth: usize, into: &mut Leaves) -> Result<usize, SignError> {
        let fields = fields(&self.bytes);
        let at = self.root + level;
        let count = fields.word(at + 12)? + fields.word(at + 14)?;
        let mut end = at + 16 + count * 8;
        for number in 0..count {
            // Levels may lead to one another, and to each of many entries again.
            into.entries += 1;
            if into.entries > MAX_ENTRIES {
                return Err(broken());
            }
            let entry = at + 16 + number * 8;
            let (name, to) = (fields.long(entry)?, fields.long(entry + 4)?);
            if name & HIGH != 0 {
                let text = self.root + (name & !HIGH) as usize;
                end = end.max(text + 2 + fields.word(text)? * 2);
            }
            if wanted.is_some_and(|wanted| wanted != name) {
                continue;
            }
            let place = (to & !HIGH) as usize;
            if to & HIGH == 0 {
                into.places.push(self.root + place);
                end = end.max(self.root + place + 16);
            } else if depth < 3 {
                end = end.max(self.leaves(place, None, depth + 1, into)?);
            }
        }
        Ok(end)
    }

    /// Where the bytes of a leaf lie in the section, and how many they are; none where they lie elsewhere.
    fn span(&self, leaf: usize) -> Result<Option<(usize, usize)>, SignError> {
        let fields = fields(&self.bytes);
        let (address, len) = (fields.long(leaf)?, fields.long(leaf + 4)? as usize);
        let at = address.checked_sub(self.address).map(|at| at as usize);
        Ok(at.map(|at| (at, len)).filter(|(at, len)| at + len <= self.bytes.len()))
    }
}

fn read_at(from: &mut (impl Read + Seek), offset: u64, len: u64) -> Result<Vec<u8>, SignError> {
    from.seek(SeekFrom::Start(offset))?;
    let mut bytes = Vec::new();
    from.take(len).read_to_end(&mut bytes)?;
    if bytes.len() as u64 == len { Ok(bytes) } else { Err(refused("it is cut off")) }
}

/// Returns what changes in a program with the stamp: nothing where its version resource says so already.
///
/// # Errors
/// [`SignError::Refused`] where it has no version resource, or no room in it.
pub fn program<R: Read + Seek + Send>(open: Opener<'_, R>, stamp: &Stamp) -> Result<Patches, SignError> {
    let mut from = open()?;
    let none = || {
        SignError::refused(
            "it has no version resource to write over",
            "set a version in the engine, whichever, and export again; or use version-file",
        )
    };
    let Some(section) = Section::read(&mut from)? else { return Err(none()) };
    let (mut all, mut wanted) = (Leaves::default(), Leaves::default());
    let tables_end = section.leaves(0, None, 1, &mut all)?;
    section.leaves(0, Some(RT_VERSION), 1, &mut wanted)?;
    let (all, wanted) = (all.places, wanted.places);
    if wanted.is_empty() {
        return Err(none());
    }
    let mut spans = Vec::new();
    for leaf in &all {
        spans.extend(section.span(*leaf)?);
    }
    let mut end = spans.iter().map(|(at, len)| at + len).max().unwrap_or(0).max(tables_end);
    let mut patches = Patches::default();
    for leaf in wanted {
        let (at, len) = section.span(leaf)?.ok_or_else(broken)?;
        let before = section.bytes.get(at..at + len).ok_or_else(broken)?;
        let after = rewritten(before, stamp)?;
        if before == after {
            continue;
        }
        let next = spans.iter().map(|(other, _)| *other).filter(|other| *other > at).min();
        // Behind the last one there is what is left of the section.
        let last = if tables_end > at + len { at + len } else { section.room as usize };
        let own = next.unwrap_or(last).saturating_sub(at);
        let new = |at: usize, bytes: Vec<u8>| (section.offset + at as u64, bytes);
        let long = |value: usize| u32::try_from(value).unwrap_or(u32::MAX).to_le_bytes().to_vec();
        if after.len() <= own.max(len) {
            let mut bytes = after.clone();
            // What is left of the old one is wiped.
            bytes.resize(after.len().max(len), 0);
            end = end.max(at + after.len());
            patches.0.push(new(at, bytes));
        } else {
            let moved = end.next_multiple_of(8);
            end = moved + after.len();
            if end > section.room as usize {
                return Err(SignError::refused(
                    format!("there is no room for {} and {} in its version resource", stamp.version, stamp.number),
                    "give it longer texts in the engine, such as 0.0.0.00000000, and export again; or use version-file",
                ));
            }
            patches.0.push(new(moved, after.clone()));
            let address = section.address as usize + moved;
            patches.0.push(new(leaf, long(address)));
        }
        patches.0.push(new(leaf + 4, long(after.len())));
    }
    if end > section.size as usize {
        patches.0.push((section.size_at, u32::try_from(end).unwrap_or(u32::MAX).to_le_bytes().to_vec()));
    }
    if end - section.root > section.len as usize {
        let len = u32::try_from(end - section.root).unwrap_or(u32::MAX);
        patches.0.push((section.len_at, len.to_le_bytes().to_vec()));
    }
    read_again(&mut from, &patches, stamp)?;
    Ok(patches)
}

/// A file with other bytes at some of its places.
#[derive(Debug)]
pub struct Patched<'a, R> {
    from: R,
    patches: &'a Patches,
}

impl<R: Read + Seek> Read for Patched<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let at = self.from.stream_position()?;
        let len = self.from.read(buffer)?;
        self.patches.apply(at, buffer.get_mut(..len).unwrap_or_default());
        Ok(len)
    }
}

impl<R: Seek> Seek for Patched<'_, R> {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        self.from.seek(to)
    }
}

/// Reads with the reader what was written: it says the version now, and nothing else changed.
fn read_again<R: Read + Seek>(from: &mut R, patches: &Patches, stamp: &Stamp) -> Result<(), SignError> {
    let not_valid = |error: lantern_formats::FormatError| SignError::NotValid(error.to_string());
    let before = Details::read(from).map_err(not_valid)?;
    let mut after = Details::read(&mut patches.over(&mut *from)).map_err(not_valid)?;
    let numbers = Some(four(stamp));
    let said = after.version.clone().unwrap_or_default();
    let texts_agree = said.texts.iter().all(|(name, text)| text_of(name, stamp).is_none_or(|wanted| *text == wanted));
    if said.file != numbers || said.product != numbers || !texts_agree {
        return Err(SignError::NotValid("the version resource says something else".to_owned()));
    }
    after.version.clone_from(&before.version);
    match after == before {
        true => Ok(()),
        false => Err(SignError::NotValid("more than the version changed".to_owned())),
    }
}

/// A block of a version resource with the stamp: length, length of the value, its kind, a name, the value, further blocks; each part
/// starts at a multiple of four.
fn rewritten(block: &[u8], stamp: &Stamp) -> Result<Vec<u8>, SignError> {
    let fields = fields(block);
    let value_len = fields.word(2)?;
    let (_, value) = units(block, 6)?;
    let value = value.next_multiple_of(4);
    let mut out = block.get(..value).ok_or_else(broken)?.to_vec();
    let end = value + value_len;
    let mut fixed = block.get(value..end).ok_or_else(broken)?.to_vec();
    if !fixed.starts_with(&FIXED) {
        return Err(broken());
    }
    let [a, b, c, d] = four(stamp);
    let numbers = [b, a, d, c].map(u16::to_le_bytes).concat();
    for at in [8, 16] {
        fixed.get_mut(at..at + 8).ok_or_else(broken)?.copy_from_slice(&numbers);
    }
    out.extend(fixed);
    children(block, end, 1, stamp, &mut out)?;
    finished(out)
}

/// A text that ends with a zero, and where it ends.
fn units(block: &[u8], from: usize) -> Result<(String, usize), SignError> {
    let pairs = block.get(from..).ok_or_else(broken)?.as_chunks::<2>().0;
    let len = pairs.iter().position(|pair| *pair == [0, 0]).ok_or_else(broken)?;
    let units: Vec<u16> = pairs.iter().take(len).map(|pair| u16::from_le_bytes(*pair)).collect();
    Ok((String::from_utf16_lossy(&units), from + len * 2 + 2))
}

/// The blocks within a block, from a place on.
fn children(block: &[u8], from: usize, depth: usize, stamp: &Stamp, out: &mut Vec<u8>) -> Result<(), SignError> {
    let len = fields(block).word(0)?.min(block.len());
    let mut at = from.next_multiple_of(4);
    while at + 6 <= len {
        let own = fields(block).word(at)?;
        let Some(child) = block.get(at..at + own).filter(|_| own >= 6 && at + own <= len) else { break };
        out.resize(out.len().next_multiple_of(4), 0);
        out.extend(below(child, depth, stamp)?);
        at = (at + own).next_multiple_of(4);
    }
    Ok(())
}

fn below(block: &[u8], depth: usize, stamp: &Stamp) -> Result<Vec<u8>, SignError> {
    let fields = fields(block);
    let (name, after) = units(block, 6)?;
    // `StringFileInfo`, in it one table for each language, in each the texts.
    if depth == 3 {
        let Some(text) = text_of(&name, stamp) else { return Ok(block.to_vec()) };
        let value = after.next_multiple_of(4);
        let old = block
            .get(value..)
            .filter(|rest| !rest.is_empty())
            .map_or(Ok(0), |_| Ok::<_, SignError>(units(block, value).map_or(0, |(_, end)| (end - value) / 2)))?;
        let mut out = block.get(..after.min(block.len())).ok_or_else(broken)?.to_vec();
        out.resize(value, 0);
        let new: Vec<u16> = text.encode_utf16().chain([0]).collect();
        // Some writers count a text in units, some in bytes.
        let in_bytes = old > 0 && fields.word(2)? == old * 2;
        let count = if in_bytes { new.len() * 2 } else { new.len() };
        let count = u16::try_from(count).map_err(|_| broken())?;
        out.get_mut(2..4).ok_or_else(broken)?.copy_from_slice(&count.to_le_bytes());
        out.extend(new.into_iter().flat_map(u16::to_le_bytes));
        return finished(out);
    }
    let is_wanted = match depth {
        1 => name == "StringFileInfo",
        _ => true,
    };
    if !is_wanted {
        return Ok(block.to_vec());
    }
    let value = after.next_multiple_of(4);
    let mut out = block.get(..after).ok_or_else(broken)?.to_vec();
    children(block, value + fields.word(2)?, depth + 1, stamp, &mut out)?;
    finished(out)
}

/// A block with its length.
fn finished(mut block: Vec<u8>) -> Result<Vec<u8>, SignError> {
    let len = u16::try_from(block.len()).map_err(|_| broken())?;
    block.get_mut(..2).ok_or_else(broken)?.copy_from_slice(&len.to_le_bytes());
    Ok(block)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Three levels, each entry of which leads to the same next one: more ways than anybody goes.
    #[test]
    fn resources_that_lead_in_circles_end() {
        let level = |to: u32, count: u16| {
            let mut level = vec![0; 14];
            level.extend(count.to_le_bytes());
            for _ in 0..count {
                level.extend(RT_VERSION.to_le_bytes());
                level.extend((HIGH | to).to_le_bytes());
            }
            level
        };
        let count = 60_000;
        let first = level(16 + 8 * u32::from(count), count);
        let second = level(2 * (16 + 8 * u32::from(count)), count);
        let bytes = [first, second, vec![0; 16]].concat();
        let (len, stored) = (0, u32::try_from(bytes.len()).unwrap());
        let section = Section {
            bytes,
            offset: 0,
            address: 0x1000,
            size: stored,
            size_at: 0,
            room: stored,
            root: 0,
            len,
            len_at: 0,
        };
        assert!(section.leaves(0, None, 1, &mut Leaves::default()).is_err());
    }
}
