//! The command line.

use std::path::PathBuf;

use clap::{Args as _, CommandFactory, Parser, Subcommand, ValueEnum};
use lantern_core::names::Name;

use crate::commands;

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

/// Options of every command.
#[derive(Debug, Clone, clap::Args)]
pub struct Common {
    /// The game's folder, if it is not this one or above it
    #[arg(long, global = true, value_name = "DIR")]
    pub project: Option<PathBuf>,
    /// Print one JSON document, also on failure; asks nothing
    #[arg(long, global = true)]
    pub json: bool,
    /// How progress is shown on standard error
    #[arg(long, global = true, value_name = "HOW")]
    pub progress: Option<ProgressMode>,
    /// When colours are used
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub color: ColorMode,
    /// Show on standard error what is asked and recorded; .lantern/logs always has it
    #[arg(short, long, global = true)]
    pub verbose: bool,
    /// Print only what was asked for and what is wrong
    #[arg(short, long, global = true)]
    pub quiet: bool,
}

/// Which edition a command is about; only where that says something.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct EditionArg {
    /// Only this edition of the game
    #[arg(long = "edition", value_name = "NAME", value_parser = commands::name::<Name>)]
    pub name: Option<Name>,
}

/// Which targets a command is about.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct TargetsArg {
    /// Only this target; several with commas between, or the option again
    #[arg(long = "target", value_name = "NAME", value_delimiter = ',', value_parser = commands::name::<Name>)]
    pub names: Vec<Name>,
}

/// How progress is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ProgressMode {
    /// A bar, redrawn in place
    Bar,
    /// One JSON object a line
    Json,
    /// Not at all
    None,
}

/// When colours are used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ColorMode {
    /// On a terminal, unless NO_COLOR is set
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    Init(commands::init::Args),
    Inspect(commands::inspect::Args),
    Check(commands::check::Args),
    Depots(commands::depots::Args),
    Prepare(commands::prepare::Args),
    Try(commands::trial::Args),
    Releases(commands::releases::Args),
    Keep(commands::keep::Args),
    Number(commands::number::Args),
    Connect(commands::connect::Args),
    Push(commands::push::Args),
    Promote(commands::promote::Args),
    Rollback(commands::rollback::Args),
    Invite(commands::invite::Args),
    Live(commands::live::Args),
    History(commands::history::Args),
    Install(commands::install::Args),
    Verify(commands::verify::Args),
    Repair(commands::repair::Args),
    Ledger(commands::ledger::Args),
    Rehearse(commands::rehearse::Args),
    Demo(commands::demo::Args),
    HelpMe(commands::help_me::Args),
    Completions(commands::completions::Args),
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

/// Returns what `lantern help options` shows.
pub fn common_options() -> clap::Command {
    let command = clap::Command::new("lantern").about("Options of every command").disable_help_flag(true);
    Common::augment_args(command).max_term_width(100).help_template("{about-with-newline}\n{options}")
}
