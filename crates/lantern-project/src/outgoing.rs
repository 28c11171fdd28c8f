//! What is handed over at a storefront by hand, laid out exactly as it wants it: the same release gives the same bytes, on any
//! computer and at any time, and what was written is read again before anybody carries it anywhere.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::{self, BufReader};
use std::path::{Path, PathBuf};

use lantern_core::board::KnownRelease;
use lantern_core::by_hand::HandForm;
use lantern_core::bytes::hex;
use lantern_core::digest::Digest;
use lantern_core::event::{HandedOver, StepsBegun};
use lantern_core::names::{FolderName, Name, NameError};
use lantern_core::patterns::Patterns;
use lantern_core::progress::{Progress, Silent, Task};
use lantern_core::release::TargetRecord;
use lantern_core::tree::Node;
use lantern_exports::export::{Export, Form, Reading};
use lantern_formats::hash::Hash;
use lantern_store::contents::Contents;
use lantern_store::durable::{self, DurableError};
use lantern_store::seal::SourceKind;

use crate::ProjectError;
use crate::error::{Class, Explained};
use crate::project::Project;
use crate::workspace::Workspace;
use crate::write_out::remove_part;

/// A file or folder that is to be laid out.
#[derive(Debug, Clone)]
pub(crate) struct Wanted {
    /// Of which target.
    pub target: Name,
    /// What it is called.
    pub name: FolderName,
    /// Its form.
    pub form: HandForm,
    /// The folder on top of everything in it; empty for none.
    pub top: String,
}

impl Project {
    /// The folder in which a release is laid out for a storefront.
    pub(crate) fn outgoing(&self, storefront: &Name, release: &KnownRelease) -> PathBuf {
        self.state("outgoing").join(storefront.as_str()).join(folder_name(release))
    }
}

/// What files and folders are called that are about a release.
pub(crate) fn folder_name(release: &KnownRelease) -> String {
    let edition = if release.edition == Name::full_edition() { String::new() } else { format!("{}-", release.edition) };
    format!("{edition}{}-{}", release.name.version, release.name.number)
}

impl Workspace {
    /// Lays targets of a release out. What lies there already with the very same bytes stays; what nobody hands over, such as
    /// a file of an earlier name or of a run that was cut, goes, so that nobody carries it along.
    ///
    /// # Errors
    /// Those of the store and the disk, [`HandOverError::NotOneFile`], [`HandOverError::WrittenWrong`].
    pub(crate) fn lay_out(
        &self,
        storefront: &Name,
        release: &KnownRelease,
        wanted: &[Wanted],
        before: &[HandedOver],
        progress: &dyn Progress,
    ) -> Result<(PathBuf, Vec<HandedOver>), ProjectError> {
        let folder = self.project.outgoing(storefront, release);
        self.project.state_for("outgoing")?;
        durable::create_folders(&folder)?;
        let _held = self.hold_store(progress)?;
        let record = self.store.record(release.id)?;
        let mut out = Vec::new();
        for one in wanted {
            let Some(target) = record.targets.iter().find(|t| t.target == one.target) else { continue };
            let path = folder.join(one.name.as_str());
            let known = before.iter().find(|file| file.target == one.target && file.name == one.name.as_str());
            if let Some(known) = known.filter(|known| known.sha256.is_some())
                && handed_over(one, &path, progress).ok().as_ref() == Some(known)
            {
                out.push(known.clone());
                continue;
            }
            self.lay_out_one(one, target, &path, progress)?;
            out.push(handed_over(one, &path, progress)?);
        }
        self.remove_stale(&folder, storefront, release, &out)?;
        Ok((folder, out))
    }

