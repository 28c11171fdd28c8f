//! What should not be in an export: litter, sources, debug data, secrets; and texts that must or must not.

use std::sync::Mutex;

use lantern_core::finding::{Code, Finding, Severity, join_some};
use lantern_core::parallel::{each, processors};
use lantern_core::path::{TreePath, shown};
use lantern_core::progress::Progress;
use lantern_core::release::Start;
use lantern_core::secrets;
use lantern_store::seal::SourceEntry;

use crate::Stopped;
use crate::cache::ScanCache;
use crate::export::Export;
use crate::facts::Facts;
use crate::intake::Intake;
use crate::intake::not_a_build::ARCHIVES;
use crate::metered::Metering;
use crate::scan::{self, BinaryScan, FileScan, Scanning, SignedBy, TooNew};

/// Most files that one finding names.
const MAX_NAMED: usize = 5;
/// Page size of newer Android devices, in bytes.
const LARGE_PAGE_LEN: u64 = 16 * 1024;
/// An archive that is this part of an export is the export, packed twice.
const MAIN_PART_PERCENT: u64 = 50;

/// Kinds of files that are recognised by their names, each with its code, words and fix.
const KINDS: [(Code, &str, &str); 3] = [
    (Code::Litter, "files left behind by systems and editors", "name them in leave-out, or remove them"),
    (Code::SourceFiles, "sources", "name them in leave-out"),
    (Code::EditorFiles, "files of drawing and modelling programs", "name them in leave-out"),
];

/// What a file is by its name: an index into [`KINDS`].
fn kind_of(path: &TreePath) -> Option<usize> {
    const LITTER: [&str; 5] = [".ds_store", "thumbs.db", "desktop.ini", ".gitignore", ".gitattributes"];
    const LITTER_FOLDERS: [&str; 7] = [".git", ".svn", ".hg", "__macosx", ".vscode", ".idea", ".vs"];
    const SOURCES: [&str; 14] =
        ["c", "cc", "cpp", "cxx", "h", "hpp", "cs", "rs", "java", "kt", "swift", "mm", "csproj", "vcxproj"];
    const EDITORS: [&str; 13] =
        ["blend", "blend1", "psd", "kra", "xcf", "aseprite", "clip", "spp", "sbs", "ma", "max", "ai", "afdesign"];
    let lower = path.as_str().to_ascii_lowercase();
    let name = lower.rsplit('/').next().unwrap_or(&lower);
    let is_below = |folder: &&str| lower.starts_with(&format!("{folder}/")) || lower.contains(&format!("/{folder}/"));
    let is_litter = LITTER.contains(&name)
        || name.starts_with("._")
        || name.ends_with('~')
        || name.ends_with(".swp")
        || LITTER_FOLDERS.iter().any(is_below);
    let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
    match ending {
        _ if is_litter => Some(0),
        // Maps from what was packed together for the browser back to its sources, which mostly stand in them.
        "map" if [".js.map", ".css.map", ".wasm.map"].iter().any(|ending| name.ends_with(ending)) => Some(1),
        ending if SOURCES.contains(&ending) => Some(1),
        ending if EDITORS.contains(&ending) => Some(2),
        _ => None,
    }
}

fn all_shown(paths: &[&TreePath]) -> Vec<String> {
    paths.iter().map(|path| path.shown()).collect()
}

fn named(paths: &[String]) -> String {
    join_some(paths, MAX_NAMED)
}

