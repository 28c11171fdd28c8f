use lantern_core::finding::{Code, Severity};
use lantern_project::Project;
use lantern_views::check;

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::{EditionArg, TargetsArg};
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern check
  lantern check --strict --json
  lantern check --target windows
  lantern check --explain library-missing"#;

/// Find what is wrong before anything is made
///
/// First lantern.toml, then every export: start file, system, names, links; what its programs need and say of
/// themselves; litter, debug data and secrets; what is different from the last release; then how depots divide it. All
/// of it in one go, each with its fix. What is meant to be so is accepted in lantern.toml, with a reason.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// Let warnings stop, too
    #[arg(long)]
    strict: bool,
    /// Tell the story behind a finding, by the code that it shows in brackets
    #[arg(long, value_name = "CODE", conflicts_with = "strict")]
    explain: Option<String>,
    #[command(flatten)]
    targets: TargetsArg,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    if let Some(code) = &args.explain {
        return explain(code, ui);
    }
    let mut project = Project::find_to_check(&ui.project, ui.stop.clone())?;
    super::choose_edition(&mut project, ui)?;
    project.only_targets(&args.targets.names)?;
    let checked = project.check(&ui.progress())?;
    let least = if args.strict { Severity::Warning } else { Severity::Error };
    let passes = check::count_from(&checked, least) == 0;
    ui.answer(&check::document(&checked, passes), &check::view(&checked, least));
    if passes {
        return next(ui);
    }
    ui.next("fix them, then run: lantern check");
    Err(CommandError::findings_said())
}

/// The next step of the game; before anything was sealed there is no record to ask.
fn next(ui: &Ui) -> Done {
    let is_begun = || Project::find(&ui.project, ui.stop.clone()).is_ok_and(|project| project.has_ledger());
    if ui.json || !is_begun() {
        ui.next("lantern prepare");
        return Ok(());
    }
    super::next(&super::open(ui)?, ui, super::ASK_THEM)
}

fn explain(code: &str, ui: &Ui) -> Done {
    let Ok(code) = code.parse::<Code>() else {
        let fix = match Code::nearest(code) {
            Some(near) => format!("did you mean {near}?"),
            None => "write the code that a finding shows in brackets".to_owned(),
        };
        return Err(CommandError::usage(format!("no finding has the code {code:?}"), fix));
    };
    ui.answer(&check::explanation_document(code), &check::explanation(code, lantern_project::today()));
    Ok(())
}
