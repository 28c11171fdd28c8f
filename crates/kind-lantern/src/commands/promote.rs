use lantern_core::names::Name;
use lantern_core::version::ReleaseAsked;

use super::{Done, branch_move};
use crate::options::{EditionArg, TargetsArg};
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern promote brambleyard open-water --plan
  lantern promote brambleyard open-water 1.4.0 --confirm "1.4.0 (27)""#;

/// Put a pushed release on a branch that players follow
///
/// Shows what replaces what and how much each player downloads, and asks. For a branch that everyone follows, the
/// release's name must be typed or given with --confirm; --yes is not enough there. If someone else moves the branch
/// in between, nothing is done. With --target only these targets are moved, and the others stay as they are.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml; may be left out where there is only one
    storefront: String,
    /// The branch there
    #[arg(value_parser = super::name::<Name>)]
    branch: Name,
    /// Which release: 1.4.0, 27, or "1.4.0 (27)". Left out: the newest
    #[arg(value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    #[command(flatten)]
    targets: TargetsArg,
    /// Although someone tried it and said that it does not show what it should
    #[arg(long)]
    anyway: bool,
    #[command(flatten)]
    options: branch_move::Options,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut session = super::lock_about(&args.targets, ui)?;
    session.project().storefront(&args.storefront)?;
    let release = session.release_at(&args.storefront, args.release.as_ref())?;
    let plan = session.plan_promote(&args.storefront, &args.branch, release, args.options.because.clone())?;
    session.project_mut().only_targets(&[])?;
    branch_move::run(&mut session, &plan, &args.options, args.anyway, ui)
}
