//! Actions that a person does by hand: planned, begun, and walked through step by step.

use std::collections::BTreeMap;
use std::path::PathBuf;

use jiff::Timestamp;
use lantern_core::audience::Audience;
use lantern_core::board::KnownRelease;
use lantern_core::by_hand::HandForm;
use lantern_core::event::{
    Action, BranchBuild, BranchWanted, EventBody, EventId, HandedOver, StepSaid, StepStanding, StepsBegun,
    StorefrontRef,
};
use lantern_core::names::{FolderName, Handle, Name};
use lantern_core::progress::Progress;
use lantern_core::release::TargetRecord;
use lantern_core::rules::Push;
use lantern_core::step::{AnswerError, NUMBER_THERE, Step};
use lantern_core::system::System;
use lantern_core::template::Values;
use lantern_core::version::ReleaseName;
use lantern_core::walk::{Gap, Walk, WalkError, gap};

use crate::error::{Class, Explained};
use crate::outgoing::{HandOverError, Wanted};
use crate::promote::{MovePlan, NeedShown, refuse_lacking};
use crate::push::{PushError, PushTexts};
use crate::status::Exports;
use crate::storefronts::{OpenStorefront, open_storefront};
use crate::workspace::{Session, Workspace};
use crate::{ProjectError, environment};

/// What is handed over of a target.
#[derive(Debug, Clone)]
pub struct HandFile {
    /// The target.
    pub target: Name,
    /// What it runs on.
    pub systems: Vec<System>,
    /// The name of the file or folder.
    pub name: FolderName,
    /// Its form.
    pub form: HandForm,
    /// How many files are in it.
    pub files: u64,
    /// Their size, in bytes, unpacked.
    pub size: u64,
    top: String,
}

/// What bringing a release to a storefront by hand will take.
#[derive(Debug, Clone)]
pub struct HandPush {
    /// Where.
    pub storefront: StorefrontRef,
    /// Its name for people.
    pub storefront_name: String,
    /// What.
    pub release: KnownRelease,
    /// Targets of the release that do not go there.
    pub left_here: Vec<Name>,
    /// Whether the exports are not what the release holds any more.
    pub exports_changed: bool,
    /// What is handed over.
    pub files: Vec<HandFile>,
    /// What a person does; the digests of the files are put in when they are laid out.
    pub steps: Vec<Step>,
    /// For how long players have nothing meanwhile; none where they always have something.
    pub gap: Option<Gap>,
    /// What the storefront is to call it.
    pub name_there: Option<Handle>,
    /// The storefront's own number, when all of it is there already.
    pub already: Option<u64>,
    /// What is said along with it.
    pub texts: PushTexts,
    /// The same push, where it was begun before.
    pub begun: Option<Walk>,
    /// Where the files are laid out.
    pub folder: PathBuf,
    /// Whether a connector is asked first.
    pub connector: bool,
    /// The branch whose players get it with the push, and who follows it.
    pub live_on: Option<(Name, Audience)>,
    /// What that branch needs of a release, and whether it has it.
    pub needs: Vec<NeedShown>,
}

impl HandPush {
    /// Whether every player gets it with the push: then the release's name must be given, a plain yes is not enough.
    pub fn is_for_everyone(&self) -> bool {
        self.already.is_none() && self.live_on.as_ref().is_some_and(|(_, audience)| audience.may_be_everyone())
    }

    /// Refuses a release that lacks what the branch needs whose players would get it.
    ///
    /// # Errors
    /// [`crate::MoveError::Lacks`].
    pub fn refuse_lacking(&self) -> Result<(), ProjectError> {
        match &self.live_on {
            Some((branch, _)) => refuse_lacking(&self.release.name, branch, &self.needs),
            None => Ok(()),
        }
    }
}

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

