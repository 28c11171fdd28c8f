//! Files that an update file makes of installed ones. What does not come out as it should comes as chunks: the update file is
//! never trusted, and nobody needs one.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use lantern_core::digest::Digest;
use lantern_core::failpoint;
use lantern_core::parallel::each;
use lantern_core::path::TreePath;
use lantern_core::progress::{Meter, Progress, Task};
use lantern_core::tree::Node;
use lantern_update::{ApplyError, Group, Header, Old, OpenGroup, Sink};

use super::plan::{self, Plan};
use super::state::Folder;
use super::{InstallError, UpdateOffer};
use crate::durable;
use crate::fetch::{Fetch, FetchError};
use crate::recipe::Entry;

/// So many first bytes of an update file are asked for: most heads are shorter.
const FIRST_LEN: u32 = 16 * 1024;
/// Longest range that is asked for at once, in bytes.
const MAX_RANGE: u32 = 4 * 1024 * 1024;
/// Groups that are worked on at a time: one is fetched while another is applied. Each takes its streams in memory.
const AT_A_TIME: usize = 2;

/// What came of update files.
#[derive(Debug, Default)]
pub(super) struct Made {
    /// Files of the plan that are whole in the stage, and compared with their digests.
    pub files: HashSet<usize>,
    /// Bytes that came.
    pub received: u64,
}

/// Makes what update files make of what is installed.
///
/// # Errors
/// Those of a line that is away and of a disk that takes nothing more; whatever is wrong with an update file is none.
pub(super) fn make(
    folder: &Folder,
    plan: &Plan<'_>,
    offers: &[UpdateOffer],
    stage: &Path,
    fetch: &dyn Fetch,
    progress: &dyn Progress,
) -> Result<Made, InstallError> {
    let mut made = Made::default();
    for offer in offers {
        // What is lost of the old recipe can be read by nobody: it comes as chunks.
        let Ok(old) = folder.entries_of(&[offer.from], None) else { continue };
        let new = folder.entries_of(&[offer.to], Some(fetch))?;
        let most = lacking(&old, &new);
        if offer.bytes < most {
            one(folder, plan, offer, most, &old, &new, stage, fetch, progress, &mut made)?;
        }
    }
    Ok(made)
}

/// Bytes of chunks that a new build has and an old one does not.
fn lacking(old: &[Entry], new: &[Entry]) -> u64 {
    let mut seen: HashSet<Digest> = old.iter().flat_map(|entry| &entry.chunks).map(|chunk| chunk.digest).collect();
    let fresh = new.iter().flat_map(|entry| &entry.chunks).filter(|chunk| seen.insert(chunk.digest));
    fresh.map(|chunk| u64::from(chunk.len)).sum()
}

fn is_file(entry: &&Entry) -> bool {
    matches!(entry.node, Node::File { .. })
}

/// A file that is being made: its place in the plan, and how much of it is there.
struct Making {
    place: usize,
    size: u64,
    digest: Digest,
    done: u64,
    failed: bool,
}

