//! Writes the seal over the files of a bundle, `CodeResources`.

use std::collections::BTreeMap;
use std::io;
use std::sync::Mutex;

use lantern_core::parallel::{each, processors};
use lantern_core::path::shown;
use lantern_core::progress::{Progress, Task};
use lantern_formats::bundle::{FileKind, Files, Layout, TICKET};

use super::Changed;
use super::code::CodeObject;
use super::rules::{Rule, Shape};
use super::tree::{Digests, Tree};
use crate::SignError;
use crate::macho::Known;
use crate::plist::{Item, write};

/// What a shop lays into a bundle, which no seal lists.
const RECEIPT: &str = "_MASReceipt/";
const SIGNATURE: &str = "_CodeSignature/";

/// The seal of a bundle. `own` are files of it that are about to be added.
pub(super) fn seal(
    tree: &Tree<'_>,
    own: &[Changed],
    object: &CodeObject,
    layout: &Layout,
    known: &BTreeMap<String, Known>,
    progress: &dyn Progress,
) -> Result<String, SignError> {
    let base = layout.base.as_str();
    let shape = match layout.resources.strip_prefix(base) {
        Some("Resources/") if !layout.is_flat => Shape::WithResources,
        _ => Shape::Flat,
    };
    let (mut files, mut codes, mut links) = (Vec::new(), BTreeMap::new(), Vec::new());
    let mut paths: BTreeMap<&str, FileKind<'_>> = tree.below(base).collect();
    for file in own {
        // Its bytes are read from where it lies; its length is not asked for.
        paths.extend(file.path.strip_prefix(base).map(|path| (path, FileKind::File { len: 0 })));
    }
    let main = object.main.strip_prefix(base);
    for (path, kind) in paths {
        let is_own = main == Some(path) || path == TICKET || path.starts_with(SIGNATURE) || path.starts_with(RECEIPT);
        if is_own || kind == FileKind::EmptyFolder || codes.keys().any(|code: &String| is_below(path, code)) {
            continue;
        }
        // A folder with a point in its name, where only code may lie, has to be a bundle.
        let folder = path.match_indices('/').find_map(|(at, _)| {
            let folder = path.get(..at)?;
            let name = folder.rsplit('/').next().unwrap_or(folder);
            (name.contains('.') && shape.rule(folder) == Rule::Code).then_some(folder)
        });
        if let Some(folder) = folder {
            let code = known.get(&format!("{base}{folder}")).ok_or_else(|| no_code(folder, true))?;
            codes.insert(folder.to_owned(), code);
            continue;
        }
        match (shape.rule(path), kind) {
            (Rule::Omit, _) => {}
            (_, FileKind::Link { target }) => links.push((path, target)),
            (Rule::Code, _) => {
                let code = known.get(&format!("{base}{path}")).ok_or_else(|| no_code(path, false))?;
                codes.insert(path.to_owned(), code);
            }
            (rule, _) => files.push((path, rule)),
        }
    }
    let digests = digests(tree, own, base, &files, progress)?;
    let mut newer: BTreeMap<String, Item> = BTreeMap::new();
    let mut older: BTreeMap<String, Item> = BTreeMap::new();
    for ((path, rule), digests) in files.iter().zip(digests) {
        let hash = [("hash2".to_owned(), Item::Data(digests.sha256))];
        newer.insert((*path).to_owned(), Item::Dictionary(hash.into_iter().chain(optional(*rule)).collect()));
        match shape.older_rule(path) {
            Rule::Omit => {}
            Rule::Optional => {
                let hash = [("hash".to_owned(), Item::Data(digests.sha1))];
                older.insert(
                    (*path).to_owned(),
                    Item::Dictionary(hash.into_iter().chain(optional(Rule::Optional)).collect()),
                );
            }
            _ => drop(older.insert((*path).to_owned(), Item::Data(digests.sha1))),
        }
    }
    for (path, target) in links {
        newer.insert(path.to_owned(), Item::of([("symlink", Item::Text(target.to_owned()))]));
    }
    for (path, code) in codes {
        let hash = code.hashes.first().cloned().unwrap_or_default();
        let says = Item::of([("cdhash", Item::Data(hash)), ("requirement", Item::Text(code.requirement.clone()))]);
        newer.insert(path, says);
    }
    let dictionary = |of: BTreeMap<String, Item>| Item::Dictionary(of.into_iter().collect());
    Ok(write(&Item::of([
        ("files", dictionary(older)),
        ("files2", dictionary(newer)),
        ("rules", shape.older()),
        ("rules2", shape.newer()),
    ])))
}

fn optional(rule: Rule) -> Option<(String, Item)> {
    (rule == Rule::Optional).then(|| ("optional".to_owned(), Item::True))
}

fn is_below(path: &str, folder: &str) -> bool {
    path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'))
}

fn no_code(path: &str, is_folder: bool) -> SignError {
    let what = match is_folder {
        true => format!(
            "{} lies where only code may lie, has a point in its name, and is no bundle with a program",
            shown(path)
        ),
        false => format!("{} lies where only programs and libraries may lie", shown(path)),
    };
    SignError::refused(what, "move it into Contents/Resources: systems refuse a signature over data in other places")
}

/// The digests of files, in their order.
fn digests(
    tree: &Tree<'_>,
    own: &[Changed],
    base: &str,
    files: &[(&str, Rule)],
    progress: &dyn Progress,
) -> Result<Vec<Digests>, SignError> {
    let meter = progress.start(Task::Sign, None);
    let out = Mutex::new(vec![None; files.len()]);
    // The largest first, so that no processor has it alone at the end.
    let mut order: Vec<usize> = (0..files.len()).collect();
    let len = |number: &usize| match files.get(*number).and_then(|(path, _)| tree.kind(&format!("{base}{path}"))) {
        Some(FileKind::File { len }) => len,
        _ => 0,
    };
    order.sort_by_key(|number| std::cmp::Reverse(len(number)));
    let done = each(
        &order,
        processors(),
        || (),
        |(), _, number| {
            let Some((path, _)) = files.get(*number) else { return Ok(()) };
            let full = format!("{base}{path}");
            let mut counted = |len: usize| {
                meter.add(len as u64);
                if progress.stopped() { Err(io::ErrorKind::Interrupted.into()) } else { Ok(()) }
            };
            let found = match own.iter().find(|file| file.path == full) {
                Some(file) => {
                    let bytes = std::fs::read(&file.at)?;
                    Digests {
                        sha1: lantern_formats::hash::Hash::Sha1.digest(&bytes),
                        sha256: lantern_formats::hash::Hash::Sha256.digest(&bytes),
                    }
                }
                None => tree.digests(&full, &mut counted)?,
            };
            if let Some(slot) = out.lock().expect("nothing panics with the lock").get_mut(*number) {
                *slot = Some(found);
            }
            Ok::<_, io::Error>(())
        },
    );
    if progress.stopped() {
        return Err(SignError::Stopped);
    }
    done?;
    Ok(out.into_inner().expect("nothing panics with the lock").into_iter().flatten().collect())
}
