//! What starts an export, and what it runs on.

use std::collections::BTreeSet;
use std::io::Read;

use lantern_core::config::{Target, TargetStart};
use lantern_core::finding::{Code, Finding, Severity};
use lantern_core::path::{TreePath, shown};
use lantern_core::release::Start;
use lantern_core::system::{Family, System};
use lantern_formats::program::{Form as ProgramForm, Kind, Machine, Program};
use lantern_formats::{FormatError, MAGIC_LEN, Magic, zip};

use super::not_a_build;
use super::package::{Said, said_by};
use crate::export::{Export, Form, Listed, boxed, unreadable};

/// The start page of a browser build.
pub(crate) const START_PAGE: &str = "index.html";

/// What was found, with findings and the keys of the target that they are about.
#[derive(Default)]
pub(super) struct Starts {
    pub starts: Vec<Start>,
    pub systems: Vec<System>,
    pub findings: Vec<(Finding, &'static str)>,
}

impl Starts {
    fn stop(mut self, finding: Finding, key: &'static str) -> Self {
        self.findings.push((finding, key));
        self
    }
}

/// Finds what starts an export, and compares it with the systems that the target says it is for.
pub(super) fn find(target: &Target, export: &Export) -> Starts {
    if let Form::Package(ending) = export.form {
        return package(target, export, ending);
    }
    let wants = |family: Family| target.systems.iter().any(|s| s.family() == family);
    if let Some(system) =
        target.systems.iter().find(|s| matches!(s.family(), Family::Android | Family::Ios | Family::Headset))
    {
        if let Some(finding) = not_a_build::recognise(export) {
            return Starts::default().stop(finding, "export");
        }
        let ending = if wants(Family::Ios) { ".ipa" } else { ".apk or .aab" };
        let what = format!("a build for {system} is one file that ends in {ending}, not a folder or an archive");
        return Starts::default().stop(*boxed(Code::NotAPackage, what, "name that file in export"), "export");
    }
    let has_page = export.place_of(START_PAGE).is_some();
    let is_web = wants(Family::Web)
        || (target.systems.is_empty()
            && target.starts.is_empty()
            && has_page
            && programs_at_the_top(export).is_empty());
    if is_web {
        return web(target, export);
    }
    if !target.needs_start && target.starts.is_empty() {
        return Starts { systems: target.systems.clone(), ..Starts::default() };
    }
    programs(target, export)
}

/// A package is one file; what it is, is seen in what it holds.
fn package(target: &Target, export: &Export, ending: &'static str) -> Starts {
    let out = Starts::default();
    let Some(file) = export.entries.first().map(|e| e.source.path.clone()) else { return out };
    let fits: &[System] = if ending == "ipa" { &[System::Ios] } else { &[System::Android, System::Headset] };
    if let Some(wrong) = target.systems.iter().find(|s| !fits.contains(s)) {
        let names: Vec<&str> = fits.iter().map(System::name).collect();
        let what = format!("{file} is a package for {}, the target has {wrong}", names.join(" or "));
        return out.stop(*boxed(Code::WrongSystem, what, "fix systems, or name the right export"), "systems");
    }
    if let Err(finding) = check_package(export, &file, ending) {
        return out.stop(*finding, "export");
    }
    let systems =
        if target.systems.is_empty() { vec![system_of_package(export, ending)] } else { target.systems.clone() };
    Starts { starts: vec![Start::of(file)], systems, findings: Vec::new() }
}

/// What a package is for.
pub(super) fn system_of_package(export: &Export, ending: &str) -> System {
    if ending == "ipa" {
        return System::Ios;
    }
    match export.hold(0).ok().and_then(said_by) {
        Some(Said::Android(manifest)) if manifest.needs_headset() => System::Headset,
        _ => System::Android,
    }
}

/// What every package of its kind has and this one lacks, in words that follow "is not".
pub(crate) fn lack_of_package<'a>(ending: &str, mut names: impl Iterator<Item = &'a str>) -> Option<&'static str> {
    let (has, words) = match ending {
        "apk" => (names.any(|n| n == "AndroidManifest.xml"), "an Android package: AndroidManifest.xml"),
        "aab" => (
            names.any(|n| n == "base/manifest/AndroidManifest.xml"),
            "an Android bundle: base/manifest/AndroidManifest.xml",
        ),
        _ => (
            names.any(|n| n.starts_with("Payload/") && n.ends_with(".app/Info.plist")),
            "an iOS package: Payload/NAME.app/Info.plist",
        ),
    };
    (!has).then_some(words)
}

