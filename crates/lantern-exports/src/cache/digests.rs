//! What was read before: lets `prepare` see that nothing changed without reading anything.
//!
//! Nothing is ever sealed on the word of this cache: when anything changed, everything is read.

use std::collections::BTreeMap;
use std::io::ErrorKind;
use std::path::Path;
use std::sync::Mutex;

use lantern_core::digest::Digest;
use lantern_core::names::Name;
use lantern_core::parallel::{each, processors};
use lantern_core::path::TreePath;
use lantern_core::progress::{Progress, Task};
use lantern_core::tree::{Node, Tree};
use lantern_store::durable::{self, DurableError};
use lantern_store::seal::{SealError, SourceKind};
use serde::de::{MapAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize};

use crate::Stopped;
use crate::intake::Intake;
use lantern_core::stat_data::StatData;

/// Where it lies in a project's own folder: MessagePack, for there are as many entries as files.
pub const DIGESTS: &str = "cache/digests";
const FORMAT: &str = "lantern.digests/4";
const MAX_LEN: u64 = 1024 * 1024 * 1024;
/// Bytes that are read at a time.
const READ_LEN: usize = 1024 * 1024;

#[derive(Debug, Serialize, Deserialize)]
struct SeenFile {
    stat: StatData,
    is_settled: bool,
    #[serde(with = "as_bytes")]
    digest: Digest,
    is_program: bool,
}

/// A digest as its bytes, and not as the text that people read.
mod as_bytes {
    use lantern_core::digest::Digest;
    use serde::de::{Error, Visitor};
    use serde::{Deserializer, Serializer};

    pub fn serialize<S: Serializer>(digest: &Digest, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_bytes(digest.as_bytes())
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Digest, D::Error> {
        struct OfDigest;
        impl Visitor<'_> for OfDigest {
            type Value = Digest;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("the 32 bytes of a digest")
            }
            fn visit_bytes<E: Error>(self, bytes: &[u8]) -> Result<Digest, E> {
                let bytes = bytes.try_into().map_err(|_| E::invalid_length(bytes.len(), &self))?;
                Ok(Digest::from_bytes(bytes))
            }
        }
        deserializer.deserialize_bytes(OfDigest)
    }
}

/// What is known of the files of one target.
#[derive(Debug, Default, Serialize)]
#[serde(transparent)]
struct Files(BTreeMap<TreePath, SeenFile>);

impl Files {
    fn get(&self, path: &TreePath) -> Option<&SeenFile> {
        self.0.get(path)
    }

    /// Adds files. A map that is filled one by one in order stays half empty, and there may be a million files.
    fn add(&mut self, more: impl Iterator<Item = (TreePath, SeenFile)>) {
        self.0 = std::mem::take(&mut self.0).into_iter().chain(more).collect();
    }
}

impl<'de> Deserialize<'de> for Files {
    // One by one it would be half empty, too.
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct All;
        impl<'de> Visitor<'de> for All {
            type Value = Files;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a map of files")
            }
            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Files, A::Error> {
                std::iter::from_fn(|| map.next_entry().transpose()).collect::<Result<_, _>>().map(Files)
            }
        }
        deserializer.deserialize_map(All)
    }
}

/// The files of all targets as they were last read.
#[derive(Debug, Serialize, Deserialize)]
pub struct DigestCache {
    format: String,
    /// Before anything is read.
    #[serde(skip)]
    begun: jiff::Timestamp,
    targets: BTreeMap<Name, Files>,
}

impl Default for DigestCache {
    fn default() -> Self {
        Self { format: FORMAT.to_owned(), begun: jiff::Timestamp::UNIX_EPOCH, targets: BTreeMap::new() }
    }
}

impl DigestCache {
    /// Reads the cache; one that is missing, damaged or of another format is empty, which only costs reading.
    pub fn load(path: &Path, now: jiff::Timestamp) -> Self {
        let bytes = durable::read_kept(path, MAX_LEN).unwrap_or_default();
        let cache: Option<Self> = rmp_serde::from_slice(&bytes).ok();
        let known = cache.filter(|cache| cache.format == FORMAT).unwrap_or_default();
        Self { begun: now, ..known }
    }

