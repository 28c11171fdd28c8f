//! Storefronts of the project: finding, connecting, and recording what they say.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use lantern_core::board::{Board, KnownRelease};
use lantern_core::config::Storefront as Configured;
use lantern_core::digest::ReleaseId;
use lantern_core::event::{
    Asked, BranchWentBack, BuildFound, BuildGone, Connected, Deed, EventBody, EventId, Moved, NotDone, PlaceRef,
    Pushed, Seen, TitleKey, Withdrawn,
};
use lantern_core::names::{Handle, Name};
use lantern_core::release::ReleaseRecord;
use lantern_core::rules::HouseRules;
use lantern_core::version::{ReleaseAsked, ReleaseName};
use lantern_ledger::ServerFacts;
use lantern_storefront::protocol::{Branch, Build, Title};
use lantern_storefront::{Access, Branches, Builds, Content, Invitations, PlaceError, Storefront, StorefrontFacts};

use crate::error::OtherTitle;
use crate::project::{Project, Session, Workspace};
use crate::{ProjectError, environment};

/// A storefront that answered and is the one that was connected.
pub(crate) struct Place {
    pub reference: PlaceRef,
    pub configured: Configured,
    pub edition: Name,
    /// What the place calls the edition.
    pub title: Handle,
    /// The title, as the place describes it.
    pub known: Title,
    /// Who it is.
    pub facts: StorefrontFacts,
    pub storefront: Arc<dyn Storefront>,
}

impl Place {
    /// Wraps the storefront's errors with its name.
    pub(crate) fn fails(&self) -> impl Fn(PlaceError) -> ProjectError + '_ {
        |source| match source {
            PlaceError::Stopped => ProjectError::Stopped,
            source => ProjectError::Place { place: self.reference.name.clone(), source },
        }
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
        let address = self.storefront.address().to_owned();
        self.fails()(PlaceError::Nonsense { address, what, source: source.into() })
    }

    pub(crate) fn rules(&self) -> Result<HouseRules, ProjectError> {
        self.storefront.rules().map_err(self.fails())
    }

    pub(crate) fn content(&self) -> Result<&dyn Content, ProjectError> {
        self.storefront.content().map_err(self.fails())
    }

    pub(crate) fn builds(&self) -> Result<&dyn Builds, ProjectError> {
        self.storefront.builds().map_err(self.fails())
    }

    pub(crate) fn branches(&self) -> Result<&dyn Branches, ProjectError> {
        self.storefront.branches().map_err(self.fails())
    }

    pub(crate) fn invitations(&self) -> Result<&dyn Invitations, ProjectError> {
        self.storefront.invitations().map_err(self.fails())
    }
}

/// Returns what a storefront calls an edition.
pub(crate) fn title_of(name: &Name, configured: &Configured, edition: &Name) -> Result<Handle, ProjectError> {
    let no_title = || ProjectError::NoTitle { place: name.clone(), edition: edition.clone() };
    configured.handles.get(edition).cloned().ok_or_else(no_title)
}

/// Finds a storefront for an edition and makes sure that it is the one that was connected.
pub(crate) fn open_place(project: &Project, edition: &Name, name: &str) -> Result<Place, ProjectError> {
    let (name, configured) = project.storefront(name)?;
    let place = |source| match source {
        PlaceError::Stopped => ProjectError::Stopped,
        source => ProjectError::Place { place: name.clone(), source },
    };
    let address = configured.kind.address();
    let Some(found) = project.access_to(configured)? else {
        return Err(place(PlaceError::NotConnected { address: address.to_owned() }));
    };
    let storefront = project.ask_as(configured, Some(found.access), None).map_err(place)?;
    let facts = storefront.identify().map_err(place)?;
    if facts.id != found.storefront {
        return Err(ProjectError::OtherPlace { place: name.clone(), address: address.to_owned() });
    }
    let title = title_of(name, configured, edition)?;
    let known = storefront.title(&title).map_err(place)?;
    refuse_other_game(project, edition, name, &known)?;
    let reference = PlaceRef { storefront: facts.id.clone(), name: name.clone(), handle: title.clone() };
    let (configured, edition) = (configured.clone(), edition.clone());
    Ok(Place { reference, configured, edition, title, known, facts, storefront })
}

/// A handle that was copied from another game is found before anything is sent or recorded.
fn refuse_other_game(project: &Project, edition: &Name, place: &Name, title: &Title) -> Result<(), ProjectError> {
    let ours = project.identity(edition);
    if title.identity == *ours {
        return Ok(());
    }
    let (place, title, ours) = (place.clone(), title.clone(), ours.clone());
    Err(ProjectError::OtherTitle(Box::new(OtherTitle { place, title, ours })))
}

