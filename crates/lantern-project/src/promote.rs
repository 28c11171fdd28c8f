//! `promote`: a pushed release is put on a branch.

use std::collections::{BTreeMap, HashSet};

use lantern_core::board::KnownRelease;
use lantern_core::config::Audience;
use lantern_core::digest::ManifestId;
use lantern_core::event::{Asked, BranchBuild, BranchFacts, Deed, EventBody, EventId, Moved, NotDone, PlaceRef};
use lantern_core::names::{Handle, Name};
use lantern_core::system::System;
use lantern_ledger::ServerFacts;
use lantern_store::manifest::{Entry, Reader, Root};
use lantern_store::store::Store;
use lantern_storefront::protocol::{Build, BuildTarget, Move};
use lantern_storefront::{PlaceError, Storefront};

use crate::places::{Place, open_place};
use crate::project::Locked;
use crate::{ProjectError, outside};

/// What a promotion will do.
#[derive(Debug, Clone)]
pub struct PromotePlan {
    /// Where.
    pub place: PlaceRef,
    /// The place's name for people.
    pub place_name: String,
    /// Which branch.
    pub branch: Name,
    /// Who follows it.
    pub audience: Audience,
    /// What.
    pub release: KnownRelease,
    /// The place's own number.
    pub build: u64,
    /// Each target of the release.
    pub changes: Vec<Change>,
    /// The branch as it is now.
    pub before: BranchFacts,
    /// The branch's whole new map.
    pub wanted: BTreeMap<Name, u64>,
    /// For the team.
    pub comment: Option<String>,
}

/// What a promotion changes for one target.
#[derive(Debug, Clone)]
pub struct Change {
    /// The target.
    pub target: Name,
    /// What it runs on.
    pub systems: Vec<System>,
    /// What players have now.
    pub before: Option<BranchBuild>,
    /// Bytes that a player who has that downloads.
    pub update: Option<u64>,
    /// Bytes that a new player downloads.
    pub whole: u64,
    /// Size of the installed files, in bytes.
    pub installed: u64,
}

impl PromotePlan {
    /// Whether the branch has the release already.
    pub fn is_done(&self) -> bool {
        self.changes.iter().all(|c| c.before.as_ref().is_some_and(|b| b.build == self.build))
    }

    /// Whether every player gets it: then the release's name must be given, a plain yes is not enough.
    pub fn is_for_everyone(&self) -> bool {
        self.audience == Audience::Everyone
    }
}

impl Locked {
    /// Makes the plan: asks the storefront, changes nothing there.
    ///
    /// # Errors
    /// [`ProjectError::NotPushed`], [`ProjectError::Rules`], and those of the place, store and ledger.
    pub fn plan_promote(
        &mut self,
        storefront: &str,
        branch: &Name,
        release: KnownRelease,
        comment: Option<String>,
    ) -> Result<PromotePlan, ProjectError> {
        let place = open_place(&self.open.project, storefront)?;
        let title = &place.configured.handle;
        let rules = place.market.rules().map_err(place.fails())?;
        let refusals = rules.refuse_promote(branch);
        if !refusals.is_empty() {
            return Err(ProjectError::Rules { place: place.reference.name, refusals });
        }
        let branches = place.market.branches(title).map_err(place.fails())?.branches;
        let builds = place.market.builds(title).map_err(place.fails())?.builds;
        self.learn(&place, &branches, &builds)?;
        let not_pushed =
            || ProjectError::NotPushed { release: release.name.clone(), place: place.reference.name.clone() };
        let build = builds.iter().find(|b| b.release == release.id).ok_or_else(not_pushed)?;
        let nonsense = || PlaceError::Nonsense {
            address: place.market.origin().to_owned(),
            what: "a list of branches",
            source: "a branch of the house rules is not in it".into(),
        };
        let now = branches.into_iter().find(|b| b.facts.branch == *branch).ok_or_else(|| place.fails()(nonsense()))?;
        let mut changes = Vec::new();
        let mut wanted: BTreeMap<Name, u64> = now.facts.targets.iter().map(|(t, b)| (t.clone(), b.build)).collect();
        for (target, new) in &build.targets {
            let before = now.facts.targets.get(target).cloned();
            let old = before.as_ref().and_then(|b| builds.iter().find(|known| known.build == b.build));
            changes.push(self.change(&place, target, new, before.clone(), old)?);
            wanted.insert(target.clone(), build.build);
        }
        let place_name = place.market.discovery().map_err(place.fails())?.name;
        Ok(PromotePlan {
            place: place.reference.clone(),
            place_name,
            branch: branch.clone(),
            audience: now.audience,
            build: build.build,
            release,
            changes,
            before: now.facts,
            wanted,
            comment,
        })
    }

