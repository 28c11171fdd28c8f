use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};

use lantern_project::{Project, Workspace, in_full};
use lantern_views::help_me;

use super::Done;
use crate::diagnostic::CommandError;
use crate::log_file;
use crate::passphrase::VARIABLE;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern help-me
  lantern help-me for-mika.txt"#;

/// How many logs go in.
const LOGS: usize = 8;
/// How many events go in.
const EVENTS: usize = 60;

/// Put everything that helps to help you into one text file, without secrets
///
/// The logs of the last runs, lantern.toml, the newest events, and facts about this computer. Secrets of storefronts,
/// values of names that sound secret, invitations and your own folder's name are taken out. Read it before you show it to
/// someone.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The file to write; nothing may be there yet. Left out: lantern-help.txt, with a number if it is taken
    file: Option<PathBuf>,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    // A project whose configuration is wrong, or is not there, may be the very reason to ask for help.
    let project = Project::find_to_check(&ui.project, ui.stop.clone());
    let root = match &project {
        Ok(project) => project.root().to_owned(),
        Err(_) => Project::root_above(&ui.project).unwrap_or_else(|| ui.project.clone()),
    };
    let path = match &args.file {
        Some(path) if fs::symlink_metadata(path).is_ok() => {
            let what = format!("{} is there already", path.display());
            return Err(CommandError::usage(what, "name another file; nothing is overwritten"));
        }
        Some(path) => path.clone(),
        None => free_name(),
    };
    let text = without_secrets(&tell(&root, project.and_then(Project::open)))?;
    // Whole or not at all: a full disk may be the very reason to ask for help.
    let written = lantern_store::durable::write_whole(&path, text.as_bytes());
    written.map_err(|e| CommandError::io(&format!("write {}", path.display()), e.source))?;
    let bytes = text.len() as u64;
    ui.answer(&help_me::document(&path, bytes), &help_me::view(&path, bytes));
    Ok(())
}

fn free_name() -> PathBuf {
    let names = std::iter::once("lantern-help.txt".to_owned()).chain((2..).map(|n| format!("lantern-help-{n}.txt")));
    names.map(PathBuf::from).find(|p| fs::symlink_metadata(p).is_err()).unwrap_or_default()
}

fn tell(root: &Path, open: Result<Workspace, lantern_project::ProjectError>) -> String {
    let mut out = String::new();
    let mut part = |title: &str, text: &str| {
        let _ = write!(out, "== {title}\n\n{}\n\n", text.trim_end());
    };
    let here = lantern_core::system::System::this_computer().map_or("none of ours".to_owned(), |s| s.to_string());
    let facts = format!(
        "lantern {}\n{} {} ({here})\n{} processors\nproject {}",
        env!("CARGO_PKG_VERSION"),
        std::env::consts::OS,
        std::env::consts::ARCH,
        std::thread::available_parallelism().map_or(0, usize::from),
        root.display()
    );
    part("facts", &facts);
    let config = fs::read_to_string(root.join("lantern.toml"));
    part("lantern.toml", &config.unwrap_or_else(|e| format!("cannot be read: {e}")));
    match &open {
        Ok(open) => part("ledger and store", &state(open)),
        Err(error) => part("ledger and store", &format!("cannot be opened: {}", in_full(error))),
    }
    let logs = log_file::all(&root.join(".lantern").join("logs"));
    for log in logs.iter().rev().take(LOGS) {
        let name = log.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        part(&format!("log {name}"), &fs::read_to_string(log).unwrap_or_else(|e| format!("cannot be read: {e}")));
    }
    out
}

fn state(open: &Workspace) -> String {
    let mut out = String::new();
    match open.events() {
        Ok(events) => {
            let _ = writeln!(out, "{} events, the newest last:", events.len());
            for event in events.iter().skip(events.len().saturating_sub(EVENTS)) {
                let _ = writeln!(out, "{}", event.to_line());
            }
        }
        Err(error) => {
            let _ = writeln!(out, "the ledger: {}", in_full(&error));
        }
    }
    match open.store.packs() {
        Ok(packs) => {
            let _ = writeln!(out, "{} packs", packs.len());
        }
        Err(error) => {
            let _ = writeln!(out, "the store: {}", in_full(&error));
        }
    }
    out
}

/// Takes out every secret that this computer knows, and the name of the user's own folder.
fn without_secrets(text: &str) -> Result<String, CommandError> {
    let mut secrets = lantern_project::known_secrets()?;
    secrets.extend(["LANTERN_SECRET", VARIABLE].into_iter().filter_map(|name| std::env::var(name).ok()));
    // The longest first: one secret may be a part of another.
    secrets.sort_by_key(|secret| std::cmp::Reverse(secret.len()));
    let mut text = lantern_core::redact::redacted(text);
    for secret in secrets.iter().filter(|secret| secret.len() >= 4) {
        text = text.replace(secret.as_str(), "(secret)");
    }
    if let Some(home) = std::env::home_dir().filter(|home| home.components().count() > 1) {
        text = text.replace(&home.display().to_string(), "~");
    }
    Ok(text)
}
