use std::fs;
use std::path::{Path, PathBuf};

use clap::Subcommand;
use lantern_core::config::AD_HOC;
use lantern_core::names::Name;
use lantern_core::pins::Role;
use lantern_keys::certificate;
#[cfg(debug_assertions)]
use lantern_keys::certificate::Purpose;
use lantern_keys::file::{self, KeyFile};
use lantern_keys::key::Algorithm;
use lantern_keys::keyring::{self, Facts, Keyring, OpenKey, Origin};
use lantern_keys::pkcs12::Entry;
use lantern_keys::sheets::{self, Recovered, SheetError};
use lantern_keys::{KeyError, Passphrase};
use lantern_project::Project;
use lantern_sign::SignError;
use lantern_sign::rotation::Lineage;
use lantern_store::durable;
use lantern_views::{key, recovery_sheet};
use zeroize::Zeroizing;

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::passphrase::{self, PassphraseArg, passphrase_in};
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern key new saltmarsh-mobile
  lantern key import saltmarsh-mobile old-key.jks
  lantern key backup saltmarsh-mobile /media/stick/saltmarsh-mobile.p12
  lantern key drill saltmarsh-mobile /media/stick/saltmarsh-mobile.p12
  lantern key backup saltmarsh-mobile sheets --sheets 3/5"#;

/// Make signing keys, bring those that you have, back them up and try the backups
///
/// Keys lie in your own folder, outside of every project, each in a file of PKCS #12 with a passphrase. A target signs with the
/// key that its "sign" in lantern.toml names. A passphrase is asked for, or taken from a file, the variable
/// LANTERN_KEY_PASSPHRASE, or the key store of the system.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    #[command(subcommand)]
    action: Option<Action>,
}

#[derive(Debug, Subcommand)]
enum Action {
    /// List the keys, with the day until which each is valid, and its backups
    List,
    /// Show everything that is known of a key
    Show(Named),
    /// Make a key with a certificate for 30 years
    New(New),
    /// Bring a key from a file: PKCS #12, PEM, or the older store of Java; or from recovery sheets
    Import(Import),
    /// Write a key, or its certificate alone, into a file for someone else
    Export(Export),
    /// Write a copy of a key to another disk, or divide it over sheets of paper
    Backup(Backup),
    /// Keep a key's passphrase in the key store of this system, or take it from a program; without either it is asked for again
    Remember(Remember),
    /// Pin the key that devices or storefronts know the game by, before the first release is signed here
    Pin(Pin),
    /// Let another key follow one, for devices that know of it
    Rotate(Rotate),
    /// Open a copy, or put sheets together, in memory; sign with it, and note the day
    Drill(Drill),
}

#[derive(Debug, clap::Args)]
struct Named {
    /// The key's name
    #[arg(value_parser = super::name::<Name>)]
    name: Name,
}

#[derive(Debug, clap::Args)]
struct New {
    #[command(flatten)]
    key: Named,
    /// rsa-3072, rsa-4096 or p-256
    #[arg(long, value_name = "KIND", default_value = "rsa-3072", value_parser = kind)]
    kind: Algorithm,
    /// The certificate's name, as RFC 4514 writes it, such as "CN=Paper Heron,C=IS". Left out: the studio's name
    #[arg(long, value_name = "NAME")]
    subject: Option<String>,
    /// Years that the certificate is valid for
    #[arg(long, value_name = "YEARS", default_value_t = certificate::YEARS)]
    years: u16,
    /// Keep its passphrase in the key store of this system. Where none is given, one is made up that nobody has to know
    #[arg(long)]
    in_key_store: bool,
    #[command(flatten)]
    passphrase: PassphraseArg,
}

#[derive(Debug, clap::Args)]
struct Import {
    #[command(flatten)]
    key: Named,
    /// The file; of recovery sheets, as many as it takes
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    /// The file's own passphrase, in a file. Left out: asked for, or the one for the keyring
    #[arg(long, value_name = "FILE")]
    file_passphrase_file: Option<PathBuf>,
    /// The passphrase of the key within its store, in a file, where it is another one
    #[arg(long, value_name = "FILE")]
    key_passphrase_file: Option<PathBuf>,
    /// How the file calls the key, where it has several
    #[arg(long, value_name = "NAME")]
    alias: Option<String>,
    #[command(flatten)]
    passphrase: PassphraseArg,
}

