//! `promote` and `rollback`: a branch comes to have other builds.

use std::collections::{BTreeMap, HashSet};

use lantern_core::board::KnownRelease;
use lantern_core::branch::{Step, before_now};
use lantern_core::config::Audience;
use lantern_core::digest::ManifestId;
use lantern_core::event::{Asked, BranchBuild, BranchFacts, Deed, EventBody, EventId, Moved, PlaceRef};
use lantern_core::names::{Handle, Name};
use lantern_core::release::When;
use lantern_core::rules::HouseRules;
use lantern_core::system::System;
use lantern_ledger::ServerFacts;
use lantern_store::locator::Locator;
use lantern_store::manifest::{self, Entry, SegmentRef};
use lantern_store::store::Store;
use lantern_storefront::protocol::{Branch, Build, BuildDepot, Move};
use lantern_storefront::{PlaceError, Player, Storefront};

use crate::places::{Place, open_place};
use crate::project::Locked;
use crate::{ProjectError, outside};

/// What moving a branch will do.
#[derive(Debug, Clone)]
pub struct MovePlan {
    /// Of which edition.
    pub edition: Name,
    /// Where.
    pub place: PlaceRef,
    /// The place's name for people.
    pub place_name: String,
    /// Which branch.
    pub branch: Name,
    /// Who follows it.
    pub audience: Audience,
    /// The release that players get; of several, the newest. Its name confirms the deed.
    pub release: BranchBuild,
    /// Each target that the plan is about.
    pub changes: Vec<Change>,
    /// The branch as it is now.
    pub before: BranchFacts,
    /// The branch's whole new map.
    pub wanted: BTreeMap<Name, u64>,
    /// The earlier revision that is put back; none for a promotion.
    pub restores: Option<u64>,
    /// For the team.
    pub comment: Option<String>,
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
    /// Bytes that a new player downloads; without depots that not everybody has.
    pub whole: u64,
    /// Size of the installed files, in bytes; without depots that not everybody has.
    pub installed: u64,
    /// Depots that not everybody has, with who has them.
    pub more: Vec<(Name, When)>,
}

impl MovePlan {
    /// Whether the branch has all of it already.
    pub fn is_done(&self) -> bool {
        self.changes.iter().all(|c| c.before == c.after)
    }

    /// Whether every player gets it: then the release's name must be given, a plain yes is not enough.
    pub fn is_for_everyone(&self) -> bool {
        self.audience == Audience::Everyone
    }

    /// Whether some players get an older release than they have.
    pub fn goes_back(&self) -> bool {
        let older = |c: &Change| Some(c.after.as_ref()?.name.number < c.before.as_ref()?.name.number);
        self.changes.iter().any(|c| older(c) == Some(true))
    }
}

/// A branch with everything around it, as its storefront just said.
struct Look {
    place: Place,
    place_name: String,
    rules: HouseRules,
    now: Branch,
    builds: Vec<Build>,
}

impl Locked {
    fn look(&mut self, storefront: &str, edition: &Name, branch: &Name) -> Result<Look, ProjectError> {
        let place = open_place(&self.open.project, edition, storefront)?;
        let title = &place.title;
        let rules = place.market.rules().map_err(place.fails())?;
        let refusals = rules.refuse_promote(branch);
        if !refusals.is_empty() {
            return Err(ProjectError::Rules { place: place.reference.name, refusals });
        }
        let branches = place.market.branches(title).map_err(place.fails())?.branches;
        let builds = place.market.builds(title).map_err(place.fails())?.builds;
        self.learn(&place, &branches, &builds)?;
        let nonsense = || PlaceError::Nonsense {
            address: place.market.origin().to_owned(),
            what: "a list of branches",
            source: "a branch of the house rules is not in it".into(),
        };
        let now = branches.into_iter().find(|b| b.facts.branch == *branch).ok_or_else(|| place.fails()(nonsense()))?;
        let place_name = place.name()?;
        Ok(Look { place, place_name, rules, now, builds })
    }

