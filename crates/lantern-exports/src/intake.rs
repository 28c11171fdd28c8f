//! Intake: what an export holds, after the rules, and what is wrong with it. One for check, depots and prepare.

pub mod detect;
pub mod not_a_build;
pub mod package;
mod start;

pub(crate) use start::{START_PAGE, lack_of_package, not_a_package, systems_of};

use std::collections::BTreeSet;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use lantern_core::config::Target;
use lantern_core::digest::Digest;
use lantern_core::digest::blocks::LARGE;
use lantern_core::finding::{Code, Finding, Severity, TextPlace};
use lantern_core::names::Name;
use lantern_core::path::{TreePath, shown};
use lantern_core::progress::{Meter, Progress};
use lantern_core::release::Start;
use lantern_core::system::{Family, System};
use lantern_formats::{MAGIC_LEN, Magic};
use lantern_store::seal::{Source, SourceEntry};

use crate::export::{Export, Form, Listed, Opened, Reading, Replacement};
use lantern_core::stat_data::StatData;

/// Longest path below the folder of the game, in characters as Windows counts them. Windows allows 259 in all; ours: 100
/// of them for where games lie.
const MAX_WINDOWS_PATH: usize = 159;

/// Where exports are taken from.
pub struct Surroundings<'a> {
    /// The project's folder.
    pub root: &'a Path,
    /// Where archives are unpacked that cannot be read in place.
    pub spare: PathBuf,
    /// Says where a value of the configuration stands.
    pub place_of: &'a dyn Fn(&[&str]) -> TextPlace,
}

impl std::fmt::Debug for Surroundings<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Surroundings").field("root", &self.root).finish_non_exhaustive()
    }
}

/// An export after the rules.
#[derive(Debug)]
pub struct Intake<'a> {
    /// Of its target.
    pub name: &'a Name,
    /// Its target.
    pub target: &'a Target,
    export: Export,
    /// What starts it.
    pub starts: Vec<Start>,
    /// What it runs on.
    pub systems: Vec<System>,
    /// Entries that are kept aside, by their place in the export.
    pub aside: BTreeSet<usize>,
    /// By entry: whether the content says that it is a program. Filled while sealing.
    programs: Mutex<Vec<bool>>,
    /// Everything that is worth knowing.
    pub findings: Vec<Finding>,
}

impl<'a> Intake<'a> {
    /// Lists an export and checks what can be checked without reading it whole.
    ///
    /// # Errors
    /// All findings when one stops.
    pub fn take(from: &Surroundings<'_>, name: &'a Name, target: &'a Target) -> Result<Self, Vec<Finding>> {
        let at = |finding: Finding, key: &str| finding.at((from.place_of)(&["targets", name.as_str(), key]));
        let reading = Reading {
            root: from.root,
            spare: from.spare.clone(),
            export: &target.export,
            export_root: target.export_root.as_deref(),
            form: None,
            leave_out: &target.leave_out,
        };
        let found = Export::find(&reading).map_err(|finding| {
            let key = if finding.code == Code::ExportRoot { "export-root" } else { "export" };
            vec![at(*finding, key)]
        })?;
        let (export, left_out) = (found.export, found.left_out);
        let is_note = |f: &Finding| f.severity == Severity::Note;
        let mut findings: Vec<Finding> =
            found.findings.into_iter().map(|f| if is_note(&f) { at(f, "export") } else { f }).collect();
        let paths = || export.entries.iter().map(|e| &e.source.path);
        let unused = |patterns: &lantern_core::patterns::Patterns, over: &[&TreePath], key: &str| -> Vec<Finding> {
            let unused = patterns.without_match(over.iter().copied()).into_iter();
            unused
                .map(|pattern| {
                    let what = format!("{pattern} in {key} matches nothing in the export");
                    at(Finding::of(Code::UnusedPattern, what, "remove it, or fix it so that it matches"), key)
                })
                .collect()
        };
        findings.extend(unused(&target.leave_out, &left_out.iter().collect::<Vec<_>>(), "leave-out"));
        findings.extend(unused(&target.keep_aside, &paths().collect::<Vec<_>>(), "keep-aside"));
        if export.entries.is_empty() && left_out.is_empty() && stops_in(&findings) == 0 {
            let what = format!("the export {} is empty", shown(&export.shown));
            findings.push(at(Finding::of(Code::ExportEmpty, what, "export the game there, or fix the path"), "export"));
            return Err(findings);
        }
        for pattern in target.must_have.without_match(paths()) {
            let what = format!("{pattern} must be in the export and is not");
            findings.push(at(Finding::of(Code::MustHave, what, "export again, or fix must-have"), "must-have"));
        }
        let aside = kept_aside(target, &export);
        let found = start::find(target, &export);
        findings.extend(found.findings.into_iter().map(|(finding, key)| at(finding, key)));
        let (starts, systems) = (found.starts, found.systems);
        for start in &starts {
            let is_aside = aside.iter().any(|i| export.entries[*i].source.path == start.file);
            if is_aside {
                let what = format!("the start file {} is kept aside: players would never get it", start.file);
                findings.push(at(Finding::of(Code::StartAside, what, "fix keep-aside"), "keep-aside"));
            }
        }
        findings.extend(check_names(&systems, paths(), export.links().count()));
        if stops_in(&findings) > 0 {
            return Err(findings);
        }
        let programs = Mutex::new(vec![false; export.entries.len()]);
        Ok(Self { name, target, export, starts, systems, aside, programs, findings })
    }

