use super::Done;
use crate::diagnostic::CommandError;
use crate::options;
use crate::ui::Ui;

/// The topic that is no command.
const OPTIONS: &str = "options";

/// Show the help of a command, or the options that every command has
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  lantern help push\n  lantern help options")]
pub struct Args {
    /// A command, or options
    #[arg(value_name = "TOPIC")]
    topic: Vec<String>,
}

/// Shows the help of what is below `root`.
pub fn run(args: &Args, mut root: clap::Command, ui: &Ui) -> Done {
    let texts: Vec<&str> = args.topic.iter().map(String::as_str).collect();
    if texts == [OPTIONS] {
        ui.say(&options::common().render_long_help().ansi().to_string());
        return Ok(());
    }
    root.build();
    let mut command = &mut root;
    for text in texts {
        let known: Vec<String> = command.get_subcommands().map(|c| c.get_name().to_owned()).collect();
        command = command.find_subcommand_mut(text).ok_or_else(|| {
            let near = lantern_core::names::nearest(text, known.iter().map(String::as_str).chain([OPTIONS]));
            let fix =
                near.map_or_else(|| "lantern --help lists them".to_owned(), |near| format!("did you mean {near}?"));
            CommandError::usage(format!("there is no command {text:?}"), fix)
        })?;
    }
    ui.say(&command.render_long_help().ansi().to_string());
    Ok(())
}
