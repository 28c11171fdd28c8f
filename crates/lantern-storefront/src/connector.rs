//! Connectors: programs of the studio's own that do what is done at a storefront. One JSON document goes in, lines of JSON come
//! out, the last of them is the result. Described in `docs/connectors.md`.
//!
//! A connector is not trusted: what it prints is bounded, a result that does not fit its exit code counts as none, and what it
//! says is shown without the secret that it was given.

mod document;

use std::collections::BTreeMap;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, Command, ExitStatus, Stdio};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, SyncSender, channel, sync_channel};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use lantern_core::names::Name;
use lantern_core::progress::{Progress, Task};
use lantern_core::redact::{TAKEN_OUT, without_values};

pub use document::{
    Asked, Document, DocumentAccess, DocumentBefore, DocumentFile, DocumentGame, DocumentRelease, DocumentStorefront,
    Line, LineBranch, LineDone, LineProgress, LineRefused, LineState, SCHEMA,
};

/// Longest line that is read, in bytes.
pub const MAX_LINE: usize = 1024 * 1024;
/// Most that is read of each of its outputs, in bytes.
pub const MAX_OUTPUT: u64 = 64 * 1024 * 1024;
/// How long it has to end by itself once it was asked to.
const ENDS_WITHIN: Duration = Duration::from_secs(10);
/// How often it is looked after.
const EVERY: Duration = Duration::from_millis(50);

/// How many connectors run in this process, and whether they are to end at once.
static RUNNING: AtomicUsize = AtomicUsize::new(0);
static AT_ONCE: AtomicBool = AtomicBool::new(false);

/// Whether a connector runs: this process must not end before it, since it has time of its own to end.
pub fn is_running() -> bool {
    RUNNING.load(Ordering::SeqCst) > 0
}

/// Takes that time from every connector that was asked to end.
pub fn end_at_once() {
    AT_ONCE.store(true, Ordering::SeqCst);
}

/// Counts a connector as long as it runs.
struct Runs;

impl Runs {
    fn begin() -> Self {
        RUNNING.fetch_add(1, Ordering::SeqCst);
        Self
    }
}

impl Drop for Runs {
    fn drop(&mut self) {
        RUNNING.fetch_sub(1, Ordering::SeqCst);
    }
}

/// What a connector came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// It was done.
    Done {
        /// Of a push: its number there.
        number_there: Option<u64>,
        /// The numbers of single targets, where each has one.
        per_target: BTreeMap<Name, u64>,
        /// Of a list: what each branch has.
        branches: Option<BTreeMap<String, LineBranch>>,
        /// Where it can be seen.
        address: Option<String>,
        /// Whether it waits for someone there.
        waits: bool,
    },
    /// It was refused, and nothing changed there.
    Refused(LineRefused),
    /// These steps have to be done by a person.
    ByHand(Vec<Name>),
    /// The connector does not do this.
    UnknownAction,
    /// The attempt never arrived.
    NotBegun,
}

/// Why nobody knows what a connector did.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ConnectorError {
    /// It could not be started.
    #[error("the connector {program} could not be started: {reason}")]
    Start {
        /// The program.
        program: String,
        /// The system's reason.
        reason: io::Error,
    },
    /// It ended without a result that fits.
    #[error("the connector {program} {why}: it is not known whether it was done")]
    NotKnown {
        /// The program.
        program: String,
        /// How it ended.
        why: String,
    },
    /// Someone asked to stop.
    #[error("stopped")]
    Stopped,
}

/// A connector as it is configured.
#[derive(Debug, Clone, Copy)]
pub struct Connector<'a> {
    /// The program, then its arguments.
    pub run: &'a [String],
    /// The folder that it works in.
    pub folder: &'a Path,
    /// How long it has for one action.
    pub limit: Duration,
}

/// What comes out of a connector, from the thread that reads it.
enum Output {
    Line(Vec<u8>),
    TooLong,
    TooMuch,
    End,
}