#[derive(Debug, clap::Args)]
struct Export {
    #[command(flatten)]
    key: Named,
    /// Where it is written to; a file that is there is not replaced
    to: PathBuf,
    /// The certificate alone, as PEM: it is public
    #[arg(long)]
    certificate: bool,
    #[command(flatten)]
    passphrase: PassphraseArg,
}

#[derive(Debug, clap::Args)]
struct Backup {
    #[command(flatten)]
    key: Named,
    /// The copy, or with --sheets the folder for the sheets; one that is there is not replaced
    to: PathBuf,
    /// Divide the key over sheets to print, so that any K of N bring it back
    #[arg(long, value_name = "K/N", value_parser = sheets)]
    sheets: Option<(u8, u8)>,
    #[command(flatten)]
    passphrase: PassphraseArg,
}

#[derive(Debug, clap::Args)]
struct Drill {
    #[command(flatten)]
    key: Named,
    /// The copy; or sheets: the files of them, or texts with their codes or words
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    #[command(flatten)]
    passphrase: PassphraseArg,
}

#[derive(Debug, clap::Args)]
struct Remember {
    #[command(flatten)]
    key: Named,
    /// Keep it in the key store of this system
    #[arg(long, conflicts_with = "run")]
    in_key_store: bool,
    /// The program that prints the passphrase, and its arguments
    #[arg(last = true, value_name = "PROGRAM")]
    run: Vec<String>,
    #[command(flatten)]
    passphrase: PassphraseArg,
}

#[derive(Debug, clap::Args)]
struct Pin {
    #[command(flatten)]
    key: Named,
    /// Who knows the game by it: on-device (packages) or at-storefront (bundles)
    #[arg(long, value_name = "ROLE", default_value = "on-device", value_parser = role)]
    role: Role,
    #[command(flatten)]
    edition: EditionArg,
}

fn role(text: &str) -> Result<Role, String> {
    let known = [Role::OnDevice, Role::AtStorefront].into_iter().find(|role| role.key() == text);
    known.ok_or_else(|| "one of on-device, at-storefront".to_owned())
}

#[derive(Debug, clap::Args)]
struct Rotate {
    /// The key that devices know
    #[arg(value_parser = super::name::<Name>)]
    from: Name,
    /// The key that is to sign from now on
    #[arg(value_parser = super::name::<Name>)]
    to: Name,
    /// Where the chain of both is written to, for lantern.toml; it is public, and a file that is there is not replaced
    file: PathBuf,
    /// The chain by which the first key followed an earlier one
    #[arg(long, value_name = "FILE")]
    after: Option<PathBuf>,
    #[command(flatten)]
    passphrase: PassphraseArg,
}

fn sheets(text: &str) -> Result<(u8, u8), String> {
    let numbers = text.split_once('/').and_then(|(needed, of)| Some((needed.parse().ok()?, of.parse().ok()?)));
    numbers.ok_or_else(|| "two numbers such as 3/5: three of five bring the key back".to_owned())
}

/// What sheets brought back; none for a file that is a copy on its own.
fn from_sheets(files: &[PathBuf], ui: &Ui) -> Result<Option<Recovered>, CommandError> {
    let mut read = sheets::Read::default();
    let texts: Vec<_> = files
        .iter()
        .map(|path| durable::read_limited(path, sheets::MAX_TEXT_LEN).map(|bytes| (path, Zeroizing::new(bytes))))
        .collect::<Result<_, _>>()
        .map_err(KeyError::from)?;
    let is_alone = texts.len() == 1;
    if texts.iter().any(|(_, bytes)| is_alone && KeyFile::of(bytes).is_ok()) {
        return Ok(None);
    }
    for (path, bytes) in &texts {
        match read.file(&path.display().to_string(), bytes) {
            // It may be a damaged key.
            Err(SheetError::NoShare { .. }) if is_alone => return Ok(None),
            read => read.map_err(KeyError::from)?,
        }
    }
    if ui.is_stopped() {
        return Err(CommandError::stopped());
    }
    Ok(Some(read.open()?))
}

