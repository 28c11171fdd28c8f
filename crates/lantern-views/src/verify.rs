//! Whether an installed copy, the store or a signed file is as it should be.

use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::version::ReleaseName;
use lantern_exports::inspect::{Fact, Signature};
use lantern_project::{About, BesideVerified, ListedWrong, SignatureVerified, StoreVerified};
use lantern_store::install::{Problem, Verified};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, faint, good, strong};
use crate::table::Table;
use crate::view::View;

/// What `lantern verify DIR --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct InstalledDocument<'a> {
    schema: &'static str,
    installed: Option<&'a About>,
    files: u64,
    bytes: u64,
    wrong: Vec<WrongDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct WrongDocument<'a> {
    pub path: &'a str,
    pub problem: &'static str,
}

/// What `lantern verify --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct StoreDocument<'a> {
    schema: &'static str,
    releases: u64,
    bytes: u64,
    wrong: &'a [String],
    broken: &'a [ReleaseName],
}

fn words_of(problem: Problem) -> &'static str {
    match problem {
        Problem::Missing => "missing",
        Problem::Content => "different content",
        Problem::Kind => "something else is there",
        Problem::Executable => "the executable bit is wrong",
        Problem::Unreadable => "cannot be read",
    }
}

/// What is wrong with an installed copy.
pub fn installed_document<'a>(about: Option<&'a About>, verified: &'a Verified) -> InstalledDocument<'a> {
    let wrong = verified.wrong.iter();
    InstalledDocument {
        schema: "lantern.verify/1",
        installed: about,
        files: verified.files,
        bytes: verified.size,
        wrong: wrong.map(|w| WrongDocument { path: w.path.as_str(), problem: words_of(w.problem) }).collect(),
    }
}

/// What an installed copy is.
pub fn name_of(about: Option<&About>) -> String {
    about.map_or_else(|| "the build".to_owned(), |a| format!("{} {}", a.name, a.build.name))
}

/// The same in sentences.
pub fn installed(about: Option<&About>, verified: &Verified) -> View {
    let mut view = View::default();
    if verified.wrong.is_empty() {
        let (name, files) = (strong(name_of(about)), format::count(verified.files, "file", "files"));
        view.say(format!("{} {name}: {files}, {}", good("intact:"), format::bytes(verified.size)));
    }
    for wrong in &verified.wrong {
        view.say(format!("  {} {}: {}", bad("wrong"), wrong.path, words_of(wrong.problem)));
    }
    view
}

/// What is wrong with the store.
pub fn store_document(found: &StoreVerified) -> StoreDocument<'_> {
    StoreDocument {
        schema: "lantern.verify-store/1",
        releases: found.releases,
        bytes: found.size,
        wrong: &found.wrong,
        broken: &found.broken,
    }
}

/// The same in sentences.
pub fn store(found: &StoreVerified) -> View {
    let mut view = View::default();
    if found.wrong.is_empty() {
        let releases = format::count(found.releases, "release", "releases");
        view.say(format!("{} {releases}, {}", good("intact:"), format::bytes(found.size)));
    }
    for wrong in &found.wrong {
        view.say(format!("  {} {wrong}", bad("wrong")));
    }
    view
}

/// What `lantern verify FILE --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct SignatureDocument<'a> {
    schema: &'static str,
    path: &'a str,
    /// Whether there is a signature, and all that it covers is as it was; none when it was not verified.
    intact: Option<bool>,
    /// Who signed; whether to trust them is judged by nobody here.
    signed_by: Option<&'a str>,
    /// SHA-256 of the certificate, in hex.
    fingerprint: Option<&'a str>,
    /// Whether that is the key that `lantern.toml` pins; none where none is pinned.
    pinned: Option<bool>,
    /// What is wrong with it.
    wrong: Vec<&'a str>,
}

/// Whether a signature is there and holds; none when it was not verified.
pub fn is_intact(seen: &Signature) -> Option<bool> {
    match seen {
        Signature::NotUsual | Signature::None => Some(false),
        Signature::AdHoc { is_intact } => Some(*is_intact),
        Signature::Identity { is_intact, .. } => *is_intact,
    }
}

/// What a file's signature is.
pub fn signature_document(verified: &SignatureVerified) -> SignatureDocument<'_> {
    let seen = &verified.seen;
    let whose = if let Signature::Identity { whose, .. } = &seen.signature { whose.as_deref() } else { None };
    SignatureDocument {
        schema: "lantern.verify-file/1",
        path: &seen.path,
        intact: is_intact(&seen.signature),
        signed_by: whose,
        fingerprint: fact(verified, Fact::Fingerprint),
        pinned: verified.is_pinned(),
        wrong: verified.wrong().collect(),
    }
}

