use clap::CommandFactory;

use super::Done;
use crate::args::Cli;

/// Print completions for a shell
///
/// Examples:
///   lantern completions bash > ~/.local/share/bash-completion/completions/lantern
///   lantern completions fish > ~/.config/fish/completions/lantern.fish
#[derive(Debug, clap::Args)]
#[command(verbatim_doc_comment)]
pub struct Args {
    /// Which shell
    shell: clap_complete::Shell,
}

pub fn run(args: &Args) -> Done {
    clap_complete::generate(args.shell, &mut Cli::command(), "lantern", &mut std::io::stdout());
    Ok(())
}
