//! Approval by a system's vendor: a signed bundle is handed over, and the ticket that comes back is attached to it. docs/approvals.md has
//! the steps and what is kept.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use lantern_core::bytes::{find, hex};
use lantern_core::config::Approval;
use lantern_core::event::EventId;
use lantern_core::names::{Identity, Name};
use lantern_core::path::TreePath;
use lantern_core::progress::Progress;
use lantern_core::release::ReleaseRecord;
use lantern_exports::changing::{ChangingError, Replacement};
use lantern_exports::intake::Intake;
use lantern_formats::bundle::{Layout, MAX_SMALL_LEN, TICKET, is_ticket};
use lantern_formats::hash::Hash;
use lantern_sign::apple_bundle::{self, Changed, Root};
use lantern_store::durable;
use lantern_storefront::connector::{
    Asked, Connector, ConnectorError, Document, DocumentFile, DocumentGame, DocumentStorefront, LineRefused, Outcome,
};
use serde::{Deserialize, Serialize};

use crate::not_changed::{changing_error, not_done};
use crate::sign_code::Sent;
use crate::{Project, ProjectError, environment};

const VERSION: u32 = 1;
const STATE: &str = "state.json";
const TICKET_FILE: &str = "ticket";
/// Most bytes of what is kept.
const MAX_STATE_LEN: u64 = 64 * 1024;

/// What was handed over and is waited for.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct State {
    version: u32,
    /// The short hashes of the program's signatures: what the answer is for.
    code: Vec<String>,
    attempt: EventId,
    since: Timestamp,
    /// SHA-256 of the ticket beside it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    ticket: Option<String>,
}

/// Something that waits for an answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WaitingApproval {
    /// For whom.
    pub approval: Name,
    /// Of which target.
    pub target: Name,
    /// Since when.
    pub since: Timestamp,
    /// Until when it usually is answered.
    pub due: Option<Timestamp>,
    /// Whether a person hands it over.
    pub by_hand: bool,
}

/// Has bundles of targets looked at.
#[derive(Debug, Clone)]
pub(crate) struct Approvals {
    /// By their targets.
    by_target: BTreeMap<Name, (Name, Approval)>,
    /// The project's folder, and that of what is kept.
    root: PathBuf,
    kept: PathBuf,
    game: (String, Identity, Name),
    /// Tickets that someone got, and hands in now.
    tickets: Vec<PathBuf>,
}

/// Where something is handed over.
struct Desk<'a> {
    target: &'a Name,
    approval: (&'a Name, &'a Approval),
    /// Where it is kept.
    folder: PathBuf,
}

/// A bundle that is looked at.
struct Case<'a> {
    desk: Desk<'a>,
    files: Sent<'a>,
    /// The bundle's folder, which ends with `/`.
    bundle: String,
    layout: Layout,
    changed: Vec<Changed>,
    /// The short hashes of its program's signatures.
    code: Vec<String>,
}

impl Project {
    /// What looks at the bundles of an edition.
    pub(crate) fn approvals(&self, edition: &Name, tickets: &[PathBuf]) -> Approvals {
        let all = self.config().approvals.iter();
        let by_target = all.flat_map(|(name, approval)| {
            approval.targets.iter().map(|target| (target.clone(), (name.clone(), approval.clone())))
        });
        Approvals {
            by_target: by_target.collect(),
            root: self.root().to_owned(),
            kept: self.state("approvals"),
            game: (self.edition_name(edition).to_owned(), self.identity(edition).clone(), edition.clone()),
            tickets: tickets.to_vec(),
        }
    }

    /// For each target of a release that has a ticket: who looked at it.
    pub(crate) fn looked_at(&self, record: &ReleaseRecord) -> BTreeMap<Name, Name> {
        let has_ticket = |target: &Name| {
            let target = record.targets.iter().find(|of| of.target == *target);
            let replaced = target.and_then(|of| of.changed.as_ref()).map(|changed| &changed.replaced);
            let place = format!("Contents/{TICKET}");
            replaced.is_some_and(|replaced| replaced.keys().any(|path| path.as_str().ends_with(&place)))
        };
        let all = self.config().approvals.iter();
        let of = |(name, approval): (&Name, &Approval)| {
            let targets = approval.targets.iter().filter(|target| has_ticket(target));
            targets.map(|target| (target.clone(), name.clone())).collect::<Vec<_>>()
        };
        all.flat_map(of).collect()
    }

