//! Walking through the steps of an action by hand, at the terminal or with sheets.

use std::collections::BTreeMap;

use lantern_core::event::{EventBody, StepStanding};
use lantern_core::names::Name;
use lantern_core::step::Step;
use lantern_project::{
    ConnectorEnd, OpenWalk, ProjectError, Session, StepsError, Workspace, check_answers, waiting_since,
};
use lantern_store::durable;
use lantern_views::{sheet, steps};

use super::Done;
use crate::clipboard::Clipboard;
use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// What was answered to a step.
enum Answer {
    Done,
    Back,
    Skip,
    Wait,
    Pause,
    Copy(usize),
}

/// Walks through the open steps until all are done, one waits for others, or the person stops; returns what it came to. Without a
/// terminal it writes the sheets.
pub fn walk(session: &mut Session, open: &mut OpenWalk, ui: &Ui) -> Result<Option<EventBody>, CommandError> {
    let recorded = session.finish_walk(&open.edition, open.walk.begun.key)?;
    if recorded.outcome.is_some() {
        return Ok(recorded.outcome);
    }
    let show = |text: &str| ui.say(&format!("  {}", lantern_views::paint::faint(text)));
    match session.ask_connector(open, &ui.progress(), &show)? {
        ConnectorEnd::ByPerson => {}
        ConnectorEnd::Waits => {
            ui.show(&steps::waits(open, lantern_project::now()));
            return Ok(None);
        }
        ConnectorEnd::Done { outcome, address } => {
            if let Some(address) = address {
                show(&lantern_core::path::shown(&address));
            }
            return Ok(Some(*outcome));
        }
    }
    if !ui.can_ask() {
        let sheets = write_sheets(session.workspace(), open)?;
        ui.show(&steps::paused(open, &sheets, lantern_project::now()));
        return Ok(None);
    }
    let mut clipboard = Clipboard::default();
    let mut is_new = true;
    loop {
        let Some(step) = open.walk.current().cloned() else { return Ok(None) };
        if std::mem::replace(&mut is_new, true) {
            ui.show(&steps::current(open, lantern_project::now()));
        }
        let standing = match ask(&step, open, ui)? {
            Answer::Copy(number) => {
                copy(&mut clipboard, open, &step, number, ui);
                is_new = false;
                continue;
            }
            Answer::Pause => {
                let sheets = write_sheets(session.workspace(), open)?;
                ui.show(&steps::paused(open, &sheets, lantern_project::now()));
                return Ok(None);
            }
            Answer::Back => {
                let Some(before) = open.walk.before_current().map(|step| step.id.clone()) else {
                    ui.say("  this is the first step");
                    is_new = false;
                    continue;
                };
                record(session, open, &before, &StepStanding::Reopened)?;
                continue;
            }
            Answer::Skip => {
                let because = ui.ask("  Why is it left out?", "the reason", "--because")?;
                if because.is_empty() {
                    ui.say("  a step is left out for a reason");
                    is_new = false;
                    continue;
                }
                StepStanding::Skipped { because }
            }
            Answer::Wait => waiting_since(&step, lantern_project::now()),
            Answer::Done => StepStanding::Done { read_back: read_back(&step, ui)? },
        };
        let outcome = match record(session, open, &step.id, &standing) {
            Ok(outcome) => outcome,
            // Someone else was faster, or a number is taken: the reason is shown, and what is open now.
            Err(ProjectError::Steps(error @ (StepsError::Walk(_) | StepsError::NumberTaken { .. }))) => {
                ui.say(&format!("  {}", lantern_views::paint::care(error)));
                refresh(session.workspace(), open)?;
                continue;
            }
            Err(error) => return Err(error.into()),
        };
        if outcome.is_some() {
            return Ok(outcome);
        }
        if matches!(standing, StepStanding::Waiting { .. }) {
            ui.show(&steps::waits(open, lantern_project::now()));
            return Ok(None);
        }
    }
}

/// Records how a step stands, and takes in what came of it.
pub fn record(
    session: &mut Session,
    open: &mut OpenWalk,
    step: &Name,
    standing: &StepStanding,
) -> Result<Option<EventBody>, ProjectError> {
    let recorded = session.record_step(&open.edition, open.walk.begun.key, step, standing)?;
    open.walk = recorded.walk;
    Ok(recorded.outcome)
}

