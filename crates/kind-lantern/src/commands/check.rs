use std::cmp::Reverse;
use std::collections::BTreeSet;

use lantern_core::finding::{Code, Explanation, Finding, Severity, join_some};
use lantern_core::names::Name;
use lantern_project::{Checked, Project};
use serde::Serialize;

use super::Done;
use crate::args::{EditionArg, TargetsArg};
use crate::diagnostic::{CommandError, show_finding};
use crate::format;
use crate::paint::{bad, faint, good, strong};
use crate::table::Table;
use crate::ui::Ui;

/// Most findings that are named once more at the end.
const MAX_NAMED: usize = 3;

/// For how long it is proposed to accept a finding.
const EXCUSED_MONTHS: i32 = 3;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern check
  lantern check --strict --json
  lantern check --target windows
  lantern check --explain library-missing"#;

/// Find what is wrong before anything is made
///
/// First lantern.toml, then every export: start file, system, names, links; what its programs need and say of
/// themselves; litter, debug data and secrets; what is different from the last release; then how depots divide it. All
/// of it in one go, each with its fix. What is meant to be so is accepted in lantern.toml, with a reason.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// Let warnings stop, too
    #[arg(long)]
    strict: bool,
    /// Tell the story behind a finding, by the code that it shows in brackets
    #[arg(long, value_name = "CODE", conflicts_with = "strict")]
    explain: Option<String>,
    #[command(flatten)]
    targets: TargetsArg,
    #[command(flatten)]
    pub edition: EditionArg,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    /// Whether nothing stops.
    passes: bool,
    targets: Vec<TargetDocument<'a>>,
    findings: Vec<FindingDocument<'a>>,
    /// Findings that are meant to be so.
    accepted: Vec<AcceptedDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct AcceptedDocument<'a> {
    because: &'a str,
    #[serde(flatten)]
    finding: FindingDocument<'a>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ExplanationDocument {
    schema: &'static str,
    code: Code,
    what: &'static str,
    why: &'static str,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct TargetDocument<'a> {
    edition: &'a Name,
    target: &'a Name,
    /// Where it lies: the newest, where a pattern is configured.
    export: &'a str,
    systems: &'a [lantern_core::system::System],
    starts: &'a [String],
    files: u64,
    bytes: u64,
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
    if let Some(code) = &args.explain {
        return explain(code, ui);
    }
    let mut project = Project::find_to_check(&ui.project, ui.stop.clone())?;
    super::choose_edition(&mut project, ui)?;
    project.only_targets(&args.targets.names)?;
    let checked = project.check(&ui.progress())?;
    let from = if args.strict { Severity::Warning } else { Severity::Error };
    let stops = checked.findings.iter().filter(|(_, f)| f.severity >= from).count() as u64;
    ui.document(&document(&checked, stops == 0));
    show(&checked, ui);
    let count = |severity: Severity| checked.findings.iter().filter(|(_, f)| f.severity == severity).count() as u64;
    let (errors, warnings) = (count(Severity::Error), count(Severity::Warning));
    let mut also = match warnings {
        0 => String::new(),
        count => format!(", {}", format::count(count, "warning", "warnings")),
    };
    if !checked.accepted.is_empty() {
        also += &format!(", {} accepted", checked.accepted.len());
    }
    if stops == 0 {
        ui.say(&format!("\n{} no errors{also}", good("checked:")));
        return next(ui);
    }
    if args.strict && warnings > 0 {
        also += "; with --strict, warnings stop as errors do";
    }
    let mut stop = match errors {
        0 => "no errors".to_owned(),
        errors => format::count(errors, "error", "errors"),
    };
    if stops < checked.findings.len() as u64 {
        // Among many others they are hard to find again.
        let mut which: Vec<String> = Vec::new();
        for (target, finding) in checked.findings.iter().filter(|(_, f)| f.severity >= from) {
            let code = &finding.code;
            let one = target.as_ref().map_or_else(|| code.to_string(), |target| format!("{target}: {code}"));
            if !which.contains(&one) {
                which.push(one);
            }
        }
        stop += &format!(" ({})", join_some(&which, MAX_NAMED));
    }
    ui.say(&format!("\n{} {stop}{also}", bad("checked:")));
    ui.next("fix them, then run: lantern check");
    Err(CommandError::findings_said())
}

