//! What an installation brought, or gave up.

use std::path::Path;

use lantern_core::choices::Chosen;
use lantern_core::path::TreePath;
use lantern_project::{About, Aside, InstallDone, InstallGivenUp};
use serde::Serialize;

use crate::format;
use crate::paint::{care, faint, good, strong};
use crate::view::View;

/// What `lantern install --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    #[cfg_attr(test, schemars(with = "String"))]
    folder: &'a Path,
    installed: &'a About,
    before: Option<&'a About>,
    files: u64,
    bytes: u64,
    written_files: u64,
    removed_files: u64,
    received_bytes: u64,
    /// Files that were not read, because they look as they did when they were last checked.
    unread_files: u64,
    /// What stood in the way and was no build's, or was changed since a build brought it: it is beside itself now.
    moved_aside: Vec<AsideDocument<'a>>,
    /// What an earlier build brought, was changed since, and is no longer part of the build: it stays where it is.
    left: Vec<&'a str>,
    /// Whether nobody could say what the earlier build had brought, so that nothing of it was removed.
    past_unknown: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    exit_code: Option<i32>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct AsideDocument<'a> {
    path: &'a str,
    to: &'a str,
}

/// What `lantern install --give-up --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct GivenUpDocument<'a> {
    schema: &'static str,
    #[cfg_attr(test, schemars(with = "String"))]
    folder: &'a Path,
    /// What is installed now, as before.
    installed: Option<&'a About>,
    /// Whether there was anything to give up.
    given_up: bool,
    /// Whether files had been switched already, and were switched back.
    switched_back: bool,
    moved_aside: Vec<AsideDocument<'a>>,
}

/// What an installation brought; `exit_code` is that of the program that was started afterwards.
pub fn document(done: &InstallDone, exit_code: Option<i32>) -> Document<'_> {
    let report = &done.report;
    Document {
        schema: "lantern.install/1",
        folder: &done.folder,
        installed: &done.about,
        before: done.before.as_ref(),
        files: report.files,
        bytes: report.size,
        written_files: report.written,
        removed_files: report.removed,
        received_bytes: report.received,
        unread_files: report.unread,
        moved_aside: aside(&report.aside),
        left: report.left.iter().map(TreePath::as_str).collect(),
        past_unknown: report.is_past_unknown,
        exit_code,
    }
}

/// What an installation came to that was given up.
pub fn given_up_document<'a>(folder: &'a Path, done: Option<&'a InstallGivenUp>) -> GivenUpDocument<'a> {
    GivenUpDocument {
        schema: "lantern.install-given-up/1",
        folder,
        installed: done.and_then(|done| done.about.as_ref()),
        given_up: done.is_some(),
        switched_back: done.is_some_and(|done| done.given_up.was_begun),
        moved_aside: aside(done.map_or(&[], |done| &done.given_up.aside)),
    }
}

/// The same in sentences.
pub fn given_up(folder: &Path, done: Option<&InstallGivenUp>) -> View {
    let mut view = View::default();
    let about = done.and_then(|done| done.about.as_ref());
    let what = about.map(|about| strong(format!("{} {}", about.name, about.build.name)));
    let folder = folder.display();
    view.say(match (done, what) {
        (None, Some(what)) => format!("nothing to give up: {what} is in {folder}, and nothing was begun"),
        (None, None) => format!("nothing to give up in {folder}"),
        (Some(_), Some(what)) => format!("{} {what} is in {folder}, as before", good("given up:")),
        (Some(_), None) => format!("{} {folder} is unchanged", good("given up:")),
    });
    show_aside(done.map_or(&[], |done| &done.given_up.aside), &mut view);
    view
}

fn aside(moved: &[Aside]) -> Vec<AsideDocument<'_>> {
    moved.iter().map(|aside| AsideDocument { path: aside.path.as_str(), to: aside.to.as_str() }).collect()
}

fn show_aside(moved: &[Aside], view: &mut View) {
    for Aside { path, to } in moved.iter().take(MOST_SHOWN) {
        view.say(format!("  {} {path} is now {to}", care("moved aside:")));
    }
    if let Some(more) = moved.len().checked_sub(MOST_SHOWN).filter(|more| *more > 0) {
        view.say(format!("  {} {more} more, each under its name with .yours", care("moved aside:")));
    }
}

/// Most files that are named one by one; `--json` names all.
const MOST_SHOWN: usize = 20;

/// What an installation brought, in sentences.
pub fn view(done: &InstallDone) -> View {
    let mut view = View::default();
    let (about, report, folder) = (&done.about, &done.report, &done.folder);
    let name = strong(format!("{} {}", about.name, about.build.name));
    if report.rolled_forward {
        view.say(faint("finished an update that was interrupted"));
    }
    let nothing = report.written == 0 && report.removed == 0;
    let headline = match &done.before {
        Some(before) if before.build == about.build && nothing => {
            format!("{name} is in {} already, every file as it should be", folder.display())
        }
        Some(before) if before.build == about.build => {
            let done = if before.chosen == about.chosen { "repaired" } else { "updated" };
            format!("{} {name} in {}", good(done), folder.display())
        }
        Some(before) => {
            format!("{} {} to {name} in {}", good("updated"), before.build.name, folder.display())
        }
        None => format!("{} {name} in {}", good("installed"), folder.display()),
    };
    view.say(headline);
    if about.chosen != Chosen::default() {
        view.say(format!("  {} {}", faint("choices:"), about.chosen));
    }
    if !nothing {
        let mut parts = vec![
            format!("{} downloaded", format::bytes(report.received)),
            format!("{} written", format::count(report.written, "file", "files")),
        ];
        if report.removed > 0 {
            parts.push(format!("{} removed", report.removed));
        }
        parts.push(match report.unread {
            0 => {
                let all = format::count(report.files, "file", "files");
                format!("all {all} checked, {}", format::bytes(report.size))
            }
            unread => {
                let checked = format::count(report.files.saturating_sub(unread), "file", "files");
                format!("{checked} checked, {unread} not read again: they look unchanged")
            }
        });
        view.say(format!("  {}", parts.join(", ")));
    }
    show_aside(&report.aside, &mut view);
    for path in report.left.iter().take(MOST_SHOWN) {
        view.say(format!("  {} {path} is no longer part of the build; you changed it, so it stays", care("left:")));
    }
    if let Some(more) = report.left.len().checked_sub(MOST_SHOWN).filter(|more| *more > 0) {
        view.say(format!("  {} {more} more such files", care("left:")));
    }
    if report.is_past_unknown {
        let what = "the list of the earlier build's files is lost: none of them was removed";
        view.say(format!("  {} {what}", care("careful:")));
    }
    view
}