fn refresh(open: &Workspace, walk: &mut OpenWalk) -> Result<(), ProjectError> {
    let key = walk.walk.begun.key;
    let found = open.walks(None)?.into_iter().find(|known| known.walk.is(key));
    *walk = found.ok_or(StepsError::Gone)?;
    Ok(())
}

fn ask(step: &Step, open: &OpenWalk, ui: &Ui) -> Result<Answer, CommandError> {
    let wait = if step.waits { "wait, " } else { "" };
    let back = if open.walk.before_current().is_some() { "back, " } else { "" };
    let copy = match step.paste.len() {
        0 => String::new(),
        1 => "; 1 copies the text".to_owned(),
        count => format!("; 1 to {count} copy a text"),
    };
    let question = format!("\ndone, {wait}{back}skip or pause{copy}:");
    loop {
        let answer = ui.ask(&question, "how the step stands", "lantern confirm STOREFRONT STEP")?.to_lowercase();
        return Ok(match answer.as_str() {
            "d" | "done" => Answer::Done,
            "b" | "back" => Answer::Back,
            "s" | "skip" => Answer::Skip,
            "w" | "wait" if step.waits => Answer::Wait,
            "p" | "pause" => Answer::Pause,
            other => match other.parse::<usize>() {
                Ok(number) if (1..=step.paste.len()).contains(&number) => Answer::Copy(number),
                _ => {
                    ui.say("  one of these words, or its first letter, please");
                    continue;
                }
            },
        });
    }
}

/// Asks for everything that a step reads back, until each answer is one.
fn read_back(step: &Step, ui: &Ui) -> Result<BTreeMap<Name, String>, CommandError> {
    let mut given = Vec::new();
    for back in &step.read_back {
        loop {
            let text =
                ui.ask(&format!("  {}", steps::question(back)), &back.ask, &format!("--read-back {}=…", back.key))?;
            match back.check(&text) {
                Ok(text) => {
                    given.extend(text.map(|text| (back.key.to_string(), text)));
                    break;
                }
                Err(error) => ui.say(&format!("  {error}")),
            }
        }
    }
    check_answers(step, &given).map_err(|error| ProjectError::from(error).into())
}

fn copy(clipboard: &mut Clipboard, open: &OpenWalk, step: &Step, number: usize, ui: &Ui) {
    let shown = open.walk.shown(step);
    let Some(paste) = shown.paste.get(number - 1) else { return };
    match clipboard.set(&paste.text) {
        Ok(()) => ui.say(&format!("  copied: {}", lantern_core::path::shown(&paste.field))),
        Err(why) => ui.say(&format!("  not copied: {why}; mark the text above instead")),
    }
}

/// Writes the steps as text and as a page next to the folder with the files, which is handed over unchanged; returns the paths.
fn write_sheets(workspace: &Workspace, open: &OpenWalk) -> Result<Vec<String>, CommandError> {
    let begun = &open.walk.begun;
    let folder = workspace.project.state_for("outgoing")?.join(begun.storefront.name.as_str());
    durable::create_folders(&folder).map_err(ProjectError::from)?;
    let mut written = Vec::new();
    for (ending, text) in [("txt", steps::sheet(open)), ("html", sheet::page(open))] {
        let path = folder.join(format!("{}.{ending}", steps::file_stem(open)));
        durable::write_whole(&path, text.as_bytes()).map_err(ProjectError::from)?;
        let shown = path.strip_prefix(workspace.project.root()).unwrap_or(&path);
        written.push(shown.display().to_string());
    }
    Ok(written)
}

/// Says what an action came to, or nothing where it goes on.
pub fn show_outcome(open: &OpenWalk, outcome: Option<&EventBody>, ui: &Ui) {
    if let Some(outcome) = outcome {
        ui.show(&steps::outcome(&open.walk.begun, outcome));
    }
}

/// Walks through what was begun, and ends as a command does.
pub fn go_on(session: &mut Session, mut open: OpenWalk, ui: &Ui) -> Done {
    let outcome = walk(session, &mut open, ui)?;
    show_outcome(&open, outcome.as_ref(), ui);
    if outcome.is_some() {
        super::next(session.workspace(), ui, super::ASK_THEM)?;
    }
    ui.document(&steps::document([(&open, outcome.as_ref())]));
    Ok(())
}
