use std::path::{Path, PathBuf};

use lantern_project::About;
use lantern_store::install::Problem;
use serde::Serialize;

use super::Done;
use crate::args::EditionArg;
use crate::diagnostic::CommandError;
use crate::format;
use crate::paint::{bad, good, strong};
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

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct InstalledDocument<'a> {
    schema: &'static str,
    installed: Option<&'a About>,
    files: u64,
    bytes: u64,
    wrong: Vec<WrongDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct WrongDocument<'a> {
    path: &'a str,
    problem: &'static str,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct StoreDocument<'a> {
    schema: &'static str,
    releases: u64,
    bytes: u64,
    wrong: &'a [String],
    broken: &'a [lantern_core::version::ReleaseName],
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    match &args.dir {
        Some(folder) => installed(folder, ui),
        None => store(ui),
    }
}

fn words_of(problem: Problem) -> &'static str {
    match problem {
        Problem::Missing => "missing",
        Problem::Content => "another content",
        Problem::Kind => "something else is there",
        Problem::Executable => "the executable bit is wrong",
        Problem::Unreadable => "cannot be read",
    }
}

fn installed(folder: &Path, ui: &Ui) -> Done {
    let (about, verified) = lantern_project::verify_installed(folder, &ui.progress())?;
    let count = verified.wrong.len() as u64;
    if verified.wrong.is_empty() || ui.json {
        let wrong =
            verified.wrong.iter().map(|w| WrongDocument { path: w.path.as_str(), problem: words_of(w.problem) });
        ui.document(&InstalledDocument {
            schema: "lantern.verify/1",
            installed: about.as_ref(),
            files: verified.files,
            bytes: verified.size,
            wrong: wrong.collect(),
        });
    }
    let name = about.as_ref().map_or_else(|| "the build".to_owned(), |a| format!("{} {}", a.name, a.build.name));
    if verified.wrong.is_empty() {
        let files = format::count(verified.files, "file", "files");
        ui.say(&format!("{} {}: {files}, {}", good("intact:"), strong(name), format::bytes(verified.size)));
        return Ok(());
    }
    for wrong in &verified.wrong {
        ui.say(&format!("  {} {}: {}", bad("wrong"), wrong.path, words_of(wrong.problem)));
    }
    let are = if count == 1 { "is" } else { "are" };
    let what = format!("{count} of {} of {name} {are} wrong", format::count(verified.files, "file", "files"));
    let fix = match &about {
        Some(_) => format!("lantern repair {}", folder.display()),
        None => "install again into the same folder".to_owned(),
    };
    Err(CommandError::damaged(what, fix).said_in(ui))
}

fn store(ui: &Ui) -> Done {
    let found = super::open(ui)?.verify_store(&ui.progress())?;
    ui.document(&StoreDocument {
        schema: "lantern.verify-store/1",
        releases: found.releases,
        bytes: found.size,
        wrong: &found.wrong,
        broken: &found.broken,
    });
    if found.wrong.is_empty() {
        let releases = format::count(found.releases, "release", "releases");
        ui.say(&format!("{} {releases}, {}", good("intact:"), format::bytes(found.size)));
        return Ok(());
    }
    for wrong in &found.wrong {
        ui.say(&format!("  {} {wrong}", bad("wrong")));
    }
    let names: Vec<String> = found.broken.iter().map(ToString::to_string).collect();
    let what = if names.is_empty() {
        "the store contains damaged files; no release needs them".to_owned()
    } else {
        let are = if names.len() == 1 { "is" } else { "are" };
        format!("the store is damaged: {} {are} not whole", names.join(", "))
    };
    let fix = "lantern repair";
    Err(CommandError::damaged(what, fix).said_in(ui))
}
