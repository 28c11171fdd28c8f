//! The files of a signed bundle against its seal, and the programs and bundles in it.

use std::collections::BTreeSet;
use std::io;
use std::sync::Mutex;

use lantern_core::finding::{Finding, listed};
use lantern_core::path::shown;
use lantern_core::progress::Progress;
use lantern_core::work::{each, processors};
use lantern_formats::FormatError;
use lantern_formats::info::Info;
use lantern_formats::macho::{Details, FileHash, ResourceSeal, Sealed, Special};
use lantern_store::seal::SourceKind;

use super::macos::verify_code;
use super::read_small;
use crate::export::Export;
use crate::watch::Watch;

/// Where a bundle's seal lies, from where its paths begin.
const SEAL: &str = "_CodeSignature/CodeResources";
/// Deepest nesting of bundles that is followed. Ours: real ones have three.
const MAX_DEPTH: usize = 8;
const MAX_NAMED: usize = 3;

/// A bundle, as its seal sees it.
pub(super) struct Bundle<'a> {
    /// Where the paths of the seal begin; ends with `/`, or is empty.
    pub base: String,
    /// The program, which the seal does not list, from the export's top.
    pub main: String,
    /// Who signed it.
    pub team: Option<&'a str>,
}

/// What was found in a bundle.
#[derive(Default)]
pub(super) struct Found {
    /// Why the seal does not hold; none when it does.
    pub wrong: Option<String>,
    pub findings: Vec<Finding>,
}

/// Holds the files of a bundle against its seal, which is known to be the one that was signed.
pub(super) fn wrong_in(
    export: &Export,
    bundle: &Bundle<'_>,
    seal: &[u8],
    progress: &dyn Progress,
) -> io::Result<Found> {
    let total = export.below(&bundle.base).map(|(_, index)| export.entries[index].source.size()).sum();
    let watch = Watch::start(progress, total);
    let mut looking = Look { export, watch: &watch, others: BTreeSet::new() };
    let wrong = looking.wrong_in(bundle, seal, 0)?;
    let mut found = Found { wrong, findings: Vec::new() };
    if !looking.others.is_empty() {
        let others: Vec<String> = looking.others.into_iter().collect();
        let what = format!("signed by another team than the bundle: {}", listed(&others, MAX_NAMED));
        let cure = "sign everything in the bundle with the same identity, from the inside out";
        found.findings.push(Finding::warns("other-signer", what, cure));
    }
    Ok(found)
}

struct Look<'a> {
    export: &'a Export,
    watch: &'a Watch<'a>,
    /// Programs in it that somebody else signed.
    others: BTreeSet<String>,
}

