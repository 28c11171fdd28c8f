//! Approval by a system's vendor: a signed bundle is handed over, and the ticket that comes back is attached to it. docs/approvals.md has
//! the steps and what is kept.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use lantern_core::board::Board;
use lantern_core::bytes::{find, from_hex, hex};
use lantern_core::config::Approval;
use lantern_core::event::{ApprovalSaid, ApprovalStanding, EventBody, EventId};
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::progress::Progress;
use lantern_core::release::ReleaseRecord;
use lantern_core::version::Version;
use lantern_exports::changing::{ChangingError, Replacement};
use lantern_exports::intake::Intake;
use lantern_formats::bundle::{MAX_SMALL_LEN, TICKET, is_ticket};
use lantern_formats::hash::Hash;
use lantern_sign::apple_bundle::{Changed, Whole};
use lantern_store::durable;
use lantern_storefront::connector::{
    Asked, Connector, ConnectorError, Document, DocumentFile, DocumentGame, DocumentStorefront, LineRefused, Outcome,
};
use serde::{Deserialize, Serialize};

use crate::not_changed::{changing_error, not_done};
use crate::sign_code::Sent;
use crate::workspace::{Session, Workspace};
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
    game_version: Version,
    attempt: EventId,
    since: Timestamp,
    /// SHA-256 of the ticket beside it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    ticket: Option<String>,
    /// Why it was refused; it is handed over once more then, as another attempt.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    refused: Option<String>,
}

/// What is kept of a target.
enum Kept {
    Nothing,
    Known(State),
    /// Written by a newer lantern, and not touched.
    Newer,
}

/// Something that waits for an answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WaitingApproval {
    /// For whom.
    pub approval: Name,
    /// Of which target.
    pub target: Name,
    /// Since when; none where a newer lantern has noted it in a way that is not known here.
    pub since: Option<Timestamp>,
    /// Until when it usually is answered.
    pub due: Option<Timestamp>,
    /// Whether a person hands it over.
    pub by_hand: bool,
    /// Who handed it over on another computer, where the ledger alone knows of it.
    pub elsewhere: Option<String>,
}

/// Has bundles of targets looked at.
#[derive(Debug, Clone)]
pub(crate) struct Approvals {
    /// By their targets.
    by_target: BTreeMap<Name, (Name, Approval)>,
    /// The project's folder, and that of what is kept.
    root: PathBuf,
    kept: PathBuf,
    game: DocumentGame,
    /// Tickets that someone got, and hands in now.
    tickets: Vec<PathBuf>,
}

/// Where a target's bundle is handed over.
struct Desk<'a> {
    approvals: &'a Approvals,
    target: &'a Name,
    name: &'a Name,
    approval: &'a Approval,
    /// Where it is kept.
    folder: PathBuf,
}

/// What came of asking.
enum Answer {
    Ticket(Vec<u8>),
    NotYet,
    /// It never arrived, or nothing is known of it.
    Again,
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
            game: DocumentGame {
                name: self.edition_name(edition).to_owned(),
                identity: self.identity(edition).clone(),
                edition: edition.clone(),
                handle: String::new(),
            },
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

    /// What is kept here of each target that someone looks at.
    fn kept_approvals(&self) -> impl Iterator<Item = (&Name, &Approval, &Name, Kept)> {
        let folder = self.state("approvals");
        let all = self.config().approvals.iter();
        let pairs =
            all.flat_map(|(name, approval)| approval.targets.iter().map(move |target| (name, approval, target)));
        pairs.map(move |(name, approval, target)| {
            let kept = Kept::read(&kept_in(&folder, name, target));
            (name, approval, target, kept)
        })
    }

