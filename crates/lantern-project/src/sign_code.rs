//! Signs builds for macOS and iOS: bundles with everything in them, and programs outside of any.

use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::io::{self, Read};
use std::path::Path;

use jiff::Timestamp;
use lantern_core::config::{Inside, Target};
use lantern_core::digest::Digest;
use lantern_core::finding::{Code, Finding};
use lantern_core::names::Name;
use lantern_core::path::{TreePath, shown};
use lantern_core::progress::Progress;
use lantern_exports::changing::{ChangingError, Replacement};
use lantern_exports::export::{Export, Form};
use lantern_exports::intake::Intake;
use lantern_formats::bundle::{FileKind, Files, Layout, ReadSeek};
use lantern_formats::profile::Profile;
use lantern_keys::key::Signer;
use lantern_sign::apple_bundle::{self, Changed, Claim, CodeObject, Disagreement, Root, Signing, Wanted};
use lantern_sign::macho::{By, Entitlements, FileOf};
use lantern_sign::stamp::Stamp;
use lantern_sign::time_stamp::Authority;
use lantern_sign::{SignError, ipa};
use lantern_store::durable;

use crate::error::plural;
use crate::not_changed::of_file;
use crate::sign_files::Clock;
use crate::{Project, ProjectError};

/// Most bytes of a property list or profile that is named in the configuration.
const MAX_LEN: u64 = 4 * 1024 * 1024;

/// The files that players get of a build: what is kept aside belongs to no signature.
pub(crate) struct Sent<'a> {
    export: &'a Export,
    aside: HashSet<&'a str>,
}

impl<'a> Sent<'a> {
    pub(crate) fn of(intake: &'a Intake<'_>) -> Self {
        let entries = intake.entries();
        let path = |index: &usize| entries.get(*index).map(|entry| entry.source.path.as_str());
        Self { export: intake.export(), aside: intake.aside.iter().filter_map(path).collect() }
    }
}

impl Files for Sent<'_> {
    fn below<'a>(&'a self, folder: &'a str) -> Box<dyn Iterator<Item = (&'a str, FileKind<'a>)> + 'a> {
        let is_aside = move |path: &str| !self.aside.is_empty() && self.aside.contains(&*format!("{folder}{path}"));
        Box::new(Files::below(self.export, folder).filter(move |(path, _)| !is_aside(path)))
    }

    fn kind(&self, path: &str) -> Option<FileKind<'_>> {
        if self.aside.contains(path) { None } else { Files::kind(self.export, path) }
    }

    fn open(&self, path: &str) -> io::Result<Box<dyn Read + Send + '_>> {
        Files::open(self.export, path)
    }

    fn open_anywhere(&self, path: &str) -> io::Result<Box<dyn ReadSeek + '_>> {
        Files::open_anywhere(self.export, path)
    }
}

/// What a signature says of one program.
#[derive(Debug, Default)]
pub(crate) struct Part {
    entitlements: Option<Entitlements>,
    profile: Option<(Vec<u8>, Profile)>,
}

/// What the signatures of a build say.
#[derive(Debug, Default)]
pub(crate) struct Words {
    main: Part,
    inside: BTreeMap<TreePath, Part>,
    is_hardened: bool,
}

/// A file of the configuration that cannot be used.
#[derive(Debug)]
pub(crate) struct Unusable {
    /// The keys below the target.
    pub at: Vec<String>,
    pub what: String,
}

impl Part {
    /// Reads the files of one program.
    pub(crate) fn read(root: &Path, of: &Inside) -> Result<Self, (&'static str, String)> {
        let read = |key, path: &String| {
            let bytes = durable::read_limited(&root.join(path), MAX_LEN);
            bytes.map_err(|error| (key, format!("{}: {error}", shown(path))))
        };
        let mut out = Self::default();
        if let Some(path) = &of.entitlements {
            let list = Entitlements::read(&read("entitlements", path)?);
            out.entitlements = Some(list.map_err(|error| ("entitlements", format!("{}: {error}", shown(path))))?);
        }
        if let Some(path) = &of.profile {
            let bytes = read("profile", path)?;
            let profile = Profile::read(&bytes).map_err(|error| ("profile", format!("{}: {error}", shown(path))))?;
            out.profile = Some((bytes, profile));
        }
        Ok(out)
    }

