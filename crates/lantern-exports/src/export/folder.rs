//! Folders, as they lie on the disk.

use std::convert::Infallible;
use std::ffi::{OsStr, OsString};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use lantern_core::config::STATE_FOLDER;
use lantern_core::finding::{Code, Finding};
use lantern_core::parallel::map;
use lantern_core::path::{PathError, TreePath, shown};
use lantern_core::patterns::Patterns;
#[cfg(unix)]
use lantern_core::size::Size;
use lantern_store::seal::{SourceEntry, SourceKind};

use super::{At, Listed, Reserved, StatData, unreadable};

/// What folders hold.
#[derive(Default)]
pub(super) struct Walked {
    pub found: Vec<Listed>,
    pub left_out: Vec<TreePath>,
    pub findings: Vec<Finding>,
    pub reserved: Reserved,
    /// Folders to look into, each with its path in the export, which ends with `/`.
    folders: Vec<(PathBuf, String)>,
}

/// What a link that leaves its export is reported as.
pub(super) fn link_leaves(path: &TreePath, target: &str) -> Finding {
    if target.starts_with('/') {
        let what = format!("{path} is a link to {}, a path that exists only on this computer", shown(target));
        return Finding::of(
            Code::EscapingLink,
            what,
            "make it relative, put the file itself there, or name it in leave-out",
        );
    }
    let what = format!("{path} is a link to {}, which is outside of the export", shown(target));
    Finding::of(Code::EscapingLink, what, "put the file itself there, or name the link in leave-out")
}

/// What something that is no file is reported as.
pub(super) fn special(path: &TreePath) -> Finding {
    let what = format!("{path} is neither a file nor a folder nor a link");
    Finding::of(Code::SpecialFile, what, "remove it, or name it in leave-out")
}

/// From this size on a file that has only holes is noticed, in bytes.
#[cfg(unix)]
const MIN_SPARSE_LEN: u64 = 64 * 1024 * 1024;

/// A file of which most was never written: an engine that ended early leaves such ones.
#[cfg(unix)]
fn sparse(path: &TreePath, metadata: &fs::Metadata) -> Option<Finding> {
    use std::os::unix::fs::MetadataExt;
    let (claimed, written) = (metadata.len(), metadata.blocks().saturating_mul(512));
    let is_sparse = claimed >= MIN_SPARSE_LEN && written < claimed / 8;
    let what = || {
        let (claimed, written) = (Size(claimed), Size(written));
        format!("{path} is {claimed} long, and only {written} of it were ever written")
    };
    is_sparse.then(|| Finding::of(Code::SparseFile, what(), "was the engine ended early? Export it again"))
}

/// Windows tells it only through calls of its own; a file that was not written is read as zeros there as well.
#[cfg(not(unix))]
fn sparse(_: &TreePath, _: &fs::Metadata) -> Option<Finding> {
    None
}

/// Looks at an entry itself, from its open folder: the system need not look up the whole path for each.
#[cfg(unix)]
fn metadata_of(entry: &fs::DirEntry) -> io::Result<fs::Metadata> {
    entry.metadata()
}

/// Windows keeps a copy in the folder that may be out of date.
#[cfg(not(unix))]
fn metadata_of(entry: &fs::DirEntry) -> io::Result<fs::Metadata> {
    fs::symlink_metadata(entry.path())
}

/// Looks into a folder and those in it, one level after the other: recursion into a deep folder could end the program. Findings come in the
/// same order every time; entries are not sorted.
pub(super) fn walk(leave_out: &Patterns, folder: &Path) -> Walked {
    let mut all = Walked { folders: vec![(folder.to_owned(), String::new())], ..Walked::default() };
    while !all.folders.is_empty() {
        let of_folder = |(folder, prefix): &(PathBuf, String)| Ok(Walked::of(leave_out, folder, prefix));
        let level: Result<Vec<Walked>, Infallible> = map(&std::mem::take(&mut all.folders), of_folder);
        let Ok(level) = level;
        for mut walked in level {
            all.found.append(&mut walked.found);
            all.left_out.append(&mut walked.left_out);
            all.findings.append(&mut walked.findings);
            all.folders.append(&mut walked.folders);
            all.reserved.join(walked.reserved);
        }
    }
    all
}

impl Walked {
    /// Looks into one folder.
    fn of(leave_out: &Patterns, folder: &Path, prefix: &str) -> Self {
        let mut walked = Self::default();
        let named = |entry: fs::DirEntry| (entry.file_name(), entry);
        let read = fs::read_dir(folder).and_then(|entries| entries.map(|entry| entry.map(named)).collect());
        let mut entries: Vec<(OsString, fs::DirEntry)> = match read {
            Ok(entries) => entries,
            Err(e) => {
                walked.findings.push(unreadable(&format!("the folder {}", shown(prefix)), &e));
                return walked;
            }
        };
        entries.sort_unstable_by(|(a, _), (b, _)| a.cmp(b));
        if entries.is_empty()
            && let Ok(path) = TreePath::new(prefix.trim_end_matches('/'))
            && !leave_out.matches(&path)
        {
            let source = SourceEntry { path, kind: SourceKind::EmptyFolder };
            walked.found.push(Listed { source, stat: None, at: At::Nowhere });
        }
        for (name, entry) in entries {
            walked.entry(leave_out, prefix, &name, &entry);
        }
        walked
    }

    fn entry(&mut self, leave_out: &Patterns, prefix: &str, name: &OsStr, entry: &fs::DirEntry) {
        if name == STATE_FOLDER && prefix.is_empty() {
            // The project's own, where the export is the project's folder.
            return;
        }
        let Some(name) = name.to_str() else {
            let what = format!("the name {}{} is not UTF-8", shown(prefix), shown(&name.to_string_lossy()));
            self.findings.push(Finding::of(Code::BadName, what, "rename the file"));
            return;
        };
        let path = match TreePath::new(format!("{prefix}{name}")) {
            Ok(path) => path,
            Err(PathError::Reserved(name)) => return self.reserved.leave_out(&name),
            Err(e) => {
                self.findings.push(Finding::of(Code::BadName, e.to_string(), "rename the file"));
                return;
            }
        };
        if leave_out.matches(&path) {
            self.left_out.push(path);
            return;
        }
        let metadata = match metadata_of(entry) {
            Ok(metadata) => metadata,
            Err(e) => {
                self.findings.push(unreadable(&path.to_string(), &e));
                return;
            }
        };
        let kind = metadata.file_type();
        if kind.is_dir() {
            self.folders.push((entry.path(), format!("{path}/", path = path.as_str())));
        } else if kind.is_file() {
            self.findings.extend(sparse(&path, &metadata));
            let stat = StatData::of(&metadata);
            let source = SourceEntry { path, kind: SourceKind::File { size: stat.size } };
            self.found.push(Listed { source, stat: Some(stat), at: At::Folder });
        } else if kind.is_symlink() {
            let target = lantern_store::links::target(&entry.path());
            let source = SourceEntry { path, kind: SourceKind::Link { target: target.unwrap_or_default() } };
            self.found.push(Listed { source, stat: None, at: At::Nowhere });
        } else {
            self.findings.push(special(&path));
        }
    }
}
