//! Exports as the engine left them: a folder, an archive that is read in place, or a package that is one file.

mod archive;
mod folder;
mod handle;

pub(crate) use handle::{Opened, Shared};

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File, Metadata};
use std::io::{self, Cursor, Read};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock};

use lantern_core::finding::{Code, Finding, join_some};
use lantern_core::path::{TreePath, is_reserved, shown};
use lantern_core::patterns::Patterns;
use lantern_core::size::Size;
use lantern_core::tree::{link_leads_to, links_that_leave, links_to_nothing};
pub use lantern_formats::bundle::ReadSeek;
use lantern_formats::bundle::{FileKind, Files};
use lantern_formats::zip::{self, Method, Packed};
use lantern_store::seal::{SourceEntry, SourceKind};

use lantern_core::stat_data::StatData;

/// A file whose bytes take the place of an export's own, or come to them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Replacement {
    /// Its path in the build.
    pub path: TreePath,
    /// Where its bytes lie.
    pub at: PathBuf,
}

/// What an export is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// A folder.
    Folder,
    /// A ZIP archive.
    Zip,
    /// A tape archive.
    Tar,
    /// One that is compressed with gzip.
    TarGz,
    /// One that is compressed with Zstandard.
    TarZst,
    /// One file as it is, for phones and headsets; by the ending of its name.
    Package(&'static str),
}

/// Names' endings, longest first.
const ENDINGS: [(&str, Form); 9] = [
    (".tar.gz", Form::TarGz),
    (".tgz", Form::TarGz),
    (".tar.zst", Form::TarZst),
    (".tzst", Form::TarZst),
    (".tar", Form::Tar),
    (".zip", Form::Zip),
    (".apk", Form::Package("apk")),
    (".aab", Form::Package("aab")),
    (".ipa", Form::Package("ipa")),
];

impl Form {
    /// Returns what people call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Folder => "a folder",
            Self::Zip => "a ZIP archive",
            Self::Tar | Self::TarGz | Self::TarZst => "a tape archive",
            Self::Package("apk") => "an Android package",
            Self::Package("aab") => "an Android bundle",
            Self::Package(_) => "an iOS package",
        }
    }

    /// Whether a name ends as archives do that are neither read nor written here.
    pub fn is_other_archive(name: &str) -> bool {
        let lower = name.to_lowercase();
        Self::of_name(&lower).is_none() && OTHER_ARCHIVES.iter().any(|ending| lower.ends_with(ending))
    }

    /// Returns what a file is by its name; none when it is nothing that can be taken in.
    pub fn of_name(name: &str) -> Option<Self> {
        let lower = name.to_lowercase();
        ENDINGS.into_iter().find(|(ending, _)| lower.ends_with(ending)).map(|(_, form)| form)
    }
}

/// Archives that engines do not write and that are not read here; longest first.
const OTHER_ARCHIVES: [&str; 9] = [".tar.xz", ".tar.bz2", ".txz", ".tbz2", ".tbz", ".7z", ".rar", ".gz", ".xz"];

/// Where the bytes of an entry lie.
#[derive(Debug)]
enum At {
    /// In a file of its own, in the export's folder under the entry's path.
    Folder,
    /// In a file of its own, somewhere else.
    Disk(PathBuf),
    /// In an archive, packed.
    Zip(Packed),
    /// In an archive, as they are.
    Span { offset: u64, len: u64 },
    /// Nowhere: a folder or a link.
    Nowhere,
}

/// One entry of an export.
#[derive(Debug)]
pub struct Listed {
    /// What is sealed of it.
    pub source: SourceEntry,
    /// Of files only.
    pub stat: Option<StatData>,
    at: At,
}

/// An export that was found.
#[derive(Debug)]
pub struct Export {
    /// From the project's folder, for people.
    pub shown: String,
    /// What it is.
    pub form: Form,
    /// The file itself, or the folder that its entries lie in.
    path: PathBuf,
    /// The unpacked form of an archive that cannot be read at any place; removed when this goes.
    spool: Option<tempfile::TempPath>,
    /// In the order of their paths.
    pub entries: Vec<Listed>,
    /// The archive or package, once it was opened.
    itself: OnceLock<Shared>,
    /// Entries that stay open, by their places.
    held: Mutex<BTreeMap<usize, Shared>>,
}

