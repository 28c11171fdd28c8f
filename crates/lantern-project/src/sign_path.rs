//! `sign` of a loose file or folder, without a project.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use lantern_core::bytes::hex;
use lantern_core::config::TimeStamps;
use lantern_core::names::Name;
use lantern_core::parallel::{each, processors};
use lantern_core::progress::Progress;
use lantern_exports::changing::ChangingError;
use lantern_exports::export::Form;
use lantern_formats::certificate::common_name;
use lantern_formats::hash::Hash;
use lantern_formats::pe::{self as reader, Details, Pe};
use lantern_keys::key::Signer;
use lantern_sign::pe::{self, Description, Signing};
use lantern_sign::stamp::Edits;
use lantern_sign::stamp::program::Patches;
use lantern_sign::time_stamp::Authority;
use lantern_sign::{SignError, apk, bundle_jar, ssh};
use lantern_store::durable::{self, DurableError};

use crate::keys::Known;
use crate::not_changed::changing_error;
use crate::sign_files::{Clock, LIST, LIST_SIGNATURE, list_of};
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
}

/// What was done to a file.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Did {
    /// It is signed now.
    Signed,
    /// It was signed with this key already.
    HadIt,
    /// Someone else has signed it: who.
    OfOthers(String),
    /// A signature was written beside it: the file.
    Beside(PathBuf),
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
    signer: &'a dyn Signer,
    clock: Option<&'a Clock>,
    about: Description,
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
    stop: std::sync::Arc<std::sync::atomic::AtomicBool>,
    progress: &dyn Progress,
) -> Result<SignedPath, ProjectError> {
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
    let about = project.map(|project| project.config().game.name.clone()).unwrap_or_default();
    let signs = Signs {
        request,
        signer: &*signer,
        clock: clock.as_ref(),
        about: Description { name: about, address: None },
        progress,
    };
    let fails = |source| DurableError { what: "read", path: request.path.to_owned(), source };
    let files = match fs::metadata(request.path).map_err(fails)?.is_dir() {
        true => signs.folder()?,
        false => vec![(request.path.to_owned(), signs.file(request.path)?)],
    };
    Ok(SignedPath { key: request.key.clone(), files })
}

/// Whether a file is a program or library for Windows.
fn is_program(path: &Path) -> bool {
    File::open(path).is_ok_and(|mut file| Pe::read(&mut file).is_ok())
}