    fn digest(&self, out: &mut Vec<u8>) {
        let profile = self.profile.as_ref().map(|(bytes, _)| bytes.as_slice());
        for bytes in [self.entitlements.as_ref().map(Entitlements::xml), profile] {
            out.extend(bytes.map_or(u64::MAX, |bytes| bytes.len() as u64).to_le_bytes());
            out.extend(bytes.unwrap_or_default());
        }
    }
}

impl Words {
    /// Reads the files that say it of a program by itself.
    pub(crate) fn of_files(entitlements: Option<&Path>, profile: Option<&Path>) -> Result<Self, ProjectError> {
        let text = |path: Option<&Path>| path.map(|path| path.to_string_lossy().into_owned());
        let files = Inside { entitlements: text(entitlements), profile: text(profile) };
        let main = Part::read(Path::new(""), &files).map_err(|(option, what)| {
            let fix = format!("name another file with --{option}");
            ProjectError::Findings(vec![Finding::of(Code::CannotSign, what, fix)])
        })?;
        Ok(Self { main, inside: BTreeMap::new(), is_hardened: true })
    }

    /// Reads the files that a target names.
    pub(crate) fn read(root: &Path, target: &Target) -> Result<Self, Unusable> {
        let of = &target.code;
        let main = Part::read(root, &of.main);
        let main = main.map_err(|(key, what)| Unusable { at: vec![key.to_owned()], what })?;
        let mut inside = BTreeMap::new();
        for (path, part) in &of.inside {
            let at = |key: &str| vec!["inside".to_owned(), path.as_str().to_owned(), key.to_owned()];
            let part = Part::read(root, part).map_err(|(key, what)| Unusable { at: at(key), what })?;
            inside.insert(path.clone(), part);
        }
        Ok(Self { main, inside, is_hardened: of.is_hardened })
    }

    /// What decides what signatures say.
    pub(crate) fn digest(&self) -> Digest {
        let mut out = vec![u8::from(self.is_hardened)];
        self.main.digest(&mut out);
        for (path, part) in &self.inside {
            out.extend(path.as_str().as_bytes());
            out.push(0);
            part.digest(&mut out);
        }
        Digest::of(&out)
    }
}

/// What is signed in a build.
struct Plan<'a> {
    files: &'a dyn Files,
    words: &'a Words,
    roots: Vec<Root>,
    /// The path of what starts: a bundle, or a program.
    main: String,
    is_for_phones: bool,
}

impl<'a> Plan<'a> {
    fn of(files: &'a dyn Files, words: &'a Words, start: Option<&str>, is_for_phones: bool) -> Result<Self, SignError> {
        let roots = apple_bundle::roots(files)?;
        let holds = |root: &&Root| {
            let rest = start.and_then(|start| start.strip_prefix(root.path.as_str()));
            rest.is_some_and(|rest| if root.layout.is_some() { rest.starts_with('/') } else { rest.is_empty() })
        };
        let is_app = |root: &&Root| root.layout.as_ref().is_some_and(Layout::is_app);
        let main = roots.iter().find(holds).or_else(|| roots.iter().find(is_app)).or_else(|| roots.first());
        let main = main.map(|root| root.path.clone()).unwrap_or_default();
        Ok(Self { files, words, roots, main, is_for_phones })
    }

    fn objects(&self) -> impl Iterator<Item = &CodeObject> {
        self.roots.iter().flat_map(|root| &root.objects)
    }

    /// What is said of a program; none where nothing is.
    fn part(&self, path: &str) -> Option<&Part> {
        let inside = self.words.inside.iter().find(|(known, _)| known.as_str() == path).map(|(_, part)| part);
        inside.or((path == self.main).then_some(&self.words.main))
    }

    /// What is wanted of a program, as far as the configuration says it, and by its profile.
    fn wanted(&self, path: &str, is_by_someone: bool) -> Wanted {
        let part = self.part(path);
        let profile = part.and_then(|part| part.profile.as_ref());
        let otherwise = profile.and_then(|(_, profile)| {
            let object = self.objects().find(|object| object.path == path)?;
            apple_bundle::otherwise(profile, &object.identity(self.files).ok()??)
        });
        Wanted {
            entitlements: part.and_then(|part| part.entitlements.clone()),
            otherwise,
            profile: profile.map(|(bytes, _)| bytes.clone()),
            is_hardened: self.words.is_hardened && !self.is_for_phones && is_by_someone,
        }
    }
}

