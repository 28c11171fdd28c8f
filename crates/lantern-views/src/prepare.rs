//! Releases that were sealed, or that nothing changed of.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use lantern_core::config::AD_HOC;
use lantern_core::finding::{Code, Finding, Severity};
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::release::ReleaseRecord;
use lantern_core::version::{BuildNumber, ReleaseName};
use lantern_project::{FarNumber, Prepared};
use serde::Serialize;

use crate::format;
use crate::paint::{care, faint, good, strong};
use crate::shared::{FindingDocument, say_of_sealing, targets};
use crate::table::Table;
use crate::view::View;

/// What `lantern prepare --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    /// One for each edition that has targets.
    releases: Vec<ReleaseDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ReleaseDocument<'a> {
    /// Whether something was made.
    made: bool,
    id: String,
    read_bytes: u64,
    stored_bytes: u64,
    release: &'a ReleaseRecord,
    findings: Vec<FindingDocument<'a>>,
    /// For each target that is as it was in an earlier release: the first that had it so.
    unchanged_since: &'a BTreeMap<Name, ReleaseName>,
    /// For each target that was signed: the key of the keyring.
    signed_with: &'a BTreeMap<Name, Name>,
    /// For each target that came signed with its key, and stays as it is: that key.
    signed_before: &'a BTreeMap<Name, Name>,
    /// For each target that is stamped: where the version and the number were written.
    stamped: &'a BTreeMap<Name, String>,
    /// For each target with a ticket: whose.
    looked_at: &'a BTreeMap<Name, Name>,
    /// Where the statement of how it was prepared lies, where one is asked for.
    statement: Option<&'a Path>,
}

/// One for each edition.
pub fn document(all: &[Prepared]) -> Document<'_> {
    let releases = all.iter().map(|prepared| ReleaseDocument {
        made: prepared.cost.is_some(),
        id: prepared.release.id.to_string(),
        read_bytes: prepared.cost.unwrap_or_default().read,
        stored_bytes: prepared.cost.unwrap_or_default().stored,
        release: &prepared.record,
        findings: prepared.findings.iter().map(FindingDocument::of).collect(),
        unchanged_since: &prepared.unchanged_since,
        signed_with: &prepared.done.signed_with,
        signed_before: &prepared.done.signed_before,
        stamped: &prepared.done.stamped,
        looked_at: &prepared.done.looked_at,
        statement: prepared.statement.as_deref(),
    });
    Document { schema: "lantern.prepare/1", releases: releases.collect() }
}

