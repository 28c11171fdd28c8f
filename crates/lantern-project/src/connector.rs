//! Actions that a connector does: it is asked with the key of the action, and asked again what became of it after a cut.

use lantern_core::config::ConnectorStorefront;
use lantern_core::event::{Action, EventBody, StepStanding, StepsBegun};
use lantern_core::names::Name;
use lantern_core::progress::Progress;
use lantern_core::walk::NumbersThere;
use lantern_storefront::Access;
use lantern_storefront::connector::{
    Asked, Document, DocumentBefore, DocumentFile, DocumentRelease, LineRefused, Outcome,
};

use crate::connector_run::{ConnectorFailed, document, failed, runner};
use crate::steps::{OpenWalk, waiting_since};
use crate::workspace::Session;
use crate::{ProjectError, environment};

/// What came of asking a connector.
#[derive(Debug, Clone)]
pub enum ConnectorEnd {
    /// A person goes on: there is none, or it does not do this, or not all of it.
    ByPerson,
    /// It was done, and this was recorded.
    Done {
        /// What was recorded.
        outcome: Box<EventBody>,
        /// Where it can be seen.
        address: Option<String>,
    },
    /// It was asked for there, and waits for someone.
    Waits,
}

impl Session {
    /// Asks the connector of a storefront to do what was begun; first what became of it, where it may have been asked before.
    /// `say` shows what it says meanwhile.
    ///
    /// # Errors
    /// [`ConnectorFailed`], and those of the ledger.
    pub fn ask_connector(
        &mut self,
        open: &mut OpenWalk,
        progress: &dyn Progress,
        say: &dyn Fn(&str),
    ) -> Result<ConnectorEnd, ProjectError> {
        let name = open.walk.begun.storefront.name.clone();
        let configured = self.project().storefront(name.as_str())?.1.clone();
        let Some(connector) = configured.connector().filter(|_| open.walk.begun.connector) else {
            return Ok(ConnectorEnd::ByPerson);
        };
        // Where a person has begun, a person goes on.
        let is_persons =
            |standing: &StepStanding| !matches!(standing, StepStanding::Waiting { .. } | StepStanding::Reopened);
        if open.walk.said.values().any(|said| is_persons(&said.standing)) {
            return Ok(ConnectorEnd::ByPerson);
        }
        let access = self.project().access_to(&configured)?.map(|found| found.access);
        let document = self.document(open, connector, access)?;
        let program = runner(self.project(), connector);
        let failed = |error| failed(&name, error);
        let mut outcome = Outcome::NotBegun;
        if !open.is_new {
            // Who began the same at another computer may have asked it, with the key that they had.
            for attempt in open.walk.keys() {
                let of = Some(document.action);
                let query = Document { action: Asked::Query, of, attempt, ..document.clone() };
                outcome = program.run(&query, progress, say).map_err(failed)?;
                if !matches!(outcome, Outcome::NotBegun | Outcome::UnknownAction) {
                    break;
                }
            }
        }
        if matches!(outcome, Outcome::NotBegun | Outcome::UnknownAction) {
            outcome = program.run(&document, progress, say).map_err(failed)?;
        }
        self.take_in(open, &name, outcome)
    }

    /// Records what a connector came to.
    fn take_in(&mut self, open: &mut OpenWalk, at: &Name, outcome: Outcome) -> Result<ConnectorEnd, ProjectError> {
        let key = open.walk.begun.key;
        match outcome {
            Outcome::UnknownAction | Outcome::NotBegun => Ok(ConnectorEnd::ByPerson),
            Outcome::Refused(LineRefused { because, fix }) => {
                self.not_done(&open.edition, key, &because)?;
                Err(ConnectorFailed::Refused { storefront: at.clone(), because, fix }.into())
            }
            Outcome::Done { waits: true, .. } => {
                if let Some(step) = open.walk.current().cloned()
                    && open.walk.waits_until().is_none()
                {
                    let standing = waiting_since(&step, environment::now());
                    open.walk = self.record_step(&open.edition, key, &step.id, &standing)?.walk;
                }
                Ok(ConnectorEnd::Waits)
            }
            Outcome::Done { number_there, per_target, address, waits: false, .. } => {
                let numbers = NumbersThere { there: number_there, of_targets: per_target };
                let outcome = Box::new(self.end_walk(open, at, numbers)?);
                Ok(ConnectorEnd::Done { outcome, address })
            }
            Outcome::ByHand(steps) => {
                if let Some(unknown) = steps.iter().find(|step| open.walk.step(step.as_str()).is_err()) {
                    let why = format!("named a step {unknown} that its rules do not have");
                    return Err(ConnectorFailed::Wrong { storefront: at.clone(), why }.into());
                }
                let done: Vec<Name> = open.walk.begun.steps.iter().map(|step| step.id.clone()).collect();
                for step in done.iter().filter(|step| !steps.contains(step)) {
                    let standing = StepStanding::Skipped { because: "the connector did it".to_owned() };
                    let recorded = self.record_step(&open.edition, key, step, &standing)?;
                    open.walk = recorded.walk;
                    if let Some(outcome) = recorded.outcome {
                        return Ok(ConnectorEnd::Done { outcome: Box::new(outcome), address: None });
                    }
                }
                Ok(ConnectorEnd::ByPerson)
            }
        }
    }