/// Most entries that stay open. Ours: what starts, and the programs in a bundle.
const MAX_HELD: usize = 64;

/// What an export holds of Lantern's own files, which no build may bring: left out, and said.
#[derive(Debug, Default)]
struct Reserved {
    /// The uppermost names alone.
    names: BTreeSet<String>,
}

/// Most links that leave an export which are each said: where more do, it is the wrong folder.
const MAX_LINKS_NAMED: usize = 3;
/// How many links to nothing are named.
const MAX_DEAD_LINKS_NAMED: usize = 3;

/// How many of them are named, and kept.
const RESERVED_NAMED: usize = 3;

impl Reserved {
    fn leave_out(&mut self, path: &str) {
        let parts = path.split('/').position(is_reserved).map_or(usize::MAX, |at| at + 1);
        let uppermost: Vec<&str> = path.split('/').take(parts).collect();
        if self.names.len() <= RESERVED_NAMED {
            self.names.insert(uppermost.join("/"));
        }
    }

    fn join(&mut self, other: Self) {
        self.names.extend(other.names);
    }

    fn finding(&self) -> Option<Finding> {
        let names: Vec<String> = self.names.iter().take(RESERVED_NAMED).map(|name| shown(name)).collect();
        let more = if self.names.len() > RESERVED_NAMED { ", …" } else { "" };
        let what =
            format!("left out, because the name is reserved for Lantern's own files: {}{more}", names.join(", "));
        let fix = "is this an installed copy of the game? Export into a folder of its own";
        (!names.is_empty()).then(|| Finding::of(Code::ReservedName, what, fix))
    }
}

/// Everything that an export's entries are read by.
#[derive(Debug)]
pub struct Reading<'a> {
    /// The project's folder.
    pub root: &'a Path,
    /// Where files can be unpacked to for a while.
    pub spare: PathBuf,
    /// As configured; may be a pattern.
    pub export: &'a str,
    /// The folder within the export that is the build.
    pub export_root: Option<&'a str>,
    /// What it is taken for, instead of what its name says.
    pub form: Option<Form>,
    /// What stays out.
    pub leave_out: &'a Patterns,
}

/// An export with what was found on the way.
#[derive(Debug)]
pub struct Found {
    /// The export.
    pub export: Export,
    /// What was left out.
    pub left_out: Vec<TreePath>,
    /// What is wrong or worth knowing.
    pub findings: Vec<Finding>,
}

impl Export {
    /// Finds an export and lists it.
    ///
    /// # Errors
    /// The one finding that keeps it from being listed at all.
    pub fn find(reading: &Reading<'_>) -> Result<Found, Box<Finding>> {
        Self::find_in(reading, None)
    }

    /// Lists what lies at a path, whatever it is called.
    ///
    /// # Errors
    /// The one finding that keeps it from being listed at all.
    pub fn of_path(path: &Path, form: Option<Form>) -> Result<Found, Box<Finding>> {
        let no = |error: io::Error| Box::new(unreadable(&shown(&path.to_string_lossy()), &error));
        let mut full = std::path::absolute(path).map_err(no)?;
        if full.file_name().is_none() {
            // It ends with `..`, which says nothing about what it is called.
            full = full.canonicalize().map_err(no)?;
        }
        let name = full.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        // Brackets in a name are no pattern here.
        let pattern: String = name.chars().map(|c| if "[]*?{}\\".contains(c) { '?' } else { c }).collect();
        let reading = Reading {
            root: full.parent().unwrap_or(&full),
            spare: std::env::temp_dir(),
            export: &pattern,
            export_root: None,
            form,
            leave_out: &Patterns::default(),
        };
        Self::find(&reading)
    }

