//! `depots`: which file lands in which depot, in none, in two.

use std::collections::BTreeSet;

use lantern_core::choices::Players;
use lantern_core::depots::{self, Mapping, Trouble};
use lantern_core::finding::{Code, Finding};
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::system::System;
use lantern_core::tree::{Node, Tree};
use lantern_exports::cache::{DIGESTS, DigestCache};
use lantern_exports::intake::{Intake, Surroundings, stops_in};
use lantern_store::seal::SourceEntry;

use crate::divided::{Divided, Parcel};
use crate::project::Project;
use crate::{ProjectError, environment};

/// How many paths of a finding are named.
const NAMED: usize = 3;
/// What to do about a shared depot that is not the same everywhere.
const SHARED_FIX: &str = "export both again, or let each have a depot of its own";

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
        self.divide_again(Divided { intakes, findings, is_whole, targets, ..Divided::default() })
    }

    /// As [`Self::divide`], with what was read of the exports before. Where there are very many files, both take long.
    pub(crate) fn divide_as_known<'a>(&'a self, edition: &'a Name) -> (Divided<'a>, DigestCache) {
        let (path, now) = (self.state(DIGESTS), environment::now_of_files());
        let (divided, digests) = std::thread::scope(|scope| {
            let digests = scope.spawn(|| DigestCache::load(&path, now));
            (self.divide(edition), digests.join())
        });
        (divided, digests.expect("loading does not panic"))
    }

    /// Divides exports that were taken in.
    pub(crate) fn divide_again<'a>(&'a self, taken: Divided<'a>) -> Divided<'a> {
        let Divided { intakes, findings, is_whole, targets, .. } = taken;
        let mapped: Vec<Vec<usize>> = intakes
            .iter()
            .map(|intake| (0..intake.entries().len()).filter(|i| !intake.aside.contains(i)).collect())
            .collect();
        let entries: Vec<Vec<(&TreePath, u64)>> = intakes
            .iter()
            .zip(&mapped)
            .map(|(intake, mapped)| {
                let source = |i: &usize| &intake.entries()[*i].source;
                mapped.iter().map(|i| (&source(i).path, source(i).size())).collect()
            })
            .collect();
        let exports: Vec<depots::Export<'_>> = intakes
            .iter()
            .zip(&entries)
            .map(|(intake, entries)| depots::Export { target: intake.name, entries })
            .collect();
        let mut mapping = Mapping::of(&exports, &self.config().depots);
        // Of a configuration that is wrong it is not known what the missing rules would have taken.
        let is_sure = |t: &Trouble| self.config_findings().is_empty() || !matches!(t, Trouble::InNone { .. });
        mapping.troubles.retain(is_sure);
        let choices = self.config().choices.clone();
        let mut divided = Divided { intakes, mapped, mapping, choices, findings, is_whole, targets };
        let troubles: Vec<Finding> = divided.mapping.troubles.iter().map(|t| self.trouble(t)).collect();
        divided.findings.extend(troubles.into_iter().map(|finding| (None, finding)));
        let starts = self.starts_for_everybody(&divided);
        divided.findings.extend(starts.into_iter().map(|finding| (None, finding)));
        divided
    }

    /// Says which files of shared depots have the same name and size in two targets, and are not the same: `tree` gives that
    /// of each parcel.
    pub(crate) fn differing_content(
        &self,
        divided: &Divided<'_>,
        mut tree: impl FnMut(&Parcel) -> Result<Tree, ProjectError>,
    ) -> Result<Vec<Finding>, ProjectError> {
        let mut findings = Vec::new();
        let is_known = |depot: &&depots::Depot| {
            divided.mapping.troubles.iter().any(|trouble| match trouble {
                Trouble::Differs { depot: differs, .. } | Trouble::Empty { depot: differs, .. } => {
                    *differs == depot.name
                }
                _ => false,
            })
        };
        for depot in divided.mapping.depots.iter().filter(|depot| !depot.copies.is_empty() && !is_known(depot)) {
            let here = tree(&Parcel::of(divided, &depot.made_of))?;
            let name_of = |taken: &depots::Taken| divided.intakes[taken.export].name;
            for copy in &depot.copies {
                let there = tree(&Parcel::of(divided, copy))?;
                if here.id() == there.id() {
                    continue;
                }
                let differs = |(path, node): &(&TreePath, &Node)| there.get(path) != Some(node);
                let paths: Vec<TreePath> = here.iter().filter(differs).map(|(path, _)| path.clone()).collect();
                let what = format!(
                    "the depot {} is not the same in {} and {}: {} with different content: {}",
                    depot.name,
                    name_of(&depot.made_of),
                    name_of(copy),
                    are(paths.len()),
                    named(&paths)
                );
                let finding = Finding::of(Code::DepotDiffers, what, SHARED_FIX);
                findings.push(finding.at(self.place_of(&["depots", depot.name.as_str(), "from"])));
            }
        }
        Ok(findings)
    }

    /// Says which files of shared depots were stamped or signed: each target's are written on their own, and are not the same
    /// any more.
    pub(crate) fn changed_and_shared(
        &self,
        divided: &Divided<'_>,
        is_changed: impl Fn(&Name, &TreePath) -> bool,
    ) -> Vec<Finding> {
        let mut findings = Vec::new();
        for depot in divided.mapping.depots.iter().filter(|depot| !depot.copies.is_empty()) {
            for taken in depot.taken() {
                let intake = &divided.intakes[taken.export];
                let paths = divided.indices(taken).into_iter().map(|i| &intake.entries()[i].source.path);
                let changed: Vec<TreePath> = paths.filter(|path| is_changed(intake.name, path)).cloned().collect();
                if !changed.is_empty() {
                    let (count, names) = (are(changed.len()), named(&changed));
                    let what = format!(
                        "{count} of the shared depot {} are stamped or signed for {}: {names}",
                        depot.name, intake.name
                    );
                    let fix = "leave them to a depot of each target";
                    let finding = Finding::of(Code::DepotDiffers, what, fix);
                    findings.push(finding.at(self.place_of(&["depots", depot.name.as_str(), "from"])));
                }
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
            Trouble::Differs { depot, from, other, missing, resized } => {
                let missing = (!missing.is_empty())
                    .then(|| format!("{} only in one of them: {}", are(missing.len()), named(missing)));
                let resized = (!resized.is_empty())
                    .then(|| format!("{} in different sizes: {}", are(resized.len()), named(resized)));
                let differences: Vec<String> = missing.into_iter().chain(resized).collect();
                let what =
                    format!("the depot {depot} is not the same in {from} and {other}: {}", differences.join("; "));
                at(Finding::of(Code::DepotDiffers, what, SHARED_FIX), depot, "from")
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
                let has_it = |depot: &&depots::Depot| {
                    let indices = depot.taken_from(target).map(|taken| divided.indices(taken)).unwrap_or_default();
                    indices.iter().any(|i| intake.entries()[*i].source.path == start.file)
                };
                let Some(depot) = divided.mapping.of_target(target).find(has_it) else { continue };
                if !depot.players.are_all() {
                    let what = format!(
                        "the start file {} is in the depot {}, which not every player downloads ({})",
                        start.file, depot.name, depot.players
                    );
                    let finding =
                        Finding::of(Code::StartOptional, what, "leave it to a depot that everybody downloads");
                    findings.push(finding.at(self.place_of(&["depots", depot.name.as_str(), "only"])));
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
    /// The targets whose players have it.
    pub targets: Vec<Name>,
    /// What they run on.
    pub systems: Vec<System>,
    /// Which of them download it.
    pub players: Players,
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
            let intake = &divided.intakes[depot.made_of.export];
            let targets: Vec<&Intake<'_>> = depot.taken().map(|taken| &divided.intakes[taken.export]).collect();
            let mut systems: Vec<System> = targets.iter().flat_map(|t| t.systems.iter().copied()).collect();
            systems.sort_unstable();
            systems.dedup();
            let files = divided.indices(&depot.made_of).into_iter().map(|i| sized(&intake.entries()[i].source));
            DepotShown {
                depot: depot.name.clone(),
                targets: targets.iter().map(|t| t.name.clone()).collect(),
                systems,
                players: depot.players.clone(),
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
