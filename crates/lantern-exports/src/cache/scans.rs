//! What scanning found before: a file that is unchanged is not read again.
//!
//! Of what starts an export, and of the export as a whole, [`crate::claims`] keeps what it declares.
//!
//! The rule is that of [`crate::cache`]: size, times and inode are as they were, and the file was two seconds old
//! when it was read. The cache only saves reading; the findings are made again in every run.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use lantern_core::path::TreePath;
use lantern_store::durable::{self, DurableError};
use serde::{Deserialize, Serialize};

use crate::claims::{self, Key, TargetClaims};
use crate::export::{self, Export};
use crate::scan::{Scan, Wanted};
use lantern_core::stat_data::StatData;

/// The number rises when scanning finds anything that it did not find before; a newer version may find more in any case.
const FORMAT: &str = concat!("lantern.scans/7 of ", env!("CARGO_PKG_VERSION"));
const MAX_LEN: u64 = 1024 * 1024 * 1024;

#[derive(Debug, Serialize, Deserialize)]
struct Remembered {
    stat: StatData,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    scan: Scan,
}

/// What was found in the files of all targets.
#[derive(Debug, Serialize, Deserialize)]
pub struct ScanCache {
    format: String,
    /// Before anything is read.
    #[serde(skip)]
    begun: jiff::Timestamp,
    /// By edition and target.
    targets: BTreeMap<String, Target>,
    claims: BTreeMap<String, claims::Remembered>,
    /// Where it is kept, if it is to be.
    #[serde(skip)]
    path: Option<PathBuf>,
    /// Whether there is anything new in it.
    #[serde(skip)]
    is_new: bool,
}

/// The files of one target. Those of an archive or a package have the same stat data, and of them only those are listed that
/// show anything.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Target {
    wanted: Wanted,
    whole: Option<Key>,
    files: BTreeMap<TreePath, Remembered>,
}

/// The key of all files of an archive that are scanned; none where the files have stat data of their own.
fn whole(export: &Export, files: &[usize]) -> Option<Key> {
    let is_archive = !matches!(export.form, export::Form::Folder);
    is_archive.then(|| Key::of(export, files.iter().copied(), &()))?
}

impl ScanCache {
    /// Reads what is remembered; what is missing, damaged or of another format is nothing, which only costs reading.
    pub fn load(path: &Path, is_kept: bool, now: jiff::Timestamp) -> Self {
        let bytes = durable::read_kept(path, MAX_LEN).unwrap_or_default();
        let cache: Option<Self> = serde_json::from_slice(&bytes).ok();
        let known = cache.filter(|cache| cache.format == FORMAT);
        let none = || Self {
            format: FORMAT.to_owned(),
            begun: jiff::Timestamp::UNIX_EPOCH,
            targets: BTreeMap::new(),
            claims: BTreeMap::new(),
            path: None,
            is_new: false,
        };
        Self { begun: now, path: is_kept.then(|| path.to_owned()), ..known.unwrap_or_else(none) }
    }

    /// Keeps it, where there is anything new.
    ///
    /// # Errors
    /// Those of writing. What cannot be kept is read again: the check itself is as good as ever.
    pub fn save(&self) -> Result<(), DurableError> {
        let Some(path) = self.path.as_ref().filter(|_| self.is_new) else { return Ok(()) };
        let bytes = serde_json::to_vec(self).expect("the cache has only keys that are texts");
        durable::write_kept(path, &bytes)
    }

    /// What the files of a target showed, each if it is as it was.
    pub(crate) fn get(&self, target: &str, wanted: &Wanted, export: &Export, files: &[usize]) -> Vec<Option<Scan>> {
        let target = self.targets.get(target).filter(|target| target.wanted == *wanted);
        let Some(target) = target else { return files.iter().map(|_| None).collect() };
        let is_whole = target.whole.is_some() && target.whole == whole(export, files);
        let one = |index: &usize| {
            let entry = &export.entries[*index];
            let known = target.files.get(&entry.source.path);
            match known.filter(|known| Some(known.stat) == entry.stat) {
                Some(known) => Some(known.scan.clone()),
                None => is_whole.then_some(None),
            }
        };
        files.iter().map(one).collect()
    }

    /// What an export said of itself, if it would say the same again.
    pub fn claims(&self, target: &str, key: Key) -> Option<TargetClaims> {
        self.claims.get(target)?.get(key, self.begun).cloned()
    }

    /// Remembers what an export says of itself.
    pub fn remember_claims(&mut self, target: &str, key: Key, claims: &TargetClaims) {
        self.is_new = true;
        match claims::Remembered::new(key, claims, self.begun) {
            Some(kept) => drop(self.claims.insert(target.to_owned(), kept)),
            None => drop(self.claims.remove(target)),
        }
    }