    /// Writes it.
    ///
    /// # Errors
    /// Those of writing.
    pub fn save(&self, path: &Path) -> Result<(), DurableError> {
        let bytes = rmp_serde::to_vec(self).expect("the cache has nothing that cannot be written");
        durable::write_kept(path, &bytes)
    }

    /// Returns the tree that these entries of an export make if every file is as it was, beyond doubt.
    pub fn tree_without_reading(&self, intake: &Intake<'_>, indices: &[usize]) -> Option<Tree> {
        self.tree(intake, indices, |seen| seen.is_settled)
    }

    /// Returns the tree that these entries make if every file seems to be as it was: enough to say so, not to act on.
    pub fn tree_as_it_seems(&self, intake: &Intake<'_>, indices: &[usize]) -> Option<Tree> {
        self.tree(intake, indices, |_| true)
    }

    fn tree(&self, intake: &Intake<'_>, indices: &[usize], counts: impl Fn(&SeenFile) -> bool) -> Option<Tree> {
        let nodes: Option<Vec<(TreePath, Node)>> =
            indices.iter().map(|index| self.node(intake, *index, &counts)).collect();
        Tree::new(nodes?).ok()
    }

    /// What an entry is in a tree; none for a file that is not known, or of which what is known does not count.
    fn node(&self, intake: &Intake<'_>, index: usize, counts: impl Fn(&SeenFile) -> bool) -> Option<(TreePath, Node)> {
        let entry = &intake.entries().get(index)?.source;
        let node = match &entry.kind {
            SourceKind::EmptyFolder => Node::EmptyFolder,
            SourceKind::Link { target } => Node::Link { target: target.clone() },
            SourceKind::File { size } => {
                let seen = self.targets.get(intake.name)?.get(&entry.path)?;
                if Some(seen.stat) != intake.stat(index) || !counts(seen) {
                    return None;
                }
                let executable = intake.executable(&entry.path, seen.is_program);
                Node::File { size: *size, digest: seen.digest, executable }
            }
        };
        Some((entry.path.clone(), node))
    }

    /// Whether a file among these entries is surely another: it was never read, or has another size than when it was.
    pub fn has_other_files(&self, intake: &Intake<'_>, indices: &[usize]) -> bool {
        let files = self.targets.get(intake.name);
        let mut entries = indices.iter().filter_map(|index| Some(&intake.entries().get(*index)?.source));
        entries.any(|entry| match entry.kind {
            SourceKind::File { size } => {
                files.and_then(|files| files.get(&entry.path)).is_none_or(|seen| seen.stat.size != size)
            }
            _ => false,
        })
    }

    /// Adds up the files among these entries that are not as they were.
    pub fn size_of_new(&self, intake: &Intake<'_>, indices: &[usize]) -> u64 {
        let files = self.targets.get(intake.name);
        let entries = indices.iter().filter_map(|index| Some((*index, &intake.entries().get(*index)?.source)));
        let sizes = entries.map(|(index, entry)| match entry.kind {
            SourceKind::File { size } => {
                let seen = files.and_then(|files| files.get(&entry.path));
                if seen.is_some_and(|seen| Some(seen.stat) == intake.stat(index)) { 0 } else { size }
            }
            _ => 0,
        });
        sizes.sum()
    }

