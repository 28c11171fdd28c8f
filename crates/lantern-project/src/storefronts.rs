//! Storefronts of the project: finding, connecting, and recording what they say.

use std::collections::BTreeMap;
use std::sync::{Arc, PoisonError};

use lantern_core::board::{Board, KnownRelease};
use lantern_core::config::Storefront as Configured;
use lantern_core::digest::ReleaseId;
use lantern_core::event::{
    BranchReported, BranchWentBack, BuildFound, BuildGone, EventBody, Pushed, StorefrontRef, TitleKey, Withdrawn,
};
use lantern_core::finding::one_of;
use lantern_core::names::{Handle, Identity, Name};
use lantern_core::release::ReleaseRecord;
use lantern_core::rules::HouseRules;
use lantern_core::version::ReleaseAsked;
use lantern_ledger::ServerFacts;
use lantern_storefront::protocol::{Branch, Build, Title};
use lantern_storefront::{
    Branches, Builds, Content, Invitations, Opening, Storefront, StorefrontError, StorefrontFacts,
};

use crate::ProjectError;
use crate::connector_list::Listed;
use crate::connector_run::ConnectorFailed;
use crate::error::{Class, Explained};
use crate::hand_rules::{self, Hand};
use crate::project::Project;
use crate::releases::ReleaseError;
use crate::workspace::{Connected, Session, Workspace};

/// A storefront that answered and is the one that was connected.
pub(crate) struct OpenStorefront {
    pub reference: StorefrontRef,
    pub configured: Configured,
    pub edition: Name,
    /// What the storefront calls the edition.
    pub title: Handle,
    /// The title, as the storefront describes it.
    pub known: Title,
    /// Who it is.
    pub facts: StorefrontFacts,
    pub abilities: Arc<dyn Storefront>,
    /// What the studio wrote about it, where people do what is done there.
    pub hand: Option<Hand>,
}

impl OpenStorefront {
    /// Wraps the storefront's errors with its name.
    pub(crate) fn fails(&self) -> impl Fn(StorefrontError) -> ProjectError + '_ {
        fails_at(&self.reference.name)
    }

    /// Returns its name for people; ours after it where that is another one, since two may be called the same.
    pub fn name(&self) -> String {
        told_apart(self.facts.name.clone(), &self.reference.name)
    }

    /// The error of an answer that is not what it should be.
    pub(crate) fn nonsense(
        &self,
        what: &'static str,
        source: impl Into<Box<dyn std::error::Error + Send + Sync>>,
    ) -> ProjectError {
        let address = self.abilities.address().to_owned();
        self.fails()(StorefrontError::Nonsense { address, what, source: source.into() })
    }

    pub(crate) fn rules(&self) -> Result<HouseRules, ProjectError> {
        self.abilities.rules().map_err(self.fails())
    }

    pub(crate) fn content(&self) -> Result<&dyn Content, ProjectError> {
        self.abilities.content().map_err(self.fails())
    }

    pub(crate) fn builds(&self) -> Result<&dyn Builds, ProjectError> {
        self.abilities.builds().map_err(self.fails())
    }

    pub(crate) fn branches(&self) -> Result<&dyn Branches, ProjectError> {
        self.abilities.branches().map_err(self.fails())
    }

    pub(crate) fn invitations(&self) -> Result<&dyn Invitations, ProjectError> {
        self.abilities.invitations().map_err(self.fails())
    }
}

/// Wraps a storefront's errors with its name.
pub(crate) fn fails_at(name: &Name) -> impl Fn(StorefrontError) -> ProjectError + Copy + '_ {
    move |source| match source {
        StorefrontError::Stopped => ProjectError::Stopped,
        StorefrontError::Unanswered { .. } => ProjectError::Unanswered { storefront: name.clone() },
        source => ProjectError::Storefront { storefront: name.clone(), source },
    }
}

/// Returns what a storefront calls an edition.
pub(crate) fn title_of(name: &Name, configured: &Configured, edition: &Name) -> Result<Handle, ProjectError> {
    let no_title = || ConnectError::NoTitle { storefront: name.clone(), edition: edition.clone() };
    Ok(configured.handles.get(edition).cloned().ok_or_else(no_title)?)
}

