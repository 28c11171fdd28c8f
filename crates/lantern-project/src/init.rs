//! `init`: writes a commented `lantern.toml` from what it finds and is given.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use lantern_core::config::{self, Audience, Config, STATE_FOLDER};
use lantern_core::patterns::Patterns;
use lantern_core::system::{Family, System};
use lantern_core::version::BuildNumber;
use lantern_exports::export::{Export, Form, Reading};
use lantern_exports::intake::detect;
use lantern_store::durable;
use serde::{Deserialize, Serialize};

use crate::ProjectError;
use crate::project::Project;
use crate::state_folder::make_state_folder;

/// What is known of the game; whatever is not found must be given.
#[derive(Debug, Clone, Default)]
pub struct InitAnswers {
    /// As players know it.
    pub name: String,
    /// Who makes it.
    pub studio: String,
    /// Reverse-domain.
    pub identity: String,
    /// The version.
    pub version: String,
    /// The exports, as they were seen.
    pub exports: Vec<SeenExport>,
    /// A storefront to begin with.
    pub storefront: Option<InitStorefront>,
    /// The number that the first release gets, for a game that is out already.
    pub next_number: Option<BuildNumber>,
}

/// A storefront to begin with.
#[derive(Debug, Clone)]
pub struct InitStorefront {
    /// The project's name for it.
    pub name: String,
    /// Its address.
    pub address: String,
    /// What it calls the title.
    pub handle: String,
    /// What it calls the depots: target = handle.
    pub depots: BTreeMap<String, String>,
    /// The branches to begin with.
    pub branches: Vec<(String, Audience)>,
}

/// What looking at an export showed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeenExport {
    /// From the project's folder, with `/`.
    pub path: String,
    /// What starts it, with the system that each is for.
    pub starts: Vec<(String, System)>,
    /// The one folder that all of it lies in, where the start files lie there.
    pub root: Option<String>,
    /// Programs that lie beside what starts it, such as one that reports crashes.
    pub beside: Vec<String>,
}

/// What looking for exports showed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct FoundExports {
    /// Folders, archives and packages with something that starts.
    pub seen: Vec<SeenExport>,
    /// What lies beside them although nothing at its top starts.
    pub without_start: Vec<String>,
}

/// Answers that were given, kept from the first one on until `lantern.toml` has them all: someone who stops in the middle is
/// not asked twice.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct InitDraft {
    /// As players know it.
    pub name: Option<String>,
    /// Who makes it.
    pub studio: Option<String>,
    /// Reverse-domain.
    pub identity: Option<String>,
    /// The version.
    pub version: Option<String>,
    /// The export, where it was asked for.
    pub export: Option<String>,
}

/// Below the state folder.
const DRAFT: &str = "init.json";

/// Longest file of answers, in bytes. Ours.
const MAX_DRAFT: u64 = 64 * 1024;

impl InitDraft {
    /// Returns what was kept; nothing where none was, or where it cannot be read.
    pub fn load(root: &Path) -> Self {
        let bytes = durable::read_limited(&root.join(STATE_FOLDER).join(DRAFT), MAX_DRAFT).ok();
        bytes.and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default()
    }

    /// Keeps it.
    ///
    /// # Errors
    /// [`ProjectError::ForeignState`], and those of the disk.
    pub fn keep(&self, root: &Path) -> Result<(), ProjectError> {
        make_state_folder(root)?;
        let text = serde_json::to_vec_pretty(self).expect("it has only string keys");
        Ok(durable::write_whole(&root.join(STATE_FOLDER).join(DRAFT), &text)?)
    }
}

/// What the names of folders beside `lantern.toml` begin with that exports are looked for in, in any letter case; and in the
/// folder itself.
pub const EXPORT_FOLDERS: [&str; 5] = ["build", "dist", "export", "out", "release"];

/// Looks for what an engine may have written: folders, archives and packages.
pub fn find_exports(root: &Path) -> FoundExports {
    let mut out = FoundExports::default();
    let names_in = |folder: &str| {
        let entries = fs::read_dir(root.join(folder)).into_iter().flatten().flatten();
        let mut names: Vec<String> = entries.filter_map(|e| e.file_name().into_string().ok()).collect();
        names.sort();
        names
    };
    let holds_exports = |name: &String| {
        let lower = name.to_lowercase();
        EXPORT_FOLDERS.iter().any(|begin| lower.starts_with(begin)) && root.join(name).is_dir()
    };
    let folders: Vec<String> = names_in("").into_iter().filter(|name| holds_exports(name)).collect();
    for folder in std::iter::once("").chain(folders.iter().map(String::as_str)) {
        let names = names_in(folder).into_iter().filter(|name| !name.starts_with('.'));
        for name in names.filter(|name| !folder.is_empty() || !holds_exports(name)) {
            let path = if folder.is_empty() { name } else { format!("{folder}/{name}") };
            let is_export = root.join(&path).is_dir() || Form::of_name(&path).is_some();
            let seen = detect_export(root, &path);
            match seen.starts.is_empty() {
                false => out.seen.push(seen),
                // In the project's own folder lie many things that nobody takes for an export.
                true if is_export && !folder.is_empty() => out.without_start.push(seen.path),
                true => {}
            }
        }
    }
    out
}