fn told_apart(theirs: String, ours: &Name) -> String {
    let is_same = theirs.to_lowercase().replace(' ', "-") == ours.as_str();
    if is_same { theirs } else { format!("{theirs} ({ours})") }
}

/// What connecting found out.
#[derive(Debug, Clone)]
pub struct Connection {
    /// The project's name for it.
    pub storefront: Name,
    /// Its name for people.
    pub place_name: String,
    /// Its address.
    pub address: String,
    /// As whom.
    pub client: String,
    /// Rights that came with it.
    pub rights: Vec<String>,
    /// One for each edition that it has.
    pub titles: Vec<ConnectedTitle>,
    /// What it demands.
    pub rules: HouseRules,
    /// Where access is kept.
    pub kept_in: PathBuf,
    /// Branches of the configuration that are not there, each with its edition.
    pub lacking: Vec<(Name, Name)>,
}

/// An edition, as a place has it.
#[derive(Debug, Clone)]
pub struct ConnectedTitle {
    /// Ours.
    pub edition: Name,
    /// Theirs.
    pub title: Title,
    /// Its branches.
    pub branches: Vec<Branch>,
}

impl Session {
    /// Tries a name and secret at a storefront, and keeps them when they are accepted.
    ///
    /// # Errors
    /// [`ProjectError::Place`] for a wrong secret, a missing title or depot, or a place that does not answer. Nothing
    /// is kept then.
    pub fn connect(&mut self, name: &str, access: Access) -> Result<Connection, ProjectError> {
        let project = self.project();
        let (name, configured) = project.storefront(name)?;
        let (name, configured) = (name.clone(), configured.clone());
        let fails = |source| ProjectError::Place { place: name.clone(), source };
        let at = project.ask_as(&configured, Some(access.clone()), None).map_err(fails)?;
        let facts = at.identify().map_err(fails)?;
        let rights = at.try_access().map_err(fails)?;
        let rules = at.rules().map_err(fails)?;
        let mut titles = Vec::new();
        for (edition, handle) in &configured.handles {
            let title = at.title(handle).map_err(fails)?;
            refuse_other_game(project, edition, &name, &title)?;
            let depots = project.config().depots_of(edition);
            let handles = depots.iter().filter_map(|depot| configured.depots.get(depot));
            if let Some(handle) = handles.into_iter().find(|handle| !title.depots.contains(handle)) {
                return Err(ProjectError::NoDepot { place: name, title: title.handle, handle: handle.clone() });
            }
            let branches = at.branches().and_then(|at| at.list(handle)).map_err(fails)?;
            titles.push(ConnectedTitle { edition: edition.clone(), title, branches });
        }
        let kept_in = project.keep_access(&configured, &facts.id, &access)?;
        for connected in &titles {
            let edition = connected.edition.clone();
            let title = connected.title.handle.clone();
            let reference = PlaceRef { storefront: facts.id.clone(), name: name.clone(), handle: title.clone() };
            let event = Connected { place: reference.clone(), client: access.client_id.clone() };
            self.workspace.record(&edition, EventBody::Connected(event), None)?;
            let (storefront, known, facts) = (at.clone(), connected.title.clone(), facts.clone());
            let place = Place { reference, configured: configured.clone(), edition, title, known, facts, storefront };
            let builds = place.builds()?.list(&place.title).map_err(fails)?;
            self.learn(&place, &connected.branches, &builds)?;
        }
        let is_there = |at: &ConnectedTitle, branch: &Name| at.branches.iter().any(|b| b.facts.branch == *branch);
        let lacking = titles.iter().flat_map(|at| {
            let branches = configured.branches.iter().map(|(branch, _)| branch);
            branches.filter(|branch| !is_there(at, branch)).map(|branch| (at.edition.clone(), branch.clone()))
        });
        Ok(Connection {
            lacking: lacking.collect(),
            storefront: name,
            place_name: facts.name,
            address: configured.kind.address().to_owned(),
            client: access.client_id,
            rights,
            titles,
            rules,
            kept_in,
        })
    }

