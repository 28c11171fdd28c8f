//! Actions at storefronts, one way for all of them. An action is begun here before it is asked for there, with the key that
//! it is asked with. Then it is done, or it was refused, or nobody knows: what is open is settled when the storefront is asked
//! again.

use lantern_core::digest::ReleaseId;
use lantern_core::event::{
    Action, Asked, BranchFacts, EventBody, EventId, Moved, NotDone, Pushed, StorefrontRef, Withdrawn,
};
use lantern_core::names::Name;
use lantern_core::version::ReleaseName;
use lantern_ledger::ServerFacts;
use lantern_storefront::StorefrontError;
use lantern_storefront::protocol::Build;

use crate::storefronts::OpenStorefront;
use crate::workspace::Session;
use crate::{ProjectError, environment};

/// What a storefront did.
pub(crate) enum DoneThere<'a> {
    /// It has the build; so many bytes travelled for it from here.
    Pushed(&'a Build, u64),
    /// It has moved a branch.
    Moved { facts: BranchFacts, because: Option<String>, restores: Option<u64> },
    /// It has taken the build away.
    Withdrawn(&'a Build, String),
}

impl DoneThere<'_> {
    /// Says it as an event, with what the server says of itself.
    fn event(self, asked: &Asked) -> (EventBody, ServerFacts) {
        let (key, storefront) = (asked.key, asked.storefront.clone());
        match self {
            Self::Pushed(build, sent) => {
                let pushed = Pushed {
                    key: Some(key),
                    name_there: build.name_there.clone(),
                    sent,
                    message: build.message.clone(),
                    notes: build.notes.clone(),
                    ..Pushed::new(storefront, (asked.release, asked.name.clone()), build.number_there)
                };
                let server = ServerFacts { happened_at: Some(build.made_at), revision: build.number_there };
                (EventBody::Pushed(pushed), server)
            }
            Self::Moved { facts, because, restores } => {
                let server = ServerFacts { happened_at: facts.since, revision: facts.revision };
                (
                    EventBody::Moved(Moved {
                        key,
                        storefront,
                        facts,
                        because,
                        restores,
                        changes: Vec::new(),
                        after: None,
                    }),
                    server,
                )
            }
            Self::Withdrawn(build, because) => {
                let happened_at = build.withdrawn.as_ref().map(|withdrawn| withdrawn.at);
                let server = ServerFacts { happened_at, revision: build.number_there };
                let (release, name) = (asked.release, asked.name.clone());
                let withdrawn = Withdrawn { key: Some(key), storefront: Some(storefront), release, name, because };
                (EventBody::Withdrawn(withdrawn), server)
            }
        }
    }
}

impl Session {
    /// Records that an action is about to be asked for. A push of the very same that is open is taken up again.
    pub(crate) fn begin(
        &mut self,
        edition: &Name,
        storefront: &StorefrontRef,
        action: Action,
        (release, name): (ReleaseId, &ReleaseName),
        targets: &[Name],
    ) -> Result<Asked, ProjectError> {
        if action == Action::Push {
            let is_same = |asked: &&Asked| {
                (&asked.storefront, &asked.action, asked.release) == (storefront, &action, release)
                    && asked.targets == targets
            };
            let board = self.workspace.board(edition)?;
            if let Some(asked) = board.open.values().find(is_same) {
                return Ok(asked.clone());
            }
        }
        let key = EventId::new(environment::now(), environment::random()?);
        let (storefront, name, targets) = (storefront.clone(), name.clone(), targets.to_vec());
        let asked = Asked { key, storefront, action, release, name, targets };
        self.workspace.record(edition, EventBody::Asked(asked.clone()), None)?;
        Ok(asked)
    }

    /// Records that an action was done.
    pub(crate) fn done(&mut self, edition: &Name, asked: &Asked, outcome: DoneThere<'_>) -> Result<(), ProjectError> {
        let (body, server) = outcome.event(asked);
        self.workspace.record_done(&asked.storefront, edition, body, Some(server))
    }

    /// Records that an action did not happen.
    pub(crate) fn not_done(&mut self, edition: &Name, key: EventId, why: &str) -> Result<(), ProjectError> {
        let not_done = EventBody::NotDone(NotDone { key, why: why.to_owned() });
        self.workspace.record(edition, not_done, None).map(|_| ())
    }

    /// Reads an answer to an action. A refusal ends it; where no answer came that can be understood it stays open, for it may
    /// have been done.
    ///
    /// # Errors
    /// [`ProjectError::Storefront`] for a refusal, [`ProjectError::Unsettled`] when nobody knows.
    pub(crate) fn answered<T>(
        &mut self,
        storefront: &OpenStorefront,
        asked: &Asked,
        answer: Result<T, StorefrontError>,
    ) -> Result<T, ProjectError> {
        match answer {
            Ok(answer) => Ok(answer),
            Err(StorefrontError::Refused(problem)) => {
                self.not_done(&storefront.edition, asked.key, &problem.detail)?;
                Err(storefront.fails()(StorefrontError::Refused(problem)))
            }
            Err(StorefrontError::Stopped) => Err(ProjectError::Stopped),
            Err(source) => Err(ProjectError::Unsettled { storefront: asked.storefront.name.clone(), source }),
        }
    }

    /// Asks a storefront what became of actions that were begun and never answered.
    pub(crate) fn settle(&mut self, storefront: &OpenStorefront, builds: &[Build]) -> Result<(), ProjectError> {
        let open = self.workspace.board(&storefront.edition)?.open.clone();
        for asked in open.into_values().filter(|asked| asked.storefront.key() == storefront.reference.key()) {
            let outcome = match &asked.action {
                Action::Promote { branch } | Action::Rollback { branch } => {
                    let moves = storefront.branches()?.moves(&storefront.title, branch).map_err(storefront.fails())?;
                    let done = moves.into_iter().find(|moved| moved.key == asked.key);
                    done.map(|done| {
                        let (facts, because, restores) = (done.facts, done.because, done.restores);
                        DoneThere::Moved { facts, because, restores }
                    })
                }
                Action::Withdraw { because } => {
                    let build = builds.iter().find(|b| b.release == asked.release && b.withdrawn.is_some());
                    build.map(|build| DoneThere::Withdrawn(build, because.clone()))
                }
                // One that was cut is taken up by the next push.
                Action::Push => match build_of(builds, &asked) {
                    Some(build) => Some(DoneThere::Pushed(build, 0)),
                    None => continue,
                },
                // Anyone who asked for it knows how to settle it.
                Action::Other(_) => continue,
            };
            match outcome {
                Some(outcome) => self.done(&storefront.edition, &asked, outcome)?,
                None => self.not_done(&storefront.edition, asked.key, "the storefront never got it")?,
            }
        }
        Ok(())
    }
}

/// Returns the build that came of a push: the one that was made with its key, or that was there with the same targets.
fn build_of<'a>(builds: &'a [Build], asked: &Asked) -> Option<&'a Build> {
    let mut of_release = builds.iter().filter(|b| b.release == asked.release);
    let by_key = of_release.clone().find(|b| b.key == Some(asked.key));
    // Made with another key it is this push's only where nothing more was to be made.
    by_key.or_else(|| of_release.find(|build| build.targets.keys().eq(&asked.targets)))
}