/// Signs the code of a build.
pub(crate) struct CodeSeal<'a> {
    /// For whom: a target, or a key.
    pub name: &'a Name,
    /// Who signs; nobody for ad hoc signatures.
    pub signer: Option<&'a dyn Signer>,
    /// Whether it is stamped, and not signed at all.
    pub is_unsigned: bool,
    /// Whether the signer may be asked by several at once.
    pub in_parallel: bool,
    pub clock: Option<&'a Clock>,
    pub words: &'a Words,
    /// What is written into what starts.
    pub stamp: Option<&'a Stamp>,
}

impl CodeSeal<'_> {
    /// Signs everything in a build, and returns what changed of it.
    pub(crate) fn sign(
        &self,
        files: &dyn Files,
        start: Option<&str>,
        is_for_phones: bool,
        work: &Path,
        progress: &dyn Progress,
    ) -> Result<Vec<Changed>, SignError> {
        let plan = Plan::of(files, self.words, start, is_for_phones)?;
        if plan.roots.is_empty() {
            let (what, fix) = ("there is no program for macOS or iOS in it", "export it again");
            return Err(SignError::Refused { what: what.to_owned(), fix: fix.to_owned() });
        }
        let sign = |authority: Option<&dyn Authority>| {
            let by = self.signer.map(|signer| By { signer, authority });
            let mut changed = Vec::new();
            let wanted = |path: &str| plan.wanted(path, by.is_some());
            for root in &plan.roots {
                let stamp = self.stamp.filter(|_| root.path == plan.main);
                changed.extend(match stamp {
                    Some(stamp) if self.is_unsigned => apple_bundle::stamp_alone(files, root, stamp, work)?,
                    None if self.is_unsigned => Vec::new(),
                    _ => {
                        let how = Signing { by, wanted: &wanted, stamp, in_parallel: self.in_parallel };
                        apple_bundle::sign(files, root, &how, work, progress)?
                    }
                });
            }
            Ok(changed)
        };
        match self.clock.filter(|_| self.signer.is_some()) {
            Some(clock) => clock.or_without(self.name, progress, sign),
            None => sign(None),
        }
    }
}

/// What signs a build for macOS or iOS in a target.
pub(crate) fn sign(
    intake: &Intake<'_>,
    seal: &CodeSeal<'_>,
    work: &Path,
    progress: &dyn Progress,
) -> Result<Vec<Replacement>, ChangingError> {
    let export = intake.export();
    let without = "set unreachable = \"go-on\" below [time-stamps]";
    let failed = |error| of_file("signed", intake.name, (intake.found_at(), work), error, without);
    if export.form == Form::Package("ipa") {
        let Some(entry) = intake.entries().first() else { return Ok(Vec::new()) };
        let inside = inside_of(export).map_err(failed)?;
        let at = work.join("signed");
        package(&inside, &|| export.open_itself(), seal, (work, &at), progress).map_err(failed)?;
        return Ok(vec![Replacement { path: entry.source.path.clone(), at }]);
    }
    let start = intake.starts.first().map(|start| start.file.as_str());
    let changed = seal.sign(&Sent::of(intake), start, false, work, progress).map_err(failed)?;
    let replacement = |file: Changed| {
        let path = TreePath::new(&file.path).map_err(|error| SignError::Refused {
            what: error.to_string(),
            fix: "rename it in the engine".to_owned(),
        })?;
        Ok(Replacement { path, at: file.at })
    };
    changed.into_iter().map(|file| replacement(file).map_err(failed)).collect()
}

/// Lists what is in a package.
pub(crate) fn inside_of(package: &Export) -> Result<Export, SignError> {
    let found = package.inside_of_package().map_err(|finding| SignError::Refused {
        what: finding.what.clone(),
        fix: finding.fix.clone().unwrap_or_default(),
    })?;
    Ok(found.export)
}

/// Signs what is in a package, and writes it again.
pub(crate) fn package<R: Read + io::Seek + Send>(
    inside: &Export,
    open: &(dyn Fn() -> io::Result<R> + Sync),
    seal: &CodeSeal<'_>,
    (work, to): (&Path, &Path),
    progress: &dyn Progress,
) -> Result<(), SignError> {
    let changed = seal.sign(inside, None, true, work, progress)?;
    ipa::write(open, &changed, to, progress)?;
    // They are in the package now.
    for file in changed {
        fs::remove_file(file.at)?;
    }
    Ok(())
}