    /// Reads the files of an export whose stat data has changed, and returns whether each still holds what it held: then
    /// nothing has to be cut and compressed to know that nothing changed. Ends at the first that holds something else.
    ///
    /// # Errors
    /// [`Stopped`].
    pub fn is_same_by_reading(
        &self,
        parts: &[(&Intake<'_>, &[usize])],
        progress: &dyn Progress,
    ) -> Result<bool, Stopped> {
        let mut files = Vec::new();
        for (intake, indices) in parts {
            for index in *indices {
                let Some(entry) = intake.entries().get(*index) else { continue };
                let SourceKind::File { size } = entry.source.kind else { continue };
                let known = self.targets.get(intake.name).and_then(|files| files.get(&entry.source.path));
                match known {
                    Some(known) if Some(known.stat) == entry.stat && known.is_settled => {}
                    Some(known) if known.stat.size == size => files.push((*intake, *index, size, known.digest)),
                    // A new file, or one of another size.
                    _ => return Ok(false),
                }
            }
        }
        files.sort_by_key(|(_, _, size, _)| std::cmp::Reverse(*size));
        let meter = progress.start(Task::Verify, Some(files.iter().map(|(_, _, size, _)| size).sum()));
        let tools = || vec![0; READ_LEN];
        let is_same = each(&files, processors(), tools, |buffer, _, (intake, index, _, digest)| {
            let found = intake.digest(*index, buffer, &*meter, progress);
            if found.is_ok_and(|found| found == *digest) { Ok(()) } else { Err(()) }
        });
        if progress.stopped() {
            return Err(Stopped);
        }
        Ok(is_same.is_ok())
    }

    /// Reads these entries of an export, remembers them, and returns the tree that they make.
    ///
    /// # Errors
    /// [`SealError::Read`], [`SealError::Changed`], [`SealError::Stopped`].
    pub fn tree_by_reading(
        &mut self,
        intake: &Intake<'_>,
        indices: &[usize],
        progress: &dyn Progress,
    ) -> Result<Tree, SealError> {
        let entry = |index: usize| &intake.entries()[index];
        let files: Vec<usize> = indices.iter().copied().filter(|index| entry(*index).source.is_file()).collect();
        let sizes = files.iter().map(|index| entry(*index).source.size());
        let meter = progress.start(Task::Verify, Some(sizes.sum()));
        let read = Mutex::new(Vec::new());
        let tools = || vec![0; READ_LEN];
        each(&files, processors(), tools, |buffer, _, index| {
            let (digest, is_program) = intake.digest_and_kind(*index, buffer, &*meter, progress).map_err(|source| {
                let path = entry(*index).source.path.clone();
                match source.kind() {
                    _ if progress.stopped() => SealError::Stopped,
                    ErrorKind::InvalidData => SealError::Changed { path },
                    _ => SealError::Read { path, source },
                }
            })?;
            read.lock().expect("nothing panics with the lock").push((*index, digest, is_program));
            Ok::<_, SealError>(())
        })?;
        let begun = self.begun;
        let seen = read.into_inner().expect("nothing panics with the lock").into_iter();
        let seen = seen.filter_map(|(index, digest, is_program)| {
            let stat = intake.stat(index)?;
            let is_settled = stat.is_settled_at(begun);
            Some((entry(index).source.path.clone(), SeenFile { stat, is_settled, digest, is_program }))
        });
        self.targets.entry(intake.name.clone()).or_default().add(seen);
        let nodes = indices.iter().map(|index| self.node(intake, *index, |_| true));
        let nodes: Option<Vec<(TreePath, Node)>> = nodes.collect();
        Ok(Tree::new(nodes.expect("every file was read"))?)
    }

    /// Takes over the stat data of files that were found to hold what they held.
    pub fn renew(&mut self, intake: &Intake<'_>, indices: &[usize]) {
        let Some(files) = self.targets.get_mut(intake.name) else { return };
        for index in indices {
            let Some(entry) = intake.entries().get(*index) else { continue };
            if let (Some(seen), Some(stat)) = (files.0.get_mut(&entry.source.path), entry.stat) {
                (seen.stat, seen.is_settled) = (stat, stat.is_settled_at(self.begun));
            }
        }
    }

    /// Remembers what was read of an export's entries.
    pub fn remember(&mut self, intake: &Intake<'_>, indices: &[usize], tree: &Tree) {
        let begun = self.begun;
        let seen = indices.iter().filter_map(|index| {
            let entry = &intake.entries().get(*index)?.source;
            let (stat, Node::File { digest, .. }) = (intake.stat(*index)?, tree.get(&entry.path)?) else { return None };
            let (is_settled, is_program) = (stat.is_settled_at(begun), intake.was_program(*index));
            Some((entry.path.clone(), SeenFile { stat, is_settled, digest: *digest, is_program }))
        });
        self.targets.entry(intake.name.clone()).or_default().add(seen);
    }

    /// Forgets a target, to be remembered again.
    pub fn forget(&mut self, target: &Name) {
        self.targets.remove(target);
    }
}
