//! `sign` of a loose program or bundle for macOS or iOS.

use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use lantern_core::progress::Progress;
use lantern_exports::export::{Export, Form};
use lantern_formats::bundle::{FileKind, Files, Layout, ReadSeek};
use lantern_sign::SignError;
use lantern_sign::apple_bundle::{self, Changed};
use lantern_store::durable::{self, DurableError};

use crate::ProjectError;
use crate::in_place::{Did, reading, replace};
use crate::not_changed::of_file;
use crate::sign_code::{self, CodeSeal};

/// What is code for these systems at a path.
pub(crate) enum CodeAt {
    /// A program or library by itself.
    Program,
    /// A package.
    Package,
    /// A bundle, by its name.
    Bundle(String),
    /// A folder with such in it.
    Folder,
}

impl CodeAt {
    /// None where there is none.
    pub(crate) fn of(path: &Path) -> io::Result<Option<Self>> {
        let name = std::path::absolute(path)?.file_name().map(|name| name.to_string_lossy().into_owned());
        let name = name.unwrap_or_default();
        if !fs::metadata(path)?.is_dir() {
            let is_package = Form::of_name(&name) == Some(Form::Package("ipa"));
            return Ok(is_package.then_some(Self::Package).or_else(|| is_code(path).then_some(Self::Program)));
        }
        let Ok(found) = Export::of_path(path, None) else { return Ok(None) };
        if Layout::find(&found.export, "", &name).is_some() {
            return Ok(Some(Self::Bundle(name)));
        }
        let roots = apple_bundle::roots(&found.export);
        Ok(roots.is_ok_and(|roots| !roots.is_empty()).then_some(Self::Folder))
    }
}

fn is_code(path: &Path) -> bool {
    let roots = One::of(path).map(|files| apple_bundle::roots(&files));
    roots.is_ok_and(|roots| roots.is_ok_and(|roots| !roots.is_empty()))
}

/// Files that lie in a folder of their own, as they do in a build.
struct Within<'a> {
    files: &'a dyn Files,
    /// The folder, which ends with `/`.
    folder: String,
    /// The paths with it.
    paths: Vec<String>,
}

impl<'a> Within<'a> {
    fn of(files: &'a dyn Files, name: &str) -> Self {
        let folder = format!("{name}/");
        let paths = files.below("").map(|(path, _)| format!("{folder}{path}")).collect();
        Self { files, folder, paths }
    }

    fn inner<'p>(&self, path: &'p str) -> Option<&'p str> {
        path.strip_prefix(&self.folder)
    }
}

impl Files for Within<'_> {
    fn below<'a>(&'a self, folder: &'a str) -> Box<dyn Iterator<Item = (&'a str, FileKind<'a>)> + 'a> {
        Box::new(self.paths.iter().filter_map(move |path| Some((path.strip_prefix(folder)?, self.kind(path)?))))
    }

    fn kind(&self, path: &str) -> Option<FileKind<'_>> {
        self.files.kind(self.inner(path)?)
    }

    fn open(&self, path: &str) -> io::Result<Box<dyn Read + Send + '_>> {
        self.inner(path).map_or(Err(io::ErrorKind::NotFound.into()), |path| self.files.open(path))
    }

    fn open_anywhere(&self, path: &str) -> io::Result<Box<dyn ReadSeek + '_>> {
        self.inner(path).map_or(Err(io::ErrorKind::NotFound.into()), |path| self.files.open_anywhere(path))
    }
}

