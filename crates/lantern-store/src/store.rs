//! The store: a folder of packs, recipes, trees and release records, all named by digest.
//!
//! Everything in it is written once and never changed, so readers need no lock. Packs are written before the recipe
//! that needs them, the recipe before the tree's pointer to it, the record last: a kill between two steps leaves
//! files that nobody names yet, and the next run finds or rewrites them.

mod bases;
mod checked;
mod fresh;
mod located;
mod open_packs;

use std::collections::{BTreeSet, HashMap};
use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use lantern_core::bytes::ReadError;
use lantern_core::digest::{Digest, RecipeId, ReleaseId, TreeId};
use lantern_core::release::{self, RecordError, ReleaseRecord};
use lantern_core::tree::{Tree, TreeError};

use crate::chunk_index::ChunkIndex;
use crate::durable::{self, DurableError};
use crate::pack::{self, ChunkEntry, Foot, PackError, PackWriter};
use crate::recipe::{self, Entry, RecipeError, Root, SegmentRef};
pub use bases::StoreBases;
pub(crate) use open_packs::OpenPacks;

/// Why something could not be had from the store.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// A file could not be read or written.
    #[error(transparent)]
    File(#[from] DurableError),
    /// Something that should be there is not.
    #[error("the store lacks {what} {id}")]
    Missing {
        /// Such as "the recipe".
        what: &'static str,
        /// Its id.
        id: String,
    },
    /// A pack is damaged.
    #[error("the pack {pack} in the store is damaged")]
    Pack {
        /// Its name.
        pack: Digest,
        /// How.
        #[source]
        source: PackError,
    },
    /// A recipe is damaged.
    #[error("the recipe {id} in the store is damaged")]
    Recipe {
        /// Its id.
        id: RecipeId,
        /// How.
        #[source]
        source: RecipeError,
    },
    /// A locator is damaged.
    #[error("the locator of the segment {segment} in the store is damaged")]
    Locator {
        /// The segment it is for.
        segment: Digest,
        /// How.
        #[source]
        source: ReadError,
    },
    /// A tree is damaged.
    #[error("the tree {id} in the store is damaged")]
    Tree {
        /// Its id.
        id: TreeId,
        /// How; none when its digest is another.
        #[source]
        source: Option<TreeError>,
    },
    /// What leads from a tree to its recipe is damaged.
    #[error("the pointer from the tree {id} to its recipe is damaged")]
    Pointer {
        /// The tree.
        id: TreeId,
    },
    /// A release record is damaged.
    #[error("the record of the release {id} in the store is damaged")]
    Record {
        /// Its id.
        id: ReleaseId,
        /// How; none when its digest is another.
        #[source]
        source: Option<RecordError>,
    },
}

impl StoreError {
    /// Whether a newer lantern may understand it.
    pub fn is_newer(&self) -> bool {
        match self {
            Self::Pack { source, .. } => source.is_newer(),
            Self::Recipe { source, .. } => source.is_newer(),
            Self::Locator { source, .. } => source.is_newer(),
            Self::Tree { source: Some(TreeError::Read(source)), .. } => source.is_newer(),
            _ => false,
        }
    }
}

/// A folder of sealed builds.
#[derive(Debug, Clone)]
pub struct Store {
    root: PathBuf,
    /// Packs that were checked since this was opened, shared by its clones: a pack is checked when it is first relied on.
    checked: Arc<Mutex<HashMap<Digest, Arc<checked::Checked>>>>,
    /// Packs that were found to be damaged since this was opened: a disk may refuse their marks.
    found_damaged: Arc<Mutex<BTreeSet<Digest>>>,
    /// Where its whole chunks lie, once somebody had to know.
    whole: Arc<Mutex<bases::Known>>,
}

fn fanned(root: &Path, kind: &str, digest: &Digest, ending: &str) -> PathBuf {
    let hex = digest.hex();
    root.join(kind).join(&hex[..2]).join(format!("{hex}{ending}"))
}

impl Store {
    /// Opens a store; folders come into being when something is written.
    pub fn at(root: impl Into<PathBuf>) -> Self {
        Self { root: root.into(), checked: Arc::default(), found_damaged: Arc::default(), whole: Arc::default() }
    }

    /// Returns the folder that everything lies in.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Returns the path of a pack, whether or not it is there.
    pub fn pack_path(&self, pack: &Digest) -> PathBuf {
        fanned(&self.root, "packs", pack, ".pack")
    }

    fn mark_path(&self, pack: &Digest) -> PathBuf {
        self.root.join("damaged").join(pack.hex())
    }

