//! What should not be in an export: litter, sources, debug data, secrets; and texts that must or must not.

use std::collections::BTreeMap;
use std::io::Read;
use std::sync::Mutex;

use lantern_core::bytes::find;
use lantern_core::finding::{Finding, listed};
use lantern_core::path::{TreePath, shown};
use lantern_core::progress::{Progress, Task};
use lantern_core::secrets;
use lantern_core::system::Family;
use lantern_core::work::{each, processors};

use crate::ProjectError;
use crate::intake::Intake;

/// Most files that one finding names.
const MAX_NAMED: usize = 5;
/// First bytes of files with debug data for Windows programs. Source: the "MSF" container's head.
const PDB: &[u8] = b"Microsoft C/C++ MSF 7.00\r\n";
/// Archives, by their endings.
const ARCHIVES: [&str; 7] = [".zip", ".7z", ".rar", ".tar", ".tar.gz", ".tgz", ".tar.zst"];
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
        ending if SOURCES.contains(&ending) => Some(1),
        ending if EDITORS.contains(&ending) => Some(2),
        _ => None,
    }
}

fn named(paths: &[String]) -> String {
    listed(paths, MAX_NAMED)
}

/// What the texts of an export say, gathered by all threads.
#[derive(Default)]
struct Texts {
    secrets: Vec<(String, secrets::Secret)>,
    debug_data: Vec<String>,
    /// By the text, where it stands.
    mentions: BTreeMap<String, Vec<String>>,
}

/// Everything that looking at names and reading files shows.
pub(super) fn findings(intake: &Intake<'_>, progress: &dyn Progress) -> Result<Vec<Finding>, ProjectError> {
    // A package is one file, and not looked into here.
    if intake.is_package() {
        return Ok(Vec::new());
    }
    let files: Vec<(usize, &TreePath, u64)> = intake
        .entries()
        .iter()
        .enumerate()
        .filter(|(i, e)| e.source.is_file() && !intake.aside.contains(i))
        .map(|(i, e)| (i, &e.source.path, e.source.size()))
        .collect();
    let mut findings = Vec::new();
    for (kind, (code, words, cure)) in KINDS.iter().enumerate() {
        let found: Vec<String> =
            files.iter().filter(|(_, path, _)| kind_of(path) == Some(kind)).map(|(_, path, _)| path.shown()).collect();
        if !found.is_empty() {
            findings.push(Finding::warns(code, format!("it holds {words}: {}", named(&found)), *cure));
        }
    }
    let total: u64 = files.iter().map(|(_, _, size)| size).sum();
    let archive = files.iter().find(|(_, path, size)| {
        let lower = path.as_str().to_ascii_lowercase();
        ARCHIVES.iter().any(|ending| lower.ends_with(ending)) && size * 100 >= total * MAIN_PART_PERCENT
    });
    if let Some((_, path, _)) = archive {
        let what = format!("most of it is the archive {path}: the game seems to be packed twice");
        findings.push(Finding::warns("archive-inside", what, "unpack it, and name what was in it"));
    }
    let read = read(intake, &files, progress)?;
    if !read.debug_data.is_empty() {
        let what = format!("it holds data for debuggers: {}", named(&read.debug_data));
        findings.push(Finding::warns("debug-data", what, "name them in keep-aside: sealed with the rest, never sent"));
    }
    for (path, secret) in &read.secrets {
        let place = if secret.line == 0 { String::new() } else { format!(", line {}", secret.line) };
        let what = format!("{path}{place} looks like {}", secret.what);
        let cure = "take it out and change it where it was used; if it is none, accept it with a reason";
        findings.push(Finding::stops("secret", what, cure));
    }
    for text in &intake.target.must_mention {
        if !read.mentions.contains_key(text) {
            let what = format!("no file mentions {:?}, which must be in it", shown(text));
            findings.push(Finding::stops("must-mention", what, "export the right edition, or mend must-mention"));
        }
    }
    for text in &intake.target.must_not_mention {
        if let Some(paths) = read.mentions.get(text) {
            let what = format!("{:?} must not be in it, and is in {}", shown(text), named(paths));
            findings.push(Finding::stops(
                "must-not-mention",
                what,
                "export the right edition, or mend must-not-mention",
            ));
        }
    }
    Ok(findings)
}

