//! `releases withdraw`: a release is taken away for good, here and wherever it was pushed to.

use std::collections::BTreeMap;

use lantern_core::board::KnownRelease;
use lantern_core::event::{BranchFacts, Deed, EventBody, EventId, PlaceRef, TitleKey, Withdrawn};
use lantern_core::names::Name;
use lantern_ledger::ServerFacts;
use lantern_storefront::PlaceError;
use lantern_storefront::protocol::Withdraw;

use crate::ProjectError;
use crate::places::open_place;
use crate::project::Session;

/// What withdrawing a release will do.
#[derive(Debug, Clone)]
pub struct WithdrawPlan {
    /// What.
    pub release: KnownRelease,
    /// Why.
    pub because: String,
    /// Where it was pushed to.
    pub places: Vec<WithdrawPlace>,
    /// Branches whose players have it, and keep it until something else is put there.
    pub live_on: Vec<(Name, Name)>,
    /// Whether it is withdrawn here already.
    pub is_known: bool,
}

/// A storefront that has the release.
#[derive(Debug, Clone)]
pub struct WithdrawPlace {
    /// Which.
    pub place: PlaceRef,
    /// Whether it is withdrawn there already.
    pub is_done: bool,
}

impl Session {
    /// Plans to withdraw a release, by what is known here; asks nobody.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn plan_withdraw(&self, release: KnownRelease, because: String) -> Result<WithdrawPlan, ProjectError> {
        let board = self.workspace.board(&release.edition)?;
        let titles = self.workspace.titles(&board, &release.edition)?;
        let called: BTreeMap<TitleKey, &Name> = titles.iter().map(|(name, title)| (title.clone(), name)).collect();
        // A storefront that is not in lantern.toml any more cannot be asked.
        let mut places: Vec<WithdrawPlace> = Vec::new();
        for pushed in board.pushed.iter().filter(|p| p.release == release.id) {
            let title = pushed.place.key();
            let Some(name) = called.get(&title) else { continue };
            if !places.iter().any(|known| known.place.is_at(&title)) {
                let is_done = board.withdrawn_at.contains(&(title, release.id));
                places
                    .push(WithdrawPlace { place: PlaceRef { name: (*name).clone(), ..pushed.place.clone() }, is_done });
            }
        }
        let has = |facts: &BranchFacts| facts.targets.values().any(|b| b.release == release.id);
        let live_on = board.branches.iter().filter(|(_, facts)| has(facts));
        Ok(WithdrawPlan {
            places,
            live_on: live_on
                .filter_map(|((title, branch), _)| Some(((*called.get(title)?).clone(), branch.clone())))
                .collect(),
            is_known: board.withdrawn.contains_key(&release.id),
            because: board.withdrawn.get(&release.id).cloned().unwrap_or(because),
            release,
        })
    }

    /// Carries a plan out: from now on nobody promotes the release from here, then each storefront is asked to. Those that
    /// could not be reached are in the result; the same call asks them again.
    ///
    /// # Errors
    /// Only those of this computer.
    pub fn withdraw(&mut self, plan: &WithdrawPlan) -> Result<Vec<(Name, ProjectError)>, ProjectError> {
        if !plan.is_known {
            self.record_withdrawn(plan, None, None, None)?;
        }
        let mut failed = Vec::new();
        for place in plan.places.iter().filter(|p| !p.is_done) {
            match self.withdraw_at(plan, &place.place) {
                Ok(()) => {}
                Err(
                    error @ (ProjectError::Ledger(_)
                    | ProjectError::Unrecorded { .. }
                    | ProjectError::File(_)
                    | ProjectError::Stopped),
                ) => return Err(error),
                Err(error) => failed.push((place.place.name.clone(), error)),
            }
        }
        Ok(failed)
    }

    fn record_withdrawn(
        &mut self,
        plan: &WithdrawPlan,
        key: Option<EventId>,
        place: Option<PlaceRef>,
        server: Option<ServerFacts>,
    ) -> Result<(), ProjectError> {
        let (release, name) = (plan.release.id, plan.release.name.clone());
        let body = Withdrawn { key, place: place.clone(), release, name, because: plan.because.clone() };
        let body = EventBody::Withdrawn(body);
        match place {
            Some(place) => self.workspace.record_done(&place, &plan.release.edition, body, server),
            None => self.workspace.record(&plan.release.edition, body, server).map(|_| ()),
        }
    }

    fn withdraw_at(&mut self, plan: &WithdrawPlan, at: &PlaceRef) -> Result<(), ProjectError> {
        let place = open_place(self.project(), &plan.release.edition, at.name.as_str())?;
        let branches = place.branches()?.list(&place.title).map_err(place.fails())?;
        let builds = place.builds()?.list(&place.title).map_err(place.fails())?;
        self.learn(&place, &branches, &builds)?;
        let of_release = builds.iter().filter(|b| b.release == plan.release.id && b.withdrawn.is_none());
        for build in of_release {
            let deed = Deed::Withdraw { because: plan.because.clone() };
            let key = self.ask(&place.edition, at, deed, (plan.release.id, &plan.release.name), &[])?;
            let why = Withdraw { because: plan.because.clone() };
            match place.builds()?.withdraw(&place.title, build.build, key, &why) {
                Ok(done) => {
                    let happened_at = done.withdrawn.map(|w| w.at);
                    let server = ServerFacts { happened_at, revision: build.build };
                    self.record_withdrawn(plan, Some(key), Some(at.clone()), Some(server))?;
                }
                Err(PlaceError::Refused(problem)) => {
                    self.not_done(&place.edition, key, &problem.detail)?;
                    return Err(place.fails()(PlaceError::Refused(problem)));
                }
                Err(source) => return Err(ProjectError::Unsettled { place: at.name.clone(), source }),
            }
        }
        Ok(())
    }
}
