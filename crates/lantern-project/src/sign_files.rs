//! Signs builds that are no packages: the programs and libraries in those for Windows, and lists of all files of those for Linux and
//! for browsers.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io::{self, Read, Seek};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use lantern_core::config::{Target, TimeStamps};
use lantern_core::digest::Digest;
use lantern_core::finding::{Code, Finding, join_some};
use lantern_core::names::Name;
use lantern_core::parallel::{map, map_by, processors};
use lantern_core::path::{TreePath, shown};
use lantern_core::pins::Fingerprint;
use lantern_core::progress::{Progress, Task};
use lantern_core::system::{Family, System};
use lantern_exports::changing::{ChangingError, KnownFiles, Replacement};
use lantern_exports::export::Form;
use lantern_exports::intake::Intake;
use lantern_exports::{SignedBy, WindowsProgram};
use lantern_formats::bundle::Files;
use lantern_formats::hash::Hash;
use lantern_formats::pe::{self as reader, Details};
use lantern_keys::key::Signer;
use lantern_sign::pe::{self, Description, Signing};
use lantern_sign::stamp::Stamp;
use lantern_sign::stamp::program::{self, Patches};
use lantern_sign::time_stamp::{Authority, MAX_REPLY_LEN, Unreachable};
use lantern_sign::{SignError, ssh};
use lantern_store::durable::{self, DurableError};
use lantern_storefront::http::{StampServer, StampServerError};

use crate::error::plural;
use crate::listed::{self, LIST, LIST_SIGNATURE, is_own};
use crate::not_changed::{changing_error, of_file};

/// Most names in a finding.
const MAX_NAMED: usize = 3;

/// What `sign` does with a build that is no package.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Signs {
    /// Programs and libraries for Windows get a signature each.
    Programs,
    /// A list of all files gets one.
    List,
    /// Everything that runs on macOS or iOS gets one, and bundles a seal.
    Code,
}

impl Signs {
    /// None where nothing in it can be signed yet.
    pub(crate) fn of(intake: &Intake<'_>) -> Option<Self> {
        match intake.export().form {
            Form::Package("ipa") => Some(Self::Code),
            Form::Package(_) => None,
            _ => Self::of_systems(&intake.systems),
        }
    }

    /// As [`Self::of`], for builds that are no packages.
    pub(crate) fn of_systems(systems: &[System]) -> Option<Self> {
        let all = |is: &dyn Fn(Family) -> bool| !systems.is_empty() && systems.iter().all(|system| is(system.family()));
        match () {
            () if all(&|family| family == Family::Windows) => Some(Self::Programs),
            () if all(&|family| matches!(family, Family::Linux | Family::Web)) => Some(Self::List),
            () if all(&|family| matches!(family, Family::Macos | Family::Ios)) => Some(Self::Code),
            () => None,
        }
    }
}

/// What a program's signature means for one that is about to be made.
pub(crate) enum Standing<'a> {
    ToSign,
    /// It has one of this key already, and stays.
    Own,
    /// Someone else has signed it, and it stays: who.
    OfOthers(&'a str),
}

impl<'a> Standing<'a> {
    /// `again` says that what others have signed is signed, too.
    pub(crate) fn of(by: Option<&'a SignedBy>, key: Fingerprint, again: bool, is_time_stamped: bool) -> Self {
        match by {
            Some(by) if by.fingerprint == key.0 && (by.is_time_stamped || !is_time_stamped) => Self::Own,
            Some(by) if by.fingerprint != key.0 && !again => Self::OfOthers(&by.name),
            _ => Self::ToSign,
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
            match Standing::of(program.signed_by.as_ref(), key, target.sign_again, is_time_stamped) {
                _ if stamped == Some(path) => plan.to_sign.push(path),
                Standing::ToSign => plan.to_sign.push(path),
                Standing::Own => plan.own += 1,
                Standing::OfOthers(name) => plan.of_others.push((path, name)),
            }
        }
        plan
    }

