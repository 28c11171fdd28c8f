//! Branches: moved only from the revision that was seen, in the order that the rules demand.

use lantern_core::event::{BranchBuild, BranchFacts, EventId};
use lantern_core::names::{Handle, Name};
use lantern_core::rules::{HouseRules, Refusal, longest_stay};
use lantern_storefront::protocol::{Branch, Move, Moved, problem};
use rusqlite::{TransactionBehavior, params};

use super::{CLIENT_ID, StandIn, documents, text};
use crate::refusal::Refused;

impl StandIn {
    pub(crate) fn branches(&self, title: &Handle) -> Result<Vec<Branch>, Refused> {
        self.title(title)?;
        let rules = self.rules().branches.fixed.iter();
        rules.map(|rule| self.branch(title, &rule.name)).collect()
    }

    pub(crate) fn branch(&self, title: &Handle, branch: &Name) -> Result<Branch, Refused> {
        let rule = self.rules().branch(branch).ok_or_else(|| {
            let refusals = self.rules().refuse_promote(branch);
            let fix = refusals.first().map_or(String::new(), |r| r.fix.clone());
            Refused::new(problem::NOT_FOUND, format!("there is no branch {:?}", branch.as_str()), fix)
        })?;
        let last = self.moves(title, branch)?.pop();
        let nothing =
            || BranchFacts { branch: branch.clone(), revision: 0, since: None, by: None, targets: Default::default() };
        Ok(Branch { audience: rule.audience, facts: last.map_or_else(nothing, |moved| moved.facts) })
    }

    pub(crate) fn moves(&self, title: &Handle, branch: &Name) -> Result<Vec<Moved>, Refused> {
        self.title(title)?;
        let sql = "SELECT document FROM moves WHERE title = $1 AND branch = $2 ORDER BY revision";
        documents(&self.database(), sql, [title.as_str(), branch.as_str()])
    }

    pub(crate) fn move_branch(
        &self,
        title: &Handle,
        branch: &Name,
        revision: u64,
        key: EventId,
        wanted: &Move,
    ) -> Result<Branch, Refused> {
        super::refuse_long(
            "the reason",
            wanted.because.as_ref().map_or(0, String::len),
            lantern_storefront::protocol::MAX_TEXT_LEN,
        )?;
        let refusals = self.rules().refuse_promote(branch);
        if !refusals.is_empty() {
            return Err(Refused::by_rules(refusals));
        }
        let builds = self.builds(title)?;
        let now = self.branch(title, branch)?;
        let mut targets = std::collections::BTreeMap::new();
        for (target, number) in &wanted.targets {
            let found = builds.iter().find(|b| b.number_there == *number && b.targets.contains_key(target));
            let build = found.ok_or_else(|| {
                let detail = format!("build {number} has nothing for the target {target}");
                Refused::new(problem::NOT_FOUND, detail, "push the release first")
            })?;
            // What is on the branch already may stay: another target's move must not be held up by it.
            let stays = now.facts.targets.get(target).is_some_and(|b| b.number_there == *number);
            if let Some(withdrawn) = build.withdrawn.as_ref().filter(|_| !stays) {
                return Err(Refused::by_rules(vec![HouseRules::refuse_withdrawn(&build.name, &withdrawn.because)]));
            }
            let value =
                BranchBuild { number_there: build.number_there, release: build.release, name: build.name.clone() };
            targets.insert(target.clone(), value);
        }
        if wanted.restores.is_none() {
            self.check_carried(title, branch, &now, &targets)?;
        }
        let mut database = self.database();
        let transaction = database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let sql = "SELECT document FROM moves WHERE title = $1 AND branch = $2 ORDER BY revision";
        let mut moves: Vec<Moved> = documents(&transaction, sql, [title.as_str(), branch.as_str()])?;
        // A break between the move and the keeping of its answer: the move itself remembers its key.
        if let Some(done) = moves.iter().find(|moved| moved.key == key) {
            return Ok(Branch { audience: now.audience, facts: done.facts.clone() });
        }
        if let Some(earlier) = wanted.restores {
            let same = moves.iter().any(|m| m.facts.revision == earlier && m.facts.targets == targets);
            if !same {
                let detail = format!("revision {earlier} of {branch} had other builds");
                return Err(Refused::new(problem::NOT_FOUND, detail, "read the history again"));
            }
        }
        let last = moves.pop();
        let at = last.as_ref().map_or(0, |moved| moved.facts.revision);
        if at != revision {
            let who = last.and_then(|moved| moved.facts.by).unwrap_or_else(|| "nobody".to_owned());
            let detail = format!("{branch} is at revision {at} by {who}, not at {revision}");
            return Err(Refused::new(problem::BRANCH_MOVED, detail, "check what is there now, then promote again"));
        }
        let facts = BranchFacts {
            branch: branch.clone(),
            revision: at + 1,
            since: Some(self.now()),
            by: Some(CLIENT_ID.to_owned()),
            targets,
        };
        let moved = Moved { facts: facts.clone(), key, restores: wanted.restores, because: wanted.because.clone() };
        let sql = "INSERT INTO moves VALUES ($1, $2, $3, $4)";
        transaction.execute(sql, params![title.as_str(), branch.as_str(), facts.revision, text(&moved)?])?;
        self.note(&transaction, title, "branch-moved", facts.revision, Some(branch))?;
        transaction.commit()?;
        Ok(Branch { audience: now.audience, facts })
    }

    /// Says of what is new on a branch whether another has had it for long enough.
    fn check_carried(
        &self,
        title: &Handle,
        branch: &Name,
        now: &Branch,
        wanted: &std::collections::BTreeMap<Name, BranchBuild>,
    ) -> Result<(), Refused> {
        let Some(carried) = self.rules().branches.carried(branch) else { return Ok(()) };
        let moves = self.moves(title, &carried.by)?;
        let stayed =
            |build: &BranchBuild| longest_stay(moves.iter().map(|moved| &moved.facts), build.number_there, self.now());
        let fresh = wanted.iter().filter(|(target, build)| now.facts.targets.get(*target) != Some(*build));
        let refusals: Vec<Refusal> = fresh
            .filter_map(|(_, build)| self.rules().branches.refuse_too_early(branch, &build.name, stayed(build)))
            .take(1)
            .collect();
        if refusals.is_empty() { Ok(()) } else { Err(Refused::by_rules(refusals)) }
    }
}