    /// Plans to put a pushed release on a branch: asks the storefront, changes nothing there.
    ///
    /// # Errors
    /// [`ProjectError::NotPushed`], [`ProjectError::Rules`], and those of the place, store and ledger.
    pub fn plan_promote(
        &mut self,
        storefront: &str,
        branch: &Name,
        release: KnownRelease,
        comment: Option<String>,
    ) -> Result<MovePlan, ProjectError> {
        let look = self.look(storefront, &release.edition, branch)?;
        if let Some(because) = self.open.board(&release.edition)?.withdrawn.get(&release.id) {
            return Err(ProjectError::Withdrawn { release: release.name, because: because.clone() });
        }
        let place = look.place.reference.name.clone();
        let not_pushed = || ProjectError::NotPushed { release: release.name.clone(), place };
        // A release that was pushed again with more targets has several builds: the newest has them all.
        let build = look.builds.iter().rev().find(|b| b.release == release.id).ok_or_else(not_pushed)?.clone();
        self.refuse_order(&look, branch, &build)?;
        let after = BranchBuild { build: build.build, release: build.release, name: build.name.clone() };
        let changes: Vec<_> = build.targets.keys().map(|target| (target.clone(), Some(after.clone()))).collect();
        let mut wanted: BTreeMap<Name, u64> =
            look.now.facts.targets.iter().map(|(t, b)| (t.clone(), b.build)).collect();
        wanted.extend(build.targets.keys().map(|target| (target.clone(), build.build)));
        self.plan(look, after, changes, wanted, None, comment)
    }

    /// Plans to put back what a branch of an edition had before, by the storefront's own history. Asking again goes back further,
    /// unless `wanted` names the release that is meant and the branch has it: then there is nothing to do.
    ///
    /// # Errors
    /// [`ProjectError::NothingBefore`], [`ProjectError::Rules`], and those of the place, store and ledger.
    pub fn plan_rollback(
        &mut self,
        storefront: &str,
        edition: &Name,
        branch: &Name,
        wanted: Option<&str>,
        comment: Option<String>,
    ) -> Result<MovePlan, ProjectError> {
        // A rollback that was broken off after the storefront had done it must not go back once more.
        let asked = self.open.board(edition)?.open;
        let look = self.look(storefront, edition, branch)?;
        let moves = look.place.market.moves(&look.place.title, branch).map_err(look.place.fails())?.moves;
        let steps: Vec<Step> =
            moves.iter().map(|m| Step { revision: m.facts.revision, restores: m.restores }).collect();
        let is_that = |key: &EventId| {
            let asked = asked.get(key).filter(|a| a.place == look.place.reference);
            asked.is_some_and(|a| a.deed == Deed::Rollback { branch: branch.clone() })
        };
        let withdrawn: HashSet<u64> = look.builds.iter().filter(|b| b.withdrawn.is_some()).map(|b| b.build).collect();
        let usable = |revision: u64| {
            let of = moves.iter().find(|m| m.facts.revision == revision);
            of.is_some_and(|m| !m.facts.targets.values().any(|b| withdrawn.contains(&b.build)))
        };
        let was_done = moves.last().filter(|m| is_that(&m.key)).map(|m| m.facts.revision);
        let earlier = was_done
            .or_else(|| before_now(&steps, usable))
            .and_then(|revision| moves.iter().find(|m| m.facts.revision == revision));
        let is_wanted = |b: &BranchBuild| wanted.is_some_and(|wanted| b.name.to_string() == wanted);
        let goes_there = earlier.is_some_and(|m| m.facts.targets.values().any(is_wanted));
        let now = &look.now.facts;
        if let Some(here) = now.targets.values().next()
            && !goes_there
            && now.targets.values().all(is_wanted)
        {
            let (here, revision) = (here.clone(), now.revision);
            let stays = now.targets.iter().map(|(t, b)| (t.clone(), b.build)).collect();
            return self.plan(look, here, Vec::new(), stays, Some(revision), comment);
        }
        let nothing =
            || ProjectError::NothingBefore { place: look.place.reference.name.clone(), branch: branch.clone() };
        let earlier = earlier.ok_or_else(nothing)?.facts.clone();
        let newest = earlier.targets.values().max_by_key(|b| b.name.number).cloned().ok_or_else(nothing)?;
        let mut targets: Vec<Name> = earlier.targets.keys().chain(look.now.facts.targets.keys()).cloned().collect();
        targets.sort();
        targets.dedup();
        let changes = targets.into_iter().map(|t| (t.clone(), earlier.targets.get(&t).cloned())).collect();
        let wanted = earlier.targets.iter().map(|(t, b)| (t.clone(), b.build)).collect();
        self.plan(look, newest, changes, wanted, Some(earlier.revision), comment)
    }

