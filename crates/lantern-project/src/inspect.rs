//! `inspect`: what a file or folder is, without any project.

mod android;
mod linux;
mod macos;
mod web;
mod windows;

use std::io::{Cursor, Read};
use std::path::Path;

use lantern_core::finding::Finding;
use lantern_core::path::shown;
use lantern_core::patterns::Patterns;
use lantern_core::system::{Family, System};
use lantern_formats::FormatError;
use lantern_formats::program::Program;

use crate::export::{Export, Form, Listed, ReadSeek, Reading};
use crate::intake::{look, size_of};

/// Longest small file that is read whole to look at it, in bytes: icons, property lists, pages.
const MAX_SMALL_LEN: u64 = 16 * 1024 * 1024;

/// Whose signature a thing carries, as far as it can be told.
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
    /// Such as "a folder" or "a ZIP archive".
    pub form: &'static str,
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
    pub facts: Vec<(&'static str, String)>,
    /// What is wrong or probably wrong.
    pub findings: Vec<Finding>,
}

impl Inspected {
    fn new(path: &str, form: &'static str) -> Self {
        Self {
            path: path.to_owned(),
            form,
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
        }
    }
}

/// Looks at a file or folder; `shown_path` is what it is called in the answer.
///
/// # Errors
/// The one finding that keeps it from being looked at.
pub fn inspect(path: &Path, shown_path: &str) -> Result<Inspected, Box<Finding>> {
    let unreadable = |e: std::io::Error| {
        let cure = match e.kind() {
            std::io::ErrorKind::NotFound => "name a file or folder that is there",
            _ => "give yourself the right to read it",
        };
        Box::new(Finding::stops("unreadable", format!("{} cannot be read: {e}", shown(shown_path)), cure))
    };
    let metadata = std::fs::metadata(path).map_err(unreadable)?;
    let full = std::path::absolute(path).map_err(unreadable)?;
    let name = full.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let form = if metadata.is_dir() { Some(Form::Folder) } else { Form::of_name(&name) };
    let Some(form) = form else {
        // Reading a pipe or a device would wait for ever.
        if !metadata.is_file() {
            let what = format!("{} is neither a file nor a folder", shown(shown_path));
            return Err(Box::new(Finding::stops("special-file", what, "name a file or folder")));
        }
        let mut file = std::fs::File::open(&full).map_err(unreadable)?;
        return Ok(one_file(&mut file, shown_path, &name, metadata.len()));
    };
    let mut out = Inspected::new(shown_path, form.name());
    let everything = Patterns::default();
    let root = full.parent().unwrap_or(&full);
    let list = |inside: Option<&str>, form: Option<Form>| {
        let spare = std::env::temp_dir();
        let reading = Reading { root, spare, export: &name, export_root: inside, form, leave_out: &everything };
        Export::find(&reading)
    };
    // A package is looked into as the archive that it is.
    let as_archive = matches!(form, Form::Package(_)).then_some(Form::Zip);
    let mut found = list(None, as_archive)?;
    out.findings.append(&mut found.findings);
    let mut export = found.export;
    let sizes = |export: &Export| export.entries.iter().map(|e| size_of(&e.source)).sum();
    (out.files, out.size) = (export.entries.iter().filter(|e| is_file(e)).count() as u64, sizes(&export));
    out.packed = if form == Form::Folder { out.size } else { metadata.len() };
    if let Form::Package(ending) = form {
        match ending {
            "ipa" => macos::ios(&export, &mut out),
            _ => android::look(&export, &full, ending, &mut out),
        }
        return Ok(out);
    }
    // A bundle may be named itself: what is in it lies as if below it.
    if name.ends_with(".app") && index_of(&export, "Contents/Info.plist").is_some() {
        out.form = "a bundle";
        macos::bundle(&export, "", &name, &mut out);
        return Ok(out);
    }
    let mut starts = look::starts(&export);
    if let (true, Some(inside)) = (starts.is_empty(), look::single_top(&export)) {
        let deeper = list(Some(&inside), None)?.export;
        starts = look::starts(&deeper);
        if !starts.is_empty() {
            out.facts.push(("all lies in", format!("{inside}/")));
            export = deeper;
        }
    }
    for (start, system) in &starts {
        out.starts.push(start.clone());
        if !out.systems.contains(system) {
            out.systems.push(*system);
        }
    }
    // Several programs for one system: each says something else of itself, so none speaks for all.
    let families: Vec<Family> = out.systems.iter().map(|s| s.family()).collect();
    for (start, system) in &starts {
        let is_only = starts.iter().filter(|(_, other)| other.family() == system.family()).count() == 1;
        let Some(index) = index_of(&export, start) else { continue };
        match system.family() {
            Family::Windows if is_only => {
                windows::program(&mut open(&export, index), Some(&export), start, &mut out);
            }
            Family::Linux if is_only => linux::program(&mut open(&export, index), Some(&export), start, &mut out),
            Family::Macos if is_only => macos::look(&export, index, &mut out),
            Family::Web => web::look(&export, &mut out),
            _ => {}
        }
    }
    if families.is_empty() {
        let what = "nothing at the top of it starts".to_owned();
        out.findings.push(Finding::warns("no-start", what, "is it the folder that the engine wrote?"));
    }
    Ok(out)
}

