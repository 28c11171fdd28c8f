use lantern_core::version::ReleaseAsked;
use lantern_project::{PushPlan, PushTexts};
use serde::Serialize;

use super::{Agreement, Done};
use crate::table::Table;
use crate::ui::{Ui, faint, good, strong};
use crate::words;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern push brambleyard
  lantern push brambleyard 1.4.0 --message "fog fix for testers" --yes"#;

/// Bring a release to a storefront; only what is missing there travels
///
/// Shows what will travel, asks, and sends. Players notice nothing of it. A push that was cut goes on where it was when
/// it is run again; one of a release that is there already makes nothing new.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml
    storefront: String,
    /// Which release: 1.4.0, 27, or "1.4.0 (27)". Left out: the newest
    #[arg(value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    /// What this build is for; only your team sees it
    #[arg(long, value_name = "TEXT")]
    message: Option<String>,
    /// What is new; players see it
    #[arg(long, value_name = "TEXT")]
    notes: Option<String>,
    #[command(flatten)]
    agreement: Agreement,
}

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    storefront: &'a lantern_core::event::PlaceRef,
    release: &'a lantern_core::version::ReleaseName,
    id: String,
    depots: Vec<DepotDocument<'a>>,
    /// Foretold, at most.
    upload_bytes: u64,
    /// Whether it was carried out.
    done: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    build: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sent_bytes: Option<u64>,
}

#[derive(Serialize)]
struct DepotDocument<'a> {
    target: &'a str,
    depot: &'a str,
    handle: &'a str,
    manifest: String,
    files: u64,
    bytes: u64,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut project = super::lock(ui)?;
    project.open.project.storefront(&args.storefront)?;
    let release = project.open.release(args.release.as_ref())?;
    let texts = PushTexts { message: args.message.clone(), notes: args.notes.clone() };
    let plan = project.plan_push(&args.storefront, release, texts)?;
    if let Some(build) = plan.already {
        project.push(&plan, &ui.progress())?;
        ui.document(&document(&plan, true, Some(build), Some(0)));
        let name = strong(&plan.release.name);
        ui.say(&format!("nothing to send: {name} is at {} already, as build {build}", plan.place_name));
        return Ok(());
    }
    show_plan(&plan, ui);
    if args.agreement.plan {
        ui.document(&document(&plan, false, None, None));
        return Ok(());
    }
    if !args.agreement.ask(ui)? {
        ui.say("nothing was sent");
        return Ok(());
    }
    let done = project.push(&plan, &ui.progress())?;
    ui.document(&document(&plan, true, Some(done.build), Some(done.sent)));
    let name = strong(&plan.release.name);
    ui.say(&format!("\n{} {name} to {} as build {}", good("pushed"), plan.place_name, done.build));
    ui.say(&format!("  {} in {}", words::bytes(done.sent), words::count(done.packs, "pack", "packs")));
    let configured = project.open.project.storefront(&args.storefront)?.1;
    if let Some(branch) = configured.branches.keys().next() {
        ui.next(&format!("lantern promote {} {branch}", args.storefront));
    }
    Ok(())
}

fn document(plan: &PushPlan, done: bool, build: Option<u64>, sent_bytes: Option<u64>) -> Document<'_> {
    let depot = |d: &'_ lantern_project::PushDepot| d.manifest.to_string();
    Document {
        schema: "lantern.push/1",
        storefront: &plan.place,
        release: &plan.release.name,
        id: plan.release.id.to_string(),
        depots: plan
            .depots
            .iter()
            .map(|d| DepotDocument {
                target: d.target.as_str(),
                depot: d.depot.as_str(),
                handle: d.handle.as_str(),
                manifest: depot(d),
                files: d.files,
                bytes: d.size,
            })
            .collect(),
        upload_bytes: plan.upload,
        done,
        build,
        sent_bytes,
    }
}

fn show_plan(plan: &PushPlan, ui: &Ui) {
    ui.say(&format!("Push {} to {}\n", strong(&plan.release.name), strong(&plan.place_name)));
    let mut table = Table::default();
    table.row(["depot", "there", "files", "size"].map(faint));
    for depot in &plan.depots {
        table.row([
            depot.depot.to_string(),
            depot.handle.to_string(),
            depot.files.to_string(),
            words::bytes(depot.size),
        ]);
    }
    ui.say(&table.lay_out());
    let mut facts = Table::default();
    facts.row([faint("to upload"), format!("{} at most", strong(words::bytes(plan.upload)))]);
    facts.row([faint("players"), "notice nothing: no branch changes".to_owned()]);
    if let Some(message) = &plan.message {
        facts.row([faint("for the team"), lantern_core::path::shown(message)]);
    }
    if let Some(notes) = &plan.notes {
        facts.row([faint("for players"), lantern_core::path::shown(notes)]);
    }
    ui.say(&format!("\n{}", facts.lay_out()));
}
