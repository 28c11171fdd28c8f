//! Exports divided into depots, and the parts that are sealed of them.

use lantern_core::choices::Choices;
use lantern_core::depots::{Mapping, Taken};
use lantern_core::finding::Finding;
use lantern_core::names::Name;
use lantern_exports::intake::Intake;

/// The exports of an edition, divided into depots.
#[derive(Default)]
pub(crate) struct Divided<'a> {
    /// In the order of their targets' names.
    pub intakes: Vec<Intake<'a>>,
    /// For each intake, the places of the entries that depots are made of.
    pub mapped: Vec<Vec<usize>>,
    pub mapping: Mapping,
    /// What players can choose.
    pub choices: Choices,
    /// Everything that is wrong or worth knowing, with the target that it is about where there is one.
    pub findings: Vec<(Option<Name>, Finding)>,
    /// Whether every target could be taken in.
    pub is_whole: bool,
    /// How many targets there were to take in, and how many of them have no export at all.
    pub targets: (usize, usize),
}

impl Divided<'_> {
    /// Returns entries that a depot takes by their places in their intake.
    pub(crate) fn indices(&self, taken: &Taken) -> Vec<usize> {
        let of_export = self.mapped.get(taken.export);
        taken.entries.iter().filter_map(|i| of_export?.get(*i).copied()).collect()
    }
}

/// A part of an export that is sealed as one: a depot, or what is kept aside.
pub(crate) struct Parcel {
    /// The intake, by its place.
    pub from: usize,
    pub indices: Vec<usize>,
}

impl Parcel {
    pub(crate) fn of(divided: &Divided<'_>, taken: &Taken) -> Self {
        Self { from: taken.export, indices: divided.indices(taken) }
    }
}

/// What is sealed of divided exports: every depot in the mapping's order, then what each intake keeps aside.
pub(crate) fn parcels(divided: &Divided<'_>) -> Vec<Parcel> {
    let depots = divided.mapping.depots.iter().map(|depot| Parcel::of(divided, &depot.made_of));
    let asides = divided.intakes.iter().enumerate().filter(|(_, intake)| !intake.aside.is_empty());
    let asides = asides.map(|(from, intake)| Parcel { from, indices: intake.aside.iter().copied().collect() });
    depots.chain(asides).collect()
}

/// What other targets have of shared depots, each with the depot by its place in the mapping.
pub(crate) fn copies(divided: &Divided<'_>) -> Vec<(usize, Parcel)> {
    let depots = divided.mapping.depots.iter().enumerate();
    depots.flat_map(|(at, depot)| depot.copies.iter().map(move |copy| (at, Parcel::of(divided, copy)))).collect()
}
