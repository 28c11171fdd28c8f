//! One subcommand per file; each has its arguments, whose comments are the help, and one short `run`.

mod branch_move;
pub mod check;
pub mod completions;
pub mod connect;
pub mod demo;
pub mod depots;
#[cfg(debug_assertions)]
mod for_tests;
pub mod help;
pub mod help_me;
pub mod history;
pub mod init;
pub mod inspect;
pub mod install;
pub mod invite;
pub mod keep;
pub mod ledger;
pub mod live;
pub mod number;
pub mod prepare;
pub mod promote;
pub mod push;
pub mod rehearse;
pub mod releases;
pub mod repair;
pub mod rollback;
mod status;
pub mod trial;
pub mod verify;

use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use clap::FromArgMatches;
use lantern_core::progress::{Progress, Task};
use lantern_core::version::{ReleaseAsked, ReleaseName};
use lantern_project::{Project, ProjectError, Session, Workspace};
use lantern_views::Next;
use lantern_views::paint::{faint, strong};

use crate::args::{self, Cli, Command};
use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// What a command comes to when it does not fail.
pub type Done = Result<(), CommandError>;

/// Runs the program.
pub fn run() -> ExitCode {
    let arguments = crate::sole_storefront::fill_in(std::env::args_os().collect());
    let parsed = args::command().try_get_matches_from(&arguments).and_then(|found| Cli::from_arg_matches(&found));
    let cli = match parsed {
        Ok(cli) => cli,
        Err(error) => {
            // Help and version are printed to standard output, and are no failure.
            if error.use_stderr() {
                let ui = Ui::new(&crate::usage::common(&arguments));
                let error = crate::usage::error(&error, &arguments);
                error.print(&ui);
                return ExitCode::from(error.exit_code());
            }
            crate::ui::print(error.render().ansi().to_string().trim_end());
            return ExitCode::SUCCESS;
        }
    };
    let ui = Ui::new(&cli.common);
    #[cfg(debug_assertions)]
    for_tests::listen();
    crate::log_file::begin(cli.common.verbose);
    listen_for_ctrl_c(ui.stop.clone(), ui.clone());
    let done = match (cli.command, cli.edition.name.is_some()) {
        (Some(_), true) => Err(CommandError::usage("--edition comes before the command", "put it after the command")),
        (Some(command), false) => dispatch(command, &ui),
        (None, _) => alone(&ui.about(&cli.edition), cli.common.project.is_some()),
    };
    match done {
        Ok(()) => {
            log::info!(target: "lantern", "done");
            ExitCode::SUCCESS
        }
        Err(error) => {
            log::warn!(target: "lantern", "ended with exit code {}: {}", error.exit_code(), error.in_short());
            error.print(&ui);
            ExitCode::from(error.exit_code())
        }
    }
}

/// Without a command: where the game stands; outside of any game, the help.
fn alone(ui: &Ui, is_named: bool) -> Done {
    match Project::find(&ui.project, ui.stop.clone()) {
        Err(ProjectError::NoProject(_)) if !ui.json && !is_named => {
            ui.say(&args::command().render_help().ansi().to_string());
            Ok(())
        }
        Err(error) => Err(error.into()),
        Ok(_) => status::run(ui),
    }
}

fn dispatch(command: Command, ui: &Ui) -> Done {
    match command {
        Command::Init(args) => init::run(&args, ui),
        Command::Inspect(args) => inspect::run(&args, ui),
        Command::Check(args) => check::run(&args, &ui.about(&args.edition)),
        Command::Depots(args) => depots::run(&args, &ui.about(&args.edition)),
        Command::Prepare(args) => prepare::run(&args, &ui.about(&args.edition)),
        Command::Try(args) => trial::run(&args, &ui.about(&args.edition)),
        Command::Releases(args) => releases::run(&args, ui),
        Command::Keep(args) => keep::run(&args, &ui.about(&args.edition)),
        Command::Number(args) => number::run(&args, ui),
        Command::Connect(args) => connect::run(&args, ui),
        Command::Push(args) => push::run(&args, &ui.about(&args.edition)),
        Command::Promote(args) => promote::run(&args, &ui.about(&args.edition)),
        Command::Rollback(args) => rollback::run(&args, &ui.about(&args.edition)),
        Command::Invite(args) => invite::run(&args, &ui.about(&args.edition)),
        Command::Live(args) => live::run(&args, &ui.about(&args.edition)),
        Command::History(args) => history::run(&args, &ui.about(&args.edition)),
        Command::Install(args) => install::run(&args, &ui.about(&args.edition)),
        Command::Verify(args) => verify::run(&args, &ui.about(&args.edition)),
        Command::Repair(args) => repair::run(&args, &ui.about(&args.edition)),
        Command::Ledger(args) => ledger::run(&args, ui),
        Command::Rehearse(args) => rehearse::run(&args, ui),
        Command::Demo(args) => demo::run(&args, ui),
        Command::HelpMe(args) => help_me::run(&args, ui),
        Command::Completions(args) => completions::run(&args),
        Command::Help(args) => help::run(&args, ui),
    }
}

