use std::path::{Path, PathBuf};

use lantern_core::version::ReleaseAsked;
use lantern_views::{install, repair};

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern repair
  lantern repair --release 1.3.2
  lantern repair ~/games/saltmarsh"#;

/// Repair the store, one release, or an installed copy
///
/// The store: what damaged files still hold is saved, what is lost is taken from the exports as they are now, and what they
/// do not have is fetched from storefronts. Nothing that is damaged is ever sent or copied on. With a folder: the copy that
/// is installed there is made whole, as the build that it is; what you changed in it is moved aside.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// A folder that lantern installed into. Left out: the project's store
    dir: Option<PathBuf>,
    /// Only what this release needs of the store: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(long, value_name = "RELEASE", conflicts_with = "dir", value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    match &args.dir {
        Some(folder) => installed(folder, ui),
        None => store(args, ui),
    }
}

fn installed(folder: &Path, ui: &Ui) -> Done {
    let project = super::find(ui)?;
    let done = lantern_project::repair_installed(&project, folder, &ui.progress())?;
    ui.answer(&install::document(&done, None), &install::view(&done));
    Ok(())
}

fn store(args: &Args, ui: &Ui) -> Done {
    let done = super::lock(ui)?.repair_store(args.release.as_ref(), &ui.progress())?;
    ui.answer(&repair::document(&done), &repair::view(&done));
    if done.broken.is_empty() {
        return Ok(());
    }
    let names: Vec<String> = done.broken.iter().map(|broken| broken.release.to_string()).collect();
    let what = format!("{} cannot be repaired from what is here", names.join(", "));
    let fix = "bring back its export, or connect a storefront that has it, then: lantern repair";
    Err(CommandError::damaged(what, fix).said_in(ui))
}
