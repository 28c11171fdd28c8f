//! `promote` and `rollback`: a branch comes to have other builds.

use std::collections::{BTreeMap, HashSet};

use jiff::SignedDuration;
use lantern_core::board::KnownRelease;
use lantern_core::branch::{Step, before_now};
use lantern_core::choices::Players;
use lantern_core::config::Audience;
use lantern_core::event::{Action, BranchBuild, BranchFacts, EventId, StorefrontRef};
use lantern_core::names::Name;
use lantern_core::progress::Progress;
use lantern_core::rules::{HouseRules, longest_stay};
use lantern_core::step::Step as StepByHand;
use lantern_core::system::System;
use lantern_core::version::{ReleaseAsked, ReleaseName};
use lantern_storefront::StorefrontError;
use lantern_storefront::protocol::{Branch, Build, BuildDepot, Move, Moved as BranchMove, problem};

use crate::actions::DoneThere;
use crate::downloads::{Downloads, downloads};
use crate::error::{Class, Explained};
use crate::needs::{KnownOf, NeedShown};
use crate::releases::ReleaseError;
use crate::storefronts::{OpenStorefront, open_storefront};
use crate::update_files::{self, Pair, UpdateBrought, pairs_of};
use crate::workspace::Session;
use crate::{ProjectError, environment};

/// What moving a branch will do.
#[derive(Debug, Clone)]
pub struct MovePlan {
    /// Of which edition.
    pub edition: Name,
    /// Where.
    pub storefront: StorefrontRef,
    /// The storefront's name for people.
    pub storefront_name: String,
    /// Which branch.
    pub branch: Name,
    /// Who follows it.
    pub audience: Audience,
    /// The release that players get; of several, the newest. Its name confirms the action.
    pub release: BranchBuild,
    /// Each target that the plan is about.
    pub changes: Vec<Change>,
    /// Targets of the branch that the plan leaves as they are.
    pub stays: Vec<(Name, BranchBuild)>,
    /// What is to be known of the release before it is given to players; none for what is put back.
    pub known: Option<KnownOf>,
    /// The branch as it is now.
    pub before: BranchFacts,
    /// The branch's whole new map.
    pub wanted: BTreeMap<Name, u64>,
    /// The earlier revision that is put back; none for a promotion.
    pub restores: Option<u64>,
    /// For the team.
    pub because: Option<String>,
    /// What a person does for it, at a storefront by hand.
    pub steps: Option<Vec<StepByHand>>,
    /// Whether a connector is asked first.
    pub connector: bool,
    /// What the branch needs of a release that is put on it, and whether it has it.
    pub needs: Vec<NeedShown>,
}

/// What a move changes for one target.
#[derive(Debug, Clone)]
pub struct Change {
    /// The target.
    pub target: Name,
    /// What it runs on.
    pub systems: Vec<System>,
    /// What players have now.
    pub before: Option<BranchBuild>,
    /// What they get; none when the target leaves the branch.
    pub after: Option<BranchBuild>,
    /// Bytes that a player who has the one downloads for the other; without depots that not everybody has.
    pub update: Option<u64>,
    /// Bytes that a new player downloads; without depots that not everybody has. None where the storefront alone knows.
    pub whole: Option<u64>,
    /// Size of the installed files, in bytes; without depots that not everybody has.
    pub installed: u64,
    /// Depots that not everybody has, with who has them.
    pub more: Vec<(Name, Players)>,
    /// Update files that are not there yet.
    pub(crate) pairs: Vec<Pair>,
}

impl MovePlan {
    /// Whether the branch has all of it already.
    pub fn is_done(&self) -> bool {
        self.changes.iter().all(|c| c.before == c.after)
    }

    /// Refuses a release that someone tried and said no to, unless it is to be moved `anyway`.
    ///
    /// # Errors
    /// [`MoveError::TrialFailed`].
    pub fn refuse_failed_trial(&self, anyway: bool) -> Result<(), ProjectError> {
        match self.known.as_ref().filter(|known| !known.tried_no.is_empty() && !anyway) {
            Some(known) => {
                let (release, targets) = (self.release.name.clone(), known.tried_no.clone());
                Err(MoveError::TrialFailed { release, targets }.into())
            }
            None => Ok(()),
        }
    }

