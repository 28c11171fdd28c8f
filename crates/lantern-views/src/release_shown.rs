//! What one release holds.

use std::collections::BTreeMap;

use jiff::Timestamp;
use lantern_core::digest::Digest;
use lantern_core::names::Name;
use lantern_core::notes::Notes;
use lantern_core::path::shown as safe;
use lantern_core::release::ReleaseRecord;
use lantern_core::version::ReleaseName;
use lantern_project::{BuildThere, FileHeld, Project, ReleaseShown};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, care, faint, strong};
use crate::shared::{for_players, for_whom, targets};
use crate::table::Table;
use crate::view::View;

/// What `lantern releases RELEASE --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    id: String,
    #[cfg_attr(test, schemars(with = "String"))]
    sealed_at: Timestamp,
    release: &'a ReleaseRecord,
    withdrawn: Option<&'a str>,
    freed: bool,
    /// For each target that is as it was in an earlier release: the first that had it so.
    unchanged_since: &'a BTreeMap<Name, ReleaseName>,
    /// What storefronts have of it.
    builds: Vec<BuildDocument<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    files: Vec<FileDocument<'a>>,
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
struct FileDocument<'a> {
    depot: &'a str,
    path: &'a str,
    bytes: u64,
    digest: Digest,
    executable: bool,
}

/// What it holds; `files` are its files, where they are asked for.
pub fn document<'a>(of: &'a ReleaseShown, files: &'a [FileHeld]) -> Document<'a> {
    let build = |there: &'a BuildThere| BuildDocument {
        storefront: &there.storefront,
        build: there.number_there,
        message: there.message.as_deref(),
        notes: &there.notes,
    };
    let file = |file: &'a FileHeld| FileDocument {
        depot: &file.depot,
        path: file.path.as_str(),
        bytes: file.size,
        digest: file.digest,
        executable: file.executable,
    };
    Document {
        schema: "lantern.release-shown/1",
        id: of.release.id.to_string(),
        sealed_at: of.release.sealed_at,
        release: &of.record,
        withdrawn: of.withdrawn.as_deref(),
        freed: of.is_freed,
        unchanged_since: &of.unchanged_since,
        builds: of.builds.iter().map(build).collect(),
        files: files.iter().map(file).collect(),
    }
}

/// The same as columns.
pub fn view(of: &ReleaseShown, files: &[FileHeld], project: &Project) -> View {
    let mut view = View::default();
    let (release, record) = (&of.release, &of.record);
    let edition = format::edition_word(project, &release.edition);
    let sealed = format::time(release.sealed_at);
    view.say(format!("{edition}{} {}, sealed {sealed}\n", strong(&release.name), release.id.0.short()));
    if let Some(because) = &of.withdrawn {
        view.say(format!("  {} {}\n", bad("withdrawn:"), safe(because)));
    }
    show_texts(&of.builds, &mut view);
    if let Some(storefront) = &release.found_at {
        view.say(format!("  {} on another computer; found at {}\n", faint("sealed"), storefront.name));
    }
    if of.is_freed {
        view.say(format!("  {} only its record is left\n", care("content freed:")));
    }
    view.table(targets(record, &of.unchanged_since, |name| strong(name)));
    for target in &record.targets {
        let differing = target.claims.differing(&record.game, &release.name);
        if !differing.is_empty() {
            view.say(format!("  {} {} declares {}", care("differs:"), target.target, differing.join(", ")));
        }
    }
    view.space();
    view.table(depots(record));
    if !files.is_empty() {
        let mut table = Table::default();
        for file in files {
            table.row([
                file.depot.clone(),
                format::bytes(file.size),
                faint(file.digest.short()),
                if file.executable { "program".to_owned() } else { String::new() },
                file.path.shown(),
            ]);
        }
        view.space();
        view.table(table);
    }
    view
}

fn depots(record: &ReleaseRecord) -> Table {
    let mut table = Table::default();
    table.head(["depot", "files", "size", "tree", "for"]);
    for (_, depot) in record.different_depots() {
        let having = record.targets.iter().filter(|t| t.depots.iter().any(|d| d.depot == depot.depot));
        table.row([
            depot.depot.to_string(),
            depot.files.to_string(),
            format::bytes(depot.size),
            depot.tree.0.short(),
            faint(for_whom(having.map(|t| &t.target), &depot.players)),
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
    table
}

/// What was said of the builds when they were pushed; the same words once.
fn show_texts(builds: &[BuildThere], view: &mut View) {
    let mut lines: Vec<String> = Vec::new();
    for build in builds {
        let message = build.message.iter().map(|message| format!("{} {}", faint("for the team:"), safe(message)));
        let notes = build.notes.iter().map(|(language, text)| {
            let who = faint(format!("{}:", for_players(language)));
            format!("{who} {}", safe(text))
        });
        lines.extend(message.chain(notes));
    }
    lines.dedup();
    for line in &lines {
        view.say(format!("  {line}"));
    }
    if !lines.is_empty() {
        view.space();
    }
}
