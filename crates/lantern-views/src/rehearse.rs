//! The stand-in storefront.

use std::path::Path;

use serde::Serialize;

use crate::paint::{command, faint, good, strong};
use crate::table::Table;
use crate::view::View;

/// What `lantern rehearse --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    name: &'a str,
    address: String,
    client: &'a str,
    secret: &'a str,
    titles: Vec<String>,
    /// The address of the stand-in time-stamp authority.
    time_stamps: String,
}

/// The stand-in, once it is open.
#[derive(Debug)]
pub struct Open<'a> {
    /// What people call it.
    pub name: &'a str,
    /// Where it answers.
    pub origin: &'a str,
    /// The name that it knows programs by.
    pub client: &'a str,
    /// The secret that belongs to it.
    pub secret: &'a str,
    /// Titles that it has now.
    pub titles: &'a [String],
    /// The faults that it shows, in words.
    pub weather: Option<String>,
    /// Where the stand-in time-stamp authority answers, at the same address.
    pub time_stamps_at: &'a str,
    /// Where it keeps what it is sent.
    pub state: &'a Path,
    /// The project's name for it, where the configuration has its address.
    pub known_as: Option<&'a str>,
}

/// What it says of itself.
pub fn document<'a>(open: &Open<'a>) -> Document<'a> {
    Document {
        schema: "lantern.rehearse/1",
        name: open.name,
        address: open.origin.to_owned(),
        client: open.client,
        secret: open.secret,
        titles: open.titles.to_vec(),
        time_stamps: format!("{}{}", open.origin, open.time_stamps_at),
    }
}

/// The same as a table, and what to do in another terminal.
pub fn view(open: &Open<'_>) -> View {
    let Open { origin, titles, client, .. } = open;
    let mut view = View::default();
    view.say(format!("{} {} is open at {}\n", good("rehearsal:"), strong(open.name), strong(origin)));
    let mut table = Table::default();
    table.row([faint("your name there"), (*client).to_owned()]);
    table.row([faint("its secret"), open.secret.to_owned()]);
    let none = || format!("none: no storefront in lantern.toml has the address {origin}");
    table.row([
        faint("titles"),
        if titles.is_empty() { none() } else { format!("{}, made from lantern.toml", titles.join(", ")) },
    ]);
    table.row([
        faint("time stamps"),
        format!("{origin}{}, which states when programs were signed", open.time_stamps_at),
    ]);
    if let Some(weather) = &open.weather {
        table.row([faint("weather"), weather.clone()]);
    }
    table.row([faint("state kept in"), open.state.display().to_string()]);
    view.table(table);
    if let Some(name) = open.known_as {
        let connect = format!("lantern connect {name} --client {client}");
        view.say(format!("\nin another terminal: {}", command(connect)));
    }
    view.say(format!("\n{}", faint("Ctrl-C ends it")));
    view
}