/// What was sealed of one edition; `is_next` says that another one stands above it.
pub fn view(prepared: &Prepared, game: &str, is_next: bool) -> View {
    let mut view = View::default();
    if is_next {
        view.space();
    }
    let name = strong(&prepared.release.name);
    let Some(cost) = prepared.cost else {
        view.say(format!("nothing changed: {game} {name} has exactly this content"));
        say_of_sealing(prepared.release.warnings, &prepared.release.unsigned, &mut view);
        show_of_now(&prepared.findings, &mut view);
        return view;
    };
    view.say(format!("{} {game} {name}\n", good("sealed")));
    view.table(targets(&prepared.record, &prepared.unchanged_since, Name::to_string));
    let mut facts = Table::default();
    let record = &prepared.record;
    let depots = record.different_depots();
    let is_divided = record.targets.iter().any(|t| t.depots.len() > 1 || t.depots.iter().any(|d| d.depot != t.target));
    if is_divided {
        facts.row([faint("depots"), format::names(depots.iter().map(|(_, depot)| &depot.depot))]);
    }
    let aside: Vec<_> = record.targets.iter().filter_map(|t| t.aside.as_ref()).collect();
    if !aside.is_empty() {
        let (files, size) = (aside.iter().map(|d| d.files).sum(), aside.iter().map(|d| d.size).sum());
        let text = format!("{}, {}", format::count(files, "file", "files"), format::bytes(size));
        facts.row([faint("kept aside"), text]);
    }
    let places: BTreeSet<&String> = prepared.done.stamped.values().collect();
    let stamped = places.into_iter().map(|place| {
        let of = prepared.done.stamped.iter().filter(|(_, at)| *at == place).map(|(target, _)| target);
        format!("{} in {}", format::names(of), shown(place))
    });
    let stamped = stamped.collect::<Vec<_>>();
    if !stamped.is_empty() {
        facts.row([faint("stamped"), stamped.join("; ")]);
    }
    for (label, by_target, end) in [
        ("signed", &prepared.done.signed_with, ""),
        ("signed already", &prepared.done.signed_before, ": left as it came"),
    ] {
        for key in by_target.values().collect::<BTreeSet<_>>() {
            let of = by_target.iter().filter(|(_, with)| *with == key).map(|(target, _)| target);
            let with = if key.as_str() == AD_HOC { "ad hoc".to_owned() } else { format!("with the key {key}") };
            facts.row([faint(label), format!("{} {with}{end}", format::names(of))]);
        }
    }
    for (target, by) in &prepared.done.looked_at {
        facts.row([faint("looked at"), format!("{target} by {by}: its ticket is attached")]);
    }
    if let Some(statement) = &prepared.statement {
        facts.row([faint("statement"), shown(&statement.to_string_lossy().replace('\\', "/")).to_string()]);
    }
    if !prepared.release.unsigned.is_empty() {
        facts.row([care("not signed"), format!("{}, as --unsigned says", format::names(&prepared.release.unsigned))]);
    }
    let is_damaged = prepared.findings.iter().any(|(_, finding)| finding.code == Code::StoreDamaged);
    let since = match &prepared.before {
        _ if is_damaged => "with what was missing or damaged".to_owned(),
        Some(before) => format!("what {} had is stored once", before.name),
        None => "the first release".to_owned(),
    };
    facts
        .row([faint("added to the store"), format!("{}  {}", format::bytes(cost.stored), faint(format!("({since})")))]);
    facts.row([faint("release id"), prepared.release.id.0.short()]);
    view.space();
    view.table(facts);
    show_warnings(&prepared.findings, &mut view);
    view
}

/// What nobody finds again later, with what to do about it.
fn show_of_now(findings: &[(Option<Name>, Finding)], view: &mut View) {
    for (_, finding) in findings.iter().filter(|(_, finding)| finding.is_of_now()) {
        view.space();
        view.finding(finding);
    }
}

/// A line for each warning, and how many there are; `check` says what to do about them. Then what is worth knowing.
fn show_warnings(findings: &[(Option<Name>, Finding)], view: &mut View) {
    show_of_now(findings, view);
    let findings: Vec<_> = findings.iter().filter(|(_, finding)| !finding.is_of_now()).collect();
    let warnings = findings.iter().filter(|(_, finding)| finding.severity == Severity::Warning).count() as u64;
    let count = format::count(warnings, "warning", "warnings");
    let of_warnings = format!("{} lantern check shows how to fix them", care(format!("{count}:")));
    for (severity, heading) in [(Severity::Warning, of_warnings), (Severity::Note, faint("worth knowing:"))] {
        let findings = || findings.iter().filter(|(_, finding)| finding.severity == severity);
        if findings().next().is_some() {
            view.say(format!("\n  {heading}"));
        }
        for (target, finding) in findings() {
            let of = target.as_ref().map_or_else(String::new, |target| format!("{target}: "));
            let code = faint(format!("({})", finding.code));
            view.sentence("    ", 6, format!("{of}{} {code}", finding.what));
        }
    }
}

/// What is said of a number at a storefront that lies far above all others.
pub fn far_number(far: &FarNumber) -> String {
    format!("{} has {}, far above the numbers here", far.storefront.name, far.name)
}

/// That it is not followed, and how to follow it; `follow` is the next number then.
pub fn far_number_left(far: &FarNumber, follow: Option<BuildNumber>) -> View {
    let mut view = View::default();
    let follow = follow.map_or_else(|| "N".to_owned(), |follow| follow.to_string());
    view.say(format!("{} {}; it is not followed", care("warns:"), far_number(far)));
    view.say(format!("  {} to follow it: lantern number --next {follow}", faint("try:")));
    view
}