    /// Says before anything is asked what the place would refuse: a branch that comes too early.
    fn refuse_order(&self, look: &Look, branch: &Name, build: &Build) -> Result<(), ProjectError> {
        let Some(before) = look.rules.branch_before(branch) else { return Ok(()) };
        let place = &look.place;
        let moves = place.market.moves(&place.title, &before.name).map_err(place.fails())?.moves;
        let been = moves.iter().any(|m| m.facts.targets.values().any(|b| b.build == build.build));
        match look.rules.refuse_order(branch, &build.name, been) {
            Some(refusal) => Err(ProjectError::Rules { place: place.reference.name.clone(), refusals: vec![refusal] }),
            None => Ok(()),
        }
    }

    fn plan(
        &self,
        look: Look,
        release: BranchBuild,
        after: Vec<(Name, Option<BranchBuild>)>,
        wanted: BTreeMap<Name, u64>,
        restores: Option<u64>,
        comment: Option<String>,
    ) -> Result<MovePlan, ProjectError> {
        let mut changes = Vec::new();
        for (target, after) in after {
            changes.push(self.change(&look, target, after)?);
        }
        Ok(MovePlan {
            edition: look.place.edition,
            place: look.place.reference,
            place_name: look.place_name,
            branch: look.now.facts.branch.clone(),
            audience: look.now.audience,
            release,
            changes,
            before: look.now.facts,
            wanted,
            restores,
            comment,
        })
    }

    fn change(&self, look: &Look, target: Name, after: Option<BranchBuild>) -> Result<Change, ProjectError> {
        let before = look.now.facts.targets.get(&target).cloned();
        let build_of = |on_branch: &Option<BranchBuild>| {
            let number = on_branch.as_ref()?.build;
            look.builds.iter().find(|b| b.build == number)?.targets.get(&target)
        };
        let (old, new) = (build_of(&before), build_of(&after));
        let everybodys = |depot: &&BuildDepot| depot.when.is_always();
        let mut have = HashSet::new();
        for depot in old.iter().flat_map(|t| &t.depots).filter(everybodys) {
            let entries = entries_of(&self.open.store, &look.place, depot.manifest)?;
            have.extend(entries.iter().flat_map(|e| &e.chunks).map(|c| c.digest));
        }
        let (mut update, mut whole) = (0, 0);
        let mut counted = HashSet::new();
        for depot in new.iter().flat_map(|t| &t.depots).filter(everybodys) {
            let entries = entries_of(&self.open.store, &look.place, depot.manifest)?;
            let locator = locator_of(&self.open.store, look, depot.manifest)?;
            for chunk in entries.iter().flat_map(|e| &e.chunks).filter(|c| counted.insert(c.digest)) {
                let stored = locator.find(&chunk.digest).map_or(0, |l| u64::from(l.entry.stored_len));
                whole += stored;
                if !have.contains(&chunk.digest) {
                    update += stored;
                }
            }
        }
        let installed = new.iter().flat_map(|t| &t.depots).filter(everybodys).map(|d| d.size).sum();
        let more = new.iter().flat_map(|t| &t.depots).filter(|d| !everybodys(d));
        let more = more.map(|d| (d.depot.clone(), d.when.clone())).collect();
        let systems = new.or(old).map_or_else(Vec::new, |t| t.systems.clone());
        let update = before.as_ref().map(|_| update);
        Ok(Change { target, systems, before, after, update, whole, installed, more })
    }