    /// As [`Self::find`]; of an archive that is open already, it.
    fn find_in(reading: &Reading<'_>, itself: Option<Shared>) -> Result<Found, Box<Finding>> {
        let mut findings = Vec::new();
        let shown_path = newest(reading.root, reading.export, &mut findings)?;
        let path = reading.root.join(&shown_path);
        let metadata = fs::metadata(&path).map_err(|e| not_there(&path, &shown_path, &e))?;
        let by_name = || if metadata.is_dir() { Some(Form::Folder) } else { Form::of_name(&shown_path) };
        let form = reading.form.or_else(by_name);
        let form = form.filter(|_| metadata.is_dir() || metadata.is_file()).ok_or_else(|| {
            let endings = ENDINGS.map(|(ending, _)| ending).join(", ");
            let lower = shown_path.to_lowercase();
            let what = match Form::is_other_archive(&lower) {
                true => format!("the export {} is an archive of a kind that is not read here", shown(&shown_path)),
                false => format!("the export {} is neither a folder nor an archive nor a package", shown(&shown_path)),
            };
            boxed(Code::ExportForm, what, format!("name a folder, or a file that ends in one of {endings}"))
        })?;
        let mut export = Self {
            shown: shown_path,
            form,
            path,
            spool: None,
            entries: Vec::new(),
            itself: itself.map(OnceLock::from).unwrap_or_default(),
            held: Mutex::default(),
        };
        let mut left_out = Vec::new();
        match form {
            Form::Folder => {
                if let Some(inside) = reading.export_root {
                    export.path.push(inside);
                    if !export.path.is_dir() {
                        return Err(no_root(inside, &export.shown));
                    }
                }
                let walked = folder::walk(reading.leave_out, &export.path);
                findings.extend(walked.findings);
                findings.extend(walked.reserved.finding());
                left_out = walked.left_out;
                export.entries = walked.found;
            }
            Form::Package(_) => {
                let name = Path::new(&export.shown).file_name().and_then(|name| name.to_str()).unwrap_or_default();
                let path = TreePath::new(name).map_err(|e| boxed(Code::BadName, e.to_string(), "rename the file"))?;
                let source = SourceEntry { path, kind: SourceKind::File { size: metadata.len() } };
                let (stat, at) = (Some(StatData::of(&metadata)), At::Disk(export.path.clone()));
                export.entries.push(Listed { source, stat, at });
            }
            Form::Zip | Form::Tar | Form::TarGz | Form::TarZst => {
                let listed = archive::list(&mut export, reading, StatData::of(&metadata))?;
                findings.extend(listed.findings);
                left_out = listed.left_out;
                export.entries = listed.entries;
            }
        }
        export.entries.sort_by(|a, b| a.source.path.cmp(&b.source.path));
        findings.extend(export.entries.iter().filter_map(|entry| too_large(&entry.source)));
        if form != Form::Folder {
            findings.extend(export.below_a_file());
        }
        let leaving = links_that_leave(export.links());
        findings.extend(leaving.iter().take(MAX_LINKS_NAMED).map(|(path, target)| folder::link_leaves(path, target)));
        if let Some(more) = leaving.len().checked_sub(MAX_LINKS_NAMED).filter(|more| *more > 0) {
            let what = format!("{more} more links of {} lead out of the export", shown(&export.shown));
            findings.push(Finding::of(Code::EscapingLink, what, "is it the folder that you mean?"));
        }
        let dead = links_to_nothing(export.links(), |path| export.holds(path));
        let dead: Vec<String> = dead.iter().map(|(path, target)| format!("{path} (to {})", shown(target))).collect();
        if !dead.is_empty() {
            let verb = if dead.len() == 1 { "leads" } else { "lead" };
            let what =
                format!("{} {verb} to nothing in the export, or in a circle", join_some(&dead, MAX_DEAD_LINKS_NAMED));
            findings.push(Finding::of(Code::DanglingLink, what, "remove it, or name it in leave-out"));
        }
        Ok(Found { export, left_out, findings })
    }

    /// Every link, with what it says.
    pub fn links(&self) -> impl Iterator<Item = (&TreePath, &str)> {
        self.entries.iter().filter_map(|entry| match &entry.source.kind {
            SourceKind::Link { target } => Some((&entry.source.path, target.as_str())),
            _ => None,
        })
    }

