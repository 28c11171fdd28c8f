//! Programs of the studio's own, such as connectors and signers: one document goes in, lines come out.
//!
//! Such a program is not trusted: what it prints is bounded, and so is its time. It is ended before this process is, and
//! this tool's own variables are not in its environment.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::Path;
use std::process::{Child, ChildStderr, ChildStdin, Command, ExitStatus, Stdio};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, SyncSender, channel, sync_channel};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long it has to end by itself once it was asked to.
const ENDS_WITHIN: Duration = Duration::from_secs(10);
/// How often it is looked after.
const EVERY: Duration = Duration::from_millis(50);
/// What the names of this tool's own variables begin with.
const OWN_VARIABLES: &str = "LANTERN_";

/// How many programs run in this process, and whether they are to end at once.
static RUNNING: AtomicUsize = AtomicUsize::new(0);
static AT_ONCE: AtomicBool = AtomicBool::new(false);

/// Whether a program runs: this process must not end before it, since it has time of its own to end.
pub fn is_running() -> bool {
    RUNNING.load(Ordering::SeqCst) > 0
}

/// Takes that time from every program that was asked to end.
pub fn end_at_once() {
    AT_ONCE.store(true, Ordering::SeqCst);
}

/// Removes this tool's own variables, such as a secret for unattended use, from the environment of a program.
pub fn without_own_variables(command: &mut Command) {
    for (name, _) in std::env::vars_os().filter(|(name, _)| name.to_string_lossy().starts_with(OWN_VARIABLES)) {
        command.env_remove(name);
    }
}

/// Counts a program as long as it runs.
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

/// A program as it is configured.
#[derive(Debug, Clone, Copy)]
pub struct Program<'a> {
    /// The program, then its arguments.
    pub run: &'a [String],
    /// The folder that it works in.
    pub folder: &'a Path,
    /// How long it has.
    pub limit: Duration,
    /// Longest line that is read, in bytes.
    pub max_line: usize,
    /// Most that is read of each of its outputs, in bytes.
    pub max_output: u64,
}

/// Gets lines, one after the other.
pub type EachLine = Box<dyn FnMut(&[u8]) + Send>;

/// What is done with what it prints on the side.
pub enum Aside {
    /// Each line is handed on, and the program has no terminal.
    Lines(EachLine),
    /// It goes where ours goes, and the program may ask the person at the terminal.
    Terminal,
}

/// What comes out of a program.
pub enum Output {
    /// A line, with its end.
    Line(Vec<u8>),
    /// A line that is longer than any may be.
    TooLong,
    /// More than all lines may be.
    TooMuch,
}

/// How it ended.
#[derive(Debug)]
pub enum Ended {
    /// By itself.
    With(ExitStatus),
    /// It took longer than it has, and was ended.
    TooLate,
    /// What it printed was of no use, and it was ended.
    GivenUp,
    /// Someone asked to stop, and it was ended.
    Stopped,
}

impl Program<'_> {
    /// Runs it for one document; `take` gets what comes out, and says whether to go on.
    ///
    /// # Errors
    /// Those of starting it.
    pub fn run(
        &self,
        document: Vec<u8>,
        aside: Aside,
        stopped: &dyn Fn() -> bool,
        take: &mut dyn FnMut(Output) -> bool,
    ) -> io::Result<Ended> {
        let _runs = Runs::begin();
        let has_terminal = matches!(aside, Aside::Terminal);
        let mut child = self.start(has_terminal)?;
        let input = Input::send(child.stdin.take(), document);
        let (to, outputs) = sync_channel(64);
        let (max_line, max_output) = (self.max_line, self.max_output);
        if let Some(out) = child.stdout.take() {
            std::thread::spawn(move || read(out, max_line, max_output, &to));
        }
        if let (Some(err), Aside::Lines(each)) = (child.stderr.take(), aside) {
            std::thread::spawn(move || hand_on(err, max_line, max_output, each));
        }
        let running = Running { child, input, is_alone: !has_terminal };
        Ok(running.attend(self.limit, &outputs, stopped, take))
    }

    fn start(&self, has_terminal: bool) -> io::Result<Child> {
        let (program, arguments) = self.run.split_first().ok_or(io::ErrorKind::NotFound)?;
        // A path is one from the project's folder; a name alone is looked for as the system does.
        let path = if program.contains(['/', '\\']) { self.folder.join(program) } else { program.into() };
        let mut command = Command::new(path);
        command.args(arguments).current_dir(self.folder).stdin(Stdio::piped()).stdout(Stdio::piped());
        without_own_variables(&mut command);
        if !has_terminal {
            command.stderr(Stdio::piped());
            alone(&mut command);
        }
        command.spawn()
    }
}

/// A program that was started.
struct Running {
    child: Child,
    input: Input,
    /// Whether it is in a group of its own, with all that it starts.
    is_alone: bool,
}

