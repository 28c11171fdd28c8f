//! What titles hold: recipes first, then what they lack.

use std::collections::HashSet;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::PoisonError;

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::names::Handle;
use lantern_store::chunk_index::ChunkIndex;
use lantern_store::codec::Codec;
use lantern_store::codec::difference::NoBases;
use lantern_store::pack::{self, ChunkEntry};
use lantern_store::rebuild::rebuild;
use lantern_store::recipe::{Root, different_chunks, unpack_segment};
use lantern_store::store::{Store, StoreError};
use lantern_store::updates::UpdateError;
use lantern_storefront::protocol::{Build, BuildTarget, DepotUpdate, PackReceived, RecipeNeeds, problem};
use rusqlite::types::Value;
use rusqlite::{TransactionBehavior, params, params_from_iter};

use super::{StandIn, damaged, not_there, refuse_long};
use crate::refusal::Refused;
use crate::server::PieceRange;

/// What comes in pieces.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Incoming {
    Pack(Digest),
    /// An update file: from which recipe, and to which.
    Update(RecipeId, RecipeId),
}

/// Chunks that one question to the database is about.
const ASKED_AT_ONCE: usize = 500;

/// Longest update file that is taken, in bytes.
const MAX_UPDATE_LEN: u64 = u32::MAX as u64;

impl StandIn {
    pub(crate) fn put_recipe(&self, title: &Handle, id: RecipeId, bytes: &[u8]) -> Result<RecipeNeeds, Refused> {
        self.title(title)?;
        let store = self.store(title);
        let root = Root::decode(id, bytes).map_err(damaged)?;
        store.write_root(id, bytes)?;
        let segments: Vec<Digest> =
            root.segments.iter().map(|s| s.digest).filter(|digest| !store.has_segment(digest)).collect();
        if !segments.is_empty() {
            return Ok(RecipeNeeds { segments, chunks: Vec::new() });
        }
        let distinct = self.chunks_of(&store, id)?;
        let found = self.find_chunks(title, &distinct)?;
        let mut chunks: Vec<(u64, u64)> = Vec::new();
        for (index, _) in (0_u64..).zip(&distinct).filter(|(_, digest)| !found.contains(digest)) {
            match chunks.last_mut() {
                Some((first, count)) if *first + *count == index => *count += 1,
                _ => chunks.push((index, 1)),
            }
        }
        Ok(RecipeNeeds { segments, chunks })
    }

    pub(super) fn chunks_of(&self, store: &Store, id: RecipeId) -> Result<Vec<Digest>, Refused> {
        let (_, entries) = store.recipe(id).map_err(not_there)?;
        Ok(different_chunks(&entries))
    }

    /// Finds out where chunks lie, many with one question: a large build has millions.
    pub(super) fn find_chunks(&self, title: &Handle, digests: &[Digest]) -> Result<ChunkIndex, Refused> {
        let mut digests = digests.to_vec();
        // Neighbours in the index are asked for together.
        digests.sort_unstable();
        let database = self.database();
        let places: Vec<String> = (0..ASKED_AT_ONCE).map(|n| format!("?{}", n + 2)).collect();
        let sql = format!(
            "SELECT digest, pack, pack_len, codec, offset, stored_len, raw_len FROM chunks WHERE title = ?1 AND digest IN ({})",
            places.join(", ")
        );
        let mut statement = database.prepare_cached(&sql)?;
        let mut out = ChunkIndex::default();
        for batch in digests.chunks(ASKED_AT_ONCE) {
            // The last batch is filled up with what it has already.
            let asked = batch.iter().chain(std::iter::repeat_n(&batch[0], ASKED_AT_ONCE - batch.len()));
            let asked = asked.map(|digest| Value::Blob(digest.as_bytes().to_vec()));
            let values = std::iter::once(Value::Text(title.to_string())).chain(asked);
            let mut rows = statement.query(params_from_iter(values))?;
            while let Some(row) = rows.next()? {
                let number = out.add_pack(Digest::from_bytes(row.get(1)?), row.get(2)?);
                let entry = ChunkEntry {
                    digest: Digest::from_bytes(row.get(0)?),
                    codec: Codec::of_number(row.get(3)?),
                    offset: row.get(4)?,
                    stored_len: row.get(5)?,
                    whole_len: row.get(5)?,
                    raw_len: row.get(6)?,
                };
                out.add(number, &entry);
            }
        }
        Ok(out)
    }