    /// What waits for an answer, as far as this computer knows.
    pub fn waiting_approvals(&self) -> Vec<WaitingApproval> {
        let mut out = Vec::new();
        for (name, approval) in &self.config().approvals {
            for target in &approval.targets {
                let folder = self.state("approvals").join(name.as_str()).join(target.as_str());
                let Some(state) = State::read(&folder).filter(|state| state.ticket.is_none()) else { continue };
                let due = approval.usually.and_then(|usually| state.since.checked_add(usually).ok());
                out.push(WaitingApproval {
                    approval: name.clone(),
                    target: target.clone(),
                    since: state.since,
                    due,
                    by_hand: approval.run.is_empty(),
                });
            }
        }
        out
    }
}

/// What came of asking about what was handed over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answered {
    /// The ticket is there.
    Yes,
    /// There is no answer yet.
    NotYet,
    /// Nothing waits any more, or it has to be handed over again.
    Again,
}

impl Project {
    /// Asks once what became of what was handed over, and keeps the ticket.
    ///
    /// # Errors
    /// Why the program did not answer, and its refusal.
    pub fn ask_approval(&self, waiting: &WaitingApproval, progress: &dyn Progress) -> Result<Answered, ProjectError> {
        let folder = self.state("approvals").join(waiting.approval.as_str()).join(waiting.target.as_str());
        let Some(state) = State::read(&folder) else { return Ok(Answered::Again) };
        let Some(approval) = self.config().approvals.get(&waiting.approval) else { return Ok(Answered::Again) };
        if state.ticket.is_some() {
            return Ok(Answered::Yes);
        }
        if approval.run.is_empty() {
            return Ok(Answered::NotYet);
        }
        let desk = Desk { target: &waiting.target, approval: (&waiting.approval, approval), folder };
        let edition = self.config().targets.get(&waiting.target).map_or_else(Name::full_edition, |t| t.edition.clone());
        let approvals = self.approvals(&edition, &[]);
        match approvals.ask(&desk, Asked::Query, &state, None, progress)? {
            Outcome::Done { ticket: Some(path), waits: false, .. } => {
                let ticket = desk.read(&self.root().join(path))?;
                if !state.fits(&ticket) {
                    return Err(desk.wrong_ticket().into());
                }
                desk.keep(&ticket, state)?;
                Ok(Answered::Yes)
            }
            Outcome::Done { .. } => Ok(Answered::NotYet),
            Outcome::Refused(refused) => Err(desk.no(refused)?.into()),
            _ => Ok(Answered::Again),
        }
    }
}

impl State {
    /// Whether a ticket names the signature of every architecture.
    fn fits(&self, ticket: &[u8]) -> bool {
        let names = |code: &String| bytes_of_hex(code).is_some_and(|hash| find(ticket, &hash, 0).is_some());
        is_ticket(ticket) && !self.code.is_empty() && self.code.iter().all(names)
    }

    fn read(folder: &Path) -> Option<Self> {
        let bytes = durable::read_kept(&folder.join(STATE), MAX_STATE_LEN)?;
        serde_json::from_slice(&bytes).ok().filter(|state: &Self| state.version == VERSION)
    }

    fn write(&self, folder: &Path) -> Result<(), ChangingError> {
        let bytes = serde_json::to_vec(self).expect("it has only string keys");
        let written = durable::write_kept(&folder.join(STATE), &bytes);
        written.map_err(|error| ChangingError::Io { path: error.path, source: error.source })
    }
}

impl Approvals {
    /// What decides whether a target is made in the same way: whose look it needs.
    pub(crate) fn of(&self, target: &Name) -> Option<&Name> {
        self.by_target.get(target).map(|(name, _)| name)
    }

