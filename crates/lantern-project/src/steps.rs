//! Actions that a person does by hand: planned, begun, and walked through step by step.

use std::collections::BTreeMap;
use std::path::PathBuf;

use jiff::Timestamp;
use lantern_core::board::KnownRelease;
use lantern_core::event::{Action, BranchBuild, BranchWanted, EventBody, EventId, StepSaid, StepStanding, StepsBegun};
use lantern_core::finding::one_of;
use lantern_core::names::Name;
use lantern_core::step::{AnswerError, NUMBER_THERE, Step};
use lantern_core::version::ReleaseName;
use lantern_core::walk::{There, Walk, WalkError};

use crate::error::{Class, Explained};
use crate::promote::MovePlan;
use crate::storefronts::OpenStorefront;
use crate::workspace::{Session, Workspace};
use crate::{ProjectError, environment};

/// An action on its way.
#[derive(Debug, Clone)]
pub struct OpenWalk {
    /// Of which edition.
    pub edition: Name,
    /// What was said so far.
    pub walk: Walk,
    /// Where its files are laid out, of a push.
    pub folder: Option<PathBuf>,
    /// Whether it began just now, so that nobody was asked for it before.
    pub is_new: bool,
}

/// What came of recording how a step stands.
#[derive(Debug, Clone)]
pub struct StepRecorded {
    /// The action.
    pub walk: Walk,
    /// What was recorded at its end; none while steps are open.
    pub outcome: Option<EventBody>,
}

impl Workspace {
    /// Returns what people are doing at a storefront, or everywhere, oldest first.
    ///
    /// # Errors
    /// [`crate::ConnectError::NoStorefront`], and those of the ledger.
    pub fn walks(&self, storefront: Option<&str>) -> Result<Vec<OpenWalk>, ProjectError> {
        let name = storefront.map(|name| self.project.storefront(name)).transpose()?.map(|(name, _)| name);
        let mut out = Vec::new();
        for edition in self.all_editions()? {
            let board = self.recent_board(&edition)?;
            for walk in board.open_walks() {
                if name.is_none_or(|name| walk.begun.storefront.name == *name) {
                    let release = board.releases.iter().find(|release| release.id == walk.begun.release);
                    let is_push = walk.begun.action == Action::Push;
                    let folder = release.filter(|_| is_push);
                    let folder = folder.map(|release| self.project.outgoing(&walk.begun.storefront.name, release));
                    out.push(OpenWalk { edition: edition.clone(), walk, folder, is_new: false });
                }
            }
        }
        out.sort_by_key(|open| open.walk.begun.key);
        Ok(out)
    }
}

/// What came of an action.
#[derive(Debug, Clone, PartialEq)]
pub enum CameOf {
    /// It goes on: someone said something of a step.
    GoesOn(Box<Walk>),
    /// Someone gave it up, or it was refused.
    GivenUp {
        /// Why.
        why: String,
    },
    /// All of it is done.
    Done,
}

impl Workspace {
    /// Returns what came of an action that was open.
    ///
    /// # Errors
    /// Those of the ledger.
    pub fn came_of(&self, before: &Walk) -> Result<CameOf, ProjectError> {
        let key = before.begun.key;
        if let Some(open) = self.walks(None)?.into_iter().find(|open| open.walk.is(key)) {
            return Ok(CameOf::GoesOn(Box::new(open.walk)));
        }
        let given_up = self.events()?.into_iter().find_map(|event| match event.body {
            EventBody::NotDone(not_done) if not_done.key == key => Some(not_done.why),
            _ => None,
        });
        Ok(given_up.map_or(CameOf::Done, |why| CameOf::GivenUp { why }))
    }
}

/// Whether this says nothing new of a step: it is done with the same answers, left out, or waits already.
fn is_same(said: &StepStanding, standing: &StepStanding) -> bool {
    match (said, standing) {
        (StepStanding::Waiting { .. }, StepStanding::Waiting { .. }) => true,
        (said, standing) => said == standing,
    }
}

