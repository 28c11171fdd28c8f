//! Invitations: made and ended by those who make the game, shown by players' machines.

use jiff::{SignedDuration, Timestamp};
use lantern_core::config::Audience;
use lantern_core::digest::InvitationId;
use lantern_core::invitation::Invitation;
use lantern_core::names::{Handle, Name};
use lantern_storefront::protocol::{InvitationMade, NewInvitation, problem};
use rusqlite::{Connection, OptionalExtension, TransactionBehavior, params};

use super::{CLIENT_ID, StandIn, document, text};
use crate::refusal::Refused;

/// Longest name of whom an invitation is for, in bytes.
const MAX_WHOM_LEN: usize = 200;
/// Longest number that a folder gives itself, in bytes.
const MAX_FOLDER_LEN: usize = 64;

/// Who asks for what players get.
#[derive(Debug, Clone, Default)]
pub(crate) struct Asker {
    /// Whether it is someone who makes the game.
    pub is_maker: bool,
    /// The text of an invitation, as it came.
    pub invitation: Option<String>,
    /// What the installed folder calls itself.
    pub folder: Option<String>,
}

/// What someone may have of a branch that they may follow.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Owns {
    /// Whatever there is.
    Everything,
    /// Depots without such a condition, and those of these editions.
    Editions(Vec<Name>),
    /// Depots without such a condition alone, and why: the invitation that came does not hold.
    NothingBecause(String),
}

/// Why an invitation does not hold.
struct Unfit {
    detail: String,
    fix: &'static str,
}

impl StandIn {
    /// Says whether someone may follow a branch, and what they own as far as it is proved.
    pub(crate) fn admit(
        &self,
        title: &Handle,
        branch: &Name,
        audience: Audience,
        asker: &Asker,
    ) -> Result<Owns, Refused> {
        if asker.is_maker {
            return Ok(Owns::Everything);
        }
        let Some(text) = &asker.invitation else {
            return match audience {
                Audience::Everyone => Ok(Owns::Editions(Vec::new())),
                _ => {
                    let detail = format!("{branch} is for those who were invited");
                    Err(Refused::new(problem::NOT_INVITED, detail, "ask the maker of the game for an invitation"))
                }
            };
        };
        match (self.use_invitation(title, branch, text, asker.folder.as_deref())?, audience) {
            (Ok(owns), _) => Ok(Owns::Editions(owns)),
            // What everybody has needs no invitation; one that does not hold takes nothing away.
            (Err(unfit), Audience::Everyone) => Ok(Owns::NothingBecause(unfit.detail)),
            (Err(unfit), _) => Err(Refused::new(problem::NOT_INVITED, unfit.detail, unfit.fix)),
        }
    }

    /// Notes that a folder uses an invitation, and returns the editions that it says are owned; or why it does not hold.
    fn use_invitation(
        &self,
        title: &Handle,
        branch: &Name,
        text: &str,
        folder: Option<&str>,
    ) -> Result<Result<Vec<Name>, Unfit>, Refused> {
        let unfit = |detail: String, fix: &'static str| Ok(Err(Unfit { detail, fix }));
        let another = "ask the maker of the game for another one";
        let Ok(invitation) = text.parse::<Invitation>() else {
            return unfit("this is not an invitation".to_owned(), "copy it again, whole");
        };
        let now = self.now();
        let mut database = self.database();
        let transaction = database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let Some(mut made) = find(&transaction, title, branch, invitation.id())? else {
            return unfit(format!("this invitation is not one to {branch}"), "is it for another branch or game?");
        };
        if made.ended_at.is_some() {
            return unfit("this invitation was ended by the maker of the game".to_owned(), another);
        }
        if let Some(until) = made.new.until.filter(|until| *until <= now) {
            // A day's end is the next day's first moment.
            let last = until.checked_sub(SignedDuration::from_secs(1)).unwrap_or(until);
            return unfit(format!("this invitation ended on {}", last.strftime("%Y-%m-%d")), another);
        }
        let folder = folder.filter(|folder| !folder.is_empty() && folder.len() <= MAX_FOLDER_LEN).unwrap_or_default();
        let sql = "SELECT count(*) FROM invited WHERE invitation = $1 AND folder = $2";
        let id = made.new.id.to_string();
        let is_known = transaction.query_row(sql, params![id, folder], |row| row.get::<_, u32>(0))? > 0;
        if !is_known {
            if let Some(most) = made.new.folders.filter(|most| made.used_by >= *most) {
                let detail = match most {
                    1 => "this invitation is for one copy, and one is installed already".to_owned(),
                    _ => format!("this invitation is for {most} copies, and as many are installed already"),
                };
                return unfit(detail, another);
            }
            transaction.execute("INSERT INTO invited VALUES ($1, $2)", params![id, folder])?;
            made.used_by += 1;
        }
        // To the hour: it shows that an invitation is in use, and not when someone plays.
        let hour = Timestamp::from_second(now.as_second() / 3600 * 3600).unwrap_or(now);
        if !is_known || made.last_used != Some(hour) {
            made.last_used = Some(hour);
            write(&transaction, title, &made)?;
        }
        transaction.commit()?;
        Ok(Ok(made.new.owns))
    }

