//! Signs bundles for macOS and iOS: everything that runs in them from the inside out, each with the seal over its own files.
//!
//! Source: Apple's technical notes 2206, "Nested Code" and "Resource Rules" (<https://developer.apple.com/library/archive/technotes/tn2206/>), and
//! 3126 (<https://developer.apple.com/documentation/technotes/tn3126-inside-code-signing-hashes>). docs/signing.md has the order and the seal.

mod agreement;
mod code;
mod rules;
mod seal;
mod tree;
mod whole;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use lantern_core::digest::Digest;
use lantern_core::parallel::{map_by, processors};
use lantern_core::path::shown;
use lantern_core::progress::Progress;
use lantern_formats::FormatError;
use lantern_formats::bundle::{Files, Layout, MAX_SMALL_LEN, read_small};
use lantern_formats::macho::{CodeSignature, Details};

pub use agreement::{Claim, Disagreement, otherwise};
pub use code::{CodeObject, Root, roots};
use tree::Tree;
pub use whole::Whole;

use crate::SignError;
use crate::archive::AGAIN;
use crate::macho::{self, By, Code, Entitlements, FileOf, Known, Source};
use crate::stamp::{Stamp, info};

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

impl Wanted {
    /// What a program may do then: what is said of it, what its earlier signature says where nobody says anything, or the rest.
    ///
    /// # Errors
    /// [`SignError`].
    pub fn entitlements_of(&self, program: FileOf<'_>) -> Result<Option<Entitlements>, SignError> {
        if self.entitlements.is_some() {
            return Ok(self.entitlements.clone());
        }
        let not_read = |error: FormatError| SignError::refused(error.to_string(), AGAIN);
        let mut from = program.anywhere()?;
        for details in Details::read(&mut from).map_err(not_read)? {
            // A signature that cannot be read says nothing that could be kept.
            let Ok(Some(signature)) = CodeSignature::read(&mut from, &details) else { continue };
            if let Some(xml) = signature.entitlements_as_they_are() {
                return Entitlements::read(xml).map(Some);
            }
        }
        Ok(self.otherwise.clone())
    }
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

/// Signs a bundle with everything in it, or a program; what is changed is written to `work`. The result is verified.
///
/// # Errors
/// [`SignError`].
pub fn sign(
    files: &dyn Files,
    root: &Root,
    how: &Signing<'_>,
    work: &Path,
    progress: &dyn Progress,
) -> Result<Vec<Changed>, SignError> {
    let mut tree = Tree::of(files, &root.prefix());
    if let Some(stamp) = how.stamp {
        put_stamp(&mut tree, root, stamp, work)?;
    }
    let mut session = Session { how, work, progress, known: BTreeMap::new() };
    // From the inside out: what is as deep as another does not depend on it.
    let deepest = root.objects.iter().map(|object| object.depth).max().unwrap_or(0);
    for depth in (0..=deepest).rev() {
        let level: Vec<&CodeObject> = root.objects.iter().filter(|object| object.depth == depth).collect();
        let threads = if how.in_parallel { processors() } else { 1 };
        let signed = map_by(threads, &level, |object| session.sign_one(&tree, object))?;
        for (object, (known, changed)) in level.iter().zip(signed) {
            changed.into_iter().for_each(|file| tree.put(file));
            session.known.insert(object.path.clone(), known);
        }
    }
    // A program by itself was verified when it was signed.
    if root.layout.is_some() {
        whole::verify(&tree, &root.path)?;
    }
    Ok(tree.changed())
}

/// Writes version and number into a bundle and its extensions, and signs nothing: a signature that it has holds no longer.
///
/// # Errors
/// [`SignError`].
pub fn stamp_alone(files: &dyn Files, root: &Root, stamp: &Stamp, work: &Path) -> Result<Vec<Changed>, SignError> {
    let mut tree = Tree::of(files, &root.prefix());
    put_stamp(&mut tree, root, stamp, work)?;
    Ok(tree.changed())
}

/// Writes version and number into the `Info.plist` of a bundle and of its extensions, which have to say the same.
fn put_stamp(tree: &mut Tree<'_>, root: &Root, stamp: &Stamp, work: &Path) -> Result<(), SignError> {
    for object in &root.objects {
        let says = |layout: &&Layout| object.depth == 0 || layout.ending == "appex";
        let Some(layout) = object.layout.as_ref().filter(says) else { continue };
        let missing = || SignError::refused("its Info.plist is missing", AGAIN);
        let bytes = read_small(tree, &layout.info)?.ok_or_else(missing)?;
        let stamped = info::stamped(&bytes, stamp)?;
        if stamped != bytes {
            tree.put(write(work, &layout.info, &stamped)?);
        }
    }
    Ok(())
}

/// Where a changed file is written.
fn place(work: &Path, path: &str) -> PathBuf {
    work.join(format!("code-{}", Digest::of(path.as_bytes()).short()))
}

fn write(work: &Path, path: &str, bytes: &[u8]) -> Result<Changed, SignError> {
    let at = place(work, path);
    fs::write(&at, bytes)?;
    Ok(Changed { path: path.to_owned(), at })
}

struct Session<'a> {
    how: &'a Signing<'a>,
    work: &'a Path,
    progress: &'a dyn Progress,
    /// What was signed so far, by its path.
    known: BTreeMap<String, Known>,
}

impl Session<'_> {
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
        let source = FileOf { files: tree, path: &object.main };
        let entitlements = wanted.entitlements_of(source)?;
        let (mut info, mut seal) = (None, None);
        let identifier = match &object.layout {
            None => macho::own_identifier(&source)?.unwrap_or_else(|| stem(&object.main)),
            Some(layout) => {
                info = read_small(tree, &layout.info)?;
                if let Some(profile) = &wanted.profile {
                    let path = profile_of(layout);
                    changed.push(write(self.work, &path, profile)?);
                }
                let sealed = seal::seal(tree, changed, object, layout, &self.known, self.progress)?;
                if sealed.len() as u64 > MAX_SMALL_LEN {
                    let what = "it has so many files that its seal would be larger than any that is read (16 MB)";
                    return Err(SignError::refused(
                        what,
                        "pack files of Contents/Resources together, as engines do it",
                    ));
                }
                changed.push(write(self.work, &layout.seal(), sealed.as_bytes())?);
                seal = Some(sealed.into_bytes());
                object.identity(tree)?.ok_or_else(|| {
                    let what =
                        format!("{} names no CFBundleIdentifier, by which it would be known", shown(&layout.info));
                    SignError::refused(what, "give it an identity in the engine")
                })?
            }
        };
        let code = Code {
            identifier: &identifier,
            is_hardened: wanted.is_hardened,
            entitlements: entitlements.as_ref(),
            info: info.as_deref(),
            seal: seal.as_deref(),
        };
        let to = place(self.work, &object.main);
        let known = macho::sign(&source, &to, &code, self.how.by, self.progress)?;
        changed.push(Changed { path: object.main.clone(), at: to });
        Ok(known)
    }
}

/// Where the profile of a bundle lies.
fn profile_of(layout: &Layout) -> String {
    let name = if layout.is_flat { "embedded.mobileprovision" } else { "embedded.provisionprofile" };
    format!("{}{name}", layout.base)
}

/// What a file without a bundle is known as: its name without what stands behind the last point.
fn stem(path: &str) -> String {
    let name = path.rsplit('/').next().unwrap_or(path);
    name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_owned()
}
