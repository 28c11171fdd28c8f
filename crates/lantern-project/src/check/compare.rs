//! What is different from the releases before, and should perhaps not be.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use lantern_core::board::KnownRelease;
use lantern_core::digest::Digest;
use lantern_core::finding::{Code, Finding, Severity, join_some};
use lantern_core::names::Name;
use lantern_core::path::{TreePath, shown};
use lantern_core::progress::{Progress, Silent};
use lantern_core::release::{Claims, ReleaseRecord, TargetRecord};
use lantern_core::size::Size;
use lantern_core::tree::{Node, Tree};
use lantern_core::version::{BuildNumber, ReleaseName, Version};
use lantern_exports::cache::DigestCache;
use lantern_exports::intake::Intake;
use lantern_exports::intake::package::said_by;
use lantern_store::contents::Contents;
use lantern_store::store::Store;

use crate::ProjectError;
use crate::changing;
use crate::describe::seem;
use crate::divided::Divided;
use crate::followed::{Followed, Following};
use crate::project::Project;

/// Releases that are looked back at.
const LOOK_BACK: usize = 5;
/// A size that is this many times the last one, or the last one that of it, has jumped.
const JUMP: u64 = 2;
/// Below this difference a size has not jumped, in bytes.
const MIN_JUMP: u64 = 1024 * 1024;
/// If more than one file in so many is gone, a folder is missing.
const GONE_ONE_IN: usize = 4;
/// Largest file that is read to see whether it is an old one, in bytes.
const MAX_READ_LEN: u64 = 64 * 1024 * 1024;

/// The number that a sealed package has inside; none for what is no package, or cannot be read any more.
fn number_inside(store: &Store, target: &TargetRecord) -> Option<String> {
    let [depot] = target.depots.as_slice() else { return None };
    if depot.files != 1 {
        return None;
    }
    let contents = Contents::open(store, store.recipe_of(depot.tree).ok()?).ok()?;
    let [entry] = contents.entries.as_slice() else { return None };
    said_by(contents.read_anywhere(entry))?.number()
}

/// What is added to a fix where lantern can write version and number itself.
pub(crate) fn stamp_hint(can_be_stamped: bool) -> &'static str {
    if can_be_stamped { "; or stamp = true, and lantern writes it" } else { "" }
}

/// The trees of what a target of a release held, as the export had it; what cannot be read any more is left out.
fn trees_of<'a>(store: &'a Store, target: &'a TargetRecord) -> impl Iterator<Item = Tree> + 'a {
    target.depots.iter().chain(&target.aside).filter_map(|depot| {
        let tree = store.tree(depot.tree).ok()?;
        let before = target.changed.as_ref().map(|changed| changed.before(&tree));
        before.unwrap_or(Ok(tree)).ok()
    })
}

/// Says that a build has another number inside than its release gets.
pub(crate) fn number_differs(project: &Project, target: &Name, claims: &Claims, number: BuildNumber) -> Finding {
    let inside = shown(claims.number.as_deref().unwrap_or_default());
    let what = format!("{target} has the number {inside} inside, and the release gets {number}");
    let stamp = stamp_hint(project.can_be_stamped(target));
    let fix =
        format!("set the number {number} in the engine and export again{stamp}; or: lantern number --next {inside}");
    Finding::of(Code::NumberDiffers, what, fix)
}

/// What each target held in the releases before, newest first.
#[derive(Debug, Default)]
pub(crate) struct PastReleases {
    /// The newest release that was sealed here, and what is live, by branch.
    newest: Option<ReleaseName>,
    live: Vec<(ReleaseName, String)>,
    /// Releases that storefronts have.
    pushed: Vec<ReleaseName>,
    /// The numbers that the next release may get: the next one, and those that a break left reserved.
    next: Vec<BuildNumber>,
    /// The newest record of each target.
    last: BTreeMap<Name, (ReleaseName, TargetRecord)>,
    /// The same as the exports were, before anything was signed.
    exported: BTreeMap<Name, TargetRecord>,
    /// The files of the newest release, by target; forgotten once they were compared.
    files: BTreeMap<Name, BTreeMap<TreePath, Node>>,
    /// The releases before it. What they held is read when it is asked for.
    older: Vec<ReleaseRecord>,
    store: Option<Store>,
    /// The numbers that the packages of the newest release have inside, by target.
    numbers: BTreeMap<Name, String>,
    /// The newest release of each target that someone tried and said yes to.
    seen: BTreeMap<Name, ReleaseName>,
}