impl Signs<'_> {
    fn error(&self, path: &Path, error: SignError) -> ProjectError {
        let at = path.to_owned();
        match error {
            SignError::Io(source) => DurableError { what: "sign", path: at, source }.into(),
            SignError::Stamp(error) => ChangingError::Refused {
                target: self.request.key.clone(),
                what: "used",
                why: error.to_string(),
                fix: "try again later, or sign without time stamps".to_owned(),
            }
            .into(),
            SignError::Refused { what, fix } => ChangingError::Refused {
                target: self.request.key.clone(),
                what: "used",
                why: format!("{}: {what}", path.display()),
                fix,
            }
            .into(),
            other => changing_error("used", self.request.key, path, other).into(),
        }
    }

    fn file(&self, path: &Path) -> Result<Did, ProjectError> {
        if is_program(path) {
            return self.program(path);
        }
        let form = path.file_name().and_then(|name| Form::of_name(&name.to_string_lossy()));
        let open = || File::open(path);
        match form {
            Some(Form::Package("apk")) => self.replace(path, |to| {
                apk::sign((&open, &Edits::new()), to, self.signer, None, self.progress).map(|_| ())
            }),
            Some(Form::Package("aab")) => {
                self.replace(path, |to| bundle_jar::sign(&open, &Edits::new(), to, self.signer, self.progress))
            }
            Some(Form::Package(_)) => Err(self.error(
                path,
                SignError::Refused {
                    what: "no such package can be signed here".to_owned(),
                    fix: "Android packages and bundles can".to_owned(),
                },
            )),
            _ => self.beside(path),
        }
    }

    /// Signs a program, where nobody else has.
    fn program(&self, path: &Path) -> Result<Did, ProjectError> {
        let fails = |source| DurableError { what: "read", path: path.to_owned(), source };
        let mut file = File::open(path).map_err(fails)?;
        let signed = Details::read(&mut file).and_then(|details| reader::verify(&mut file, &details)).ok().flatten();
        if let Some(signed) = signed.filter(|signed| signed.signer.wrong.is_none()) {
            let (signer, is_own) = (&signed.signer, Some(&signed.signer.certificate) == self.signer.chain().first());
            if is_own && (self.clock.is_none() || signer.stamped.is_some()) {
                return Ok(Did::HadIt);
            }
            if !is_own && !self.request.again {
                return Ok(Did::OfOthers(common_name(&signer.subject).unwrap_or(&signer.subject).to_owned()));
            }
        }
        let authority = self.clock.map(|clock| clock as &dyn Authority);
        let how = Signing { signer: self.signer, about: &self.about, authority };
        self.replace(path, |to| pe::sign(&|| File::open(path), &Patches::default(), to, &how, self.progress))
    }

    /// Writes a signed file beside its place, and puts it there once it is whole and on the disk.
    fn replace(&self, path: &Path, sign: impl FnOnce(&Path) -> Result<(), SignError>) -> Result<Did, ProjectError> {
        let to = self.request.to.unwrap_or(path);
        let name = to.file_name().unwrap_or_default().to_string_lossy();
        let part = to.with_file_name(format!(".{name}.lantern-part"));
        let fails = |what| move |source| DurableError { what, path: to.to_owned(), source };
        let done = sign(&part).map_err(|error| self.error(path, error)).and_then(|()| {
            let permissions = fs::metadata(path).map_err(fails("read"))?.permissions();
            let file = File::options().write(true).open(&part).map_err(fails("write"))?;
            durable::sync_file(&file).map_err(fails("write"))?;
            drop(file);
            fs::set_permissions(&part, permissions).map_err(fails("write"))?;
            Ok(durable::rename(&part, to)?)
        });
        if done.is_err() {
            // Of no use to anybody; that it is there says nothing.
            let _ = fs::remove_file(&part);
        }
        done.map(|()| Did::Signed)
    }

    /// Writes a signature beside a file.
    fn beside(&self, path: &Path) -> Result<Did, ProjectError> {
        let fails = |source| DurableError { what: "read", path: path.to_owned(), source };
        let mut from = self.watched(File::open(path).map_err(fails)?);
        let digest = Hash::Sha512.digest_of_reader(&mut from).map_err(fails)?;
        let text = ssh::sign(self.signer, &digest).map_err(|error| self.error(path, error))?;
        let to = self.request.to.map_or_else(|| beside(path), Path::to_owned);
        durable::write_whole(&to, text.as_bytes())?;
        Ok(Did::Beside(to))
    }

    fn watched<R: io::Read>(&self, from: R) -> impl io::Read {
        Watched { from, progress: self.progress }
    }

    fn folder(&self) -> Result<Vec<(PathBuf, Did)>, ProjectError> {
        let root = self.request.path;
        if self.request.to.is_some() {
            let what = "--to is for one file, and this is a folder".to_owned();
            return Err(self.error(
                root,
                SignError::Refused { what, fix: "leave --to out: files are replaced as a whole".to_owned() },
            ));
        }
        let mut files = Vec::new();
        walk(root, &mut files).map_err(|source| DurableError { what: "read", path: root.to_owned(), source })?;
        files.sort();
        let programs: Vec<PathBuf> = files.iter().filter(|path| is_program(path)).cloned().collect();
        if self.request.list || programs.is_empty() {
            return self.list(root, &files);
        }
        let done = Mutex::new(Vec::new());
        each(
            &programs,
            processors(),
            || (),
            |(), _, path| {
                let did = self.program(path)?;
                done.lock().expect("nothing panics with the lock").push((path.clone(), did));
                Ok::<_, ProjectError>(())
            },
        )?;
        let mut done = done.into_inner().expect("nothing panics with the lock");
        done.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(done)
    }

    fn list(&self, root: &Path, files: &[PathBuf]) -> Result<Vec<(PathBuf, Did)>, ProjectError> {
        let mut lines = Vec::new();
        for path in files {
            let fails = |source| DurableError { what: "read", path: path.clone(), source };
            let within = path.strip_prefix(root).unwrap_or(path).components();
            let name: Vec<String> = within.map(|part| part.as_os_str().to_string_lossy().into_owned()).collect();
            let name = name.join("/");
            if [LIST, LIST_SIGNATURE].contains(&name.as_str()) {
                continue;
            }
            let mut from = self.watched(File::open(path).map_err(fails)?);
            lines.push((name, hex(&Hash::Sha256.digest_of_reader(&mut from).map_err(fails)?)));
        }
        let list = list_of(lines);
        let signature = ssh::sign(self.signer, &Hash::Sha512.digest(list.as_bytes()));
        let signature = signature.map_err(|error| self.error(root, error))?;
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

/// Ends when someone asks to stop.
struct Watched<'a, R> {
    from: R,
    progress: &'a dyn Progress,
}

impl<R: io::Read> io::Read for Watched<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.progress.stopped() {
            return Err(io::Error::other("it was stopped"));
        }
        self.from.read(buffer)
    }
}

/// All files below a folder; links are not followed.
pub(crate) fn walk(folder: &Path, into: &mut Vec<PathBuf>) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let kind = entry.file_type()?;
        if kind.is_dir() {
            walk(&entry.path(), into)?;
        } else if kind.is_file() {
            into.push(entry.path());
        }
    }
    Ok(())
}
