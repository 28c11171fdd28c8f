use std::path::{Path, PathBuf};

use lantern_core::names::Name;
use lantern_core::system::System;
use lantern_project::{About, InstallDone, ProjectError};
use serde::Serialize;

use super::Done;
use crate::diagnostic::CommandError;
use crate::ui::{Ui, faint, good, strong};
use crate::words;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern install brambleyard open-water ~/games/saltmarsh --start
  lantern install brambleyard open-water try-it --target linux"#;

/// Install or update from a branch, as a player's machine does
///
/// Every file is checked against its digest. An update fetches only what is missing; files that no build brought, such
/// as saved games, are left alone. Broken off at any point, the same command goes on.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml
    storefront: String,
    /// The branch there
    #[arg(value_parser = super::name::<Name>)]
    branch: Name,
    /// The folder to install into; made when it is missing
    dir: PathBuf,
    /// Which target, if not the one for this computer
    #[arg(long, value_parser = super::name::<Name>)]
    target: Option<Name>,
    /// Start it afterwards, and wait until it ends
    #[arg(long)]
    start: bool,
}

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    installed: &'a About,
    before: Option<&'a About>,
    files: u64,
    bytes: u64,
    written_files: u64,
    removed_files: u64,
    received_bytes: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    exit_code: Option<i32>,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let project = super::find(ui)?;
    let progress = ui.progress();
    let done = lantern_project::install_branch(
        &project,
        &args.storefront,
        &args.branch,
        &args.dir,
        args.target.as_ref(),
        &progress,
    )?;
    show(&done, &args.dir, ui);
    let ended = if args.start { Some(start(&args.dir, &done.about, ui)?) } else { None };
    let report = &done.report;
    ui.document(&Document {
        schema: "lantern.install/1",
        installed: &done.about,
        before: done.before.as_ref(),
        files: report.files,
        bytes: report.size,
        written_files: report.written,
        removed_files: report.removed,
        received_bytes: report.received,
        exit_code: ended,
    });
    match ended {
        None | Some(0) => Ok(()),
        Some(code) => Err(CommandError::damaged(
            format!("{} ended with exit code {code}", done.about.starts.file),
            "look at what it printed above; it is the very file that players get",
        )),
    }
}

fn show(done: &InstallDone, folder: &Path, ui: &Ui) {
    let (about, report) = (&done.about, &done.report);
    let name = strong(format!("{} {}", about.name, about.build.name));
    if report.rolled_forward {
        ui.say(&faint("finished an update that was broken off"));
    }
    let nothing = report.written == 0 && report.removed == 0;
    let headline = match &done.before {
        Some(before) if before.build == about.build && nothing => {
            format!("{name} is in {} already, every file as it should be", folder.display())
        }
        Some(before) if before.build == about.build => format!("{} {name} in {}", good("mended"), folder.display()),
        Some(before) => {
            format!("{} {} to {name} in {}", good("updated"), before.build.name, folder.display())
        }
        None => format!("{} {name} in {}", good("installed"), folder.display()),
    };
    ui.say(&headline);
    if !nothing {
        let mut parts = vec![
            format!("{} came", words::bytes(report.received)),
            format!("{} written", words::count(report.written, "file", "files")),
        ];
        if report.removed > 0 {
            parts.push(format!("{} removed", report.removed));
        }
        let all = format!("all {} checked, {}", words::count(report.files, "file", "files"), words::bytes(report.size));
        parts.push(all);
        ui.say(&format!("  {}", parts.join(", ")));
    }
}

fn start(folder: &Path, about: &About, ui: &Ui) -> Result<i32, CommandError> {
    if !System::any_runs_here(&about.systems) {
        let what = format!("{} is for {}, not for this computer", about.starts.file, words::systems(&about.systems));
        return Err(CommandError::usage(what, "start it on such a computer, or install without --start"));
    }
    let (program, arguments, working_folder) = lantern_project::start_of(folder, about);
    ui.say(&format!("\n{} {}", faint("starting"), about.starts.file));
    let mut command = std::process::Command::new(&program);
    command.args(arguments).current_dir(working_folder);
    if ui.json {
        // Standard output belongs to the document.
        command.stdout(std::io::stderr());
    }
    let status = command.status().map_err(|source| ProjectError::Start { file: about.starts.file.clone(), source })?;
    Ok(status.code().unwrap_or(-1))
}
