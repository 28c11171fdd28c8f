//! A release that was written out again.

use std::path::Path;

use lantern_core::names::Name;
use lantern_core::version::ReleaseName;
use lantern_project::WrittenOut;
use serde::Serialize;

use crate::format;
use crate::paint::{good, strong};
use crate::view::View;

/// What `lantern releases write --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    release: &'a ReleaseName,
    path: String,
    targets: &'a [Name],
    files: u64,
    bytes: u64,
}

/// What was written, and where.
pub fn document<'a>(release: &'a ReleaseName, written: &'a WrittenOut, to: &Path) -> Document<'a> {
    Document {
        schema: "lantern.release-written/1",
        release,
        path: to.display().to_string(),
        targets: &written.targets,
        files: written.files,
        bytes: written.size,
    }
}

/// The same in sentences.
pub fn view(release: &ReleaseName, written: &WrittenOut, to: &Path) -> View {
    let mut view = View::default();
    view.say(format!("{} {} to {}", good("written"), strong(release), to.display()));
    let (files, size) = (format::count(written.files, "file", "files"), format::bytes(written.size));
    view.say(format!("  {}: {files}, {size}", format::names(&written.targets)));
    view
}
