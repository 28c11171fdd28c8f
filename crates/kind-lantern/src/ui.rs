//! Everything that is printed goes through here: data to standard output, everything else to standard error.

use std::io::{self, IsTerminal, Write};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use lantern_core::names::Name;
use lantern_views::paint::{bad, faint};
use lantern_views::{Block, Next, View};
use serde::Serialize;

use crate::options::{ColorMode, Common, EditionArg, ProgressMode};
use crate::progress::Shown;
use crate::window::columns;

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
    pub fn show(&self, view: &View) {
        if self.json {
            return;
        }
        for block in view.blocks().iter().filter(|block| !(self.quiet && matches!(block, Block::Next(_)))) {
            write_out(&format!("{}\n", block.lay_out(columns())));
        }
    }

    /// As [`Self::show`], for lines alone.
    pub fn say(&self, text: &str) {
        let mut view = View::default();
        view.say(text);
        self.show(&view);
    }

    /// Prints the answer of a command: the document in JSON mode, else what people read.
    pub fn answer(&self, document: &impl Serialize, view: &View) {
        self.document(document);
        self.show(view);
    }

    /// Whether a plan need not be shown: it was agreed to beforehand, and only what went wrong is to be said.
    pub fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Prints the next sensible command.
    pub fn next(&self, next: impl Into<Next>) {
        let mut view = View::default();
        view.next(next);
        self.show(&view);
    }

    /// Prints the one document of a run.
    pub fn document(&self, document: &impl Serialize) {
        if self.json {
            let text = serde_json::to_string_pretty(document).expect("documents have only string keys");
            write_out(&format!("{text}\n"));
        }
    }

    /// Rings the terminal's bell, where someone sits.
    pub fn ring(&self) {
        if !self.quiet && io::stderr().is_terminal() {
            // Nobody is left to hear it when standard error is gone.
            let _ = write!(io::stderr(), "\u{7}").and_then(|()| io::stderr().flush());
        }
    }

    /// Prints to standard error.
    pub fn show_aside(&self, view: &View) {
        for block in view.blocks() {
            // Nobody is left to tell when standard error is gone.
            let _ = writeln!(anstream::stderr(), "{}", block.lay_out(columns()));
        }
    }

    /// As [`Self::show_aside`], for lines alone.
    pub fn aside(&self, text: &str) {
        let mut view = View::default();
        view.say(text);
        self.show_aside(&view);
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