/// Reads what has to be read: small texts for secrets, first bytes for debug data, everything for texts that are asked
/// for.
fn read(
    intake: &Intake<'_>,
    files: &[(usize, &TreePath, u64)],
    progress: &dyn Progress,
) -> Result<Texts, ProjectError> {
    let texts: Vec<&String> = intake.target.must_mention.iter().chain(&intake.target.must_not_mention).collect();
    let found = Mutex::new(Texts::default());
    let is_desktop =
        intake.systems.iter().any(|s| matches!(s.family(), Family::Windows | Family::Linux | Family::Macos));
    // Small texts are looked through in no time; what is read whole is worth a bar.
    let total = files.iter().map(|(_, _, size)| size).sum();
    let meter = (!texts.is_empty()).then(|| progress.start(Task::Verify, Some(total)));
    each(files, processors(), Vec::new, |bytes: &mut Vec<u8>, _, (index, path, size)| {
        if progress.stopped() {
            return Err(ProjectError::Stopped);
        }
        let lock = || found.lock().expect("nothing panics with the lock");
        if let Some(secret) = secrets::by_name(path) {
            lock().secrets.push((path.shown(), secret));
            return Ok(());
        }
        let is_small = *size <= secrets::MAX_TEXT_LEN;
        let is_debug_name = path.as_str().to_ascii_lowercase().ends_with(".pdb")
            || path.as_str().contains(".dSYM/") && path.as_str().contains("/DWARF/");
        if !is_small && texts.is_empty() && !is_debug_name {
            return Ok(());
        }
        // A file that cannot be read is found out when it is sealed, with its own words.
        let Ok(mut from) = intake.open(*index) else { return Ok(()) };
        bytes.clear();
        if from.by_ref().take(secrets::MAX_TEXT_LEN).read_to_end(bytes).is_err() {
            return Ok(());
        }
        if is_desktop && is_debug_name && (bytes.starts_with(PDB) || path.as_str().contains(".dSYM/")) {
            lock().debug_data.push(path.shown());
        }
        let is_text = !bytes.iter().take(4096).any(|b| *b == 0);
        if is_small && is_text {
            let secret = secrets::in_text(bytes, secrets::holds_settings(path));
            lock().secrets.extend(secret.map(|secret| (path.shown(), secret)));
        }
        if !texts.is_empty() {
            for text in mentioned(&texts, bytes, &mut from) {
                lock().mentions.entry(text.clone()).or_default().push(path.shown());
            }
            meter.iter().for_each(|meter| meter.add(*size));
        }
        Ok(())
    })?;
    let mut found = found.into_inner().expect("nothing panics with the lock");
    // Threads take turns as they like; what is said must not.
    found.secrets.sort_by(|a, b| a.0.cmp(&b.0));
    found.debug_data.sort();
    found.mentions.values_mut().for_each(|paths| paths.sort());
    Ok(found)
}

/// Which texts stand in what was read and what is still to be read.
fn mentioned<'a>(texts: &[&'a String], first: &mut Vec<u8>, rest: &mut dyn Read) -> Vec<&'a String> {
    let longest = texts.iter().map(|text| text.len()).max().unwrap_or(1);
    let mut left: Vec<&String> = texts.to_vec();
    let mut found = Vec::new();
    loop {
        left.retain(|text| {
            let is_there = text.is_empty() || find(first, text.as_bytes(), 0).is_some();
            if is_there {
                found.push(*text);
            }
            !is_there
        });
        // A text may begin at the end of what was read.
        let keep = first.len().saturating_sub(longest - 1);
        first.drain(..keep);
        let before = first.len();
        let read = (&mut *rest).take(secrets::MAX_TEXT_LEN).read_to_end(first);
        if left.is_empty() || read.is_err() || first.len() == before {
            return found;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_files_are_by_their_names() {
        let kind = |name: &str| kind_of(&TreePath::new(name).unwrap()).map(|kind| KINDS[kind].0);
        for name in [".DS_Store", "a/Thumbs.db", "notes.txt~", "._saltmarsh", ".git/HEAD", "x/__MACOSX/y"] {
            assert_eq!(kind(name), Some("litter"), "{name}");
        }
        assert_eq!((kind("src/main.cpp"), kind("art/heron.PSD")), (Some("source-files"), Some("editor-files")));
        for name in ["saltmarsh.js", "gitlog.txt", "music/ebb.ogg", "a.git/x", "clip"] {
            assert_eq!(kind(name), None, "{name}");
        }
    }

    #[test]
    fn texts_over_the_edges_of_what_is_read() {
        let wanted = ["sp-first-tide".to_owned(), "nowhere".to_owned()];
        let texts: Vec<&String> = wanted.iter().collect();
        let mut rest = std::io::Cursor::new(b"first-tide and more".to_vec());
        assert_eq!(mentioned(&texts, &mut b"handle: sp-".to_vec(), &mut rest), [&wanted[0]]);
        assert!(mentioned(&texts, &mut b"sp-first".to_vec(), &mut std::io::empty()).is_empty());
    }
}
