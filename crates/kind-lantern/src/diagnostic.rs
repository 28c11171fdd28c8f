//! What went wrong, where, why, and what to do: one shape, one printer, one match from kind to exit code.

use std::fmt::Write as _;

use lantern_core::finding::{Finding, Severity};
use lantern_project::{Class, MoveError, ProjectError};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, care, command, faint};
use crate::ui::Ui;

/// Why a command ended without having done its work.
#[derive(Debug)]
pub struct CommandError {
    class: Class,
    what: String,
    why: Vec<String>,
    fixes: Vec<String>,
    findings: Vec<Finding>,
    /// The command's own output has said it all; only the exit code is left to give.
    is_said: bool,
}

/// The document that `--json` prints on failure.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ErrorDocument<'a> {
    schema: &'static str,
    error: ErrorBody<'a>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ErrorBody<'a> {
    kind: &'static str,
    what: &'a str,
    why: &'a [String],
    fixes: &'a [String],
    findings: &'a [Finding],
}

impl CommandError {
    pub fn usage(what: impl Into<String>, fix: impl Into<String>) -> Self {
        Self {
            class: Class::Usage,
            what: what.into(),
            why: vec![],
            fixes: vec![fix.into()],
            findings: vec![],
            is_said: false,
        }
    }

    pub fn refused(what: impl Into<String>, fix: impl Into<String>) -> Self {
        Self { class: Class::Refused, ..Self::usage(what, fix) }
    }

    pub fn unreachable(what: impl Into<String>) -> Self {
        Self { class: Class::Unreachable, ..Self::usage(what, "run the same command again in a moment") }
    }

    pub fn damaged(what: impl Into<String>, fix: impl Into<String>) -> Self {
        Self { class: Class::Damaged, ..Self::usage(what, fix) }
    }

    pub fn computer(what: impl Into<String>, fix: impl Into<String>) -> Self {
        Self { class: Class::Computer, ..Self::usage(what, fix) }
    }

    /// Ends with the exit code of findings that stop, which were shown.
    pub fn findings_said() -> Self {
        Self { class: Class::Findings, is_said: true, ..Self::usage("there are errors", "fix them") }
    }

    /// Something is known that stops.
    pub fn stopping(what: impl Into<String>, fix: impl Into<String>) -> Self {
        Self { class: Class::Findings, ..Self::usage(what, fix) }
    }

    /// Someone said no; `what` tells what was not done because of it.
    pub fn declined(what: &str, ui: &Ui) -> Self {
        ui.say(what);
        Self { class: Class::NotConfirmed, is_said: true, ..Self::usage(what, "") }
    }

    /// In JSON mode the document that was printed has said it all.
    pub fn said_in(mut self, ui: &Ui) -> Self {
        self.is_said = ui.json;
        self
    }

    pub fn missing_answer(what: &str, option: &str) -> Self {
        ProjectError::MissingAnswer { what: what.to_owned(), option: option.to_owned() }.into()
    }

    pub fn stopped() -> Self {
        ProjectError::Stopped.into()
    }

    pub fn io(doing: &str, error: std::io::Error) -> Self {
        Self {
            class: Class::Computer,
            what: format!("could not {doing}"),
            why: vec![error.to_string()],
            fixes: lantern_project::fix_of_disk(error.kind()).map(str::to_owned).into_iter().collect(),
            findings: vec![],
            is_said: false,
        }
    }

    /// Returns the exit code of this kind.
    pub fn exit_code(&self) -> u8 {
        match self.class {
            Class::Findings => 1,
            Class::Usage => 2,
            Class::Refused => 3,
            Class::Unreachable => 4,
            Class::Damaged => 5,
            Class::Computer => 6,
            Class::NotConfirmed => 7,
            Class::Stopped => 130,
        }
    }

    /// Returns what happened and why, in one line.
    pub fn in_short(&self) -> String {
        std::iter::once(&self.what).chain(&self.why).map(String::as_str).collect::<Vec<_>>().join(": ")
    }

    /// As [`Self::in_short`], with what to do.
    #[cfg(test)]
    pub fn in_short_with_fixes(&self) -> String {
        format!("{} / {}", self.in_short(), self.fixes.join("; "))
    }

