//! `keep`: which sealed releases stay; the room of the others is freed.

use lantern_core::board::{Board, KnownRelease};
use lantern_core::digest::TreeId;
use lantern_core::event::{EventBody, Freed};
use lantern_core::keep::{KeepRule, Reason, choose};
use lantern_core::names::Name;
use lantern_core::progress::Progress;
use lantern_store::room::RoomPlan;

use crate::project::Locked;
use crate::{ProjectError, outside};

/// What keeping by a rule will do.
#[derive(Debug, Clone)]
pub struct KeepPlan {
    /// Each release that still has its content, with the reason why it stays; none: its content goes.
    pub releases: Vec<(KnownRelease, Option<Reason>)>,
    room: RoomPlan,
}

impl KeepPlan {
    /// Returns the releases whose content goes.
    pub fn going(&self) -> impl Iterator<Item = &KnownRelease> {
        self.releases.iter().filter(|(_, reason)| reason.is_none()).map(|(release, _)| release)
    }

    /// Returns the bytes of packs that are freed, less those that are written anew.
    pub fn freed(&self) -> u64 {
        self.room.removed.saturating_sub(self.room.written)
    }

    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.room.is_empty() && self.going().next().is_none()
    }
}

impl Locked {
    /// Plans what stays by a rule; changes nothing.
    ///
    /// # Errors
    /// Those of the ledger and the store; a release that stays and is damaged stops it.
    pub fn plan_keep(&self, rule: KeepRule) -> Result<KeepPlan, ProjectError> {
        let events = self.open.events()?;
        let mut editions: Vec<Name> = events.iter().map(|event| event.edition.clone()).collect();
        editions.sort();
        editions.dedup();
        let boards: Vec<Board> = editions.iter().map(|edition| Board::fold(edition, &events)).collect();
        let releases = choose(rule, &boards, &events, outside::now());
        let store = &self.open.store;
        let mut keep: Vec<TreeId> = Vec::new();
        for (release, _) in releases.iter().filter(|(_, reason)| reason.is_some()) {
            keep.extend(store.record(release.id)?.sealed().iter().map(|depot| depot.tree));
        }
        // What went before is looked at again: a kill may have left a part of it.
        let freed = boards.iter().flat_map(|board| &board.freed).copied();
        let going = releases.iter().filter(|(_, reason)| reason.is_none()).map(|(release, _)| release.id);
        let records = going.chain(freed).filter_map(|id| store.record(id).ok());
        let go: Vec<TreeId> = records.flat_map(|r| r.sealed().iter().map(|d| d.tree).collect::<Vec<_>>()).collect();
        let room = RoomPlan::make(store, &keep, &go)?;
        Ok(KeepPlan { releases, room })
    }

    /// Carries a plan out: the ledger says it first, then the room is freed. Records stay.
    ///
    /// # Errors
    /// Those of the ledger and the store.
    pub fn keep(&mut self, plan: &KeepPlan, progress: &dyn Progress) -> Result<(), ProjectError> {
        let mut by_edition: std::collections::BTreeMap<Name, Vec<_>> = std::collections::BTreeMap::new();
        for release in plan.going() {
            by_edition.entry(release.edition.clone()).or_default().push(release.id);
        }
        for (edition, releases) in by_edition {
            self.open.record(&edition, EventBody::Freed(Freed { releases }), None)?;
        }
        Ok(plan.room.carry_out(&self.open.store, progress)?)
    }
}