    /// Hands the bundle of a target over, or asks what became of it, and attaches the ticket.
    pub(crate) fn approve(
        &self,
        intake: &Intake<'_>,
        mut files: Vec<Replacement>,
        work: &Path,
        progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, ChangingError> {
        let Some(case) = self.case(intake, &files)? else { return Ok(files) };
        let target = case.desk.target;
        let failed = |error| changing_error("approved", target, work, error);
        let place = format!("{}{TICKET}", case.layout.base);
        // An earlier release of the very same bytes has it.
        if files.iter().any(|file| file.path.as_str() == place) {
            return Ok(files);
        }
        let ticket = self.ticket(&case, progress)?;
        let at = work.join(TICKET_FILE);
        fs::write(&at, ticket).map_err(|source| ChangingError::Io { path: at.clone(), source })?;
        let mut changed = case.changed.clone();
        changed.push(Changed { path: place.clone(), at: at.clone() });
        apple_bundle::verify(&case.files, &case.layout, &case.bundle, &changed).map_err(failed)?;
        // It served its purpose, and may be as large as the game.
        let archive = case.archive();
        match fs::remove_file(&archive) {
            Err(source) if source.kind() != std::io::ErrorKind::NotFound => {
                return Err(ChangingError::Io { path: archive, source });
            }
            _ => {}
        }
        let path =
            TreePath::new(&place).map_err(|error| case.desk.not_approved(error.to_string(), "rename the bundle"))?;
        files.push(Replacement { path, at });
        Ok(files)
    }

    /// The bundle of a target that is looked at; none where nobody looks at it.
    fn case<'a>(&'a self, intake: &'a Intake<'_>, files: &[Replacement]) -> Result<Option<Case<'a>>, ChangingError> {
        let Some((name, approval)) = self.by_target.get(intake.name) else { return Ok(None) };
        let sent = Sent::of(intake);
        let failed = |error| changing_error("approved", intake.name, &self.kept, error);
        let start = intake.starts.first().map(|start| start.file.as_str().to_owned()).unwrap_or_default();
        let roots = apple_bundle::roots(&sent).map_err(failed)?;
        let bundle = roots.into_iter().find_map(|root| match root {
            Root::Bundle(folder, layout) if layout.is_app() && start.starts_with(&folder) => Some((folder, layout)),
            _ => None,
        });
        let Some((bundle, layout)) = bundle else {
            let why = format!("{name} looks at bundles, and what starts does not lie in one");
            let fix = format!("remove it from the targets of [approvals.{name}]");
            return Err(not_done("approved", intake.name, why, fix));
        };
        let changed: Vec<Changed> =
            files.iter().map(|file| Changed { path: file.path.as_str().to_owned(), at: file.at.clone() }).collect();
        let inside = changed.into_iter().filter(|file| file.path.starts_with(&bundle)).collect::<Vec<_>>();
        let code = apple_bundle::code_hashes(&sent, &layout, &bundle, &inside).map_err(failed)?;
        let folder = self.kept.join(name.as_str()).join(intake.name.as_str());
        let code = code.iter().map(|hash| hex(hash)).collect();
        let desk = Desk { target: intake.name, approval: (name, approval), folder };
        Ok(Some(Case { desk, files: sent, bundle, layout, changed: inside, code }))
    }

    /// The ticket of a bundle: the one that is kept, that someone hands in, or that the program brings now.
    fn ticket(&self, case: &Case<'_>, progress: &dyn Progress) -> Result<Vec<u8>, ChangingError> {
        let desk = &case.desk;
        let known = State::read(&desk.folder).filter(|state| state.code == case.code);
        if let Some(state) = known.as_ref().filter(|state| state.ticket.is_some()) {
            let kept = durable::read_kept(&desk.folder.join(TICKET_FILE), MAX_SMALL_LEN);
            if let Some(ticket) = kept.filter(|ticket| state.fits(ticket)) {
                return Ok(ticket);
            }
        }
        let is_new = known.is_none();
        let state = match known {
            Some(state) => state,
            None => {
                desk.forget()?;
                case.write_archive(progress)?;
                desk.begin(case.code.clone())?
            }
        };
        let mut other = None;
        for path in &self.tickets {
            let ticket = desk.read(path)?;
            if state.fits(&ticket) {
                desk.keep(&ticket, state)?;
                return Ok(ticket);
            }
            other = Some(path);
        }
        if let Some(path) = other {
            let why = format!("the ticket {} is for another build than the one that was handed over", path.display());
            let fix = format!("hand {} over, and take its ticket", case.archive().display());
            return Err(desk.not_approved(why, fix));
        }
        if desk.approval.1.run.is_empty() {
            return Err(case.waits(&state));
        }
        let mut outcome = self.ask_about(case, if is_new { Asked::Submit } else { Asked::Query }, &state, progress)?;
        if !is_new && matches!(outcome, Outcome::NotBegun | Outcome::UnknownAction) {
            outcome = self.ask_about(case, Asked::Submit, &state, progress)?;
        }
        match outcome {
            Outcome::Done { ticket: Some(path), waits: false, .. } => {
                let ticket = desk.read(&self.root.join(&path))?;
                if !state.fits(&ticket) {
                    return Err(desk.wrong_ticket());
                }
                desk.keep(&ticket, state)?;
                Ok(ticket)
            }
            Outcome::Done { .. } => Err(case.waits(&state)),
            Outcome::Refused(refused) => Err(desk.no(refused)?),
            _ => {
                let why = format!("the program of {} answered something else than was asked", desk.approval.0);
                Err(desk.not_approved(why, "docs/approvals.md says what it may answer"))
            }
        }
    }

    fn ask_about(
        &self,
        case: &Case<'_>,
        asked: Asked,
        state: &State,
        progress: &dyn Progress,
    ) -> Result<Outcome, ChangingError> {
        self.ask(&case.desk, asked, state, case.document()?, progress)
    }

    /// Asks the program.
    fn ask(
        &self,
        desk: &Desk<'_>,
        asked: Asked,
        state: &State,
        handed: Option<DocumentFile>,
        progress: &dyn Progress,
    ) -> Result<Outcome, ChangingError> {
        let (name, approval) = desk.approval;
        let (game, identity, edition) = self.game.clone();
        let storefront = DocumentStorefront { name: name.clone(), values: approval.values.clone() };
        let game = DocumentGame { name: game, identity, edition, handle: String::new() };
        let mut document = Document::new(asked, state.attempt, storefront, game);
        match asked {
            Asked::Query => document.of = Some(Asked::Submit),
            _ => document.hand_over.extend(handed),
        }
        let connector = Connector { run: &approval.run, folder: &self.root, limit: approval.time_limit };
        let say = |text: &str| progress.say(&format!("{name}: {text}"));
        connector.run(&document, progress, &say).map_err(|error| match error {
            ConnectorError::Stopped => ChangingError::Stopped,
            error => {
                let fix = "what it printed is in .lantern/logs; the next lantern prepare asks what became of it";
                desk.not_approved(error.to_string(), fix)
            }
        })
    }
}

