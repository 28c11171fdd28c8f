//! What players get of a branch: exactly what its builds are made of, and nothing that merely lies beside it.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::names::{Handle, Name};
use lantern_store::store::Store;
use lantern_storefront::protocol::{Branch, BuildDepot, Play, problem};

use super::invitations::{Asker, Owns};
use super::{StandIn, not_there};
use crate::refusal::Refused;

/// Something that a player asks for.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Asked {
    /// A recipe.
    Recipe(RecipeId),
    /// A segment of a recipe, or its locator.
    Segment(Digest),
    /// Bytes of a pack: its name, the first and the last of them.
    Range(Digest, u32, u32),
}

/// What some depots are made of.
#[derive(Debug, Default)]
struct Parts {
    recipes: HashSet<RecipeId>,
    segments: HashSet<Digest>,
    /// By pack, what the locators name of it: first byte and the one behind the last, in order and apart.
    ranges: HashMap<Digest, Vec<(u32, u32)>>,
}

impl Parts {
    fn add(&mut self, store: &Store, recipe: RecipeId) -> Result<(), Refused> {
        if !self.recipes.insert(recipe) {
            return Ok(());
        }
        let (root, entries) = store.recipe(recipe).map_err(not_there)?;
        self.segments.extend(root.segments.iter().map(|s| s.digest));
        let locator = store.locator_of(&root, &entries).map_err(not_there)?;
        for location in locator.locations() {
            let (pack, _) = locator.packs[location.pack as usize];
            let (from, len) = (location.entry.offset, location.entry.stored_len);
            self.ranges.entry(pack).or_default().push((from, from.saturating_add(len)));
        }
        Ok(())
    }

    /// Joins neighbours, so that one look finds whether a range is named from end to end.
    fn join(&mut self) {
        for ranges in self.ranges.values_mut() {
            ranges.sort_unstable();
            ranges.dedup_by(|next, kept| {
                let touches = next.0 <= kept.1;
                if touches {
                    kept.1 = kept.1.max(next.1);
                }
                touches
            });
        }
    }

    fn has(&self, asked: Asked) -> bool {
        match asked {
            Asked::Recipe(id) => self.recipes.contains(&id),
            Asked::Segment(digest) => self.segments.contains(&digest),
            Asked::Range(pack, first, last) => self.ranges.get(&pack).is_some_and(|ranges| {
                let at = ranges.partition_point(|(from, _)| *from <= first);
                at.checked_sub(1).is_some_and(|at| last < ranges[at].1)
            }),
        }
    }
}

/// What a branch hands out, worked out once for each of its revisions.
#[derive(Debug)]
pub(super) struct Served {
    revision: u64,
    /// How many of the title's builds were withdrawn.
    withdrawn: usize,
    /// Depots for everybody who may follow the branch.
    open: Parts,
    /// By edition: depots for those who own it.
    owned: BTreeMap<Name, Parts>,
}

impl StandIn {
    /// Returns what a branch has, for players.
    pub(crate) fn play(&self, title: &Handle, branch: &Name, asker: &Asker) -> Result<Play, Refused> {
        let known = self.title(title)?;
        let branch = self.branch(title, branch)?;
        self.admit(title, &branch.facts.branch, branch.audience, asker)?;
        let builds = self.builds(title)?;
        let mut targets = BTreeMap::new();
        for (target, on_branch) in &branch.facts.targets {
            let build = builds.iter().find(|b| b.number_there == on_branch.number_there);
            if let Some(mut found) = build.and_then(|b| b.targets.get(target)).cloned() {
                self.with_updates(title, &mut found)?;
                // Of a build that is not for the one who asks not even that it is there is said.
                for depot in &mut found.depots {
                    let may =
                        |from| self.store_for_players(title, &branch.facts.branch, Asked::Recipe(from), asker).is_ok();
                    depot.updates.retain(|update| may(update.from));
                }
                targets.insert(target.clone(), found);
            }
        }
        Ok(Play { name: known.name, identity: known.identity, facts: branch.facts, builds: targets })
    }