    fn remove_stale(
        &self,
        folder: &Path,
        storefront: &Name,
        release: &KnownRelease,
        laid_out: &[HandedOver],
    ) -> Result<(), ProjectError> {
        let open = self.board(&release.edition)?.open_walks();
        let is_here = |begun: &StepsBegun| begun.release == release.id && begun.storefront.name == *storefront;
        let of_walks = open.iter().map(|walk| &walk.begun).filter(|begun| is_here(begun)).flat_map(|b| &b.hand_over);
        let kept: BTreeSet<&str> = laid_out.iter().chain(of_walks).map(|file| file.name.as_str()).collect();
        let failed = |what: &'static str, path: &Path| {
            let path = path.to_owned();
            move |source| ProjectError::File(DurableError { what, path, source })
        };
        for entry in fs::read_dir(folder).map_err(failed("read", folder))? {
            let entry = entry.map_err(failed("read", folder))?;
            if !entry.file_name().to_str().is_some_and(|name| kept.contains(name)) {
                remove_part(&entry.path()).map_err(failed("remove", &entry.path()))?;
            }
        }
        Ok(())
    }

    fn lay_out_one(
        &self,
        one: &Wanted,
        target: &TargetRecord,
        path: &Path,
        progress: &dyn Progress,
    ) -> Result<(), ProjectError> {
        let failed = |what: &'static str| {
            let path = path.to_owned();
            move |source| ProjectError::File(DurableError { what, path, source })
        };
        let part = path.with_file_name(format!("{}{}", durable::PART, one.name));
        remove_part(&part).map_err(failed("replace"))?;
        let form = match one.form {
            HandForm::Folder => Form::Folder,
            HandForm::Zip => Form::Zip,
            HandForm::TarGz => Form::TarGz,
            HandForm::Package => {
                self.write_only_file(target, &part, progress)?;
                remove_part(path).map_err(failed("replace"))?;
                return Ok(durable::rename(&part, path)?);
            }
        };
        self.write_target(target, (form, &one.top), &part, path, progress)?;
        self.read_again(target, one, form, &part, progress)?;
        remove_part(path).map_err(failed("replace"))?;
        fs::rename(&part, path).map_err(failed("put in place"))
    }

    /// Writes the one file that a target is.
    fn write_only_file(&self, target: &TargetRecord, to: &Path, progress: &dyn Progress) -> Result<(), ProjectError> {
        let several = || HandOverError::NotOneFile { target: target.target.clone(), files: target.files() };
        let [depot] = &*target.depots else { return Err(several().into()) };
        let contents = Contents::open(&self.store, self.store.recipe_of(depot.tree)?)?;
        let [entry] = &*contents.entries else { return Err(several().into()) };
        let Node::File { digest, .. } = &entry.node else { return Err(several().into()) };
        let io = |source| ProjectError::File(DurableError { what: "write", path: to.to_owned(), source });
        let mut file = File::create(to).map_err(io)?;
        contents.write_to(entry, &mut file).map_err(|e| io(io::Error::other(e.to_string())))?;
        file.sync_all().map_err(io)?;
        let read =
            File::open(to).and_then(|mut file| Digest::of_reader(&mut file, &mut vec![0; 1 << 20], &Silent, progress));
        if read.map_err(io)? == *digest { Ok(()) } else { Err(HandOverError::WrittenWrong(to.to_owned()).into()) }
    }

    /// Reads what was written with the reader that takes exports in, and compares it with what was sealed.
    fn read_again(
        &self,
        target: &TargetRecord,
        one: &Wanted,
        form: Form,
        part: &Path,
        progress: &dyn Progress,
    ) -> Result<(), ProjectError> {
        let wrong = || ProjectError::from(HandOverError::WrittenWrong(part.to_owned()));
        let folder = part.parent().unwrap_or(part);
        let name = part.file_name().and_then(|name| name.to_str()).ok_or_else(wrong)?;
        // Brackets in a name are no pattern here.
        let pattern: String = name.chars().map(|c| if "[]*?{}\\".contains(c) { '?' } else { c }).collect();
        let reading = Reading {
            root: folder,
            spare: self.project.state_for("cache")?,
            export: &pattern,
            export_root: (!one.top.is_empty()).then_some(one.top.as_str()),
            form: Some(form),
            leave_out: &Patterns::default(),
        };
        let found = Export::find(&reading).map_err(|_| wrong())?;
        let mut sealed: BTreeMap<String, Node> = BTreeMap::new();
        for depot in target.depots.iter().filter(|depot| depot.players.add_on.is_none()) {
            let (_, entries) = self.store.recipe(self.store.recipe_of(depot.tree)?)?;
            sealed.extend(entries.into_iter().map(|entry| (entry.path.as_str().to_owned(), entry.node)));
        }
        let meter = progress.start(Task::Verify, Some(sealed.values().map(Node::size).sum()));
        if found.export.entries.len() != sealed.len() {
            return Err(wrong());
        }
        for (index, entry) in found.export.entries.iter().enumerate() {
            let is_same = match (&entry.source.kind, sealed.get(entry.source.path.as_str())) {
                (SourceKind::File { .. }, Some(Node::File { digest, size, .. })) => {
                    let mut reader = found.export.open(index).map_err(|_| wrong())?;
                    let read = Digest::of_reader(&mut reader, &mut vec![0; 1 << 20], &Silent, progress);
                    if progress.stopped() {
                        return Err(ProjectError::Stopped);
                    }
                    meter.add(*size);
                    read.is_ok_and(|read| read == *digest)
                }
                (SourceKind::EmptyFolder, Some(Node::EmptyFolder)) => true,
                (SourceKind::Link { target }, Some(Node::Link { target: sealed })) => target == sealed,
                _ => false,
            };
            if !is_same {
                return Err(wrong());
            }
        }
        Ok(())
    }
}

