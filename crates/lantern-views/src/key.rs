//! Keys of the keyring.

use std::path::Path;

use jiff::Timestamp;
use lantern_core::bytes::hex;
use lantern_core::config::Config;
use lantern_core::finding::Finding;
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::pins::Fingerprint;
use lantern_keys::keyring::{Backup, Facts, Origin, PassphraseFrom, Sheets};
use lantern_keys::sheets::Set;
use lantern_keys::ssh;
use serde::Serialize;

use crate::format;
use crate::paint::{care, command, faint, good, strong};
use crate::table::Table;
use crate::view::{Next, View};

/// What `lantern key show --json` prints, and what makes or changes a key.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    #[serde(flatten)]
    key: KeyDocument<'a>,
}

/// What `lantern key list --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ListDocument<'a> {
    schema: &'static str,
    keys: Vec<KeyDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct KeyDocument<'a> {
    name: &'a Name,
    algorithm: &'a str,
    /// `made`, `imported` or `unknown`.
    origin: &'static str,
    #[cfg_attr(test, schemars(with = "String"))]
    since: Timestamp,
    /// As RFC 4514 writes it.
    subject: &'a str,
    /// Of the certificate, in hexadecimal digits.
    sha256: String,
    sha1: String,
    /// The public key as a line of SSH, for those who verify signatures with `ssh-keygen`.
    ssh: Option<String>,
    #[cfg_attr(test, schemars(with = "String"))]
    valid_from: Timestamp,
    #[cfg_attr(test, schemars(with = "String"))]
    valid_until: Timestamp,
    backups: Vec<BackupDocument>,
    /// The program that gives its passphrase, and its arguments.
    passphrase_from: &'a [String],
    /// Whether the key store of the system gives it.
    passphrase_in_key_store: bool,
    /// When it last signed.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    used: Option<Timestamp>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct BackupDocument {
    /// Where; of sheets, the name of their set.
    path: String,
    /// How many sheets bring it back; none for a file.
    #[serde(skip_serializing_if = "Option::is_none")]
    sheets_needed: Option<u8>,
    /// How many sheets were made; none where that is not known.
    #[serde(skip_serializing_if = "Option::is_none")]
    sheets: Option<u8>,
    #[cfg_attr(test, schemars(with = "String"))]
    at: Timestamp,
    /// When it last opened.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    drilled: Option<Timestamp>,
}

fn key_document(facts: &Facts) -> KeyDocument<'_> {
    KeyDocument {
        name: &facts.name,
        algorithm: &facts.algorithm,
        origin: facts.origin.word(),
        since: facts.since,
        subject: &facts.certificate.subject,
        sha256: hex(&facts.certificate.sha256),
        sha1: hex(&facts.certificate.sha1),
        ssh: facts.chain.first().and_then(|own| ssh::public_line(own).ok()),
        valid_from: facts.certificate.valid.0,
        valid_until: facts.certificate.valid.1,
        backups: facts
            .backups
            .iter()
            .map(|backup| BackupDocument {
                path: backup.path.display().to_string(),
                sheets_needed: backup.sheets.map(|sheets| sheets.needed),
                sheets: backup.sheets.and_then(|sheets| sheets.of),
                at: backup.at,
                drilled: backup.drilled,
            })
            .collect(),
        passphrase_from: facts.passphrase_from.program(),
        passphrase_in_key_store: facts.passphrase_from.is_key_store(),
        used: facts.used,
    }
}

/// One key.
pub fn document(facts: &Facts) -> Document<'_> {
    Document { schema: "lantern.key/1", key: key_document(facts) }
}

/// All keys.
pub fn list_document(all: &[Facts]) -> ListDocument<'_> {
    ListDocument { schema: "lantern.key-list/1", keys: all.iter().map(key_document).collect() }
}

/// What stands for the backups of a key in a list.
fn backups(facts: &Facts) -> String {
    match (facts.backups.len(), facts.drilled()) {
        (0, _) => care("none"),
        (_, None) => care("never opened"),
        (_, Some(at)) => format!("opened {}", format::day(at)),
    }
}

