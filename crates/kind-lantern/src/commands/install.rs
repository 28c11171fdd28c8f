use std::path::{Path, PathBuf};

use lantern_core::names::Name;
use lantern_core::system::System;
use lantern_project::{About, InstallDone, InstallWanted};
use serde::Serialize;

use super::Done;
use crate::diagnostic::CommandError;
use crate::ui::{Ui, faint, good, strong};
use crate::words;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern install brambleyard open-water ~/games/saltmarsh --start
  lantern install brambleyard creek try-it --target linux --with voices-fr"#;

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
    /// The folder to install into; made when it is missing. Left out: one of the name that the build states, here
    dir: Option<PathBuf>,
    /// Which target, if not the one for this computer
    #[arg(long, value_parser = super::name::<Name>)]
    target: Option<Name>,
    /// A depot that not everybody has, such as a language; again for more. It stays over updates
    #[arg(long, value_name = "DEPOT", value_parser = super::name::<Name>)]
    with: Vec<Name>,
    /// Such a depot that is to go again
    #[arg(long, value_name = "DEPOT", value_parser = super::name::<Name>)]
    without: Vec<Name>,
    /// Start it afterwards, and wait until it ends
    #[arg(long)]
    start: bool,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    #[cfg_attr(test, schemars(with = "String"))]
    folder: &'a Path,
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
    let wanted = InstallWanted {
        target: args.target.clone(),
        with: args.with.clone(),
        without: args.without.clone(),
        folder: args.dir.clone(),
    };
    let done = lantern_project::install_branch(&project, &args.storefront, &args.branch, &wanted, &progress)?;
    show(&done, &done.folder, ui);
    let ended = if args.start { Some(start(&done.folder, &done.about, ui)?) } else { None };
    let report = &done.report;
    ui.document(&Document {
        schema: "lantern.install/1",
        folder: &done.folder,
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
            format!("{} ended with exit code {code}", done.about.name),
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
    if !about.with.is_empty() {
        ui.say(&format!("  {} {}", faint("with"), words::names(&about.with)));
    }
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
    let found = lantern_project::start_of(folder, about).filter(|_| System::any_runs_here(&about.systems));
    let Some((program, arguments, working_folder)) = found else {
        let what = match about.starts.first() {
            Some(start) => format!("{} is for {}, not for this computer", start.file, words::systems(&about.systems)),
            None => format!("nothing in {} is started", about.name),
        };
        return Err(CommandError::usage(what, "start it where it belongs, or install without --start"));
    };
    super::start_program(&program, &arguments, &working_folder, ui)
}