/// A file by itself: a program, or data.
fn one_file(file: &mut dyn ReadSeek, path: &str, name: &str, len: u64) -> Inspected {
    let mut out = Inspected::new(path, "a file");
    (out.files, out.size, out.packed) = (1, len, len);
    let mut from = file;
    match Program::read(&mut from) {
        Ok(program) => {
            out.form = match program.kind {
                lantern_formats::program::Kind::Program => "a program",
                lantern_formats::program::Kind::Library => "a library",
                _ => "for linkers and debuggers",
            };
            out.systems = crate::intake::systems_of(&program);
            let machines: Vec<String> = program.machines.iter().map(ToString::to_string).collect();
            out.facts.push(("processor", machines.join(", ")));
            match program.form {
                lantern_formats::program::Form::Pe => windows::program(from, None, name, &mut out),
                lantern_formats::program::Form::Elf => linux::program(from, None, name, &mut out),
                _ => macos::program(from, None, name, &mut out),
            }
        }
        Err(FormatError::Not { .. }) => {
            let mut first = Vec::new();
            let _ = from.seek(std::io::SeekFrom::Start(0)).and_then(|_| from.take(64).read_to_end(&mut first));
            if let Some((width, height)) = lantern_formats::icon::png_size(&first) {
                out.form = "a picture";
                out.facts.push(("size", format!("{width} × {height} pixels")));
            }
        }
        Err(error) => out.findings.push(broken(name, &error)),
    }
    out
}

/// What a file that cannot be read as what it seems to be is reported as.
fn broken(name: &str, error: &FormatError) -> Finding {
    let why = match error {
        FormatError::Io(e) => e.to_string(),
        other => other.to_string(),
    };
    Finding::stops("broken-program", format!("{}: {why}", shown(name)), "export again")
}

fn is_file(entry: &Listed) -> bool {
    entry.stamp.is_some()
}

/// The place of a file in an export.
fn index_of(export: &Export, path: &str) -> Option<usize> {
    export.entries.iter().position(|e| is_file(e) && e.source.path.as_str() == path)
}

/// Whether a file of this name lies in the same folder or, for Windows, anywhere whatever the letter case.
fn has_file_named(export: &Export, name: &str, case_counts: bool) -> bool {
    let last = |entry: &Listed| entry.source.path.as_str().rsplit('/').next().unwrap_or_default().to_owned();
    let fits = |file: String| if case_counts { file == name } else { file.eq_ignore_ascii_case(name) };
    export
        .entries
        .iter()
        .any(|entry| !matches!(entry.source.kind, lantern_store::seal::SourceKind::EmptyFolder) && fits(last(entry)))
}

/// Reads a small file whole; none when it is not there, too large or cannot be read.
fn small_file(export: &Export, path: &str) -> Option<Vec<u8>> {
    let index = index_of(export, path)?;
    let mut bytes = Vec::new();
    export.open(index).ok()?.take(MAX_SMALL_LEN + 1).read_to_end(&mut bytes).ok()?;
    (bytes.len() as u64 <= MAX_SMALL_LEN).then_some(bytes)
}

/// An opened program, so that it can be read at any place.
fn open(export: &Export, index: usize) -> Box<dyn ReadSeek> {
    export.open_anywhere(index).unwrap_or_else(|_| Box::new(Cursor::new(Vec::new())))
}