    /// Marks a pack as damaged: what it holds counts as not there, and is sealed again from exports.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn mark_damaged(&self, pack: &Digest) -> Result<(), StoreError> {
        if self.found().insert(*pack) {
            self.forget_whole_chunks();
        }
        self.write_once(&self.mark_path(pack), b"")
    }

    fn found(&self) -> MutexGuard<'_, BTreeSet<Digest>> {
        self.found_damaged.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns the packs that are known to be damaged, in order.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn damaged(&self) -> Result<Vec<Digest>, StoreError> {
        let marks = list(&self.root.join("damaged"))?;
        let mut out = self.found().clone();
        out.extend(marks.iter().filter_map(|hex| Digest::from_hex(hex).ok()));
        Ok(out.into_iter().collect())
    }

    /// Removes a pack, and its mark if it has one.
    pub(crate) fn remove_pack(&self, pack: &Digest) -> Result<(), StoreError> {
        durable::remove_file(&self.pack_path(pack))?;
        durable::remove_file(&self.mark_path(pack))?;
        self.forget_fresh([pack])?;
        self.found().remove(pack);
        self.forget_whole_chunks();
        Ok(())
    }

    /// Whether everything that gives a tree is there, by the names and lengths of files: what it holds is looked at by
    /// [`Self::is_sound`], and by every reader of it.
    ///
    /// # Errors
    /// [`StoreError::File`] when the disk refuses; what is missing or cannot be understood is not there.
    pub fn has_tree(&self, id: TreeId) -> Result<bool, StoreError> {
        let there = || -> Result<bool, StoreError> {
            self.tree_bytes(id)?;
            let root = self.recipe_root(self.recipe_of(id)?)?;
            let damaged = self.damaged()?;
            let has_segment = |segment: &SegmentRef| {
                let packed = self.segment_bytes(&segment.digest);
                packed.is_ok_and(|packed| recipe::unpack_segment(&segment.digest, &packed).is_ok())
            };
            Ok(root.segments.iter().all(has_segment)
                && self.packs_of(&root)?.iter().all(|(pack, len)| self.has_pack(pack, *len, &damaged)))
        };
        match there() {
            Err(StoreError::File(error)) => Err(error.into()),
            Err(_) => Ok(false),
            Ok(there) => Ok(there),
        }
    }

    /// Whether a pack is there by its name and length, and not known to be damaged.
    fn has_pack(&self, pack: &Digest, len: u32, damaged: &[Digest]) -> bool {
        !damaged.contains(pack) && fs::metadata(self.pack_path(pack)).is_ok_and(|m| m.len() == u64::from(len))
    }

    fn segment_path(&self, segment: &Digest) -> PathBuf {
        fanned(&self.root, "segments", segment, "")
    }

    fn recipe_path(&self, id: RecipeId) -> PathBuf {
        self.root.join("recipes").join(id.0.hex())
    }

    fn locator_path(&self, segment: &Digest) -> PathBuf {
        fanned(&self.root, "locators", segment, "")
    }

    fn tree_path(&self, id: TreeId) -> PathBuf {
        self.root.join("trees").join(id.0.hex())
    }

    fn pointer_path(&self, id: TreeId) -> PathBuf {
        self.root.join("by-tree").join(id.0.hex())
    }

    fn record_path(&self, id: ReleaseId) -> PathBuf {
        self.root.join("releases").join(id.0.hex())
    }

    /// Writes a pack under its name; one that is there already, and is what it should be, is left.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn write_pack(&self, name: &Digest, bytes: &[u8]) -> Result<(), StoreError> {
        self.write_once(&self.pack_path(name), bytes)?;
        // What was just written need not be read to be relied on, and is no longer damaged if it was.
        durable::remove_file(&self.mark_path(name))?;
        self.found().remove(name);
        self.whole().is_behind = true;
        self.was_written(name);
        Ok(())
    }

    /// Closes a pack that is being written, and writes it; returns its name, length and table. None where there is nothing in it.
    pub(crate) fn write_packed(
        &self,
        writer: &mut PackWriter,
    ) -> Result<Option<(Digest, u32, Vec<ChunkEntry>)>, StoreError> {
        if writer.is_empty() {
            return Ok(None);
        }
        let (name, bytes, entries) = writer.take();
        self.write_pack(&name, &bytes)?;
        Ok(Some((name, u32::try_from(bytes.len()).expect("a pack is closed far below 4 GiB"), entries)))
    }

    /// Removes what kills left unfinished. Only for the one process that writes to the store.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn remove_unfinished(&self) -> Result<(), StoreError> {
        let is_gone = |pack: &Digest| !self.pack_path(pack).is_file();
        self.forget_fresh(&self.fresh()?.into_iter().filter(is_gone).collect::<Vec<_>>())?;
        let mut folders = vec![(self.root.clone(), 0)];
        while let Some((folder, depth)) = folders.pop() {
            for name in list(&folder)? {
                let path = folder.join(&name);
                if name.starts_with(durable::PART) {
                    durable::remove_file(&path)?;
                } else if depth < 2 && path.is_dir() {
                    folders.push((path, depth + 1));
                }
            }
        }
        Ok(())
    }

    fn write_once(&self, path: &Path, bytes: &[u8]) -> Result<(), StoreError> {
        // Names are digests of contents, and what has the name may be damaged.
        let has_len = fs::metadata(path).is_ok_and(|m| m.len() == bytes.len() as u64);
        let there = has_len && durable::read_limited(path, bytes.len() as u64).is_ok_and(|found| found == bytes);
        if !there {
            durable::write_whole(path, bytes)?;
        }
        Ok(())
    }

    /// Removes a tree with its recipe; what leads to others goes first.
    pub(crate) fn remove_tree(&self, tree: TreeId, recipe: RecipeId) -> Result<(), StoreError> {
        self.remove_updates_of(recipe)?;
        remove_all(&[self.tree_path(tree), self.recipe_path(recipe), self.pointer_path(tree)])
    }

    pub(crate) fn remove_recipe(&self, recipe: RecipeId) -> Result<(), StoreError> {
        self.remove_updates_of(recipe)?;
        remove_all(&[self.recipe_path(recipe)])
    }

    pub(crate) fn remove_tree_alone(&self, tree: TreeId) -> Result<(), StoreError> {
        remove_all(&[self.tree_path(tree), self.pointer_path(tree)])
    }

    /// Removes a segment with its locator.
    pub(crate) fn remove_segment(&self, segment: &Digest) -> Result<(), StoreError> {
        remove_all(&[self.locator_path(segment), self.segment_path(segment)])
    }

    pub(crate) fn remove_record(&self, record: ReleaseId) -> Result<(), StoreError> {
        Ok(durable::remove_file(&self.record_path(record))?)
    }

    /// Returns the names of all trees.
    pub(crate) fn trees(&self) -> Result<Vec<TreeId>, StoreError> {
        let names = list(&self.root.join("trees"))?;
        Ok(names.iter().filter_map(|hex| Digest::from_hex(hex).ok().map(TreeId)).collect())
    }

    /// Returns the names of all segments.
    pub(crate) fn segments(&self) -> Result<Vec<Digest>, StoreError> {
        let mut out = Vec::new();
        let segments = self.root.join("segments");
        for folder in list(&segments)? {
            out.extend(list(&segments.join(folder))?.iter().filter_map(|hex| Digest::from_hex(hex).ok()));
        }
        Ok(out)
    }

    /// Returns the names of all packs, in order.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn packs(&self) -> Result<Vec<Digest>, StoreError> {
        let mut out = Vec::new();
        let packs = self.root.join("packs");
        for folder in list(&packs)? {
            for name in list(&packs.join(folder))? {
                out.extend(name.strip_suffix(".pack").and_then(|hex| Digest::from_hex(hex).ok()));
            }
        }
        out.sort_unstable();
        Ok(out)
    }

    /// Reads the table of one pack: its end only.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn pack_table(&self, pack: &Digest) -> Result<(u32, Vec<ChunkEntry>), StoreError> {
        let path = self.pack_path(pack);
        let io = |e: io::Error| StoreError::File(DurableError::on("read", &path)(e));
        let damaged = |source| StoreError::Pack { pack: *pack, source };
        let mut file = self.open_pack(pack)?;
        let len = file.metadata().map_err(io)?.len();
        let len_usize = usize::try_from(len).unwrap_or(usize::MAX);
        let mut read_at = |at: u64| -> Result<Vec<u8>, io::Error> {
            let mut bytes = Vec::new();
            file.seek(SeekFrom::Start(at))?;
            (&mut file).take(pack::MAX_PACK_LEN as u64).read_to_end(&mut bytes)?;
            Ok(bytes)
        };
        let last = read_at(len.saturating_sub(Foot::LEN as u64)).map_err(io)?;
        let foot = Foot::read(&last, len_usize).map_err(damaged)?;
        let table = read_at(foot.table as u64).map_err(io)?;
        let entries = pack::read_table(foot, &table).map_err(damaged)?;
        Ok((u32::try_from(len).unwrap_or(u32::MAX), entries))
    }

    pub(crate) fn open_pack(&self, pack: &Digest) -> Result<File, StoreError> {
        let path = self.pack_path(pack);
        File::open(&path).map_err(|e| missing_or(DurableError::on("read", &path)(e), "the pack", pack))
    }

    /// Reads `len` bytes of a pack.
    ///
    /// # Errors
    /// [`StoreError::Missing`], [`StoreError::File`].
    pub fn read_pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, StoreError> {
        self.read_open_pack(pack, &self.open_pack(pack)?, offset, len)
    }

    /// As [`Self::read_pack_range`], of a pack that is open.
    pub(crate) fn read_open_pack(
        &self,
        pack: &Digest,
        mut file: &File,
        offset: u32,
        len: u32,
    ) -> Result<Vec<u8>, StoreError> {
        let path = self.pack_path(pack);
        let io = |e: io::Error| StoreError::File(DurableError::on("read", &path)(e));
        file.seek(SeekFrom::Start(u64::from(offset))).map_err(io)?;
        let mut bytes = Vec::new();
        file.take(u64::from(len)).read_to_end(&mut bytes).map_err(io)?;
        if bytes.len() == len as usize { Ok(bytes) } else { Err(io(io::ErrorKind::UnexpectedEof.into())) }
    }

    /// Reads a whole pack and compares it with its name.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn read_pack(&self, pack: &Digest) -> Result<Vec<u8>, StoreError> {
        let mut bytes = Vec::new();
        self.read_pack_into(pack, &mut bytes)?;
        Ok(bytes)
    }

    /// As [`Self::read_pack`], into a buffer that is emptied first.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn read_pack_into(&self, pack: &Digest, bytes: &mut Vec<u8>) -> Result<(), StoreError> {
        let path = self.pack_path(pack);
        let read = durable::read_limited_into(&path, pack::MAX_PACK_LEN as u64, bytes);
        read.map_err(|e| missing_or(e, "the pack", pack))?;
        if Digest::of(bytes) != *pack {
            return Err(StoreError::Pack { pack: *pack, source: PackError::Name { expected: *pack } });
        }
        Ok(())
    }

    fn read(
        &self,
        path: &Path,
        limit: u64,
        what: &'static str,
        id: &dyn std::fmt::Display,
    ) -> Result<Vec<u8>, StoreError> {
        durable::read_limited(path, limit).map_err(|e| missing_or(e, what, id))
    }

    /// Writes a recipe's root with the locators of its segments, its tree and the pointer from the tree, in an order that a kill may cut.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn write_recipe(
        &self,
        id: RecipeId,
        root: &Root,
        entries: &[Entry],
        known: &ChunkIndex,
        tree: &Tree,
    ) -> Result<(), StoreError> {
        self.write_root(id, &root.encode())?;
        self.write_locators(root, entries, known, &BTreeSet::new())?;
        self.write_tree(tree)?;
        durable::write_whole(&self.pointer_path(root.tree), format!("{id}\n").as_bytes())?;
        Ok(())
    }

    /// Writes a segment, as it travels, under its digest; one that is there already, and is what it should be, is left.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn write_segment(&self, digest: &Digest, packed: &[u8]) -> Result<(), StoreError> {
        let there = self.segment_bytes(digest).is_ok_and(|there| recipe::unpack_segment(digest, &there).is_ok());
        if !there {
            durable::write_whole(&self.segment_path(digest), packed)?;
        }
        Ok(())
    }

    /// Writes a recipe's root under its id.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn write_root(&self, id: RecipeId, bytes: &[u8]) -> Result<(), StoreError> {
        self.write_once(&self.recipe_path(id), bytes)
    }

    /// Whether a segment is there.
    pub fn has_segment(&self, digest: &Digest) -> bool {
        self.segment_path(digest).is_file()
    }

    /// Writes a tree under its id.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn write_tree(&self, tree: &Tree) -> Result<TreeId, StoreError> {
        let bytes = tree.encode();
        let id = TreeId::of(&bytes);
        self.write_once(&self.tree_path(id), &bytes)?;
        Ok(id)
    }

    /// Reads a tree.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn tree(&self, id: TreeId) -> Result<Tree, StoreError> {
        let bytes = self.tree_bytes(id)?;
        Tree::decode(&bytes).map_err(|source| StoreError::Tree { id, source: Some(source) })
    }

    /// Reads a tree as bytes that match its id.
    fn tree_bytes(&self, id: TreeId) -> Result<Vec<u8>, StoreError> {
        let bytes = self.read(&self.tree_path(id), u64::from(u32::MAX), "the tree", &id)?;
        if TreeId::of(&bytes) == id { Ok(bytes) } else { Err(StoreError::Tree { id, source: None }) }
    }

    /// Returns the recipe that says how to fetch a tree.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn recipe_of(&self, tree: TreeId) -> Result<RecipeId, StoreError> {
        let path = self.pointer_path(tree);
        let bytes = self.read(&path, 200, "the recipe of the tree", &tree)?;
        let id = String::from_utf8_lossy(&bytes).trim().parse();
        id.map_err(|_| StoreError::Pointer { id: tree })
    }

    /// Reads a recipe's root, as bytes that match its id.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn recipe_bytes(&self, id: RecipeId) -> Result<Vec<u8>, StoreError> {
        let bytes = self.read(&self.recipe_path(id), recipe::MAX_ROOT_LEN, "the recipe", &id)?;
        if RecipeId::of(&bytes) == id {
            Ok(bytes)
        } else {
            Err(StoreError::Recipe { id, source: RecipeError::Digest { what: "the recipe" } })
        }
    }

    /// Reads a segment as it is stored; the reader of a recipe compares it with its digest.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn segment_bytes(&self, digest: &Digest) -> Result<Vec<u8>, StoreError> {
        self.read(&self.segment_path(digest), recipe::MAX_SEGMENT_LEN, "a segment of a recipe", digest)
    }

    /// Reads a whole recipe.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn recipe(&self, id: RecipeId) -> Result<(Root, Vec<Entry>), StoreError> {
        let damaged = |source| StoreError::Recipe { id, source };
        recipe::assemble(id, &self.recipe_bytes(id)?, |segment| self.segment_bytes(&segment.digest), damaged)
    }

    /// Returns the ids of all recipes, in order.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn recipes(&self) -> Result<Vec<RecipeId>, StoreError> {
        let names = list(&self.root.join("recipes"))?;
        let mut out: Vec<RecipeId> = names.iter().filter_map(|hex| Digest::from_hex(hex).ok()).map(RecipeId).collect();
        out.sort_unstable();
        Ok(out)
    }

    /// Reads a recipe's root alone.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn recipe_root(&self, id: RecipeId) -> Result<Root, StoreError> {
        Root::decode(id, &self.recipe_bytes(id)?).map_err(|source| StoreError::Recipe { id, source })
    }

    /// Returns the ids of all release records, in order.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn records(&self) -> Result<Vec<ReleaseId>, StoreError> {
        let names = list(&self.root.join("releases"))?;
        let mut out: Vec<ReleaseId> =
            names.iter().filter_map(|hex| Digest::from_hex(hex).ok()).map(ReleaseId).collect();
        out.sort_unstable();
        Ok(out)
    }

    /// Writes a release record under its id.
    ///
    /// # Errors
    /// [`StoreError::File`].
    pub fn write_record(&self, record: &ReleaseRecord) -> Result<ReleaseId, StoreError> {
        let id = record.id();
        self.write_once(&self.record_path(id), &record.encode())?;
        Ok(id)
    }

    /// Reads a release record's exact bytes.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn record_bytes(&self, id: ReleaseId) -> Result<Vec<u8>, StoreError> {
        let bytes = self.read(&self.record_path(id), release::MAX_RECORD_LEN, "the record of the release", &id)?;
        if ReleaseId::of(&bytes) == id { Ok(bytes) } else { Err(StoreError::Record { id, source: None }) }
    }

    /// Reads a release record.
    ///
    /// # Errors
    /// [`StoreError`].
    pub fn record(&self, id: ReleaseId) -> Result<ReleaseRecord, StoreError> {
        let bytes = self.record_bytes(id)?;
        ReleaseRecord::decode(&bytes).map_err(|source| StoreError::Record { id, source: Some(source) })
    }
}

/// What an object that cannot be opened or read is: missing, or refused by the disk.
fn missing_or(error: DurableError, what: &'static str, id: &dyn std::fmt::Display) -> StoreError {
    match error.source.kind() {
        io::ErrorKind::NotFound => StoreError::Missing { what, id: id.to_string() },
        _ => error.into(),
    }
}

/// Lists a folder's names; a folder that is not there has none.
fn remove_all(paths: &[PathBuf]) -> Result<(), StoreError> {
    for path in paths {
        durable::remove_file(path)?;
    }
    Ok(())
}

pub(crate) fn list(folder: &Path) -> Result<Vec<String>, StoreError> {
    let entries = match fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(e) => return Err(DurableError::on("list", folder)(e).into()),
    };
    let mut names = Vec::new();
    for entry in entries {
        let entry = entry.map_err(DurableError::on("list", folder))?;
        names.extend(entry.file_name().into_string().ok());
    }
    Ok(names)
}
