//! Chunks of a new build, put together of an old build that a store has and the update file between the two: what a storefront has need not be
//! brought again.
//!
//! Every chunk is compared with its digest; what does not come out is not there, and comes as it would have come without the update file.

use std::collections::HashSet;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::tree::Node;
use lantern_update::{Build, Old, OpenGroup, Part, Sink};

use crate::codec::Packer;
use crate::contents::{Contents, starts};
use crate::durable::DurableError;
use crate::pack::PackWriter;
use crate::recipe::ChunkRef;
use crate::store::{Store, StoreError};
use crate::updates::{Sealed, UpdateError, read_header};

/// Takes a pack: its name and its bytes.
pub type TakePack<'a> = dyn FnMut(&Digest, &[u8]) -> io::Result<()> + 'a;

/// Puts together what an update file of the store gives of the chunks that are `lacking`, and hands them out in packs. Returns how many
/// there are.
///
/// # Errors
/// [`UpdateError`]: those of the store, of `take`, and a head that is damaged. Damage further in costs the chunks that it concerns.
pub fn rebuild(
    store: &Store,
    (from, to): (RecipeId, RecipeId),
    lacking: &HashSet<Digest>,
    take: &mut TakePack<'_>,
) -> Result<u64, UpdateError> {
    let path = store.update_path(from, to);
    let io = |e: io::Error| UpdateError::Store(StoreError::File(DurableError::on("read", &path)(e)));
    let mut file = File::open(&path).map_err(io)?;
    let header = read_header(&mut file, &path)?;
    let old = Sealed::of(Contents::open(store, from)?);
    let old = OldFiles { sizes: old.files().iter().map(|file| file.size).collect(), sealed: old };
    let (_, entries) = store.recipe(to)?;
    let new: Vec<(u64, &[ChunkRef])> = entries
        .iter()
        .filter_map(|entry| match entry.node {
            Node::File { size, .. } => Some((size, entry.chunks.as_slice())),
            _ => None,
        })
        .collect();
    let new_sizes: Vec<u64> = new.iter().map(|(size, _)| *size).collect();
    let (packer, writer) = (Packer::new(), PackWriter::new());
    let mut packs = Packs { take, packer, writer, done: HashSet::new(), error: None };
    let mut cutter: Option<(u32, Cutter<'_>)> = None;
    let is_lacking = |part: &Part| {
        let chunks = usize::try_from(part.file).ok().and_then(|file| new.get(file));
        chunks.is_some_and(|(_, chunks)| chunks.iter().any(|chunk| lacking.contains(&chunk.digest)))
    };
    for group in header.groups.iter().filter(|group| group.parts.iter().any(is_lacking)) {
        file.seek(SeekFrom::Start(group.offset)).map_err(io)?;
        let mut stored = Vec::new();
        (&mut file).take(group.len()).read_to_end(&mut stored).map_err(io)?;
        let open = match OpenGroup::open(group, &stored, &old.sizes, &new_sizes) {
            Ok(open) => open,
            Err(error) => {
                log::info!("a group of the update file is of no use: {error}");
                continue;
            }
        };
        for (number, part) in open.parts().enumerate().filter(|(_, part)| is_lacking(part)) {
            let Some((_, chunks)) = usize::try_from(part.file).ok().and_then(|file| new.get(file)) else { continue };
            let (_, cut) = match cutter.take() {
                // A file goes on where its last part ended.
                Some((file, cut)) if file == part.file && cut.at == part.offset => cutter.insert((file, cut)),
                _ => cutter.insert((part.file, Cutter::at(part.offset, chunks))),
            };
            let mut sink = Cutting { cut, lacking, old: &old, packs: &mut packs };
            match open.apply(number, &old, &mut sink) {
                Ok(()) => {}
                Err(error) => {
                    if let Some(error) = packs.error.take() {
                        return Err(UpdateError::Take(error));
                    }
                    log::info!("a part of the update file is of no use: {error}");
                    cutter = None;
                }
            }
        }
    }
    packs.close().map_err(UpdateError::Take)?;
    Ok(packs.done.len() as u64)
}

/// The files of an old build.
struct OldFiles<'a> {
    sizes: Vec<u64>,
    sealed: Sealed<'a>,
}

impl Old for OldFiles<'_> {
    fn sizes(&self) -> &[u64] {
        &self.sizes
    }

    fn read(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()> {
        self.sealed.read(file, offset, out)
    }
}

/// Where in a new file we are, and what has come of the chunk there.
struct Cutter<'a> {
    chunks: &'a [ChunkRef],
    starts: Vec<u64>,
    /// Of the chunk that `at` lies in.
    number: usize,
    at: u64,
    raw: Vec<u8>,
}

