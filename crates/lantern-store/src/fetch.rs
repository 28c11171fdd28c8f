//! Where an installer gets recipes and chunks from.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use lantern_core::bytes::ReadError;
use lantern_core::digest::{Digest, RecipeId};
use lantern_core::parallel::each;

use crate::codec::difference::{Bases, NoBases};
use crate::locator::Locator;
use crate::recipe::ChunkRef;
use crate::store::{Store, StoreError};

/// Why something could not be fetched; what to do about it is for the caller to know.
#[derive(Debug)]
pub struct FetchError {
    /// Whether the source answered that it does not have it, and will not have it later.
    pub is_gone: bool,
    /// The source's own error.
    pub source: Box<dyn std::error::Error + Send + Sync>,
}

impl FetchError {
    /// Wraps an error of a source.
    pub fn new(source: impl Into<Box<dyn std::error::Error + Send + Sync>>, is_gone: bool) -> Self {
        Self { is_gone, source: source.into() }
    }
}

impl std::fmt::Display for FetchError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.source.fmt(f)
    }
}

impl std::error::Error for FetchError {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        self.source.source()
    }
}

impl From<StoreError> for FetchError {
    fn from(error: StoreError) -> Self {
        let is_gone = matches!(error, StoreError::Missing { .. });
        Self::new(error, is_gone)
    }
}

/// Hands out the pieces of a build. Nothing that it returns is trusted: the installer checks every digest.
///
/// Every method fails with the source's own error.
pub trait Fetch: Sync {
    /// Returns a recipe's root.
    fn recipe(&self, id: RecipeId) -> Result<Vec<u8>, FetchError>;
    /// Returns a segment of a recipe, as it is stored.
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError>;
    /// Returns the locator of a segment.
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError>;
    /// Returns `len` bytes of a pack from `offset`.
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError>;
    /// Returns `len` bytes of an update file from `offset`; fewer where it ends. A source without update files has none: it is gone.
    fn update(&self, _from: RecipeId, _to: RecipeId, _offset: u64, _len: u32) -> Result<Vec<u8>, FetchError> {
        Err(FetchError::new("there are no update files", true))
    }
    /// Takes back the memory that a piece came in, for the next one to come in.
    fn give_back(&self, _: Vec<u8>) {}
    /// Gives what the chunks in packs may be differences to: nothing, but where the source is a store on this computer.
    fn bases(&self) -> Box<dyn Bases + '_> {
        Box::new(NoBases)
    }
}

/// Counts what comes of another source: all of it, also what comes twice.
pub(crate) struct Counted<'a> {
    source: &'a dyn Fetch,
    bytes: AtomicU64,
}

impl<'a> Counted<'a> {
    pub(crate) const fn new(source: &'a dyn Fetch) -> Self {
        Self { source, bytes: AtomicU64::new(0) }
    }

    pub(crate) fn bytes(&self) -> u64 {
        self.bytes.load(Ordering::Relaxed)
    }

    fn count(&self, came: Result<Vec<u8>, FetchError>) -> Result<Vec<u8>, FetchError> {
        let bytes = came?;
        self.bytes.fetch_add(bytes.len() as u64, Ordering::Relaxed);
        Ok(bytes)
    }
}

impl Fetch for Counted<'_> {
    fn recipe(&self, id: RecipeId) -> Result<Vec<u8>, FetchError> {
        self.count(self.source.recipe(id))
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        self.count(self.source.segment(digest))
    }
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError> {
        self.count(self.source.locator(segment))
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        self.count(self.source.pack_range(pack, offset, len))
    }
    fn update(&self, from: RecipeId, to: RecipeId, offset: u64, len: u32) -> Result<Vec<u8>, FetchError> {
        self.count(self.source.update(from, to, offset, len))
    }
    fn give_back(&self, memory: Vec<u8>) {
        self.source.give_back(memory);
    }
    fn bases(&self) -> Box<dyn Bases + '_> {
        self.source.bases()
    }
}

/// How often a piece is fetched that comes as something else than it should be: a line may have changed it.
const TRIES: u32 = 3;

/// Fetches and checks; what is found to be another thing is fetched again, a few times. `is_wrong` tells that from other
/// failures.
pub(crate) fn again<T, E>(mut fetch: impl FnMut() -> Result<T, E>, is_wrong: impl Fn(&E) -> bool) -> Result<T, E> {
    let mut tries = 1;
    loop {
        match fetch() {
            Err(error) if tries < TRIES && is_wrong(&error) => tries += 1,
            other => return other,
        }
    }
}

/// Large pieces that are fetched at a time.
pub(crate) const FETCHERS: usize = 4;
/// Small ones: they wait longer than they take. Ours: 24 fill a line of 100 Mbit/s with 50 ms there and back from 30 kB each on.
pub(crate) const SMALL_FETCHERS: usize = 24;

/// Why it could not be found out where something lies.
#[derive(Debug)]
pub enum LocateError {
    /// The source has no answer.
    Fetch(FetchError),
    /// Its answer is none.
    Wrong(ReadError),
}

impl From<LocateError> for FetchError {
    fn from(error: LocateError) -> Self {
        match error {
            LocateError::Fetch(error) => error,
            LocateError::Wrong(error) => Self::new(error, false),
        }
    }
}

/// Fetches the locators of segments; with each come its different chunks.
///
/// # Errors
/// [`LocateError`].
pub fn locate(segments: &[(Digest, Vec<ChunkRef>)], fetch: &dyn Fetch) -> Result<Locator, LocateError> {
    let parts = Mutex::new(Vec::with_capacity(segments.len()));
    each(
        segments,
        SMALL_FETCHERS,
        || (),
        |(), _, (segment, chunks)| {
            let once = || {
                let bytes = fetch.locator(segment).map_err(LocateError::Fetch)?;
                Locator::decode(segment, chunks, &bytes).map_err(LocateError::Wrong)
            };
            let part = again(once, |error| matches!(error, LocateError::Wrong(_)))?;
            parts.lock().unwrap_or_else(PoisonError::into_inner).push(part);
            Ok(())
        },
    )?;
    Ok(Locator::join(&parts.into_inner().unwrap_or_else(PoisonError::into_inner)))
}

impl Fetch for Store {
    fn recipe(&self, id: RecipeId) -> Result<Vec<u8>, FetchError> {
        Ok(self.recipe_bytes(id)?)
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        Ok(self.segment_bytes(digest)?)
    }
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError> {
        Ok(self.locator_bytes(segment)?)
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        Ok(self.read_pack_range(pack, offset, len)?)
    }
    fn update(&self, from: RecipeId, to: RecipeId, offset: u64, len: u32) -> Result<Vec<u8>, FetchError> {
        Ok(self.read_update(from, to, offset, len)?)
    }
    fn bases(&self) -> Box<dyn Bases + '_> {
        Box::new(Self::bases(self))
    }
}
