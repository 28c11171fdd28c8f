//! What is known here of each release: where it is, who tried it, what it holds.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use lantern_core::board::{Board, KnownRelease};
use lantern_core::digest::{Digest, ReleaseId};
use lantern_core::event::TitleKey;
use lantern_core::names::Name;
use lantern_core::notes::Notes;
use lantern_core::path::TreePath;
use lantern_core::release::ReleaseRecord;
use lantern_core::tree::Node;
use lantern_core::version::ReleaseName;

use crate::workspace::Workspace;
use crate::{ProjectError, ReleaseError};

/// A release, and where it is.
#[derive(Debug, Clone)]
pub struct ReleaseSummary {
    /// Which edition.
    pub edition: Name,
    /// Its name.
    pub name: ReleaseName,
    /// Its id.
    pub id: ReleaseId,
    /// When.
    pub sealed_at: Timestamp,
    /// Storefronts that have it, by the project's names.
    pub pushed_to: BTreeSet<Name>,
    /// Branches that have it, each with its storefront before it.
    pub live_on: BTreeSet<(Name, Name)>,
    /// Targets that someone started and said yes to.
    pub tried_yes: BTreeSet<Name>,
    /// Targets that someone started and said no to.
    pub tried_no: BTreeSet<Name>,
    /// The targets that it has; empty where that is not known.
    pub targets: Vec<Name>,
    /// The storefront that it was found at, where it was sealed on another computer.
    pub found_at: Option<Name>,
    /// What its builds are for, as it was said when they were pushed.
    pub messages: BTreeSet<String>,
    /// What builds say of themselves inside and the release does not, by target.
    pub claims: BTreeMap<Name, Vec<String>>,
    /// Why, when it was withdrawn.
    pub withdrawn: Option<String>,
    /// Whether only its record is left.
    pub is_freed: bool,
}

/// What a release holds.
#[derive(Debug)]
pub struct ReleaseShown {
    /// The release.
    pub release: KnownRelease,
    /// Its record.
    pub record: ReleaseRecord,
    /// For each target that is as it was in an earlier release: the first that had it so.
    pub unchanged_since: BTreeMap<Name, ReleaseName>,
    /// Why, when it was withdrawn.
    pub withdrawn: Option<String>,
    /// Whether only its record is left.
    pub is_freed: bool,
    /// What storefronts have of it.
    pub builds: Vec<BuildThere>,
}

/// A build at a storefront, and what was said of it.
#[derive(Debug, Clone)]
pub struct BuildThere {
    /// The project's name for the storefront.
    pub storefront: Name,
    /// The number that it has there.
    pub number_there: u64,
    /// For the team.
    pub message: Option<String>,
    /// For players.
    pub notes: Notes,
}

/// A file of a depot.
#[derive(Debug, Clone)]
pub struct FileHeld {
    /// Which depot.
    pub depot: String,
    /// Below the depot's root.
    pub path: TreePath,
    /// Bytes.
    pub size: u64,
    /// Of its bytes.
    pub digest: Digest,
    /// Whether it is marked as a program.
    pub executable: bool,
}

impl Workspace {
    /// Says of every release of the editions that are meant where it is, newest first.
    ///
    /// # Errors
    /// Those of the ledger.
    pub fn summaries(&self) -> Result<Vec<ReleaseSummary>, ProjectError> {
        let mut out = Vec::new();
        for edition in self.project.editions() {
            let board = self.board(&edition)?;
            let titles = self.titles(&board, &edition)?;
            out.extend(board.releases.iter().map(|release| self.summary(&board, &titles, release)));
        }
        out.sort_by_key(|r: &ReleaseSummary| std::cmp::Reverse(r.name.number));
        Ok(out)
    }

    fn summary(&self, board: &Board, titles: &BTreeMap<Name, TitleKey>, release: &KnownRelease) -> ReleaseSummary {
        let called = |title: &TitleKey| titles.iter().find(|(_, known)| *known == title).map(|(name, _)| name.clone());
        let pushed = || board.pushed.iter().filter(|p| p.release == release.id);
        let live = board.branches.iter().filter(|(_, facts)| facts.targets.values().any(|b| b.release == release.id));
        let tried = |yes: bool| {
            let said = board.tried.get(&release.id).into_iter().flatten();
            said.filter(move |(_, said)| **said == yes).map(|(target, _)| target.clone()).collect()
        };
        let record = self.store.record(release.id).ok();
        let differing = record.iter().flat_map(|record| record.targets.iter().map(move |target| (record, target)));
        let differing =
            differing.map(|(record, t)| (t.target.clone(), t.claims.differing(&record.game, &release.name)));
        ReleaseSummary {
            edition: release.edition.clone(),
            name: release.name.clone(),
            id: release.id,
            sealed_at: release.sealed_at,
            pushed_to: pushed().filter_map(|p| called(&p.storefront.key())).collect(),
            live_on: live.filter_map(|((title, branch), _)| Some((called(title)?, branch.clone()))).collect(),
            tried_yes: tried(true),
            tried_no: tried(false),
            targets: release.targets.clone(),
            found_at: release.found_at.as_ref().map(|storefront| storefront.name.clone()),
            messages: pushed().filter_map(|p| p.message.clone()).collect(),
            claims: differing.filter(|(_, claims)| !claims.is_empty()).collect(),
            withdrawn: board.withdrawn.get(&release.id).cloned(),
            is_freed: board.freed.contains(&release.id),
        }
    }

    /// Says what a release holds.
    ///
    /// # Errors
    /// Those of the ledger and of the store; [`ReleaseError::SealedElsewhere`] where its record is not here.
    pub fn show(&self, release: KnownRelease) -> Result<ReleaseShown, ProjectError> {
        let record = self.record_of(&release)?;
        let unchanged_since = self.unchanged_since(&release, &record)?;
        let board = self.board(&release.edition)?;
        let builds = board.pushed.iter().filter(|p| p.release == release.id).map(|p| BuildThere {
            storefront: p.storefront.name.clone(),
            number_there: p.number_there,
            message: p.message.clone(),
            notes: p.notes.clone(),
        });
        Ok(ReleaseShown {
            unchanged_since,
            withdrawn: board.withdrawn.get(&release.id).cloned(),
            is_freed: board.freed.contains(&release.id),
            builds: builds.collect(),
            record,
            release,
        })
    }

    /// Lists every file that a release holds, depot by depot.
    ///
    /// # Errors
    /// [`ReleaseError::Freed`] where only its record is left; those of the store.
    pub fn files_of(&self, shown: &ReleaseShown) -> Result<Vec<FileHeld>, ProjectError> {
        if shown.is_freed {
            return Err(ReleaseError::Freed(shown.release.name.clone()).into());
        }
        let mut out = Vec::new();
        for (_, depot) in shown.record.different_depots() {
            for (path, node) in self.store.tree(depot.tree)?.iter() {
                if let Node::File { size, digest, executable } = node {
                    let (path, size, digest, executable) = (path.clone(), *size, *digest, *executable);
                    out.push(FileHeld { depot: depot.depot.to_string(), path, size, digest, executable });
                }
            }
        }
        Ok(out)
    }
}
