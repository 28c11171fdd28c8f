use lantern_core::version::Version;
use lantern_project::{PrepareOptions, Prepared};
use serde::Serialize;

use super::Done;
use crate::args::EditionArg;
use crate::diagnostic::show_finding;
use crate::table::Table;
use crate::ui::{Ui, faint, good, strong};
use crate::words;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern prepare
  lantern prepare --version 1.4.0-rc"#;

/// Turn exports into a sealed release
///
/// Takes the exports in, checks them, gives the release its number and seals it in .lantern/: frozen, and named by
/// its content. When nothing changed since the last time, says so and makes nothing. Exports are never changed.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES, disable_version_flag = true)]
pub struct Args {
    /// Instead of the version in lantern.toml, this once
    #[arg(long, value_parser = super::name::<Version>)]
    version: Option<Version>,
    /// Read every file, also those that look unchanged
    #[arg(long)]
    read_all: bool,
    #[command(flatten)]
    pub edition: EditionArg,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    /// One for each edition that has targets.
    releases: Vec<ReleaseDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ReleaseDocument<'a> {
    /// Whether something was made.
    made: bool,
    id: String,
    read_bytes: u64,
    stored_bytes: u64,
    release: &'a lantern_core::release::ReleaseRecord,
    findings: &'a [lantern_core::finding::Finding],
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut project = super::lock(ui)?;
    let options = PrepareOptions { version: args.version.clone(), read_all: args.read_all };
    let mut all: Vec<Prepared> = Vec::new();
    for edition in project.open.project.editions() {
        let prepared = project.prepare(&edition, &options, &ui.progress())?;
        let name = project.open.project.edition_name(&edition);
        show(&prepared, name, !all.is_empty(), ui);
        all.push(prepared);
    }
    ui.document(&document(&all));
    let storefronts = &project.open.project.config().storefronts;
    match storefronts.keys().next() {
        Some(first) => ui.next(&format!("lantern push {first}")),
        None => ui.next("add a storefront to lantern.toml; to try one: lantern rehearse"),
    }
    Ok(())
}

fn document(all: &[Prepared]) -> Document<'_> {
    let releases = all.iter().map(|prepared| ReleaseDocument {
        made: prepared.cost.is_some(),
        id: prepared.release.id.to_string(),
        read_bytes: prepared.cost.unwrap_or_default().read,
        stored_bytes: prepared.cost.unwrap_or_default().stored,
        release: &prepared.record,
        findings: &prepared.findings,
    });
    Document { schema: "lantern.prepare/1", releases: releases.collect() }
}

fn show(prepared: &Prepared, game: &str, is_next: bool, ui: &Ui) {
    if is_next {
        ui.say("");
    }
    for finding in &prepared.findings {
        ui.say(&format!("{}\n", show_finding(finding)));
    }
    let name = strong(&prepared.release.name);
    let Some(cost) = prepared.cost else {
        ui.say(&format!("nothing changed: {game} {name} holds exactly this"));
        return;
    };
    ui.say(&format!("{} {game} {name}\n", good("sealed")));
    let mut table = Table::default();
    for target in &prepared.record.targets {
        table.row([
            target.target.to_string(),
            words::systems(&target.systems),
            words::count(target.files(), "file", "files"),
            words::bytes(target.size()),
            words::starts(&target.starts),
        ]);
    }
    ui.say(&table.lay_out());
    let mut facts = Table::default();
    let record = &prepared.record;
    let depots = record.different_depots();
    let is_divided = record.targets.iter().any(|t| t.depots.len() > 1 || t.depots.iter().any(|d| d.depot != t.target));
    if is_divided {
        facts.row([faint("depots"), words::names(depots.iter().map(|(_, depot)| &depot.depot))]);
    }
    let aside: Vec<_> = record.targets.iter().filter_map(|t| t.aside.as_ref()).collect();
    if !aside.is_empty() {
        let (files, size) = (aside.iter().map(|d| d.files).sum(), aside.iter().map(|d| d.size).sum());
        let text = format!("{}, {}", words::count(files, "file", "files"), words::bytes(size));
        facts.row([faint("kept aside"), text]);
    }
    let since = match &prepared.before {
        Some(before) => format!("what {} had is stored once", before.name),
        None => "the first release".to_owned(),
    };
    facts.row([faint("added to the store"), format!("{}  {}", words::bytes(cost.stored), faint(format!("({since})")))]);
    facts.row([faint("release id"), prepared.release.id.0.short()]);
    ui.say(&format!("\n{}", facts.lay_out()));
}
