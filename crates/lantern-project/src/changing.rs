//! Stamping and signing between intake and seal: what is done now, what is taken from an earlier release, and what a changed
//! target was before.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use lantern_core::digest::Digest;
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::progress::Progress;
use lantern_core::release::{Changed, ChangedBy, DepotRecord, ReleaseRecord, ReplacedFile, TargetRecord};
use lantern_core::tree::{Node, Tree};
use lantern_core::version::ReleaseName;
use lantern_exports::WindowsProgram;
use lantern_exports::changing::{Changing, ChangingError, KnownFiles, Replacement};
use lantern_exports::intake::Intake;
use lantern_store::contents::{Contents, ContentsError};
use lantern_store::durable::{self, DurableError};
use lantern_store::recipe::Entry;
use lantern_store::seal::SealError;
use lantern_store::store::{Store, StoreError};
use serde::{Deserialize, Serialize};

use crate::ProjectError;

/// Says of changed files which path each of them has; written last, so that a folder without it is one that a break left.
const DONE: &str = "done.json";
const MAX_DONE_LEN: u64 = 16 * 1024 * 1024;

/// Changed files that lie ready.
#[derive(Debug, Serialize, Deserialize)]
struct Done {
    /// By path, the file in the same folder, and the digest of its bytes.
    files: BTreeMap<TreePath, (String, Digest)>,
}

/// Returns a target's record as the export gives it; none where what was sealed of it is no longer in the store.
///
/// # Errors
/// [`StoreError`].
pub(crate) fn as_exported(store: &Store, record: &TargetRecord) -> Result<Option<TargetRecord>, StoreError> {
    let Some(changed) = &record.changed else { return Ok(Some(TargetRecord { unsigned: false, ..record.clone() })) };
    let mut whole = BTreeMap::new();
    let mut depots = Vec::new();
    for depot in &record.depots {
        if !store.has_tree(depot.tree)? {
            return Ok(None);
        }
        let Ok(before) = changed.before(&store.tree(depot.tree)?) else { return Ok(None) };
        depots.push(DepotRecord {
            tree: before.id(),
            files: before.file_count(),
            size: before.size(),
            ..depot.clone()
        });
        whole.extend(before.iter().map(|(path, node)| (path.clone(), node.clone())));
    }
    let Ok(whole) = Tree::new(whole) else { return Ok(None) };
    Ok(Some(TargetRecord { tree: whole.id(), depots, changed: None, unsigned: false, ..record.clone() }))
}

/// Returns the targets of a record as the input digest has them: as the exports were, with what is done to them. A target that was freed
/// is given with its sealed files.
///
/// # Errors
/// [`StoreError`].
pub(crate) fn inputs_of(store: &Store, record: &ReleaseRecord) -> Result<Vec<TargetRecord>, StoreError> {
    let input = |target: &TargetRecord| {
        let changed = target.changed_by().map(|by| Changed { by, replaced: BTreeMap::new() });
        let exported = as_exported(store, target)?;
        Ok(exported.map_or_else(|| target.clone(), |exported| TargetRecord { changed, ..exported }))
    };
    record.targets.iter().map(input).collect()
}

/// Tells the digest of a file of the export.
pub(crate) type DigestOf<'a> = &'a (dyn Fn(&TreePath) -> Option<Digest> + Sync);

/// What stamping and signing are done with, for one release.
pub(crate) struct Changes<'a> {
    pub edition: &'a Name,
    pub changing: &'a dyn Changing,
    /// The release that is about to be made.
    pub release: &'a ReleaseName,
    pub store: &'a Store,
    /// The programs and libraries for Windows of each target.
    pub windows: &'a BTreeMap<Name, Vec<WindowsProgram>>,
    /// Where changed files lie until they are sealed.
    pub folder: PathBuf,
}

