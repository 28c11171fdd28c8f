use std::path::PathBuf;
use std::time::Duration;

use jiff::SignedDuration;
use lantern_core::address::Address;
use lantern_core::config::Config;
use lantern_project::Project;
use lantern_rehearsal::Refused;
use lantern_rehearsal::server::{NOON_GUN, Running};
use lantern_rehearsal::stand_in::{CLIENT_ID, DEFAULT_PORT, StandIn, StandInDocument};
use lantern_rehearsal::weather::{Fault, Weather};
use lantern_storefront::protocol::Title;
use lantern_views::rehearse::{self, Open};

use super::Done;
use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern rehearse
  lantern rehearse --port 0 --state /tmp/brambleyard
  lantern rehearse --hours-ahead 24
  lantern rehearse --weather cut,lost-answer --seed 7"#;

/// Run a stand-in storefront on this computer
///
/// Brambleyard speaks the storefront protocol and keeps what it is sent, also over a restart. In a game's folder it has
/// the titles and depots of lantern.toml, as if you had filled in the storefront's own forms. Ctrl-C ends it.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The port on 127.0.0.1; 0 takes a free one. Left out: the one of last time, or lantern.toml's, or 4870
    #[arg(long)]
    port: Option<u16>,
    /// Where it keeps what it is sent. Left out: .lantern/rehearsal of the game
    #[arg(long, value_name = "DIR")]
    state: Option<PathBuf>,
    /// Faults to show, with commas between: cut, lost-answer, failing, failing-late, busy, expired, wrong-bytes, slow,
    /// restart, full-disk, wrong-clock
    #[arg(long, value_name = "FAULTS", value_delimiter = ',', value_parser = super::name::<Fault>)]
    weather: Vec<Fault>,
    /// How many requests of a hundred meet a fault
    #[arg(long, value_name = "N", default_value_t = 20, value_parser = clap::value_parser!(u64).range(0..=100))]
    storm: u64,
    /// How many hours its clock is ahead, at most a year's: what has to wait for a day can be tried now
    #[arg(long, value_name = "N", default_value_t = 0, value_parser = clap::value_parser!(u16).range(0..=8784))]
    hours_ahead: u16,
    /// The same seed gives the same weather
    #[arg(long, value_name = "N", default_value_t = 1)]
    seed: u64,
}

/// Turns the stand-in's errors into ours.
pub(super) fn failed(doing: &str) -> impl FnOnce(Refused) -> CommandError {
    let doing = doing.to_owned();
    move |refused| match refused {
        Refused::Problem(problem) => CommandError::refused(problem.detail, problem.fix),
        Refused::Failed(why) => CommandError::computer(
            format!("the stand-in could not {doing}: {why}"),
            "is the port taken, or the disk full?",
        ),
    }
}

/// Makes the titles that a configuration expects at an address, as someone would on the storefront's own pages.
pub(super) fn make_titles(stand_in: &StandIn, config: &Config, port: u16) -> Result<Vec<String>, CommandError> {
    let mut made = Vec::new();
    for storefront in config.storefronts.values() {
        let is_here = Address::parse(storefront.kind.address()).is_ok_and(|address| address.port() == port);
        if !is_here {
            continue;
        }
        for (edition, handle) in &storefront.handles {
            let Some(known) = config.editions.get(edition) else { continue };
            let depots = config.depots_of(edition);
            let title = Title {
                handle: handle.clone(),
                name: known.name.clone(),
                identity: known.identity.clone(),
                depots: depots.iter().filter_map(|depot| storefront.depots.get(depot).cloned()).collect(),
            };
            stand_in.make_title(&title).map_err(failed("make the title"))?;
            made.push(handle.to_string());
        }
    }
    Ok(made)
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let project = match Project::find(&ui.project, ui.stop.clone()) {
        Ok(project) => Some(project),
        Err(lantern_project::ProjectError::NoProject(_)) => None,
        Err(error) => return Err(error.into()),
    };
    let state = match (&args.state, &project) {
        (Some(state), _) => state.clone(),
        (None, Some(project)) => project.state_for("rehearsal")?,
        (None, None) => {
            let what = "there is no lantern.toml here, next to which the stand-in keeps its state";
            return Err(CommandError::usage(what, "name a folder with --state, or go to the game's folder"));
        }
    };
    if state.exists() && !state.is_dir() {
        let what = format!("{} is not a folder", state.display());
        return Err(CommandError::usage(what, "name a folder with --state; it is made when it is not there"));
    }
    let document = StandInDocument::brambleyard();
    let name = document.name.clone();
    let stand_in = StandIn::open(&state, document).map_err(failed("open its state"))?;
    let configured = project.as_ref().and_then(|p| p.config().storefronts.values().next());
    let configured = configured.and_then(|s| Address::parse(s.kind.address()).ok()).map(|a| a.port());
    let port = args.port.or_else(|| stand_in.last_port()).or(configured).unwrap_or(DEFAULT_PORT);
    stand_in.pass_time(SignedDuration::from_hours(i64::from(args.hours_ahead)));
    let running = Running::start(stand_in, port).map_err(failed(&format!("listen on port {port}")))?;
    if !args.weather.is_empty() {
        running.stand_in().set_weather(Some(Weather::new(args.weather.clone(), args.storm, args.seed)));
    }
    let origin = running.origin();
    let port = Address::parse(&origin).map_or(port, |a| a.port());
    let titles = match &project {
        Some(project) => make_titles(running.stand_in(), project.config(), port)?,
        None => Vec::new(),
    };
    let faults: Vec<&str> = args.weather.iter().map(|fault| fault.name()).collect();
    let weather = || format!("{} in {} of 100 requests, seed {}", faults.join(", "), args.storm, args.seed);
    let mut configured = project.iter().flat_map(|p| p.config().storefronts.iter());
    let open = Open {
        name: &name,
        origin: &origin,
        client: CLIENT_ID,
        secret: running.stand_in().secret(),
        titles: &titles,
        weather: (!faults.is_empty()).then(weather),
        time_stamps_at: NOON_GUN,
        state: &state,
        known_as: configured.find(|(_, s)| s.kind.address() == origin).map(|(name, _)| name.as_str()),
    };
    ui.answer(&rehearse::document(&open), &rehearse::view(&open));
    while !ui.is_stopped() {
        std::thread::sleep(Duration::from_millis(50));
    }
    ui.say("closed; everything is kept");
    Ok(())
}