/// What came of saying how a step stands.
#[derive(Debug, Clone)]
pub struct Told {
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
            for walk in board.walks.values() {
                if name.is_none_or(|name| walk.begun.storefront.name == *name) {
                    let release = board.releases.iter().find(|release| release.id == walk.begun.release);
                    let is_push = walk.begun.action == Action::Push;
                    let folder = release.filter(|_| is_push);
                    let folder = folder.map(|release| self.project.outgoing(&walk.begun.storefront.name, release));
                    out.push(OpenWalk { edition: edition.clone(), walk: walk.clone(), folder, is_new: false });
                }
            }
        }
        out.sort_by_key(|open| open.walk.begun.key);
        Ok(out)
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
                        open.walk.hear(&said, &event.actor, event.recorded_at);
                    }
                }
                _ => {}
            }
        }
        let last = walks.pop().filter(|open| open.walk.current().is_none());
        Ok(last.filter(|open| {
            let found = open.walk.step(step).ok();
            let said = found.and_then(|step| open.walk.said.get(&step.id));
            let wanted = found.and_then(standing);
            said.zip(wanted).is_some_and(|(said, wanted)| is_same(&said.standing, &wanted))
        }))
    }
}

impl Session {
    /// Plans to bring a release to a storefront by hand; changes nothing.
    ///
    /// # Errors
    /// [`ProjectError::Config`] for rules that are wrong, [`ProjectError::Rules`] where they are in the way, [`StepsError`], and those of
    /// the ledger and the store.
    pub fn plan_push_by_hand(
        &mut self,
        storefront: &str,
        release: KnownRelease,
        texts: PushTexts,
    ) -> Result<HandPush, ProjectError> {
        self.refuse_unfit(&release)?;
        self.workspace.refuse_without_content(&release)?;
        let at = open_storefront(&self.workspace, &release.edition, storefront)?;
        let hand = at.hand.as_ref().ok_or_else(|| StepsError::NotByHand(at.reference.name.clone()))?;
        let record = self.workspace.record_of(&release)?;
        let (going, left): (Vec<&TargetRecord>, Vec<&TargetRecord>) =
            record.targets.iter().partition(|t| at.configured.takes(&t.target) && self.project().means(&t.target));
        if going.is_empty() {
            return Err(PushError::NothingFor { release: release.name, storefront: at.reference.name }.into());
        }
        let targets: Vec<Name> = going.iter().map(|t| t.target.clone()).collect();
        let (_, builds) = self.news_of(&at)?;
        let already =
            builds.iter().find(|b| b.release == release.id && targets.iter().all(|t| b.targets.contains_key(t)));
        if already.is_none() {
            let there: Vec<ReleaseName> =
                builds.iter().filter(|b| b.release != release.id).map(|b| b.name.clone()).collect();
            let mut refusals = at.rules()?.refuse_push(&Push { number: record.number, targets: &going, there: &there });
            refusals.extend(hand.rules.refuse_notes(&texts.notes));
            if !refusals.is_empty() {
                return Err(ProjectError::Rules { storefront: at.reference.name.clone(), refusals });
            }
        }
        let name_there = self.name_there(&at, &release)?;
        let mut values = self.hand_values(&at, &release, name_there.as_ref(), &texts);
        let files = self.files_to_hand_over(&at, &going, &values)?;
        values.set("hand-over.files", files.iter().map(|f| f.name.to_string()).collect::<Vec<_>>().join("\n"));
        let steps = hand.steps(&hand.rules.steps.push, &values);
        let board = self.workspace.board(&release.edition)?;
        let is_same = |walk: &&Walk| {
            let begun = &walk.begun;
            begun.release == release.id
                && begun.action == Action::Push
                && begun.storefront.key() == at.reference.key()
                && begun.hand_over.iter().map(|file| &file.target).eq(&targets)
        };
        let begun = board.walks.values().find(is_same).cloned();
        let live_on = match &hand.rules.live_on_push {
            None => None,
            Some(branch) => {
                let refusals = at.rules()?.refuse_promote(branch);
                if !refusals.is_empty() {
                    return Err(ProjectError::Rules { storefront: at.reference.name.clone(), refusals });
                }
                let audience = at.rules()?.branch(branch).map_or(Audience::Everyone, |rule| rule.audience);
                Some((branch.clone(), audience))
            }
        };
        let needs = match &live_on {
            None => Vec::new(),
            Some((branch, _)) => {
                let needs = at.configured.needs.get(branch).cloned().unwrap_or_default();
                self.needs_of(&release, &needs, &self.known_of(&release, targets.iter())?)?
            }
        };
        let status = self.workspace.status(&release.edition)?;
        let is_newest = status.newest.as_ref().is_some_and(|newest| newest.id == release.id);
        Ok(HandPush {
            storefront_name: at.name(),
            left_here: left.iter().map(|t| t.target.clone()).collect(),
            exports_changed: is_newest && status.exports == Exports::Changed,
            files,
            gap: gap(&steps),
            steps,
            name_there,
            already: already.map(|build| build.number_there),
            texts,
            begun,
            folder: self.project().outgoing(&at.reference.name, &release),
            connector: at.configured.connector().is_some(),
            live_on,
            needs,
            storefront: at.reference,
            release,
        })
    }