impl Desk<'_> {
    fn not_approved(&self, why: impl Into<String>, fix: impl Into<String>) -> ChangingError {
        not_done("approved", self.target, why, fix)
    }

    fn wrong_ticket(&self) -> ChangingError {
        let why = format!("the ticket that {} gave is not one for this build", self.approval.0);
        self.not_approved(why, "what the program printed is in .lantern/logs")
    }

    /// It was refused: it is handed over anew the next time, as another attempt.
    fn no(&self, LineRefused { because, fix }: LineRefused) -> Result<ChangingError, ChangingError> {
        self.forget()?;
        let fix = fix.unwrap_or_else(|| "mend it, export again, and prepare again".to_owned());
        Ok(self.not_approved(format!("{} refused it: {because}", self.approval.0), fix))
    }

    fn read(&self, path: &Path) -> Result<Vec<u8>, ChangingError> {
        let read = durable::read_limited(path, MAX_SMALL_LEN);
        read.map_err(|error| {
            let why = format!("its ticket cannot be read: {error}");
            self.not_approved(why, "name the file of the ticket")
        })
    }

    /// Forgets what was handed over before.
    fn forget(&self) -> Result<(), ChangingError> {
        match fs::remove_dir_all(&self.folder) {
            Err(source) if source.kind() != std::io::ErrorKind::NotFound => {
                Err(ChangingError::Io { path: self.folder.clone(), source })
            }
            _ => Ok(()),
        }
    }

    fn begin(&self, code: Vec<String>) -> Result<State, ChangingError> {
        let random = environment::random().map_err(|error| self.not_approved(error.to_string(), "try again"))?;
        let since = environment::now();
        let state = State { version: VERSION, code, attempt: EventId::new(since, random), since, ticket: None };
        state.write(&self.folder)?;
        Ok(state)
    }

    fn keep(&self, ticket: &[u8], state: State) -> Result<(), ChangingError> {
        let written = durable::write_kept(&self.folder.join(TICKET_FILE), ticket);
        written.map_err(|error| ChangingError::Io { path: error.path, source: error.source })?;
        State { ticket: Some(hex(&Hash::Sha256.digest(ticket))), ..state }.write(&self.folder)
    }
}

