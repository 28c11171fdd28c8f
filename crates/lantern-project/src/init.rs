//! `init`: writes a commented `lantern.toml` from what it sees and is told.

use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use lantern_core::config::{self, Config};
use lantern_core::event::{EventBody, NumbersBegin};
use lantern_core::system::System;
use lantern_core::version::BuildNumber;
use lantern_formats::program::{Kind, Program};
use lantern_store::durable;

use crate::ProjectError;
use crate::project::{Project, make_state_folder};

/// What is known of the game; whatever is not seen must be told.
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
    /// The export's folder, from the project's folder.
    pub export: String,
    /// A storefront to begin with.
    pub storefront: Option<InitStorefront>,
    /// The last build number that was given, for a game that is out already.
    pub last_number: Option<BuildNumber>,
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
    /// What it calls the depot.
    pub depot: String,
    /// The branch to begin with.
    pub branch: String,
}

/// What looking at an export showed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeenExport {
    /// From the project's folder, with `/`.
    pub path: String,
    /// Programs at its top, with the system each is for.
    pub programs: Vec<(String, System)>,
}

/// Looks for folders that an engine may have written: those with a program at their top.
pub fn look_for_exports(root: &Path) -> Vec<SeenExport> {
    let mut out = Vec::new();
    for folder in [root.to_owned(), root.join("exports"), root.join("export"), root.join("build"), root.join("builds")]
    {
        let Ok(entries) = fs::read_dir(&folder) else { continue };
        let mut names: Vec<PathBuf> = entries.flatten().map(|e| e.path()).filter(|p| p.is_dir()).collect();
        names.sort();
        for path in names {
            let seen = look_at_export(root, &path);
            out.extend(seen.filter(|s| !s.programs.is_empty() && !out.contains(s)));
        }
    }
    out
}

/// Looks at one folder: programs at its top, and in the macOS bundles there.
pub fn look_at_export(root: &Path, folder: &Path) -> Option<SeenExport> {
    let relative = folder.strip_prefix(root).ok()?.to_str()?.replace('\\', "/");
    let mut programs = Vec::new();
    look_for_programs(folder, "", &mut programs);
    for entry in fs::read_dir(folder).ok()?.flatten() {
        if let Some(bundle) = entry.file_name().to_str().filter(|name| name.ends_with(".app")) {
            let inside = format!("{bundle}/Contents/MacOS/");
            look_for_programs(&folder.join(&inside), &inside, &mut programs);
        }
    }
    programs.sort();
    Some(SeenExport { path: relative, programs })
}

fn look_for_programs(folder: &Path, prefix: &str, programs: &mut Vec<(String, System)>) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let Ok(mut file) = fs::File::open(entry.path()) else { continue };
        let Ok(program) = Program::read(&mut file) else { continue };
        if program.kind != Kind::Program {
            continue;
        }
        let system = crate::intake::systems_of(&program).into_iter().next();
        let name = entry.file_name().into_string().ok();
        programs.extend(system.zip(name).map(|(system, name)| (format!("{prefix}{name}"), system)));
    }
}

/// Writes `lantern.toml` and `.lantern/` in `root`; returns the text that was written.
///
/// # Errors
/// [`ProjectError::AlreadyThere`]; [`ProjectError::Config`] when the answers do not make a valid configuration, in which
/// case nothing is written.
pub fn init(root: &Path, answers: &InitAnswers, stop: Arc<AtomicBool>) -> Result<String, ProjectError> {
    let path = root.join(config::FILE_NAME);
    if fs::symlink_metadata(&path).is_ok() {
        return Err(ProjectError::AlreadyThere(path));
    }
    let seen = look_at_export(root, &root.join(&answers.export));
    let text = write(answers, seen.as_ref());
    Config::read(config::FILE_NAME, &text).map_err(ProjectError::Config)?;
    make_state_folder(root)?;
    durable::write_whole(&path, text.as_bytes())?;
    if let Some(last) = answers.last_number {
        let mut project = Project::find(root, stop)?.open()?.lock()?;
        project.open.record(EventBody::NumbersBegin(NumbersBegin { last }), None)?;
    }
    Ok(text)
}

fn quoted(text: &str) -> String {
    serde_json::to_string(text).expect("a text is always JSON")
}

fn write(answers: &InitAnswers, seen: Option<&SeenExport>) -> String {
    let programs = seen.map(|s| s.programs.as_slice()).unwrap_or_default();
    let target = programs.first().map_or("game", |(_, system)| system.family().name());
    let mut out = String::new();
    let mut line = |text: &str| {
        out.push_str(text);
        out.push('\n');
    };
    line("#:schema .lantern/lantern.schema.json");
    line("# What the game is, what its exports are, and where players get it.");
    line("# Paths start at this file's folder and use / on every system. No secret ever stands here.");
    line("");
    line("[game]");
    line(&format!("name = {}", quoted(&answers.name)));
    line(&format!("studio = {}", quoted(&answers.studio)));
    line(&format!("identity = {}  # kept for ever", quoted(&answers.identity)));
    line(&format!("version = {}  # or {{ file = \"VERSION\" }}", quoted(&answers.version)));
    line("");
    line(&format!("[targets.{target}]"));
    line(&format!("export = {}  # the folder that the engine writes; it is never changed", quoted(&answers.export)));
    match programs {
        [(file, system)] => {
            line(&format!("systems = [{}]  # seen in {}", quoted(system.name()), quoted(file)));
            line(&format!("starts = {}", quoted(file)));
        }
        _ => {
            line("# systems = [\"linux-x86_64\"]  # left out: seen from the start file");
            line("# starts = \"FILE\"  # left out: the only program at the top of the export");
        }
    }
    line("# leave-out = [\"notes/**\"]  # what players do not need");
    line("# must-have = [\"*.dat\"]  # without these the export is not whole");
    line("");
    match &answers.storefront {
        Some(place) => {
            let InitStorefront { name, address, handle, depot, branch } = place;
            line(&format!("[storefronts.{name}]"));
            line("kind = \"market\"");
            line(&format!("address = {}", quoted(address)));
            line(&format!("handle = {}  # what the place calls the game", quoted(handle)));
            line(&format!("depots = {{ {target} = {} }}  # ours = theirs", quoted(depot)));
            line("");
            line(&format!("[storefronts.{name}.branches]"));
            let _ = writeln!(out, "{branch} = {{ audience = \"everyone\" }}");
        }
        None => {
            line("# [storefronts.brambleyard]");
            line("# kind = \"market\"");
            line("# address = \"http://127.0.0.1:4870\"  # the stand-in: lantern rehearse");
            line("# handle = \"saltmarsh-post\"  # what the place calls the game");
            line(&format!("# depots = {{ {target} = \"sp-{target}\" }}  # ours = theirs"));
            line("#");
            line("# [storefronts.brambleyard.branches]");
            line("# open-water = { audience = \"everyone\" }");
        }
    }
    out
}
