use std::path::PathBuf;

use lantern_core::notes::{Notes, UNDETERMINED};
use lantern_core::version::ReleaseAsked;
use lantern_project::{Project, ProjectError, PushDepot, PushDone, PushPlan, PushTexts};
use serde::Serialize;

use super::{Agreement, Done};
use crate::args::{EditionArg, TargetsArg};
use crate::diagnostic::CommandError;
use crate::format;
use crate::paint::{bad, care, faint, good, strong};
use crate::table::Table;
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

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    /// One for each storefront, in the order in which they were named.
    pushes: Vec<PushDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct PushDocument<'a> {
    storefront: &'a lantern_core::event::StorefrontRef,
    edition: &'a lantern_core::names::Name,
    release: &'a lantern_core::version::ReleaseName,
    id: String,
    /// What the storefront is to call it; null where it names it itself.
    name_there: Option<&'a str>,
    /// Targets of the release that do not go there.
    left_here: &'a [lantern_core::names::Name],
    depots: Vec<DepotDocument<'a>>,
    /// Estimated, at most.
    upload_bytes: u64,
    /// Whether it was carried out; also when all of it was there already.
    done: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    number_there: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sent_bytes: Option<u64>,
    /// Why it was not.
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<String>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct DepotDocument<'a> {
    targets: &'a [lantern_core::names::Name],
    depot: &'a str,
    handle: &'a str,
    files: u64,
    bytes: u64,
}

/// What became of a plan.
enum Outcome {
    Planned,
    Done(PushDone),
    Failed(ProjectError),
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let notes = notes(args)?;
    let mut session = super::lock_about(&args.targets, ui)?;
    for storefront in &args.storefront.0 {
        session.project().storefront(storefront)?;
    }
    let mut pushes: Vec<(PushPlan, Outcome)> = Vec::new();
    for storefront in &args.storefront.0 {
        let releases = match &args.release {
            Some(asked) => vec![session.release_at(storefront, Some(asked))?],
            None => session.newest_of_each_edition(storefront)?,
        };
        for release in releases {
            let texts = PushTexts { message: args.message.clone(), notes: notes.clone() };
            let plan = session.plan_push(storefront, release, texts)?;
            pushes.push((plan, Outcome::Planned));
        }
    }
    for (i, (plan, _)) in pushes.iter().enumerate() {
        if i > 0 {
            ui.say("");
        }
        match plan.already {
            Some(build) => {
                let (name, storefront) = (strong(&plan.release.name), &plan.storefront_name);
                ui.say(&format!("nothing to send: {name} is at {storefront} already; its number there is {build}"));
                if args.message.is_some() || !notes.is_empty() {
                    let what = "its message and notes stay as they were sent with it; the new ones are not used";
                    ui.say(&format!("  {} {what}", care("careful:")));
                }
            }
            None if ui.is_quiet() && args.agreement.yes && !args.agreement.plan => {}
            None => show_plan(plan, session.project(), ui),
        }
    }
    let is_needed = pushes.iter().any(|(plan, _)| plan.already.is_none());
    if args.agreement.plan || (is_needed && !args.agreement.ask(ui)?) {
        ui.document(&document(&pushes));
        if !args.agreement.plan {
            return Err(CommandError::declined("nothing was sent", ui));
        }
        return Ok(());
    }
    let count = pushes.len();
    for (plan, outcome) in &mut pushes {
        match session.push(plan, &ui.progress()) {
            Ok(done) => {
                show_done(plan, &done, ui);
                *outcome = Outcome::Done(done);
            }
            // One that failed must not keep the others from having it.
            Err(error) if count > 1 && !ui.is_stopped() => {
                ui.say(&format!("\n{} {}: {error}", bad("not finished:"), plan.storefront_name));
                *outcome = Outcome::Failed(error);
            }
            Err(error) => return Err(error.into()),
        }
    }
    ui.document(&document(&pushes));
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

fn document(pushes: &[(PushPlan, Outcome)]) -> Document<'_> {
    let pushes = pushes.iter().map(|(plan, outcome)| {
        let done = match outcome {
            Outcome::Done(done) => Some(done),
            _ => None,
        };
        PushDocument {
            storefront: &plan.storefront,
            edition: &plan.release.edition,
            release: &plan.release.name,
            id: plan.release.id.to_string(),
            name_there: plan.name_there.as_ref().map(lantern_core::names::Handle::as_str),
            left_here: &plan.left_here,
            depots: plan.depots.iter().map(depot_document).collect(),
            upload_bytes: plan.upload,
            done: done.is_some(),
            number_there: done.map(|d| d.number_there),
            sent_bytes: done.map(|d| d.sent),
            why: if let Outcome::Failed(error) = outcome { Some(error.to_string()) } else { None },
        }
    });
    Document { schema: "lantern.push/1", pushes: pushes.collect() }
}

fn depot_document(depot: &PushDepot) -> DepotDocument<'_> {
    DepotDocument {
        targets: &depot.targets,
        depot: depot.depot.as_str(),
        handle: depot.handle.as_str(),
        files: depot.files,
        bytes: depot.size,
    }
}

fn show_plan(plan: &PushPlan, project: &Project, ui: &Ui) {
    let edition = super::edition_word(project, &plan.release.edition);
    ui.say(&format!("Push {edition}{} to {}\n", strong(&plan.release.name), strong(&plan.storefront_name)));
    let mut table = Table::default();
    table.head(["depot", "there", "files", "size", "for"]);
    for depot in &plan.depots {
        let who = if depot.players.are_all() { String::new() } else { format!(", {}", depot.players) };
        table.row([
            depot.depot.to_string(),
            depot.handle.to_string(),
            depot.files.to_string(),
            format::bytes(depot.size),
            faint(format!("{}{who}", format::names(&depot.targets))),
        ]);
    }
    ui.say(&table.lay_out());
    let mut facts = Table::default();
    if let Some(name) = &plan.name_there {
        facts.row([faint("name there"), lantern_core::path::shown(name.as_str())]);
    }
    facts.row([faint("to upload"), format!("{} at most", strong(format::bytes(plan.upload)))]);
    facts.row([faint("players"), "notice nothing: no branch changes".to_owned()]);
    if !plan.left_here.is_empty() {
        facts.row([faint("not for there"), format::names(&plan.left_here)]);
    }
    if let Some(message) = &plan.message {
        facts.row([faint("for the team"), lantern_core::path::shown(message)]);
    }
    for (language, text) in plan.notes.iter() {
        let language = if language == UNDETERMINED { String::new() } else { format!(", {language}") };
        facts.row([faint(format!("for players{language}")), lantern_core::path::shown(text)]);
    }
    ui.say(&format!("\n{}", facts.lay_out()));
    if plan.exports_changed {
        ui.say(&format!("  {} the exports changed since it was sealed; they are not in it", care("careful:")));
    }
    super::show_warning_count(plan.release.warnings, ui);
}

fn show_done(plan: &PushPlan, done: &PushDone, ui: &Ui) {
    if plan.already.is_none() {
        let (name, storefront) = (strong(&plan.release.name), &plan.storefront_name);
        ui.say(&format!("\n{} {name} to {storefront}; its number there is {}", good("pushed"), done.number_there));
        let estimated = match done.sent == plan.upload {
            true => "as estimated".to_owned(),
            false => format!("{} estimated", format::bytes(plan.upload)),
        };
        ui.say(&format!("  {} sent, {estimated}", format::bytes(done.sent)));
    }
}
