use std::process::Command;
use std::time::{Duration, Instant};

use jiff::SignedDuration;
use lantern_core::names::Name;
use lantern_core::progress::{Progress, Task};
use lantern_project::{Answered, OpenWalk, Project, ProjectError, StepsError};
use lantern_views::steps;

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern wait old-pier
  lantern wait harbour-office --then "lantern prepare"
  lantern wait old-pier --then "notify-send 'Old Pier has answered'" --at-most "3 hours""#;

/// Wait for what is due at a storefront or an approval, then say so or run a command
///
/// Waits until a step that waits for someone is due, or until someone confirms it from another window or computer. Then
/// the terminal's bell rings, or a command of yours is run. Of an approval it is asked every 20 seconds what became of the bundle
/// that was handed over.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml, or the approval's; may be left out where there is only one
    storefront: String,
    /// A command line for this system's shell
    #[arg(long, value_name = "COMMAND")]
    then: Option<String>,
    /// Gives up after this time, such as "3 hours"
    #[arg(long, value_name = "TIME", value_parser = time)]
    at_most: Option<SignedDuration>,
    #[command(flatten)]
    pub edition: EditionArg,
}

fn time(text: &str) -> Result<SignedDuration, String> {
    let wrong = || "write a time such as \"3 hours\" or \"20 minutes\"".to_owned();
    lantern_core::step::length_of_time(text).ok_or_else(wrong)
}

/// How often the ledger is read again. Ours: people answer in minutes, not in seconds.
const EVERY: Duration = Duration::from_secs(1);

/// How often a program is asked what became of a bundle. Ours: vendors answer in minutes, and count questions.
const EVERY_ANSWER: Duration = Duration::from_secs(20);

pub fn run(args: &Args, ui: &Ui) -> Done {
    let begun = Instant::now();
    let project = super::find(ui)?;
    if project.config().approvals.keys().any(|name| name.as_str() == args.storefront) {
        return answers(args, &project, ui);
    }
    let name = super::find(ui)?.storefront(&args.storefront)?.0.clone();
    let first = waiting(args, ui)?;
    if first.is_empty() {
        return Err(ProjectError::from(StepsError::NothingOpen { storefront: name }).into());
    }
    for open in &first {
        ui.show(&steps::waits(open, lantern_project::now()));
    }
    let progress = ui.progress();
    let meter = progress.start(Task::Wait, None);
    loop {
        let now = waiting(args, ui)?;
        let is_over = now.len() < first.len() || now.iter().any(is_due);
        if is_over {
            drop(meter);
            return end(args, &first, &now, ui);
        }
        let waited = SignedDuration::try_from(begun.elapsed()).unwrap_or(SignedDuration::MAX);
        if args.at_most.is_some_and(|most| waited >= most) {
            drop(meter);
            return Err(CommandError::unreachable("nothing was confirmed until then".to_owned()));
        }
        if ui.is_stopped() {
            return Err(CommandError::stopped());
        }
        meter.add(0);
        std::thread::sleep(EVERY);
    }
}

/// Waits for what a system's vendor says of bundles.
fn answers(args: &Args, project: &Project, ui: &Ui) -> Done {
    let begun = Instant::now();
    let mut waiting = project.waiting_approvals();
    waiting.retain(|of| of.approval.as_str() == args.storefront);
    if waiting.is_empty() {
        let what = format!("nothing that this computer handed over waits for {}", args.storefront);
        return Err(CommandError::usage(what, "lantern prepare hands over what is to be looked at"));
    }
    let answered: Vec<Name> = waiting.iter().map(|of| of.target.clone()).collect();
    let progress = ui.progress();
    let meter = progress.start(Task::Wait, None);
    while !waiting.is_empty() {
        let mut left = Vec::new();
        for of in waiting {
            let answer = project.ask_approval(&of, &progress);
            if !matches!(answer, Ok(Answered::NotYet)) {
                note(ui)?;
            }
            if answer? == Answered::NotYet {
                left.push(of);
            }
        }
        waiting = left;
        let most = args.at_most.and_then(|most| Duration::try_from(most).ok());
        let left = most.map(|most| most.saturating_sub(begun.elapsed()));
        if left.is_some_and(|left| left.is_zero()) {
            break;
        }
        let next = Instant::now() + left.unwrap_or(EVERY_ANSWER).min(EVERY_ANSWER);
        while !waiting.is_empty() && Instant::now() < next {
            if ui.is_stopped() {
                return Err(CommandError::stopped());
            }
            meter.add(0);
            std::thread::sleep(EVERY.min(next - Instant::now()));
        }
    }
    drop(meter);
    if !waiting.is_empty() {
        return Err(CommandError::unreachable("there was no answer until then".to_owned()));
    }
    ui.answer(&steps::answered_document(&args.storefront, &answered), &steps::answered(&args.storefront));
    then(args, "lantern prepare", ui)
}

/// Records what was answered. Where another lantern is at work, the next `prepare` does it.
fn note(ui: &Ui) -> Done {
    match super::open(ui)?.lock() {
        Err(ProjectError::Busy { .. }) => Ok(()),
        session => Ok(session?.note_approvals()?),
    }
}

/// What waits there for someone.
fn waiting(args: &Args, ui: &Ui) -> Result<Vec<OpenWalk>, CommandError> {
    let all = super::open(ui)?.walks(Some(&args.storefront))?;
    Ok(all.into_iter().filter(|open| open.walk.waits_until().is_some()).collect())
}

fn is_due(open: &OpenWalk) -> bool {
    let due = open.walk.waits_until().and_then(|(_, due)| due);
    due.is_some_and(|due| due <= lantern_project::now())
}

fn end(args: &Args, first: &[OpenWalk], now: &[OpenWalk], ui: &Ui) -> Done {
    let workspace = super::open(ui)?;
    match now.iter().find(|open| is_due(open)) {
        Some(open) => ui.show(&steps::waits(open, lantern_project::now())),
        None => {
            for open in first.iter().filter(|open| !now.iter().any(|now| now.walk.is(open.walk.begun.key))) {
                ui.show(&steps::came_of_waiting(open, &workspace.came_of(&open.walk)?));
            }
        }
    }
    ui.document(&steps::document(now.iter().map(|open| (open, None))));
    then(args, &format!("lantern confirm {}", args.storefront), ui)
}

/// Runs the command that is to be run, or rings and says what comes next.
fn then(args: &Args, next: &str, ui: &Ui) -> Done {
    let Some(line) = &args.then else {
        ui.ring();
        ui.next(next.to_owned());
        return Ok(());
    };
    let mut command = shell(line);
    if ui.json {
        // Standard output belongs to the document.
        command.stdout(std::io::stderr());
    }
    let status = command.status().map_err(|error| CommandError::io("run the command", error))?;
    match status.code() {
        Some(0) => Ok(()),
        code => {
            let how = code.map_or("was ended by a signal".to_owned(), |code| format!("ended with exit code {code}"));
            Err(CommandError::usage(format!("the command {how}"), "run it by itself to see why"))
        }
    }
}

#[cfg(not(windows))]
fn shell(line: &str) -> Command {
    let mut command = Command::new("sh");
    command.args(["-c", line]);
    command
}

#[cfg(windows)]
fn shell(line: &str) -> Command {
    use std::os::windows::process::CommandExt;
    let mut command = Command::new("cmd");
    command.arg("/C").raw_arg(line);
    command
}
