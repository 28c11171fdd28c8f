//! What runs in a bundle: its program, the bundles in it, and loose programs and libraries.

use std::collections::BTreeSet;
use std::io::{self, Read};
use std::sync::Mutex;

use lantern_core::parallel::{each, processors};
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
}

/// Whether a file begins as a program for these systems does.
fn is_code(files: &dyn Files, path: &str) -> io::Result<bool> {
    let mut first = [0; 4];
    match files.open(path)?.read_exact(&mut first) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(false),
        other => other?,
    }
    if !matches!(
        first,
        [0xce | 0xcf, 0xfa, 0xed, 0xfe] | [0xfe, 0xed, 0xfa, 0xce | 0xcf] | [0xca, 0xfe, 0xba, 0xbe | 0xbf]
    ) {
        return Ok(false);
    }
    let found = MachO::read(&mut files.open_anywhere(path)?);
    Ok(found.is_ok_and(|found| found.slices.iter().all(|slice| matches!(slice.kind, Kind::Program | Kind::Library))))
}

/// Finds everything in a bundle that runs, itself included.
///
/// # Errors
/// Those of reading; [`SignError::Refused`] where its program is missing.
pub fn find(files: &dyn Files, folder: &str, top: &Layout) -> Result<Vec<CodeObject>, SignError> {
    let paths: Vec<(String, u64)> = files
        .below(folder)
        .filter_map(|(path, kind)| match kind {
            FileKind::File { len } => Some((format!("{folder}{path}"), len)),
            _ => None,
        })
        .collect();
    let code = Mutex::new(BTreeSet::new());
    each(
        &paths,
        processors(),
        || (),
        |(), _, (path, len)| {
            // Debug data beside a program is no code.
            if *len > 28 && !path.contains(".dSYM/") && is_code(files, path)? {
                code.lock().expect("nothing panics with the lock").insert(path.clone());
            }
            Ok::<_, io::Error>(())
        },
    )?;
    let mut code = code.into_inner().expect("nothing panics with the lock");
    let mut out = Vec::new();
    let mut seen = BTreeSet::new();
    let mut bundles: Vec<(String, Layout)> = vec![(folder.trim_end_matches('/').to_owned(), top.clone())];
    for path in &code {
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
        if !code.remove(&main) {
            if is_top {
                return Err(refused("it has no program for macOS or iOS", AGAIN));
            }
            continue;
        }
        out.push(CodeObject { path, main, layout: Some(layout), depth: 0 });
    }
    out.extend(code.into_iter().map(|path| CodeObject { main: path.clone(), path, layout: None, depth: 0 }));
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
