//! Linux programs.

use lantern_core::finding::{Code, Finding};
use lantern_core::path::shown;
use lantern_formats::elf::{Details, Elf};
use lantern_store::seal::SourceKind;

use super::{Fact, Inspected, broken, missing_libraries, path_from};
use crate::export::{Export, Listed, ReadSeek};
use crate::too_new::{GLIBC, too_new_for_linux};

/// Libraries that every desktop has, one a line; `docs/libraries.md` says how the list came about.
const OF_LINUX: &str = include_str!("../../data/linux-libraries.txt");

/// What loads programs on every desktop. Source: the ABI supplements of each processor.
const LOADERS: [&str; 4] =
    ["/lib64/ld-linux-x86-64.so.2", "/lib/ld-linux-aarch64.so.1", "/lib/ld-linux-armhf.so.3", "/lib/ld-linux.so.2"];

/// A program, with the export that it lies in where there is one.
pub(super) fn program(mut from: &mut dyn ReadSeek, export: Option<&Export>, name: &str, out: &mut Inspected) {
    let details = match Details::read(&mut from) {
        Ok(details) => details,
        Err(error) => return out.findings.extend(broken(name, &error)),
    };
    let loader = Elf::read(&mut from).ok().and_then(|elf| elf.interpreter);
    if let Some(loader) = loader.filter(|loader| !LOADERS.contains(&loader.as_str())) {
        out.facts.push((Fact::Loader, shown(&loader)));
        let what = format!("{} is loaded by {}, which most systems do not have", shown(name), shown(&loader));
        let fix = "build it with the toolchain of an ordinary system, or in a container of one";
        out.findings.push(Finding::of(Code::UnusualLoader, what, fix));
    }
    out.libraries.clone_from(&details.libraries);
    let glibc = details.needs.get(GLIBC);
    out.needs = glibc.map(|version| format!("glibc {version}"));
    if details.libraries.is_empty() {
        out.facts.push((Fact::Libraries, "none: it is linked as a whole".to_owned()));
    }
    if !details.search.is_empty() {
        let search: Vec<String> = details.search.iter().map(|path| shown(path)).collect();
        out.facts.push((Fact::SearchPath, search.join(", ")));
    }
    if details.has_debug_data {
        out.facts.push((Fact::DebugData, "within the program".to_owned()));
    }
    out.findings.extend(findings(&details, export, name));
}

fn findings(details: &Details, export: Option<&Export>, name: &str) -> Vec<Finding> {
    let mut findings = Vec::new();
    let name = shown(name);
    if let Some(version) = too_new_for_linux(details) {
        let what = format!("{name} needs glibc {version}, which systems of before 2023 do not have");
        findings.push(Finding::of(Code::NewGlibc, what, "build it on an older system, or in a container of one"));
    }
    if details.has_debug_data {
        let what = format!("{name} contains debug data, which players download for no benefit");
        findings.push(Finding::of(Code::DebugData, what, "strip it, and keep the debug data aside"));
    }
    let foreign: Vec<String> =
        details.search.iter().filter(|path| path.starts_with('/')).map(|path| shown(path)).collect();
    if !foreign.is_empty() {
        let what =
            format!("{name} looks for libraries in {}, folders of the computer that built it", foreign.join(", "));
        findings.push(Finding::of(Code::BuildSearchPath, what, "link with $ORIGIN instead"));
    }
    let Some(export) = export else { return findings };
    let is_ordinary = |library: &str| OF_LINUX.lines().any(|line| line == library);
    if let Some((library, folder)) = unfound(details, export, &name, is_ordinary) {
        let what = format!("{name} needs {library}, which is in {folder}, and does not look there");
        let fix = "link with $ORIGIN in its search path, or start it with a script that sets the path";
        findings.push(Finding::of(Code::LibraryNotFound, what, fix));
    }
    if let Some(missing) = missing_libraries(export, &details.libraries, true, is_ordinary) {
        let what = format!("{name} needs {missing}: neither in the export nor on every desktop");
        findings.push(Finding::of(Code::LibraryMissing, what, "put them next to it, with $ORIGIN in its search path"));
    }
    findings
}

/// A library in the export that the program asks for, in a folder that it does not look in; with the folder.
fn unfound(
    details: &Details,
    export: &Export,
    name: &str,
    is_ordinary: impl Fn(&str) -> bool,
) -> Option<(String, String)> {
    let own = name.rsplit_once('/').map_or("", |(folder, _)| folder);
    let looked_in: Vec<String> = details.search.iter().filter_map(|path| resolved(own, path)).collect();
    details.libraries.iter().filter(|library| !is_ordinary(library)).find_map(|library| {
        let files = export.entries.iter().filter(|e| !matches!(e.source.kind, SourceKind::EmptyFolder));
        let split = |e: &Listed| {
            let path = e.source.path.as_str();
            let (folder, file) = path.rsplit_once('/').unwrap_or(("", path));
            (file == library).then(|| folder.to_owned())
        };
        let folders: Vec<String> = files.filter_map(split).collect();
        let first = folders.first()?;
        let is_found = folders.iter().any(|folder| looked_in.contains(folder));
        (!is_found).then(|| (shown(library), if first.is_empty() { "its own folder".to_owned() } else { shown(first) }))
    })
}

/// The folder of the export that an entry of a search path means for a program in `own`; none for one outside of it.
fn resolved(own: &str, path: &str) -> Option<String> {
    let rest = path.strip_prefix("$ORIGIN").or_else(|| path.strip_prefix("${ORIGIN}"))?;
    path_from(own, rest)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn where_a_program_looks() {
        assert_eq!(resolved("", "$ORIGIN").as_deref(), Some(""));
        assert_eq!(resolved("bin", "${ORIGIN}/../lib/").as_deref(), Some("lib"));
        assert_eq!(resolved("", "$ORIGIN/.."), None, "outside of the export");
        assert_eq!(resolved("", "/opt/build/lib"), None);
    }
}