impl Workspace {
    /// Returns the action that ended last at a storefront and had a step that stands so; none where nothing like it ended there.
    ///
    /// # Errors
    /// Those of the ledger.
    pub fn ended_with(
        &self,
        storefront: &Name,
        step: &str,
        standing: &dyn Fn(&Step) -> Option<StepStanding>,
    ) -> Result<Option<OpenWalk>, ProjectError> {
        let mut walks: Vec<OpenWalk> = Vec::new();
        for event in self.events()? {
            match event.body {
                EventBody::StepsBegun(begun) if begun.storefront.name == *storefront => {
                    let walk = Walk::new(begun, event.actor, event.recorded_at);
                    walks.push(OpenWalk { edition: event.edition, walk, folder: None, is_new: false });
                }
                EventBody::StepSaid(said) => {
                    if let Some(open) = walks.iter_mut().find(|open| open.walk.begun.key == said.key) {
                        open.walk.take(&said, &event.actor, event.recorded_at);
                    }
                }
                _ => {}
            }
        }
        let last = walks.into_iter().rfind(|open| open.walk.current().is_none());
        Ok(last.filter(|open| {
            let found = open.walk.step(step).ok();
            let said = found.and_then(|step| open.walk.standing(&step.id));
            let wanted = found.and_then(standing);
            said.zip(wanted).is_some_and(|(said, wanted)| is_same(&said.standing, &wanted))
        }))
    }
}

impl Session {
    /// Begins the steps of a move, or goes on with those that were begun.
    ///
    /// # Errors
    /// [`StepsError::UnderWay`] while the branch is being moved elsewhere, and those of the ledger.
    pub fn begin_move(&mut self, plan: &MovePlan) -> Result<OpenWalk, ProjectError> {
        let action = match plan.restores {
            Some(_) => Action::Rollback { branch: plan.branch.clone() },
            None => Action::Promote { branch: plan.branch.clone() },
        };
        let after = |change: &crate::Change| Some((change.target.clone(), change.after.clone()?));
        let mut targets: BTreeMap<Name, BranchBuild> = plan.stays.iter().cloned().collect();
        targets.extend(plan.changes.iter().filter_map(after));
        let board = self.workspace.board(&plan.edition)?;
        let wanted = BranchWanted {
            revision: plan.before.revision,
            restores: plan.restores,
            changes: plan.changes.iter().map(|change| change.target.clone()).collect(),
            targets,
            after: board.newest_word(&(plan.storefront.key(), plan.branch.clone())),
        };
        let moves_it = |walk: &Walk| {
            let branch = match &walk.begun.action {
                Action::Promote { branch } | Action::Rollback { branch } => branch,
                _ => return false,
            };
            walk.begun.storefront.key() == plan.storefront.key() && *branch == plan.branch
        };
        if let Some(walk) = board.open_walks().into_iter().find(moves_it) {
            let is_same = walk.begun.action == action && walk.begun.brings() == wanted.brings();
            if is_same {
                return Ok(OpenWalk { edition: plan.edition.clone(), walk, folder: None, is_new: false });
            }
            let (storefront, branch) = (plan.storefront.name.clone(), plan.branch.clone());
            return Err(StepsError::UnderWay { storefront, branch, release: walk.begun.name }.into());
        }
        let release = (plan.release.release, plan.release.name.clone());
        let steps = plan.steps.clone().unwrap_or_default();
        let walk = self.begin_walk(&plan.edition, |key| StepsBegun {
            connector: plan.connector,
            wanted: Some(wanted),
            because: plan.because.clone(),
            ..StepsBegun::new(key, plan.storefront.clone(), action, release, steps)
        })?;
        Ok(OpenWalk { edition: plan.edition.clone(), walk, folder: None, is_new: true })
    }

    /// Begins the steps that take a release away.
    pub(crate) fn begin_withdrawal(
        &mut self,
        at: &OpenStorefront,
        release: &KnownRelease,
        because: &str,
    ) -> Result<OpenWalk, ProjectError> {
        let board = self.workspace.board(&release.edition)?;
        let is_same = |walk: &Walk| {
            let begun = &walk.begun;
            begun.release == release.id
                && matches!(begun.action, Action::Withdraw { .. })
                && begun.storefront.key() == at.reference.key()
        };
        if let Some(walk) = board.open_walks().into_iter().find(is_same) {
            return Ok(OpenWalk { edition: release.edition.clone(), walk, folder: None, is_new: false });
        }
        let number = board.build_of(&at.reference.key(), release.id);
        let steps = self.steps_of(
            at,
            release,
            number,
            |hand| hand.rules.steps.withdraw.as_slice(),
            |values| {
                values.set("because", because);
            },
        )?;
        let action = Action::Withdraw { because: because.to_owned() };
        let named = (release.id, release.name.clone());
        let walk = self.begin_walk(&release.edition, |key| StepsBegun {
            connector: at.configured.connector().is_some(),
            because: Some(because.to_owned()),
            ..StepsBegun::new(key, at.reference.clone(), action, named, steps)
        })?;
        Ok(OpenWalk { edition: release.edition.clone(), walk, folder: None, is_new: true })
    }

