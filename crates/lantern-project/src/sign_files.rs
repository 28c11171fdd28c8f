//! Signs builds that are no packages: the programs and libraries in those for Windows, and lists of all files of those for Linux and
//! for browsers.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io::{self, Read, Seek};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};

use lantern_core::bytes::hex;
use lantern_core::config::{Target, TimeStamps};
use lantern_core::digest::Digest;
use lantern_core::finding::{Code, Finding, join_some};
use lantern_core::names::Name;
use lantern_core::parallel::{each, processors};
use lantern_core::path::TreePath;
use lantern_core::pins::Fingerprint;
use lantern_core::progress::{Progress, Task};
use lantern_core::system::{Family, System};
use lantern_exports::WindowsProgram;
use lantern_exports::changing::{ChangingError, Known, Replacement};
use lantern_exports::intake::Intake;
use lantern_formats::bundle::Files;
use lantern_formats::hash::Hash;
use lantern_formats::pe::{self as reader, Details};
use lantern_keys::key::Signer;
use lantern_sign::pe::{self, Description, Signing};
use lantern_sign::stamp::Stamp;
use lantern_sign::stamp::program::{self, Patches};
use lantern_sign::time_stamp::{Authority, MAX_REPLY_LEN, Unreachable};
use lantern_sign::{SignError, ssh};
use lantern_store::durable;
use lantern_storefront::http::{StampServer, StampServerError};

use crate::not_changed::{changing_error, not_done};

/// The list of all files of a build, and its signature.
pub(crate) const LIST: &str = "SHA256SUMS";
pub(crate) const LIST_SIGNATURE: &str = "SHA256SUMS.sig";
/// Most names in a finding.
const MAX_NAMED: usize = 3;

/// What `sign` does with a build that is no package.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Signs {
    /// Programs and libraries for Windows get a signature each.
    Programs,
    /// A list of all files gets one.
    List,
}

impl Signs {
    /// None where nothing in it can be signed yet.
    pub(crate) fn of(intake: &Intake<'_>) -> Option<Self> {
        if intake.is_package() { None } else { Self::of_systems(&intake.systems) }
    }

    /// As [`Self::of`], for builds that are no packages.
    pub(crate) fn of_systems(systems: &[System]) -> Option<Self> {
        let all = |is: &dyn Fn(Family) -> bool| !systems.is_empty() && systems.iter().all(|system| is(system.family()));
        match () {
            () if all(&|family| family == Family::Windows) => Some(Self::Programs),
            () if all(&|family| matches!(family, Family::Linux | Family::Web)) => Some(Self::List),
            () => None,
        }
    }
}

/// Which programs of a build are signed.
#[derive(Debug, Default)]
pub(crate) struct Plan<'a> {
    /// Those that get a signature.
    pub to_sign: Vec<&'a TreePath>,
    /// Those that have one of this key already, and stay.
    pub own: usize,
    /// Those that others have signed, with their names, and stay.
    pub of_others: Vec<(&'a TreePath, &'a str)>,
}

impl<'a> Plan<'a> {
    /// `stamped` is the program that gets a version and a number first.
    pub(crate) fn of(
        target: &Target,
        windows: &'a [WindowsProgram],
        key: Fingerprint,
        stamped: Option<&TreePath>,
        is_time_stamped: bool,
    ) -> Self {
        let mut plan = Self::default();
        for program in windows {
            let path = &program.path;
            let is_chosen = target.sign_files.is_empty() || target.sign_files.matches(path);
            if !is_chosen || target.keep_aside.matches(path) {
                continue;
            }
            match &program.signed_by {
                _ if stamped == Some(path) => plan.to_sign.push(path),
                Some(by) if by.fingerprint == key.0 && (by.is_time_stamped || !is_time_stamped) => plan.own += 1,
                Some(by) if by.fingerprint != key.0 && !target.sign_again => plan.of_others.push((path, &by.name)),
                _ => plan.to_sign.push(path),
            }
        }
        plan
    }