    /// Refuses a release that lacks what the branch needs.
    ///
    /// # Errors
    /// [`MoveError::Lacks`].
    pub fn refuse_lacking(&self) -> Result<(), ProjectError> {
        refuse_lacking(&self.release.name, &self.branch, &self.needs)
    }

    /// Whether every player gets it: then the release's name must be given, a plain yes is not enough.
    pub fn is_for_everyone(&self) -> bool {
        self.audience.may_be_everyone()
    }

    /// Releases that players have under the very version that they get another one of.
    pub fn same_version(&self) -> Vec<&ReleaseName> {
        let mut names: Vec<&ReleaseName> = Vec::new();
        for change in &self.changes {
            let (Some(before), Some(after)) = (&change.before, &change.after) else { continue };
            let is_same = before.name.version == after.name.version && before.release != after.release;
            if is_same && !names.contains(&&before.name) {
                names.push(&before.name);
            }
        }
        names
    }

    /// Whether some players get an older release than they have.
    pub fn goes_back(&self) -> bool {
        let older = |c: &Change| Some(c.after.as_ref()?.name.number < c.before.as_ref()?.name.number);
        self.changes.iter().any(|c| older(c) == Some(true))
    }
}

/// Refuses a release that lacks what a branch needs.
pub(crate) fn refuse_lacking(release: &ReleaseName, branch: &Name, needs: &[NeedShown]) -> Result<(), ProjectError> {
    let lacking: Vec<NeedShown> = needs.iter().filter(|need| need.lacks.is_some()).cloned().collect();
    if lacking.is_empty() {
        return Ok(());
    }
    Err(MoveError::Lacks { release: release.clone(), branch: branch.clone(), lacking }.into())
}

/// A branch with everything around it, as its storefront just said.
struct BranchState {
    storefront: OpenStorefront,
    storefront_name: String,
    rules: HouseRules,
    now: Branch,
    builds: Vec<Build>,
}

impl Session {
    fn read_branch(&mut self, storefront: &str, edition: &Name, branch: &Name) -> Result<BranchState, ProjectError> {
        let storefront = open_storefront(&self.workspace, edition, storefront)?;
        let rules = storefront.rules()?;
        let refusals = rules.refuse_promote(branch);
        if !refusals.is_empty() {
            return Err(ProjectError::Rules { storefront: storefront.reference.name, refusals });
        }
        let (branches, builds) = self.news_of(&storefront)?;
        self.learn(&storefront, &branches, &builds)?;
        let nonsense = || storefront.nonsense("a list of branches", "a branch of the house rules is not in it");
        let now = branches.into_iter().find(|b| b.facts.branch == *branch).ok_or_else(nonsense)?;
        let storefront_name = storefront.name();
        Ok(BranchState { storefront, storefront_name, rules, now, builds })
    }

