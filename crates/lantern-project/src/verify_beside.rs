//! `verify` of a file that has its signature beside it, and of a list of files.

use std::fs::File;
use std::path::{Path, PathBuf};

use lantern_core::names::Name;
use lantern_core::parallel::map;
use lantern_core::path::TreePath;
use lantern_core::progress::{Meter, Progress, Task};
use lantern_formats::ssh::{MAX_LEN, SshSignature};
use lantern_keys::ssh as keys;
use lantern_sign::ssh::NAMESPACE;
use lantern_store::durable::{self, DurableError};

use crate::keys::keys_that;
use crate::listed;
use crate::sign_path::beside;
use crate::{ProjectError, keyring};

/// Longest list that is read, in bytes: a million files.
const MAX_LIST: u64 = 256 * 1024 * 1024;

/// What is wrong with a file of a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum ListedWrong {
    /// It is not there.
    Missing,
    /// Its content is another one.
    Content,
    /// It cannot be read.
    Unreadable,
}

/// What a signature beside a file was found to be.
#[derive(Debug)]
pub struct BesideVerified {
    /// The file that is signed.
    pub file: PathBuf,
    /// The file of the signature.
    pub signature: PathBuf,
    /// What `ssh-keygen -l` calls the key; whom it belongs to is not judged.
    pub key: Option<String>,
    /// What the key is called in the keyring, where it is there.
    pub known_as: Option<Name>,
    /// Why the signature does not hold.
    pub wrong: Option<String>,
    /// Of a list, how many files it has.
    pub listed: Option<u64>,
    /// What is wrong with them.
    pub listed_wrong: Vec<(String, ListedWrong)>,
}

impl BesideVerified {
    /// Whether the signature holds, and every file of a list is as it says.
    pub fn is_intact(&self) -> bool {
        self.wrong.is_none() && self.listed_wrong.is_empty()
    }
}

/// Whether a file has its signature beside it.
pub fn has_signature_beside(file: &Path) -> bool {
    beside(file).is_file()
}

/// Verifies the signature beside a file, and of a list the files that it names.
///
/// # Errors
/// [`ProjectError::File`] for what cannot be read; [`ProjectError::Stopped`].
pub fn verify_beside(file: &Path, progress: &dyn Progress) -> Result<BesideVerified, ProjectError> {
    let at = beside(file);
    let text = durable::read_limited(&at, MAX_LEN)?;
    let fails = |source| DurableError { what: "read", path: file.to_owned(), source };
    let mut out = BesideVerified {
        file: file.to_owned(),
        signature: at,
        key: None,
        known_as: None,
        wrong: None,
        listed: None,
        listed_wrong: Vec::new(),
    };
    let read = match SshSignature::read(&String::from_utf8_lossy(&text)) {
        Ok(read) => read,
        Err(why) => {
            out.wrong = Some(why.to_owned());
            return Ok(out);
        }
    };
    let digest = read.hash.digest_of_reader(&mut File::open(file).map_err(fails)?).map_err(fails)?;
    out.key = Some(keys::fingerprint(&read.key));
    out.known_as = known_as(&read.key);
    out.wrong = read.verify(NAMESPACE, &digest).err().map(str::to_owned);
    // What a list says counts only when it is as it was signed.
    if out.wrong.is_none()
        && std::fs::metadata(file).map_err(fails)?.len() <= MAX_LIST
        && let Some(list) = listed::read(&durable::read_limited(file, MAX_LIST)?)
    {
        let folder = file.parent().unwrap_or(Path::new(""));
        out.listed = Some(list.len() as u64);
        out.listed_wrong = wrong_of(folder, &list, progress)?;
    }
    Ok(out)
}

/// What a public key is called in the keyring.
fn known_as(key: &[u8]) -> Option<Name> {
    let is_it = |own: &Vec<u8>| keys::public_key(own).is_ok_and(|(_, own)| own == key);
    keys_that(&keyring().ok()?, |facts| facts.chain.first().is_some_and(is_it)).into_iter().next()
}

fn wrong_of(
    folder: &Path,
    list: &[(String, String)],
    progress: &dyn Progress,
) -> Result<Vec<(String, ListedWrong)>, ProjectError> {
    let size = |(name, _): &(String, String)| std::fs::metadata(folder.join(name)).map_or(0, |metadata| metadata.len());
    let meter = progress.start(Task::Verify, Some(list.iter().map(size).sum()));
    let wrong = map(list, |(name, digest)| {
        // A list names files below its folder, and none elsewhere.
        let found = match TreePath::new(name.as_str()) {
            Err(_) => Some(ListedWrong::Unreadable),
            Ok(path) => wrong_with(&folder.join(path.as_str()), digest, &*meter, progress),
        };
        match progress.stopped() {
            true => Err(ProjectError::Stopped),
            false => Ok(found.map(|found| (name.clone(), found))),
        }
    })?;
    let mut wrong: Vec<(String, ListedWrong)> = wrong.into_iter().flatten().collect();
    wrong.sort_by(|a, b| a.0.cmp(&b.0));
    Ok(wrong)
}

fn wrong_with(path: &Path, digest: &str, meter: &dyn Meter, progress: &dyn Progress) -> Option<ListedWrong> {
    match File::open(path).and_then(|file| listed::sha256(file, meter, progress)) {
        Ok(own) if own == digest => None,
        Ok(_) => Some(ListedWrong::Content),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Some(ListedWrong::Missing),
        Err(_) => Some(ListedWrong::Unreadable),
    }
}
