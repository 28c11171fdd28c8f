//! `releases write`: a sealed release is written out again, as a folder or an archive. The same release gives the same
//! bytes, on any computer and at any time.

use std::fs::{self, File};
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use lantern_core::board::KnownRelease;
use lantern_core::names::Name;
use lantern_core::progress::{Meter, Progress, Task};
use lantern_core::release::{DepotRecord, TargetRecord};
use lantern_core::tree::Node;
use lantern_exports::export::Form;
use lantern_formats::tar::write::TarWriter;
use lantern_formats::zip::Method;
use lantern_formats::zip::write::ZipWriter;
use lantern_store::contents::{Contents, ContentsError};
use lantern_store::durable::{self, DurableError};
use lantern_store::recipe::Entry;

use crate::ProjectError;
use crate::releases::ReleaseError;
use crate::workspace::Workspace;

/// What was written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrittenOut {
    /// The targets.
    pub targets: Vec<Name>,
    /// Files.
    pub files: u64,
    /// Their size, in bytes.
    pub size: u64,
}

/// What is written.
struct Part<'a> {
    targets: &'a [&'a TargetRecord],
    aside: bool,
    form: Form,
    top: &'a str,
}

/// Where entries go.
enum Sink {
    /// Links come last: on Windows a link's kind is that of what it leads to.
    Folder {
        root: PathBuf,
        links: Vec<(PathBuf, String)>,
    },
    Zip(ZipWriter<BufWriter<File>>),
    Tar(TarWriter<Packed>),
}

impl Sink {
    fn make(form: Form, path: &Path) -> io::Result<Self> {
        if form == Form::Folder {
            fs::create_dir_all(path)?;
            return Ok(Self::Folder { root: path.to_owned(), links: Vec::new() });
        }
        let file = BufWriter::new(File::create(path)?);
        Ok(match form {
            Form::TarGz => {
                let level = flate2::Compression::new(6);
                Self::Tar(TarWriter::new(Packed::Gz(flate2::write::GzEncoder::new(file, level))))
            }
            Form::TarZst => Self::Tar(TarWriter::new(Packed::Zst(zstd::stream::write::Encoder::new(file, 3)?))),
            Form::Tar => Self::Tar(TarWriter::new(Packed::Plain(file))),
            _ => Self::Zip(ZipWriter::new(file)),
        })
    }

    fn entry(
        &mut self,
        name: &str,
        contents: &Contents<'_>,
        entry: &Entry,
        meter: &dyn Meter,
    ) -> Result<(), ContentsError> {
        let mut failed = None;
        let mut bytes = |out: &mut dyn Write| {
            contents.write_to(entry, &mut Metered { out, meter }).map_err(|error| match error {
                ContentsError::Write(error) => error,
                other => {
                    failed = Some(other);
                    io::Error::other("the store")
                }
            })
        };
        let done = match (self, &entry.node) {
            (Self::Folder { root, links }, Node::Link { target }) => {
                links.push((root.join(name), target.clone()));
                Ok(())
            }
            (Self::Folder { root, .. }, node) => write_to_folder(&root.join(name), node, &mut bytes),
            (Self::Zip(zip), Node::EmptyFolder) => zip.folder(name),
            (Self::Zip(zip), Node::Link { target }) => zip.link(name, target),
            (Self::Zip(zip), Node::File { size, executable, .. }) => {
                zip.file(name, Method::Deflate, mode(*executable), *size, bytes)
            }
            (Self::Tar(tar), Node::EmptyFolder) => tar.folder(name),
            (Self::Tar(tar), Node::Link { target }) => tar.link(name, target),
            (Self::Tar(tar), Node::File { size, executable, .. }) => tar.file(name, mode(*executable), *size, bytes),
        };
        match failed {
            Some(error) => Err(error),
            None => Ok(done?),
        }
    }

    fn finish(self) -> io::Result<()> {
        match self {
            Self::Folder { links, .. } => links.iter().try_for_each(|(path, target)| {
                let folder = path.parent().unwrap_or(path);
                fs::create_dir_all(folder)?;
                lantern_store::links::make(target, path, folder.join(target).is_dir())
            }),
            Self::Zip(zip) => zip.finish()?.into_inner().map_err(io::IntoInnerError::into_error)?.sync_all(),
            Self::Tar(tar) => tar.finish()?.finish(),
        }
    }
}