    /// What it comes to.
    pub(crate) fn finding(&self, key: &Name, has_earlier: bool) -> Finding {
        let count = |n: usize| format!("{n} {}", if n == 1 { "program" } else { "programs" });
        let mut what = match self.to_sign.len() {
            0 => format!("{key} signs nothing: no program of it is unsigned"),
            n => {
                // What an earlier release has of the same bytes is taken from there.
                let up_to = if has_earlier { "up to " } else { "" };
                format!("{key} is asked for {up_to}{n} {}", if n == 1 { "signature" } else { "signatures" })
            }
        };
        if self.own > 0 {
            what.push_str(&format!("; {} came signed with it", count(self.own)));
        }
        if !self.of_others.is_empty() {
            let names: BTreeSet<&str> = self.of_others.iter().map(|(_, name)| *name).collect();
            let names: Vec<String> = names.into_iter().map(lantern_core::path::shown).collect();
            let (are, stay) = if self.of_others.len() == 1 { ("is", "stays") } else { ("are", "stay") };
            what.push_str(&format!(
                "; {} {are} signed by {} and {stay} as {} {are}",
                count(self.of_others.len()),
                join_some(&names, MAX_NAMED),
                if self.of_others.len() == 1 { "it" } else { "they" },
            ));
        }
        Finding::note(Code::ProgramsToSign, what).about(self.to_sign.iter().copied())
    }
}

/// An authority that is asked over HTTP, and what happens when it does not answer.
#[derive(Debug)]
pub(crate) struct Clock {
    server: StampServer,
    may_be_missing: bool,
    /// Whether it did not answer, so that it is not asked again.
    is_away: AtomicBool,
    /// Why it did not answer, and what was signed without it.
    missing: Mutex<Vec<(Name, String)>>,
}

impl Clock {
    /// # Errors
    /// Why this computer cannot speak HTTP at all.
    pub(crate) fn new(of: &TimeStamps, stop: std::sync::Arc<AtomicBool>) -> Result<Self, StampServerError> {
        let server = StampServer::new(&of.authority, stop)?;
        Ok(Self {
            server,
            may_be_missing: of.may_be_missing,
            is_away: AtomicBool::new(false),
            missing: Mutex::default(),
        })
    }

    /// What was signed without a time stamp, and why.
    pub(crate) fn findings(&self) -> Vec<(Name, Finding)> {
        let missing = self.missing.lock().expect("nothing panics with the lock");
        let targets: BTreeSet<&Name> = missing.iter().map(|(target, _)| target).collect();
        let one = |target: &Name| {
            let of_it: Vec<&String> = missing.iter().filter(|(of, _)| of == target).map(|(_, why)| why).collect();
            let what = format!(
                "{} of its programs {} signed without a time stamp: {}",
                of_it.len(),
                if of_it.len() == 1 { "was" } else { "were" },
                of_it.first().map(|why| why.as_str()).unwrap_or_default()
            );
            let fix = "prepare again with another version when the authority answers: they end with their certificate";
            (target.clone(), Finding::of(Code::NoTimeStamp, what, fix))
        };
        targets.into_iter().map(one).collect()
    }
}

impl Authority for Clock {
    fn name(&self) -> String {
        self.server.address().to_owned()
    }

    fn ask(&self, request: &[u8]) -> Result<Vec<u8>, Unreachable> {
        self.server
            .ask(request, MAX_REPLY_LEN)
            .map_err(|error| Unreachable { why: error.to_string(), is_stopped: error == StampServerError::Stopped })
    }
}

/// What programs are signed with, and what is said of them.
pub(crate) struct Programs<'a> {
    pub target: &'a Name,
    pub config: &'a Target,
    pub signer: &'a dyn Signer,
    /// Whether it may be asked by several at once.
    pub in_parallel: bool,
    pub about: Description,
    pub clock: Option<&'a Clock>,
    /// What the program that starts gets first.
    pub stamp: Option<(TreePath, Stamp)>,
}

