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

impl CodeObject {
    /// What a bundle calls itself; none where it does not say, and for a program by itself.
    ///
    /// # Errors
    /// Those of reading.
    pub fn identity(&self, files: &dyn Files) -> io::Result<Option<String>> {
        let Some(layout) = &self.layout else { return Ok(None) };
        Ok(info_of(files, layout)?.identifier)
    }
}

/// What is signed by itself: a bundle with all that is in it, or a program outside of any.
#[derive(Debug, Clone)]
pub struct Root {
    /// Its path from the top of the files, without `/` at its end: a bundle's folder, or a program.
    pub path: String,
    /// How the bundle is laid out; none for a program.
    pub layout: Option<Layout>,
    /// Everything that is signed of it, itself first: what lies deeper comes later.
    pub objects: Vec<CodeObject>,
}

impl Root {
    /// What the path of everything in it begins with.
    pub(super) fn prefix(&self) -> String {
        if self.layout.is_some() { format!("{}/", self.path) } else { self.path.clone() }
    }
}

/// What a bundle says of itself; nothing where it cannot be read.
pub(super) fn info_of(files: &dyn Files, layout: &Layout) -> io::Result<Info> {
    let bytes = read_small(files, &layout.info)?;
    Ok(bytes.and_then(|bytes| Info::read(&bytes).ok()).unwrap_or_default())
}

/// How a folder is laid out, if it is a bundle.
pub(super) fn layout_of(files: &dyn Files, folder: &str) -> Option<Layout> {
    Layout::find(files, &format!("{folder}/"), folder.rsplit('/').next().unwrap_or(folder))
}

/// The folders around a file, the outermost first.
fn folders(path: &str) -> impl Iterator<Item = &str> {
    path.match_indices('/').filter_map(|(at, _)| path.get(..at))
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

/// Every program and library, with the number of its slices.
fn all_code(files: &dyn Files) -> io::Result<BTreeMap<String, usize>> {
    let listed = files.below("").filter_map(|(path, kind)| match kind {
        // Debug data beside a program is no code.
        FileKind::File { len } if len > 28 && !path.contains(".dSYM/") => Some(path.to_owned()),
        _ => None,
    });
    let paths: Vec<String> = listed.collect();
    let slices = map(&paths, |path| slices_of(files, path))?;
    Ok(paths.into_iter().zip(slices).filter_map(|(path, slices)| Some((path, slices?))).collect())
}

/// Finds what is signed in a build: the outermost bundles with a program, with everything that runs in them, and programs outside of
/// them. Each file is opened once, to see what it is.
///
/// # Errors
/// Those of reading; [`SignError::Refused`] for bundles too deep in one another.
pub fn roots(files: &dyn Files) -> Result<Vec<Root>, SignError> {
    let mut code = all_code(files)?;
    let mut out = Vec::new();
    while let Some((path, slices)) = code.pop_first() {
        let mut bundle = None;
        for folder in folders(&path) {
            let Some(layout) = layout_of(files, folder) else { continue };
            let main = layout.program(&info_of(files, &layout)?);
            if main == path || code.contains_key(&main) {
                bundle = Some((folder.to_owned(), layout));
                break;
            }
        }
        let Some((folder, layout)) = bundle else {
            let object = CodeObject { path: path.clone(), main: path.clone(), layout: None, depth: 0, slices };
            out.push(Root { path, layout: None, objects: vec![object] });
            continue;
        };
        let mut inside = BTreeMap::from([(path, slices)]);
        let is_inside = |path: &str| path.strip_prefix(&folder).is_some_and(|rest| rest.starts_with('/'));
        code.retain(|path, slices| {
            let is_inside = is_inside(path);
            if is_inside {
                inside.insert(path.clone(), *slices);
            }
            !is_inside
        });
        let objects = objects_in(files, &folder, inside)?;
        out.push(Root { path: folder, layout: Some(layout), objects });
    }
    Ok(out)
}

/// Everything in a bundle that is signed, by the code in it.
fn objects_in(
    files: &dyn Files,
    bundle: &str,
    mut code: BTreeMap<String, usize>,
) -> Result<Vec<CodeObject>, SignError> {
    let around = |path: &String| {
        folders(path).filter(|folder| folder.starts_with(bundle)).map(str::to_owned).collect::<Vec<_>>()
    };
    let within: BTreeSet<String> = code.keys().flat_map(around).collect();
    let mut out = Vec::new();
    for path in within {
        let Some(layout) = layout_of(files, &path) else { continue };
        let main = layout.program(&info_of(files, &layout)?);
        // Resources with a program among them, which is signed by itself.
        let Some(slices) = code.remove(&main) else { continue };
        out.push(CodeObject { path, main, layout: Some(layout), depth: 0, slices });
    }
    let holders: Vec<String> = out.iter().map(|object| format!("{}/", object.path)).collect();
    let alone =
        |(path, slices): (String, usize)| CodeObject { main: path.clone(), path, layout: None, depth: 0, slices };
    out.extend(code.into_iter().map(alone));
    for object in &mut out {
        object.depth = holders.iter().filter(|holder| object.path.starts_with(holder.as_str())).count();
        if object.depth > MAX_DEPTH {
            return Err(SignError::refused("bundles lie too deeply in one another", AGAIN));
        }
    }
    out.sort_by(|one, other| (one.depth, &one.path).cmp(&(other.depth, &other.path)));
    Ok(out)
}
