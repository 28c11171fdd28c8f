//! `lantern` alone: where the game stands and the one next step.

use lantern_core::names::Name;
use lantern_project::{AtStorefront, Exports, Status};
use serde::Serialize;

use super::Done;
use crate::paint::{bad, care, faint, good, strong};
use crate::table::Table;
use crate::ui::Ui;

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    game: &'a str,
    /// One for each edition that has targets.
    editions: Vec<EditionDocument<'a>>,
    next: Option<&'a str>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct EditionDocument<'a> {
    edition: &'a Name,
    newest: Option<&'a lantern_core::version::ReleaseName>,
    /// `sealed`, `changed`, `withdrawn`, `wrong` or `not-here`.
    exports: &'static str,
    /// Targets of the newest release that someone tried and said no to.
    tried_no: &'a [Name],
    storefronts: Vec<StorefrontDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct StorefrontDocument<'a> {
    storefront: &'a Name,
    connected: bool,
    pushed: bool,
    live_on: &'a [Name],
    behind: &'a [Name],
}

pub fn run(ui: &Ui) -> Done {
    let open = super::open(ui)?;
    let game = open.project.config().game.name.clone();
    let mut all: Vec<(Name, String, Status)> = Vec::new();
    for edition in open.project.editions() {
        let name = open.project.edition_name(&edition).to_owned();
        let status = open.status(&edition)?;
        all.push((edition, name, status));
    }
    let next = all.iter().find_map(|(_, _, status)| status.next.as_ref()).map(ToString::to_string);
    let editions = all.iter().map(|(edition, _, status)| document(edition, status)).collect();
    ui.document(&Document { schema: "lantern.status/1", game: &game, editions, next: next.as_deref() });
    for (i, (_, name, status)) in all.iter().enumerate() {
        if i > 0 {
            ui.say("");
        }
        show(name, status, ui);
    }
    match next {
        Some(next) => ui.next(next),
        None => ui.next(super::ASK_THEM),
    }
    Ok(())
}

fn document<'a>(edition: &'a Name, status: &'a Status) -> EditionDocument<'a> {
    let storefront = |s: &'a AtStorefront| StorefrontDocument {
        storefront: &s.storefront,
        connected: s.connected,
        pushed: s.pushed,
        live_on: &s.live_on,
        behind: &s.behind,
    };
    EditionDocument {
        edition,
        newest: status.newest.as_ref().map(|r| &r.name),
        exports: match status.exports {
            Exports::Sealed => "sealed",
            Exports::Changed => "changed",
            Exports::Wrong => "wrong",
            Exports::Withdrawn => "withdrawn",
            Exports::NotHere => "not-here",
        },
        tried_no: &status.tried_no,
        storefronts: status.storefronts.iter().map(storefront).collect(),
    }
}

fn show(game: &str, status: &Status, ui: &Ui) {
    ui.say(&format!("{}\n", strong(game)));
    let mut table = Table::default();
    let newest = status.newest.as_ref().map_or_else(|| "nothing yet".to_owned(), |r| strong(&r.name));
    table.row([faint("newest sealed"), newest]);
    let exports = match (status.exports, &status.newest) {
        (Exports::Sealed, _) => good("as sealed"),
        (Exports::Changed, Some(_)) => format!("{} since then", care("changed")),
        (Exports::Changed, None) => "ready to be taken in".to_owned(),
        (Exports::Wrong, _) => format!("{} cannot be taken in as they are", bad("wrong:")),
        (Exports::Withdrawn, _) => format!("exactly a release that was {}", care("withdrawn")),
        (Exports::NotHere, _) => "not on this computer".to_owned(),
    };
    table.row([faint("exports"), exports]);
    if !status.tried_no.is_empty() {
        table.row([faint("tried"), format!("{} {}", bad("no:"), crate::format::names(&status.tried_no))]);
    }
    for at in &status.storefronts {
        table.row([faint(&at.storefront), at_storefront(at, status.newest.is_some())]);
    }
    ui.say(&table.lay_out());
}

fn at_storefront(at: &AtStorefront, is_sealed: bool) -> String {
    let list = |names: &[Name]| {
        let names: Vec<&str> = names.iter().map(Name::as_str).collect();
        names.join(", ")
    };
    match (at.connected, is_sealed, at.pushed) {
        (false, _, _) => "not connected".to_owned(),
        (true, false, _) => "connected".to_owned(),
        (true, true, false) => format!("{} there yet", care("not")),
        (true, true, true) if at.behind.is_empty() && at.live_on.is_empty() => "there".to_owned(),
        (true, true, true) if at.behind.is_empty() => format!("{} on {}", good("live"), list(&at.live_on)),
        (true, true, true) if at.live_on.is_empty() => format!("there, {} on {}", care("not live"), list(&at.behind)),
        (true, true, true) => {
            format!("{} on {}, {} on {}", good("live"), list(&at.live_on), care("not"), list(&at.behind))
        }
    }
}