impl Programs<'_> {
    /// Signs what has to be. What a run that was cut short had finished in `work` is taken up, so that nobody is asked for a
    /// signature twice; so is what an earlier release has of the same bytes.
    pub(crate) fn sign(
        &self,
        intake: &Intake<'_>,
        known: &Known<'_>,
        work: &Path,
        progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, ChangingError> {
        let own = self.signer.chain().first().map(|own| Hash::Sha256.digest(own)).unwrap_or_default();
        let own = own.first_chunk().copied().unwrap_or_default();
        let stamped = self.stamp.as_ref().map(|(path, _)| path);
        let plan = Plan::of(self.config, known.windows, Fingerprint(own), stamped, self.clock.is_some());
        let done = Mutex::new(Vec::new());
        let threads = if self.in_parallel { processors() } else { 1 };
        each(
            &plan.to_sign,
            threads,
            || (),
            |(), _, path| {
                let at = work.join(format!("program-{}", Digest::of(path.as_str().as_bytes()).short()));
                if !self.holds(&at) {
                    self.sign_one(intake, known, path, &at, progress)?;
                }
                let file = Replacement { path: (*path).clone(), at };
                done.lock().expect("nothing panics with the lock").push(file);
                Ok(())
            },
        )?;
        let mut done = done.into_inner().expect("nothing panics with the lock");
        done.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(done)
    }

    /// Whether a file is a program that this key has signed.
    fn holds(&self, at: &Path) -> bool {
        let Ok(mut file) = File::open(at) else { return false };
        let signed = Details::read(&mut file).and_then(|details| reader::verify(&mut file, &details)).ok().flatten();
        signed.is_some_and(|signed| {
            let stamped = signed.signer.stamped.is_some();
            let is_ours = Some(&signed.signer.certificate) == self.signer.chain().first();
            signed.signer.wrong.is_none() && is_ours && (self.clock.is_none() || stamped)
        })
    }

    fn sign_one(
        &self,
        intake: &Intake<'_>,
        known: &Known<'_>,
        path: &TreePath,
        at: &Path,
        progress: &dyn Progress,
    ) -> Result<(), ChangingError> {
        let part = at.with_extension("part");
        let stamp = self.stamp.as_ref().filter(|(stamped, _)| stamped == path).map(|(_, stamp)| stamp);
        if stamp.is_some() || !(known.earlier)(path, &part)? || !self.holds(&part) {
            let open = || Files::open_anywhere(intake.export(), path.as_str());
            let failed = |what| move |error| self.error(what, path, &part_of(at), error);
            let patches = match stamp {
                Some(stamp) => program::program(&open, stamp).map_err(failed("stamped"))?,
                None => Patches::default(),
            };
            self.sign_to(&open, &patches, &part, progress).map_err(failed("signed"))?;
        }
        let io = |source| ChangingError::Io { path: part.clone(), source };
        File::options().write(true).open(&part).and_then(|file| durable::sync_file(&file)).map_err(io)?;
        fs::rename(&part, at).map_err(io)
    }

    /// Signs, and where no authority answers and that is allowed, without a time stamp.
    fn sign_to<R: Read + Seek + Send>(
        &self,
        open: &(dyn Fn() -> io::Result<R> + Sync),
        patches: &Patches,
        to: &Path,
        progress: &dyn Progress,
    ) -> Result<(), SignError> {
        let how = |authority| Signing { signer: self.signer, about: &self.about, authority };
        let clock = self.clock.filter(|clock| !clock.is_away.load(Ordering::Relaxed));
        let signed = pe::sign(open, patches, to, &how(clock.map(|clock| clock as &dyn Authority)), progress);
        let (Some(clock), Err(SignError::Stamp(error))) = (self.clock, &signed) else {
            if let (Some(clock), None, Ok(())) = (self.clock, clock, &signed) {
                clock.note(self.target, "the time-stamp authority did not answer before");
            }
            return signed;
        };
        if !clock.may_be_missing || !error.is_unreachable() {
            return signed;
        }
        clock.note(self.target, &error.to_string());
        if !clock.is_away.swap(true, Ordering::Relaxed) {
            progress.careful(&format!("{error}; what is signed now has no time stamp"));
        }
        pe::sign(open, patches, to, &how(None), progress)
    }

    fn error(&self, what: &'static str, path: &TreePath, at: &Path, error: SignError) -> ChangingError {
        match error {
            SignError::Refused { what: why, fix } => not_done(what, self.target, format!("{path}: {why}"), fix),
            SignError::Stamp(error) => {
                let fix = "try again later, or set unreachable = \"go-on\" below [time-stamps]";
                not_done(what, self.target, format!("{path}: {error}"), fix)
            }
            other => changing_error(what, self.target, at, other),
        }
    }
}

fn part_of(at: &Path) -> PathBuf {
    at.with_extension("part")
}

impl Clock {
    fn note(&self, target: &Name, why: &str) {
        self.missing.lock().expect("nothing panics with the lock").push((target.clone(), why.to_owned()));
    }
}

