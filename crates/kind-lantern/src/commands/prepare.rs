use std::collections::BTreeMap;

use lantern_core::finding::{Finding, Severity};
use lantern_core::names::Name;
use lantern_core::version::{BuildNumber, ReleaseName, Version};
use lantern_project::{PrepareOptions, Prepared, Session};
use serde::Serialize;

use super::Done;
use crate::args::{EditionArg, TargetsArg};
use crate::format;
use crate::paint::{care, faint, good, strong};
use crate::table::Table;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern prepare
  lantern prepare --version 1.4.0-rc
  lantern prepare --target windows --target linux"#;

/// Turn exports into a sealed release
///
/// Takes the exports in, checks them, gives the release its number and seals it in .lantern/: frozen, and named by
/// its content. When nothing changed since the last time, says so and makes nothing. Exports are never changed. With
/// --target it is a release of a part: what the others have on a branch stays there.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES, disable_version_flag = true)]
pub struct Args {
    /// Instead of the version in lantern.toml, this once
    #[arg(long, value_parser = super::name::<Version>)]
    version: Option<Version>,
    /// Read every file, also those that look unchanged
    #[arg(long)]
    read_all: bool,
    #[command(flatten)]
    targets: TargetsArg,
    #[command(flatten)]
    pub edition: EditionArg,
}

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
    release: &'a lantern_core::release::ReleaseRecord,
    findings: Vec<FindingDocument<'a>>,
    /// For each target that is as it was in an earlier release: the first that had it so.
    unchanged_since: &'a BTreeMap<Name, ReleaseName>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FindingDocument<'a> {
    #[serde(skip_serializing_if = "Option::is_none")]
    target: Option<&'a Name>,
    #[serde(flatten)]
    finding: &'a Finding,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut session = super::lock_about(&args.targets, ui)?;
    ask_about_far_numbers(&mut session, ui)?;
    let options = PrepareOptions { version: args.version.clone(), read_all: args.read_all, signing: None };
    let mut all: Vec<Prepared> = Vec::new();
    for edition in session.project().editions() {
        let prepared = session.prepare(&edition, &options, &ui.progress())?;
        let name = session.project().edition_name(&edition);
        show(&prepared, name, !all.is_empty(), ui);
        all.push(prepared);
    }
    ui.document(&document(&all));
    super::next(session.workspace(), ui, super::ASK_THEM)
}

/// A number at a storefront that lies far above all others is followed only when someone says so. Where nobody can be
/// asked it is not, and every `prepare` says it.
fn ask_about_far_numbers(session: &mut Session, ui: &Ui) -> Done {
    let shown = session.workspace().next_number()?;
    for far in &shown.far {
        let (storefront, name) = (&far.storefront.name, &far.name);
        let follow = BuildNumber::after(Some(name.number));
        let what = format!("{storefront} has {name}, far above the numbers here");
        match follow {
            Ok(follow) if ui.can_ask() => {
                let question = format!("{what}. Go on with {follow} instead of {}? (y/n)", shown.next);
                if super::yes_or_no(ui, &question, "your answer", "lantern number --next")? {
                    session.set_next_number(follow)?;
                    return Ok(());
                }
                session.leave_number(far)?;
            }
            _ => ui.aside(&format!(
                "{} {what}; it is not followed\n  {} to follow it: lantern number --next {}",
                care("warns:"),
                faint("try:"),
                follow.map_or_else(|_| "N".to_owned(), |follow| follow.to_string()),
            )),
        }
    }
    Ok(())
}

fn document(all: &[Prepared]) -> Document<'_> {
    let releases = all.iter().map(|prepared| ReleaseDocument {
        made: prepared.cost.is_some(),
        id: prepared.release.id.to_string(),
        read_bytes: prepared.cost.unwrap_or_default().read,
        stored_bytes: prepared.cost.unwrap_or_default().stored,
        release: &prepared.record,
        findings: prepared
            .findings
            .iter()
            .map(|(target, finding)| FindingDocument { target: target.as_ref(), finding })
            .collect(),
        unchanged_since: &prepared.unchanged_since,
    });
    Document { schema: "lantern.prepare/1", releases: releases.collect() }
}

fn show(prepared: &Prepared, game: &str, is_next: bool, ui: &Ui) {
    if is_next {
        ui.say("");
    }
    let name = strong(&prepared.release.name);
    let Some(cost) = prepared.cost else {
        ui.say(&format!("nothing changed: {game} {name} has exactly this content"));
        if prepared.release.warnings > 0 {
            let count = format::count(prepared.release.warnings, "warning", "warnings");
            ui.say(&format!("  {} {count} when it was sealed: lantern check", care("warns:")));
        }
        return;
    };
    ui.say(&format!("{} {game} {name}\n", good("sealed")));
    let mut table = Table::default();
    for target in &prepared.record.targets {
        table.row([
            target.target.to_string(),
            format::systems(&target.systems),
            format::count(target.files(), "file", "files"),
            format::bytes(target.size()),
            match prepared.unchanged_since.get(&target.target) {
                Some(since) => faint(format!("unchanged since {since}")),
                None => format::starts(&target.starts),
            },
        ]);
    }
    ui.say(&table.lay_out());
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
    let since = match &prepared.before {
        Some(before) => format!("what {} had is stored once", before.name),
        None => "the first release".to_owned(),
    };
    facts
        .row([faint("added to the store"), format!("{}  {}", format::bytes(cost.stored), faint(format!("({since})")))]);
    facts.row([faint("release id"), prepared.release.id.0.short()]);
    ui.say(&format!("\n{}", facts.lay_out()));
    show_warnings(&prepared.findings, ui);
}

/// A line for each warning, and how many there are; `check` says what to do about them. Then what is worth knowing.
fn show_warnings(findings: &[(Option<Name>, Finding)], ui: &Ui) {
    let of = |severity: Severity| findings.iter().filter(move |(_, finding)| finding.severity == severity);
    let show = |(target, finding): &(Option<Name>, Finding)| {
        let of = target.as_ref().map_or_else(String::new, |target| format!("{target}: "));
        let code = format!("({})", finding.code);
        let line = format::flow(&format!("{of}{} {code}", finding.what), 4, 6);
        ui.say(&format!("    {}", line.replace(&code, &faint(&code))));
    };
    let warnings = of(Severity::Warning).count() as u64;
    if warnings > 0 {
        let count = format::count(warnings, "warning", "warnings");
        ui.say(&format!("\n  {} lantern check shows how to fix them", care(format!("{count}:"))));
        of(Severity::Warning).for_each(show);
    }
    if of(Severity::Note).next().is_some() {
        ui.say(&format!("\n  {}", faint("worth knowing:")));
        of(Severity::Note).for_each(show);
    }
}
