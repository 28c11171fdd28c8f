//! `inspect`: what a file or folder is, without any project.

mod android;
mod fact;
mod linux;
mod macos;
mod profile;
mod signer;
mod web;
mod windows;

pub use fact::Fact;

use std::io::{self, Read};
use std::path::Path;

use jiff::Timestamp;
use lantern_core::finding::{Code, Finding, Severity};
use lantern_core::path::shown;
use lantern_core::patterns::Patterns;
use lantern_core::progress::Progress;
use lantern_core::release::Start;
use lantern_core::system::{Family, System};
use lantern_formats::apk::SignedBy;
use lantern_formats::program::{self, Kind, Program};
use lantern_formats::{FormatError, bundle};
use lantern_store::seal::{SourceEntry, SourceKind};

use crate::Stopped;
use crate::export::{Export, Form, ReadSeek, Reading, unreadable};
use crate::intake::{Intake, detect, lack_of_package, not_a_build, not_a_package, systems_of};
use crate::metered_files::OnTheWay;

/// What a library by itself is called.
const LIBRARY: &str = "a library";

/// Whose signature a thing carries, as far as it is known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Signature {
    /// Things of this kind carry none.
    NotUsual,
    /// It could carry one and does not.
    None,
    /// Hashes alone, with nobody's identity behind them; whether they hold.
    AdHoc {
        /// Whether all that they cover is as it was.
        is_intact: bool,
    },
    /// One of an identity. Whether the hashes hold is said where it is known; who signed is not judged yet.
    Identity {
        /// Such as "a team ABCDE12345".
        whose: Option<String>,
        /// Whether all that it covers is as it was; none when that was not verified.
        is_intact: Option<bool>,
    },
}

/// What a file or folder is.
#[derive(Debug, Clone)]
pub struct Inspected {
    /// As it was named.
    pub path: String,
    /// Such as "a folder" or "a ZIP archive"; none for what could not be looked at.
    pub form: Option<&'static str>,
    /// What it runs on.
    pub systems: Vec<System>,
    /// What starts it.
    pub starts: Vec<String>,
    /// What players know it as.
    pub name: Option<String>,
    /// Reverse-domain.
    pub identity: Option<String>,
    /// The version for people.
    pub version: Option<String>,
    /// The number that rises.
    pub number: Option<String>,
    /// The oldest system that it starts on.
    pub needs: Option<String>,
    /// Libraries that it wants when it starts, each once.
    pub libraries: Vec<String>,
    /// The widths of its icon, in pixels.
    pub icon_sizes: Vec<u16>,
    /// Files in it.
    pub files: u64,
    /// Their size, unpacked, in bytes.
    pub size: u64,
    /// What lies on the disk, in bytes.
    pub packed: u64,
    /// Whether and how it is signed.
    pub signature: Signature,
    /// What else is worth knowing: what, and what of it.
    pub facts: Vec<(Fact, String)>,
    /// What is wrong or probably wrong.
    pub findings: Vec<Finding>,
    /// When anything of that is next to be said otherwise although the thing is as it is, in seconds since 1970: a
    /// certificate expires then.
    pub judged_until: Option<i64>,
    /// Programs in it whose signatures were verified, and hold.
    pub verified: Vec<String>,
    /// Who signed a package, if that holds.
    pub package_signer: Option<SignedBy>,
    /// The moment for which all of that is said.
    at: Timestamp,
}

impl Inspected {
    fn new(path: &str, form: &'static str, at: Timestamp) -> Self {
        Self { form: Some(form), ..Self::unseen(path, at) }
    }

    pub(crate) fn unseen(path: &str, at: Timestamp) -> Self {
        Self {
            path: path.to_owned(),
            form: None,
            systems: Vec::new(),
            starts: Vec::new(),
            name: None,
            identity: None,
            version: None,
            number: None,
            needs: None,
            libraries: Vec::new(),
            icon_sizes: Vec::new(),
            files: 0,
            size: 0,
            packed: 0,
            signature: Signature::NotUsual,
            facts: Vec::new(),
            findings: Vec::new(),
            judged_until: None,
            verified: Vec::new(),
            package_signer: None,
            at,
        }
    }

