//! Archives, read in place. One that is compressed as a whole is unpacked to a file that goes when the work is done.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::{self, BufReader, Read};

use lantern_core::finding::Finding;
use lantern_core::path::{TreePath, shown};
use lantern_formats::tar::{self, TarError, TarKind};
use lantern_formats::zip::{self, ZipError};
use lantern_store::seal::{SourceEntry, SourceKind};

use super::folder::{link_leaves, special};
use super::{At, Export, Form, Listed, Reading, Stamp, no_root, stops};

/// Longest target of a link that is read, in bytes.
const MAX_LINK_LEN: u64 = 4096;
/// A compressed archive may unpack to this many times its size, and to [`SPARE_LEN`] in any case.
const MAX_RATIO: u64 = 200;
const SPARE_LEN: u64 = 1024 * 1024 * 1024;

/// What an archive holds.
#[derive(Default)]
pub(super) struct Contents {
    pub entries: Vec<Listed>,
    pub left_out: Vec<TreePath>,
    pub findings: Vec<Finding>,
}

/// An entry as either format states it.
struct Stated {
    name: Vec<u8>,
    kind: Kind,
    at: At,
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
pub(super) fn list(export: &mut Export, reading: &Reading<'_>, stamp: Stamp) -> Result<Contents, Box<Finding>> {
    let name = export.shown.clone();
    let broken = |why: String| stops("archive", format!("{}: {why}", shown(&name)), "export or pack it again");
    let unreadable =
        |e: io::Error| stops("unreadable", format!("{} cannot be read: {e}", shown(&name)), "look at the disk");
    let stated = if export.form == Form::Zip {
        let file = File::open(&export.path).map_err(unreadable)?;
        zip_entries(&mut BufReader::new(file)).map_err(|e| match e {
            ZipError::Io(e) => unreadable(e),
            other => broken(other.to_string()),
        })?
    } else {
        unpack(export, reading).map_err(|e| match e.kind() {
            io::ErrorKind::NotFound
            | io::ErrorKind::PermissionDenied
            | io::ErrorKind::StorageFull
            | io::ErrorKind::QuotaExceeded
            | io::ErrorKind::ReadOnlyFilesystem => unreadable(e),
            _ => broken(format!("it cannot be unpacked: {e}")),
        })?;
        let file = File::open(export.spool.as_deref().unwrap_or(&export.path)).map_err(unreadable)?;
        tar_entries(&mut BufReader::new(file)).map_err(|e| match e {
            TarError::Io(e) => unreadable(e),
            other => broken(other.to_string()),
        })?
    };
    let contents = sift(stated, reading, stamp);
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

fn zip_entries(file: &mut BufReader<File>) -> Result<Vec<Stated>, ZipError> {
    let mut out = Vec::new();
    for entry in zip::read(file)? {
        let kind = if entry.is_folder() {
            Kind::Folder
        } else if entry.is_link() {
            let mut target = Vec::new();
            zip::open(file.get_ref().try_clone()?, &entry)?.take(MAX_LINK_LEN).read_to_end(&mut target)?;
            Kind::Link { target }
        } else if entry.is_special() {
            Kind::Special
        } else if entry.is_encrypted {
            let name = shown(&String::from_utf8_lossy(&entry.name));
            return Err(ZipError::Unsupported(format!("needs a password for {name}")));
        } else {
            Kind::File { size: entry.len }
        };
        out.push(Stated { name: entry.name.clone(), kind, at: At::Zip(entry) });
    }
    Ok(out)
}

fn tar_entries(file: &mut BufReader<File>) -> Result<Vec<Stated>, TarError> {
    let entries = tar::read(file)?;
    let files: BTreeMap<&[u8], (u64, u64)> =
        entries.iter().filter(|e| e.kind == TarKind::File).map(|e| (e.name.as_slice(), (e.offset, e.len))).collect();
    let mut out = Vec::new();
    for entry in &entries {
        let (kind, at) = match &entry.kind {
            TarKind::Folder => (Kind::Folder, At::Nowhere),
            TarKind::Link(target) => (Kind::Link { target: target.clone() }, At::Nowhere),
            TarKind::Same(other) => {
                let Some((offset, len)) = files.get(other.as_slice()) else {
                    let (name, other) = (String::from_utf8_lossy(&entry.name), String::from_utf8_lossy(other));
                    let what = format!("{} is the same as {}, which is not there", shown(&name), shown(&other));
                    return Err(TarError::Broken(what));
                };
                (Kind::File { size: *len }, At::Span { offset: *offset, len: *len })
            }
            TarKind::File => (Kind::File { size: entry.len }, At::Span { offset: entry.offset, len: entry.len }),
            _ => (Kind::Special, At::Nowhere),
        };
        out.push(Stated { name: entry.name.clone(), kind, at });
    }
    Ok(out)
}

/// Applies names' rules, the root within the archive, and what stays out.
fn sift(stated: Vec<Stated>, reading: &Reading<'_>, stamp: Stamp) -> Contents {
    let mut out = Contents::default();
    let mut known: BTreeSet<TreePath> = BTreeSet::new();
    let mut folders: Vec<TreePath> = Vec::new();
    for entry in stated {
        let path = match path_of(&entry.name, reading.export_root) {
            Ok(Some(path)) => path,
            Ok(None) => continue,
            Err(finding) => {
                out.findings.push(*finding);
                continue;
            }
        };
        if reading.leave_out.covers(&path) {
            out.left_out.push(path);
            continue;
        }
        if matches!(entry.kind, Kind::Folder) {
            folders.push(path);
            continue;
        }
        if !known.insert(path.clone()) {
            let what = format!("{path} stands twice in the archive");
            out.findings.push(Finding::stops("archive-twice", what, "pack it again"));
            continue;
        }
        let (kind, stamp) = match entry.kind {
            Kind::File { size } => (SourceKind::File { size }, Some(stamp)),
            Kind::Link { target } => {
                let target = String::from_utf8_lossy(&target).into_owned();
                if path.resolve_link(&target).is_none() {
                    out.findings.push(link_leaves(&path, &target));
                    continue;
                }
                (SourceKind::Link { target }, None)
            }
            Kind::Special | Kind::Folder => {
                out.findings.push(special(&path));
                continue;
            }
        };
        out.entries.push(Listed { source: SourceEntry { path, kind }, stamp, at: entry.at });
    }
    // From the deepest up: a folder that holds only an empty folder is not empty itself.
    let files = known.iter().chain(&out.left_out).flat_map(TreePath::parents);
    let mut holding: BTreeSet<String> = files.map(str::to_owned).collect();
    folders.sort_by(|a, b| b.cmp(a));
    folders.dedup();
    for path in folders {
        if holding.contains(path.as_str()) || !known.insert(path.clone()) {
            continue;
        }
        holding.extend(path.parents().map(str::to_owned));
        let source = SourceEntry { path, kind: SourceKind::EmptyFolder };
        out.entries.push(Listed { source, stamp: None, at: At::Nowhere });
    }
    out
}

/// Returns an entry's path in the build; none when it lies outside of the root or is the root itself.
fn path_of(name: &[u8], root: Option<&str>) -> Result<Option<TreePath>, Box<Finding>> {
    let refused = |what: String| stops("name", what, "pack it again without this name");
    let text = std::str::from_utf8(name)
        .map_err(|_| refused(format!("the name {} is not UTF-8", shown(&String::from_utf8_lossy(name)))))?;
    let text = text.strip_prefix("./").unwrap_or(text);
    let text = text.strip_suffix('/').unwrap_or(text);
    if matches!(text, "" | ".") {
        return Ok(None);
    }
    let path = TreePath::new(text).map_err(|e| refused(e.to_string()))?;
    let Some(root) = root else { return Ok(Some(path)) };
    let inside = path.as_str().strip_prefix(root.trim_end_matches('/')).and_then(|rest| rest.strip_prefix('/'));
    Ok(inside.and_then(|inside| TreePath::new(inside).ok()))
}
