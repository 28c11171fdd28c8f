use std::collections::BTreeSet;
use std::path::PathBuf;

use lantern_core::config::{Signer, SignerKind};
use lantern_core::names::Name;
use lantern_core::version::{BuildNumber, Version};
use lantern_project::{NoPassphrase, Passphrases, PrepareOptions, Prepared, Project, Session};
use lantern_views::prepare;

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::{EditionArg, TargetsArg};
use crate::passphrase::PassphraseArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern prepare
  lantern prepare --version 1.4.0-rc
  lantern prepare --target windows --target linux"#;

/// Turn exports into a sealed release
///
/// Takes the exports in, checks them, gives the release its number and seals it in .lantern/: frozen, and named by
/// its content. When nothing changed since the last time, says so and makes nothing. Exports are never changed. With
/// --target it is a release of a part: what the others have on a branch stays there.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES, disable_version_flag = true)]
pub struct Args {
    /// Instead of the version in lantern.toml, this once
    #[arg(long, value_parser = super::name::<Version>)]
    version: Option<Version>,
    /// Read every file, also those that look unchanged
    #[arg(long)]
    read_all: bool,
    /// Sign nothing this once, whatever lantern.toml says; the release is marked so
    #[arg(long)]
    unsigned: bool,
    /// The ticket that came back for a bundle, as an approval in lantern.toml asks; may be given several times
    #[arg(long, value_name = "FILE")]
    ticket: Vec<PathBuf>,
    #[command(flatten)]
    passphrase: PassphraseArg,
    #[command(flatten)]
    targets: TargetsArg,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut session = super::lock_about(&args.targets, ui)?;
    ask_about_far_numbers(&mut session, ui)?;
    let options = PrepareOptions {
        version: args.version.clone(),
        read_all: args.read_all,
        unsigned: args.unsigned,
        tickets: args.ticket.clone(),
        changing: None,
        passphrases: Some(passphrases(&args.passphrase, Some(session.project()), ui)),
    };
    let mut all: Vec<Prepared> = Vec::new();
    for edition in session.project().editions() {
        let prepared = session.prepare(&edition, &options, &ui.progress())?;
        let name = session.project().edition_name(&edition);
        ui.show(&prepare::view(&prepared, name, !all.is_empty()));
        all.push(prepared);
    }
    ui.document(&prepare::document(&all));
    super::next(session.workspace(), ui, super::ASK_THEM)
}

/// Gives the passphrase of a key, or the PIN of a token, when something is to be signed, and not before.
pub(super) fn passphrases(from: &PassphraseArg, project: Option<&Project>, ui: &Ui) -> Passphrases {
    let is_token = |signer: &Signer| matches!(signer.kind, SignerKind::Token { .. });
    let signers = project.into_iter().flat_map(|project| &project.config().signers);
    let tokens: BTreeSet<Name> = signers.filter(|(_, signer)| is_token(signer)).map(|(name, _)| name.clone()).collect();
    let (from, ui) = (from.clone(), ui.clone());
    Passphrases::new(move |name| {
        let is_token = tokens.contains(name);
        let missing = |error: CommandError| match ui.is_stopped() {
            true => NoPassphrase::Stopped,
            false => NoPassphrase::Missing(error.in_short()),
        };
        let known = if is_token { from.given() } else { from.given_or_kept(name, &ui) };
        match known.map_err(missing)? {
            Some(given) => Ok(given),
            None if ui.can_ask() && is_token => from.of_token(name, &ui).map_err(missing),
            None if ui.can_ask() => from.of_key(name, &ui).map_err(missing),
            None if is_token => Err(NoPassphrase::Missing(format!("the PIN of the token {name} is missing"))),
            None => Err(NoPassphrase::Missing(format!("the passphrase of the key {name} is missing"))),
        }
    })
}

/// A number at a storefront that lies far above all others is followed only when someone says so. Where nobody can be
/// asked it is not, and every `prepare` says it.
fn ask_about_far_numbers(session: &mut Session, ui: &Ui) -> Done {
    let shown = session.workspace().next_number()?;
    for far in &shown.far {
        let follow = BuildNumber::after(Some(far.name.number)).ok();
        match follow.filter(|_| ui.can_ask()) {
            Some(follow) => {
                let what = prepare::far_number(far);
                let question = format!("{what}. Go on with {follow} instead of {}? (y/n)", shown.next);
                if super::yes_or_no(ui, &question, "your answer", "lantern number --next")? {
                    session.set_next_number(follow)?;
                    return Ok(());
                }
                session.leave_number(far)?;
            }
            None => ui.show_aside(&prepare::far_number_left(far, follow)),
        }
    }
    Ok(())
}