/// Everything that looking at names and reading files shows; `others` are names of other editions, with what they are.
pub(crate) fn findings(
    target: &str,
    intake: &Intake<'_>,
    facts: &Facts<'_>,
    verified: &[String],
    others: &[(String, String)],
    cache: &mut ScanCache,
    progress: &dyn Progress,
) -> Result<(Vec<Finding>, Vec<WindowsProgram>), Stopped> {
    let mut findings = Vec::new();
    let export = facts.export;
    let is_sent = |index: &usize| facts.is_inside || !intake.aside.contains(index);
    let files: Vec<usize> =
        (0..export.entries.len()).filter(|i| export.entries[*i].source.is_file()).filter(is_sent).collect();
    if !intake.is_package() {
        findings.extend(by_name(export, &files));
    }
    let scanned = scan_all(target, facts, &files, verified, cache, progress)?;
    if facts.is_inside {
        findings.extend(small_pages(&scanned));
    }
    for (name, what) in others {
        let paths: Vec<&TreePath> =
            scanned.iter().filter(|(_, scanned)| scanned.names.contains(name)).map(|(path, _)| path).collect();
        if !paths.is_empty() {
            let what = format!("{} mentions {}, {what}", named(&all_shown(&paths)), shown(name));
            let fix = "is it the export of the right edition? If this is intended, accept it with a reason";
            findings.push(Finding::of(Code::OtherEditionNamed, what, fix).about(paths));
        }
    }
    findings.extend(debug_data(&intake.starts, &scanned));
    findings.extend(programs(&intake.starts, &scanned));
    for (path, scanned) in &scanned {
        let Some((what, line)) = &scanned.secret else { continue };
        let place = if *line == 0 { String::new() } else { format!(", line {line}") };
        let what = format!("{path}{place} looks like {what}");
        let fix = "take it out, and replace it where it was used; if it is not a secret, accept it with a reason";
        findings.push(Finding::of(Code::Secret, what, fix).about([path]));
    }
    let mentioning = |text: &String| -> Vec<&TreePath> {
        scanned.iter().filter(|(_, scanned)| scanned.mentions.contains(text)).map(|(path, _)| path).collect()
    };
    for text in intake.target.must_mention.iter().filter(|text| mentioning(text).is_empty()) {
        let what = format!("no file mentions {:?}, which must be in it", shown(text));
        findings.push(Finding::of(Code::MustMention, what, "export the right edition, or fix must-mention"));
    }
    for text in &intake.target.must_not_mention {
        let paths = mentioning(text);
        if !paths.is_empty() {
            let what = format!("{:?} must not be in it, and is in {}", shown(text), named(&all_shown(&paths)));
            let fix = "export the right edition, or fix must-not-mention";
            findings.push(Finding::of(Code::MustNotMention, what, fix).about(paths));
        }
    }
    let windows = scanned.into_iter().filter_map(|(path, scanned)| {
        let binary = scanned.program.filter(|binary| binary.is_for_windows)?;
        Some(WindowsProgram { path, signed_by: binary.signed_by })
    });
    Ok((findings, windows.collect()))
}

/// A program or library for Windows in an export.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WindowsProgram {
    /// Where it lies.
    pub path: TreePath,
    /// Who signed it, if that holds.
    pub signed_by: Option<SignedBy>,
}

/// What names alone show.
fn by_name(export: &Export, files: &[usize]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let sources: Vec<&SourceEntry> = files.iter().map(|index| &export.entries[*index].source).collect();
    for (kind, (code, words, fix)) in KINDS.iter().enumerate() {
        let found: Vec<&TreePath> =
            sources.iter().map(|source| &source.path).filter(|path| kind_of(path) == Some(kind)).collect();
        if !found.is_empty() {
            let what = format!("it contains {words}: {}", named(&all_shown(&found)));
            findings.push(Finding::of(*code, what, *fix).about(found));
        }
    }
    let total: u64 = sources.iter().map(|source| source.size()).sum();
    let archive = sources.iter().find(|source| {
        let lower = source.path.as_str().to_ascii_lowercase();
        ARCHIVES.iter().any(|ending| lower.ends_with(ending)) && source.size() * 100 >= total * MAIN_PART_PERCENT
    });
    if let Some(archive) = archive {
        let what = format!("most of it is the archive {}: the game seems to be packed twice", archive.path);
        let finding = Finding::of(Code::ArchiveInside, what, "unpack it, and name what was in it");
        findings.push(finding.about([&archive.path]));
    }
    findings
}

