use std::path::PathBuf;

use lantern_core::names::Name;
use lantern_core::version::ReleaseAsked;
use lantern_views::statement;

use super::super::prepare::passphrases;
use super::super::{Done, name, open, release_asked};
use crate::options::EditionArg;
use crate::passphrase::PassphraseArg;
use crate::ui::Ui;

#[derive(Debug, clap::Args)]
pub struct Args {
    /// Which release: 1.4.0, 27, or "1.4.0 (27)"
    #[arg(value_parser = release_asked)]
    release: ReleaseAsked,
    /// The file to write, such as saltmarsh-1.4.0.statement.json
    to: PathBuf,
    /// The key that signs it: of the keyring, or one of the signers of lantern.toml
    #[arg(long, value_name = "NAME", value_parser = name::<Name>)]
    key: Name,
    #[command(flatten)]
    passphrase: PassphraseArg,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let open = open(ui)?;
    let release = open.release(Some(&args.release))?;
    let passphrases = passphrases(&args.passphrase, Some(&open.project), ui);
    let written = open.write_statement(&release, &args.key, &args.to, Some(&passphrases), &ui.progress())?;
    ui.answer(&statement::written_document(&release.name, &written), &statement::written(&release.name, &written));
    Ok(())
}
