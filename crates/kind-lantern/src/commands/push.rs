use lantern_core::version::ReleaseAsked;
use lantern_project::{Project, ProjectError, PushDepot, PushDone, PushPlan, PushTexts};
use serde::Serialize;

use super::{Agreement, Done};
use crate::args::EditionArg;
use crate::diagnostic::CommandError;
use crate::table::Table;
use crate::ui::{Ui, bad, faint, good, strong};
use crate::words;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern push brambleyard
  lantern push brambleyard,estuary-games 1.4.0 --message "fog fix for testers" --yes"#;

/// Bring a release to storefronts; only what is missing there travels
///
/// Shows what will travel, asks, and sends: all targets and depots in one go, to several storefronts if you like.
/// Players notice nothing of it. A push that was cut goes on where it was when it is run again; one of a release that is
/// there already makes nothing new.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml; several with commas between
    #[arg(value_parser = storefronts)]
    storefront: Storefronts,
    /// Which release: 1.4.0, 27, or "1.4.0 (27)". Left out: the newest
    #[arg(value_parser = release_asked)]
    release: Option<ReleaseAsked>,
    /// What this build is for; only your team sees it
    #[arg(long, value_name = "TEXT")]
    message: Option<String>,
    /// What is new; players see it
    #[arg(long, value_name = "TEXT")]
    notes: Option<String>,
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
        Some((_, name)) => Err(format!("{name} stands twice")),
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
    storefront: &'a lantern_core::event::PlaceRef,
    edition: &'a lantern_core::names::Name,
    release: &'a lantern_core::version::ReleaseName,
    id: String,
    /// Targets of the release that do not go there.
    left_here: &'a [lantern_core::names::Name],
    depots: Vec<DepotDocument<'a>>,
    /// Foretold, at most.
    upload_bytes: u64,
    /// Whether it was carried out; also when all of it was there already.
    done: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    build: Option<u64>,
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
    manifest: String,
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
    let mut project = super::lock(ui)?;
    for storefront in &args.storefront.0 {
        project.open.project.storefront(storefront)?;
    }
    let release = project.open.release(args.release.as_ref())?;
    let mut pushes: Vec<(PushPlan, Outcome)> = Vec::new();
    for storefront in &args.storefront.0 {
        let texts = PushTexts { message: args.message.clone(), notes: args.notes.clone() };
        let plan = project.plan_push(storefront, release.clone(), texts)?;
        pushes.push((plan, Outcome::Planned));
    }
    for (i, (plan, _)) in pushes.iter().enumerate() {
        if i > 0 {
            ui.say("");
        }
        match plan.already {
            Some(build) => {
                let (name, place) = (strong(&plan.release.name), &plan.place_name);
                ui.say(&format!("nothing to send: {name} is at {place} already, as build {build}"));
            }
            None => show_plan(plan, &project.open.project, ui),
        }
    }
    let is_needed = pushes.iter().any(|(plan, _)| plan.already.is_none());
    if args.agreement.plan || (is_needed && !args.agreement.ask(ui)?) {
        ui.document(&document(&pushes));
        if !args.agreement.plan {
            ui.say("nothing was sent");
        }
        return Ok(());
    }
    for (plan, outcome) in &mut pushes {
        match project.push(plan, &ui.progress()) {
            Ok(done) => {
                show_done(plan, &done, ui);
                *outcome = Outcome::Done(done);
            }
            // One that failed must not keep the others from having it.
            Err(error) if args.storefront.0.len() > 1 && !ui.is_stopped() => {
                ui.say(&format!("\n{} {}: {error}", bad("not finished:"), plan.place_name));
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
    if is_needed {
        let first = &args.storefront.0[0];
        let configured = project.open.project.storefront(first)?.1;
        let branch = configured.branches.first().map_or("BRANCH".to_owned(), |(branch, _)| branch.to_string());
        ui.next(&format!("lantern promote {first} {branch}"));
    }
    Ok(())
}

fn document(pushes: &[(PushPlan, Outcome)]) -> Document<'_> {
    let pushes = pushes.iter().map(|(plan, outcome)| {
        let done = match outcome {
            Outcome::Done(done) => Some(done),
            _ => None,
        };
        PushDocument {
            storefront: &plan.place,
            edition: &plan.release.edition,
            release: &plan.release.name,
            id: plan.release.id.to_string(),
            left_here: &plan.left_here,
            depots: plan.depots.iter().map(depot_document).collect(),
            upload_bytes: plan.upload,
            done: done.is_some(),
            build: done.map(|d| d.build),
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
        manifest: depot.manifest.to_string(),
        files: depot.files,
        bytes: depot.size,
    }
}

fn show_plan(plan: &PushPlan, project: &Project, ui: &Ui) {
    let edition = super::edition_word(project, &plan.release.edition);
    ui.say(&format!("Push {edition}{} to {}\n", strong(&plan.release.name), strong(&plan.place_name)));
    let mut table = Table::default();
    table.row(["depot", "there", "files", "size", "for"].map(faint));
    for depot in &plan.depots {
        let who = if depot.when.is_always() { String::new() } else { format!(", {}", depot.when) };
        table.row([
            depot.depot.to_string(),
            depot.handle.to_string(),
            depot.files.to_string(),
            words::bytes(depot.size),
            faint(format!("{}{who}", words::names(&depot.targets))),
        ]);
    }
    ui.say(&table.lay_out());
    let mut facts = Table::default();
    facts.row([faint("to upload"), format!("{} at most", strong(words::bytes(plan.upload)))]);
    facts.row([faint("players"), "notice nothing: no branch changes".to_owned()]);
    if !plan.left_here.is_empty() {
        facts.row([faint("not for there"), words::names(&plan.left_here)]);
    }
    if let Some(message) = &plan.message {
        facts.row([faint("for the team"), lantern_core::path::shown(message)]);
    }
    if let Some(notes) = &plan.notes {
        facts.row([faint("for players"), lantern_core::path::shown(notes)]);
    }
    ui.say(&format!("\n{}", facts.lay_out()));
}

fn show_done(plan: &PushPlan, done: &PushDone, ui: &Ui) {
    if plan.already.is_none() {
        let (name, place) = (strong(&plan.release.name), &plan.place_name);
        ui.say(&format!("\n{} {name} to {place} as build {}", good("pushed"), done.build));
        let foretold = match done.sent == plan.upload {
            true => "as foretold".to_owned(),
            false => format!("{} foretold", words::bytes(plan.upload)),
        };
        let packs = words::count(done.packs, "pack", "packs");
        ui.say(&format!("  {} in {packs}, {foretold}", words::bytes(done.sent)));
    }
}
