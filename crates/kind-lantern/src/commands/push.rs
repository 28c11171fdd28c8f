use std::path::PathBuf;

use lantern_core::notes::Notes;
use lantern_core::version::{ReleaseAsked, ReleaseName};
use lantern_project::{ProjectError, PushPlan, PushTexts, Session};
use lantern_views::push::{self, ByHand, Outcome};
use lantern_views::steps;

use super::{Agreement, Done, by_hand};
use crate::diagnostic::CommandError;
use crate::options::{EditionArg, TargetsArg};
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern push brambleyard
  lantern push brambleyard,estuary-games 1.4.0 --message "fog fix for testers" --yes"#;

/// Bring a release to storefronts; only what is missing there travels
///
/// Shows what will travel, asks, and sends: all targets and depots in one go, to several storefronts if you like.
/// Players notice nothing of it. An interrupted push continues where it was when it is run again; pushing a release
/// that is there already changes nothing.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml; several with commas between. May be left out where there is only one
    #[arg(value_parser = storefronts)]
    storefront: Storefronts,
    /// Which release: 1.4.0, 27, or "1.4.0 (27)". Left out: the newest of each edition that the storefront has
    #[arg(value_parser = release_asked)]
    release: Option<ReleaseAsked>,
    /// What this build is for; only your team sees it
    #[arg(long, value_name = "TEXT")]
    message: Option<String>,
    /// What is new; players see it
    #[arg(long, value_name = "TEXT", conflicts_with = "notes_from")]
    notes: Option<String>,
    /// A file with what is new: under a heading for each language, such as "# en", or without headings
    #[arg(long, value_name = "FILE")]
    notes_from: Option<PathBuf>,
    /// The release's name, exactly as the plan shows it, where players get it with the push
    #[arg(long, value_name = "RELEASE")]
    confirm: Option<String>,
    #[command(flatten)]
    targets: TargetsArg,
    #[command(flatten)]
    agreement: Agreement,
    #[command(flatten)]
    pub edition: EditionArg,
}

/// Several storefronts in one argument.
#[derive(Debug, Clone)]
struct Storefronts(Vec<String>);

fn storefronts(text: &str) -> Result<Storefronts, String> {
    let names: Vec<String> = text.split(',').map(str::to_owned).collect();
    match names.iter().enumerate().find(|(i, name)| name.is_empty() || names[..*i].contains(name)) {
        Some((_, name)) if name.is_empty() => Err("a name is missing between two commas".to_owned()),
        Some((_, name)) => Err(format!("{name} is given twice")),
        None => Ok(Storefronts(names)),
    }
}

/// Reads a release; what looks like a second storefront is answered with how to name several.
fn release_asked(text: &str) -> Result<ReleaseAsked, String> {
    let is_name = text.parse::<lantern_core::names::Name>().is_ok();
    let hint =
        if is_name { format!("; several storefronts are joined by commas: STOREFRONT,{text}") } else { String::new() };
    super::release_asked(text).map_err(|error| format!("{error}{hint}"))
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let notes = notes(args)?;
    let mut session = super::lock_about(&args.targets, ui)?;
    let (mut pushes, mut hand) = plans(args, &notes, &mut session, &ui.progress())?;
    let has_texts = args.message.is_some() || !notes.is_empty();
    let is_shown = !(ui.is_quiet() && args.agreement.yes && !args.agreement.plan);
    let views = pushes.iter().filter_map(|(plan, _)| match plan.already {
        Some(build) => Some(push::already(plan, build, has_texts)),
        None => is_shown.then(|| push::plan(plan, session.project())),
    });
    let by_hand = hand.iter().filter_map(|one| match one.plan.already {
        Some(number) => Some(steps::already(&one.plan, number)),
        None => is_shown.then(|| steps::plan(&one.plan, session.project())),
    });
    for (i, view) in views.chain(by_hand).enumerate() {
        if i > 0 {
            ui.say("");
        }
        ui.show(&view);
    }
    let is_needed = pushes.iter().any(|(plan, _)| plan.already.is_none())
        || hand.iter().any(|one| one.plan.already.is_none() && one.plan.begun.is_none());
    if args.agreement.plan || (is_needed && !is_agreed(args, &hand, ui)?) {
        ui.document(&push::document(&pushes, &hand));
        if !args.agreement.plan {
            return Err(CommandError::declined("nothing was sent", ui));
        }
        return Ok(());
    }
    let count = pushes.len() + hand.len();
    for (plan, outcome) in &mut pushes {
        match session.push(plan, &ui.progress()) {
            Ok(done) => {
                ui.show(&push::done(plan, &done));
                *outcome = Outcome::Done(done);
            }
            // One that failed must not keep the others from having it.
            Err(error) if count > 1 && !ui.is_stopped() => {
                ui.show(&push::not_finished(plan, &error));
                *outcome = Outcome::Failed(error);
            }
            Err(error) => return Err(error.into()),
        }
    }
    for one in hand.iter_mut().filter(|one| one.plan.already.is_none()) {
        let mut open = session.begin_push(&one.plan, &ui.progress())?;
        one.outcome = by_hand::walk(&mut session, &mut open, ui)?;
        by_hand::show_outcome(&open, one.outcome.as_ref(), ui);
        one.open = Some(open);
    }
    ui.document(&push::document(&pushes, &hand));
    let failed = pushes.into_iter().find_map(|(_, outcome)| match outcome {
        Outcome::Failed(error) => Some(error),
        _ => None,
    });
    if let Some(error) = failed {
        return Err(CommandError::from(error).said_in(ui));
    }
    if hand.iter().any(|one| one.open.is_some() && one.outcome.is_none()) {
        // What is left to do there was said with its steps.
        return Ok(());
    }
    session.project_mut().only_targets(&[])?;
    super::next(session.workspace(), ui, super::ASK_THEM)
}

