//! What was read before: lets `prepare` see that nothing changed without reading anything.
//!
//! A file counts as unchanged when size, modification time, change time and inode are as they were, and the
//! modification was at least two seconds before the cache was written: a file system with coarse times could hide a
//! change otherwise. Nothing is ever sealed on the word of this cache: when anything changed, everything is read.

use std::collections::BTreeMap;
use std::path::Path;

use lantern_core::digest::Digest;
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::tree::{Node, Tree};
use lantern_store::durable::{self, DurableError};
use lantern_store::seal::SourceKind;
use serde::{Deserialize, Serialize};

use crate::intake::{Intake, Stamp};
use crate::outside;

const FORMAT: &str = "lantern.seen/1";
const MAX_LEN: u64 = 1024 * 1024 * 1024;
const SAFE_AGE_NS: i128 = 2_000_000_000;

#[derive(Debug, Serialize, Deserialize)]
struct SeenFile {
    stamp: Stamp,
    digest: Digest,
    is_program: bool,
}

/// The files of all targets as they were last read.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Seen {
    format: String,
    written_ns: i128,
    targets: BTreeMap<Name, BTreeMap<TreePath, SeenFile>>,
}

impl Seen {
    pub(crate) fn new() -> Self {
        Self { format: FORMAT.to_owned(), written_ns: 0, targets: BTreeMap::new() }
    }

    /// Reads the cache; one that is missing, damaged or of another format is empty, which only costs reading.
    pub(crate) fn load(path: &Path) -> Self {
        let bytes = durable::read_limited(path, MAX_LEN).unwrap_or_default();
        let seen: Option<Self> = serde_json::from_slice(&bytes).ok();
        seen.filter(|seen| seen.format == FORMAT).unwrap_or_else(Self::new)
    }

    pub(crate) fn save(&mut self, path: &Path) -> Result<(), DurableError> {
        self.written_ns = outside::now().as_nanosecond();
        let bytes = serde_json::to_vec(self).expect("the cache has only string keys");
        durable::write_whole(path, &bytes)
    }

    /// Returns the tree that the export has if every file is as it was, beyond doubt.
    pub(crate) fn tree_without_reading(&self, intake: &Intake<'_>) -> Option<Tree> {
        self.tree(intake, SAFE_AGE_NS)
    }

    /// Returns the tree that the export has if every file seems to be as it was: enough to say so, not to act on.
    pub(crate) fn tree_as_it_seems(&self, intake: &Intake<'_>) -> Option<Tree> {
        self.tree(intake, i128::MIN / 2)
    }

    fn tree(&self, intake: &Intake<'_>, safe_age_ns: i128) -> Option<Tree> {
        let files = self.targets.get(intake.name)?;
        let mut entries = Vec::with_capacity(intake.entries.len());
        for (entry, stamp) in intake.entries.iter().zip(&intake.stamps) {
            let node = match &entry.kind {
                SourceKind::EmptyFolder => Node::EmptyFolder,
                SourceKind::Link { target } => Node::Link { target: target.clone() },
                SourceKind::File { size } => {
                    let seen = files.get(&entry.path)?;
                    let is_old = seen.stamp.modified_ns.saturating_add(safe_age_ns) <= self.written_ns;
                    if Some(seen.stamp) != *stamp || !is_old {
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

    /// Remembers what was read of an export.
    pub(crate) fn remember(&mut self, intake: &Intake<'_>, tree: &Tree) {
        let programs = intake.programs.lock().expect("nothing panics with the lock");
        let mut files = BTreeMap::new();
        for ((entry, stamp), is_program) in intake.entries.iter().zip(&intake.stamps).zip(programs.iter()) {
            if let (Some(stamp), Some(Node::File { digest, .. })) = (stamp, tree.get(&entry.path)) {
                let seen = SeenFile { stamp: *stamp, digest: *digest, is_program: *is_program };
                files.insert(entry.path.clone(), seen);
            }
        }
        self.targets.insert(intake.name.clone(), files);
    }
}
