use std::collections::BTreeMap;
use std::path::Path;

use lantern_core::config::Audience;
use lantern_core::names::{Identity, is_placeholder_identity};
use lantern_core::version::BuildNumber;
use lantern_core::version::Version;
use lantern_project::{
    EXPORT_FOLDERS, FoundExports, InitAnswers, InitStorefront, ProjectError, SeenExport, detect_export, target_names,
};
use lantern_views::init;

use super::Done;
use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern init
  lantern init --name "Saltmarsh Post" --studio "Paper Heron" \
    --identity example.paperheron.saltmarsh --version 1.3.2 --export exports/linux"#;

/// Write a commented lantern.toml for a game
///
/// Looks for exports below this folder, one target each: folders, archives, packages; what starts them is found in them.
/// Asks only what it cannot see; without a terminal it asks nothing, and the options say it. An existing lantern.toml
/// is never touched.
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
    /// What the engine writes: a folder, an archive or a package; again for more
    #[arg(long, value_name = "PATH")]
    export: Vec<String>,
    /// The build number of the first release, for a game that is out already: above the last that was given
    #[arg(long, value_name = "N", value_parser = super::name::<BuildNumber>)]
    next_number: Option<BuildNumber>,
    /// A storefront to begin with, as NAME=ADDRESS
    #[arg(long, value_name = "NAME=ADDRESS", requires_all = ["handle", "depot", "branch"])]
    storefront: Option<String>,
    /// What that storefront calls the game
    #[arg(long, requires = "storefront")]
    handle: Option<String>,
    /// What that storefront calls the depot of a target, as TARGET=HANDLE; again for more. HANDLE by itself is that of the
    /// only target
    #[arg(long, requires = "storefront", value_name = "TARGET=HANDLE")]
    depot: Vec<String>,
    /// A branch there, as BRANCH or BRANCH=AUDIENCE (everyone, invited); again for more
    #[arg(long, requires = "storefront", value_name = "BRANCH=AUDIENCE")]
    branch: Vec<String>,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let root = &ui.project;
    // Before any question: nothing would come of the answers.
    let path = root.join("lantern.toml");
    if std::fs::symlink_metadata(&path).is_ok() {
        return Err(ProjectError::AlreadyThere(path).into());
    }
    let exports = match args.export.is_empty() {
        false => args.export.iter().map(|export| find_export(root, export)).collect::<Result<_, _>>()?,
        true => find_exports(root, ui)?,
    };
    let any = |text: &str| if text.trim().is_empty() { Err("something has to stand here".to_owned()) } else { Ok(()) };
    let identity = |text: &str| match text.parse::<Identity>() {
        Err(error) => Err(error.to_string()),
        Ok(identity) if is_placeholder_identity(&identity) => {
            Err(format!("{text} is what templates have; take your own domain, backwards"))
        }
        Ok(_) => Ok(()),
    };
    let version = |text: &str| text.parse::<Version>().map(|_| ()).map_err(|error| error.to_string());
    let mut asks = Asks { ui, is_first: true };
    let answers = InitAnswers {
        name: asks.answer(&args.name, ("The name that players see:", "the game's name", "--name"), &any)?,
        studio: asks.answer(&args.studio, ("Who makes it:", "the studio's name", "--studio"), &any)?,
        identity: asks.answer(
            &args.identity,
            (
                "Its identity, kept for ever (your domain backwards and the game, such as example.paperheron.saltmarsh):",
                "the game's identity",
                "--identity",
            ),
            &identity,
        )?,
        version: asks.answer(
            &args.version,
            ("The version of this export (such as 1.0.0):", "the version", "--version"),
            &version,
        )?,
        storefront: storefront(args, &target_names(&exports))?,
        exports,
        next_number: args.next_number,
    };
    let text = lantern_project::init(root, &answers, ui.stop.clone())?;
    ui.answer(&init::document(&path, &text), &init::view(&answers, &text));
    Ok(())
}

/// Questions, each of which is asked until its answer is one.
struct Asks<'a> {
    ui: &'a Ui,
    is_first: bool,
}

