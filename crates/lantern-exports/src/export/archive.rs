//! Archives, read in place. One that is compressed as a whole is unpacked to a file that goes when the work is done.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, BufReader, Read};

use lantern_core::finding::{Code, Finding};
use lantern_core::path::{PathError, TreePath, shown};
use lantern_formats::tar::{self, TarError, TarKind};
use lantern_formats::zip::{self, ZipError};
use lantern_store::seal::{SourceEntry, SourceKind};

use super::folder::special;
use super::{At, Export, Form, Listed, Reading, Reserved, Shared, StatData, boxed, no_root};

/// Longest target of a link that is read, in bytes.
const MAX_LINK_LEN: u64 = 4096;
/// A compressed archive may unpack to this many times its size, and to [`SPARE_LEN`] in any case.
const MAX_RATIO: u64 = 200;
const SPARE_LEN: u64 = 1024 * 1024 * 1024;

/// Most findings about one archive's entries. Ours: what is wrong with so many is wrong with the archive.
const MAX_FINDINGS: usize = 100;
/// Memory that the list of an archive may take in any case, in bytes; one more for each byte of the archive. Ours: an entry
/// of a ZIP archive has 76 bytes there at least, and 200 in the list; those of one that is compressed as a whole may
/// have next to none.
const LIST_LEN: u64 = 16 * 1024 * 1024;

/// What an archive holds.
#[derive(Default)]
pub(super) struct Contents {
    pub entries: Vec<Listed>,
    pub left_out: Vec<TreePath>,
    pub findings: Vec<Finding>,
    reserved: Reserved,
    /// How many more findings there are.
    more: usize,
}

impl Contents {
    /// Adds a finding, unless there are so many that nobody reads it: then it is counted.
    fn find(&mut self, finding: Finding) {
        if self.findings.len() < MAX_FINDINGS {
            self.findings.push(finding);
        } else {
            self.more += 1;
        }
    }
}

enum Kind {
    File { size: u64 },
    Folder,
    Link { target: Vec<u8> },
    Special,
}

/// Lists an archive.
///
/// # Errors
/// The one finding that keeps it from being listed at all.
pub(super) fn list(export: &mut Export, reading: &Reading<'_>, stat: StatData) -> Result<Contents, Box<Finding>> {
    let name = export.shown.clone();
    let broken = |why: String| boxed(Code::BadArchive, format!("{}: {why}", shown(&name)), "export or pack it again");
    let unreadable =
        |e: io::Error| boxed(Code::Unreadable, format!("{} cannot be read: {e}", shown(&name)), "check the disk");
    let max_list_len = LIST_LEN.saturating_add(stat.size);
    let mut sieve = Sieve { reading, stat, contents: Contents::default(), folders: Vec::new() };
    if export.form == Form::Zip {
        let file = export.open_itself().map_err(unreadable)?;
        sift_zip(&mut BufReader::new(file), max_list_len, &mut sieve).map_err(|e| match e {
            ZipError::Io(e) => unreadable(e),
            other => broken(other.to_string()),
        })?;
    } else {
        unpack(export, reading).map_err(|e| match e.kind() {
            io::ErrorKind::NotFound
            | io::ErrorKind::PermissionDenied
            | io::ErrorKind::StorageFull
            | io::ErrorKind::QuotaExceeded
            | io::ErrorKind::ReadOnlyFilesystem => unreadable(e),
            _ => broken(format!("it cannot be unpacked: {e}")),
        })?;
        let file = export.open_itself().map_err(unreadable)?;
        sift_tar(&mut BufReader::new(file), max_list_len, &mut sieve).map_err(|e| match e {
            TarError::Io(e) => unreadable(e),
            other => broken(other.to_string()),
        })?;
    }
    let mut contents = sieve.finish();
    contents.findings.extend(contents.reserved.finding());
    if contents.more > 0 {
        let what = format!("{} more entries of {} are wrong", contents.more, shown(&name));
        contents.findings.push(Finding::of(Code::TooManyFindings, what, "pack it again"));
    }
    if let Some(root) = reading.export_root.filter(|_| contents.entries.is_empty() && contents.findings.is_empty()) {
        return Err(no_root(root, &export.shown));
    }
    Ok(contents)
}

