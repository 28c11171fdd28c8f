use std::fs;
use std::path::Path;

use clap::Subcommand;
use lantern_core::by_hand::{Draft, HandForm};
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::step::length_of_time;
use lantern_project::ProjectError;
use lantern_store::durable;
use lantern_views::storefronts;

use super::Done;
use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern storefronts
  lantern storefronts new old-pier
  lantern storefronts try gull-rock"#;

/// List the storefronts, write the rules of a new one, or try a connector
///
/// Each with its kind, where it is and its branches, as lantern.toml has them.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    #[command(subcommand)]
    action: Option<Action>,
}

#[derive(Debug, Subcommand)]
enum Action {
    /// Write the rules of a storefront without an interface for programs, by asking
    ///
    /// Writes places/NAME.toml with comments, and adds the storefront to the end of lantern.toml. What is not asked for at a
    /// terminal, or given as an option, has a plain answer.
    New(New),
    /// Try a connector with a small sample, and say what it got wrong
    ///
    /// It is asked for everything that a push asks for, twice where once has to be enough. The sample, a text of 73
    /// bytes, is really brought there and stays.
    Try(Try),
}

#[derive(Debug, clap::Args)]
struct New {
    /// Its name in lantern.toml
    #[arg(value_parser = super::name::<Name>)]
    name: Name,
    /// Its name for people
    #[arg(long, value_name = "TEXT")]
    called: Option<String>,
    /// Where people open it
    #[arg(long, value_name = "ADDRESS")]
    address: Option<String>,
    /// What it wants: folder, zip, tar.gz or package
    #[arg(long, value_name = "FORM", value_parser = form)]
    form: Option<HandForm>,
    /// How long it usually takes until they answer, such as "6 days"
    #[arg(long, value_name = "TIME")]
    usual_wait: Option<String>,
    /// It gives each release a number
    #[arg(long)]
    gives_number: bool,
    /// The old file has to go before the new one may come
    #[arg(long)]
    one_at_a_time: bool,
}

#[derive(Debug, clap::Args)]
struct Try {
    /// The storefront's name in lantern.toml
    storefront: String,
    /// Agree without being asked
    #[arg(long)]
    yes: bool,
}

fn form(text: &str) -> Result<HandForm, String> {
    match text {
        "folder" => Ok(HandForm::Folder),
        "zip" => Ok(HandForm::Zip),
        "tar.gz" => Ok(HandForm::TarGz),
        "package" => Ok(HandForm::Package),
        _ => Err("one of folder, zip, tar.gz, package".to_owned()),
    }
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    match &args.action {
        None => {
            let project = super::find(ui)?;
            ui.answer(&storefronts::document(project.config()), &storefronts::view(project.config()));
            Ok(())
        }
        Some(Action::New(args)) => new(args, ui),
        Some(Action::Try(args)) => trial(args, ui),
    }
}

fn trial(args: &Try, ui: &Ui) -> Done {
    let open = super::open(ui)?;
    open.project.storefront(&args.storefront)?;
    let question = format!("This brings a sample of 73 bytes to {}. Go on? (y/n)", args.storefront);
    if !args.yes && !super::yes_or_no(ui, &question, "your yes", "--yes")? {
        return Err(CommandError::declined("nothing was tried", ui));
    }
    let checks = open.try_connector(&args.storefront, &ui.progress())?;
    ui.answer(&storefronts::trial_document(&args.storefront, &checks), &storefronts::trial(&checks));
    match checks.iter().filter(|check| check.result.is_err()).count() {
        0 => {
            ui.next(format!("lantern push {}", args.storefront));
            Ok(())
        }
        1 => Err(CommandError::findings("1 answer is not what it should be").said_in(ui)),
        count => Err(CommandError::findings(format!("{count} answers are not what they should be")).said_in(ui)),
    }
}

