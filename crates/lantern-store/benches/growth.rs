//! What stores and installations cost after many releases: `cargo bench -p lantern-store --bench growth -- DIR [RELEASES]`.
//!
//! A build of 3,000 files, 88 MB; each release edits one file in a hundred. The folder `DIR` takes some gigabytes. One line for 1, 10, 50,
//! 100, … releases, with tabs between its columns.

use std::fs;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::path::TreePath;
use lantern_core::progress::Silent;
use lantern_store::fetch::{Fetch, FetchError};
use lantern_store::install;
use lantern_store::seal::{SealedTree, Source, SourceEntry, SourceKind, seal};
use lantern_store::store::Store;

const FILES: u64 = 3000;
const LOOKED_AT: [u64; 7] = [1, 10, 50, 100, 200, 500, 1000];

/// The contents of a release, made when they are read.
struct Release {
    number: u64,
    sizes: Vec<u64>,
}

impl Release {
    fn of(number: u64) -> Self {
        // From 1 KB to 150 KB, most of them small.
        Self { number, sizes: (0..FILES).map(|file| 1000 + (file * file * 7919) % 150_000 / (1 + file % 7)).collect() }
    }

    /// The release that edited a file last.
    fn edited(&self, file: u64) -> u64 {
        (1..=self.number).rev().find(|release| file % 100 == release * 37 % 100).unwrap_or(0)
    }

    fn entries(&self) -> Vec<SourceEntry> {
        let entry = |(file, size): (usize, &u64)| SourceEntry {
            path: TreePath::new(format!("data/{:02}/part-{file:04}.bin", file / 100)).expect("a path"),
            kind: SourceKind::File { size: *size },
        };
        self.sizes.iter().enumerate().map(entry).collect()
    }
}

impl Source for Release {
    fn open(&self, index: usize) -> io::Result<Box<dyn Read + '_>> {
        let file = index as u64;
        let mut bytes = vec![0; usize::try_from(self.sizes[index]).expect("it is small")];
        blake3::Hasher::new().update(&file.to_le_bytes()).finalize_xof().fill(&mut bytes);
        // An edit: a tenth of the file is another, somewhere in it.
        let at = bytes.len() / 3;
        let len = bytes.len() / 10;
        let seed = [file, self.edited(file)].map(u64::to_le_bytes).concat();
        blake3::Hasher::new().update(&seed).finalize_xof().fill(&mut bytes[at..at + len]);
        Ok(Box::new(io::Cursor::new(bytes)))
    }
    fn is_executable(&self, _: usize, _: &[u8]) -> bool {
        false
    }
    fn is_unchanged(&self, _: usize) -> io::Result<bool> {
        Ok(true)
    }
}

/// Counts what is asked for.
struct Counting<'a> {
    store: &'a Store,
    ranges: AtomicU64,
    bytes: AtomicU64,
    metadata: AtomicU64,
}

impl<'a> Counting<'a> {
    fn of(store: &'a Store) -> Self {
        let [ranges, bytes, metadata] = [0, 0, 0].map(AtomicU64::new);
        Self { store, ranges, bytes, metadata }
    }

    fn counted(&self, got: Result<Vec<u8>, FetchError>) -> Result<Vec<u8>, FetchError> {
        let got = got?;
        self.metadata.fetch_add(got.len() as u64, Ordering::Relaxed);
        Ok(got)
    }
}

impl Fetch for Counting<'_> {
    fn recipe(&self, id: RecipeId) -> Result<Vec<u8>, FetchError> {
        self.counted(Fetch::recipe(self.store, id))
    }
    fn segment(&self, digest: &Digest) -> Result<Vec<u8>, FetchError> {
        self.counted(Fetch::segment(self.store, digest))
    }
    fn locator(&self, segment: &Digest) -> Result<Vec<u8>, FetchError> {
        self.counted(Fetch::locator(self.store, segment))
    }
    fn pack_range(&self, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, FetchError> {
        self.ranges.fetch_add(1, Ordering::Relaxed);
        self.bytes.fetch_add(u64::from(len), Ordering::Relaxed);
        Fetch::pack_range(self.store, pack, offset, len)
    }
}

fn size_of(folder: &Path) -> u64 {
    let mut total = 0;
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let Ok(metadata) = entry.metadata() else { continue };
        total += if metadata.is_dir() { size_of(&entry.path()) } else { metadata.len() };
    }
    total
}

fn install_from(store: &Store, folder: &Path, sealed: &SealedTree) -> (f64, u64, u64, u64) {
    let fetch = Counting::of(store);
    let wanted = install::Wanted {
        recipes: &[sealed.recipe],
        about: serde_json::Value::Null,
        own_files: install::OwnFiles::Aside,
        private: None,
        updates: &[],
        read_all: false,
    };
    let clock = Instant::now();
    install::install(folder, wanted, &fetch, &Silent).expect("it is whole");
    let Counting { ranges, bytes, metadata, .. } = fetch;
    (clock.elapsed().as_secs_f64(), ranges.into_inner(), bytes.into_inner(), metadata.into_inner())
}

fn main() -> io::Result<()> {
    let mut words = std::env::args().skip(1).filter(|word| !word.starts_with("--"));
    let Some(folder) = words.next().map(PathBuf::from) else {
        writeln!(
            io::stdout(),
            "growth: give a folder for it: cargo bench -p lantern-store --bench growth -- DIR [RELEASES]"
        )?;
        return Ok(());
    };
    let most = words.next().and_then(|count| count.parse().ok()).unwrap_or(1000);
    // It goes in the end: what is there already is not for us.
    fs::create_dir(&folder)?;
    let store = Store::at(folder.join("store"));
    let player = folder.join("player");
    let mut out = io::stdout().lock();
    let columns = "releases\tpacks, MB\trest, MB\tseal, s\tnew install, s\tranges\tbytes of them, MB\tmetadata, kB\tupdate by one, s\tmetadata of it, kB";
    writeln!(out, "{columns}")?;
    for number in 1..=most {
        let release = Release::of(number);
        let clock = Instant::now();
        let sealed = seal(&store, &release.entries(), &release, &Silent).expect("it can be sealed");
        let took = clock.elapsed().as_secs_f64();
        let is_looked_at = LOOKED_AT.contains(&number);
        if is_looked_at || LOOKED_AT.contains(&(number + 1)) {
            // The folder that is updated by one has the release before.
            let (update, _, _, of_update) = install_from(&store, &player, &sealed);
            if is_looked_at {
                let fresh = folder.join("fresh");
                let (seconds, ranges, bytes, metadata) = install_from(&store, &fresh, &sealed);
                fs::remove_dir_all(&fresh)?;
                let packs = size_of(&store.root().join("packs"));
                let rest = size_of(store.root()) - packs;
                let mb = |bytes: u64| bytes as f64 / 1e6;
                writeln!(
                    out,
                    "{number}\t{:.1}\t{:.2}\t{took:.2}\t{seconds:.2}\t{ranges}\t{:.1}\t{:.0}\t{update:.2}\t{:.0}",
                    mb(packs),
                    mb(rest),
                    mb(bytes),
                    metadata as f64 / 1e3,
                    of_update as f64 / 1e3
                )?;
                out.flush()?;
            }
        }
    }
    fs::remove_dir_all(&folder)
}