impl Case<'_> {
    fn archive(&self) -> PathBuf {
        let name = self.bundle.trim_end_matches('/').rsplit('/').next().unwrap_or_default();
        let stem = name.strip_suffix(".app").unwrap_or(name);
        self.desk.folder.join(format!("{stem}.zip"))
    }

    /// Writes what is handed over.
    fn write_archive(&self, progress: &dyn Progress) -> Result<(), ChangingError> {
        let made = durable::create_folders(&self.desk.folder);
        made.map_err(|error| ChangingError::Io { path: error.path, source: error.source })?;
        let at = self.archive();
        let part = at.with_extension("part");
        let written = apple_bundle::archive(&self.files, &self.bundle, &self.changed, &part, progress);
        written.map_err(|error| changing_error("approved", self.desk.target, &part, error))?;
        fs::rename(&part, &at).map_err(|source| ChangingError::Io { path: at, source })
    }

    fn document(&self) -> Result<Option<DocumentFile>, ChangingError> {
        let at = self.archive();
        let failed = |source| ChangingError::Io { path: at.clone(), source };
        let mut file = fs::File::open(&at).map_err(failed)?;
        let bytes = file.metadata().map_err(failed)?.len();
        let digest = Hash::Sha256.digest_of_reader(&mut file).map_err(failed)?;
        let path = at.canonicalize().map_err(failed)?;
        Ok(Some(DocumentFile {
            target: self.desk.target.clone(),
            systems: Vec::new(),
            path: path.to_string_lossy().into_owned(),
            bytes,
            sha256: Some(hex(&digest)),
            starts: Vec::new(),
        }))
    }

    fn waits(&self, state: &State) -> ChangingError {
        let (name, approval) = self.desk.approval;
        let since = state.since.strftime("%Y-%m-%d %H:%M UTC");
        let (why, fix) = if approval.run.is_empty() {
            let how = approval.how.as_deref().unwrap_or("hand the archive over").trim_end_matches('.').to_owned();
            let at = approval.address.as_ref().map(|address| format!(" ({address})")).unwrap_or_default();
            let archive = self.archive();
            let why = format!("{} lies ready since {since}", archive.display());
            (why, format!("{how}{at}; with the ticket that comes back: lantern prepare --ticket FILE"))
        } else {
            let fix = format!("lantern prepare asks again; lantern wait {name} waits for the answer");
            (format!("it was handed over on {since}, and there is no answer yet"), fix)
        };
        ChangingError::Waits { target: self.desk.target.clone(), by: name.clone(), why, fix }
    }
}

fn bytes_of_hex(text: &str) -> Option<Vec<u8>> {
    let digits = text.as_bytes().as_chunks::<2>().0;
    let byte = |pair: &[u8; 2]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    digits.iter().map(byte).collect()
}