/// How long work that was asked to stop may take until it is safe; then the program ends all the same.
const STOP_WITHIN: Duration = Duration::from_millis(800);

/// Waits until someone asks the program to end: Ctrl-C, or the system because a terminal is closed, a build machine cancels,
/// or the computer is shut down.
#[cfg(unix)]
async fn asked_to_end() -> std::io::Result<()> {
    use tokio::signal::unix::{SignalKind, signal};
    let (mut terminate, mut hang_up) = (signal(SignalKind::terminate())?, signal(SignalKind::hangup())?);
    tokio::select! {
        done = tokio::signal::ctrl_c() => done,
        _ = terminate.recv() => Ok(()),
        _ = hang_up.recv() => Ok(()),
    }
}

#[cfg(windows)]
async fn asked_to_end() -> std::io::Result<()> {
    use tokio::signal::windows::{ctrl_break, ctrl_close, ctrl_logoff, ctrl_shutdown};
    let (mut stop, mut close) = (ctrl_break()?, ctrl_close()?);
    let (mut logoff, mut shutdown) = (ctrl_logoff()?, ctrl_shutdown()?);
    tokio::select! {
        done = tokio::signal::ctrl_c() => done,
        _ = stop.recv() => Ok(()),
        _ = close.recv() => Ok(()),
        _ = logoff.recv() => Ok(()),
        _ = shutdown.recv() => Ok(()),
    }
}

/// The first Ctrl-C asks the work to stop where it is tidy. A request that hangs or a prompt does not hear that: a
/// little later the program ends anyway, which is safe at any point. The second Ctrl-C ends it at once.
fn listen_for_ctrl_c(stop: Arc<AtomicBool>, ui: Ui) {
    std::thread::spawn(move || {
        let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_io().enable_time().build() else {
            return;
        };
        runtime.block_on(async {
            if asked_to_end().await.is_err() {
                return;
            }
            stop.store(true, Ordering::Relaxed);
            tokio::select! {
                _ = asked_to_end() => {}
                () = tokio::time::sleep(STOP_WITHIN) => {}
            }
            let error = CommandError::stopped();
            error.print(&ui);
            std::process::exit(i32::from(error.exit_code()));
        });
    });
}

fn find(ui: &Ui) -> Result<Project, CommandError> {
    let mut project = Project::find(&ui.project, ui.stop.clone())?;
    crate::log_file::write_into(project.root());
    choose_edition(&mut project, ui)?;
    let teller = ui.clone();
    project.tell_of_waiting(move |time, why| teller.waiting(time, why));
    Ok(project)
}

fn choose_edition(project: &mut Project, ui: &Ui) -> Done {
    match &ui.edition {
        Some(edition) => Ok(project.only_edition(edition)?),
        None => Ok(()),
    }
}

fn open(ui: &Ui) -> Result<Workspace, CommandError> {
    let open = find(ui)?.open()?;
    // The very first run has made the folder only now.
    crate::log_file::write_into(open.project.root());
    Ok(open)
}

fn lock(ui: &Ui) -> Result<Session, CommandError> {
    Ok(open(ui)?.lock()?)
}

/// As [`lock`], about some targets alone.
fn lock_about(targets: &args::TargetsArg, ui: &Ui) -> Result<Session, CommandError> {
    let mut session = lock(ui)?;
    session.project_mut().only_targets(&targets.names)?;
    Ok(session)
}