impl PastReleases {
    /// Reads what is known; nothing where nothing was sealed yet.
    pub(crate) fn load(project: &Project, edition: &Name) -> Result<Self, ProjectError> {
        if !project.has_ledger() {
            return Ok(Self::default());
        }
        let (ledger, store) = (project.open_ledger()?, project.open_store());
        let boards = Following::default().all(&project.state(Followed::FILE), false, &*ledger)?;
        let board = boards.of(edition);
        let is_ours = |r: &&KnownRelease| r.found_at.is_none() && !board.withdrawn.contains_key(&r.id);
        let mut newest: Vec<_> = board.releases.iter().filter(is_ours).collect();
        newest.sort_by_key(|release| std::cmp::Reverse(release.name.number));
        let pushed = board.pushed.iter().map(|pushed| pushed.name.clone()).collect();
        let next = boards.numbers().next().ok().into_iter().chain(board.reserved.values().copied()).collect();
        let live = board.branches.iter().filter_map(|((_, branch), facts)| {
            let good = facts.targets.values().filter(|build| !board.withdrawn.contains_key(&build.release));
            let newest = good.map(|build| &build.name).max_by_key(|name| name.number)?;
            Some((newest.clone(), branch.to_string()))
        });
        let live = live.collect();
        let mut seen: BTreeMap<Name, ReleaseName> = BTreeMap::new();
        for release in &newest {
            for (target, _) in board.tried.get(&release.id).into_iter().flatten().filter(|(_, yes)| **yes) {
                seen.entry(target.clone()).or_insert_with(|| release.name.clone());
            }
        }
        let newest_name = newest.first().map(|release| release.name.clone());
        let (mut records, mut numbers) = (Vec::new(), BTreeMap::new());
        let (mut last, mut exported) = (BTreeMap::new(), BTreeMap::new());
        for release in newest.into_iter().take(LOOK_BACK) {
            // The content of older ones may have been freed.
            let Ok(record) = store.record(release.id) else { continue };
            for target in &record.targets {
                if !last.contains_key(&target.target) {
                    let number = target.claims.number.clone().or_else(|| number_inside(&store, target));
                    numbers.extend(number.map(|number| (target.target.clone(), number)));
                    last.insert(target.target.clone(), (release.name.clone(), target.clone()));
                    let before = changing::as_exported(&store, target)?;
                    exported.extend(before.map(|before| (target.target.clone(), before)));
                }
            }
            records.push(record);
        }
        let mut older = records.into_iter();
        let targets = older.next().map(|newest| newest.targets).unwrap_or_default();
        let files = |target: &TargetRecord| trees_of(&store, target).flat_map(Tree::into_entries).collect();
        let files = targets.iter().map(|target| (target.target.clone(), files(target))).collect();
        let (older, store) = (older.collect(), Some(store));
        Ok(Self { newest: newest_name, live, pushed, next, last, exported, files, older, store, numbers, seen })
    }

    /// Forgets what the newest release held: everything was compared with it.
    pub(crate) fn forget_files(&mut self) {
        self.files.clear();
    }

    /// The newest record of a target, with the release that it is of.
    pub(crate) fn last(&self, target: &Name) -> Option<&(ReleaseName, TargetRecord)> {
        self.last.get(target)
    }

    /// The same as the export was, before anything was signed; none where its content was freed.
    pub(crate) fn exported(&self, target: &Name) -> Option<&TargetRecord> {
        self.exported.get(target)
    }

    /// What is said of a stamped target whose screen nobody looked at since: a game may show a number of its own there.
    pub(crate) fn stamp_not_seen(&self, target: &Name) -> Option<Finding> {
        let (release, last) = self.last(target).filter(|(_, last)| last.changed.is_some())?;
        let seen = self.seen.get(target).filter(|seen| seen.number < release.number)?;
        let what = format!(
            "{} was stamped with {release}, and the last one that someone tried is {seen}: a number that the game shows on its screen is the engine's own",
            last.target
        );
        Some(Finding::of(Code::StampNotSeen, what, format!("lantern try \"{release}\" --target {target}")))
    }

    /// Whether the exports seem to be what was sealed last, under the same version: then there is nothing to be made.
    pub(super) fn is_sealed(&self, divided: &Divided<'_>, digests: &DigestCache, version: Option<&Version>) -> bool {
        let Some(now) = seem(divided, digests) else { return false };
        let is_version = self.newest.as_ref().map(|newest| &newest.version) == version;
        let is_last =
            |now: &TargetRecord| self.exported.get(&now.target).is_some_and(|last| last.without_claims() == *now);
        is_version && now.iter().all(is_last)
    }

