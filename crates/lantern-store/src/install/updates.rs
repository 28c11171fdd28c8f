//! Files that an update file makes of installed ones. What does not come out as it should comes as chunks: the update file is
//! never trusted, and nobody needs one.

use std::borrow::Cow;
use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::failpoint;
use lantern_core::parallel::{each, map};
use lantern_core::path::TreePath;
use lantern_core::progress::{Meter, Progress, Silent, Task};
use lantern_core::tree::Node;
use lantern_update::{ApplyError, Group, Header, Old, OpenGroup, Sink};

use super::gather::{MAX_RANGE, MAX_RUN};
use super::plan::{self, Plan};
use super::state::Folder;
use super::{InstallError, UpdateOffer};
use crate::durable;
use crate::fetch::{Fetch, FetchError};
use crate::recipe::{self, Entry};

/// So many first bytes of an update file are asked for: most heads are shorter.
const FIRST_LEN: u32 = 16 * 1024;
/// Groups that are worked on at a time: one is fetched while another is applied. Each takes its streams in memory.
const AT_A_TIME: usize = 2;

/// Makes what update files make of what is installed; `was_there` says whether an earlier run has left the stage. Returns the files of the
/// plan that are whole in the stage then, and compared with their digests. `known` are entries of builds that were read already, with their recipes.
///
/// # Errors
/// Those of a line that is away and of a disk that takes nothing more; whatever is wrong with an update file is none.
pub(super) fn make(
    folder: &Folder,
    plan: &Plan<'_>,
    offers: &[UpdateOffer],
    known: [(&[RecipeId], &[Entry]); 2],
    (stage, was_there): (&Path, bool),
    fetch: &dyn Fetch,
    progress: &dyn Progress,
) -> Result<HashSet<usize>, InstallError> {
    // Of a build of one depot its entries are all of them: a hundred megabytes for half a million files.
    let entries = |id: RecipeId, fetch: Option<&dyn Fetch>| -> Result<Cow<'_, [Entry]>, InstallError> {
        match known.into_iter().find(|(recipes, _)| *recipes == [id]) {
            Some((_, entries)) => Ok(Cow::Borrowed(entries)),
            None => folder.entries_of(&[id], fetch).map(Cow::Owned),
        }
    };
    let mut made = HashSet::new();
    for offer in offers {
        // What is lost of the old recipe can be read by nobody: it comes as chunks.
        let Ok(old) = entries(offer.from, None) else { continue };
        let new = entries(offer.to, Some(fetch))?;
        let as_chunks: u64 = recipe::lacking(&old, &new).into_iter().map(|chunk| u64::from(chunk.len)).sum();
        if offer.bytes >= as_chunks {
            continue;
        }
        let Some((header, first)) = head(offer, fetch)? else { continue };
        // The source may have said less than it is.
        if header.total_len() >= as_chunks {
            continue;
        }
        let (old, new): (Vec<&Entry>, Vec<&Entry>) =
            (old.iter().filter(is_file).collect(), new.iter().filter(is_file).collect());
        let update = Update { header: &header, first: &first, offer, stage, fetch, progress };
        let making = update.wanted(&new, plan, was_there, &mut made);
        update.apply(folder, plan, &old, &new, making, &mut made)?;
    }
    Ok(made)
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
}

/// One update file, and where what it makes goes.
struct Update<'a> {
    header: &'a Header,
    /// The head's bytes, and what came with them.
    first: &'a [u8],
    offer: &'a UpdateOffer,
    stage: &'a Path,
    fetch: &'a dyn Fetch,
    progress: &'a dyn Progress,
}