fn kind(text: &str) -> Result<Algorithm, String> {
    match text {
        "rsa-3072" => Ok(Algorithm::Rsa(3072)),
        "rsa-4096" => Ok(Algorithm::Rsa(4096)),
        "p-256" => Ok(Algorithm::P256),
        _ => Err("one of rsa-3072, rsa-4096, p-256".to_owned()),
    }
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let keyring = lantern_project::keyring()?;
    match args.action.as_ref().unwrap_or(&Action::List) {
        Action::List => list(&keyring, ui),
        Action::Show(args) => show(&keyring, &args.name, ui),
        Action::New(args) => new(&keyring, args, ui),
        Action::Import(args) => import(&keyring, args, ui),
        Action::Export(args) => export(&keyring, args, ui),
        Action::Backup(args) => backup(&keyring, args, ui),
        Action::Remember(args) => remember(&keyring, args, ui),
        Action::Pin(args) => pin(&keyring, args, ui),
        Action::Rotate(args) => rotate(&keyring, args, ui),
        Action::Drill(args) => drill(&keyring, args, ui),
    }
}

/// What is known of a key; what is noted of it is made again with its passphrase where it is damaged.
fn facts(keyring: &Keyring, name: &Name, passphrase: &PassphraseArg, ui: &Ui) -> Result<Facts, CommandError> {
    match keyring.facts(name) {
        Err(KeyError::Malformed(_)) => {
            ui.aside(&format!("what is noted of the key {name} is damaged or gone; its passphrase brings it back"));
            keyring.open(name, &passphrase.of_key(name, ui)?)?;
            Ok(keyring.facts(name)?)
        }
        found => Ok(found?),
    }
}

fn list(keyring: &Keyring, ui: &Ui) -> Done {
    let mut all = Vec::new();
    for name in keyring.names()? {
        match facts(keyring, &name, &PassphraseArg::default(), ui) {
            Ok(known) => all.push(known),
            // One key that nothing can be said of hides no other.
            Err(error) if !ui.is_stopped() => ui.aside(&format!("{name}: {}", error.in_short())),
            Err(error) => return Err(error),
        }
    }
    ui.answer(&key::list_document(&all), &key::list(&all, keyring.folder()));
    Ok(())
}

fn show(keyring: &Keyring, name: &Name, ui: &Ui) -> Done {
    let facts = facts(keyring, name, &PassphraseArg::default(), ui)?;
    let project = Project::find(&ui.project, ui.stop.clone()).ok();
    let view = key::show(&facts, project.as_ref().map(Project::config), &keyring.path_of(name));
    ui.answer(&key::document(&facts), &view);
    Ok(())
}

fn new(keyring: &Keyring, args: &New, ui: &Ui) -> Done {
    let name = &args.key.name;
    refuse_taken(keyring, name)?;
    let subject = match &args.subject {
        Some(text) => certificate::name_of_text(text)?,
        None => {
            let project = Project::find(&ui.project, ui.stop.clone()).ok();
            let studio = match project.map(|project| project.config().game.studio.clone()) {
                Some(studio) => studio,
                None => ui.ask("The studio's name, for the certificate:", "the studio's name", "--subject")?,
            };
            certificate::name_of_studio(&studio)
        }
    };
    let passphrase = match args.passphrase.given()? {
        None if args.in_key_store => Passphrase::generate()?,
        _ => args.passphrase.for_new(name, ui)?,
    };
    let passphrase = (&passphrase, args.in_key_store);
    let now = lantern_project::now();
    #[cfg(debug_assertions)]
    if let Some(key) = super::for_tests::key() {
        let entry = keyring::with_certificate(key?, &subject, Purpose::Code, args.years, now, [1; 16])?;
        return add(keyring, name, entry, passphrase, Origin::Made, ui);
    }
    let entry = keyring::make(args.kind, &subject, args.years, now)?;
    add(keyring, name, entry, passphrase, Origin::Made, ui)
}

fn add(keyring: &Keyring, name: &Name, entry: Entry, passphrase: (&Passphrase, bool), origin: Origin, ui: &Ui) -> Done {
    let facts = keyring.add(name, entry, passphrase, origin, lantern_project::now())?;
    ui.answer(&key::document(&facts), &key::added(&facts, &keyring.path_of(name)));
    Ok(())
}

fn refuse_taken(keyring: &Keyring, name: &Name) -> Done {
    if name.as_str() == AD_HOC {
        let what = format!("{AD_HOC} stands for signatures without a key");
        return Err(CommandError::usage(what, "take another name"));
    }
    match keyring.names()?.contains(name) {
        true => Err(KeyError::Exists { name: name.to_string() }.into()),
        false => Ok(()),
    }
}

