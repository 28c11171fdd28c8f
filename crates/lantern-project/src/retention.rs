//! `keep`: which sealed releases stay; the room of the others is freed.

use std::collections::BTreeMap;
use std::sync::Arc;

use lantern_core::board::{Board, KnownRelease};
use lantern_core::digest::TreeId;
use lantern_core::event::{EventBody, Freed};
use lantern_core::names::Name;
use lantern_core::progress::Progress;
use lantern_core::release::{DepotRecord, ReleaseRecord};
use lantern_core::retention::{Reason, RetentionRule, choose};
use lantern_store::collect::{CollectPlan, Kept};

use crate::state_folder::{keep_reserve, use_reserve};
use crate::workspace::{Session, Workspace};
use crate::{ProjectError, environment};

/// What keeping by a rule will do.
#[derive(Debug, Clone)]
pub struct RetentionPlan {
    /// Each release that still has its content, with the reason why it stays; none: its content goes.
    pub releases: Vec<(KnownRelease, Option<Reason>)>,
    room: CollectPlan,
    /// Bytes of what can be made again at any time: builds that were laid out to be tried, caches.
    spare: u64,
}

impl RetentionPlan {
    /// Returns the releases whose content goes.
    pub fn going(&self) -> impl Iterator<Item = &KnownRelease> {
        self.releases.iter().filter(|(_, reason)| reason.is_none()).map(|(release, _)| release)
    }

    /// Returns the bytes that are freed, less those that are written once more.
    pub fn freed(&self) -> u64 {
        (self.room.removed + self.spare).saturating_sub(self.room.written)
    }

    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.room.is_empty() && self.spare == 0 && self.going().next().is_none()
    }
}

/// Whose a sealed tree is. What more people may have comes first: a chunk that several need is then stored with it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Owner {
    is_aside: bool,
    is_optional: bool,
    edition: Name,
    depot: Name,
    players: String,
}

impl Workspace {
    /// Plans what stays by a rule; changes nothing. Where the project is about one edition alone, all releases of the others
    /// stay.
    ///
    /// # Errors
    /// Those of the ledger and the store; a release that stays and is damaged stops it.
    pub fn plan_keep(&self, rule: RetentionRule) -> Result<RetentionPlan, ProjectError> {
        let events = self.events()?;
        let kept = self.boards()?;
        let editions: Vec<Name> = kept.editions().cloned().collect();
        let boards: Vec<Arc<Board>> = editions.iter().map(|edition| kept.of(edition)).collect();
        let mut titles = BTreeMap::new();
        for (edition, board) in editions.iter().zip(&boards) {
            titles.extend(self.titles(board, edition)?.into_iter().map(|(name, title)| (title, name)));
        }
        let chosen = choose(rule, &boards, &events, &titles, environment::now());
        let only = self.project.only_one();
        let is_meant = |release: &KnownRelease| only.is_none_or(|only| release.edition == *only);
        let store = &self.store;
        let mut owned: Vec<(Owner, TreeId)> = Vec::new();
        for (release, _) in chosen.iter().filter(|(release, reason)| reason.is_some() || !is_meant(release)) {
            owned.extend(owners(&release.edition, &store.record(release.id)?));
        }
        let keep = ranked(&owned);
        let releases: Vec<_> = chosen.into_iter().filter(|(release, _)| is_meant(release)).collect();
        // What went before is looked at again: a kill may have left a part of it.
        let freed = boards.iter().flat_map(|board| &board.freed).copied();
        let going = releases.iter().filter(|(_, reason)| reason.is_none()).map(|(release, _)| release.id);
        let records = going.chain(freed).filter_map(|id| store.record(id).ok());
        let go: Vec<TreeId> = records.flat_map(|r| r.sealed().iter().map(|d| d.tree).collect::<Vec<_>>()).collect();
        let room = CollectPlan::make(store, &keep, &go)?;
        Ok(RetentionPlan { releases, room, spare: self.project.spare_size() })
    }
}

impl Session {
    /// Carries a plan out: the ledger says it first, then the room is freed. Records stay, and nobody reads the store
    /// meanwhile.
    ///
    /// # Errors
    /// Those of the ledger and the store.
    pub fn keep(&mut self, plan: &RetentionPlan, progress: &dyn Progress) -> Result<(), ProjectError> {
        let mut by_edition: BTreeMap<Name, Vec<_>> = BTreeMap::new();
        for release in plan.going() {
            by_edition.entry(release.edition.clone()).or_default().push(release.id);
        }
        // What can be made again at any time goes first, and what is kept for this: on a full disk the ledger has room then.
        self.project().clear_spare()?;
        use_reserve(&self.project().state(""))?;
        self.workspace.open_ledger_again()?;
        let _alone = self.workspace.hold_store_alone(progress)?;
        for (edition, releases) in by_edition {
            self.workspace.record(&edition, EventBody::Freed(Freed { releases }), None)?;
        }
        plan.room.carry_out(&self.workspace.store, progress)?;
        keep_reserve(&self.project().state(""));
        Ok(())
    }
}

/// Numbers the owners of trees, those that more people may have first.
pub(crate) fn ranked(owned: &[(Owner, TreeId)]) -> Vec<Kept> {
    let mut ranks: Vec<&Owner> = owned.iter().map(|(owner, _)| owner).collect();
    ranks.sort();
    ranks.dedup();
    let rank = |owner: &Owner| u32::try_from(ranks.binary_search(&owner).unwrap_or(ranks.len())).unwrap_or(u32::MAX);
    owned.iter().map(|(owner, tree)| Kept { tree: *tree, owner: rank(owner) }).collect()
}

/// Returns the trees of a release with whose they are.
pub(crate) fn owners(edition: &Name, record: &ReleaseRecord) -> Vec<(Owner, TreeId)> {
    let owner = |depot: &DepotRecord, is_aside: bool| Owner {
        is_aside,
        is_optional: !depot.players.are_all(),
        edition: edition.clone(),
        depot: depot.depot.clone(),
        players: depot.players.to_string(),
    };
    let depots = record.targets.iter().flat_map(|t| &t.depots).map(|depot| (owner(depot, false), depot.tree));
    let asides = record.targets.iter().flat_map(|t| &t.aside).map(|depot| (owner(depot, true), depot.tree));
    depots.chain(asides).collect()
}