    fn change(
        &self,
        place: &Place,
        target: &Name,
        new: &BuildTarget,
        before: Option<BranchBuild>,
        old: Option<&Build>,
    ) -> Result<Change, ProjectError> {
        let mut have = HashSet::new();
        for depot in old.and_then(|b| b.targets.get(target)).iter().flat_map(|t| &t.depots) {
            let entries = entries_of(&self.open.store, place, depot.manifest)?;
            have.extend(entries.iter().flat_map(|e| &e.chunks).map(|c| c.digest));
        }
        let (mut update, mut whole) = (0, 0);
        let mut counted = HashSet::new();
        for depot in &new.depots {
            let (_, entries) = self.open.store.manifest(depot.manifest)?;
            let locator = self.open.store.locator(depot.manifest)?;
            for chunk in entries.iter().flat_map(|e| &e.chunks).filter(|c| counted.insert(c.digest)) {
                let stored = locator.find(&chunk.digest).map_or(0, |l| u64::from(l.entry.stored_len));
                whole += stored;
                if !have.contains(&chunk.digest) {
                    update += stored;
                }
            }
        }
        let installed = new.depots.iter().map(|d| d.size).sum();
        let update = before.as_ref().map(|_| update);
        Ok(Change { target: target.clone(), systems: new.systems.clone(), before, update, whole, installed })
    }

    /// Carries a plan out, if the branch still is as the plan found it.
    ///
    /// # Errors
    /// [`ProjectError::Raced`] when it is not, [`ProjectError::Unsettled`] when no answer came.
    pub fn promote(&mut self, plan: &PromotePlan) -> Result<BranchFacts, ProjectError> {
        let place = open_place(&self.open.project, plan.place.name.as_str())?;
        let key = EventId::new(outside::now(), outside::random()?);
        let asked = Asked {
            key,
            place: plan.place.clone(),
            deed: Deed::Promote { branch: plan.branch.clone() },
            release: plan.release.id,
            name: plan.release.name.clone(),
        };
        self.open.record(EventBody::Asked(asked), None)?;
        let wanted = Move { targets: plan.wanted.clone(), comment: plan.comment.clone() };
        let moved =
            place.market.move_branch(&place.configured.handle, &plan.branch, plan.before.revision, key, &wanted);
        match moved {
            Ok(branch) => {
                let facts = branch.facts;
                let server = ServerFacts { happened_at: facts.since, revision: facts.revision };
                let moved =
                    Moved { key, place: plan.place.clone(), facts: facts.clone(), comment: plan.comment.clone() };
                self.open.record(EventBody::Moved(moved), Some(server))?;
                Ok(facts)
            }
            Err(PlaceError::Refused(problem)) => {
                self.open.record(EventBody::NotDone(NotDone { key, why: problem.detail.clone() }), None)?;
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

/// Reads a manifest from the store, or from the place when somebody else pushed it.
fn entries_of(store: &Store, place: &Place, id: ManifestId) -> Result<Vec<Entry>, ProjectError> {
    if let Ok((_, entries)) = store.manifest(id) {
        return Ok(entries);
    }
    let title: &Handle = &place.configured.handle;
    let nonsense = |e: lantern_store::manifest::ManifestError| {
        let address = place.market.origin().to_owned();
        place.fails()(PlaceError::Nonsense { address, what: "a manifest", source: e.into() })
    };
    let bytes = place.market.get_manifest(title, id).map_err(place.fails())?;
    let root = Root::decode(id, &bytes).map_err(nonsense)?;
    let mut reader = Reader::new();
    for segment in &root.segments {
        let bytes = place.market.get_segment(title, &segment.digest).map_err(place.fails())?;
        reader.segment(segment, &bytes).map_err(nonsense)?;
    }
    reader.finish(&root).map_err(nonsense)
}