    pub(crate) fn begin_walk(
        &mut self,
        edition: &Name,
        begun: impl FnOnce(EventId) -> StepsBegun,
    ) -> Result<Walk, ProjectError> {
        let begun = begun(EventId::new(environment::now(), environment::random()?));
        let event = self.workspace.record(edition, EventBody::StepsBegun(begun.clone()), None)?;
        Ok(Walk::new(begun, event.actor, event.recorded_at))
    }

    /// Records how a step stands, as a person says it; at the last one, what the action comes to.
    ///
    /// # Errors
    /// [`StepsError::Gone`] when the action ended meanwhile, [`StepsError::Walk`] when someone was faster, [`StepsError::NumberTaken`], and those of
    /// the ledger.
    pub fn record_step(
        &mut self,
        edition: &Name,
        key: EventId,
        step: &Name,
        standing: &StepStanding,
    ) -> Result<StepRecorded, ProjectError> {
        self.record_decided(edition, |session| {
            let walk = session.walk(edition, key)?;
            // The very same once more, as after a cut, is no news.
            if walk.standing(step).is_some_and(|said| is_same(&said.standing, standing)) {
                return Ok(((), None));
            }
            walk.may_say(step, standing).map_err(StepsError::Walk)?;
            if let StepStanding::Done { read_back } = standing {
                session.refuse_taken_number(edition, &walk, read_back)?;
            }
            let after = environment::ahead_of_us(walk.said.get(step).map(|said| said.at));
            let said = StepSaid { key: walk.begun.key, step: step.clone(), standing: standing.clone(), after };
            Ok(((), Some(EventBody::StepSaid(said))))
        })?;
        self.finish_walk(edition, key)
    }

    /// Records what an action comes to whose steps are all done or left out. A command that was cut right before that is
    /// made good by the next one.
    ///
    /// # Errors
    /// [`StepsError::Gone`], and those of the ledger.
    pub fn finish_walk(&mut self, edition: &Name, key: EventId) -> Result<StepRecorded, ProjectError> {
        self.record_decided(edition, |session| {
            let walk = session.walk(edition, key)?;
            let outcome = walk.outcome(&session.there(edition, &walk)?);
            Ok((StepRecorded { walk, outcome: outcome.clone() }, outcome))
        })
    }

    /// Gives an action up that was begun: what people did there stays as they left it.
    ///
    /// # Errors
    /// [`StepsError::Gone`], and those of the ledger.
    pub fn give_up_walk(&mut self, edition: &Name, key: EventId, because: &str) -> Result<(), ProjectError> {
        let walk = self.walk(edition, key)?;
        for key in walk.keys() {
            self.not_done(edition, key, because)?;
        }
        Ok(())
    }

    /// What is known of the storefront that an action comes to its end at.
    pub(crate) fn there(&self, edition: &Name, walk: &Walk) -> Result<There, ProjectError> {
        let board = self.workspace.board(edition)?;
        let begun = &walk.begun;
        let title = begun.storefront.key();
        let numbers = board.pushed.iter().filter(|p| p.storefront.is_at(&title)).map(|p| p.number_there);
        let branch = match &begun.action {
            Action::Promote { branch } | Action::Rollback { branch } => Some(branch),
            _ => begun.live_on.as_ref(),
        };
        let branch = branch.map(|branch| (title.clone(), branch.clone()));
        let newest = branch.as_ref().and_then(|branch| board.newest_word(branch));
        Ok(There {
            free: numbers.max().unwrap_or(0) + 1,
            now: branch.and_then(|branch| board.branches.get(&branch).cloned()),
            after: environment::ahead_of_us(newest),
        })
    }

    pub(crate) fn walk(&self, edition: &Name, key: EventId) -> Result<Walk, ProjectError> {
        let found = self.workspace.board(edition)?.open_walks().into_iter().find(|walk| walk.is(key));
        Ok(found.ok_or(StepsError::Gone)?)
    }

    fn refuse_taken_number(
        &self,
        edition: &Name,
        walk: &Walk,
        read_back: &BTreeMap<Name, String>,
    ) -> Result<(), ProjectError> {
        let number = read_back.iter().find(|(key, _)| key.as_str() == NUMBER_THERE);
        let Some(number) = number.and_then(|(_, text)| text.parse::<u64>().ok()) else { return Ok(()) };
        let board = self.workspace.board(edition)?;
        let mut there = board.pushed.iter().filter(|p| p.storefront.is_at(&walk.begun.storefront.key()));
        match there.find(|p| p.number_there == number) {
            Some(other) => Err(StepsError::NumberTaken { number, by: other.name.clone() }.into()),
            None => Ok(()),
        }
    }
}

