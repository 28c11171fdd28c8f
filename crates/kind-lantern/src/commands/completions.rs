use clap::CommandFactory;

use super::Done;
use crate::args::Cli;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern completions bash > ~/.local/share/bash-completion/completions/lantern
  lantern completions fish > ~/.config/fish/completions/lantern.fish"#;

/// Print completions for a shell
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// Which shell
    shell: clap_complete::Shell,
}

pub fn run(args: &Args) -> Done {
    clap_complete::generate(args.shell, &mut Cli::command(), "lantern", &mut std::io::stdout());
    Ok(())
}
