//! What is sealed of divided exports, and the record that its trees make.

use lantern_core::choices::{Choices, Players};
use lantern_core::digest::TreeId;
use lantern_core::finding::{Code, Finding};
use lantern_core::names::Name;
use lantern_core::release::{Claims, DepotRecord, TargetRecord};
use lantern_core::tree::{Tree, TreeError};
use lantern_exports::cache::DigestCache;
use lantern_exports::intake::Intake;

use crate::ProjectError;
use crate::divided::{Divided, Parcel, copies, parcels};

/// Returns the trees of all parcels, if each is known and what targets share is the same in all of them.
pub(crate) fn trees_if_known(divided: &Divided<'_>, tree: impl Fn(&Parcel) -> Option<Tree>) -> Option<Vec<Tree>> {
    let trees: Vec<Tree> = parcels(divided).iter().map(&tree).collect::<Option<_>>()?;
    let is_same = |(at, copy): &(usize, Parcel)| tree(copy).is_some_and(|tree| tree.id() == trees[*at].id());
    copies(divided).iter().all(is_same).then_some(trees)
}

/// Returns everything that is sealed of divided exports, by its places in its intake.
pub(crate) fn portions<'a>(divided: &'a Divided<'_>) -> Vec<(&'a Intake<'a>, Vec<usize>)> {
    parcels(divided).into_iter().map(|parcel| (&divided.intakes[parcel.from], parcel.indices)).collect()
}

/// Makes the records of all targets out of their parcels' trees.
pub(crate) fn describe(divided: &Divided<'_>, trees: &[Tree]) -> Result<Vec<TargetRecord>, ProjectError> {
    let record = |name: &Name, tree: &Tree, players: &Players| DepotRecord {
        depot: name.clone(),
        tree: tree.id(),
        files: tree.file_count(),
        size: tree.size(),
        players: players.clone(),
    };
    let (of_depots, of_asides) = trees.split_at(divided.mapping.depots.len().min(trees.len()));
    let mut asides = of_asides.iter();
    let mut out = Vec::new();
    for (target, intake) in divided.intakes.iter().enumerate() {
        let depots = divided.mapping.depots.iter().zip(of_depots).filter(|(d, _)| d.taken_from(target).is_some());
        let depots: Vec<_> = depots.collect();
        let whole = match depots.as_slice() {
            [(_, only)] => only.id(),
            _ => joined(depots.iter().map(|(_, tree)| *tree)).map_err(|error| {
                let what = format!("the depots of {} do not fit together: {error}", intake.name);
                ProjectError::Findings(vec![Finding::of(Code::DepotsCollide, what, "fix the rules of its depots")])
            })?,
        };
        let aside = (!intake.aside.is_empty()).then(|| asides.next()).flatten();
        out.push(TargetRecord {
            target: intake.name.clone(),
            systems: intake.systems.clone(),
            starts: intake.starts.clone(),
            folder: intake.target.folder.clone(),
            tree: whole,
            depots: depots.iter().map(|(depot, tree)| record(&depot.name, tree, &depot.players)).collect(),
            choices: choices_of(divided, depots.iter().flat_map(|(depot, _)| depot.players.choice.keys())),
            aside: aside.map(|tree| record(intake.name, tree, &Players::default())),
            claims: Claims::default(),
            changed: None,
            unsigned: false,
        });
    }
    Ok(out)
}

/// The id of the tree that others make together.
fn joined<'a>(trees: impl Iterator<Item = &'a Tree>) -> Result<TreeId, TreeError> {
    let entries = trees.flat_map(|tree| tree.iter().map(|(path, node)| (path.clone(), node.clone())));
    Tree::new(entries).map(|tree| tree.id())
}

/// Returns those of the project's choices that some depots follow from.
fn choices_of<'a>(divided: &Divided<'_>, named: impl Iterator<Item = &'a Name>) -> Choices {
    let known = named.filter_map(|choice| Some((choice.clone(), divided.choices.get(choice)?.clone())));
    known.collect()
}

/// Returns the record's targets that the exports make, by what was seen of them before and without reading anything.
pub(crate) fn seem(divided: &Divided<'_>, digests: &DigestCache) -> Option<Vec<TargetRecord>> {
    let tree = |parcel: &Parcel| digests.tree_as_it_seems(&divided.intakes[parcel.from], &parcel.indices);
    describe(divided, &trees_if_known(divided, tree)?).ok()
}
