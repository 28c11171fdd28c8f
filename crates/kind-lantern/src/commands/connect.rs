use lantern_project::Access;
use lantern_views::connect;

use super::Done;
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

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut session = super::lock(ui)?;
    session.project().refuse_to_connect(&args.storefront)?;
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
    let has_editions = session.project().has_editions();
    ui.answer(&connect::document(&found), &connect::view(&found, has_editions));
    super::next(session.workspace(), ui, super::ASK_THEM)
}
