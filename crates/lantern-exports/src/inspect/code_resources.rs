//! The files of a signed bundle against its seal, and the programs and bundles in it.

use std::collections::BTreeSet;
use std::io::{self, Read};
use std::sync::Mutex;

use lantern_core::finding::{Code, Finding, join_some};
use lantern_core::parallel::{each, processors};
use lantern_core::path::shown;
use lantern_core::progress::Progress;
use lantern_formats::FormatError;
use lantern_formats::info::Info;
use lantern_formats::macho::{Details, FileHash, ResourceSeal, Sealed, Special};
use lantern_store::seal::SourceKind;

use super::macos::{Layout, TICKET, is_ticket, verify_code};
use super::read_small;
use crate::export::Export;
use crate::metered::Metering;

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

/// Compares the files of a bundle with its seal, which is known to be the one that was signed.
pub(super) fn wrong_in(
    export: &Export,
    bundle: &Bundle<'_>,
    seal: &[u8],
    progress: &dyn Progress,
) -> io::Result<Found> {
    let total = export.below(&bundle.base).map(|(_, index)| export.entries[index].source.size()).sum();
    let watch = Metering::start(progress, total);
    let mut looking = Look { export, watch: &watch, others: BTreeSet::new() };
    let wrong = looking.wrong_in(bundle, seal, 0)?;
    let mut found = Found { wrong, findings: Vec::new() };
    if !looking.others.is_empty() {
        let others: Vec<String> = looking.others.into_iter().collect();
        let what = format!("signed by another team than the bundle: {}", join_some(&others, MAX_NAMED));
        let fix = "sign everything in the bundle with the same identity, from the inside out";
        found.findings.push(Finding::of(Code::OtherSigner, what, fix));
    }
    Ok(found)
}

struct Look<'a> {
    export: &'a Export,
    watch: &'a Metering<'a>,
    /// Programs in it that someone else signed.
    others: BTreeSet<String>,
}

impl Look<'_> {
    fn wrong_in(&mut self, bundle: &Bundle<'_>, seal: &[u8], depth: usize) -> io::Result<Option<String>> {
        let seal = match ResourceSeal::read(seal) {
            Ok(seal) => seal,
            Err(error) => return Ok(Some(format!("its seal cannot be read: {error}"))),
        };
        let export = self.export;
        let is_code = |path: &str| matches!(seal.files.get(path), Some((Sealed::Code(_), _)));
        let is_nested = |path: &str| path.match_indices('/').any(|(at, _)| is_code(&path[..at]));
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
                (None, SourceKind::Link { .. }) if path == TICKET => {}
                // It is put there after all that was signed.
                (None, SourceKind::File { .. }) if path == TICKET && self.is_ticket(bundle, index)? => {}
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

    fn is_ticket(&self, bundle: &Bundle<'_>, index: usize) -> io::Result<bool> {
        let mut first = Vec::new();
        self.export.open(index)?.take(8).read_to_end(&mut first)?;
        Ok(bundle.base.ends_with("Contents/") && is_ticket(&first))
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
        let name = full.rsplit('/').next().unwrap_or(full);
        let layout = match export.place_of(full) {
            Some(_) => None,
            None => match Layout::find(export, &format!("{full}/"), name) {
                Some(layout) => Some(layout),
                None => return Ok(Some("it is no bundle".to_owned())),
            },
        };
        let (mut main, mut beside, mut seal) = (full.to_owned(), Vec::new(), None);
        if let Some(layout) = &layout {
            let info = read_small(export, &layout.info)?;
            seal = read_small(export, &layout.seal())?;
            main = layout.program(&info.as_deref().and_then(|bytes| Info::read(bytes).ok()).unwrap_or_default());
            beside =
                vec![(Special::Info, layout.info.clone(), info), (Special::Resources, layout.seal(), seal.clone())];
        }
        let Some(index) = export.place_of(&main) else { return Ok(Some("its program is missing".to_owned())) };
        let mut from = self.watch.over(export.open_anywhere(index)?);
        let details = match Details::read(&mut from) {
            Ok(details) => details,
            // Scripts and data that lie where programs do have their signature elsewhere.
            Err(FormatError::Not { .. }) => return Ok(None),
            Err(FormatError::Io(error)) => return Err(error),
            Err(error) => return Ok(Some(error.to_string())),
        };
        let code = match verify_code(&mut from, &details, &beside) {
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
        let covers_seal = code.signatures.iter().all(|signature| signature.covers(Special::Resources));
        let own_team = code.signatures.first().and_then(|signature| signature.team());
        if team.is_some() && own_team != team {
            self.others.insert(shown(full));
        }
        match (layout, seal) {
            (Some(layout), Some(seal)) if covers_seal => {
                self.wrong_in(&Bundle { base: layout.base, main, team: own_team }, &seal, depth + 1)
            }
            _ => Ok(None),
        }
    }
}
