//! Recipes: how to build a tree of chunks. Described in `docs/formats/recipe.md`.
//!
//! A recipe is a small root and content-addressed segments of about 1,000 items. Segments are cut where a chunk's
//! digest says so, so an update shares all segments but those around a change.

use std::collections::HashSet;
use std::num::NonZeroUsize;

use lantern_core::bytes::{ByteReader, Head, ReadError, write_text};
use lantern_core::digest::{Digest, RecipeId, TreeId};
use lantern_core::path::TreePath;
use lantern_core::tree::{Node, Tree, TreeError};

use lantern_chunker::Profile;

const ROOT_HEAD: Head = Head { magic: *b"LNRC", version: 2, what: "a recipe" };
const SEGMENT_HEAD: Head = Head { magic: *b"LNSG", version: 2, what: "a recipe's segment" };
const SEGMENT_REF_LEN: NonZeroUsize = NonZeroUsize::new(44).expect("not zero");
/// A segment is cut at the first item with a low digest from here on.
const MIN_ITEMS: u32 = 256;
/// A segment is cut here at the latest.
const MAX_ITEMS: u32 = 4096;
/// Behind [`MIN_ITEMS`], one in 768 items cuts: segments have about 1,000.
const CUT_ONE_IN: u32 = 768;
pub use lantern_core::limits::{MAX_ROOT_LEN, MAX_SEGMENT_LEN};

/// Zstandard's level for segments. The format does not depend on it.
const LEVEL: i32 = 3;

const RECORD_FILE: u8 = 1;
const RECORD_FOLDER: u8 = 2;
const RECORD_LINK: u8 = 3;
const RECORD_CHUNK: u8 = 4;
/// Bytes of a chunk's record: kind, digest and length.
const CHUNK_RECORD_LEN: usize = 1 + 32 + 4;

/// A chunk of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct ChunkRef {
    /// Plain BLAKE3 of its bytes.
    pub digest: Digest,
    /// In bytes.
    pub len: u32,
}

/// A segment as the root names it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SegmentRef {
    /// Plain BLAKE3 of its bytes, unpacked.
    pub digest: Digest,
    /// Of those, in bytes.
    pub len: u32,
    /// Entries in it.
    pub entries: u32,
    /// Chunks of its entries, and of the last entry before them.
    pub chunks: u32,
}

/// The root of a recipe.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Root {
    /// How files are cut.
    pub profile: Profile,
    /// What comes out.
    pub tree: TreeId,
    /// Files, empty folders and links.
    pub entry_count: u64,
    /// Bytes of all files.
    pub size: u64,
    /// In order.
    pub segments: Vec<SegmentRef>,
}

/// One entry with its chunks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Where.
    pub path: TreePath,
    /// What.
    pub node: Node,
    /// A file's chunks in order; empty for everything else.
    pub chunks: Vec<ChunkRef>,
}

