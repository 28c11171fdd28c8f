use lantern_core::version::Version;
use lantern_project::{PrepareOptions, Prepared};
use serde::Serialize;

use super::Done;
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
}

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
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
    let prepared = project.prepare(&options, &ui.progress())?;
    let cost = prepared.cost.unwrap_or_default();
    ui.document(&Document {
        schema: "lantern.prepare/1",
        made: prepared.cost.is_some(),
        id: prepared.release.id.to_string(),
        read_bytes: cost.read,
        stored_bytes: cost.stored,
        release: &prepared.record,
        findings: &prepared.findings,
    });
    let game = &project.open.project.config().game.name;
    show(&prepared, game, ui);
    let storefronts = &project.open.project.config().storefronts;
    match storefronts.keys().next() {
        Some(first) => ui.next(&format!("lantern push {first}")),
        None => ui.next("add a storefront to lantern.toml; to try one: lantern rehearse"),
    }
    Ok(())
}

fn show(prepared: &Prepared, game: &str, ui: &Ui) {
    for finding in &prepared.findings {
        ui.say(&show_finding(finding));
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
            format!("starts {}", target.starts.file),
        ]);
    }
    ui.say(&table.lay_out());
    let mut facts = Table::default();
    let since = match &prepared.before {
        Some(before) => format!("what {} had is stored once", before.name),
        None => "the first release".to_owned(),
    };
    facts.row([faint("added to the store"), format!("{}  {}", words::bytes(cost.stored), faint(format!("({since})")))]);
    facts.row([faint("release id"), prepared.release.id.0.short()]);
    ui.say(&format!("\n{}", facts.lay_out()));
}
