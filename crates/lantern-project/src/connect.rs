//! `connect`: access to a storefront is tried, kept, and noted with what is there.

use std::path::PathBuf;

use lantern_core::config::{ConnectorStorefront, Storefront as Configured};
use lantern_core::event::{Connected, EventBody, StorefrontRef};
use lantern_core::names::Name;
use lantern_core::progress::Silent;
use lantern_core::rules::{Branches, HouseRules};
use lantern_storefront::Access;
use lantern_storefront::protocol::{Branch, Title};

use crate::ProjectError;
use crate::project::Project;
use crate::storefronts::{ConnectError, OpenStorefront, fails_at, open_storefront, refuse_other_game};
use crate::workspace::Session;

/// What connecting found out.
#[derive(Debug, Clone)]
pub struct Connection {
    /// The project's name for it.
    pub storefront: Name,
    /// Its name for people.
    pub storefront_name: String,
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

/// An edition, as a storefront has it.
#[derive(Debug, Clone)]
pub struct ConnectedTitle {
    /// Ours.
    pub edition: Name,
    /// Theirs.
    pub title: Title,
    /// Its branches.
    pub branches: Vec<Branch>,
}

impl Project {
    /// Refuses a storefront that there is nothing to connect to.
    ///
    /// # Errors
    /// [`ConnectError::NoStorefront`], [`ConnectError::ByHand`].
    pub fn refuse_to_connect(&self, name: &str) -> Result<(), ProjectError> {
        let (name, configured) = self.storefront(name)?;
        match configured.by_hand().filter(|_| configured.connector().is_none()) {
            Some(_) => Err(ConnectError::ByHand { storefront: name.clone() }.into()),
            None => Ok(()),
        }
    }
}

impl Session {
    /// Tries a name and secret at a storefront, and keeps them when they are accepted.
    ///
    /// # Errors
    /// [`ProjectError::Storefront`] for a wrong secret, a missing title or depot, or a storefront that does not answer. Nothing
    /// is kept then.
    pub fn connect(&mut self, name: &str, access: Access) -> Result<Connection, ProjectError> {
        let project = self.project();
        let (name, configured) = project.storefront(name)?;
        let (name, configured) = (name.clone(), configured.clone());
        project.refuse_to_connect(name.as_str())?;
        if let Some(connector) = configured.connector().cloned() {
            return self.connect_through(&name, &configured, &connector, access);
        }
        let fails = fails_at(&name);
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
                let (title, handle) = (title.handle, handle.clone());
                return Err(ConnectError::NoDepot { storefront: name.clone(), title, handle }.into());
            }
            let branches = at.branches().and_then(|at| at.list(handle)).map_err(fails)?;
            titles.push(ConnectedTitle { edition: edition.clone(), title, branches });
        }
        let kept_in = project.keep_access(&configured, &facts.id, &access)?;
        for connected in &titles {
            let edition = connected.edition.clone();
            let title = connected.title.handle.clone();
            let reference = StorefrontRef { id: facts.id.clone(), name: name.clone(), handle: title.clone() };
            let event = Connected { storefront: reference.clone(), client: access.client_id.clone() };
            self.workspace.record(&edition, EventBody::Connected(event), None)?;
            let (abilities, known, facts) = (at.clone(), connected.title.clone(), facts.clone());
            let storefront = OpenStorefront {
                reference,
                configured: configured.clone(),
                edition,
                title,
                known,
                facts,
                abilities,
                hand: None,
            };
            let builds = storefront.builds()?.list(&storefront.title).map_err(fails)?;
            self.learn(&storefront, &connected.branches, &builds)?;
        }
        let is_there = |at: &ConnectedTitle, branch: &Name| at.branches.iter().any(|b| b.facts.branch == *branch);
        let lacking = titles.iter().flat_map(|at| {
            let branches = configured.branches.iter().map(|(branch, _)| branch);
            branches.filter(|branch| !is_there(at, branch)).map(|branch| (at.edition.clone(), branch.clone()))
        });
        Ok(Connection {
            lacking: lacking.collect(),
            storefront: name.clone(),
            storefront_name: facts.name,
            address: configured.kind.address().to_owned(),
            client: access.client_id,
            rights,
            titles,
            rules,
            kept_in,
        })
    }

    /// Tries a name and secret through a connector, and keeps them when the storefront accepts them there.
    fn connect_through(
        &mut self,
        name: &Name,
        configured: &Configured,
        connector: &ConnectorStorefront,
        access: Access,
    ) -> Result<Connection, ProjectError> {
        let id = StorefrontRef::id_by_hand(name);
        let mut titles = Vec::new();
        for (edition, handle) in &configured.handles {
            let about = (name, edition, handle.as_str());
            crate::connector_run::probe(self.project(), about, connector, Some(access.clone()), &Silent)?;
            let at = open_storefront(&self.workspace, edition, name.as_str())?;
            let branches = at.branches()?.list(&at.title).map_err(at.fails())?;
            titles.push((edition.clone(), at.known.clone(), branches, at.name(), at.rules()?));
        }
        let kept_in = self.project().keep_access(configured, &id, &access)?;
        for (edition, title, ..) in &titles {
            let reference = StorefrontRef { id: id.clone(), name: name.clone(), handle: title.handle.clone() };
            let event = Connected { storefront: reference, client: access.client_id.clone() };
            self.workspace.record(edition, EventBody::Connected(event), None)?;
        }
        let (storefront_name, rules) = match titles.first() {
            Some((_, _, _, name, rules)) => (name.clone(), rules.clone()),
            None => (name.to_string(), HouseRules::written(None, None, Branches { fixed: Vec::new() }, None)),
        };
        Ok(Connection {
            storefront: name.clone(),
            storefront_name,
            address: connector.run.join(" "),
            client: access.client_id,
            rights: Vec::new(),
            titles: titles
                .into_iter()
                .map(|(edition, title, branches, ..)| ConnectedTitle { edition, title, branches })
                .collect(),
            rules,
            kept_in,
            lacking: Vec::new(),
        })
    }
}
