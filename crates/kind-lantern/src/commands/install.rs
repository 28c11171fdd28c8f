use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use lantern_core::choices::{Asked, Chosen, NO_OPTION};
use lantern_core::invitation::{Invitation, InvitationError};
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::system::System;
use lantern_project::{About, Aside, InstallDone, InstallWanted, OwnFiles};
use serde::Serialize;

use super::Done;
use crate::args::EditionArg;
use crate::diagnostic::CommandError;
use crate::format;
use crate::paint::{care, faint, good, strong};
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

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    #[cfg_attr(test, schemars(with = "String"))]
    folder: &'a Path,
    installed: &'a About,
    before: Option<&'a About>,
    files: u64,
    bytes: u64,
    written_files: u64,
    removed_files: u64,
    received_bytes: u64,
    /// What stood in the way and was no build's, or was changed since a build brought it: it is beside itself now.
    moved_aside: Vec<AsideDocument<'a>>,
    /// What an earlier build brought, was changed since, and is no longer part of the build: it stays where it is.
    left: Vec<&'a str>,
    /// Whether nobody could say what the earlier build had brought, so that nothing of it was removed.
    past_unknown: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    exit_code: Option<i32>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct AsideDocument<'a> {
    path: &'a str,
    to: &'a str,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct GivenUpDocument<'a> {
    schema: &'static str,
    #[cfg_attr(test, schemars(with = "String"))]
    folder: &'a Path,
    /// What is installed now, as before.
    installed: Option<&'a About>,
    /// Whether there was anything to give up.
    given_up: bool,
    /// Whether files had been switched already, and were switched back.
    switched_back: bool,
    moved_aside: Vec<AsideDocument<'a>>,
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
        invitation: args.invitation.as_deref().map(read_invitation).transpose()?,
    };
    let done = lantern_project::install_branch(&project, storefront, branch, &wanted, &progress)?;
    show(&done, &done.folder, ui);
    let ended = if args.start { Some(start(&done.folder, &done.about, ui)?) } else { None };
    report(&done, ended.flatten(), ui);
    match ended {
        None | Some(Some(0)) => Ok(()),
        Some(None) => Err(CommandError::damaged(
            format!("{} was ended by a signal", done.about.name),
            "check its output above; it is the file that players get",
        )),
        Some(Some(code)) => Err(CommandError::damaged(
            format!("{} ended with exit code {code}", done.about.name),
            "check its output above; it is the file that players get",
        )),
    }
}

/// Prints the document of an installation; what people read was printed before the program was started.
fn report(done: &InstallDone, ended: Option<i32>, ui: &Ui) {
    let report = &done.report;
    ui.document(&Document {
        schema: "lantern.install/1",
        folder: &done.folder,
        installed: &done.about,
        before: done.before.as_ref(),
        files: report.files,
        bytes: report.size,
        written_files: report.written,
        removed_files: report.removed,
        received_bytes: report.received,
        moved_aside: aside(&report.aside),
        left: report.left.iter().map(TreePath::as_str).collect(),
        past_unknown: report.is_past_unknown,
        exit_code: ended,
    });
}

/// Says what was repaired.
pub fn say_repaired(done: &InstallDone, ui: &Ui) {
    show(done, &done.folder, ui);
    report(done, None, ui);
}

fn aside(moved: &[Aside]) -> Vec<AsideDocument<'_>> {
    moved.iter().map(|aside| AsideDocument { path: aside.path.as_str(), to: aside.to.as_str() }).collect()
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
    let about = done.as_ref().and_then(|done| done.about.as_ref());
    let moved: &[Aside] = done.as_ref().map_or(&[], |done| &done.given_up.aside);
    let switched_back = done.as_ref().is_some_and(|done| done.given_up.was_begun);
    ui.document(&GivenUpDocument {
        schema: "lantern.install-given-up/1",
        folder,
        installed: about,
        given_up: done.is_some(),
        switched_back,
        moved_aside: aside(moved),
    });
    let what = about.map(|about| format!("{} {}", about.name, about.build.name));
    let folder = folder.display();
    ui.say(&match (&done, what) {
        (None, Some(what)) => format!("nothing to give up: {} is in {folder}, and nothing was begun", strong(what)),
        (None, None) => format!("nothing to give up in {folder}"),
        (Some(_), Some(what)) => format!("{} {} is in {folder}, as before", good("given up:"), strong(what)),
        (Some(_), None) => format!("{} {folder} is unchanged", good("given up:")),
    });
    show_aside(moved, ui);
    Ok(())
}

fn show_aside(moved: &[Aside], ui: &Ui) {
    for Aside { path, to } in moved.iter().take(MOST_SHOWN) {
        ui.say(&format!("  {} {path} is now {to}", care("moved aside:")));
    }
    if let Some(more) = moved.len().checked_sub(MOST_SHOWN).filter(|more| *more > 0) {
        ui.say(&format!("  {} {more} more, each under its name with .yours", care("moved aside:")));
    }
}

/// Most files that are named one by one; `--json` names all.
const MOST_SHOWN: usize = 20;

fn show(done: &InstallDone, folder: &Path, ui: &Ui) {
    let (about, report) = (&done.about, &done.report);
    let name = strong(format!("{} {}", about.name, about.build.name));
    if report.rolled_forward {
        ui.say(&faint("finished an update that was interrupted"));
    }
    let nothing = report.written == 0 && report.removed == 0;
    let headline = match &done.before {
        Some(before) if before.build == about.build && nothing => {
            format!("{name} is in {} already, every file as it should be", folder.display())
        }
        Some(before) if before.build == about.build => {
            let done = if before.chosen == about.chosen { "repaired" } else { "updated" };
            format!("{} {name} in {}", good(done), folder.display())
        }
        Some(before) => {
            format!("{} {} to {name} in {}", good("updated"), before.build.name, folder.display())
        }
        None => format!("{} {name} in {}", good("installed"), folder.display()),
    };
    ui.say(&headline);
    if about.chosen != Chosen::default() {
        ui.say(&format!("  {} {}", faint("choices:"), about.chosen));
    }
    if !nothing {
        let mut parts = vec![
            format!("{} came", format::bytes(report.received)),
            format!("{} written", format::count(report.written, "file", "files")),
        ];
        if report.removed > 0 {
            parts.push(format!("{} removed", report.removed));
        }
        let all =
            format!("all {} checked, {}", format::count(report.files, "file", "files"), format::bytes(report.size));
        parts.push(all);
        ui.say(&format!("  {}", parts.join(", ")));
    }
    show_aside(&report.aside, ui);
    for path in report.left.iter().take(MOST_SHOWN) {
        ui.say(&format!("  {} {path} is no longer part of the build; you changed it, so it stays", care("left:")));
    }
    if let Some(more) = report.left.len().checked_sub(MOST_SHOWN).filter(|more| *more > 0) {
        ui.say(&format!("  {} {more} more such files", care("left:")));
    }
    if report.is_past_unknown {
        let what = "the list of the earlier build's files is lost: none of them was removed";
        ui.say(&format!("  {} {what}", care("careful:")));
    }
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