    /// Remembers all of a target again; what could not be read is not among it.
    pub(crate) fn set(
        &mut self,
        target: &str,
        wanted: &Wanted,
        export: &Export,
        files: &[usize],
        seen: &[Option<Scan>],
    ) {
        self.is_new = true;
        let is_settled = |stat: &StatData| stat.is_settled_at(self.begun);
        let whole = whole(export, files).filter(|key| key.is_settled_at(self.begun) && !seen.contains(&None));
        let mut kept = BTreeMap::new();
        for (index, seen) in files.iter().zip(seen) {
            let entry = &export.entries[*index];
            let Some((stat, scan)) = entry.stat.filter(is_settled).zip(seen.clone()) else { continue };
            if whole.is_none() || scan.is_some() {
                kept.insert(entry.source.path.clone(), Remembered { stat, scan });
            }
        }
        self.targets.insert(target.to_owned(), Target { wanted: wanted.clone(), whole, files: kept });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scan::FileScan;

    fn now() -> jiff::Timestamp {
        jiff::Timestamp::from_second(1_764_000_000).unwrap()
    }

    fn listing(form: export::Form, stats: [StatData; 2]) -> Export {
        let paths = ["letter.txt", "saltmarsh"].map(|path| TreePath::new(path).unwrap());
        Export::listed("exports/linux", form, paths.into_iter().zip(stats))
    }

    #[test]
    fn what_is_remembered_counts_while_the_file_is_as_it_was() {
        let target = "full/linux";
        let stat = StatData { size: 7, modified_ns: 1_000, changed_ns: 1_000, inode: 1 };
        let other = StatData { inode: 2, ..stat };
        let scan = FileScan { broken: Some("cut off".to_owned()), ..FileScan::default() };
        let seen = [Some(None), Some(Some(Box::new(scan)))];
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("scans.json");
        let wanted = Wanted { texts: vec!["first-tide".to_owned()], names: Vec::new() };
        let both = listing(export::Form::Folder, [stat, other]);
        let kept = |export: &Export, seen: &[Option<Scan>]| {
            let mut cache = ScanCache::load(&file, true, now());
            cache.set(target, &wanted, export, &[0, 1], seen);
            cache.save().unwrap();
            ScanCache::load(&file, true, now())
        };
        let cache = kept(&both, &seen);
        assert_eq!(cache.get(target, &wanted, &both, &[0, 1]), seen);
        assert_eq!(cache.get(target, &Wanted::default(), &both, &[0, 1]), [None, None], "other texts are asked for");
        let changed = listing(export::Form::Folder, [stat, stat]);
        assert_eq!(cache.get(target, &wanted, &changed, &[0, 1]), [Some(None), None]);
        // So new that another change at the same moment could not be distinguished from it.
        let now_ns = i64::try_from(now().as_nanosecond()).unwrap();
        let fresh = listing(export::Form::Folder, [stat, StatData { modified_ns: now_ns, ..stat }]);
        assert_eq!(kept(&fresh, &seen).get(target, &wanted, &fresh, &[0, 1]), [Some(None), None]);

        let archive = listing(export::Form::Zip, [stat, stat]);
        let cache = kept(&archive, &seen);
        assert!(!std::fs::read_to_string(&file).unwrap().contains("letter.txt"), "nothing is to be said of it");
        assert_eq!(cache.get(target, &wanted, &archive, &[0, 1]), seen);
        assert_eq!(cache.get(target, &wanted, &archive, &[0]), [None], "other files of it are meant");
        let unread = [None, seen[1].clone()];
        assert_eq!(kept(&archive, &unread).get(target, &wanted, &archive, &[0, 1]), unread);
        let changed = listing(export::Form::Zip, [other, other]);
        assert_eq!(cache.get(target, &wanted, &changed, &[0, 1]), [None, None]);
        std::fs::write(&file, b"{").unwrap();
        assert_eq!(ScanCache::load(&file, true, now()).get(target, &wanted, &both, &[0, 1]), [None, None], "damaged");
    }

    #[test]
    fn a_lost_bit_hides_nothing() {
        let stat = StatData { size: 7, modified_ns: 1_000, changed_ns: 1_000, inode: 1 };
        let secret = Some(("an access token of a code host".to_owned(), 1));
        let scan = FileScan { secret, ..FileScan::default() };
        let seen = [Some(None), Some(Some(Box::new(scan)))];
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("scans.json");
        let both = listing(export::Form::Folder, [stat, stat]);
        let mut cache = ScanCache::load(&file, true, now());
        cache.set("full/linux", &Wanted::default(), &both, &[0, 1], &seen);
        cache.save().unwrap();
        let good = std::fs::read(&file).unwrap();
        let found = |bytes: &[u8]| {
            std::fs::write(&file, bytes).unwrap();
            ScanCache::load(&file, true, now()).get("full/linux", &Wanted::default(), &both, &[0, 1])
        };
        assert_eq!(found(&good), seen);
        for (at, bit) in (0..good.len()).flat_map(|at| (0..8).map(move |bit| (at, bit))) {
            let mut changed = good.clone();
            changed[at] ^= 1 << bit;
            assert_eq!(found(&changed), [None, None], "bit {bit} of byte {at}");
        }
    }
}
