//! Intake: what an export holds, after the rules, and what is wrong with it.

use std::fs::{self, File, Metadata};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use lantern_core::config::Target;
use lantern_core::finding::{Finding, Severity};
use lantern_core::names::Name;
use lantern_core::path::{TreePath, shown};
use lantern_core::release::Start;
use lantern_core::system::{Family, System};
use lantern_formats::program::{Form, Kind, Machine, Program};
use lantern_formats::{FormatError, MAGIC_LEN, Magic};
use lantern_store::seal::{Source, SourceEntry, SourceKind};
use serde::{Deserialize, Serialize};

use crate::project::{Project, STATE_FOLDER};

/// What the file system says of a file; equal stamps let reading be saved, under the rule in [`crate::seen`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Stamp {
    pub size: u64,
    pub modified_ns: i128,
    pub changed_ns: i128,
    pub inode: u64,
}

impl Stamp {
    #[cfg(unix)]
    pub(crate) fn of(metadata: &Metadata) -> Self {
        use std::os::unix::fs::MetadataExt;
        let ns = |seconds: i64, rest: i64| i128::from(seconds) * 1_000_000_000 + i128::from(rest);
        Self {
            size: metadata.len(),
            modified_ns: ns(metadata.mtime(), metadata.mtime_nsec()),
            changed_ns: ns(metadata.ctime(), metadata.ctime_nsec()),
            inode: metadata.ino(),
        }
    }

    /// Windows: creation time stands for the change of an inode; file ids are not stable everywhere.
    #[cfg(not(unix))]
    pub(crate) fn of(metadata: &Metadata) -> Self {
        let ns = |time: io::Result<std::time::SystemTime>| {
            let since = time.ok().and_then(|t| t.duration_since(std::time::UNIX_EPOCH).ok());
            since.map_or(0, |d| i128::try_from(d.as_nanos()).unwrap_or(0))
        };
        Self {
            size: metadata.len(),
            modified_ns: ns(metadata.modified()),
            changed_ns: ns(metadata.created()),
            inode: 0,
        }
    }
}

/// A folder export after the rules.
#[derive(Debug)]
pub(crate) struct Intake<'a> {
    pub name: &'a Name,
    target: &'a Target,
    /// The export's folder.
    pub folder: PathBuf,
    /// In the order of their paths.
    pub entries: Vec<SourceEntry>,
    /// Of files only; in the order of the entries.
    pub stamps: Vec<Option<Stamp>>,
    /// What starts it, once it is known.
    pub starts: Start,
    pub systems: Vec<System>,
    /// By entry: whether the content says that it is a program. Filled while sealing.
    pub programs: Mutex<Vec<bool>>,
    /// Everything that is wrong or worth knowing.
    pub findings: Vec<Finding>,
}

impl<'a> Intake<'a> {
    /// Lists an export and checks what can be checked without reading it whole.
    ///
    /// # Errors
    /// All findings when one stops.
    pub(crate) fn take(project: &Project, name: &'a Name, target: &'a Target) -> Result<Self, Vec<Finding>> {
        let folder = project.root().join(&target.export);
        let at = |finding: Finding, key: &str| finding.at(project.place_of(&["targets", name.as_str(), key]));
        match fs::metadata(&folder) {
            Ok(m) if m.is_dir() => {}
            Ok(_) => {
                let what = format!("the export {} is a file, not a folder", target.export);
                return Err(vec![at(
                    Finding::stops("export-not-folder", what, "unpack it, and name the folder"),
                    "export",
                )]);
            }
            Err(e) if e.kind() == io::ErrorKind::NotFound => {
                let what = format!("the export {} is not there", target.export);
                let cure = match nearest_sibling(&folder) {
                    Some(near) => {
                        format!("there is a folder {near:?} beside it; mend the path, or export the game there")
                    }
                    None => "export the game there, or mend the path".to_owned(),
                };
                return Err(vec![at(Finding::stops("export-missing", what, cure), "export")]);
            }
            Err(e) => {
                let what = format!("the export {} cannot be read: {e}", target.export);
                return Err(vec![at(
                    Finding::stops("unreadable", what, "give yourself the right to read it"),
                    "export",
                )]);
            }
        }
        let mut walk = Walk { target, folder: &folder, found: Vec::new(), left_out: Vec::new(), findings: Vec::new() };
        walk.run();
        let Walk { mut found, left_out, mut findings, .. } = walk;
        for pattern in target.leave_out.without_match(&left_out) {
            let what = format!("{pattern} in leave-out matches nothing in the export");
            let note = Finding::warns("pattern-unused", what, "remove it, or mend it if something should stay out");
            findings.push(at(note, "leave-out"));
        }
        found.sort_by(|a, b| a.0.path.cmp(&b.0.path));
        let (entries, stamps): (Vec<SourceEntry>, Vec<Option<Stamp>>) = found.into_iter().unzip();
        if entries.is_empty() && left_out.is_empty() && stops_in(&findings) == 0 {
            let what = format!("the export {} is empty", target.export);
            findings
                .push(at(Finding::stops("export-empty", what, "export the game there, or mend the path"), "export"));
            return Err(findings);
        }
        for pattern in target.must_have.without_match(entries.iter().map(|e| &e.path)) {
            let what = format!("{pattern} must be in the export and is not");
            findings.push(at(Finding::stops("must-have", what, "export again, or mend must-have"), "must-have"));
        }
        let starts = find_start(target, &folder, &entries);
        let starts = starts.map_err(|finding| findings.push(at(*finding, "starts"))).ok();
        let systems = starts.as_ref().map(|start| check_program(target, &folder, start));
        let systems = match systems {
            Some(Ok(systems)) => systems,
            Some(Err(finding)) => {
                let key = if finding.code == "wrong-system" { "systems" } else { "starts" };
                findings.push(at(*finding, key));
                Vec::new()
            }
            None => Vec::new(),
        };
        findings.extend(check_names(&systems, &entries));
        let Some(starts) = starts.filter(|_| stops_in(&findings) == 0) else {
            return Err(findings);
        };
        let programs = Mutex::new(vec![false; entries.len()]);
        Ok(Self { name, target, folder, entries, stamps, starts, systems, programs, findings })
    }