/// What `lantern verify FILE --json` prints for a file that has its signature beside it.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct BesideDocument<'a> {
    schema: &'static str,
    path: String,
    signature: String,
    intact: bool,
    /// What `ssh-keygen -l` calls the key; whom it belongs to is judged by nobody here.
    key: Option<&'a str>,
    /// What the key is called in the keyring.
    known_as: Option<&'a Name>,
    /// Why the signature does not hold.
    wrong: Option<&'a str>,
    /// Of a list, how many files it has.
    listed: Option<u64>,
    /// What is wrong with them.
    listed_wrong: Vec<WrongDocument<'a>>,
}

const fn words_of_listed(wrong: ListedWrong) -> &'static str {
    match wrong {
        ListedWrong::Missing => "missing",
        ListedWrong::Content => "different content",
        _ => "cannot be read",
    }
}

/// A key that signed, and whose it is as far as that is known.
pub(crate) fn whose_key(key: &str, known_as: Option<&Name>) -> String {
    match known_as {
        Some(name) => format!("{key}, which is {name} of your keyring"),
        None => format!("{key}; whom it belongs to is not judged"),
    }
}

/// What a signature beside a file is.
pub fn beside_document(verified: &BesideVerified) -> BesideDocument<'_> {
    let wrong = verified.listed_wrong.iter();
    BesideDocument {
        schema: "lantern.verify-beside/1",
        path: verified.file.display().to_string(),
        signature: verified.signature.display().to_string(),
        intact: verified.is_intact(),
        key: verified.key.as_deref(),
        known_as: verified.known_as.as_ref(),
        wrong: verified.wrong.as_deref(),
        listed: verified.listed,
        listed_wrong: wrong.map(|(path, wrong)| WrongDocument { path, problem: words_of_listed(*wrong) }).collect(),
    }
}

/// The same in sentences.
pub fn beside(verified: &BesideVerified) -> View {
    let mut view = View::default();
    let name = strong(shown(&verified.file.display().to_string()));
    if verified.is_intact() {
        let listed = verified.listed.map(|files| format::count(files, "file", "files"));
        let also = listed.map(|files| format!(", and every file that it lists ({files})")).unwrap_or_default();
        view.say(format!("{} {name} is as it was signed{also}\n", good("intact:")));
    }
    if let Some(why) = &verified.wrong {
        view.say(format!("  {} the signature of {name} does not hold: {why}", bad("wrong")));
    }
    for (path, wrong) in &verified.listed_wrong {
        view.say(format!("  {} {}: {}", bad("wrong"), shown(path), words_of_listed(*wrong)));
    }
    if let Some(key) = verified.key.as_ref().filter(|_| verified.wrong.is_none()) {
        let whose = whose_key(key, verified.known_as.as_ref());
        view.say(format!("  {}  {whose}", faint("signed by the SSH key")));
    }
    view
}

fn fact(verified: &SignatureVerified, fact: Fact) -> Option<&str> {
    verified.seen.facts.iter().find(|(about, _)| *about == fact).map(|(_, says)| says.as_str())
}

/// The same in sentences.
pub fn signature(verified: &SignatureVerified) -> View {
    let (seen, mut view) = (&verified.seen, View::default());
    let name = strong(shown(&seen.path));
    match is_intact(&seen.signature) {
        Some(true) => {
            view.say(format!("{} {name}: all that its signature covers is as it was signed\n", good("intact:")));
        }
        Some(false) => {}
        None => view.say(format!("{name}: there is a signature, of a kind that is not verified here\n")),
    }
    // What does not hold says of nobody that they signed it.
    if is_intact(&seen.signature) != Some(false) {
        view.table(who(verified));
    }
    for wrong in verified.wrong() {
        view.say(format!("  {} {wrong}", bad("wrong")));
    }
    view
}

/// Who signed a file, and how.
fn who(verified: &SignatureVerified) -> Table {
    let (seen, mut table) = (&verified.seen, Table::default());
    if let Signature::Identity { whose: Some(whose), .. } = &seen.signature {
        table.row([faint("signed by"), format!("{whose}; whether to trust them is not judged")]);
    }
    for about in [
        Fact::SignatureSchemes,
        Fact::SignedAs,
        Fact::Team,
        Fact::Runtime,
        Fact::Entitlements,
        Fact::SignatureCovers,
        Fact::CertifiedBy,
        Fact::CertificateExpires,
        Fact::TimeStamp,
        Fact::TimeStampBy,
        Fact::AlsoSignedBy,
        Fact::Appended,
        Fact::NotCovered,
        Fact::NotVerified,
        Fact::Fingerprint,
        Fact::PreviousKey,
    ] {
        for (_, says) in seen.facts.iter().filter(|(fact, _)| *fact == about) {
            table.row([faint(about.label()), says.to_owned()]);
        }
    }
    if let Some((role, _)) = verified.pinned.filter(|_| verified.is_pinned() == Some(true)) {
        table.row([faint("pinned"), format!("it is the key that lantern.toml pins ({})", role.key())]);
    }
    table
}
