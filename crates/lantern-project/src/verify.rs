//! `verify` of the project's own sealed releases.

use std::collections::{BTreeMap, HashMap, HashSet};

use lantern_core::board::Boards;
use lantern_core::digest::{Digest, ReleaseId};
use lantern_core::finding::join_some;
use lantern_core::parallel::map;
use lantern_core::progress::{Progress, Task};
use lantern_core::release::{DepotRecord, ReleaseRecord};
use lantern_core::version::ReleaseName;
use lantern_store::durable;
use lantern_store::pack;
use lantern_store::store::{Store, StoreError};

use crate::ProjectError;
use crate::workspace::Workspace;

/// What verifying the store found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoreVerified {
    /// Releases that were checked.
    pub releases: u64,
    /// Packs that were read and checked, every chunk in them.
    pub packs: u64,
    /// Their size, in bytes.
    pub size: u64,
    /// Everything that is wrong, a sentence each.
    pub wrong: Vec<String>,
    /// Releases that can no longer be pushed or installed from this store.
    pub broken: Vec<ReleaseName>,
}

impl Workspace {
    /// Reads every pack, chunk, recipe, tree and record of the store and compares each with its digest.
    ///
    /// # Errors
    /// Those of the ledger and of this computer; what is damaged is no error but a finding.
    pub fn verify_store(&self, progress: &dyn Progress) -> Result<StoreVerified, ProjectError> {
        let _held = self.hold_store(progress)?;
        let mut out = StoreVerified { releases: 0, packs: 0, size: 0, wrong: Vec::new(), broken: Vec::new() };
        let packs = self.store.packs()?;
        let len = |pack: &Digest| std::fs::metadata(self.store.pack_path(pack)).map_or(0, |m| m.len());
        let meter = progress.start(Task::Verify, Some(packs.iter().map(len).sum()));
        let store = &self.store;
        let bases = store.bases();
        let looked = map(&packs, |name| {
            if progress.stopped() {
                return Err(ProjectError::Stopped);
            }
            let bytes = match durable::read_limited(&store.pack_path(name), pack::MAX_PACK_LEN as u64) {
                Ok(bytes) => bytes,
                Err(error) => return Ok((0, HashSet::new(), Some(in_full(&error)))),
            };
            meter.add(bytes.len() as u64);
            let (entries, wrong) = match pack::verify(*name, &bytes, &bases) {
                Ok(entries) => (entries, None),
                Err(source) => {
                    let sound = pack::sound(&bytes, &bases).into_iter().map(|(entry, _)| entry).collect();
                    (sound, Some(in_full(&StoreError::Pack { pack: *name, source })))
                }
            };
            let chunks: HashSet<Digest> = entries.iter().map(|entry| entry.digest).collect();
            Ok((bytes.len() as u64, chunks, wrong))
        })?;
        let mut good: HashMap<Digest, HashSet<Digest>> = HashMap::new();
        for (name, (size, chunks, wrong)) in packs.into_iter().zip(looked) {
            out.size += size;
            out.packs += u64::from(wrong.is_none());
            out.wrong.extend(wrong);
            good.insert(name, chunks);
        }
        let mut wrong: BTreeMap<String, ()> = BTreeMap::new();
        // Every event is read and compared here, whatever was kept of them.
        let folded = Boards::fold(&self.events()?);
        let is_recent_right = self.is_recent_of(&folded);
        if self.boards()? != folded || !is_recent_right {
            let what = "what was kept of the ledger differs from its events: remove .lantern/cache/boards*";
            out.wrong.push(what.to_owned());
        }
        let editions = self.all_editions()?;
        let boards = editions.iter().map(|edition| folded.of(edition));
        // What was freed is only a record any more.
        let whole = boards.flat_map(|b| {
            b.releases.clone().into_iter().filter(move |r| r.found_at.is_none() && !b.freed.contains(&r.id))
        });
        for release in whole {
            out.releases += 1;
            if let Err(problems) = self.verify_release(release.id, &good) {
                out.broken.push(release.name.clone());
                wrong.extend(problems.into_iter().map(|p| (format!("{}: {p}", release.name), ())));
            }
        }
        out.wrong.extend(wrong.into_keys());
        Ok(out)
    }

    fn verify_release(&self, id: ReleaseId, good: &HashMap<Digest, HashSet<Digest>>) -> Result<(), Vec<String>> {
        let record = self.store.record(id).map_err(|e| vec![in_full(&e)])?;
        let is_good = |pack: Option<&Digest>, chunk: &Digest| {
            pack.and_then(|pack| good.get(pack)).is_some_and(|chunks| chunks.contains(chunk))
        };
        let problems = lost_of(&self.store, &record, &is_good);
        if problems.is_empty() { Ok(()) } else { Err(problems) }
    }
}

/// Says what of a release is damaged or lost, a sentence for each of its depots. `is_good` tells it of a chunk and of the pack that
/// it should lie in.
pub(crate) fn lost_of(
    store: &Store,
    record: &ReleaseRecord,
    is_good: &dyn Fn(Option<&Digest>, &Digest) -> bool,
) -> Vec<String> {
    let asides: Vec<&DepotRecord> = record.targets.iter().filter_map(|target| target.aside.as_ref()).collect();
    let mut problems = Vec::new();
    for depot in record.sealed() {
        let check = || -> Result<Vec<String>, StoreError> {
            store.tree(depot.tree)?;
            let recipe = store.recipe_of(depot.tree)?;
            let (root, entries) = store.recipe(recipe)?;
            let locator = store.locator_of(&root, &entries)?;
            let is_lost = |chunk: &Digest| {
                let location = locator.find(chunk);
                let pack = location.and_then(|l| locator.packs.get(l.pack as usize));
                !is_good(pack.map(|(pack, _)| pack), chunk)
            };
            let lost = entries.iter().filter(|entry| entry.chunks.iter().any(|chunk| is_lost(&chunk.digest)));
            Ok(lost.map(|entry| entry.path.to_string()).collect())
        };
        let whose = match asides.iter().any(|aside| std::ptr::eq(*aside, depot)) {
            true => format!("kept aside of {}", depot.depot),
            false => format!("of the depot {}", depot.depot),
        };
        match check() {
            Ok(files) if files.is_empty() => {}
            Ok(files) => {
                let are = if files.len() == 1 { "is" } else { "are" };
                problems.push(format!("{}, {whose}, {are} damaged or lost", join_some(&files, 3)));
            }
            Err(error) => problems.push(in_full(&error)),
        }
    }
    problems
}

/// As [`in_full`], where it is said already of which storefront it is.
pub(crate) fn why_not_asked(error: &ProjectError) -> String {
    match error {
        ProjectError::Storefront { source, .. } => in_full(source),
        error => in_full(error),
    }
}

/// Writes an error with everything behind it in one line.
pub fn in_full(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut next = error.source();
    while let Some(source) = next {
        text = format!("{text}: {source}");
        next = source.source();
    }
    text
}
