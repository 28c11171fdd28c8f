//! Every kind of storefront does what the suite says; a storefront that does otherwise is found.

use std::collections::BTreeMap;
use std::sync::Arc;

use lantern_core::config::{ProtocolStorefront, StorefrontKind};
use lantern_core::progress::Silent;
use lantern_rehearsal::stand_in::{CLIENT_ID, StandInDocument};
use lantern_store::updates::Comparison;
use lantern_storefront::conformance::{Ability, As, Sample, Subject, run};
use lantern_storefront::protocol::NewDepot;
use lantern_storefront::{Access, Opening, Storefront};

use crate::memory::{Fault, Memory};
use crate::scene::{Scene, Sealed};

fn sample(scene: &Scene, sealed: &Sealed) -> Sample {
    let store = &scene.store;
    let (root, _) = store.recipe(sealed.recipe).unwrap();
    let segment = |digest| (digest, store.segment_bytes(&digest).unwrap());
    let pack = |name| (name, store.read_pack(&name).unwrap().into());
    Sample {
        record: String::from_utf8(sealed.record.encode()).unwrap(),
        depots: vec![NewDepot {
            depot: "linux".parse().unwrap(),
            handle: "sp-linux".parse().unwrap(),
            recipe: sealed.recipe,
        }],
        recipes: BTreeMap::from([(sealed.recipe, store.recipe_bytes(sealed.recipe).unwrap())]),
        segments: root.segments.iter().map(|at| segment(at.digest)).collect(),
        packs: store.packs().unwrap().into_iter().map(pack).collect(),
    }
}

fn check(scene: &Scene, open: &dyn Fn(As) -> Arc<dyn Storefront>) -> Result<(), String> {
    // What the second one needs beyond the first is sealed after the first one was read.
    let [old, new] = [("1.4.0", 212, 1), ("1.4.1", 213, 2)].map(|(version, number, seed)| {
        let sealed = scene.seal(version, number, seed);
        (sample(scene, &sealed), sealed.recipe)
    });
    let ((first, from), (second, to)) = (old, new);
    Comparison::open(&scene.store, from, to).unwrap().make(u64::MAX, &Silent).unwrap().unwrap();
    run(&Subject {
        open,
        abilities: &Ability::ALL,
        title: "saltmarsh-post".parse().unwrap(),
        open_branch: "open-water".parse().unwrap(),
        closed_branch: "creek".parse().unwrap(),
        samples: [first, second],
        update: scene.store.read_update(from, to, 0, u32::MAX).unwrap().into(),
    })
}

/// Brambleyard with an open and a closed branch that need not wait for one another.
fn side_by_side() -> StandInDocument {
    let mut document = StandInDocument::brambleyard();
    document.rules.branches.fixed.iter_mut().for_each(|branch| branch.carried = None);
    document
}

#[test]
fn the_client_with_the_stand_in() {
    let scene = Scene::with(side_by_side());
    let origin = scene.running.origin();
    let access =
        || Access { client_id: CLIENT_ID.to_owned(), client_secret: scene.running.stand_in().secret().to_owned() };
    let open = |who| {
        let (access, invited) = match who {
            As::Maker => (Some(access()), None),
            As::Player(invited) => (None, invited),
        };
        let kind = StorefrontKind::Protocol(ProtocolStorefront { address: origin.clone() });
        lantern_storefront::open(&kind, Opening { access, invited, ..Opening::default() }).unwrap()
    };
    check(&scene, &open).unwrap();
}

#[test]
fn a_place_in_memory() {
    let scene = Scene::new();
    let memory = Memory::new(None);
    check(&scene, &|who| memory.open(who)).unwrap();
}

#[test]
fn every_fault_is_found() {
    for (fault, says) in Fault::ALL {
        let scene = Scene::new();
        let memory = Memory::new(Some(fault));
        let found = check(&scene, &|who| memory.open(who)).unwrap_err();
        assert!(found.contains(says), "{fault:?}: {found}");
    }
}