    fn kind(&self) -> &'static str {
        match self.class {
            Class::Findings => "findings",
            Class::Usage => "usage",
            Class::Refused => "refused",
            Class::Unreachable => "unreachable",
            Class::Damaged => "damaged",
            Class::Computer => "computer",
            Class::NotConfirmed => "not-confirmed",
            Class::Stopped => "stopped",
        }
    }

    /// Prints to standard error; in JSON mode the document goes to standard output.
    pub fn print(&self, ui: &Ui) {
        if self.is_said {
            return;
        }
        if ui.json {
            let error = ErrorBody {
                kind: self.kind(),
                what: &self.what,
                why: &self.why,
                fixes: &self.fixes,
                findings: &self.findings,
            };
            ui.document(&ErrorDocument { schema: "lantern.error/1", error });
            return;
        }
        let mut out = String::new();
        if self.class == Class::Stopped {
            out = format!("{} nothing is half done", care("stopped:"));
        } else {
            let _ = write!(out, "{} {}", bad("error:"), self.what);
        }
        for why in &self.why {
            let _ = write!(out, "\n{} {why}", faint("  why:"));
        }
        for finding in &self.findings {
            let _ = write!(out, "\n\n{}", show_finding(finding));
        }
        for fix in &self.fixes {
            let _ = write!(out, "\n{} {}", faint("  fix:"), command(fix));
        }
        ui.aside(&out);
    }
}

/// Lays a finding out: place, line, mark, sentence, fix.
pub fn show_finding(finding: &Finding) -> String {
    let mut out = String::new();
    let paint = |text: &str| match finding.severity {
        Severity::Error => bad(text),
        Severity::Warning => care(text),
        Severity::Note => faint(text),
    };
    if let Some(place) = &finding.place {
        let _ = writeln!(out, "  {}", faint(format!("{}, line {}, column {}", place.file, place.line, place.column)));
        // A line of thousands of characters is shown around its place.
        let room = format::columns().map_or(110, |columns| columns.min(114) - 4);
        let start = place.column.saturating_sub(room / 2 + 5);
        let text: String = place.text.chars().skip(start).take(room).collect();
        let _ = writeln!(out, "    {}", text.trim_end());
        let marks = "~".repeat(place.len.min(room.saturating_sub(place.column - 1 - start)).max(1));
        let _ = writeln!(out, "    {}{}", " ".repeat(place.column - 1 - start), paint(&marks));
    }
    let code = format!("({})", finding.code);
    let what = format::flow(&format!("{} {code}", finding.what), finding.severity.word().len() + 4, 4)
        .replace(&code, &faint(&code));
    let _ = write!(out, "  {} {what}", paint(&format!("{}:", finding.severity.word())));
    if let Some(fix) = &finding.fix {
        let _ = write!(out, "\n  {} {}", faint("fix:"), format::flow(fix, 7, 4));
    }
    out
}

impl From<ProjectError> for CommandError {
    fn from(error: ProjectError) -> Self {
        let findings = match &error {
            ProjectError::Config(findings) | ProjectError::Findings(findings) => findings.clone(),
            _ => Vec::new(),
        };
        let mut why = Vec::new();
        if let ProjectError::Rules { refusals, .. } = &error {
            why.extend(refusals.iter().map(|r| r.what.clone()));
        }
        if let ProjectError::Move(MoveError::Raced { detail, .. }) = &error {
            why.push(detail.clone());
        }
        let mut next = std::error::Error::source(&error);
        while let Some(source) = next {
            let text = source.to_string();
            // Some libraries say the same again, with a word before it.
            let is_said = why.last().is_some_and(|last| text.contains(last.as_str()));
            if !is_said {
                why.push(text);
            }
            next = source.source();
        }
        let mut what = error.to_string();
        // The storefront's name alone says little: its first reason is what happened.
        if let ProjectError::Storefront { storefront, .. } = &error
            && !why.is_empty()
        {
            what = format!("{storefront}: {}", why.remove(0));
        }
        Self { class: error.class(), what, why, fixes: error.fixes(), findings, is_said: false }
    }
}
