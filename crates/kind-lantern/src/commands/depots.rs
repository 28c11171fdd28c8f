use lantern_core::names::Name;
use lantern_views::depots::{self, Form};

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern depots
  lantern depots voices-fr --as tree"#;

/// Show which file lands in which depot, in none, in two
///
/// As the exports and the rules in lantern.toml are now; makes nothing. The sizes are those of the files, before
/// compression.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// Only these depots
    #[arg(value_parser = super::name::<Name>)]
    depot: Vec<Name>,
    /// How they are shown
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    form: FormArg,
    #[command(flatten)]
    pub edition: EditionArg,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum FormArg {
    /// A line for each depot
    Table,
    /// Folders with their sizes
    Tree,
    /// Every file
    Files,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let project = super::find(ui)?;
    let mut all: Vec<_> = project.editions().iter().map(|edition| project.depots(edition)).collect();
    if let Some(unknown) =
        args.depot.iter().find(|asked| !all.iter().flat_map(|s| &s.depots).any(|d| d.depot == **asked))
    {
        let what = format!("there is no depot {:?}", unknown.as_str());
        return Err(CommandError::usage(what, "lantern depots lists them all"));
    }
    if !args.depot.is_empty() {
        for shown in &mut all {
            shown.depots.retain(|depot| args.depot.contains(&depot.depot));
        }
    }
    let form = match args.form {
        FormArg::Table => Form::Table,
        FormArg::Tree => Form::Tree,
        FormArg::Files => Form::Files,
    };
    let view = depots::view(&all, form, args.depot.is_empty(), project.has_editions());
    ui.answer(&depots::document(&all, &project), &view);
    Ok(())
}