impl Connector<'_> {
    /// Runs it for one document. `say` shows a text to the one who waits, without secrets.
    ///
    /// # Errors
    /// [`ConnectorError`].
    pub fn run(
        &self,
        document: &Document,
        progress: &dyn Progress,
        say: &dyn Fn(&str),
    ) -> Result<Outcome, ConnectorError> {
        let program = self.run.first().cloned().unwrap_or_default();
        let secret = document.access.as_ref().map(|access| access.secret.clone()).unwrap_or_default();
        let _runs = Runs::begin();
        let mut child = self.start(&program)?;
        let not_known = |why: &str| ConnectorError::NotKnown { program: program.clone(), why: clean(why, &secret) };
        let mut text = serde_json::to_vec(document).expect("the document has only string keys");
        text.push(b'\n');
        let input = Input::send(child.stdin.take(), text);
        let (to, outputs) = sync_channel(64);
        let out = child.stdout.take().map(|out| std::thread::spawn(move || read(out, &to)));
        let logged = secret.clone();
        let err = child.stderr.take().map(|err| std::thread::spawn(move || log(err, &logged)));
        let mut reading = Reading { result: None, wrong: None, secret: &secret, say };
        let ended = self.attend(&mut child, &input, &outputs, &mut reading, progress);
        drop((outputs, out, err));
        let status = ended?;
        if let Some(wrong) = reading.wrong {
            return Err(not_known(&wrong));
        }
        match status {
            None => Err(not_known("took longer than its limit and was ended")),
            Some(status) => reading.result.map_or_else(
                || Err(not_known(&format!("ended with {status} and without a result"))),
                |line| outcome(line, status, document.action).map_err(|why| not_known(&why)),
            ),
        }
    }

    fn start(&self, program: &str) -> Result<Child, ConnectorError> {
        let failed = |reason| ConnectorError::Start { program: program.to_owned(), reason };
        // A path is one from the project's folder; a name alone is looked for as the system does.
        let path = if program.contains(['/', '\\']) { self.folder.join(program) } else { program.into() };
        let mut command = Command::new(path);
        command.args(self.run.get(1..).unwrap_or_default()).current_dir(self.folder);
        // What this tool takes from its environment, such as a secret for unattended use, is not passed on.
        for (name, _) in std::env::vars_os().filter(|(name, _)| name.to_string_lossy().starts_with("LANTERN_")) {
            command.env_remove(name);
        }
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        alone(&mut command);
        command.spawn().map_err(failed)
    }

    /// Reads what comes out until it ends; returns how, or nothing when it took too long.
    fn attend(
        &self,
        child: &mut Child,
        input: &Input,
        outputs: &Receiver<Output>,
        reading: &mut Reading<'_>,
        progress: &dyn Progress,
    ) -> Result<Option<ExitStatus>, ConnectorError> {
        let begun = Instant::now();
        let mut transfer = Transfer { progress, meter: None, done: 0 };
        let mut is_open = true;
        loop {
            if progress.stopped() {
                end(child, input);
                return Err(ConnectorError::Stopped);
            }
            if begun.elapsed() > self.limit {
                end(child, input);
                return Ok(None);
            }
            match outputs.recv_timeout(EVERY) {
                Ok(Output::End) => is_open = false,
                Ok(output) => reading.take(output, &mut transfer),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => is_open = false,
            }
            if reading.wrong.is_some() {
                end(child, input);
                return Ok(child.try_wait().ok().flatten());
            }
            if let Ok(Some(status)) = child.try_wait() {
                // What it has printed before it ended is still on its way; what it left running does not count.
                let last = Instant::now();
                while is_open && last.elapsed() < Duration::from_secs(1) {
                    match outputs.recv_timeout(EVERY) {
                        Ok(Output::End) | Err(RecvTimeoutError::Disconnected) => is_open = false,
                        Ok(output) => reading.take(output, &mut transfer),
                        Err(RecvTimeoutError::Timeout) => {}
                    }
                }
                return Ok(Some(status));
            }
            if !is_open {
                std::thread::sleep(EVERY);
            }
        }
    }
}