/// Names the one next step, as every command does that ends with one; where nothing is left to do, says `otherwise`.
fn next(open: &Workspace, ui: &Ui, otherwise: impl Into<Next>) -> Done {
    if ui.json {
        return Ok(());
    }
    match open.next_step()? {
        Some(step) => ui.next(step.to_string()),
        None => ui.next(otherwise),
    }
    Ok(())
}

/// What is said where all is done.
const ASK_THEM: Next = Next::new("lantern live", "asks the storefronts themselves");

/// How often the lock is tried again, and how long the wait is.
const LOCK_EVERY: Duration = Duration::from_millis(200);

/// As [`lock`], for an answer that a person gave and that must not be lost: waits until another lantern has ended.
fn lock_waiting(ui: &Ui) -> Result<Session, CommandError> {
    let progress = ui.progress();
    let mut waiting = None;
    loop {
        match open(ui)?.lock() {
            Err(ProjectError::Busy { .. }) if !ui.stop.load(Ordering::Relaxed) => {
                let meter = waiting.get_or_insert_with(|| progress.start(Task::Wait, None));
                meter.add(0);
                std::thread::sleep(LOCK_EVERY);
            }
            other => return Ok(other?),
        }
    }
}

/// Reads a release as people name it, for clap.
fn release_asked(text: &str) -> Result<ReleaseAsked, String> {
    text.parse().map_err(|e: lantern_core::version::VersionError| e.to_string())
}

/// Reads a day, for clap.
fn day(text: &str) -> Result<jiff::civil::Date, String> {
    text.parse().map_err(|_| format!("{text:?} is not a day such as 2027-03-01"))
}

/// Reads any of our names, for clap.
pub fn name<T: std::str::FromStr>(text: &str) -> Result<T, String>
where
    T::Err: std::fmt::Display,
{
    text.parse().map_err(|e: T::Err| e.to_string())
}

/// Starts a program, waits until it ends, and returns its exit code; none for one that a signal ended.
fn start_program(
    program: &std::path::Path,
    arguments: &[String],
    folder: &std::path::Path,
    ui: &Ui,
) -> Result<Option<i32>, CommandError> {
    let file = program.file_name().map(|name| lantern_core::path::shown(&name.to_string_lossy())).unwrap_or_default();
    ui.say(&format!("\n{} {file}", faint("starting")));
    let mut command = std::process::Command::new(program);
    command.args(arguments).current_dir(folder);
    if ui.json {
        // Standard output belongs to the document.
        command.stdout(std::io::stderr());
    }
    let status = command.status().map_err(|source| ProjectError::Start { file, source })?;
    Ok(status.code())
}

/// How an action is agreed to.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct Agreement {
    /// Show what would be done, and stop
    #[arg(long)]
    plan: bool,
    /// Agree without being asked
    #[arg(long)]
    yes: bool,
}

impl Agreement {
    /// Asks for a plain yes.
    fn ask(&self, ui: &Ui) -> Result<bool, CommandError> {
        if self.yes {
            return Ok(true);
        }
        yes_or_no(ui, "Go on? (y/n)", "your yes", "--yes")
    }
}

/// Asks until there is a clear yes or no.
fn yes_or_no(ui: &Ui, question: &str, what: &str, option: &str) -> Result<bool, CommandError> {
    loop {
        match ui.ask(&format!("\n{question}"), what, option)?.to_lowercase().as_str() {
            "y" | "yes" => return Ok(true),
            "n" | "no" => return Ok(false),
            _ => ui.say("  y or n, please"),
        }
    }
}

/// Asks for a release's name, which agrees to what everybody gets.
fn ask_for_name(ui: &Ui, wanted: &ReleaseName, given: Option<&str>) -> Result<bool, CommandError> {
    let answer = match given {
        Some(given) => given.to_owned(),
        None => ui.ask(
            &format!("\nType {} to continue:", strong(wanted)),
            "your confirmation, the release's own name,",
            &format!("--confirm \"{wanted}\""),
        )?,
    };
    if answer.trim() == wanted.to_string() {
        return Ok(true);
    }
    if given.is_some() {
        let what = format!("--confirm names {answer:?}, the plan is for \"{wanted}\"");
        return Err(CommandError::usage(what, "check the plan, then confirm the release that it names"));
    }
    Ok(false)
}