impl Project {
    /// What is wrong with what the signatures of a build for macOS or iOS are to say, and how often a key is asked for. Nobody is
    /// asked for ad hoc signatures: they have no certificates.
    pub(crate) fn code_findings(
        &self,
        intake: &Intake<'_>,
        key: Option<(&Name, &[Vec<u8>])>,
        at: Timestamp,
    ) -> Vec<Finding> {
        let cannot = |what: String, fix: &str| Finding::of(Code::CannotSign, what, fix);
        let words = match Words::read(self.root(), intake.target) {
            Ok(words) => words,
            Err(wrong) => {
                let keys: Vec<&str> =
                    ["targets", intake.name.as_str()].into_iter().chain(wrong.at.iter().map(String::as_str)).collect();
                let fix = "write the path of the file, from the folder of lantern.toml";
                return vec![cannot(wrong.what, fix).at(self.place_of(&keys))];
            }
        };
        let is_for_phones = intake.export().form == Form::Package("ipa");
        let inside = if is_for_phones { inside_of(intake.export()).map(Some) } else { Ok(None) };
        let inside = match inside {
            Ok(inside) => inside,
            Err(error) => return vec![cannot(error.to_string(), "export it again")],
        };
        let sent = Sent::of(intake);
        let files: &dyn Files = inside.as_ref().map_or(&sent as &dyn Files, |inside| inside as &dyn Files);
        let start = intake.starts.first().map(|start| start.file.as_str());
        let plan = match Plan::of(files, &words, start, is_for_phones) {
            Ok(plan) => plan,
            Err(SignError::Refused { what, fix }) => return vec![cannot(what, &fix)],
            Err(error) => return vec![cannot(error.to_string(), "export it again")],
        };
        let mut findings = Vec::new();
        for path in words.inside.keys().filter(|path| !plan.objects().any(|object| object.path == path.as_str())) {
            let finding = cannot(
                format!("inside names {path}, where no bundle and no program lies"),
                "write its path in the build",
            );
            findings.push(finding.at(self.place_of(&["targets", intake.name.as_str(), "inside", path.as_str()])));
        }
        let chain = key.map_or(&[][..], |(_, chain)| chain);
        for object in plan.objects() {
            let has_profile = plan.part(&object.path).is_some_and(|part| part.profile.is_some());
            let key = if has_profile { "profile" } else { "sign" };
            let place = match words.inside.keys().find(|path| path.as_str() == object.path) {
                Some(path) => self.place_of(&["targets", intake.name.as_str(), "inside", path.as_str(), key]),
                None => self.place_of(&["targets", intake.name.as_str(), key]),
            };
            let found = disagreements(object, &plan, chain, at);
            findings.extend(found.into_iter().map(|finding| finding.at(place.clone())));
        }
        if let Some((key, _)) = key {
            let (count, asked) = (plan.objects().count(), plan.objects().map(|object| object.slices).sum());
            let what = format!(
                "{key} is asked for {}, for {}",
                plural(asked, "signature", "signatures"),
                plural(count, "program", "programs and libraries")
            );
            findings.push(Finding::note(Code::ProgramsToSign, what));
        } else if is_for_phones {
            let what = "it is to be signed ad hoc, and no device starts that".to_owned();
            findings.push(cannot(what, "sign = \"KEY\", with a certificate and a profile of your team"));
        }
        findings
    }
}

/// What does not agree of a program that is started or extends another.
fn disagreements(object: &CodeObject, plan: &Plan<'_>, chain: &[Vec<u8>], at: Timestamp) -> Vec<Finding> {
    // Frameworks and libraries live by what the program has.
    let is_asked = object.layout.as_ref().is_some_and(|layout| layout.is_app() || layout.ending == "appex");
    if !is_asked || chain.is_empty() {
        return Vec::new();
    }
    let Ok(Some(identity)) = object.identity(plan.files) else { return Vec::new() };
    let program = FileOf { files: plan.files, path: &object.main };
    // What cannot be read is said when it is signed.
    let entitlements = plan.wanted(&object.path, true).entitlements_of(program).unwrap_or_default();
    let profile = plan.part(&object.path).and_then(|part| part.profile.as_ref()).map(|(_, profile)| profile);
    let claim = Claim {
        identity: &identity,
        is_for_phones: plan.is_for_phones,
        entitlements: entitlements.as_ref(),
        profile,
        chain,
        at,
    };
    let code = if profile.is_some() { Code::ProfileMismatch } else { Code::NoProfile };
    let finding =
        |found: Disagreement| Finding::of(code, format!("{}: {}", shown(&object.path), found.what), found.fix);
    claim.disagreements().into_iter().map(finding).collect()
}
