//! Signs bundles for macOS and iOS: everything that runs in them from the inside out, each with the seal over its own files.
//!
//! Source: Apple's technical notes 2206, "Nested Code" and "Resource Rules" (<https://developer.apple.com/library/archive/technotes/tn2206/>), and
//! 3126 (<https://developer.apple.com/documentation/technotes/tn3126-inside-code-signing-hashes>). docs/signing.md has the order and the seal.

mod agreement;
mod code;
mod info;
mod rules;
mod seal;
mod tree;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use lantern_core::parallel::{map_by, processors};
use lantern_core::path::shown;
use lantern_core::progress::Progress;
use lantern_formats::FormatError;
use lantern_formats::bundle::{self, Bundle, Files, Layout, MAX_SMALL_LEN, read_small, verify_code};
use lantern_formats::info::Info;
use lantern_formats::macho::{CodeSignature, Details, Special};

pub use agreement::{Claim, Disagreement, otherwise};
pub use code::{CodeObject, Root, find, roots};
use tree::Tree;

use crate::SignError;
use crate::archive::AGAIN;
use crate::macho::{self, By, Code, Entitlements, Known, refused};
use crate::stamp::Stamp;

/// What is wanted of one program in a bundle.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// What it may do; none to keep what its signature says.
    pub entitlements: Option<Entitlements>,
    /// What it may do where neither says anything.
    pub otherwise: Option<Entitlements>,
    /// The profile that is laid into its bundle.
    pub profile: Option<Vec<u8>>,
    /// Whether the hardened runtime is asked for.
    pub is_hardened: bool,
}

/// How a bundle is signed.
pub struct Signing<'a> {
    /// Who signs; nobody for ad hoc signatures.
    pub by: Option<By<'a>>,
    /// What is wanted of a program, by the path of its bundle or, without one, its own.
    pub wanted: &'a (dyn Fn(&str) -> Wanted + Sync),
    /// What is written into the `Info.plist` of it and its extensions.
    pub stamp: Option<&'a Stamp>,
    /// Whether the signer may be asked by several at once.
    pub in_parallel: bool,
}

impl std::fmt::Debug for Signing<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Signing").field("by", &self.by).field("stamp", &self.stamp).finish_non_exhaustive()
    }
}

/// A file that is other than it was, or new.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Changed {
    /// Where it belongs, from the top of the files.
    pub path: String,
    /// Where it lies.
    pub at: PathBuf,
}

/// Signs a bundle; what is changed of it is written to `work`. The result is verified.
///
/// # Errors
/// [`SignError`].
pub fn sign(
    files: &dyn Files,
    top: &Layout,
    folder: &str,
    how: &Signing<'_>,
    work: &Path,
    progress: &dyn Progress,
) -> Result<Vec<Changed>, SignError> {
    let mut tree = Tree::of(files, folder);
    let objects = find(files, folder, top)?;
    let mut session = Session { how, work, progress, known: BTreeMap::new() };
    if let Some(stamp) = how.stamp {
        for object in &objects {
            session.stamp(&mut tree, object, stamp)?;
        }
    }
    // From the inside out: what is as deep as another does not depend on it.
    let deepest = objects.iter().map(|object| object.depth).max().unwrap_or(0);
    for depth in (0..=deepest).rev() {
        let level: Vec<&CodeObject> = objects.iter().filter(|object| object.depth == depth).collect();
        let threads = if how.in_parallel { processors() } else { 1 };
        let signed = map_by(threads, &level, |object| session.sign_one(&tree, object))?;
        for (object, (known, changed)) in level.iter().zip(signed) {
            changed.into_iter().for_each(|file| tree.put(file));
            session.known.insert(object.path.clone(), known);
        }
    }
    if let Some(object) = objects.iter().find(|object| object.depth == 0) {
        verify_tree(&tree, top, &object.main)?;
    }
    Ok(tree.changed())
}

/// Writes version and number into a bundle and its extensions, and signs nothing: a signature that it has holds no longer.
///
/// # Errors
/// [`SignError`].
pub fn stamp_alone(
    files: &dyn Files,
    top: &Layout,
    folder: &str,
    stamp: &Stamp,
    work: &Path,
    progress: &dyn Progress,
) -> Result<Vec<Changed>, SignError> {
    let mut tree = Tree::of(files, folder);
    let how = Signing { by: None, wanted: &|_| Wanted::default(), stamp: Some(stamp), in_parallel: false };
    let session = Session { how: &how, work, progress, known: BTreeMap::new() };
    for object in find(files, folder, top)? {
        session.stamp(&mut tree, &object, stamp)?;
    }
    Ok(tree.changed())
}

