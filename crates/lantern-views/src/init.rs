//! A new configuration.

use std::path::Path;

use lantern_core::path::shown;
use lantern_project::{InitAnswers, SeenExport, target_names};
use serde::Serialize;

use crate::format;
use crate::paint::{care, faint, good, strong};
use crate::table::Table;
use crate::view::View;

/// What `lantern init --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    path: String,
    text: &'a str,
}

/// What was written, and where.
pub fn document<'a>(path: &Path, text: &'a str) -> Document<'a> {
    Document { schema: "lantern.init/1", path: path.display().to_string(), text }
}

/// The same in sentences.
pub fn view(answers: &InitAnswers, text: &str) -> View {
    let mut view = View::default();
    let (lines, name) = (text.lines().count(), strong(&answers.name));
    view.say(format!("{} lantern.toml for {name}, {lines} lines to read and change", good("wrote")));
    if let Some(next) = answers.next_number {
        view.say(format!("the first release gets the number {next}"));
    }
    view.next(if answers.storefront.is_some() {
        "lantern prepare"
    } else {
        "read lantern.toml, then: lantern prepare"
    });
    view
}

/// The exports that were found, one target each, and those in which nothing starts.
pub fn found(seen: &[SeenExport], without_start: &[String]) -> View {
    let mut view = View::default();
    let mut table = Table::default();
    for (name, export) in target_names(seen).iter().zip(seen) {
        let systems: Vec<String> = export.starts.iter().map(|(_, system)| system.to_string()).collect();
        let starts: Vec<String> = export.starts.iter().map(|(file, _)| shown(file)).collect();
        table.row([strong(name), shown(&export.path), systems.join(", "), format!("starts {}", starts.join(", "))]);
        if !export.beside.is_empty() {
            let beside: Vec<String> = export.beside.iter().map(|path| shown(path)).collect();
            table.row([String::new(), String::new(), String::new(), faint(format!("not {}", beside.join(", ")))]);
        }
    }
    view.say(format!("found {}\n", format::count(seen.len() as u64, "export", "exports")));
    view.table(table);
    view.space();
    if !without_start.is_empty() {
        let paths: Vec<String> = without_start.iter().map(|path| shown(path)).collect();
        view.say(format!("{} {}", care("left out:"), paths.join(", ")));
        view.say("  nothing at the top of it starts; name all exports with --export to have it in\n");
    }
    view
}
