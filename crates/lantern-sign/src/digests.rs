//! Digests of many parts of a file at once, on all processors.

use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Mutex;

use lantern_core::parallel::{each, processors};
use lantern_core::progress::{Meter, Progress, Task};
use lantern_formats::hash::Hash;
use lantern_formats::zip::{self, ZipEntry};

use crate::SignError;
use crate::archive::{Edits, Opener};

/// Bytes that are hashed as one in the schemes over the whole file.
const CHUNK_LEN: u64 = 1024 * 1024;

/// Returns the SHA-256 of each entry's unpacked bytes; some have others than those that the archive has.
pub(crate) fn of_entries<R: Read + Seek + Send>(
    (open, edits): (Opener<'_, R>, &Edits),
    entries: &[&ZipEntry],
    progress: &dyn Progress,
) -> Result<Vec<Vec<u8>>, SignError> {
    let total = entries.iter().map(|entry| entry.packed.len).sum();
    let meter = progress.start(Task::Sign, Some(total));
    // The largest first, so that no processor has it alone at the end.
    let mut order: Vec<usize> = (0..entries.len()).collect();
    let len = |place: &usize| entries.get(*place).map_or(0, |entry| entry.packed.len);
    order.sort_by_key(|place| std::cmp::Reverse(len(place)));
    let out = Mutex::new(vec![Vec::new(); entries.len()]);
    each(
        &order,
        processors(),
        || (),
        |(), _, place| {
            let Some(entry) = entries.get(*place) else { return Ok(()) };
            let edited = std::str::from_utf8(&entry.name).ok().and_then(|name| edits.get(name));
            let mut reader: Box<dyn Read + Send> = match edited {
                Some(bytes) => Box::new(bytes.as_slice()),
                None => zip::open(open()?, &entry.packed)?,
            };
            let mut hasher = Hash::Sha256.start();
            let mut buffer = vec![0; 64 * 1024];
            loop {
                if progress.stopped() {
                    return Err(SignError::Stopped);
                }
                match reader.read(&mut buffer) {
                    Ok(0) => break,
                    Ok(len) => {
                        hasher.update(buffer.get(..len).unwrap_or_default());
                        meter.add(len as u64);
                    }
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    Err(error) => return Err(error.into()),
                }
            }
            if let Some(slot) = out.lock().expect("nothing panics with the lock").get_mut(*place) {
                *slot = hasher.finish();
            }
            Ok(())
        },
    )?;
    Ok(out.into_inner().expect("nothing panics with the lock"))
}

/// Returns the digest of the schemes 2 and 3 over a package without its block: over its parts, each cut into chunks of its own.
///
/// A part is a range of the file, or bytes in memory. Source: "APK Signature Scheme v2", "Integrity-protected contents"
/// (<https://source.android.com/docs/security/features/apksigning/v2>).
pub(crate) fn of_package<R: Read + Seek + Send>(
    open: Opener<'_, R>,
    parts: &[Part<'_>],
    hash: Hash,
    meter: &dyn Meter,
    progress: &dyn Progress,
) -> Result<Vec<u8>, SignError> {
    let mut chunks = Vec::new();
    for part in parts {
        match part {
            Part::Range(len) => {
                for at in (0..*len).step_by(usize::try_from(CHUNK_LEN).unwrap_or(usize::MAX)) {
                    chunks.push(Chunk::Range(at, CHUNK_LEN.min(len - at)));
                }
            }
            Part::Bytes(bytes) => {
                chunks.extend(bytes.chunks(usize::try_from(CHUNK_LEN).unwrap_or(usize::MAX)).map(Chunk::Bytes));
            }
        }
    }
    let digests = Mutex::new(vec![Vec::new(); chunks.len()]);
    let tools = || (open(), Vec::new());
    each(&chunks, processors(), tools, |(file, buffer), place, chunk| {
        if progress.stopped() {
            return Err(SignError::Stopped);
        }
        let bytes = match chunk {
            Chunk::Bytes(bytes) => *bytes,
            Chunk::Range(at, len) => {
                let file = file.as_mut().map_err(|error| io::Error::new(error.kind(), error.to_string()))?;
                buffer.resize(usize::try_from(*len).unwrap_or(0), 0);
                file.seek(SeekFrom::Start(*at))?;
                file.read_exact(buffer)?;
                buffer.as_slice()
            }
        };
        let len = u32::try_from(bytes.len()).unwrap_or(u32::MAX);
        let digest = hash.digest_of([&[0xa5], &len.to_le_bytes(), bytes]);
        meter.add(len.into());
        if let Some(slot) = digests.lock().expect("nothing panics with the lock").get_mut(place) {
            *slot = digest;
        }
        Ok(())
    })?;
    let digests = digests.into_inner().expect("nothing panics with the lock").concat();
    let count = u32::try_from(chunks.len()).unwrap_or(u32::MAX);
    Ok(hash.digest_of([&[0x5a], &count.to_le_bytes(), &digests]))
}

/// A part of a package.
pub(crate) enum Part<'a> {
    /// The file's first bytes: how many.
    Range(u64),
    /// Bytes in memory.
    Bytes(&'a [u8]),
}

enum Chunk<'a> {
    /// Where it begins, and its length.
    Range(u64, u64),
    Bytes(&'a [u8]),
}
