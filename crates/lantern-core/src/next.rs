//! The one next step, from the configuration, the board and the state of the exports. Every command that names a next
//! step asks here.

use std::collections::BTreeMap;
use std::fmt;

use jiff::Timestamp;

use crate::board::{Board, KnownRelease};
use crate::config::{Config, Storefront};
use crate::digest::ReleaseId;
use crate::event::{BranchBuild, TitleKey};
use crate::names::Name;
use crate::version::BuildNumber;
use crate::walk::Walk;

/// How the exports stand to the newest release.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exports {
    /// They are exactly what it holds.
    Sealed,
    /// Something is different, or nothing was sealed yet.
    Changed,
    /// Some files have other times than when they were read: whether they hold something else, reading alone says.
    Unread,
    /// They are exactly what a release holds that was withdrawn.
    Withdrawn,
    /// Findings stop them.
    Wrong,
    /// None of them is on this computer.
    NotHere,
}

/// What to do next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// Look at the findings.
    Check,
    /// Seal the exports.
    Prepare,
    /// Make an export that is not the one that was withdrawn.
    ExportAgain,
    /// Write a storefront into the configuration.
    AddStorefront,
    /// Say what a storefront calls the edition.
    AddHandle {
        /// The edition that no storefront has a handle for.
        edition: Name,
    },
    /// Get access.
    Connect {
        /// Where.
        storefront: Name,
    },
    /// Bring a release to a storefront.
    Push {
        /// Where.
        storefront: Name,
        /// Which, unless it is the newest of its edition.
        release: Option<BuildNumber>,
    },
    /// Go on with what a person does by hand.
    Confirm {
        /// Where.
        storefront: Name,
    },
    /// Try a release, which a branch needs.
    Try {
        /// Which, unless it is the newest.
        release: Option<BuildNumber>,
        /// The target whose trial is needed, where it is a certain one.
        target: Option<Name>,
    },
    /// Answer the questions of the last look, which a branch needs.
    LastLook {
        /// Which release, unless it is the newest.
        release: Option<BuildNumber>,
    },
    /// Put a release on a branch.
    Promote {
        /// Where.
        storefront: Name,
        /// Which branch.
        branch: Name,
        /// The edition, where it is not the one that is meant anyway.
        edition: Option<Name>,
        /// Which, unless it is the newest.
        release: Option<BuildNumber>,
        /// These targets alone; empty for all that the release has.
        targets: Vec<Name>,
    },
    /// Put back what a branch had before a release that was withdrawn.
    Rollback {
        /// Where.
        storefront: Name,
        /// Which branch.
        branch: Name,
        /// The edition, where it is not the one that is meant anyway.
        edition: Option<Name>,
    },
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let of =
            |edition: &Option<Name>| edition.as_ref().map_or_else(String::new, |name| format!(" --edition {name}"));
        let named = |release: &Option<BuildNumber>| release.map_or_else(String::new, |number| format!(" {number}"));
        match self {
            Self::Check => f.write_str("lantern check"),
            Self::Prepare => f.write_str("lantern prepare"),
            Self::ExportAgain => f.write_str("export the game again, then: lantern prepare"),
            Self::AddStorefront => f.write_str("add a storefront to lantern.toml; to try one: lantern rehearse"),
            Self::AddHandle { edition } => write!(f, "give a storefront a handle for {edition} in lantern.toml"),
            Self::Connect { storefront } => write!(f, "lantern connect {storefront}"),
            Self::Push { storefront, release } => write!(f, "lantern push {storefront}{}", named(release)),
            Self::Try { release, target } => {
                let target = target.as_ref().map_or_else(String::new, |target| format!(" --target {target}"));
                write!(f, "lantern try{}{target}", named(release))
            }
            Self::LastLook { release } => write!(f, "lantern last-look{}", named(release)),
            Self::Confirm { storefront } => write!(f, "lantern confirm {storefront}"),
            Self::Promote { storefront, branch, edition, release, targets } => {
                write!(f, "lantern promote {storefront} {branch}{}", named(release))?;
                targets.iter().try_for_each(|target| write!(f, " --target {target}"))?;
                f.write_str(&of(edition))
            }
            Self::Rollback { storefront, branch, edition } => {
                write!(f, "lantern rollback {storefront} {branch}{}", of(edition))
            }
        }
    }
}