    fn files_to_hand_over(
        &self,
        at: &OpenStorefront,
        going: &[&TargetRecord],
        values: &Values,
    ) -> Result<Vec<HandFile>, ProjectError> {
        let Some(hand) = &at.hand else { return Ok(Vec::new()) };
        let mut files: Vec<HandFile> = Vec::new();
        for target in going {
            let Some(rule) = hand.rules.hand_over_of(&target.target) else { continue };
            let mut values = values.clone();
            values.set("target", target.target.to_string());
            let name = rule.name.fill(&values);
            let name: FolderName = name.parse().map_err(|source| HandOverError::FileName { name, source })?;
            let top = rule.top.fill(&values);
            if !top.is_empty() {
                top.parse::<FolderName>().map_err(|source| HandOverError::FileName { name: top.clone(), source })?;
            }
            if let Some(other) = files.iter().find(|other| other.name == name) {
                let (target, other) = (target.target.clone(), other.target.clone());
                return Err(HandOverError::SameName { name: name.to_string(), target, other }.into());
            }
            let mut paths = Vec::new();
            for depot in target.depots.iter().filter(|depot| depot.players.add_on.is_none()) {
                let (_, entries) = self.workspace.store.recipe(self.workspace.store.recipe_of(depot.tree)?)?;
                paths.extend(entries.into_iter().map(|entry| entry.path));
            }
            if let Some(pattern) = rule.must_have.without_match(&paths).first() {
                let (target, pattern) = (target.target.clone(), (*pattern).to_owned());
                return Err(HandOverError::Lacks { target, pattern, storefront: at.reference.name.clone() }.into());
            }
            let depots = || target.depots.iter().filter(|depot| depot.players.add_on.is_none());
            files.push(HandFile {
                target: target.target.clone(),
                systems: target.systems.clone(),
                name,
                form: rule.form,
                files: depots().map(|depot| depot.files).sum(),
                size: depots().map(|depot| depot.size).sum(),
                top,
            });
        }
        Ok(files)
    }

