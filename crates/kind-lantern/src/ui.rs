//! Everything that is printed goes through here: data to standard output, everything else to standard error.

use std::borrow::Cow;
use std::io::{self, IsTerminal, Write};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use lantern_core::names::Name;
use serde::Serialize;

use crate::args::{ColorMode, Common, EditionArg, ProgressMode};
use crate::format;
use crate::paint::{bad, command, faint};
use crate::progress::Shown;

/// The next sensible command.
#[derive(Debug, Clone)]
pub struct Next {
    command: Cow<'static, str>,
    /// What it does, where the command does not say it.
    why: &'static str,
}

impl Next {
    pub const fn new(command: &'static str, why: &'static str) -> Self {
        Self { command: Cow::Borrowed(command), why }
    }

    pub fn of(command: String, why: &'static str) -> Self {
        Self { command: Cow::Owned(command), why }
    }
}

impl From<&'static str> for Next {
    fn from(command: &'static str) -> Self {
        Self::new(command, "")
    }
}

impl From<String> for Next {
    fn from(command: String) -> Self {
        Self::of(command, "")
    }
}

/// The terminal, or what stands in its place.
#[derive(Debug, Clone)]
pub struct Ui {
    pub project: PathBuf,
    pub edition: Option<Name>,
    pub json: bool,
    quiet: bool,
    progress: ProgressMode,
    /// Set by Ctrl-C.
    pub stop: Arc<AtomicBool>,
}

impl Ui {
    pub fn new(common: &Common) -> Self {
        match common.color {
            ColorMode::Auto => {}
            ColorMode::Always => anstream::ColorChoice::Always.write_global(),
            ColorMode::Never => anstream::ColorChoice::Never.write_global(),
        }
        let bar = || io::stderr().is_terminal() && !common.json && !common.quiet;
        let progress = common.progress.unwrap_or(if bar() { ProgressMode::Bar } else { ProgressMode::None });
        let project = common.project.clone().unwrap_or_else(|| PathBuf::from("."));
        let stop = Arc::new(AtomicBool::new(false));
        Self { project, edition: None, json: common.json, quiet: common.quiet, progress, stop }
    }

    /// The same for a command that is about one edition alone, where one is named.
    pub fn about(&self, edition: &EditionArg) -> Self {
        Self { edition: edition.name.clone(), ..self.clone() }
    }

    /// Whether someone is there to be asked.
    pub fn can_ask(&self) -> bool {
        !self.json && io::stdin().is_terminal()
    }

    /// Prints what was asked for; nothing in JSON mode, where the document says it all.
    pub fn say(&self, text: &str) {
        if !self.json {
            write_out(&format!("{}\n", format::fold(text)));
        }
    }

    /// Whether a plan need not be shown: it was agreed to beforehand, and only what went wrong is to be said.
    pub fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Prints the next sensible command.
    pub fn next(&self, next: impl Into<Next>) {
        if !self.json && !self.quiet {
            let Next { command: line, why } = next.into();
            // A command is never folded, so that it can be copied as it is.
            let len = 6 + line.len() + if why.is_empty() { 0 } else { 3 + why.len() };
            let is_long = format::columns().is_some_and(|columns| len > columns);
            let gap = if is_long { "\n      " } else { "   " };
            let why = if why.is_empty() { String::new() } else { format!("{gap}{}", faint(why)) };
            write_out(&format!("\n{} {}{why}\n", faint("next:"), command(&line)));
        }
    }

    /// Prints the one document of a run.
    pub fn document(&self, document: &impl Serialize) {
        if self.json {
            let text = serde_json::to_string_pretty(document).expect("documents have only string keys");
            write_out(&format!("{text}\n"));
        }
    }

    /// Prints to standard error.
    pub fn aside(&self, text: &str) {
        // Nobody is left to tell when standard error is gone.
        let _ = writeln!(anstream::stderr(), "{}", format::fold(text));
    }

    /// Says for how long is waited, and why.
    pub fn waiting(&self, time: std::time::Duration, why: &str) {
        if !self.json && !self.quiet {
            let why = lantern_core::path::shown(why);
            self.aside(&format!("{} {} s: {why}", faint("waiting"), time.as_secs()));
        }
    }

    pub fn progress(&self) -> Shown {
        Shown::new(self.progress, !self.json, self.stop.clone())
    }

    pub fn is_stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
}

/// Prints data that is the same with and without `--json`.
pub fn print(text: &str) {
    write_out(&format!("{text}\n"));
}

/// Writes to standard output. A closed pipe ends the program quietly: anyone who read has read enough.
fn write_out(text: &str) {
    let mut out = anstream::stdout();
    let written = out.write_all(text.as_bytes()).and_then(|()| out.flush());
    match written {
        Err(e) if e.kind() == io::ErrorKind::BrokenPipe => std::process::exit(0),
        Err(e) => {
            let _ = writeln!(anstream::stderr(), "{} could not write the output: {e}", bad("error:"));
            std::process::exit(6);
        }
        Ok(()) => {}
    }
}
