//! Linux programs.

use lantern_core::finding::Finding;
use lantern_core::path::shown;
use lantern_formats::elf::{Details, SymbolVersion};

use super::{Inspected, broken, missing_libraries};
use crate::export::{Export, ReadSeek};

/// Libraries that every desktop has, one a line; `docs/libraries.md` says how the list came about.
const OF_LINUX: &str = include_str!("../../data/linux-libraries.txt");
/// glibc 2.35 is the one of 2022; what needs a newer one leaves out systems that are still looked after.
const NEW_GLIBC: [u32; 2] = [2, 35];

/// A program, with the export that it lies in where there is one.
pub(super) fn program(mut from: &mut dyn ReadSeek, export: Option<&Export>, name: &str, out: &mut Inspected) {
    let details = match Details::read(&mut from) {
        Ok(details) => details,
        Err(error) => return out.findings.extend(broken(name, &error)),
    };
    out.libraries.clone_from(&details.libraries);
    let glibc = details.needs.get("GLIBC");
    out.needs = glibc.map(|version| format!("glibc {version}"));
    if details.libraries.is_empty() {
        out.facts.push(("libraries", "none: it is linked as a whole".to_owned()));
    }
    if !details.search.is_empty() {
        let search: Vec<String> = details.search.iter().map(|path| shown(path)).collect();
        out.facts.push(("looks in", search.join(", ")));
    }
    if details.has_debug_data {
        out.facts.push(("debug data", "within the program".to_owned()));
    }
    out.findings.extend(findings(&details, export, name, glibc));
}

fn findings(details: &Details, export: Option<&Export>, name: &str, glibc: Option<&SymbolVersion>) -> Vec<Finding> {
    let mut findings = Vec::new();
    let name = shown(name);
    if let Some(version) = glibc.filter(|version| **version > SymbolVersion(NEW_GLIBC.to_vec())) {
        let what = format!("{name} needs glibc {version}, which systems of before 2023 do not have");
        findings.push(Finding::warns("new-glibc", what, "build it on an older system, or in a container of one"));
    }
    if details.has_debug_data {
        let what = format!("{name} holds debug data, which players download for nothing");
        findings.push(Finding::warns("debug-data", what, "strip it, and keep the debug data aside"));
    }
    let foreign: Vec<String> =
        details.search.iter().filter(|path| path.starts_with('/')).map(|path| shown(path)).collect();
    if !foreign.is_empty() {
        let what =
            format!("{name} looks for libraries in {}, folders of the computer that built it", foreign.join(", "));
        findings.push(Finding::warns("search-path", what, "link with $ORIGIN instead"));
    }
    let Some(export) = export else { return findings };
    let is_ordinary = |library: &str| OF_LINUX.lines().any(|line| line == library);
    if let Some(missing) = missing_libraries(export, &details.libraries, true, is_ordinary) {
        let what = format!("{name} needs {missing}: neither in the export nor on every desktop");
        findings.push(Finding::warns("library-missing", what, "put them beside it, with $ORIGIN in its search path"));
    }
    findings
}