    /// Plans to put a pushed release on a branch: asks the storefront, changes nothing there.
    ///
    /// # Errors
    /// [`MoveError::NotPushed`], [`ProjectError::Rules`], and those of the storefront, store and ledger.
    pub fn plan_promote(
        &mut self,
        storefront: &str,
        branch: &Name,
        release: KnownRelease,
        because: Option<String>,
    ) -> Result<MovePlan, ProjectError> {
        let state = self.read_branch(storefront, &release.edition, branch)?;
        if let Some(because) = self.workspace.board(&release.edition)?.withdrawn.get(&release.id) {
            return Err(ReleaseError::Withdrawn { release: release.name, because: because.clone() }.into());
        }
        let storefront = state.storefront.reference.name.clone();
        let not_pushed = || MoveError::NotPushed { release: release.name.clone(), storefront };
        // A release that was pushed target by target has several builds: of each target the newest counts.
        let of_release = state.builds.iter().rev().filter(|b| b.release == release.id);
        let mut builds: BTreeMap<Name, &Build> = BTreeMap::new();
        for build in of_release {
            for target in build.targets.keys().filter(|target| self.project().means(target)) {
                builds.entry(target.clone()).or_insert(build);
            }
        }
        let mut different: Vec<&Build> = builds.values().copied().collect();
        different.sort_by_key(|build| build.number_there);
        different.dedup_by_key(|build| build.number_there);
        let newest = different.last().copied().ok_or_else(not_pushed)?;
        for build in &different {
            self.refuse_too_early(&state, branch, build)?;
        }
        let on_branch = |build: &Build| BranchBuild {
            number_there: build.number_there,
            release: build.release,
            name: build.name.clone(),
        };
        let after = on_branch(newest);
        let changes: Vec<_> = builds.iter().map(|(target, build)| (target.clone(), Some(on_branch(build)))).collect();
        let mut wanted: BTreeMap<Name, u64> =
            state.now.facts.targets.iter().map(|(t, b)| (t.clone(), b.number_there)).collect();
        wanted.extend(builds.iter().map(|(target, build)| (target.clone(), build.number_there)));
        let known = self.known_of(&release, builds.keys())?;
        let needs = state.storefront.configured.needs.get(branch).cloned().unwrap_or_default();
        let needs = self.needs_of(&release, &needs, &known)?;
        let mut plan = self.plan(state, after, changes, wanted, None, because)?;
        (plan.known, plan.needs) = (Some(known), needs);
        Ok(plan)
    }

    /// Plans to put back what a branch of an edition had before, by the storefront's own history: the release that `wanted`
    /// names, or what it had before what it has now. Where the branch has it already there is nothing to do; `confirmed`,
    /// a release's full name, serves for that as well.
    ///
    /// # Errors
    /// [`MoveError::NothingBefore`], [`MoveError::NeverThere`], [`ProjectError::Rules`], and those of the storefront, store
    /// and ledger. [`MoveError::WentBack`] when the branch went back a moment ago and nothing names a release: a
    /// rollback that was cut behind its very last step must not go back twice.
    pub fn plan_rollback(
        &mut self,
        storefront: &str,
        edition: &Name,
        branch: &Name,
        wanted: Option<&ReleaseAsked>,
        confirmed: Option<&str>,
        because: Option<String>,
    ) -> Result<MovePlan, ProjectError> {
        // A rollback that was cut after the storefront had done it must not go back once more.
        let asked = self.workspace.board(edition)?.open.clone();
        let state = self.read_branch(storefront, edition, branch)?;
        let moves =
            state.storefront.branches()?.moves(&state.storefront.title, branch).map_err(state.storefront.fails())?;
        let is_that = |key: &EventId| {
            let asked = asked.get(key).filter(|a| a.storefront.key() == state.storefront.reference.key());
            asked.is_some_and(|a| a.action == Action::Rollback { branch: branch.clone() })
        };
        let withdrawn: HashSet<u64> =
            state.builds.iter().filter(|b| b.withdrawn.is_some()).map(|b| b.number_there).collect();
        let usable = |m: &&BranchMove| !m.facts.targets.values().any(|b| withdrawn.contains(&b.number_there));
        let now = &state.now.facts;
        let has_now = |is_it: &dyn Fn(&BranchBuild) -> bool| !now.targets.is_empty() && now.targets.values().all(is_it);
        let storefront = state.storefront.reference.name.clone();
        let earlier = match wanted {
            Some(wanted) if has_now(&|b| wanted.matches(&b.name)) => None,
            Some(wanted) => {
                let before = || moves.iter().rev().filter(|m| m.facts.revision < now.revision);
                let found = before().filter(usable).find(|m| newest(&m.facts).is_some_and(|b| wanted.matches(&b.name)));
                let never = || {
                    let mut had: Vec<ReleaseName> =
                        before().filter(usable).filter_map(|m| newest(&m.facts)).map(|b| b.name.clone()).collect();
                    had.dedup();
                    let (storefront, branch) = (storefront.clone(), branch.clone());
                    MoveError::NeverThere { storefront, branch, asked: wanted.clone(), had }
                };
                Some(found.ok_or_else(never)?)
            }
            None => {
                let steps: Vec<Step> =
                    moves.iter().map(|m| Step { revision: m.facts.revision, restores: m.restores }).collect();
                let at = |revision: u64| moves.iter().find(|m| m.facts.revision == revision);
                let was_done = moves.last().filter(|m| is_that(&m.key));
                let before = before_now(&steps, |revision| at(revision).as_ref().is_some_and(usable)).and_then(at);
                let is_confirmed = |b: &BranchBuild| confirmed.is_some_and(|name| b.name.to_string() == name);
                let goes_there = before.is_some_and(|m| m.facts.targets.values().any(is_confirmed));
                if was_done.is_none() && !goes_there && has_now(&is_confirmed) {
                    None
                } else {
                    if let (Some(last), None) = (moves.last(), was_done) {
                        refuse_twice(&storefront, branch, last, before)?;
                    }
                    Some(was_done.or(before).ok_or_else(|| MoveError::NothingBefore {
                        storefront: storefront.clone(),
                        branch: branch.clone(),
                    })?)
                }
            }
        };
        let Some(earlier) = earlier else {
            let (here, revision) = (newest(now).cloned(), now.revision);
            let stays = now.targets.iter().map(|(t, b)| (t.clone(), b.number_there)).collect();
            let nothing = || MoveError::NothingBefore { storefront, branch: branch.clone() };
            return self.plan(state, here.ok_or_else(nothing)?, Vec::new(), stays, Some(revision), because);
        };
        let earlier = earlier.facts.clone();
        let nothing =
            || MoveError::NothingBefore { storefront: state.storefront.reference.name.clone(), branch: branch.clone() };
        let release = newest(&earlier).cloned().ok_or_else(nothing)?;
        let mut targets: Vec<Name> = earlier.targets.keys().chain(state.now.facts.targets.keys()).cloned().collect();
        targets.sort();
        targets.dedup();
        let changes = targets.into_iter().map(|t| (t.clone(), earlier.targets.get(&t).cloned())).collect();
        let wanted = earlier.targets.iter().map(|(t, b)| (t.clone(), b.number_there)).collect();
        self.plan(state, release, changes, wanted, Some(earlier.revision), because)
    }