/// Why bytes are not a recipe.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum RecipeError {
    /// The structure is broken.
    #[error(transparent)]
    Read(#[from] ReadError),
    /// The entries do not make a tree.
    #[error(transparent)]
    Tree(#[from] TreeError),
    /// A segment or the root is not what it is named.
    #[error("{what} is damaged: its digest is another")]
    Digest {
        /// Root or segment.
        what: &'static str,
    },
    /// Cut by a newer lantern.
    #[error("the recipe was cut with profile {0}, which this lantern does not know")]
    Profile(u16),
    /// Parts that contradict each other.
    #[error("the recipe contradicts itself: {0}")]
    Contradiction(String),
}

impl RecipeError {
    /// Whether a newer lantern may understand it.
    pub const fn is_newer(&self) -> bool {
        match self {
            Self::Read(error) => error.is_newer(),
            Self::Profile(_) => true,
            _ => false,
        }
    }
}

impl Root {
    /// Returns the bytes that are stored and hashed.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Vec::new();
        ROOT_HEAD.write(&mut out);
        out.extend(self.profile.number().to_le_bytes());
        out.extend(self.tree.0.as_bytes());
        out.extend(self.entry_count.to_le_bytes());
        out.extend(self.size.to_le_bytes());
        out.extend(u32::try_from(self.segments.len()).expect("fewer than 2^32 segments").to_le_bytes());
        for segment in &self.segments {
            out.extend(segment.digest.as_bytes());
            out.extend(segment.len.to_le_bytes());
            out.extend(segment.entries.to_le_bytes());
            out.extend(segment.chunks.to_le_bytes());
        }
        out
    }

    /// Reads a root and compares it with its id.
    ///
    /// # Errors
    /// [`RecipeError`].
    pub fn decode(id: RecipeId, bytes: &[u8]) -> Result<Self, RecipeError> {
        if RecipeId::of(bytes) != id {
            return Err(RecipeError::Digest { what: "the recipe" });
        }
        let mut reader = ByteReader::new(bytes);
        reader.head(ROOT_HEAD)?;
        let number = reader.u16("a recipe's profile")?;
        let profile = Profile::of_number(number).ok_or(RecipeError::Profile(number))?;
        let tree = TreeId(Digest::from_bytes(reader.array("a recipe's tree")?));
        let entry_count = reader.u64("a recipe's entries")?;
        let size = reader.u64("a recipe's size")?;
        let count = reader.count(SEGMENT_REF_LEN, "a recipe's segments")?;
        let mut segments = Vec::with_capacity(count);
        for _ in 0..count {
            segments.push(SegmentRef {
                digest: Digest::from_bytes(reader.array("a segment's digest")?),
                len: reader.u32("a segment's length")?,
                entries: reader.u32("a segment's entries")?,
                chunks: reader.u32("a segment's chunks")?,
            });
        }
        reader.end("a recipe")?;
        Ok(Self { profile, tree, entry_count, size, segments })
    }
}

/// A recipe as it is stored: root, id, and segments by digest.
#[derive(Debug, Clone)]
pub struct Encoded {
    /// The root's id.
    pub id: RecipeId,
    /// The root.
    pub root: Root,
    /// Each segment's digest and bytes as they are stored, in order.
    pub segments: Vec<(Digest, Vec<u8>)>,
}

/// Writes a recipe of entries in the order of their paths.
pub struct Writer {
    profile: Profile,
    segments: Vec<(Digest, Vec<u8>)>,
    refs: Vec<SegmentRef>,
    current: Vec<u8>,
    items: u32,
    /// Of these, how many are entries; and how many chunks there are, with those that are no items.
    counts: (u32, u32),
    entries: Vec<(TreePath, Node)>,
}

impl Writer {
    /// Starts a recipe.
    pub fn new(profile: Profile) -> Self {
        Self {
            profile,
            segments: Vec::new(),
            refs: Vec::new(),
            current: Vec::new(),
            items: 0,
            counts: (0, 0),
            entries: Vec::new(),
        }
    }

    /// Appends an entry.
    pub fn push(&mut self, path: TreePath, node: Node, chunks: impl ExactSizeIterator<Item = ChunkRef>) {
        let (kind, flags) = match &node {
            Node::File { executable, .. } => (RECORD_FILE, u8::from(*executable)),
            Node::EmptyFolder => (RECORD_FOLDER, 0),
            Node::Link { .. } => (RECORD_LINK, 0),
        };
        self.current.extend([kind, flags]);
        write_text(&mut self.current, path.as_str());
        match &node {
            Node::File { size, digest, .. } => {
                self.current.extend(size.to_le_bytes());
                self.current.extend(digest.as_bytes());
                self.current.extend(u32::try_from(chunks.len()).expect("fewer than 2^32 chunks").to_le_bytes());
            }
            Node::EmptyFolder => {}
            Node::Link { target } => write_text(&mut self.current, target),
        }
        self.counts.0 += 1;
        // A file of one chunk is that chunk.
        let is_one = chunks.len() == 1;
        self.counts.1 += u32::from(is_one);
        self.item(&Digest::of(path.as_str().as_bytes()));
        for chunk in chunks.filter(|_| !is_one) {
            self.current.push(RECORD_CHUNK);
            self.current.extend(chunk.digest.as_bytes());
            self.current.extend(chunk.len.to_le_bytes());
            self.counts.1 += 1;
            self.item(&chunk.digest);
        }
        self.entries.push((path, node));
    }