/// The next step of the game; before anything was sealed there is no record to ask.
fn next(ui: &Ui) -> Done {
    let is_begun = || Project::find(&ui.project, ui.stop.clone()).is_ok_and(|project| project.has_ledger());
    if ui.json || !is_begun() {
        ui.next("lantern prepare");
        return Ok(());
    }
    super::next(&super::open(ui)?, ui, super::ASK_THEM)
}

fn explain(code: &str, ui: &Ui) -> Done {
    let Ok(code) = code.parse::<Code>() else {
        let fix = match Code::nearest(code) {
            Some(near) => format!("did you mean {near}?"),
            None => "write the code that a finding shows in brackets".to_owned(),
        };
        return Err(CommandError::usage(format!("no finding has the code {code:?}"), fix));
    };
    let Explanation { what, why } = code.explanation();
    ui.document(&ExplanationDocument { schema: "lantern.explanation/1", code, what, why });
    ui.say(&format!("{}\n", strong(code)));
    for text in [what, why] {
        ui.say(&format!("  {}", format::flow(text, 2, 2)));
    }
    if !code.can_be_accepted() {
        ui.say("\n  It cannot be accepted: nothing can be made until it is fixed.");
        return Ok(());
    }
    ui.say("\n  If it is intended, accept it in lantern.toml, if possible for one target or for some of its files:\n");
    let today = lantern_project::today();
    let until = today.checked_add(jiff::Span::new().months(EXCUSED_MONTHS)).unwrap_or(today);
    ui.say(&format!("  [checks]\n  accept = [{{ code = \"{code}\", because = \"…\", until = \"{until}\" }}]"));
    Ok(())
}

fn document(checked: &Checked, passes: bool) -> Document<'_> {
    Document {
        schema: "lantern.check/1",
        passes,
        targets: checked
            .targets
            .iter()
            .map(|t| TargetDocument {
                edition: &t.edition,
                target: &t.target,
                export: &t.export,
                systems: &t.systems,
                starts: &t.starts,
                files: t.files,
                bytes: t.size,
            })
            .collect(),
        findings: checked
            .findings
            .iter()
            .map(|(target, finding)| FindingDocument { target: target.as_ref(), finding })
            .collect(),
        accepted: checked
            .accepted
            .iter()
            .map(|(target, finding, because)| AcceptedDocument {
                because,
                finding: FindingDocument { target: target.as_ref(), finding },
            })
            .collect(),
    }
}

fn show(checked: &Checked, ui: &Ui) {
    let mut table = Table::default();
    for target in &checked.targets {
        table.row([
            strong(&target.target),
            format::systems(&target.systems),
            format::count(target.files, "file", "files"),
            format::bytes(target.size),
            if target.starts.is_empty() { String::new() } else { format!("starts {}", target.starts.join(", ")) },
        ]);
    }
    let wrong: BTreeSet<&Name> = checked.findings.iter().filter_map(|(target, _)| target.as_ref()).collect();
    for target in wrong.into_iter().filter(|name| !checked.targets.iter().any(|t| t.target == **name)) {
        table.row([strong(target), bad("cannot be taken in")]);
    }
    ui.say(&table.lay_out());
    let mut findings: Vec<&(Option<Name>, Finding)> = checked.findings.iter().collect();
    findings.sort_by_key(|(target, finding)| (target, Reverse(finding.severity)));
    let mut said: Option<&Name> = None;
    for (target, finding) in findings {
        let heading = match target {
            Some(target) if finding.place.is_none() && said != Some(target) => format!("  {}\n", faint(target)),
            _ => String::new(),
        };
        said = target.as_ref();
        ui.say(&format!("\n{heading}{}", show_finding(finding)));
    }
}
