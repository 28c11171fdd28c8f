//! Update files of a store: made of what it holds, kept beside it, read by players' machines. Described in `docs/formats/update.md`.
//!
//! They lie at `updates/TO/FROM`. An empty one says that none is worth making. Nothing needs one: they are made again whenever both
//! builds are there, and go when one of them goes.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::progress::{Progress, Task};
use lantern_core::tree::Node;
use lantern_update::{Build, Chunk, Header, MakeError, Wanted, make};

use crate::codec::Unpacker;
use crate::durable::{self, DurableError};
use crate::locator::Locator;
use crate::pack;
use crate::recipe::Entry;
use crate::store::{Store, StoreError};

/// Packs that are held open while a build is read.
const OPEN_PACKS: usize = 64;
/// Chunks that are held unpacked: those around the places that are being read.
const HELD_CHUNKS: usize = 256;
/// An update that takes fewer bytes as chunks comes as chunks: a request more would cost as much.
pub const WORTH_AN_UPDATE: u64 = 64 * 1024;

/// Why an update file was not made or read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum UpdateError {
    /// The store could not be read or written.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// It is not what it should be.
    #[error("the update file is damaged: {0}")]
    Damaged(String),
    /// Someone asked to stop.
    #[error("nothing is half done")]
    Stopped,
}

impl Store {
    fn updates_to_path(&self, to: RecipeId) -> PathBuf {
        self.root().join("updates").join(to.0.hex())
    }

    /// Returns where an update file lies, whether or not it is there.
    pub fn update_path(&self, from: RecipeId, to: RecipeId) -> PathBuf {
        self.updates_to_path(to).join(from.0.hex())
    }

    /// Returns how long an update file is; none when there is none. 0 says that none is worth making.
    pub fn update_len(&self, from: RecipeId, to: RecipeId) -> Option<u64> {
        fs::metadata(self.update_path(from, to)).ok().filter(fs::Metadata::is_file).map(|m| m.len())
    }

