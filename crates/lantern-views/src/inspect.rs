//! What a file or folder is.

use std::path::Path;

use lantern_core::finding::{Finding, Severity, join_some};
use lantern_core::path::shown;
use lantern_core::system::System;
use lantern_exports::inspect::{Inspected, Signature};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::table::Table;
use crate::view::View;

/// Most files that start something which are named; `--json` names all.
const MOST_STARTS: usize = 8;

/// What `lantern inspect --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    /// In the order in which they were named.
    things: Vec<ThingDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ThingDocument<'a> {
    path: &'a str,
    /// In words; none for one that could not be looked at.
    form: Option<&'static str>,
    systems: &'a [System],
    starts: &'a [String],
    name: Option<&'a str>,
    identity: Option<&'a str>,
    version: Option<&'a str>,
    number: Option<&'a str>,
    /// The oldest system that it starts on, in words.
    needs: Option<&'a str>,
    /// Libraries that what starts it wants.
    libraries: &'a [String],
    /// In pixels.
    icon_sizes: &'a [u16],
    files: u64,
    bytes: u64,
    /// On the disk, where that is less.
    packed_bytes: u64,
    signature: SignatureDocument<'a>,
    /// What else there is to say, by what it is about.
    facts: Vec<FactDocument<'a>>,
    findings: &'a [Finding],
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct SignatureDocument<'a> {
    /// `not-usual`, `none`, `ad-hoc` or `identity`.
    kind: &'static str,
    /// Whether all that it covers is as it was; none when it was not verified.
    intact: Option<bool>,
    whose: Option<&'a str>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FactDocument<'a> {
    about: &'a str,
    says: &'a str,
}

/// What each of them is.
pub fn document(all: &[Inspected]) -> Document<'_> {
    Document { schema: "lantern.inspect/1", things: all.iter().map(thing).collect() }
}

/// The same: all that is known of one, or several side by side.
pub fn view(all: &[Inspected]) -> View {
    let mut view = View::default();
    match all {
        [one] => show(one, &mut view),
        several => compare(several, &mut view),
    }
    view
}

fn thing(seen: &Inspected) -> ThingDocument<'_> {
    let (kind, intact, whose) = match &seen.signature {
        Signature::NotUsual => ("not-usual", None, None),
        Signature::None => ("none", None, None),
        Signature::AdHoc { is_intact } => ("ad-hoc", Some(*is_intact), None),
        Signature::Identity { whose, is_intact } => ("identity", *is_intact, whose.as_deref()),
    };
    ThingDocument {
        path: &seen.path,
        form: seen.form,
        systems: &seen.systems,
        starts: &seen.starts,
        name: seen.name.as_deref(),
        identity: seen.identity.as_deref(),
        version: seen.version.as_deref(),
        number: seen.number.as_deref(),
        needs: seen.needs.as_deref(),
        libraries: &seen.libraries,
        icon_sizes: &seen.icon_sizes,
        files: seen.files,
        bytes: seen.size,
        packed_bytes: seen.packed,
        signature: SignatureDocument { kind, intact, whose },
        facts: seen.facts.iter().map(|(fact, says)| FactDocument { about: fact.label(), says }).collect(),
        findings: &seen.findings,
    }
}

fn signature(signature: &Signature) -> String {
    let state = |is_intact: Option<bool>| match is_intact {
        Some(true) => format!(", {}", good("intact")),
        Some(false) => format!(", {}", bad("not intact")),
        None => String::new(),
    };
    match signature {
        Signature::NotUsual => String::new(),
        Signature::None => "none".to_owned(),
        Signature::AdHoc { is_intact } => format!("ad hoc: hashes only{}", state(Some(*is_intact))),
        Signature::Identity { whose, is_intact } => {
            let whose = whose.as_deref().map_or("there".to_owned(), |whose| format!("of {whose}"));
            let trust = if is_intact.is_none() { ", not verified" } else { ", who signed is not judged" };
            format!("{whose}{}{trust}", state(*is_intact))
        }
    }
}

fn sizes(seen: &Inspected) -> String {
    let (size, packed) = (format::bytes(seen.size), format::bytes(seen.packed));
    let also = if packed == size { String::new() } else { format!(", {packed} packed") };
    format!("{}, {size}{also}", format::count(seen.files, "file", "files"))
}

