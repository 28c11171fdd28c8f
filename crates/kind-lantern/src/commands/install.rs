use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use lantern_core::choices::{Asked, NO_OPTION};
use lantern_core::invitation::{Invitation, InvitationError};
use lantern_core::names::Name;
use lantern_core::system::System;
use lantern_project::{About, InstallWanted, OwnFiles};
use lantern_views::{format, install};

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern install brambleyard open-water ~/games/saltmarsh --start
  lantern install brambleyard creek try-it --target linux --invitation 0w3g-e1r7-0w3g-e1r7-0w3g-e1r7-t7na
  lantern install --give-up ~/games/saltmarsh"#;

/// Install or update from a branch, as a player's machine does
///
/// Every file is checked against its digest. An update fetches only what is missing. Files that no build brought, such
/// as saved games, are never overwritten or removed: one that is where the build needs to be is moved aside, in its
/// folder, and named. Interrupted at any point, the same command continues.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml; may be left out where there is only one
    #[arg(required_unless_present = "give_up")]
    storefront: Option<String>,
    /// The branch there
    #[arg(required_unless_present = "give_up", value_parser = super::name::<Name>)]
    branch: Option<Name>,
    /// The folder to install into; made when it is missing. Left out: a folder here, with the name that the build states
    dir: Option<PathBuf>,
    /// Which target, if not the one for this computer
    #[arg(long, value_parser = super::name::<Name>)]
    target: Option<Name>,
    /// What to have of a choice, such as voices=fr, or voices=fr,ja, or voices=none; again for more. It is kept by updates.
    /// Left out: the default, such as the language of this computer
    #[arg(long, value_name = "CHOICE=OPTION", value_parser = choice)]
    choose: Vec<(Name, BTreeSet<Name>)>,
    /// An add-on to install, of those that the player has; again for more. It is kept by updates; none removes them
    #[arg(long, value_name = "EDITION", value_parser = super::name::<Name>)]
    add_on: Vec<Name>,
    /// The invitation that you were given, for a branch that not everyone follows; - reads it from standard input. It is
    /// kept in the folder, and used for updates
    #[arg(long, value_name = "TEXT", env = "LANTERN_INVITATION", hide_env_values = true)]
    invitation: Option<String>,
    /// What becomes of files of your own that are where the build needs to be
    #[arg(long, value_name = "HOW", default_value = "aside")]
    own_files: OwnFilesArg,
    /// Read every installed file, also those that look as they did when they were last checked
    #[arg(long)]
    read_all: bool,
    /// Give up an installation that was begun in this folder: it becomes what it was before
    #[arg(long, value_name = "DIR", conflicts_with_all = ["storefront", "branch", "dir", "target", "choose", "add_on", "invitation", "start"])]
    give_up: Option<PathBuf>,
    /// Start it afterwards, and wait until it ends
    #[arg(long)]
    start: bool,
    #[command(flatten)]
    pub edition: EditionArg,
}

/// What becomes of files of the player's own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum OwnFilesArg {
    /// They are moved aside, under a name that ends in .yours
    Aside,
    /// Nothing is installed
    Stop,
}

/// Reads `CHOICE=OPTION,OPTION`; no option is `none`.
fn choice(text: &str) -> Result<(Name, BTreeSet<Name>), String> {
    let (choice, options) = text.split_once('=').ok_or("write it as CHOICE=OPTION, such as voices=fr")?;
    let choice = super::name::<Name>(choice)?;
    if options == NO_OPTION {
        return Ok((choice, BTreeSet::new()));
    }
    let options: BTreeSet<Name> = options.split(',').map(super::name::<Name>).collect::<Result<_, _>>()?;
    match options.iter().any(|option| option.as_str() == NO_OPTION) {
        true => Err(format!("{NO_OPTION} stands alone")),
        false => Ok((choice, options)),
    }
}

fn asked(args: &Args) -> Result<Asked, CommandError> {
    let mut asked = Asked::default();
    for (choice, options) in &args.choose {
        asked.choices.entry(choice.clone()).or_default().extend(options.iter().cloned());
    }
    let (none, add_ons): (Vec<&Name>, Vec<&Name>) = args.add_on.iter().partition(|name| name.as_str() == NO_OPTION);
    if !none.is_empty() && !add_ons.is_empty() {
        let what = "--add-on is given none and an add-on";
        return Err(CommandError::usage(what, "give none alone, to have no add-on"));
    }
    if !args.add_on.is_empty() {
        asked.add_ons = Some(add_ons.into_iter().cloned().collect());
    }
    Ok(asked)
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let (storefront, branch) = match (&args.give_up, &args.storefront, &args.branch) {
        (Some(folder), ..) => return give_up(folder, ui),
        (None, Some(storefront), Some(branch)) => (storefront, branch),
        _ => unreachable!("the parser asks for both"),
    };
    let project = super::find(ui)?;
    let progress = ui.progress();
    let wanted = InstallWanted {
        target: args.target.clone(),
        asked: asked(args)?,
        folder: args.dir.clone(),
        own_files: match args.own_files {
            OwnFilesArg::Aside => OwnFiles::Aside,
            OwnFilesArg::Stop => OwnFiles::Stop,
        },
        read_all: args.read_all,
        invitation: args.invitation.as_deref().map(read_invitation).transpose()?,
    };
    let done = lantern_project::install_branch(&project, storefront, branch, &wanted, &progress)?;
    ui.show(&install::view(&done));
    let ended = if args.start { Some(start(&done.folder, &done.about, ui)?) } else { None };
    ui.document(&install::document(&done, ended.flatten()));
    let how = match ended {
        None | Some(Some(0)) => return Ok(()),
        Some(None) => "was ended by a signal".to_owned(),
        Some(Some(code)) => format!("ended with exit code {code}"),
    };
    let fix = "check its output above; it is the file that players get";
    Err(CommandError::damaged(format!("{} {how}", done.about.name), fix))
}

/// Reads an invitation as it was given; what is wrong with it does not repeat it.
fn read_invitation(text: &str) -> Result<Invitation, CommandError> {
    let mut typed = text.to_owned();
    if text == "-" {
        typed.clear();
        std::io::stdin().read_line(&mut typed).map_err(|e| CommandError::io("read the invitation", e))?;
    }
    typed.parse().map_err(|e: InvitationError| CommandError::usage(e.to_string(), "copy it again, whole"))
}

fn give_up(folder: &Path, ui: &Ui) -> Done {
    let done = lantern_project::give_up_install(folder)?;
    ui.answer(&install::given_up_document(folder, done.as_ref()), &install::given_up(folder, done.as_ref()));
    Ok(())
}

fn start(folder: &Path, about: &About, ui: &Ui) -> Result<Option<i32>, CommandError> {
    let found = lantern_project::start_of(folder, about).filter(|_| System::any_runs_here(&about.systems));
    let Some((program, arguments, working_folder)) = found else {
        let what = match about.starts.first() {
            Some(start) => format!("{} is for {}, not for this computer", start.file, format::systems(&about.systems)),
            None => format!("nothing in {} is started", about.name),
        };
        return Err(CommandError::usage(what, "start it where it belongs, or install without --start"));
    };
    super::start_program(&program, &arguments, &working_folder, ui)
}