impl Look<'_> {
    fn wrong_in(&mut self, bundle: &Bundle<'_>, seal: &[u8], depth: usize) -> io::Result<Option<String>> {
        let seal = match ResourceSeal::read(seal) {
            Ok(seal) => seal,
            Err(error) => return Ok(Some(format!("its seal cannot be read: {error}"))),
        };
        let export = self.export;
        let folders: Vec<String> = seal
            .files
            .iter()
            .filter(|(_, (sealed, _))| matches!(sealed, Sealed::Code(_)))
            .map(|(path, _)| format!("{path}/"))
            .collect();
        let is_nested = |path: &str| folders.iter().any(|folder| path.starts_with(folder.as_str()));
        let (mut files, mut codes) = (Vec::new(), Vec::new());
        let mut there = BTreeSet::new();
        for (path, index) in export.below(&bundle.base) {
            let kind = &export.entries[index].source.kind;
            let is_own =
                export.entries[index].source.path.as_str() == bundle.main || path.starts_with("_CodeSignature/");
            if is_own || matches!(kind, SourceKind::EmptyFolder) || is_nested(path) {
                continue;
            }
            there.insert(path);
            match (seal.files.get(path).map(|(sealed, _)| sealed), kind) {
                (Some(Sealed::File(hash)), SourceKind::File { .. }) => files.push((path, index, hash)),
                (Some(Sealed::Link(wanted)), SourceKind::Link { target }) if wanted == target.as_str() => {}
                (Some(Sealed::Code(hash)), SourceKind::File { .. }) => codes.push((path, hash.as_deref())),
                // The older place of the seal is a link to the newer one.
                (None, SourceKind::Link { .. }) if path == "CodeResources" => {}
                (None, _) if seal.leaves_out(path) => {}
                (None, _) => return Ok(Some(format!("{} was added after it was signed", shown(path)))),
                (Some(_), _) => return Ok(Some(format!("{} was changed after it was signed", shown(path)))),
            }
        }
        for (path, (sealed, _)) in &seal.files {
            let folder = format!("{}{path}/", bundle.base);
            let is_there = there.contains(path.as_str()) || export.below(&folder).next().is_some();
            match sealed {
                _ if !is_there && seal.is_optional(path) => {}
                _ if !is_there => return Ok(Some(format!("{} was taken out after it was signed", shown(path)))),
                Sealed::Code(hash) if !there.contains(path.as_str()) => codes.push((path, hash.as_deref())),
                _ => {}
            }
        }
        if let Some(changed) = self.changed(&mut files)? {
            return Ok(Some(format!("{} was changed after it was signed", shown(&changed))));
        }
        for (path, hash) in codes {
            let full = format!("{}{path}", bundle.base);
            if let Some(why) = self.wrong_code(&full, hash, bundle.team, depth)? {
                return Ok(Some(format!("{}: {why}", shown(path))));
            }
        }
        Ok(None)
    }

    /// The first file whose bytes are not those of its hash.
    fn changed(&self, files: &mut Vec<(&str, usize, &FileHash)>) -> io::Result<Option<String>> {
        files.sort_by_key(|(_, index, _)| std::cmp::Reverse(self.export.entries[*index].source.size()));
        let changed = Mutex::new(BTreeSet::new());
        each(
            files.as_slice(),
            processors(),
            || (),
            |(), _, (path, index, hash)| {
                if !hash.is_of(&mut self.watch.over(self.export.open(*index)?))? {
                    changed.lock().expect("nothing panics with the lock").insert((*path).to_owned());
                }
                Ok::<_, io::Error>(())
            },
        )?;
        Ok(changed.into_inner().expect("nothing panics with the lock").pop_first())
    }

    /// Why a program or bundle in the bundle is not as it was signed.
    fn wrong_code(
        &mut self,
        full: &str,
        hash: Option<&[u8]>,
        team: Option<&str>,
        depth: usize,
    ) -> io::Result<Option<String>> {
        let export = self.export;
        if depth > MAX_DEPTH {
            return Ok(Some("bundles are nested too deeply".to_owned()));
        }
        let (base, main, info) = match export.place_of(full) {
            Some(_) => (None, full.to_owned(), None),
            None => match self.parts_of(full) {
                Some((base, main, info)) => (Some(base), main, Some(info)),
                None => return Ok(Some("it is no bundle".to_owned())),
            },
        };
        let Some(index) = export.place_of(&main) else { return Ok(Some("its program is missing".to_owned())) };
        let small = |path: Option<String>| path.map_or(Ok(None), |path| read_small(export, &path));
        let seal = small(base.as_ref().map(|base| format!("{base}{SEAL}")))?;
        let info = small(info)?;
        let beside: &[(Special, &str, Option<Vec<u8>>)] = match &base {
            Some(_) => &[(Special::Info, "Info.plist", info), (Special::Resources, SEAL, seal.clone())],
            None => &[],
        };
        let mut from = self.watch.over(export.open_anywhere(index)?);
        let details = match Details::read(&mut from) {
            Ok(details) => details,
            // Scripts and data that lie where programs do have their signature elsewhere.
            Err(FormatError::Not { .. }) => return Ok(None),
            Err(FormatError::Io(error)) => return Err(error),
            Err(error) => return Ok(Some(error.to_string())),
        };
        let code = match verify_code(&mut from, &details, beside) {
            Ok(Some(code)) => code,
            Ok(None) => return Ok(Some("it is not signed".to_owned())),
            Err(FormatError::Io(error)) => return Err(error),
            Err(error) => return Ok(Some(error.to_string())),
        };
        if let Some(why) = code.wrong {
            return Ok(Some(why));
        }
        if hash.is_some_and(|hash| !code.signatures.iter().any(|signature| signature.is_known_as(hash))) {
            return Ok(Some("it is not the one that was there when the bundle was signed".to_owned()));
        }
        let own_team = code.signatures.first().and_then(|signature| signature.team());
        if team.is_some() && own_team != team {
            self.others.insert(shown(full));
        }
        match (base, seal) {
            (Some(base), Some(seal)) => self.wrong_in(&Bundle { base, main, team: own_team }, &seal, depth + 1),
            _ => Ok(None),
        }
    }

    /// Where the paths of a bundle's seal begin, its program, and its `Info.plist`.
    fn parts_of(&self, full: &str) -> Option<(String, String, String)> {
        let export = self.export;
        let name = full.rsplit('/').next().unwrap_or(full);
        let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
        let versions = format!("{full}/Versions/");
        let version = export.below(&versions).find_map(|(path, index)| match &export.entries[index].source.kind {
            SourceKind::Link { target } if path == "Current" => Some(target.as_str().to_owned()),
            _ => None,
        });
        let version = version.or_else(|| Some(export.below(&versions).next()?.0.split('/').next()?.to_owned()));
        if let Some(version) = version {
            let base = format!("{versions}{version}/");
            return Some((base.clone(), format!("{base}{stem}"), format!("{base}Resources/Info.plist")));
        }
        [("Contents/", "MacOS/"), ("", "")].into_iter().find_map(|(inside, programs)| {
            let base = format!("{full}/{inside}");
            let path = format!("{base}Info.plist");
            let info = Info::read(&read_small(export, &path).ok()??).ok()?;
            Some((base.clone(), format!("{base}{programs}{}", info.executable.as_deref().unwrap_or(stem)), path))
        })
    }
}
