use std::num::NonZeroU32;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use lantern_core::names::Name;
use lantern_project::{Invitations, InviteDone, InviteWanted, short_invitation};
use lantern_storefront::protocol::InvitationMade;
use serde::Serialize;

use super::Done;
use crate::args::EditionArg;
use crate::diagnostic::CommandError;
use crate::format;
use crate::paint::{care, command, faint, good, strong};
use crate::table::Table;
use crate::ui::{Next, Ui};

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern invite brambleyard creek --for "Marsh testers" --until 2027-01-31
  lantern invite brambleyard creek
  lantern invite brambleyard creek --end "Marsh testers""#;

/// Make, list or end invitations to a branch that not everyone follows
///
/// An invitation is a text for a person or a group. Anyone who has it installs from the branch, until it ends. The storefront
/// knows only its one-way digest, and it is stored nowhere: it is shown once, when it is made. Without --for and --end
/// all invitations to the branch are listed.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml; may be left out where there is only one
    storefront: String,
    /// The branch there
    #[arg(value_parser = super::name::<Name>)]
    branch: Name,
    /// Make one for this person or group
    #[arg(long = "for", value_name = "WHOM", conflicts_with = "end")]
    whom: Option<String>,
    /// It ends with this day
    #[arg(long, value_name = "DAY", requires = "whom", value_parser = day)]
    until: Option<Date>,
    /// So many installed copies may use it
    #[arg(long, value_name = "N", requires = "whom")]
    copies: Option<NonZeroU32>,
    /// Anyone who has it counts as owning this edition, such as an add-on; again for more
    #[arg(long, value_name = "EDITION", requires = "whom", value_parser = super::name::<Name>)]
    owns: Vec<Name>,
    /// End one, by whom it is for or by the first digits of its id
    #[arg(long, value_name = "WHICH")]
    end: Option<String>,
    #[command(flatten)]
    pub edition: EditionArg,
}

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

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ListDocument<'a> {
    schema: &'static str,
    storefront: &'a str,
    branch: &'a Name,
    invitations: &'a [InvitationMade],
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct EndedDocument<'a> {
    schema: &'static str,
    storefront: &'a str,
    branch: &'a Name,
    ended: &'a InvitationMade,
}

/// Reads a day, for clap.
fn day(text: &str) -> Result<Date, String> {
    text.parse().map_err(|_| "write a day as year-month-day, such as 2027-01-31".to_owned())
}

/// The last moment of a day, here.
fn end_of(day: Date) -> Result<Timestamp, CommandError> {
    let next = day.tomorrow().and_then(|next| next.to_zoned(TimeZone::system()));
    next.map(|next| next.timestamp()).map_err(|e| CommandError::usage(format!("{day}: {e}"), "give another day"))
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let Args { storefront, branch, .. } = args;
    match (&args.whom, &args.end) {
        (Some(whom), _) => {
            let until = args.until.map(end_of).transpose()?;
            if until.is_some_and(|until| until <= lantern_project::now()) {
                return Err(CommandError::usage(
                    "the invitation would have ended already",
                    "give a later day with --until",
                ));
            }
            let folders = args.copies.map(NonZeroU32::get);
            let wanted = InviteWanted { whom: whom.clone(), until, folders, owns: args.owns.clone() };
            let done = super::lock(ui)?.invite(storefront, branch, &wanted)?;
            show_made(args, whom, &done, ui);
            done.unrecorded.map_or(Ok(()), |error| Err(error.into()))
        }
        (None, Some(which)) => {
            let (storefront, ended) = super::lock(ui)?.end_invitation(storefront, branch, which)?;
            let document =
                EndedDocument { schema: "lantern.invite-end/1", storefront: &storefront, branch, ended: &ended };
            ui.document(&document);
            let whom = lantern_core::path::shown(&ended.new.whom);
            ui.say(&format!("{} the invitation for {} to {branch} at {storefront}", good("ended:"), strong(whom)));
            ui.say(&format!("  {}", faint("copies that are installed stay, and get no more updates")));
            Ok(())
        }
        (None, None) => {
            let found = super::find(ui)?.invitations(storefront, branch)?;
            ui.document(&ListDocument {
                schema: "lantern.invite-list/1",
                storefront: &found.storefront_name,
                branch,
                invitations: &found.invitations,
            });
            show_list(&found, args, ui);
            Ok(())
        }
    }
}

fn show_made(args: &Args, whom: &str, done: &InviteDone, ui: &Ui) {
    let text = done.invitation.reveal();
    ui.document(&MadeDocument {
        schema: "lantern.invite/1",
        storefront: &done.storefront_name,
        branch: &args.branch,
        id: short_invitation(&done.invitation.id()),
        invitation: text.clone(),
        made: done.made.as_ref(),
    });
    let (branch, storefront) = (strong(&args.branch), &done.storefront_name);
    let until = args.until.map_or(String::new(), |until| format!(", until {until}"));
    ui.say(&format!(
        "{} {} to {branch} at {storefront}{until}\n",
        good("invited"),
        strong(lantern_core::path::shown(whom))
    ));
    ui.say(&format!("  {}\n", strong(&text)));
    ui.say(&format!("  {}", faint("It is shown this once, and kept nowhere. Testers install with:")));
    let install = format!("lantern install {} {} DIR --invitation {text}", args.storefront, args.branch);
    ui.say(&format!("  {}", command(install)));
    if done.made.is_none() {
        ui.say(&format!(
            "\n  {} {storefront} did not answer: whether it has the invitation is not known yet",
            care("careful:")
        ));
    }
    ui.next(Next::of(format!("lantern invite {} {}", args.storefront, args.branch), "lists the invitations"));
}

/// The last day of something that ends at a moment.
fn last_day(until: Timestamp) -> String {
    format::day(until.checked_sub(SignedDuration::from_secs(1)).unwrap_or(until))
}

fn show_list(found: &Invitations, args: &Args, ui: &Ui) {
    let Invitations { storefront_name, invitations } = found;
    if invitations.is_empty() {
        ui.say(&format!("there are no invitations to {} at {storefront_name} yet", args.branch));
        ui.next(format!("lantern invite {} {} --for NAME", args.storefront, args.branch));
        return;
    }
    ui.say(&format!("invitations to {} at {storefront_name}\n", strong(&args.branch)));
    let now = lantern_project::now();
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
            strong(lantern_core::path::shown(&made.new.whom)),
            until,
            used,
            made.last_used.map_or("never".to_owned(), format::day),
        ]);
    }
    ui.say(&table.lay_out());
    ui.next(Next::of(format!("lantern invite {} {} --end ID", args.storefront, args.branch), "ends one"));
}