/// Unpacks an archive that is compressed as a whole; a plain one can be read where it is.
fn unpack(export: &mut Export, reading: &Reading<'_>) -> io::Result<()> {
    let file = File::open(&export.path)?;
    let limit = file.metadata()?.len().saturating_mul(MAX_RATIO).max(SPARE_LEN);
    let packed: Box<dyn Read> = match export.form {
        Form::TarGz => Box::new(flate2::read::MultiGzDecoder::new(file)),
        Form::TarZst => Box::new(zstd::stream::read::Decoder::new(file)?),
        _ => return Ok(()),
    };
    fs::create_dir_all(&reading.spare)?;
    let mut spool = tempfile::Builder::new().prefix(".part-unpacked-").tempfile_in(&reading.spare)?;
    let len = io::copy(&mut packed.take(limit + 1), spool.as_file_mut())?;
    if len > limit {
        let what = format!("it unpacks to more than {MAX_RATIO} times its size");
        return Err(io::Error::new(io::ErrorKind::InvalidData, what));
    }
    export.spool = Some(spool.into_temp_path());
    Ok(())
}

fn sift_zip(file: &mut BufReader<Shared>, max_list_len: u64, sieve: &mut Sieve<'_>) -> Result<(), ZipError> {
    let entries = zip::read(file)?;
    sieve.contents.entries.reserve_exact(entries.len());
    let mut left = max_list_len;
    for entry in entries {
        let kind = if entry.is_folder() {
            Kind::Folder
        } else if entry.is_link() {
            let mut target = Vec::new();
            zip::open(file.get_ref().clone(), &entry.packed)?.take(MAX_LINK_LEN).read_to_end(&mut target)?;
            let too_long = || ZipError::Broken("it has more and longer links than any real one".to_owned());
            left = left.checked_sub(target.len() as u64).ok_or_else(too_long)?;
            Kind::Link { target }
        } else if entry.is_special() {
            Kind::Special
        } else if entry.packed.is_encrypted {
            let name = shown(&String::from_utf8_lossy(&entry.name));
            return Err(ZipError::Unsupported(format!("needs a password for {name}")));
        } else {
            Kind::File { size: entry.packed.len }
        };
        sieve.take(entry.name, kind, At::Zip(entry.packed));
    }
    Ok(())
}

fn sift_tar(file: &mut BufReader<Shared>, max_list_len: u64, sieve: &mut Sieve<'_>) -> Result<(), TarError> {
    let entries = tar::read(file, max_list_len)?;
    let has_twins = entries.iter().any(|e| matches!(e.kind, TarKind::Same(_)));
    let files = entries.iter().filter(|e| has_twins && e.kind == TarKind::File);
    let files: BTreeMap<Vec<u8>, (u64, u64)> = files.map(|e| (e.name.clone(), (e.offset, e.len))).collect();
    for entry in entries {
        let (kind, at) = match entry.kind {
            TarKind::Folder => (Kind::Folder, At::Nowhere),
            TarKind::Link(target) => (Kind::Link { target }, At::Nowhere),
            TarKind::Same(other) => {
                let Some((offset, len)) = files.get(other.as_slice()) else {
                    let (name, other) = (String::from_utf8_lossy(&entry.name), String::from_utf8_lossy(&other));
                    let what = format!("{} is the same as {}, which is not there", shown(&name), shown(&other));
                    return Err(TarError::Broken(what));
                };
                (Kind::File { size: *len }, At::Span { offset: *offset, len: *len })
            }
            TarKind::File => (Kind::File { size: entry.len }, At::Span { offset: entry.offset, len: entry.len }),
            _ => (Kind::Special, At::Nowhere),
        };
        sieve.take(entry.name, kind, at);
    }
    Ok(())
}

