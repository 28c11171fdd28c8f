use lantern_core::names::Name;
use lantern_core::version::ReleaseAsked;
use lantern_project::{MoveError, ProjectError};
use lantern_views::moves;
use lantern_views::paint::strong;

use super::{Done, branch_move};
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern rollback brambleyard open-water --plan
  lantern rollback brambleyard open-water 1.3.2 --confirm "1.3.2 (25)" --because "saves are lost""#;

/// Put back what a branch had before
///
/// What was there before is what the storefront's own history says. With a release: that one, and nothing is done where
/// the branch has it already. Without: what it had before what it has now. Right after a rollback it asks for the release,
/// so that the same command twice does not go back twice. The plan and the question are those of promote.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml; may be left out where there is only one
    storefront: String,
    /// The branch there
    #[arg(value_parser = super::name::<Name>)]
    branch: Name,
    /// Which release to go back to: 1.3.2, 25, or "1.3.2 (25)". Left out: what the branch had before
    #[arg(value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    #[command(flatten)]
    options: branch_move::Options,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut session = super::lock(ui)?;
    let edition = session.project().first_edition();
    let mut plan = |wanted: Option<&ReleaseAsked>| {
        let (confirmed, because) = (args.options.confirmed(), args.options.because.clone());
        session.plan_rollback(&args.storefront, &edition, &args.branch, wanted, confirmed, because)
    };
    let plan = match plan(args.release.as_ref()) {
        // Anyone who is there to be asked says which release is meant, and that one it is.
        Err(ProjectError::Move(MoveError::WentBack(back))) => match &back.next {
            Some(next) if ui.can_ask() => {
                ui.show(&moves::went_back(&back));
                let question = format!("Go back once more, to {}? (y/n)", strong(next));
                if !super::yes_or_no(ui, &question, "the release to go back to", "RELEASE")? {
                    return Err(CommandError::declined("nothing was changed", ui));
                }
                plan(Some(&ReleaseAsked::Name(next.clone())))?
            }
            _ => return Err(ProjectError::from(MoveError::WentBack(back)).into()),
        },
        other => other?,
    };
    branch_move::run(&mut session, &plan, &args.options, false, ui)
}