    /// Whether an installed copy of the entry gets the executable bit, when its content says `is_program`.
    pub(crate) fn executable(&self, path: &TreePath, is_program: bool) -> bool {
        is_program || *path == self.starts.file || self.target.executable.matches(path)
    }

    fn path(&self, index: usize) -> io::Result<PathBuf> {
        let entry = self.entries.get(index).ok_or(io::ErrorKind::NotFound)?;
        Ok(self.folder.join(entry.path.as_str()))
    }
}

impl Source for Intake<'_> {
    fn open(&self, index: usize) -> io::Result<Box<dyn Read + '_>> {
        Ok(Box::new(File::open(self.path(index)?)?))
    }

    fn is_executable(&self, index: usize, first: &[u8]) -> bool {
        let is_program = Magic::of(first).is_executable();
        let mut programs = self.programs.lock().expect("nothing panics with the lock");
        let (Some(slot), Some(entry)) = (programs.get_mut(index), self.entries.get(index)) else {
            return false;
        };
        *slot = is_program;
        self.executable(&entry.path, is_program)
    }

    fn is_unchanged(&self, index: usize) -> io::Result<bool> {
        let now = Stamp::of(&fs::symlink_metadata(self.path(index)?)?);
        Ok(self.stamps.get(index).copied().flatten() == Some(now))
    }
}

/// Returns the name of a folder beside a missing one that may have been meant.
fn nearest_sibling(folder: &Path) -> Option<String> {
    let wanted = folder.file_name()?.to_str()?;
    let entries = fs::read_dir(folder.parent()?).ok()?.flatten().filter(|e| e.path().is_dir());
    let names: Vec<String> = entries.filter_map(|e| e.file_name().into_string().ok()).collect();
    lantern_core::names::nearest(wanted, names.iter().map(String::as_str)).map(str::to_owned)
}

struct Walk<'a> {
    target: &'a Target,
    folder: &'a Path,
    found: Vec<(SourceEntry, Option<Stamp>)>,
    left_out: Vec<TreePath>,
    findings: Vec<Finding>,
}

