//! Where the game stands, and the one next step.

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::sync::{MutexGuard, PoisonError};

use jiff::Timestamp;
use lantern_core::board::{Board, KnownRelease};
use lantern_core::event::TitleKey;
use lantern_core::finding::Finding;
use lantern_core::names::Name;
use lantern_core::next::{Situation, Step};
use lantern_core::release::TargetRecord;
use lantern_core::version::{ReleaseName, Version};

use crate::approvals::WaitingApproval;
use crate::looked::Looked;
use crate::workspace::Workspace;
use crate::{ProjectError, changing, environment};

pub use lantern_core::next::Exports;

/// How the newest release stands at a storefront, by what is known here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AtStorefront {
    /// The project's name for it.
    pub storefront: Name,
    /// Whether there is access to it.
    pub connected: bool,
    /// Whether the newest release is there.
    pub pushed: bool,
    /// Branches that lack nothing, in the order of the configuration.
    pub live_on: Vec<Name>,
    /// Branches that lack the newest release for some target.
    pub behind: Vec<Name>,
    /// Whether people do what is done there.
    pub by_hand: bool,
    /// What people have begun there, oldest first.
    pub steps: Vec<StepAt>,
}

/// The step that comes next of what a person does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StepAt {
    /// Which.
    pub step: Name,
    /// The release that it is about.
    pub release: ReleaseName,
    /// Whose step it is.
    pub by: Option<String>,
    /// Since when it waits for someone, and until when that usually takes.
    pub waits: Option<(Timestamp, Option<Timestamp>)>,
}

/// Where the game stands.
#[derive(Debug, Clone)]
pub struct Status {
    /// The newest release that was not withdrawn.
    pub newest: Option<KnownRelease>,
    /// How the exports stand to it.
    pub exports: Exports,
    /// Those that have the edition, in the order of their names.
    pub storefronts: Vec<AtStorefront>,
    /// Targets of the newest release that someone tried and that do not show what they should.
    pub tried_no: Vec<Name>,
    /// What is said of keys of which no copy ever opened.
    pub keys: Vec<Finding>,
    /// Bundles that a system's vendor looks at.
    pub approvals: Vec<WaitingApproval>,
    /// The step that leads on; none when everything is done.
    pub next: Option<Step>,
}

impl Workspace {
    /// Says where an edition stands, without asking anybody and without reading exports whole.
    ///
    /// # Errors
    /// Those of the ledger, and of the folder where access is kept.
    pub fn status(&self, edition: &Name) -> Result<Status, ProjectError> {
        let mut board = self.recent_board(edition)?;
        let mut exports = self.exports(edition, &board);
        if exports.is_none() {
            board = self.board(edition)?;
            exports = self.exports(edition, &board);
        }
        let exports = exports.unwrap_or(Exports::Changed);
        let newest = board.release(None).cloned();
        let titles = self.connected(edition)?;
        let (config, now) = (self.project.config(), environment::now());
        let situation = Situation { config, edition, board: &board, exports, titles: &titles, now };
        let mut storefronts = Vec::new();
        let configured = self.project.config().storefronts.iter();
        for (name, configured) in configured.filter(|(_, configured)| configured.handles.contains_key(edition)) {
            let title = titles.get(name);
            let release = newest.as_ref().map(|r| r.id);
            let has_build = |title: &TitleKey| release.is_some_and(|id| board.build_of(title, id).is_some());
            let is_there = |branch: &&Name| title.is_none_or(|title| situation.is_there(title, branch));
            let branches = configured.branches.iter().map(|(branch, _)| branch).filter(is_there).cloned();
            let is_even =
                |branch: &Name| title.is_some_and(|title| situation.lags(configured, title, branch).is_empty());
            let (live_on, behind) = branches.partition(is_even);
            storefronts.push(AtStorefront {
                storefront: name.clone(),
                connected: title.is_some(),
                pushed: title.is_some_and(has_build),
                live_on,
                behind,
                by_hand: configured.by_hand().is_some(),
                steps: steps_at(&board, title),
            });
        }
        let tried_no = newest.as_ref().map(|release| said_no(&board, release)).unwrap_or_default();
        let next = situation.next();
        let keys = self.project.keys_without_backup(edition);
        let approvals = self.waiting_approvals(edition, &board);
        Ok(Status { newest, exports, storefronts, tried_no, keys, approvals, next })
    }