#[expect(clippy::too_many_arguments, reason = "both builds, both folders, and whom to ask")]
fn one(
    folder: &Folder,
    plan: &Plan<'_>,
    offer: &UpdateOffer,
    most: u64,
    old: &[Entry],
    new: &[Entry],
    stage: &Path,
    fetch: &dyn Fetch,
    progress: &dyn Progress,
    made: &mut Made,
) -> Result<(), InstallError> {
    let Some((header, first)) = head(offer, fetch)? else { return Ok(()) };
    // The source may have said less than it is.
    if header.total_len() >= most {
        made.received += first.len() as u64;
        return Ok(());
    }
    let (old, new): (Vec<&Entry>, Vec<&Entry>) =
        (old.iter().filter(is_file).collect(), new.iter().filter(is_file).collect());
    let wanted: HashMap<&TreePath, usize> =
        plan.write.iter().enumerate().map(|(at, entry)| (&entry.path, at)).collect();
    // What a broken-off run has finished is finished.
    let mut making: HashMap<u32, Making> = HashMap::new();
    for part in header.groups.iter().flat_map(|group| &group.parts) {
        let Some(entry) = usize::try_from(part.file).ok().and_then(|file| new.get(file)) else { continue };
        let (Node::File { size, digest, .. }, Some(place)) = (&entry.node, wanted.get(&entry.path)) else { continue };
        if making.contains_key(&part.file) || made.files.contains(place) {
            continue;
        }
        let is_there =
            || plan::hash_file(&stage.join(place.to_string()), &Quiet, progress).is_ok_and(|found| found == *digest);
        if plan.staged_before && is_there() {
            made.files.insert(*place);
            continue;
        }
        making.insert(part.file, Making { place: *place, size: *size, digest: *digest, done: 0, failed: false });
    }
    let needed: Vec<&Group> =
        header.groups.iter().filter(|group| group.parts.iter().any(|part| making.contains_key(&part.file))).collect();
    // What came with the head need not come again.
    let come = |group: &Group| {
        let start = usize::try_from(group.offset).unwrap_or(usize::MAX);
        let rest = first.get(start..).unwrap_or_default();
        rest.get(..usize::try_from(group.len()).unwrap_or(usize::MAX)).unwrap_or(rest)
    };
    let lacking = needed.iter().map(|group| group.len() - come(group).len() as u64).sum::<u64>();
    let received = first.len() as u64 + lacking;
    let new_sizes: Vec<u64> = new.iter().map(|entry| entry.node.size()).collect();
    let sizes: Vec<u64> = old.iter().map(|entry| entry.node.size()).collect();
    let paths: Vec<Option<PathBuf>> = old
        .iter()
        .map(|entry| plan.intact.contains(&entry.path).then(|| folder.path().join(entry.path.as_str())))
        .collect();
    let meter = progress.start(Task::Receive, Some(lacking));
    let making = Mutex::new(making);
    let lock = || making.lock().expect("nothing panics with the lock");
    each(
        &needed,
        AT_A_TIME,
        || Installed { sizes: &sizes, paths: &paths, open: RefCell::default() },
        |installed, _, group| {
            let mut stored = come(group).to_vec();
            while (stored.len() as u64) < group.len() {
                if progress.stopped() {
                    return Err(InstallError::Stopped);
                }
                let at = stored.len() as u64;
                let len = u32::try_from(group.len() - at).unwrap_or(MAX_RANGE).min(MAX_RANGE);
                let bytes = match range(offer, group.offset + at, len, fetch)? {
                    Some(bytes) if bytes.len() == len as usize => bytes,
                    _ => break,
                };
                meter.add(u64::from(len));
                stored.extend(bytes);
            }
            let open = match OpenGroup::open(group, &stored, &sizes, &new_sizes) {
                Ok(open) => open,
                Err(error) => {
                    log::info!("a group of the update file is of no use: {error}");
                    return Ok(());
                }
            };
            drop(stored);
            for (number, part) in open.parts().enumerate() {
                let place = match lock().get(&part.file) {
                    Some(making) if !making.failed => making.place,
                    _ => continue,
                };
                if progress.stopped() {
                    return Err(InstallError::Stopped);
                }
                let path = stage.join(place.to_string());
                let io = |e| InstallError::io("write", &path)(e);
                let mut staged = durable::open_own(&path, false).map_err(io)?;
                staged.seek(SeekFrom::Start(part.offset)).map_err(io)?;
                let applied = open.apply(number, &*installed, &mut Staged { file: &staged, installed });
                match applied {
                    Ok(()) => {}
                    Err(ApplyError::Write(error)) => return Err(io(error)),
                    Err(error) => {
                        log::info!("{} does not come out of the update file: {error}", path.display());
                        if let Some(making) = lock().get_mut(&part.file) {
                            making.failed = true;
                        }
                        continue;
                    }
                }
                if let Some(making) = lock().get_mut(&part.file) {
                    making.done += part.len;
                }
            }
            Ok(())
        },
    )?;
    made.received += received;
    let whole: Vec<Making> = making
        .into_inner()
        .expect("nothing panics with the lock")
        .into_values()
        .filter(|m| !m.failed && m.done == m.size)
        .collect();
    let found = Mutex::new(Vec::new());
    each(
        &whole,
        lantern_core::parallel::processors(),
        || (),
        |(), _, making| {
            let path = stage.join(making.place.to_string());
            let digest = plan::hash_file(&path, &Quiet, progress).map_err(InstallError::io("read", &path))?;
            if digest == making.digest {
                found.lock().expect("nothing panics with the lock").push(making.place);
            }
            Ok::<(), InstallError>(())
        },
    )?;
    if progress.stopped() {
        return Err(InstallError::Stopped);
    }
    made.files.extend(found.into_inner().expect("nothing panics with the lock"));
    Ok(())
}