/// Finds a storefront for an edition and makes sure that it is the one that was connected.
pub(crate) fn open_storefront(
    workspace: &Workspace,
    edition: &Name,
    name: &str,
) -> Result<OpenStorefront, ProjectError> {
    let project = &workspace.project;
    let (name, configured) = project.storefront(name)?;
    let fails = fails_at(name);
    let title = title_of(name, configured, edition)?;
    let (abilities, hand) = match configured.by_hand() {
        Some(by_hand) => {
            let hand = Hand { configured: by_hand.clone(), rules: project.hand_rules(name, configured, by_hand)? };
            let said = workspace.said_there(edition, name, configured, (&hand, &title))?;
            let opening = Opening { said: Some(Box::new(said)), ..Opening::default() };
            (lantern_storefront::open(&configured.kind, opening).map_err(fails)?, Some(hand))
        }
        None => (connected_storefront(workspace, name, configured)?, None),
    };
    let facts = abilities.identify().map_err(fails)?;
    let known = abilities.title(&title).map_err(fails)?;
    refuse_other_game(project, edition, name, &known)?;
    let reference = StorefrontRef { id: facts.id.clone(), name: name.clone(), handle: title.clone() };
    let (configured, edition) = (configured.clone(), edition.clone());
    Ok(OpenStorefront { reference, configured, edition, title, known, facts, abilities, hand })
}

/// A storefront that programs can ask, by the access that is kept. A command that asks several times identifies it and gets a token once.
fn connected_storefront(
    workspace: &Workspace,
    name: &Name,
    configured: &Configured,
) -> Result<Arc<dyn Storefront>, ProjectError> {
    let project = &workspace.project;
    let fails = fails_at(name);
    let address = configured.kind.address();
    let Some(found) = project.access_to(configured)? else {
        return Err(fails(StorefrontError::NotConnected { address: address.to_owned() }));
    };
    // Several storefronts may be asked at once, so the lock is not held while one answers.
    let connected = || workspace.connected.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = connected().get(name).filter(|known| known.access == found.access) {
        return Ok(known.storefront.clone());
    }
    let storefront = project.ask_as(configured, Some(found.access.clone()), None).map_err(fails)?;
    if storefront.identify().map_err(fails)?.id != found.storefront {
        return Err(ConnectError::OtherStorefront { storefront: name.clone(), address: address.to_owned() }.into());
    }
    connected().insert(name.clone(), Connected { access: found.access, storefront: storefront.clone() });
    Ok(storefront)
}

/// A handle that was copied from another game is found before anything is sent or recorded.
pub(crate) fn refuse_other_game(
    project: &Project,
    edition: &Name,
    storefront: &Name,
    title: &Title,
) -> Result<(), ProjectError> {
    let ours = project.identity(edition);
    if title.identity == *ours {
        return Ok(());
    }
    let (storefront, title, ours) = (storefront.clone(), title.clone(), ours.clone());
    Err(ConnectError::OtherTitle(Box::new(OtherTitle { storefront, title, ours })).into())
}

fn told_apart(theirs: String, ours: &Name) -> String {
    let is_same = theirs.to_lowercase().replace(' ', "-") == ours.as_str();
    if is_same { theirs } else { format!("{theirs} ({ours})") }
}

impl Project {
    /// Returns the storefront of this name.
    ///
    /// # Errors
    /// [`ConnectError::NoStorefront`].
    pub fn storefront(&self, name: &str) -> Result<(&Name, &Configured), ProjectError> {
        let found = self.config().storefronts.iter().find(|(known, _)| known.as_str() == name);
        let known = || self.config().storefronts.keys().cloned().collect();
        found.ok_or_else(|| ConnectError::NoStorefront { asked: name.to_owned(), known: known() }.into())
    }
}