    /// What waits for an answer, as far as this computer knows.
    pub fn waiting_approvals(&self) -> Vec<WaitingApproval> {
        let waiting = self.kept_approvals().filter_map(|(name, approval, target, kept)| {
            let since = match kept {
                Kept::Known(state) if state.waits() => Some(state.since),
                Kept::Newer => None,
                Kept::Known(_) | Kept::Nothing => return None,
            };
            Some(WaitingApproval {
                approval: name.clone(),
                target: target.clone(),
                since,
                due: since.and_then(|since| due(since, approval)),
                by_hand: approval.run.is_empty(),
                elsewhere: None,
            })
        });
        waiting.collect()
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
        let edition = self.config().targets.get(&waiting.target).map_or_else(Name::full_edition, |t| t.edition.clone());
        let approvals = self.approvals(&edition, &[]);
        let Some(desk) = approvals.desk(&waiting.target) else { return Ok(Answered::Again) };
        let Some(state) = desk.state()? else { return Ok(Answered::Again) };
        if state.ticket.is_some() {
            return Ok(Answered::Yes);
        }
        if state.refused.is_some() {
            return Ok(Answered::Again);
        }
        if desk.approval.run.is_empty() {
            return Ok(Answered::NotYet);
        }
        Ok(match desk.ask(&state, None, progress)? {
            Answer::Ticket(_) => Answered::Yes,
            Answer::NotYet => Answered::NotYet,
            Answer::Again => Answered::Again,
        })
    }
}

/// When it is usually answered.
fn due(since: Timestamp, approval: &Approval) -> Option<Timestamp> {
    approval.usually.and_then(|usually| since.checked_add(usually).ok())
}

impl Session {
    /// Records what has become of what was handed over, as far as the ledger does not say so.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn note_approvals(&mut self) -> Result<(), ProjectError> {
        let targets = &self.project().config().targets;
        let said = self.project().kept_approvals().filter_map(|(name, approval, target, kept)| match kept {
            Kept::Known(state) => Some((targets.get(target)?.edition.clone(), state.said(name, target, approval))),
            Kept::Newer | Kept::Nothing => None,
        });
        for (edition, said) in said.collect::<Vec<_>>() {
            let board = self.workspace.board(&edition)?;
            if !board.approvals.values().any(|word| word.said == said) {
                self.workspace.record(&edition, EventBody::ApprovalSaid(said), None)?;
            }
        }
        Ok(())
    }
}

impl Workspace {
    /// What waits for an answer here, and what others have handed over.
    pub(crate) fn waiting_approvals(&self, edition: &Name, board: &Board) -> Vec<WaitingApproval> {
        let config = self.project.config();
        let is_own = |target: &Name| config.targets.get(target).is_some_and(|of| of.edition == *edition);
        let mut waiting = self.project.waiting_approvals();
        waiting.retain(|of| is_own(&of.target));
        // A ledger that was rebuilt has this computer's own words under another name, and what is answered is so wherever it was said.
        let own = self.project.kept_approvals().filter_map(|(_, _, _, kept)| match kept {
            Kept::Known(state) => Some(state.attempt),
            Kept::Newer | Kept::Nothing => None,
        });
        let words = board.approvals.values().map(|word| &word.said);
        let answered =
            words.filter(|said| !matches!(said.standing, ApprovalStanding::Waiting { .. })).map(|said| said.attempt);
        let known: BTreeSet<EventId> = own.chain(answered).collect();
        for ((name, target, device), word) in &board.approvals {
            let ApprovalStanding::Waiting { due } = &word.said.standing else { continue };
            if device == self.ledger.device() || known.contains(&word.said.attempt) {
                continue;
            }
            let Some(approval) = config.approvals.get(name).filter(|of| of.targets.contains(target)) else { continue };
            waiting.push(WaitingApproval {
                approval: name.clone(),
                target: target.clone(),
                since: Some(word.said.since),
                due: *due,
                by_hand: approval.run.is_empty(),
                elsewhere: Some(word.by.clone()),
            });
        }
        waiting
    }
}

/// Where what is handed over of a target is kept.
fn kept_in(folder: &Path, approval: &Name, target: &Name) -> PathBuf {
    folder.join(approval.as_str()).join(target.as_str())
}

impl Kept {
    fn read(folder: &Path) -> Self {
        #[derive(Deserialize)]
        struct Versioned {
            version: u32,
        }
        let Some(bytes) = durable::read_kept(&folder.join(STATE), MAX_STATE_LEN) else { return Self::Nothing };
        match serde_json::from_slice(&bytes) {
            Ok(Versioned { version }) if version > VERSION => Self::Newer,
            // What is damaged says nothing.
            _ => serde_json::from_slice(&bytes).map_or(Self::Nothing, Self::Known),
        }
    }
}

