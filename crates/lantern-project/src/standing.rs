//! Where the game stands, and the one next step.

use lantern_core::board::{Board, KnownRelease};
use lantern_core::digest::ReleaseId;
use lantern_core::names::Name;

use crate::project::Open;
use crate::seen::Seen;
use crate::{ProjectError, access, prepare};

/// How the exports stand to the newest release.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exports {
    /// They are exactly what it holds.
    Sealed,
    /// Something is different, or nothing was sealed yet.
    Changed,
    /// Findings stop them.
    Wrong,
}

/// How the newest release stands at a storefront, by what is known here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AtStorefront {
    /// The project's name for it.
    pub storefront: Name,
    /// Whether there is access to it.
    pub connected: bool,
    /// Whether the newest release is there.
    pub pushed: bool,
    /// Lines that have it, in the order of the configuration.
    pub live_on: Vec<Name>,
    /// Lines that do not.
    pub behind: Vec<Name>,
}

/// Where the game stands.
#[derive(Debug, Clone)]
pub struct Standing {
    /// The newest sealed release.
    pub newest: Option<KnownRelease>,
    /// How the exports stand to it.
    pub exports: Exports,
    /// Those that have the edition, in the order of their names.
    pub storefronts: Vec<AtStorefront>,
    /// The command that leads on; none when everything is done.
    pub next: Option<String>,
}

impl Open {
    /// Says where an edition stands, without asking anybody and without reading exports whole.
    ///
    /// # Errors
    /// Those of the ledger, and of the folder where access is kept.
    pub fn standing(&self, edition: &Name) -> Result<Standing, ProjectError> {
        let board = self.board(edition)?;
        let newest = board.release(None).cloned();
        let exports = self.exports(edition, newest.as_ref());
        let mut storefronts = Vec::new();
        let configured = self.project.config().storefronts.iter();
        for (name, configured) in configured.filter(|(_, configured)| configured.handles.contains_key(edition)) {
            let connected = access::find(&configured.address)?.is_some();
            let release = newest.as_ref().map(|r| r.id);
            let pushed = board.pushed.iter().any(|p| p.place.name == *name && Some(p.release) == release);
            let lines = configured.branches.iter().map(|(branch, _)| branch.clone());
            let (live_on, behind) = lines.partition(|branch| has(&board, name, branch, release));
            storefronts.push(AtStorefront { storefront: name.clone(), connected, pushed, live_on, behind });
        }
        let is_taken_nowhere = storefronts.is_empty() && !self.project.config().storefronts.is_empty();
        let next = if is_taken_nowhere && exports == Exports::Sealed {
            Some(format!("give a storefront a handle for {edition} in lantern.toml"))
        } else {
            next(exports, &storefronts)
        };
        Ok(Standing { newest, exports, storefronts, next })
    }

    fn exports(&self, edition: &Name, newest: Option<&KnownRelease>) -> Exports {
        let project = &self.project;
        let divided = project.divide(edition);
        if divided.stopping().is_some() {
            return Exports::Wrong;
        }
        let seen = Seen::load(&project.state("cache/seen.json"));
        let record = newest.and_then(|r| self.store.record(r.id).ok());
        let now = prepare::seem(&divided, &seen);
        let is_sealed = match (&record, now, project.version(edition)) {
            (Some(record), Some(now), Ok(version)) => record.targets == now && record.version == version,
            _ => false,
        };
        if is_sealed { Exports::Sealed } else { Exports::Changed }
    }
}

/// Whether every target that a branch has is of this release.
fn has(board: &Board, storefront: &Name, branch: &Name, release: Option<ReleaseId>) -> bool {
    let facts = board.branches.iter().find(|((place, name), _)| place.name == *storefront && name == branch);
    facts.is_some_and(|(_, f)| !f.targets.is_empty() && f.targets.values().all(|b| Some(b.release) == release))
}

fn next(exports: Exports, storefronts: &[AtStorefront]) -> Option<String> {
    match exports {
        Exports::Wrong => return Some("lantern check".to_owned()),
        Exports::Changed => return Some("lantern prepare".to_owned()),
        Exports::Sealed => {}
    }
    if storefronts.is_empty() {
        return Some("add a storefront to lantern.toml; to try one: lantern rehearse".to_owned());
    }
    let step = |s: &AtStorefront| {
        let name = &s.storefront;
        match (s.connected, s.pushed, s.behind.first()) {
            (false, _, _) => Some(format!("lantern connect {name}")),
            (true, false, _) => Some(format!("lantern push {name}")),
            (true, true, Some(branch)) => Some(format!("lantern promote {name} {branch}")),
            (true, true, None) => None,
        }
    };
    storefronts.iter().find_map(step)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(connected: bool, pushed: bool, behind: &[&str]) -> AtStorefront {
        AtStorefront {
            storefront: "brambleyard".parse().unwrap(),
            connected,
            pushed,
            live_on: Vec::new(),
            behind: behind.iter().map(|b| b.parse().unwrap()).collect(),
        }
    }

    #[test]
    fn one_step_at_a_time() {
        let step = |exports, at: &[AtStorefront]| next(exports, at).unwrap_or_default();
        assert_eq!(step(Exports::Wrong, &[]), "lantern check");
        assert_eq!(step(Exports::Changed, &[at(true, true, &[])]), "lantern prepare");
        assert!(step(Exports::Sealed, &[]).contains("lantern rehearse"));
        assert_eq!(step(Exports::Sealed, &[at(false, false, &["a"])]), "lantern connect brambleyard");
        assert_eq!(step(Exports::Sealed, &[at(true, false, &["a"])]), "lantern push brambleyard");
        assert_eq!(step(Exports::Sealed, &[at(true, true, &["a"])]), "lantern promote brambleyard a");
        assert_eq!(step(Exports::Sealed, &[at(true, true, &[])]), "");
        assert_eq!(step(Exports::Sealed, &[at(true, true, &[]), at(true, false, &[])]), "lantern push brambleyard");
    }
}
