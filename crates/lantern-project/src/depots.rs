//! `depots`: which file lands in which depot, in none, in two.

use std::collections::BTreeSet;

use lantern_core::depots::{self, Mapping, Trouble};
use lantern_core::finding::{Code, Finding};
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::release::When;
use lantern_core::system::System;
use lantern_exports::intake::{Intake, Surroundings, stops_in};
use lantern_store::seal::SourceEntry;

use crate::project::Project;

/// How many paths of a finding are named.
const NAMED: usize = 3;

/// The exports of an edition, divided into depots.
#[derive(Default)]
pub(crate) struct Divided<'a> {
    /// In the order of their targets' names.
    pub intakes: Vec<Intake<'a>>,
    /// For each intake, the places of the entries that depots are made of.
    pub mapped: Vec<Vec<usize>>,
    pub mapping: Mapping,
    /// Everything that is wrong or worth knowing, with the target that it is about where there is one.
    pub findings: Vec<(Option<Name>, Finding)>,
    /// Whether every target could be taken in.
    pub is_whole: bool,
    /// How many targets there were to take in, and how many of them have no export at all.
    pub targets: (usize, usize),
}

impl Divided<'_> {
    /// Returns the entries of a depot by their places in its intake.
    pub(crate) fn indices(&self, depot: &depots::Depot) -> Vec<usize> {
        depot.entries.iter().filter_map(|i| self.mapped.get(depot.from)?.get(*i).copied()).collect()
    }
}

impl Project {
    /// Takes the exports of an edition, and divides them.
    pub(crate) fn divide<'a>(&'a self, edition: &'a Name) -> Divided<'a> {
        let (mut intakes, mut findings) = (Vec::new(), Vec::new());
        let mut is_whole = self.config_findings().is_empty();
        let mut targets = (0, 0);
        let place_of = |way: &[&str]| self.place_of(way);
        let from = Surroundings { root: self.root(), spare: self.state("cache"), place_of: &place_of };
        for (name, target) in self.config().targets_of(edition).filter(|(name, _)| self.means(name)) {
            targets.0 += 1;
            match Intake::take(&from, name, target) {
                Ok(intake) => {
                    findings.extend(intake.findings.iter().map(|f| (Some(name.clone()), f.clone())));
                    intakes.push(intake);
                }
                Err(found) => {
                    is_whole = false;
                    targets.1 += usize::from(found.iter().all(|finding| finding.code == Code::ExportMissing));
                    findings.extend(found.into_iter().map(|f| (Some(name.clone()), f)));
                }
            }
        }
        self.divide_again(edition, Divided { intakes, findings, is_whole, targets, ..Divided::default() })
    }

    /// Divides exports that were taken in.
    pub(crate) fn divide_again<'a>(&'a self, edition: &Name, taken: Divided<'a>) -> Divided<'a> {
        let Divided { intakes, findings, is_whole, targets, .. } = taken;
        let mapped: Vec<Vec<usize>> = intakes
            .iter()
            .map(|intake| (0..intake.entries().len()).filter(|i| !intake.aside.contains(i)).collect())
            .collect();
        let paths: Vec<Vec<&TreePath>> = intakes
            .iter()
            .zip(&mapped)
            .map(|(intake, mapped)| mapped.iter().map(|i| &intake.entries()[*i].source.path).collect())
            .collect();
        let exports: Vec<depots::Export<'_>> = intakes
            .iter()
            .zip(&paths)
            .map(|(intake, entries)| depots::Export { target: intake.name, systems: &intake.systems, entries })
            .collect();
        let rules = &self.config().depots;
        let is_part = self.config().targets_of(edition).any(|(name, _)| !self.means(name));
        let mapping = if is_part { Mapping::of_part(&exports, rules) } else { Mapping::of(&exports, rules) };
        // Without all exports it is not known what the missing ones would have brought.
        let mut mapping = mapping;
        let is_sure = |t: &Trouble| is_whole || !matches!(t, Trouble::InNone { .. } | Trouble::Nowhere { .. });
        mapping.troubles.retain(is_sure);
        let mut divided = Divided { intakes, mapped, mapping, findings, is_whole, targets };
        let troubles: Vec<Finding> = divided.mapping.troubles.iter().map(|t| self.trouble(t)).collect();
        divided.findings.extend(troubles.into_iter().map(|finding| (None, finding)));
        let starts = self.starts_for_everybody(&divided);
        divided.findings.extend(starts.into_iter().map(|finding| (None, finding)));
        let others = self.other_sizes(&divided);
        divided.findings.extend(others.into_iter().map(|finding| (None, finding)));
        divided
    }