    /// Says before anything is asked what the storefront would refuse: a branch that comes too early.
    fn refuse_too_early(&self, state: &BranchState, branch: &Name, build: &Build) -> Result<(), ProjectError> {
        let Some(carried) = state.rules.branches.carried(branch) else { return Ok(()) };
        let storefront = &state.storefront;
        let moves = storefront.branches()?.moves(&storefront.title, &carried.by).map_err(storefront.fails())?;
        let now = storefront.facts.now.unwrap_or_else(environment::now);
        let stayed = longest_stay(moves.iter().map(|moved| &moved.facts), build.number_there, now);
        match state.rules.branches.refuse_too_early(branch, &build.name, stayed) {
            Some(refusal) => {
                Err(ProjectError::Rules { storefront: storefront.reference.name.clone(), refusals: vec![refusal] })
            }
            None => Ok(()),
        }
    }

    fn plan(
        &self,
        state: BranchState,
        release: BranchBuild,
        after: Vec<(Name, Option<BranchBuild>)>,
        wanted: BTreeMap<Name, u64>,
        restores: Option<u64>,
        because: Option<String>,
    ) -> Result<MovePlan, ProjectError> {
        let mut changes = Vec::new();
        for (target, after) in after {
            changes.push(self.change(&state, target, after)?);
        }
        let is_left = |target: &Name| !changes.iter().any(|change| change.target == *target);
        let stays = state.now.facts.targets.iter().filter(|(target, _)| is_left(target));
        let stays = stays.map(|(target, build)| (target.clone(), build.clone())).collect();
        let steps = self.steps_by_hand(&state, &release, restores.is_some(), because.as_deref())?;
        Ok(MovePlan {
            steps,
            needs: Vec::new(),
            connector: state.storefront.configured.connector().is_some(),
            stays,
            known: None,
            edition: state.storefront.edition,
            storefront: state.storefront.reference,
            storefront_name: state.storefront_name,
            branch: state.now.facts.branch.clone(),
            audience: state.now.audience,
            release,
            changes,
            before: state.now.facts,
            wanted,
            restores,
            because,
        })
    }