/// Looks at one folder, archive or package; one that is none of these or cannot be read shows nothing.
pub fn detect_export(root: &Path, path: &str) -> SeenExport {
    let nothing = || SeenExport { path: path.to_owned(), starts: Vec::new(), root: None, beside: Vec::new() };
    let is_export = root.join(path).is_dir() || Form::of_name(path).is_some();
    if is_export { detect_in(root, path).unwrap_or_else(nothing) } else { nothing() }
}

fn detect_in(root: &Path, path: &str) -> Option<SeenExport> {
    let everything = Patterns::default();
    let spare = std::env::temp_dir();
    let list = |inside: Option<&str>| {
        let reading = Reading {
            root,
            spare: spare.clone(),
            export: path,
            export_root: inside,
            form: None,
            leave_out: &everything,
        };
        Export::find(&reading).ok().map(|found| found.export)
    };
    let export = list(None)?;
    let starts = detect::starts(&export);
    let inside = detect::single_top(&export).filter(|_| starts.is_empty());
    let Some(inside) = inside else {
        let (starts, beside) = detect::likely(&export, starts);
        return Some(SeenExport { path: path.to_owned(), starts, root: None, beside });
    };
    let export = list(Some(&inside))?;
    let (starts, beside) = detect::likely(&export, detect::starts(&export));
    let root = Some(inside).filter(|_| !starts.is_empty());
    Some(SeenExport { path: path.to_owned(), starts, root, beside })
}

/// Returns the names that the targets of exports get: their systems', with a number where one occurs twice.
pub fn target_names(seen: &[SeenExport]) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for export in seen {
        let mut families: Vec<Family> = export.starts.iter().map(|(_, system)| system.family()).collect();
        families.dedup();
        let base = match families.as_slice() {
            [] => "game",
            [one] => one.name(),
            _ => "desktop",
        };
        let stands = |name: &str| names.iter().any(|n| n == name);
        let free = (2..).map(|n| format!("{base}-{n}")).find(|name| !stands(name));
        names.push(if stands(base) { free.unwrap_or_default() } else { base.to_owned() });
    }
    names
}

/// Writes `.lantern/` and then `lantern.toml` in `root`; returns the text that was written. All or nothing: as long as
/// `lantern.toml` is not there nothing was begun, and the same call does all of it.
///
/// # Errors
/// [`ProjectError::AlreadyThere`]; [`ProjectError::Config`] when the answers do not make a valid configuration, in which
/// case nothing is written; [`RecordsError::NumberTaken`](crate::RecordsError::NumberTaken).
pub fn init(root: &Path, answers: &InitAnswers, stop: Arc<AtomicBool>) -> Result<String, ProjectError> {
    let path = root.join(config::FILE_NAME);
    if fs::symlink_metadata(&path).is_ok() {
        return Err(ProjectError::AlreadyThere(path));
    }
    let text = write(answers);
    let config = Config::read(config::FILE_NAME, &text).map_err(ProjectError::Config)?;
    make_state_folder(root)?;
    if let Some(next) = answers.next_number {
        let mut project = Project::beginning(root, config, &text, stop).open()?.lock()?;
        project.set_next_number(next)?;
    }
    // Anyone who finds this file finds everything that belongs to it.
    durable::write_whole(&path, text.as_bytes())?;
    // Nothing reads it beside a lantern.toml.
    match fs::remove_file(root.join(STATE_FOLDER).join(DRAFT)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => log::warn!("{DRAFT} is left over: {error}"),
        _ => {}
    }
    Ok(text)
}

fn quoted(text: &str) -> String {
    serde_json::to_string(text).expect("a text is always JSON")
}