/// The file of an archive, and how it is compressed as a whole.
enum Packed {
    Plain(BufWriter<File>),
    Gz(flate2::write::GzEncoder<BufWriter<File>>),
    Zst(zstd::stream::write::Encoder<'static, BufWriter<File>>),
}

impl Packed {
    fn finish(self) -> io::Result<()> {
        let file = match self {
            Self::Plain(file) => file,
            Self::Gz(encoder) => encoder.finish()?,
            Self::Zst(encoder) => encoder.finish()?,
        };
        file.into_inner().map_err(io::IntoInnerError::into_error)?.sync_all()
    }
}

impl Write for Packed {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Self::Plain(out) => out.write(bytes),
            Self::Gz(out) => out.write(bytes),
            Self::Zst(out) => out.write(bytes),
        }
    }
    fn flush(&mut self) -> io::Result<()> {
        match self {
            Self::Plain(out) => out.flush(),
            Self::Gz(out) => out.flush(),
            Self::Zst(out) => out.flush(),
        }
    }
}

const fn mode(executable: bool) -> u32 {
    if executable { 0o755 } else { 0o644 }
}

fn write_to_folder(
    path: &Path,
    node: &Node,
    bytes: &mut dyn FnMut(&mut dyn Write) -> io::Result<()>,
) -> io::Result<()> {
    if let Some(parent) = path.parent() {
        fs::create_dir_all(parent)?;
    }
    match node {
        // Links are made at the end.
        Node::EmptyFolder | Node::Link { .. } => fs::create_dir_all(path),
        Node::File { executable, .. } => {
            let mut file = BufWriter::new(File::create(path)?);
            bytes(&mut file)?;
            let file = file.into_inner().map_err(io::IntoInnerError::into_error)?;
            make_executable(&file, *executable)
        }
    }
}

#[cfg(unix)]
fn make_executable(file: &File, executable: bool) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    file.set_permissions(fs::Permissions::from_mode(mode(executable)))
}

/// Windows has no such bit.
#[cfg(not(unix))]
fn make_executable(_: &File, _: bool) -> io::Result<()> {
    Ok(())
}

/// Tells the meter what goes through.
struct Metered<'a> {
    out: &'a mut dyn Write,
    meter: &'a dyn Meter,
}

impl Write for Metered<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let len = self.out.write(bytes)?;
        self.meter.add(len as u64);
        Ok(len)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