/// All keys as columns.
pub fn list(all: &[Facts], folder: &Path) -> View {
    let mut view = View::default();
    if all.is_empty() {
        view.say("there are no keys yet");
        view.next(Next::of("lantern key new NAME".to_owned(), "makes one; lantern key import NAME FILE brings one"));
        return view;
    }
    let mut table = Table::default();
    table.head(["key", "kind", "certificate until", "last signed", "backup"]);
    for facts in all {
        let used = facts.used.map_or_else(|| faint("never"), format::day);
        table.row([
            strong(&facts.name),
            facts.algorithm.clone(),
            format::day(facts.certificate.valid.1),
            used,
            backups(facts),
        ]);
    }
    view.table(table);
    view.say(format!("\n{}", faint(format!("in {}", shown(&folder.display().to_string())))));
    view
}

/// Everything that is known of a key; `config` is the project's, where there is one.
pub fn show(facts: &Facts, config: Option<&Config>, path: &Path) -> View {
    let mut view = View::default();
    let mut line = |name: &str, text: String| view.say(format!("  {name:<13} {text}"));
    line("key", strong(&facts.name));
    line("kind", facts.algorithm.clone());
    line("subject", shown(&facts.certificate.subject));
    let (from, until) = facts.certificate.valid;
    line("certificate", format!("{} until {}", format::day(from), format::day(until)));
    line("SHA-256", hex(&facts.certificate.sha256));
    line("SHA-1", hex(&facts.certificate.sha1));
    if let Some(own) = facts.chain.first().and_then(|own| ssh::public_line(own).ok()) {
        line("SSH", own);
    }
    let since = format::day(facts.since);
    line("here", format!("{} on {since}", if facts.origin == Origin::Unknown { "since" } else { facts.origin.word() }));
    match &facts.passphrase_from {
        PassphraseFrom::Nobody => {}
        PassphraseFrom::Program(run) => line("passphrase", format!("from {}", shown(&run.join(" ")))),
        PassphraseFrom::KeyStore => line("passphrase", "in the key store of this system".to_owned()),
    }
    line("last signed", facts.used.map_or_else(|| faint("never"), format::time));
    let pins: Vec<String> = config
        .into_iter()
        .flat_map(|config| config.pins.places_of(Fingerprint(facts.certificate.sha256)))
        .map(|(identity, role)| format!("{identity}, {}", role.key()))
        .collect();
    if config.is_some() {
        line("pinned", if pins.is_empty() { faint("not in this project") } else { pins.join("; ") });
    }
    if facts.backups.is_empty() {
        line("backup", care("none: if this disk fails, the key is lost"));
    }
    for backup in &facts.backups {
        let drilled = match backup.drilled {
            None => care("never opened"),
            Some(at) => format!("opened {}", format::day(at)),
        };
        line("backup", format!("{}, {drilled}", place_of(backup)));
    }
    line("file", faint(shown(&path.display().to_string())));
    view
}

/// Where a copy is.
fn place_of(backup: &Backup) -> String {
    let path = shown(&backup.path.display().to_string());
    match backup.sheets {
        None => path,
        Some(Sheets { needed, of: Some(of) }) => format!("any {needed} of {of} sheets of the set {path}"),
        Some(Sheets { needed, of: None }) => format!("any {needed} sheets of the set {path}"),
    }
}

/// A key that has just come into the keyring.
pub fn added(facts: &Facts, path: &Path) -> View {
    let mut view = View::default();
    view.say(format!("{} the key {}, {}", good(facts.origin.word()), strong(&facts.name), facts.algorithm));
    view.say(format!("  subject  {}", shown(&facts.certificate.subject)));
    view.say(format!("  until    {}", format::day(facts.certificate.valid.1)));
    view.say(format!("  SHA-256  {}", hex(&facts.certificate.sha256)));
    view.say(format!("  file     {}", faint(shown(&path.display().to_string()))));
    view.space();
    let why = "without this key and its passphrase the game can never be updated on devices that have it.";
    view.sentence(format!("{} ", care("careful:")), 9, why);
    if facts.passphrase_from.is_key_store() {
        let where_it_is = "  its passphrase is in the key store of this system alone: a copy gets one of your own, and sheets need none";
        view.say(where_it_is);
    }
    view.say(format!(
        "  to sign with it, in lantern.toml below a target: {}",
        command(format!("sign = \"{}\"", facts.name))
    ));
    view.next(Next::of(format!("lantern key backup {} FILE", facts.name), "on another disk"));
    view
}

