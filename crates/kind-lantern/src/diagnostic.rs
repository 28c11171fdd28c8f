//! What went wrong, where, why, and what to do: one shape, one printer, one match from kind to exit code.

use lantern_core::finding::Finding;
use lantern_keys::KeyError;
use lantern_project::{Class, MoveError, ProjectError};
use lantern_views::error::{self, Failure};

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
    pub fn findings(what: impl Into<String>) -> Self {
        Self { class: Class::Findings, ..Self::usage(what, "fix them, and try again") }
    }

    pub fn findings_said() -> Self {
        Self { class: Class::Findings, is_said: true, ..Self::usage("there are errors", "fix them") }
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

    /// With one more thing to do.
    pub fn or_else(mut self, fix: String) -> Self {
        self.fixes.push(fix);
        self
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

    /// Prints to standard error; in JSON mode the document goes to standard output.
    pub fn print(&self, ui: &Ui) {
        if self.is_said {
            return;
        }
        let Self { class, what, why, fixes, findings, .. } = self;
        let failure = Failure { class: *class, what, why, fixes, findings };
        match ui.json {
            true => ui.document(&error::document(&failure)),
            false => ui.show_aside(&error::view(&failure)),
        }
    }
}

impl From<KeyError> for CommandError {
    fn from(error: KeyError) -> Self {
        ProjectError::from(error).into()
    }
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