impl<'a> Cutter<'a> {
    fn at(at: u64, chunks: &'a [ChunkRef]) -> Self {
        let (starts, _) = starts(chunks.iter().map(|chunk| chunk.len));
        let number = starts.partition_point(|start| *start <= at).saturating_sub(1);
        Self { chunks, starts, number, at, raw: Vec::new() }
    }

    /// The chunk that comes next, and how much of it came before.
    fn next(&self) -> Option<(ChunkRef, u64)> {
        let (chunk, start) = self.chunks.get(self.number).zip(self.starts.get(self.number))?;
        Some((*chunk, self.at - start))
    }

    /// Goes on by some bytes of that chunk; returns it when it is whole.
    fn go_on(&mut self, chunk: &ChunkRef, before: u64, len: u64) -> bool {
        self.at += len;
        let is_whole = before + len == u64::from(chunk.len);
        self.number += usize::from(is_whole);
        is_whole
    }
}

/// Takes a part of a new file, and keeps what is lacking of it.
struct Cutting<'a, 'b, 'c> {
    cut: &'a mut Cutter<'b>,
    lacking: &'a HashSet<Digest>,
    old: &'a OldFiles<'a>,
    packs: &'a mut Packs<'c>,
}

impl Cutting<'_, '_, '_> {
    /// Takes `len` bytes chunk by chunk; `fill` appends those of a chunk that is lacking, by where they lie among them.
    fn take(&mut self, len: u64, mut fill: impl FnMut(&mut Vec<u8>, u64, u64) -> io::Result<()>) -> io::Result<()> {
        let mut done = 0;
        while done < len {
            let (chunk, before) = self.cut.next().ok_or(io::ErrorKind::UnexpectedEof)?;
            let now = (len - done).min(u64::from(chunk.len) - before);
            // What began before this file's first part that came is not known.
            let is_kept = self.lacking.contains(&chunk.digest) && self.cut.raw.len() as u64 == before;
            if is_kept {
                fill(&mut self.cut.raw, done, now)?;
            }
            if self.cut.go_on(&chunk, before, now) {
                if is_kept {
                    self.packs.push(&chunk, &self.cut.raw)?;
                }
                self.cut.raw.clear();
            }
            done += now;
        }
        Ok(())
    }
}

impl Sink for Cutting<'_, '_, '_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.take(bytes.len() as u64, |raw, from, len| {
            let rest = usize::try_from(from).ok().and_then(|from| bytes.get(from..)).unwrap_or_default();
            raw.extend(rest.get(..usize::try_from(len).unwrap_or(usize::MAX)).unwrap_or_default());
            Ok(())
        })
    }

    /// Only what is lacking is read at all.
    fn copy(&mut self, file: usize, offset: u64, len: u64) -> io::Result<bool> {
        let old = self.old;
        self.take(len, |raw, from, len| {
            let start = raw.len();
            raw.resize(start + usize::try_from(len).unwrap_or(usize::MAX), 0);
            old.read(file, offset + from, raw.get_mut(start..).unwrap_or_default())
        })?;
        Ok(true)
    }
}

/// Packs that fill up.
struct Packs<'a> {
    take: &'a mut TakePack<'a>,
    packer: Packer,
    writer: PackWriter,
    done: HashSet<Digest>,
    /// Why a pack was not taken: the caller cannot tell it from a part that is of no use.
    error: Option<io::Error>,
}

