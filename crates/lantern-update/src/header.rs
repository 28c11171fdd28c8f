//! The head of an update file: between which recipes it leads, what it makes, and where its groups lie. Described in `docs/formats/update.md`.

use lantern_core::bytes::{ByteReader, Head, ReadError};
use lantern_core::digest::{Digest, RecipeId};

use crate::streams::{COUNT, NAMES};
use crate::varint;

const HEAD: Head = Head { magic: *b"LNUP", version: 1, what: "an update file" };
const WHAT: &str = "an update file's head";
/// Bytes before the packed list of parts.
const FIXED_LEN: usize = 10 + 32 + 32 + 4 + 4;
/// Longest head, in bytes: some ten million parts.
pub const MAX_HEADER_LEN: usize = 64 * 1024 * 1024;
/// Most bytes of a group's streams, unpacked.
pub const MAX_GROUP_LEN: usize = 96 * 1024 * 1024;

/// Bytes of a new file that one group makes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Part {
    /// Which file, counted among the files of the new recipe in their order.
    pub file: u32,
    /// Its first byte in the file.
    pub offset: u64,
    /// Bytes of the file.
    pub len: u64,
}

/// One group: a block that can be fetched and applied by itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Group {
    /// What it makes, in order.
    pub parts: Vec<Part>,
    /// Bytes of each stream, unpacked.
    pub(crate) raw: [u32; COUNT],
    /// Bytes of each stream as a Zstandard frame; 0 for one that is empty.
    pub(crate) stored: [u32; COUNT],
    /// Plain BLAKE3 of its stored bytes.
    pub digest: Digest,
    /// Where it begins in the update file.
    pub offset: u64,
}

impl Group {
    /// Its bytes in the update file.
    pub fn len(&self) -> u64 {
        self.stored.iter().map(|len| u64::from(*len)).sum()
    }

    /// Its streams: what each holds, and its bytes unpacked and stored.
    pub fn streams(&self) -> impl Iterator<Item = (&'static str, u32, u32)> {
        let lens = self.raw.iter().zip(&self.stored);
        NAMES.iter().zip(lens).map(|(name, (raw, stored))| (*name, *raw, *stored))
    }

    /// Whether it has none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// The head of an update file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Header {
    /// What must be there.
    pub from: RecipeId,
    /// What comes of it.
    pub to: RecipeId,
    /// In order.
    pub groups: Vec<Group>,
    /// Its own bytes.
    len: u64,
}

impl Header {
    /// So many first bytes say how long the head is ([`Self::len_of`]).
    pub const PREFIX_LEN: usize = FIXED_LEN;

    /// Bytes of the head alone.
    pub fn header_len(&self) -> u64 {
        self.len
    }

    /// Bytes of the whole update file.
    pub fn total_len(&self) -> u64 {
        self.len + self.groups.iter().map(Group::len).sum::<u64>()
    }

    /// Says how long the head is whose first [`Self::PREFIX_LEN`] bytes these are.
    ///
    /// # Errors
    /// [`ReadError`].
    pub fn len_of(prefix: &[u8]) -> Result<usize, ReadError> {
        let mut reader = ByteReader::new(prefix);
        reader.head(HEAD)?;
        reader.slice(64, WHAT)?;
        let stored = reader.u32(WHAT)? as usize;
        let raw = reader.u32(WHAT)? as usize;
        if stored > MAX_HEADER_LEN || raw > MAX_HEADER_LEN {
            return Err(ReadError::ImpossibleCount {
                what: WHAT,
                declared: stored.max(raw) as u64,
                possible: MAX_HEADER_LEN,
            });
        }
        Ok(FIXED_LEN + stored + 32)
    }

    /// Puts a head together; where groups begin and how long it is comes of itself.
    pub(crate) fn new(from: RecipeId, to: RecipeId, mut groups: Vec<Group>) -> (Self, Vec<u8>) {
        let mut body = Vec::new();
        varint::write(&mut body, groups.len() as u64);
        let mut before = (0_u32, 0_u64);
        for group in &groups {
            varint::write(&mut body, group.parts.len() as u64);
            for part in &group.parts {
                varint::write(&mut body, u64::from(part.file - before.0));
                varint::write(&mut body, part.len);
                if part.file != before.0 || before.1 == 0 {
                    varint::write(&mut body, part.offset);
                }
                before = (part.file, part.offset + part.len);
            }
            for len in group.raw.iter().chain(&group.stored) {
                varint::write(&mut body, u64::from(*len));
            }
            body.extend(group.digest.as_bytes());
        }
        let packed = zstd::bulk::compress(&body, 19).expect("memory is there");
        let mut out = Vec::with_capacity(FIXED_LEN + packed.len() + 32);
        HEAD.write(&mut out);
        out.extend(from.0.as_bytes());
        out.extend(to.0.as_bytes());
        out.extend(u32::try_from(packed.len()).expect("a head is far shorter").to_le_bytes());
        out.extend(u32::try_from(body.len()).expect("a head is far shorter").to_le_bytes());
        out.extend(packed);
        let digest = Digest::of(&out);
        out.extend(digest.as_bytes());
        let len = out.len() as u64;
        let mut offset = len;
        for group in &mut groups {
            group.offset = offset;
            offset += group.len();
        }
        (Self { from, to, groups, len }, out)
    }

