//! A storefront, as it is seen when access to it is tried.

use lantern_core::names::{Handle, Name};
use lantern_core::rules::HouseRules;
use lantern_project::Connection;
use lantern_storefront::protocol::{Branch, Title};
use serde::Serialize;

use crate::format::wrap;
use crate::paint::{care, faint, good, strong};
use crate::table::Table;
use crate::view::View;

/// What `lantern connect --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    storefront: &'a Name,
    name: &'a str,
    address: &'a str,
    client: &'a str,
    rights: &'a [String],
    titles: Vec<TitleDocument<'a>>,
    rules: &'a HouseRules,
    /// Branches of lantern.toml that are not there.
    lacking: Vec<&'a Name>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct TitleDocument<'a> {
    edition: &'a Name,
    title: &'a Title,
    branches: &'a [Branch],
}

/// What was found there.
pub fn document(found: &Connection) -> Document<'_> {
    let titles = found.titles.iter();
    Document {
        schema: "lantern.connect/1",
        storefront: &found.storefront,
        name: &found.storefront_name,
        address: &found.address,
        client: &found.client,
        rights: &found.rights,
        titles: titles.map(|t| TitleDocument { edition: &t.edition, title: &t.title, branches: &t.branches }).collect(),
        rules: &found.rules,
        lacking: found.lacking.iter().map(|(_, branch)| branch).collect(),
    }
}

/// The same as a table.
pub fn view(found: &Connection, has_editions: bool) -> View {
    let mut view = View::default();
    view.say(format!("{} to {} as {}\n", good("connected"), strong(&found.storefront_name), found.client));
    let mut table = Table::default();
    for at in &found.titles {
        let depots: Vec<&str> = at.title.depots.iter().map(Handle::as_str).collect();
        let branches: Vec<String> =
            at.branches.iter().map(|b| format!("{} ({})", b.facts.branch, b.audience.name())).collect();
        table.row([faint("title"), format!("{}, {}", at.title.handle, at.title.name)]);
        for (i, line) in wrap(&depots.join(", "), 60).into_iter().enumerate() {
            table.row([if i == 0 { faint("depots") } else { String::new() }, line]);
        }
        table.row([faint("branches"), branches.join(", ")]);
    }
    table.row([faint("your rights"), found.rights.join(", ")]);
    table.row([faint("access kept in"), found.kept_in.display().to_string()]);
    view.table(table);
    for (edition, branch) in &found.lacking {
        let of = if has_editions { format!(" of {edition}") } else { String::new() };
        let what = format!("{} in lantern.toml{of} is not a branch there; it is not proposed", strong(branch));
        view.say(format!("\n  {} {what}", care("warns:")));
    }
    view
}