    /// Returns the store of a title if someone may have this part of a branch: an update in the middle of a promotion
    /// must still get what it began with, so everything that is or was on the branch can be had, but for what was
    /// withdrawn since. Nothing that was never promoted can.
    pub(crate) fn store_for_players(
        &self,
        title: &Handle,
        branch: &Name,
        asked: Asked,
        asker: &Asker,
    ) -> Result<Store, Refused> {
        let branch = self.branch(title, branch)?;
        let owns = self.admit(title, &branch.facts.branch, branch.audience, asker)?;
        let served = self.served(title, &branch)?;
        let store = self.store(title);
        if served.open.has(asked) {
            return Ok(store);
        }
        let mut of_others = served.owned.iter().filter(|(_, parts)| parts.has(asked)).map(|(edition, _)| edition);
        let proved = |edition: &&Name| match &owns {
            Owns::Everything => true,
            Owns::Editions(editions) => editions.contains(edition),
            Owns::NothingBecause(_) => false,
        };
        match of_others.clone().find(proved) {
            Some(_) => Ok(store),
            None => match of_others.next() {
                Some(edition) => {
                    let mut detail = format!("this is for those who own {edition}");
                    if let Owns::NothingBecause(why) = &owns {
                        detail += &format!(", and {why}");
                    }
                    Err(Refused::new(problem::NOT_OWNED, detail, "an invitation can state that the player owns it"))
                }
                None => {
                    let detail = format!("nothing on {} is made of this", branch.facts.branch);
                    Err(Refused::new(problem::NOT_FOUND, detail, "ask for the branch again"))
                }
            },
        }
    }

    fn served(&self, title: &Handle, branch: &Branch) -> Result<Arc<Served>, Refused> {
        let builds = self.builds(title)?;
        let withdrawn = builds.iter().filter(|b| b.withdrawn.is_some()).count();
        let key = (title.clone(), branch.facts.branch.clone());
        let lock = || self.served.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let revision = branch.facts.revision;
        if let Some(known) = lock().get(&key).filter(|s| (s.revision, s.withdrawn) == (revision, withdrawn)) {
            return Ok(known.clone());
        }
        let now: HashSet<u64> = branch.facts.targets.values().map(|b| b.number_there).collect();
        let moves = self.moves(title, &branch.facts.branch)?;
        let ever: HashSet<(&Name, u64)> =
            moves.iter().flat_map(|m| &m.facts.targets).map(|(target, b)| (target, b.number_there)).collect();
        let mut served = Served { revision, withdrawn, open: Parts::default(), owned: BTreeMap::new() };
        let store = self.store(title);
        for build in builds.iter().filter(|b| b.withdrawn.is_none() || now.contains(&b.number_there)) {
            let targets = build.targets.iter().filter(|(name, _)| ever.contains(&(*name, build.number_there)));
            for depot in targets.flat_map(|(_, target)| &target.depots) {
                let BuildDepot { recipe, players, .. } = depot;
                match &players.add_on {
                    None => served.open.add(&store, *recipe)?,
                    Some(edition) => served.owned.entry(edition.clone()).or_default().add(&store, *recipe)?,
                }
            }
        }
        served.open.join();
        served.owned.values_mut().for_each(Parts::join);
        let served = Arc::new(served);
        lock().insert(key, served.clone());
        Ok(served)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_ranges_that_are_named_from_end_to_end() {
        let pack = Digest::of(b"pack");
        let mut parts = Parts::default();
        parts.ranges.insert(pack, vec![(50, 60), (10, 20), (20, 30), (25, 28), (40, 50)]);
        parts.join();
        assert_eq!(parts.ranges[&pack], [(10, 30), (40, 60)]);
        let has = |first, last| parts.has(Asked::Range(pack, first, last));
        for (first, last) in [(10, 10), (10, 29), (15, 25), (40, 59)] {
            assert!(has(first, last), "{first}-{last}");
        }
        for (first, last) in
            [(0, 9), (9, 10), (10, 30), (29, 40), (30, 39), (39, 40), (59, 60), (60, 60), (0, u32::MAX)]
        {
            assert!(!has(first, last), "{first}-{last}");
        }
        assert!(!parts.has(Asked::Range(Digest::of(b"other"), 10, 20)));
    }
}