impl Update<'_> {
    /// What of it the plan needs, by the files' numbers; what an earlier run has finished is finished.
    fn wanted(
        &self,
        new: &[&Entry],
        plan: &Plan<'_>,
        was_there: bool,
        made: &mut HashSet<usize>,
    ) -> HashMap<u32, Making> {
        let places: HashMap<&TreePath, usize> =
            plan.write.iter().enumerate().map(|(at, entry)| (&entry.path, at)).collect();
        let mut out = HashMap::new();
        for part in self.header.groups.iter().flat_map(|group| &group.parts) {
            let Some(entry) = usize::try_from(part.file).ok().and_then(|file| new.get(file)) else { continue };
            let (Node::File { size, digest, .. }, Some(place)) = (&entry.node, places.get(&entry.path)) else {
                continue;
            };
            if out.contains_key(&part.file) || made.contains(place) {
                continue;
            }
            if was_there && self.hash(*place).is_ok_and(|found| found == *digest) {
                made.insert(*place);
            } else {
                out.insert(part.file, Making { place: *place, size: *size, digest: *digest, done: 0 });
            }
        }
        out
    }

    fn hash(&self, place: usize) -> Result<Digest, InstallError> {
        let path = self.stage.join(place.to_string());
        plan::hash_file(&path, &Silent, self.progress).map_err(InstallError::io("read", &path))
    }

    /// Fetches the groups that are needed, and makes of them what comes out as it should.
    fn apply(
        &self,
        folder: &Folder,
        plan: &Plan<'_>,
        old: &[&Entry],
        new: &[&Entry],
        making: HashMap<u32, Making>,
        made: &mut HashSet<usize>,
    ) -> Result<(), InstallError> {
        let is_needed = |group: &&Group| group.parts.iter().any(|part| making.contains_key(&part.file));
        let needed: Vec<&Group> = self.header.groups.iter().filter(is_needed).collect();
        let new_sizes: Vec<u64> = new.iter().map(|entry| entry.node.size()).collect();
        let sizes: Vec<u64> = old.iter().map(|entry| entry.node.size()).collect();
        let path = |entry: &&Entry| plan.intact.contains(&entry.path).then(|| folder.path().join(entry.path.as_str()));
        let paths: Vec<Option<PathBuf>> = old.iter().map(path).collect();
        let lacking = needed.iter().map(|group| group.len() - self.come(group).len() as u64).sum();
        let meter = self.progress.start(Task::Receive, Some(lacking));
        let making = Mutex::new(making);
        each(
            &needed,
            AT_A_TIME,
            || Installed { sizes: &sizes, paths: &paths, open: RefCell::default() },
            |installed, _, group| {
                let stored = self.fetch_group(group, &*meter)?;
                match OpenGroup::open(group, &stored, &sizes, &new_sizes) {
                    Ok(open) => self.apply_group(&open, installed, &making),
                    Err(error) => {
                        log::info!("a group of the update file is of no use: {error}");
                        Ok(())
                    }
                }
            },
        )?;
        let making = making.into_inner().expect("nothing panics with the lock").into_values();
        let whole: Vec<Making> = making.filter(|making| making.done == making.size).collect();
        let compare =
            |making: &Making| Ok::<_, InstallError>((making.place, self.hash(making.place)? == making.digest));
        let compared = map(&whole, compare)?;
        if self.progress.stopped() {
            return Err(InstallError::Stopped);
        }
        made.extend(compared.into_iter().filter(|(_, is_right)| *is_right).map(|(place, _)| place));
        Ok(())
    }

    /// What of a group came with the head, and need not come again.
    fn come(&self, group: &Group) -> &[u8] {
        let start = usize::try_from(group.offset).unwrap_or(usize::MAX);
        let rest = self.first.get(start..).unwrap_or_default();
        rest.get(..usize::try_from(group.len()).unwrap_or(usize::MAX)).unwrap_or(rest)
    }

    /// Fetches a group; what is shorter than it should be is rejected when it is opened.
    fn fetch_group(&self, group: &Group, meter: &dyn Meter) -> Result<Vec<u8>, InstallError> {
        let mut stored = self.come(group).to_vec();
        while (stored.len() as u64) < group.len() {
            if self.progress.stopped() {
                return Err(InstallError::Stopped);
            }
            let at = stored.len() as u64;
            let len = u32::try_from(group.len() - at).unwrap_or(MAX_RANGE).min(MAX_RANGE);
            match range(self.offer, group.offset + at, len, self.fetch)? {
                Some(bytes) if bytes.len() == len as usize => stored.extend(bytes),
                _ => break,
            }
            meter.add(u64::from(len));
        }
        Ok(stored)
    }

    /// Writes what a group makes into the stage; a file of which something does not come out is given up.
    fn apply_group(
        &self,
        open: &OpenGroup,
        installed: &Installed<'_>,
        making: &Mutex<HashMap<u32, Making>>,
    ) -> Result<(), InstallError> {
        let lock = || making.lock().expect("nothing panics with the lock");
        for (number, part) in open.parts().enumerate() {
            let Some(place) = lock().get(&part.file).map(|making| making.place) else { continue };
            if self.progress.stopped() {
                return Err(InstallError::Stopped);
            }
            let path = self.stage.join(place.to_string());
            let io = |e| InstallError::io("write", &path)(e);
            let mut staged = durable::open_own(&path, false).map_err(io)?;
            staged.seek(SeekFrom::Start(part.offset)).map_err(io)?;
            match open.apply(number, installed, &mut Staged { file: &staged, installed, progress: self.progress }) {
                Ok(()) => {
                    if let Some(making) = lock().get_mut(&part.file) {
                        making.done += part.len;
                    }
                }
                Err(_) if self.progress.stopped() => return Err(InstallError::Stopped),
                Err(ApplyError::Write(error)) => return Err(io(error)),
                Err(error) => {
                    log::info!("{} does not come out of the update file: {error}", path.display());
                    lock().remove(&part.file);
                }
            }
        }
        Ok(())
    }
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
    progress: &'a dyn Progress,
}

impl Staged<'_, '_> {
    fn go_on(&self) -> io::Result<()> {
        if self.progress.stopped() { Err(io::Error::other("stopped")) } else { failpoint::write() }
    }
}

impl Sink for Staged<'_, '_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.go_on()?;
        self.file.write_all(bytes)
    }

    /// The system copies from file to file, where it can without the bytes coming up here.
    fn copy(&mut self, file: usize, offset: u64, len: u64) -> io::Result<bool> {
        // Where the old file cannot be opened nothing was written: the next read reports why.
        if self.installed.with(file, |old| old.seek(SeekFrom::Start(offset))).is_err() {
            return Ok(false);
        }
        let mut left = len;
        while left > 0 {
            self.go_on()?;
            let now = left.min(MAX_RUN);
            let copied = self.installed.with(file, |old| io::copy(&mut old.take(now), &mut self.file))?;
            if copied != now {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            left -= now;
        }
        Ok(true)
    }
}
