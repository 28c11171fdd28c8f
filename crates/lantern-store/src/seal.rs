//! Sealing: a list of files becomes chunks in packs, a recipe, a locator and a tree.
//!
//! Where there is a build before, files that it has as well are hashed first, all processors at once, and are not cut again. Of the rest
//! one thread reads and cuts, one hashes files; one per processor hashes, compresses chunks; the caller's thread packs them
//! in the order of reading, and one more writes full packs. The result does not depend on how many threads there are or how they race: a chunk is
//! packed at its first occurrence, and workers leave out only what is packed already, in a pack that was checked.

use std::collections::{BTreeMap, HashSet};
use std::io::{self, Read};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, RwLock};

use lantern_core::compression::Compression;
use lantern_core::digest::{Digest, RecipeId, TreeId};
use lantern_core::parallel::processors;
use lantern_core::path::TreePath;
use lantern_core::progress::{Progress, Task};
use lantern_core::tree::{Node, Tree, TreeError};

use crate::chunk_index::ChunkIndex;
use crate::codec::{Codec, Packer};
use crate::pack::PackWriter;
use crate::recipe::{ChunkRef, Encoded, Entry, Writer};
use crate::store::{Store, StoreError};
use crate::thin::thin;
use earlier::{Earlier, Following};
use lantern_chunker::Profile;
use read::{Cutter, hash_all, read_all, with_digests};

mod earlier;
mod read;

/// Bytes that travel between the threads at a time.
const BLOCK_LEN: usize = 512 * 1024;
/// Blocks that may wait for a worker.
const BLOCKS_WAITING: usize = 4;

/// Something to seal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SourceKind {
    /// A file of so many bytes.
    File {
        /// As it was listed.
        size: u64,
    },
    /// A folder with nothing in it.
    EmptyFolder,
    /// A relative link.
    Link {
        /// As it is written in the link.
        target: String,
    },
}

/// One entry to seal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SourceEntry {
    /// Where it goes.
    pub path: TreePath,
    /// What it is.
    pub kind: SourceKind,
}

impl SourceEntry {
    /// Whether it is a file.
    pub fn is_file(&self) -> bool {
        matches!(self.kind, SourceKind::File { .. })
    }

    /// Returns a file's size, in bytes; other entries have none.
    pub fn size(&self) -> u64 {
        match self.kind {
            SourceKind::File { size } => size,
            SourceKind::EmptyFolder | SourceKind::Link { .. } => 0,
        }
    }
}

/// Where the bytes of [`SourceEntry`]s come from, by their index.
pub trait Source: Sync {
    /// Opens a file.
    ///
    /// # Errors
    /// The system's.
    fn open(&self, index: usize) -> io::Result<Box<dyn Read + '_>>;

    /// Whether an installed copy of the file gets the executable bit; `first` are its first bytes, 8 if it has as many.
    fn is_executable(&self, index: usize, first: &[u8]) -> bool;

    /// Whether the file still is as it was listed. Asked after it was read.
    ///
    /// # Errors
    /// The system's.
    fn is_unchanged(&self, index: usize) -> io::Result<bool>;
}

/// What came of sealing.
#[derive(Debug, Clone)]
pub struct SealedTree {
    /// What it holds.
    pub tree: Tree,
    /// Its id.
    pub id: TreeId,
    /// How to fetch it.
    pub recipe: RecipeId,
    /// Bytes that were read.
    pub read: u64,
    /// Chunks that were not in the store.
    pub new_chunks: u64,
    /// Bytes of packs that were written for them.
    pub new_stored: u64,
}

/// Why sealing ended.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SealError {
    /// A file could not be read.
    #[error("could not read {path}")]
    Read {
        /// Which.
        path: TreePath,
        /// The system's reason.
        #[source]
        source: io::Error,
    },
    /// A file changed while it was read.
    #[error("{path} changed while it was being read")]
    Changed {
        /// Which.
        path: TreePath,
    },
    /// The entries do not make a tree.
    #[error(transparent)]
    Tree(#[from] TreeError),
    /// The store could not be read or written.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Someone asked to stop.
    #[error("nothing is half done")]
    Stopped,
}

