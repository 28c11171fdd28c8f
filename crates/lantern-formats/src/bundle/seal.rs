//! The files of a signed bundle against its seal, and the programs and bundles in it.

use std::collections::BTreeSet;
use std::io::{self, Read};
use std::sync::Mutex;

use lantern_core::parallel::{each, processors};
use lantern_core::path::shown;

use super::{FileKind, Files, Layout, TICKET, is_file, is_ticket, read_small, verify_code};
use crate::FormatError;
use crate::info::Info;
use crate::macho::{Details, FileHash, ResourceSeal, Sealed, Special};

/// Deepest nesting of bundles that is followed. Ours: real ones have three.
const MAX_DEPTH: usize = 8;

/// A bundle, as its seal sees it.
#[derive(Debug)]
pub struct Bundle<'a> {
    /// Where the paths of the seal begin; ends with `/`, or is empty.
    pub base: String,
    /// The program, which the seal does not list, from the top of the files.
    pub main: String,
    /// Who signed it.
    pub team: Option<&'a str>,
}

/// What comparing a bundle with its seal showed.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct SealVerdict {
    /// Why the seal does not hold; none when it does.
    pub wrong: Option<String>,
    /// Programs in it that another team signed than the bundle.
    pub others: BTreeSet<String>,
    /// Programs in it whose signatures hold.
    pub verified: BTreeSet<String>,
}

/// Compares the files of a bundle with its seal, which is known to be the one that was signed, and follows the programs and
/// bundles in it.
///
/// # Errors
/// Those of reading.
pub fn verify(files: &dyn Files, bundle: &Bundle<'_>, seal: &[u8]) -> io::Result<SealVerdict> {
    let mut walk = Walk { files, others: BTreeSet::new(), verified: BTreeSet::new() };
    let wrong = walk.wrong_in(bundle, seal, 0)?;
    Ok(SealVerdict { wrong, others: walk.others, verified: walk.verified })
}

/// Verifies a bundle, or a program by itself: its signature, the seal over its files, and the programs and bundles in it. The path is
/// that of its folder, without `/` at its end.
///
/// # Errors
/// Those of reading.
pub fn verify_at(files: &dyn Files, path: &str) -> io::Result<SealVerdict> {
    let mut walk = Walk { files, others: BTreeSet::new(), verified: BTreeSet::new() };
    let wrong = walk.wrong_code(path, None, None, 0)?;
    Ok(SealVerdict { wrong, others: walk.others, verified: walk.verified })
}

struct Walk<'a> {
    files: &'a dyn Files,
    /// Programs in it that someone else signed.
    others: BTreeSet<String>,
    /// Programs in it whose signatures hold.
    verified: BTreeSet<String>,
}

