use std::path::Path;

use lantern_core::version::BuildNumber;
use lantern_project::{InitAnswers, InitStorefront, look_for_exports};
use serde::Serialize;

use super::Done;
use crate::diagnostic::CommandError;
use crate::ui::{Ui, good, strong};

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern init
  lantern init --name "Saltmarsh Post" --studio "Paper Heron" \
    --identity example.paperheron.saltmarsh --version 1.3.2 --export exports/linux"#;

/// Write a commented lantern.toml for a game
///
/// Looks for an export below this folder. Asks only what it cannot see; without a terminal it asks nothing,
/// and the options say it. An existing lantern.toml is never touched.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES, disable_version_flag = true)]
pub struct Args {
    /// The name that players see
    #[arg(long)]
    name: Option<String>,
    /// Who makes it
    #[arg(long)]
    studio: Option<String>,
    /// Reverse-domain identity, kept for ever, such as example.studio.game
    #[arg(long)]
    identity: Option<String>,
    /// The version for people, such as 1.0.0
    #[arg(long)]
    version: Option<String>,
    /// The folder that the engine writes
    #[arg(long, value_name = "DIR")]
    export: Option<String>,
    /// The last build number that was given, for a game that is out already
    #[arg(long, value_name = "N", value_parser = super::name::<BuildNumber>)]
    last_number: Option<BuildNumber>,
    /// A storefront to begin with, as NAME=ADDRESS
    #[arg(long, value_name = "NAME=ADDRESS", requires_all = ["handle", "depot", "branch"])]
    storefront: Option<String>,
    /// What that storefront calls the game
    #[arg(long, requires = "storefront")]
    handle: Option<String>,
    /// What that storefront calls the depot
    #[arg(long, requires = "storefront", value_name = "HANDLE")]
    depot: Option<String>,
    /// The branch there that every player follows
    #[arg(long, requires = "storefront")]
    branch: Option<String>,
}

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    path: String,
    text: &'a str,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let root = &ui.project;
    let export = match &args.export {
        Some(export) => export.trim_end_matches('/').to_owned(),
        None => guess_export(root, ui)?,
    };
    let answer = |given: &Option<String>, question: &str, what, option| match given {
        Some(text) => Ok(text.clone()),
        None => ui.ask(question, what, option),
    };
    let answers = InitAnswers {
        name: answer(&args.name, "The name that players see:", "the game's name", "--name")?,
        studio: answer(&args.studio, "Who makes it:", "the studio's name", "--studio")?,
        identity: answer(
            &args.identity,
            "Its identity, kept for ever (such as example.studio.game):",
            "the game's identity",
            "--identity",
        )?,
        version: answer(&args.version, "The version of this export (such as 1.0.0):", "the version", "--version")?,
        export,
        storefront: storefront(args)?,
        last_number: args.last_number,
    };
    let text = lantern_project::init(root, &answers, ui.stop.clone())?;
    let path = root.join("lantern.toml");
    ui.document(&Document { schema: "lantern.init/1", path: path.display().to_string(), text: &text });
    let lines = text.lines().count();
    ui.say(&format!(
        "{} {} for {}, {lines} lines to read and change",
        good("wrote"),
        "lantern.toml",
        strong(&answers.name)
    ));
    if let Some(last) = args.last_number {
        ui.say(&format!("build numbers go on after {last}"));
    }
    ui.next(if answers.storefront.is_some() { "lantern prepare" } else { "read lantern.toml, then: lantern prepare" });
    Ok(())
}

fn guess_export(root: &Path, ui: &Ui) -> Result<String, CommandError> {
    let seen = look_for_exports(root);
    match seen.as_slice() {
        [one] => {
            ui.say(&format!("found an export in {}", strong(&one.path)));
            Ok(one.path.clone())
        }
        [] => ui.ask("The folder that the engine writes:", "the export's folder", "--export"),
        several => {
            let names: Vec<&str> = several.iter().map(|s| s.path.as_str()).collect();
            let question = format!("Which folder does the engine write ({})?", names.join(", "));
            ui.ask(&question, "the export's folder (there are several)", "--export")
        }
    }
}

fn storefront(args: &Args) -> Result<Option<InitStorefront>, CommandError> {
    let Some(storefront) = &args.storefront else {
        return Ok(None);
    };
    let wrong = || {
        CommandError::usage(format!("{storefront:?} is not NAME=ADDRESS"), "write brambleyard=http://127.0.0.1:4870")
    };
    let (name, address) = storefront.split_once('=').ok_or_else(wrong)?;
    let text = |value: &Option<String>| value.clone().unwrap_or_default();
    Ok(Some(InitStorefront {
        name: name.to_owned(),
        address: address.to_owned(),
        handle: text(&args.handle),
        depot: text(&args.depot),
        branch: text(&args.branch),
    }))
}