    /// Where a link of the export leads, within it.
    pub fn link_leads_to(&self, path: &str) -> Option<String> {
        let (path, target) = self.links().find(|(link, _)| link.as_str() == path)?;
        link_leads_to(self.links(), path, target)
    }

    /// Whether a file, a link or a folder lies at a path.
    fn holds(&self, path: &str) -> bool {
        self.has(path) || self.below(&format!("{path}/")).next().is_some()
    }

    /// What an archive claims to lie below something that is not a folder.
    fn below_a_file(&self) -> Option<Finding> {
        let in_the_way = |path: &TreePath| path.parents().find(|parent| self.has(parent)).map(str::to_owned);
        let (path, above) = self.entries.iter().find_map(|e| Some((&e.source.path, in_the_way(&e.source.path)?)))?;
        let what = format!("{path} is below {}, which is not a folder", shown(&above));
        Some(Finding::of(Code::PathBelowFile, what, "pack the archive again: it contains one name twice"))
    }

    /// One of files by themselves, for tests.
    #[cfg(test)]
    pub fn listed(shown: &str, form: Form, files: impl Iterator<Item = (TreePath, StatData)>) -> Self {
        let entry = |(path, stat): (TreePath, StatData)| Listed {
            source: SourceEntry { path, kind: SourceKind::File { size: stat.size } },
            stat: Some(stat),
            at: At::Nowhere,
        };
        Self {
            shown: shown.to_owned(),
            form,
            path: PathBuf::new(),
            spool: None,
            entries: files.map(entry).collect(),
            itself: OnceLock::new(),
            held: Mutex::default(),
        }
    }

    /// Lists a package as the archive that it is.
    ///
    /// # Errors
    /// The one finding that keeps it from being listed.
    pub fn inside_of_package(&self) -> Result<Found, Box<Finding>> {
        let everything = Patterns::default();
        let name = self.path.file_name().and_then(|name| name.to_str()).unwrap_or(&self.shown);
        let reading = Reading {
            root: self.path.parent().unwrap_or(Path::new("")),
            spare: std::env::temp_dir(),
            export: name,
            export_root: None,
            form: Some(Form::Zip),
            leave_out: &everything,
        };
        Self::find_in(&reading, self.held(0))
    }

    /// Puts other bytes in the place of files, or beside them.
    ///
    /// # Errors
    /// Those of the file system; [`io::ErrorKind::AlreadyExists`] where something lies that is no file.
    pub(crate) fn lay_over(&mut self, files: &[Replacement]) -> io::Result<()> {
        // Places change with every file that is new.
        self.held.lock().expect("nothing panics with the lock").clear();
        for Replacement { path, at } in files {
            let metadata = fs::metadata(at)?;
            let source = SourceEntry { path: path.clone(), kind: SourceKind::File { size: metadata.len() } };
            let entry = Listed { source, stat: Some(StatData::of(&metadata)), at: At::Disk(at.clone()) };
            match self.find_path(path.as_str()) {
                Ok(index) if self.entries[index].source.is_file() => self.entries[index] = entry,
                Ok(_) => return Err(io::ErrorKind::AlreadyExists.into()),
                Err(index) => self.entries.insert(index, entry),
            }
        }
        match self.below_a_file() {
            Some(_) => Err(io::ErrorKind::AlreadyExists.into()),
            None => Ok(()),
        }
    }

    /// The place of a file.
    pub fn place_of(&self, path: &str) -> Option<usize> {
        let index = self.find_path(path).ok()?;
        self.entries[index].source.is_file().then_some(index)
    }

    fn find_path(&self, path: &str) -> Result<usize, usize> {
        self.entries.binary_search_by(|entry| entry.source.path.as_str().cmp(path))
    }

    /// Whether anything lies at a path.
    pub fn has(&self, path: &str) -> bool {
        self.find_path(path).is_ok()
    }

