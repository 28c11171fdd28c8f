//! Storefronts of the project: finding, connecting, and recording what they say.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use lantern_core::config::Storefront as Configured;
use lantern_core::digest::ReleaseId;
use lantern_core::event::{
    Asked, Connected, Deed, EventBody, EventId, Moved, NotDone, NumberSeen, PlaceRef, Pushed, Seen, Withdrawn,
};
use lantern_core::names::{Handle, Name};
use lantern_core::rules::HouseRules;
use lantern_core::version::ReleaseName;
use lantern_ledger::ServerFacts;
use lantern_storefront::market::{Access, Market};
use lantern_storefront::protocol::{Branch, Build, Title};
use lantern_storefront::{PlaceError, Storefront};

use crate::project::{Locked, Open, Project};
use crate::{ProjectError, access, outside};

/// A storefront that answered and is the one that was connected.
pub(crate) struct Place {
    pub reference: PlaceRef,
    pub configured: Configured,
    pub edition: Name,
    /// What the place calls the edition.
    pub title: Handle,
    pub market: Arc<Market>,
}

impl Place {
    /// Wraps the storefront's errors with its name.
    pub(crate) fn fails(&self) -> impl Fn(PlaceError) -> ProjectError + '_ {
        |source| match source {
            PlaceError::Stopped => ProjectError::Stopped,
            source => ProjectError::Place { place: self.reference.name.clone(), source },
        }
    }

    /// Asks a place for its name for people; ours stands behind it where it is another one, since two may be called
    /// the same.
    ///
    /// # Errors
    /// [`ProjectError::Place`].
    pub fn name(&self) -> Result<String, ProjectError> {
        let theirs = self.market.discovery().map_err(self.fails())?.name;
        Ok(told_apart(theirs, &self.reference.name))
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
    let Some(found) = access::find(&configured.address)? else {
        return Err(place(PlaceError::NotConnected { address: configured.address.clone() }));
    };
    let market = Market::open(&configured.address, Some(found.access), project.stop()).map_err(place)?;
    let discovery = market.discovery().map_err(place)?;
    if discovery.id != found.storefront {
        return Err(ProjectError::OtherPlace { place: name.clone(), address: configured.address.clone() });
    }
    let title = title_of(name, configured, edition)?;
    let reference = PlaceRef { storefront: discovery.id, name: name.clone(), handle: title.clone() };
    let (configured, edition) = (configured.clone(), edition.clone());
    Ok(Place { reference, configured, edition, title, market: Arc::new(market) })
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

impl Locked {
    /// Tries a name and secret at a storefront, and keeps them when they are accepted.
    ///
    /// # Errors
    /// [`ProjectError::Place`] for a wrong secret, a missing title or depot, or a place that does not answer. Nothing
    /// is kept then.
    pub fn connect(&mut self, name: &str, access: Access) -> Result<Connection, ProjectError> {
        let project = &self.open.project;
        let (name, configured) = project.storefront(name)?;
        let (name, configured) = (name.clone(), configured.clone());
        let fails = |source| ProjectError::Place { place: name.clone(), source };
        let market = Market::open(&configured.address, Some(access.clone()), project.stop());
        let market = Arc::new(market.map_err(fails)?);
        let discovery = market.discovery().map_err(fails)?;
        let token = market.try_access().map_err(fails)?;
        let rules = market.rules().map_err(fails)?;
        let mut titles = Vec::new();
        for (edition, handle) in &configured.handles {
            let title = market.title(handle).map_err(fails)?;
            let depots = project.config().depots_of(edition);
            let handles = depots.iter().filter_map(|depot| configured.depots.get(depot));
            if let Some(handle) = handles.into_iter().find(|handle| !title.depots.contains(handle)) {
                return Err(ProjectError::NoDepot { place: name, title: title.handle, handle: handle.clone() });
            }
            let branches = market.branches(handle).map_err(fails)?.branches;
            titles.push(ConnectedTitle { edition: edition.clone(), title, branches });
        }
        let kept_in = access::keep(&configured.address, &discovery.id, &access)?;
        for connected in &titles {
            let edition = connected.edition.clone();
            let title = connected.title.handle.clone();
            let reference = PlaceRef { storefront: discovery.id.clone(), name: name.clone(), handle: title.clone() };
            let event = Connected { place: reference.clone(), client: access.client_id.clone() };
            self.open.record(&edition, EventBody::Connected(event), None)?;
            let market = market.clone();
            let place = Place { reference, configured: configured.clone(), edition, title, market };
            let builds = place.market.builds(&place.title).map_err(fails)?.builds;
            self.learn(&place, &connected.branches, &builds)?;
        }
        Ok(Connection {
            storefront: name,
            place_name: discovery.name,
            address: configured.address,
            client: access.client_id,
            rights: token.scope.split_whitespace().map(str::to_owned).collect(),
            titles,
            rules,
            kept_in,
        })
    }

    /// Records what a storefront says where it is news, and settles deeds of which no answer had come.
    pub(crate) fn learn(&mut self, place: &Place, branches: &[Branch], builds: &[Build]) -> Result<(), ProjectError> {
        self.settle(place, builds)?;
        let board = self.open.board(&place.edition)?;
        for build in builds {
            let known = board.withdrawn_at.contains(&(place.reference.clone(), build.release));
            if let Some(withdrawn) = build.withdrawn.as_ref().filter(|_| !known) {
                let body = Withdrawn {
                    key: None,
                    place: Some(place.reference.clone()),
                    release: build.release,
                    name: build.name.clone(),
                    because: withdrawn.because.clone(),
                };
                let server = ServerFacts { happened_at: Some(withdrawn.at), revision: build.build };
                self.open.record(&place.edition, EventBody::Withdrawn(body), Some(server))?;
            }
        }
        for branch in branches {
            let key = (place.reference.clone(), branch.facts.branch.clone());
            let known = board.branches.get(&key).map_or(0, |facts| facts.revision);
            if branch.facts.revision > known {
                let server = ServerFacts { happened_at: branch.facts.since, revision: branch.facts.revision };
                let seen = Seen { place: place.reference.clone(), facts: branch.facts.clone() };
                self.open.record(&place.edition, EventBody::Seen(seen), Some(server))?;
            }
        }
        if let Some(highest) = builds.iter().map(|b| &b.name).max_by_key(|name| name.number)
            && Some(highest.number) > board.highest_number
        {
            let seen = NumberSeen { place: place.reference.clone(), name: highest.clone() };
            self.open.record(&place.edition, EventBody::NumberSeen(seen), None)?;
        }
        self.open.note_heard(&place.reference)
    }

    /// Asks the storefront what became of deeds that were asked for and never answered.
    fn settle(&mut self, place: &Place, builds: &[Build]) -> Result<(), ProjectError> {
        let open = self.open.board(&place.edition)?.open;
        for asked in open.into_values().filter(|asked| asked.place == place.reference) {
            match &asked.deed {
                Deed::Promote { branch } | Deed::Rollback { branch } => {
                    let moves = place.market.moves(&place.title, branch).map_err(place.fails())?.moves;
                    match moves.into_iter().find(|moved| moved.key == asked.key) {
                        Some(done) => {
                            let server = ServerFacts { happened_at: done.facts.since, revision: done.facts.revision };
                            let moved = Moved {
                                key: asked.key,
                                place: asked.place.clone(),
                                facts: done.facts,
                                comment: done.comment,
                                restores: done.restores,
                            };
                            self.open.record(&place.edition, EventBody::Moved(moved), Some(server))?;
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
                            self.open.record(&place.edition, EventBody::Withdrawn(body), server)?;
                        }
                        None => {
                            self.not_done(&place.edition, asked.key, "the storefront never got it")?;
                        }
                    }
                }
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
                        };
                        let server = ServerFacts { happened_at: Some(build.made_at), revision: build.build };
                        self.open.record(&place.edition, EventBody::Pushed(pushed), Some(server))?;
                    }
                }
            }
        }
        Ok(())
    }
}

