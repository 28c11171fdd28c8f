//! Depots: which file of which export a player's machine downloads as part of what. A pure mapping by rules.
//!
//! A target without rules is one depot of its own name that holds everything. With rules, each file goes where they
//! say. A rule takes files of one target or of several: voices that are the same everywhere are downloaded from one
//! depot on every system. A depot of several targets takes the same files from each, which is checked here for their
//! names and sizes.

use std::collections::{BTreeMap, BTreeSet};

use crate::choices::Players;
use crate::names::Name;
use crate::path::TreePath;
use crate::patterns::Patterns;

/// `[depots.NAME]`.
#[derive(Debug, Clone)]
pub struct Rule {
    /// The depot's name.
    pub name: Name,
    /// The targets whose files it takes; one or several of one edition.
    pub from: Vec<Name>,
    /// What it takes; empty for all.
    pub only: Patterns,
    /// What it leaves to others.
    pub leave_out: Patterns,
    /// Which of their players download it.
    pub players: Players,
}

impl Rule {
    fn takes(&self, path: &TreePath) -> bool {
        (self.only.is_empty() || self.only.covers(path)) && !self.leave_out.covers(path)
    }
}

/// An export to be divided.
#[derive(Debug, Clone, Copy)]
pub struct Export<'a> {
    /// The target.
    pub target: &'a Name,
    /// Its entries with their sizes in bytes, in the order of their paths; what is kept aside is not among them.
    pub entries: &'a [(&'a TreePath, u64)],
}

/// Entries of an export.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Taken {
    /// The export, by its place in the list.
    pub export: usize,
    /// By their place in that export's entries.
    pub entries: Vec<usize>,
}

/// A depot with the entries that it takes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Depot {
    /// Its name.
    pub name: Name,
    /// What it is made of: the first of its targets that is here.
    pub made_of: Taken,
    /// The same entries in its other targets, which must be the same files.
    pub copies: Vec<Taken>,
    /// Which players of its targets download it.
    pub players: Players,
}

impl Depot {
    /// Returns what it takes from each export that it belongs to; the first is what it is made of.
    pub fn taken(&self) -> impl Iterator<Item = &Taken> {
        std::iter::once(&self.made_of).chain(&self.copies)
    }

    /// Returns what it takes from an export; none when it does not belong to it.
    pub fn taken_from(&self, export: usize) -> Option<&Taken> {
        self.taken().find(|taken| taken.export == export)
    }
}

/// An entry that lands where it should not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Trouble {
    /// Players never get these entries of an export.
    InNone {
        /// The export.
        target: Name,
        /// In order.
        paths: Vec<TreePath>,
    },
    /// Players would get these paths twice.
    InTwo {
        /// The export whose players.
        target: Name,
        /// One depot.
        one: Name,
        /// The other.
        other: Name,
        /// In order.
        paths: Vec<TreePath>,
    },
    /// A rule takes nothing.
    Empty {
        /// The depot.
        depot: Name,
        /// Where it takes its files from.
        from: Name,
    },
    /// A depot of several targets that does not take the same from each.
    Differs {
        /// The depot.
        depot: Name,
        /// What it is made of.
        from: Name,
        /// The target that has something else.
        other: Name,
        /// What only one of them has, in order.
        missing: Vec<TreePath>,
        /// What they have in different sizes, in order.
        resized: Vec<TreePath>,
    },
    /// Parts of one macOS bundle go to different depots.
    Split {
        /// The bundle.
        bundle: String,
        /// The depots.
        depots: BTreeSet<Name>,
    },
}

/// Where everything lands.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Mapping {
    /// In the order of the exports, then of their names.
    pub depots: Vec<Depot>,
    /// What is wrong.
    pub troubles: Vec<Trouble>,
}

