//! A connector tried with a small sample: does it keep what the document promises?

use lantern_core::bytes::hex;
use lantern_core::digest::ReleaseId;
use lantern_core::event::EventId;
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::progress::Progress;
use lantern_core::version::{BuildNumber, Version};
use lantern_formats::hash::Hash;
use lantern_store::durable;
use lantern_storefront::connector::{Asked, Document, DocumentFile, DocumentRelease, Outcome};

use crate::connector_run::{document, runner};
use crate::steps::StepsError;
use crate::workspace::Workspace;
use crate::{ProjectError, environment};

/// One thing that a connector has to keep.
#[derive(Debug, Clone)]
pub struct ConnectorCheck {
    /// What.
    pub what: &'static str,
    /// How it went; the error says what is wrong.
    pub result: Result<String, String>,
}

/// What is handed over in a trial. Nobody can take it for a game.
const SAMPLE: &[u8] = b"This is a sample of Kind Lantern, to try a connector. It can be removed.\n";

impl Workspace {
    /// Asks a connector for everything with a sample of one small file, and says what it got wrong. At the storefront the
    /// sample stays: it brings it there.
    ///
    /// # Errors
    /// [`crate::ConnectError::NoStorefront`], [`StepsError::NoConnector`], [`ProjectError::File`].
    pub fn try_connector(
        &self,
        storefront: &str,
        progress: &dyn Progress,
    ) -> Result<Vec<ConnectorCheck>, ProjectError> {
        let (name, configured) = self.project.storefront(storefront)?;
        let connector = configured.connector().ok_or_else(|| StepsError::NoConnector(name.clone()))?;
        let access = self.project.access_to(configured)?.map(|found| found.access);
        let folder = self.project.state_for("outgoing")?.join(name.as_str());
        durable::create_folders(&folder)?;
        let file = folder.join("sample of lantern.txt");
        durable::write_whole(&file, SAMPLE)?;
        let edition = configured.handles.keys().next().cloned().unwrap_or_else(Name::full_edition);
        let handle = configured.handles.get(&edition).map(|h| h.as_str().to_owned()).unwrap_or_default();
        let sha256 = hex(&Hash::Sha256.digest(SAMPLE));
        let attempt = EventId::new(environment::now(), environment::random()?);
        let path = file.canonicalize().unwrap_or_else(|_| file.clone());
        let about = (name, &edition, handle.as_str());
        let push = Document {
            release: Some(DocumentRelease {
                version: "0.0.0-sample".parse::<Version>()?,
                number: BuildNumber::new(1)?,
                id: ReleaseId::of(SAMPLE),
                name_there: "0.0.0-sample".to_owned(),
                number_there: None,
                per_target: Default::default(),
            }),
            message: Some("a sample, to try the connector".to_owned()),
            hand_over: vec![DocumentFile {
                target: "sample".parse().expect("it is a name"),
                systems: Vec::new(),
                path: path.display().to_string(),
                bytes: SAMPLE.len() as u64,
                sha256: Some(sha256),
                starts: Vec::new(),
            }],
            access: access.map(Into::into),
            ..document(&self.project, about, connector, Asked::Push, attempt)
        };
        let program = runner(&self.project, connector);
        let ask = |action: Asked, attempt: EventId| {
            let (of, is_push) =
                ((action == Asked::Query).then_some(Asked::Push), !matches!(action, Asked::Probe | Asked::List));
            let release = push.release.clone().filter(|_| is_push);
            let document = Document { action, attempt, of, release, ..push.clone() };
            program.run(&document, progress, &|_| {})
        };
        let mut checks = Vec::new();
        let mut check = |what, result: Result<String, String>| {
            let is_well = result.is_ok();
            checks.push(ConnectorCheck { what, result });
            is_well
        };
        let not_known = |error: lantern_storefront::connector::ConnectorError| error.to_string();
        let probed = ask(Asked::Probe, attempt).map_err(not_known).and_then(|outcome| match outcome {
            Outcome::Done { .. } => Ok("the storefront answers".to_owned()),
            Outcome::UnknownAction => Ok("it does not probe; access is seen when something is brought".to_owned()),
            Outcome::Refused(refused) => Err(format!("it refused: {}", refused.because)),
            other => Err(format!("it answered {other:?}")),
        });
        let goes_on = check("it answers a probe", probed);
        if !goes_on {
            return Ok(checks);
        }
        let listed = ask(Asked::List, EventId::new(environment::now(), environment::random()?));
        let listed = listed.map_err(not_known).and_then(|outcome| match outcome {
            Outcome::Done { branches: Some(branches), .. } if branches.is_empty() => {
                Ok("none has anything yet".to_owned())
            }
            Outcome::Done { branches: Some(branches), .. } => {
                Ok(branches.into_keys().map(|branch| shown(&branch)).collect::<Vec<_>>().join(", "))
            }
            Outcome::Done { branches: None, .. } => Err("it was done, and no branch was named".to_owned()),
            Outcome::UnknownAction => Ok("it cannot say; the board has what was done with lantern".to_owned()),
            Outcome::Refused(refused) => Err(format!("it refused: {}", refused.because)),
            other => Err(format!("it answered {other:?}")),
        });
        check("it says what each branch has", listed);
        let unknown = EventId::new(environment::now(), environment::random()?);
        let never = ask(Asked::Query, unknown).map_err(not_known).and_then(|outcome| match outcome {
            Outcome::NotBegun => Ok("it says so".to_owned()),
            Outcome::UnknownAction => Ok("it cannot say; after a cut the action is asked for again".to_owned()),
            other => Err(format!("it answered {other:?} for an attempt that never was")),
        });
        check("it says of an unknown attempt that it never arrived", never);
        let first = ask(Asked::Push, attempt);
        let number = match &first {
            Ok(Outcome::Done { number_there, .. }) => Some(*number_there),
            _ => None,
        };
        let brought = first.map_err(not_known).and_then(|outcome| match outcome {
            Outcome::Done { number_there: Some(number), .. } => Ok(format!("its number there is {number}")),
            Outcome::Done { number_there: None, .. } => Ok("it has no number there".to_owned()),
            Outcome::UnknownAction => Ok("it does not push; a person does".to_owned()),
            Outcome::ByHand(steps) => Ok(format!("{} steps are left for a person", steps.len())),
            Outcome::Refused(refused) => Err(format!("it refused: {}", refused.because)),
            Outcome::NotBegun => Err("it answered a question that was not asked".to_owned()),
        });
        check("it brings a file of 73 bytes there", brought);
        if let Some(number) = number {
            let same = |outcome: Outcome| match outcome {
                Outcome::Done { number_there, .. } if number_there == number => Ok("the same as before".to_owned()),
                Outcome::UnknownAction => Ok("it cannot say; the action itself has to".to_owned()),
                other => Err(format!("it answered {other:?}, and not what it did the first time")),
            };
            let again = ask(Asked::Push, attempt).map_err(not_known).and_then(|outcome| match outcome {
                Outcome::UnknownAction => Err("it does not push any more".to_owned()),
                other => same(other),
            });
            check("the same attempt once more makes nothing new", again);
            check("it says what became of the attempt", ask(Asked::Query, attempt).map_err(not_known).and_then(same));
        }
        Ok(checks)
    }
}
