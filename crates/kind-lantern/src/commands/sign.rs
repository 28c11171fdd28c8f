use std::path::PathBuf;

use lantern_core::names::Name;
use lantern_project::{SignRequest, sign_path};
use lantern_views::sign;

use super::Done;
use super::prepare::passphrases;
use crate::diagnostic::CommandError;
use crate::passphrase::PassphraseArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern sign tide-tools.exe --key studio
  lantern sign build/windows --key studio --time-stamps http://noon-gun.example/stamp
  lantern sign "Saltmarsh Post.app" --key studio --entitlements post.entitlements
  lantern sign build/linux --key studio
  lantern sign letters.zip --key studio"#;

/// Sign a loose file or folder, without a project
///
/// A program, a package or a bundle is signed in itself; any other file gets a signature beside it, FILE.sig, which ssh-keygen verifies.
/// Of a folder, the programs for Windows in it are signed that nobody else has signed, or everything that runs on macOS; where there is
/// neither, a list of all files is written and signed. In a bundle for macOS or iOS everything that runs is signed, from the inside out;
/// --key ad-hoc does it without a certificate, for your own computers. A file is replaced as a whole or not at all. What belongs to a
/// release is signed by lantern prepare.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The file or folder
    path: PathBuf,
    /// A key of the keyring, or in a game's folder one of its signers
    #[arg(long, value_name = "NAME", value_parser = super::name::<Name>)]
    key: Name,
    /// Where the signed file goes; left out, it takes the file's place
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    /// The address of an authority that states when programs were signed. Left out: that of lantern.toml, if there is one
    #[arg(long, value_name = "ADDRESS")]
    time_stamps: Option<String>,
    /// Sign also what someone else has signed
    #[arg(long)]
    sign_again: bool,
    /// Of a folder, sign a list of all files, also where there are programs for Windows in it
    #[arg(long)]
    list: bool,
    /// What a program for macOS or iOS may do: a property list. Left out: what its signature says, or its profile
    #[arg(long, value_name = "FILE")]
    entitlements: Option<PathBuf>,
    /// The profile that is laid into a bundle for macOS or iOS
    #[arg(long, value_name = "FILE")]
    profile: Option<PathBuf>,
    #[command(flatten)]
    passphrase: PassphraseArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    // A project may know signers and an authority; none is needed.
    let project = super::find(ui).ok();
    if args.to.is_some() && args.path.is_dir() {
        let what = format!("--to is for one file, and {} is a folder", args.path.display());
        return Err(CommandError::usage(what, "leave --to out: files are replaced as a whole"));
    }
    let request = SignRequest {
        path: &args.path,
        key: &args.key,
        to: args.to.as_deref(),
        time_stamps: args.time_stamps.as_deref(),
        again: args.sign_again,
        list: args.list,
        entitlements: args.entitlements.as_deref(),
        profile: args.profile.as_deref(),
    };
    let passphrases = passphrases(&args.passphrase, project.as_ref(), ui);
    let signed = sign_path(&request, project.as_ref(), Some(&passphrases), ui.stop.clone(), &ui.progress())?;
    ui.answer(&sign::document(&signed), &sign::view(&signed));
    Ok(())
}