/// Checks the answers to what a step reads back, by their keys.
///
/// # Errors
/// [`StepsError::Answer`], [`StepsError::NoAnswer`], [`StepsError::NotAsked`].
pub fn check_answers(step: &Step, given: &[(String, String)]) -> Result<BTreeMap<Name, String>, StepsError> {
    if let Some((key, _)) = given.iter().find(|(key, _)| !step.read_back.iter().any(|back| back.key.as_str() == key)) {
        let known = step.read_back.iter().map(|back| back.key.clone()).collect();
        return Err(StepsError::NotAsked { step: step.id.clone(), key: key.clone(), known });
    }
    let mut out = BTreeMap::new();
    for back in &step.read_back {
        let text = given.iter().rfind(|(key, _)| back.key.as_str() == key).map(|(_, text)| text.as_str());
        let Some(text) = text else {
            if back.optional {
                continue;
            }
            return Err(StepsError::NoAnswer { step: step.id.clone(), key: back.key.clone(), ask: back.ask.clone() });
        };
        let wrong = |error| StepsError::Answer { key: back.key.clone(), error };
        if let Some(text) = back.check(text).map_err(wrong)? {
            out.insert(back.key.clone(), text);
        }
    }
    Ok(out)
}

/// Returns how a step stands that begins to wait now.
pub fn waiting_since(step: &Step, now: Timestamp) -> StepStanding {
    StepStanding::Waiting { due: Walk::due(step, now) }
}

/// Why an action by hand does not go on.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StepsError {
    /// Programs can ask the storefront.
    #[error("{0} is not done by hand")]
    NotByHand(Name),
    /// No program of the studio's own does what is done there.
    #[error("{0} has no connector")]
    NoConnector(Name),
    /// Nothing is open there.
    #[error("nothing is open at {storefront}")]
    NothingOpen {
        /// The project's name for it.
        storefront: Name,
    },
    /// The action ended meanwhile.
    #[error("this was finished or given up in the meantime")]
    Gone,
    /// Something cannot be said of a step.
    #[error(transparent)]
    Walk(WalkError),
    /// An answer is not one.
    #[error("{key}: {error}")]
    Answer {
        /// Of what.
        key: Name,
        /// How it is wrong.
        error: AnswerError,
    },
    /// An answer is missing.
    #[error("the step {step} needs an answer: {ask}")]
    NoAnswer {
        /// Which step.
        step: Name,
        /// Its key.
        key: Name,
        /// What is asked.
        ask: String,
    },
    /// An answer is given that nothing asks for.
    #[error("the step {step} does not read {key:?} back")]
    NotAsked {
        /// Which step.
        step: Name,
        /// What was given.
        key: String,
        /// What it reads back.
        known: Vec<Name>,
    },
    /// Another build has that number there.
    #[error("{by} has the number {number} there")]
    NumberTaken {
        /// The number.
        number: u64,
        /// Which.
        by: ReleaseName,
    },
    /// The branch is being moved to something else.
    #[error("{branch} at {storefront} is being moved to {release}")]
    UnderWay {
        /// The project's name for the storefront.
        storefront: Name,
        /// Which branch.
        branch: Name,
        /// To what.
        release: ReleaseName,
    },
}

impl Explained for StepsError {
    fn class(&self) -> Class {
        match self {
            Self::Gone | Self::NumberTaken { .. } | Self::UnderWay { .. } | Self::Walk(WalkError::Settled { .. }) => {
                Class::Refused
            }
            _ => Class::Usage,
        }
    }

    fn fixes(&self) -> Vec<String> {
        vec![match self {
            Self::NoConnector(name) => format!("write kind = \"connector\" and run = […] into [storefronts.{name}]"),
            Self::NotByHand(name) => format!("lantern push {name}"),
            Self::NothingOpen { storefront } => format!("begin something: lantern push {storefront}"),
            Self::Gone => "see what came of it: lantern history".to_owned(),
            Self::Walk(WalkError::NoStep { asked, known }) => {
                match lantern_core::names::nearest(asked, known.iter().map(Name::as_str)) {
                    Some(near) => format!("did you mean {near}?"),
                    None => one_of(known),
                }
            }
            Self::Walk(WalkError::Settled { .. }) => "to take that back, give --again".to_owned(),
            Self::Walk(_) => "say how it stands instead".to_owned(),
            Self::Answer { key, .. } | Self::NoAnswer { key, .. } => format!("--read-back {key}=…"),
            Self::NotAsked { known, .. } if known.is_empty() => "leave it out: it reads nothing back".to_owned(),
            Self::NotAsked { known, .. } => one_of(known),
            Self::NumberTaken { .. } => "look there once more; each release has a number of its own".to_owned(),
            Self::UnderWay { storefront, .. } => {
                format!("finish that first, or give it up: lantern confirm {storefront}")
            }
        }]
    }
}
