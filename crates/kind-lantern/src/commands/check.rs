use lantern_core::finding::{Finding, Severity};
use lantern_core::names::Name;
use lantern_project::{Checked, ProjectError};
use serde::Serialize;

use super::Done;
use crate::diagnostic::show_finding;
use crate::table::Table;
use crate::ui::{Ui, faint, good, strong};
use crate::words;

/// Find what is wrong before anything is made
///
/// First lantern.toml, then every export: start file, system, files that must be there, names, links. All of it in one
/// go, each with its cure. Nothing is written.
///
/// Examples:
///   lantern check
///   lantern check --strict --json
#[derive(Debug, clap::Args)]
#[command(verbatim_doc_comment)]
pub struct Args {
    /// Let warnings stop, too
    #[arg(long)]
    strict: bool,
}

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    /// Whether nothing stops.
    passes: bool,
    targets: Vec<TargetDocument<'a>>,
    findings: Vec<FindingDocument<'a>>,
}

#[derive(Serialize)]
struct TargetDocument<'a> {
    target: &'a Name,
    systems: &'a [lantern_core::system::System],
    starts: &'a str,
    files: u64,
    bytes: u64,
}

#[derive(Serialize)]
struct FindingDocument<'a> {
    target: &'a Name,
    #[serde(flatten)]
    finding: &'a Finding,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let project = super::find(ui)?;
    let checked = project.check();
    let from = if args.strict { Severity::Warns } else { Severity::Stops };
    let stops = checked.findings.iter().filter(|(_, f)| f.severity >= from).count();
    if ui.json {
        ui.document(&document(&checked, stops == 0));
        if stops > 0 {
            std::process::exit(1);
        }
        return Ok(());
    }
    show(&checked, ui);
    if stops > 0 {
        let findings = checked.findings.into_iter().map(|(_, f)| f).filter(|f| f.severity >= from).collect();
        return Err(ProjectError::Findings(findings).into());
    }
    let warnings = checked.findings.len() as u64;
    let rest =
        if warnings == 0 { String::new() } else { format!(", {}", words::count(warnings, "warning", "warnings")) };
    ui.say(&format!("\n{} nothing stops{rest}", good("checked:")));
    ui.next("lantern prepare");
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
                target: &t.target,
                systems: &t.systems,
                starts: &t.starts,
                files: t.files,
                bytes: t.size,
            })
            .collect(),
        findings: checked.findings.iter().map(|(target, finding)| FindingDocument { target, finding }).collect(),
    }
}

fn show(checked: &Checked, ui: &Ui) {
    let mut table = Table::default();
    for target in &checked.targets {
        let systems: Vec<&str> = target.systems.iter().map(|s| s.name()).collect();
        table.row([
            strong(&target.target),
            systems.join(", "),
            words::count(target.files, "file", "files"),
            words::bytes(target.size),
            format!("starts {}", target.starts),
        ]);
    }
    if !checked.targets.is_empty() {
        ui.say(&table.lay_out());
    }
    for (target, finding) in checked.findings.iter().filter(|(_, f)| f.severity < Severity::Stops) {
        ui.say(&format!("\n  {}\n{}", faint(target), show_finding(finding)));
    }
}