/// Stamps a program that nobody signs.
pub(crate) fn stamp_alone(
    intake: &Intake<'_>,
    path: &TreePath,
    stamp: &Stamp,
    work: &Path,
) -> Result<Option<Replacement>, ChangingError> {
    let (at, target) = (work.join("stamped"), intake.name);
    let failed = |error| changing_error("stamped", target, &at, error);
    let open = || Files::open_anywhere(intake.export(), path.as_str());
    let patches = program::program(&open, stamp).map_err(failed)?;
    if patches.is_empty() {
        return Ok(None);
    }
    let io = |source| ChangingError::Io { path: at.clone(), source };
    let mut from = open().map_err(io)?;
    let mut bytes = Vec::new();
    from.read_to_end(&mut bytes).map_err(io)?;
    patches.apply(0, &mut bytes);
    fs::write(&at, bytes).map_err(io)?;
    Ok(Some(Replacement { path: path.clone(), at: at.clone() }))
}

/// Writes the list of all files that players get, in the form that `sha256sum --check` reads, and its signature. `changed` are files
/// that others take the place of.
pub(crate) fn sign_list(
    intake: &Intake<'_>,
    changed: &[Replacement],
    signer: &dyn Signer,
    work: &Path,
    progress: &dyn Progress,
) -> Result<Vec<Replacement>, ChangingError> {
    let (export, target) = (intake.export(), intake.name);
    let is_own = |path: &TreePath| [LIST, LIST_SIGNATURE].contains(&path.as_str());
    let is_changed = |path: &TreePath| changed.iter().any(|file| file.path == *path);
    let entries = intake.entries().iter().enumerate().filter(|(index, entry)| {
        let path = &entry.source.path;
        entry.source.is_file() && !intake.aside.contains(index) && !is_own(path) && !is_changed(path)
    });
    let files: Vec<(&TreePath, Option<usize>, &Path)> = entries
        .map(|(index, entry)| (&entry.source.path, Some(index), work))
        .chain(changed.iter().map(|file| (&file.path, None, file.at.as_path())))
        .collect();
    let size = |index: &usize| intake.entries().get(*index).map_or(0, |entry| entry.source.size());
    let meter =
        progress.start(Task::Sign, Some(files.iter().filter_map(|(_, index, _)| *index).map(|i| size(&i)).sum()));
    let lines = Mutex::new(Vec::new());
    each(
        &files,
        processors(),
        || (),
        |(), _, (path, index, at)| {
            let io = |source| ChangingError::Io { path: PathBuf::from(path.as_str()), source };
            let mut from: Box<dyn Read> = match index {
                Some(index) => Box::new(export.open(*index).map_err(io)?),
                None => Box::new(File::open(at).map_err(io)?),
            };
            let digest = Hash::Sha256.digest_of_reader(&mut from).map_err(io)?;
            meter.add(index.as_ref().map_or(0, size));
            if progress.stopped() {
                return Err(ChangingError::Stopped);
            }
            let own = (path.as_str().to_owned(), hex(&digest));
            lines.lock().expect("nothing panics with the lock").push(own);
            Ok(())
        },
    )?;
    drop(meter);
    let list = list_of(lines.into_inner().expect("nothing panics with the lock"));
    let signature = ssh::sign(signer, &Hash::Sha512.digest(list.as_bytes()))
        .map_err(|error| changing_error("signed", target, work, error))?;
    let mut out = Vec::new();
    for (name, text) in [(LIST, &list), (LIST_SIGNATURE, &signature)] {
        let at = work.join(name);
        fs::write(&at, text).map_err(|source| ChangingError::Io { path: at.clone(), source })?;
        let path = TreePath::new(name).expect("a plain name");
        out.push(Replacement { path, at });
    }
    Ok(out)
}

/// A list of files with their digests in hex, in the order of their names and the form that `sha256sum --check` reads. A name with a
/// backslash or a line end is written with escapes, and its line then begins with a backslash.
pub(crate) fn list_of(mut files: Vec<(String, String)>) -> String {
    files.sort();
    let line = |(name, digest): (String, String)| {
        let escaped = name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r");
        let mark = if escaped == name { "" } else { "\\" };
        format!("{mark}{digest}  {escaped}\n")
    };
    files.into_iter().map(line).collect()
}