    /// Records that an action was done, whatever its steps were.
    fn end_walk(&mut self, open: &mut OpenWalk, at: &Name, numbers: NumbersThere) -> Result<EventBody, ProjectError> {
        let (edition, key) = (open.edition.clone(), open.walk.begun.key);
        let by = environment::origin()?.actor;
        self.record_decided(&edition, |session| {
            let walk = session.walk(&edition, key)?;
            let board = session.workspace.board(&edition)?;
            let title = walk.begun.storefront.key();
            if let Some(other) =
                numbers.of_targets.keys().find(|of| !walk.begun.hand_over.iter().any(|f| f.target == **of))
            {
                let why = format!("gave a number for {other}, which was not handed over");
                return Err(ConnectorFailed::Wrong { storefront: at.clone(), why }.into());
            }
            let number_pushed = numbers.there.filter(|_| walk.begun.action == Action::Push);
            let mut there = board.pushed.iter().filter(|p| p.storefront.is_at(&title));
            if let Some(other) = there.find(|p| Some(p.number_there) == number_pushed) {
                let why = format!("gave the number {}, which {} has there", other.number_there, other.name);
                return Err(ConnectorFailed::Wrong { storefront: at.clone(), why }.into());
            }
            let outcome = walk.end(numbers.clone(), &by, environment::now(), &session.there(&edition, &walk)?);
            let outcome = outcome.ok_or_else(|| ConnectorFailed::Wrong {
                storefront: at.clone(),
                why: "was asked for something that only a newer lantern knows".to_owned(),
            })?;
            Ok((outcome.clone(), Some(outcome)))
        })
    }

    fn document(
        &self,
        open: &OpenWalk,
        connector: &ConnectorStorefront,
        access: Option<Access>,
    ) -> Result<Document, ProjectError> {
        let begun = &open.walk.begun;
        let project = self.project();
        let board = self.workspace.board(&open.edition)?;
        let record = self.workspace.store.record(begun.release).ok();
        let files = begun.hand_over.iter().map(|file| {
            let target = record.as_ref().and_then(|record| record.targets.iter().find(|t| t.target == file.target));
            let folder = open.folder.clone().unwrap_or_default();
            let path = project.root().canonicalize().unwrap_or_else(|_| project.root().to_owned());
            let below = folder.strip_prefix(project.root()).unwrap_or(&folder).to_owned();
            DocumentFile {
                target: file.target.clone(),
                systems: target.map(|t| t.systems.clone()).unwrap_or_default(),
                path: path.join(below).join(&file.name).display().to_string(),
                bytes: file.bytes,
                sha256: file.sha256.clone(),
                starts: target.map(|t| t.starts.iter().map(|s| s.file.to_string()).collect()).unwrap_or_default(),
            }
        });
        let (action, branch) = asked(begun);
        let title = begun.storefront.key();
        let configured = project.storefront(begun.storefront.name.as_str())?.1;
        let theirs = |branch: &Name| {
            configured.theirs.get(branch).map_or_else(|| branch.to_string(), |theirs| theirs.as_str().to_owned())
        };
        let before = branch.and_then(|branch| board.branches.get(&(title.clone(), branch.clone())));
        let before = before.and_then(|facts| facts.targets.values().max_by_key(|build| build.name.number));
        let number_there = board.build_of(&title, begun.release);
        let pushed = board.pushed.iter().rfind(|p| p.release == begun.release && p.storefront.is_at(&title));
        let about = (&begun.storefront.name, &open.edition, begun.storefront.handle.as_str());
        Ok(Document {
            release: Some(DocumentRelease {
                version: begun.name.version.clone(),
                number: begun.name.number,
                id: begun.release,
                name_there: begun
                    .name_there
                    .as_ref()
                    .map_or_else(|| begun.name.version.to_string(), |name| name.as_str().to_owned()),
                number_there: number_there.map(|number| number.to_string()),
                per_target: pushed.iter().flat_map(|p| &p.numbers).map(|(t, n)| (t.clone(), n.to_string())).collect(),
            }),
            message: begun.message.clone(),
            notes: begun.notes.clone(),
            because: begun.because.clone(),
            hand_over: files.collect(),
            branch: branch.map(theirs),
            before: before.map(|build| DocumentBefore {
                version: build.name.version.clone(),
                number_there: build.number_there.to_string(),
            }),
            access: access.map(Into::into),
            ..document(project, about, connector, action, begun.key)
        })
    }
}

fn asked(begun: &StepsBegun) -> (Asked, Option<&Name>) {
    match &begun.action {
        Action::Push | Action::Other(_) => (Asked::Push, None),
        Action::Promote { branch } => (Asked::Promote, Some(branch)),
        Action::Rollback { branch } => (Asked::Rollback, Some(branch)),
        Action::Withdraw { .. } => (Asked::Withdraw, None),
    }
}