    /// Counts an item and cuts the segment behind it where its digest says so.
    fn item(&mut self, digest: &Digest) {
        self.items += 1;
        let [a, b, c, d, ..] = *digest.as_bytes();
        let cuts = u32::from_le_bytes([a, b, c, d]) % CUT_ONE_IN == 0;
        if self.items >= MAX_ITEMS || (self.items >= MIN_ITEMS && cuts) {
            self.close();
        }
    }

    fn close(&mut self) {
        let mut bytes = Vec::with_capacity(self.current.len() + 16);
        SEGMENT_HEAD.write(&mut bytes);
        bytes.append(&mut self.current);
        let digest = Digest::of(&bytes);
        let len = u32::try_from(bytes.len()).expect("a segment is below MAX_SEGMENT_LEN");
        self.items = 0;
        let (entries, chunks) = std::mem::take(&mut self.counts);
        self.refs.push(SegmentRef { digest, len, entries, chunks });
        self.segments.push((digest, pack_segment(&bytes)));
    }

    /// Ends the recipe.
    ///
    /// # Errors
    /// [`TreeError`] when the entries make no tree.
    pub fn finish(mut self) -> Result<(Encoded, Tree), TreeError> {
        if self.items > 0 {
            self.close();
        }
        let tree = Tree::new(self.entries)?;
        let root = Root {
            profile: self.profile,
            tree: tree.id(),
            entry_count: tree.len() as u64,
            size: tree.size(),
            segments: self.refs,
        };
        let id = RecipeId::of(&root.encode());
        Ok((Encoded { id, root, segments: self.segments }, tree))
    }
}

/// Returns a segment's bytes as they are stored and travel.
///
/// # Panics
/// When there is no memory.
pub fn pack_segment(bytes: &[u8]) -> Vec<u8> {
    let mut packed = zstd::bulk::compress(bytes, LEVEL).expect("compressing in memory does not fail");
    // It has room for what cannot be compressed; there may be thousands of segments.
    packed.shrink_to_fit();
    packed
}

/// Gives back the bytes of a segment and compares them with its digest.
///
/// # Errors
/// [`RecipeError::Digest`] for everything that is not this segment.
pub fn unpack_segment(digest: &Digest, packed: &[u8]) -> Result<Vec<u8>, RecipeError> {
    let wrong = RecipeError::Digest { what: "a segment of the recipe" };
    // What a frame claims is looked at before anything is unpacked.
    let len = zstd::zstd_safe::get_frame_content_size(packed).ok().flatten().filter(|len| *len <= MAX_SEGMENT_LEN);
    let Some(len) = len.and_then(|len| usize::try_from(len).ok()) else { return Err(wrong) };
    match zstd::bulk::decompress(packed, len) {
        Ok(bytes) if Digest::of(&bytes) == *digest => Ok(bytes),
        _ => Err(wrong),
    }
}

/// Returns the different chunks of a segment, read by itself, in the order of their first appearance.
///
/// # Errors
/// [`RecipeError`].
pub fn chunks_of_segment(expected: &SegmentRef, packed: &[u8]) -> Result<Vec<ChunkRef>, RecipeError> {
    let mut reader = Reader { before: Some(Vec::new()), ..Reader::new() };
    reader.segment(expected, packed)?;
    let before = reader.before.unwrap_or_default();
    Ok(different(before.into_iter().chain(reader.entries.into_iter().flat_map(|entry| entry.chunks))))
}

/// Reads segments in order and puts entries together again.
pub struct Reader {
    entries: Vec<Entry>,
    /// Chunks that the last file still lacks.
    missing: u32,
    /// Of one segment that is read by itself, the chunks before its first entry.
    before: Option<Vec<ChunkRef>>,
}

impl Reader {
    /// Starts before the first segment.
    pub fn new() -> Self {
        Self { entries: Vec::new(), missing: 0, before: None }
    }