/// A package that is none of its kind.
pub(crate) fn not_a_package(file: &str, lack: &str) -> Finding {
    let what = format!("{file} is not {lack} is missing in it");
    Finding::of(Code::BadPackage, what, "name the file that the engine exported for the device")
}

pub(super) fn check_package(export: &Export, file: &TreePath, ending: &str) -> Result<(), Box<Finding>> {
    let mut opened = export.hold(0).map_err(|e| Box::new(unreadable(&file.to_string(), &e)))?;
    let entries =
        zip::read(&mut opened).map_err(|e| boxed(Code::BadPackage, format!("{file}: {e}"), "export it again"))?;
    let names = entries.iter().filter_map(|e| std::str::from_utf8(&e.name).ok());
    match lack_of_package(ending, names) {
        Some(lack) => Err(Box::new(not_a_package(&file.to_string(), lack))),
        None => Ok(()),
    }
}

/// A browser build starts with its page.
fn web(target: &Target, export: &Export) -> Starts {
    let out = Starts::default();
    if let Some(other) = target.systems.iter().find(|s| s.family() != Family::Web) {
        let what = format!("a browser build is for web only, the target has {other} too");
        return out.stop(*boxed(Code::WrongSystem, what, format!("add a target of its own for {other}")), "systems");
    }
    let wanted = target.starts.first().map_or(START_PAGE, |start| start.file.as_str());
    if let Some(index) = export.place_of(wanted) {
        let start = Start::of(export.entries[index].source.path.clone());
        return Starts { starts: vec![start], systems: vec![System::Web], findings: Vec::new() };
    }
    let deeper = export
        .entries
        .iter()
        .filter(|e| e.source.is_file())
        .find_map(|e| e.source.path.as_str().strip_suffix(wanted)?.strip_suffix('/').map(str::to_owned));
    let what = format!("the start page {} is not at the top of {}", shown(wanted), shown(&export.shown));
    let fix = match deeper {
        Some(folder) => format!("it is further down: add export-root = {folder:?}"),
        None => "export for the browser again, or fix starts".to_owned(),
    };
    out.stop(*boxed(Code::StartMissing, what, fix), "export")
}

/// Programs, one for all systems or one for each.
fn programs(target: &Target, export: &Export) -> Starts {
    let mut out = Starts::default();
    let wanted = match target.starts.as_slice() {
        [] => match only_program(export) {
            Ok(file) => vec![TargetStart { file, arguments: Vec::new(), folder: None, systems: Vec::new() }],
            Err(finding) => return out.stop(*finding, "starts"),
        },
        several => several.to_vec(),
    };
    for start in &wanted {
        let index = match find_start(export, &start.file) {
            Ok(index) => index,
            Err(finding) => {
                out.findings.push((*finding, "starts"));
                continue;
            }
        };
        let claimed = if !start.systems.is_empty() || wanted.len() > 1 { &start.systems } else { &target.systems };
        match check_program(export, index, claimed) {
            Ok(systems) => {
                out.systems.extend(systems.into_iter().filter(|s| !out.systems.contains(s)).collect::<Vec<_>>());
            }
            Err(finding) => {
                let key = if finding.code == Code::WrongSystem { "systems" } else { "starts" };
                out.findings.push((*finding, key));
            }
        }
        if let Some(folder) = &start.folder {
            let below = format!("{}/", folder.as_str());
            if !export.entries.iter().any(|e| e.source.path.as_str().starts_with(&below)) {
                let what = format!("the folder {folder} that the game should work in is not in the export");
                out.findings.push((*boxed(Code::StartFolder, what, "fix folder, or leave it out"), "starts"));
            }
        }
        out.starts.push(Start {
            file: export.entries[index].source.path.clone(),
            arguments: start.arguments.clone(),
            folder: start.folder.clone(),
            systems: start.systems.clone(),
        });
    }
    let is_fine = out.findings.iter().all(|(finding, _)| finding.severity != Severity::Error);
    if is_fine && !target.systems.is_empty() {
        let lacking: Vec<&str> =
            target.systems.iter().filter(|s| !holds(&out.systems, **s)).map(System::name).collect();
        if !lacking.is_empty() {
            let what = format!("nothing starts the game on {}", lacking.join(", "));
            out.findings.push((*boxed(Code::WrongSystem, what, "add a start for it, or fix systems"), "systems"));
        }
        out.systems = target.systems.clone();
    }
    out
}

