//! `sign` of a loose file or folder, without a project.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use lantern_core::config::{AD_HOC, TimeStamps};
use lantern_core::finding::{Code, Finding};
use lantern_core::names::Name;
use lantern_core::parallel::{map, map_by, processors};
use lantern_core::progress::{Progress, Silent, Task, Watched};
use lantern_exports::export::Form;
use lantern_formats::hash::Hash;
use lantern_formats::pe::Pe;
use lantern_sign::pe::Description;
use lantern_sign::stamp::Edits;
use lantern_sign::stamp::program::Patches;
use lantern_sign::{SignError, apk, bundle_jar, ssh};
use lantern_store::durable;

use crate::in_place::{Did, PART, reading, replace};
use crate::keys::{Known, note_used};
use crate::listed::{self, LIST, LIST_SIGNATURE, is_own};
use crate::not_changed::of_file;
use crate::sign_code::{CodeSeal, Words};
use crate::sign_code_path::{self, CodeAt};
use crate::sign_files::{Clock, Seal, Standing, signed_by, signed_list};
use crate::stamp_and_sign::AsConfigured;
use crate::{Passphrases, Project, ProjectError, keyring};

/// What the file of a detached signature ends with.
pub(crate) const BESIDE: &str = ".sig";

/// What to sign, and how.
#[derive(Debug)]
pub struct SignRequest<'a> {
    /// A file or a folder.
    pub path: &'a Path,
    /// A key of the keyring, or one of the project's signers.
    pub key: &'a Name,
    /// Where the signed file goes; none: it takes the file's place.
    pub to: Option<&'a Path>,
    /// The address of a time-stamp authority, instead of the project's.
    pub time_stamps: Option<&'a str>,
    /// Sign also what others have signed.
    pub again: bool,
    /// Of a folder, sign a list of all files instead of its programs.
    pub list: bool,
    /// What a program for macOS or iOS may do: a property list.
    pub entitlements: Option<&'a Path>,
    /// The profile that is laid into a bundle.
    pub profile: Option<&'a Path>,
}

/// What was signed.
#[derive(Debug)]
pub struct SignedPath {
    /// With what.
    pub key: Name,
    /// Each file that was looked at, in their order.
    pub files: Vec<(PathBuf, Did)>,
}

struct Signs<'a> {
    request: &'a SignRequest<'a>,
    seal: Seal<'a>,
    /// Whether the signer may be asked by several at once.
    in_parallel: bool,
    progress: &'a dyn Progress,
}

/// Signs a file: a package or a program in itself, and anything else with a signature beside it. Of a folder, the programs in it, or a
/// list of its files. Files are replaced as a whole, or not at all.
///
/// # Errors
/// Those of the key, of the authority, and of reading and writing.
pub fn sign_path(
    request: &SignRequest<'_>,
    project: Option<&Project>,
    passphrases: Option<&Passphrases>,
    stop: Arc<AtomicBool>,
    progress: &dyn Progress,
) -> Result<SignedPath, ProjectError> {
    let code = CodeAt::of(request.path).map_err(reading(request.path))?.filter(|_| !request.list);
    let is_ad_hoc = request.key.as_str() == AD_HOC;
    if code.is_none() && (is_ad_hoc || request.entitlements.is_some() || request.profile.is_some()) {
        let what = format!("{} is neither a program nor a bundle for macOS or iOS", request.path.display());
        let fix = "ad-hoc, --entitlements and --profile are for those";
        return Err(ProjectError::Findings(vec![Finding::of(Code::CannotSign, what, fix)]));
    }
    let words = Words::of_files(request.entitlements, request.profile)?;
    let mut seal = CodeSeal {
        name: request.key,
        signer: None,
        is_unsigned: false,
        in_parallel: true,
        clock: None,
        words: &words,
        stamp: None,
    };
    let sign =
        |code: &CodeAt, seal: &CodeSeal<'_>| sign_code_path::sign((request.path, code), request.to, seal, progress);
    if let Some(code) = code.as_ref().filter(|_| is_ad_hoc) {
        return Ok(SignedPath { key: request.key.clone(), files: sign(code, &seal)? });
    }
    let known = match project {
        Some(project) => project.known_key(request.key).map_err(|finding| ProjectError::Findings(vec![*finding]))?,
        None => Known::Key(keyring()?.facts(request.key)?),
    };
    let configured = project.and_then(|project| project.config().time_stamps.clone());
    let given = request.time_stamps.map(|address| TimeStamps { authority: address.to_owned(), may_be_missing: false });
    let clock = given.or(configured).map(|of| Clock::new(&of, stop));
    let clock = clock.transpose().map_err(|error| ProjectError::NoHttp(error.to_string()))?;
    let opening = AsConfigured::for_one(keyring()?, passphrases.cloned());
    let signer = opening.signer(request.key, &known)?;
    let name = project.map(|project| project.config().game.name.clone()).unwrap_or_default();
    let about = Description { name, address: None };
    // A program of the studio's own may ask a person.
    (seal.signer, seal.clock) = (Some(&*signer), clock.as_ref());
    seal.in_parallel = !matches!(known, Known::Program(..));
    let signs = Signs {
        request,
        seal: Seal { name: request.key, signer: &*signer, about: &about, clock: clock.as_ref() },
        in_parallel: seal.in_parallel,
        progress,
    };
    let is_folder = fs::metadata(request.path).map_err(reading(request.path))?.is_dir();
    let files = match &code {
        // There may be programs for Windows, too.
        Some(CodeAt::Folder) => signs.folder(sign(&CodeAt::Folder, &seal)?)?,
        Some(code) => sign(code, &seal)?,
        None if is_folder => signs.folder(Vec::new())?,
        None => vec![(request.path.to_owned(), signs.file(request.path)?)],
    };
    if files.iter().any(|(_, did)| matches!(did, Did::Signed | Did::Beside(_))) {
        note_used(&keyring()?, &known);
    }
    Ok(SignedPath { key: request.key.clone(), files })
}

