//! The text that helps to help.

use std::path::Path;

use serde::Serialize;

use crate::format;
use crate::paint::good;
use crate::view::View;

/// What `lantern help-me --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document {
    schema: &'static str,
    path: String,
    bytes: u64,
}

/// Where it was written, and how many bytes.
pub fn document(path: &Path, bytes: u64) -> Document {
    Document { schema: "lantern.help-me/1", path: path.display().to_string(), bytes }
}

/// The same in sentences.
pub fn view(path: &Path, bytes: u64) -> View {
    let mut view = View::default();
    view.say(format!("{} {}, {}", good("wrote"), path.display(), format::bytes(bytes)));
    view.say("  what looks like a secret is removed; read it before you send it to anyone");
    view
}
