//! The threads that come first: one reads files and cuts them, one hashes them.

use std::io::Read;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender};

use lantern_chunker::Profile;
use lantern_core::digest::Digest;
use lantern_core::path::TreePath;
use lantern_core::progress::{Meter, Progress};
use lantern_core::tree::Node;

use super::earlier::{Following, Looked};
use super::{BLOCK_LEN, Block, FileChunks, FileRead, SealError, Source, SourceEntry, SourceKind, Spare};

/// What the reading thread says of a file.
pub(super) enum Part {
    /// All there is to say.
    Known(FileRead),
    /// Its digest is with the thread that hashes files.
    Cut { size: u64, executable: bool, chunks: usize },
}

pub(super) fn read_all(
    entries: &[SourceEntry],
    (source, looked): (&dyn Source, Vec<Looked>),
    profile: Profile,
    meter: &dyn Meter,
    progress: &dyn Progress,
    mut cutter: Cutter<'_>,
) -> Result<Vec<Part>, SealError> {
    let mut files = Vec::with_capacity(entries.len());
    let looked = looked.into_iter().chain(std::iter::repeat_with(|| Looked::Not));
    for ((index, entry), looked) in entries.iter().enumerate().zip(looked) {
        let is_counted = match looked {
            Looked::Same(file) => {
                files.push(Part::Known(file));
                continue;
            }
            looked => matches!(looked, Looked::Differs),
        };
        let SourceKind::File { size } = entry.kind else {
            let node = match &entry.kind {
                SourceKind::Link { target } => Node::Link { target: target.clone() },
                _ => Node::EmptyFolder,
            };
            files.push(Part::Known(FileRead { node, chunks: FileChunks::Cut(0) }));
            continue;
        };
        let failed = |e| SealError::Read { path: entry.path.clone(), source: e };
        let mut reader = source.open(index).map_err(failed)?;
        cutter.begin(&entry.path);
        let (mut read, mut chunks, mut executable) = (0, 0, false);
        loop {
            if progress.stopped() {
                return Err(SealError::Stopped);
            }
            let start = cutter.block.data.len();
            (&mut reader).take(BLOCK_LEN as u64 / 2).read_to_end(&mut cutter.block.data).map_err(failed)?;
            let fresh = cutter.block.data.get(start..).unwrap_or_default();
            if read == 0 {
                executable = source.is_executable(index, fresh.get(..8).unwrap_or(fresh));
            }
            if fresh.is_empty() {
                break;
            }
            read += fresh.len() as u64;
            if !is_counted {
                meter.add(fresh.len() as u64);
            }
            // A file that grows without end would be read without end.
            if read > size {
                return Err(SealError::Changed { path: entry.path.clone() });
            }
            chunks += cutter.cut(profile, false)?;
        }
        chunks += cutter.cut(profile, true)?;
        cutter.end();
        if read != size || !source.is_unchanged(index).map_err(failed)? {
            return Err(SealError::Changed { path: entry.path.clone() });
        }
        files.push(Part::Cut { size, executable, chunks });
    }
    cutter.send()?;
    Ok(files)
}

/// Hashes files; returns their digests in the order of reading.
pub(super) fn hash_all(blocks: &Receiver<Arc<Block>>, spare: &Spare) -> Vec<Digest> {
    let mut out = Vec::new();
    let mut hasher = blake3::Hasher::new();
    for block in blocks {
        let mut start = 0;
        for end in &block.ends {
            hasher.update(block.data.get(start..*end).unwrap_or_default());
            out.push(Digest::from_bytes(*hasher.finalize().as_bytes()));
            hasher.reset();
            start = *end;
        }
        hasher.update(block.data.get(start..).unwrap_or_default());
        spare.give_last(block);
    }
    out
}

pub(super) fn with_digests(parts: Vec<Part>, digests: Vec<Digest>) -> Vec<FileRead> {
    let mut digests = digests.into_iter();
    let file = |part| match part {
        Part::Known(file) => file,
        Part::Cut { size, executable, chunks } => {
            let digest = digests.next().expect("every file's end was sent");
            FileRead { node: Node::File { size, digest, executable }, chunks: FileChunks::Cut(chunks) }
        }
    };
    parts.into_iter().map(file).collect()
}

/// Collects bytes and cuts; sends a block when it is large enough.
pub(super) struct Cutter<'a> {
    block: Block,
    /// Up to here the block's bytes are cut.
    cut_to: usize,
    /// What is expected from the build before, if there is one.
    following: Option<Following<'a>>,
    spare: &'a Spare,
    /// To the thread that hashes files, and to the workers.
    out: (&'a SyncSender<Arc<Block>>, &'a SyncSender<Arc<Block>>),
}

impl<'a> Cutter<'a> {
    /// Cuts nothing yet.
    pub(super) fn new(
        block: Block,
        following: Option<Following<'a>>,
        spare: &'a Spare,
        out: (&'a SyncSender<Arc<Block>>, &'a SyncSender<Arc<Block>>),
    ) -> Self {
        Self { block, cut_to: 0, following, spare, out }
    }

    /// Begins a file.
    fn begin(&mut self, path: &TreePath) {
        if let Some(following) = &mut self.following {
            following.begin(path);
        }
    }

    /// Ends a file, all of which is cut.
    fn end(&mut self) {
        self.block.ends.push(self.cut_to);
    }

    /// Cuts what can be cut; at a file's end, everything. Returns how many chunks that made.
    fn cut(&mut self, profile: Profile, at_end: bool) -> Result<usize, SealError> {
        let mut made = 0;
        while let Some(rest) = self.block.data.get(self.cut_to..) {
            if rest.is_empty() || (!at_end && rest.len() < Profile::MAX_LEN) {
                break;
            }
            let (len, digest) = match &mut self.following {
                Some(following) => following.cut(profile, rest, at_end),
                None => (profile.cut(rest), None),
            };
            self.block.chunks.push((u32::try_from(len).expect("a chunk has at most MAX_LEN bytes"), digest));
            self.cut_to += len;
            made += 1;
        }
        if self.cut_to >= BLOCK_LEN {
            self.send()?;
        }
        Ok(made)
    }

    fn send(&mut self) -> Result<(), SealError> {
        let mut rest = self.spare.take();
        rest.extend_from_slice(self.block.data.get(self.cut_to..).unwrap_or_default());
        self.block.data.truncate(self.cut_to);
        self.cut_to = 0;
        let next = Block::new(self.block.sequence + 1, rest);
        let block = Arc::new(std::mem::replace(&mut self.block, next));
        let (to_hash, to_pack) = self.out;
        // Nobody listens when packing failed; that error is the one to tell.
        to_hash.send(block.clone()).and_then(|()| to_pack.send(block)).map_err(|_| SealError::Stopped)
    }
}
