//! Depots: which file of which export a player's machine downloads as part of what. A pure mapping by rules.
//!
//! A target without rules is one depot of its own name that holds everything. With rules, each file goes where they
//! say. A rule takes files of one target, and its depot may belong to others too: voices that are the same everywhere
//! are downloaded from one depot on every system.

use std::collections::{BTreeMap, BTreeSet};

use crate::names::Name;
use crate::path::TreePath;
use crate::patterns::Patterns;
use crate::release::When;
use crate::system::System;

/// `[depots.NAME]`.
#[derive(Debug, Clone)]
pub struct Rule {
    /// The depot's name.
    pub name: Name,
    /// The target whose files it takes.
    pub from: Name,
    /// What it takes; empty for all.
    pub only: Patterns,
    /// What it leaves to others.
    pub leave_out: Patterns,
    /// The systems whose players have it; empty for those of its own target.
    pub systems: Patterns,
    /// Who of them downloads it.
    pub when: When,
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
    /// What it runs on.
    pub systems: &'a [System],
    /// Its entries, in order; what is kept aside is not among them.
    pub entries: &'a [&'a TreePath],
}

/// A depot with the entries that it takes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Depot {
    /// Its name.
    pub name: Name,
    /// The export that they are of, by its place in the list.
    pub from: usize,
    /// By their place in that export's entries.
    pub entries: Vec<usize>,
    /// The exports whose players have it.
    pub targets: Vec<usize>,
    /// Who of them downloads it.
    pub when: When,
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
        /// Where it looked.
        from: Name,
    },
    /// No target has a system that the rule names.
    Nowhere {
        /// The depot.
        depot: Name,
    },
    /// The depot is made of a target that is not in the part, and no target of the part has its files.
    Elsewhere {
        /// The depot.
        depot: Name,
        /// The target that it is made of.
        from: Name,
        /// The target of the part whose players have it.
        target: Name,
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
    /// Divides the exports of some of the targets alone. A depot that is made of another target, and that players of these
    /// have too, is made of the first of these that has its files.
    pub fn of_part(exports: &[Export<'_>], rules: &[Rule]) -> Self {
        let is_in = |name: &Name| exports.iter().any(|export| export.target == name);
        let (own, others): (Vec<&Rule>, Vec<&Rule>) = rules.iter().partition(|rule| is_in(&rule.from));
        let own: Vec<Rule> = own.into_iter().cloned().collect();
        let mut mapping = Self::divide(exports, &own);
        for rule in others.into_iter().filter(|rule| !rule.systems.is_empty()) {
            let fits = |export: &Export<'_>| export.systems.iter().any(|s| rule.systems.matches_word(s.name()));
            let mut having = (0..exports.len()).filter(|index| fits(&exports[*index])).peekable();
            let Some(first) = having.peek().copied() else { continue };
            match having.find(|index| exports[*index].entries.iter().any(|path| rule.takes(path))) {
                Some(from) => mapping.add(exports, from, rule),
                None => {
                    let (depot, from, target) = (rule.name.clone(), rule.from.clone(), exports[first].target.clone());
                    mapping.troubles.push(Trouble::Elsewhere { depot, from, target });
                }
            }
        }
        mapping.depots.sort_by(|a, b| (a.from, &a.name).cmp(&(b.from, &b.name)));
        mapping.checked(exports)
    }

    /// Divides exports by rules.
    pub fn of(exports: &[Export<'_>], rules: &[Rule]) -> Self {
        Self::divide(exports, rules).checked(exports)
    }

    fn divide(exports: &[Export<'_>], rules: &[Rule]) -> Self {
        let mut mapping = Self::default();
        for (index, export) in exports.iter().enumerate() {
            let own: Vec<&Rule> = rules.iter().filter(|rule| rule.from == *export.target).collect();
            if own.is_empty() {
                mapping.depots.push(Depot {
                    name: export.target.clone(),
                    from: index,
                    entries: (0..export.entries.len()).collect(),
                    targets: vec![index],
                    when: When::default(),
                });
            }
            for rule in own {
                mapping.add(exports, index, rule);
            }
        }
        mapping
    }

    fn checked(mut self, exports: &[Export<'_>]) -> Self {
        for index in 0..exports.len() {
            self.check(exports, index);
        }
        self.check_bundles(exports);
        self
    }

    /// Returns the depots that players of an export have.
    pub fn of_target(&self, target: usize) -> impl Iterator<Item = &Depot> {
        self.depots.iter().filter(move |depot| depot.targets.contains(&target))
    }

    fn add(&mut self, exports: &[Export<'_>], from: usize, rule: &Rule) {
        let export = &exports[from];
        let entries: Vec<usize> =
            export.entries.iter().enumerate().filter(|(_, path)| rule.takes(path)).map(|(i, _)| i).collect();
        let targets: Vec<usize> = match rule.systems.is_empty() {
            true => vec![from],
            false => {
                let fits = |e: &Export<'_>| e.systems.iter().any(|s| rule.systems.matches_word(s.name()));
                exports.iter().enumerate().filter(|(_, e)| fits(e)).map(|(i, _)| i).collect()
            }
        };
        let (name, when) = (rule.name.clone(), rule.when.clone());
        if entries.is_empty() {
            self.troubles.push(Trouble::Empty { depot: name.clone(), from: export.target.clone() });
        } else if targets.is_empty() {
            self.troubles.push(Trouble::Nowhere { depot: name.clone() });
        }
        self.depots.push(Depot { name, from, entries, targets, when });
    }

    fn check(&mut self, exports: &[Export<'_>], target: usize) {
        let export = &exports[target];
        let mut lands: BTreeMap<&TreePath, &Name> = BTreeMap::new();
        let mut twice: BTreeMap<(&Name, &Name), Vec<TreePath>> = BTreeMap::new();
        for depot in self.of_target(target) {
            for path in depot.entries.iter().map(|i| exports[depot.from].entries[*i]) {
                match lands.get(path) {
                    Some(other) => twice.entry((*other, &depot.name)).or_default().push(path.clone()),
                    None => {
                        lands.insert(path, &depot.name);
                    }
                }
            }
        }
        let in_a_rule: BTreeSet<usize> =
            self.depots.iter().filter(|d| d.from == target).flat_map(|d| d.entries.iter().copied()).collect();
        let in_none = |(i, path): &(usize, &&TreePath)| !in_a_rule.contains(i) && !lands.contains_key(**path);
        let paths: Vec<TreePath> =
            export.entries.iter().enumerate().filter(in_none).map(|(_, path)| (*path).clone()).collect();
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
    fn check_bundles(&mut self, exports: &[Export<'_>]) {
        for (target, export) in exports.iter().enumerate() {
            let mut bundles: BTreeMap<String, BTreeSet<Name>> = BTreeMap::new();
            for depot in self.depots.iter().filter(|d| d.from == target) {
                for path in depot.entries.iter().map(|i| export.entries[*i]) {
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

    fn rule(name: &str, from: &str, only: &[&str], leave_out: &[&str], systems: &[&str]) -> Rule {
        let patterns = |texts: &[&str]| Patterns::new(texts.iter().copied()).unwrap();
        Rule {
            name: name.parse().unwrap(),
            from: from.parse().unwrap(),
            only: patterns(only),
            leave_out: patterns(leave_out),
            systems: patterns(systems),
            when: When::default(),
        }
    }

    /// Maps exports of one system each and returns for each depot its paths and targets, and the troubles.
    fn map(exports: &[(&str, System, &[&str])], rules: &[Rule]) -> (Vec<String>, Vec<Trouble>) {
        let names: Vec<Name> = exports.iter().map(|(name, ..)| name.parse().unwrap()).collect();
        let systems: Vec<[System; 1]> = exports.iter().map(|(_, system, _)| [*system]).collect();
        let paths: Vec<Vec<TreePath>> =
            exports.iter().map(|(.., paths)| paths.iter().map(|p| TreePath::new(*p).unwrap()).collect()).collect();
        let paths: Vec<Vec<&TreePath>> = paths.iter().map(|p| p.iter().collect()).collect();
        let exports: Vec<Export<'_>> = names
            .iter()
            .zip(&systems)
            .zip(&paths)
            .map(|((target, systems), entries)| Export { target, systems, entries })
            .collect();
        let mapping = Mapping::of(&exports, rules);
        let shown = mapping.depots.iter().map(|d| {
            let paths: Vec<&str> = d.entries.iter().map(|i| exports[d.from].entries[*i].as_str()).collect();
            let targets: Vec<&str> = d.targets.iter().map(|i| exports[*i].target.as_str()).collect();
            format!("{}: {} -> {}", d.name, paths.join(" "), targets.join(" "))
        });
        (shown.collect(), mapping.troubles)
    }

    const GAME: &[&str] = &["game", "voices/en.pak", "voices/fr.pak"];

    #[test]
    fn a_target_without_rules_is_one_depot() {
        let (depots, troubles) = map(&[("linux", System::LinuxX86_64, GAME)], &[]);
        assert_eq!(depots, ["linux: game voices/en.pak voices/fr.pak -> linux"]);
        assert!(troubles.is_empty());
    }

    #[test]
    fn one_depot_serves_several_systems() {
        let exports: [(&str, System, &[&str]); 2] =
            [("linux", System::LinuxX86_64, &["game", "voices/fr.pak"]), ("windows", System::WindowsX86_64, GAME)];
        let rules = [
            rule("linux", "linux", &[], &["voices/fr.pak"], &[]),
            rule("french", "windows", &["voices/fr*"], &[], &["windows-*", "linux-*"]),
            rule("windows", "windows", &[], &["voices/fr*"], &[]),
        ];
        let (depots, troubles) = map(&exports, &rules);
        assert_eq!(troubles, []);
        assert_eq!(depots[0], "linux: game -> linux");
        assert_eq!(depots[1], "french: voices/fr.pak -> linux windows");
        assert_eq!(depots[2], "windows: game voices/en.pak -> windows");
    }

    #[test]
    fn what_lands_in_none_or_in_two() {
        let rules = [
            rule("base", "linux", &["game"], &[], &[]),
            rule("en", "linux", &["voices/en*", "game"], &[], &[]),
            rule("none", "linux", &["textures/**"], &[], &[]),
            rule("far", "linux", &["voices/en.pak"], &["voices/en.pak"], &["macos-*"]),
        ];
        let (_, troubles) = map(&[("linux", System::LinuxX86_64, GAME)], &rules);
        let path = |p: &str| vec![TreePath::new(p).unwrap()];
        let name = |n: &str| n.parse::<Name>().unwrap();
        assert_eq!(
            troubles,
            [
                Trouble::Empty { depot: name("none"), from: name("linux") },
                Trouble::Empty { depot: name("far"), from: name("linux") },
                Trouble::InNone { target: name("linux"), paths: path("voices/fr.pak") },
                Trouble::InTwo { target: name("linux"), one: name("base"), other: name("en"), paths: path("game") },
            ]
        );
        let (_, troubles) =
            map(&[("linux", System::LinuxX86_64, &["game"])], &[rule("far", "linux", &[], &[], &["macos-*"])]);
        assert_eq!(troubles, [Trouble::Nowhere { depot: name("far") }]);
    }

    #[test]
    fn a_bundle_stays_whole() {
        let paths: &[&str] = &["Game.app/Contents/Info.plist", "Game.app/Contents/MacOS/game"];
        let rules =
            [rule("a", "macos", &["**/Info.plist"], &[], &[]), rule("b", "macos", &[], &["**/Info.plist"], &[])];
        let (_, troubles) = map(&[("macos", System::MacosUniversal, paths)], &rules);
        assert!(matches!(&troubles[..], [Trouble::Split { bundle, .. }] if bundle == "Game.app"), "{troubles:?}");
    }

    #[test]
    fn a_part_has_shared_depots_of_its_own_files() {
        let rules = [
            rule("windows", "windows", &[], &["voices/**"], &[]),
            rule("linux", "linux", &[], &["voices/**"], &[]),
            rule("voices", "windows", &["voices/**"], &[], &["windows-*", "linux-*"]),
        ];
        let names: Name = "linux".parse().unwrap();
        let paths = GAME.iter().map(|p| TreePath::new(*p).unwrap()).collect::<Vec<_>>();
        let entries: Vec<&TreePath> = paths.iter().collect();
        let part = |entries: &[&TreePath]| {
            let export = Export { target: &names, systems: &[System::LinuxX86_64], entries };
            Mapping::of_part(&[export], &rules)
        };
        let whole = part(&entries);
        let depots: Vec<(&str, usize)> = whole.depots.iter().map(|d| (d.name.as_str(), d.entries.len())).collect();
        assert!(whole.troubles.is_empty(), "{:?}", whole.troubles);
        let voices = GAME.iter().filter(|path| path.starts_with("voices/")).count();
        assert_eq!(depots, [("linux", GAME.len() - voices), ("voices", voices)]);
        // Where the part lacks the files its players would, too.
        let without: Vec<&TreePath> = entries.iter().copied().filter(|p| !p.as_str().starts_with("voices/")).collect();
        assert!(matches!(part(&without).troubles.as_slice(), [Trouble::Elsewhere { .. }]));
    }

    proptest! {
        /// Whatever the rules are, each file is in exactly one depot, or it is reported.
        #[test]
        fn nothing_is_lost_silently(
            only in prop::collection::vec(prop::sample::select(vec!["a/**", "b/*", "a/1", "**/2", "c"]), 0..3),
            leave in prop::collection::vec(prop::sample::select(vec!["a/**", "b/*", "a/1", "**/2", "c"]), 0..3),
            more in any::<bool>(),
        ) {
            let paths: &[&str] = &["a/1", "a/2", "b/1", "b/2", "c"];
            let mut rules = vec![rule("one", "linux", &only, &leave, &[])];
            if more {
                rules.push(rule("two", "linux", &leave, &only, &[]));
            }
            let (depots, troubles) = map(&[("linux", System::LinuxX86_64, paths)], &rules);
            for path in paths {
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
