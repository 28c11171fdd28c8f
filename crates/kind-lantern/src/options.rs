//! Options that several commands have, and the parsers of their values.

use std::path::PathBuf;

use clap::{Args as _, ValueEnum};
use lantern_core::names::Name;
use lantern_core::version::ReleaseAsked;

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
    #[arg(long = "edition", value_name = "NAME", value_parser = name::<Name>)]
    pub name: Option<Name>,
}

/// Which targets a command is about.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct TargetsArg {
    /// Only this target; several with commas between, or the option again
    #[arg(long = "target", value_name = "NAME", value_delimiter = ',', value_parser = name::<Name>)]
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

/// Returns what `lantern help options` shows.
pub fn common() -> clap::Command {
    let command = clap::Command::new("lantern").about("Options of every command").disable_help_flag(true);
    Common::augment_args(command).max_term_width(100).help_template("{about-with-newline}\n{options}")
}

/// Reads a release as people name it, for clap.
pub fn release_asked(text: &str) -> Result<ReleaseAsked, String> {
    text.parse().map_err(|e: lantern_core::version::VersionError| e.to_string())
}

/// Reads a day, for clap.
pub fn day(text: &str) -> Result<jiff::civil::Date, String> {
    text.parse().map_err(|_| format!("{text:?} is not a day such as 2027-03-01"))
}

/// Reads any of our names, for clap.
pub fn name<T: std::str::FromStr>(text: &str) -> Result<T, String>
where
    T::Err: std::fmt::Display,
{
    text.parse().map_err(|e: T::Err| e.to_string())
}