/// What the next step follows from.
#[derive(Debug, Clone, Copy)]
pub struct Situation<'a> {
    /// The configuration.
    pub config: &'a Config,
    /// The edition that it is about.
    pub edition: &'a Name,
    /// What happened to that edition.
    pub board: &'a Board,
    /// How its exports stand to its newest release.
    pub exports: Exports,
    /// The title of the edition at each storefront there is access to.
    pub titles: &'a BTreeMap<Name, TitleKey>,
    /// What time it is: what waits for others comes up again when it is due.
    pub now: Timestamp,
}

/// How a branch stands to what could be on it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lag {
    /// The release that some of its targets lack.
    pub release: ReleaseId,
    /// Those targets.
    pub targets: Vec<Name>,
}

impl<'a> Situation<'a> {
    /// Returns the one next step; none when everything is done.
    pub fn next(&self) -> Option<Step> {
        // What players have and should not have comes first.
        if let Some(step) = self.storefronts().find_map(|(name, _, title)| self.back(name, title?)) {
            return Some(step);
        }
        let has_any = self.board.release(None).is_some();
        match self.exports {
            Exports::Wrong => return Some(Step::Check),
            Exports::Changed | Exports::Unread => return Some(Step::Prepare),
            Exports::Withdrawn => return Some(Step::ExportAgain),
            Exports::NotHere if !has_any => return Some(Step::Check),
            Exports::Sealed | Exports::NotHere => {}
        }
        if self.config.storefronts.is_empty() {
            return Some(Step::AddStorefront);
        }
        if self.storefronts().next().is_none() {
            return Some(Step::AddHandle { edition: self.edition.clone() });
        }
        self.storefronts().find_map(|(name, configured, title)| match title {
            None => Some(Step::Connect { storefront: name.clone() }),
            Some(title) => self.forth(name, configured, title),
        })
    }

    fn storefronts(&self) -> impl Iterator<Item = (&'a Name, &'a Storefront, Option<&'a TitleKey>)> {
        let Self { config, edition, titles, .. } = *self;
        let of_edition = config.storefronts.iter().filter(move |(_, s)| s.handles.contains_key(edition));
        of_edition.map(|(name, configured)| (name, configured, titles.get(name)))
    }

    /// The edition, where a command that names none means another one.
    fn edition(&self) -> Option<Name> {
        let first = self.config.editions_with_targets().into_iter().next();
        (first.as_ref() != Some(self.edition)).then(|| self.edition.clone())
    }