/// Asks for a plain yes, or for the name of a release that every player would get.
fn is_agreed(args: &Args, hand: &[ByHand], ui: &Ui) -> Result<bool, CommandError> {
    let new = || hand.iter().filter(|one| one.plan.already.is_none() && one.plan.begun.is_none());
    for one in new() {
        one.plan.refuse_lacking()?;
    }
    let mut names: Vec<&ReleaseName> =
        new().filter(|one| one.plan.is_for_everyone()).map(|one| &one.plan.release.name).collect();
    names.dedup();
    if names.is_empty() {
        return args.agreement.ask(ui);
    }
    if let ([first, second, ..], Some(_)) = (&*names, &args.confirm) {
        let what = format!("--confirm names one release, and all players would get two: {first} and {second}");
        return Err(CommandError::usage(what, "push one at a time: name the release"));
    }
    for name in names {
        if !super::ask_for_name(ui, name, args.confirm.as_deref())? {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Of storefronts that programs can ask, and of those by hand.
type Plans = (Vec<(PushPlan, Outcome)>, Vec<ByHand>);

/// What would travel to each storefront, of each release that is meant, and what a person would do.
fn plans(
    args: &Args,
    notes: &Notes,
    session: &mut Session,
    progress: &dyn lantern_core::progress::Progress,
) -> Result<Plans, ProjectError> {
    for storefront in &args.storefront.0 {
        session.project().storefront(storefront)?;
    }
    let (mut plans, mut hand) = (Vec::new(), Vec::new());
    for storefront in &args.storefront.0 {
        let is_by_hand = session.project().storefront(storefront)?.1.by_hand().is_some();
        let releases = match &args.release {
            Some(asked) => vec![session.release_at(storefront, Some(asked))?],
            None => session.newest_of_each_edition(storefront)?,
        };
        for release in releases {
            let texts = PushTexts { message: args.message.clone(), notes: notes.clone() };
            if is_by_hand {
                let plan = session.plan_push_by_hand(storefront, release, texts)?;
                hand.push(ByHand { plan, open: None, outcome: None });
            } else {
                plans.push((session.plan_push(storefront, release, texts, progress)?, Outcome::Planned));
            }
        }
    }
    Ok((plans, hand))
}

fn notes(args: &Args) -> Result<Notes, CommandError> {
    let Some(path) = &args.notes_from else {
        return Ok(args.notes.as_deref().map(Notes::plain).unwrap_or_default());
    };
    let shown = lantern_core::path::shown(&path.display().to_string());
    let bytes = lantern_store::durable::read_limited(path, lantern_core::notes::MAX_LEN)
        .map_err(|e| CommandError::io(&format!("read {shown}"), e.source))?;
    let text = String::from_utf8(bytes)
        .map_err(|_| CommandError::usage(format!("{shown} is not UTF-8"), "save it as UTF-8 with your editor"))?;
    Notes::read(&text).map_err(|e| CommandError::usage(format!("{shown}: {e}"), "see lantern push --help"))
}
