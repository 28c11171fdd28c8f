//! What was sealed before, and whether it is still there.

use std::collections::BTreeMap;

use lantern_core::board::{Board, KnownRelease};
use lantern_core::finding::{Code, Finding};
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::release::{ReleaseRecord, TargetRecord};
use lantern_core::version::{ReleaseName, Version};

use crate::ProjectError;
use crate::workspace::{Session, Workspace};

impl Session {
    /// What is said of the store after something was sealed: that files of it were found to be damaged, or missing before.
    pub(super) fn damage(&self, was_whole: bool) -> Result<Option<(Option<Name>, Finding)>, ProjectError> {
        let what = match self.workspace.store.damaged()?.len() {
            0 if was_whole => return Ok(None),
            0 => "files of the store were missing: what this release needs of them",
            1 => "a file of the store is damaged: what this release needs of it",
            _ => "files of the store are damaged: what this release needs of it",
        };
        let what = format!("{what} was taken from the exports again");
        let fix = "earlier releases may lack something: lantern repair";
        Ok(Some((None, Finding::of(Code::StoreDamaged, what, fix))))
    }

    /// Whether all of the newest release that was sealed here is in the store, as far as names and lengths show.
    pub(super) fn is_newest_whole(&self, edition: &Name) -> Result<bool, ProjectError> {
        let board = self.workspace.board(edition)?;
        let is_here =
            |known: &&&KnownRelease| !board.freed.contains(&known.id) && self.workspace.store.record(known.id).is_ok();
        board.newest_first().iter().find(is_here).map_or(Ok(true), |known| self.is_whole(known))
    }

    /// Returns the release that the very same input made before, if it is still whole in the store, and can still go to
    /// every storefront where it is not yet.
    ///
    /// # Errors
    /// [`ProjectError::Findings`] when it was withdrawn.
    pub(super) fn known(
        &self,
        edition: &Name,
        version: &Version,
        targets: &[TargetRecord],
    ) -> Result<Option<KnownRelease>, ProjectError> {
        let input = self.input(edition, version, targets);
        let board = self.workspace.board(edition)?;
        let mut same = board.releases.iter().rev().filter(|release| release.input == Some(input)).peekable();
        let Some(known) = same.peek() else { return Ok(None) };
        if let Some(because) = board.withdrawn.get(&known.id) {
            let what = format!("the exports are exactly {}, which was withdrawn: {}", known.name, shown(because));
            let fix = "export the game again, or raise the version to release the very same once more";
            // Where it is accepted, it is made once more under a number of its own.
            self.project().not_accepted(vec![(None, Finding::of(Code::WithdrawnBefore, what, fix))])?;
            return Ok(None);
        }
        // Another computer may have sealed the same, with other time stamps: what is whole here counts.
        for known in same.filter(|known| !board.withdrawn.contains_key(&known.id) && !board.freed.contains(&known.id)) {
            if self.is_whole(known)? && !self.is_passed(&board, edition, known.name.number, Some(known.id))? {
                return Ok(Some(known.clone()));
            }
        }
        Ok(None)
    }

    /// Whether all of a release is in the store.
    pub(super) fn is_whole(&self, known: &KnownRelease) -> Result<bool, ProjectError> {
        let store = &self.workspace.store;
        let Ok(record) = store.record(known.id) else { return Ok(false) };
        for depot in record.sealed() {
            if !store.has_tree(depot.tree)? {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

impl Workspace {
    /// Says for each target of a release since which earlier one it is the same, byte by byte.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn unchanged_since(
        &self,
        release: &KnownRelease,
        record: &ReleaseRecord,
    ) -> Result<BTreeMap<Name, ReleaseName>, ProjectError> {
        let recent = self.recent_board(&release.edition)?;
        let (same, is_sure) = self.same_before(&recent, release, record);
        if is_sure || recent.left_out == 0 {
            return Ok(same);
        }
        Ok(self.same_before(&*self.board(&release.edition)?, release, record).0)
    }

    /// Says for each target since when it is the same, by what a board has of the releases before, and whether no older
    /// release could say otherwise.
    fn same_before(
        &self,
        board: &Board,
        release: &KnownRelease,
        record: &ReleaseRecord,
    ) -> (BTreeMap<Name, ReleaseName>, bool) {
        let mut same: BTreeMap<Name, ReleaseName> = BTreeMap::new();
        let mut open: BTreeMap<&Name, &TargetRecord> = record.targets.iter().map(|t| (&t.target, t)).collect();
        for known in board.newest_first().into_iter().filter(|r| r.name.number < release.name.number) {
            if open.is_empty() {
                break;
            }
            let Ok(before) = self.store.record(known.id) else { continue };
            for target in &before.targets {
                match open.get(&target.target) {
                    Some(now) if now.tree == target.tree => {
                        same.insert(target.target.clone(), known.name.clone());
                    }
                    Some(_) => {
                        open.remove(&target.target);
                    }
                    None => {}
                }
            }
        }
        (same, open.is_empty())
    }
}