impl Walk<'_> {
    fn wrong_in(&mut self, bundle: &Bundle<'_>, seal: &[u8], depth: usize) -> io::Result<Option<String>> {
        let seal = match ResourceSeal::read(seal) {
            Ok(seal) => seal,
            Err(error) => return Ok(Some(format!("its seal cannot be read: {error}"))),
        };
        let files = self.files;
        let is_code = |path: &str| matches!(seal.files.get(path), Some((Sealed::Code(_), _)));
        let is_nested = |path: &str| path.match_indices('/').any(|(at, _)| is_code(&path[..at]));
        let (mut hashed, mut codes) = (Vec::new(), Vec::new());
        let mut there = BTreeSet::new();
        for (path, kind) in files.below(&bundle.base) {
            let is_main = bundle.main.strip_prefix(&bundle.base) == Some(path);
            let is_own = is_main || path.starts_with("_CodeSignature/");
            if is_own || kind == FileKind::EmptyFolder || is_nested(path) {
                continue;
            }
            there.insert(path);
            match (seal.files.get(path).map(|(sealed, _)| sealed), kind) {
                (Some(Sealed::File(hash)), FileKind::File { len }) => hashed.push((path, len, hash)),
                (Some(Sealed::Link(wanted)), FileKind::Link { target }) if wanted == target => {}
                (Some(Sealed::Code(hash)), FileKind::File { .. }) => codes.push((path, hash.as_deref())),
                // The older place of the seal is a link to the newer one.
                (None, FileKind::Link { .. }) if path == TICKET => {}
                // It is put there after all that was signed.
                (None, FileKind::File { .. }) if path == TICKET && self.is_ticket(bundle, path)? => {}
                (None, _) if seal.leaves_out(path) => {}
                (None, _) => return Ok(Some(format!("{} was added after it was signed", shown(path)))),
                (Some(_), _) => return Ok(Some(format!("{} was changed after it was signed", shown(path)))),
            }
        }
        for (path, (sealed, _)) in &seal.files {
            let folder = format!("{}{path}/", bundle.base);
            let is_there = there.contains(path.as_str()) || files.below(&folder).next().is_some();
            match sealed {
                _ if !is_there && seal.is_optional(path) => {}
                _ if !is_there => return Ok(Some(format!("{} was taken out after it was signed", shown(path)))),
                Sealed::Code(hash) if !there.contains(path.as_str()) => codes.push((path, hash.as_deref())),
                _ => {}
            }
        }
        if let Some(changed) = self.changed(&bundle.base, &mut hashed)? {
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

    fn is_ticket(&self, bundle: &Bundle<'_>, path: &str) -> io::Result<bool> {
        let mut first = Vec::new();
        self.files.open(&format!("{}{path}", bundle.base))?.take(8).read_to_end(&mut first)?;
        Ok(bundle.base.ends_with("Contents/") && is_ticket(&first))
    }

    /// The first file whose bytes are not those of its hash.
    fn changed(&self, base: &str, hashed: &mut Vec<(&str, u64, &FileHash)>) -> io::Result<Option<String>> {
        hashed.sort_by_key(|(_, len, _)| std::cmp::Reverse(*len));
        let changed = Mutex::new(BTreeSet::new());
        each(
            hashed.as_slice(),
            processors(),
            || (),
            |(), _, (path, _, hash)| {
                if !self.files.has_hash(&format!("{base}{path}"), hash)? {
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
        let files = self.files;
        if depth > MAX_DEPTH {
            return Ok(Some("bundles are nested too deeply".to_owned()));
        }
        let name = full.rsplit('/').next().unwrap_or(full);
        let layout = if is_file(files, full) {
            None
        } else {
            match Layout::find(files, &format!("{full}/"), name) {
                Some(layout) => Some(layout),
                None => return Ok(Some("it is not a bundle".to_owned())),
            }
        };
        let (mut main, mut beside, mut seal) = (full.to_owned(), Vec::new(), None);
        if let Some(layout) = &layout {
            let info = read_small(files, &layout.info)?;
            seal = read_small(files, &layout.seal())?;
            main = layout.program(&info.as_deref().and_then(|bytes| Info::read(bytes).ok()).unwrap_or_default());
            beside =
                vec![(Special::Info, layout.info.clone(), info), (Special::Resources, layout.seal(), seal.clone())];
        }
        if !is_file(files, &main) {
            return Ok(Some("its program is missing".to_owned()));
        }
        let mut from = files.open_anywhere(&main)?;
        let details = match Details::read(&mut from) {
            Ok(details) => details,
            // Systems keep the signature of scripts and data that lie where programs do in attributes of the file, which archives lose.
            Err(FormatError::Not { .. }) => return Ok(Some("it carries no signature in itself".to_owned())),
            Err(FormatError::Io(error)) => return Err(error),
            Err(error) => return Ok(Some(error.to_string())),
        };
        let code = match verify_code(&mut *from, &details, &beside) {
            Ok(Some(code)) => code,
            Ok(None) => return Ok(Some("it is not signed".to_owned())),
            Err(FormatError::Io(error)) => return Err(error),
            Err(error) => return Ok(Some(error.to_string())),
        };
        if let Some(why) = code.wrong {
            return Ok(Some(why));
        }
        self.verified.insert(main.clone());
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
