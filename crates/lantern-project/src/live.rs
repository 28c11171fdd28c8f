//! What players have on each branch, target by target, by what is known here.

use std::collections::BTreeMap;

use jiff::Timestamp;
use lantern_core::audience::Audience;
use lantern_core::board::{Board, SaidOf};
use lantern_core::config::Storefront;
use lantern_core::digest::ReleaseId;
use lantern_core::event::{BranchBuild, BranchFacts, Pushed, TitleKey};
use lantern_core::names::Name;
use lantern_core::release::ReleaseRecord;
use lantern_core::version::ReleaseName;

use crate::ProjectError;
use crate::state_folder::take_lock;
use crate::status::{StepAt, steps_at};
use crate::storefronts::Heard;
use crate::workspace::Workspace;

/// What a storefront has of one edition.
#[derive(Debug)]
pub struct LiveStorefront {
    /// Which edition.
    pub edition: Name,
    /// The project's name for it.
    pub storefront: Name,
    /// The newest release that is sealed and not withdrawn.
    pub newest: Option<ReleaseName>,
    /// When it was last heard.
    pub as_of: Option<Timestamp>,
    /// Who said last how things stand there, where no program can ask.
    pub said: Option<SaidOf>,
    /// Whether people do what is done there.
    pub by_hand: bool,
    /// Whether a connector is asked to do it.
    pub connector: bool,
    /// What people have begun there, oldest first.
    pub steps: Vec<StepAt>,
    /// In the order of the configuration; those that only the storefront knows come last.
    pub branches: Vec<LiveBranch>,
}

/// A branch, and what its players have.
#[derive(Debug)]
pub struct LiveBranch {
    /// Its name.
    pub branch: Name,
    /// Who follows it, as far as the configuration says so.
    pub audience: Option<Audience>,
    /// How often it was moved.
    pub revision: u64,
    /// Whether the storefront has it, as far as it was ever heard.
    pub is_there: bool,
    /// By target.
    pub targets: BTreeMap<Name, LiveBuild>,
}

/// What players of a target have on a branch.
#[derive(Debug, Clone, PartialEq)]
pub struct LiveBuild {
    /// The build.
    pub build: BranchBuild,
    /// Since when.
    pub since: Option<Timestamp>,
    /// Who put it there.
    pub by: Option<String>,
    /// Whether there is a newer release for this target.
    pub is_behind: bool,
    /// The newest release, where it has nothing for this target.
    pub not_in: Option<ReleaseName>,
    /// Why, when it was withdrawn.
    pub withdrawn: Option<String>,
    /// The storefront's number of this target, where each has one of its own.
    pub number_of_target: Option<u64>,
    /// What the build is for.
    pub message: Option<String>,
    /// What the build says of itself inside and the release does not.
    pub claims: Vec<String>,
    /// Whether it was left unsigned, as someone had said.
    pub unsigned: bool,
    /// The first release that had the very same for this target, where that is an earlier one.
    pub unchanged_since: Option<ReleaseName>,
}

/// Why no storefront was asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NotAsked {
    /// What is heard could not be recorded, and so would be shown without being known the next time.
    ReadOnly,
    /// Another lantern is working here, and nobody waits to read.
    Busy,
}

/// What came of asking every storefront.
#[derive(Debug)]
pub struct AskedAll {
    /// The workspace, which knows what was heard.
    pub workspace: Workspace,
    /// By the project's name.
    pub heard: BTreeMap<Name, Heard>,
    /// Why none was asked.
    pub not_asked: Option<NotAsked>,
}

impl Workspace {
    /// Asks every storefront what it has and records what is news, where that can be done now.
    ///
    /// # Errors
    /// Only those of this computer; a storefront that does not answer is in the result.
    pub fn ask_all(self) -> Result<AskedAll, ProjectError> {
        let not_asked = |workspace, why| AskedAll { workspace, heard: BTreeMap::new(), not_asked: Some(why) };
        if self.is_read_only() {
            return Ok(not_asked(self, NotAsked::ReadOnly));
        }
        let lock = match take_lock(&self.project.state("")) {
            Ok(lock) => lock,
            Err(ProjectError::Busy { .. }) => return Ok(not_asked(self, NotAsked::Busy)),
            Err(error) => return Err(error),
        };
        let mut session = self.locked_by(lock);
        let heard = session.refresh()?.into_iter().collect();
        Ok(AskedAll { workspace: session.into_workspace(), heard, not_asked: None })
    }