impl Workspace {
    /// Writes a release, or one target of it, to a path where nothing is yet: an archive by the ending of its name, else
    /// a folder. Several targets get a folder each in it. `aside` writes what was kept aside instead.
    ///
    /// # Errors
    /// [`ReleaseError::OutputThere`], [`ReleaseError::OutputForm`], [`ReleaseError::NoTarget`], [`ReleaseError::NothingAside`], [`ReleaseError::Freed`], and those of the store and
    /// the disk. Nothing stands at the path until all of it does.
    pub fn write_out(
        &self,
        release: &KnownRelease,
        target: Option<&Name>,
        aside: bool,
        to: &Path,
        progress: &dyn Progress,
    ) -> Result<WrittenOut, ProjectError> {
        if fs::symlink_metadata(to).is_ok() {
            return Err(ReleaseError::OutputThere(to.to_owned()).into());
        }
        self.refuse_without_content(release)?;
        let _held = self.hold_store(progress)?;
        let record = self.store.record(release.id)?;
        let wanted: Vec<&TargetRecord> =
            record.targets.iter().filter(|t| target.is_none_or(|asked| t.target == *asked)).collect();
        if let (Some(asked), true) = (target, wanted.is_empty()) {
            let known = record.targets.iter().map(|t| t.target.clone()).collect();
            return Err(ReleaseError::NoTarget { release: release.name.clone(), asked: asked.clone(), known }.into());
        }
        let wanted: Vec<&TargetRecord> = wanted.into_iter().filter(|t| !aside || t.aside.is_some()).collect();
        if wanted.is_empty() {
            return Err(ReleaseError::NothingAside(release.name.clone()).into());
        }
        let name = to.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        if Form::is_other_archive(&name) {
            return Err(ReleaseError::OutputForm(to.to_owned()).into());
        }
        let form = Form::of_name(&name).filter(|f| !matches!(f, Form::Package(_))).unwrap_or(Form::Folder);
        let folder = to.parent().filter(|folder| !folder.as_os_str().is_empty());
        if let Some(folder) = folder {
            fs::create_dir_all(folder).map_err(|source| {
                ProjectError::File(DurableError { what: "make the folder of", path: to.to_owned(), source })
            })?;
        }
        let part = to.with_file_name(format!("{}{name}", durable::PART));
        let io = |what: &'static str| {
            let path = to.to_owned();
            move |source| ProjectError::File(DurableError { what, path, source })
        };
        remove_part(&part).map_err(io("replace"))?;
        let what = Part { targets: &wanted, aside, form, top: "" };
        let done = self.write_parts(&what, &part, to, progress);
        let done = done.and_then(|done| fs::rename(&part, to).map_err(io("put in place")).map(|()| done));
        if done.is_err() {
            remove_part(&part).map_err(io("remove what was begun of"))?;
        }
        done
    }

    /// Writes one target into the file or folder `part`, which becomes `to` later; everything lies in the folder `top`, if
    /// that is not empty. Add-ons' depots are not in it: players get those with the add-on.
    pub(crate) fn write_target(
        &self,
        target: &TargetRecord,
        (form, top): (Form, &str),
        part: &Path,
        to: &Path,
        progress: &dyn Progress,
    ) -> Result<WrittenOut, ProjectError> {
        let mut target = target.clone();
        target.depots.retain(|depot| depot.players.add_on.is_none());
        self.write_parts(&Part { targets: &[&target], aside: false, form, top }, part, to, progress)
    }

    fn write_parts(
        &self,
        what: &Part<'_>,
        part: &Path,
        to: &Path,
        progress: &dyn Progress,
    ) -> Result<WrittenOut, ProjectError> {
        let Part { targets, aside, form, top } = *what;
        let io = |source| ProjectError::File(DurableError { what: "write", path: to.to_owned(), source });
        let depots = |target: &TargetRecord| -> Vec<DepotRecord> {
            if aside { target.aside.iter().cloned().collect() } else { target.depots.clone() }
        };
        let total = targets.iter().flat_map(|t| depots(t)).map(|d| d.size).sum();
        let meter = progress.start(Task::Write, Some(total));
        let mut sink = Sink::make(form, part).map_err(io)?;
        let mut done = WrittenOut { targets: Vec::new(), files: 0, size: 0 };
        for target in targets {
            let mut prefix = if top.is_empty() { String::new() } else { format!("{top}/") };
            if targets.len() > 1 {
                prefix = format!("{prefix}{}/", target.target);
            }
            let contents: Result<Vec<Contents<'_>>, _> = depots(target)
                .iter()
                .map(|depot| Contents::open(&self.store, self.store.recipe_of(depot.tree)?))
                .collect();
            let contents = contents?;
            let mut entries: Vec<(&Contents<'_>, &Entry)> =
                contents.iter().flat_map(|c| c.entries.iter().map(move |e| (c, e))).collect();
            entries.sort_by(|a, b| a.1.path.cmp(&b.1.path));
            for (contents, entry) in entries {
                if progress.stopped() {
                    return Err(ProjectError::Stopped);
                }
                let name = format!("{prefix}{}", entry.path.as_str());
                sink.entry(&name, contents, entry, &*meter).map_err(|error| match error {
                    ContentsError::Store(error) => ProjectError::Store(error),
                    ContentsError::Write(error) => io(error),
                    other => io(io::Error::other(other.to_string())),
                })?;
                done.files += u64::from(matches!(entry.node, Node::File { .. }));
                done.size += entry.node.size();
            }
            done.targets.push(target.target.clone());
        }
        sink.finish().map_err(io)?;
        Ok(done)
    }
}

pub(crate) fn remove_part(part: &Path) -> io::Result<()> {
    match fs::symlink_metadata(part) {
        Ok(m) if m.is_dir() => fs::remove_dir_all(part),
        Ok(_) => fs::remove_file(part),
        Err(_) => Ok(()),
    }
}
