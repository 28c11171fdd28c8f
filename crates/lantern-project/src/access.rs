//! Access to storefronts, kept in the user's own folder and bound to the storefront's origin and id.

use std::fs;
use std::path::{Path, PathBuf};

use lantern_core::config::Storefront;
use lantern_core::digest::Digest;
use lantern_store::durable::{self, DurableError};
use lantern_storefront::Access;
use serde::{Deserialize, Serialize};

use crate::{Project, ProjectError};

const FORMAT: &str = "lantern.access/1";
const MAX_LEN: u64 = 64 * 1024;

/// What is kept of one storefront.
#[derive(Serialize, Deserialize)]
struct Kept {
    format: String,
    origin: String,
    storefront: String,
    client_id: String,
    client_secret: String,
}

/// Access that was found, and the storefront it is for.
#[derive(Debug)]
pub(crate) struct Found {
    pub access: Access,
    pub storefront: String,
}

/// Returns the user's own folder: `LANTERN_HOME`, else the system's place for settings.
fn home() -> Option<PathBuf> {
    if let Some(home) = std::env::var_os("LANTERN_HOME").filter(|h| !h.is_empty()) {
        return Some(PathBuf::from(home));
    }
    let from = |name: &str| std::env::var_os(name).filter(|v| !v.is_empty()).map(PathBuf::from);
    let settings = if cfg!(windows) {
        from("APPDATA")
    } else if cfg!(target_os = "macos") {
        from("HOME").map(|h| h.join("Library/Application Support"))
    } else {
        from("XDG_CONFIG_HOME").or_else(|| from("HOME").map(|h| h.join(".config")))
    };
    Some(settings?.join("kind-lantern"))
}

/// The user's own folder, or the one that stands for it.
pub(crate) fn own_folder(own: Option<&Path>) -> Result<PathBuf, ProjectError> {
    own.map(Path::to_owned).or_else(home).ok_or_else(|| ProjectError::MissingAnswer {
        what: "your own folder".to_owned(),
        option: "the variable LANTERN_HOME".to_owned(),
    })
}

/// The name is a digest of the origin: someone else's `lantern.toml` with another address finds nothing.
fn path(own: Option<&Path>, origin: &str) -> Result<PathBuf, ProjectError> {
    Ok(own_folder(own)?.join("access").join(format!("{}.json", Digest::of(origin.as_bytes()).short())))
}

/// Returns every secret that is kept on this computer, to be taken out of what is shown to others.
///
/// # Errors
/// [`ProjectError::MissingAnswer`] when it is not known where they would be.
pub fn known_secrets() -> Result<Vec<String>, ProjectError> {
    let folder = path(None, "")?.parent().map(Path::to_owned).unwrap_or_default();
    let files = fs::read_dir(folder).into_iter().flatten().flatten();
    let kept = files.filter_map(|file| {
        let bytes = durable::read_limited(&file.path(), MAX_LEN).ok()?;
        serde_json::from_slice::<Kept>(&bytes).ok()
    });
    Ok(kept.map(|kept| kept.client_secret).collect())
}

fn find(own: Option<&Path>, origin: &str) -> Result<Option<Found>, ProjectError> {
    let path = path(own, origin)?;
    let bytes = match durable::read_limited(&path, MAX_LEN) {
        Ok(bytes) => bytes,
        Err(e) if e.source.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(e) => return Err(e.into()),
    };
    let damaged = |e: serde_json::Error| DurableError { what: "understand", path: path.clone(), source: e.into() };
    let kept: Kept = serde_json::from_slice(&bytes).map_err(damaged)?;
    if kept.format != FORMAT || kept.origin != origin {
        return Ok(None);
    }
    let access = Access { client_id: kept.client_id, client_secret: kept.client_secret };
    Ok(Some(Found { access, storefront: kept.storefront }))
}

impl Project {
    /// Returns the name for programs that is kept for a storefront, if there is one.
    ///
    /// # Errors
    /// [`ConnectError::NoStorefront`](crate::ConnectError::NoStorefront); those of the folder where access is kept.
    pub fn client_at(&self, storefront: &str) -> Result<Option<String>, ProjectError> {
        let (_, configured) = self.storefront(storefront)?;
        Ok(self.access_to(configured)?.map(|found| found.access.client_id))
    }

    /// Returns the access that is kept for a storefront, if there is some.
    pub(crate) fn access_to(&self, at: &Storefront) -> Result<Option<Found>, ProjectError> {
        find(self.access_folder(), &self.origin(at))
    }

    /// Keeps access to a storefront; returns where.
    pub(crate) fn keep_access(&self, at: &Storefront, id: &str, access: &Access) -> Result<PathBuf, ProjectError> {
        let origin = self.origin(at);
        keep(&path(self.access_folder(), &origin)?, &origin, id, access)
    }

    /// What access is bound to: where a storefront is; for a connector, this very command in this very folder, because the
    /// program that is started gets the access.
    fn origin(&self, at: &Storefront) -> String {
        match at.connector() {
            None => at.kind.address().to_owned(),
            Some(connector) => {
                let root = self.root().canonicalize().unwrap_or_else(|_| self.root().to_owned());
                format!("connector {:?} in {}", connector.run, root.display())
            }
        }
    }
}

fn keep(path: &Path, origin: &str, storefront: &str, access: &Access) -> Result<PathBuf, ProjectError> {
    let kept = Kept {
        format: FORMAT.to_owned(),
        origin: origin.to_owned(),
        storefront: storefront.to_owned(),
        client_id: access.client_id.clone(),
        client_secret: access.client_secret.clone(),
    };
    let bytes = serde_json::to_vec_pretty(&kept).expect("access has only string keys");
    if let Some(folder) = path.parent() {
        durable::create_folders(folder)?;
        only_for_me(folder).map_err(|source| DurableError { what: "protect", path: folder.to_owned(), source })?;
    }
    // The folder is closed to others before the file comes into being.
    durable::write_whole(path, &bytes)?;
    only_for_me(path).map_err(|source| DurableError { what: "protect", path: path.to_owned(), source })?;
    Ok(path.to_owned())
}

#[cfg(unix)]
fn only_for_me(path: &Path) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let mode = if path.is_dir() { 0o700 } else { 0o600 };
    fs::set_permissions(path, fs::Permissions::from_mode(mode))
}

/// Windows: what lies below a user's own folder inherits rights for that user alone.
#[cfg(not(unix))]
fn only_for_me(path: &Path) -> std::io::Result<()> {
    fs::metadata(path).map(|_| ())
}