    /// Compares the number that a build has inside with the one that the release will get.
    pub(super) fn other_number(&self, project: &Project, target: &Name, claims: &Claims) -> Option<(Name, Finding)> {
        let next = self.next.first()?;
        let is_other = self.next.iter().all(|number| claims.is_other_number(*number));
        is_other.then(|| (target.clone(), number_differs(project, target, claims, *next)))
    }

    /// Compares the version that is to be given with those that players and testers have, and then against the last one
    /// that was sealed. `is_other` says whether anything is another than in the last release.
    pub(crate) fn version_finding(&self, version: &Version, is_other: impl Fn() -> bool) -> Option<Finding> {
        let fix = "raise the version, in the engine and in lantern.toml";
        let later = self.live.iter().filter(|(live, _)| version.order(&live.version) == Some(Ordering::Less));
        if let Some((live, branch)) = later.max_by_key(|(live, _)| live.number) {
            let what = format!("the release gets {version}, and {branch} has {live} already");
            return Some(Finding::of(Code::VersionBehind, what, fix));
        }
        let live = self.live.iter().filter(|(live, _)| live.version == *version).max_by_key(|(live, _)| live.number);
        if let Some((live, branch)) = live.filter(|_| is_other()) {
            let what = format!("{branch} has {live}, and this is something else under the same version");
            return Some(Finding::of(Code::VersionReused, what, fix));
        }
        let newest = self.newest.as_ref().filter(|newest| newest.version == *version && is_other())?;
        // One that nobody has yet may be made again as often as it takes.
        let what = format!("{newest} is at a storefront, and this is something else under the same version");
        self.pushed.contains(newest).then(|| Finding::of(Code::VersionReused, what, fix))
    }

    /// Compares the number inside a package with that of the last release: a device takes an update by it alone.
    pub(super) fn number_finding(&self, intake: &Intake<'_>, number: Option<&str>) -> Option<Finding> {
        let (old, new) = (self.numbers.get(intake.name)?, number?);
        let order = new.parse::<Version>().ok()?.order(&old.parse().ok()?)?;
        let what = format!("{} has the number {} inside, the last release has {}", intake.name, shown(new), shown(old));
        let fix = "raise the number in the engine and export again";
        match order {
            Ordering::Less => Some(Finding::of(Code::NumberNotRaised, what, fix)),
            Ordering::Equal if self.is_other(intake) && intake.is_package() => {
                Some(Finding::of(Code::NumberNotRaised, what, fix))
            }
            Ordering::Equal if self.is_other(intake) => {
                Some(Finding::of(Code::NumberNotRaised, what, fix).with_severity(Severity::Warning))
            }
            _ => None,
        }
    }

    /// Says which targets seem to be as they were at the last sealing, where others changed: names, sizes and times.
    pub(super) fn forgotten(&self, intakes: &[Intake<'_>], digests: &DigestCache) -> Option<Finding> {
        let newest = self.newest.as_ref()?;
        let is_same = |intake: &&Intake<'_>| {
            let all: Vec<usize> = (0..intake.entries().len()).collect();
            !self.is_other(intake) && digests.tree_as_it_seems(intake, &all).is_some()
        };
        let same: Vec<&str> = intakes.iter().filter(is_same).map(|intake| intake.name.as_str()).collect();
        forgotten(&same, newest).filter(|_| intakes.iter().any(|intake| self.is_other(intake)))
    }

    /// Whether an export is not the one of the last release, as far as names and sizes say.
    pub(super) fn is_other(&self, intake: &Intake<'_>) -> bool {
        let Some(last) = self.files.get(intake.name) else { return true };
        let files = intake.entries().iter().map(|e| &e.source).filter(|source| source.is_file());
        let now = files.map(|source| (&source.path, source.size()));
        let was = last.iter().filter(|(_, node)| matches!(node, Node::File { .. }));
        !now.eq(was.map(|(path, node)| (path, node.size())))
    }

