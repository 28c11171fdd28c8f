use std::collections::BTreeSet;

use lantern_core::board::{Board, KnownRelease};
use lantern_core::release::ReleaseRecord;
use lantern_core::tree::Node;
use lantern_core::version::ReleaseAsked;
use lantern_project::Open;
use serde::Serialize;

use super::Done;
use crate::table::Table;
use crate::ui::{Ui, faint, strong};
use crate::words;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern releases
  lantern releases 1.4.0 --files"#;

/// List sealed releases, or show what one holds
///
/// Where each is: pushed to, and live on, by what is known here. With a release: its targets, ids and files.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// Which release to show: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    /// Every file with its size and digest
    #[arg(long, requires = "release")]
    files: bool,
}

#[derive(Serialize)]
struct ListDocument<'a> {
    schema: &'static str,
    /// Newest first.
    releases: Vec<ReleaseDocument<'a>>,
}

#[derive(Serialize)]
struct ReleaseDocument<'a> {
    #[serde(flatten)]
    name: &'a lantern_core::version::ReleaseName,
    id: String,
    sealed_at: jiff::Timestamp,
    pushed_to: BTreeSet<String>,
    live_on: BTreeSet<String>,
}

#[derive(Serialize)]
struct ShowDocument<'a> {
    schema: &'static str,
    id: String,
    sealed_at: jiff::Timestamp,
    release: &'a ReleaseRecord,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    files: Vec<FileDocument>,
}

#[derive(Serialize)]
struct FileDocument {
    target: String,
    path: String,
    bytes: u64,
    digest: lantern_core::digest::Digest,
    executable: bool,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let open = super::open(ui)?;
    match &args.release {
        Some(asked) => show(&open, &open.release(Some(asked))?, args.files, ui),
        None => list(&open.board()?, ui),
    }
}

fn list(board: &Board, ui: &Ui) -> Done {
    let releases = board.releases.iter().rev().map(|release| ReleaseDocument {
        name: &release.name,
        id: release.id.to_string(),
        sealed_at: release.sealed_at,
        pushed_to: board.pushed.iter().filter(|p| p.release == release.id).map(|p| p.place.name.to_string()).collect(),
        live_on: board
            .branches
            .iter()
            .filter(|(_, facts)| facts.targets.values().any(|b| b.release == release.id))
            .map(|((place, branch), _)| format!("{branch} at {}", place.name))
            .collect(),
    });
    let document = ListDocument { schema: "lantern.releases/1", releases: releases.collect() };
    ui.document(&document);
    if document.releases.is_empty() {
        ui.say("nothing is sealed yet");
        ui.next("lantern prepare");
        return Ok(());
    }
    let join = |names: &BTreeSet<String>| names.iter().cloned().collect::<Vec<_>>().join(", ");
    let mut table = Table::default();
    table.row(["release", "sealed", "pushed to", "live on"].map(faint));
    for release in &document.releases {
        let sealed = words::time(release.sealed_at);
        table.row([strong(release.name), sealed, join(&release.pushed_to), join(&release.live_on)]);
    }
    ui.say(&table.lay_out());
    ui.next(&format!("lantern releases {}   shows what it holds", document.releases[0].name.number));
    Ok(())
}

fn show(open: &Open, release: &KnownRelease, with_files: bool, ui: &Ui) -> Done {
    let record = open.store.record(release.id).map_err(lantern_project::ProjectError::from)?;
    let files = if with_files { files(open, &record)? } else { Vec::new() };
    let mut table = Table::default();
    for target in &record.targets {
        table.row([
            strong(&target.target),
            words::systems(&target.systems),
            words::count(target.files(), "file", "files"),
            words::bytes(target.size()),
            format!("tree {}", target.tree.0.short()),
            format!("starts {}", target.starts.file),
        ]);
    }
    ui.say(&format!("{} {}, sealed {}\n", strong(&release.name), release.id.0.short(), words::time(release.sealed_at)));
    ui.say(&table.lay_out());
    if with_files {
        let mut table = Table::default();
        for file in &files {
            table.row([
                file.target.clone(),
                words::bytes(file.bytes),
                faint(file.digest.short()),
                if file.executable { "program".to_owned() } else { String::new() },
                lantern_core::path::shown(&file.path),
            ]);
        }
        ui.say(&format!("\n{}", table.lay_out()));
    }
    let id = release.id.to_string();
    ui.document(&ShowDocument {
        schema: "lantern.release-shown/1",
        id,
        sealed_at: release.sealed_at,
        release: &record,
        files,
    });
    Ok(())
}

fn files(open: &Open, record: &ReleaseRecord) -> Result<Vec<FileDocument>, lantern_project::ProjectError> {
    let mut out = Vec::new();
    for target in &record.targets {
        for (path, node) in open.store.tree(target.tree)?.iter() {
            if let Node::File { size, digest, executable } = node {
                out.push(FileDocument {
                    target: target.target.to_string(),
                    path: path.as_str().to_owned(),
                    bytes: *size,
                    digest: *digest,
                    executable: *executable,
                });
            }
        }
    }
    Ok(out)
}
