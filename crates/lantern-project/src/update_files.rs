//! Update files: made when a release comes to a storefront, for those who have an earlier one.

use std::collections::{BTreeMap, HashSet};
use std::io;

use bytes::Bytes;
use lantern_core::digest::RecipeId;
use lantern_core::names::Name;
use lantern_core::progress::{Progress, Task};
use lantern_core::version::ReleaseName;
use lantern_store::store::{Store, StoreError};
use lantern_store::updates::{Comparison, UpdateError, WORTH_AN_UPDATE};
use lantern_storefront::protocol::{Branch, Build, BuildTarget};
use lantern_storefront::{StorefrontError, Upload};

use crate::ProjectError;
use crate::storefronts::OpenStorefront;
use crate::verify::in_full;

/// How many earlier builds of a title get an update file, apart from those that are on a branch: some players skip one.
const EARLIER_BUILDS: usize = 2;
/// Longest update file that is brought, in bytes: players ask for its parts by 32 bits.
const MAX_LEN: u64 = u32::MAX as u64;

/// From one depot's recipe to another's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pair {
    /// What players have.
    pub from: RecipeId,
    /// What they get.
    pub to: RecipeId,
    /// The release that they have.
    pub release: ReleaseName,
}

/// An update file that was brought.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UpdateBrought {
    /// The release that players have.
    pub release: ReleaseName,
    /// Its bytes.
    pub bytes: u64,
    /// Bytes of the chunks that it stands for.
    pub chunks: u64,
}

/// Depots that both targets have, in another form.
pub(crate) fn pairs_of<'a>(
    old: &'a BuildTarget,
    new: &'a BuildTarget,
    release: &'a ReleaseName,
) -> impl Iterator<Item = Pair> + 'a {
    new.depots.iter().filter_map(move |to| {
        let pair = pair_to(old, release, &to.depot, to.recipe)?;
        (!to.updates.iter().any(|update| update.from == pair.from)).then_some(pair)
    })
}

/// From a target's form of a depot to another form of it; none where the target lacks it, or has it so already.
fn pair_to(old: &BuildTarget, release: &ReleaseName, depot: &Name, to: RecipeId) -> Option<Pair> {
    let from = old.depots.iter().find(|from| from.depot == *depot && from.recipe != to)?;
    Some(Pair { from: from.recipe, to, release: release.clone() })
}

/// Which update files a new build is to have, the newest first: from what is on any branch, and from the last builds before it. Of each
/// target it takes the recipes of its depots.
pub(crate) fn pairs_for(
    new: &BTreeMap<&Name, Vec<(&Name, RecipeId)>>,
    branches: &[Branch],
    builds: &[Build],
) -> Vec<Pair> {
    let live: HashSet<u64> = branches.iter().flat_map(|b| b.facts.targets.values()).map(|b| b.number_there).collect();
    let depots_there = || builds.iter().flat_map(|b| b.targets.values()).flat_map(|target| &target.depots);
    let mut seen: HashSet<(RecipeId, RecipeId)> =
        depots_there().flat_map(|to| to.updates.iter().map(|update| (update.from, to.recipe))).collect();
    let mut out = Vec::new();
    for (name, depots) in new {
        let mut earlier = EARLIER_BUILDS;
        for build in builds.iter().rev().filter(|build| build.withdrawn.is_none()) {
            let Some(old) = build.targets.get(*name) else { continue };
            let is_recent = earlier > 0;
            earlier = earlier.saturating_sub(1);
            if is_recent || live.contains(&build.number_there) {
                let pairs = depots.iter().filter_map(|(depot, to)| pair_to(old, &build.name, depot, *to));
                out.extend(pairs.filter(|pair| seen.insert((pair.from, pair.to))));
            }
        }
    }
    out
}

/// An update file that goes to a storefront in place of chunks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InPlaceOfChunks {
    /// What is there.
    pub from: RecipeId,
    /// For the report.
    pub update: UpdateBrought,
}

impl InPlaceOfChunks {
    /// What it leads from, to this recipe.
    pub(crate) fn pair_to(&self, to: RecipeId) -> Pair {
        Pair { from: self.from, to, release: self.update.release.clone() }
    }
}

/// Whether an update file may come about, as far as that is known without making it.
pub(crate) fn may_be(store: &Store, pair: &Pair) -> bool {
    let both = Comparison::open(store, pair.from, pair.to);
    // What is damaged is said when it is made.
    both.map_or_else(|error| !matches!(error, StoreError::Missing { .. }), |both| both.chunks() >= WORTH_AN_UPDATE)
}