impl Running {
    /// Reads what comes out until it ends.
    fn attend(
        mut self,
        limit: Duration,
        outputs: &Receiver<Option<Output>>,
        stopped: &dyn Fn() -> bool,
        take: &mut dyn FnMut(Output) -> bool,
    ) -> Ended {
        let begun = Instant::now();
        let mut is_open = true;
        loop {
            if stopped() {
                self.end();
                return Ended::Stopped;
            }
            if begun.elapsed() > limit {
                self.end();
                return Ended::TooLate;
            }
            let goes_on = match outputs.recv_timeout(EVERY) {
                Ok(Some(output)) => take(output),
                Err(RecvTimeoutError::Timeout) => true,
                Ok(None) | Err(RecvTimeoutError::Disconnected) => {
                    is_open = false;
                    true
                }
            };
            if !goes_on {
                self.end();
                return Ended::GivenUp;
            }
            if let Ok(Some(status)) = self.child.try_wait() {
                // What it has printed before it ended is still on its way; what it left running does not count.
                let last = Instant::now();
                while is_open && last.elapsed() < Duration::from_secs(1) {
                    match outputs.recv_timeout(EVERY) {
                        Ok(None) | Err(RecvTimeoutError::Disconnected) => is_open = false,
                        // It has ended already: `take` has seen what is wrong with it.
                        Ok(Some(output)) => is_open = take(output),
                        Err(RecvTimeoutError::Timeout) => {}
                    }
                }
                return Ended::With(status);
            }
            if !is_open {
                std::thread::sleep(EVERY);
            }
        }
    }

    /// Asks it to end, and ends it when it does not.
    fn end(&mut self) {
        self.input.close();
        interrupt(&self.child, self.is_alone);
        let begun = Instant::now();
        while begun.elapsed() < ENDS_WITHIN && !AT_ONCE.load(Ordering::SeqCst) {
            if matches!(self.child.try_wait(), Ok(Some(_))) {
                return;
            }
            std::thread::sleep(EVERY);
        }
        kill(&mut self.child, self.is_alone);
        // It has ended now; how does not matter any more.
        let _ = self.child.wait();
    }
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

/// Hands on what is printed, line by line, as far as that is bounded; nothing at its end.
fn read(out: impl Read, max_line: usize, max_output: u64, to: &SyncSender<Option<Output>>) {
    let mut out = BufReader::new(out.take(max_output + 1));
    let mut all = 0_u64;
    loop {
        let mut line = Vec::new();
        let mut limited = (&mut out).take(max_line as u64 + 1);
        let output = match limited.read_until(b'\n', &mut line) {
            Ok(0) | Err(_) => None,
            Ok(len) => {
                all += len as u64;
                match () {
                    () if all > max_output => Some(Output::TooMuch),
                    () if len > max_line => Some(Output::TooLong),
                    () => Some(Output::Line(line)),
                }
            }
        };
        let is_last = !matches!(output, Some(Output::Line(_)));
        if to.send(output).is_err() || is_last {
            return;
        }
    }
}

/// Hands on what it says on the side, as far as that is bounded.
fn hand_on(err: ChildStderr, max_line: usize, max_output: u64, mut each: EachLine) {
    let mut err = BufReader::new(err.take(max_output));
    loop {
        let mut line = Vec::new();
        match (&mut err).take(max_line as u64).read_until(b'\n', &mut line) {
            Ok(0) | Err(_) => return,
            Ok(_) => each(&line),
        }
    }
}

/// Puts it into a group of its own, with all that it starts: a signal to the group ends all of them.
#[cfg(unix)]
fn alone(command: &mut Command) {
    use std::os::unix::process::CommandExt;
    command.process_group(0);
}

#[cfg(unix)]
fn signal(child: &Child, is_alone: bool, signal: rustix::process::Signal) {
    let id = i32::try_from(child.id()).ok().and_then(rustix::process::Pid::from_raw);
    let Some(id) = id else { return };
    // Those that have ended meanwhile need none.
    let _ = match is_alone {
        true => rustix::process::kill_process_group(id, signal),
        false => rustix::process::kill_process(id, signal),
    };
}

#[cfg(unix)]
fn interrupt(child: &Child, is_alone: bool) {
    signal(child, is_alone, rustix::process::Signal::INT);
}

#[cfg(unix)]
fn kill(child: &mut Child, is_alone: bool) {
    signal(child, is_alone, rustix::process::Signal::KILL);
}

/// Elsewhere it is ended through its input.
#[cfg(not(unix))]
fn alone(_: &mut Command) {}

/// Its input was closed, which means the same.
#[cfg(not(unix))]
fn interrupt(_: &Child, _: bool) {}

#[cfg(not(unix))]
fn kill(child: &mut Child, _: bool) {
    // One that has ended meanwhile needs no more.
    let _ = child.kill();
}
