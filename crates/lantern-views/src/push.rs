//! What a push brings to a storefront.

use lantern_core::by_hand::HandForm;
use lantern_core::event::{EventBody, StorefrontRef};
use lantern_core::names::{Handle, Name};
use lantern_core::path::shown;
use lantern_core::version::ReleaseName;
use lantern_project::{HandPush, OpenWalk, Project, ProjectError, PushDepot, PushDone, PushPlan, UpdateBrought};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::shared::{for_players, for_whom, say_of_exports, say_of_sealing};
use crate::steps::{WalkDocument, walk_document};
use crate::table::Table;
use crate::view::View;

/// What `lantern push --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    /// One for each storefront, in the order in which they were named.
    pushes: Vec<PushDocument<'a>>,
    /// What people do at storefronts by hand, in the order in which they were named.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    by_hand: Vec<ByHandDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ByHandDocument<'a> {
    storefront: &'a StorefrontRef,
    edition: &'a Name,
    release: &'a ReleaseName,
    name_there: Option<&'a str>,
    left_here: &'a [Name],
    files: Vec<FileDocument<'a>>,
    /// For how many seconds players have nothing meanwhile, as far as it is known; null where they always have something.
    gap_seconds: Option<u64>,
    /// Whether it is there: its last step was done, or all of it was there already.
    done: bool,
    number_there: Option<u64>,
    /// The steps, once they were begun.
    #[serde(skip_serializing_if = "Option::is_none")]
    steps: Option<WalkDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FileDocument<'a> {
    target: &'a Name,
    name: &'a str,
    form: HandForm,
    files: u64,
    /// Unpacked.
    bytes: u64,
}

/// A push by hand, and how far it came.
#[derive(Debug)]
pub struct ByHand {
    /// The plan.
    pub plan: HandPush,
    /// Its steps, once they were begun.
    pub open: Option<OpenWalk>,
    /// What it came to.
    pub outcome: Option<EventBody>,
}

fn by_hand(push: &ByHand) -> ByHandDocument<'_> {
    let ByHand { plan, open, outcome } = push;
    let number = match outcome {
        Some(EventBody::Pushed(pushed)) => Some(pushed.number_there),
        _ => plan.already,
    };
    ByHandDocument {
        storefront: &plan.storefront,
        edition: &plan.release.edition,
        release: &plan.release.name,
        name_there: plan.name_there.as_ref().map(Handle::as_str),
        left_here: &plan.left_here,
        files: plan
            .files
            .iter()
            .map(|one| FileDocument {
                target: &one.target,
                name: one.name.as_str(),
                form: one.form,
                files: one.files,
                bytes: one.size,
            })
            .collect(),
        gap_seconds: plan.gap.map(|gap| gap.seconds),
        done: number.is_some(),
        number_there: number,
        steps: open.as_ref().map(|open| walk_document(open, outcome.as_ref())),
    }
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct PushDocument<'a> {
    storefront: &'a StorefrontRef,
    edition: &'a Name,
    release: &'a ReleaseName,
    id: String,
    /// What the storefront is to call it; null where it names it itself.
    name_there: Option<&'a str>,
    /// Targets of the release that do not go there.
    left_here: &'a [Name],
    depots: Vec<DepotDocument<'a>>,
    /// Estimated, at most.
    upload_bytes: u64,
    /// Releases whose players get an update file afterwards, if it comes out shorter; not in `upload_bytes`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    updates_after: Vec<&'a ReleaseName>,
    /// Whether it was carried out; also when all of it was there already.
    done: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    number_there: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sent_bytes: Option<u64>,
    /// Update files that were sent afterwards; not in `sent_bytes`.
    #[serde(skip_serializing_if = "Option::is_none")]
    sent_after_bytes: Option<u64>,
    /// Update files that were brought along, before or after, for players of earlier releases.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    updates: Vec<UpdateDocument<'a>>,
    /// Why it was not.
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<String>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct UpdateDocument<'a> {
    /// The release that players have.
    from: &'a ReleaseName,
    bytes: u64,
    /// What they would download without it.
    chunk_bytes: u64,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct DepotDocument<'a> {
    targets: &'a [Name],
    depot: &'a str,
    handle: &'a str,
    files: u64,
    bytes: u64,
}

/// What became of a plan.
#[derive(Debug)]
pub enum Outcome {
    /// Nothing yet.
    Planned,
    /// It was carried out.
    Done(PushDone),
    /// It was not, or not whole.
    Failed(ProjectError),
}

/// Every push, and what became of it.
pub fn document<'a>(pushes: &'a [(PushPlan, Outcome)], hand: &'a [ByHand]) -> Document<'a> {
    let pushes = pushes.iter().map(|(plan, outcome)| {
        let done = match outcome {
            Outcome::Done(done) => Some(done),
            _ => None,
        };
        PushDocument {
            storefront: &plan.storefront,
            edition: &plan.release.edition,
            release: &plan.release.name,
            id: plan.release.id.to_string(),
            name_there: plan.name_there.as_ref().map(Handle::as_str),
            left_here: &plan.left_here,
            depots: plan.depots.iter().map(depot_document).collect(),
            upload_bytes: plan.upload,
            updates_after: releases_after(plan),
            done: done.is_some(),
            number_there: done.map(|d| d.number_there),
            sent_bytes: done.map(|d| d.sent),
            sent_after_bytes: done.map(|d| d.sent_after),
            updates: done.iter().flat_map(|d| &d.updates).map(update_document).collect(),
            why: if let Outcome::Failed(error) = outcome { Some(error.to_string()) } else { None },
        }
    });
    Document { schema: "lantern.push/1", pushes: pushes.collect(), by_hand: hand.iter().map(by_hand).collect() }
}

