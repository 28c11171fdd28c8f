//! `repair`: the store, one release, or an installed copy is made whole again, from exports or from a storefront.

use std::collections::BTreeSet;

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::names::{Handle, Name};
use lantern_core::progress::Progress;
use lantern_core::release::ReleaseRecord;
use lantern_core::version::{ReleaseAsked, ReleaseName};
use lantern_store::fetch::{Fetch, FetchError};
use lantern_store::repair::{Repair, chunks_of};
use lantern_store::store::{Store, StoreError};
use lantern_storefront::protocol::problem;
use lantern_storefront::{Content, StorefrontError};

use crate::ProjectError;
use crate::retention::owners;
use crate::storefronts::{OpenStorefront, open_storefront};
use crate::workspace::Session;

/// What repairing the store came to.
#[derive(Debug, Clone, Default)]
pub struct StoreRepaired {
    /// Releases that were looked at.
    pub releases: u64,
    /// Whether everything was as it should be from the start.
    pub was_intact: bool,
    /// Files of the store that were damaged.
    pub damaged: u64,
    /// Whether something was taken from the exports.
    pub from_exports: bool,
    /// Bytes that came from each storefront, where some did.
    pub received: Vec<(Name, u64)>,
    /// Storefronts that could not be asked, with the reason.
    pub unreachable: Vec<(Name, String)>,
    /// Releases that are whole again.
    pub repaired: Vec<ReleaseName>,
    /// Releases of which something is still lost.
    pub broken: Vec<BrokenRelease>,
}

/// A release of which something is lost.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BrokenRelease {
    /// Which.
    pub release: ReleaseName,
    /// What, a sentence each.
    pub lost: Vec<String>,
}

/// A release whose content is to be whole.
struct Wanted {
    name: ReleaseName,
    edition: Name,
    record: ReleaseRecord,
    was_intact: bool,
}

impl Session {
    /// Makes the store whole again, or what one release needs of it: first what damaged files still hold, then what the
    /// exports hold, then what storefronts have.
    ///
    /// # Errors
    /// Those of the ledger, of this computer, and [`ReleaseError::NoRelease`](crate::ReleaseError::NoRelease); what stays lost is in the result.
    pub fn repair_store(
        &mut self,
        asked: Option<&ReleaseAsked>,
        progress: &dyn Progress,
    ) -> Result<StoreRepaired, ProjectError> {
        let _alone = self.workspace.hold_store_alone(progress)?;
        self.workspace.store.remove_unfinished()?;
        let mut done = StoreRepaired::default();
        let mut wanted = self.to_be_whole(asked, &mut done)?;
        let mut ranked = Vec::new();
        for release in &wanted {
            ranked.extend(owners(&release.edition, &release.record));
        }
        let kept = crate::retention::ranked(&ranked);
        let store = self.workspace.store.clone();
        let mut repair = Repair::examine(&store, kept, progress)?;
        if progress.stopped() {
            return Err(ProjectError::Stopped);
        }
        done.releases = wanted.len() as u64;
        done.was_intact = repair.is_whole() && done.broken.is_empty();
        done.damaged = repair.damaged_packs() as u64;
        if done.was_intact {
            return Ok(done);
        }
        for release in &mut wanted {
            release.was_intact = is_whole(&store, &release.record, &repair)?;
        }
        repair.salvage()?;
        if !repair.is_complete() {
            done.from_exports = self.put_in_exports(&mut repair, progress)?;
        }
        for (name, editions) in self.storefronts_with_editions() {
            if repair.is_complete() {
                break;
            }
            let mut received = 0;
            for edition in editions {
                match self.fetch_from(&name, &edition, &wanted, &mut repair, progress) {
                    Ok(bytes) => received += bytes,
                    Err(
                        error @ (ProjectError::Ledger(_)
                        | ProjectError::File(_)
                        | ProjectError::Store(_)
                        | ProjectError::Stopped),
                    ) => return Err(error),
                    Err(error) => done.unreachable.push((name.clone(), crate::verify::why_not_asked(&error))),
                }
            }
            if received > 0 {
                done.received.push((name, received));
            }
        }
        repair.finish()?;
        let known = store.known_chunks()?;
        for release in wanted {
            let lost = crate::verify::lost_of(&store, &release.record, &|_, chunk| known.contains(chunk));
            match (lost.is_empty(), release.was_intact) {
                (false, _) => done.broken.push(BrokenRelease { release: release.name, lost }),
                (true, false) => done.repaired.push(release.name),
                (true, true) => {}
            }
        }
        Ok(done)
    }

    /// Returns the releases that still have their content; one whose record is lost cannot be repaired.
    fn to_be_whole(&self, asked: Option<&ReleaseAsked>, done: &mut StoreRepaired) -> Result<Vec<Wanted>, ProjectError> {
        let only = asked.map(|asked| self.workspace.release(Some(asked))).transpose()?;
        let mut out = Vec::new();
        for edition in self.workspace.all_editions()? {
            let board = self.workspace.board(&edition)?;
            let there = board.releases.iter().filter(|r| r.found_at.is_none() && !board.freed.contains(&r.id));
            for release in there.filter(|r| only.as_ref().is_none_or(|only| only.id == r.id)) {
                match self.workspace.store.record(release.id) {
                    Ok(record) => out.push(Wanted {
                        name: release.name.clone(),
                        edition: edition.clone(),
                        record,
                        was_intact: false,
                    }),
                    Err(StoreError::File(error)) => return Err(error.into()),
                    Err(error) => {
                        let lost = vec![crate::verify::in_full(&error)];
                        done.broken.push(BrokenRelease { release: release.name.clone(), lost });
                    }
                }
            }
        }
        Ok(out)
    }