    pub(crate) fn invite(
        &self,
        title: &Handle,
        branch: &Name,
        invitation: &NewInvitation,
    ) -> Result<InvitationMade, Refused> {
        self.branch(title, branch)?;
        let whom = invitation.whom.trim();
        if whom.is_empty() || whom.len() > MAX_WHOM_LEN || whom.chars().any(char::is_control) {
            let detail =
                format!("an invitation names a person or a group, in 1 to {MAX_WHOM_LEN} bytes without line breaks");
            return Err(Refused::new(problem::MALFORMED, detail, "name the person or group"));
        }
        if invitation.until.is_some_and(|until| until <= self.now()) {
            return Err(Refused::new(
                problem::MALFORMED,
                "the invitation would have ended already",
                "give a later end",
            ));
        }
        let mut database = self.database();
        let transaction = database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        if let Some(known) = find(&transaction, title, branch, invitation.id)? {
            return Ok(known);
        }
        let made = InvitationMade {
            new: invitation.clone(),
            branch: branch.clone(),
            made_at: self.now(),
            made_by: CLIENT_ID.to_owned(),
            used_by: 0,
            last_used: None,
            ended_at: None,
        };
        write(&transaction, title, &made)?;
        self.note(&transaction, title, "invitation-made", 0, Some(branch))?;
        transaction.commit()?;
        Ok(made)
    }

    pub(crate) fn invitations(&self, title: &Handle, branch: &Name) -> Result<Vec<InvitationMade>, Refused> {
        self.branch(title, branch)?;
        let database = self.database();
        let sql = "SELECT document FROM invitations WHERE title = $1 AND branch = $2 ORDER BY rowid";
        super::documents(&database, sql, params![title.as_str(), branch.as_str()])
    }

    pub(crate) fn end_invitation(
        &self,
        title: &Handle,
        branch: &Name,
        id: InvitationId,
    ) -> Result<InvitationMade, Refused> {
        self.branch(title, branch)?;
        let mut database = self.database();
        let transaction = database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let missing =
            || Refused::new(problem::NOT_FOUND, "there is no such invitation", "read the list of invitations");
        let mut made = find(&transaction, title, branch, id)?.ok_or_else(missing)?;
        if made.ended_at.is_none() {
            made.ended_at = Some(self.now());
            write(&transaction, title, &made)?;
            self.note(&transaction, title, "invitation-ended", 0, Some(branch))?;
        }
        transaction.commit()?;
        Ok(made)
    }
}

fn find(
    connection: &Connection,
    title: &Handle,
    branch: &Name,
    id: InvitationId,
) -> Result<Option<InvitationMade>, Refused> {
    let sql = "SELECT document FROM invitations WHERE title = $1 AND branch = $2 AND id = $3";
    let values = params![title.as_str(), branch.as_str(), id.to_string()];
    let found = connection.query_row(sql, values, |row| row.get::<_, String>(0)).optional()?;
    found.map(|found| document(&found)).transpose()
}

fn write(connection: &Connection, title: &Handle, made: &InvitationMade) -> Result<(), Refused> {
    let sql = "INSERT INTO invitations (title, branch, id, document) VALUES ($1, $2, $3, $4)
        ON CONFLICT (title, branch, id) DO UPDATE SET document = excluded.document";
    let values = params![title.as_str(), made.branch.as_str(), made.new.id.to_string(), text(made)?];
    connection.execute(sql, values)?;
    Ok(())
}
