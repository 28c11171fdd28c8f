//! What the file system said of installed files when they were known to be as a build brought them: an update need not read them again.
//!
//! Only time is saved: a file that is copied from is compared with its digest in the end all the same.

use std::collections::BTreeMap;
use std::fs::{self, Metadata};

use lantern_core::digest::RecipeId;
use lantern_core::path::TreePath;
use lantern_core::stat_data::StatData;
use lantern_core::tree::Node;
use serde::{Deserialize, Serialize};

use super::InstallError;
use super::plan::Plan;
use super::state::Folder;
use crate::durable;

const FORMAT: &str = "lantern.seen/1";
const NAME: &str = "seen.json";
/// Longest `seen.json` that is read, in bytes.
const MAX_LEN: u64 = 1024 * 1024 * 1024;

/// Installed files that were as their build brought them.
#[derive(Debug, Default, Deserialize)]
pub(super) struct Seen {
    format: String,
    /// Of the build that brought them.
    recipes: Vec<RecipeId>,
    files: BTreeMap<TreePath, StatData>,
}

/// The same, to be written.
#[derive(Serialize)]
struct Noted<'a> {
    format: &'static str,
    recipes: &'a [RecipeId],
    files: BTreeMap<&'a TreePath, StatData>,
}

impl Seen {
    /// Reads what was noted of a build; what is missing, damaged or of another build is nothing, which only costs reading.
    pub(super) fn load(folder: &Folder, recipes: &[RecipeId]) -> Self {
        let bytes = durable::read_kept(&folder.state(NAME), MAX_LEN).unwrap_or_default();
        let seen: Option<Self> = serde_json::from_slice(&bytes).ok();
        seen.filter(|seen| seen.format == FORMAT && seen.recipes == recipes).unwrap_or_default()
    }

    /// Whether a file is as it was when it was known to be right.
    pub(super) fn is_unchanged(&self, path: &TreePath, metadata: &Metadata) -> bool {
        self.files.get(path).is_some_and(|stat| *stat == StatData::of(metadata))
    }

    /// Notes the files of a build that was just installed by `plan`: those that stayed and those that were `verified`, if nothing can have
    /// changed since without its stat data telling.
    ///
    /// # Errors
    /// Those of writing.
    pub(super) fn note(
        folder: &Folder,
        recipes: &[RecipeId],
        plan: &Plan<'_>,
        verified: jiff::Timestamp,
    ) -> Result<(), InstallError> {
        let stayed = plan.stayed.iter().map(|(path, stat)| (*path, *stat));
        let mut files: BTreeMap<&TreePath, StatData> =
            stayed.filter(|(_, stat)| stat.is_settled_at(plan.begun)).collect();
        for entry in &plan.write {
            let Node::File { size, .. } = entry.node else { continue };
            let Ok(metadata) = fs::symlink_metadata(folder.path().join(entry.path.as_str())) else { continue };
            let stat = StatData::of(&metadata);
            if metadata.is_file() && metadata.len() == size && stat.is_settled_at(verified) {
                files.insert(&entry.path, stat);
            }
        }
        let seen = Noted { format: FORMAT, recipes, files };
        let bytes = serde_json::to_vec(&seen).expect("the keys are strings");
        Ok(durable::write_kept(&folder.state(NAME), &bytes)?)
    }
}
