use std::path::PathBuf;

use lantern_core::notes::Notes;
use lantern_core::version::ReleaseAsked;
use lantern_project::{ProjectError, PushPlan, PushTexts, Session};
use lantern_views::push::{self, Outcome};

use super::{Agreement, Done};
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
    let mut pushes = plans(args, &notes, &mut session)?;
    for (i, (plan, _)) in pushes.iter().enumerate() {
        if i > 0 {
            ui.say("");
        }
        match plan.already {
            Some(build) => ui.show(&push::already(plan, build, args.message.is_some() || !notes.is_empty())),
            None if ui.is_quiet() && args.agreement.yes && !args.agreement.plan => {}
            None => ui.show(&push::plan(plan, session.project())),
        }
    }
    let is_needed = pushes.iter().any(|(plan, _)| plan.already.is_none());
    if args.agreement.plan || (is_needed && !args.agreement.ask(ui)?) {
        ui.document(&push::document(&pushes));
        if !args.agreement.plan {
            return Err(CommandError::declined("nothing was sent", ui));
        }
        return Ok(());
    }
    let count = pushes.len();
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
    ui.document(&push::document(&pushes));
    let failed = pushes.into_iter().find_map(|(_, outcome)| match outcome {
        Outcome::Failed(error) => Some(error),
        _ => None,
    });
    if let Some(error) = failed {
        return Err(CommandError::from(error).said_in(ui));
    }
    session.project_mut().only_targets(&[])?;
    super::next(session.workspace(), ui, super::ASK_THEM)
}

/// What would travel to each storefront, of each release that is meant.
fn plans(args: &Args, notes: &Notes, session: &mut Session) -> Result<Vec<(PushPlan, Outcome)>, ProjectError> {
    for storefront in &args.storefront.0 {
        session.project().storefront(storefront)?;
    }
    let mut plans = Vec::new();
    for storefront in &args.storefront.0 {
        let releases = match &args.release {
            Some(asked) => vec![session.release_at(storefront, Some(asked))?],
            None => session.newest_of_each_edition(storefront)?,
        };
        for release in releases {
            let texts = PushTexts { message: args.message.clone(), notes: notes.clone() };
            plans.push((session.plan_push(storefront, release, texts)?, Outcome::Planned));
        }
    }
    Ok(plans)
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