fn new(args: &New, ui: &Ui) -> Done {
    let project = super::find(ui)?;
    // One that is in lantern.toml already may lack its rules alone.
    let known = project.config().storefronts.get(&args.name);
    let lacking = known.and_then(|at| at.by_hand()).and_then(|hand| hand.rules.clone());
    let file = lacking.clone().unwrap_or_else(|| format!("places/{}.toml", args.name));
    let (path, config) = (project.root().join(&file), project.root().join(lantern_core::config::FILE_NAME));
    if known.is_some() && lacking.is_none() {
        let what = format!("lantern.toml has a storefront {} already", args.name);
        return Err(CommandError::usage(what, "choose another name, or write its rules into the file that it names"));
    }
    if fs::symlink_metadata(&path).is_ok() {
        return Err(CommandError::usage(format!("{file} is there already"), "choose another name, or remove the file"));
    }
    let draft = draft(args, ui)?;
    if lacking.is_some() {
        return write_rules(args, (&path, &file), &draft, ui);
    }
    let text = durable::read_limited(&config, lantern_core::config::MAX_CONFIG_LEN).map_err(ProjectError::from)?;
    let mut text = String::from_utf8_lossy(&text).into_owned();
    if !text.ends_with('\n') {
        text.push('\n');
    }
    text += &format!("\n[storefronts.{}]\nkind = \"by-hand\"\nrules = \"{file}\"\n", args.name);
    text += &format!("\n[storefronts.{}.branches]\npublic = {{ audience = \"everyone\" }}\n", args.name);
    if let Some(folder) = path.parent() {
        durable::create_folders(folder).map_err(ProjectError::from)?;
    }
    durable::write_whole(&path, draft.text().as_bytes()).map_err(ProjectError::from)?;
    durable::write_whole(&config, text.as_bytes()).map_err(ProjectError::from)?;
    let project = super::find(ui)?;
    ui.document(&storefronts::document(project.config()));
    ui.say(&format!("wrote {file}, and [storefronts.{}] at the end of lantern.toml", args.name));
    ui.say("  its steps are a beginning: write them as you do them");
    ui.next(format!("lantern push {} --plan", args.name));
    Ok(())
}

/// Writes the rules that a storefront of lantern.toml lacks.
fn write_rules(args: &New, (path, file): (&Path, &str), draft: &Draft, ui: &Ui) -> Done {
    if let Some(folder) = path.parent() {
        durable::create_folders(folder).map_err(ProjectError::from)?;
    }
    durable::write_whole(path, draft.text().as_bytes()).map_err(ProjectError::from)?;
    ui.document(&storefronts::document(super::find(ui)?.config()));
    ui.say(&format!("wrote {file}"));
    ui.next(format!("lantern push {} --plan", args.name));
    Ok(())
}

fn draft(args: &New, ui: &Ui) -> Result<Draft, CommandError> {
    let asks = ui.can_ask();
    let line = |question: &str| -> Result<Option<String>, CommandError> {
        let answer = ui.ask(question, "an answer", "--called")?;
        Ok(Some(answer).filter(|answer| !answer.is_empty()))
    };
    let yes = |question: &str, given: bool| -> Result<bool, CommandError> {
        if given || !asks { Ok(given) } else { super::yes_or_no(ui, question, "your yes", "--yes") }
    };
    let name = match &args.called {
        None if asks => line("What do people call it?")?,
        called => called.clone(),
    };
    let address = match &args.address {
        None if asks => line("Where do people open it? (an address, or nothing)")?,
        address => address.clone(),
    };
    let form = match args.form {
        Some(form) => form,
        None if asks => loop {
            match line("What does it want: folder, zip, tar.gz or package? (zip)")?.as_deref().map(form) {
                None => break HandForm::Zip,
                Some(Ok(form)) => break form,
                Some(Err(why)) => ui.say(&format!("  {why}")),
            }
        },
        None => HandForm::Zip,
    };
    let gives_number = yes("Does it give each release a number? (y/n)", args.gives_number)?;
    let one_at_a_time = yes("Does the old file have to go before the new one may come? (y/n)", args.one_at_a_time)?;
    let waits = args.usual_wait.is_some() || yes("Do they have to answer before players have it? (y/n)", false)?;
    let usual_wait = match &args.usual_wait {
        None if asks && waits => loop {
            match line("How long does that usually take? (such as 6 days, or nothing)")? {
                Some(text) if length_of_time(&text).is_none() => ui.say("  write a time such as 6 days"),
                found => break found,
            }
        },
        wait => wait.clone(),
    };
    if let Some(wait) = usual_wait.as_ref().filter(|wait| length_of_time(wait).is_none()) {
        let what = format!("{:?} is not a length of time", shown(wait));
        return Err(CommandError::usage(what, "write --usual-wait \"6 days\""));
    }
    Ok(Draft {
        name: name.unwrap_or_else(|| args.name.to_string()),
        address,
        form,
        has_top: true,
        gives_number,
        one_at_a_time,
        waits,
        usual_wait,
    })
}