impl Mapping {
    /// Divides exports by rules. Of a rule for several targets those count that are among the exports: a release of some
    /// targets has shared depots of its own.
    pub fn of(exports: &[Export<'_>], rules: &[Rule]) -> Self {
        let mut mapping = Self::default();
        let mut is_shared_already = BTreeSet::new();
        for (index, export) in exports.iter().enumerate() {
            let mut own = rules.iter().filter(|rule| rule.from.contains(export.target)).peekable();
            if own.peek().is_none() {
                mapping.depots.push(Depot {
                    name: export.target.clone(),
                    made_of: Taken { export: index, entries: (0..export.entries.len()).collect() },
                    copies: Vec::new(),
                    players: Players::default(),
                });
            }
            for rule in own.filter(|rule| is_shared_already.insert(&rule.name)) {
                mapping.add(exports, index, rule);
            }
        }
        for index in 0..exports.len() {
            mapping.check(exports, index);
        }
        mapping.check_bundles(exports);
        mapping
    }

    /// Returns the depots that players of an export have.
    pub fn of_target(&self, target: usize) -> impl Iterator<Item = &Depot> {
        self.depots.iter().filter(move |depot| depot.taken_from(target).is_some())
    }

    /// Adds a rule's depot, which is made of the first export that the rule is for.
    #[expect(clippy::indexing_slicing, reason = "the indices are made of these very lists")]
    fn add(&mut self, exports: &[Export<'_>], first: usize, rule: &Rule) {
        let taken = |export: usize| {
            let entries = exports[export].entries.iter().enumerate();
            let entries = entries.filter(|(_, (path, _))| rule.takes(path)).map(|(i, _)| i).collect();
            Taken { export, entries }
        };
        let others = (first + 1..exports.len()).filter(|other| rule.from.contains(exports[*other].target));
        let (made_of, copies) = (taken(first), others.map(taken).collect::<Vec<Taken>>());
        for taken in std::iter::once(&made_of).chain(&copies).filter(|taken| taken.entries.is_empty()) {
            let from = exports[taken.export].target.clone();
            self.troubles.push(Trouble::Empty { depot: rule.name.clone(), from });
        }
        let files = |taken: &Taken| -> BTreeMap<&TreePath, u64> {
            taken.entries.iter().map(|i| exports[taken.export].entries[*i]).collect()
        };
        let here = files(&made_of);
        for copy in copies.iter().filter(|copy| !copy.entries.is_empty() && !here.is_empty()) {
            let there = files(copy);
            let only_here = here.keys().filter(|path| !there.contains_key(**path));
            let missing = only_here.chain(there.keys().filter(|path| !here.contains_key(**path)));
            let missing: BTreeSet<TreePath> = missing.map(|path| (*path).clone()).collect();
            let is_resized = |(path, size): &(&&TreePath, &u64)| there.get(**path).is_some_and(|other| other != *size);
            let resized: Vec<TreePath> = here.iter().filter(is_resized).map(|(path, _)| (*path).clone()).collect();
            if !missing.is_empty() || !resized.is_empty() {
                self.troubles.push(Trouble::Differs {
                    depot: rule.name.clone(),
                    from: exports[first].target.clone(),
                    other: exports[copy.export].target.clone(),
                    missing: missing.into_iter().collect(),
                    resized,
                });
            }
        }
        self.depots.push(Depot { name: rule.name.clone(), made_of, copies, players: rule.players.clone() });
    }

    /// Every entry of an export is to be in one of its depots, and in one only.
    #[expect(clippy::indexing_slicing, reason = "the indices are made of these very lists")]
    fn check(&mut self, exports: &[Export<'_>], target: usize) {
        let export = &exports[target];
        let mut lands: BTreeMap<usize, &Name> = BTreeMap::new();
        let mut twice: BTreeMap<(&Name, &Name), Vec<TreePath>> = BTreeMap::new();
        for depot in &self.depots {
            for entry in depot.taken_from(target).into_iter().flat_map(|taken| &taken.entries) {
                match lands.get(entry) {
                    Some(other) => {
                        twice.entry((*other, &depot.name)).or_default().push(export.entries[*entry].0.clone());
                    }
                    None => {
                        lands.insert(*entry, &depot.name);
                    }
                }
            }
        }
        let in_none = export.entries.iter().enumerate().filter(|(i, _)| !lands.contains_key(i));
        let paths: Vec<TreePath> = in_none.map(|(_, (path, _))| (*path).clone()).collect();
        let mut troubles = Vec::new();
        if !paths.is_empty() {
            troubles.push(Trouble::InNone { target: export.target.clone(), paths });
        }
        for ((one, other), paths) in twice {
            let (one, other) = (one.clone(), other.clone());
            troubles.push(Trouble::InTwo { target: export.target.clone(), one, other, paths });
        }
        self.troubles.extend(troubles);
    }

    /// A bundle is signed as a whole: its parts must not arrive one without the other.
    #[expect(clippy::indexing_slicing, reason = "the indices are made of these very lists")]
    fn check_bundles(&mut self, exports: &[Export<'_>]) {
        for (target, export) in exports.iter().enumerate() {
            let mut bundles: BTreeMap<String, BTreeSet<Name>> = BTreeMap::new();
            for depot in &self.depots {
                for entry in depot.taken_from(target).into_iter().flat_map(|taken| &taken.entries) {
                    let path = export.entries[*entry].0;
                    if let Some((bundle, _)) = path.as_str().split_once(".app/") {
                        bundles.entry(format!("{bundle}.app")).or_default().insert(depot.name.clone());
                    }
                }
            }
            let split = bundles.into_iter().filter(|(_, depots)| depots.len() > 1);
            self.troubles.extend(split.map(|(bundle, depots)| Trouble::Split { bundle, depots }));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rule(name: &str, from: &[&str], only: &[&str], leave_out: &[&str]) -> Rule {
        let patterns = |texts: &[&str]| Patterns::new(texts.iter().copied()).unwrap();
        Rule {
            name: name.parse().unwrap(),
            from: from.iter().map(|target| target.parse().unwrap()).collect(),
            only: patterns(only),
            leave_out: patterns(leave_out),
            players: Players::default(),
        }
    }

    /// Maps exports, each file of which has a size in bytes, and returns for each depot its paths and targets, and the
    /// troubles.
    fn map(exports: &[(&str, &[(&str, u64)])], rules: &[Rule]) -> (Vec<String>, Vec<Trouble>) {
        let names: Vec<Name> = exports.iter().map(|(name, _)| name.parse().unwrap()).collect();
        let paths: Vec<Vec<(TreePath, u64)>> = exports
            .iter()
            .map(|(_, files)| files.iter().map(|(path, size)| (TreePath::new(*path).unwrap(), *size)).collect())
            .collect();
        let paths: Vec<Vec<(&TreePath, u64)>> =
            paths.iter().map(|files| files.iter().map(|(path, size)| (path, *size)).collect()).collect();
        let exports: Vec<Export<'_>> =
            names.iter().zip(&paths).map(|(target, entries)| Export { target, entries }).collect();
        let mapping = Mapping::of(&exports, rules);
        let shown = mapping.depots.iter().map(|d| {
            let export = &exports[d.made_of.export];
            let paths: Vec<&str> = d.made_of.entries.iter().map(|i| export.entries[*i].0.as_str()).collect();
            let targets: Vec<&str> = d.taken().map(|taken| exports[taken.export].target.as_str()).collect();
            format!("{}: {} -> {}", d.name, paths.join(" "), targets.join(" "))
        });
        (shown.collect(), mapping.troubles)
    }

    const GAME: &[(&str, u64)] = &[("game", 9), ("voices/en.pak", 7), ("voices/fr.pak", 8)];

    fn name(text: &str) -> Name {
        text.parse().unwrap()
    }

    fn paths(texts: &[&str]) -> Vec<TreePath> {
        texts.iter().map(|text| TreePath::new(*text).unwrap()).collect()
    }

    #[test]
    fn a_target_without_rules_is_one_depot() {
        let (depots, troubles) = map(&[("linux", GAME)], &[]);
        assert_eq!(depots, ["linux: game voices/en.pak voices/fr.pak -> linux"]);
        assert!(troubles.is_empty());
    }

    /// French for both, and what each has for itself.
    fn shared() -> [Rule; 3] {
        [
            rule("linux", &["linux"], &[], &["voices/fr*"]),
            rule("french", &["windows", "linux"], &["voices/fr*"], &[]),
            rule("windows", &["windows"], &[], &["voices/fr*"]),
        ]
    }

    #[test]
    fn one_depot_serves_several_targets() {
        let (depots, troubles) = map(&[("linux", &[("game", 5), ("voices/fr.pak", 8)]), ("windows", GAME)], &shared());
        assert_eq!(troubles, []);
        assert_eq!(depots[0], "linux: game -> linux");
        assert_eq!(depots[1], "french: voices/fr.pak -> linux windows");
        assert_eq!(depots[2], "windows: game voices/en.pak -> windows");
    }

    #[test]
    fn a_shared_depot_must_be_the_same_in_each_target() {
        let differs = |linux: &[(&str, u64)]| map(&[("linux", linux), ("windows", GAME)], &shared()).1;
        let trouble = |missing: &[&str], resized: &[&str]| Trouble::Differs {
            depot: name("french"),
            from: name("linux"),
            other: name("windows"),
            missing: paths(missing),
            resized: paths(resized),
        };
        assert_eq!(differs(&[("game", 5), ("voices/fr.pak", 6)]), [trouble(&[], &["voices/fr.pak"])]);
        let more = [("game", 5), ("voices/fr-2.pak", 1), ("voices/fr.pak", 8)];
        assert_eq!(differs(&more), [trouble(&["voices/fr-2.pak"], &[])]);
        let other = [("game", 5), ("voices/fr-2.pak", 1)];
        assert_eq!(differs(&other), [trouble(&["voices/fr-2.pak", "voices/fr.pak"], &[])]);
        assert_eq!(differs(&[("game", 5)]), [Trouble::Empty { depot: name("french"), from: name("linux") }]);
    }

    #[test]
    fn what_lands_in_none_or_in_two() {
        let rules = [
            rule("base", &["linux"], &["game"], &[]),
            rule("en", &["linux"], &["voices/en*", "game"], &[]),
            rule("none", &["linux"], &["textures/**"], &[]),
        ];
        let (_, troubles) = map(&[("linux", GAME)], &rules);
        assert_eq!(
            troubles,
            [
                Trouble::Empty { depot: name("none"), from: name("linux") },
                Trouble::InNone { target: name("linux"), paths: paths(&["voices/fr.pak"]) },
                Trouble::InTwo { target: name("linux"), one: name("base"), other: name("en"), paths: paths(&["game"]) },
            ]
        );
    }

    #[test]
    fn a_bundle_stays_whole() {
        let files: &[(&str, u64)] = &[("Game.app/Contents/Info.plist", 1), ("Game.app/Contents/MacOS/game", 1)];
        let rules = [rule("a", &["macos"], &["**/Info.plist"], &[]), rule("b", &["macos"], &[], &["**/Info.plist"])];
        let (_, troubles) = map(&[("macos", files)], &rules);
        assert!(matches!(&troubles[..], [Trouble::Split { bundle, .. }] if bundle == "Game.app"), "{troubles:?}");
    }

    #[test]
    fn a_part_has_shared_depots_of_its_own_files() {
        let (depots, troubles) = map(&[("windows", GAME)], &shared());
        assert_eq!(troubles, []);
        assert_eq!(depots, ["french: voices/fr.pak -> windows", "windows: game voices/en.pak -> windows"]);
    }

    proptest! {
        /// Whatever the rules are, each file is in exactly one depot, or it is reported.
        #[test]
        fn nothing_is_lost_silently(
            only in prop::collection::vec(prop::sample::select(vec!["a/**", "b/*", "a/1", "**/2", "c"]), 0..3),
            leave in prop::collection::vec(prop::sample::select(vec!["a/**", "b/*", "a/1", "**/2", "c"]), 0..3),
            more in any::<bool>(),
        ) {
            let files: &[(&str, u64)] = &[("a/1", 1), ("a/2", 1), ("b/1", 1), ("b/2", 1), ("c", 1)];
            let mut rules = vec![rule("one", &["linux"], &only, &leave)];
            if more {
                rules.push(rule("two", &["linux"], &leave, &only));
            }
            let (depots, troubles) = map(&[("linux", files)], &rules);
            for (path, _) in files {
                let count = depots.iter().filter(|d| d.split(' ').any(|word| word == *path)).count();
                let answer = troubles.iter().filter(|t| match t {
                    Trouble::InNone { paths, .. } | Trouble::InTwo { paths, .. } => paths.iter().any(|p| p.as_str() == *path),
                    _ => false,
                }).count();
                prop_assert_eq!(answer > 0, count != 1, "{} {:?} {:?}", path, depots, troubles);
            }
        }
    }
}