/// Counts nothing: another meter does.
struct Quiet;

impl Meter for Quiet {
    fn add(&self, _: u64) {}
}

/// Fetches the head, with what came along behind it; none where the source has no such update file, or one that cannot be used.
fn head(offer: &UpdateOffer, fetch: &dyn Fetch) -> Result<Option<(Header, Vec<u8>)>, InstallError> {
    let Some(mut bytes) = range(offer, 0, FIRST_LEN, fetch)? else { return Ok(None) };
    let Ok(len) = Header::len_of(&bytes) else { return Ok(None) };
    while bytes.len() < len {
        let rest = u32::try_from(len - bytes.len()).unwrap_or(MAX_RANGE).min(MAX_RANGE);
        match range(offer, bytes.len() as u64, rest, fetch)? {
            Some(more) if !more.is_empty() => bytes.extend(more),
            _ => return Ok(None),
        }
    }
    let header = Header::decode(&bytes).ok().filter(|header| header.from == offer.from && header.to == offer.to);
    Ok(header.map(|header| (header, bytes)))
}

fn range(offer: &UpdateOffer, offset: u64, len: u32, fetch: &dyn Fetch) -> Result<Option<Vec<u8>>, InstallError> {
    match fetch.update(offer.from, offer.to, offset, len) {
        Ok(bytes) => Ok(Some(bytes)),
        Err(FetchError { is_gone: true, .. }) => Ok(None),
        Err(source) => Err(InstallError::Fetch { what: "a part of an update file", source }),
    }
}

/// Old files in a folder. Only those that are as they were brought.
struct Installed<'a> {
    sizes: &'a [u64],
    paths: &'a [Option<PathBuf>],
    /// The one that was read last.
    open: RefCell<Option<(usize, File)>>,
}

impl Installed<'_> {
    fn with<T>(&self, number: usize, use_it: impl FnOnce(&mut File) -> io::Result<T>) -> io::Result<T> {
        let mut open = self.open.borrow_mut();
        if open.as_ref().is_none_or(|(is, _)| *is != number) {
            let path = self.paths.get(number).and_then(Option::as_ref);
            let path = path.ok_or_else(|| io::Error::new(io::ErrorKind::NotFound, "it is not as it was brought"))?;
            *open = Some((number, plan::open_plain(path)?));
        }
        match open.as_mut() {
            Some((_, file)) => use_it(file),
            None => Err(io::ErrorKind::NotFound.into()),
        }
    }
}

impl Old for Installed<'_> {
    fn sizes(&self) -> &[u64] {
        self.sizes
    }

    fn read(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()> {
        self.with(file, |file| {
            file.seek(SeekFrom::Start(offset))?;
            file.read_exact(out)
        })
    }
}

/// A file of the stage, written from where it stands.
struct Staged<'a, 'b> {
    file: &'a File,
    installed: &'a Installed<'b>,
}

impl Sink for Staged<'_, '_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        failpoint::write()?;
        self.file.write_all(bytes)
    }

    /// The system copies from file to file, where it can without the bytes coming up here.
    fn copy(&mut self, file: usize, offset: u64, len: u64) -> io::Result<bool> {
        failpoint::write()?;
        let copied = self.installed.with(file, |old| {
            old.seek(SeekFrom::Start(offset))?;
            Ok(io::copy(&mut old.take(len), &mut self.file))
        });
        match copied {
            // Nothing was written: whoever reads it next says why.
            Err(_) => Ok(false),
            Ok(copied) => match copied? == len {
                true => Ok(true),
                false => Err(io::ErrorKind::UnexpectedEof.into()),
            },
        }
    }
}