    /// What a person does for a move, where programs cannot do it.
    fn steps_by_hand(
        &self,
        state: &BranchState,
        release: &BranchBuild,
        goes_back: bool,
        because: Option<&str>,
    ) -> Result<Option<Vec<StepByHand>>, ProjectError> {
        let at = &state.storefront;
        if at.hand.is_none() {
            return Ok(None);
        }
        let board = self.workspace.board(&at.edition)?;
        let Some(known) = board.releases.iter().find(|known| known.id == release.release) else { return Ok(None) };
        let branch = &state.now.facts.branch;
        let theirs = at.configured.theirs.get(branch).map_or_else(|| branch.to_string(), |t| t.as_str().to_owned());
        let before = newest(&state.now.facts);
        let steps = self.steps_of(
            at,
            known,
            Some(release.number_there),
            |hand| if goes_back { hand.rules.steps.rollback.as_slice() } else { &hand.rules.steps.promote },
            |values| {
                values.set("branch", theirs);
                values.set("because", because.unwrap_or_default());
                if let Some(before) = before {
                    values.set("before.version", before.name.version.to_string());
                    values.set("before.number-there", before.number_there.to_string());
                }
            },
        )?;
        Ok(Some(steps))
    }

    fn change(&self, state: &BranchState, target: Name, after: Option<BranchBuild>) -> Result<Change, ProjectError> {
        let before = state.now.facts.targets.get(&target).cloned();
        let build_of = |on_branch: &Option<BranchBuild>| {
            let number = on_branch.as_ref()?.number_there;
            state.builds.iter().find(|b| b.number_there == number)?.targets.get(&target)
        };
        let (old, new) = (build_of(&before), build_of(&after));
        let everybodys = |depot: &&BuildDepot| depot.players.are_all();
        let systems = new.or(old).map_or_else(Vec::new, |t| t.systems.clone());
        if state.storefront.hand.is_some() {
            // Everything was handed over; what players download there is that storefront's own matter.
            let depots = new.iter().flat_map(|t| &t.depots).filter(|depot| depot.players.add_on.is_none());
            let (installed, more) = (depots.map(|depot| depot.size).sum(), Vec::new());
            let pairs = Vec::new();
            return Ok(Change { target, systems, before, after, update: None, whole: None, installed, more, pairs });
        }
        let installed = new.iter().flat_map(|t| &t.depots).filter(everybodys).map(|d| d.size).sum();
        let more = new.iter().flat_map(|t| &t.depots).filter(|d| !everybodys(d));
        let more = more.map(|d| (d.depot.clone(), d.players.clone())).collect();
        let (of_old, of_new): (Vec<&BuildDepot>, Vec<&BuildDepot>) = (
            old.iter().flat_map(|t| &t.depots).filter(everybodys).collect(),
            new.iter().flat_map(|t| &t.depots).filter(everybodys).collect(),
        );
        let Downloads { update, whole } = downloads(&self.workspace.store, &state.storefront, &of_old, &of_new)?;
        let update = before.as_ref().map(|_| update);
        let both = old.zip(new).zip(before.as_ref());
        let pairs = both.map_or_else(Vec::new, |((old, new), before)| pairs_of(old, new, &before.name).collect());
        Ok(Change { target, systems, before, after, update, whole: Some(whole), installed, more, pairs })
    }