/// Makes an update file, unless it is there. None where it would save too little, and where it cannot be made, which is said: nobody needs
/// one, and an earlier build that is damaged keeps no new one back.
pub(crate) fn make(store: &Store, pair: Pair, progress: &dyn Progress) -> Result<Option<UpdateBrought>, ProjectError> {
    let Pair { from, to, release } = pair;
    let both = Comparison::open(store, from, to).map_err(UpdateError::Store);
    let made = both.and_then(|both| match both.chunks() {
        ..WORTH_AN_UPDATE => Ok(None),
        chunks => Ok(both.make(chunks.min(MAX_LEN), progress)?.map(|bytes| (bytes, chunks))),
    });
    match made {
        Ok(made) => Ok(made.map(|(bytes, chunks)| UpdateBrought { release, bytes, chunks })),
        // A build that someone else made, or whose files were freed, is not in this store.
        Err(UpdateError::Store(StoreError::Missing { .. })) => Ok(None),
        Err(UpdateError::Stopped) => Err(ProjectError::Stopped),
        Err(error) => {
            progress.careful(&format!("no update file from {release}: {}", in_full(&error)));
            Ok(None)
        }
    }
}

/// Makes update files, as far as both builds are in the store, and brings them. None is needed: what does not come about is said, and
/// players get chunks. What is missing because someone stopped comes with the promotion.
pub(crate) fn bring(
    store: &Store,
    storefront: &OpenStorefront,
    pairs: Vec<Pair>,
    progress: &dyn Progress,
) -> Vec<UpdateBrought> {
    let mut out = Vec::new();
    if let Err(error) = bring_into(&mut out, store, storefront, pairs, progress) {
        let why = match error {
            ProjectError::Stopped => "you stopped before they were made; players download chunks instead".to_owned(),
            other => in_full(&other),
        };
        progress.careful(&format!("not all update files are there: {why}"));
    }
    out
}

/// An update file of the store, on its way.
struct OfStore<'a> {
    store: &'a Store,
    from_to: (RecipeId, RecipeId),
    len: u64,
}

impl Upload for OfStore<'_> {
    fn size(&self) -> u64 {
        self.len
    }

    fn piece(&self, offset: u64, len: usize) -> io::Result<Bytes> {
        let len = u32::try_from(len).map_err(io::Error::other)?;
        let (from, to) = self.from_to;
        let piece = self.store.read_update(from, to, offset, len).map_err(io::Error::other)?;
        if piece.len() == len as usize { Ok(piece.into()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
    }
}

/// Brings an update file of the store; returns its bytes. None where the storefront refuses it: it is its own matter what it takes.
pub(crate) fn send(
    store: &Store,
    storefront: &OpenStorefront,
    from_to: (RecipeId, RecipeId),
    progress: &dyn Progress,
) -> Result<Option<u64>, ProjectError> {
    let len = store.update_len(from_to.0, from_to.1).unwrap_or(0);
    let meter = progress.start(Task::Send, Some(len));
    let update = OfStore { store, from_to, len };
    match storefront.content()?.put_update(&storefront.title, from_to, &update, &|bytes| meter.add(bytes)) {
        Ok(()) => Ok(Some(len)),
        Err(StorefrontError::Refused(problem)) => {
            progress.careful(&format!("{} takes no update file: {}", storefront.reference.name, problem.detail));
            Ok(None)
        }
        Err(error @ StorefrontError::NoPieces { .. }) => {
            progress.careful(&format!("an update file is not brought: {error}"));
            Ok(None)
        }
        Err(error) => Err(storefront.fails()(error)),
    }
}

fn bring_into(
    out: &mut Vec<UpdateBrought>,
    store: &Store,
    storefront: &OpenStorefront,
    pairs: Vec<Pair>,
    progress: &dyn Progress,
) -> Result<(), ProjectError> {
    let content = storefront.content()?;
    if !content.takes_updates().map_err(storefront.fails())? {
        return Ok(());
    }
    for pair in pairs {
        let from_to = (pair.from, pair.to);
        let Some(update) = make(store, pair, progress)? else { continue };
        if send(store, storefront, from_to, progress)?.is_some() {
            out.push(update);
        }
    }
    Ok(())
}
