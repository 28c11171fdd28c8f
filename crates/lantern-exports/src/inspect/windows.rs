//! Windows programs.

use std::io::SeekFrom;

use lantern_core::finding::{Code, Finding};
use lantern_core::path::shown;
use lantern_core::size::Size;
use lantern_formats::pe::{self, Details, Subsystem};

use super::{Fact, Inspected, LIBRARY, Signature, broken, icon_findings, missing_libraries, signature_broken, signer};
use crate::export::{Export, ReadSeek};
use crate::intake::not_a_build;

/// Libraries that are on every Windows since 10, one a line; `docs/libraries.md` says how the list came about.
const OF_WINDOWS: &str = include_str!("../../data/windows-libraries.txt");
/// Icons that Windows shows: in lists and on the desktop, up to the largest.
const WANTED_ICON: u16 = 256;

/// A program, with the export that it lies in where there is one.
pub(super) fn program(mut from: &mut dyn ReadSeek, export: Option<&Export>, name: &str, out: &mut Inspected) {
    let details = match Details::read(&mut from) {
        Ok(details) => details,
        Err(error) => return out.findings.extend(broken(name, &error)),
    };
    let version = details.version.clone().unwrap_or_default();
    out.name = version.text("ProductName").or_else(|| version.text("FileDescription")).map(str::to_owned);
    let dotted = |numbers: [u16; 4]| numbers.map(|n| n.to_string()).join(".");
    out.version = version.text("ProductVersion").map(str::to_owned).or_else(|| version.product.map(dotted));
    if let Some(file) = version.file {
        out.facts.push((Fact::FileVersion, dotted(file)));
    }
    for (what, key) in [(Fact::Company, "CompanyName"), (Fact::Copyright, "LegalCopyright")] {
        out.facts.extend(version.text(key).map(|text| (what, shown(text))));
    }
    let is_program = out.form != Some(LIBRARY);
    if is_program {
        let says =
            ["FileDescription", "ProductName", "OriginalFilename"].map(|key| version.text(key).unwrap_or_default());
        out.findings.extend(not_a_build::sets_up(name, &says));
    }
    if is_program && details.subsystem == Subsystem::Console {
        out.facts.push((Fact::Opens, "a console window".to_owned()));
    }
    out.libraries.clone_from(&details.libraries);
    out.icon_sizes.clone_from(&details.icon_sizes);
    if details.is_managed {
        out.facts.push((Fact::Needs, "the .NET runtime".to_owned()));
    }
    appended(&mut from, &details, out);
    signature(&mut from, &details, name, out);
    if let Some(symbols) = &details.symbols {
        out.facts.push((Fact::DebugData, shown(symbols.path.rsplit(['/', '\\']).next().unwrap_or(&symbols.path))));
    }
    out.findings.extend(findings(&details, export, name, is_program));
}

/// Says what lies behind the program in its file: engines put a game's data there.
fn appended(from: &mut dyn ReadSeek, details: &Details, out: &mut Inspected) {
    let end = details.signature.map(|(table, _)| table).or_else(|| from.seek(SeekFrom::End(0)).ok());
    // Up to seven zeros fill the file up before a signature.
    let len = end.and_then(|end| end.checked_sub(details.sections_end)).filter(|len| *len >= 8);
    let says = if details.signature.is_some() { ", before its signature, which covers it" } else { "" };
    out.facts.extend(len.map(|len| (Fact::Appended, format!("{} of data behind the program{says}", Size(len)))));
}

/// Verifies the signature.
fn signature(mut from: &mut dyn ReadSeek, details: &Details, name: &str, out: &mut Inspected) {
    let seen = match pe::verify(&mut from, details) {
        Ok(None) => return out.signature = Signature::None,
        Ok(Some(seen)) => seen,
        Err(error) => {
            out.signature = Signature::Identity { whose: None, is_intact: Some(false) };
            return out.findings.extend(broken(name, &error));
        }
    };
    signer::say(&seen.signer, seen.signer.wrong.is_none(), out);
    let whose = format!("the signature of {}", shown(name));
    match &seen.signer.wrong {
        Some(why) => out.findings.push(signature_broken(&whose, why)),
        None => {
            seen.others.iter().for_each(|other| signer::say_other(other, out));
            let outside = "the checksum in its head, and the place of its signature";
            out.facts.push((Fact::NotCovered, outside.to_owned()));
            out.verified.push(name.to_owned());
            signer::judge(&seen.signer, &whose, out);
        }
    }
}

fn findings(details: &Details, export: Option<&Export>, name: &str, is_program: bool) -> Vec<Finding> {
    let mut findings = Vec::new();
    let name = shown(name);
    if let Some(library) = details.debug_runtime() {
        let what =
            format!("{name} is a debug build: it needs {}, which only developers' computers have", shown(library));
        findings.push(Finding::of(Code::DebugBuild, what, "export a release build"));
    }
    let Some(export) = export else { return findings };
    let is_known = |library: &str| is_of_windows(library) || details.debug_runtime() == Some(library);
    if let Some(missing) = missing_libraries(export, &details.libraries, false, is_known) {
        let what = format!("{name} needs {missing}: neither in the export nor part of Windows");
        let fix = "put them next to it, or link them in: on a clean computer it does not start";
        findings.push(Finding::of(Code::LibraryMissing, what, fix));
    }
    if is_program && details.signature.is_none() {
        let what = format!("{name} is not signed: Windows warns everyone who downloads and starts it");
        findings.push(Finding::of(Code::Unsigned, what, "sign it, as the very last step"));
    }
    if is_program {
        let fix = format!("add one of {WANTED_ICON} pixels: Windows shows it large");
        findings.extend(icon_findings(&name, &details.icon_sizes, WANTED_ICON, &fix));
    }
    findings
}

/// Whether a library is on every Windows that games run on.
fn is_of_windows(library: &str) -> bool {
    let lower = library.to_ascii_lowercase();
    lower.starts_with("api-ms-win-") || lower.starts_with("ext-ms-") || OF_WINDOWS.lines().any(|line| line == lower)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_list_is_in_order_and_lower_case() {
        let lines: Vec<&str> = OF_WINDOWS.lines().collect();
        assert!(lines.is_sorted_by(|a, b| a < b), "sorted, each once");
        assert!(lines.iter().all(|l| *l == l.to_ascii_lowercase() && l.contains('.')));
        assert!(is_of_windows("KERNEL32.dll") && is_of_windows("api-ms-win-crt-heap-l1-1-0.dll"));
        // These come with redistributable packages that a clean computer lacks.
        for library in ["VCRUNTIME140.dll", "msvcp140.dll", "d3dx9_43.dll", "xinput1_3.dll", "openal32.dll"] {
            assert!(!is_of_windows(library), "{library}");
        }
    }
}