impl Asks<'_> {
    fn answer(
        &mut self,
        given: &Option<String>,
        (question, what, option): (&str, &str, &str),
        check: &dyn Fn(&str) -> Result<(), String>,
    ) -> Result<String, CommandError> {
        // What was given as an option is checked with everything else.
        if let Some(text) = given {
            return Ok(text.clone());
        }
        if std::mem::take(&mut self.is_first) && self.ui.can_ask() {
            self.ui.say("A few questions; every answer stands in lantern.toml afterwards and can be changed there.\n");
        }
        loop {
            let text = self.ui.ask(question, what, option)?;
            match check(&text) {
                Ok(()) => return Ok(text),
                Err(why) => self.ui.say(&format!("  {why}")),
            }
        }
    }
}

fn find_export(root: &Path, given: &str) -> Result<SeenExport, CommandError> {
    let given = given.trim_end_matches('/');
    // A pattern may match nothing yet.
    if !given.contains('*') && std::fs::symlink_metadata(root.join(given)).is_err() {
        let what = format!("there is nothing at {}", lantern_core::path::shown(given));
        return Err(CommandError::usage(what, "export the game first; a path starts at the game's folder"));
    }
    Ok(detect_export(root, given))
}

/// Every export that can be seen; one that cannot is asked for.
fn find_exports(root: &Path, ui: &Ui) -> Result<Vec<SeenExport>, CommandError> {
    let FoundExports { seen, without_start } = lantern_project::find_exports(root);
    if seen.is_empty() {
        let folders = EXPORT_FOLDERS.map(|begin| format!("{begin}…")).join(", ");
        ui.aside(&format!("found no export here, nor in a folder whose name begins with {folders}"));
        let asked =
            ui.ask("What does the engine write (a folder, an archive, a package)?", "the export", "--export")?;
        return Ok(vec![find_export(root, &asked)?]);
    }
    // Two exports for one system are two versions, or one of them is something else: no guess is good here.
    let systems = |export: &SeenExport| export.starts.iter().map(|(_, system)| *system).collect::<Vec<_>>();
    let is_twice = |(i, export): (usize, &SeenExport)| {
        seen[..i].iter().any(|other| systems(other).iter().any(|system| systems(export).contains(system)))
    };
    if seen.iter().enumerate().any(is_twice) {
        let names: Vec<&str> = seen.iter().map(|s| s.path.as_str()).collect();
        let question = format!("Which of these does the engine write for players ({})?", names.join(", "));
        let asked = ui.ask(&question, "the export (there are several for one system)", "--export")?;
        return Ok(vec![find_export(root, &asked)?]);
    }
    ui.show(&init::found(&seen, &without_start));
    Ok(seen)
}

fn storefront(args: &Args, targets: &[String]) -> Result<Option<InitStorefront>, CommandError> {
    let Some(storefront) = &args.storefront else {
        return Ok(None);
    };
    let wrong = || {
        CommandError::usage(format!("{storefront:?} is not NAME=ADDRESS"), "write brambleyard=http://127.0.0.1:4870")
    };
    let (name, address) = storefront.split_once('=').ok_or_else(wrong)?;
    let mut depots = BTreeMap::new();
    for depot in &args.depot {
        let (target, handle) = match (depot.split_once('='), targets) {
            (Some((target, handle)), _) => (target, handle),
            (None, [only]) => (only.as_str(), depot.as_str()),
            (None, _) => {
                let what = format!("--depot {depot:?} does not say whose depot it is");
                let fix = format!("write TARGET=HANDLE; the targets are {}", targets.join(", "));
                return Err(CommandError::usage(what, fix));
            }
        };
        depots.insert(target.to_owned(), handle.to_owned());
    }
    let mut branches = Vec::new();
    for branch in &args.branch {
        let (branch, audience) = branch.split_once('=').unwrap_or((branch, Audience::Everyone.name()));
        let known = [Audience::Everyone, Audience::Invited];
        let audience = known.into_iter().find(|known| known.name() == audience).ok_or_else(|| {
            let what = format!("{audience:?} is not an audience");
            CommandError::usage(what, "write BRANCH=everyone or BRANCH=invited")
        })?;
        branches.push((branch.to_owned(), audience));
    }
    Ok(Some(InitStorefront {
        name: name.to_owned(),
        address: address.to_owned(),
        handle: args.handle.clone().unwrap_or_default(),
        depots,
        branches,
    }))
}