    /// The entries below a folder, which ends with `/`, with their paths from there; all of them for no folder.
    pub fn below<'a>(&'a self, folder: &'a str) -> impl Iterator<Item = (&'a str, usize)> {
        let start = self.find_path(folder).unwrap_or_else(|at| at);
        let rest = self.entries[start..].iter().zip(start..);
        rest.map_while(move |(entry, index)| Some((entry.source.path.as_str().strip_prefix(folder)?, index)))
    }

    /// Opens the archive or package itself, to be read by several at once. The system is asked once.
    ///
    /// # Errors
    /// The system's.
    pub fn open_itself(&self) -> io::Result<Shared> {
        if let Some(open) = self.itself.get() {
            return Ok(open.again());
        }
        let file = File::open(self.spool.as_deref().unwrap_or(&self.path))?;
        let open = Shared::whole(file)?;
        Ok(self.itself.get_or_init(|| open).again())
    }

    /// Returns how an entry is stored, in a ZIP archive.
    pub fn packed(&self, index: usize) -> Option<&Packed> {
        match &self.entries.get(index)?.at {
            At::Zip(packed) => Some(packed),
            _ => None,
        }
    }

    /// Opens an entry's bytes from their start.
    ///
    /// # Errors
    /// Those of the system; [`io::ErrorKind::InvalidData`] and [`io::ErrorKind::Unsupported`] for archives.
    pub fn open(&self, index: usize) -> io::Result<Box<dyn Read + Send>> {
        match self.open_once(index)? {
            Opened::Anywhere(file) => Ok(Box::new(file)),
            Opened::Stream(file) => Ok(file),
        }
    }

    /// Opens an entry so that it can be read on, and at any place where that is asked for.
    pub(crate) fn open_once(&self, index: usize) -> io::Result<Opened> {
        let entry = self.entries.get(index).ok_or(io::ErrorKind::NotFound)?;
        if let Some(held) = self.held(index) {
            return Ok(Opened::Anywhere(Box::new(held)));
        }
        Ok(match &entry.at {
            At::Folder | At::Disk(_) => Opened::Anywhere(Box::new(File::open(self.file_of(entry))?)),
            At::Zip(packed) => Opened::Stream(zip::open(self.open_itself()?, packed).map_err(in_archive)?),
            At::Span { offset, len } => Opened::Anywhere(Box::new(self.open_itself()?.part(*offset, *len))),
            At::Nowhere => Opened::Anywhere(Box::new(Cursor::new(Vec::new()))),
        })
    }

    /// Opens an entry so that any part of it can be read; what is packed is unpacked to a file for that.
    fn open_anywhere(&self, index: usize) -> io::Result<Box<dyn ReadSeek>> {
        let entry = self.entries.get(index).ok_or(io::ErrorKind::NotFound)?;
        match &entry.at {
            At::Zip(packed) if packed.method == Method::Stored => {
                let mut file = self.open_itself()?;
                let offset = zip::data_offset(&mut file, packed).map_err(in_archive)?;
                Ok(Box::new(file.part(offset, packed.len)))
            }
            _ => self.open_once(index)?.anywhere(&[]),
        }
    }

    /// Makes an entry that was opened, and read so far, one that can be read at any place.
    pub(crate) fn anywhere(&self, index: usize, opened: Opened, read: &[u8]) -> io::Result<Box<dyn ReadSeek>> {
        let is_stored = self.packed(index).is_some_and(|packed| packed.method == Method::Stored);
        if is_stored { self.open_anywhere(index) } else { opened.anywhere(read) }
    }

    /// As [`Self::open_anywhere`], for one that others will ask for as well: it stays open, and unpacked.
    pub(crate) fn hold(&self, index: usize) -> io::Result<Box<dyn ReadSeek>> {
        if let Some(held) = self.held(index) {
            return Ok(Box::new(held));
        }
        let entry = self.entries.get(index).ok_or(io::ErrorKind::NotFound)?;
        let file = match &entry.at {
            At::Folder | At::Disk(_) => Shared::whole(File::open(self.file_of(entry))?)?,
            At::Zip(packed) if packed.method != Method::Stored => Shared::unpacked(&mut self.open(index)?)?,
            // The archive is open already.
            _ => return self.open_anywhere(index),
        };
        let mut held = self.held.lock().expect("nothing panics with the lock");
        if held.len() < MAX_HELD {
            held.insert(index, file.again());
        }
        Ok(Box::new(file))
    }

    fn held(&self, index: usize) -> Option<Shared> {
        self.held.lock().expect("nothing panics with the lock").get(&index).map(Shared::again)
    }

    /// The file that an entry's bytes lie in.
    fn file_of<'a>(&'a self, entry: &'a Listed) -> Cow<'a, Path> {
        match &entry.at {
            At::Folder => self.path.join(entry.source.path.as_str()).into(),
            At::Disk(path) => path.into(),
            At::Zip(_) | At::Span { .. } | At::Nowhere => self.path.as_path().into(),
        }
    }

    /// Whether an entry still is as it was listed.
    pub fn is_unchanged(&self, index: usize) -> io::Result<bool> {
        let entry = self.entries.get(index).ok_or(io::ErrorKind::NotFound)?;
        if matches!(entry.at, At::Nowhere) {
            return Ok(true);
        }
        let path = self.file_of(entry);
        Ok(entry.stat == Some(StatData::of(&fs::symlink_metadata(&path)?)) || path.is_symlink())
    }
}