    /// Lays the files of a plan out and begins its steps, or goes on with those that were begun.
    ///
    /// # Errors
    /// Those of the disk, the store and the ledger.
    pub fn begin_push(&mut self, plan: &HandPush, progress: &dyn Progress) -> Result<OpenWalk, ProjectError> {
        let wanted: Vec<Wanted> = plan
            .files
            .iter()
            .map(|file| Wanted {
                target: file.target.clone(),
                name: file.name.clone(),
                form: file.form,
                top: file.top.clone(),
            })
            .collect();
        let before = plan.begun.as_ref().map(|walk| walk.begun.hand_over.clone()).unwrap_or_default();
        let storefront = &plan.storefront.name;
        let (folder, hand_over) = self.workspace.lay_out(storefront, &plan.release, &wanted, &before, progress)?;
        let edition = plan.release.edition.clone();
        if let Some(walk) = &plan.begun {
            return Ok(OpenWalk { edition, walk: walk.clone(), folder: Some(folder), is_new: false });
        }
        let mut values = Values::default();
        let digest = |file: &HandedOver| file.sha256.as_ref().map(|sha256| format!("{sha256}  {}", file.name));
        let digests: Vec<String> = hand_over.iter().filter_map(digest).collect();
        values.set("hand-over.digests", digests.join("\n"));
        let steps = plan.steps.iter().map(|step| filled_again(step, &values)).collect();
        let walk = self.begin_walk(&edition, |key| StepsBegun {
            key,
            storefront: plan.storefront.clone(),
            action: Action::Push,
            release: plan.release.id,
            name: plan.release.name.clone(),
            steps,
            connector: plan.connector,
            live_on: plan.live_on.as_ref().map(|(branch, _)| branch.clone()),
            hand_over,
            name_there: plan.name_there.clone(),
            message: plan.texts.message.clone(),
            notes: plan.texts.notes.clone(),
            wanted: None,
            because: None,
        })?;
        Ok(OpenWalk { edition, walk, folder: Some(folder), is_new: true })
    }

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
        let wanted = BranchWanted { revision: plan.before.revision, restores: plan.restores, targets };
        let board = self.workspace.board(&plan.edition)?;
        let moves_it = |walk: &&Walk| {
            let branch = match &walk.begun.action {
                Action::Promote { branch } | Action::Rollback { branch } => branch,
                _ => return false,
            };
            walk.begun.storefront.key() == plan.storefront.key() && *branch == plan.branch
        };
        if let Some(walk) = board.walks.values().find(moves_it).cloned() {
            let is_same = walk.begun.action == action && walk.begun.wanted.as_ref() == Some(&wanted);
            if is_same {
                return Ok(OpenWalk { edition: plan.edition.clone(), walk, folder: None, is_new: false });
            }
            let (storefront, branch) = (plan.storefront.name.clone(), plan.branch.clone());
            return Err(StepsError::UnderWay { storefront, branch, release: walk.begun.name }.into());
        }
        let walk = self.begin_walk(&plan.edition, |key| StepsBegun {
            key,
            storefront: plan.storefront.clone(),
            action,
            release: plan.release.release,
            name: plan.release.name.clone(),
            steps: plan.steps.clone().unwrap_or_default(),
            connector: plan.connector,
            live_on: None,
            hand_over: Vec::new(),
            name_there: None,
            message: None,
            notes: Default::default(),
            wanted: Some(wanted),
            because: plan.because.clone(),
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
        let is_same = |walk: &&Walk| {
            let begun = &walk.begun;
            begun.release == release.id
                && matches!(begun.action, Action::Withdraw { .. })
                && begun.storefront.key() == at.reference.key()
        };
        if let Some(walk) = board.walks.values().find(is_same).cloned() {
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
        let walk = self.begin_walk(&release.edition, |key| StepsBegun {
            key,
            storefront: at.reference.clone(),
            action: Action::Withdraw { because: because.to_owned() },
            release: release.id,
            name: release.name.clone(),
            steps,
            connector: at.configured.connector().is_some(),
            live_on: None,
            hand_over: Vec::new(),
            name_there: None,
            message: None,
            notes: Default::default(),
            wanted: None,
            because: Some(because.to_owned()),
        })?;
        Ok(OpenWalk { edition: release.edition.clone(), walk, folder: None, is_new: true })
    }

    fn begin_walk(&mut self, edition: &Name, begun: impl FnOnce(EventId) -> StepsBegun) -> Result<Walk, ProjectError> {
        let begun = begun(EventId::new(environment::now(), environment::random()?));
        let event = self.workspace.record(edition, EventBody::StepsBegun(begun.clone()), None)?;
        Ok(Walk::new(begun, event.actor, event.recorded_at))
    }

    /// Records how a step stands, as a person says it; at the last one, what the action comes to.
    ///
    /// # Errors
    /// [`StepsError::Gone`] when the action ended meanwhile, [`StepsError::Walk`] when somebody was faster, [`StepsError::NumberTaken`], and those of
    /// the ledger.
    pub fn say_step(
        &mut self,
        edition: &Name,
        key: EventId,
        step: &Name,
        standing: &StepStanding,
    ) -> Result<Told, ProjectError> {
        self.record_decided(edition, |session| {
            let walk = session.walk(edition, key)?;
            // The very same once more, as after a cut, is no news.
            if walk.said.get(step).is_some_and(|said| is_same(&said.standing, standing)) {
                return Ok(((), None));
            }
            walk.may_say(step, standing).map_err(StepsError::Walk)?;
            if let StepStanding::Done { read_back } = standing {
                session.refuse_taken_number(edition, &walk, read_back)?;
            }
            let said = StepSaid { key, step: step.clone(), standing: standing.clone() };
            Ok(((), Some(EventBody::StepSaid(said))))
        })?;
        self.finish_walk(edition, key)
    }

    /// Records what an action comes to whose steps are all done or left out. A command that was cut right before that is
    /// made good by the next one.
    ///
    /// # Errors
    /// [`StepsError::Gone`], and those of the ledger.
    pub fn finish_walk(&mut self, edition: &Name, key: EventId) -> Result<Told, ProjectError> {
        self.record_decided(edition, |session| {
            let walk = session.walk(edition, key)?;
            let board = session.workspace.board(edition)?;
            let there = board.pushed.iter().filter(|p| p.storefront.is_at(&walk.begun.storefront.key()));
            let free = there.map(|p| p.number_there).max().unwrap_or(0) + 1;
            let outcome = walk.outcome(free);
            Ok((Told { walk, outcome: outcome.clone() }, outcome))
        })
    }

    /// Gives an action up that was begun: what people did there stays as they left it.
    ///
    /// # Errors
    /// [`StepsError::Gone`], and those of the ledger.
    pub fn give_up_walk(&mut self, edition: &Name, key: EventId, because: &str) -> Result<(), ProjectError> {
        self.walk(edition, key)?;
        self.not_done(edition, key, because)
    }

    pub(crate) fn walk(&self, edition: &Name, key: EventId) -> Result<Walk, ProjectError> {
        let found = self.workspace.board(edition)?.walks.get(&key).cloned();
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

fn filled_again(step: &Step, values: &Values) -> Step {
    let fill = |text: &String| {
        let template = lantern_core::template::Template::read_again(text);
        template.map_or_else(|_| text.clone(), |template| template.fill_known(values).to_string())
    };
    let mut step = step.clone();
    step.text = fill(&step.text);
    step.open = step.open.as_ref().map(fill);
    for paste in &mut step.paste {
        paste.text = fill(&paste.text);
    }
    step
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
                    None => crate::error::one_of(known),
                }
            }
            Self::Walk(WalkError::Settled { .. }) => "to take that back, give --again".to_owned(),
            Self::Walk(_) => "say how it stands instead".to_owned(),
            Self::Answer { key, .. } | Self::NoAnswer { key, .. } => format!("--read-back {key}=…"),
            Self::NotAsked { known, .. } if known.is_empty() => "leave it out: it reads nothing back".to_owned(),
            Self::NotAsked { known, .. } => crate::error::one_of(known),
            Self::NumberTaken { .. } => "look there once more; each release has a number of its own".to_owned(),
            Self::UnderWay { storefront, .. } => {
                format!("finish that first, or give it up: lantern confirm {storefront}")
            }
        }]
    }
}
