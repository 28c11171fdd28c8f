use std::path::{Path, PathBuf};

use lantern_views::{format, verify};

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern verify ~/games/saltmarsh
  lantern verify"#;

/// Check an installed copy, or every sealed release of the project
///
/// With a folder: every file that was installed there is read and checked against its digest. Without: everything in the
/// project's store is. It only reads: lantern repair repairs.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// A folder that lantern installed into
    dir: Option<PathBuf>,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    match &args.dir {
        Some(folder) => installed(folder, ui),
        None => store(ui),
    }
}

fn installed(folder: &Path, ui: &Ui) -> Done {
    let (about, verified) = lantern_project::verify_installed(folder, &ui.progress())?;
    let about = about.as_ref();
    ui.answer(&verify::installed_document(about, &verified), &verify::installed(about, &verified));
    let count = verified.wrong.len();
    if count == 0 {
        return Ok(());
    }
    let (are, files) = (if count == 1 { "is" } else { "are" }, format::count(verified.files, "file", "files"));
    let what = format!("{count} of {files} of {} {are} wrong", verify::name_of(about));
    let fix = match about {
        Some(_) => format!("lantern repair {}", folder.display()),
        None => "install again into the same folder".to_owned(),
    };
    Err(CommandError::damaged(what, fix).said_in(ui))
}

fn store(ui: &Ui) -> Done {
    let found = super::open(ui)?.verify_store(&ui.progress())?;
    ui.answer(&verify::store_document(&found), &verify::store(&found));
    if found.wrong.is_empty() {
        return Ok(());
    }
    let names: Vec<String> = found.broken.iter().map(ToString::to_string).collect();
    let what = match names.as_slice() {
        [] => "the store contains damaged files; no release needs them".to_owned(),
        [one] => format!("the store is damaged: {one} is not whole"),
        several => format!("the store is damaged: {} are not whole", several.join(", ")),
    };
    Err(CommandError::damaged(what, "lantern repair").said_in(ui))
}
