use std::path::PathBuf;

use lantern_core::names::Name;
use lantern_core::version::{ReleaseAsked, ReleaseName};
use serde::Serialize;

use super::super::{Done, name, open, release_asked};
use crate::args::EditionArg;
use crate::format;
use crate::paint::{good, strong};
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

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    release: &'a ReleaseName,
    path: String,
    targets: &'a [Name],
    files: u64,
    bytes: u64,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let open = open(ui)?;
    let release = open.release(Some(&args.release))?;
    let written = open.write_out(&release, args.target.as_ref(), args.aside, &args.to, &ui.progress())?;
    let path = args.to.display().to_string();
    ui.document(&Document {
        schema: "lantern.release-written/1",
        release: &release.name,
        path: path.clone(),
        targets: &written.targets,
        files: written.files,
        bytes: written.size,
    });
    ui.say(&format!("{} {} to {path}", good("written"), strong(&release.name)));
    let (files, size) = (format::count(written.files, "file", "files"), format::bytes(written.size));
    ui.say(&format!("  {}: {files}, {size}", format::names(&written.targets)));
    Ok(())
}
