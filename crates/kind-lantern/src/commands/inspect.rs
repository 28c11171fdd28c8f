use std::path::PathBuf;

use lantern_exports::inspect::{Inspected, inspect as inspect_path};
use lantern_project::{ProjectError, now};
use lantern_views::inspect;

use super::Done;
use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern inspect exports/windows
  lantern inspect exports/* --json"#;

/// See what a file or folder is: system, identity, version, signature, what starts it
///
/// Folders, archives, packages for phones, programs and libraries; no project is needed, and nothing is changed.
/// Several at once are shown side by side: the quick way to see that one of them is still the old version.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// What to look at
    #[arg(required = true, value_name = "PATH")]
    paths: Vec<PathBuf>,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let look = |path: &PathBuf| {
        let name = path.to_string_lossy();
        inspect_path(path, name.trim_end_matches('/'), now(), &ui.progress()).map_err(ProjectError::from)
    };
    let all: Vec<Inspected> = args.paths.iter().map(look).collect::<Result<_, _>>()?;
    ui.answer(&inspect::document(&all), &inspect::view(&all));
    if all.iter().any(|seen| seen.form.is_none()) {
        return Err(CommandError::findings_said());
    }
    Ok(())
}
