use lantern_core::names::Name;
use lantern_core::version::ReleaseAsked;
use lantern_project::Trial;
use lantern_rehearsal::page::Page;
use lantern_views::paint::{command, faint};
use lantern_views::trial;

use super::Done;
use super::rehearse::failed;
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern try
  lantern try 1.4.0 --target web --port 8080"#;

/// Start exactly what was sealed, and record your yes
///
/// A program of this computer is started from the sealed files; a browser build is shown by a local web server with the
/// right types and headers. Look at the first screen, then say yes or no: the answer belongs to this very build.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// Which release: 1.4.0, 27, or "1.4.0 (27)". Left out: the newest
    #[arg(value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    /// Which target, if not the one for this computer
    #[arg(long, value_parser = super::name::<Name>)]
    target: Option<Name>,
    /// The port of the web server on 127.0.0.1; 0 takes a free one
    #[arg(long, default_value_t = 0)]
    port: u16,
    /// Say beforehand that a program which ends well shows what it should
    #[arg(long)]
    yes: bool,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let session = super::lock(ui)?;
    let release = session.workspace().release(args.release.as_ref())?;
    let tried = session.lay_out_trial(release, args.target.as_ref(), &ui.progress())?;
    // Anyone who plays may play for long: the others can work meanwhile.
    drop(session);
    ui.show(&trial::laid_out(&tried));
    let (exit_code, yes) = if tried.is_for_browser() {
        if ui.json || args.yes {
            let what = "a browser build has to be looked at by a person";
            return Err(CommandError::usage(what, "run it on a terminal, without --json and --yes"));
        }
        (None, open_page(&tried, args.port, ui)?)
    } else {
        let (program, arguments, folder) = tried.command();
        let code = super::start_program(&program, &arguments, &folder, ui)?;
        let Some(code) = code else {
            return Err(CommandError::computer(
                format!("{} was ended by a signal; nothing is recorded", tried.start.file),
                "try it again",
            ));
        };
        let yes = if code == 0 { args.yes || ask(ui)? } else { false };
        (Some(code), yes)
    };
    super::lock_waiting(ui)?.record_trial(&tried, yes)?;
    ui.document(&trial::document(&tried, exit_code, yes));
    if let Some(code) = exit_code.filter(|code| *code != 0) {
        let what = format!("{} ended with exit code {code}", tried.start.file);
        return Err(CommandError::damaged(what, "check its output above; it is the file that players get"));
    }
    ui.show(&trial::recorded(&tried, yes));
    Ok(())
}

fn ask(ui: &Ui) -> Result<bool, CommandError> {
    super::yes_or_no(ui, "Did it show the right first screen? (y/n)", "your yes", "--yes")
}

fn open_page(trial: &Trial, port: u16, ui: &Ui) -> Result<bool, CommandError> {
    let page = Page::start(&trial.folder, port).map_err(failed(&format!("listen on port {port}")))?;
    let address = format!("{}/{}", page.origin(), trial.start.file.as_str());
    ui.say(&format!("\nopen in a browser: {}", command(address)));
    ui.say(&faint("it is shown until you answer"));
    ask(ui)
}
