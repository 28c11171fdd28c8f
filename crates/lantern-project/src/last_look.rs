//! `last-look`: the studio's own questions, answered for a release.

use lantern_core::board::{KnownRelease, LookAnswer};
use lantern_core::event::{EventBody, Looked};

use crate::ProjectError;
use crate::workspace::{Session, Workspace};

/// A question, and what was answered to it for a release.
#[derive(Debug, Clone)]
pub struct Look {
    /// What is asked.
    pub question: String,
    /// The last answer; none while nobody gave one.
    pub answer: Option<LookAnswer>,
}

impl Workspace {
    /// Returns every question with its answer for a release, in the order of the configuration.
    ///
    /// # Errors
    /// Those of the ledger.
    pub fn looks(&self, release: &KnownRelease) -> Result<Vec<Look>, ProjectError> {
        let board = self.board(&release.edition)?;
        let said = board.looked.get(&release.id);
        let look = |question: &String| Look {
            question: question.clone(),
            answer: said.and_then(|said| said.get(question)).cloned(),
        };
        Ok(self.project.config().last_look.iter().map(look).collect())
    }
}

impl Session {
    /// Records an answer. The same answer once more is no news.
    ///
    /// # Errors
    /// Those of the ledger.
    pub fn answer_look(&mut self, release: &KnownRelease, question: &str, yes: bool) -> Result<(), ProjectError> {
        let board = self.workspace.board(&release.edition)?;
        let said = board.looked.get(&release.id).and_then(|said| said.get(question));
        if said.is_some_and(|said| said.yes == yes) {
            return Ok(());
        }
        let (id, name) = (release.id, release.name.clone());
        let looked = Looked { release: id, name, question: question.to_owned(), yes };
        self.workspace.record(&release.edition, EventBody::Looked(looked), None).map(|_| ())
    }
}
