//! The log of every run, in `.lantern/logs/`: what was asked, what was recorded, how it ended. Never a secret.

use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::Instant;

use jiff::Timestamp;
use lantern_core::redact::{TAKEN_OUT, redacted};
use log::{LevelFilter, Log, Metadata, Record};

/// Logs that are kept next to the one that is written.
const KEPT: usize = 30;
/// Lines that wait until it is known where they go.
const MAX_WAITING: usize = 1_000;

struct State {
    file: Option<File>,
    waiting: Vec<String>,
    started: Option<Instant>,
    is_verbose: bool,
}

struct RunLog(Mutex<State>);

static LOG: RunLog = RunLog(Mutex::new(State { file: None, waiting: Vec::new(), started: None, is_verbose: false }));

impl Log for RunLog {
    fn enabled(&self, metadata: &Metadata<'_>) -> bool {
        metadata.target().starts_with("lantern")
    }

    fn log(&self, record: &Record<'_>) {
        if !self.enabled(record.metadata()) {
            return;
        }
        let Ok(mut log) = self.0.lock() else { return };
        let ms = log.started.map_or(0, |started| started.elapsed().as_millis());
        let line = format!("{ms:>8} ms  {}", lantern_core::path::shown(&record.args().to_string()));
        if log.is_verbose {
            let _ = writeln!(anstream::stderr(), "{}", lantern_views::paint::faint(&line));
        }
        if let Some(file) = &mut log.file {
            // A log that cannot be written must not stop the work that it is about.
            let _ = writeln!(file, "{line}");
        } else if log.waiting.len() < MAX_WAITING {
            log.waiting.push(line);
        }
    }

    fn flush(&self) {}
}

/// Starts collecting; `is_verbose` shows every line on standard error, too.
pub fn begin(is_verbose: bool) {
    if let Ok(mut log) = LOG.0.lock() {
        log.started = Some(Instant::now());
        log.is_verbose = is_verbose;
    }
    if log::set_logger(&LOG).is_ok() {
        log::set_max_level(LevelFilter::Info);
    }
    let arguments = without_invitations(std::env::args_os().skip(1).map(|arg| arg.to_string_lossy().into_owned()));
    log::info!(target: "lantern", "lantern {} {}", env!("CARGO_PKG_VERSION"), arguments.join(" "));
    log::info!(target: "lantern", "{} {}, {}", std::env::consts::OS, std::env::consts::ARCH, Timestamp::now());
}

/// Secrets are asked for, or come in a variable; an invitation may stand in the arguments, and be mistyped there.
fn without_invitations(arguments: impl Iterator<Item = String>) -> Vec<String> {
    const OPTION: &str = "--invitation";
    let mut out: Vec<String> = Vec::new();
    for argument in arguments {
        let is_value = out.last().is_some_and(|before| before == OPTION);
        out.push(match argument.strip_prefix("--invitation=") {
            Some(_) => format!("{OPTION}={TAKEN_OUT}"),
            None if is_value => TAKEN_OUT.to_owned(),
            None => redacted(&argument),
        });
    }
    out
}

/// Writes the log into the state folder of a project, if it has one.
pub fn write_into(root: &Path) {
    let state = root.join(".lantern");
    let Ok(mut log) = LOG.0.lock() else { return };
    if log.file.is_some() || !state.join(".gitignore").is_file() {
        return;
    }
    let folder = state.join("logs");
    if fs::create_dir_all(&folder).is_err() {
        return;
    }
    let time = Timestamp::now().strftime("%Y%m%dT%H%M%S%3f").to_string();
    let path = folder.join(format!("{time}-{}.log", std::process::id()));
    let Ok(mut file) = File::create(path) else { return };
    for line in log.waiting.drain(..) {
        let _ = writeln!(file, "{line}");
    }
    log.file = Some(file);
    drop(log);
    let all = all(&folder);
    for old in all.iter().take(all.len().saturating_sub(KEPT)) {
        let _ = fs::remove_file(old);
    }
}

/// Returns the logs of a folder, oldest first.
pub fn all(folder: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten().map(|e| e.path());
    let mut logs: Vec<PathBuf> = entries.filter(|p| p.extension().is_some_and(|e| e == "log")).collect();
    logs.sort();
    logs
}