    /// Reads the next segment, as it is stored, and compares it with the root's word.
    ///
    /// # Errors
    /// [`RecipeError`].
    pub fn segment(&mut self, expected: &SegmentRef, packed: &[u8]) -> Result<(), RecipeError> {
        let bytes = unpack_segment(&expected.digest, packed)?;
        let mut reader = ByteReader::new(&bytes);
        reader.head(SEGMENT_HEAD)?;
        let (mut entries, mut chunks) = (0, 0);
        while reader.remaining() > 0 {
            match self.record(&mut reader)? {
                Record::Entry => entries += 1,
                Record::FileOfOneChunk => (entries, chunks) = (entries + 1, chunks + 1),
                Record::Chunk => chunks += 1,
            }
        }
        let SegmentRef { entries: stated_entries, chunks: stated_chunks, .. } = *expected;
        if (entries, chunks) != (stated_entries, stated_chunks) || bytes.len() != expected.len as usize {
            let why = format!(
                "a segment has {entries} entries and {chunks} chunks in {} bytes, {stated_entries} and {stated_chunks} in {} were stated",
                bytes.len(),
                expected.len
            );
            return Err(RecipeError::Contradiction(why));
        }
        Ok(())
    }

    fn record(&mut self, reader: &mut ByteReader<'_>) -> Result<Record, RecipeError> {
        let offset = reader.position();
        let wrong = |why: String| ReadError::Value { what: "a recipe's record", offset, why };
        let kind = reader.u8("a record's kind")?;
        if kind == RECORD_CHUNK {
            let digest = Digest::from_bytes(reader.array("a chunk's digest")?);
            let len = reader.u32("a chunk's length")?;
            if len == 0 || len as usize > Profile::MAX_LEN {
                return Err(wrong(format!("a chunk of {len} bytes")).into());
            }
            let chunk = ChunkRef { digest, len };
            match (self.missing.checked_sub(1), self.entries.last_mut(), &mut self.before) {
                (Some(left), Some(entry), _) => {
                    self.missing = left;
                    entry.chunks.push(chunk);
                }
                (None, None, Some(before)) => before.push(chunk),
                _ => return Err(wrong("a file has more chunks than it states".to_owned()).into()),
            }
            return Ok(Record::Chunk);
        }
        if self.missing > 0 {
            return Err(wrong("a file has fewer chunks than it states".to_owned()).into());
        }
        let flags = reader.u8("a record's flags")?;
        let path = TreePath::new(reader.text("a name")?).map_err(|e| wrong(e.to_string()))?;
        let mut chunks = Vec::new();
        let node = match (kind, flags) {
            (RECORD_FILE, 0 | 1) => {
                let size = reader.u64("a file's size")?;
                let digest = Digest::from_bytes(reader.array("a file's digest")?);
                match reader.u32("a file's chunks")? {
                    1 => {
                        let len =
                            u32::try_from(size).ok().filter(|len| (1..=Profile::MAX_LEN).contains(&(*len as usize)));
                        let len = len.ok_or_else(|| wrong(format!("a chunk of {size} bytes")))?;
                        chunks = vec![ChunkRef { digest, len }];
                    }
                    more => {
                        self.missing = more;
                        // What it states is only believed as far as there is anything.
                        chunks.reserve_exact((more as usize).min(reader.remaining() / CHUNK_RECORD_LEN));
                    }
                }
                Node::File { size, digest, executable: flags == 1 }
            }
            (RECORD_FOLDER, 0) => Node::EmptyFolder,
            (RECORD_LINK, 0) => Node::Link { target: reader.text("a name")? },
            _ => return Err(wrong("unknown kind or flags".to_owned()).into()),
        };
        let record = if chunks.is_empty() { Record::Entry } else { Record::FileOfOneChunk };
        self.entries.push(Entry { path, node, chunks });
        Ok(record)
    }

    /// Ends after the last segment and compares everything with the root.
    ///
    /// # Errors
    /// [`RecipeError`].
    pub fn finish(self, root: &Root) -> Result<Vec<Entry>, RecipeError> {
        let wrong = |why: &str| Err(RecipeError::Contradiction(why.to_owned()));
        if self.missing > 0 {
            return wrong("the last file lacks chunks");
        }
        if !self.entries.is_sorted_by(|a, b| a.path < b.path) {
            return wrong("its paths are not in order");
        }
        for entry in &self.entries {
            let sum: u64 = entry.chunks.iter().map(|c| u64::from(c.len)).sum();
            if sum != entry.node.size() {
                return Err(RecipeError::Contradiction(format!("the chunks of {} do not give its size", entry.path)));
            }
        }
        let tree = Tree::new(self.entries.iter().map(|e| (e.path.clone(), e.node.clone())))?;
        if tree.id() != root.tree || tree.len() as u64 != root.entry_count || tree.size() != root.size {
            return wrong("its entries do not give the tree that it states");
        }
        Ok(self.entries)
    }
}

