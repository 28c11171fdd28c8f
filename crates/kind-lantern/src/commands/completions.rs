use super::Done;

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

/// Prints completions of what is below `root`.
pub fn run(args: &Args, mut root: clap::Command) -> Done {
    // Into memory first: the reader may stop reading, and a disk may be full.
    let mut script = Vec::new();
    clap_complete::generate(args.shell, &mut root, "lantern", &mut script);
    crate::ui::print(String::from_utf8_lossy(&script).trim_end());
    Ok(())
}
