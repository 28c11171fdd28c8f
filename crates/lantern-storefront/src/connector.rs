//! Connectors: programs of the studio's own that do what is done at a storefront. One JSON document goes in, lines of JSON come
//! out, the last of them is the result. Described in `docs/connectors.md`.
//!
//! A connector is not trusted: what it prints is bounded, a result that does not fit its exit code counts as none, and what it
//! says is shown without the secret that it was given.

mod document;

use std::collections::BTreeMap;
use std::io;
use std::path::Path;
use std::process::ExitStatus;
use std::time::Duration;

use lantern_core::names::Name;
use lantern_core::progress::{Progress, Task};
use lantern_core::redact::{TAKEN_OUT, without_values};
use lantern_program::{Aside, Ended, Output, Program};

pub use document::{
    Asked, Document, DocumentAccess, DocumentBefore, DocumentFile, DocumentGame, DocumentRelease, DocumentStorefront,
    Line, LineBranch, LineDone, LineProgress, LineRefused, LineState, SCHEMA,
};

/// Longest line that is read, in bytes.
pub const MAX_LINE: usize = 1024 * 1024;
/// Most that is read of each of its outputs, in bytes.
pub const MAX_OUTPUT: u64 = 64 * 1024 * 1024;
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
        /// Of something that was handed over for approval: the file of the ticket.
        ticket: Option<String>,
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
        let name = self.run.first().cloned().unwrap_or_default();
        let secret = document.access.as_ref().map(|access| access.secret.clone()).unwrap_or_default();
        let not_known = |why: &str| ConnectorError::NotKnown { program: name.clone(), why: clean(why, &secret) };
        let mut text = serde_json::to_vec(document).expect("the document has only string keys");
        text.push(b'\n');
        let logged = secret.clone();
        let log = move |line: &[u8]| {
            ::log::info!(target: "connector", "{}", clean(String::from_utf8_lossy(line).trim_end(), &logged));
        };
        let mut reading = Reading { result: None, wrong: None, secret: &secret, say };
        let mut transfer = Transfer { progress, meter: None, done: 0 };
        let mut take = |output| {
            reading.take(output, &mut transfer);
            reading.wrong.is_none()
        };
        let (run, folder, limit) = (self.run, self.folder, self.limit);
        let program = Program { run, folder, limit, max_line: MAX_LINE, max_output: MAX_OUTPUT };
        let ended = program.run(text, Aside::Lines(Box::new(log)), &|| progress.stopped(), &mut take);
        let ended = ended.map_err(|reason| ConnectorError::Start { program: name.clone(), reason })?;
        match (ended, reading.wrong) {
            (Ended::Stopped, _) => Err(ConnectorError::Stopped),
            (_, Some(wrong)) => Err(not_known(&wrong)),
            (Ended::TooLate | Ended::GivenUp, None) => Err(not_known("took longer than its limit and was ended")),
            (Ended::With(status), None) => reading.result.map_or_else(
                || Err(not_known(&format!("ended with {status} and without a result"))),
                |line| outcome(line, status, document.action).map_err(|why| not_known(&why)),
            ),
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
        ticket: done.ticket,
        waits: done.state == LineState::Waiting,
    })
}

/// Takes the secret out of a text, and control characters.
fn clean(text: &str, secret: &str) -> String {
    let text = if secret.is_empty() { text.to_owned() } else { text.replace(secret, TAKEN_OUT) };
    lantern_core::path::shown(&without_values(&text))
}
