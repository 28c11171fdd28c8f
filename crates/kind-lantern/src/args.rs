//! The command line.

use clap::{CommandFactory, Parser, Subcommand};

use crate::commands;
use crate::options::{Common, EditionArg};

/// Prepares game builds, brings them to storefronts, and knows which build is live where.
#[derive(Debug, Parser)]
#[command(name = "lantern", bin_name = "lantern", version, max_term_width = 100, subcommand_required = false)]
#[command(disable_help_subcommand = true)]
#[command(after_help = "Begin with: lantern demo   (the whole chain on example data, in a folder of its own)")]
pub struct Cli {
    #[command(flatten)]
    pub common: Common,
    #[command(flatten)]
    pub edition: EditionArg,
    #[command(subcommand)]
    pub command: Option<Command>,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    Init(commands::init::Args),
    Inspect(commands::inspect::Args),
    Check(commands::check::Args),
    Depots(commands::depots::Args),
    Key(commands::key::Args),
    Prepare(commands::prepare::Args),
    Try(commands::trial::Args),
    LastLook(commands::last_look::Args),
    Releases(commands::releases::Args),
    Keep(commands::keep::Args),
    Number(commands::number::Args),
    Storefronts(commands::storefronts::Args),
    Connect(commands::connect::Args),
    Push(commands::push::Args),
    Promote(commands::promote::Args),
    Rollback(commands::rollback::Args),
    Adopt(commands::adopt::Args),
    Confirm(commands::confirm::Args),
    Wait(commands::wait::Args),
    Invite(commands::invite::Args),
    Live(commands::live::Args),
    History(commands::history::Args),
    Install(commands::install::Args),
    Sign(commands::sign::Args),
    Verify(commands::verify::Args),
    Repair(commands::repair::Args),
    Ledger(commands::ledger::Args),
    Rehearse(commands::rehearse::Args),
    Demo(commands::demo::Args),
    Doctor(commands::doctor::Args),
    HelpMe(commands::help_me::Args),
    Completions(commands::completions::Args),
    Manual(commands::manual::Args),
    Help(commands::help::Args),
}

/// Examples come right after what a command does; the options of every command are one line.
const TEMPLATE: &str = "{about}{after-help}

{usage-heading} {usage}

{all-args}

Options of every command: lantern help options";

/// Returns the whole command line, with its help laid out.
pub fn command() -> clap::Command {
    fn lay_out(command: clap::Command) -> clap::Command {
        command.help_template(TEMPLATE).mut_subcommands(lay_out)
    }
    let hide = |option: clap::Arg| if option.is_global_set() { option.hide(true) } else { option };
    lay_out(Cli::command().mut_args(hide))
}
