//! What a branch needs of a release, and what is known of one before players get it.

use lantern_core::board::KnownRelease;
use lantern_core::config::Needs;
use lantern_core::names::Name;

use crate::ProjectError;
use crate::workspace::Session;

/// Something that a branch needs of a release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NeedShown {
    /// `trial`, or `last-look`.
    pub need: &'static str,
    /// What is lacking; none where it is met.
    pub lacks: Option<String>,
    /// The command that meets it.
    pub fix: String,
}

/// What is known here of a release that is to be given to players.
#[derive(Debug, Clone, Default)]
pub struct KnownOf {
    /// Targets that someone tried and said yes to.
    pub tried_yes: Vec<Name>,
    /// Targets that someone tried, and that do not show what they should.
    pub tried_no: Vec<Name>,
    /// How many warnings there were when it was sealed.
    pub warnings: u64,
    /// The targets that were left unsigned, as someone had said.
    pub unsigned: Vec<Name>,
}

impl Session {
    /// Says of everything that a branch needs whether a release has it.
    pub(crate) fn needs_of(
        &self,
        release: &KnownRelease,
        needs: &Needs,
        known: &KnownOf,
    ) -> Result<Vec<NeedShown>, ProjectError> {
        let mut out = Vec::new();
        if let Some(of) = &needs.trial {
            let missing: Vec<&str> =
                of.iter().filter(|t| release.has(t) && !known.tried_yes.contains(t)).map(Name::as_str).collect();
            let lacks = match (of.is_empty(), missing.is_empty()) {
                (true, _) => known.tried_yes.is_empty().then(|| "nobody tried it yet".to_owned()),
                (false, true) => None,
                (false, false) => Some(format!("nobody tried {} yet", missing.join(", "))),
            };
            let target = missing.first().map(|target| format!(" --target {target}")).unwrap_or_default();
            out.push(NeedShown { need: "trial", lacks, fix: format!("lantern try \"{}\"{target}", release.name) });
        }
        if needs.last_look {
            let board = self.workspace.board(&release.edition)?;
            let said = board.looked.get(&release.id);
            let is_yes = |question: &&String| said.and_then(|said| said.get(*question)).is_some_and(|said| said.yes);
            let questions = &self.project().config().last_look;
            let open = questions.iter().filter(|question| !is_yes(question)).count();
            let lacks = match open {
                0 => None,
                1 => Some("1 question is not answered with yes".to_owned()),
                open => Some(format!("{open} questions are not answered with yes")),
            };
            out.push(NeedShown { need: "last-look", lacks, fix: format!("lantern last-look \"{}\"", release.name) });
        }
        Ok(out)
    }

    /// What is known of a release, as far as these targets of it are concerned.
    pub(crate) fn known_of<'a>(
        &self,
        release: &KnownRelease,
        targets: impl Iterator<Item = &'a Name> + Clone,
    ) -> Result<KnownOf, ProjectError> {
        let board = self.workspace.board(&release.edition)?;
        let said = |yes: bool| {
            let said = board.tried.get(&release.id);
            let tried = targets.clone().filter(|target| said.and_then(|said| said.get(*target)) == Some(&yes));
            tried.cloned().collect()
        };
        Ok(KnownOf {
            tried_yes: said(true),
            tried_no: said(false),
            warnings: release.warnings,
            unsigned: release.unsigned.clone(),
        })
    }
}