fn write(answers: &InitAnswers) -> String {
    let names = target_names(&answers.exports);
    let mut lines: Vec<String> = vec![
        "#:schema .lantern/lantern.schema.json".to_owned(),
        "# What the game is, what its exports are, and where players get it.".to_owned(),
        "# Paths start at this file's folder and use / on every system. Never write a secret here.".to_owned(),
        String::new(),
        "[game]".to_owned(),
        format!("name = {}", quoted(&answers.name)),
        format!("studio = {}", quoted(&answers.studio)),
        format!("identity = {}  # kept forever", quoted(&answers.identity)),
        format!("version = {}  # or {{ file = \"VERSION\" }}", quoted(&answers.version)),
    ];
    for (index, (name, export)) in names.iter().zip(&answers.exports).enumerate() {
        lines.push(String::new());
        lines.extend(target(name, export, index == 0));
    }
    let first = names.first().map_or("game", String::as_str);
    lines.extend([
        String::new(),
        "# A target is one depot of its own name, unless rules divide it:".to_owned(),
        format!("# [depots.{first}]"),
        format!("# from = \"{first}\""),
        "# leave-out = [\"voices/**\"]".to_owned(),
        "#".to_owned(),
        "# [choices.voices]".to_owned(),
        "# default = \"by-language\"  # of the player's system".to_owned(),
        "#".to_owned(),
        "# [depots.voices-fr]".to_owned(),
        format!("# from = \"{first}\"  # or a list of targets that have the same files there"),
        "# only = [\"voices/fr/**\"]".to_owned(),
        "# choice = { voices = \"fr\" }".to_owned(),
        String::new(),
    ]);
    match &answers.storefront {
        Some(answered) => lines.extend(storefront(answered)),
        None => lines.extend([
            "# [storefronts.brambleyard]".to_owned(),
            "# kind = \"protocol\"".to_owned(),
            "# address = \"http://127.0.0.1:4870\"  # the stand-in: lantern rehearse".to_owned(),
            "# handle = \"saltmarsh-post\"  # what the storefront calls the game".to_owned(),
            format!("# depots = {{ {first} = \"sp-{first}\" }}  # ours = theirs"),
            "#".to_owned(),
            "# [storefronts.brambleyard.branches]".to_owned(),
            "# creek = { audience = \"invited\" }".to_owned(),
            "# open-water = { audience = \"everyone\" }".to_owned(),
        ]),
    }
    lines.join("\n") + "\n"
}

fn target(name: &str, export: &SeenExport, with_hints: bool) -> Vec<String> {
    let mut lines = vec![format!("[targets.{name}]")];
    let hint = if with_hints { "  # what the engine writes; never changed. With * the newest of several" } else { "" };
    lines.push(format!("export = {}{hint}", quoted(&export.path)));
    if let Some(root) = &export.root {
        lines.push(format!("export-root = {}  # everything is in this folder", quoted(root)));
    }
    match export.starts.as_slice() {
        [(file, system)] => {
            lines.push(format!("systems = [{}]  # seen in {}", quoted(system.name()), quoted(file)));
            let beside = match export.beside.as_slice() {
                [] => String::new(),
                beside => format!("  # not {}", beside.join(", ").replace(|c: char| c.is_control(), " ")),
            };
            lines.push(format!("starts = {}{beside}", quoted(file)));
        }
        [] => {
            lines.push("# systems = [\"linux-x86_64\"]  # left out: seen from the start file".to_owned());
            lines.push("# starts = \"FILE\"  # left out: the only program at the top of the export".to_owned());
        }
        several => {
            let systems: Vec<&str> = several.iter().map(|(_, system)| system.name()).collect();
            let is_one_each = systems.iter().enumerate().all(|(i, s)| !systems[..i].contains(s));
            if is_one_each {
                let names: Vec<String> = systems.iter().map(|s| quoted(s)).collect();
                lines.push(format!("systems = [{}]", names.join(", ")));
                lines.push("starts = [".to_owned());
                lines.extend(several.iter().map(|(file, system)| {
                    format!("    {{ run = [{}], systems = [{}] }},", quoted(file), quoted(system.name()))
                }));
                lines.push("]".to_owned());
            } else {
                let names: Vec<&str> = several.iter().map(|(file, _)| file.as_str()).collect();
                lines.push(format!("# starts = {}  # one of {}", quoted(names[0]), names.join(", ")));
            }
        }
    }
    if with_hints {
        lines.push("# leave-out = [\"notes/**\"]  # what players do not need".to_owned());
        lines.push("# keep-aside = [\"*.pdb\"]  # sealed with the rest, never sent".to_owned());
        lines.push("# must-have = [\"*.dat\"]  # without these the export is not whole".to_owned());
    }
    lines
}

fn storefront(storefront: &InitStorefront) -> Vec<String> {
    let InitStorefront { name, address, handle, depots, branches } = storefront;
    let depots: Vec<String> = depots.iter().map(|(ours, theirs)| format!("{ours} = {}", quoted(theirs))).collect();
    let one_line = format!("depots = {{ {} }}  # ours = theirs", depots.join(", "));
    let mut lines = vec![
        format!("[storefronts.{name}]"),
        "kind = \"protocol\"".to_owned(),
        format!("address = {}", quoted(address)),
        format!("handle = {}  # what the storefront calls the game", quoted(handle)),
    ];
    if one_line.chars().count() <= 100 {
        lines.push(one_line);
        lines.push(String::new());
    } else {
        lines.push(String::new());
        lines.push(format!("[storefronts.{name}.depots]  # ours = theirs"));
        lines.extend(depots);
        lines.push(String::new());
    }
    lines.push(format!("[storefronts.{name}.branches]"));
    lines.extend(branches.iter().map(|(branch, who)| format!("{branch} = {{ audience = \"{}\" }}", who.name())));
    lines
}