impl State {
    /// Whether a ticket names the signature of every architecture.
    fn fits(&self, ticket: &[u8]) -> bool {
        let names = |code: &String| from_hex(code).is_some_and(|hash| find(ticket, &hash, 0).is_some());
        is_ticket(ticket) && !self.code.is_empty() && self.code.iter().all(names)
    }

    /// Whether there is no answer yet.
    fn waits(&self) -> bool {
        self.ticket.is_none() && self.refused.is_none()
    }

    /// What the ledger has of it.
    fn said(&self, name: &Name, target: &Name, approval: &Approval) -> ApprovalSaid {
        let standing = match (&self.ticket, &self.refused) {
            (Some(ticket), _) => ApprovalStanding::Approved { ticket: ticket.clone() },
            (None, Some(because)) => ApprovalStanding::Refused { because: because.clone() },
            (None, None) => ApprovalStanding::Waiting { due: due(self.since, approval) },
        };
        let (approval, target, version) = (name.clone(), target.clone(), self.game_version.clone());
        ApprovalSaid { approval, target, version, attempt: self.attempt, since: self.since, standing }
    }

    fn write(&self, folder: &Path) -> Result<(), ChangingError> {
        let bytes = serde_json::to_vec(self).expect("it has only string keys");
        Ok(durable::write_kept(&folder.join(STATE), &bytes)?)
    }
}

impl Approvals {
    /// What decides whether a target is made in the same way: whose look it needs.
    pub(crate) fn of(&self, target: &Name) -> Option<&Name> {
        self.by_target.get(target).map(|(name, _)| name)
    }

    fn desk<'a>(&'a self, target: &'a Name) -> Option<Desk<'a>> {
        let (name, approval) = self.by_target.get(target)?;
        Some(Desk { approvals: self, target, name, approval, folder: kept_in(&self.kept, name, target) })
    }

    /// Hands the bundle of a target over, or asks what became of it, and attaches the ticket.
    pub(crate) fn approve(
        &self,
        intake: &Intake<'_>,
        version: &Version,
        mut files: Vec<Replacement>,
        work: &Path,
        progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, ChangingError> {
        let Some(desk) = self.desk(intake.name) else { return Ok(files) };
        let failed = |error| changing_error("approved", desk.target, work, error);
        let sent = Sent::of(intake);
        let bundle = intake.starts.first().and_then(|start| start.file.as_str().split_once(".app/"));
        let bundle = bundle.map(|(name, _)| format!("{name}.app")).unwrap_or_default();
        let changed = files.iter().map(|file| Changed { path: file.path.as_str().to_owned(), at: file.at.clone() });
        let Some(mut whole) = Whole::of(&sent, &bundle, changed) else {
            let why = format!("{} looks at bundles, and what starts does not lie in one", desk.name);
            return Err(desk.not_approved(why, format!("remove it from the targets of [approvals.{}]", desk.name)));
        };
        let place = whole.ticket();
        // An earlier release of the very same bytes has it.
        if files.iter().any(|file| file.path.as_str() == place) {
            return Ok(files);
        }
        let ticket = desk.ticket(&whole, version, progress)?;
        let at = work.join(TICKET_FILE);
        fs::write(&at, ticket).map_err(|source| ChangingError::Io { path: at.clone(), source })?;
        whole.put(Changed { path: place.clone(), at: at.clone() });
        whole.verify().map_err(failed)?;
        // It served its purpose, and may be as large as the game.
        desk.remove(&desk.archive(&whole), |path| fs::remove_file(path))?;
        let path = TreePath::new(&place).map_err(|error| desk.not_approved(error.to_string(), "rename the bundle"))?;
        files.push(Replacement { path, at });
        Ok(files)
    }
}

impl Desk<'_> {
    /// What is known of what was handed over.
    fn state(&self) -> Result<Option<State>, ChangingError> {
        match Kept::read(&self.folder) {
            Kept::Nothing => Ok(None),
            Kept::Known(state) => Ok(Some(state)),
            Kept::Newer => {
                let why = format!("a newer lantern handed it over to {}, and noted that in its own way", self.name);
                Err(self.not_approved(why, "use the newer lantern"))
            }
        }
    }

