//! What was signed outside of any project.

use lantern_core::config::AD_HOC;
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_project::{Did, SignedPath};
use serde::Serialize;

use crate::format;
use crate::paint::{faint, good, strong};
use crate::view::View;

/// What `lantern sign --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    key: &'a Name,
    files: Vec<FileDocument>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FileDocument {
    path: String,
    /// `signed`, `had-it` (it was signed with this key already), `of-others` (it stays as it is), `beside` (a signature was written
    /// beside it).
    did: &'static str,
    /// Who else has signed it.
    #[serde(skip_serializing_if = "Option::is_none")]
    signed_by: Option<String>,
    /// The file of the signature.
    #[serde(skip_serializing_if = "Option::is_none")]
    signature: Option<String>,
}

/// What was signed.
pub fn document(signed: &SignedPath) -> Document<'_> {
    let file = |(path, did): &(std::path::PathBuf, Did)| {
        let (word, signed_by, signature) = match did {
            Did::OfOthers(name) => ("of-others", Some(name.clone()), None),
            Did::Beside(at) => ("beside", None, Some(at.display().to_string())),
            Did::HadIt => ("had-it", None, None),
            _ => ("signed", None, None),
        };
        FileDocument { path: path.display().to_string(), did: word, signed_by, signature }
    };
    Document { schema: "lantern.sign/1", key: &signed.key, files: signed.files.iter().map(file).collect() }
}

/// The same in sentences.
pub fn view(signed: &SignedPath) -> View {
    let mut view = View::default();
    let made = signed.files.iter().filter(|(_, did)| matches!(did, Did::Signed | Did::Beside(_))).count() as u64;
    let count = format::count(made, "file", "files");
    let is_ad_hoc = signed.key.as_str() == AD_HOC;
    let what = match made {
        0 if is_ad_hoc => "nothing had to be signed".to_owned(),
        0 => format!("nothing was signed with the key {}", strong(&signed.key)),
        _ if is_ad_hoc => format!("{} {count} without a key: that says of nobody who signed", good("signed")),
        _ => format!("{} {count} with the key {}", good("signed"), strong(&signed.key)),
    };
    view.say(format!("{what}\n"));
    for (path, did) in &signed.files {
        let path = shown(&path.display().to_string());
        view.say(match did {
            Did::OfOthers(name) => {
                format!("  {path}  {}", faint(format!("stays: signed by {} (--sign-again signs it)", shown(name))))
            }
            Did::HadIt => {
                format!("  {path}  {}", faint(if is_ad_hoc { "signed so already" } else { "signed with it already" }))
            }
            Did::Beside(at) => format!("  {path}  in {}", shown(&at.display().to_string())),
            _ => format!("  {path}"),
        });
    }
    view
}