fn kind_of(source: &SourceEntry) -> FileKind<'_> {
    match &source.kind {
        SourceKind::File { size } => FileKind::File { len: *size },
        SourceKind::Link { target } => FileKind::Link { target },
        SourceKind::EmptyFolder => FileKind::EmptyFolder,
    }
}

impl Files for Export {
    fn below<'a>(&'a self, folder: &'a str) -> Box<dyn Iterator<Item = (&'a str, FileKind<'a>)> + 'a> {
        Box::new(Self::below(self, folder).map(|(path, index)| (path, kind_of(&self.entries[index].source))))
    }

    fn kind(&self, path: &str) -> Option<FileKind<'_>> {
        self.find_path(path).ok().map(|index| kind_of(&self.entries[index].source))
    }

    fn open(&self, path: &str) -> io::Result<Box<dyn Read + Send + '_>> {
        Self::open(self, self.place_of(path).ok_or(io::ErrorKind::NotFound)?).map(|file| file as _)
    }

    fn open_anywhere(&self, path: &str) -> io::Result<Box<dyn ReadSeek + '_>> {
        self.hold(self.place_of(path).ok_or(io::ErrorKind::NotFound)?).map(|file| file as _)
    }
}

/// What cannot be listed or opened is reported as.
pub fn unreadable(whose: &str, error: &io::Error) -> Finding {
    let fix = match error.kind() {
        io::ErrorKind::NotFound => "it was there a moment ago: wait until the engine has finished writing",
        io::ErrorKind::Unsupported => "pack it in the usual way: deflate, Zstandard, or not compressed",
        io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput | io::ErrorKind::UnexpectedEof => {
            "it is damaged: export it again"
        }
        _ => "give yourself permission to read it",
    };
    Finding::of(Code::Unreadable, format!("{whose} cannot be read: {error}"), fix)
}

/// Longest file that is sealed, in bytes. Ours: what is longer is no file of a game, and would be read for a day.
const MAX_FILE_LEN: u64 = 1_000_000_000_000;

fn too_large(entry: &SourceEntry) -> Option<Finding> {
    let size = entry.size();
    let what =
        || format!("{} is {} long; no file of a build is longer than {}", entry.path, Size(size), Size(MAX_FILE_LEN));
    (size > MAX_FILE_LEN).then(|| Finding::of(Code::TooLarge, what(), "is it a disk image? Name it in leave-out"))
}

/// What went wrong with an archive, as an error of reading.
pub fn in_archive(error: zip::ZipError) -> io::Error {
    match error {
        zip::ZipError::Io(error) => error,
        unsupported @ zip::ZipError::Unsupported(_) => {
            io::Error::new(io::ErrorKind::Unsupported, unsupported.to_string())
        }
        other => io::Error::new(io::ErrorKind::InvalidData, other.to_string()),
    }
}

