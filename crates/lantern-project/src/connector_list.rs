//! What a connector finds at its storefront.

use std::collections::BTreeMap;
use std::time::Duration;

use lantern_core::board::Board;
use lantern_core::event::{BranchBuild, BranchFacts, BranchReported, EventBody, EventId, StorefrontRef, TitleKey};
use lantern_core::names::Name;
use lantern_core::progress::Stoppable;
use lantern_storefront::connector::{Asked, Document, LineBranch, LineRefused, Outcome};

use crate::connector_run::{ConnectorFailed, document, failed, runner};
use crate::hand_rules::title_of;
use crate::workspace::Session;
use crate::{ProjectError, environment};

/// How long a connector may take to say what is where. Ours: someone is waiting to see what is live.
const AT_MOST: Duration = Duration::from_secs(60);

/// What came of asking a connector what is where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Listed {
    /// It does not say that.
    NotSaid,
    /// It said so, and what was news is recorded.
    Said,
    /// A branch has something that nobody brought there with this tool.
    Unknown {
        /// Which branch.
        branch: Name,
        /// Its number there.
        number: String,
    },
}

impl Session {
    /// Asks the connector of a storefront what each branch has, and records what is news.
    ///
    /// # Errors
    /// [`ConnectorFailed`], and those of the ledger.
    pub(crate) fn list_through_connector(&mut self, edition: &Name, name: &Name) -> Result<Listed, ProjectError> {
        let configured = self.project().storefront(name.as_str())?.1.clone();
        let (Some(connector), Some(title)) = (configured.connector(), title_of(name, &configured.handles, edition))
        else {
            return Ok(Listed::NotSaid);
        };
        let access = self.project().access_to(&configured)?.map(|found| found.access);
        let attempt = EventId::new(environment::now(), environment::random()?);
        let about = (name, edition, title.handle.as_str());
        let document = Document {
            access: access.map(Into::into),
            ..document(self.project(), about, connector, Asked::List, attempt)
        };
        let progress = Stoppable(self.project().stop());
        let mut program = runner(self.project(), connector);
        program.limit = program.limit.min(AT_MOST);
        let wrong = |why: &str| ConnectorFailed::Wrong { storefront: name.clone(), why: why.to_owned() };
        let said = match program.run(&document, &progress, &|_| {}).map_err(|error| failed(name, error))? {
            Outcome::UnknownAction => return Ok(Listed::NotSaid),
            Outcome::Done { branches: Some(branches), .. } => branches,
            Outcome::Done { branches: None, .. } => {
                return Err(wrong("was asked what is where, and did not say it").into());
            }
            Outcome::Refused(LineRefused { because, fix }) => {
                return Err(ConnectorFailed::Refused { storefront: name.clone(), because, fix }.into());
            }
            Outcome::ByHand(_) | Outcome::NotBegun => {
                return Err(wrong("was asked what is where, and said something else").into());
            }
        };
        let storefront =
            StorefrontRef { id: title.storefront.clone(), name: name.clone(), handle: title.handle.clone() };
        let mut listed = Listed::Said;
        for (branch, _) in &configured.branches {
            let theirs = configured.theirs.get(branch).map_or(branch.as_str(), |theirs| theirs.as_str());
            let Some(said) = said.get(theirs) else { continue };
            let board = self.workspace.board(edition)?;
            match builds_of(&board, &title, said) {
                Ok(targets) => self.take_in_list(edition, &storefront, branch, targets)?,
                Err(number) => listed = Listed::Unknown { branch: branch.clone(), number },
            }
        }
        Ok(listed)
    }

    fn take_in_list(
        &mut self,
        edition: &Name,
        storefront: &StorefrontRef,
        branch: &Name,
        targets: BTreeMap<Name, BranchBuild>,
    ) -> Result<(), ProjectError> {
        let board = self.workspace.board(edition)?;
        let known = board.branches.get(&(storefront.key(), branch.clone()));
        let is_known =
            |(target, build): (&Name, &BranchBuild)| known.and_then(|k| k.targets.get(target)) == Some(build);
        if targets.iter().all(is_known) {
            return Ok(());
        }
        let revision = known.map_or(0, |known| known.revision) + 1;
        let facts = BranchFacts { branch: branch.clone(), revision, since: None, by: None, targets };
        let newest = board.newest_word(&(storefront.key(), branch.clone()));
        let after = environment::ahead_of_us(newest);
        let reported = BranchReported { after, ..BranchReported::new(storefront.clone(), facts) };
        self.workspace.record(edition, EventBody::BranchReported(reported), None)?;
        Ok(())
    }
}

/// The builds that a connector named by their numbers there; the first number that is not known otherwise.
fn builds_of(board: &Board, title: &TitleKey, said: &LineBranch) -> Result<BTreeMap<Name, BranchBuild>, String> {
    let there = || board.pushed.iter().rev().filter(|p| p.storefront.is_at(title));
    let mut out = BTreeMap::new();
    let mut put = |target: &Name, text: &str| -> Result<(), String> {
        let number = text.parse::<u64>().ok();
        let of_target = there().find(|p| number.is_some() && p.numbers.get(target).copied() == number);
        let of_build = || there().find(|p| Some(p.number_there) == number && p.targets.contains(target));
        let found = of_target.or_else(of_build).ok_or_else(|| text.to_owned())?;
        let build = BranchBuild { number_there: found.number_there, release: found.release, name: found.name.clone() };
        out.insert(target.clone(), build);
        Ok(())
    };
    match said {
        LineBranch::Targets(targets) => targets.iter().try_for_each(|(target, text)| put(target, text))?,
        LineBranch::Build(text) => {
            let found = there().find(|p| text.parse() == Ok(p.number_there)).ok_or_else(|| text.clone())?;
            found.targets.iter().try_for_each(|target| put(target, text))?;
        }
    }
    Ok(out)
}