    /// Returns the one next step of all editions that are meant; none when everything is done.
    ///
    /// # Errors
    /// Those of the ledger, and of the folder where access is kept.
    pub fn next_step(&self) -> Result<Option<Step>, ProjectError> {
        for edition in self.project.editions() {
            let step = self.status(&edition)?.next;
            if step.is_some() {
                return Ok(step);
            }
        }
        Ok(None)
    }

    /// A target as its export was, without what its build says of itself; none where its content was freed.
    fn as_it_was(&self, target: &TargetRecord) -> Option<TargetRecord> {
        changing::as_exported(&self.store, &target.without_claims()).ok().flatten()
    }

    /// How the exports stand to what was sealed; none where that follows from releases that are not on this board.
    fn exports(&self, edition: &Name, board: &Board) -> Option<Exports> {
        let now = match self.look_at_exports(edition) {
            Looked::NotHere => return Some(Exports::NotHere),
            Looked::Wrong => return Some(Exports::Wrong),
            Looked::Others => return Some(Exports::Changed),
            Looked::Unread => return Some(Exports::Unread),
            Looked::Known(now) => now,
        };
        let Ok(version) = self.project.version(edition) else { return Some(Exports::Changed) };
        let is_withdrawn = |release: &KnownRelease| board.withdrawn.contains_key(&release.id);
        let mut records =
            board.newest_first().into_iter().filter_map(|r| Some((r, self.store.record(r.id).ok()?))).peekable();
        if let Some((release, record)) = records.peek()
            && is_withdrawn(release)
            && record.version == version
            && record.targets.iter().map(|target| self.as_it_was(target)).eq(now.iter().map(|now| Some(now.clone())))
        {
            return Some(Exports::Withdrawn);
        }
        // A release of a part leaves the others as they were in one before: of each target the last one counts.
        let mut last: BTreeMap<&Name, Option<TargetRecord>> = BTreeMap::new();
        let mut newest: Option<Version> = None;
        for (_, record) in records.filter(|(release, _)| !is_withdrawn(release)) {
            newest.get_or_insert_with(|| record.version.clone());
            for target in now.iter().filter(|now| !last.contains_key(&now.target)).collect::<Vec<_>>() {
                if let Some(before) = record.targets.iter().find(|before| before.target == target.target) {
                    last.insert(&target.target, self.as_it_was(before));
                }
            }
            if last.len() == now.len() {
                break;
            }
        }
        if last.len() < now.len() && board.left_out > 0 {
            return None;
        }
        let is_sealed = |now: &TargetRecord| last.get(&now.target).is_some_and(|last| last.as_ref() == Some(now));
        // A version that was given for once is not asked for again by an older one that is written down.
        let is_version = newest.is_some_and(|newest| {
            matches!(version.order(&newest), Some(Ordering::Less | Ordering::Equal)) || newest == version
        });
        Some(if is_version && now.iter().all(is_sealed) { Exports::Sealed } else { Exports::Changed })
    }
}

impl Workspace {
    /// Looks at the exports of an edition, once in a command: there may be very many files.
    fn look_at_exports(&self, edition: &Name) -> Looked {
        if let Some(known) = self.looked().get(edition) {
            return known.clone();
        }
        let (divided, digests) = self.project.divide_as_known(edition);
        let looked = if divided.is_not_here() {
            Looked::NotHere
        } else if divided.stopping().is_some() {
            Looked::Wrong
        } else {
            Looked::at(&divided, &digests)
        };
        self.looked().insert(edition.clone(), looked.clone());
        looked
    }

    /// Takes what a command has seen of exports for what they look like until it ends.
    pub(crate) fn have_looked(&self, edition: &Name, looked: Looked) {
        self.looked().insert(edition.clone(), looked);
    }

    fn looked(&self) -> MutexGuard<'_, BTreeMap<Name, Looked>> {
        self.looked.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Returns the step that comes next of everything that people have begun at a title.
pub(crate) fn steps_at(board: &Board, title: Option<&TitleKey>) -> Vec<StepAt> {
    let open = board.open_walks();
    let walks = open.iter().filter(|walk| title.is_some_and(|title| walk.begun.storefront.is_at(title)));
    let next = walks.filter_map(|walk| {
        let step = walk.current()?;
        let (release, by) = (walk.begun.name.clone(), step.by.clone());
        Some(StepAt { step: step.id.clone(), release, by, waits: walk.waits_until() })
    });
    next.collect()
}

/// Returns the targets of a release that someone tried and said no to.
pub(crate) fn said_no(board: &Board, release: &KnownRelease) -> Vec<Name> {
    let said = board.tried.get(&release.id).into_iter().flatten();
    said.filter(|(_, yes)| !**yes).map(|(target, _)| target.clone()).collect()
}