impl Session {
    /// Records what a storefront says where it is news, and settles actions of which no answer had come.
    pub(crate) fn learn(
        &mut self,
        storefront: &OpenStorefront,
        branches: &[Branch],
        builds: &[Build],
    ) -> Result<(), ProjectError> {
        if storefront.hand.is_some() {
            // What it says was said here.
            return Ok(());
        }
        self.settle(storefront, builds)?;
        let board = self.workspace.board(&storefront.edition)?;
        let title = storefront.reference.key();
        self.learn_builds_of(storefront, &board, builds)?;
        for build in builds {
            let known = board.withdrawn_at.contains(&(title.clone(), build.release));
            if let Some(withdrawn) = build.withdrawn.as_ref().filter(|_| !known) {
                let body = Withdrawn {
                    key: None,
                    storefront: Some(storefront.reference.clone()),
                    release: build.release,
                    name: build.name.clone(),
                    because: withdrawn.because.clone(),
                };
                let server = ServerFacts { happened_at: Some(withdrawn.at), revision: build.number_there };
                self.workspace.record(&storefront.edition, EventBody::Withdrawn(body), Some(server))?;
            }
        }
        for branch in branches {
            let facts = branch.facts.clone();
            let known = board.branches.get(&(title.clone(), facts.branch.clone()));
            let storefront_ref = storefront.reference.clone();
            // What was heard now wins: a storefront may have come back from a backup.
            let body = match known {
                Some(known) if known.revision == facts.revision && known.targets == facts.targets => continue,
                Some(known) if facts.revision <= known.revision => EventBody::BranchWentBack(BranchWentBack {
                    storefront: storefront_ref,
                    facts,
                    known: known.revision,
                }),
                _ => EventBody::BranchReported(BranchReported::new(storefront_ref, facts)),
            };
            let server = ServerFacts { happened_at: branch.facts.since, revision: branch.facts.revision };
            self.workspace.record(&storefront.edition, body, Some(server))?;
        }
        self.workspace.note_heard(&storefront.reference)
    }

    /// Records builds that someone else brought there, and those that are there no longer.
    fn learn_builds_of(
        &mut self,
        storefront: &OpenStorefront,
        board: &Board,
        builds: &[Build],
    ) -> Result<(), ProjectError> {
        let title = storefront.reference.key();
        let here = board.pushed.iter().filter(|p| p.storefront.is_at(&title));
        let known: BTreeMap<u64, &Pushed> = here.map(|p| (p.number_there, p)).collect();
        let same =
            |build: &&Build, known: &Pushed| build.number_there == known.number_there && build.release == known.release;
        for gone in known.values().filter(|known| !builds.iter().any(|build| same(&build, known))) {
            let gone = BuildGone {
                storefront: storefront.reference.clone(),
                release: gone.release,
                name: gone.name.clone(),
                number_there: gone.number_there,
            };
            self.workspace.record(&storefront.edition, EventBody::BuildGone(gone), None)?;
        }
        for build in
            builds.iter().filter(|build| !known.get(&build.number_there).is_some_and(|known| same(build, known)))
        {
            let found = BuildFound {
                storefront: storefront.reference.clone(),
                release: build.release,
                name: build.name.clone(),
                number_there: build.number_there,
                name_there: build.name_there.clone(),
                targets: build.targets.keys().cloned().collect(),
                by: build.made_by.clone(),
                message: build.message.clone(),
                notes: build.notes.clone(),
            };
            let server = ServerFacts { happened_at: Some(build.made_at), revision: build.number_there };
            self.workspace.record(&storefront.edition, EventBody::BuildFound(found), Some(server))?;
        }
        Ok(())
    }
}

/// How a storefront took part in [`Session::refresh`].
#[derive(Debug)]
pub enum Heard {
    /// It answered.
    Now,
    /// It could not be asked; what is known is from earlier.
    Not(ProjectError),
    /// It cannot be asked: what is known was said by a person.
    ByHand,
    /// Its connector answered, and a branch has something that is not known here.
    Unknown {
        /// Which branch.
        branch: Name,
        /// Its number there.
        number: String,
    },
}