fn import(keyring: &Keyring, args: &Import, ui: &Ui) -> Done {
    let name = &args.key.name;
    refuse_taken(keyring, name)?;
    if let Some(found) = from_sheets(&args.files, ui)? {
        let passphrase = args.passphrase.for_new(name, ui)?;
        return add(keyring, name, found.entry, (&passphrase, false), Origin::Imported, ui);
    }
    let Some(path) = args.files.first() else { return Ok(()) };
    let bytes = durable::read_limited(path, file::MAX_LEN).map_err(KeyError::from)?;
    let from = KeyFile::of(&bytes)?;
    let of_file = match &args.file_passphrase_file {
        _ if !from.needs_passphrase() => None,
        Some(own) => Some(passphrase_in(own)?),
        None => {
            let question = format!("The passphrase of {} (not shown):", path.display());
            Some(args.passphrase.given_or_asked(&question, ui)?)
        }
    };
    let of_key = args.key_passphrase_file.as_deref().map(passphrase_in).transpose()?;
    let entry = from.read(of_file.as_ref(), of_key.as_ref(), args.alias.as_deref())?;
    let passphrase = match of_file {
        Some(of_file) => passphrase::for_imported(&args.passphrase, of_file, name, ui)?,
        None => args.passphrase.for_new(name, ui)?,
    };
    add(keyring, name, entry, (&passphrase, false), Origin::Imported, ui)
}

fn export(keyring: &Keyring, args: &Export, ui: &Ui) -> Done {
    let name = &args.key.name;
    let facts = facts(keyring, name, &args.passphrase, ui)?;
    if args.certificate {
        keyring.export_certificates(&facts, &args.to)?;
    } else {
        let (key, passphrase) = opened(keyring, &facts, &args.passphrase, ui)?;
        keyring.export(&key, &args.to, &passphrase)?;
    }
    ui.answer(&key::document(&facts), &key::exported(name, &args.to, args.certificate));
    Ok(())
}

fn backup(keyring: &Keyring, args: &Backup, ui: &Ui) -> Done {
    let name = &args.key.name;
    let known = facts(keyring, name, &args.passphrase, ui)?;
    if let Some(numbers) = args.sheets {
        let key = keyring.open(name, &args.passphrase.of_key(name, ui)?)?;
        return divide(keyring, &key, &args.to, numbers, ui);
    }
    let (key, passphrase) = opened(keyring, &known, &args.passphrase, ui)?;
    let to = std::path::absolute(&args.to).map_err(|error| CommandError::io("find the folder", error))?;
    keyring.back_up(&key, &to, &passphrase, lantern_project::now())?;
    let facts = keyring.facts(name)?;
    ui.answer(&key::document(&facts), &key::backed_up(&facts, &args.to));
    Ok(())
}

/// A key that is about to be written somewhere else, and the passphrase of what is written: its own, or, where only the key store of
/// this system knows that, another one.
fn opened(
    keyring: &Keyring,
    known: &Facts,
    given: &PassphraseArg,
    ui: &Ui,
) -> Result<(OpenKey, Passphrase), CommandError> {
    let name = &known.name;
    if known.passphrase_from.is_key_store()
        && let Some(kept) = keyring.remembered(name, &|| ui.is_stopped())?
    {
        return Ok((keyring.open(name, &kept)?, given.for_copy(name, ui)?));
    }
    let passphrase = given.of_key(name, ui)?;
    Ok((keyring.open(name, &passphrase)?, passphrase))
}

/// Writes a key as sheets into a folder that is not there yet.
fn divide(keyring: &Keyring, opened: &OpenKey, folder: &Path, (needed, of): (u8, u8), ui: &Ui) -> Done {
    let set = keyring.divide(opened, needed, of)?;
    let project = Project::find(&ui.project, ui.stop.clone()).ok();
    let (facts, now) = (keyring.facts(&opened.name)?, lantern_project::now());
    if folder.exists() {
        let what = format!("{} is there already", folder.display());
        return Err(CommandError::usage(what, "name a folder that is not there yet: nothing is replaced"));
    }
    let config = project.as_ref().map(Project::config);
    let page = |share| recovery_sheet::page(&set, share, &facts, config, now);
    let pages = set.shares.iter().map(page).collect::<Result<Vec<_>, _>>();
    let pages = pages.map_err(|error| CommandError::io("make a code", std::io::Error::other(error)))?;
    durable::create_private_folder(folder).map_err(KeyError::from)?;
    let paths: Vec<PathBuf> =
        set.shares.iter().map(|share| folder.join(format!("sheet-{}.html", share.place))).collect();
    let write =
        |(path, page): (&PathBuf, &Zeroizing<String>)| durable::write_private_new(path, page.as_bytes()).map(|_| ());
    if let Err(error) = paths.iter().zip(&pages).try_for_each(write) {
        // Some sheets of a set are none that anybody should print; the error is the one to report.
        paths.iter().for_each(|path| drop(fs::remove_file(path)));
        let _ = fs::remove_dir(folder);
        return Err(KeyError::from(error).into());
    }
    let facts = keyring.note_sheets(&opened.name, &set, now).map_err(|error| {
        let whole = format!("the sheets in {} are whole: lantern key drill notes them", folder.display());
        CommandError::from(error).or_else(whole)
    })?;
    ui.answer(&key::document(&facts), &key::divided(&facts, &set, folder));
    Ok(())
}