    /// Lays signed files over the export's own; what stays aside and what is sent is decided again.
    ///
    /// # Errors
    /// Those of the file system; [`io::ErrorKind::AlreadyExists`] where a file would lie that cannot lie there.
    pub fn lay_over(&mut self, files: &[Replacement]) -> io::Result<()> {
        self.export.lay_over(files)?;
        self.aside = kept_aside(self.target, &self.export);
        self.programs = Mutex::new(vec![false; self.export.entries.len()]);
        Ok(())
    }

    /// Everything after the rules, in the order of the paths.
    pub fn entries(&self) -> &[Listed] {
        &self.export.entries
    }

    /// Where the export lies, from the project's folder.
    pub fn found_at(&self) -> &str {
        &self.export.shown
    }

    /// The export itself.
    pub fn export(&self) -> &Export {
        &self.export
    }

    /// Whether the export is one file that stays as it is.
    pub fn is_package(&self) -> bool {
        matches!(self.export.form, Form::Package(_))
    }

    /// Whether an installed copy of the entry gets the executable bit, when its content says `is_program`.
    pub fn executable(&self, path: &TreePath, is_program: bool) -> bool {
        let is_start = !self.is_opened() && self.starts.iter().any(|start| start.file == *path);
        is_program || is_start || self.target.executable.matches(path)
    }

    /// Whether the start file is opened by something else: a page by a browser, a package by its system.
    fn is_opened(&self) -> bool {
        self.is_package() || self.systems.iter().any(|system| !system.family().is_desktop())
    }

    /// Returns the entries of the given places, as a source to seal.
    pub fn part<'b>(&'b self, indices: &'b [usize]) -> (Vec<SourceEntry>, Part<'b>) {
        let entries = indices.iter().map(|i| self.export.entries[*i].source.clone()).collect();
        (entries, Part { intake: self, indices })
    }

    /// Whether an entry's content said that it is a program, the last time it was read.
    pub fn was_program(&self, index: usize) -> bool {
        self.programs.lock().expect("nothing panics with the lock").get(index).copied().unwrap_or(false)
    }

    /// Reads an entry and returns the digest of its bytes; one that changed meanwhile is an error.
    ///
    /// # Errors
    /// Those of reading.
    pub fn digest(
        &self,
        index: usize,
        buffer: &mut [u8],
        meter: &dyn Meter,
        progress: &dyn Progress,
    ) -> io::Result<Digest> {
        self.digest_and_kind(index, buffer, meter, progress).map(|(digest, _)| digest)
    }

    /// Reads an entry and returns the digest of its bytes, and whether they say that it is a program; one that changed
    /// meanwhile is an error.
    pub(crate) fn digest_and_kind(
        &self,
        index: usize,
        buffer: &mut [u8],
        meter: &dyn Meter,
        progress: &dyn Progress,
    ) -> io::Result<(Digest, bool)> {
        let mut from = self.export.open_once(index)?;
        let mut first = Vec::new();
        from.by_ref().take(MAGIC_LEN as u64).read_to_end(&mut first)?;
        let is_program = Magic::of(&first).is_executable();
        let size = self.export.entries.get(index).map_or(0, |entry| entry.source.size());
        let digest = match from {
            // One that is packed can only be read on and on.
            Opened::Anywhere(_) if size >= LARGE => {
                let open = || self.export.open_once(index)?.anywhere(&[]);
                Digest::of_large(size, open, meter, progress)?
            }
            from => Digest::of_reader(&mut first.as_slice().chain(from), buffer, meter, progress)?,
        };
        if self.export.is_unchanged(index)? { Ok((digest, is_program)) } else { Err(io::ErrorKind::InvalidData.into()) }
    }

    /// Returns an entry's stat data.
    pub fn stat(&self, index: usize) -> Option<StatData> {
        self.export.entries.get(index).and_then(|e| e.stat)
    }
}

