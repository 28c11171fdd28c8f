//! A bundle as it will be: with what was changed of it.

use std::path::Path;

use lantern_core::progress::Progress;
use lantern_formats::FormatError;
use lantern_formats::bundle::{self, Files, Layout, TICKET};
use lantern_formats::macho::{CodeSignature, Details};

use super::Changed;
use super::code::{info_of, layout_of};
use super::tree::Tree;
use crate::SignError;
use crate::archive::AGAIN;

/// A bundle with what was changed of it.
pub struct Whole<'a> {
    path: &'a str,
    layout: Layout,
    tree: Tree<'a>,
}

impl std::fmt::Debug for Whole<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Whole").field("path", &self.path).finish_non_exhaustive()
    }
}

impl<'a> Whole<'a> {
    /// The bundle in a folder, which is given without `/` at its end; none where there is none.
    pub fn of(files: &'a dyn Files, path: &'a str, changed: impl IntoIterator<Item = Changed>) -> Option<Self> {
        let layout = layout_of(files, path)?;
        let prefix = format!("{path}/");
        let mut tree = Tree::of(files, &prefix);
        changed.into_iter().filter(|file| file.path.starts_with(&prefix)).for_each(|file| tree.put(file));
        Some(Self { path, layout, tree })
    }

    /// What it is called, without its ending.
    pub fn stem(&self) -> &str {
        self.layout.name.rsplit_once('.').map_or(self.layout.name.as_str(), |(stem, _)| stem)
    }

    /// Where its ticket belongs.
    pub fn ticket(&self) -> String {
        format!("{}{TICKET}", self.layout.base)
    }

    /// Puts one more file over what was there.
    pub fn put(&mut self, file: Changed) {
        self.tree.put(file);
    }

    /// The short hashes of the signatures of its program: they stand for the whole of it.
    ///
    /// # Errors
    /// Those of reading; [`SignError::Refused`] where it is not signed.
    pub fn code_hashes(&self) -> Result<Vec<Vec<u8>>, SignError> {
        let not_read = |error: FormatError| SignError::refused(error.to_string(), AGAIN);
        let main = self.layout.program(&info_of(&self.tree, &self.layout)?);
        let mut from = self.tree.open_anywhere(&main)?;
        let mut out = Vec::new();
        for details in Details::read(&mut from).map_err(not_read)? {
            let signature = CodeSignature::read(&mut from, &details).map_err(not_read)?;
            let unsigned = || SignError::refused("an architecture of its program is not signed", AGAIN);
            out.push(signature.ok_or_else(unsigned)?.known_as());
        }
        Ok(out)
    }

    /// Verifies it as a recipient does.
    ///
    /// # Errors
    /// [`SignError::NotValid`] with what is wrong; those of reading.
    pub fn verify(&self) -> Result<(), SignError> {
        verify(&self.tree, self.path)
    }

    /// Writes an archive of it: the bundle on top, with its links and rights; the same files give the same bytes.
    ///
    /// # Errors
    /// Those of reading and writing.
    pub fn archive(&self, to: &Path, progress: &dyn Progress) -> Result<(), SignError> {
        let above = self.path.rfind('/').map_or(0, |at| at + 1);
        self.tree.archive(above, to, progress)
    }
}

/// Has the reader verify the whole: every signature, and every seal over the files as they are now. The hashes of what was just
/// hashed are not made again.
pub(super) fn verify(tree: &Tree<'_>, path: &str) -> Result<(), SignError> {
    bundle::verify_at(tree, path)?.wrong.map_or(Ok(()), |wrong| Err(SignError::NotValid(wrong)))
}