    /// Returns all update files that lead to a recipe: from which one, and their bytes.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn updates_to(&self, to: RecipeId) -> Result<Vec<(RecipeId, u64)>, StoreError> {
        let folder = self.updates_to_path(to);
        let names = crate::store::list(&folder)?;
        let ids = names.iter().filter_map(|hex| Digest::from_hex(hex).ok().map(RecipeId));
        Ok(ids.filter_map(|from| Some((from, self.update_len(from, to).filter(|len| *len > 0)?))).collect())
    }

    /// Reads `len` bytes of an update file from `offset`; fewer where it ends.
    ///
    /// # Errors
    /// [`StoreError::Missing`], [`StoreError::File`].
    pub fn read_update(&self, from: RecipeId, to: RecipeId, offset: u64, len: u32) -> Result<Vec<u8>, StoreError> {
        let path = self.update_path(from, to);
        let io = |e: io::Error| match e.kind() {
            io::ErrorKind::NotFound => StoreError::Missing { what: "the update file from", id: from.0.to_string() },
            _ => StoreError::File(DurableError::on("read", &path)(e)),
        };
        let mut file = File::open(&path).map_err(io)?;
        file.seek(SeekFrom::Start(offset)).map_err(io)?;
        let mut bytes = Vec::new();
        file.take(u64::from(len)).read_to_end(&mut bytes).map_err(io)?;
        Ok(bytes)
    }

    /// Takes an update file that came from elsewhere, after a look at it: its head, and each group as the head has it.
    ///
    /// # Errors
    /// [`UpdateError::Damaged`] when it is not what it should be; the file at `path` stays where it is then.
    pub fn take_update(&self, from: RecipeId, to: RecipeId, path: &Path) -> Result<(), UpdateError> {
        check(from, to, path)?;
        let place = self.update_path(from, to);
        durable::create_folders(place.parent().unwrap_or(&place)).map_err(StoreError::from)?;
        durable::rename(path, &place).map_err(StoreError::from)?;
        Ok(())
    }

    /// Removes all update files from or to a recipe.
    pub(crate) fn remove_updates_of(&self, id: RecipeId) -> Result<(), StoreError> {
        let updates = self.root().join("updates");
        for to in crate::store::list(&updates)? {
            let folder = updates.join(&to);
            let is_it = to == id.0.hex();
            for from in crate::store::list(&folder)? {
                if is_it || from == id.0.hex() {
                    durable::remove_file(&folder.join(from))?;
                }
            }
            if is_it {
                // It is empty now, or something else lies in it.
                let _ = fs::remove_dir(&folder);
            }
        }
        Ok(())
    }

    /// Makes the update file between two recipes that the store holds, unless it is there; returns its bytes. None when it would not be a tenth
    /// shorter than `chunks`, the bytes of the chunks that it stands for; that is remembered.
    ///
    /// # Errors
    /// [`UpdateError`]; nothing is left of one that was not finished.
    pub fn make_update(
        &self,
        from: RecipeId,
        to: RecipeId,
        chunks: u64,
        progress: &dyn Progress,
    ) -> Result<Option<u64>, UpdateError> {
        let place = self.update_path(from, to);
        match self.update_len(from, to) {
            Some(0) => return Ok(None),
            Some(len) if check(from, to, &place).is_ok() => return Ok(Some(len)),
            // One that is damaged is made again.
            _ => {}
        }
        let folder = self.updates_to_path(to);
        durable::create_folders(&folder).map_err(StoreError::from)?;
        let part = |name: &str| folder.join(format!("{}{}-{name}", durable::PART, from.0.hex()));
        let (groups_path, whole_path) = (part("groups"), part("whole"));
        let made = self.write_update((from, to), chunks, progress, &groups_path, &whole_path);
        let done = match made {
            Ok(true) => durable::rename(&whole_path, &place).map_err(|e| UpdateError::from(StoreError::from(e))),
            Ok(false) => durable::write_whole(&place, b"").map_err(|e| UpdateError::from(StoreError::from(e))),
            Err(error) => Err(error),
        };
        for path in [groups_path, whole_path] {
            durable::remove_file(&path).map_err(StoreError::from)?;
        }
        done?;
        Ok(self.update_len(from, to).filter(|len| *len > 0))
    }

    /// Writes one; false when it would not be smaller.
    fn write_update(
        &self,
        (from, to): (RecipeId, RecipeId),
        chunks: u64,
        progress: &dyn Progress,
        groups_path: &Path,
        whole_path: &Path,
    ) -> Result<bool, UpdateError> {
        if chunks < WORTH_AN_UPDATE {
            return Ok(false);
        }
        let (old, new) = (Sealed::open(self, from)?, Sealed::open(self, to)?);
        let there: std::collections::HashSet<Digest> = old.files.iter().map(|file| file.digest).collect();
        let total = new.files.iter().filter(|file| !there.contains(&file.digest)).map(|file| file.size).sum();
        let meter = progress.start(Task::Update, Some(total));
        let on = |bytes: u64| {
            meter.add(bytes);
            progress.stopped()
        };
        // What is not smaller by a tenth is not worth another kind of download.
        let wanted = Wanted { from, to, most: chunks - chunks / 10, on: &on };
        let io = |path: &Path| {
            let path = path.to_owned();
            move |e: io::Error| UpdateError::Store(StoreError::File(DurableError::on("write", &path)(e)))
        };
        let mut groups = durable::open_own(groups_path, true).map_err(io(groups_path))?;
        groups.set_len(0).map_err(io(groups_path))?;
        let head = match make(&old, &new, &wanted, &mut groups) {
            Ok(head) => head,
            Err(MakeError::TooLarge) => return Ok(false),
            Err(MakeError::Stopped) => return Err(UpdateError::Stopped),
            Err(MakeError::Write(source)) => return Err(io(groups_path)(source)),
            Err(MakeError::Read(source)) => {
                return Err(old.take_error().or_else(|| new.take_error()).unwrap_or_else(|| io(groups_path)(source)));
            }
            Err(other) => return Err(UpdateError::Damaged(other.to_string())),
        };
        groups.seek(SeekFrom::Start(0)).map_err(io(groups_path))?;
        let mut whole = durable::open_own(whole_path, true).map_err(io(whole_path))?;
        let written = whole.set_len(0).and_then(|()| io::Write::write_all(&mut whole, &head));
        written.and_then(|()| io::copy(&mut groups, &mut whole)).map_err(io(whole_path))?;
        durable::sync_file(&whole).map_err(io(whole_path))?;
        Ok(true)
    }
}

/// Looks at an update file: its head, and each group as the head has it.
fn check(from: RecipeId, to: RecipeId, path: &Path) -> Result<(), UpdateError> {
    let io = |e: io::Error| StoreError::File(DurableError::on("read", path)(e));
    let damaged = |why: &str| UpdateError::Damaged(why.to_owned());
    let mut file = File::open(path).map_err(io)?;
    let len = file.metadata().map_err(io)?.len();
    let mut bytes = Vec::new();
    (&mut file).take(Header::PREFIX_LEN as u64).read_to_end(&mut bytes).map_err(io)?;
    let header_len = Header::len_of(&bytes).map_err(|e| UpdateError::Damaged(e.to_string()))?;
    (&mut file).take((header_len - Header::PREFIX_LEN) as u64).read_to_end(&mut bytes).map_err(io)?;
    let header = Header::decode(&bytes).map_err(|e| UpdateError::Damaged(e.to_string()))?;
    if header.from != from || header.to != to {
        return Err(damaged("it leads from or to another build"));
    }
    if header.total_len() != len {
        return Err(damaged("it is longer or shorter than its head says"));
    }
    for group in &header.groups {
        bytes.clear();
        (&mut file).take(group.len()).read_to_end(&mut bytes).map_err(io)?;
        if Digest::of(&bytes) != group.digest {
            return Err(damaged("a group has another digest"));
        }
    }
    Ok(())
}

