//! What should not be in an export: litter, sources, debug data, secrets; and texts that must or must not.

use std::path::Path;
use std::sync::Mutex;

use lantern_core::finding::{Finding, listed};
use lantern_core::names::Name;
use lantern_core::path::{TreePath, shown};
use lantern_core::progress::Progress;
use lantern_core::release::Start;
use lantern_core::secrets;
use lantern_core::work::{each, processors};
use lantern_store::seal::SourceEntry;

use super::looked::{self, Binary, Looked, Memory, Wanted};
use crate::ProjectError;
use crate::export::Export;
use crate::intake::Intake;
use crate::intake::other::ARCHIVES;
use crate::watch::Watch;

/// Most files that one finding names.
const MAX_NAMED: usize = 5;
/// Page size of newer Android devices, in bytes.
const LARGE_PAGE_LEN: u64 = 16 * 1024;
/// An archive that is this part of an export is the export, packed twice.
const MAIN_PART_PERCENT: u64 = 50;

/// Kinds of files that are told by their names, each with its code, words and cure.
const KINDS: [(&str, &str, &str); 3] = [
    ("litter", "litter of systems and editors", "name them in leave-out, or remove them"),
    ("source-files", "sources", "name them in leave-out"),
    ("editor-files", "files of drawing and modelling programs", "name them in leave-out"),
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
    listed(paths, MAX_NAMED)
}

/// Everything that looking at names and reading files shows; `others` are names of other editions, with what they are.
pub(super) fn findings(
    edition: &Name,
    intake: &Intake<'_>,
    root: &Path,
    others: &[(String, String)],
    memory: &mut Memory,
    progress: &dyn Progress,
) -> Result<Vec<Finding>, ProjectError> {
    let mut findings = Vec::new();
    // A package is looked into as the archive that it is. Where it is none, that is said elsewhere.
    let inside = if intake.is_package() { intake.export().inside_of_package(root).ok() } else { None };
    let export = inside.as_ref().unwrap_or(intake.export());
    let is_sent = |index: &usize| inside.is_some() || !intake.aside.contains(index);
    let files: Vec<usize> =
        (0..export.entries.len()).filter(|i| export.entries[*i].source.is_file()).filter(is_sent).collect();
    if !intake.is_package() {
        findings.extend(by_name(export, &files));
    }
    let texts: Vec<String> =
        intake.target.must_mention.iter().chain(&intake.target.must_not_mention).cloned().collect();
    let wanted = Wanted { texts, names: others.iter().map(|(name, _)| name.clone()).collect() };
    let looked = look_at_all(&format!("{edition}/{}", intake.name), export, &files, &wanted, memory, progress)?;
    if inside.is_some() {
        findings.extend(small_pages(&looked));
    }
    for (name, what) in others {
        let paths: Vec<&TreePath> =
            looked.iter().filter(|(_, looked)| looked.names.contains(name)).map(|(path, _)| path).collect();
        if !paths.is_empty() {
            let what = format!("{} mentions {}, {what}", named(&all_shown(&paths)), shown(name));
            let cure = "is it the export of the right edition? If it is meant to be there, accept it with a reason";
            findings.push(Finding::warns("other-edition-named", what, cure).about(paths));
        }
    }
    findings.extend(debug_data(&intake.starts, &looked));
    findings.extend(programs(&intake.starts, &looked));
    for (path, looked) in &looked {
        let Some((what, line)) = &looked.secret else { continue };
        let place = if *line == 0 { String::new() } else { format!(", line {line}") };
        let what = format!("{path}{place} looks like {what}");
        let cure = "take it out and change it where it was used; if it is none, accept it with a reason";
        findings.push(Finding::stops("secret", what, cure).about([path]));
    }
    let mentioning = |text: &String| -> Vec<&TreePath> {
        looked.iter().filter(|(_, looked)| looked.mentions.contains(text)).map(|(path, _)| path).collect()
    };
    for text in intake.target.must_mention.iter().filter(|text| mentioning(text).is_empty()) {
        let what = format!("no file mentions {:?}, which must be in it", shown(text));
        findings.push(Finding::stops("must-mention", what, "export the right edition, or mend must-mention"));
    }
    for text in &intake.target.must_not_mention {
        let paths = mentioning(text);
        if !paths.is_empty() {
            let what = format!("{:?} must not be in it, and is in {}", shown(text), named(&all_shown(&paths)));
            let cure = "export the right edition, or mend must-not-mention";
            findings.push(Finding::stops("must-not-mention", what, cure).about(paths));
        }
    }
    Ok(findings)
}

