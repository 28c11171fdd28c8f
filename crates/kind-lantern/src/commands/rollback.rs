use lantern_core::names::Name;

use super::{Done, moving};
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern rollback brambleyard open-water --plan
  lantern rollback brambleyard open-water --confirm "1.3.2 (25)" --comment "saves are lost""#;

/// Put back what a branch had before
///
/// What was there before is what the storefront's own history says. Doing it again goes back one further; it never goes
/// forth again by itself. The plan and the question are those of promote.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml
    storefront: String,
    /// The branch there
    #[arg(value_parser = super::name::<Name>)]
    branch: Name,
    #[command(flatten)]
    options: moving::Options,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut project = super::lock(ui)?;
    let plan = project.plan_rollback(
        &args.storefront,
        &project.open.project.first_edition(),
        &args.branch,
        args.options.confirmed(),
        args.options.comment.clone(),
    )?;
    moving::run(&mut project, &plan, &args.options, ui)
}