/// Signs what is at a path: everything that runs in it.
pub(crate) fn sign(
    (path, code): (&Path, &CodeAt),
    to: Option<&Path>,
    seal: &CodeSeal<'_>,
    progress: &dyn Progress,
) -> Result<Vec<(PathBuf, Did)>, ProjectError> {
    let shown = path.display().to_string();
    let failed = |error: SignError| {
        ProjectError::from(of_file("used", seal.name, (&shown, path), error, "sign without time stamps"))
    };
    let work = tempfile::tempdir().map_err(reading(path))?;
    let find = |path: &Path, form| {
        Export::of_path(path, form).map(|found| found.export).map_err(|finding| ProjectError::Findings(vec![*finding]))
    };
    match code {
        CodeAt::Package => {
            let inside = find(path, Some(Form::Zip))?;
            let at = work.path().join("signed");
            sign_code::package(&inside, &|| File::open(path), seal, (work.path(), &at), progress).map_err(failed)?;
            Ok(vec![put(&at, path, to)?])
        }
        CodeAt::Program => {
            let files = One::of(path).map_err(reading(path))?;
            let changed = seal.sign(&files, None, false, work.path(), progress).map_err(failed)?;
            changed.into_iter().map(|file| put(&file.at, path, to)).collect()
        }
        CodeAt::Bundle(name) => {
            let export = find(path, None)?;
            let files = Within::of(&export, name);
            let changed = seal.sign(&files, None, is_flat(&export, name), work.path(), progress).map_err(failed)?;
            put_all(path, &changed, &files.folder)
        }
        CodeAt::Folder => {
            let export = find(path, None)?;
            let changed = seal.sign(&export, None, false, work.path(), progress).map_err(failed)?;
            put_all(path, &changed, "")
        }
    }
}

/// Whether a bundle is one for phones.
fn is_flat(files: &dyn Files, name: &str) -> bool {
    Layout::find(files, "", name).is_some_and(|layout| layout.is_flat)
}

/// Puts changed files in their places: from the inside out, so that a bundle that is cut short does not look whole.
fn put_all(root: &Path, changed: &[Changed], folder: &str) -> Result<Vec<(PathBuf, Did)>, ProjectError> {
    let mut files: Vec<&Changed> = changed.iter().collect();
    files.sort_by_key(|file| std::cmp::Reverse(file.path.matches('/').count()));
    let mut out = Vec::new();
    for file in files {
        let place = root.join(file.path.strip_prefix(folder).unwrap_or(&file.path));
        if let Some(parent) = place.parent() {
            durable::create_folders(parent)?;
        }
        let done = put(&file.at, &place, None)?;
        // Seals and profiles belong to the program beside them.
        if is_code(&place) {
            out.push(done);
        }
    }
    out.sort_by(|one, other| one.0.cmp(&other.0));
    Ok(out)
}

/// Puts a file in its place, with the rights of what was there, once it is whole and on the disk; leaves what is the same.
fn put(from: &Path, was: &Path, to: Option<&Path>) -> Result<(PathBuf, Did), ProjectError> {
    let to = to.unwrap_or(was);
    if to == was && is_same(from, was).map_err(reading(was))? {
        return Ok((was.to_owned(), Did::HadIt));
    }
    let copy = |part: &Path| {
        let copied = fs::copy(from, part);
        copied.map(|_| ()).map_err(|source| DurableError { what: "write", path: part.to_owned(), source })
    };
    replace(was, to, copy)?;
    Ok((was.to_owned(), Did::Signed))
}

fn is_same(one: &Path, other: &Path) -> io::Result<bool> {
    let (Ok(first), Ok(second)) = (fs::metadata(one), fs::metadata(other)) else { return Ok(false) };
    if first.len() != second.len() {
        return Ok(false);
    }
    let digest = |path: &Path| lantern_formats::hash::Hash::Sha256.digest_of_reader(&mut File::open(path)?);
    Ok(digest(one)? == digest(other)?)
}

/// One file by itself.
struct One<'a> {
    path: &'a Path,
    name: String,
    len: u64,
}

impl<'a> One<'a> {
    fn of(path: &'a Path) -> io::Result<Self> {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        Ok(Self { path, name, len: fs::metadata(path)?.len() })
    }
}

impl Files for One<'_> {
    fn below<'a>(&'a self, folder: &'a str) -> Box<dyn Iterator<Item = (&'a str, FileKind<'a>)> + 'a> {
        let rest = self.name.strip_prefix(folder);
        Box::new(rest.into_iter().map(|rest| (rest, FileKind::File { len: self.len })))
    }

    fn kind(&self, path: &str) -> Option<FileKind<'_>> {
        (path == self.name).then_some(FileKind::File { len: self.len })
    }

    fn open(&self, _: &str) -> io::Result<Box<dyn Read + Send + '_>> {
        Ok(Box::new(File::open(self.path)?))
    }

    fn open_anywhere(&self, _: &str) -> io::Result<Box<dyn ReadSeek + '_>> {
        Ok(Box::new(File::open(self.path)?))
    }
}