/// What names alone show.
fn by_name(export: &Export, files: &[usize]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let sources: Vec<&SourceEntry> = files.iter().map(|index| &export.entries[*index].source).collect();
    for (kind, (code, words, cure)) in KINDS.iter().enumerate() {
        let found: Vec<&TreePath> =
            sources.iter().map(|source| &source.path).filter(|path| kind_of(path) == Some(kind)).collect();
        if !found.is_empty() {
            let what = format!("it holds {words}: {}", named(&all_shown(&found)));
            findings.push(Finding::warns(code, what, *cure).about(found));
        }
    }
    let total: u64 = sources.iter().map(|source| source.size()).sum();
    let archive = sources.iter().find(|source| {
        let lower = source.path.as_str().to_ascii_lowercase();
        ARCHIVES.iter().any(|ending| lower.ends_with(ending)) && source.size() * 100 >= total * MAIN_PART_PERCENT
    });
    if let Some(archive) = archive {
        let what = format!("most of it is the archive {}: the game seems to be packed twice", archive.path);
        let finding = Finding::warns("archive-inside", what, "unpack it, and name what was in it");
        findings.push(finding.about([&archive.path]));
    }
    findings
}

/// Looks into every file, or remembers what was in it; those that show nothing are not listed.
fn look_at_all(
    target: &str,
    export: &Export,
    files: &[usize],
    wanted: &Wanted,
    memory: &mut Memory,
    progress: &dyn Progress,
) -> Result<Vec<(TreePath, Looked)>, ProjectError> {
    let known = memory.get(target, wanted, export, files);
    // What is read whole counts whole; of large files that are none of our business the first bytes are read.
    let todo: Vec<(usize, usize)> =
        files.iter().enumerate().filter(|(i, _)| known[*i].is_none()).map(|(i, index)| (i, *index)).collect();
    let size = |index: usize| export.entries[index].source.size();
    let is_whole = |index: &usize| !wanted.texts.is_empty() || size(*index) <= secrets::MAX_TEXT_LEN;
    let watch = Watch::start(progress, todo.iter().map(|(_, i)| *i).filter(is_whole).map(size).sum());
    let found = Mutex::new(known);
    each(
        &todo,
        processors(),
        || (),
        |(), _, (place, index)| {
            // One that cannot be read is found out when it is sealed, with its own words; nothing is remembered of it.
            let seen = looked::look(export, *index, wanted, &watch).ok();
            if progress.stopped() {
                return Err(ProjectError::Stopped);
            }
            found.lock().expect("nothing panics with the lock")[*place] = seen;
            Ok(())
        },
    )?;
    let found = found.into_inner().expect("nothing panics with the lock");
    if !todo.is_empty() {
        memory.set(target, wanted, export, files, &found);
    }
    let paths = files.iter().map(|index| &export.entries[*index].source.path);
    let looked = paths.zip(found).filter_map(|(path, seen)| Some((path.clone(), *seen??)));
    Ok(looked.collect())
}

/// Data for debuggers: files of it, by the program that they belong to, and programs that hold it themselves.
fn debug_data(starts: &[Start], looked: &[(TreePath, Looked)]) -> Vec<Finding> {
    let binaries = || looked.iter().filter_map(|(path, looked)| Some((path, looked.program.as_ref()?)));
    // The program that has this in common with it, and is not debug data itself.
    let owner = |id: &Vec<u8>, own: &TreePath, is_fit: &dyn Fn(&Binary) -> bool| {
        let mut fits = binaries().filter(|(path, b)| *path != own && is_fit(b) && b.ids.contains(id));
        fits.next().map(|(path, _)| path)
    };
    let is_program = |binary: &Binary| !binary.is_debug_data;
    // Two copies of one program that was not stripped are not each other's debug data.
    let is_stripped = |binary: &Binary| !binary.is_debug_data && !binary.has_debug_data;
    let mut apart = Vec::new();
    let mut within = Vec::new();
    let (mut apart_paths, mut within_paths) = (Vec::new(), Vec::new());
    let name = |path: &TreePath, whose: Option<&TreePath>| match whose {
        Some(whose) => format!("{path} (of {whose})"),
        None => path.shown(),
    };
    for (path, looked) in looked {
        if let Some(id) = &looked.symbols_of {
            apart.push(name(path, owner(id, path, &is_program)));
            apart_paths.push(path);
        }
        let Some(binary) = &looked.program else { continue };
        let is_in_bundle = path.as_str().contains(".dSYM/");
        let fits: &dyn Fn(&Binary) -> bool = if binary.is_debug_data { &is_program } else { &is_stripped };
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
        let what = format!("it holds data for debuggers: {}", named(&apart));
        let cure = "name them in keep-aside: sealed with the rest, never sent";
        findings.push(Finding::warns("debug-data", what, cure).about(apart_paths));
    }
    if !within.is_empty() {
        let what = format!("debug data is within {}: players download it for nothing", named(&within));
        let cure = "strip them, and keep the debug data aside";
        findings.push(Finding::warns("debug-data", what, cure).about(within_paths));
    }
    findings
}

