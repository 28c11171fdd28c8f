//! Invitations to a branch that not everyone follows.

use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_project::{Invitations, InviteDone, short_invitation};
use lantern_storefront::protocol::InvitationMade;
use serde::Serialize;

use crate::format;
use crate::paint::{care, command, faint, good, strong};
use crate::table::Table;
use crate::view::{Next, View};

/// What `lantern invite --for --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct MadeDocument<'a> {
    schema: &'static str,
    storefront: &'a str,
    branch: &'a Name,
    id: String,
    /// The text for testers; it is shown this once.
    invitation: String,
    /// As the storefront has it; null when no answer came, and it may have it or not.
    made: Option<&'a InvitationMade>,
}

/// What `lantern invite --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ListDocument<'a> {
    schema: &'static str,
    storefront: &'a str,
    branch: &'a Name,
    invitations: &'a [InvitationMade],
}

/// What `lantern invite --end --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct EndedDocument<'a> {
    schema: &'static str,
    storefront: &'a str,
    branch: &'a Name,
    ended: &'a InvitationMade,
}

/// The branch that they are to, as it was named.
#[derive(Debug, Clone, Copy)]
pub struct To<'a> {
    /// The storefront.
    pub storefront: &'a str,
    /// The branch there.
    pub branch: &'a Name,
}

/// An invitation that was made.
pub fn made_document<'a>(to: To<'a>, done: &'a InviteDone) -> MadeDocument<'a> {
    MadeDocument {
        schema: "lantern.invite/1",
        storefront: &done.storefront_name,
        branch: to.branch,
        id: short_invitation(&done.invitation.id()),
        invitation: done.invitation.reveal(),
        made: done.made.as_ref(),
    }
}

/// The same in sentences, with what testers do with it.
pub fn made(to: To<'_>, whom: &str, until: Option<Date>, done: &InviteDone) -> View {
    let mut view = View::default();
    let (text, storefront) = (done.invitation.reveal(), &done.storefront_name);
    let until = until.map_or(String::new(), |until| format!(", until {until}"));
    let (whom, branch) = (strong(shown(whom)), strong(to.branch));
    view.say(format!("{} {whom} to {branch} at {storefront}{until}\n", good("invited")));
    view.say(format!("  {}\n", strong(&text)));
    view.say(format!("  {}", faint("It is shown this once, and kept nowhere. Testers install with:")));
    let install = format!("lantern install {} {} DIR --invitation {text}", to.storefront, to.branch);
    view.say(format!("  {}", command(install)));
    if done.made.is_none() {
        let what = format!("{storefront} did not answer: whether it has the invitation is not known yet");
        view.say(format!("\n  {} {what}", care("careful:")));
    }
    view.next(Next::of(format!("lantern invite {} {}", to.storefront, to.branch), "lists the invitations"));
    view
}

/// An invitation that was ended.
pub fn ended_document<'a>(storefront: &'a str, branch: &'a Name, ended: &'a InvitationMade) -> EndedDocument<'a> {
    EndedDocument { schema: "lantern.invite-end/1", storefront, branch, ended }
}

/// The same in sentences.
pub fn ended(storefront: &str, branch: &Name, ended: &InvitationMade) -> View {
    let mut view = View::default();
    let whom = strong(shown(&ended.new.whom));
    view.say(format!("{} the invitation for {whom} to {branch} at {storefront}", good("ended:")));
    view.say(format!("  {}", faint("copies that are installed stay, and get no more updates")));
    view
}

/// All invitations to a branch.
pub fn list_document<'a>(branch: &'a Name, found: &'a Invitations) -> ListDocument<'a> {
    let Invitations { storefront_name: storefront, invitations } = found;
    ListDocument { schema: "lantern.invite-list/1", storefront, branch, invitations }
}

/// The last day of something that ends at a moment.
fn last_day(until: Timestamp) -> String {
    format::day(until.checked_sub(SignedDuration::from_secs(1)).unwrap_or(until))
}

/// The same as columns; `now` says which have ended.
pub fn list(to: To<'_>, found: &Invitations, now: Timestamp) -> View {
    let mut view = View::default();
    let Invitations { storefront_name, invitations } = found;
    if invitations.is_empty() {
        view.say(format!("there are no invitations to {} at {storefront_name} yet", to.branch));
        view.next(format!("lantern invite {} {} --for NAME", to.storefront, to.branch));
        return view;
    }
    view.say(format!("invitations to {} at {storefront_name}\n", strong(to.branch)));
    let mut table = Table::default();
    table.head(["id", "for", "until", "used by", "last used"]);
    for made in invitations {
        let until = match (made.ended_at, made.new.until) {
            (Some(at), _) => care(format!("ended {}", format::day(at))),
            (None, Some(until)) if until <= now => care(format!("ended {}", last_day(until))),
            (None, Some(until)) => last_day(until),
            (None, None) => "no end".to_owned(),
        };
        let copies = format::count(u64::from(made.used_by), "copy", "copies");
        let used = made.new.folders.map_or(copies.clone(), |most| format!("{} of {most} copies", made.used_by));
        table.row([
            short_invitation(&made.new.id),
            strong(shown(&made.new.whom)),
            until,
            used,
            made.last_used.map_or("never".to_owned(), format::day),
        ]);
    }
    view.table(table);
    view.next(Next::of(format!("lantern invite {} {} --end ID", to.storefront, to.branch), "ends one"));
    view
}
