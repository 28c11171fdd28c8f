use std::path::PathBuf;

use lantern_core::names::Name;
use lantern_core::version::ReleaseAsked;
use lantern_views::release_written;

use super::super::{Done, name, open, release_asked};
use crate::options::EditionArg;
use crate::ui::Ui;

#[derive(Debug, clap::Args)]
pub struct Args {
    /// Which release: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(value_parser = release_asked)]
    release: ReleaseAsked,
    /// Where to; nothing may be there yet
    to: PathBuf,
    /// Only this target
    #[arg(long, value_parser = name::<Name>)]
    target: Option<Name>,
    /// What was kept aside, such as symbols, instead of what players get
    #[arg(long)]
    aside: bool,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let open = open(ui)?;
    let release = open.release(Some(&args.release))?;
    let written = open.write_out(&release, args.target.as_ref(), args.aside, &args.to, &ui.progress())?;
    let (document, view) = (
        release_written::document(&release.name, &written, &args.to),
        release_written::view(&release.name, &written, &args.to),
    );
    ui.answer(&document, &view);
    Ok(())
}