/// A universal program holds what either of its processors needs.
fn holds(seen: &[System], wanted: System) -> bool {
    seen.iter().any(|system| *system == wanted || system.runs_on(wanted))
}

pub(crate) fn programs_at_the_top(export: &Export) -> Vec<(&TreePath, Vec<System>)> {
    let at_the_top = |entry: &&Listed| entry.source.is_file() && is_where_programs_lie(entry.source.path.as_str());
    let indexed = export.entries.iter().enumerate().filter(|(_, e)| at_the_top(e));
    let programs = indexed.filter_map(|(i, e)| Some((&e.source.path, read_program(export, i).ok()?)));
    let started = programs.filter(|(_, program)| program.kind == Kind::Program);
    started.map(|(path, program)| (path, systems_of(&program))).collect()
}

/// The top of the export, and within a macOS bundle there the folder of its programs.
fn is_where_programs_lie(path: &str) -> bool {
    match path.split_once('/') {
        None => true,
        Some((bundle, inside)) => {
            let name = inside.strip_prefix("Contents/MacOS/");
            bundle.ends_with(".app") && name.is_some_and(|name| !name.contains('/'))
        }
    }
}

fn only_program(export: &Export) -> Result<String, Box<Finding>> {
    match programs_at_the_top(export).as_slice() {
        [(one, _)] => Ok(one.as_str().to_owned()),
        [] => {
            if let Some(finding) = not_a_build::recognise(export) {
                return Err(Box::new(finding));
            }
            let what = format!("there is no program at the top of {}", shown(&export.shown));
            let fix = match single_top(export) {
                Some(folder) => format!("everything is in one folder: add export-root = {folder:?}"),
                None => "say which file starts the game: starts = \"FILE\"".to_owned(),
            };
            Err(boxed(Code::NoStart, what, fix))
        }
        several => {
            let names: Vec<String> = several.iter().map(|(path, _)| path.to_string()).collect();
            let what =
                format!("there are several programs at the top of {}: {}", shown(&export.shown), names.join(", "));
            Err(boxed(Code::NoStart, what, format!("say which one starts the game: starts = \"{}\"", names[0])))
        }
    }
}

/// Returns the one folder at the top that holds everything, where there is one that is no bundle.
pub fn single_top(export: &Export) -> Option<String> {
    let tops: BTreeSet<Option<&str>> =
        export.entries.iter().map(|e| e.source.path.as_str().split_once('/').map(|(top, _)| top)).collect();
    match tops.into_iter().collect::<Vec<_>>().as_slice() {
        [Some(top)] if !top.ends_with(".app") => Some((*top).to_owned()),
        _ => None,
    }
}

fn find_start(export: &Export, wanted: &str) -> Result<usize, Box<Finding>> {
    if let Some(index) = export.place_of(wanted) {
        return Ok(index);
    }
    if let Some(to) = export.link_leads_to(wanted) {
        let what = format!("the start file {} is a link to {}", shown(wanted), shown(&to));
        let fix = format!("write what it leads to: starts = {to:?}");
        return Err(boxed(Code::StartMissing, what, fix));
    }
    let what = format!("the start file {} is not in the export", shown(wanted));
    let lower = wanted.to_lowercase();
    let files = || export.entries.iter().filter(|e| e.source.is_file()).map(|e| &e.source.path);
    if let Some(other) = files().find(|p| p.as_str().to_lowercase() == lower) {
        return Err(boxed(Code::StartCase, what, format!("letter case counts: write starts = \"{other}\"")));
    }
    let last = lower.rsplit('/').next().unwrap_or(&lower).to_owned();
    let same_name = |p: &&TreePath| p.as_str().to_lowercase().rsplit('/').next() == Some(last.as_str());
    let Some(other) = files().find(same_name) else {
        return Err(boxed(Code::StartMissing, what, "export again, or fix starts"));
    };
    let fix = match single_top(export) {
        Some(folder) if other.as_str() == format!("{folder}/{wanted}") => {
            format!("everything is in one folder: add export-root = {folder:?}")
        }
        _ => format!("it is at starts = \"{other}\""),
    };
    Err(boxed(Code::StartMissing, what, fix))
}

