//! `invite`: invitations to branches that not everybody follows.

use jiff::Timestamp;
use lantern_core::config::Audience;
use lantern_core::digest::InvitationId;
use lantern_core::event::{EventBody, EventId, InvitationEnded, Invited};
use lantern_core::finding::one_of;
use lantern_core::invitation::Invitation;
use lantern_core::names::Name;
use lantern_ledger::LedgerError;
use lantern_storefront::StorefrontError;
use lantern_storefront::protocol::{InvitationMade, NewInvitation};

use crate::error::{Class, Explained, class_of_ledger, fixes_of_ledger};
use crate::storefronts::{OpenStorefront, open_storefront};
use crate::workspace::{Session, Workspace};
use crate::{ProjectError, environment};

/// What an invitation is to be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InviteWanted {
    /// A person or a group.
    pub whom: String,
    /// When it ends.
    pub until: Option<Timestamp>,
    /// How many installed folders may use it.
    pub folders: Option<u32>,
    /// Editions that anyone who has it counts as owning.
    pub owns: Vec<Name>,
}

/// An invitation that was asked for. Its text is only here: it is shown to the one who asked, and stored nowhere.
#[derive(Debug)]
pub struct InviteDone {
    /// The storefront's name for people.
    pub storefront_name: String,
    /// The text for testers is in it.
    pub invitation: Invitation,
    /// As the storefront has it; none when no answer came, and it may have it or not.
    pub made: Option<InvitationMade>,
    /// Why it could not be recorded here, once the storefront had made it. Its text holds all the same, and must be shown.
    pub unrecorded: Option<ProjectError>,
}

/// The invitations to a branch.
#[derive(Debug)]
pub struct Invitations {
    /// The storefront's name for people.
    pub storefront_name: String,
    /// Oldest first.
    pub invitations: Vec<InvitationMade>,
}

impl Workspace {
    /// Returns every invitation to a branch, as the storefront has it.
    ///
    /// # Errors
    /// [`ProjectError::Storefront`].
    pub fn invitations(&self, storefront: &str, branch: &Name) -> Result<Invitations, ProjectError> {
        let storefront = open_storefront(self, &self.project.first_edition(), storefront)?;
        let invitations = storefront.invitations()?.list(&storefront.title, branch).map_err(storefront.fails())?;
        Ok(Invitations { storefront_name: storefront.name(), invitations })
    }
}

impl Session {
    fn invited_branch(&self, storefront: &str, branch: &Name, owns: &[Name]) -> Result<OpenStorefront, ProjectError> {
        let storefront = open_storefront(&self.workspace, &self.project().first_edition(), storefront)?;
        let rules = storefront.rules()?;
        let refusals = rules.refuse_promote(branch);
        if !refusals.is_empty() {
            return Err(ProjectError::Rules { storefront: storefront.reference.name, refusals });
        }
        let is_open = rules.branch(branch).is_some_and(|rule| rule.audience == Audience::Everyone);
        if is_open && owns.is_empty() {
            return Err(
                InviteError::OpenBranch { storefront: storefront.reference.name, branch: branch.clone() }.into()
            );
        }
        Ok(storefront)
    }

    /// Makes an invitation to a branch. The storefront is given only its one-way digest.
    ///
    /// # Errors
    /// [`InviteError::OpenBranch`], [`ProjectError::Rules`], [`ProjectError::Storefront`] when it is refused.
    pub fn invite(
        &mut self,
        storefront: &str,
        branch: &Name,
        wanted: &InviteWanted,
    ) -> Result<InviteDone, ProjectError> {
        let storefront = self.invited_branch(storefront, branch, &wanted.owns)?;
        let storefront_name = storefront.name();
        let invitation = Invitation::new(environment::random()?);
        let InviteWanted { whom, until, folders, owns } = wanted.clone();
        let new = NewInvitation { id: invitation.id(), whom, until, folders, owns };
        let key = EventId::new(environment::now(), environment::random()?);
        let made = match storefront.invitations()?.invite(&storefront.title, branch, key, &new) {
            Ok(made) => made,
            // It may have been made; the one who asked has its text, and the list says whether it holds.
            Err(
                StorefrontError::Unreachable { .. } | StorefrontError::Failed { .. } | StorefrontError::Nonsense { .. },
            ) => {
                return Ok(InviteDone { storefront_name, invitation, made: None, unrecorded: None });
            }
            Err(source) => return Err(storefront.fails()(source)),
        };
        let NewInvitation { id, whom, until, folders, owns } = made.new.clone();
        let (reference, branch) = (storefront.reference.clone(), branch.clone());
        let invited = Invited { storefront: reference, branch, invitation: id, whom, until, folders, owns };
        let unrecorded = match self.workspace.record(&storefront.edition, EventBody::Invited(invited), None) {
            Err(ProjectError::Ledger(error)) => Some(InviteError::InvitationUnrecorded(error).into()),
            other => other.err(),
        };
        Ok(InviteDone { storefront_name, invitation, made: Some(made), unrecorded })
    }

