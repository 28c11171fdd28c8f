//! What is wrong with exports, and how to fix it.

use std::cmp::Reverse;
use std::collections::BTreeSet;

use jiff::civil::Date;
use lantern_core::finding::{Code, Explanation, Finding, Severity, join_some};
use lantern_core::names::Name;
use lantern_core::system::System;
use lantern_project::Checked;
use serde::Serialize;

use crate::format;
use crate::paint::{bad, faint, good, strong};
use crate::shared::FindingDocument;
use crate::table::Table;
use crate::view::View;

/// Most findings that are named once more at the end.
const MAX_NAMED: usize = 3;

/// For how long it is proposed to accept a finding.
const EXCUSED_MONTHS: i32 = 3;

/// What `lantern check --json` prints.
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

/// What `lantern check --explain --json` prints.
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
    systems: &'a [System],
    starts: &'a [String],
    files: u64,
    bytes: u64,
}

/// What was found; `passes` says whether nothing of it stops.
pub fn document(checked: &Checked, passes: bool) -> Document<'_> {
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
        findings: checked.findings.iter().map(FindingDocument::of).collect(),
        accepted: checked
            .accepted
            .iter()
            .map(|(target, finding, because)| AcceptedDocument {
                because,
                finding: FindingDocument::about(target.as_ref(), finding),
            })
            .collect(),
    }
}

/// The explanation of a code.
pub fn explanation_document(code: Code) -> ExplanationDocument {
    let Explanation { what, why } = code.explanation();
    ExplanationDocument { schema: "lantern.explanation/1", code, what, why }
}

/// The same in sentences, with how to accept it, for some months from `today` on.
pub fn explanation(code: Code, today: Date) -> View {
    let Explanation { what, why } = code.explanation();
    let mut view = View::default();
    view.say(format!("{}\n", strong(code)));
    for text in [what, why] {
        view.sentence("  ", 2, text);
    }
    if !code.can_be_accepted() {
        view.say("\n  It cannot be accepted: nothing can be made until it is fixed.");
        return view;
    }
    view.say(
        "\n  If it is intended, accept it in lantern.toml, if possible for one target or for some of its files:\n",
    );
    let until = today.checked_add(jiff::Span::new().months(EXCUSED_MONTHS)).unwrap_or(today);
    view.say(format!("  [checks]\n  accept = [{{ code = \"{code}\", because = \"…\", until = \"{until}\" }}]"));
    view
}

/// How many findings weigh so much or more.
pub fn count_from(checked: &Checked, least: Severity) -> u64 {
    checked.findings.iter().filter(|(_, finding)| finding.severity >= least).count() as u64
}

/// How it ended, in a line; findings from `least` on stop.
fn summary(checked: &Checked, least: Severity) -> String {
    let stops = count_from(checked, least);
    let errors = count_from(checked, Severity::Error);
    let warnings = count_from(checked, Severity::Warning) - errors;
    let mut also = match warnings {
        0 => String::new(),
        count => format!(", {}", format::count(count, "warning", "warnings")),
    };
    if !checked.accepted.is_empty() {
        also += &format!(", {} accepted", checked.accepted.len());
    }
    if stops == 0 {
        return format!("{} no errors{also}", good("checked:"));
    }
    if least == Severity::Warning && warnings > 0 {
        also += "; with --strict, warnings stop as errors do";
    }
    let mut stop = match errors {
        0 => "no errors".to_owned(),
        errors => format::count(errors, "error", "errors"),
    };
    if stops < checked.findings.len() as u64 {
        // Among many others they are hard to find again.
        let mut which: Vec<String> = Vec::new();
        for (target, finding) in checked.findings.iter().filter(|(_, f)| f.severity >= least) {
            let code = &finding.code;
            let one = target.as_ref().map_or_else(|| code.to_string(), |target| format!("{target}: {code}"));
            if !which.contains(&one) {
                which.push(one);
            }
        }
        stop += &format!(" ({})", join_some(&which, MAX_NAMED));
    }
    format!("{} {stop}{also}", bad("checked:"))
}

/// Every target and every finding; findings from `least` on stop.
pub fn view(checked: &Checked, least: Severity) -> View {
    let mut view = View::default();
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
    view.table(table);
    let mut findings: Vec<&(Option<Name>, Finding)> = checked.findings.iter().collect();
    findings.sort_by_key(|(target, finding)| (target, Reverse(finding.severity)));
    let mut said: Option<&Name> = None;
    for (target, finding) in findings {
        let heading = match target {
            Some(target) if finding.place.is_none() && said != Some(target) => format!("\n  {}", faint(target)),
            _ => String::new(),
        };
        said = target.as_ref();
        view.say(heading);
        view.finding(finding);
    }
    view.say(format!("\n{}", summary(checked, least)));
    view
}