    pub(crate) fn put_segment(&self, title: &Handle, digest: &Digest, bytes: &[u8]) -> Result<(), Refused> {
        self.title(title)?;
        unpack_segment(digest, bytes).map_err(damaged)?;
        Ok(self.store(title).write_segment(digest, bytes)?)
    }

    pub(crate) fn put_pack(&self, title: &Handle, name: &Digest, bytes: &[u8]) -> Result<(), Refused> {
        self.title(title)?;
        refuse_long("the pack", bytes.len(), pack::MAX_PACK_LEN as u64)?;
        let entries = pack::verify(*name, bytes, &NoBases).map_err(damaged)?;
        self.store(title).write_pack(name, bytes)?;
        // The file is there before any row names it.
        let mut database = self.database();
        let transaction = database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        {
            let sql = "INSERT INTO chunks VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT DO NOTHING";
            let mut statement = transaction.prepare_cached(sql)?;
            for entry in &entries {
                statement.execute(params![
                    title.as_str(),
                    entry.digest.as_bytes(),
                    name.as_bytes(),
                    bytes.len(),
                    entry.codec.number(),
                    entry.offset,
                    entry.stored_len,
                    entry.raw_len
                ])?;
            }
        }
        Ok(transaction.commit()?)
    }

    /// Takes something that comes at once.
    pub(crate) fn put_whole(&self, title: &Handle, what: Incoming, bytes: &[u8]) -> Result<(), Refused> {
        match what {
            Incoming::Pack(name) => self.put_pack(title, &name, bytes),
            Incoming::Update(from, to) => {
                refuse_long("the update file", bytes.len(), MAX_UPDATE_LEN)?;
                self.has_both(title, from, to)?;
                let _one = self.pieces.lock().unwrap_or_else(PoisonError::into_inner);
                let path = self.piece_path(title, what);
                if let Some(folder) = path.parent() {
                    fs::create_dir_all(folder)?;
                }
                fs::write(&path, bytes)?;
                self.take_update(title, (from, to), &path)
            }
        }
    }

    /// Whether the title has both recipes that an update file leads between.
    fn has_both(&self, title: &Handle, from: RecipeId, to: RecipeId) -> Result<(), Refused> {
        self.title(title)?;
        let store = self.store(title);
        for id in [from, to] {
            store.recipe_root(id).map_err(not_there)?;
        }
        Ok(())
    }

    /// Takes an update file that has come whole, if it is what it should be.
    fn take_update(&self, title: &Handle, (from, to): (RecipeId, RecipeId), path: &Path) -> Result<(), Refused> {
        match self.store(title).take_update(from, to, path) {
            Err(error @ UpdateError::Damaged(_)) => {
                fs::remove_file(path)?;
                Err(damaged(error))
            }
            other => {
                other?;
                self.rebuild(title, (from, to))
            }
        }
    }

    /// Puts together what an update file gives of a build that has not come whole yet. What does not come out of it is brought as packs.
    fn rebuild(&self, title: &Handle, (from, to): (RecipeId, RecipeId)) -> Result<(), Refused> {
        let store = self.store(title);
        let chunks = match store.recipe(to) {
            // Without its segments nobody knows what it is made of.
            Err(StoreError::Missing { .. }) => return Ok(()),
            recipe => different_chunks(&recipe?.1),
        };
        let found = self.find_chunks(title, &chunks)?;
        let lacking: HashSet<Digest> = chunks.into_iter().filter(|chunk| !found.contains(chunk)).collect();
        if lacking.is_empty() {
            return Ok(());
        }
        let mut refused = None;
        let mut take = |name: &Digest, bytes: &[u8]| {
            self.put_pack(title, name, bytes).map_err(|error| {
                refused = Some(error);
                std::io::Error::other("the pack is refused")
            })
        };
        let done = rebuild(&store, (from, to), &lacking, &mut take);
        match (done, refused) {
            (_, Some(refused)) => Err(refused),
            // The old build never came whole.
            (Ok(_) | Err(UpdateError::Store(StoreError::Missing { .. })), None) => Ok(()),
            (Err(error), None) => Err(error.into()),
        }
    }