    /// Files of a shared depot that another target's export has in another size: its players get those of the one
    /// that the depot is made of.
    fn other_sizes(&self, divided: &Divided<'_>) -> Vec<Finding> {
        let mut findings = Vec::new();
        for depot in &divided.mapping.depots {
            let from = &divided.intakes[depot.from];
            let indices = divided.indices(depot);
            for target in depot.targets.iter().filter(|target| **target != depot.from) {
                let other = &divided.intakes[*target];
                let differs = |source: &&SourceEntry| {
                    let known = other.export().place_of(source.path.as_str());
                    known.is_some_and(|at| other.entries()[at].source.size() != source.size())
                };
                let sources = indices.iter().map(|i| &from.entries()[*i].source).filter(|source| source.is_file());
                let paths: Vec<TreePath> = sources.filter(differs).map(|source| source.path.clone()).collect();
                if paths.is_empty() {
                    continue;
                }
                let what = format!(
                    "the depot {} is taken from {}, and {} has {} of it in another size: {}",
                    depot.name,
                    from.name,
                    other.name,
                    are(paths.len()),
                    named(&paths)
                );
                let fix = "export both again, or let each have a depot of its own";
                let finding = Finding::of(Code::DepotDiffers, what, fix);
                findings.push(finding.at(self.place_of(&["depots", depot.name.as_str(), "from"])));
            }
        }
        findings
    }

    fn trouble(&self, trouble: &Trouble) -> Finding {
        let at =
            |finding: Finding, depot: &Name, key: &str| finding.at(self.place_of(&["depots", depot.as_str(), key]));
        match trouble {
            Trouble::InNone { target, paths } => {
                let what = format!("{} of {target} in no depot: {}", are(paths.len()), named(paths));
                let fix = "add a depot for them, or name them in the target's leave-out";
                Finding::of(Code::UnmappedFiles, what, fix).at(self.place_of(&["targets", target.as_str()]))
            }
            Trouble::InTwo { target, one, other, paths } => {
                let count = are(paths.len());
                let what = format!("{count} of {target} in two depots, {one} and {other}: {}", named(paths));
                at(
                    Finding::of(Code::OverlappingDepots, what, "name them in the leave-out of one of the two"),
                    other,
                    "from",
                )
            }
            Trouble::Empty { depot, from } => {
                let what = format!("the depot {depot} takes nothing from {from}");
                at(Finding::of(Code::DepotEmpty, what, "fix only and leave-out, or remove the depot"), depot, "only")
            }
            Trouble::Nowhere { depot } => {
                let what = format!("no target has a system that the depot {depot} is for");
                at(Finding::of(Code::DepotWithoutTarget, what, "fix when, or remove the depot"), depot, "when")
            }
            Trouble::Elsewhere { depot, from, target } => {
                let what = format!("{target} needs the depot {depot}, which is taken from {from}");
                at(Finding::of(Code::DepotOutsidePart, what, format!("prepare it too: --target {from}")), depot, "from")
            }
            Trouble::Split { bundle, depots } => {
                let names: Vec<&str> = depots.iter().map(Name::as_str).collect();
                let what = format!("{} would be split between {}", lantern_core::path::shown(bundle), names.join(", "));
                let fix = "a bundle is whole: let one depot take all of it";
                let depot = depots.first().cloned().unwrap_or_else(Name::full_edition);
                at(Finding::of(Code::BundleSplit, what, fix), &depot, "from")
            }
        }
    }

    /// The start file must be with everybody who has the target.
    fn starts_for_everybody(&self, divided: &Divided<'_>) -> Vec<Finding> {
        let mut findings = Vec::new();
        for (target, intake) in divided.intakes.iter().enumerate() {
            for start in &intake.starts {
                let holds = |depot: &&depots::Depot| {
                    let intake = &divided.intakes[depot.from];
                    divided.indices(depot).iter().any(|i| intake.entries()[*i].source.path == start.file)
                };
                let Some(depot) = divided.mapping.of_target(target).find(holds) else { continue };
                if !depot.when.is_always() {
                    let what = format!(
                        "the start file {} is in the depot {}, which not everybody downloads ({})",
                        start.file, depot.name, depot.when
                    );
                    let finding = Finding::of(Code::StartConditional, what, "leave it to a depot without conditions");
                    findings.push(finding.at(self.place_of(&["depots", depot.name.as_str(), "when"])));
                }
            }
        }
        findings
    }
}

fn are(count: usize) -> String {
    if count == 1 { "1 file".to_owned() } else { format!("{count} files") }
}

