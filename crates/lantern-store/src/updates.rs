//! Update files of a store: made of what it holds, kept beside it, read by players' machines. Described in `docs/formats/update.md`.
//!
//! They lie at `updates/TO/FROM`. An empty one says that none is worth making. Nothing needs one: they are made again whenever both
//! builds are there, and go when one of them goes.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::progress::{Progress, Task};
use lantern_core::tree::Node;
use lantern_update::{Build, Chunk, Header, MakeError, Wanted, make};

use crate::contents::{Contents, starts};
use crate::durable::{self, DurableError};
use crate::recipe::{self, ChunkRef, Entry};
use crate::store::{Store, StoreError};

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
    /// A pack that was put together was not taken.
    #[error("what was put together could not be kept")]
    Take(#[source] io::Error),
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
        durable::create_folders(&self.updates_to_path(to)).map_err(in_store)?;
        durable::rename(path, &place).map_err(in_store)
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
}

/// Two builds of a store, to be compared.
pub struct Comparison<'a> {
    store: &'a Store,
    from: RecipeId,
    to: RecipeId,
    old: Sealed<'a>,
    new: Sealed<'a>,
    chunks: u64,
}

impl<'a> Comparison<'a> {
    /// Opens both.
    ///
    /// # Errors
    /// [`StoreError`]; [`StoreError::Missing`] where one of them is not in this store.
    pub fn open(store: &'a Store, from: RecipeId, to: RecipeId) -> Result<Self, StoreError> {
        let (old, new) = (Contents::open(store, from)?, Contents::open(store, to)?);
        let stored = |chunk: &ChunkRef| new.locator.find(&chunk.digest).map_or(0, |at| u64::from(at.entry.whole_len));
        let chunks = recipe::lacking(&old.entries, &new.entries).into_iter().map(stored).sum();
        Ok(Self { store, from, to, old: Sealed::of(old), new: Sealed::of(new), chunks })
    }

    /// Bytes of the chunks that the new build has and the old one does not, as they travel.
    pub fn chunks(&self) -> u64 {
        self.chunks
    }

    /// Makes the update file, unless it is there; returns its bytes. None when it would not be a tenth shorter than `chunks`, which is
    /// remembered.
    ///
    /// # Errors
    /// [`UpdateError`]; nothing is left of one that was not finished.
    pub fn make(&self, chunks: u64, progress: &dyn Progress) -> Result<Option<u64>, UpdateError> {
        let Self { store, from, to, .. } = *self;
        let place = store.update_path(from, to);
        match store.update_len(from, to) {
            Some(0) => return Ok(None),
            Some(len) if check(from, to, &place).is_ok() => return Ok(Some(len)),
            // One that is damaged is made again.
            _ => {}
        }
        let folder = store.updates_to_path(to);
        durable::create_folders(&folder).map_err(in_store)?;
        let part = |name: &str| folder.join(format!("{}{}-{name}", durable::PART, from.0.hex()));
        let (groups, whole) = (part("groups"), part("whole"));
        let done = match self.write(chunks, progress, &groups, &whole) {
            Ok(true) => durable::rename(&whole, &place).map_err(in_store),
            Ok(false) => durable::write_whole(&place, b"").map_err(in_store),
            Err(error) => Err(error),
        };
        for path in [groups, whole] {
            durable::remove_file(&path).map_err(in_store)?;
        }
        done?;
        Ok(store.update_len(from, to).filter(|len| *len > 0))
    }