impl Changes<'_> {
    /// Returns the changed files of an export: those that a break left, those of an earlier release of the very same bytes, or
    /// fresh ones. `input` is the target as the export gives it, `last` its last release, `before` tells a file of the export.
    ///
    /// # Errors
    /// Those of the signer, of the store and of the file system.
    pub(crate) fn files(
        &self,
        intake: &Intake<'_>,
        by: ChangedBy,
        input: &TargetRecord,
        last: Option<&TargetRecord>,
        (windows, before): (&[WindowsProgram], DigestOf<'_>),
        progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, ProjectError> {
        let is_stamped = self.changing.is_stamped(intake.name);
        let signer = by.signer.map(|signer| signer.to_string()).unwrap_or_default();
        let mut key = format!("{}\n{}\n{signer}\n{}\n", intake.name, input.tree.0, by.settings);
        if is_stamped {
            key.push_str(&self.release.to_string());
        }
        let work = self.folder.join(Digest::of(key.as_bytes()).short());
        if let Some(ready) = ready(&work) {
            return Ok(self.changing.approve(intake, self.release, ready, &work, progress)?);
        }
        durable::create_folders(&work)?;
        let last = last.filter(|last| last.changed_by() == Some(by));
        // What says which release it is of is made for each.
        let earlier = last.filter(|_| !is_stamped).map_or(Ok(None), |last| self.of_earlier(last, input, &work))?;
        let files = match earlier {
            Some(files) => files,
            None => {
                let earlier = |path: &TreePath, to: &Path| {
                    let last = last.filter(|last| last.changed.as_ref().is_some_and(|c| is_of(c, path, before(path))));
                    let taken = last.map_or(Ok(false), |last| self.file_of_earlier(last, path, to));
                    // It saves asking for a signature, no more.
                    Ok(taken.unwrap_or_else(|error| {
                        log::warn!("{path} is made again: {error}");
                        false
                    }))
                };
                let known = KnownFiles { windows, earlier: &earlier };
                let files = self.changing.change(intake, self.release, &known, &work, progress)?;
                refuse_changed(intake, &files)?;
                files
            }
        };
        keep_ready(&work, &files)?;
        Ok(self.changing.approve(intake, self.release, files, &work, progress)?)
    }

    /// Writes what an earlier release has of a file.
    fn file_of_earlier(&self, last: &TargetRecord, path: &TreePath, to: &Path) -> Result<bool, ProjectError> {
        for depot in &last.depots {
            let contents = Contents::open(self.store, self.store.recipe_of(depot.tree)?)?;
            if let Some(entry) = contents.entries.iter().find(|entry| entry.path == *path) {
                write_out(&contents, entry, to)?;
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Takes the changed files out of an earlier release, if it was made of the same bytes.
    fn of_earlier(
        &self,
        last: &TargetRecord,
        input: &TargetRecord,
        work: &Path,
    ) -> Result<Option<Vec<Replacement>>, ProjectError> {
        let (Some(exported), Some(changed)) = (as_exported(self.store, last)?, &last.changed) else { return Ok(None) };
        if exported.tree != input.tree {
            return Ok(None);
        }
        let mut files = Vec::new();
        for depot in &last.depots {
            let contents = Contents::open(self.store, self.store.recipe_of(depot.tree)?)?;
            for entry in contents.entries.iter().filter(|entry| changed.replaced.contains_key(&entry.path)) {
                let at = work.join(files.len().to_string());
                write_out(&contents, entry, &at)?;
                files.push(Replacement { path: entry.path.clone(), at });
            }
        }
        // A depot that several targets share has been read once; what one of them lacks is made.
        files.sort_by(|a, b| a.path.cmp(&b.path));
        files.dedup_by(|a, b| a.path == b.path);
        Ok((files.len() == changed.replaced.len()).then_some(files))
    }
}

/// Whether a file was made of bytes with this digest.
fn is_of(changed: &Changed, path: &TreePath, before: Option<Digest>) -> bool {
    let made_of = changed.replaced.get(path).and_then(Option::as_ref);
    made_of.zip(before).is_some_and(|(made_of, before)| made_of.digest == before)
}

fn write_out(contents: &Contents<'_>, entry: &Entry, at: &Path) -> Result<(), ProjectError> {
    let fails = |source| DurableError { what: "write", path: at.to_owned(), source };
    let mut out = fs::File::create(at).map_err(fails)?;
    contents.write_to(entry, &mut out).map_err(|error| match error {
        ContentsError::Store(error) => ProjectError::Store(error),
        ContentsError::Write(error) => fails(error).into(),
        other => fails(std::io::Error::other(other)).into(),
    })
}

/// What was changed must be what was read before. Files that stay are compared when they are sealed; those that were changed
/// are not read again.
fn refuse_changed(intake: &Intake<'_>, files: &[Replacement]) -> Result<(), SealError> {
    for Replacement { path, .. } in files {
        let Some(index) = intake.export().place_of(path.as_str()) else { continue };
        let is_unchanged = intake.export().is_unchanged(index);
        if !is_unchanged.map_err(|source| SealError::Read { path: path.clone(), source })? {
            return Err(SealError::Changed { path: path.clone() });
        }
    }
    Ok(())
}

/// Forgets the changed files that lay ready: they are sealed, or there is no room for them.
pub(crate) fn forget(folder: &Path) {
    if let Err(error) = fs::remove_dir_all(folder)
        && error.kind() != std::io::ErrorKind::NotFound
    {
        log::warn!("stamped and signed files are left in {}: {error}", folder.display());
    }
}

/// The files of a folder that was finished, if each of them is as it was.
fn ready(work: &Path) -> Option<Vec<Replacement>> {
    let done: Done = serde_json::from_slice(&durable::read_kept(&work.join(DONE), MAX_DONE_LEN)?).ok()?;
    let one = |(path, (name, digest)): (TreePath, (String, Digest))| {
        let at = work.join(name);
        (digest_of(&at).ok()? == digest).then_some(Replacement { path, at })
    };
    done.files.into_iter().map(one).collect()
}

fn keep_ready(work: &Path, files: &[Replacement]) -> Result<(), ProjectError> {
    let mut done = Done { files: BTreeMap::new() };
    for file in files {
        let name = file.at.strip_prefix(work).ok().and_then(Path::to_str).map(str::to_owned);
        let outside = || ChangingError::Io { path: file.at.clone(), source: std::io::ErrorKind::InvalidInput.into() };
        let digest = digest_of(&file.at).map_err(|source| ChangingError::Io { path: file.at.clone(), source })?;
        done.files.insert(file.path.clone(), (name.ok_or_else(outside)?, digest));
    }
    let bytes = serde_json::to_vec(&done).expect("paths are texts");
    durable::write_kept(&work.join(DONE), &bytes)?;
    Ok(())
}

fn digest_of(path: &Path) -> std::io::Result<Digest> {
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(fs::File::open(path)?)?;
    Ok(Digest::from_bytes(*hasher.finalize().as_bytes()))
}

/// Says of changed files what the export had in their place.
pub(crate) fn changed<'a>(
    by: ChangedBy,
    files: &[Replacement],
    before: impl Fn(&TreePath) -> Option<&'a Node>,
) -> Changed {
    let file = |path: &TreePath| match before(path) {
        Some(Node::File { size, digest, executable }) => {
            Some(ReplacedFile { size: *size, digest: *digest, executable: *executable })
        }
        _ => None,
    };
    Changed { by, replaced: files.iter().map(|at| (at.path.clone(), file(&at.path))).collect() }
}