/// Looks into every file, or remembers what was in it; those that show nothing are not listed.
fn scan_all(
    target: &str,
    facts: &Facts<'_>,
    files: &[usize],
    verified: &[String],
    cache: &mut ScanCache,
    progress: &dyn Progress,
) -> Result<Vec<(TreePath, FileScan)>, Stopped> {
    let (export, wanted) = (facts.export, &facts.wanted);
    let mut known = cache.get(target, wanted, export, files);
    let is_new = known.contains(&None);
    for (known, index) in known.iter_mut().zip(files).filter(|(known, _)| known.is_none()) {
        *known = facts.scanned(*index);
    }
    // What is read whole counts whole; of large files that are none of our business the first bytes are read.
    let todo: Vec<(usize, usize)> =
        files.iter().enumerate().filter(|(i, _)| known[*i].is_none()).map(|(i, index)| (i, *index)).collect();
    let size = |index: usize| export.entries[index].source.size();
    let is_whole = |index: &usize| !wanted.texts.is_empty() || size(*index) <= secrets::MAX_TEXT_LEN;
    let watch = Metering::start(progress, todo.iter().map(|(_, i)| *i).filter(is_whole).map(size).sum());
    let found = Mutex::new(known);
    each(
        &todo,
        processors(),
        || (),
        |(), _, (place, index)| {
            // One that cannot be read is found out when it is sealed, with its own words; nothing is remembered of it.
            let seen = scan::scan(export, *index, Scanning { wanted, verified, watch: &watch }).ok();
            if progress.stopped() {
                return Err(Stopped);
            }
            found.lock().expect("nothing panics with the lock")[*place] = seen;
            Ok(())
        },
    )?;
    let found = found.into_inner().expect("nothing panics with the lock");
    if is_new {
        cache.set(target, wanted, export, files, &found);
    }
    let paths = files.iter().map(|index| &export.entries[*index].source.path);
    let scanned = paths.zip(found).filter_map(|(path, seen)| Some((path.clone(), *seen??)));
    Ok(scanned.collect())
}

/// Data for debuggers: files of it, by the program that they belong to, and programs that hold it themselves.
fn debug_data(starts: &[Start], scanned: &[(TreePath, FileScan)]) -> Vec<Finding> {
    let binaries = || scanned.iter().filter_map(|(path, scanned)| Some((path, scanned.program.as_ref()?)));
    // The program that has this in common with it, and is not debug data itself.
    let owner = |id: &Vec<u8>, own: &TreePath, is_fit: &dyn Fn(&BinaryScan) -> bool| {
        let mut fits = binaries().filter(|(path, b)| *path != own && is_fit(b) && b.ids.contains(id));
        fits.next().map(|(path, _)| path)
    };
    let is_program = |binary: &BinaryScan| !binary.is_debug_data;
    // Two copies of one program that was not stripped are not each other's debug data.
    let is_stripped = |binary: &BinaryScan| !binary.is_debug_data && !binary.has_debug_data;
    let mut apart = Vec::new();
    let mut within = Vec::new();
    let (mut apart_paths, mut within_paths) = (Vec::new(), Vec::new());
    let name = |path: &TreePath, whose: Option<&TreePath>| match whose {
        Some(whose) => format!("{path} (of {whose})"),
        None => path.shown(),
    };
    for (path, scanned) in scanned {
        if let Some(id) = &scanned.symbols_of {
            apart.push(name(path, owner(id, path, &is_program)));
            apart_paths.push(path);
        }
        let Some(binary) = &scanned.program else { continue };
        let is_in_bundle = path.as_str().contains(".dSYM/");
        let fits: &dyn Fn(&BinaryScan) -> bool = if binary.is_debug_data { &is_program } else { &is_stripped };
        let whose = binary.ids.iter().find_map(|id| owner(id, path, fits));
        let whose = whose.filter(|_| binary.has_debug_data || is_in_bundle);
        if binary.is_debug_data && is_in_bundle || whose.is_some() {
            apart.push(name(path, whose));
            apart_paths.push(path);
        } else if binary.has_debug_data && !starts.iter().any(|start| start.file == *path) {
            within.push(path.shown());
            within_paths.push(path);
        }
    }
    let mut findings = Vec::new();
    if !apart.is_empty() {
        let what = format!("it contains debug data: {}", named(&apart));
        let fix = "name them in keep-aside: sealed with the rest, never sent";
        findings.push(Finding::of(Code::DebugData, what, fix).about(apart_paths));
    }
    if !within.is_empty() {
        let what = format!("debug data is inside {}: players download it for no benefit", named(&within));
        let fix = "strip them, and keep the debug data aside";
        findings.push(Finding::of(Code::DebugData, what, fix).about(within_paths));
    }
    findings
}

