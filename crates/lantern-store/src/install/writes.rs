//! That what was written is on the disk: no error of the disk is lost on the way there.

use std::io;
use std::path::Path;
#[cfg(target_os = "linux")]
use std::sync::Mutex;

use lantern_core::failpoint;

use crate::durable;

/// Everything that is written into a folder from the moment this is made on. The system reports an error of writing to
/// the disk once to each descriptor that was open before; so one is held from before the first write to the last sync.
#[cfg(target_os = "linux")]
pub(super) struct Writes {
    disk: std::fs::File,
    /// What went wrong while the rest was still being written.
    first_error: Mutex<Option<io::Error>>,
}

#[cfg(target_os = "linux")]
impl Writes {
    pub(super) fn begin(folder: &Path) -> io::Result<Self> {
        Ok(Self { disk: std::fs::File::open(folder)?, first_error: Mutex::new(None) })
    }

    /// Begins to bring to the disk what has been written so far.
    pub(super) fn start(&self) {
        if let Err(error) = failpoint::write().and_then(|()| Ok(rustix::fs::syncfs(&self.disk)?)) {
            self.first_error.lock().expect("nothing panics with the lock").get_or_insert(error);
        }
    }

    /// Brings all of it to the disk.
    ///
    /// # Errors
    /// The first that the disk had since [`Self::begin`].
    pub(super) fn finish(self, folder: &Path) -> io::Result<()> {
        self.start();
        let first = self.first_error.into_inner().expect("nothing panics with the lock");
        first.map_or(Ok(()), Err)?;
        if disk_reports_all() { Ok(()) } else { sync_each(folder) }
    }
}

/// Whether this kernel reports errors when a whole disk is synced: since version 5.8. Source: syncfs(2), "VERSIONS".
#[cfg(target_os = "linux")]
fn disk_reports_all() -> bool {
    let system = rustix::system::uname();
    let release = system.release().to_string_lossy();
    let mut parts = release.split('.').map(|part| part.parse::<u32>().unwrap_or(0));
    let version = (parts.next().unwrap_or(0), parts.next().unwrap_or(0));
    version >= (5, 8)
}

/// Elsewhere each file is synced by itself, once all of it is written.
#[cfg(not(target_os = "linux"))]
pub(super) struct Writes;

#[cfg(not(target_os = "linux"))]
impl Writes {
    pub(super) fn begin(_: &Path) -> io::Result<Self> {
        Ok(Self)
    }

    pub(super) fn start(&self) {}

    /// Brings all of it to the disk.
    ///
    /// # Errors
    /// The disk's.
    pub(super) fn finish(self, folder: &Path) -> io::Result<()> {
        failpoint::write()?;
        sync_each(folder)
    }
}

fn sync_each(folder: &Path) -> io::Result<()> {
    let mut last = None;
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_file() {
            let file = std::fs::OpenOptions::new().write(true).open(path)?;
            durable::sync_one_of_many(&file)?;
            last = Some(file);
        }
    }
    durable::sync_folder(folder).map_err(|error| error.source)?;
    last.map_or(Ok(()), |file| durable::sync_file(&file))
}

/// Syncs the whole disk that a folder lies on: far cheaper than thousands of folders one by one.
#[cfg(target_os = "linux")]
pub(super) fn sync_disk(folder: &Path) -> io::Result<()> {
    failpoint::write()?;
    Ok(rustix::fs::syncfs(std::fs::File::open(folder)?)?)
}
