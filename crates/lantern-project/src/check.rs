//! `check`: every finding about the exports, without making anything.

use lantern_core::finding::Finding;
use lantern_core::names::Name;
use lantern_core::system::System;

use crate::intake::size_of;
use crate::project::Project;

/// An export that could be taken in.
#[derive(Debug, Clone)]
pub struct CheckedTarget {
    /// The edition that it is of.
    pub edition: Name,
    /// The target.
    pub target: Name,
    /// Where it lies, from the project's folder.
    pub export: String,
    /// What it is for.
    pub systems: Vec<System>,
    /// What starts it.
    pub starts: Vec<String>,
    /// Files, after the rules.
    pub files: u64,
    /// Their size, in bytes.
    pub size: u64,
}

/// What checking found.
#[derive(Debug, Clone, Default)]
pub struct Checked {
    /// The targets that could be taken in.
    pub targets: Vec<CheckedTarget>,
    /// Each finding, with the target that it is about where there is one.
    pub findings: Vec<(Option<Name>, Finding)>,
}

impl Project {
    /// Lists, checks and divides the exports of all editions that are meant; reads only what a check needs, writes
    /// nothing.
    pub fn check(&self) -> Checked {
        let mut checked = Checked::default();
        checked.findings.extend(self.config_findings().iter().map(|finding| (None, finding.clone())));
        for edition in self.editions() {
            let divided = self.divide(&edition);
            for intake in &divided.intakes {
                let sizes = intake.entries().iter().map(|e| size_of(&e.source));
                let is_file = |e: &&crate::export::Listed| e.stamp.is_some();
                checked.targets.push(CheckedTarget {
                    edition: edition.clone(),
                    target: intake.name.clone(),
                    export: intake.found_at().to_owned(),
                    systems: intake.systems.clone(),
                    starts: intake.starts.iter().map(|start| start.file.shown()).collect(),
                    files: intake.entries().iter().filter(is_file).count() as u64,
                    size: sizes.sum(),
                });
            }
            checked.findings.extend(divided.findings);
        }
        checked
    }
}
