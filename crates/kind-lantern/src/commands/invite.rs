use std::num::NonZeroU32;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use lantern_core::names::Name;
use lantern_project::InviteWanted;
use lantern_views::invite::{self, To};

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

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
    #[arg(long, value_name = "DAY", requires = "whom", value_parser = super::day)]
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

/// The last moment of a day, here.
fn end_of(day: Date) -> Result<Timestamp, CommandError> {
    let next = day.tomorrow().and_then(|next| next.to_zoned(TimeZone::system()));
    next.map(|next| next.timestamp()).map_err(|e| CommandError::usage(format!("{day}: {e}"), "give another day"))
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let Args { storefront, branch, .. } = args;
    let to = To { storefront, branch };
    match (&args.whom, &args.end) {
        (Some(whom), _) => {
            let until = args.until.map(end_of).transpose()?;
            if until.is_some_and(|until| until <= lantern_project::now()) {
                let what = "the invitation would have ended already";
                return Err(CommandError::usage(what, "give a later day with --until"));
            }
            let folders = args.copies.map(NonZeroU32::get);
            let wanted = InviteWanted { whom: whom.clone(), until, folders, owns: args.owns.clone() };
            let done = super::lock(ui)?.invite(storefront, branch, &wanted)?;
            ui.answer(&invite::made_document(to, &done), &invite::made(to, whom, args.until, &done));
            done.unrecorded.map_or(Ok(()), |error| Err(error.into()))
        }
        (None, Some(which)) => {
            let (at, ended) = super::lock(ui)?.end_invitation(storefront, branch, which)?;
            ui.answer(&invite::ended_document(&at, branch, &ended), &invite::ended(&at, branch, &ended));
            Ok(())
        }
        (None, None) => {
            let found = super::open(ui)?.invitations(storefront, branch)?;
            let view = invite::list(to, &found, lantern_project::now());
            ui.answer(&invite::list_document(branch, &found), &view);
            Ok(())
        }
    }
}
