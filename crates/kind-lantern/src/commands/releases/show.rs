use std::collections::BTreeMap;

use lantern_core::board::KnownRelease;
use lantern_core::event::Pushed;
use lantern_core::names::Name;
use lantern_core::notes::{Notes, UNDETERMINED};
use lantern_core::release::ReleaseRecord;
use lantern_core::tree::Node;
use lantern_core::version::ReleaseName;
use lantern_project::{ProjectError, ReleaseError, Workspace};
use serde::Serialize;

use super::super::{Done, edition_word};
use crate::format;
use crate::paint::{bad, care, faint, strong};
use crate::table::Table;
use crate::ui::Ui;

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    id: String,
    #[cfg_attr(test, schemars(with = "String"))]
    sealed_at: jiff::Timestamp,
    release: &'a ReleaseRecord,
    withdrawn: Option<String>,
    freed: bool,
    /// For each target that is as it was in an earlier release: the first that had it so.
    unchanged_since: &'a BTreeMap<Name, ReleaseName>,
    /// What storefronts have of it.
    builds: Vec<BuildDocument<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    files: Vec<FileDocument>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct BuildDocument<'a> {
    storefront: &'a Name,
    build: u64,
    message: Option<&'a str>,
    notes: &'a Notes,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FileDocument {
    depot: String,
    path: String,
    bytes: u64,
    digest: lantern_core::digest::Digest,
    executable: bool,
}

pub fn run(open: &Workspace, release: &KnownRelease, with_files: bool, ui: &Ui) -> Done {
    let record = open.record_of(release)?;
    let unchanged_since = open.unchanged_since(release, &record)?;
    let board = open.board(&release.edition)?;
    let (withdrawn, freed) = (board.withdrawn.get(&release.id).cloned(), board.freed.contains(&release.id));
    if with_files && freed {
        return Err(ProjectError::from(ReleaseError::Freed(release.name.clone())).into());
    }
    let files = if with_files { files(open, &record)? } else { Vec::new() };
    let edition = edition_word(&open.project, &release.edition);
    let sealed = format::time(release.sealed_at);
    ui.say(&format!("{edition}{} {}, sealed {sealed}\n", strong(&release.name), release.id.0.short()));
    if let Some(because) = &withdrawn {
        ui.say(&format!("  {} {}\n", bad("withdrawn:"), lantern_core::path::shown(because)));
    }
    let builds: Vec<&Pushed> = board.pushed.iter().filter(|p| p.release == release.id).collect();
    show_texts(&builds, ui);
    if let Some(storefront) = &release.found_at {
        ui.say(&format!("  {} on another computer; found at {}\n", faint("sealed"), storefront.name));
    }
    if freed {
        ui.say(&format!("  {} only its record is left\n", care("content freed:")));
    }
    let mut table = Table::default();
    for target in &record.targets {
        table.row([
            strong(&target.target),
            format::systems(&target.systems),
            format::count(target.files(), "file", "files"),
            format::bytes(target.size()),
            match unchanged_since.get(&target.target) {
                Some(since) => faint(format!("unchanged since {since}")),
                None => format::starts(&target.starts),
            },
        ]);
    }
    ui.say(&table.lay_out());
    for target in &record.targets {
        let differing = target.claims.differing(&record.game, &release.name);
        if !differing.is_empty() {
            ui.say(&format!("  {} {} declares {}", care("differs:"), target.target, differing.join(", ")));
        }
    }
    let mut table = Table::default();
    table.head(["depot", "files", "size", "tree", "for"]);
    for (_, depot) in record.different_depots() {
        let having = record.targets.iter().filter(|t| t.depots.iter().any(|d| d.depot == depot.depot));
        let who = if depot.players.are_all() { String::new() } else { format!(", {}", depot.players) };
        table.row([
            depot.depot.to_string(),
            depot.files.to_string(),
            format::bytes(depot.size),
            depot.tree.0.short(),
            faint(format!("{}{who}", format::names(having.map(|t| &t.target)))),
        ]);
    }
    for target in &record.targets {
        if let Some(aside) = &target.aside {
            table.row([
                faint("kept aside"),
                aside.files.to_string(),
                format::bytes(aside.size),
                aside.tree.0.short(),
                faint(format!("no targets; of {}", target.target)),
            ]);
        }
    }
    ui.say(&format!("\n{}", table.lay_out()));
    if with_files {
        let mut table = Table::default();
        for file in &files {
            table.row([
                file.depot.clone(),
                format::bytes(file.bytes),
                faint(file.digest.short()),
                if file.executable { "program".to_owned() } else { String::new() },
                lantern_core::path::shown(&file.path),
            ]);
        }
        ui.say(&format!("\n{}", table.lay_out()));
    }
    ui.document(&Document {
        schema: "lantern.release-shown/1",
        id: release.id.to_string(),
        sealed_at: release.sealed_at,
        release: &record,
        withdrawn,
        freed,
        unchanged_since: &unchanged_since,
        builds: builds
            .iter()
            .map(|p| BuildDocument {
                storefront: &p.storefront.name,
                build: p.number_there,
                message: p.message.as_deref(),
                notes: &p.notes,
            })
            .collect(),
        files,
    });
    Ok(())
}

/// What was said of the builds when they were pushed; the same words once.
fn show_texts(builds: &[&Pushed], ui: &Ui) {
    let shown = lantern_core::path::shown;
    let mut lines: Vec<String> = Vec::new();
    for build in builds {
        let message = build.message.iter().map(|message| format!("{} {}", faint("for the team:"), shown(message)));
        let notes = build.notes.iter().map(|(language, text)| {
            let language = if language == UNDETERMINED { String::new() } else { format!(", {language}") };
            format!("{} {}", faint(format!("for players{language}:")), shown(text))
        });
        lines.extend(message.chain(notes));
    }
    lines.dedup();
    for line in &lines {
        ui.say(&format!("  {line}"));
    }
    if !lines.is_empty() {
        ui.say("");
    }
}

fn files(open: &Workspace, record: &ReleaseRecord) -> Result<Vec<FileDocument>, ProjectError> {
    let mut out = Vec::new();
    for (_, depot) in record.different_depots() {
        for (path, node) in open.store.tree(depot.tree)?.iter() {
            if let Node::File { size, digest, executable } = node {
                out.push(FileDocument {
                    depot: depot.depot.to_string(),
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
