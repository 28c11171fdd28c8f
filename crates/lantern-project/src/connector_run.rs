//! How a connector of the project is run, and what keeps it from doing something.

use std::time::Duration;

use lantern_core::config::ConnectorStorefront;
use lantern_core::event::EventId;
use lantern_core::names::Name;
use lantern_core::progress::Progress;
use lantern_storefront::Access;
use lantern_storefront::connector::{
    Asked, Connector, ConnectorError, Document, DocumentGame, DocumentStorefront, LineRefused, Outcome,
};

use crate::error::{Class, Explained};
use crate::project::Project;
use crate::{ProjectError, environment};

/// Asks a connector whether a storefront answers with this access.
pub(crate) fn probe(
    project: &Project,
    (name, edition, handle): (&Name, &Name, &str),
    connector: &ConnectorStorefront,
    access: Option<Access>,
    progress: &dyn Progress,
) -> Result<(), ProjectError> {
    let attempt = EventId::new(environment::now(), environment::random()?);
    let document = Document {
        access: access.map(Into::into),
        ..document(project, (name, edition, handle), connector, Asked::Probe, attempt)
    };
    match runner(project, connector).run(&document, progress, &|_| {}).map_err(|error| failed(name, error))? {
        Outcome::Done { .. } | Outcome::UnknownAction => Ok(()),
        Outcome::Refused(LineRefused { because, fix }) => {
            Err(ConnectorFailed::Refused { storefront: name.clone(), because, fix }.into())
        }
        Outcome::ByHand(_) | Outcome::NotBegun => {
            let why = "answered a probe with something else".to_owned();
            Err(ConnectorFailed::Wrong { storefront: name.clone(), why }.into())
        }
    }
}

pub(crate) fn runner<'a>(project: &'a Project, connector: &'a ConnectorStorefront) -> Connector<'a> {
    let limit = Duration::try_from(connector.time_limit).unwrap_or(Duration::MAX);
    Connector { run: &connector.run, folder: project.root(), limit }
}

/// A document about an edition at a storefront, which its action then makes whole.
pub(crate) fn document(
    project: &Project,
    (name, edition, handle): (&Name, &Name, &str),
    connector: &ConnectorStorefront,
    action: Asked,
    attempt: EventId,
) -> Document {
    let storefront = DocumentStorefront { name: name.clone(), values: connector.hand.values.clone() };
    let game = DocumentGame {
        name: project.edition_name(edition).to_owned(),
        identity: project.identity(edition).clone(),
        edition: edition.clone(),
        handle: handle.to_owned(),
    };
    Document::new(action, attempt, storefront, game)
}

pub(crate) fn failed(storefront: &Name, error: ConnectorError) -> ProjectError {
    match error {
        ConnectorError::Stopped => ConnectorFailed::Stopped(storefront.clone()).into(),
        error => ConnectorFailed::Run { storefront: storefront.clone(), error }.into(),
    }
}

/// Why a connector did not do something, or nobody knows whether it did.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ConnectorFailed {
    /// It was ended because someone asked to stop.
    #[error("nobody knows how far the connector of {0} came")]
    Stopped(Name),
    /// It was refused, and nothing changed there.
    #[error("{storefront} refused it: {because}")]
    Refused {
        /// The project's name for the storefront.
        storefront: Name,
        /// Its reason.
        because: String,
        /// What it says to do.
        fix: Option<String>,
    },
    /// What it said cannot be true.
    #[error("the connector of {storefront} {why}")]
    Wrong {
        /// The project's name for the storefront.
        storefront: Name,
        /// How it is wrong.
        why: String,
    },
    /// It could not be started, or ended without a result.
    #[error("{storefront}: {error}")]
    Run {
        /// The project's name for the storefront.
        storefront: Name,
        /// What happened.
        error: ConnectorError,
    },
}

impl Explained for ConnectorFailed {
    fn class(&self) -> Class {
        match self {
            Self::Stopped(_) => Class::Stopped,
            Self::Refused { .. } => Class::Refused,
            Self::Wrong { .. } => Class::Damaged,
            Self::Run { error: ConnectorError::Start { .. }, .. } => Class::Usage,
            Self::Run { .. } => Class::Unreachable,
        }
    }

    fn fixes(&self) -> Vec<String> {
        match self {
            Self::Stopped(_) => vec!["run the same command again: it is asked what became of it".to_owned()],
            Self::Refused { fix, .. } => fix.iter().cloned().collect(),
            Self::Wrong { storefront, .. } => vec![format!("lantern storefronts try {storefront}")],
            Self::Run { storefront, error: ConnectorError::Start { .. } } => {
                vec![format!("check run = […] in [storefronts.{storefront}]")]
            }
            Self::Run { storefront, .. } => vec![
                "what it printed is in .lantern/logs".to_owned(),
                format!(
                    "run the same command again: it is asked what became of it; by hand: lantern confirm {storefront}"
                ),
            ],
        }
    }
}