impl Locked {
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
        let key = EventId::new(outside::now(), outside::random()?);
        let (place, name, targets) = (place.clone(), name.clone(), targets.to_vec());
        let asked = Asked { key, place, deed, release, name, targets };
        self.open.record(edition, EventBody::Asked(asked), None)?;
        Ok(key)
    }

    /// Records that a deed that was asked for did not happen.
    pub(crate) fn not_done(&mut self, edition: &Name, key: EventId, why: &str) -> Result<(), ProjectError> {
        let not_done = EventBody::NotDone(NotDone { key, why: why.to_owned() });
        self.open.record(edition, not_done, None).map(|_| ())
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

/// How a storefront took part in [`Locked::refresh`].
#[derive(Debug)]
pub enum Heard {
    /// It answered.
    Now,
    /// It could not be asked; what is known is from earlier.
    Not(ProjectError),
}

impl Locked {
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
                    Err(error @ (ProjectError::Place { .. } | ProjectError::OtherPlace { .. })) => {
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
        let project = &self.open.project;
        let editions = |handles: &BTreeMap<Name, Handle>| -> Vec<Name> {
            project.editions().into_iter().filter(|edition| handles.contains_key(edition)).collect()
        };
        let storefronts = project.config().storefronts.iter();
        storefronts.map(|(name, configured)| (name.clone(), editions(&configured.handles))).collect()
    }

    fn ask_news(&mut self, edition: &Name, name: &Name) -> Result<(), ProjectError> {
        let place = open_place(&self.open.project, edition, name.as_str())?;
        let branches = place.market.branches(&place.title).map_err(place.fails())?.branches;
        let builds = place.market.builds(&place.title).map_err(place.fails())?.builds;
        self.learn(&place, &branches, &builds)
    }
}

impl Open {
    /// Returns when a storefront was last heard, if the ledger knows it.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn last_heard(&self, place: &PlaceRef) -> Result<Option<jiff::Timestamp>, ProjectError> {
        self.heard(place)
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