    /// What a branch has for a target.
    fn on(&self, title: &TitleKey, branch: &Name, target: &Name) -> Option<&'a BranchBuild> {
        self.board.branches.get(&(title.clone(), branch.clone()))?.targets.get(target)
    }

    /// Whether the title has the branch, as far as its branches are known.
    pub fn is_there(&self, title: &TitleKey, branch: &Name) -> bool {
        let mut known = self.board.branches.keys().filter(|(known, _)| known == title).peekable();
        known.peek().is_none() || known.any(|(_, name)| name == branch)
    }

    /// A branch whose players have what was withdrawn, and nothing newer to get instead.
    fn back(&self, storefront: &Name, title: &TitleKey) -> Option<Step> {
        let newest = self.board.release(None).map(|release| release.name.number);
        let stuck = |build: &BranchBuild| {
            self.board.withdrawn.contains_key(&build.release) && newest.is_none_or(|newest| newest < build.name.number)
        };
        let of_title = self.board.branches.iter().filter(|((known, _), _)| known == title);
        let mut stuck_ones = of_title.filter(|(_, facts)| facts.revision > 1 && facts.targets.values().any(stuck));
        let ((_, branch), _) = stuck_ones.next()?;
        let (storefront, branch) = (storefront.clone(), branch.clone());
        Some(Step::Rollback { storefront, branch, edition: self.edition() })
    }

    /// Returns the releases that are the newest of some target that goes there, the newest first, with those targets.
    fn newest(&self, configured: &Storefront) -> Vec<(&'a KnownRelease, Vec<&'a Name>)> {
        let targets = self.config.targets_of(self.edition).map(|(name, _)| name).filter(|name| configured.takes(name));
        let mut out: Vec<(&KnownRelease, Vec<&Name>)> = Vec::new();
        for target in targets {
            let Some(newest) = self.board.newest_of(target) else { continue };
            match out.iter_mut().find(|(known, _)| known.id == newest.id) {
                Some((_, targets)) => targets.push(target),
                None => out.push((newest, vec![target])),
            }
        }
        out.sort_by_key(|(release, _)| std::cmp::Reverse(release.name.number));
        out
    }

    /// Says what a branch lacks of what the title has.
    pub fn lags(&self, configured: &Storefront, title: &TitleKey, branch: &Name) -> Vec<Lag> {
        let lacks = |release: &KnownRelease, target: &Name| {
            let has = self.on(title, branch, target);
            has.is_none_or(|build| {
                build.name.number < release.name.number || self.board.withdrawn.contains_key(&build.release)
            })
        };
        // What someone took off a branch is not put there again by what this says.
        let back = self.board.went_back.get(&(title.clone(), branch.clone()));
        let is_back = |release: &KnownRelease| back.is_some_and(|back| release.name.number <= *back);
        let lag = |(release, targets): (&'a KnownRelease, Vec<&Name>)| Lag {
            release: release.id,
            targets: targets.into_iter().filter(|target| lacks(release, target)).cloned().collect(),
        };
        self.newest(configured)
            .into_iter()
            .filter(|(release, _)| !is_back(release))
            .map(lag)
            .filter(|lag| !lag.targets.is_empty())
            .collect()
    }

    /// What a branch needs of a release that this one does not have yet.
    fn needed(
        &self,
        configured: &Storefront,
        branch: &Name,
        release: &KnownRelease,
        number: Option<BuildNumber>,
    ) -> Option<Step> {
        let needs = configured.needs.get(branch)?;
        let tried = self.board.tried.get(&release.id);
        let is_yes = |target: &Name| tried.and_then(|tried| tried.get(target)) == Some(&true);
        if let Some(of) = &needs.trial {
            let missing = of.iter().find(|target| release.has(target) && !is_yes(target));
            let is_any = tried.is_some_and(|tried| tried.values().any(|yes| *yes));
            if missing.is_some() || (of.is_empty() && !is_any) {
                return Some(Step::Try { release: number, target: missing.cloned() });
            }
        }
        let looked = self.board.looked.get(&release.id);
        let is_answered = |question: &String| looked.and_then(|said| said.get(question)).is_some_and(|said| said.yes);
        let lacks = needs.last_look && !self.config.last_look.iter().all(is_answered);
        lacks.then_some(Step::LastLook { release: number })
    }

    fn forth(&self, storefront: &Name, configured: &Storefront, title: &TitleKey) -> Option<Step> {
        // What a person has begun there is finished first; while it waits for others nothing is left to do.
        let open = self.board.open_walks();
        let mut walks = open.iter().filter(|walk| walk.begun.storefront.is_at(title)).peekable();
        if walks.peek().is_some() {
            let waits = |walk: &Walk| walk.waits_until().is_some_and(|(_, due)| due.is_none_or(|due| due > self.now));
            let is_open = walks.any(|walk| !waits(walk));
            return is_open.then(|| Step::Confirm { storefront: storefront.clone() });
        }
        let newest = self.newest(configured);
        let very_newest = self.board.release(None).map(|release| release.id);
        let number = |release: &KnownRelease| (Some(release.id) != very_newest).then_some(release.name.number);
        let can_go = |release: &KnownRelease| {
            let is_here = release.found_at.is_none() && !self.board.freed.contains(&release.id);
            is_here && !self.board.is_passed(release.id, release.name.number, title)
        };
        let is_there = |release: &KnownRelease| self.board.build_of(title, release.id).is_some();
        let is_twin = |release: &KnownRelease| {
            let there = self.board.pushed.iter().filter(|p| p.storefront.is_at(title));
            release.found_at.is_none() && there.into_iter().any(|p| p.name.number == release.name.number)
        };
        if newest.iter().any(|(release, _)| !is_there(release) && is_twin(release)) {
            // Someone else took its number there: preparing once more gives it another one.
            return Some(Step::Prepare);
        }
        if let Some((release, _)) = newest.iter().find(|(release, _)| !is_there(release) && can_go(release)) {
            return Some(Step::Push { storefront: storefront.clone(), release: number(release) });
        }
        for (branch, _) in configured.branches.iter().filter(|(branch, _)| self.is_there(title, branch)) {
            let lags = self.lags(configured, title, branch);
            let known = |lag: &Lag| newest.iter().find(|(release, _)| release.id == lag.release);
            let Some((lag, (release, of_release))) =
                lags.iter().filter_map(|lag| Some((lag, known(lag)?))).find(|(_, (release, _))| is_there(release))
            else {
                continue;
            };
            if let Some(step) = self.needed(configured, branch, release, number(release)) {
                return Some(step);
            }
            // Where others have something newer, these targets alone are moved.
            let moves_all =
                release.targets.iter().all(|target| of_release.contains(&target) || !configured.takes(target));
            let targets = if moves_all { Vec::new() } else { lag.targets.clone() };
            let (storefront, branch, edition) = (storefront.clone(), branch.clone(), self.edition());
            return Some(Step::Promote { storefront, branch, edition, release: number(release), targets });
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::board::Boards;
    use crate::digest::InputDigest;
    use crate::event::{
        BranchFacts, BranchReported, BuildFound, Event, EventBody, EventId, Moved, Pushed, Sealed, StorefrontRef,
        Withdrawn,
    };
    use crate::notes::Notes;
    use crate::version::ReleaseName;

    const CONFIG: &str = r#"
[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "1.4.0"

[targets.linux]
systems = ["linux-x86_64"]
export = "exports/linux"

[targets.windows]
systems = ["windows-x86_64"]
export = "exports/windows"

[storefronts.brambleyard]
kind = "protocol"
address = "http://127.0.0.1:4870"
handle = "saltmarsh-post"
depots = { linux = "sp-linux", windows = "sp-win" }

[storefronts.brambleyard.branches]
creek = { audience = "invited" }
open-water = { audience = "everyone" }
"#;

    fn storefront() -> StorefrontRef {
        StorefrontRef {
            id: "brambleyard-1".into(),
            name: "brambleyard".parse().unwrap(),
            handle: "saltmarsh-post".parse().unwrap(),
        }
    }

    fn name(text: &str) -> ReleaseName {
        text.parse().unwrap()
    }

    fn names(names: &[&str]) -> Vec<Name> {
        names.iter().map(|n| n.parse().unwrap()).collect()
    }

    fn id(release: &str) -> ReleaseId {
        ReleaseId::of(release.as_bytes())
    }

    fn sealed(release: &str, targets: &[&str]) -> EventBody {
        let (input, targets) = (InputDigest::of(release.as_bytes()), names(targets));
        EventBody::Sealed(Sealed::new(id(release), name(release), input, targets))
    }

    fn pushed(release: &str) -> EventBody {
        let name = name(release);
        let build = u64::from(name.number.get());
        EventBody::Pushed(Pushed::new(storefront(), (id(release), name), build))
    }

    fn seen(branch: &str, revision: u64, targets: &[(&str, &str)]) -> EventBody {
        let build = |release: &str| BranchBuild { number_there: 1, release: id(release), name: name(release) };
        let facts = BranchFacts {
            branch: branch.parse().unwrap(),
            revision,
            since: None,
            by: None,
            targets: targets.iter().map(|(target, release)| (target.parse().unwrap(), build(release))).collect(),
        };
        EventBody::BranchReported(BranchReported::new(storefront(), facts))
    }

    fn withdrawn(release: &str) -> EventBody {
        let (release, name) = (id(release), name(release));
        EventBody::Withdrawn(Withdrawn { key: None, storefront: None, release, name, because: "a save bug".into() })
    }

    fn next(exports: Exports, bodies: Vec<EventBody>) -> String {
        let config = Config::read("lantern.toml", CONFIG).unwrap_or_else(|findings| panic!("{findings:?}"));
        let at = Timestamp::UNIX_EPOCH;
        let events: Vec<Event> =
            bodies.into_iter().map(|body| Event::sample(EventId::new(at, [0; 10]), body)).collect();
        let edition = Name::full_edition();
        let board = Boards::fold(&events).of(&edition);
        let titles = [("brambleyard".parse().unwrap(), storefront().key())].into();
        let situation = Situation {
            config: &config,
            edition: &edition,
            board: &board,
            exports,
            titles: &titles,
            now: Timestamp::UNIX_EPOCH,
        };
        situation.next().map(|step| step.to_string()).unwrap_or_default()
    }

    const BOTH: &[&str] = &["linux", "windows"];
    const ALL_NEW: &[(&str, &str)] = &[("linux", "1.4.0 (27)"), ("windows", "1.4.0 (27)")];

    #[test]
    fn one_step_at_a_time() {
        let empty = || vec![seen("creek", 0, &[]), seen("open-water", 0, &[])];
        assert_eq!(next(Exports::Wrong, vec![]), "lantern check");
        assert_eq!(next(Exports::Changed, vec![]), "lantern prepare");
        assert_eq!(next(Exports::Unread, vec![]), "lantern prepare");
        assert_eq!(next(Exports::NotHere, vec![]), "lantern check");
        let release = || sealed("1.4.0 (27)", BOTH);
        assert_eq!(next(Exports::Sealed, vec![release()]), "lantern push brambleyard");
        let there = || vec![release(), pushed("1.4.0 (27)")];
        let with = |more: Vec<EventBody>| next(Exports::Sealed, [there(), empty(), more].concat());
        assert_eq!(with(vec![]), "lantern promote brambleyard creek");
        assert_eq!(with(vec![seen("creek", 1, ALL_NEW)]), "lantern promote brambleyard open-water");
        assert_eq!(with(vec![seen("creek", 1, ALL_NEW), seen("open-water", 1, ALL_NEW)]), "");
    }

    #[test]
    fn a_branch_that_the_place_lacks_is_not_named() {
        let bodies = vec![sealed("1.4.0 (27)", BOTH), pushed("1.4.0 (27)"), seen("open-water", 0, &[])];
        assert_eq!(next(Exports::Sealed, bodies), "lantern promote brambleyard open-water");
    }

    #[test]
    fn nobody_is_sent_back_over_a_colleagues_newer_build() {
        let found = |release: &str| {
            let (name, targets) = (name(release), names(BOTH));
            let (storefront, release) = (storefront(), id(release));
            EventBody::BuildFound(BuildFound {
                storefront,
                release,
                name,
                number_there: 9,
                name_there: None,
                targets,
                by: "fern".into(),
                message: None,
                notes: Notes::default(),
            })
        };
        let newer: &[(&str, &str)] = &[("linux", "2.0.0 (30)"), ("windows", "2.0.0 (30)")];
        let bodies = vec![
            sealed("1.4.0 (27)", BOTH),
            pushed("1.4.0 (27)"),
            found("2.0.0 (30)"),
            seen("creek", 1, newer),
            seen("open-water", 1, ALL_NEW),
        ];
        assert_eq!(next(Exports::Sealed, bodies), "lantern promote brambleyard open-water");
        // What is passed there cannot be pushed any more, and so is not named.
        let bodies = vec![
            sealed("1.4.0 (27)", BOTH),
            found("2.0.0 (30)"),
            seen("creek", 1, newer),
            seen("open-water", 1, newer),
        ];
        assert_eq!(next(Exports::Sealed, bodies), "");
    }

    #[test]
    fn after_a_withdrawal_there_is_a_way_on() {
        let out = |more: Vec<EventBody>| {
            let first = [("linux", "1.3.2 (25)"), ("windows", "1.3.2 (25)")];
            [
                vec![
                    sealed("1.3.2 (25)", BOTH),
                    pushed("1.3.2 (25)"),
                    sealed("1.4.0 (27)", BOTH),
                    pushed("1.4.0 (27)"),
                    seen("creek", 1, &first),
                    seen("open-water", 2, ALL_NEW),
                    withdrawn("1.4.0 (27)"),
                ],
                more,
            ]
            .concat()
        };
        assert_eq!(next(Exports::Withdrawn, out(vec![])), "lantern rollback brambleyard open-water");
        let back = seen("open-water", 3, &[("linux", "1.3.2 (25)"), ("windows", "1.3.2 (25)")]);
        assert_eq!(next(Exports::Withdrawn, out(vec![back])), "export the game again, then: lantern prepare");
        let fixed = vec![sealed("1.4.1 (28)", BOTH), pushed("1.4.1 (28)")];
        assert_eq!(next(Exports::Sealed, out(fixed)), "lantern promote brambleyard creek");
    }

    #[test]
    fn what_was_put_back_stays_back() {
        let moved = |revision: u64, release: &str, restores: Option<u64>| {
            let EventBody::BranchReported(BranchReported { storefront, facts, .. }) =
                seen("creek", revision, &[("linux", release), ("windows", release)])
            else {
                panic!("it is one")
            };
            let key = EventId::new(Timestamp::UNIX_EPOCH, [9; 10]);
            EventBody::Moved(Moved {
                key,
                storefront,
                facts,
                because: None,
                restores,
                changes: Vec::new(),
                after: None,
            })
        };
        let base = vec![
            sealed("1.3.2 (25)", BOTH),
            pushed("1.3.2 (25)"),
            moved(1, "1.3.2 (25)", None),
            sealed("1.4.0 (27)", BOTH),
            pushed("1.4.0 (27)"),
            moved(2, "1.4.0 (27)", None),
            moved(3, "1.3.2 (25)", Some(1)),
        ];
        assert_eq!(next(Exports::Sealed, base.clone()), "");
        let fixed = vec![sealed("1.4.1 (28)", BOTH), pushed("1.4.1 (28)")];
        assert_eq!(next(Exports::Sealed, [base, fixed].concat()), "lantern promote brambleyard creek");
    }

    #[test]
    fn a_release_of_a_part_moves_its_part() {
        let base = vec![
            sealed("1.3.2 (25)", BOTH),
            pushed("1.3.2 (25)"),
            seen("creek", 1, &[("linux", "1.3.2 (25)"), ("windows", "1.3.2 (25)")]),
            seen("open-water", 0, &[]),
            sealed("1.3.3 (26)", &["windows"]),
            pushed("1.3.3 (26)"),
        ];
        assert_eq!(next(Exports::Sealed, base.clone()), "lantern promote brambleyard creek");
        let creek = seen("creek", 2, &[("linux", "1.3.2 (25)"), ("windows", "1.3.3 (26)")]);
        let open = seen("open-water", 1, &[("windows", "1.3.3 (26)")]);
        let bodies = [base, vec![creek, open]].concat();
        // The older release has windows too, and must not bring it back.
        assert_eq!(next(Exports::Sealed, bodies), "lantern promote brambleyard open-water 25 --target linux");
    }
}
