use std::collections::BTreeMap;
use std::path::Path;

use lantern_core::config::Audience;
use lantern_core::names::{Identity, is_placeholder_identity};
use lantern_core::path::shown;
use lantern_core::version::BuildNumber;
use lantern_core::version::Version;
use lantern_project::{
    EXPORT_FOLDERS, FoundExports, InitAnswers, InitDraft, InitStorefront, ProjectError, SeenExport, detect_export,
    target_names,
};
use lantern_views::View;
use lantern_views::init;
use lantern_views::paint::faint;

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
    let mut asks = Asks { ui, root, is_first: true, is_spaced: false, draft: InitDraft::load(root) };
    let exports = match args.export.is_empty() {
        false => args.export.iter().map(|export| find_export(root, export)).collect::<Result<_, _>>()?,
        true => find_exports(&mut asks)?,
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
    let answers = InitAnswers {
        name: asks.answer(&args.name, &NAME, &any)?,
        studio: asks.answer(&args.studio, &STUDIO, &any)?,
        identity: asks.answer(&args.identity, &IDENTITY, &identity)?,
        version: asks.answer(&args.version, &VERSION, &version)?,
        storefront: storefront(args, &target_names(&exports))?,
        exports,
        next_number: args.next_number,
    };
    if !asks.is_first {
        ui.say("");
    }
    let text = lantern_project::init(root, &answers, ui.stop.clone())?;
    ui.answer(&init::document(&path, &text), &init::view(&answers, &text));
    Ok(())
}

/// A question.
struct Question {
    /// What it is for, in one line.
    why: &'static str,
    asks: &'static str,
    /// For the error where nobody can be asked.
    what: &'static str,
    option: &'static str,
    /// Where the answer is kept meanwhile.
    kept: fn(&mut InitDraft) -> &mut Option<String>,
}

const EXPORT: Question = Question {
    why: "What the engine writes for players: a folder, an archive or a package. It is only ever read.",
    asks: "The export",
    what: "the export",
    option: "--export",
    kept: |draft| &mut draft.export,
};

const NAME: Question = Question {
    why: "Players see it where they install the game. You can change it later.",
    asks: "The game's name",
    what: "the game's name",
    option: "--name",
    kept: |draft| &mut draft.name,
};

const STUDIO: Question = Question {
    why: "You, your company, or the name that you publish under.",
    asks: "Who makes it",
    what: "the studio's name",
    option: "--studio",
    kept: |draft| &mut draft.studio,
};

const IDENTITY: Question = Question {
    why: "Distinguishes this game from every other, and never changes: your domain backwards and the game, such as example.paperheron.saltmarsh.",
    asks: "Its identity",
    what: "the game's identity",
    option: "--identity",
    kept: |draft| &mut draft.identity,
};

const VERSION: Question = Question {
    why: "What people call this release, such as 1.0.0. The number that orders releases is counted for you.",
    asks: "Its version",
    what: "the version",
    option: "--version",
    kept: |draft| &mut draft.version,
};

/// Questions, each of which is asked until its answer is one.
struct Asks<'a> {
    ui: &'a Ui,
    root: &'a Path,
    is_first: bool,
    /// Whether the last that was shown ended with an empty line.
    is_spaced: bool,
    draft: InitDraft,
}

impl Asks<'_> {
    fn answer(
        &mut self,
        given: &Option<String>,
        question: &Question,
        check: &dyn Fn(&str) -> Result<(), String>,
    ) -> Result<String, CommandError> {
        // What was given as an option is checked with everything else.
        if let Some(text) = given {
            return Ok(text.clone());
        }
        let before = (question.kept)(&mut self.draft).clone().filter(|text| check(text).is_ok());
        if self.ui.can_ask() {
            if std::mem::take(&mut self.is_first) {
                self.ui.say("A few questions. The answers stand in lantern.toml afterwards.");
                if self.draft != InitDraft::default() {
                    self.ui.say("What you answered before stands in brackets: Enter takes it.");
                }
            }
            let mut view = View::default();
            if !std::mem::take(&mut self.is_spaced) {
                view.space();
            }
            view.column("", 0, faint(question.why));
            self.ui.show(&view);
        }
        let asked = match &before {
            Some(before) => format!("{} [{before}]:", question.asks),
            None => format!("{}:", question.asks),
        };
        loop {
            let text = self.ui.ask(&asked, question.what, question.option)?;
            let text = if text.is_empty() { before.clone().unwrap_or_default() } else { text };
            match check(&text) {
                Ok(()) => {
                    *(question.kept)(&mut self.draft) = Some(text.clone());
                    self.draft.keep(self.root)?;
                    return Ok(text);
                }
                Err(why) => self.ui.say(&format!("  {why}")),
            }
        }
    }
}

fn find_export(root: &Path, given: &str) -> Result<SeenExport, CommandError> {
    let given = given.trim_end_matches('/');
    // A pattern may match nothing yet.
    if !given.contains('*') && std::fs::symlink_metadata(root.join(given)).is_err() {
        let what = format!("there is nothing at {}", shown(given));
        return Err(CommandError::usage(what, "export the game first; a path starts at the game's folder"));
    }
    Ok(detect_export(root, given))
}

/// Every export that can be seen; one that cannot is asked for.
fn find_exports(asks: &mut Asks<'_>) -> Result<Vec<SeenExport>, CommandError> {
    let (root, ui) = (asks.root, asks.ui);
    let FoundExports { seen, without_start } = lantern_project::find_exports(root);
    // Two exports for one system are two versions, or one of them is something else: no guess is good here.
    let systems = |export: &SeenExport| export.starts.iter().map(|(_, system)| *system).collect::<Vec<_>>();
    let is_of_same = |one: &SeenExport, other: &SeenExport| {
        one.path != other.path && systems(one).iter().any(|system| systems(other).contains(system))
    };
    let (twice, mut clear): (Vec<SeenExport>, Vec<SeenExport>) =
        seen.iter().cloned().partition(|one| seen.iter().any(|other| is_of_same(one, other)));
    if !seen.is_empty() && twice.is_empty() {
        ui.show(&init::found(&seen, &without_start));
        return Ok(seen);
    }
    let what = if twice.is_empty() {
        let folders = EXPORT_FOLDERS.map(|begin| format!("{begin}…")).join(", ");
        ui.aside(&format!("found no export here, nor in a folder whose name begins with {folders}"));
        "the export"
    } else {
        let names: Vec<String> = twice.iter().map(|export| shown(&export.path)).collect();
        ui.aside(&format!("found several exports for one system: {}. Which one do players get?", names.join(", ")));
        "the export (there are several for one system)"
    };
    let export = asks.answer(&None, &Question { what, ..EXPORT }, &|text| {
        let is_there = !text.is_empty() && find_export(root, text).is_ok();
        if is_there {
            Ok(())
        } else {
            Err("there is nothing of this name; a path starts at the game's folder".to_owned())
        }
    })?;
    clear.push(find_export(root, &export)?);
    clear.sort_by(|one, other| one.path.cmp(&other.path));
    ui.show(&init::found(&clear, &without_start));
    asks.is_spaced = true;
    Ok(clear)
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