/// Libraries in a package that devices with large pages cannot load, however they are aligned in it.
fn small_pages(looked: &[(TreePath, Looked)]) -> Option<Finding> {
    // Those of 32 bits run on no device with large pages.
    let is_wide =
        |path: &TreePath| ["arm64-v8a/", "x86_64/"].iter().any(|abi| path.as_str().contains(&format!("lib/{abi}")));
    let small = looked.iter().filter(|(path, looked)| {
        let page_len = looked.program.as_ref().and_then(|binary| binary.page_len);
        is_wide(path) && page_len.is_some_and(|len| len < LARGE_PAGE_LEN)
    });
    let small: Vec<String> = small.map(|(path, _)| path.shown()).collect();
    let what = format!("built for pages of 4 KB, and not loaded by devices with larger ones: {}", named(&small));
    (!small.is_empty()).then(|| Finding::warns("unaligned-library", what, "build them with a newer toolchain"))
}

/// What is wrong with programs and libraries beside the one that starts, which is looked into elsewhere.
fn programs(starts: &[Start], looked: &[(TreePath, Looked)]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let is_start = |path: &TreePath| starts.iter().any(|start| start.file == *path);
    let others = || looked.iter().filter(|(path, _)| !is_start(path));
    let (mut broken, mut broken_paths) = (Vec::new(), Vec::new());
    let (mut developers, mut too_new) = (Vec::new(), Vec::new());
    for (path, looked) in others() {
        if let Some(why) = &looked.broken {
            broken.push(format!("{path}: {why}"));
            broken_paths.push(path);
        }
        let Some(binary) = &looked.program else { continue };
        if let Some(why) = &binary.signature_wrong {
            let what = format!("the signature of {path} does not hold: {why}");
            let finding = Finding::stops("signature-broken", what, "sign it again, as the very last step");
            findings.push(finding.about([path]));
        }
        // Debug data may be read on another system than the program.
        too_new
            .extend(binary.too_new.as_ref().filter(|_| !binary.is_debug_data).map(|what| format!("{path} ({what})")));
        if let Some(library) = &binary.debug_runtime {
            developers.push(format!("{path} ({})", shown(library)));
        }
    }
    if !broken.is_empty() {
        let what = format!("it holds what seem to be programs and cannot be read as such: {}", named(&broken));
        let finding = Finding::warns("broken-program", what, "export again, or accept it with a reason");
        findings.push(finding.about(broken_paths));
    }
    if !developers.is_empty() {
        let what = format!("these need libraries that only developers have: {}", named(&developers));
        findings.push(Finding::stops("debug-build", what, "export a release build"));
    }
    if !too_new.is_empty() {
        let code = if too_new.iter().all(|what| what.contains("(glibc ")) { "new-glibc" } else { "new-system" };
        let what = format!("newer systems than many players have are needed by {}", named(&too_new));
        findings.push(Finding::warns(code, what, "build them on an older system, or take older ones"));
    }
    for start in starts {
        findings.extend(wrong_library(&start.file, looked));
    }
    findings
}

/// A library beside the program that starts, which it asks for, and which is for none of its processors.
fn wrong_library(start: &TreePath, looked: &[(TreePath, Looked)]) -> Option<Finding> {
    let program = looked.iter().find(|(path, _)| path == start)?.1.program.as_ref()?;
    let folder = start.as_str().rsplit_once('/').map_or("", |(folder, _)| folder);
    let beside = looked.iter().filter_map(|(path, looked)| {
        let (its_folder, name) = path.as_str().rsplit_once('/').unwrap_or(("", path.as_str()));
        Some((path, name, looked.program.as_ref()?)).filter(|_| its_folder == folder)
    });
    let mut wrong = beside.filter(|(_, name, library)| {
        program.libraries.iter().any(|wanted| wanted.eq_ignore_ascii_case(name))
            && !library.machines.iter().any(|machine| program.machines.contains(machine))
    });
    let (path, _, library) = wrong.next()?;
    let (theirs, ours) = (library.machines.join(", "), program.machines.join(", "));
    let what = format!("{start} asks for {path}, which is for {theirs}; it is for {ours} itself, and would not start");
    Some(Finding::stops("library-wrong", what, "put the library for its processor there"))
}