    /// Says what every storefront has of an edition, without asking anybody.
    ///
    /// # Errors
    /// Those of the ledger.
    pub fn live(&self, edition: &Name) -> Result<Vec<LiveStorefront>, ProjectError> {
        let board = self.recent_board(edition)?;
        let titles = self.titles(&board, edition)?;
        let mut builds = Builds { open: self, board: &board, known: BTreeMap::new() };
        let mut out = Vec::new();
        let configured = self.project.config().storefronts.iter();
        for (name, configured) in configured.filter(|(_, configured)| configured.handles.contains_key(edition)) {
            let title = titles.get(name);
            let as_of = title.map(|title| self.last_heard(title)).transpose()?.flatten();
            out.push(LiveStorefront {
                edition: edition.clone(),
                storefront: name.clone(),
                newest: board.release(None).map(|r| r.name.clone()),
                as_of,
                said: title.and_then(|title| board.said.get(title)).cloned(),
                by_hand: configured.by_hand().is_some(),
                connector: configured.connector().is_some(),
                steps: steps_at(&board, title),
                branches: builds.branches(title, configured)?,
            });
        }
        Ok(out)
    }
}

/// A record, and since when each of its targets is the same.
type KnownBuild = (ReleaseRecord, BTreeMap<Name, ReleaseName>);

/// What is known of the builds that are live.
struct Builds<'a> {
    open: &'a Workspace,
    board: &'a Board,
    /// By release: its record, and since when each of its targets is the same.
    known: BTreeMap<ReleaseId, Option<KnownBuild>>,
}

impl Builds<'_> {
    /// The branches of a title, and those that the configuration has and nobody heard of.
    fn branches(&mut self, title: Option<&TitleKey>, configured: &Storefront) -> Result<Vec<LiveBranch>, ProjectError> {
        let board = self.board;
        let mut branches = Vec::new();
        for ((of, branch), facts) in board.branches.iter().filter(|((of, _), _)| Some(of) == title) {
            let mut targets = BTreeMap::new();
            for (target, build) in &facts.targets {
                targets.insert(target.clone(), self.live(of, facts, target, build)?);
            }
            let (branch, revision) = (branch.clone(), facts.revision);
            let audience = configured.audience(&branch);
            branches.push(LiveBranch { branch, audience, revision, is_there: true, targets });
        }
        let is_heard = !branches.is_empty();
        let unheard = configured.branches.iter().filter(|(name, _)| !branches.iter().any(|b| b.branch == *name));
        let unheard = unheard.map(|(branch, audience)| LiveBranch {
            branch: branch.clone(),
            audience: Some(*audience),
            revision: 0,
            is_there: !is_heard,
            targets: BTreeMap::new(),
        });
        branches.extend(unheard.collect::<Vec<_>>());
        let place_of = |name: &Name| configured.branches.iter().position(|(known, _)| known == name);
        branches.sort_by_key(|b| (place_of(&b.branch).unwrap_or(usize::MAX), b.branch.clone()));
        Ok(branches)
    }

    fn live(
        &mut self,
        title: &TitleKey,
        facts: &BranchFacts,
        target: &Name,
        build: &BranchBuild,
    ) -> Result<LiveBuild, ProjectError> {
        let board = self.board;
        let key = ((title.clone(), facts.branch.clone()), target.clone());
        let newest = board.newest_of(target).map(|r| r.name.number);
        let is_that = |p: &&Pushed| p.number_there == build.number_there && p.release == build.release;
        let pushed = board.pushed.iter().find(|p| p.storefront.is_at(title) && is_that(p));
        let known = self.known(build.release)?;
        let record = known.and_then(|(record, _)| Some((record, record.targets.iter().find(|t| t.target == *target)?)));
        Ok(LiveBuild {
            build: build.clone(),
            since: board.since.get(&key).copied().flatten(),
            by: facts.by.clone(),
            is_behind: newest.is_some_and(|newest| build.name.number < newest),
            not_in: board.release(None).filter(|newest| !newest.has(target)).map(|newest| newest.name.clone()),
            withdrawn: board.withdrawn.get(&build.release).cloned(),
            number_of_target: pushed.and_then(|pushed| pushed.numbers.get(target).copied()),
            message: pushed.and_then(|pushed| pushed.message.clone()),
            unsigned: record.is_some_and(|(_, target)| target.unsigned),
            claims: record.map(|(record, t)| t.claims.differing(&record.game, &build.name)).unwrap_or_default(),
            unchanged_since: known.and_then(|(_, since)| since.get(target).cloned()),
        })
    }

    /// What is known here of a release; nothing where its record is not here.
    fn known(&mut self, id: ReleaseId) -> Result<Option<&KnownBuild>, ProjectError> {
        if !self.known.contains_key(&id) {
            let release = self.board.releases.iter().find(|r| r.id == id);
            let record = release.and_then(|r| Some((r, self.open.store.record(r.id).ok()?)));
            let known = match record {
                Some((release, record)) => {
                    let since = self.open.unchanged_since(release, &record)?;
                    Some((record, since))
                }
                None => None,
            };
            self.known.insert(id, known);
        }
        Ok(self.known.get(&id).and_then(Option::as_ref))
    }
}