    /// Something is to be said otherwise from a moment on, if it is still to come.
    fn changes_at(&mut self, moment: Option<Timestamp>) {
        let moment = moment.filter(|moment| *moment >= self.at).map(Timestamp::as_second);
        self.judged_until = self.judged_until.into_iter().chain(moment).min();
    }
}

/// What is being found out, and how far it is reported to be.
struct Inspecting<'a> {
    out: &'a mut Inspected,
    /// What is read whole is scanned while it is open.
    on_the_way: Option<&'a dyn OnTheWay>,
    progress: &'a dyn Progress,
}

/// Looks at a file or folder as of `now`; `shown_path` is what it is called in the answer. What keeps it from being looked at is a
/// finding, too.
///
/// # Errors
/// [`Stopped`].
pub fn inspect(path: &Path, shown_path: &str, now: Timestamp, progress: &dyn Progress) -> Result<Inspected, Stopped> {
    let seen = inspect_path(path, shown_path, now, progress).unwrap_or_else(|finding| {
        let mut out = Inspected::unseen(shown_path, now);
        out.findings.push(*finding);
        out
    });
    if progress.stopped() { Err(Stopped) } else { Ok(seen) }
}

/// Looks into an export that was taken in; what starts it is known. `inside` is the export, or a package as the archive that it
/// is; files that are read whole are given to `on_the_way`.
pub(crate) fn inspect_intake(
    intake: &Intake<'_>,
    inside: &Export,
    on_the_way: &dyn OnTheWay,
    now: Timestamp,
    progress: &dyn Progress,
) -> Result<Inspected, Stopped> {
    let export = intake.export();
    let mut out = Inspected::new(&export.shown, export.form.name(), now);
    if let Form::Package(ending) = export.form {
        package(inside, ending, &mut Inspecting { out: &mut out, on_the_way: Some(on_the_way), progress });
    } else {
        let system = |start: &Start| start.systems.iter().chain(&intake.systems).next().copied();
        let starts = intake.starts.iter().filter_map(|start| Some((start.file.as_str().to_owned(), system(start)?)));
        let mut inspecting = Inspecting { out: &mut out, on_the_way: Some(on_the_way), progress };
        inspect_starts(export, &starts.collect::<Vec<_>>(), &mut inspecting);
    }
    if progress.stopped() { Err(Stopped) } else { Ok(out) }
}

/// A package, as the archive that it is.
fn package(inside: &Export, ending: &str, inspecting: &mut Inspecting<'_>) {
    match lack_of_package(ending, inside.entries.iter().map(|entry| entry.source.path.as_str())) {
        Some(lack) => inspecting.out.findings.push(not_a_package("it", lack)),
        None if ending == "ipa" => macos::ios(inside, inspecting),
        None => android::inspect(inside, ending, inspecting),
    }
}