/// Buffers that are used again. When one thread allocates and another frees, the allocator keeps much of it for each of them.
#[derive(Default)]
struct Spare(Mutex<Vec<Vec<u8>>>);

impl Spare {
    /// Most that is kept. Ours: what travels between the threads at a time.
    const MOST: usize = 2 * BLOCKS_WAITING + 8;

    fn take(&self) -> Vec<u8> {
        self.0.lock().expect("no thread panics with the lock").pop().unwrap_or_default()
    }

    /// Takes what is in a block back, once nobody has it any more.
    fn give_last(&self, block: Arc<Block>) {
        if let Some(block) = Arc::into_inner(block) {
            self.give(block.data);
        }
    }

    fn give(&self, mut bytes: Vec<u8>) {
        bytes.clear();
        let mut kept = self.0.lock().expect("no thread panics with the lock");
        if kept.len() < Self::MOST {
            kept.push(bytes);
        }
    }
}

/// Consecutive chunks, of one file or several.
struct Block {
    sequence: u64,
    data: Vec<u8>,
    /// How long each is, and what it is where the build before has it or had to be asked for it.
    chunks: Vec<(u32, Option<Digest>)>,
    /// Where files end.
    ends: Vec<usize>,
}

impl Block {
    /// A block that begins with bytes that are not cut yet.
    const fn new(sequence: u64, data: Vec<u8>) -> Self {
        Self { sequence, data, chunks: Vec::new(), ends: Vec::new() }
    }
}

/// What a worker makes of a block.
struct Packed {
    sequence: u64,
    cuts: Vec<Cut>,
    /// The bytes of its chunks as they are stored, one behind the other.
    stored: Vec<u8>,
}

struct Cut {
    chunk: ChunkRef,
    stored: Stored,
}

/// What a worker gives the packer of a chunk; lengths are those in [`Packed::stored`].
#[derive(Clone, Copy)]
enum Stored {
    /// It is packed already, and its pack is sound.
    There,
    /// Its bytes as they are stored.
    New(Codec, usize),
    /// It is known, but lies in a pack that is damaged: its bytes once more.
    Again(Codec, usize),
}

/// What was learned of a file.
struct FileRead {
    node: Node,
    chunks: FileChunks,
}

enum FileChunks {
    /// So many of those that were cut, in the order of reading.
    Cut(usize),
    /// Those of this file of the build before.
    Earlier(u32),
}

/// Seals one list of files after the other into a store; what the store holds is looked up once.
pub struct Sealer<'a> {
    store: &'a Store,
    /// None before it was looked up, and after an error.
    known: Option<ChunkIndex>,
    compression: Compression,
}

impl<'a> Sealer<'a> {
    /// Looks nothing up yet.
    pub fn new(store: &'a Store) -> Self {
        Self { store, known: None, compression: Compression::default() }
    }

    /// With so much work for what is new.
    #[must_use]
    pub fn with(self, compression: Compression) -> Self {
        Self { compression, ..self }
    }

    /// Seals `entries`, which are in the order of their paths. What is new is kept as its difference to what is in `earlier`, where
    /// that is much shorter; without an earlier build all of it is whole.
    ///
    /// # Errors
    /// [`SealError`]; packs that were already written stay, and the next run finds their chunks.
    pub fn seal(
        &mut self,
        entries: &[SourceEntry],
        source: &dyn Source,
        earlier: Option<RecipeId>,
        progress: &dyn Progress,
    ) -> Result<SealedTree, SealError> {
        let known = match self.known.take() {
            Some(known) => known,
            None => self.store.known_chunks()?,
        };
        let (sealed, known) =
            seal_knowing(self.store, known, (earlier, self.compression), (entries, source), progress)?;
        self.known = Some(known);
        Ok(sealed)
    }
}

