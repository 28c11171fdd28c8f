//! `push` to a storefront by hand: what is handed over there, and what a person does with it.

use std::path::PathBuf;

use lantern_core::audience::Audience;
use lantern_core::board::KnownRelease;
use lantern_core::by_hand::HandForm;
use lantern_core::event::{Action, HandedOver, StepsBegun, StorefrontRef};
use lantern_core::names::{FolderName, Handle, Name};
use lantern_core::progress::Progress;
use lantern_core::release::TargetRecord;
use lantern_core::rules::Push;
use lantern_core::step::Step;
use lantern_core::system::System;
use lantern_core::template::{Template, Values};
use lantern_core::version::ReleaseName;
use lantern_core::walk::{Gap, Walk, gap};

use crate::ProjectError;
use crate::needs::NeedShown;
use crate::outgoing::{HandOverError, Wanted};
use crate::promote::refuse_lacking;
use crate::push::{PushError, PushTexts};
use crate::status::Exports;
use crate::steps::{OpenWalk, StepsError};
use crate::storefronts::{OpenStorefront, open_storefront};
use crate::workspace::Session;

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
    /// How the exports stand to the release; as sealed where it is not the newest.
    pub exports: Exports,
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
            let push = Push { number: record.number, targets: &going, there: &there, notes: &texts.notes };
            let refusals = at.rules()?.refuse_push(&push);
            if !refusals.is_empty() {
                return Err(ProjectError::Rules { storefront: at.reference.name.clone(), refusals });
            }
        }
        let name_there = self.name_there(&at, &release)?;
        let mut values = self.hand_values(&at, &release, name_there.as_ref(), &texts);
        let title = self.project().edition_name(&release.edition);
        let files = self.files_to_hand_over(&at, &going, title, &values)?;
        values.set("hand-over.files", files.iter().map(|f| f.name.to_string()).collect::<Vec<_>>().join("\n"));
        let steps = hand.steps(&hand.rules.steps.push, &values);
        let board = self.workspace.board(&release.edition)?;
        let is_same = |walk: &Walk| {
            let begun = &walk.begun;
            begun.release == release.id
                && begun.action == Action::Push
                && begun.storefront.key() == at.reference.key()
                && begun.hand_over.iter().map(|file| &file.target).eq(&targets)
        };
        let begun = board.open_walks().into_iter().find(is_same);
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
            exports: if is_newest { status.exports } else { Exports::Sealed },
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
        title: &str,
        values: &Values,
    ) -> Result<Vec<HandFile>, ProjectError> {
        let Some(hand) = &at.hand else { return Ok(Vec::new()) };
        let mut files: Vec<HandFile> = Vec::new();
        for target in going {
            let Some(rule) = hand.rules.hand_over_of(&target.target) else { continue };
            let mut values = values.clone();
            values.set("target", target.target.to_string());
            // A title may have a colon; a file's name may not.
            values.set("game.name", FolderName::of_title(title).to_string());
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
        let before = plan.begun.as_ref().map(|walk| walk.begun.hand_over.clone()).unwrap_or_default();
        // Steps that were begun name the files as they were called then.
        let begun_name = |target: &Name| -> Option<FolderName> {
            before.iter().find(|file| file.target == *target)?.name.parse().ok()
        };
        let wanted: Vec<Wanted> = plan
            .files
            .iter()
            .map(|file| Wanted {
                target: file.target.clone(),
                name: begun_name(&file.target).unwrap_or_else(|| file.name.clone()),
                form: file.form,
                top: file.top.clone(),
            })
            .collect();
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
        let release = (plan.release.id, plan.release.name.clone());
        let walk = self.begin_walk(&edition, |key| StepsBegun {
            connector: plan.connector,
            live_on: plan.live_on.as_ref().map(|(branch, _)| branch.clone()),
            hand_over,
            name_there: plan.name_there.clone(),
            message: plan.texts.message.clone(),
            notes: plan.texts.notes.clone(),
            ..StepsBegun::new(key, plan.storefront.clone(), Action::Push, release, steps)
        })?;
        Ok(OpenWalk { edition, walk, folder: Some(folder), is_new: true })
    }
}

fn filled_again(step: &Step, values: &Values) -> Step {
    let fill = |text: &String| {
        let template = Template::read_again(text);
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
