use std::path::{Path, PathBuf};

use lantern_exports::inspect::Signature;
use lantern_project::{has_signature_beside, is_loose_bundle, is_statement};
use lantern_views::{format, statement, verify};

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern verify ~/games/saltmarsh
  lantern verify saltmarsh.apk
  lantern verify "Saltmarsh Post.app"
  lantern verify saltmarsh/SHA256SUMS
  lantern verify"#;

/// Check an installed copy, the signature of a file, or every sealed release of the project
///
/// With a folder: every file that was installed there is read and checked against its digest. With a program, a package
/// or a bundle for macOS: whether all that its signature covers is as it was signed, and by which key. With a file that has its signature beside it,
/// FILE.sig: the same, and of a list such as SHA256SUMS every file that it names. With a statement of lantern releases statement:
/// whether it is as it was signed, what it says, and with --files whether files are as it says. Without: everything in the project's store
/// is checked. It only reads: lantern repair repairs.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// A folder that lantern installed into, or a signed file
    path: Option<PathBuf>,
    /// Of a statement: the folder with the files that it is about
    #[arg(long, value_name = "DIR", requires = "path")]
    files: Option<PathBuf>,
    #[command(flatten)]
    pub edition: EditionArg,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    match &args.path {
        Some(file) if is_statement(file) => statement(file, args.files.as_deref(), ui),
        Some(file) if args.files.is_some() => {
            let what =
                format!("{} is no statement of lantern releases statement, and --files is for one", file.display());
            Err(CommandError::usage(what, "leave --files out"))
        }
        // Programs and packages have their signature in themselves.
        Some(file) if file.is_file() && has_signature_beside(file) => beside(file, ui),
        Some(file) if file.is_file() => signature(file, ui),
        Some(folder) if is_loose_bundle(folder) => signature(folder, ui),
        Some(folder) => installed(folder, ui),
        None => store(ui),
    }
}

fn installed(folder: &Path, ui: &Ui) -> Done {
    let (about, verified) = lantern_project::verify_installed(folder, &ui.progress())?;
    let about = about.as_ref();
    ui.answer(&verify::installed_document(about, &verified), &verify::installed(about, &verified));
    let count = verified.wrong.len();
    if count == 0 {
        return Ok(());
    }
    let (are, files) = (if count == 1 { "is" } else { "are" }, format::count(verified.files, "file", "files"));
    let what = format!("{count} of {files} of {} {are} wrong", verify::name_of(about));
    let fix = match about {
        Some(_) => format!("lantern repair {}", folder.display()),
        None => "install again into the same folder".to_owned(),
    };
    Err(CommandError::damaged(what, fix).said_in(ui))
}

/// A statement of how a release came about.
fn statement(file: &Path, folder: Option<&Path>, ui: &Ui) -> Done {
    let found = lantern_project::verify_statement(file, folder, &ui.progress())?;
    ui.answer(&statement::verified_document(file, &found), &statement::verified(file, &found));
    let name = file.display();
    match &found {
        Err(_) => {
            let what = format!("the statement {name} does not hold");
            Err(CommandError::damaged(what, again(true)).said_in(ui))
        }
        Ok(verified) if !verified.wrong.is_empty() => {
            let files = format::count(verified.wrong.len() as u64, "file is", "files are");
            let what = format!("{files} not as {name} says");
            Err(CommandError::damaged(what, again(verified.wrong.len() == 1)).said_in(ui))
        }
        Ok(_) => Ok(()),
    }
}

/// A signature that lies beside what it signs.
fn beside(file: &Path, ui: &Ui) -> Done {
    let verified = lantern_project::verify_beside(file, &ui.progress())?;
    ui.answer(&verify::beside_document(&verified), &verify::beside(&verified));
    if verified.is_intact() {
        return Ok(());
    }
    let name = file.display();
    let what = match (&verified.wrong, verified.listed_wrong.len()) {
        (Some(_), _) => format!("the signature of {name} does not hold"),
        (None, 1) => format!("1 file that {name} lists is wrong"),
        (None, count) => format!("{count} files that {name} lists are wrong"),
    };
    let is_one = verified.wrong.is_some() || verified.listed_wrong.len() == 1;
    Err(CommandError::damaged(what, again(is_one)).said_in(ui))
}

/// What to do about files that are not what they should be.
fn again(is_one: bool) -> &'static str {
    if is_one { "get it again from where it came from" } else { "get them again from where they came from" }
}

fn signature(file: &Path, ui: &Ui) -> Done {
    // A key may be pinned where there is a project; none is needed.
    let project = super::find(ui).ok();
    let verified = lantern_project::verify_file(file, project.as_ref(), &ui.progress())?;
    ui.answer(&verify::signature_document(&verified), &verify::signature(&verified));
    let name = file.display();
    let signature = &verified.seen.signature;
    if matches!(signature, Signature::None | Signature::NotUsual) && verified.wrong().next().is_none() {
        let what = format!("{name} has no signature: whether it is as its makers left it cannot be said");
        return Err(CommandError::refused(what, format!("lantern inspect {name} shows what it is")).said_in(ui));
    }
    if verify::is_intact(signature) == Some(false) {
        let what = format!("the signature of {name} does not hold");
        return Err(CommandError::damaged(what, "get it again from where it came from").said_in(ui));
    }
    if let (Some(false), Some((role, pinned))) = (verified.is_pinned(), verified.pinned) {
        let what = format!("{name} is signed, and not with the key that lantern.toml pins ({}, {pinned})", role.key());
        return Err(CommandError::refused(what, "ask who signed it; lantern key list shows your keys").said_in(ui));
    }
    Ok(())
}

fn store(ui: &Ui) -> Done {
    let found = super::open(ui)?.verify_store(&ui.progress())?;
    ui.answer(&verify::store_document(&found), &verify::store(&found));
    if found.wrong.is_empty() {
        return Ok(());
    }
    let names: Vec<String> = found.broken.iter().map(ToString::to_string).collect();
    let what = match names.as_slice() {
        [] => "the store contains damaged files; no release needs them".to_owned(),
        [one] => format!("the store is damaged: {one} is not whole"),
        several => format!("the store is damaged: {} are not whole", several.join(", ")),
    };
    Err(CommandError::damaged(what, "lantern repair").said_in(ui))
}
