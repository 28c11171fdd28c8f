//! `check`: every finding about the exports, without making anything.

use lantern_core::finding::Finding;
use lantern_core::names::Name;
use lantern_core::system::System;
use lantern_store::seal::SourceKind;

use crate::intake::Intake;
use crate::project::Project;

/// An export that could be taken in.
#[derive(Debug, Clone)]
pub struct CheckedTarget {
    /// The target.
    pub target: Name,
    /// What it is for.
    pub systems: Vec<System>,
    /// What starts it.
    pub starts: String,
    /// Files, after the rules.
    pub files: u64,
    /// Their size, in bytes.
    pub size: u64,
}

/// What checking found.
#[derive(Debug, Clone)]
pub struct Checked {
    /// The targets that could be taken in.
    pub targets: Vec<CheckedTarget>,
    /// Each finding with the target that it is about.
    pub findings: Vec<(Name, Finding)>,
}

impl Project {
    /// Lists and checks every export; reads only what a check needs, writes nothing.
    pub fn check(&self) -> Checked {
        let mut checked = Checked { targets: Vec::new(), findings: Vec::new() };
        for (name, target) in &self.config().targets {
            let found = match Intake::take(self, name, target) {
                Ok(intake) => {
                    let sizes = intake.entries.iter().filter_map(|e| match e.kind {
                        SourceKind::File { size } => Some(size),
                        _ => None,
                    });
                    checked.targets.push(CheckedTarget {
                        target: name.clone(),
                        systems: intake.systems.clone(),
                        starts: intake.starts.file.shown(),
                        files: sizes.clone().count() as u64,
                        size: sizes.sum(),
                    });
                    intake.findings
                }
                Err(findings) => findings,
            };
            checked.findings.extend(found.into_iter().map(|finding| (name.clone(), finding)));
        }
        checked
    }
}