    /// The ticket of a bundle: the one that is kept, that someone hands in, or that the program brings now.
    fn ticket(&self, whole: &Whole<'_>, version: &Version, progress: &dyn Progress) -> Result<Vec<u8>, ChangingError> {
        let code = whole.code_hashes().map_err(|error| changing_error("approved", self.target, &self.folder, error))?;
        let code: Vec<String> = code.iter().map(|hash| hex(hash)).collect();
        let known = self.state()?.filter(|state| state.code == code && state.refused.is_none());
        if let Some(state) = known.as_ref().filter(|state| state.ticket.is_some()) {
            let kept = durable::read_kept(&self.folder.join(TICKET_FILE), MAX_SMALL_LEN);
            if let Some(ticket) = kept.filter(|ticket| state.fits(ticket)) {
                return Ok(ticket);
            }
        }
        let is_new = known.is_none();
        let state = match known {
            Some(state) => state,
            None => {
                self.forget()?;
                self.write_archive(whole, progress)?;
                self.begin(code, version)?
            }
        };
        for path in &self.approvals.tickets {
            let ticket = self.read(path)?;
            if state.fits(&ticket) {
                self.keep(&ticket, &state)?;
                return Ok(ticket);
            }
        }
        if let Some(path) = self.approvals.tickets.last() {
            let why = format!("the ticket {} is for another build than the one that was handed over", path.display());
            let fix = format!("hand {} over, and take its ticket", self.archive(whole).display());
            return Err(self.not_approved(why, fix));
        }
        if self.approval.run.is_empty() {
            return Err(self.waits(whole, &state));
        }
        let submit = || self.ask(&state, Some(self.document(whole)?), progress);
        let answer = match if is_new { submit()? } else { self.ask(&state, None, progress)? } {
            Answer::Again if !is_new => submit()?,
            other => other,
        };
        match answer {
            Answer::Ticket(ticket) => Ok(ticket),
            Answer::NotYet => Err(self.waits(whole, &state)),
            Answer::Again => {
                let why = format!("the program of {} answered something else than was asked", self.name);
                Err(self.not_approved(why, "docs/approvals.md says what it may answer"))
            }
        }
    }

    /// Asks the program to hand a file over or, without one, what became of what was handed over; keeps the ticket that comes.
    fn ask(
        &self,
        state: &State,
        handed: Option<DocumentFile>,
        progress: &dyn Progress,
    ) -> Result<Answer, ChangingError> {
        let (name, approval, approvals) = (self.name, self.approval, self.approvals);
        let asked = if handed.is_some() { Asked::Submit } else { Asked::Query };
        let storefront = DocumentStorefront { name: name.clone(), values: approval.values.clone() };
        let mut document = Document::new(asked, state.attempt, storefront, approvals.game.clone());
        document.of = handed.is_none().then_some(Asked::Submit);
        document.hand_over.extend(handed);
        let connector = Connector { run: &approval.run, folder: &approvals.root, limit: approval.time_limit };
        let say = |text: &str| progress.say(&format!("{name}: {text}"));
        let outcome = connector.run(&document, progress, &say).map_err(|error| match error {
            ConnectorError::Stopped => ChangingError::Stopped,
            error => {
                let fix = "what it printed is in .lantern/logs; the next lantern prepare asks what became of it";
                self.not_approved(error.to_string(), fix)
            }
        })?;
        match outcome {
            Outcome::Done { ticket: Some(path), waits: false, .. } => {
                let ticket = self.read(&approvals.root.join(path))?;
                if !state.fits(&ticket) {
                    let why = format!("the ticket that {name} gave is not one for this build");
                    return Err(self.not_approved(why, "what the program printed is in .lantern/logs"));
                }
                self.keep(&ticket, state)?;
                Ok(Answer::Ticket(ticket))
            }
            Outcome::Done { .. } => Ok(Answer::NotYet),
            Outcome::Refused(LineRefused { because, fix }) => {
                State { refused: Some(because.clone()), ..state.clone() }.write(&self.folder)?;
                let fix = fix.unwrap_or_else(|| "change what it names, export again, and prepare again".to_owned());
                Err(self.not_approved(format!("{name} refused it: {because}"), fix))
            }
            _ => Ok(Answer::Again),
        }
    }