/// Whether a file is a program or library for Windows.
fn is_program(path: &Path) -> bool {
    File::open(path).is_ok_and(|mut file| Pe::read(&mut file).is_ok())
}

impl Signs<'_> {
    fn error(&self, path: &Path, error: SignError) -> ProjectError {
        let shown = path.display().to_string();
        of_file("used", self.seal.name, (&shown, path), error, "sign without time stamps").into()
    }

    /// Something went wrong with reading, or someone asked to stop.
    fn not_read(&self, path: &Path) -> impl FnOnce(std::io::Error) -> ProjectError {
        let (is_stopped, reading) = (self.progress.stopped(), reading(path));
        move |source| if is_stopped { ProjectError::Stopped } else { reading(source).into() }
    }

    fn file(&self, path: &Path) -> Result<Did, ProjectError> {
        if is_program(path) {
            return self.program(path);
        }
        let (signer, progress) = (self.seal.signer, self.progress);
        let open = || File::open(path);
        match path.file_name().and_then(|name| Form::of_name(&name.to_string_lossy())) {
            Some(Form::Package("apk")) => {
                self.replace(path, |to| apk::sign((&open, &Edits::new()), to, signer, None, progress).map(|_| ()))
            }
            Some(Form::Package("aab")) => {
                self.replace(path, |to| bundle_jar::sign(&open, &Edits::new(), to, signer, progress))
            }
            Some(Form::Package(_)) => {
                let (what, fix) = ("no such package can be signed here", "Android packages and bundles can");
                Err(self.error(path, SignError::Refused { what: what.to_owned(), fix: fix.to_owned() }))
            }
            _ => self.beside(path),
        }
    }

    /// Signs a program, where nobody else has.
    fn program(&self, path: &Path) -> Result<Did, ProjectError> {
        let by = signed_by(path);
        match Standing::of(by.as_ref(), self.seal.key(), self.request.again, self.seal.clock.is_some()) {
            Standing::Own => Ok(Did::HadIt),
            Standing::OfOthers(name) => Ok(Did::OfOthers(name.to_owned())),
            Standing::ToSign => {
                self.replace(path, |to| self.seal.sign(&|| File::open(path), &Patches::default(), to, self.progress))
            }
        }
    }

    /// Puts a signed file in the place of another.
    fn replace(&self, path: &Path, sign: impl FnOnce(&Path) -> Result<(), SignError>) -> Result<Did, ProjectError> {
        let sign = |part: &Path| sign(part).map_err(|error| self.error(path, error));
        replace(path, self.request.to.unwrap_or(path), sign).map(|()| Did::Signed)
    }

    /// Writes a signature beside a file.
    fn beside(&self, path: &Path) -> Result<Did, ProjectError> {
        let file = File::open(path).map_err(reading(path))?;
        let meter = self.progress.start(Task::Sign, file.metadata().ok().map(|metadata| metadata.len()));
        let digest = Hash::Sha512.digest_of_reader(&mut Watched::new(file, &*meter, self.progress));
        let digest = digest.map_err(self.not_read(path))?;
        let text = ssh::sign(self.seal.signer, &digest).map_err(|error| self.error(path, error))?;
        let to = self.request.to.map_or_else(|| beside(path), Path::to_owned);
        durable::write_whole(&to, text.as_bytes())?;
        Ok(Did::Beside(to))
    }

    /// Signs the programs for Windows in a folder, or a list where it has neither those nor others, which are done already.
    fn folder(&self, mut done: Vec<(PathBuf, Did)>) -> Result<Vec<(PathBuf, Did)>, ProjectError> {
        let root = self.request.path;
        let mut files = listed::files_below(root).map_err(reading(root))?;
        files.retain(|(name, _)| !name.ends_with(PART));
        let programs: Vec<&PathBuf> = files.iter().map(|(_, path)| path).filter(|path| is_program(path)).collect();
        if self.request.list || (programs.is_empty() && done.is_empty()) {
            return self.list(root, files);
        }
        let threads = if self.in_parallel { processors() } else { 1 };
        done.extend(map_by(threads, &programs, |path| Ok::<_, ProjectError>(((*path).clone(), self.program(path)?)))?);
        done.sort_by(|one, other| one.0.cmp(&other.0));
        Ok(done)
    }

    fn list(&self, root: &Path, mut files: Vec<(String, PathBuf)>) -> Result<Vec<(PathBuf, Did)>, ProjectError> {
        files.retain(|(name, _)| !is_own(name));
        let digests = map(&files, |(name, path)| {
            let file = File::open(path).map_err(reading(path))?;
            let digest = listed::sha256(file, &Silent, self.progress).map_err(self.not_read(path))?;
            Ok::<_, ProjectError>((name.clone(), digest))
        })?;
        let (list, signature) = signed_list(digests, self.seal.signer).map_err(|error| self.error(root, error))?;
        let (at, to) = (root.join(LIST), root.join(LIST_SIGNATURE));
        durable::write_whole(&at, list.as_bytes())?;
        durable::write_whole(&to, signature.as_bytes())?;
        Ok(vec![(at, Did::Beside(to))])
    }
}

/// Where the signature of a file lies.
pub(crate) fn beside(path: &Path) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(BESIDE);
    PathBuf::from(name)
}