fn remember(keyring: &Keyring, args: &Remember, ui: &Ui) -> Done {
    let name = &args.key.name;
    let known = facts(keyring, name, &args.passphrase, ui)?;
    let facts = match (args.in_key_store, args.run.is_empty()) {
        (true, _) => keyring.keep_in_key_store(name, &args.passphrase.of_key(name, ui)?)?,
        (false, true) if known.passphrase_from.is_key_store() => {
            keyring.ask_again(name, Some(&args.passphrase.given_or_typed(name, ui)?))?
        }
        (false, true) => keyring.ask_again(name, None)?,
        (false, false) => keyring.remember(name, &args.run, &|| ui.is_stopped())?,
    };
    ui.answer(&key::document(&facts), &key::remembered(&facts));
    Ok(())
}

fn pin(keyring: &Keyring, args: &Pin, ui: &Ui) -> Done {
    let name = &args.key.name;
    let facts = facts(keyring, name, &PassphraseArg::default(), ui)?;
    let project = super::find(ui)?;
    let edition = args.edition.name.clone().unwrap_or_else(Name::full_edition);
    let finding = project.pin_key(&edition, args.role, name)?;
    ui.answer(&key::document(&facts), &key::pinned(&finding));
    Ok(())
}

fn rotate(keyring: &Keyring, args: &Rotate, ui: &Ui) -> Done {
    let next = facts(keyring, &args.to, &args.passphrase, ui)?;
    facts(keyring, &args.from, &args.passphrase, ui)?;
    let failed = |error: SignError| match error {
        SignError::Refused { what, fix } => CommandError::usage(what, fix),
        SignError::Key(error) => error.into(),
        other => CommandError::computer(other.to_string(), "lantern key rotate --help"),
    };
    let read = |path: &PathBuf| -> Result<Lineage, CommandError> {
        Lineage::read(&durable::read_limited(path, file::MAX_LEN).map_err(KeyError::from)?).map_err(failed)
    };
    let earlier = args.after.as_ref().map(read).transpose()?;
    let opened = keyring.open(&args.from, &args.passphrase.of_key(&args.from, ui)?)?;
    let own = next.chain.first().ok_or(KeyError::NoKey)?;
    let lineage = Lineage::of(&opened, own, earlier.as_ref()).map_err(failed)?;
    if !durable::write_new(&args.file, lineage.file().as_bytes()).map_err(KeyError::from)? {
        let what = format!("{} is there already", args.file.display());
        return Err(CommandError::usage(what, "name a file that is not there yet: nothing is replaced"));
    }
    ui.answer(&key::document(&next), &key::rotated(&args.from, &next, &args.file, lineage.certificates().len()));
    Ok(())
}

fn drill(keyring: &Keyring, args: &Drill, ui: &Ui) -> Done {
    let name = &args.key.name;
    let known = facts(keyring, name, &args.passphrase, ui)?;
    if let Some(found) = from_sheets(&args.files, ui)? {
        let (set, needed) = (found.set.clone(), found.needed);
        let facts = keyring.drill_sheets(name, found, lantern_project::now())?;
        ui.answer(&key::document(&facts), &key::drilled_sheets(&facts, &set, needed));
        return Ok(());
    }
    let Some(file) = args.files.first() else { return Ok(()) };
    let passphrase = match known.passphrase_from.is_key_store() {
        true => args.passphrase.given_or_asked("The passphrase of the copy (not shown):", ui)?,
        false => args.passphrase.of_key(name, ui)?,
    };
    let copy = std::path::absolute(file).map_err(|error| CommandError::io("find the folder", error))?;
    let facts = keyring.drill(name, &copy, &passphrase, lantern_project::now())?;
    ui.answer(&key::document(&facts), &key::drilled(&facts, file));
    Ok(())
}