fn inspect_path(
    path: &Path,
    shown_path: &str,
    now: Timestamp,
    progress: &dyn Progress,
) -> Result<Inspected, Box<Finding>> {
    let no = |e: io::Error| {
        let mut finding = unreadable(&shown(shown_path), &e);
        if e.kind() == io::ErrorKind::NotFound {
            finding.fix = Some("name a file or folder that is there".to_owned());
        }
        Box::new(finding)
    };
    let metadata = std::fs::metadata(path).map_err(no)?;
    let mut full = std::path::absolute(path).map_err(no)?;
    if full.file_name().is_none() {
        // It ends with `..`, which says nothing about what it is called.
        full = full.canonicalize().map_err(no)?;
    }
    let name = full.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let form = if metadata.is_dir() { Some(Form::Folder) } else { Form::of_name(&name) };
    let Some(form) = form else {
        // Reading a pipe or a device would wait for ever.
        if !metadata.is_file() {
            let what = format!("{} is neither a file nor a folder", shown(shown_path));
            return Err(Box::new(Finding::of(Code::SpecialFile, what, "name a file or folder")));
        }
        let mut file = std::fs::File::open(&full).map_err(no)?;
        let out = Inspected::new(shown_path, "a file", now);
        return Ok(one_file(&mut file, out, &name, metadata.len(), progress));
    };
    let mut out = Inspected::new(shown_path, form.name(), now);
    let everything = Patterns::default();
    let root = full.parent().unwrap_or(&full);
    let list = |inside: Option<&str>, form: Option<Form>| {
        let spare = std::env::temp_dir();
        let reading = Reading { root, spare, export: &name, export_root: inside, form, leave_out: &everything };
        Export::find(&reading)
    };
    // A package is looked into as the archive that it is.
    let as_archive = matches!(form, Form::Package(_)).then_some(Form::Zip);
    let found = list(None, as_archive)?;
    out.findings.extend(found.findings);
    let mut export = found.export;
    let sources = || export.entries.iter().map(|e| &e.source);
    (out.files, out.size) = (sources().filter(|s| s.is_file()).count() as u64, sources().map(SourceEntry::size).sum());
    out.packed = if form == Form::Folder { out.size } else { metadata.len() };
    if let Form::Package(ending) = form {
        package(&export, ending, &mut Inspecting { out: &mut out, on_the_way: None, progress });
        return Ok(out);
    }
    let mut starts = detect::starts(&export);
    if let (true, Some(inside)) = (starts.is_empty(), detect::single_top(&export)) {
        let deeper = list(Some(&inside), None)?.export;
        starts = detect::starts(&deeper);
        if !starts.is_empty() {
            out.facts.push((Fact::TopFolder, format!("{inside}/")));
            export = deeper;
        }
    }
    let is_bundle = inspect_starts(&export, &starts, &mut Inspecting { out: &mut out, on_the_way: None, progress });
    if out.starts.is_empty() && !is_bundle {
        let none = || {
            let what = "nothing at the top of it starts".to_owned();
            Finding::of(Code::NoStart, what, "is it the folder that the engine wrote?").with_severity(Severity::Warning)
        };
        out.findings.push(not_a_build::recognise(&export).unwrap_or_else(none));
    }
    Ok(out)
}

/// Looks at what starts an export; returns whether it is a bundle itself, which need not start.
fn inspect_starts(export: &Export, starts: &[(String, System)], inspecting: &mut Inspecting<'_>) -> bool {
    // A bundle may be named itself: what is in it lies as if below it.
    if macos::named(export, inspecting).is_some() {
        return true;
    }
    let out = &mut *inspecting.out;
    for (start, system) in starts {
        out.starts.push(start.clone());
        if !out.systems.contains(system) {
            out.systems.push(*system);
        }
    }
    for (start, system) in starts {
        // Several programs for one system: each says something else of itself, so none speaks for all.
        let is_only = starts.iter().filter(|(_, other)| other.family() == system.family()).count() == 1;
        let Some(index) = export.place_of(start) else { continue };
        let out = &mut *inspecting.out;
        match system.family() {
            Family::Web => web::inspect(export, out),
            Family::Macos if is_only => macos::inspect(export, index, inspecting),
            Family::Windows | Family::Linux if is_only => {
                let Some(mut from) = open(export, index, out) else { continue };
                match system.family() {
                    Family::Windows => windows::program(&mut from, Some(export), start, out),
                    _ => linux::program(&mut from, Some(export), start, out),
                }
            }
            _ => {}
        }
    }
    false
}

/// A file by itself: a program, or data.
fn one_file(
    mut from: &mut dyn ReadSeek,
    mut out: Inspected,
    name: &str,
    len: u64,
    progress: &dyn Progress,
) -> Inspected {
    (out.files, out.size, out.packed) = (1, len, len);
    match Program::read(&mut from) {
        Ok(program) => {
            out.form = Some(match program.kind {
                Kind::Program => "a program",
                Kind::Library => LIBRARY,
                _ => "for linkers and debuggers",
            });
            out.systems = systems_of(&program);
            let machines: Vec<String> = program.machines.iter().map(ToString::to_string).collect();
            out.facts.push((Fact::Processor, machines.join(", ")));
            match program.form {
                program::Form::Pe => windows::program(from, None, name, &mut out),
                program::Form::Elf => linux::program(from, None, name, &mut out),
                _ => drop(macos::program(
                    from,
                    None,
                    name,
                    &mut Inspecting { out: &mut out, on_the_way: None, progress },
                )),
            }
        }
        Err(FormatError::Not { .. }) => {
            let mut first = Vec::new();
            let read = from.seek(io::SeekFrom::Start(0)).and_then(|_| from.take(64).read_to_end(&mut first));
            match read {
                Ok(_) => {
                    if let Some((width, height)) = lantern_formats::icon::png_size(&first) {
                        out.form = Some("a picture");
                        out.facts.push((Fact::PictureSize, format!("{width} × {height} pixels")));
                    }
                }
                Err(error) => out.findings.push(unreadable(&shown(name), &error)),
            }
        }
        Err(error) => out.findings.extend(broken(name, &error)),
    }
    out
}

