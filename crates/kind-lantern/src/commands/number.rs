use lantern_core::names::Name;
use lantern_core::version::{BuildNumber, ReleaseName};
use serde::Serialize;

use super::Done;
use crate::paint::{faint, good, strong};
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

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    next: BuildNumber,
    /// The highest that was taken so far.
    highest: Option<BuildNumber>,
    /// The storefront that showed the highest, where it was not taken here.
    seen_at: Option<&'a str>,
    /// What someone set it to, where that counts.
    set_to: Option<BuildNumber>,
    /// Numbers at storefronts that lie too far above to be followed without a word.
    far: Vec<FarDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FarDocument<'a> {
    storefront: &'a Name,
    #[serde(flatten)]
    name: &'a ReleaseName,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let shown = match args.next {
        Some(next) => super::lock(ui)?.set_next_number(next)?,
        None => super::open(ui)?.next_number()?,
    };
    ui.document(&Document {
        schema: "lantern.number/1",
        next: shown.next,
        highest: shown.highest,
        seen_at: shown.seen_at.as_deref(),
        set_to: shown.set_to,
        far: shown.far.iter().map(|far| FarDocument { storefront: &far.storefront.name, name: &far.name }).collect(),
    });
    let done = if args.next.is_some() { good("set:") } else { String::new() };
    let line = format!("{done} the next release gets the number {}", strong(shown.next));
    ui.say(line.trim_start());
    let why = match (shown.set_to, shown.highest, &shown.seen_at) {
        (Some(_), Some(highest), _) => format!("it was set; the highest so far is {highest}"),
        (Some(_), None, _) => "it was set; none was taken yet".to_owned(),
        (None, Some(highest), Some(storefront)) => format!("the highest so far is {highest}, seen at {storefront}"),
        (None, Some(highest), None) => format!("the highest so far is {highest}"),
        (None, None, _) => "none was taken yet".to_owned(),
    };
    ui.say(&format!("  {}", faint(why)));
    for far in &shown.far {
        let (storefront, name) = (&far.storefront.name, &far.name);
        ui.say(&format!("  {}", faint(format!("{storefront} has {name}, far above; numbers here do not follow it"))));
    }
    Ok(())
}
