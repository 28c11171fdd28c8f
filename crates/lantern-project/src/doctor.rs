//! `doctor`: is all there that is needed?

use std::time::Duration;

use lantern_core::config::{ConnectorStorefront, Storefront, TimeStamps};
use lantern_core::names::{Handle, Name};
use lantern_core::progress::Progress;
use lantern_core::size::Size;
use lantern_sign::time_stamp;
use lantern_store::durable;
use lantern_store::room_left;

use crate::connector_run::probe;
use crate::sign_files::Clock;
use crate::storefronts::open_storefront;
use crate::workspace::Workspace;
use crate::{ProjectError, environment};

/// One thing that is needed.
#[derive(Debug, Clone)]
pub struct Checkup {
    /// What.
    pub what: String,
    /// How it is.
    pub state: CheckupState,
}

/// How something that is needed is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CheckupState {
    /// As it should be.
    Well(String),
    /// Not needed by everybody, and not there.
    Absent(String),
    /// Not as it should be, and what to do.
    Wrong(String, String),
}

impl Checkup {
    /// One that is as it should be.
    pub fn well(what: impl Into<String>, said: impl Into<String>) -> Self {
        Self { what: what.into(), state: CheckupState::Well(said.into()) }
    }

    /// One that is not there, which not everybody needs.
    pub fn absent(what: impl Into<String>, said: impl Into<String>) -> Self {
        Self { what: what.into(), state: CheckupState::Absent(said.into()) }
    }

    /// One that is not as it should be.
    pub fn wrong(what: impl Into<String>, said: impl Into<String>, fix: impl Into<String>) -> Self {
        Self { what: what.into(), state: CheckupState::Wrong(said.into(), fix.into()) }
    }

    fn of_error(what: &str, error: &ProjectError) -> Self {
        if let ProjectError::Config(findings) = error
            && let Some(first) = findings.first()
        {
            let fix = first.fix.clone().unwrap_or_else(|| "lantern check".to_owned());
            return Self::wrong(what, first.what.clone(), fix);
        }
        let fix = error.fixes().into_iter().next().unwrap_or_else(|| "see lantern help-me".to_owned());
        Self::wrong(what, crate::verify::in_full(error), fix)
    }
}

/// Less room than this is said to be little. Ours: a small game's release and its update.
const LITTLE_ROOM: u64 = 1_000_000_000;
/// How far two clocks may differ. Ours: tokens and access live for minutes.
const CLOCKS: Duration = Duration::from_secs(300);

impl Workspace {
    /// Looks at everything that a project needs: its folder, room, the ledger, its keys, the time-stamp authority, every
    /// storefront. The authority and the storefronts are asked.
    ///
    /// # Errors
    /// [`ProjectError::Stopped`].
    pub fn doctor(&self, progress: &dyn Progress) -> Result<Vec<Checkup>, ProjectError> {
        let mut out = vec![self.folder(), self.room(), self.ledger_opens()];
        out.extend(self.project.keys_there());
        if let Some(configured) = &self.project.config().time_stamps {
            out.push(self.authority_answers(configured)?);
        }
        for (name, configured) in &self.project.config().storefronts {
            if progress.stopped() {
                return Err(ProjectError::Stopped);
            }
            out.push(match configured.connector() {
                Some(connector) => self.connector_answers(name, configured, connector, progress),
                None => self.storefront_answers(name, configured),
            });
        }
        Ok(out)
    }

    fn folder(&self) -> Checkup {
        let what = "project folder";
        let probe = self.project.state(".doctor");
        match durable::write_whole(&probe, b"").and_then(|()| durable::remove_file(&probe)) {
            Ok(()) => Checkup::well(what, format!("{} can be written", self.project.root().display())),
            Err(error) => Checkup::wrong(what, error.to_string(), "give yourself the right to write there"),
        }
    }

    fn room(&self) -> Checkup {
        match room_left::free(self.project.root()) {
            None => Checkup::absent("room", "this system does not say how much is free"),
            Some(free) if free < LITTLE_ROOM => {
                let said = format!("{} are free on the disk of .lantern", Size(free));
                Checkup::wrong("room", said, "lantern keep --older frees old releases; or make room on the disk")
            }
            Some(free) => Checkup::well("room", format!("{} are free on the disk of .lantern", Size(free))),
        }
    }

    fn ledger_opens(&self) -> Checkup {
        match self.event_count() {
            Ok(0) => Checkup::well("ledger", "nothing has happened yet"),
            Ok(count) => Checkup::well("ledger", format!("{count} events")),
            Err(error) => Checkup::of_error("ledger", &error),
        }
    }

    /// Asks for the time stamp of a few bytes, and verifies it.
    fn authority_answers(&self, configured: &TimeStamps) -> Result<Checkup, ProjectError> {
        let what = "time stamps";
        let nonce = environment::random()?;
        let answer = Clock::new(configured, self.project.stop())
            .map_err(|error| error.to_string())
            .and_then(|clock| time_stamp::of(what.as_bytes(), &clock, nonce).map_err(|error| error.to_string()));
        Ok(match answer {
            Ok(_) => Checkup::well(what, format!("{} answers rightly", configured.authority)),
            Err(why) if configured.may_be_missing => {
                Checkup::absent(what, format!("{why}; what is signed goes without, as lantern.toml says"))
            }
            Err(why) => Checkup::wrong(what, why, "change time-stamps.authority in lantern.toml, or try again later"),
        })
    }

    fn storefront_answers(&self, name: &Name, configured: &Storefront) -> Checkup {
        let edition = configured.handles.keys().next().cloned().unwrap_or_else(Name::full_edition);
        match open_storefront(self, &edition, name.as_str()) {
            Err(error) => Checkup::of_error(name.as_str(), &error),
            Ok(at) if at.hand.is_some() => Checkup::well(name.as_str(), "by hand; its rules can be read"),
            Ok(at) => {
                let now = environment::now();
                let apart = at.facts.now.map(|theirs| theirs.duration_since(now).unsigned_abs()).unwrap_or_default();
                if apart > CLOCKS {
                    let said = format!("its clock and this computer's are {} minutes apart", apart.as_secs() / 60);
                    return Checkup::wrong(name.as_str(), said, "let your system set its clock by the network");
                }
                Checkup::well(name.as_str(), format!("{} answers, and knows you", at.name()))
            }
        }
    }

    fn connector_answers(
        &self,
        name: &Name,
        configured: &Storefront,
        connector: &ConnectorStorefront,
        progress: &dyn Progress,
    ) -> Checkup {
        let edition = configured.handles.keys().next().cloned().unwrap_or_else(Name::full_edition);
        let handle = configured.handles.get(&edition).map(Handle::as_str).unwrap_or_default();
        let access = match self.project.access_to(configured) {
            Ok(found) => found.map(|found| found.access),
            Err(error) => return Checkup::of_error(name.as_str(), &error),
        };
        if let Err(error) = self.project.hand_rules(name, configured, &connector.hand) {
            return Checkup::of_error(name.as_str(), &error);
        }
        match probe(&self.project, (name, &edition, handle), connector, access, progress) {
            Ok(()) => Checkup::well(name.as_str(), "its connector answers"),
            Err(error) => Checkup::of_error(name.as_str(), &error),
        }
    }
}
