use std::collections::BTreeMap;

use lantern_project::{AskedAll, LiveStorefront, Project};
use lantern_views::Next;
use lantern_views::live::{self, Live};

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern live
  lantern live --fresh --json > live.json
  lantern live --offline"#;

/// Show which release is live where
///
/// Asks the storefronts first and records what someone else changed. One that does not answer is shown as it was when
/// it last answered.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// Ask no storefront; show what is known here
    #[arg(long)]
    offline: bool,
    /// End with exit code 4 unless every storefront was asked just now and answered
    #[arg(long, conflicts_with = "offline")]
    fresh: bool,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let open = super::open(ui)?;
    let asked = if args.offline {
        AskedAll { workspace: open, heard: BTreeMap::new(), not_asked: None }
    } else {
        open.ask_all()?
    };
    if let Some(why) = asked.not_asked {
        ui.show_aside(&live::not_asked(why));
    }
    let (open, mut storefronts) = (asked.workspace, Vec::new());
    for edition in open.project.editions() {
        storefronts.extend(open.live(&edition)?);
    }
    let live = Live {
        game: &open.project.config().game.name,
        storefronts: &storefronts,
        heard: &asked.heard,
        now: lantern_project::now(),
    };
    ui.answer(&live::document(&live), &live::view(&live, open.project.has_editions()));
    super::next(&open, ui, otherwise(&open.project, &storefronts))?;
    match live.old().filter(|_| args.fresh) {
        Some(old) => Err(CommandError::unreachable(format!("{old} did not answer")).said_in(ui)),
        None => Ok(()),
    }
}

/// What is said where all is done.
fn otherwise(project: &Project, storefronts: &[LiveStorefront]) -> Next {
    let of_first = storefronts.iter().find(|live| !live.by_hand).and_then(|first| {
        let configured = project.config().storefronts.get(&first.storefront)?;
        Some((&first.storefront, &configured.branches.last()?.0))
    });
    match of_first {
        Some((name, branch)) => Next::of(format!("lantern install {name} {branch} DIR"), "gets it as a player does"),
        None => super::ASK_THEM,
    }
}
