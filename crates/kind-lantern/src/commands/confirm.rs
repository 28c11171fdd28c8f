use lantern_core::event::StepStanding;
use lantern_core::names::Name;
use lantern_core::version::ReleaseAsked;
use lantern_project::{OpenWalk, ProjectError, Session, StepsError, check_answers, waiting_since};
use lantern_views::steps;

use super::{Done, by_hand};
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern confirm old-pier
  lantern confirm old-pier letter --read-back number-there=12"#;

/// Record what was done by hand at a storefront
///
/// Without a step it goes on with what was begun there: at a terminal it asks step by step, otherwise it writes the steps as
/// text and as a page. With a step it records that this one is done, left out, waiting, or to be done again. When
/// all steps are done or left out, the board has what they come to.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml; may be left out where there is only one
    storefront: String,
    /// The step, as the plan and the sheets name it
    step: Option<String>,
    /// What was read there, as KEY=TEXT; may be given several times
    #[arg(long, value_name = "KEY=TEXT", value_parser = key_and_text, requires = "step")]
    read_back: Vec<(String, String)>,
    /// It is left out; needs --because
    #[arg(long, requires = "step", requires = "because", conflicts_with_all = ["read_back", "waiting", "again"])]
    skip: bool,
    /// It was asked for there, and is done when they have answered
    #[arg(long, requires = "step", conflicts_with_all = ["read_back", "again"])]
    waiting: bool,
    /// It is to be done again: takes back what was said of it
    #[arg(long, requires = "step", conflicts_with = "read_back")]
    again: bool,
    /// Ends what was begun without a result; needs --because
    #[arg(long, requires = "because", conflicts_with = "step")]
    give_up: bool,
    /// Why, for your team
    #[arg(long, value_name = "TEXT")]
    because: Option<String>,
    /// Which release is meant, where several are on their way
    #[arg(long, value_name = "RELEASE", value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    #[command(flatten)]
    pub edition: EditionArg,
}

fn key_and_text(text: &str) -> Result<(String, String), String> {
    let (key, text) = text.split_once('=').ok_or("write it as KEY=TEXT")?;
    Ok((key.trim().to_owned(), text.to_owned()))
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut session = super::lock_waiting(ui)?;
    if let Some(ended) = ended(args, &session)? {
        ui.answer(&steps::document([]), &steps::said_before(&ended));
        return super::next(session.workspace(), ui, super::ASK_THEM);
    }
    let mut open = meant(args, &session)?;
    if args.give_up {
        let because = args.because.as_deref().unwrap_or_default();
        session.give_up_walk(&open.edition, open.walk.begun.key, because)?;
        ui.answer(&steps::document([]), &steps::given_up(&open));
        return super::next(session.workspace(), ui, super::ASK_THEM);
    }
    let Some(step) = &args.step else { return by_hand::go_on(&mut session, open, ui) };
    let step = open.walk.step(step).map_err(StepsError::Walk).map_err(ProjectError::from)?.clone();
    let standing = standing(args, &step)?;
    let outcome = by_hand::record(&mut session, &mut open, &step.id, &standing)?;
    ui.show(&steps::said(&open, &step.id, lantern_project::now()));
    by_hand::show_outcome(&open, outcome.as_ref(), ui);
    ui.document(&steps::document([(&open, outcome.as_ref())]));
    match open.walk.current().filter(|_| outcome.is_none()) {
        Some(_) if open.walk.waits_until().is_some() => ui.next(format!("lantern wait {}", args.storefront)),
        Some(next) => ui.next(steps::confirm_command(&open.walk.begun, next)),
        None => super::next(session.workspace(), ui, super::ASK_THEM)?,
    }
    Ok(())
}

/// The action that this very word ended before: a command that was cut behind its last step is run again.
fn ended(args: &Args, session: &Session) -> Result<Option<OpenWalk>, CommandError> {
    let Some(step) = &args.step else { return Ok(None) };
    let name = session.project().storefront(&args.storefront)?.0;
    if !session.workspace().walks(Some(name.as_str()))?.is_empty() {
        return Ok(None);
    }
    let standing = |step: &lantern_core::step::Step| standing(args, step).ok();
    Ok(session.workspace().ended_with(name, step, &standing)?)
}

fn standing(args: &Args, step: &lantern_core::step::Step) -> Result<StepStanding, CommandError> {
    Ok(match &args.because {
        _ if args.again => StepStanding::Reopened,
        _ if args.waiting => waiting_since(step, lantern_project::now()),
        Some(because) if args.skip && because.trim().is_empty() => {
            return Err(CommandError::usage("a step is left out for a reason", "give it with --because"));
        }
        Some(because) if args.skip => StepStanding::Skipped { because: because.clone() },
        _ => StepStanding::Done { read_back: check_answers(step, &args.read_back).map_err(ProjectError::from)? },
    })
}

/// The action that is meant: the only one that is open there, or the one that has the step, of the release that is named.
fn meant(args: &Args, session: &Session) -> Result<OpenWalk, CommandError> {
    let all = session.workspace().walks(Some(&args.storefront))?;
    let is_edition = |edition: &Name| session.project().editions().contains(edition);
    let mut fits: Vec<OpenWalk> = all.into_iter().filter(|open| is_edition(&open.edition)).collect();
    if let Some(release) = &args.release {
        fits.retain(|open| release.matches(&open.walk.begun.name));
    }
    if let Some(step) = &args.step
        && fits.iter().any(|open| open.walk.step(step).is_ok())
    {
        fits.retain(|open| open.walk.step(step).is_ok());
    }
    if fits.len() > 1 {
        let names: Vec<String> = fits.iter().map(|open| steps::action(&open.walk.begun)).collect();
        let what = format!("several things are open there: {}", names.join("; "));
        return Err(CommandError::usage(what, "say which with --release, or name a step that only one of them has"));
    }
    let name = session.project().storefront(&args.storefront)?.0.clone();
    fits.pop().ok_or_else(|| ProjectError::from(StepsError::NothingOpen { storefront: name }).into())
}
