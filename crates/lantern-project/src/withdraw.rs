//! `releases withdraw`: a release is taken away for good, here and wherever it was pushed to.

use std::collections::BTreeMap;

use lantern_core::board::KnownRelease;
use lantern_core::event::{Action, BranchFacts, EventBody, StorefrontRef, TitleKey, Withdrawn};
use lantern_core::names::Name;
use lantern_storefront::protocol::Withdraw;

use crate::ProjectError;
use crate::actions::DoneThere;
use crate::steps::OpenWalk;
use crate::storefronts::open_storefront;
use crate::workspace::Session;

/// What withdrawing a release will do.
#[derive(Debug, Clone)]
pub struct WithdrawPlan {
    /// What.
    pub release: KnownRelease,
    /// Why.
    pub because: String,
    /// Where it was pushed to.
    pub storefronts: Vec<WithdrawAt>,
    /// Branches whose players have it, and keep it until something else is put there.
    pub live_on: Vec<(Name, Name)>,
    /// Whether it is withdrawn here already.
    pub is_known: bool,
}

/// A storefront that has the release.
#[derive(Debug, Clone)]
pub struct WithdrawAt {
    /// Which.
    pub storefront: StorefrontRef,
    /// Whether it is withdrawn there already.
    pub is_done: bool,
}

/// What came of a withdrawal at the storefronts.
#[derive(Debug, Default)]
pub struct Withdrawals {
    /// Those that could not be asked, each with the reason.
    pub failed: Vec<(Name, ProjectError)>,
    /// Those where a person has steps to do.
    pub by_hand: Vec<OpenWalk>,
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
        let mut storefronts: Vec<WithdrawAt> = Vec::new();
        for pushed in board.pushed.iter().filter(|p| p.release == release.id) {
            let title = pushed.storefront.key();
            let Some(name) = called.get(&title) else { continue };
            if !storefronts.iter().any(|known| known.storefront.is_at(&title)) {
                let is_done = board.withdrawn_at.contains(&(title, release.id));
                storefronts.push(WithdrawAt {
                    storefront: StorefrontRef { name: (*name).clone(), ..pushed.storefront.clone() },
                    is_done,
                });
            }
        }
        let has = |facts: &BranchFacts| facts.targets.values().any(|b| b.release == release.id);
        let live_on = board.branches.iter().filter(|(_, facts)| has(facts));
        Ok(WithdrawPlan {
            storefronts,
            live_on: live_on
                .filter_map(|((title, branch), _)| Some(((*called.get(title)?).clone(), branch.clone())))
                .collect(),
            is_known: board.withdrawn.contains_key(&release.id),
            because: board.withdrawn.get(&release.id).cloned().unwrap_or(because),
            release,
        })
    }

    /// Carries a plan out: from now on nobody promotes the release from here, then each storefront is asked to. Those that
    /// could not be reached are in the result, where the same call asks them again, and those where a person has steps to do.
    ///
    /// # Errors
    /// Only those of this computer.
    pub fn withdraw(&mut self, plan: &WithdrawPlan) -> Result<Withdrawals, ProjectError> {
        if !plan.is_known {
            self.record_withdrawn(plan)?;
        }
        let (mut failed, mut by_hand) = (Vec::new(), Vec::new());
        for storefront in plan.storefronts.iter().filter(|p| !p.is_done) {
            match self.withdraw_at(plan, &storefront.storefront) {
                Ok(steps) => by_hand.extend(steps),
                Err(
                    error @ (ProjectError::Ledger(_)
                    | ProjectError::Unrecorded { .. }
                    | ProjectError::File(_)
                    | ProjectError::Stopped),
                ) => return Err(error),
                Err(error) => failed.push((storefront.storefront.name.clone(), error)),
            }
        }
        Ok(Withdrawals { failed, by_hand })
    }

    fn record_withdrawn(&mut self, plan: &WithdrawPlan) -> Result<(), ProjectError> {
        let (release, name, because) = (plan.release.id, plan.release.name.clone(), plan.because.clone());
        let body = EventBody::Withdrawn(Withdrawn { key: None, storefront: None, release, name, because });
        self.workspace.record(&plan.release.edition, body, None).map(|_| ())
    }

    fn withdraw_at(&mut self, plan: &WithdrawPlan, at: &StorefrontRef) -> Result<Option<OpenWalk>, ProjectError> {
        let storefront = open_storefront(&self.workspace, &plan.release.edition, at.name.as_str())?;
        if storefront.hand.is_some() {
            return self.begin_withdrawal(&storefront, &plan.release, &plan.because).map(Some);
        }
        let branches = storefront.branches()?.list(&storefront.title).map_err(storefront.fails())?;
        let builds = storefront.builds()?.list(&storefront.title).map_err(storefront.fails())?;
        self.learn(&storefront, &branches, &builds)?;
        let of_release = builds.iter().filter(|b| b.release == plan.release.id && b.withdrawn.is_none());
        for build in of_release {
            let action = Action::Withdraw { because: plan.because.clone() };
            let release = (plan.release.id, &plan.release.name);
            let asked = self.begin(&storefront.edition, at, action, release, &[])?;
            let why = Withdraw { because: plan.because.clone() };
            let answer = storefront.builds()?.withdraw(&storefront.title, build.number_there, asked.key, &why);
            let done = self.answered(&storefront, &asked, answer)?;
            self.done(&storefront.edition, &asked, DoneThere::Withdrawn(&done, plan.because.clone()))?;
        }
        Ok(None)
    }
}