    /// Takes a piece of something; the last one makes it whole, and only then it counts.
    pub(crate) fn put_piece(
        &self,
        title: &Handle,
        what: Incoming,
        piece: PieceRange,
        bytes: &[u8],
    ) -> Result<PackReceived, Refused> {
        let total = usize::try_from(piece.total).unwrap_or(usize::MAX);
        match what {
            Incoming::Pack(_) => refuse_long("the pack", total, pack::MAX_PACK_LEN as u64)?,
            Incoming::Update(from, to) => {
                refuse_long("the update file", total, MAX_UPDATE_LEN)?;
                self.has_both(title, from, to)?;
            }
        }
        // One piece at a time: two senders of one pack must not write between one another.
        let _one = self.pieces.lock().unwrap_or_else(PoisonError::into_inner);
        let at = self.received(title, what)?;
        if at.whole {
            return Ok(at);
        }
        if piece.first > at.received {
            let detail = format!("{} bytes have come, and the piece begins at {}", at.received, piece.first);
            return Err(Refused::new(problem::WRONG_OFFSET, detail, "continue where it ended"));
        }
        let path = self.piece_path(title, what);
        let new = bytes.get(usize::try_from(at.received - piece.first).unwrap_or(usize::MAX)..).unwrap_or_default();
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder)?;
        }
        let mut file = fs::OpenOptions::new().create(true).append(true).open(&path)?;
        file.write_all(new)?;
        drop(file);
        let received = at.received + new.len() as u64;
        if received < piece.total {
            return Ok(PackReceived { received, whole: false });
        }
        match what {
            Incoming::Pack(name) => {
                let whole = fs::read(&path)?;
                fs::remove_file(&path)?;
                self.put_pack(title, &name, &whole)?;
            }
            Incoming::Update(from, to) => self.take_update(title, (from, to), &path)?,
        }
        Ok(PackReceived { received, whole: true })
    }

    /// Says how much of something has come.
    pub(crate) fn received(&self, title: &Handle, what: Incoming) -> Result<PackReceived, Refused> {
        self.title(title)?;
        let store = self.store(title);
        let whole = match what {
            Incoming::Pack(name) => fs::metadata(store.pack_path(&name)).ok().map(|m| m.len()),
            Incoming::Update(from, to) => store.update_len(from, to),
        };
        if let Some(received) = whole {
            return Ok(PackReceived { received, whole: true });
        }
        let received = fs::metadata(self.piece_path(title, what)).map_or(0, |m| m.len());
        Ok(PackReceived { received, whole: false })
    }

    fn piece_path(&self, title: &Handle, what: Incoming) -> PathBuf {
        let name = match what {
            Incoming::Pack(name) => name.hex(),
            Incoming::Update(from, to) => format!("{}-{}", from.0.hex(), to.0.hex()),
        };
        self.store(title).root().join("incoming").join(format!("{name}.part"))
    }

    /// Says of each depot of a build which update files lead to it.
    pub(crate) fn with_all_updates(&self, title: &Handle, build: &mut Build) -> Result<(), Refused> {
        build.targets.values_mut().try_for_each(|target| self.with_updates(title, target))
    }

    /// Says of each depot of a build's target which update files lead to it.
    pub(crate) fn with_updates(&self, title: &Handle, target: &mut BuildTarget) -> Result<(), Refused> {
        let store = self.store(title);
        for depot in &mut target.depots {
            let updates = store.updates_to(depot.recipe)?;
            depot.updates = updates.into_iter().map(|(from, bytes)| DepotUpdate { from, bytes }).collect();
            depot.updates.sort_by_key(|update| update.from.0);
        }
        Ok(())
    }

    pub(crate) fn get_recipe(&self, title: &Handle, id: RecipeId) -> Result<Vec<u8>, Refused> {
        self.title(title)?;
        self.store(title).recipe_bytes(id).map_err(not_there)
    }

    pub(crate) fn get_locator(&self, title: &Handle, segment: &Digest) -> Result<Vec<u8>, Refused> {
        self.title(title)?;
        self.store(title).locator_bytes(segment).map_err(not_there)
    }

    /// Returns the title's store to those who make the game.
    pub(crate) fn store_for_makers(&self, title: &Handle) -> Result<Store, Refused> {
        self.title(title)?;
        Ok(self.store(title))
    }

    pub(crate) fn get_segment(&self, title: &Handle, digest: &Digest) -> Result<Vec<u8>, Refused> {
        self.title(title)?;
        self.store(title).segment_bytes(digest).map_err(not_there)
    }
}