impl Walk<'_> {
    /// Walks without recursion: a deep folder must not end the program.
    fn run(&mut self) {
        let mut folders = vec![(self.folder.to_owned(), String::new())];
        while let Some((folder, prefix)) = folders.pop() {
            let entries = match fs::read_dir(&folder).and_then(Iterator::collect::<io::Result<Vec<_>>>) {
                Ok(mut entries) => {
                    entries.sort_by_key(fs::DirEntry::file_name);
                    entries
                }
                Err(e) => {
                    let what = format!("the folder {} cannot be read: {e}", shown(&prefix));
                    self.findings.push(Finding::stops("unreadable", what, "give yourself the right to read it"));
                    continue;
                }
            };
            if entries.is_empty()
                && let Ok(path) = TreePath::new(prefix.trim_end_matches('/'))
                && !self.target.leave_out.matches(&path)
            {
                self.found.push((SourceEntry { path, kind: SourceKind::EmptyFolder }, None));
            }
            for entry in entries {
                self.entry(&entry, &prefix, &mut folders);
            }
        }
    }

    fn entry(&mut self, entry: &fs::DirEntry, prefix: &str, folders: &mut Vec<(PathBuf, String)>) {
        let name = entry.file_name();
        if name == STATE_FOLDER {
            return;
        }
        let Some(name) = name.to_str() else {
            let what = format!("the name {}{} is not UTF-8", shown(prefix), shown(&name.to_string_lossy()));
            self.findings.push(Finding::stops("name", what, "rename the file"));
            return;
        };
        let path = match TreePath::new(format!("{prefix}{name}")) {
            Ok(path) => path,
            Err(e) => {
                self.findings.push(Finding::stops("name", e.to_string(), "rename the file"));
                return;
            }
        };
        if self.target.leave_out.matches(&path) {
            self.left_out.push(path);
            return;
        }
        let metadata = match fs::symlink_metadata(entry.path()) {
            Ok(metadata) => metadata,
            Err(e) => {
                let what = format!("{path} cannot be read: {e}");
                self.findings.push(Finding::stops("unreadable", what, "give yourself the right to read it"));
                return;
            }
        };
        let kind = metadata.file_type();
        if kind.is_dir() {
            folders.push((entry.path(), format!("{path}/", path = path.as_str())));
        } else if kind.is_file() {
            let stamp = Stamp::of(&metadata);
            self.found.push((SourceEntry { path, kind: SourceKind::File { size: stamp.size } }, Some(stamp)));
        } else if kind.is_symlink() {
            self.link(entry, path);
        } else {
            let what = format!("{path} is neither a file nor a folder nor a link");
            self.findings.push(Finding::stops("special-file", what, "remove it, or name it in leave-out"));
        }
    }

    fn link(&mut self, entry: &fs::DirEntry, path: TreePath) {
        let target = fs::read_link(entry.path()).ok().and_then(|t| t.to_str().map(str::to_owned));
        match target {
            Some(target) if path.resolve_link(&target).is_some() => {
                self.found.push((SourceEntry { path, kind: SourceKind::Link { target } }, None));
            }
            target => {
                let target = target.unwrap_or_default();
                let what = format!("{path} is a link to {}, which is outside of the export", shown(&target));
                let cure = "put the file itself there, or name the link in leave-out";
                self.findings.push(Finding::stops("link-leaves", what, cure));
            }
        }
    }
}

/// Counts the findings that stop.
pub(crate) fn stops_in(findings: &[Finding]) -> usize {
    findings.iter().filter(|f| f.severity == Severity::Stops).count()
}