    /// Writes it: the groups by themselves first, for the head says where they lie. False when it would not be shorter.
    fn write(&self, chunks: u64, progress: &dyn Progress, groups: &Path, whole: &Path) -> Result<bool, UpdateError> {
        if chunks < WORTH_AN_UPDATE {
            return Ok(false);
        }
        let there: HashSet<Digest> = self.old.files.iter().map(|file| file.digest).collect();
        let made = self.new.files.iter().filter(|file| !there.contains(&file.digest));
        let meter = progress.start(Task::Update, Some(made.map(|file| file.size).sum()));
        // What is not shorter by a tenth is not worth another kind of download.
        let wanted = Wanted {
            from: self.from,
            to: self.to,
            most: chunks - chunks / 10,
            on: &|bytes| meter.add(bytes),
            stopped: &|| progress.stopped(),
        };
        let failed = |path: &Path, error| in_store(DurableError::on("write", path)(error));
        let of_groups = |error| failed(groups, error);
        let of_whole = |error| failed(whole, error);
        let mut groups_file = durable::open_own(groups, true).map_err(of_groups)?;
        groups_file.set_len(0).map_err(of_groups)?;
        let head = match make(&self.old, &self.new, &wanted, &mut groups_file) {
            Ok(head) => head,
            Err(MakeError::TooLarge) => return Ok(false),
            Err(MakeError::Stopped) => return Err(UpdateError::Stopped),
            Err(MakeError::Read(error)) => {
                let of_store = self.old.take_error().or_else(|| self.new.take_error());
                return Err(of_store.map_or_else(|| of_groups(error), UpdateError::Store));
            }
            Err(MakeError::Write(error)) => return Err(of_groups(error)),
            Err(other) => return Err(UpdateError::Damaged(other.to_string())),
        };
        groups_file.seek(SeekFrom::Start(0)).map_err(of_groups)?;
        let mut whole_file = durable::open_own(whole, true).map_err(of_whole)?;
        let written = whole_file.set_len(0).and_then(|()| io::Write::write_all(&mut whole_file, &head));
        written.and_then(|()| io::copy(&mut groups_file, &mut whole_file)).map_err(of_whole)?;
        durable::sync_file(&whole_file).map_err(of_whole)?;
        Ok(true)
    }
}

fn in_store(error: DurableError) -> UpdateError {
    UpdateError::Store(error.into())
}

/// Looks at an update file: its head, and each group as the head has it.
fn check(from: RecipeId, to: RecipeId, path: &Path) -> Result<(), UpdateError> {
    let io = |e: io::Error| StoreError::File(DurableError::on("read", path)(e));
    let damaged = |why: &str| UpdateError::Damaged(why.to_owned());
    let mut file = File::open(path).map_err(io)?;
    let len = file.metadata().map_err(io)?.len();
    let header = read_header(&mut file, path)?;
    let mut bytes = Vec::new();
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

/// Reads the head of an update file from its first byte on.
pub(crate) fn read_header(file: &mut File, path: &Path) -> Result<Header, UpdateError> {
    let io = |e: io::Error| StoreError::File(DurableError::on("read", path)(e));
    let mut bytes = Vec::new();
    file.take(Header::PREFIX_LEN as u64).read_to_end(&mut bytes).map_err(io)?;
    let header_len = Header::len_of(&bytes).map_err(|e| UpdateError::Damaged(e.to_string()))?;
    file.take((header_len - Header::PREFIX_LEN) as u64).read_to_end(&mut bytes).map_err(io)?;
    Header::decode(&bytes).map_err(|e| UpdateError::Damaged(e.to_string()))
}

/// A sealed build, as update files count it: its files, and no links and folders.
pub(crate) struct Sealed<'a> {
    contents: Contents<'a>,
    files: Vec<lantern_update::File>,
    /// Where the chunks of each file begin.
    starts: Vec<Vec<u64>>,
    /// What the store said: the reader can say only that it failed.
    error: Mutex<Option<StoreError>>,
}

impl<'a> Sealed<'a> {
    pub(crate) fn of(mut contents: Contents<'a>) -> Self {
        // There may be millions of chunks: they are listed once.
        let files: Vec<_> = std::mem::take(&mut contents.entries).into_iter().filter_map(file_of).collect();
        let starts = files.iter().map(|file| starts(file.chunks.iter().map(|chunk| chunk.len)).0).collect();
        Self { contents, files, starts, error: Mutex::default() }
    }

    fn take_error(&self) -> Option<StoreError> {
        self.error.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

fn file_of(entry: Entry) -> Option<lantern_update::File> {
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
            let chunk = self.contents.chunk(chunk.digest).map_err(|error| {
                let why = io::Error::other(error.to_string());
                *self.error.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
                why
            })?;
            let from = usize::try_from(offset + done as u64 - start).map_err(|_| ends())?;
            let bytes = chunk.get(from..).filter(|bytes| !bytes.is_empty()).ok_or_else(ends)?;
            let rest = out.get_mut(done..).unwrap_or_default();
            let len = bytes.len().min(rest.len());
            if let (Some(to), Some(bytes)) = (rest.get_mut(..len), bytes.get(..len)) {
                to.copy_from_slice(bytes);
            }
            done += len;
            number += 1;
        }
        Ok(())
    }
}