fn read_program(export: &Export, index: usize) -> Result<Program, FormatError> {
    let mut file = export.hold(index).map_err(FormatError::Io)?;
    Program::read(&mut file)
}

/// Returns the systems that a program was built for, one for Windows and Linux, one or the universal one for macOS.
pub(crate) fn systems_of(program: &Program) -> Vec<System> {
    let has = |machine| program.machines.contains(&machine);
    match program.form {
        ProgramForm::MachO if has(Machine::X86_64) && has(Machine::Aarch64) => vec![System::MacosUniversal],
        ProgramForm::MachO if has(Machine::X86_64) => vec![System::MacosX86_64],
        ProgramForm::MachO if has(Machine::Aarch64) => vec![System::MacosAarch64],
        ProgramForm::Pe if has(Machine::X86_64) => vec![System::WindowsX86_64],
        ProgramForm::Pe if has(Machine::Aarch64) => vec![System::WindowsArm64],
        ProgramForm::Pe if has(Machine::X86) => vec![System::WindowsX86],
        ProgramForm::Elf if has(Machine::X86_64) => vec![System::LinuxX86_64],
        ProgramForm::Elf if has(Machine::Aarch64) => vec![System::LinuxAarch64],
        _ => Vec::new(),
    }
}

/// Compares a start file with the systems that are claimed; without any, it says itself what it is for.
fn check_program(export: &Export, index: usize, claimed: &[System]) -> Result<Vec<System>, Box<Finding>> {
    let file = &export.entries[index].source.path;
    let magic = magic_of(export, index);
    let runs_scripts = |s: &System| matches!(s.family(), Family::Linux | Family::Macos);
    if magic == Some(Magic::Script) && !claimed.is_empty() && claimed.iter().all(runs_scripts) {
        return Ok(claimed.to_vec());
    }
    let program = read_program(export, index).map_err(|e| match e {
        FormatError::Not { .. } => {
            let kind = match magic {
                Some(Magic::Mz) => "it is an old program for DOS",
                Some(Magic::Script) => "it is a script, which starts only on Linux and macOS",
                None => "it is empty",
                Some(_) => "it is data",
            };
            let what = format!("the start file {file} is not a program ({kind})");
            let fix = match magic {
                Some(Magic::Script) if claimed.is_empty() => {
                    "write systems = [\"linux-x86_64\"], or what it is for; or name the program that it starts"
                }
                _ => "name the program itself",
            };
            boxed(Code::NotAProgram, what, fix)
        }
        FormatError::Io(e) => Box::new(unreadable(&file.to_string(), &e)),
        other => boxed(Code::BrokenProgram, format!("the start file {file}: {other}"), "export again"),
    })?;
    if program.kind != Kind::Program {
        let what = format!("the start file {file} is a library, which cannot be started");
        return Err(boxed(Code::NotAProgram, what, "name the program itself"));
    }
    let seen = systems_of(&program);
    let Some(first) = seen.first() else {
        let machines: Vec<String> = program.machines.iter().map(ToString::to_string).collect();
        let what = format!("the start file {file} is for {}, which no target can be", machines.join(", "));
        let known: Vec<&str> = System::ALL.iter().filter(|s| s.family().is_desktop()).map(System::name).collect();
        return Err(boxed(Code::WrongSystem, what, format!("export for one of {}", known.join(", "))));
    };
    if claimed.is_empty() {
        return Ok(seen);
    }
    let lacking: Vec<&str> = claimed.iter().filter(|s| !holds(&seen, **s)).map(System::name).collect();
    if lacking.is_empty() {
        return Ok(claimed.to_vec());
    }
    if lacking.len() < claimed.len() {
        let what = format!("the start file {file} is for {first} only, not for {}", lacking.join(", "));
        let fix = format!("add a target of its own for {}, or give each system its start", lacking.join(", "));
        return Err(boxed(Code::WrongSystem, what, fix));
    }
    let what = format!("the start file {file} is for {first}, the target has {}", lacking.join(", "));
    Err(boxed(Code::WrongSystem, what, "export for the right system, or fix systems"))
}

/// What a file is by its first bytes; none when it is empty or cannot be read.
fn magic_of(export: &Export, index: usize) -> Option<Magic> {
    let mut first = Vec::new();
    export.hold(index).and_then(|f| f.take(MAGIC_LEN as u64).read_to_end(&mut first)).ok()?;
    (!first.is_empty()).then(|| Magic::of(&first))
}
