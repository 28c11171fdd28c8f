use lantern_core::names::Name;
use lantern_core::version::ReleaseAsked;
use lantern_project::{DeviceCommand, Trial, TrialPlace};
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
  lantern try 1.4.0 --target web --port 8080
  lantern try --device"#;

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
    /// On an attached device of lantern.toml; named where there are several
    #[arg(long, value_name = "DEVICE", num_args = 0..=1, value_parser = super::name::<Name>)]
    device: Option<Option<Name>>,
    /// You put it on a device yourself, or have: only your answer is recorded
    #[arg(long, requires = "target", conflicts_with = "device")]
    by_hand: bool,
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
    let device = match &args.device {
        Some(asked) => Some(session.device(asked.as_ref())?),
        None => None,
    };
    let place = match &device {
        Some((_, systems)) => TrialPlace::Elsewhere(systems.clone()),
        None if args.by_hand => TrialPlace::Elsewhere(Vec::new()),
        None => TrialPlace::Here,
    };
    let tried = session.lay_out_trial(release, args.target.as_ref(), &place, &ui.progress())?;
    let command = device.map(|(name, _)| session.device_command(&name, &tried)).transpose()?;
    // Anyone who plays may play for long: the others can work meanwhile.
    drop(session);
    ui.show(&trial::laid_out(&tried));
    let (exit_code, yes) = if let Some(command) = command {
        on_device(&command, args, ui)?
    } else if args.by_hand {
        ui.say(&format!("  {}", faint(tried.folder.display())));
        ui.say("  put it on a device with your platform's own device program, and look at the first screen");
        (None, args.yes || ask(ui)?)
    } else if tried.is_for_browser() {
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

/// Puts it on a device, and asks what it shows there.
fn on_device(command: &DeviceCommand, args: &Args, ui: &Ui) -> Result<(Option<i32>, bool), CommandError> {
    let here = std::env::current_dir().map_err(|error| CommandError::io("find this folder", error))?;
    match super::start_program(&command.program, &command.arguments, &here, ui)? {
        None => Err(CommandError::computer(
            format!("the command of {} was ended by a signal; nothing is recorded", command.device),
            "try it again",
        )),
        // What the device program says is no word about the game.
        Some(code) if code != 0 => Err(CommandError::computer(
            format!("the command of {} ended with exit code {code}; nothing is recorded", command.device),
            "check that the device is attached, and run = […] in lantern.toml",
        )),
        Some(_) => Ok((None, args.yes || ask(ui)?)),
    }
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