#[cfg(test)]
mod tests {
    use super::super::looked::Binary;
    use super::*;

    #[test]
    fn what_files_are_by_their_names() {
        let kind = |name: &str| kind_of(&TreePath::new(name).unwrap()).map(|kind| KINDS[kind].0);
        for name in [".DS_Store", "a/Thumbs.db", "notes.txt~", "._saltmarsh", ".git/HEAD", "x/__MACOSX/y"] {
            assert_eq!(kind(name), Some("litter"), "{name}");
        }
        assert_eq!((kind("src/main.cpp"), kind("art/heron.PSD")), (Some("source-files"), Some("editor-files")));
        assert_eq!((kind("web/saltmarsh.js.map"), kind("levels/first.map")), (Some("source-files"), None));
        for name in ["saltmarsh.js", "gitlog.txt", "music/ebb.ogg", "a.git/x", "clip"] {
            assert_eq!(kind(name), None, "{name}");
        }
    }

    fn binary(id: u8, machine: &str) -> Binary {
        Binary { machines: vec![machine.to_owned()], ids: vec![vec![id; 16]], ..Binary::default() }
    }

    fn file(path: &str, looked: Looked) -> (TreePath, Looked) {
        (TreePath::new(path).unwrap(), looked)
    }

    fn program(path: &str, binary: Binary) -> (TreePath, Looked) {
        file(path, Looked { program: Some(binary), ..Looked::default() })
    }

    fn said(findings: &[Finding]) -> Vec<&str> {
        findings.iter().map(|finding| finding.what.as_str()).collect()
    }

    #[test]
    fn debug_data_is_told_by_what_it_has_in_common_with_a_program() {
        let symbols = |id| Looked { symbols_of: Some(vec![id; 16]), ..Looked::default() };
        let with_data = |id| Binary { has_debug_data: true, ..binary(id, "x86_64") };
        let looked = [
            program("game.exe", binary(1, "x86_64")),
            file("whatever.bin", symbols(1)),
            file("other.pdb", symbols(9)),
            program("lib/libtide.so", binary(2, "x86_64")),
            program("lib/libtide.so.debug", with_data(2)),
            program("lib/libebb.so", with_data(3)),
            program("start", with_data(4)),
            program("a.dSYM/Contents/Resources/DWARF/a", Binary { is_debug_data: true, ..binary(5, "x86_64") }),
        ];
        let starts = [Start::of(TreePath::new("start").unwrap())];
        let findings = debug_data(&starts, &looked);
        let apart = "it holds data for debuggers: whatever.bin (of game.exe), other.pdb, \
                     lib/libtide.so.debug (of lib/libtide.so), a.dSYM/Contents/Resources/DWARF/a";
        // Of the program that starts it is said elsewhere.
        assert_eq!(said(&findings), [apart, "debug data is within lib/libebb.so: players download it for nothing"]);
    }

    #[test]
    fn what_is_wrong_with_programs_beside_the_one_that_starts() {
        let libraries = vec!["TIDE.dll".to_owned(), "EBB.dll".to_owned()];
        let start = Binary { libraries, ..binary(1, "x86_64") };
        let debug = Binary { debug_runtime: Some("ucrtbased.dll".to_owned()), ..binary(3, "x86_64") };
        let fresh = Binary { too_new: Some("glibc 2.40".to_owned()), ..binary(5, "x86_64") };
        let signed = Binary { signature_wrong: Some("the program was changed".to_owned()), ..binary(4, "x86_64") };
        let looked = [
            program("game.exe", start),
            program("tide.dll", binary(2, "x86")),
            program("other/ebb.dll", binary(2, "x86")),
            program("ebb.dll", debug),
            program("reeds.dll", signed),
            program("plugins/reeds.so", fresh),
            file("cut.dll", Looked { broken: Some("it is cut off".to_owned()), ..Looked::default() }),
        ];
        let starts = [Start::of(TreePath::new("game.exe").unwrap())];
        assert_eq!(
            said(&programs(&starts, &looked)),
            [
                "the signature of reeds.dll does not hold: the program was changed",
                "it holds what seem to be programs and cannot be read as such: cut.dll: it is cut off",
                "these need libraries that only developers have: ebb.dll (ucrtbased.dll)",
                "newer systems than many players have are needed by plugins/reeds.so (glibc 2.40)",
                "game.exe asks for tide.dll, which is for x86; it is for x86_64 itself, and would not start",
            ]
        );
    }
}