    fn not_approved(&self, why: impl Into<String>, fix: impl Into<String>) -> ChangingError {
        not_done("approved", self.target, why, fix)
    }

    fn read(&self, path: &Path) -> Result<Vec<u8>, ChangingError> {
        let read = durable::read_limited(path, MAX_SMALL_LEN);
        read.map_err(|error| {
            let why = format!("its ticket cannot be read: {error}");
            self.not_approved(why, "name the file of the ticket")
        })
    }

    /// Removes what may be gone already.
    fn remove(&self, path: &Path, how: impl Fn(&Path) -> io::Result<()>) -> Result<(), ChangingError> {
        match how(path) {
            Err(source) if source.kind() != io::ErrorKind::NotFound => {
                Err(ChangingError::Io { path: path.to_owned(), source })
            }
            _ => Ok(()),
        }
    }

    /// Forgets what was handed over before.
    fn forget(&self) -> Result<(), ChangingError> {
        self.remove(&self.folder, |path| fs::remove_dir_all(path))
    }

    fn begin(&self, code: Vec<String>, version: &Version) -> Result<State, ChangingError> {
        let random = environment::random().map_err(|error| self.not_approved(error.to_string(), "try again"))?;
        let since = environment::now();
        let state = State {
            version: VERSION,
            code,
            game_version: version.clone(),
            attempt: EventId::new(since, random),
            since,
            ticket: None,
            refused: None,
        };
        state.write(&self.folder)?;
        Ok(state)
    }

    fn keep(&self, ticket: &[u8], state: &State) -> Result<(), ChangingError> {
        durable::write_kept(&self.folder.join(TICKET_FILE), ticket)?;
        State { ticket: Some(hex(&Hash::Sha256.digest(ticket))), ..state.clone() }.write(&self.folder)
    }

    fn archive(&self, whole: &Whole<'_>) -> PathBuf {
        self.folder.join(format!("{}.zip", whole.stem()))
    }

    /// Writes what is handed over.
    fn write_archive(&self, whole: &Whole<'_>, progress: &dyn Progress) -> Result<(), ChangingError> {
        durable::create_folders(&self.folder)?;
        let at = self.archive(whole);
        let part = at.with_extension("part");
        let written = whole.archive(&part, progress);
        written.map_err(|error| changing_error("approved", self.target, &part, error))?;
        fs::rename(&part, &at).map_err(|source| ChangingError::Io { path: at, source })
    }

    fn document(&self, whole: &Whole<'_>) -> Result<DocumentFile, ChangingError> {
        let at = self.archive(whole);
        let failed = |source| ChangingError::Io { path: at.clone(), source };
        let mut file = fs::File::open(&at).map_err(failed)?;
        let bytes = file.metadata().map_err(failed)?.len();
        let digest = Hash::Sha256.digest_of_reader(&mut file).map_err(failed)?;
        let path = at.canonicalize().map_err(failed)?;
        Ok(DocumentFile {
            target: self.target.clone(),
            systems: Vec::new(),
            path: path.to_string_lossy().into_owned(),
            bytes,
            sha256: Some(hex(&digest)),
            starts: Vec::new(),
        })
    }

    fn waits(&self, whole: &Whole<'_>, state: &State) -> ChangingError {
        let (name, approval) = (self.name, self.approval);
        let since = state.since.strftime("%Y-%m-%d %H:%M UTC");
        let (why, fix) = if approval.run.is_empty() {
            let how = approval.how.as_deref().unwrap_or("hand the archive over").trim_end_matches('.').to_owned();
            let at = approval.address.as_ref().map(|address| format!(" ({address})")).unwrap_or_default();
            let why = format!("{} lies ready since {since}", self.archive(whole).display());
            (why, format!("{how}{at}; with the ticket that comes back: lantern prepare --ticket FILE"))
        } else {
            let fix = format!("lantern prepare asks again; lantern wait {name} waits for the answer");
            (format!("it was handed over on {since}, and there is no answer yet"), fix)
        };
        ChangingError::Waits { target: self.target.clone(), by: name.clone(), why, fix }
    }
}