/// A copy that was written.
pub fn backed_up(facts: &Facts, to: &Path) -> View {
    let mut view = View::default();
    let at = shown(&to.display().to_string());
    view.say(format!("{} the key {} to {at}", good("copied"), strong(&facts.name)));
    view.next(Next::of(format!("lantern key drill {} {at}", facts.name), "opens the copy and signs with it"));
    view
}

/// Sheets that were written.
pub fn divided(facts: &Facts, set: &Set, folder: &Path) -> View {
    let mut view = View::default();
    let at = shown(&folder.display().to_string());
    let (of, needed) = (set.shares.len(), set.needed);
    view.say(format!("{} the key {} over {of} sheets in {at}", good("divided"), strong(&facts.name)));
    view.say(format!("  set {}: any {needed} of them bring it back, fewer say nothing about it", set.name));
    view.space();
    let why = format!(
        "anyone with {needed} of these files has the key, without a passphrase. Drill them, print each, give each to another person or place, and remove the files."
    );
    view.sentence(format!("{} ", care("careful:")), 9, &why);
    let some: Vec<String> = (1..=needed).map(|number| format!("{at}/sheet-{number}.html")).collect();
    view.next(Next::of(
        format!("lantern key drill {} {}", facts.name, some.join(" ")),
        "puts the key together in memory, and signs with it",
    ));
    view
}

/// Sheets that brought the key back.
pub fn drilled_sheets(facts: &Facts, set: &str, needed: u8) -> View {
    let mut view = View::default();
    view.say(format!(
        "{} {needed} sheets of the set {set} bring the key {} back, and it signs",
        good("well:"),
        strong(&facts.name)
    ));
    view.say(format!("  {}", faint("nothing was written but the day")));
    view
}

/// A passphrase that is kept by a program from now on, or no longer.
pub fn remembered(facts: &Facts) -> View {
    let mut view = View::default();
    let of_key = format!("{} the passphrase of the key {}", good("done:"), strong(&facts.name));
    match &facts.passphrase_from {
        PassphraseFrom::KeyStore => view.say(format!("{of_key} is in the key store of this system")),
        PassphraseFrom::Program(run) => {
            view.say(format!("{of_key} comes from {}", shown(run.first().map_or("", String::as_str))));
            view.say(format!("  {}", faint("it was run, and what it printed opens the key")));
        }
        PassphraseFrom::Nobody => view.say(format!("{of_key} is asked for")),
    }
    view
}

/// A pin that was written.
pub fn pinned(finding: &Finding) -> View {
    let mut view = View::default();
    view.sentence(format!("{} ", good("done:")), 6, &finding.what);
    view
}

/// A key that follows another one from now on.
pub fn rotated(from: &Name, to: &Facts, file: &Path, keys: usize) -> View {
    let mut view = View::default();
    let at = shown(&file.display().to_string());
    view.say(format!("{} the key {} follows {from}: a chain of {keys} keys in {at}", good("done:"), strong(&to.name)));
    view.space();
    view.say("  in lantern.toml, below the target:");
    view.say(format!("    {}", command(format!("sign = \"{}\"", to.name))));
    view.say(format!("    {}", command(format!("lineage = \"{at}\""))));
    view.space();
    let why = format!(
        "devices before API level 33 know {from} for ever, so keep both keys. Commit the file: it is public. Ask each storefront how it takes another key before you push."
    );
    view.sentence(format!("{} ", care("careful:")), 9, &why);
    view.next(Next::of("lantern check".to_owned(), "says whether the key may sign"));
    view
}

/// A copy that opened.
pub fn drilled(facts: &Facts, copy: &Path) -> View {
    let mut view = View::default();
    let at = shown(&copy.display().to_string());
    view.say(format!("{} {at} opens, and signs as the key {}", good("well:"), strong(&facts.name)));
    view.say(format!("  {}", faint("nothing was written but the day; the passphrase that you have is the right one")));
    view
}

/// A file that was written for someone else.
pub fn exported(name: &Name, to: &Path, is_certificate: bool) -> View {
    let mut view = View::default();
    let what = if is_certificate { "the certificate of the key" } else { "the key" };
    view.say(format!("{} {what} {} to {}", good("wrote"), strong(name), shown(&to.display().to_string())));
    if !is_certificate {
        view.say(format!("  {} anyone with this file and its passphrase can sign as you", care("careful:")));
    }
    view
}