    /// Brings update files from what players of a branch have to what they get, as far as they are not there. None is needed: what cannot
    /// be made is said.
    ///
    /// # Errors
    /// Those of opening the storefront.
    pub fn bring_updates_for(
        &self,
        plan: &MovePlan,
        progress: &dyn Progress,
    ) -> Result<Vec<UpdateBrought>, ProjectError> {
        let mut pairs: Vec<Pair> = Vec::new();
        for pair in plan.changes.iter().flat_map(|change| &change.pairs) {
            if plan.restores.is_none() && !pairs.contains(pair) {
                pairs.push(pair.clone());
            }
        }
        if pairs.is_empty() {
            return Ok(Vec::new());
        }
        let storefront = open_storefront(&self.workspace, &plan.edition, plan.storefront.name.as_str())?;
        Ok(update_files::bring(&self.workspace.store, &storefront, pairs, progress))
    }

    /// Carries a plan out, if the branch still is as the plan found it.
    ///
    /// # Errors
    /// [`MoveError::Raced`] when it is not, [`ProjectError::Unsettled`] when no answer came.
    pub fn move_branch(&mut self, plan: &MovePlan) -> Result<BranchFacts, ProjectError> {
        let storefront = open_storefront(&self.workspace, &plan.edition, plan.storefront.name.as_str())?;
        let action = match plan.restores {
            Some(_) => Action::Rollback { branch: plan.branch.clone() },
            None => Action::Promote { branch: plan.branch.clone() },
        };
        let release = (plan.release.release, &plan.release.name);
        let asked = self.begin(&plan.edition, &plan.storefront, action, release, &[])?;
        let (because, restores) = (plan.because.clone(), plan.restores);
        let wanted = Move { targets: plan.wanted.clone(), restores, because: because.clone() };
        let branches = storefront.branches()?;
        let answer = branches.make_move(&storefront.title, &plan.branch, plan.before.revision, asked.key, &wanted);
        let facts = match self.answered(&storefront, &asked, answer) {
            Ok(branch) => branch.facts,
            Err(ProjectError::Storefront { source: StorefrontError::Refused(problem), .. })
                if problem.is(problem::BRANCH_MOVED) =>
            {
                let (storefront, branch) = (plan.storefront.name.clone(), plan.branch.clone());
                return Err(MoveError::Raced { storefront, branch, detail: problem.detail }.into());
            }
            Err(error) => return Err(error),
        };
        self.done(&plan.edition, &asked, DoneThere::Moved { facts: facts.clone(), because, restores })?;
        Ok(facts)
    }
}

/// Returns the newest release that a branch has or had.
fn newest(facts: &BranchFacts) -> Option<&BranchBuild> {
    facts.targets.values().max_by_key(|b| b.name.number)
}

/// How long ago a branch must have gone back for it to go back once more without a release being named.
const BACK_AGAIN_AFTER: SignedDuration = SignedDuration::from_mins(15);

fn refuse_twice(
    storefront: &Name,
    branch: &Name,
    last: &BranchMove,
    before: Option<&BranchMove>,
) -> Result<(), ProjectError> {
    let since = last.facts.since.filter(|_| last.restores.is_some());
    // The storefront's clock may be ahead of this one.
    let ago = since.map(|since| environment::now().duration_since(since).abs());
    let (Some(ago), Some(now)) = (ago.filter(|ago| *ago < BACK_AGAIN_AFTER), newest(&last.facts)) else {
        return Ok(());
    };
    let ago = match ago.as_secs() {
        ..60 => "seconds ago".to_owned(),
        60..120 => "a minute ago".to_owned(),
        secs => format!("{} minutes ago", secs / 60),
    };
    let next = before.and_then(|m| newest(&m.facts)).map(|b| b.name.clone());
    let (storefront, branch, now) = (storefront.clone(), branch.clone(), now.name.clone());
    Err(MoveError::WentBack(Box::new(WentBack { storefront, branch, now, ago, next })).into())
}

/// A branch that went back only a moment ago.
#[derive(Debug)]
pub struct WentBack {
    /// The project's name for the storefront.
    pub storefront: Name,
    /// The branch.
    pub branch: Name,
    /// What it has now.
    pub now: ReleaseName,
    /// Such as "2 minutes ago".
    pub ago: String,
    /// What it had before that; none when it had nothing.
    pub next: Option<ReleaseName>,
}

