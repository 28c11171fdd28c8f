//! What was read before: lets `prepare` see that nothing changed without reading anything.
//!
//! A file counts as unchanged when size, modification time, change time and inode are as they were, and it was at least
//! two seconds old when it was read: a file system with coarse times could hide a change otherwise. Nothing is ever sealed on the word of this cache: when anything changed, everything is read.

use std::collections::BTreeMap;
use std::path::Path;

use lantern_core::digest::Digest;
use lantern_core::names::Name;
use lantern_core::parallel::{each, processors};
use lantern_core::path::TreePath;
use lantern_core::progress::{Progress, Task};
use lantern_core::tree::{Node, Tree};
use lantern_store::durable::{self, DurableError};
use lantern_store::seal::SourceKind;
use serde::{Deserialize, Serialize};

use crate::export::Stamp;
use crate::intake::Intake;
use crate::{ProjectError, environment};

const FORMAT: &str = "lantern.digests/3";
const MAX_LEN: u64 = 1024 * 1024 * 1024;
/// Bytes that are read at a time.
const READ_LEN: usize = 1024 * 1024;

#[derive(Debug, Serialize, Deserialize)]
struct SeenFile {
    stamp: Stamp,
    is_settled: bool,
    digest: Digest,
    is_program: bool,
}

/// The files of all targets as they were last read.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct DigestCache {
    format: String,
    /// Before anything is read.
    #[serde(skip)]
    begun: jiff::Timestamp,
    targets: BTreeMap<Name, BTreeMap<TreePath, SeenFile>>,
}

impl DigestCache {
    pub(crate) fn new() -> Self {
        Self { format: FORMAT.to_owned(), begun: jiff::Timestamp::UNIX_EPOCH, targets: BTreeMap::new() }
    }

    /// Reads the cache; one that is missing, damaged or of another format is empty, which only costs reading.
    pub(crate) fn load(path: &Path) -> Self {
        let bytes = durable::read_limited(path, MAX_LEN).unwrap_or_default();
        let cache: Option<Self> = serde_json::from_slice(&bytes).ok();
        let known = cache.filter(|cache| cache.format == FORMAT).unwrap_or_else(Self::new);
        Self { begun: environment::now(), ..known }
    }

    pub(crate) fn save(&self, path: &Path) -> Result<(), DurableError> {
        let bytes = serde_json::to_vec(self).expect("the cache has only string keys");
        durable::write_whole(path, &bytes)
    }

    /// Returns the tree that these entries of an export make if every file is as it was, beyond doubt.
    pub(crate) fn tree_without_reading(&self, intake: &Intake<'_>, indices: &[usize]) -> Option<Tree> {
        self.tree(intake, indices, |seen| seen.is_settled)
    }

    /// Returns the tree that these entries make if every file seems to be as it was: enough to say so, not to act on.
    pub(crate) fn tree_as_it_seems(&self, intake: &Intake<'_>, indices: &[usize]) -> Option<Tree> {
        self.tree(intake, indices, |_| true)
    }

    fn tree(&self, intake: &Intake<'_>, indices: &[usize], counts: impl Fn(&SeenFile) -> bool) -> Option<Tree> {
        let files = self.targets.get(intake.name)?;
        let mut entries = Vec::with_capacity(indices.len());
        for index in indices {
            let entry = &intake.entries().get(*index)?.source;
            let node = match &entry.kind {
                SourceKind::EmptyFolder => Node::EmptyFolder,
                SourceKind::Link { target } => Node::Link { target: target.clone() },
                SourceKind::File { size } => {
                    let seen = files.get(&entry.path)?;
                    if Some(seen.stamp) != intake.stamp(*index) || !counts(seen) {
                        return None;
                    }
                    let executable = intake.executable(&entry.path, seen.is_program);
                    Node::File { size: *size, digest: seen.digest, executable }
                }
            };
            entries.push((entry.path.clone(), node));
        }
        Tree::new(entries).ok()
    }

    /// Adds up the files among these entries that are not as they were.
    pub(crate) fn size_of_new(&self, intake: &Intake<'_>, indices: &[usize]) -> u64 {
        let files = self.targets.get(intake.name);
        let entries = indices.iter().filter_map(|index| Some((*index, &intake.entries().get(*index)?.source)));
        let sizes = entries.map(|(index, entry)| match entry.kind {
            SourceKind::File { size } => {
                let seen = files.and_then(|files| files.get(&entry.path));
                if seen.is_some_and(|seen| Some(seen.stamp) == intake.stamp(index)) { 0 } else { size }
            }
            _ => 0,
        });
        sizes.sum()
    }

    /// Reads the files of an export whose stamps have changed, and returns whether each still holds what it held: then
    /// nothing has to be cut and compressed to know that nothing changed. Ends at the first that holds something else.
    pub(crate) fn is_same_by_reading(
        &self,
        parts: &[(&Intake<'_>, &[usize])],
        progress: &dyn Progress,
    ) -> Result<bool, ProjectError> {
        let mut files = Vec::new();
        for (intake, indices) in parts {
            for index in *indices {
                let Some(entry) = intake.entries().get(*index) else { continue };
                let SourceKind::File { size } = entry.source.kind else { continue };
                let known = self.targets.get(intake.name).and_then(|files| files.get(&entry.source.path));
                match known {
                    Some(known) if Some(known.stamp) == entry.stamp && known.is_settled => {}
                    Some(known) if known.stamp.size == size => files.push((*intake, *index, size, known.digest)),
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
            return Err(ProjectError::Stopped);
        }
        Ok(is_same.is_ok())
    }

    /// Takes over the stamps of files that were found to hold what they held.
    pub(crate) fn renew(&mut self, intake: &Intake<'_>, indices: &[usize]) {
        let Some(files) = self.targets.get_mut(intake.name) else { return };
        for index in indices {
            let Some(entry) = intake.entries().get(*index) else { continue };
            if let (Some(seen), Some(stamp)) = (files.get_mut(&entry.source.path), entry.stamp) {
                (seen.stamp, seen.is_settled) = (stamp, stamp.is_settled_at(self.begun));
            }
        }
    }

    /// Remembers what was read of an export's entries.
    pub(crate) fn remember(&mut self, intake: &Intake<'_>, indices: &[usize], tree: &Tree) {
        let files = self.targets.entry(intake.name.clone()).or_default();
        for index in indices {
            let Some(entry) = intake.entries().get(*index).map(|e| &e.source) else { continue };
            if let (Some(stamp), Some(Node::File { digest, .. })) = (intake.stamp(*index), tree.get(&entry.path)) {
                let (is_settled, is_program) = (stamp.is_settled_at(self.begun), intake.was_program(*index));
                let seen = SeenFile { stamp, is_settled, digest: *digest, is_program };
                files.insert(entry.path.clone(), seen);
            }
        }
    }

    /// Forgets a target, to be remembered again.
    pub(crate) fn forget(&mut self, target: &Name) {
        self.targets.remove(target);
    }
}