/// Seals one list of files.
///
/// # Errors
/// Those of [`Sealer::seal`].
pub fn seal(
    store: &Store,
    entries: &[SourceEntry],
    source: &dyn Source,
    progress: &dyn Progress,
) -> Result<SealedTree, SealError> {
    Sealer::new(store).seal(entries, source, None, progress)
}

fn seal_knowing(
    store: &Store,
    known: ChunkIndex,
    (earlier, compression): (Option<RecipeId>, Compression),
    (entries, source): (&[SourceEntry], &dyn Source),
    progress: &dyn Progress,
) -> Result<(SealedTree, ChunkIndex), SealError> {
    let profile = Profile::Medium;
    let known = RwLock::new(known);
    let total = entries.iter().map(SourceEntry::size).sum();
    let meter = progress.start(Task::Seal, Some(total));
    let workers = processors();
    let spare = Spare::default();

    let earlier = earlier.map(|earlier| Earlier::read(store, earlier, profile));
    let looked = match &earlier {
        Some(earlier) => {
            let known = known.read().expect("no thread panics with the lock");
            earlier.look((store, &known), (entries, source), &*meter, progress)?
        }
        None => Vec::new(),
    };
    let (files, chunks, written) = std::thread::scope(|scope| {
        let (block_sender, block_receiver) = sync_channel::<Arc<Block>>(BLOCKS_WAITING);
        let (hash_sender, hash_receiver) = sync_channel::<Arc<Block>>(BLOCKS_WAITING);
        let (cut_sender, cut_receiver) = sync_channel::<Packed>(BLOCKS_WAITING);
        let (meter, spare) = (&*meter, &spare);
        let following = earlier.as_ref().map(Following::new);
        let reading = scope.spawn(move || {
            let block = Block::new(0, spare.take());
            let cutter = Cutter::new(block, following, spare, (&hash_sender, &block_sender));
            read_all(entries, (source, looked), profile, meter, progress, cutter)
        });
        let hashing = scope.spawn(move || hash_all(&hash_receiver, spare));
        let blocks = Arc::new(Mutex::new(block_receiver));
        for _ in 0..workers {
            let (blocks, sender, known) = (blocks.clone(), cut_sender.clone(), &known);
            scope.spawn(move || work((store, known), compression, &blocks, &sender, spare));
        }
        drop((cut_sender, blocks));
        let packing = pack_all((store, earlier.is_some()), &cut_receiver, &known, spare);
        // A failed packer must not leave the others waiting for it.
        drop(cut_receiver);
        let parts = reading.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        let digests = hashing.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        match (parts, packing) {
            (Ok(parts), Ok((chunks, written))) => Ok((with_digests(parts, digests), chunks, written)),
            (_, Err(error)) | (Err(error), _) => Err(error),
        }
    })?;

    let mut known = known.into_inner().expect("no thread panics with the lock");
    let earlier = earlier.unwrap_or_default();
    let entries = describe(entries, files, (&chunks, &known), &earlier);
    let (encoded, tree) = encode(profile, &entries)?;
    let Encoded { id: recipe, root, segments } = encoded;
    let Written { chunks: new_chunks, bytes, packs, has_again } = written;
    let earlier = if has_again { Vec::new() } else { earlier.into_entries() };
    let thinned = thin(store, &mut known, &packs, &entries, (earlier, compression), progress)?;
    let (removed, written) = thinned.ok_or(SealError::Stopped)?;
    let new_stored = bytes - removed + written;
    for (digest, packed) in segments {
        store.write_segment(&digest, &packed)?;
    }
    store.write_recipe(recipe, &root, &entries, &known, &tree)?;
    Ok((SealedTree { id: root.tree, recipe, read: total, new_chunks, new_stored, tree }, known))
}