    /// What it comes to.
    pub(crate) fn finding(&self, key: &Name, has_earlier: bool) -> Finding {
        let programs = |count| plural(count, "program", "programs");
        let mut what = match self.to_sign.len() {
            0 => format!("{key} signs nothing: no program of it is unsigned"),
            count => {
                // What an earlier release has of the same bytes is taken from there.
                let up_to = if has_earlier { "up to " } else { "" };
                format!("{key} is asked for {up_to}{}", plural(count, "signature", "signatures"))
            }
        };
        if self.own > 0 {
            what.push_str(&format!("; {} came signed with it", programs(self.own)));
        }
        if !self.of_others.is_empty() {
            let names: BTreeSet<&str> = self.of_others.iter().map(|(_, name)| *name).collect();
            let names: Vec<String> = names.into_iter().map(shown).collect();
            let count = self.of_others.len();
            let (are, stay) = if count == 1 { ("is", "stays as it is") } else { ("are", "stay as they are") };
            let names = join_some(&names, MAX_NAMED);
            what.push_str(&format!("; {} {are} signed by {names} and {stay}", programs(count)));
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
    pub(crate) fn new(of: &TimeStamps, stop: Arc<AtomicBool>) -> Result<Self, StampServerError> {
        let server = StampServer::new(&of.authority, stop)?;
        Ok(Self {
            server,
            may_be_missing: of.may_be_missing,
            is_away: AtomicBool::new(false),
            missing: Mutex::default(),
        })
    }

    /// Signs with time stamps, and where the authority does not answer and that is allowed, without.
    pub(crate) fn or_without<T>(
        &self,
        name: &Name,
        progress: &dyn Progress,
        sign: impl Fn(Option<&dyn Authority>) -> Result<T, SignError>,
    ) -> Result<T, SignError> {
        let why = if self.is_away.load(Ordering::Relaxed) {
            "the time-stamp authority did not answer before".to_owned()
        } else {
            match sign(Some(self)) {
                Err(SignError::Stamp(error)) if self.may_be_missing && error.is_unreachable() => error.to_string(),
                other => return other,
            }
        };
        if !self.is_away.swap(true, Ordering::Relaxed) {
            progress.careful(&format!("{why}; what is signed now has no time stamp"));
        }
        let signed = sign(None)?;
        self.missing.lock().expect("nothing panics with the lock").push((name.clone(), why));
        Ok(signed)
    }

    /// What was signed without a time stamp, and why.
    pub(crate) fn findings(&self) -> Vec<(Name, Finding)> {
        let missing = self.missing.lock().expect("nothing panics with the lock");
        let targets: BTreeSet<&Name> = missing.iter().map(|(target, _)| target).collect();
        let one = |target: &Name| {
            let of_it: Vec<&String> = missing.iter().filter(|(of, _)| of == target).map(|(_, why)| why).collect();
            let why = of_it.first().map(|why| why.as_str()).unwrap_or_default();
            let count = plural(of_it.len(), "of its programs was", "of its programs were");
            let what = format!("{count} signed without a time stamp: {why}");
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
pub(crate) struct Seal<'a> {
    /// For whom: a target, or a key.
    pub name: &'a Name,
    pub signer: &'a dyn Signer,
    pub about: &'a Description,
    pub clock: Option<&'a Clock>,
}

impl Seal<'_> {
    /// SHA-256 of the certificate.
    pub(crate) fn key(&self) -> Fingerprint {
        let own = self.signer.chain().first().map(|own| Hash::Sha256.digest(own)).unwrap_or_default();
        Fingerprint(own.first_chunk().copied().unwrap_or_default())
    }

    /// Whether a file is a program that is signed so already.
    fn holds(&self, at: &Path) -> bool {
        let by = signed_by(at);
        matches!(Standing::of(by.as_ref(), self.key(), true, self.clock.is_some()), Standing::Own)
    }

    /// Signs, and where no authority answers and that is allowed, without a time stamp.
    pub(crate) fn sign<R: Read + Seek + Send>(
        &self,
        open: &(dyn Fn() -> io::Result<R> + Sync),
        patches: &Patches,
        to: &Path,
        progress: &dyn Progress,
    ) -> Result<(), SignError> {
        let sign = |authority: Option<&dyn Authority>| {
            let how = Signing { signer: self.signer, about: self.about, authority };
            pe::sign(open, patches, to, &how, progress)
        };
        match self.clock {
            Some(clock) => clock.or_without(self.name, progress, sign),
            None => sign(None),
        }
    }
}

/// Who signed a program in a file, if that holds.
pub(crate) fn signed_by(at: &Path) -> Option<SignedBy> {
    let mut file = File::open(at).ok()?;
    let details = Details::read(&mut file).ok()?;
    let signed = reader::verify(&mut file, &details).ok()??;
    signed.signer.wrong.is_none().then(|| SignedBy::of(&signed))
}

/// The programs of a target that are signed.
pub(crate) struct Programs<'a> {
    pub seal: Seal<'a>,
    pub config: &'a Target,
    /// Whether the signer may be asked by several at once.
    pub in_parallel: bool,
    /// What the program that starts gets first.
    pub stamp: Option<(TreePath, Stamp)>,
}

impl Programs<'_> {
    /// Signs what has to be. What a run that was cut short had finished in `work` is taken up, so that nobody is asked for a
    /// signature twice; so is what an earlier release has of the same bytes.
    pub(crate) fn sign(
        &self,
        intake: &Intake<'_>,
        known: &KnownFiles<'_>,
        work: &Path,
        progress: &dyn Progress,
    ) -> Result<Vec<Replacement>, ChangingError> {
        let stamped = self.stamp.as_ref().map(|(path, _)| path);
        let plan = Plan::of(self.config, known.windows, self.seal.key(), stamped, self.seal.clock.is_some());
        let threads = if self.in_parallel { processors() } else { 1 };
        map_by(threads, &plan.to_sign, |path| {
            let at = work.join(format!("program-{}", Digest::of(path.as_str().as_bytes()).short()));
            if !self.seal.holds(&at) {
                self.sign_one(intake, known, path, &at, progress)?;
            }
            Ok(Replacement { path: (*path).clone(), at })
        })
    }

    fn sign_one(
        &self,
        intake: &Intake<'_>,
        known: &KnownFiles<'_>,
        path: &TreePath,
        at: &Path,
        progress: &dyn Progress,
    ) -> Result<(), ChangingError> {
        let part = at.with_extension("part");
        let stamp = self.stamp.as_ref().filter(|(stamped, _)| stamped == path).map(|(_, stamp)| stamp);
        if stamp.is_some() || !(known.earlier)(path, &part)? || !self.seal.holds(&part) {
            let open = || Files::open_anywhere(intake.export(), path.as_str());
            let failed = |what| {
                let without = "set unreachable = \"go-on\" below [time-stamps]";
                let (name, file, part) = (self.seal.name, path.shown(), part.clone());
                move |error| of_file(what, name, (&file, &part), error, without)
            };
            let patches = match stamp {
                Some(stamp) => program::program(&open, stamp).map_err(failed("stamped"))?,
                None => Patches::default(),
            };
            self.seal.sign(&open, &patches, &part, progress).map_err(failed("signed"))?;
        }
        Ok(keep(&part, at)?)
    }
}

/// Puts a file that is finished in its place, once it is on the disk.
pub(crate) fn keep(part: &Path, at: &Path) -> Result<(), DurableError> {
    let synced = File::options().write(true).open(part).and_then(|file| durable::sync_file(&file));
    synced.map_err(|source| DurableError { what: "write", path: part.to_owned(), source })?;
    durable::rename(part, at)
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
    let fails = |source| ChangingError::Io { path: at.clone(), source };
    let copied = open().and_then(|from| io::copy(&mut patches.over(from), &mut File::create(&at)?));
    copied.map_err(fails)?;
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
    let is_changed = |path: &TreePath| changed.iter().any(|file| file.path == *path);
    let entries = intake.entries().iter().enumerate().filter(|(index, entry)| {
        let path = &entry.source.path;
        entry.source.is_file() && !intake.aside.contains(index) && !is_own(path.as_str()) && !is_changed(path)
    });
    let entries: Vec<(usize, &TreePath, u64)> =
        entries.map(|(index, entry)| (index, &entry.source.path, entry.source.size())).collect();
    let meter = progress.start(Task::Sign, Some(entries.iter().map(|(.., size)| size).sum()));
    let failed = |path: &TreePath| {
        let path = PathBuf::from(path.as_str());
        move |source| match progress.stopped() {
            true => ChangingError::Stopped,
            false => ChangingError::Io { path, source },
        }
    };
    let digest = |path: &TreePath, from: io::Result<Box<dyn Read + Send>>| {
        let digest = from.and_then(|from| listed::sha256(from, &*meter, progress)).map_err(failed(path))?;
        Ok::<_, ChangingError>((path.as_str().to_owned(), digest))
    };
    let mut files = map(&entries, |(index, path, _)| digest(path, intake.export().open(*index)))?;
    for file in changed {
        files.push(digest(&file.path, File::open(&file.at).map(|file| Box::new(file) as _))?);
    }
    drop(meter);
    let (list, signature) =
        signed_list(files, signer).map_err(|error| changing_error("signed", intake.name, work, error))?;
    let write = |(name, text): (&str, String)| {
        let at = work.join(name);
        fs::write(&at, text).map_err(|source| ChangingError::Io { path: at.clone(), source })?;
        Ok(Replacement { path: TreePath::new(name).expect("a plain name"), at })
    };
    [(LIST, list), (LIST_SIGNATURE, signature)].into_iter().map(write).collect()
}

/// A list of files with their digests, and its signature.
pub(crate) fn signed_list(files: Vec<(String, String)>, signer: &dyn Signer) -> Result<(String, String), SignError> {
    let list = listed::write(files);
    let signature = ssh::sign(signer, &Hash::Sha512.digest(list.as_bytes()))?;
    Ok((list, signature))
}