    /// Takes what is lost out of the exports as they are now; says whether they had any of it.
    fn put_in_exports(&self, repair: &mut Repair<'_>, progress: &dyn Progress) -> Result<bool, ProjectError> {
        let project = self.project();
        let mut had = false;
        for edition in project.config().editions_with_targets() {
            // What stops a release does not stop its files from being read.
            let divided = project.divide(&edition);
            let files =
                divided.intakes.iter().flat_map(|intake| (0..intake.entries().len()).map(move |at| (intake, at)));
            // A file that cannot be read now has nothing to give.
            let readers = files.filter_map(|(intake, index)| intake.export().open(index).ok());
            let mut chunks = readers.take_while(|_| !progress.stopped()).flat_map(chunks_of);
            had |= repair.put_in(&mut chunks)? > 0;
            if progress.stopped() {
                return Err(ProjectError::Stopped);
            }
            let is_needed = !repair.lost_recipes().is_empty();
            if is_needed && divided.stopping().is_none() {
                had |= self.seal_for_repair(&divided, repair, progress)?;
            }
        }
        Ok(had)
    }

    /// Seals exports once more, for the recipes that this makes; says whether one of them was lost.
    fn seal_for_repair(
        &self,
        divided: &crate::divided::Divided<'_>,
        repair: &mut Repair<'_>,
        progress: &dyn Progress,
    ) -> Result<bool, ProjectError> {
        let before = repair.lost_recipes().len();
        for (intake, indices) in crate::describe::portions(divided) {
            let (entries, source) = intake.part(&indices);
            lantern_store::seal::seal(&self.workspace.store, &entries, &source, progress)?;
        }
        repair.rescan()?;
        Ok(repair.lost_recipes().len() < before)
    }

    /// Fetches what is lost of an edition's releases from a storefront that has builds of them.
    fn fetch_from(
        &self,
        name: &Name,
        edition: &Name,
        wanted: &[Wanted],
        repair: &mut Repair<'_>,
        progress: &dyn Progress,
    ) -> Result<u64, ProjectError> {
        let storefront = open_storefront(&self.workspace, edition, name.as_str())?;
        let builds = storefront.builds()?.list(&storefront.title).map_err(storefront.fails())?;
        let fetch = FromTitle { content: storefront.content()?, title: &storefront.title };
        let failed = |error| FromTitle::error_of(&storefront, error);
        let ids: BTreeSet<_> = wanted.iter().map(|w| w.record.id()).collect();
        let mut received = 0;
        let of_releases = builds.iter().filter(|b| ids.contains(&b.release));
        let recipes: BTreeSet<RecipeId> =
            of_releases.flat_map(|b| b.targets.values()).flat_map(|t| &t.depots).map(|d| d.recipe).collect();
        for recipe in recipes {
            if !repair.lost_recipes().is_empty() {
                repair.fetch_recipe(recipe, &fetch).map_err(failed)?;
            }
            received += repair.fetch(recipe, &fetch, progress).map_err(failed)?;
            if progress.stopped() {
                return Err(ProjectError::Stopped);
            }
        }
        Ok(received)
    }
}

fn is_whole(store: &Store, record: &ReleaseRecord, repair: &Repair<'_>) -> Result<bool, ProjectError> {
    for depot in record.sealed() {
        if repair.lost_recipes().contains(&depot.tree) || !store.has_tree(depot.tree)? {
            return Ok(false);
        }
    }
    Ok(true)
}

/// A title of ours at a storefront, as those who make the game may read it.
pub(crate) struct FromTitle<'a> {
    pub content: &'a dyn Content,
    pub title: &'a Handle,
}

impl FromTitle<'_> {
    fn failed(error: StorefrontError) -> FetchError {
        let is_gone = error.is(problem::NOT_FOUND);
        FetchError::new(error, is_gone)
    }

    /// What it means that a part of a build could not be fetched, or not kept.
    pub(crate) fn error_of(storefront: &OpenStorefront, error: FetchError) -> ProjectError {
        match error.source.downcast::<StorefrontError>() {
            Ok(source) => storefront.fails()(*source),
            Err(source) => match source.downcast::<StoreError>() {
                Ok(source) => ProjectError::Store(*source),
                Err(source) => storefront.nonsense("a part of a build", source),
            },
        }
    }
}

impl Fetch for FromTitle<'_> {
    fn recipe(&self, id: RecipeId) -> Result<Vec<u8>, FetchError> {
        self.content.get_recipe(self.title, id).map_err(Self::failed)
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        self.content.get_segment(self.title, digest).map_err(Self::failed)
    }
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError> {
        self.content.get_locator(self.title, segment).map_err(Self::failed)
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        self.content.get_pack(self.title, pack, offset, len).map_err(Self::failed)
    }
}