impl Packs<'_> {
    fn push(&mut self, chunk: &ChunkRef, raw: &[u8]) -> io::Result<()> {
        if Digest::of(raw) != chunk.digest || !self.done.insert(chunk.digest) {
            return Ok(());
        }
        let (codec, stored) = self.packer.pack(raw);
        self.writer.push(chunk.digest, codec, chunk.len, stored);
        if self.writer.is_full()
            && let Err(error) = self.close()
        {
            self.error = Some(error);
            return Err(io::Error::other("a pack was not taken"));
        }
        Ok(())
    }

    fn close(&mut self) -> io::Result<()> {
        if self.writer.is_empty() {
            return Ok(());
        }
        let (name, bytes, _) = self.writer.take();
        (self.take)(&name, &bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::recipe::different_chunks;
    use crate::testing::{copy_folder, noise, sealed_files};
    use crate::updates::Comparison;
    use lantern_core::progress::Silent;

    /// A storefront's store that has an old build, and knows of a new one what it is made of; and one that has both.
    struct Scene {
        _temp: tempfile::TempDir,
        there: Store,
        here: Store,
        pair: (RecipeId, RecipeId),
        lacking: HashSet<Digest>,
    }

    fn scene() -> Scene {
        let temp = tempfile::tempdir().unwrap();
        let (here, there) = (Store::at(temp.path().join("here")), Store::at(temp.path().join("there")));
        let tide = noise(1, 2_000_000);
        // Something changes here and there, something moves, and something is new.
        let mut changed = [&tide[700_000..], &noise(2, 30_000), &tide[..700_000]].concat();
        for at in (0..changed.len()).step_by(190_000) {
            changed[at] ^= 1;
        }
        let old = sealed_files(&here, &[("a", &tide), ("same", &noise(3, 300_000))]);
        copy_folder(here.root(), there.root());
        let new = sealed_files(&here, &[("a", &changed), ("b", &noise(4, 200_000)), ("same", &noise(3, 300_000))]);
        let pair = (old.recipe, new.recipe);
        Comparison::open(&here, pair.0, pair.1).unwrap().make(u64::MAX, &Silent).unwrap().unwrap();
        there.write_root(new.recipe, &here.recipe_bytes(new.recipe).unwrap()).unwrap();
        for segment in here.recipe_root(new.recipe).unwrap().segments {
            there.write_segment(&segment.digest, &here.segment_bytes(&segment.digest).unwrap()).unwrap();
        }
        let known = there.known_chunks().unwrap();
        let chunks = different_chunks(&here.recipe(new.recipe).unwrap().1);
        let lacking: HashSet<Digest> = chunks.into_iter().filter(|chunk| !known.contains(chunk)).collect();
        assert!(lacking.len() > 15, "{}", lacking.len());
        Scene { _temp: temp, there, here, pair, lacking }
    }

    impl Scene {
        fn bring(&self, bytes: &[u8]) {
            let path = self.there.root().join("came");
            std::fs::write(&path, bytes).unwrap();
            let place = self.there.update_path(self.pair.0, self.pair.1);
            std::fs::create_dir_all(place.parent().unwrap()).unwrap();
            std::fs::rename(path, place).unwrap();
        }

        fn update(&self) -> Vec<u8> {
            self.here.read_update(self.pair.0, self.pair.1, 0, u32::MAX).unwrap()
        }

        /// What is lacking still; every pack is what it should be, which writing it looks at.
        fn rebuilt(&self) -> Result<HashSet<Digest>, UpdateError> {
            let mut take = |name: &Digest, bytes: &[u8]| {
                crate::pack::verify(*name, bytes, &crate::codec::difference::NoBases).map_err(io::Error::other)?;
                self.there.write_pack(name, bytes).map_err(io::Error::other)
            };
            let count = rebuild(&self.there, self.pair, &self.lacking, &mut take)?;
            let known = self.there.known_chunks().unwrap();
            let left: HashSet<Digest> = self.lacking.iter().copied().filter(|chunk| !known.contains(chunk)).collect();
            assert_eq!(count as usize, self.lacking.len() - left.len());
            Ok(left)
        }
    }

    #[test]
    fn an_update_file_gives_what_is_lacking() {
        let scene = scene();
        let update = scene.update();
        // 230 KB are new, and come as they are.
        assert!(update.len() < 300_000, "{}", update.len());
        scene.bring(&update);
        assert_eq!(scene.rebuilt().unwrap(), HashSet::new());
        let known = scene.there.known_chunks().unwrap();
        let (root, entries) = scene.there.recipe(scene.pair.1).unwrap();
        scene.there.write_locators(&root, &entries, &known, &Default::default()).unwrap();
        let contents = Contents::open(&scene.there, scene.pair.1).unwrap();
        contents.entries.iter().for_each(|entry| contents.write_to(entry, &mut io::sink()).unwrap());
    }

    #[test]
    fn only_what_is_lacking_is_put_together() {
        let mut scene = scene();
        let one = *scene.lacking.iter().min().unwrap();
        scene.lacking = [one].into();
        scene.bring(&scene.update());
        let before = scene.there.known_chunks().unwrap().len();
        assert_eq!(scene.rebuilt().unwrap(), HashSet::new());
        assert_eq!(scene.there.known_chunks().unwrap().len(), before + 1);
    }

    #[test]
    fn damage_costs_chunks_and_never_gives_wrong_ones() {
        let mut scene = scene();
        let update = scene.update();
        let good = scene.there.root().to_owned();
        let mut left = 0;
        for at in (0..update.len()).step_by(update.len() / 12) {
            let other = tempfile::tempdir().unwrap();
            copy_folder(&good, other.path());
            scene.there = Store::at(other.path());
            let mut bad = update.clone();
            bad[at] ^= 1;
            scene.bring(&bad);
            match scene.rebuilt() {
                Ok(lacking) => left += lacking.len(),
                Err(error) => assert!(matches!(error, UpdateError::Damaged(_)), "{error:?}"),
            }
        }
        assert!(left > 0);
    }

    #[test]
    fn what_cannot_be_kept_is_said() {
        let scene = scene();
        scene.bring(&scene.update());
        let mut full = |_: &Digest, _: &[u8]| Err(io::ErrorKind::StorageFull.into());
        let error = rebuild(&scene.there, scene.pair, &scene.lacking, &mut full).unwrap_err();
        assert!(matches!(error, UpdateError::Take(error) if error.kind() == io::ErrorKind::StorageFull));
    }
}
