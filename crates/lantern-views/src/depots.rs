//! Which file lands in which depot, in none, in two.

use std::collections::BTreeMap;

use lantern_core::choices::Players;
use lantern_core::finding::{Finding, Severity};
use lantern_core::names::Name;
use lantern_core::path::shown as safe;
use lantern_core::system::System;
use lantern_project::{DepotShown, DepotsShown, Project, Sized};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, faint, strong};
use crate::shared::for_whom;
use crate::table::Table;
use crate::view::{Next, View};

/// What `lantern depots --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document {
    schema: &'static str,
    editions: Vec<EditionDocument>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct EditionDocument {
    edition: Name,
    depots: Vec<DepotDocument>,
    /// What no player gets.
    in_none: Vec<FileDocument>,
    /// What players would get twice.
    in_two: Vec<TwiceDocument>,
    /// What is sealed and never sent.
    aside: Vec<FileDocument>,
    findings: Vec<Finding>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct DepotDocument {
    depot: Name,
    targets: Vec<Name>,
    systems: Vec<System>,
    players: Players,
    /// The handle at each storefront that takes it.
    handles: BTreeMap<Name, String>,
    bytes: u64,
    files: Vec<FileDocument>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FileDocument {
    target: Name,
    path: String,
    bytes: u64,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct TwiceDocument {
    depots: [Name; 2],
    files: Vec<FileDocument>,
}

/// How depots are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// A line for each depot.
    Table,
    /// Folders with their sizes.
    Tree,
    /// Every file.
    Files,
}

/// How every edition that is shown is divided.
pub fn document(all: &[DepotsShown], project: &Project) -> Document {
    let handles = |depot: &Name| -> BTreeMap<Name, String> {
        let storefronts = project.config().storefronts.iter();
        storefronts.filter_map(|(name, s)| Some((name.clone(), s.depots.get(depot)?.to_string()))).collect()
    };
    let editions = all.iter().map(|shown| edition(shown, &handles)).collect();
    Document { schema: "lantern.depots/1", editions }
}

/// The same as columns; `with_rest` says whether also what lies in no depot, in two, or aside.
pub fn view(all: &[DepotsShown], form: Form, with_rest: bool, has_editions: bool) -> View {
    let mut view = View::default();
    for (i, shown) in all.iter().enumerate() {
        if i > 0 {
            view.space();
        }
        if has_editions {
            view.say(format!("{}\n", strong(&shown.edition)));
        }
        match form {
            Form::Table => table(shown, &mut view),
            Form::Tree => tree(shown, &mut view),
            Form::Files => files(shown, &mut view),
        }
        if with_rest {
            leftovers(shown, &mut view);
        }
        for (_, finding) in &shown.findings {
            view.space();
            view.finding(finding);
        }
    }
    let stops = all.iter().flat_map(|s| &s.findings).any(|(_, f)| f.severity == Severity::Error);
    view.next(match (stops, form) {
        (true, _) => Next::new("fix it in lantern.toml, then run: lantern depots", ""),
        (false, Form::Table) => Next::new("lantern depots --as tree", "shows their folders"),
        (false, _) => Next::new("lantern prepare", ""),
    });
    view
}

fn edition(shown: &DepotsShown, handles: &dyn Fn(&Name) -> BTreeMap<Name, String>) -> EditionDocument {
    let files = |target: &Name, files: &[Sized]| -> Vec<FileDocument> {
        let file = |(path, bytes): &Sized| FileDocument {
            target: target.clone(),
            path: path.as_str().to_owned(),
            bytes: *bytes,
        };
        files.iter().map(file).collect()
    };
    let depot = |d: &DepotShown| DepotDocument {
        depot: d.depot.clone(),
        targets: d.targets.clone(),
        systems: d.systems.clone(),
        players: d.players.clone(),
        handles: handles(&d.depot),
        bytes: d.size(),
        files: d.targets.first().map(|target| files(target, &d.files)).unwrap_or_default(),
    };
    EditionDocument {
        edition: shown.edition.clone(),
        depots: shown.depots.iter().map(depot).collect(),
        in_none: shown.in_none.iter().flat_map(|(target, list)| files(target, list)).collect(),
        in_two: (shown.in_two.iter())
            .map(|(target, depots, list)| TwiceDocument { depots: depots.clone(), files: files(target, list) })
            .collect(),
        aside: shown.aside.iter().flat_map(|(target, list)| files(target, list)).collect(),
        findings: shown.findings.iter().map(|(_, finding)| finding.clone()).collect(),
    }
}

fn size(files: &[Sized]) -> String {
    format::bytes(files.iter().map(|(_, size)| size).sum())
}

fn table(shown: &DepotsShown, view: &mut View) {
    let mut table = Table::default();
    table.head(["depot", "files", "size", "for"]);
    for depot in &shown.depots {
        table.row([
            strong(&depot.depot),
            depot.files.len().to_string(),
            format::bytes(depot.size()),
            for_whom(&depot.targets, &depot.players),
        ]);
    }
    view.table(table);
}

/// What lies in no depot, in two, or aside: each only where there is something.
fn leftovers(shown: &DepotsShown, view: &mut View) {
    let mut table = Table::default();
    for (target, files) in &shown.aside {
        let count = format::count(files.len() as u64, "file", "files");
        table.row([faint("kept aside"), count, size(files), format!("of {target}: sealed, never sent")]);
    }
    for (target, files) in &shown.in_none {
        let count = format::count(files.len() as u64, "file", "files");
        table.row([bad("in none"), count, size(files), format!("of {target}: no player gets them")]);
    }
    for (target, [one, other], files) in &shown.in_two {
        let count = format::count(files.len() as u64, "file", "files");
        table.row([bad("in two"), count, size(files), format!("of {target}: in {one} and in {other}")]);
    }
    if table.rows().next().is_some() {
        view.space();
        view.table(table);
    }
}

fn heading(depot: &DepotShown) -> String {
    let count = format::count(depot.files.len() as u64, "file", "files");
    format!(
        "{}  {count}, {}  {}",
        strong(&depot.depot),
        format::bytes(depot.size()),
        faint(format!("for {}", for_whom(&depot.targets, &depot.players)))
    )
}

/// Folders of the two uppermost levels, with what lies in them.
fn tree(shown: &DepotsShown, view: &mut View) {
    for (i, depot) in shown.depots.iter().enumerate() {
        if i > 0 {
            view.space();
        }
        view.say(heading(depot));
        let mut folders: BTreeMap<String, (u64, u64)> = BTreeMap::new();
        let mut add = |name: String, size: u64| {
            let entry = folders.entry(name).or_default();
            entry.0 += 1;
            entry.1 += size;
        };
        for (path, size) in &depot.files {
            let parts: Vec<&str> = path.as_str().split('/').collect();
            match parts.as_slice() {
                [file] => add((*file).to_owned(), *size),
                [top, rest @ ..] => {
                    add(format!("{top}/"), *size);
                    if let [second, _, ..] = rest {
                        add(format!("{top}/{second}/"), *size);
                    }
                }
                [] => {}
            }
        }
        let mut table = Table::default();
        for (name, (count, size)) in folders {
            let is_folder = name.ends_with('/');
            let depth = name.trim_end_matches('/').matches('/').count();
            let last = name.trim_end_matches('/').rsplit('/').next().unwrap_or_default().to_owned();
            let label = format!("{}{}{}", "  ".repeat(depth), safe(&last), if is_folder { "/" } else { "" });
            let files = if is_folder { format::count(count, "file", "files") } else { String::new() };
            table.row([label, format::bytes(size), faint(files)]);
        }
        view.table(table);
    }
}

fn files(shown: &DepotsShown, view: &mut View) {
    for (i, depot) in shown.depots.iter().enumerate() {
        if i > 0 {
            view.space();
        }
        view.say(heading(depot));
        let mut table = Table::default();
        for (path, size) in &depot.files {
            table.row([format::bytes(*size), path.shown()]);
        }
        view.table(table);
    }
}