fn work(
    (store, known): (&Store, &RwLock<ChunkIndex>),
    compression: Compression,
    blocks: &Mutex<Receiver<Arc<Block>>>,
    out: &SyncSender<Packed>,
    spare: &Spare,
) {
    let mut packer = Packer::with(compression);
    // Whether the pack that was relied on last is sound: neighbours mostly lie in the same.
    let mut last: Option<(Digest, bool)> = None;
    let mut relies_on = |pack: Digest| match last {
        Some((known, sound)) if known == pack => sound,
        _ => last.insert((pack, store.is_sound(&pack))).1,
    };
    loop {
        let block = match blocks.lock().expect("no worker panics with the lock").recv() {
            Ok(block) => block,
            Err(_) => return,
        };
        let mut rest = block.data.as_slice();
        let mut cuts = Vec::with_capacity(block.chunks.len());
        let mut bytes = spare.take();
        let mut put = |(codec, stored): (Codec, &[u8])| {
            bytes.extend(stored);
            (codec, stored.len())
        };
        for (len, digest) in &block.chunks {
            let (raw, after) = rest.split_at(*len as usize);
            rest = after;
            let digest = digest.unwrap_or_else(|| Digest::of(raw));
            // None: not known. Its pack has no name while this very run is still writing it.
            let place = {
                let known = known.read().expect("no thread panics with the lock");
                known.index_of(&digest).and_then(|index| known.at(index)).map(|(pack, _)| known.pack(pack))
            };
            let stored = match place {
                None => {
                    let (codec, len) = put(packer.pack(raw));
                    Stored::New(codec, len)
                }
                Some(Some((pack, _))) if !relies_on(pack) => {
                    let (codec, len) = put(packer.pack(raw));
                    Stored::Again(codec, len)
                }
                Some(_) => Stored::There,
            };
            cuts.push(Cut { chunk: ChunkRef { digest, len: *len }, stored });
        }
        let sequence = block.sequence;
        spare.give_last(block);
        if out.send(Packed { sequence, cuts, stored: bytes }).is_err() {
            return;
        }
    }
}

#[derive(Default)]
struct Written {
    chunks: u64,
    /// Of packs.
    bytes: u64,
    /// By their numbers in what is known.
    packs: Vec<u32>,
    /// Whether something was there before, in packs that are damaged: others may be differences to it.
    has_again: bool,
}

/// A pack that is full, and its number in what is known.
struct Full {
    number: u32,
    name: Digest,
    bytes: Vec<u8>,
}

/// Writes packs as they come; returns the number, name and length of each.
fn write_all(
    (store, to_thin): (&Store, bool),
    packs: &Receiver<Full>,
    spare: &Spare,
) -> Result<Vec<(u32, Digest, u32)>, SealError> {
    let mut out = Vec::new();
    for Full { number, name, bytes } in packs {
        if to_thin {
            store.note_fresh(&name)?;
        }
        store.write_pack(&name, &bytes)?;
        out.push((number, name, u32::try_from(bytes.len()).expect("a pack is closed far below 4 GiB")));
        spare.give(bytes);
    }
    Ok(out)
}

/// Packs what is new; returns every chunk in the order of reading, by its index in what is known. One thread more writes what is full: the
/// workers and the packing go on while the disk writes.
fn pack_all(
    to: (&Store, bool),
    cuts: &Receiver<Packed>,
    known: &RwLock<ChunkIndex>,
    spare: &Spare,
) -> Result<(Vec<u32>, Written), SealError> {
    // Two: one fills up while the other is written.
    let packs = Spare::default();
    let packs = &packs;
    std::thread::scope(|scope| {
        // One is written while the next fills up: more would only take memory.
        let (sender, receiver) = sync_channel::<Full>(0);
        let writing = scope.spawn(move || write_all(to, &receiver, packs));
        let packed = pack_into(cuts, known, &sender, (spare, packs));
        drop(sender);
        let written = writing.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
        let (chunks, mut out) = packed?;
        // Only now: nobody is to rely on a pack that is not whole on the disk.
        let mut known = known.write().expect("no thread panics with the lock");
        for (number, name, len) in written {
            out.bytes += u64::from(len);
            out.packs.push(number);
            known.name_pack(number, name, len);
        }
        Ok((chunks, out))
    })
}