impl Session {
    /// Asks every storefront what it has and records what is news.
    ///
    /// # Errors
    /// Only those of this computer; a storefront that does not answer is in the result.
    pub fn refresh(&mut self) -> Result<Vec<(Name, Heard)>, ProjectError> {
        let mut out = Vec::new();
        for (name, editions) in self.storefronts_with_editions() {
            if self.project().storefront(name.as_str())?.1.by_hand().is_some() {
                let heard = self.ask_connectors(&editions, &name)?;
                out.push((name, heard));
                continue;
            }
            let mut heard = Heard::Now;
            for edition in editions {
                match self.ask_news(&edition, &name) {
                    Ok(()) => {}
                    Err(error) if error.is_of_storefront() => {
                        heard = Heard::Not(error);
                        break;
                    }
                    Err(error) => return Err(error),
                }
            }
            out.push((name, heard));
        }
        Ok(out)
    }

    /// Asks the connector of a storefront what each edition has there, where it has a connector that says so.
    fn ask_connectors(&mut self, editions: &[Name], name: &Name) -> Result<Heard, ProjectError> {
        let mut heard = Heard::ByHand;
        for edition in editions {
            match self.list_through_connector(edition, name) {
                Ok(Listed::NotSaid) => return Ok(Heard::ByHand),
                Ok(Listed::Said) => heard = Heard::Now,
                Ok(Listed::Unknown { branch, number }) => return Ok(Heard::Unknown { branch, number }),
                Err(error @ ProjectError::Connector(ConnectorFailed::Stopped(_))) => return Err(error),
                Err(error @ ProjectError::Connector(_)) => return Ok(Heard::Not(error)),
                Err(error) => return Err(error),
            }
        }
        Ok(heard)
    }

    /// Returns every configured storefront with those of the project's editions that it has.
    pub(crate) fn storefronts_with_editions(&self) -> Vec<(Name, Vec<Name>)> {
        let project = self.project();
        let editions = |handles: &BTreeMap<Name, Handle>| -> Vec<Name> {
            project.editions().into_iter().filter(|edition| handles.contains_key(edition)).collect()
        };
        let storefronts = project.config().storefronts.iter();
        storefronts.map(|(name, configured)| (name.clone(), editions(&configured.handles))).collect()
    }

    fn ask_news(&mut self, edition: &Name, name: &Name) -> Result<(), ProjectError> {
        let configured = self.project().storefront(name.as_str())?.1;
        if configured.by_hand().is_some() {
            // All that it could say is recorded here already.
            return title_of(name, configured, edition).map(|_| ());
        }
        let storefront = open_storefront(&self.workspace, edition, name.as_str())?;
        let (branches, builds) = self.news_of(&storefront)?;
        self.learn(&storefront, &branches, &builds)
    }

    /// Asks a storefront what it has.
    pub(crate) fn news_of(&self, storefront: &OpenStorefront) -> Result<(Vec<Branch>, Vec<Build>), ProjectError> {
        let branches = storefront.branches()?.list(&storefront.title).map_err(storefront.fails())?;
        let builds = storefront.builds()?.list(&storefront.title).map_err(storefront.fails())?;
        Ok((branches, builds))
    }

    /// Returns the release that is meant, here or at any storefront; those that do not answer are passed over.
    ///
    /// # Errors
    /// As [`Workspace::release`].
    pub fn release_anywhere(&mut self, asked: &ReleaseAsked) -> Result<KnownRelease, ProjectError> {
        if let Ok(known) = self.workspace.release(Some(asked)) {
            return Ok(known);
        }
        self.refresh()?;
        self.workspace.release(Some(asked))
    }