fn named(paths: &[TreePath]) -> String {
    let names: Vec<String> = paths.iter().take(NAMED).map(ToString::to_string).collect();
    if paths.len() > NAMED { format!("{}, …", names.join(", ")) } else { names.join(", ") }
}

/// A file with its size, in bytes.
pub type Sized = (TreePath, u64);

/// A depot as it would be sealed now.
#[derive(Debug, Clone)]
pub struct DepotShown {
    /// Our name.
    pub depot: Name,
    /// The target whose export it is made of.
    pub from: Name,
    /// The targets whose players have it.
    pub targets: Vec<Name>,
    /// What they run on.
    pub systems: Vec<System>,
    /// Who of them downloads it.
    pub when: When,
    /// What it holds, in order.
    pub files: Vec<Sized>,
}

impl DepotShown {
    /// Returns the size of all files, in bytes.
    pub fn size(&self) -> u64 {
        self.files.iter().map(|(_, size)| size).sum()
    }
}

/// Where everything lands.
#[derive(Debug, Clone)]
pub struct DepotsShown {
    /// The edition.
    pub edition: Name,
    /// In the order of their targets.
    pub depots: Vec<DepotShown>,
    /// By target: what no player gets.
    pub in_none: Vec<(Name, Vec<Sized>)>,
    /// By target and pair of depots: what players would get twice.
    pub in_two: Vec<(Name, [Name; 2], Vec<Sized>)>,
    /// By target: what is sealed and never sent.
    pub aside: Vec<(Name, Vec<Sized>)>,
    /// Everything that is wrong or worth knowing.
    pub findings: Vec<(Option<Name>, Finding)>,
}

impl Project {
    /// Says which file of an edition lands where; reads only what a check needs.
    pub fn depots(&self, edition: &Name) -> DepotsShown {
        let divided = self.divide(edition);
        let sized = |source: &SourceEntry| (source.path.clone(), source.size());
        let size_in = |target: &Name, paths: &[TreePath]| -> Vec<Sized> {
            let wanted: BTreeSet<&TreePath> = paths.iter().collect();
            let entries = divided.intakes.iter().filter(|i| i.name == target).flat_map(Intake::entries);
            let mut found: Vec<Sized> =
                entries.filter(|e| wanted.contains(&e.source.path)).map(|e| sized(&e.source)).collect();
            let missing = paths.iter().filter(|p| !found.iter().any(|(path, _)| path == *p)).cloned();
            let missing: Vec<Sized> = missing.map(|path| (path, 0)).collect();
            found.extend(missing);
            found
        };
        let depots = divided.mapping.depots.iter().map(|depot| {
            let intake = &divided.intakes[depot.from];
            let targets: Vec<&Intake<'_>> = depot.targets.iter().map(|t| &divided.intakes[*t]).collect();
            let mut systems: Vec<System> = targets.iter().flat_map(|t| t.systems.iter().copied()).collect();
            systems.sort_unstable();
            systems.dedup();
            let files = divided.indices(depot).into_iter().map(|i| sized(&intake.entries()[i].source));
            DepotShown {
                depot: depot.name.clone(),
                from: intake.name.clone(),
                targets: targets.iter().map(|t| t.name.clone()).collect(),
                systems,
                when: depot.when.clone(),
                files: files.collect(),
            }
        });
        let depots = depots.collect();
        let (mut in_none, mut in_two) = (Vec::new(), Vec::new());
        for trouble in &divided.mapping.troubles {
            match trouble {
                Trouble::InNone { target, paths } => in_none.push((target.clone(), size_in(target, paths))),
                Trouble::InTwo { target, one, other, paths } => {
                    in_two.push((target.clone(), [one.clone(), other.clone()], size_in(target, paths)));
                }
                _ => {}
            }
        }
        let aside = divided.intakes.iter().filter(|intake| !intake.aside.is_empty()).map(|intake| {
            (intake.name.clone(), intake.aside.iter().map(|i| sized(&intake.entries()[*i].source)).collect())
        });
        let aside = aside.collect();
        DepotsShown { edition: edition.clone(), depots, in_none, in_two, aside, findings: divided.findings }
    }
}

impl Divided<'_> {
    /// Whether none of the exports is on this computer.
    pub(crate) fn is_not_here(&self) -> bool {
        self.targets.0 > 0 && self.targets.0 == self.targets.1
    }

    /// Returns what stops, if anything does.
    pub(crate) fn stopping(&self) -> Option<Vec<Finding>> {
        let all: Vec<Finding> = self.findings.iter().map(|(_, finding)| finding.clone()).collect();
        (!self.is_whole || stops_in(&all) > 0).then_some(all)
    }
}