/// A finding that ends what finds it.
pub(crate) fn boxed(code: Code, what: impl Into<String>, fix: impl Into<String>) -> Box<Finding> {
    Box::new(Finding::of(code, what, fix))
}

fn no_root(inside: &str, export: &str) -> Box<Finding> {
    let what = format!("there is no folder {} in {}", shown(inside), shown(export));
    boxed(Code::ExportRoot, what, "fix export-root, or leave it out")
}

fn not_there(path: &Path, shown_path: &str, error: &io::Error) -> Box<Finding> {
    if error.kind() != io::ErrorKind::NotFound {
        let what = format!("the export {} cannot be read: {error}", shown(shown_path));
        return boxed(Code::Unreadable, what, "give yourself permission to read it");
    }
    let what = format!("the export {} is not there", shown(shown_path));
    let fix = match nearest_sibling(path) {
        Some(near) => format!("there is {near:?} next to it; fix the path, or export the game there"),
        None => "export the game there, or fix the path".to_owned(),
    };
    boxed(Code::ExportMissing, what, fix)
}

/// Returns the name of something beside a missing export that may have been meant.
fn nearest_sibling(path: &Path) -> Option<String> {
    let wanted = path.file_name()?.to_str()?;
    let fits = |e: &fs::DirEntry| e.path().is_dir() || e.file_name().to_str().and_then(Form::of_name).is_some();
    let entries = fs::read_dir(path.parent()?).ok()?.flatten().filter(fits);
    let names: Vec<String> = entries.filter_map(|e| e.file_name().into_string().ok()).collect();
    lantern_core::names::nearest(wanted, names.iter().map(String::as_str)).map(str::to_owned)
}

/// Returns the path that is meant; of a pattern that several fit, the newest, and a note that says so.
fn newest(root: &Path, export: &str, findings: &mut Vec<Finding>) -> Result<String, Box<Finding>> {
    if !export.contains(['*', '?', '[', '{']) || fs::symlink_metadata(root.join(export)).is_ok() {
        return Ok(export.to_owned());
    }
    let mut found = vec![String::new()];
    for part in export.split('/') {
        let mut next = Vec::new();
        for before in &found {
            let joined = |name: &str| if before.is_empty() { name.to_owned() } else { format!("{before}/{name}") };
            match Patterns::new([part]) {
                Ok(pattern) if part.contains(['*', '?', '[', '{']) => {
                    let names = fs::read_dir(root.join(before)).into_iter().flatten().flatten();
                    let names = names.filter_map(|e| e.file_name().into_string().ok());
                    next.extend(names.filter(|name| pattern.matches_word(name)).map(|name| joined(&name)));
                }
                _ => next.push(joined(part)),
            }
        }
        found = next;
    }
    let is_export = |p: &String| root.join(p).is_dir() || (Form::of_name(p).is_some() && root.join(p).is_file());
    found.retain(is_export);
    let age = |p: &String| (written(&root.join(p)), p.clone());
    let Some(newest) = found.iter().max_by_key(|p| age(p)).cloned() else {
        let what = format!("no export fits {}", shown(export));
        return Err(boxed(Code::ExportMissing, what, "export the game there, or fix the pattern"));
    };
    if found.len() > 1 {
        let what = format!("{} is the newest of {} exports that fit {}", shown(&newest), found.len(), shown(export));
        findings.push(Finding::note(Code::NewestExportTaken, what));
    }
    Ok(newest)
}

/// When an export was written: the latest time of it and of what lies at its top, for a folder keeps its own time when
/// only files in it are written again.
fn written(path: &Path) -> i64 {
    let time = |m: io::Result<Metadata>| m.map_or(0, |m| StatData::of(&m).modified_ns);
    let tops = fs::read_dir(path).into_iter().flatten().flatten().map(|e| time(e.metadata()));
    tops.chain([time(fs::metadata(path))]).max().unwrap_or(0)
}
