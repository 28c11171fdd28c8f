use lantern_project::{Checkup, Project, ProjectError};
use lantern_views::doctor;

use super::Done;
use crate::clipboard::Clipboard;
use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern doctor
  lantern doctor --json"#;

/// Look whether all is there that is needed, each with its cure
///
/// This computer's clock, terminal and clipboard; in a game's folder also its configuration, the disk, the ledger, the
/// keys that targets name, the time-stamp authority and every storefront, which are asked. Changes nothing.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {}

/// Before this year no copy of this program was made.
const FIRST_YEAR: i16 = 2026;

pub fn run(_: &Args, ui: &Ui) -> Done {
    let mut all = vec![Checkup::well("lantern", format!("version {}", env!("CARGO_PKG_VERSION"))), clock()];
    all.push(match ui.can_ask() {
        true => Checkup::well("terminal", "someone is there to be asked"),
        false => Checkup::absent("terminal", "nobody is there to be asked: options give the answers"),
    });
    all.push(match Clipboard::is_there() {
        true => Checkup::well("clipboard", "texts can be copied into it"),
        false => Checkup::absent("clipboard", "there is none: texts of steps are marked on the screen instead"),
    });
    match Project::find(&ui.project, ui.stop.clone()) {
        Err(ProjectError::NoProject(_)) => {
            all.push(Checkup::absent("game", "no lantern.toml here or above: lantern init writes one"));
        }
        Err(ProjectError::Config(findings)) => {
            let said = match findings.len() {
                1 => "lantern.toml has an error".to_owned(),
                count => format!("lantern.toml has {count} errors"),
            };
            all.push(Checkup::wrong("game", said, "lantern check"));
        }
        Err(error) => return Err(error.into()),
        Ok(project) => {
            all.push(Checkup::well("game", project.config().game.name.clone()));
            all.extend(super::open(ui)?.doctor(&ui.progress())?);
        }
    }
    ui.answer(&doctor::document(&all), &doctor::view(&all));
    if doctor::is_well(&all) { Ok(()) } else { Err(CommandError::findings_said()) }
}

fn clock() -> Checkup {
    let today = lantern_project::today();
    match today.year() < FIRST_YEAR {
        true => Checkup::wrong("clock", format!("it is {today}, says this computer"), "set this computer's clock"),
        false => Checkup::well("clock", format!("it is {today}")),
    }
}
