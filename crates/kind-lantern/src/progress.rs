//! Progress as a bar, as JSON lines, or not at all.

use std::io::Write;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressState, ProgressStyle};
use lantern_core::progress::{Meter, Progress, Task};
use lantern_views::format;
use lantern_views::paint::{care, faint};
use lantern_views::progress::line;

use crate::options::ProgressMode;
use crate::window::columns;

/// How often a JSON line is written at most.
const JSON_EVERY: Duration = Duration::from_millis(250);
/// A bar comes only when the work is not done by then.
const BAR_AFTER: Duration = Duration::from_millis(300);

/// Shows progress on standard error.
#[derive(Debug)]
pub struct Shown {
    mode: ProgressMode,
    /// Whether people read what is said.
    speaks: bool,
    stop: Arc<AtomicBool>,
}

impl Shown {
    pub fn new(mode: ProgressMode, speaks: bool, stop: Arc<AtomicBool>) -> Self {
        Self { mode, speaks, stop }
    }
}

fn name(task: Task) -> (&'static str, &'static str) {
    match task {
        Task::Seal => ("seal", "sealing"),
        Task::Sign => ("sign", "signing"),
        Task::Send => ("send", "sending"),
        Task::Receive => ("receive", "receiving"),
        Task::Verify => ("verify", "checking"),
        Task::Write => ("write", "writing"),
        Task::Update => ("update", "comparing with an earlier build"),
        Task::Wait => ("wait", "waiting for another lantern"),
        _ => ("work", "working"),
    }
}

impl Progress for Shown {
    fn start(&self, task: Task, total: Option<u64>) -> Box<dyn Meter + '_> {
        match self.mode {
            ProgressMode::None => Box::new(lantern_core::progress::Silent),
            ProgressMode::Bar => Box::new(Bar::new(name(task).1, total)),
            ProgressMode::Json => Box::new(Lines::new(name(task).0, total)),
        }
    }

    fn careful(&self, what: &str) {
        if self.speaks {
            // Where standard error is closed there is nobody to tell.
            let _ = writeln!(anstream::stderr(), "{} {what}", care("careful:"));
        }
    }

    fn say(&self, what: &str) {
        if self.speaks {
            // As above.
            let _ = writeln!(anstream::stderr(), "{}", faint(what));
        }
    }

    fn stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
}

struct Bar {
    bar: ProgressBar,
    started: Instant,
    visible: AtomicBool,
    done: AtomicU64,
    words: &'static str,
}

impl Bar {
    fn new(words: &'static str, total: Option<u64>) -> Self {
        let bar = match total {
            Some(total) => ProgressBar::new(total),
            None => ProgressBar::no_length(),
        };
        bar.set_draw_target(indicatif::ProgressDrawTarget::hidden());
        Self { bar, started: Instant::now(), visible: AtomicBool::new(false), done: AtomicU64::new(0), words }
    }

    fn show(&self) {
        let rate = |state: &ProgressState, out: &mut dyn std::fmt::Write| {
            let _ = write!(out, "{}/s", format::bytes(state.per_sec() as u64));
        };
        let of = |state: &ProgressState, out: &mut dyn std::fmt::Write| {
            let _ = match state.len() {
                Some(len) => write!(out, "{} of {}", format::bytes(state.pos()), format::bytes(len)),
                None => write!(out, "{}", format::bytes(state.pos())),
            };
        };
        let left = |state: &ProgressState, out: &mut dyn std::fmt::Write| {
            let _ = write!(out, "{} left", format::duration(state.eta().as_secs()));
        };
        let template = template(self.bar.length().is_some(), columns().unwrap_or(80));
        let style = ProgressStyle::with_template(&template).expect("the template is a valid one");
        let style = style.with_key("rate", rate).with_key("of", of).with_key("left", left).progress_chars("■■·");
        self.bar.set_style(style);
        self.bar.set_message(self.words);
        self.bar.set_draw_target(indicatif::ProgressDrawTarget::stderr());
    }
}

/// What a bar shows in a window of so many columns: the numbers first, and the bar in what is left.
fn template(is_end_known: bool, columns: usize) -> String {
    // "  receiving " and "999 MB of 999 MB, 99.9 MB/s, 99:59:59 left", with a column to spare.
    const TEXT: usize = 12 + 42 + 1;
    match (is_end_known, columns.saturating_sub(TEXT).min(28)) {
        (false, _) => "  {msg:9} {of}, {rate}".to_owned(),
        (true, 0..6) => "  {msg:9} {of}, {left}".to_owned(),
        (true, len) => format!("  {{msg:9}} {{bar:{len}}} {{of}}, {{rate}}, {{left}}"),
    }
}

impl Meter for Bar {
    fn add(&self, bytes: u64) {
        self.done.fetch_add(bytes, Ordering::Relaxed);
        if self.started.elapsed() >= BAR_AFTER && !self.visible.swap(true, Ordering::Relaxed) {
            self.show();
        }
        self.bar.inc(bytes);
    }
}

impl Drop for Bar {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

struct Lines {
    task: &'static str,
    total: Option<u64>,
    done: AtomicU64,
    started: Instant,
    last: Mutex<Instant>,
}

impl Lines {
    fn new(task: &'static str, total: Option<u64>) -> Self {
        let now = Instant::now();
        let lines = Self { task, total, done: AtomicU64::new(0), started: now, last: Mutex::new(now) };
        lines.write();
        lines
    }

    fn write(&self) {
        let done = self.done.load(Ordering::Relaxed);
        let line = line(self.task, done, self.total, self.started.elapsed());
        let line = serde_json::to_string(&line).expect("a line has only keys that are texts");
        let _ = writeln!(std::io::stderr(), "{line}");
    }
}

impl Meter for Lines {
    fn add(&self, bytes: u64) {
        self.done.fetch_add(bytes, Ordering::Relaxed);
        let mut last = self.last.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if last.elapsed() >= JSON_EVERY {
            *last = Instant::now();
            self.write();
        }
    }
}

impl Drop for Lines {
    fn drop(&mut self) {
        self.write();
    }
}
