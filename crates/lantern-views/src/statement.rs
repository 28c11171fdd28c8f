//! Statements of how a release came about.

use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::version::ReleaseName;
use lantern_project::{Statement, StatementVerified, StatementWritten};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::table::Table;
use crate::verify::{WrongDocument, whose_key};
use crate::view::View;

/// What `lantern releases statement --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct WrittenDocument<'a> {
    schema: &'static str,
    release: &'a ReleaseName,
    path: String,
    files: u64,
    /// SHA-256 of the certificate that signed it, in hex.
    key: &'a str,
}

/// What was written.
pub fn written_document<'a>(release: &'a ReleaseName, written: &'a StatementWritten) -> WrittenDocument<'a> {
    WrittenDocument {
        schema: "lantern.statement/1",
        release,
        path: written.path.display().to_string(),
        files: written.files,
        key: &written.key,
    }
}

/// The same in sentences.
pub fn written(release: &ReleaseName, written: &StatementWritten) -> View {
    let mut view = View::default();
    let (files, path) = (format::count(written.files, "file", "files"), shown(&written.path.display().to_string()));
    view.say(format!("{} the statement of {} to {path}", good("written"), strong(release)));
    view.say(format!("  {files}, each with its SHA-256; signed with the key {}", written.key));
    view
}

/// What `lantern verify FILE --json` prints for a statement.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct VerifiedDocument<'a> {
    schema: &'static str,
    path: String,
    /// Whether its signature holds.
    intact: bool,
    /// Why not.
    wrong: Option<&'a str>,
    signers: Vec<SignerDocument<'a>>,
    /// What it says.
    #[cfg_attr(test, schemars(with = "Option<serde_json::Value>"))]
    statement: Option<&'a Statement>,
    /// How many files of the folder are as it says.
    agree: Option<u64>,
    /// What of the folder is not.
    files_wrong: Vec<WrongDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct SignerDocument<'a> {
    /// SHA-256 of the certificate, in hex; whether it is to be trusted is judged by nobody here.
    sha256: &'a str,
    /// What the key is called in the keyring.
    known_as: Option<&'a Name>,
}

/// What a statement is.
pub fn verified_document<'a>(
    path: &std::path::Path,
    found: &'a Result<StatementVerified, String>,
) -> VerifiedDocument<'a> {
    let verified = found.as_ref().ok();
    let signers = verified.iter().flat_map(|verified| &verified.signers);
    let files = verified.iter().flat_map(|verified| &verified.wrong);
    VerifiedDocument {
        schema: "lantern.verify-statement/1",
        path: path.display().to_string(),
        intact: found.is_ok(),
        wrong: found.as_ref().err().map(String::as_str),
        signers: signers.map(|(sha256, name)| SignerDocument { sha256, known_as: name.as_ref() }).collect(),
        statement: verified.map(|verified| &verified.statement),
        agree: verified.and_then(|verified| verified.agree),
        files_wrong: files.map(|(path, problem)| WrongDocument { path, problem }).collect(),
    }
}

/// The same in sentences.
pub fn verified(path: &std::path::Path, found: &Result<StatementVerified, String>) -> View {
    let mut view = View::default();
    let name = strong(shown(&path.display().to_string()));
    let verified = match found {
        Err(why) => {
            view.say(format!("  {} {name}: {why}", bad("wrong")));
            return view;
        }
        Ok(verified) => verified,
    };
    let of = &verified.statement.predicate;
    view.say(format!("{} {name} is as it was signed\n", good("intact:")));
    let mut table = Table::default();
    for (key, known) in &verified.signers {
        table.row([faint("signed by the key"), whose_key(key, known.as_ref())]);
    }
    let release = ReleaseName { version: of.version.clone(), number: of.number };
    table.row([faint("about"), format!("{} {release}, {}", shown(&of.game), of.identity)]);
    let files = format::count(verified.statement.subject.len() as u64, "file", "files");
    let targets = format::names(of.targets.iter().map(|target| &target.target));
    table.row([faint("files"), format!("{files} of {targets}")]);
    table.row([faint("sealed"), format::time(of.sealed_at)]);
    table.row([faint("stated by"), format!("{} {}", shown(&of.tool.name), shown(&of.tool.version))]);
    let unsigned: Vec<&Name> =
        of.targets.iter().filter(|target| target.unsigned).map(|target| &target.target).collect();
    if !unsigned.is_empty() {
        table.row([care("not signed"), format::names(unsigned)]);
    }
    if !of.accepted.is_empty() {
        let accepted: Vec<String> =
            of.accepted.iter().map(|found| format!("{} ({})", shown(&found.code), shown(&found.because))).collect();
        table.row([faint("accepted"), accepted.join("; ")]);
    }
    if !of.last_look.is_empty() {
        let yes = of.last_look.iter().filter(|look| look.yes == Some(true)).count();
        table.row([faint("last look"), format!("{yes} of {} answered with yes", of.last_look.len())]);
    }
    view.table(table);
    if !verified.wrong.is_empty() {
        view.space();
    }
    for (file, problem) in &verified.wrong {
        view.say(format!("  {} {}: {problem}", bad("wrong"), shown(file)));
    }
    if let Some(agree) = verified.agree.filter(|_| verified.wrong.is_empty()) {
        let files = format::count(agree, "file", "files");
        view.say(format!("\n{} {files} of the folder, each as it says", good("intact:")));
    }
    view
}