/// Libraries in a package that devices with large pages cannot load, however they are aligned in it.
fn small_pages(scanned: &[(TreePath, FileScan)]) -> Option<Finding> {
    // Those of 32 bits run on no device with large pages.
    let is_wide =
        |path: &TreePath| ["arm64-v8a/", "x86_64/"].iter().any(|abi| path.as_str().contains(&format!("lib/{abi}")));
    let small = scanned.iter().filter(|(path, scanned)| {
        let page_len = scanned.program.as_ref().and_then(|binary| binary.page_len);
        is_wide(path) && page_len.is_some_and(|len| len < LARGE_PAGE_LEN)
    });
    let small: Vec<String> = small.map(|(path, _)| path.shown()).collect();
    let what = format!("built for pages of 4 KB, and not loaded by devices with larger ones: {}", named(&small));
    (!small.is_empty()).then(|| Finding::of(Code::SmallPages, what, "build them with a newer toolchain"))
}

/// What is wrong with programs and libraries next to the one that starts, which is looked into elsewhere.
fn programs(starts: &[Start], scanned: &[(TreePath, FileScan)]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let is_start = |path: &TreePath| starts.iter().any(|start| start.file == *path);
    let others = || scanned.iter().filter(|(path, _)| !is_start(path));
    let (mut broken, mut broken_paths) = (Vec::new(), Vec::new());
    let mut developers = Vec::new();
    let mut too_new: Vec<(&TreePath, &TooNew)> = Vec::new();
    for (path, scanned) in others() {
        if let Some(why) = &scanned.broken {
            broken.push(format!("{path}: {why}"));
            broken_paths.push(path);
        }
        let Some(binary) = &scanned.program else { continue };
        if let Some(why) = &binary.signature_wrong {
            let what = format!("the signature of {path} is not valid: {why}");
            let finding = Finding::of(Code::BrokenSignature, what, "sign it again, as the very last step");
            findings.push(finding.about([path]));
        }
        // Debug data may be read on another system than the program.
        too_new.extend(binary.too_new.as_ref().filter(|_| !binary.is_debug_data).map(|what| (path, what)));
        if let Some(library) = &binary.debug_runtime {
            developers.push(format!("{path} ({})", shown(library)));
        }
    }
    if !broken.is_empty() {
        let what = format!("some files look like programs and cannot be read as such: {}", named(&broken));
        let finding = Finding::of(Code::BrokenProgram, what, "export again, or accept it with a reason")
            .with_severity(Severity::Warning);
        findings.push(finding.about(broken_paths));
    }
    if !developers.is_empty() {
        let what = format!("these need libraries that only developers have: {}", named(&developers));
        findings.push(Finding::of(Code::DebugBuild, what, "export a release build"));
    }
    if !too_new.is_empty() {
        let code = if too_new.iter().all(|(_, what)| matches!(what, TooNew::CLibrary(_))) {
            Code::NewGlibc
        } else {
            Code::NewSystem
        };
        let with_version = |(path, what): &(&TreePath, &TooNew)| match what {
            TooNew::CLibrary(version) | TooNew::System(version) => format!("{path} ({version})"),
        };
        let too_new: Vec<String> = too_new.iter().map(with_version).collect();
        let what = format!("these need newer systems than many players have: {}", named(&too_new));
        findings.push(Finding::of(code, what, "build them on an older system, or take older ones"));
    }
    for start in starts {
        findings.extend(wrong_library(&start.file, scanned));
    }
    findings
}

