//! What the file system says of a file.

use std::fs::Metadata;
#[cfg(not(unix))]
use std::io;

use serde::{Deserialize, Serialize};

/// What the file system says of a file; equal stat data let reading be saved, where [`StatData::is_settled_at`] was true of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "(u64, i64, i64, u64)", into = "(u64, i64, i64, u64)")]
pub struct StatData {
    /// In bytes.
    pub size: u64,
    /// When its content changed, in nanoseconds since 1970.
    pub modified_ns: i64,
    /// When anything of it changed, likewise.
    pub changed_ns: i64,
    /// Its number in the file system; 0 where there is none.
    pub inode: u64,
}

impl From<(u64, i64, i64, u64)> for StatData {
    fn from((size, modified_ns, changed_ns, inode): (u64, i64, i64, u64)) -> Self {
        Self { size, modified_ns, changed_ns, inode }
    }
}

/// Many are kept, without the names of their parts.
impl From<StatData> for (u64, i64, i64, u64) {
    fn from(stat: StatData) -> Self {
        (stat.size, stat.modified_ns, stat.changed_ns, stat.inode)
    }
}

/// How old a file must be when it is read for its stat to tell it from any later one: file systems count time in
/// steps of up to two seconds.
const SAFE_AGE_NS: i64 = 2_000_000_000;

impl StatData {
    /// Whether any change of a file's content shows, also where someone sets the time of modification back: only where the system keeps a time
    /// of change that nobody can set.
    pub const SHOWS_EVERY_CHANGE: bool = cfg!(unix);

    /// Whether any change after a moment gives another stat: what is read from then on is what this stat stands for.
    pub fn is_settled_at(&self, moment: jiff::Timestamp) -> bool {
        i128::from(self.modified_ns.saturating_add(SAFE_AGE_NS)) <= moment.as_nanosecond()
    }

    /// Takes it from what the system says.
    #[cfg(unix)]
    pub fn of(metadata: &Metadata) -> Self {
        use std::os::unix::fs::MetadataExt;
        let ns = |seconds: i64, rest: i64| seconds.saturating_mul(1_000_000_000).saturating_add(rest);
        Self {
            size: metadata.len(),
            modified_ns: ns(metadata.mtime(), metadata.mtime_nsec()),
            changed_ns: ns(metadata.ctime(), metadata.ctime_nsec()),
            inode: metadata.ino(),
        }
    }

    /// Windows: creation time stands for the change of an inode; file ids are not stable everywhere.
    #[cfg(not(unix))]
    pub fn of(metadata: &Metadata) -> Self {
        let ns = |time: io::Result<std::time::SystemTime>| {
            let since = time.ok().and_then(|t| t.duration_since(std::time::UNIX_EPOCH).ok());
            since.map_or(0, |d| i64::try_from(d.as_nanos()).unwrap_or(i64::MAX))
        };
        Self {
            size: metadata.len(),
            modified_ns: ns(metadata.modified()),
            changed_ns: ns(metadata.created()),
            inode: 0,
        }
    }
}