/// What lies at a path, as it is recorded.
fn handed_over(one: &Wanted, path: &Path, progress: &dyn Progress) -> Result<HandedOver, ProjectError> {
    let io = |source| ProjectError::File(DurableError { what: "read", path: path.to_owned(), source });
    let (target, name) = (one.target.clone(), one.name.to_string());
    if one.form == HandForm::Folder {
        return Ok(HandedOver { target, name, bytes: size_below(path).map_err(io)?, sha256: None });
    }
    let file = File::open(path).map_err(io)?;
    let bytes = file.metadata().map_err(io)?.len();
    let meter = progress.start(Task::Verify, Some(bytes));
    let digest = Hash::Sha256.digest_of_reader(&mut BufReader::new(file)).map_err(io)?;
    meter.add(bytes);
    let sha256 = hex(&digest);
    Ok(HandedOver { target, name, bytes, sha256: Some(sha256) })
}

fn size_below(folder: &Path) -> io::Result<u64> {
    let mut size = 0;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let kind = entry.file_type()?;
        size += if kind.is_dir() { size_below(&entry.path())? } else { entry.metadata()?.len() };
    }
    Ok(size)
}

/// Why something is not laid out to be handed over.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum HandOverError {
    /// What is handed over would have a name that no system takes.
    #[error("{name:?} is not a name that a file can have everywhere")]
    FileName {
        /// The name.
        name: String,
        /// Why.
        source: NameError,
    },
    /// Two targets would be one file.
    #[error("{target} and {other} would both be {name:?}")]
    SameName {
        /// The name.
        name: String,
        /// One target.
        target: Name,
        /// The other.
        other: Name,
    },
    /// A file is missing that the storefront wants.
    #[error("{target} has no file that matches {pattern:?}, which {storefront} wants")]
    Lacks {
        /// The target.
        target: Name,
        /// What must be there.
        pattern: String,
        /// The project's name for the storefront.
        storefront: Name,
    },
    /// A target is to be handed over as one file and is not one.
    #[error("{target} is to be handed over as one package, and has {files} files")]
    NotOneFile {
        /// The target.
        target: Name,
        /// How many it has.
        files: u64,
    },
    /// What was written is not what was sealed.
    #[error("what was written to {} is not what was sealed", .0.display())]
    WrittenWrong(PathBuf),
}

impl Explained for HandOverError {
    fn class(&self) -> Class {
        match self {
            Self::WrittenWrong(_) => Class::Damaged,
            Self::Lacks { .. } | Self::NotOneFile { .. } => Class::Findings,
            Self::FileName { .. } | Self::SameName { .. } => Class::Usage,
        }
    }

    fn fixes(&self) -> Vec<String> {
        vec![match self {
            Self::FileName { .. } => {
                "shorten name = \"…\" in the storefront's rules, without / : * ? and the like".to_owned()
            }
            Self::SameName { .. } => "write {target} into name = \"…\" in the storefront's rules".to_owned(),
            Self::Lacks { .. } => {
                "export it again with that file, or fix must-have in the storefront's rules".to_owned()
            }
            Self::NotOneFile { target, .. } => {
                format!("write another form into [hand-over.{target}] of the storefront's rules")
            }
            Self::WrittenWrong(_) => "check the disk, and push again".to_owned(),
        }]
    }
}