fn pack_into(
    cuts: &Receiver<Packed>,
    known: &RwLock<ChunkIndex>,
    full: &SyncSender<Full>,
    (spare, packs): (&Spare, &Spare),
) -> Result<(Vec<u32>, Written), SealError> {
    let lock = || known.write().expect("no thread panics with the lock");
    let mut waiting = BTreeMap::new();
    let mut next = 0;
    let mut chunks = Vec::new();
    let mut writer = PackWriter::new();
    let mut pack = lock().open_pack();
    let mut written = Written::default();
    let mut again = HashSet::new();
    // Nobody takes it when writing failed; that error is the one to tell.
    let close = |writer: &mut PackWriter, number: u32| {
        let (name, bytes, _) = writer.take();
        full.send(Full { number, name, bytes }).map_err(|_| SealError::Stopped)?;
        *writer = PackWriter::in_buffer(packs.take());
        Ok::<(), SealError>(())
    };
    for block in cuts {
        waiting.insert(block.sequence, block);
        while let Some(Packed { cuts, stored, .. }) = waiting.remove(&next) {
            next += 1;
            let mut known = lock();
            let mut rest = stored.as_slice();
            for cut in cuts {
                let ChunkRef { digest, len } = cut.chunk;
                let bytes = match cut.stored {
                    Stored::There => &[],
                    Stored::New(_, len) | Stored::Again(_, len) => {
                        let (bytes, after) = rest.split_at(len);
                        rest = after;
                        bytes
                    }
                };
                let index = match (known.index_of(&digest), cut.stored) {
                    (Some(index), Stored::Again(codec, _)) => {
                        // Once is enough, however often it comes.
                        if again.insert(index) {
                            written.has_again = true;
                            written.chunks += 1;
                            known.replace(pack, &writer.push(digest, codec, len, bytes));
                        }
                        index
                    }
                    (Some(index), _) => index,
                    (None, Stored::New(codec, _) | Stored::Again(codec, _)) => {
                        written.chunks += 1;
                        known.add(pack, &writer.push(digest, codec, len, bytes))
                    }
                    (None, Stored::There) => unreachable!("a worker leaves out only what is packed"),
                };
                chunks.push(index);
                if writer.is_full() {
                    drop(known);
                    close(&mut writer, pack)?;
                    known = lock();
                    pack = known.open_pack();
                }
            }
            drop(known);
            spare.give(stored);
        }
    }
    if !writer.is_empty() {
        close(&mut writer, pack)?;
    }
    Ok((chunks, written))
}

fn describe(
    entries: &[SourceEntry],
    files: Vec<FileRead>,
    (chunks, known): (&[u32], &ChunkIndex),
    earlier: &Earlier,
) -> Vec<Entry> {
    let mut rest = chunks;
    let described = entries.iter().zip(files).map(|(entry, file)| {
        let chunks = match file.chunks {
            FileChunks::Earlier(file) => earlier.chunks(file).to_vec(),
            FileChunks::Cut(count) => {
                let (own, after) = rest.split_at(count);
                rest = after;
                let chunk = |index: &u32| {
                    let (_, entry) = known.at(*index).expect("every chunk is packed");
                    ChunkRef { digest: entry.digest, len: entry.raw_len }
                };
                own.iter().map(chunk).collect()
            }
        };
        Entry { path: entry.path.clone(), node: file.node, chunks }
    });
    described.collect()
}

fn encode(profile: Profile, entries: &[Entry]) -> Result<(Encoded, Tree), SealError> {
    let mut writer = Writer::new(profile);
    for entry in entries {
        writer.push(entry.path.clone(), entry.node.clone(), entry.chunks.iter().copied());
    }
    Ok(writer.finish()?)
}
