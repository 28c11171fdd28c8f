//! What titles hold: recipes first, then what they lack.

use std::fs;
use std::io::Write;
use std::path::PathBuf;
use std::sync::PoisonError;

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::names::Handle;
use lantern_store::chunk_index::ChunkIndex;
use lantern_store::codec::Codec;
use lantern_store::pack::{self, ChunkEntry};
use lantern_store::recipe::{Root, different_chunks};
use lantern_store::store::Store;
use lantern_storefront::protocol::{PackReceived, RecipeNeeds, problem};
use rusqlite::{OptionalExtension, TransactionBehavior, params};

use super::{StandIn, damaged, not_there, refuse_long};
use crate::refusal::Refused;
use crate::server::PieceRange;

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

    pub(super) fn find_chunks(&self, title: &Handle, digests: &[Digest]) -> Result<ChunkIndex, Refused> {
        let database = self.database();
        let sql =
            "SELECT pack, pack_len, codec, offset, stored_len, raw_len FROM chunks WHERE title = $1 AND digest = $2";
        let mut statement = database.prepare_cached(sql)?;
        let mut out = ChunkIndex::default();
        for digest in digests {
            let row = statement.query_row(params![title.as_str(), digest.as_bytes()], |row| {
                let entry = ChunkEntry {
                    digest: *digest,
                    codec: Codec::of_number(row.get(2)?),
                    offset: row.get(3)?,
                    stored_len: row.get(4)?,
                    raw_len: row.get(5)?,
                };
                Ok((Digest::from_bytes(row.get(0)?), row.get(1)?, entry))
            });
            if let Some((pack, len, entry)) = row.optional()? {
                let number = out.add_pack(pack, len);
                out.add(number, &entry);
            }
        }
        Ok(out)
    }

    pub(crate) fn put_segment(&self, title: &Handle, digest: &Digest, bytes: &[u8]) -> Result<(), Refused> {
        self.title(title)?;
        if Digest::of(bytes) != *digest {
            return Err(Refused::new(problem::DAMAGED, "the segment's digest is another", "send it again"));
        }
        Ok(self.store(title).write_segment(digest, bytes)?)
    }

    pub(crate) fn put_pack(&self, title: &Handle, name: &Digest, bytes: &[u8]) -> Result<(), Refused> {
        self.title(title)?;
        refuse_long("the pack", bytes.len(), pack::MAX_PACK_LEN as u64)?;
        let entries = pack::verify(*name, bytes).map_err(damaged)?;
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

    /// Takes a piece of a pack; the last one makes it whole, and only then it is a pack.
    pub(crate) fn put_piece(
        &self,
        title: &Handle,
        name: &Digest,
        piece: PieceRange,
        bytes: &[u8],
    ) -> Result<PackReceived, Refused> {
        let total = usize::try_from(piece.total).unwrap_or(usize::MAX);
        refuse_long("the pack", total, pack::MAX_PACK_LEN as u64)?;
        // One piece at a time: two senders of one pack must not write between one another.
        let _one = self.pieces.lock().unwrap_or_else(PoisonError::into_inner);
        let at = self.pack_received(title, name)?;
        if at.whole {
            return Ok(at);
        }
        if piece.first > at.received {
            let detail = format!("{} bytes have come, and the piece begins at {}", at.received, piece.first);
            return Err(Refused::new(problem::WRONG_OFFSET, detail, "continue where it ended"));
        }
        let path = self.piece_path(title, name);
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
        let whole = fs::read(&path)?;
        fs::remove_file(&path)?;
        self.put_pack(title, name, &whole)?;
        Ok(PackReceived { received, whole: true })
    }

    /// Says how much of a pack has come.
    pub(crate) fn pack_received(&self, title: &Handle, name: &Digest) -> Result<PackReceived, Refused> {
        self.title(title)?;
        if let Ok(pack) = fs::metadata(self.store(title).pack_path(name)) {
            return Ok(PackReceived { received: pack.len(), whole: true });
        }
        let received = fs::metadata(self.piece_path(title, name)).map_or(0, |m| m.len());
        Ok(PackReceived { received, whole: false })
    }

    fn piece_path(&self, title: &Handle, name: &Digest) -> PathBuf {
        self.store(title).root().join("incoming").join(format!("{}.part", name.hex()))
    }

    pub(crate) fn get_recipe(&self, title: &Handle, id: RecipeId) -> Result<Vec<u8>, Refused> {
        self.title(title)?;
        self.store(title).recipe_bytes(id).map_err(not_there)
    }

    pub(crate) fn get_locator(&self, title: &Handle, id: RecipeId) -> Result<Vec<u8>, Refused> {
        self.title(title)?;
        Ok(self.store(title).locator(id).map_err(not_there)?.encode())
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