    /// Carries a plan out, if the branch still is as the plan found it.
    ///
    /// # Errors
    /// [`ProjectError::Raced`] when it is not, [`ProjectError::Unsettled`] when no answer came.
    pub fn move_branch(&mut self, plan: &MovePlan) -> Result<BranchFacts, ProjectError> {
        let place = open_place(&self.open.project, &plan.edition, plan.place.name.as_str())?;
        let key = EventId::new(outside::now(), outside::random()?);
        let asked = Asked {
            key,
            place: plan.place.clone(),
            deed: match plan.restores {
                Some(_) => Deed::Rollback { branch: plan.branch.clone() },
                None => Deed::Promote { branch: plan.branch.clone() },
            },
            release: plan.release.release,
            name: plan.release.name.clone(),
        };
        self.open.record(&plan.edition, EventBody::Asked(asked), None)?;
        let wanted = Move { targets: plan.wanted.clone(), restores: plan.restores, comment: plan.comment.clone() };
        let moved = place.market.move_branch(&place.title, &plan.branch, plan.before.revision, key, &wanted);
        match moved {
            Ok(branch) => {
                let facts = branch.facts;
                let server = ServerFacts { happened_at: facts.since, revision: facts.revision };
                let moved = Moved {
                    key,
                    place: plan.place.clone(),
                    facts: facts.clone(),
                    comment: plan.comment.clone(),
                    restores: plan.restores,
                };
                self.open.record_done(&plan.place, &plan.edition, EventBody::Moved(moved), Some(server))?;
                Ok(facts)
            }
            Err(PlaceError::Refused(problem)) => {
                self.not_done(&plan.edition, key, &problem.detail)?;
                if problem.name() == "branch-moved" {
                    let (place, branch) = (plan.place.name.clone(), plan.branch.clone());
                    return Err(ProjectError::Raced { place, branch, detail: problem.detail });
                }
                Err(place.fails()(PlaceError::Refused(problem)))
            }
            // Asked, and not answered: the next run asks the storefront what became of it.
            Err(source) => Err(ProjectError::Unsettled { place: plan.place.name.clone(), source }),
        }
    }
}

/// Reads a locator from the store, or asks the place as a player does: what was on the branch can be had.
fn locator_of(store: &Store, look: &Look, manifest: ManifestId) -> Result<Locator, ProjectError> {
    if let Ok(locator) = store.locator(manifest) {
        return Ok(locator);
    }
    let place = &look.place;
    let bytes = place.market.play_locator(&place.title, &look.now.facts.branch, manifest);
    let nonsense = |e: lantern_core::bytes::ReadError| {
        let address = place.market.origin().to_owned();
        place.fails()(PlaceError::Nonsense { address, what: "a locator", source: e.into() })
    };
    Locator::decode(manifest, &bytes.map_err(place.fails())?).map_err(nonsense)
}

/// Reads a manifest from the store, or from the place when somebody else pushed it.
fn entries_of(store: &Store, place: &Place, id: ManifestId) -> Result<Vec<Entry>, ProjectError> {
    if let Ok((_, entries)) = store.manifest(id) {
        return Ok(entries);
    }
    let title: &Handle = &place.title;
    let nonsense = |e: manifest::ManifestError| {
        let address = place.market.origin().to_owned();
        place.fails()(PlaceError::Nonsense { address, what: "a manifest", source: e.into() })
    };
    let bytes = place.market.get_manifest(title, id).map_err(place.fails())?;
    let segment = |segment: &SegmentRef| place.market.get_segment(title, &segment.digest).map_err(place.fails());
    Ok(manifest::assemble(id, &bytes, segment, nonsense)?.1)
}