/// Applies names' rules, the root within the archive, and what stays out.
struct Sieve<'a> {
    reading: &'a Reading<'a>,
    stat: StatData,
    contents: Contents,
    folders: Vec<TreePath>,
}

impl Sieve<'_> {
    fn take(&mut self, name: Vec<u8>, kind: Kind, at: At) {
        let out = &mut self.contents;
        let path = match path_of(name, self.reading.export_root) {
            Ok(Some(path)) => path,
            Ok(None) => return,
            Err(PathError::Reserved(name)) => return out.reserved.leave_out(&name),
            Err(error) => {
                return out.find(Finding::of(Code::BadName, error.to_string(), "pack it again without this name"));
            }
        };
        if self.reading.leave_out.covers(&path) {
            return out.left_out.push(path);
        }
        let (kind, stat) = match kind {
            Kind::Folder => return self.folders.push(path),
            Kind::File { size } => (SourceKind::File { size }, Some(self.stat)),
            Kind::Link { target } => (SourceKind::Link { target: String::from_utf8_lossy(&target).into_owned() }, None),
            Kind::Special => return out.find(special(&path)),
        };
        out.entries.push(Listed { source: SourceEntry { path, kind }, stat, at });
    }

    fn finish(self) -> Contents {
        let Self { mut contents, mut folders, .. } = self;
        let out = &mut contents;
        out.entries.sort_by(|a, b| a.source.path.cmp(&b.source.path));
        let mut twins = Vec::new();
        out.entries.dedup_by(|next, kept| {
            let is_twin = next.source.path == kept.source.path;
            if is_twin {
                twins.push(next.source.path.clone());
            }
            is_twin
        });
        for path in twins {
            let what = format!("{path} occurs twice in the archive");
            out.find(Finding::of(Code::DuplicateEntry, what, "pack it again"));
        }
        folders.sort_unstable();
        folders.dedup();
        out.left_out.sort_unstable();
        let is_empty = |folder: &TreePath| {
            let below = format!("{}/", folder.as_str());
            let is_below = |path: Option<&TreePath>| path.is_some_and(|path| path.as_str().starts_with(&below));
            let before = |path: &TreePath| path.as_str() < below.as_str();
            let next = out.entries.get(out.entries.partition_point(|entry| before(&entry.source.path)));
            !is_below(next.map(|entry| &entry.source.path))
                && !is_below(out.left_out.get(out.left_out.partition_point(before)))
                && !is_below(folders.get(folders.partition_point(before)))
        };
        let is_file = |path: &TreePath| out.entries.binary_search_by(|entry| entry.source.path.cmp(path)).is_ok();
        let empty = folders.iter().filter(|folder| is_empty(folder) && !is_file(folder));
        let empty = empty.map(|path| SourceEntry { path: path.clone(), kind: SourceKind::EmptyFolder });
        let empty: Vec<Listed> = empty.map(|source| Listed { source, stat: None, at: At::Nowhere }).collect();
        out.entries.extend(empty);
        contents
    }
}

/// Returns an entry's path in the build; none when it lies outside of the root or is the root itself.
fn path_of(name: Vec<u8>, root: Option<&str>) -> Result<Option<TreePath>, PathError> {
    let name =
        String::from_utf8(name).map_err(|e| PathError::Encoding(String::from_utf8_lossy(e.as_bytes()).into_owned()))?;
    let text = name.strip_prefix("./").unwrap_or(&name);
    let text = text.strip_suffix('/').unwrap_or(text);
    if matches!(text, "" | ".") {
        return Ok(None);
    }
    let path = TreePath::new(text)?;
    let Some(root) = root else { return Ok(Some(path)) };
    let inside = path.as_str().strip_prefix(root.trim_end_matches('/')).and_then(|rest| rest.strip_prefix('/'));
    Ok(inside.and_then(|inside| TreePath::new(inside).ok()))
}