fn stops(code: &str, what: impl Into<String>, cure: impl Into<String>) -> Box<Finding> {
    Box::new(Finding::stops(code, what, cure))
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

fn find_start(target: &Target, folder: &Path, entries: &[SourceEntry]) -> Result<Start, Box<Finding>> {
    let is_file = |entry: &&SourceEntry| matches!(entry.kind, SourceKind::File { .. });
    let Some(wanted) = &target.starts else {
        let tops = entries.iter().filter(is_file).filter(|e| is_where_programs_lie(e.path.as_str()));
        let programs: Vec<&TreePath> = tops.map(|e| &e.path).filter(|path| is_program(folder, path)).collect();
        return match programs.as_slice() {
            [one] => Ok(Start { file: (*one).clone(), arguments: Vec::new() }),
            [] => Err(stops(
                "no-start",
                format!("no program lies at the top of {}", shown(&target.export)),
                "say which file starts the game: starts = \"FILE\"",
            )),
            several => {
                let names: Vec<String> = several.iter().map(ToString::to_string).collect();
                let what =
                    format!("several programs lie at the top of {}: {}", shown(&target.export), names.join(", "));
                Err(stops("no-start", what, format!("say which one starts the game: starts = \"{}\"", names[0])))
            }
        };
    };
    if let Some(found) = entries.iter().filter(is_file).find(|e| e.path.as_str() == wanted.file) {
        return Ok(Start { file: found.path.clone(), arguments: wanted.arguments.clone() });
    }
    let what = format!("the start file {} is not in the export", shown(&wanted.file));
    let lower = wanted.file.to_lowercase();
    if let Some(other) = entries.iter().filter(is_file).find(|e| e.path.as_str().to_lowercase() == lower) {
        let cure = format!("letter case counts: write starts = \"{}\"", other.path);
        return Err(stops("start-case", what, cure));
    }
    let last = lower.rsplit('/').next().unwrap_or(&lower).to_owned();
    let same_name = |e: &&SourceEntry| e.path.as_str().to_lowercase().rsplit('/').next() == Some(last.as_str());
    match entries.iter().filter(is_file).find(same_name) {
        Some(other) => Err(stops("start-missing", what, format!("it lies at starts = \"{}\"", other.path))),
        None => Err(stops("start-missing", what, "export again, or mend starts")),
    }
}

fn read_program(folder: &Path, path: &TreePath) -> Result<Program, FormatError> {
    let mut file = File::open(folder.join(path.as_str())).map_err(FormatError::Io)?;
    Program::read(&mut file)
}

fn is_program(folder: &Path, path: &TreePath) -> bool {
    read_program(folder, path).is_ok_and(|program| program.kind == Kind::Program)
}

/// Returns the systems that a program was built for, one for Windows and Linux, one or the universal one for macOS.
pub(crate) fn systems_of(program: &Program) -> Vec<System> {
    let has = |machine| program.machines.contains(&machine);
    match program.form {
        Form::MachO if has(Machine::X86_64) && has(Machine::Aarch64) => vec![System::MacosUniversal],
        Form::MachO if has(Machine::X86_64) => vec![System::MacosX86_64],
        Form::MachO if has(Machine::Aarch64) => vec![System::MacosAarch64],
        Form::Pe if has(Machine::X86_64) => vec![System::WindowsX86_64],
        Form::Pe if has(Machine::Aarch64) => vec![System::WindowsArm64],
        Form::Pe if has(Machine::X86) => vec![System::WindowsX86],
        Form::Elf if has(Machine::X86_64) => vec![System::LinuxX86_64],
        Form::Elf if has(Machine::Aarch64) => vec![System::LinuxAarch64],
        _ => Vec::new(),
    }
}

/// Holds the start file against the stated systems; without any, it says itself what it is for.
fn check_program(target: &Target, folder: &Path, start: &Start) -> Result<Vec<System>, Box<Finding>> {
    let file = &start.file;
    let program = read_program(folder, file).map_err(|e| match e {
        FormatError::Not { .. } => {
            let what = format!("the start file {file} is not a program ({})", kind_in_words(folder, file));
            stops("not-a-program", what, "name the program itself, not a script or a data file")
        }
        FormatError::Io(e) => {
            stops("unreadable", format!("{file} cannot be read: {e}"), "give yourself the right to read it")
        }
        other => stops("broken-program", format!("the start file {file}: {other}"), "export again"),
    })?;
    if program.kind != Kind::Program {
        let what = format!("the start file {file} is a library, which cannot be started");
        return Err(stops("not-a-program", what, "name the program itself"));
    }
    let seen = systems_of(&program);
    let Some(first) = seen.first() else {
        let machines: Vec<String> = program.machines.iter().map(ToString::to_string).collect();
        let what = format!("the start file {file} is for {}, which no target can be", machines.join(", "));
        let known: Vec<&str> = System::ALL.map(System::name).to_vec();
        return Err(stops("wrong-system", what, format!("export for one of {}", known.join(", "))));
    };
    if target.systems.is_empty() {
        return Ok(seen);
    }
    // A universal program holds what either of its processors needs.
    let holds = |wanted: &System| seen.contains(wanted) || first.runs_on(*wanted);
    let lacking: Vec<&str> = target.systems.iter().filter(|s| !holds(s)).map(|s| s.name()).collect();
    if lacking.is_empty() {
        return Ok(target.systems.clone());
    }
    if lacking.len() < target.systems.len() {
        let what = format!("the start file {file} is for {first} only, not for {}", lacking.join(", "));
        return Err(stops("wrong-system", what, format!("make a target of its own for {}", lacking.join(", "))));
    }
    let what = format!("the start file {file} is for {first}, the target says {}", lacking.join(", "));
    Err(stops("wrong-system", what, "export for the right system, or mend systems"))
}

/// Names that the target's systems would refuse or take for one another.
fn check_names(systems: &[System], entries: &[SourceEntry]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let reaches = |family: Family| systems.iter().any(|s| s.family() == family);
    if reaches(Family::Windows) {
        for entry in entries {
            if let Some(why) = lantern_core::portable::refused_by_windows(&entry.path) {
                let what = format!("Windows refuses the name {}: it has {why}", entry.path);
                findings.push(Finding::stops("windows-name", what, "rename it, or name it in leave-out"));
            }
        }
    }
    if reaches(Family::Windows) || reaches(Family::Macos) {
        for names in lantern_core::portable::colliding_names(entries.iter().map(|e| &e.path)) {
            let names: Vec<String> = names.iter().map(|name| shown(name)).collect();
            let what = format!("these are one name for Windows and macOS: {}", names.join(", "));
            findings.push(Finding::stops("same-name", what, "rename all but one"));
        }
    }
    findings
}

fn kind_in_words(folder: &Path, path: &TreePath) -> &'static str {
    let mut first = Vec::new();
    let read = File::open(folder.join(path.as_str())).and_then(|f| f.take(MAGIC_LEN as u64).read_to_end(&mut first));
    if read.is_err() {
        return "it cannot be read";
    }
    match Magic::of(&first) {
        Magic::Mz => "it is an old program for DOS",
        Magic::Script => "it is a script",
        _ if first.is_empty() => "it is empty",
        _ => "it is data",
    }
}