/// Signs a program outside of any bundle, into `work`.
///
/// # Errors
/// [`SignError`].
pub fn sign_program(
    files: &dyn Files,
    path: &str,
    wanted: &Wanted,
    by: Option<By<'_>>,
    work: &Path,
    progress: &dyn Progress,
) -> Result<Changed, SignError> {
    let tree = Tree::of(files, path);
    let object = CodeObject { path: path.to_owned(), main: path.to_owned(), layout: None, depth: 0, slices: 1 };
    let how = Signing { by, wanted: &|_| wanted.clone(), stamp: None, in_parallel: false };
    let session = Session { how: &how, work, progress, known: BTreeMap::new() };
    let (_, changed) = session.sign_one(&tree, &object)?;
    changed.into_iter().next().ok_or_else(|| SignError::NotValid("nothing was signed".to_owned()))
}

/// Verifies a bundle with what was changed of it, as whoever gets it does.
///
/// # Errors
/// [`SignError::NotValid`] with what is wrong; those of reading.
pub fn verify(files: &dyn Files, top: &Layout, folder: &str, changed: &[Changed]) -> Result<(), SignError> {
    let mut tree = Tree::of(files, folder);
    changed.iter().for_each(|file| tree.put(file.clone()));
    let info = read_small(&tree, &top.info)?.and_then(|bytes| Info::read(&bytes).ok()).unwrap_or_default();
    verify_tree(&tree, top, &top.program(&info))
}

/// The short hashes of the signatures of a bundle's program, with what was changed of it: they stand for the whole of it.
///
/// # Errors
/// Those of reading.
pub fn code_hashes(
    files: &dyn Files,
    top: &Layout,
    folder: &str,
    changed: &[Changed],
) -> Result<Vec<Vec<u8>>, SignError> {
    let not_read = |error: FormatError| refused(error.to_string(), AGAIN);
    let mut tree = Tree::of(files, folder);
    changed.iter().for_each(|file| tree.put(file.clone()));
    let info = read_small(&tree, &top.info)?.and_then(|bytes| Info::read(&bytes).ok()).unwrap_or_default();
    let mut from = tree.open_anywhere(&top.program(&info))?;
    let mut out = Vec::new();
    for details in Details::read(&mut from).map_err(not_read)? {
        let signature = CodeSignature::read(&mut from, &details).map_err(not_read)?;
        let signature = signature.ok_or_else(|| refused("an architecture of its program is not signed", AGAIN))?;
        out.push(signature.known_as());
    }
    Ok(out)
}

/// Writes an archive of a bundle with what was changed of it: the bundle on top, with its links and rights; the same files give the
/// same bytes.
///
/// # Errors
/// Those of reading and writing.
pub fn archive(
    files: &dyn Files,
    folder: &str,
    changed: &[Changed],
    to: &Path,
    progress: &dyn Progress,
) -> Result<(), SignError> {
    let mut tree = Tree::of(files, folder);
    changed.iter().for_each(|file| tree.put(file.clone()));
    tree.archive(folder, to, progress)
}

struct Session<'a> {
    how: &'a Signing<'a>,
    work: &'a Path,
    progress: &'a dyn Progress,
    /// What was signed so far, by its path.
    known: BTreeMap<String, Known>,
}