/// Each release once whose players get an update file when the build is there.
fn releases_after(plan: &PushPlan) -> Vec<&ReleaseName> {
    let mut out = Vec::new();
    for pair in &plan.for_players {
        if !out.contains(&&pair.release) {
            out.push(&pair.release);
        }
    }
    out
}

fn update_document(update: &UpdateBrought) -> UpdateDocument<'_> {
    UpdateDocument { from: &update.release, bytes: update.bytes, chunk_bytes: update.chunks }
}

fn depot_document(depot: &PushDepot) -> DepotDocument<'_> {
    DepotDocument {
        targets: &depot.targets,
        depot: depot.depot.as_str(),
        handle: depot.handle.as_str(),
        files: depot.files,
        bytes: depot.size,
    }
}

/// What would travel.
pub fn plan(plan: &PushPlan, project: &Project) -> View {
    let mut view = View::default();
    let edition = format::edition_word(project, &plan.release.edition);
    view.say(format!("Push {edition}{} to {}\n", strong(&plan.release.name), strong(&plan.storefront_name)));
    let mut table = Table::default();
    table.head(["depot", "there", "files", "size", "for"]);
    for depot in &plan.depots {
        table.row([
            depot.depot.to_string(),
            depot.handle.to_string(),
            depot.files.to_string(),
            format::bytes(depot.size),
            faint(for_whom(&depot.targets, &depot.players)),
        ]);
    }
    view.table(table);
    let mut facts = Table::default();
    if let Some(name) = &plan.name_there {
        facts.row([faint("name there"), shown(name.as_str())]);
    }
    facts.row([faint("to upload"), format!("{} at most", strong(format::bytes(plan.upload)))]);
    let after = releases_after(plan);
    if !after.is_empty() {
        let after: Vec<String> = after.iter().map(ToString::to_string).collect();
        facts.row([faint("afterwards"), format!("update files from {}, where they are shorter", after.join(", "))]);
    }
    facts.row([faint("players"), "notice nothing: no branch changes".to_owned()]);
    if !plan.left_here.is_empty() {
        facts.row([faint("not for this storefront"), format::names(&plan.left_here)]);
    }
    if let Some(message) = &plan.message {
        facts.row([faint("for the team"), shown(message)]);
    }
    for (language, text) in plan.notes.iter() {
        facts.row([faint(for_players(language)), shown(text)]);
    }
    view.space();
    view.table(facts);
    say_of_exports(plan.exports, &mut view);
    say_of_sealing(plan.release.warnings, &plan.release.unsigned, &mut view);
    view
}

/// What travelled; nothing where all of it was there already.
pub fn done(plan: &PushPlan, done: &PushDone) -> View {
    let mut view = View::default();
    if plan.already.is_none() {
        let (name, storefront) = (strong(&plan.release.name), &plan.storefront_name);
        view.say(format!("\n{} {name} to {storefront}; its number there is {}", good("pushed"), done.number_there));
        let estimated = match done.sent == plan.upload {
            true => "as estimated".to_owned(),
            false => format!("{} estimated", format::bytes(plan.upload)),
        };
        let after = match done.sent_after {
            0 => String::new(),
            bytes => format!("; then {} of update files", format::bytes(bytes)),
        };
        view.say(format!("  {} sent, {estimated}{after}", format::bytes(done.sent)));
        for line in update_lines(&done.updates) {
            view.say(line);
        }
    }
    view
}

/// What players download who have an earlier release, where an update file was brought.
pub fn updates(updates: &[UpdateBrought]) -> View {
    let mut view = View::default();
    for line in update_lines(updates) {
        view.say(line);
    }
    view
}

fn update_lines(updates: &[UpdateBrought]) -> Vec<String> {
    let mut of_release: Vec<(&ReleaseName, u64, u64)> = Vec::new();
    for update in updates {
        match of_release.iter_mut().find(|(name, _, _)| **name == update.release) {
            Some((_, bytes, chunks)) => (*bytes, *chunks) = (*bytes + update.bytes, *chunks + update.chunks),
            None => of_release.push((&update.release, update.bytes, update.chunks)),
        }
    }
    let line = |(name, bytes, chunks): (&ReleaseName, u64, u64)| {
        let (bytes, chunks) = (format::bytes(bytes), format::bytes(chunks));
        format!("  update files from {name}: {bytes} in all, in place of {chunks}")
    };
    of_release.into_iter().map(line).collect()
}

/// That all of it is there; `is_texts_given` says that there were new texts, which are not used.
pub fn already(plan: &PushPlan, build: u64, is_texts_given: bool) -> View {
    let mut view = View::default();
    let (name, storefront) = (strong(&plan.release.name), &plan.storefront_name);
    view.say(format!("nothing to send: {name} is at {storefront} already; its number there is {build}"));
    if is_texts_given {
        let what = "its message and notes stay as they were sent with it; the new ones are not used";
        view.say(format!("  {} {what}", care("careful:")));
    }
    view
}

/// That one push of several did not end, and why.
pub fn not_finished(plan: &PushPlan, error: &ProjectError) -> View {
    let mut view = View::default();
    view.say(format!("\n{} {}: {error}", bad("not finished:"), plan.storefront_name));
    view
}
