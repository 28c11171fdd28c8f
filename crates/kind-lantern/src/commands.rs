//! One subcommand per file; each has its arguments, whose comments are the help, and one short `run`.

pub mod adopt;
mod branch_move;
mod by_hand;
pub mod check;
pub mod completions;
pub mod confirm;
pub mod connect;
pub mod demo;
pub mod depots;
pub mod doctor;
#[cfg(debug_assertions)]
pub mod for_tests;
pub mod help;
pub mod help_me;
pub mod history;
pub mod init;
pub mod inspect;
pub mod install;
pub mod invite;
pub mod keep;
pub mod key;
pub mod last_look;
pub mod ledger;
pub mod live;
pub mod manual;
pub mod number;
pub mod prepare;
pub mod promote;
pub mod push;
pub mod rehearse;
pub mod releases;
pub mod repair;
pub mod rollback;
pub mod sign;
pub mod status;
pub mod storefronts;
pub mod trial;
pub mod verify;
pub mod wait;

use std::sync::atomic::Ordering;
use std::time::Duration;

use lantern_core::progress::{Progress, Task};
use lantern_core::version::ReleaseName;
use lantern_project::{Project, ProjectError, Session, Workspace};
use lantern_views::Next;
use lantern_views::paint::{faint, strong};

use crate::diagnostic::CommandError;
use crate::options::{TargetsArg, day, name, release_asked};
use crate::ui::Ui;

/// What a command comes to when it does not fail.
pub type Done = Result<(), CommandError>;

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
fn lock_about(targets: &TargetsArg, ui: &Ui) -> Result<Session, CommandError> {
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
    // A game and a device's program have no use for a passphrase or a secret.
    lantern_program::without_own_variables(&mut command);
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
    ask_yes_or_no(ui, &format!("\n{question}"), what, option)
}

/// The same for one of several questions that belong together.
fn ask_yes_or_no(ui: &Ui, question: &str, what: &str, option: &str) -> Result<bool, CommandError> {
    loop {
        match ui.ask(question, what, option)?.to_lowercase().as_str() {
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
