//! `verify` of a program or package: whether its signature holds, and whose it is.

use std::path::Path;

use lantern_core::finding::Code;
use lantern_core::names::Identity;
use lantern_core::pins::{Fingerprint, Role};
use lantern_core::progress::Progress;
use lantern_exports::export::Form;
use lantern_exports::inspect::{Inspected, inspect};
use lantern_store::install::STATE_FOLDER;

use crate::keys::role_of;
use crate::sign_code_path::CodeAt;
use crate::{Project, ProjectError, environment};

/// What a signature was found to be.
#[derive(Debug)]
pub struct SignatureVerified {
    /// Everything that was seen.
    pub seen: Inspected,
    /// The key that a project pins for it, and in which role.
    pub pinned: Option<(Role, Fingerprint)>,
}

impl SignatureVerified {
    /// Whether it is signed with the key that is pinned; none where none is, or the signature does not hold.
    pub fn is_pinned(&self) -> Option<bool> {
        let (signer, (_, pinned)) = (self.seen.package_signer.as_ref()?, self.pinned?);
        Some(signer.fingerprint == pinned.0)
    }

    /// What is wrong with the signature itself.
    pub fn wrong(&self) -> impl Iterator<Item = &str> {
        let is_of_signature =
            |code: Code| matches!(code, Code::BrokenSignature | Code::BadPackage | Code::BadArchive | Code::Unreadable);
        self.seen
            .findings
            .iter()
            .filter(move |finding| is_of_signature(finding.code))
            .map(|finding| finding.what.as_str())
    }
}

/// Whether a folder is a bundle for macOS or iOS that was not installed by lantern: it has its signature in itself.
pub fn is_loose_bundle(folder: &Path) -> bool {
    let bundle = CodeAt::of(folder).ok().flatten();
    matches!(bundle, Some(CodeAt::Bundle(_))) && !folder.join(STATE_FOLDER).exists()
}

/// Verifies the signature of a program or package; `project` is the one that its key may be pinned in.
///
/// # Errors
/// [`ProjectError::Stopped`].
pub fn verify_file(
    path: &Path,
    project: Option<&Project>,
    progress: &dyn Progress,
) -> Result<SignatureVerified, ProjectError> {
    let seen = inspect(path, &path.to_string_lossy(), environment::now(), progress)?;
    let identity = seen.identity.as_deref().and_then(|identity| identity.parse::<Identity>().ok());
    let role = Form::of_name(&path.to_string_lossy()).and_then(role_of);
    let pinned = project
        .zip(identity)
        .zip(role)
        .and_then(|((project, identity), role)| Some((role, project.config().pins.get(&identity, role)?)));
    Ok(SignatureVerified { seen, pinned })
}