fn show(seen: &Inspected, view: &mut View) {
    let systems = format::systems(&seen.systems);
    let whom = if systems.is_empty() { String::new() } else { format!(" for {systems}") };
    let Some(form) = seen.form else {
        view.say(format!("{}  {}\n", strong(shown(&seen.path)), bad("cannot be inspected")));
        return seen.findings.iter().for_each(|finding| view.finding(finding));
    };
    view.say(format!("{}  {form}{whom}\n", strong(shown(&seen.path))));
    let mut table = Table::default();
    let mut row = |what: &str, says: Option<String>| {
        if let Some(says) = says.filter(|says| !says.is_empty()) {
            table.row([faint(what), says]);
        }
    };
    row("name", seen.name.as_deref().map(shown));
    row("identity", seen.identity.as_deref().map(shown));
    row("version", seen.version.as_deref().map(|version| strong(shown(version)).to_string()));
    row("number", seen.number.as_deref().map(shown));
    let starts: Vec<String> = seen.starts.iter().map(|start| shown(start)).collect();
    row("starts", Some(join_some(&starts, MOST_STARTS)));
    row("needs", seen.needs.as_deref().map(shown));
    let icons: Vec<String> = seen.icon_sizes.iter().map(u16::to_string).collect();
    row("icon", (!icons.is_empty()).then(|| format!("{} pixels", icons.join(", "))));
    row("size", Some(sizes(seen)));
    row("signature", Some(signature(&seen.signature)));
    for (fact, says) in &seen.facts {
        row(fact.label(), Some(says.clone()));
    }
    view.table(table);
    for finding in &seen.findings {
        view.space();
        view.finding(finding);
    }
}

/// What is wrong with each of several things; then a line for each, so that the last screen shows all of them.
fn compare(all: &[Inspected], view: &mut View) {
    for seen in all {
        for (i, finding) in seen.findings.iter().enumerate() {
            if i == 0 {
                view.say(format!("  {}", faint(shown(&seen.path))));
            }
            view.finding(finding);
            view.space();
        }
    }
    let mut table = Table::default();
    let head = ["", "for", "version", "size", "signature", ""];
    table.row(head.map(|word| if word.is_empty() { String::new() } else { faint(word) }));
    let common = common_folder(all);
    for seen in all {
        table.row(line(seen.path.strip_prefix(&common).unwrap_or(&seen.path), seen));
    }
    if !common.is_empty() {
        view.say(format!("in {}\n", shown(&common)));
    }
    view.table(table);
    let said = |what: &str, of: &dyn Fn(&Inspected) -> Option<&String>| {
        let mut values: Vec<String> = all.iter().filter_map(|seen| of(seen).map(|v| shown(v))).collect();
        values.sort();
        values.dedup();
        match values.as_slice() {
            [] => None,
            [one] => Some(format!("{} {one}", faint(what))),
            several => Some(format!("{what} {} {}", care("differs:"), several.join(", "))),
        }
    };
    let facts = [
        said("identity", &|seen| seen.identity.as_ref()),
        said("version", &|seen| seen.version.as_ref()),
        said("number", &|seen| seen.number.as_ref()),
    ];
    let facts: Vec<String> = facts.into_iter().flatten().map(|fact| format!("  {fact}")).collect();
    if !facts.is_empty() {
        view.say(format!("\n{}", facts.join("\n")));
    }
}

/// The folder that all of them lie in, with `/` at its end; nothing where it is the one that we are in.
fn common_folder(all: &[Inspected]) -> String {
    let mut folders = all.iter().map(|seen| Path::new(&seen.path).parent().unwrap_or(Path::new("")));
    let first = folders.next().unwrap_or(Path::new(""));
    if first.as_os_str().is_empty() || folders.any(|folder| folder != first) {
        return String::new();
    }
    format!("{}/", first.to_string_lossy().trim_end_matches('/'))
}

fn line(path: &str, seen: &Inspected) -> [String; 6] {
    let path = strong(shown(path));
    let Some(form) = seen.form else {
        let empty = String::new;
        return [path, bad("cannot be inspected"), empty(), empty(), empty(), empty()];
    };
    let signature = match &seen.signature {
        Signature::NotUsual => faint("–"),
        Signature::None => "none".to_owned(),
        Signature::AdHoc { is_intact: true } => "ad hoc".to_owned(),
        Signature::AdHoc { is_intact: false } | Signature::Identity { is_intact: Some(false), .. } => bad("broken"),
        Signature::Identity { is_intact: Some(true), .. } => "intact".to_owned(),
        Signature::Identity { is_intact: None, .. } => "there".to_owned(),
    };
    let count = |severity| seen.findings.iter().filter(|f| f.severity == severity).count() as u64;
    let wrong = match (count(Severity::Error), count(Severity::Warning)) {
        (0, 0) => String::new(),
        (0, warnings) => care(format::count(warnings, "warning", "warnings")),
        (errors, _) => bad(format::count(errors, "error", "errors")),
    };
    let number = seen.number.as_deref().map_or(String::new(), |number| format!(" ({})", shown(number)));
    let version = seen.version.as_deref().map_or_else(|| faint("–"), |version| format!("{}{number}", shown(version)));
    let systems = if seen.systems.is_empty() { faint(form) } else { format::systems(&seen.systems) };
    [path, systems, version, format::bytes(seen.size), signature, wrong]
}
