use lantern_core::version::BuildNumber;
use lantern_views::number;

use super::Done;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern number
  lantern number --next 28"#;

/// Show the build number of the next release, or set it
///
/// Numbers only rise: the next one is above all that were taken here, and above the highest that any storefront has shown.
/// Setting it leaves a gap, which does no harm; as long as no release has taken it, it can be set again. A number at a
/// storefront that is far above is followed only when it is set so, and a jump can be taken back the same way.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The next release gets this number
    #[arg(long, value_name = "N", value_parser = super::name::<BuildNumber>)]
    next: Option<BuildNumber>,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let shown = match args.next {
        Some(next) => super::lock(ui)?.set_next_number(next)?,
        None => super::open(ui)?.next_number()?,
    };
    ui.answer(&number::document(&shown), &number::view(&shown, args.next.is_some()));
    Ok(())
}