    /// Records what a storefront says where it is news, and settles deeds of which no answer had come.
    pub(crate) fn learn(&mut self, place: &Place, branches: &[Branch], builds: &[Build]) -> Result<(), ProjectError> {
        self.settle(place, builds)?;
        let board = self.workspace.board(&place.edition)?;
        let title = place.reference.key();
        self.learn_builds_of(place, &board, builds)?;
        for build in builds {
            let known = board.withdrawn_at.contains(&(title.clone(), build.release));
            if let Some(withdrawn) = build.withdrawn.as_ref().filter(|_| !known) {
                let body = Withdrawn {
                    key: None,
                    place: Some(place.reference.clone()),
                    release: build.release,
                    name: build.name.clone(),
                    because: withdrawn.because.clone(),
                };
                let server = ServerFacts { happened_at: Some(withdrawn.at), revision: build.build };
                self.workspace.record(&place.edition, EventBody::Withdrawn(body), Some(server))?;
            }
        }
        for branch in branches {
            let facts = branch.facts.clone();
            let known = board.branches.get(&(title.clone(), facts.branch.clone()));
            let place_ref = place.reference.clone();
            // What was heard now wins: a storefront may have come back from a backup.
            let body = match known {
                Some(known) if known.revision == facts.revision && known.targets == facts.targets => continue,
                Some(known) if facts.revision <= known.revision => {
                    EventBody::BranchWentBack(BranchWentBack { place: place_ref, facts, known: known.revision })
                }
                _ => EventBody::Seen(Seen { place: place_ref, facts }),
            };
            let server = ServerFacts { happened_at: branch.facts.since, revision: branch.facts.revision };
            self.workspace.record(&place.edition, body, Some(server))?;
        }
        self.workspace.note_heard(&place.reference)
    }

    /// Records builds that someone else brought there, and those that are there no longer.
    fn learn_builds_of(&mut self, place: &Place, board: &Board, builds: &[Build]) -> Result<(), ProjectError> {
        let title = place.reference.key();
        let here = board.pushed.iter().filter(|p| p.place.is_at(&title));
        let known: BTreeMap<u64, &Pushed> = here.map(|p| (p.build, p)).collect();
        let same = |build: &&Build, known: &Pushed| build.build == known.build && build.release == known.release;
        for gone in known.values().filter(|known| !builds.iter().any(|build| same(&build, known))) {
            let gone = BuildGone {
                place: place.reference.clone(),
                release: gone.release,
                name: gone.name.clone(),
                build: gone.build,
            };
            self.workspace.record(&place.edition, EventBody::BuildGone(gone), None)?;
        }
        for build in builds.iter().filter(|build| !known.get(&build.build).is_some_and(|known| same(build, known))) {
            let found = BuildFound {
                place: place.reference.clone(),
                release: build.release,
                name: build.name.clone(),
                build: build.build,
                targets: build.targets.keys().cloned().collect(),
                by: build.made_by.clone(),
                message: build.message.clone(),
                notes: build.notes.clone(),
            };
            let server = ServerFacts { happened_at: Some(build.made_at), revision: build.build };
            self.workspace.record(&place.edition, EventBody::BuildFound(found), Some(server))?;
        }
        Ok(())
    }

    /// Asks the storefront what became of deeds that were asked for and never answered.
    fn settle(&mut self, place: &Place, builds: &[Build]) -> Result<(), ProjectError> {
        let open = self.workspace.board(&place.edition)?.open.clone();
        for asked in open.into_values().filter(|asked| asked.place.key() == place.reference.key()) {
            match &asked.deed {
                Deed::Promote { branch } | Deed::Rollback { branch } => {
                    let moves = place.branches()?.moves(&place.title, branch).map_err(place.fails())?;
                    match moves.into_iter().find(|moved| moved.key == asked.key) {
                        Some(done) => {
                            let server = ServerFacts { happened_at: done.facts.since, revision: done.facts.revision };
                            let moved = Moved {
                                key: asked.key,
                                place: asked.place.clone(),
                                facts: done.facts,
                                because: done.because,
                                restores: done.restores,
                            };
                            self.workspace.record(&place.edition, EventBody::Moved(moved), Some(server))?;
                        }
                        None => {
                            self.not_done(&place.edition, asked.key, "the storefront never got it")?;
                        }
                    }
                }
                Deed::Withdraw { because } => {
                    let build = builds.iter().find(|b| b.release == asked.release && b.withdrawn.is_some());
                    match build {
                        Some(build) => {
                            let server = build
                                .withdrawn
                                .as_ref()
                                .map(|w| ServerFacts { happened_at: Some(w.at), revision: build.build });
                            let body = Withdrawn {
                                key: Some(asked.key),
                                place: Some(asked.place.clone()),
                                release: asked.release,
                                name: asked.name.clone(),
                                because: because.clone(),
                            };
                            self.workspace.record(&place.edition, EventBody::Withdrawn(body), server)?;
                        }
                        None => {
                            self.not_done(&place.edition, asked.key, "the storefront never got it")?;
                        }
                    }
                }
                // Anyone who asked for it knows how to settle it.
                Deed::Other(_) => {}
                // A push that was cut is taken up by the next one; one that was done is recorded.
                Deed::Push => {
                    if let Some(build) = build_of(builds, &asked) {
                        let pushed = Pushed {
                            key: Some(asked.key),
                            place: asked.place.clone(),
                            release: asked.release,
                            name: asked.name.clone(),
                            build: build.build,
                            sent: 0,
                            message: build.message.clone(),
                            notes: build.notes.clone(),
                        };
                        let server = ServerFacts { happened_at: Some(build.made_at), revision: build.build };
                        self.workspace.record(&place.edition, EventBody::Pushed(pushed), Some(server))?;
                    }
                }
            }
        }
        Ok(())
    }
}

