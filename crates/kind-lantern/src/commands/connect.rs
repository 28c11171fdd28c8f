use lantern_project::Access;
use serde::Serialize;

use super::Done;
use crate::paint::{care, faint, good, strong};
use crate::table::Table;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern connect brambleyard --client paper-heron
  LANTERN_SECRET=… lantern connect brambleyard --client build-machine"#;

/// Get access to a storefront and try it at once
///
/// The secret is asked for, or taken from the variable LANTERN_SECRET. It is kept in your own folder, readable by you
/// only and used only for this address; lantern.toml never has it.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml; may be left out where there is only one
    storefront: String,
    /// The name that the storefront gave you for programs; kept from the last time
    #[arg(long, value_name = "NAME")]
    client: Option<String>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    storefront: &'a lantern_core::names::Name,
    name: &'a str,
    address: &'a str,
    client: &'a str,
    rights: &'a [String],
    titles: Vec<TitleDocument<'a>>,
    rules: &'a lantern_core::rules::HouseRules,
    /// Branches of lantern.toml that are not there.
    lacking: Vec<&'a lantern_core::names::Name>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct TitleDocument<'a> {
    edition: &'a lantern_core::names::Name,
    title: &'a lantern_storefront::protocol::Title,
    branches: &'a [lantern_storefront::protocol::Branch],
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut session = super::lock(ui)?;
    session.project().storefront(&args.storefront)?;
    let client_id = match &args.client {
        Some(client) => client.clone(),
        None => match session.project().client_at(&args.storefront)? {
            Some(known) => known,
            None => ui.ask("Your name for programs there:", "your name at the storefront", "--client")?,
        },
    };
    let client_secret = match std::env::var("LANTERN_SECRET") {
        Ok(secret) if !secret.is_empty() => secret,
        _ => ui.ask_secret("Its secret (not shown):", "the secret", "the variable LANTERN_SECRET")?,
    };
    let found = session.connect(&args.storefront, Access { client_id, client_secret })?;
    ui.document(&Document {
        schema: "lantern.connect/1",
        storefront: &found.storefront,
        name: &found.storefront_name,
        address: &found.address,
        client: &found.client,
        rights: &found.rights,
        titles: found
            .titles
            .iter()
            .map(|t| TitleDocument { edition: &t.edition, title: &t.title, branches: &t.branches })
            .collect(),
        rules: &found.rules,
        lacking: found.lacking.iter().map(|(_, branch)| branch).collect(),
    });
    ui.say(&format!("{} to {} as {}\n", good("connected"), strong(&found.storefront_name), found.client));
    let mut table = Table::default();
    for at in &found.titles {
        let depots: Vec<&str> = at.title.depots.iter().map(lantern_core::names::Handle::as_str).collect();
        let branches: Vec<String> =
            at.branches.iter().map(|b| format!("{} ({})", b.facts.branch, b.audience.name())).collect();
        table.row([faint("title"), format!("{}, {}", at.title.handle, at.title.name)]);
        for (i, line) in crate::format::wrap(&depots.join(", "), 60).into_iter().enumerate() {
            table.row([if i == 0 { faint("depots") } else { String::new() }, line]);
        }
        table.row([faint("branches"), branches.join(", ")]);
    }
    table.row([faint("your rights"), found.rights.join(", ")]);
    table.row([faint("access kept in"), found.kept_in.display().to_string()]);
    ui.say(&table.lay_out());
    for (edition, branch) in &found.lacking {
        let of = if session.project().has_editions() { format!(" of {edition}") } else { String::new() };
        let what = format!("{} in lantern.toml{of} is not a branch there; it is not proposed", strong(branch));
        ui.say(&format!("\n  {} {what}", care("warns:")));
    }
    super::next(session.workspace(), ui, super::ASK_THEM)
}