/// The bar of a transfer.
struct Transfer<'a> {
    progress: &'a dyn Progress,
    meter: Option<Box<dyn lantern_core::progress::Meter + 'a>>,
    done: u64,
}

impl Transfer<'_> {
    fn at(&mut self, line: &LineProgress) {
        let meter = self.meter.get_or_insert_with(|| self.progress.start(Task::Send, line.of));
        if let Some(more) = line.bytes.checked_sub(self.done) {
            meter.add(more);
            self.done = line.bytes;
        }
    }
}

/// What came out so far.
struct Reading<'a> {
    result: Option<Line>,
    wrong: Option<String>,
    secret: &'a str,
    say: &'a dyn Fn(&str),
}

impl Reading<'_> {
    fn take(&mut self, output: Output, transfer: &mut Transfer<'_>) {
        let line = match output {
            Output::Line(line) => line,
            Output::TooLong => return self.wrong = Some(format!("printed a line of more than {MAX_LINE} bytes")),
            Output::TooMuch => return self.wrong = Some(format!("printed more than {MAX_OUTPUT} bytes")),
            Output::End => return,
        };
        if line.iter().all(u8::is_ascii_whitespace) {
            return;
        }
        if self.result.is_some() {
            return self.wrong = Some("printed something behind its result".to_owned());
        }
        let Ok(line) = serde_json::from_slice::<Line>(&line) else {
            let text: String = String::from_utf8_lossy(&line).chars().take(80).collect();
            return self.wrong = Some(format!("printed a line that is none of its kind, {text:?}"));
        };
        let is_result = line.done.is_some()
            || line.refused.is_some()
            || line.by_hand.is_some()
            || line.unknown_action == Some(true)
            || line.not_begun == Some(true);
        if let Some(at) = &line.progress {
            transfer.at(at);
        }
        if let Some(text) = &line.say {
            (self.say)(&clean(text, self.secret));
        }
        if is_result {
            self.result = Some(Line {
                refused: line.refused.map(|refused| LineRefused {
                    because: clean(&refused.because, self.secret),
                    fix: refused.fix.map(|fix| clean(&fix, self.secret)),
                }),
                ..line
            });
        }
    }
}

/// Checks a result against the exit code, and what was asked.
fn outcome(line: Line, status: ExitStatus, asked: Asked) -> Result<Outcome, String> {
    let results = [
        line.done.is_some(),
        line.refused.is_some(),
        line.by_hand.is_some(),
        line.unknown_action == Some(true),
        line.not_begun == Some(true),
    ];
    if results.into_iter().filter(|is| *is).count() != 1 {
        return Err("printed a result that says two things".to_owned());
    }
    let expected = if line.refused.is_some() { 3 } else { 0 };
    if status.code() != Some(expected) {
        return Err(format!("ended with {status}, which does not go with its result"));
    }
    if let Some(refused) = line.refused {
        return Ok(Outcome::Refused(refused));
    }
    if let Some(steps) = line.by_hand {
        return Ok(Outcome::ByHand(steps));
    }
    if line.unknown_action == Some(true) {
        return Ok(Outcome::UnknownAction);
    }
    if line.not_begun == Some(true) {
        return if asked == Asked::Query {
            Ok(Outcome::NotBegun)
        } else {
            Err("answered a question that was not asked".to_owned())
        };
    }
    let done = line.done.ok_or("printed no result")?;
    let number = |text: &str| text.parse::<u64>().map_err(|_| "gave a number there that is none".to_owned());
    let number_there = done.number_there.as_deref().map(number).transpose()?;
    let of_target = |(target, text): (Name, String)| Ok((target, number(&text)?));
    let per_target = done.per_target.into_iter().map(of_target).collect::<Result<_, String>>()?;
    let branches = done.branches;
    Ok(Outcome::Done {
        number_there,
        per_target,
        branches,
        address: done.address,
        waits: done.state == LineState::Waiting,
    })
}

