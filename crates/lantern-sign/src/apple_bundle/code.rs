//! What runs in a bundle: its program, the bundles in it, and loose programs and libraries.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read};

use lantern_core::parallel::map;
use lantern_formats::bundle::{FileKind, Files, Layout, read_small};
use lantern_formats::info::Info;
use lantern_formats::macho::MachO;
use lantern_formats::program::Kind;

use crate::SignError;
use crate::archive::AGAIN;
use crate::macho::refused;

/// Most bundles in one another that are followed. Ours: real ones have three.
const MAX_DEPTH: usize = 8;

/// Something in a bundle that gets a signature of its own.
#[derive(Debug, Clone)]
pub struct CodeObject {
    /// Its path from the top of the files, without `/` at its end: a bundle's folder, or a program.
    pub path: String,
    /// The program.
    pub main: String,
    /// How it is laid out; none for a program by itself.
    pub layout: Option<Layout>,
    /// How many bundles it lies in: what is deeper is signed first.
    pub depth: usize,
    /// How many signatures it gets: one for each architecture.
    pub slices: usize,
}

/// What is signed by itself: a bundle with all that is in it, or a program outside of any.
#[derive(Debug, Clone)]
pub enum Root {
    /// Its folder, which ends with `/`, and how it is laid out.
    Bundle(String, Layout),
    /// A program, and how many signatures it gets.
    Program(String, usize),
}

/// How many architectures a file has code for; none where it is no code.
fn slices_of(files: &dyn Files, path: &str) -> io::Result<Option<usize>> {
    let mut first = [0; 4];
    match files.open(path)?.read_exact(&mut first) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        other => other?,
    }
    if !matches!(
        first,
        [0xce | 0xcf, 0xfa, 0xed, 0xfe] | [0xfe, 0xed, 0xfa, 0xce | 0xcf] | [0xca, 0xfe, 0xba, 0xbe | 0xbf]
    ) {
        return Ok(None);
    }
    let Ok(found) = MachO::read(&mut files.open_anywhere(path)?) else { return Ok(None) };
    let is_code = found.slices.iter().all(|slice| matches!(slice.kind, Kind::Program | Kind::Library));
    Ok(is_code.then_some(found.slices.len()))
}

/// Every program and library in a folder, with the number of its slices.
fn code_in(files: &dyn Files, folder: &str) -> io::Result<BTreeMap<String, usize>> {
    let listed = files.below(folder).filter_map(|(path, kind)| match kind {
        // Debug data beside a program is no code.
        FileKind::File { len } if len > 28 && !path.contains(".dSYM/") => Some(format!("{folder}{path}")),
        _ => None,
    });
    let paths: Vec<String> = listed.collect();
    let slices = map(&paths, |path| slices_of(files, path))?;
    Ok(paths.into_iter().zip(slices).filter_map(|(path, slices)| Some((path, slices?))).collect())
}

/// Finds what is signed by itself in a build: the outermost bundles with a program, and programs outside of them.
///
/// # Errors
/// Those of reading.
pub fn roots(files: &dyn Files) -> Result<Vec<Root>, SignError> {
    let mut code = code_in(files, "")?;
    let mut out = Vec::new();
    while let Some((path, slices)) = code.pop_first() {
        let mut folders = path.match_indices('/').filter_map(|(at, _)| path.get(..at));
        let bundle = folders.find_map(|folder| {
            let name = folder.rsplit('/').next().unwrap_or(folder);
            let layout = Layout::find(files, &format!("{folder}/"), name)?;
            let info = read_small(files, &layout.info).ok()?.and_then(|bytes| Info::read(&bytes).ok());
            let main = layout.program(&info.unwrap_or_default());
            (main == path || code.contains_key(&main)).then(|| (format!("{folder}/"), layout))
        });
        match bundle {
            Some((folder, layout)) => {
                code.retain(|path, _| !path.starts_with(&folder));
                out.push(Root::Bundle(folder, layout));
            }
            None => out.push(Root::Program(path, slices)),
        }
    }
    Ok(out)
}

/// Finds everything in a bundle that runs, itself included.
///
/// # Errors
/// Those of reading; [`SignError::Refused`] where its program is missing.
pub fn find(files: &dyn Files, folder: &str, top: &Layout) -> Result<Vec<CodeObject>, SignError> {
    let mut code = code_in(files, folder)?;
    let mut out = Vec::new();
    let mut seen = BTreeSet::new();
    let mut bundles: Vec<(String, Layout)> = vec![(folder.trim_end_matches('/').to_owned(), top.clone())];
    for path in code.keys() {
        // Every folder around a program that is a bundle.
        let inside = path.get(folder.len()..).unwrap_or_default();
        for (at, _) in inside.match_indices('/') {
            let of = path.get(..folder.len() + at).unwrap_or_default();
            if seen.insert(of.to_owned()) {
                let name = of.rsplit('/').next().unwrap_or(of);
                bundles.extend(Layout::find(files, &format!("{of}/"), name).map(|layout| (of.to_owned(), layout)));
            }
        }
    }
    for (path, layout) in bundles {
        let info = read_small(files, &layout.info)?;
        let info = info.and_then(|bytes| Info::read(&bytes).ok()).unwrap_or_default();
        let main = layout.program(&info);
        let is_top = path == folder.trim_end_matches('/');
        // Resources with a program among them, which is signed by itself.
        let Some(slices) = code.remove(&main) else {
            if is_top {
                return Err(refused("it has no program for macOS or iOS", AGAIN));
            }
            continue;
        };
        out.push(CodeObject { path, main, layout: Some(layout), depth: 0, slices });
    }
    out.extend(code.into_iter().map(|(path, slices)| CodeObject {
        main: path.clone(),
        path,
        layout: None,
        depth: 0,
        slices,
    }));
    let holders: Vec<String> =
        out.iter().filter(|object| object.layout.is_some()).map(|object| object.path.clone()).collect();
    for object in &mut out {
        let holds = |holder: &&String| {
            object.path != **holder
                && (holder.is_empty()
                    || object.path.strip_prefix(holder.as_str()).is_some_and(|rest| rest.starts_with('/')))
        };
        object.depth = holders.iter().filter(holds).count();
        if object.depth > MAX_DEPTH {
            return Err(refused("bundles lie too deeply in one another", AGAIN));
        }
    }
    out.sort_by(|one, other| (one.depth, &one.path).cmp(&(other.depth, &other.path)));
    Ok(out)
}