impl Session<'_> {
    /// Where a changed file is written.
    fn place(&self, path: &str) -> PathBuf {
        let digest = lantern_core::digest::Digest::of(path.as_bytes());
        self.work.join(format!("code-{}", digest.short()))
    }

    fn write(&self, path: &str, bytes: &[u8]) -> Result<Changed, SignError> {
        let at = self.place(path);
        fs::write(&at, bytes)?;
        Ok(Changed { path: path.to_owned(), at })
    }

    /// Writes version and number into the `Info.plist` of the bundle itself and of its extensions, which have to say the same.
    fn stamp(&self, tree: &mut Tree<'_>, object: &CodeObject, stamp: &Stamp) -> Result<(), SignError> {
        let Some(layout) = object.layout.as_ref().filter(|layout| object.depth == 0 || layout.ending == "appex") else {
            return Ok(());
        };
        let bytes = read_small(tree, &layout.info)?.ok_or_else(|| refused("its Info.plist is missing", AGAIN))?;
        let stamped = info::stamped(&bytes, stamp)?;
        if stamped != bytes {
            tree.put(self.write(&layout.info, &stamped)?);
        }
        Ok(())
    }

    fn sign_one(&self, tree: &Tree<'_>, object: &CodeObject) -> Result<(Known, Vec<Changed>), SignError> {
        let within = |error| SignError::within(&object.path, error);
        let mut changed = Vec::new();
        let known = self.sign_object(tree, object, &mut changed).map_err(within)?;
        Ok((known, changed))
    }

    fn sign_object(
        &self,
        tree: &Tree<'_>,
        object: &CodeObject,
        changed: &mut Vec<Changed>,
    ) -> Result<Known, SignError> {
        let wanted = (self.how.wanted)(&object.path);
        let source = tree::Source { tree, path: &object.main };
        // What an earlier signature says it may do is kept where nobody says otherwise.
        let kept = if wanted.entitlements.is_none() { own_entitlements(&source)? } else { None };
        let entitlements = wanted.entitlements.as_ref().or(kept.as_ref()).or(wanted.otherwise.as_ref());
        let (mut info, mut seal) = (None, None);
        let identifier = match &object.layout {
            None => macho::own_identifier(&source)?.unwrap_or_else(|| stem(&object.main)),
            Some(layout) => {
                info = read_small(tree, &layout.info)?;
                if let Some(profile) = &wanted.profile {
                    let path = profile_of(layout);
                    changed.push(self.write(&path, profile)?);
                }
                let sealed = seal::seal(tree, changed, object, layout, &self.known, self.progress)?;
                if sealed.len() as u64 > MAX_SMALL_LEN {
                    let what = "it has so many files that its seal would be larger than any that is read (16 MB)";
                    return Err(refused(what, "pack files of Contents/Resources together, as engines do it"));
                }
                changed.push(self.write(&layout.seal(), sealed.as_bytes())?);
                seal = Some(sealed.into_bytes());
                identifier_of(info.as_deref(), layout)?
            }
        };
        let code = Code {
            identifier: &identifier,
            is_hardened: wanted.is_hardened,
            entitlements,
            info: info.as_deref(),
            seal: seal.as_deref(),
        };
        let to = self.place(&object.main);
        let known = macho::sign(&source, &to, &code, self.how.by, self.progress)?;
        changed.push(Changed { path: object.main.clone(), at: to });
        Ok(known)
    }
}

/// Has the reader verify the whole: every signature, and every seal over the files as they are now. The hashes of what was just
/// hashed are not made again.
fn verify_tree(tree: &Tree<'_>, layout: &Layout, main: &str) -> Result<(), SignError> {
    let not_valid = |error: FormatError| SignError::NotValid(error.to_string());
    let mut beside = Vec::new();
    for (slot, path) in [(Special::Info, layout.info.clone()), (Special::Resources, layout.seal())] {
        let bytes = read_small(tree, &path)?;
        beside.push((slot, path, bytes));
    }
    let mut from = tree.open_anywhere(main)?;
    let details = Details::read(&mut from).map_err(not_valid)?;
    let verdict = verify_code(&mut *from, &details, &beside).map_err(not_valid)?;
    let verdict = verdict.ok_or_else(|| SignError::NotValid("it has no signature".to_owned()))?;
    if let Some(wrong) = verdict.wrong {
        return Err(SignError::NotValid(wrong));
    }
    let team = verdict.signatures.first().and_then(CodeSignature::team);
    let bundle = Bundle { base: layout.base.clone(), main: main.to_owned(), team };
    let seal = beside.into_iter().find_map(|(slot, _, bytes)| bytes.filter(|_| slot == Special::Resources));
    let found = bundle::verify(tree, &bundle, &seal.unwrap_or_default())?;
    found.wrong.map_or(Ok(()), |wrong| Err(SignError::NotValid(wrong)))
}

/// Where the profile of a bundle lies.
pub fn profile_of(layout: &Layout) -> String {
    let name = if layout.is_flat { "embedded.mobileprovision" } else { "embedded.provisionprofile" };
    format!("{}{name}", layout.base)
}

/// What a bundle is known as.
fn identifier_of(info: Option<&[u8]>, layout: &Layout) -> Result<String, SignError> {
    info.and_then(|bytes| Info::read(bytes).ok()?.identifier).ok_or_else(|| {
        let what = format!("{} names no CFBundleIdentifier, by which it would be known", shown(&layout.info));
        refused(what, "give it an identity in the engine")
    })
}

/// What a file without a bundle is known as: its name without what stands behind the last point.
fn stem(path: &str) -> String {
    let name = path.rsplit('/').next().unwrap_or(path);
    name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_owned()
}

/// What the signature of a program says it may do; none where it says nothing.
///
/// # Errors
/// [`SignError`].
pub fn own_entitlements(source: &(impl macho::Source + ?Sized)) -> Result<Option<Entitlements>, SignError> {
    let not_read = |error: FormatError| refused(error.to_string(), AGAIN);
    let mut from = source.anywhere()?;
    for details in Details::read(&mut from).map_err(not_read)? {
        // A signature that cannot be read says nothing that could be kept.
        let Ok(Some(signature)) = CodeSignature::read(&mut from, &details) else { continue };
        if let Some(xml) = signature.entitlements_as_they_are() {
            return Entitlements::read(xml).map(Some);
        }
    }
    Ok(None)
}