impl Session {
    /// Records that something is about to be asked of a storefront; returns the key that it is asked with. `targets` are
    /// those of a push.
    pub(crate) fn ask(
        &mut self,
        edition: &Name,
        place: &PlaceRef,
        deed: Deed,
        (release, name): (ReleaseId, &ReleaseName),
        targets: &[Name],
    ) -> Result<EventId, ProjectError> {
        let key = EventId::new(environment::now(), environment::random()?);
        let (place, name, targets) = (place.clone(), name.clone(), targets.to_vec());
        let asked = Asked { key, place, deed, release, name, targets };
        self.workspace.record(edition, EventBody::Asked(asked), None)?;
        Ok(key)
    }

    /// Records that a deed that was asked for did not happen.
    pub(crate) fn not_done(&mut self, edition: &Name, key: EventId, why: &str) -> Result<(), ProjectError> {
        let not_done = EventBody::NotDone(NotDone { key, why: why.to_owned() });
        self.workspace.record(edition, not_done, None).map(|_| ())
    }
}

/// Returns the build that came of a push: the one that was made with its key, or that was there with the same targets.
fn build_of<'a>(builds: &'a [Build], asked: &Asked) -> Option<&'a Build> {
    let mut of_release = builds.iter().filter(|b| b.release == asked.release);
    let by_key = of_release.clone().find(|b| b.key == Some(asked.key));
    let same_targets = |b: &&Build| asked.targets.is_empty() || b.targets.keys().eq(&asked.targets);
    // Made with another key it is this push's only where nothing more was to be made.
    by_key.or_else(|| of_release.find(same_targets))
}

/// How a storefront took part in [`Session::refresh`].
#[derive(Debug)]
pub enum Heard {
    /// It answered.
    Now,
    /// It could not be asked; what is known is from earlier.
    Not(ProjectError),
}

impl Session {
    /// Asks every storefront what it has and records what is news.
    ///
    /// # Errors
    /// Only those of this computer; a storefront that does not answer is in the result.
    pub fn refresh(&mut self) -> Result<Vec<(Name, Heard)>, ProjectError> {
        let mut out = Vec::new();
        for (name, editions) in self.storefronts_with_editions() {
            let mut heard = Heard::Now;
            for edition in editions {
                match self.ask_news(&edition, &name) {
                    Ok(()) => {}
                    Err(error) if error.is_of_place() => {
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
        let place = open_place(self.project(), edition, name.as_str())?;
        let (branches, builds) = self.news_of(&place)?;
        self.learn(&place, &branches, &builds)
    }

    /// Asks a place what it has.
    pub(crate) fn news_of(&self, place: &Place) -> Result<(Vec<Branch>, Vec<Build>), ProjectError> {
        let branches = place.branches()?.list(&place.title).map_err(place.fails())?;
        let builds = place.builds()?.list(&place.title).map_err(place.fails())?;
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
    /// [`ProjectError::NothingSealed`] when none of them has one, and those of the place.
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
        if out.is_empty() { Err(ProjectError::NothingSealed) } else { Ok(out) }
    }

    /// Returns the release that is meant at a storefront: of those that are known here, and of those that it has.
    ///
    /// # Errors
    /// As [`Workspace::release`], and those of the place.
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
    /// Those of the store and the place.
    pub fn record_of(&self, release: &KnownRelease) -> Result<ReleaseRecord, ProjectError> {
        let here = self.store.record(release.id);
        let Some(at) = release.found_at.as_ref().filter(|_| here.is_err()) else { return Ok(here?) };
        let board = self.board(&release.edition)?;
        let titles = self.titles(&board, &release.edition)?;
        let name = titles.iter().find(|(_, title)| **title == at.key()).map_or(&at.name, |(name, _)| name);
        let place = open_place(&self.project, &release.edition, name.as_str())?;
        let what = "a release's record";
        let build = board.build_of(&at.key(), release.id).unwrap_or_default();
        let bytes = place.builds()?.record(&place.title, build).map_err(place.fails())?;
        if ReleaseId::of(&bytes) != release.id {
            return Err(place.nonsense(what, "it is the record of another release"));
        }
        ReleaseRecord::decode(&bytes).map_err(|e| place.nonsense(what, e))
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
                let title = || TitleKey { storefront: known.storefront.clone(), handle: handle.clone() };
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