/// A sealed build, whose files can be read at any place. What is read is compared with the digests of its chunks.
struct Sealed<'a> {
    store: &'a Store,
    locator: Locator,
    files: Vec<lantern_update::File>,
    /// Where the chunks of each file begin.
    starts: Vec<Vec<u64>>,
    open: Mutex<HashMap<Digest, File>>,
    held: Mutex<HashMap<Digest, Vec<u8>>>,
    /// What the store said: the reader can say only that it failed.
    error: Mutex<Option<StoreError>>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl<'a> Sealed<'a> {
    fn open(store: &'a Store, id: RecipeId) -> Result<Self, StoreError> {
        let (_, entries) = store.recipe(id)?;
        let files: Vec<lantern_update::File> = entries.into_iter().filter_map(file_of).collect();
        let start = |file: &lantern_update::File| {
            let mut at = 0;
            let before = |chunk: &Chunk| {
                at += u64::from(chunk.len);
                at - u64::from(chunk.len)
            };
            file.chunks.iter().map(before).collect()
        };
        Ok(Self {
            store,
            locator: store.locator(id)?,
            starts: files.iter().map(start).collect(),
            files,
            open: Mutex::default(),
            held: Mutex::default(),
            error: Mutex::default(),
        })
    }

    fn take_error(&self) -> Option<UpdateError> {
        lock(&self.error).take().map(UpdateError::Store)
    }

    fn with_chunk(&self, digest: Digest, use_it: impl FnOnce(&[u8])) -> Result<(), StoreError> {
        if let Some(raw) = lock(&self.held).get(&digest) {
            use_it(raw);
            return Ok(());
        }
        let missing = || StoreError::Missing { what: "the chunk", id: digest.to_string() };
        let location = self.locator.find(&digest).ok_or_else(missing)?;
        let (pack, _) = self.locator.packs.get(location.pack as usize).ok_or_else(missing)?;
        let stored = {
            let mut open = lock(&self.open);
            if open.len() >= OPEN_PACKS && !open.contains_key(pack) {
                open.clear();
            }
            let file = match open.entry(*pack) {
                std::collections::hash_map::Entry::Occupied(file) => file.into_mut(),
                std::collections::hash_map::Entry::Vacant(place) => place.insert(self.store.open_pack(pack)?),
            };
            self.store.read_open_pack(pack, file, location.entry.offset, location.entry.stored_len)?
        };
        let mut unpacker = Unpacker::new();
        let raw = pack::unpack(&mut unpacker, &location.entry, &stored);
        let raw = raw.map_err(|source| StoreError::Pack { pack: *pack, source })?;
        use_it(raw);
        let mut held = lock(&self.held);
        if held.len() >= HELD_CHUNKS {
            held.clear();
        }
        held.insert(digest, raw.to_vec());
        Ok(())
    }
}

/// A file of a recipe, as an update file counts it; none of links and folders.
pub(crate) fn file_of(entry: Entry) -> Option<lantern_update::File> {
    let Node::File { size, digest, .. } = entry.node else { return None };
    let chunks = entry.chunks.iter().map(|chunk| Chunk { digest: chunk.digest, len: chunk.len }).collect();
    Some(lantern_update::File { path: entry.path.as_str().to_owned(), size, digest, chunks })
}

impl Build for Sealed<'_> {
    fn files(&self) -> &[lantern_update::File] {
        &self.files
    }

    fn read(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()> {
        let ends = || io::Error::from(io::ErrorKind::UnexpectedEof);
        let (of, starts) = self.files.get(file).zip(self.starts.get(file)).ok_or_else(ends)?;
        let mut number = starts.partition_point(|start| *start <= offset).saturating_sub(1);
        let mut done = 0;
        while done < out.len() {
            let (chunk, start) = of.chunks.get(number).zip(starts.get(number)).ok_or_else(ends)?;
            let from = usize::try_from(offset + done as u64 - start).map_err(|_| ends())?;
            let rest = out.get_mut(done..).unwrap_or_default();
            let mut len = 0;
            let read = self.with_chunk(chunk.digest, |raw| {
                let raw = raw.get(from..).unwrap_or_default();
                len = raw.len().min(rest.len());
                for (to, byte) in rest.iter_mut().zip(raw) {
                    *to = *byte;
                }
            });
            if let Err(error) = read {
                let why = io::Error::other(error.to_string());
                *lock(&self.error) = Some(error);
                return Err(why);
            }
            if len == 0 {
                return Err(ends());
            }
            done += len;
            number += 1;
        }
        Ok(())
    }
}