/// What a program that cannot be read as one is reported as. One that is none, such as a script, says so elsewhere.
fn broken(name: &str, error: &FormatError) -> Option<Finding> {
    match error {
        FormatError::Not { .. } => None,
        FormatError::Io(error) => Some(unreadable(&shown(name), error)),
        other => Some(Finding::of(Code::BrokenProgram, format!("{}: {other}", shown(name)), "export again")),
    }
}

/// What a signature that does not hold is reported as.
fn signature_broken(whose: &str, why: &str) -> Finding {
    let what = format!("{whose} is not valid: {why}");
    Finding::of(Code::BrokenSignature, what, "sign it again, as the very last step")
}

/// What is said of an icon that is missing or small.
fn icon_findings(name: &str, sizes: &[u16], wanted: u16, fix: &str) -> Option<Finding> {
    match sizes.last() {
        None => {
            Some(Finding::of(Code::NoIcon, format!("{name} has no icon"), "set one in the engine and export again"))
        }
        Some(size) if *size < wanted => {
            Some(Finding::of(Code::SmallIcon, format!("the largest icon of {name} has {size} pixels"), fix))
        }
        Some(_) => None,
    }
}

/// Follows a path from a folder of the export; none where it leaves the export.
fn path_from(folder: &str, rest: &str) -> Option<String> {
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in rest.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()?),
            other => parts.push(other),
        }
    }
    Some(parts.join("/"))
}

/// The widths of pictures, in pixels and in rising order; what is none, or cannot be read, has none.
fn picture_sizes<'a>(export: &Export, paths: impl Iterator<Item = &'a str>) -> Vec<u16> {
    let width = |path: &str| {
        let mut first = Vec::new();
        export.open(export.place_of(path)?).ok()?.take(64).read_to_end(&mut first).ok()?;
        let size = lantern_formats::icon::png_size(&first).or_else(|| lantern_formats::icon::webp_size(&first))?;
        u16::try_from(size.0).ok()
    };
    let mut sizes: Vec<u16> = paths.filter_map(width).collect();
    sizes.sort_unstable();
    sizes.dedup();
    sizes
}

/// Libraries that are neither part of a system nor in the export, for a sentence; none where nothing is missing.
fn missing_libraries(
    export: &Export,
    libraries: &[String],
    case_counts: bool,
    is_of_system: impl Fn(&str) -> bool,
) -> Option<String> {
    let fits =
        |file: &str, library: &str| if case_counts { file == library } else { file.eq_ignore_ascii_case(library) };
    let is_there = |library: &str| {
        let entries = export.entries.iter().filter(|e| !matches!(e.source.kind, SourceKind::EmptyFolder));
        let mut names = entries.filter_map(|entry| entry.source.path.as_str().rsplit('/').next());
        names.any(|file| fits(file, library))
    };
    let missing = libraries.iter().filter(|library| !is_of_system(library) && !is_there(library));
    let missing: Vec<String> = missing.map(|library| shown(library)).collect();
    (!missing.is_empty()).then(|| missing.join(", "))
}

/// Reads a small file whole; what cannot be read is reported.
fn small_file(export: &Export, path: &str, out: &mut Inspected) -> Option<Vec<u8>> {
    bundle::read_small(export, path).unwrap_or_else(|error| {
        out.findings.push(unreadable(&shown(path), &error));
        None
    })
}

/// Opens a program so that it can be read at any place; what cannot be opened is reported.
fn open(export: &Export, index: usize, out: &mut Inspected) -> Option<Box<dyn ReadSeek>> {
    export.hold(index).map_err(|e| out.findings.push(unreadable(&export.entries[index].source.path.shown(), &e))).ok()
}

#[cfg(test)]
mod tests;