/// What a record of a segment was.
enum Record {
    Entry,
    FileOfOneChunk,
    Chunk,
}

impl Default for Reader {
    fn default() -> Self {
        Self::new()
    }
}

/// Puts a recipe together from its root's bytes and a way to get its segments, as they are stored.
///
/// # Errors
/// Those of `segment`, and [`RecipeError`] as `wrong` turns it.
pub fn assemble<E>(
    id: RecipeId,
    root: &[u8],
    mut segment: impl FnMut(&SegmentRef) -> Result<Vec<u8>, E>,
    wrong: impl Fn(RecipeError) -> E,
) -> Result<(Root, Vec<Entry>), E> {
    let root = Root::decode(id, root).map_err(&wrong)?;
    let mut reader = Reader::new();
    for reference in &root.segments {
        let bytes = segment(reference)?;
        reader.segment(reference, &bytes).map_err(&wrong)?;
    }
    let entries = reader.finish(&root).map_err(&wrong)?;
    Ok((root, entries))
}

/// Returns the different chunks in the order of their first appearance: by their index in it, a storefront says which it
/// lacks.
pub fn different_chunks(entries: &[Entry]) -> Vec<Digest> {
    let mut seen = HashSet::new();
    entries.iter().flat_map(|e| &e.chunks).map(|c| c.digest).filter(|digest| seen.insert(*digest)).collect()
}

/// Returns for each segment that has chunks which those are, each once, in the order of their first appearance.
pub fn chunks_by_segment<'a>(
    root: &'a Root,
    entries: &'a [Entry],
) -> impl Iterator<Item = (&'a SegmentRef, Vec<ChunkRef>)> {
    let mut all = entries.iter().flat_map(|entry| &entry.chunks).copied();
    let of_segment = move |segment: &'a SegmentRef| (segment, different(all.by_ref().take(segment.chunks as usize)));
    root.segments.iter().map(of_segment).filter(|(_, chunks)| !chunks.is_empty())
}

/// Returns the segments that have chunks of some kind, with all of their chunks.
pub fn segments_with(
    root: &Root,
    entries: &[Entry],
    is_meant: impl Fn(&Digest) -> bool,
) -> Vec<(Digest, Vec<ChunkRef>)> {
    let with =
        chunks_by_segment(root, entries).filter(|(_, chunks)| chunks.iter().any(|chunk| is_meant(&chunk.digest)));
    with.map(|(segment, chunks)| (segment.digest, chunks)).collect()
}

/// Leaves out chunks that came before.
fn different(chunks: impl Iterator<Item = ChunkRef>) -> Vec<ChunkRef> {
    let mut seen = HashSet::new();
    chunks.filter(|chunk| seen.insert(chunk.digest)).collect()
}

/// Returns the different chunks that a new build has and an old one does not, in the order of their first appearance. Both are in the order of
/// their paths.
pub fn lacking<'a>(old: &[Entry], new: &'a [Entry]) -> Vec<&'a ChunkRef> {
    // Of millions of chunks only those need a place in a table whose file is not the same as before.
    let mut earlier = old.iter().peekable();
    let (mut left, mut in_order): (HashSet<Digest>, Vec<&ChunkRef>) = Default::default();
    for entry in new {
        while earlier.next_if(|there| there.path < entry.path).is_some() {}
        if earlier.peek().is_none_or(|there| there.path != entry.path || there.chunks != entry.chunks) {
            in_order.extend(entry.chunks.iter().filter(|chunk| left.insert(chunk.digest)));
        }
    }
    for chunk in old.iter().flat_map(|entry| &entry.chunks) {
        if left.is_empty() {
            break;
        }
        left.remove(&chunk.digest);
    }
    in_order.retain(|chunk| left.contains(&chunk.digest));
    in_order
}

#[cfg(test)]
mod tests;
