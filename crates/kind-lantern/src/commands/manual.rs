use std::path::PathBuf;

use lantern_store::durable;

use super::Done;
use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern manual man
  lantern manual ~/.local/share/man/man1"#;

/// Write the manual pages of all commands into a folder
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The folder; it is made where it is not there
    folder: PathBuf,
}

pub fn run(args: &Args, command: clap::Command, ui: &Ui) -> Done {
    durable::create_folders(&args.folder).map_err(lantern_project::ProjectError::from)?;
    let failed = |error| CommandError::io(&format!("write into {}", args.folder.display()), error);
    clap_mangen::generate_to(command, &args.folder).map_err(failed)?;
    ui.say(&format!("the pages are in {}", args.folder.display()));
    Ok(())
}