/// Takes the secret out of a text, and control characters.
fn clean(text: &str, secret: &str) -> String {
    let text = if secret.is_empty() { text.to_owned() } else { text.replace(secret, TAKEN_OUT) };
    lantern_core::path::shown(&without_values(&text))
}

/// Its input. Where a signal can end it, it is closed behind the document; elsewhere it stays open until then, and closing it
/// means that it is to end.
struct Input(Mutex<Option<Sender<()>>>);

impl Input {
    fn send(stdin: Option<ChildStdin>, text: Vec<u8>) -> Self {
        let (close, closed) = channel::<()>();
        std::thread::spawn(move || {
            let Some(mut stdin) = stdin else { return };
            // One that does not read its input is known by what it prints.
            let _ = stdin.write_all(&text).and_then(|()| stdin.flush());
            if !cfg!(unix) {
                // Nothing is ever sent: this waits until the other end goes.
                let _ = closed.recv();
            }
        });
        Self(Mutex::new(Some(close)))
    }

    fn close(&self) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take();
    }
}

/// Hands on what is printed, line by line, as far as that is bounded.
fn read(out: impl Read, to: &SyncSender<Output>) {
    let mut out = BufReader::new(out.take(MAX_OUTPUT + 1));
    let mut all = 0_u64;
    loop {
        let mut line = Vec::new();
        let mut limited = (&mut out).take(MAX_LINE as u64 + 1);
        let output = match limited.read_until(b'\n', &mut line) {
            Ok(0) | Err(_) => Output::End,
            Ok(len) => {
                all += len as u64;
                match () {
                    () if all > MAX_OUTPUT => Output::TooMuch,
                    () if len > MAX_LINE => Output::TooLong,
                    () => Output::Line(line),
                }
            }
        };
        let is_last = !matches!(output, Output::Line(_));
        if to.send(output).is_err() || is_last {
            return;
        }
    }
}

/// Writes what it says on the side into the log, without the secret.
fn log(err: impl Read, secret: &str) {
    let mut err = BufReader::new(err.take(MAX_OUTPUT));
    loop {
        let mut line = Vec::new();
        match (&mut err).take(MAX_LINE as u64).read_until(b'\n', &mut line) {
            Ok(0) | Err(_) => return,
            Ok(_) => {
                let text = String::from_utf8_lossy(&line);
                ::log::info!(target: "connector", "{}", clean(text.trim_end(), secret));
            }
        }
    }
}

/// Asks it to end, and ends it when it does not.
fn end(child: &mut Child, input: &Input) {
    input.close();
    interrupt(child);
    let begun = Instant::now();
    while begun.elapsed() < ENDS_WITHIN && !AT_ONCE.load(Ordering::SeqCst) {
        if matches!(child.try_wait(), Ok(Some(_))) {
            return;
        }
        std::thread::sleep(EVERY);
    }
    kill(child);
    // It has ended now; how does not matter any more.
    let _ = child.wait();
}

/// Puts it into a group of its own, with all that it starts: a signal to the group ends all of them.
#[cfg(unix)]
fn alone(command: &mut Command) {
    use std::os::unix::process::CommandExt;
    command.process_group(0);
}

#[cfg(unix)]
fn signal(child: &Child, signal: rustix::process::Signal) {
    let id = i32::try_from(child.id()).ok().and_then(rustix::process::Pid::from_raw);
    if let Some(id) = id {
        // Those that have ended meanwhile need none.
        let _ = rustix::process::kill_process_group(id, signal);
    }
}

#[cfg(unix)]
fn interrupt(child: &Child) {
    signal(child, rustix::process::Signal::INT);
}

#[cfg(unix)]
fn kill(child: &mut Child) {
    signal(child, rustix::process::Signal::KILL);
}

/// Elsewhere it is ended through its input.
#[cfg(not(unix))]
fn alone(_: &mut Command) {}

/// Its input was closed, which means the same.
#[cfg(not(unix))]
fn interrupt(_: &Child) {}

#[cfg(not(unix))]
fn kill(child: &mut Child) {
    // One that has ended meanwhile needs no more.
    let _ = child.kill();
}