/// Why a branch is not moved.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MoveError {
    /// The release is not at the storefront.
    #[error("{release} is not at {storefront} yet")]
    NotPushed {
        /// The release.
        release: ReleaseName,
        /// The project's name for the storefront.
        storefront: Name,
    },
    /// Someone tried it and said no.
    #[error("the trial of {} of {release} failed", .targets.iter().map(Name::as_str).collect::<Vec<_>>().join(", "))]
    TrialFailed {
        /// The release.
        release: ReleaseName,
        /// Those that do not show what they should.
        targets: Vec<Name>,
    },
    /// The branch needs something of a release that this one does not have.
    #[error("{branch} needs more of {release}: {}", .lacking.iter().filter_map(|need| need.lacks.as_deref()).collect::<Vec<_>>().join("; "))]
    Lacks {
        /// The release.
        release: ReleaseName,
        /// The branch.
        branch: Name,
        /// What is lacking.
        lacking: Vec<NeedShown>,
    },
    /// A branch has nothing to go back to.
    #[error("{branch} at {storefront} had nothing before")]
    NothingBefore {
        /// The project's name for the storefront.
        storefront: Name,
        /// The branch.
        branch: Name,
    },
    /// A branch went back only a moment ago.
    #[error("{} at {} went back to {} only {}", .0.branch, .0.storefront, .0.now, .0.ago)]
    WentBack(Box<WentBack>),
    /// A release was never on a branch.
    #[error("{branch} at {storefront} never had {asked}")]
    NeverThere {
        /// The project's name for the storefront.
        storefront: Name,
        /// The branch.
        branch: Name,
        /// What was asked for.
        asked: ReleaseAsked,
        /// What it had, newest first.
        had: Vec<ReleaseName>,
    },
    /// Someone else moved the branch in between.
    #[error("{branch} at {storefront} was moved by someone else in the meantime")]
    Raced {
        /// The project's name for the storefront.
        storefront: Name,
        /// The branch.
        branch: Name,
        /// The storefront's words.
        detail: String,
    },
}

impl Explained for MoveError {
    fn class(&self) -> Class {
        match self {
            Self::NotPushed { .. }
            | Self::NothingBefore { .. }
            | Self::WentBack(_)
            | Self::NeverThere { .. }
            | Self::Raced { .. } => Class::Refused,
            Self::TrialFailed { .. } | Self::Lacks { .. } => Class::Findings,
        }
    }

    fn fixes(&self) -> Vec<String> {
        let one = |text: &str| vec![text.to_owned()];
        match self {
            Self::NotPushed { release, storefront } => vec![format!("lantern push {storefront} \"{release}\"")],
            Self::TrialFailed { .. } => one("export it again; or try it again and answer yes; or: --anyway"),
            Self::Lacks { lacking, .. } => lacking.iter().map(|need| need.fix.clone()).collect(),
            Self::NothingBefore { storefront, branch } => {
                vec![format!("choose a release yourself: lantern promote {storefront} {branch} VERSION")]
            }
            Self::WentBack(back) => match &back.next {
                Some(next) => vec![
                    "if that is what you wanted, nothing is left to do".to_owned(),
                    format!("to go back once more: lantern rollback {} {} \"{next}\"", back.storefront, back.branch),
                ],
                None => one("that is all there is: it had nothing before"),
            },
            Self::NeverThere { storefront, branch, had, asked } if had.is_empty() => {
                vec![format!("to put it there: lantern promote {storefront} {branch} \"{asked}\"")]
            }
            Self::NeverThere { storefront, branch, had, asked } => {
                let names: Vec<String> = had.iter().take(5).map(ToString::to_string).collect();
                vec![
                    format!("it had {}", names.join(", ")),
                    format!("to put another one there: lantern promote {storefront} {branch} \"{asked}\""),
                ]
            }
            Self::Raced { storefront, .. } => {
                vec![format!(
                    "check what is there now, then decide again: lantern live, lantern promote {storefront} …"
                )]
            }
        }
    }
}