    pub(super) fn findings(&self, intake: &Intake<'_>, progress: &dyn Progress) -> Vec<Finding> {
        let Some(last) = self.files.get(intake.name) else { return Vec::new() };
        let mut findings = Vec::new();
        let now: BTreeMap<&TreePath, (usize, u64)> = intake
            .entries()
            .iter()
            .enumerate()
            .filter(|(_, e)| e.source.is_file())
            .map(|(i, e)| (&e.source.path, (i, e.source.size())))
            .collect();
        let was: BTreeMap<&TreePath, &Node> =
            last.iter().filter(|(_, node)| matches!(node, Node::File { .. })).collect();
        if was.is_empty() || intake.is_package() {
            return findings;
        }
        let gone: Vec<String> = was.keys().filter(|path| !now.contains_key(*path)).map(|path| path.shown()).collect();
        if gone.len() == was.len() {
            let what = format!("no file of {} has a name that it had in the last release", intake.name);
            findings
                .push(Finding::of(Code::AnotherGame, what, "is it the right folder?").with_severity(Severity::Warning));
            return findings;
        }
        if gone.len() * GONE_ONE_IN > was.len() {
            let what =
                format!("{} of {} files of the last release are gone, such as {}", gone.len(), was.len(), gone[0]);
            findings.push(Finding::of(
                Code::FilesMissing,
                what,
                "was a folder not exported, or does leave-out match too much?",
            ));
        }
        let empty: Vec<String> = now
            .iter()
            .filter(|(path, (_, size))| *size == 0 && was.get(*path).is_some_and(|node| node.size() > 0))
            .map(|(path, _)| path.shown())
            .collect();
        if !empty.is_empty() {
            let what = format!("{} held something in the last release and is empty now", join_some(&empty, 1));
            findings.push(Finding::of(Code::FileEmptied, what, "export again; was the disk full?"));
        }
        let (before, after) =
            (was.values().map(|node| node.size()).sum::<u64>(), now.values().map(|(_, size)| size).sum::<u64>());
        if before.abs_diff(after) >= MIN_JUMP && (after > before * JUMP || before > after * JUMP) {
            let what = format!("{} has {} now, {} in the last release", intake.name, Size(after), Size(before));
            findings.push(Finding::of(Code::SizeJump, what, "if this is intended, accept it with a reason"));
        }
        findings.extend(self.came_back(intake, &now, &was, progress));
        findings
    }

    /// Files that the last release did not have, as they were in one before.
    fn came_back(
        &self,
        intake: &Intake<'_>,
        now: &BTreeMap<&TreePath, (usize, u64)>,
        was: &BTreeMap<&TreePath, &Node>,
        progress: &dyn Progress,
    ) -> Option<Finding> {
        let is_new = |path: &TreePath, size: u64| !was.contains_key(path) && (1..=MAX_READ_LEN).contains(&size);
        let new: Vec<(&TreePath, usize, u64)> = now
            .iter()
            .filter(|(path, (_, size))| is_new(path, *size))
            .map(|(path, (at, size))| (*path, *at, *size))
            .collect();
        if new.is_empty() {
            return None;
        }
        let store = self.store.as_ref()?;
        let mut digests: BTreeMap<usize, Vec<Digest>> = BTreeMap::new();
        let older = self.older.iter().flat_map(|record| &record.targets).filter(|of| of.target == *intake.name);
        for tree in older.flat_map(|target| trees_of(store, target)) {
            for (path, index, new_size) in &new {
                if let Some(Node::File { digest, size, .. }) = tree.get(path)
                    && size == new_size
                {
                    digests.entry(*index).or_default().push(*digest);
                }
            }
        }
        let mut buffer = vec![0; 64 * 1024];
        let mut back: Vec<String> = Vec::new();
        for (path, index, _) in new {
            let Some(digests) = digests.get(&index) else { continue };
            if intake.digest(index, &mut buffer, &Silent, progress).is_ok_and(|found| digests.contains(&found)) {
                back.push(path.shown());
            }
        }
        if back.is_empty() {
            return None;
        }
        let is = if back.len() > 1 { "are" } else { "is" };
        let what = format!("{} {is} back as in an older release, and was not in the last one", join_some(&back, 1));
        Some(Finding::of(
            Code::OldFileReturned,
            what,
            "is it left over from an earlier export? Empty the folder and export again",
        ))
    }
}

/// Forgetting to export for one system is a common accident: the others changed, and this one is as it was.
pub(crate) fn forgotten(targets: &[&str], name: &ReleaseName) -> Option<Finding> {
    let what = match targets {
        [] => return None,
        [one] => format!("{one} is exactly what it was in {name}, although others changed"),
        several => format!("{} are exactly what they were in {name}, although others changed", several.join(", ")),
    };
    Some(Finding::of(Code::UnchangedTarget, what, "was all of it exported again? If so, ignore this"))
}