    /// Returns the newest release of each edition that is meant and that a storefront has a handle for.
    ///
    /// # Errors
    /// [`ReleaseError::NothingSealed`] when none of them has one, and those of the storefront.
    pub fn newest_of_each_edition(&mut self, storefront: &str) -> Result<Vec<KnownRelease>, ProjectError> {
        let (name, configured) = self.project().storefront(storefront)?;
        let (name, handles) = (name.clone(), configured.handles.clone());
        let editions = self.project().editions();
        // An edition that was asked for and has no handle there is an error of its own.
        let is_one = editions.len() == 1;
        let mut out = Vec::new();
        for edition in editions.into_iter().filter(|edition| is_one || handles.contains_key(edition)) {
            self.ask_news(&edition, &name)?;
            out.extend(self.workspace.board(&edition)?.release(None).cloned());
        }
        if out.is_empty() { Err(ReleaseError::NothingSealed.into()) } else { Ok(out) }
    }

    /// Returns the release that is meant at a storefront: of those that are known here, and of those that it has.
    ///
    /// # Errors
    /// As [`Workspace::release`], and those of the storefront.
    pub fn release_at(&mut self, storefront: &str, asked: Option<&ReleaseAsked>) -> Result<KnownRelease, ProjectError> {
        let (name, configured) = self.project().storefront(storefront)?;
        let (name, handles) = (name.clone(), configured.handles.clone());
        let known = self.workspace.release(asked);
        // What someone else brought there is asked for: it may be newer, or the very one that is meant.
        let is_sure = asked.is_some() && known.is_ok();
        if is_sure {
            return known;
        }
        let editions = self.project().editions().into_iter().filter(|edition| handles.contains_key(edition));
        let wanted = if asked.is_some() { usize::MAX } else { 1 };
        for edition in editions.take(wanted).collect::<Vec<_>>() {
            self.ask_news(&edition, &name)?;
        }
        self.workspace.release(asked)
    }
}

impl Workspace {
    /// Returns the record of a release: of the store, or of the storefront that one was found at that was sealed elsewhere.
    ///
    /// # Errors
    /// Those of the store and the storefront.
    pub fn record_of(&self, release: &KnownRelease) -> Result<ReleaseRecord, ProjectError> {
        let here = self.store.record(release.id);
        let Some(at) = release.found_at.as_ref().filter(|_| here.is_err()) else { return Ok(here?) };
        let board = self.board(&release.edition)?;
        let titles = self.titles(&board, &release.edition)?;
        let name = titles.iter().find(|(_, title)| **title == at.key()).map_or(&at.name, |(name, _)| name);
        let storefront = open_storefront(self, &release.edition, name.as_str())?;
        let what = "a release's record";
        let build = board.build_of(&at.key(), release.id).unwrap_or_default();
        let bytes = storefront.builds()?.record(&storefront.title, build).map_err(storefront.fails())?;
        if ReleaseId::of(&bytes) != release.id {
            return Err(storefront.nonsense(what, "it is the record of another release"));
        }
        ReleaseRecord::decode(&bytes).map_err(|e| storefront.nonsense(what, e))
    }

    /// Returns the title of an edition at each configured storefront, as far as it was ever connected: by the access that
    /// is kept now, else by the last one that the ledger knows of.
    ///
    /// # Errors
    /// Those of the folder where access is kept.
    pub fn titles(&self, board: &Board, edition: &Name) -> Result<BTreeMap<Name, TitleKey>, ProjectError> {
        let mut titles = self.connected(edition)?;
        for (name, configured) in &self.project.config().storefronts {
            if let (Some(handle), Some(known)) = (configured.handles.get(edition), board.connected.get(name)) {
                let title = || TitleKey { storefront: known.id.clone(), handle: handle.clone() };
                titles.entry(name.clone()).or_insert_with(title);
            }
        }
        Ok(titles)
    }

    /// Returns the title of an edition at each configured storefront that there is access to.
    ///
    /// # Errors
    /// Those of the folder where access is kept.
    pub fn connected(&self, edition: &Name) -> Result<BTreeMap<Name, TitleKey>, ProjectError> {
        let mut titles = BTreeMap::new();
        for (name, configured) in &self.project.config().storefronts {
            let Some(handle) = configured.handles.get(edition) else { continue };
            if configured.by_hand().is_some() {
                titles.extend(hand_rules::title_of(name, &configured.handles, edition).map(|at| (name.clone(), at)));
                continue;
            }
            if let Some(found) = self.project.access_to(configured)? {
                titles.insert(name.clone(), TitleKey { storefront: found.storefront, handle: handle.clone() });
            }
        }
        Ok(titles)
    }