/// A library next to the program that starts, which it asks for, and which is for none of its processors.
fn wrong_library(start: &TreePath, scanned: &[(TreePath, FileScan)]) -> Option<Finding> {
    let program = scanned.iter().find(|(path, _)| path == start)?.1.program.as_ref()?;
    let folder = start.as_str().rsplit_once('/').map_or("", |(folder, _)| folder);
    let beside = scanned.iter().filter_map(|(path, scanned)| {
        let (its_folder, name) = path.as_str().rsplit_once('/').unwrap_or(("", path.as_str()));
        Some((path, name, scanned.program.as_ref()?)).filter(|_| its_folder == folder)
    });
    let mut wrong = beside.filter(|(_, name, library)| {
        program.libraries.iter().any(|wanted| wanted.eq_ignore_ascii_case(name))
            && !library.machines.iter().any(|machine| program.machines.contains(machine))
    });
    let (path, _, library) = wrong.next()?;
    let (theirs, ours) = (library.machines.join(", "), program.machines.join(", "));
    let what = format!("{start} asks for {path}, which is for {theirs}; it is for {ours} itself, and would not start");
    Some(Finding::of(Code::WrongLibrary, what, "put the library for its processor there"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_files_are_by_their_names() {
        let kind = |name: &str| kind_of(&TreePath::new(name).unwrap()).map(|kind| KINDS[kind].0);
        for name in [".DS_Store", "a/Thumbs.db", "notes.txt~", "._saltmarsh", ".git/HEAD", "x/__MACOSX/y"] {
            assert_eq!(kind(name), Some(Code::Litter), "{name}");
        }
        assert_eq!((kind("src/main.cpp"), kind("art/heron.PSD")), (Some(Code::SourceFiles), Some(Code::EditorFiles)));
        assert_eq!((kind("web/saltmarsh.js.map"), kind("levels/first.map")), (Some(Code::SourceFiles), None));
        for name in ["saltmarsh.js", "gitlog.txt", "music/ebb.ogg", "a.git/x", "clip"] {
            assert_eq!(kind(name), None, "{name}");
        }
    }

    fn binary(id: u8, machine: &str) -> BinaryScan {
        BinaryScan { machines: vec![machine.to_owned()], ids: vec![vec![id; 16]], ..BinaryScan::default() }
    }

    fn file(path: &str, scanned: FileScan) -> (TreePath, FileScan) {
        (TreePath::new(path).unwrap(), scanned)
    }

    fn program(path: &str, binary: BinaryScan) -> (TreePath, FileScan) {
        file(path, FileScan { program: Some(binary), ..FileScan::default() })
    }

    fn said(findings: &[Finding]) -> Vec<&str> {
        findings.iter().map(|finding| finding.what.as_str()).collect()
    }

    #[test]
    fn debug_data_is_told_by_what_it_has_in_common_with_a_program() {
        let symbols = |id| FileScan { symbols_of: Some(vec![id; 16]), ..FileScan::default() };
        let with_data = |id| BinaryScan { has_debug_data: true, ..binary(id, "x86_64") };
        let scanned = [
            program("game.exe", binary(1, "x86_64")),
            file("whatever.bin", symbols(1)),
            file("other.pdb", symbols(9)),
            program("lib/libtide.so", binary(2, "x86_64")),
            program("lib/libtide.so.debug", with_data(2)),
            program("lib/libebb.so", with_data(3)),
            program("start", with_data(4)),
            program("a.dSYM/Contents/Resources/DWARF/a", BinaryScan { is_debug_data: true, ..binary(5, "x86_64") }),
        ];
        let starts = [Start::of(TreePath::new("start").unwrap())];
        let findings = debug_data(&starts, &scanned);
        let apart = "it contains debug data: whatever.bin (of game.exe), other.pdb, \
                     lib/libtide.so.debug (of lib/libtide.so), a.dSYM/Contents/Resources/DWARF/a";
        // Of the program that starts it is said elsewhere.
        assert_eq!(said(&findings), [apart, "debug data is inside lib/libebb.so: players download it for no benefit"]);
    }

    #[test]
    fn what_is_wrong_with_programs_beside_the_one_that_starts() {
        let libraries = vec!["TIDE.dll".to_owned(), "EBB.dll".to_owned()];
        let start = BinaryScan { libraries, ..binary(1, "x86_64") };
        let debug = BinaryScan { debug_runtime: Some("ucrtbased.dll".to_owned()), ..binary(3, "x86_64") };
        let fresh = BinaryScan { too_new: Some(TooNew::CLibrary("glibc 2.40".to_owned())), ..binary(5, "x86_64") };
        let signed = BinaryScan { signature_wrong: Some("the program was changed".to_owned()), ..binary(4, "x86_64") };
        let scanned = [
            program("game.exe", start),
            program("tide.dll", binary(2, "x86")),
            program("other/ebb.dll", binary(2, "x86")),
            program("ebb.dll", debug),
            program("reeds.dll", signed),
            program("plugins/reeds.so", fresh),
            file("cut.dll", FileScan { broken: Some("it is cut off".to_owned()), ..FileScan::default() }),
        ];
        let starts = [Start::of(TreePath::new("game.exe").unwrap())];
        assert_eq!(
            said(&programs(&starts, &scanned)),
            [
                "the signature of reeds.dll is not valid: the program was changed",
                "some files look like programs and cannot be read as such: cut.dll: it is cut off",
                "these need libraries that only developers have: ebb.dll (ucrtbased.dll)",
                "these need newer systems than many players have: plugins/reeds.so (glibc 2.40)",
                "game.exe asks for tide.dll, which is for x86; it is for x86_64 itself, and would not start",
            ]
        );
    }
}