    /// Ends an invitation, named by the first digits of its id or by whom it is for.
    ///
    /// # Errors
    /// [`InviteError::NoInvitation`] when none or several are meant, and those of the storefront.
    pub fn end_invitation(
        &mut self,
        storefront: &str,
        branch: &Name,
        which: &str,
    ) -> Result<(String, InvitationMade), ProjectError> {
        let storefront = open_storefront(&self.workspace, &self.project().first_edition(), storefront)?;
        let all = storefront.invitations()?.list(&storefront.title, branch).map_err(storefront.fails())?;
        let is_meant = |made: &&InvitationMade| short(&made.new.id).starts_with(which) || made.new.whom == which;
        let mut meant: Vec<&InvitationMade> = all.iter().filter(is_meant).collect();
        // One that has ended is meant only where no other is.
        if meant.len() > 1 {
            meant.retain(|made| made.ended_at.is_none());
        }
        let [made] = meant[..] else {
            let there = all.iter().filter(|made| made.ended_at.is_none());
            let there = there.map(|made| format!("{} ({})", short(&made.new.id), made.new.whom)).collect();
            return Err(InviteError::NoInvitation { asked: which.to_owned(), several: meant.len() > 1, there }.into());
        };
        let key = EventId::new(environment::now(), environment::random()?);
        let ended =
            storefront.invitations()?.end(&storefront.title, branch, key, made.new.id).map_err(storefront.fails())?;
        let (whom, invitation) = (ended.new.whom.clone(), ended.new.id);
        let body =
            InvitationEnded { storefront: storefront.reference.clone(), branch: branch.clone(), invitation, whom };
        self.workspace.record_done(
            &storefront.reference,
            &storefront.edition,
            EventBody::InvitationEnded(body),
            None,
        )?;
        Ok((storefront.name(), ended))
    }
}

/// Returns what people call an invitation by: the first digits of its id.
pub fn short(id: &InvitationId) -> String {
    id.0.hex().chars().take(8).collect()
}

/// Why nobody is invited.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum InviteError {
    /// Everybody follows the branch: nobody needs an invitation.
    #[error("{branch} at {storefront} is for everyone")]
    OpenBranch {
        /// The project's name for the storefront.
        storefront: Name,
        /// The branch.
        branch: Name,
    },
    /// No invitation is meant by what was asked, or several are.
    #[error("{} {asked:?}", if *.several { "several invitations match" } else { "there is no invitation" })]
    NoInvitation {
        /// What was asked for.
        asked: String,
        /// Whether more than one is meant.
        several: bool,
        /// Those that there are.
        there: Vec<String>,
    },
    /// An invitation was made, and the ledger could not be written.
    #[error("the invitation is made, and this could not be recorded here")]
    InvitationUnrecorded(#[source] LedgerError),
}

impl Explained for InviteError {
    fn class(&self) -> Class {
        match self {
            Self::OpenBranch { .. } | Self::NoInvitation { .. } => Class::Usage,
            Self::InvitationUnrecorded(source) => class_of_ledger(source),
        }
    }

    fn fixes(&self) -> Vec<String> {
        let one = |text: &str| vec![text.to_owned()];
        match self {
            Self::OpenBranch { storefront, branch } => vec![
                "installing from it needs no invitation".to_owned(),
                format!(
                    "to give someone an add-on there: lantern invite {storefront} {branch} --owns EDITION --for NAME"
                ),
            ],
            Self::NoInvitation { there, .. } if there.is_empty() => one("there is no valid one"),
            Self::NoInvitation { there, .. } => vec![one_of(there)],
            Self::InvitationUnrecorded(source) => {
                let mut fixes = fixes_of_ledger(source);
                fixes.push("the invitation above is valid all the same".to_owned());
                fixes
            }
        }
    }
}