    /// Returns when a storefront was last heard, if the ledger knows it.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn last_heard(&self, title: &TitleKey) -> Result<Option<jiff::Timestamp>, ProjectError> {
        self.heard(title)
    }
}

/// A title of another game.
#[derive(Debug)]
pub struct OtherTitle {
    /// The project's name for the storefront.
    pub storefront: Name,
    /// The title there.
    pub title: Title,
    /// The identity of the edition here.
    pub ours: Identity,
}

/// Why a storefront is not the one that is meant.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ConnectError {
    /// The project knows no such storefront.
    #[error("lantern.toml has no storefront {asked:?}")]
    NoStorefront {
        /// What was asked for.
        asked: String,
        /// Those that there are.
        known: Vec<Name>,
    },
    /// The storefront does not have the edition.
    #[error("{storefront} does not have the edition {edition}")]
    NoTitle {
        /// The project's name for the storefront.
        storefront: Name,
        /// The edition.
        edition: Name,
    },
    /// The title has no such depot.
    #[error("{storefront} has no depot {handle:?} in the title {title:?}", handle = .handle.as_str(), title = .title.as_str())]
    NoDepot {
        /// The project's name for the storefront.
        storefront: Name,
        /// The title.
        title: Handle,
        /// The handle that is not there.
        handle: Handle,
    },
    /// A storefront by hand needs no access of this computer's.
    #[error("there is nothing to connect: {storefront} is done by hand")]
    ByHand {
        /// The project's name for it.
        storefront: Name,
    },
    /// Another storefront answers at the address than the one that was connected.
    #[error("the storefront at {address} is not the one you connected to")]
    OtherStorefront {
        /// The project's name for it.
        storefront: Name,
        /// Its address.
        address: String,
    },
    /// The handle is that of another game's title.
    #[error("the title {} at {} belongs to another game, {}", .0.title.handle, .0.storefront, .0.title.identity)]
    OtherTitle(Box<OtherTitle>),
}

impl Explained for ConnectError {
    fn class(&self) -> Class {
        match self {
            Self::NoStorefront { .. } | Self::NoTitle { .. } | Self::NoDepot { .. } | Self::ByHand { .. } => {
                Class::Usage
            }
            Self::OtherStorefront { .. } | Self::OtherTitle(_) => Class::Refused,
        }
    }

    fn fixes(&self) -> Vec<String> {
        let one = |text: &str| vec![text.to_owned()];
        match self {
            Self::NoStorefront { asked, known } => {
                let names: Vec<&str> = known.iter().map(Name::as_str).collect();
                match lantern_core::names::nearest(asked, names.iter().copied()) {
                    Some(near) => vec![format!("did you mean {near}?")],
                    None if names.is_empty() => one("add [storefronts.NAME] to lantern.toml"),
                    None => vec![one_of(&names)],
                }
            }
            Self::NoTitle { storefront, edition } => {
                vec![format!("add its handle to [storefronts.{storefront}]: handle = {{ {edition} = \"…\" }}")]
            }
            Self::ByHand { storefront } => vec![format!("lantern push {storefront}")],
            Self::NoDepot { .. } => one("create the depot at the storefront, or fix its handle in lantern.toml"),
            Self::OtherStorefront { storefront, .. } => vec![
                "if the storefront was set up again, connect again and check what is there before you push".to_owned(),
                format!("lantern connect {storefront}"),
            ],
            Self::OtherTitle(other) => {
                let OtherTitle { storefront, ours, .. } = &**other;
                vec![format!("fix the handle in [storefronts.{storefront}]; in lantern.toml this game is {ours}")]
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_places_of_one_name_are_told_apart() {
        let label = |ours: &str| told_apart("Estuary Games".to_owned(), &ours.parse().unwrap());
        assert_eq!(label("estuary-games"), "Estuary Games");
        assert_eq!(label("other"), "Estuary Games (other)");
    }
}