fn kept_aside(target: &Target, export: &Export) -> BTreeSet<usize> {
    let paths = export.entries.iter().map(|entry| &entry.source.path).enumerate();
    paths.filter(|(_, path)| target.keep_aside.covers(path)).map(|(index, _)| index).collect()
}

/// Some of an export's entries.
#[derive(Debug)]
pub struct Part<'a> {
    intake: &'a Intake<'a>,
    indices: &'a [usize],
}

impl Part<'_> {
    fn index(&self, index: usize) -> io::Result<usize> {
        self.indices.get(index).copied().ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

impl Source for Part<'_> {
    fn open(&self, index: usize) -> io::Result<Box<dyn Read + '_>> {
        Ok(self.intake.export.open(self.index(index)?)?)
    }

    fn is_executable(&self, index: usize, first: &[u8]) -> bool {
        let is_program = Magic::of(first).is_executable();
        let Ok(index) = self.index(index) else { return false };
        let mut programs = self.intake.programs.lock().expect("nothing panics with the lock");
        let (Some(slot), Some(entry)) = (programs.get_mut(index), self.intake.export.entries.get(index)) else {
            return false;
        };
        *slot = is_program;
        self.intake.executable(&entry.source.path, is_program)
    }

    fn is_unchanged(&self, index: usize) -> io::Result<bool> {
        self.intake.export.is_unchanged(self.index(index)?)
    }
}

/// Counts the findings that stop.
pub fn stops_in(findings: &[Finding]) -> usize {
    findings.iter().filter(|f| f.severity == Severity::Error).count()
}

/// Names that the target's systems would refuse or take for one another.
fn check_names<'a>(
    systems: &[System],
    paths: impl Iterator<Item = &'a TreePath> + Clone,
    links: usize,
) -> Vec<Finding> {
    let mut findings = Vec::new();
    let reaches = |family: Family| systems.is_empty() || systems.iter().any(|s| s.family() == family);
    if reaches(Family::Windows) {
        let long = paths.clone().map(|path| (path.as_str().encode_utf16().count(), path));
        if let Some((len, path)) = long.filter(|(len, _)| *len > MAX_WINDOWS_PATH).max() {
            let what = format!("the path of {path} has {len} characters, more than {MAX_WINDOWS_PATH}");
            let fix = "shorten the names of its folders: below the folder of the game it is too long for Windows";
            findings.push(Finding::of(Code::LongPath, what, fix));
        }
        for path in paths.clone() {
            if let Some(why) = lantern_core::portable::refused_by_windows(path) {
                let what = format!("Windows refuses the name {path}: it has {why}");
                findings.push(Finding::of(Code::WindowsName, what, "rename it, or name it in leave-out"));
            }
        }
    }
    if systems.iter().any(|s| s.family() == Family::Windows) && links > 0 {
        let what =
            format!("it contains {links} links, which Windows creates only for administrators and in developer mode");
        let fix = "put the files themselves there, or name the links in leave-out";
        findings.push(Finding::of(Code::WindowsLinks, what, fix));
    }
    if reaches(Family::Windows) || reaches(Family::Macos) {
        for names in lantern_core::portable::colliding_names(paths) {
            let names: Vec<String> = names.iter().map(|name| told_apart(name)).collect();
            let what = format!("these are one name for Windows and macOS: {}", names.join(", "));
            findings.push(Finding::of(Code::CaseConflict, what, "rename all but one"));
        }
    }
    findings
}

/// A name whose letters are said where they are written in another way than usual: two such names look the same.
fn told_apart(name: &str) -> String {
    let marks: Vec<String> = name
        .chars()
        .filter(|c| ('\u{300}'..='\u{36f}').contains(c))
        .map(|c| format!("U+{:04X}", u32::from(c)))
        .collect();
    match marks.as_slice() {
        [] => shown(name),
        _ => format!("{} (with {} as a character of its own)", shown(name), marks.join(", ")),
    }
}