    /// Reads a head. What follows it may be there, and is not looked at.
    ///
    /// # Errors
    /// [`ReadError`]; no part is promised to lie within its file, for the files' lengths are not known here.
    pub fn decode(bytes: &[u8]) -> Result<Self, ReadError> {
        let len = Self::len_of(bytes)?;
        let mut reader = ByteReader::new(bytes);
        let body_len = len - FIXED_LEN - 32;
        reader.slice(10, WHAT)?;
        let from = RecipeId(Digest::from_bytes(reader.array(WHAT)?));
        let to = RecipeId(Digest::from_bytes(reader.array(WHAT)?));
        reader.u32(WHAT)?;
        let raw_len = reader.u32(WHAT)? as usize;
        let packed = reader.slice(body_len, WHAT)?;
        let digest = Digest::from_bytes(reader.array(WHAT)?);
        let wrong = |why: &str| ReadError::Value { what: WHAT, offset: 0, why: why.to_owned() };
        if Digest::of(bytes.get(..len - 32).unwrap_or_default()) != digest {
            return Err(wrong("its digest is another"));
        }
        let body = unpack(packed, raw_len).ok_or_else(|| wrong("its list of parts cannot be unpacked"))?;
        let groups = Self::groups(&body, len as u64)?;
        Ok(Self { from, to, groups, len: len as u64 })
    }

    fn groups(body: &[u8], len: u64) -> Result<Vec<Group>, ReadError> {
        let mut reader = ByteReader::new(body);
        let count = counted(&mut reader, 32)?;
        let mut groups = Vec::with_capacity(count);
        let mut offset = len;
        let mut before = (0_u32, 0_u64);
        for _ in 0..count {
            let parts_count = counted(&mut reader, 2)?;
            let mut parts = Vec::with_capacity(parts_count);
            for _ in 0..parts_count {
                let at = reader.position();
                let wrong = || ReadError::Value { what: WHAT, offset: at, why: "a part lies nowhere".to_owned() };
                let step = u32::try_from(varint::read(&mut reader, WHAT)?).map_err(|_| wrong())?;
                let file = before.0.checked_add(step).ok_or_else(wrong)?;
                let part_len = varint::read(&mut reader, WHAT)?;
                let begin = if step != 0 || before.1 == 0 { varint::read(&mut reader, WHAT)? } else { before.1 };
                let end = begin.checked_add(part_len).filter(|_| part_len > 0).ok_or_else(wrong)?;
                parts.push(Part { file, offset: begin, len: part_len });
                before = (file, end);
            }
            let mut lens = [[0_u32; COUNT]; 2];
            for len in lens.iter_mut().flatten() {
                let at = reader.position();
                let wrong = || ReadError::Value { what: WHAT, offset: at, why: "a stream is too long".to_owned() };
                *len = u32::try_from(varint::read(&mut reader, WHAT)?).map_err(|_| wrong())?;
            }
            let [raw, stored] = lens;
            for lens in [raw, stored] {
                let sum: u64 = lens.iter().map(|len| u64::from(*len)).sum();
                if sum > MAX_GROUP_LEN as u64 {
                    return Err(ReadError::ImpossibleCount { what: WHAT, declared: sum, possible: MAX_GROUP_LEN });
                }
            }
            let digest = Digest::from_bytes(reader.array(WHAT)?);
            let group = Group { parts, raw, stored, digest, offset };
            offset += group.len();
            groups.push(group);
        }
        reader.end(WHAT)?;
        Ok(groups)
    }
}

/// A count of things of at least `min_len` bytes.
fn counted(reader: &mut ByteReader<'_>, min_len: usize) -> Result<usize, ReadError> {
    let declared = varint::read(reader, WHAT)?;
    let possible = reader.remaining() / min_len;
    usize::try_from(declared).ok().filter(|count| *count <= possible).ok_or(ReadError::ImpossibleCount {
        what: WHAT,
        declared,
        possible,
    })
}

/// Unpacks one Zstandard frame of exactly so many bytes.
pub(crate) fn unpack(packed: &[u8], raw_len: usize) -> Option<Vec<u8>> {
    let raw = zstd::bulk::decompress(packed, raw_len).ok()?;
    (raw.len() == raw_len).then_some(raw)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sample() -> (Header, Vec<u8>) {
        let part = |file, offset, len| Part { file, offset, len };
        let group = |parts, n: u32| Group {
            parts,
            raw: [n; COUNT],
            stored: [n / 2, 0, 1, 2, 3, n],
            digest: Digest::of(&n.to_le_bytes()),
            offset: 0,
        };
        let groups = vec![
            group(vec![part(0, 0, 10), part(3, 0, 1000)], 9),
            group(vec![part(3, 1000, 5), part(3, 1005, 7)], 70_000),
            group(vec![], 1),
            group(vec![part(9, 50, 5)], 8),
        ];
        Header::new(RecipeId::of(b"from"), RecipeId::of(b"to"), groups)
    }

    #[test]
    fn a_head_comes_back_and_says_where_its_groups_lie() {
        let (header, mut bytes) = sample();
        assert_eq!(Header::len_of(&bytes[..Header::PREFIX_LEN]).unwrap(), bytes.len());
        bytes.extend(b"what follows");
        assert_eq!(Header::decode(&bytes).unwrap(), header);
        assert_eq!(header.groups[1].offset, header.header_len() + header.groups[0].len());
        assert_eq!(header.total_len(), header.groups[3].offset + header.groups[3].len());
    }

    #[test]
    fn every_truncation_and_every_changed_byte_is_noticed() {
        let bytes = sample().1;
        for at in 0..bytes.len() {
            assert!(Header::decode(&bytes[..at]).is_err(), "{at}");
            let mut changed = bytes.clone();
            changed[at] ^= 0x20;
            assert!(Header::decode(&changed).is_err(), "{at}");
        }
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(body in prop::collection::vec(any::<u8>(), 0..200)) {
            if let Ok(groups) = Header::groups(&body, 5) {
                for group in groups {
                    prop_assert!(group.parts.iter().all(|part| part.len > 0));
                }
            }
        }
    }
}
