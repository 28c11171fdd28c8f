//! `push`: a release is brought to a storefront; only what is missing travels.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

use bytes::Bytes;
use lantern_core::board::KnownRelease;
use lantern_core::digest::{Digest, ManifestId};
use lantern_core::event::{Asked, Deed, EventBody, EventId, PlaceRef, Pushed};
use lantern_core::names::{Handle, Name};
use lantern_core::progress::{Meter, Progress, Task};
use lantern_core::release::{ReleaseRecord, TargetRecord, When};
use lantern_core::version::ReleaseName;
use lantern_core::work::each;
use lantern_ledger::ServerFacts;
use lantern_store::known::Known;
use lantern_store::pack::{ChunkEntry, PackWriter};
use lantern_store::store::Store;
use lantern_storefront::protocol::{Build, NewBuild, NewDepot};
use lantern_storefront::{PlaceError, Storefront};

use crate::places::{Place, open_place};
use crate::project::Locked;
use crate::{ProjectError, outside};

/// Packs that travel at a time.
const SENDERS: usize = 4;
/// A pack of which at least this part is needed travels whole: no bytes are copied, and the place can keep it as it is.
const WHOLE_PACK_PERCENT: u64 = 80;

/// What a push will do.
#[derive(Debug, Clone)]
pub struct PushPlan {
    /// Where.
    pub place: PlaceRef,
    /// The place's name for people.
    pub place_name: String,
    /// What.
    pub release: KnownRelease,
    /// Its record.
    pub record: ReleaseRecord,
    /// The targets that go there.
    pub targets: Vec<Name>,
    /// Targets of the release that do not.
    pub left_here: Vec<Name>,
    /// Each depot once, however many targets share it.
    pub depots: Vec<PushDepot>,
    /// Bytes that will travel, at most: what an earlier, cut push brought is found when it starts.
    pub upload: u64,
    /// The place's own number, when the release is there already.
    pub already: Option<u64>,
    /// For the team.
    pub message: Option<String>,
    /// For players.
    pub notes: Option<String>,
}

/// A depot of a push.
#[derive(Debug, Clone)]
pub struct PushDepot {
    /// The targets whose players have it.
    pub targets: Vec<Name>,
    /// Our name.
    pub depot: Name,
    /// Who of them downloads it.
    pub when: When,
    /// The place's name.
    pub handle: Handle,
    /// How it is fetched.
    pub manifest: ManifestId,
    /// Number of files.
    pub files: u64,
    /// Size of all files, in bytes.
    pub size: u64,
}

/// What a push did.
#[derive(Debug, Clone)]
pub struct PushDone {
    /// The place's own number.
    pub build: u64,
    /// Bytes of packs that travelled.
    pub sent: u64,
    /// Packs that travelled.
    pub packs: u64,
}

/// What is said along with a push.
#[derive(Debug, Clone, Default)]
pub struct PushTexts {
    /// For the team.
    pub message: Option<String>,
    /// For players.
    pub notes: Option<String>,
}

impl Locked {
    /// Makes the plan: asks the storefront for its rules and builds, changes nothing there.
    ///
    /// # Errors
    /// [`ProjectError::Rules`] when house rules stand in the way, and those of the place, store and ledger.
    pub fn plan_push(
        &mut self,
        storefront: &str,
        release: KnownRelease,
        texts: PushTexts,
    ) -> Result<PushPlan, ProjectError> {
        self.refuse_unfit(&release)?;
        let place = open_place(&self.open.project, &release.edition, storefront)?;
        let record = self.open.store.record(release.id)?;
        let (going, left): (Vec<&TargetRecord>, Vec<&TargetRecord>) =
            record.targets.iter().partition(|target| place.configured.takes(&target.target));
        if going.is_empty() {
            return Err(ProjectError::NothingFor { release: release.name, place: place.reference.name });
        }
        let targets: Vec<Name> = going.iter().map(|t| t.target.clone()).collect();
        let left_here = left.iter().map(|t| t.target.clone()).collect();
        let title = &place.title;
        let rules = place.market.rules().map_err(place.fails())?;
        let known_title = place.market.title(title).map_err(place.fails())?;
        let branches = place.market.branches(title).map_err(place.fails())?.branches;
        let builds = place.market.builds(title).map_err(place.fails())?.builds;
        self.learn(&place, &branches, &builds)?;
        let is_same = |b: &&Build| b.release == release.id && b.targets.keys().eq(&targets);
        let already = builds.iter().find(is_same).map(|b| b.build);
        if already.is_none() {
            let others = builds.iter().filter(|b| b.release != release.id);
            let there: Vec<ReleaseName> = others.map(|b| b.name.clone()).collect();
            let refusals = rules.refuse_push(record.number, going, &there);
            if !refusals.is_empty() {
                return Err(ProjectError::Rules { place: place.reference.name, refusals });
            }
        }
        let mut depots = Vec::new();
        for (_, depot) in record.different_depots() {
            let having = record.targets.iter().filter(|t| t.depots.iter().any(|d| d.depot == depot.depot));
            let having: Vec<Name> = having.map(|t| t.target.clone()).filter(|t| targets.contains(t)).collect();
            if having.is_empty() {
                continue;
            }
            let no_handle = || {
                let what = format!("the depot {} has no handle at {}", depot.depot, place.reference.name);
                let cure =
                    format!("add it to [storefronts.{}]: depots = {{ {} = \"…\" }}", place.reference.name, depot.depot);
                ProjectError::Config(vec![lantern_core::finding::Finding::stops("no-handle", what, cure)])
            };
            let handle = place.configured.depots.get(&depot.depot).ok_or_else(no_handle)?;
            if !known_title.depots.contains(handle) {
                let (title, handle) = (title.clone(), handle.clone());
                return Err(ProjectError::NoDepot { place: place.reference.name.clone(), title, handle });
            }
            depots.push(PushDepot {
                targets: having,
                depot: depot.depot.clone(),
                when: depot.when.clone(),
                handle: handle.clone(),
                manifest: self.open.store.manifest_of(depot.tree)?,
                files: depot.files,
                size: depot.size,
            });
        }
        let upload = if already.is_some() { 0 } else { self.foretell(&depots, &builds)? };
        let place_name = place.name()?;
        let PushTexts { message, notes } = texts;
        let place = place.reference;
        Ok(PushPlan { place, place_name, release, record, targets, left_here, depots, upload, already, message, notes })
    }

    /// A release that was withdrawn or freed goes nowhere.
    pub(crate) fn refuse_unfit(&self, release: &KnownRelease) -> Result<(), ProjectError> {
        let board = self.open.board(&release.edition)?;
        if let Some(because) = board.withdrawn.get(&release.id) {
            return Err(ProjectError::Withdrawn { release: release.name.clone(), because: because.clone() });
        }
        if board.freed.contains(&release.id) {
            return Err(ProjectError::Freed(release.name.clone()));
        }
        Ok(())
    }

    /// Adds up what would travel: manifests, and packs of the chunks that none of the place's builds has, as far as they
    /// are known here.
    fn foretell(&self, depots: &[PushDepot], builds: &[Build]) -> Result<u64, ProjectError> {
        let store = &self.open.store;
        let mut known = Known::default();
        for depot in depots {
            known.add_manifest(store, depot.manifest)?;
        }
        let (mut is_there, mut segments_there) = (vec![false; known.len()], HashSet::new());
        let manifests = builds.iter().flat_map(|b| b.targets.values()).flat_map(|t| &t.depots).map(|d| d.manifest);
        for manifest in manifests {
            // A build that somebody else made is not in this store; what it has is found when the push starts.
            let Ok((root, entries)) = store.manifest(manifest) else { continue };
            segments_there.extend(root.segments.iter().map(|s| s.digest));
            let chunks = entries.iter().flat_map(|e| &e.chunks);
            for index in chunks.filter_map(|chunk| known.index_of(&chunk.digest)) {
                is_there[index as usize] = true;
            }
        }
        let mut upload = 0;
        for depot in depots {
            let root = store.manifest_root(depot.manifest)?;
            upload += root.encode().len() as u64;
            let fresh = root.segments.iter().filter(|s| segments_there.insert(s.digest));
            upload += fresh.map(|s| u64::from(s.len)).sum::<u64>();
        }
        let missing = (0..).zip(is_there).filter(|(_, is_there)| !is_there).map(|(index, _)| index).collect();
        Ok(upload + parcels(store, &known, missing)?.iter().map(Parcel::len).sum::<u64>())
    }

    /// Carries a plan out: manifests, then packs, then the build. A cut push goes on where it was.
    ///
    /// # Errors
    /// [`ProjectError::Unsettled`] when the last answer did not come, and those of the place, store and ledger.
    pub fn push(&mut self, plan: &PushPlan, progress: &dyn Progress) -> Result<PushDone, ProjectError> {
        let place = open_place(&self.open.project, &plan.release.edition, plan.place.name.as_str())?;
        if let Some(build) = plan.already {
            if self.open.board(&plan.release.edition)?.build_of(&plan.place, plan.release.id).is_none() {
                self.pushed(plan, None, build, 0, None)?;
            }
            return Ok(PushDone { build, sent: 0, packs: 0 });
        }
        let key = self.ask_key(plan)?;
        let title = &place.title;
        let mut known = Known::default();
        let mut missing: Vec<u32> = Vec::new();
        let mut sent = 0;
        for depot in &plan.depots {
            let chunks = known.add_manifest(&self.open.store, depot.manifest)?;
            let (lacks, brought) = self.bring_manifest(&place, depot.manifest)?;
            sent += brought;
            for (first, count) in lacks {
                let range =
                    usize::try_from(first).unwrap_or(usize::MAX)..usize::try_from(first + count).unwrap_or(usize::MAX);
                let nonsense = || PlaceError::Nonsense {
                    address: place.market.origin().to_owned(),
                    what: "an answer about this manifest",
                    source: "it names chunks that are not there".into(),
                };
                missing.extend(chunks.get(range).ok_or_else(|| place.fails()(nonsense()))?);
            }
        }
        // What depots have in common travels once; in the order of its first appearance.
        missing.sort_unstable();
        missing.dedup();
        let parcels = parcels(&self.open.store, &known, missing)?;
        let packs = parcels.len() as u64;
        sent += send(&self.open.store, &place, &known, &parcels, progress)?;
        let document = NewBuild {
            record: String::from_utf8_lossy(&self.open.store.record_bytes(plan.release.id)?).into_owned(),
            targets: plan.targets.clone(),
            depots: plan
                .depots
                .iter()
                .map(|d| NewDepot { depot: d.depot.clone(), handle: d.handle.clone(), manifest: d.manifest })
                .collect(),
            message: plan.message.clone(),
            notes: plan.notes.clone(),
        };
        let build = place.market.make_build(title, key, &document).map_err(|source| match source {
            source @ (PlaceError::Unreachable { .. }
            | PlaceError::Failed { .. }
            | PlaceError::AccessNotKept { .. }
            | PlaceError::Nonsense { .. }) => ProjectError::Unsettled { place: plan.place.name.clone(), source },
            source => place.fails()(source),
        })?;
        let server = ServerFacts { happened_at: Some(build.made_at), revision: build.build };
        self.pushed(plan, Some(key), build.build, sent, Some(server))?;
        Ok(PushDone { build: build.build, sent, packs })
    }

    fn pushed(
        &mut self,
        plan: &PushPlan,
        key: Option<EventId>,
        build: u64,
        sent: u64,
        server: Option<ServerFacts>,
    ) -> Result<(), ProjectError> {
        let name = plan.release.name.clone();
        let pushed = Pushed { key, place: plan.place.clone(), release: plan.release.id, name, build, sent };
        self.open.record_done(&plan.place, &plan.release.edition, EventBody::Pushed(pushed), server)
    }

    /// Takes up the key of a push of this release that was cut, or records a fresh one.
    fn ask_key(&mut self, plan: &PushPlan) -> Result<EventId, ProjectError> {
        let board = self.open.board(&plan.release.edition)?;
        let same = |a: &&Asked| a.place == plan.place && a.release == plan.release.id && a.deed == Deed::Push;
        if let Some(asked) = board.open.values().find(same) {
            return Ok(asked.key);
        }
        let key = EventId::new(outside::now(), outside::random()?);
        let asked = Asked {
            key,
            place: plan.place.clone(),
            deed: Deed::Push,
            release: plan.release.id,
            name: plan.release.name.clone(),
        };
        self.open.record(&plan.release.edition, EventBody::Asked(asked), None)?;
        Ok(key)
    }

    /// Brings root and segments; returns which chunks the place lacks, and the bytes that travelled.
    fn bring_manifest(&self, place: &Place, id: ManifestId) -> Result<(Vec<(u64, u64)>, u64), ProjectError> {
        let title = &place.title;
        let root = self.open.store.manifest_bytes(id)?;
        let brought = root.len() as u64;
        let needs = place.market.put_manifest(title, id, root.clone()).map_err(place.fails())?;
        if needs.segments.is_empty() {
            return Ok((needs.chunks, brought));
        }
        let lens = AtomicU64::new(brought);
        let store = &self.open.store;
        each(
            &needs.segments,
            SENDERS,
            || (),
            |(), _, segment| {
                let bytes = store.segment_bytes(segment)?;
                lens.fetch_add(bytes.len() as u64, Ordering::Relaxed);
                place.market.put_segment(title, segment, bytes).map_err(place.fails())
            },
        )?;
        Ok((place.market.put_manifest(title, id, root).map_err(place.fails())?.chunks, lens.into_inner()))
    }
}

/// A pack to send: one of ours as it is, or one made of chunks of several.
enum Parcel {
    Whole { pack: Digest, len: u64 },
    Composed { chunks: Vec<u32>, len: u64 },
}

impl Parcel {
    fn len(&self) -> u64 {
        match self {
            Self::Whole { len, .. } | Self::Composed { len, .. } => *len,
        }
    }
}

/// Decides which packs travel whole, and puts the other chunks together.
fn parcels(store: &Store, known: &Known, missing: Vec<u32>) -> Result<Vec<Parcel>, ProjectError> {
    let place = |index: &u32| known.at(*index).expect("what is missing is known here");
    let mut needed: HashMap<u32, u64> = HashMap::new();
    for (pack, entry) in missing.iter().map(place) {
        *needed.entry(pack).or_default() += u64::from(entry.stored_len);
    }
    let mut whole: Vec<(Digest, u64)> = Vec::new();
    let mut taken: HashSet<u32> = HashSet::new();
    for (number, bytes) in needed {
        let (pack, len) = known.pack(number).expect("its chunks are known");
        let (_, entries) = store.pack_table(&pack)?;
        let all: u64 = entries.iter().map(|e| u64::from(e.stored_len)).sum();
        if bytes * 100 >= all * WHOLE_PACK_PERCENT {
            whole.push((pack, u64::from(len)));
            taken.insert(number);
        }
    }
    whole.sort_unstable();
    let mut out: Vec<Parcel> = whole.into_iter().map(|(pack, len)| Parcel::Whole { pack, len }).collect();
    let mut chunks = Vec::new();
    let mut len = PackWriter::EMPTY_LEN;
    for index in missing {
        let (number, entry) = place(&index);
        if taken.contains(&number) {
            continue;
        }
        len += u64::from(entry.stored_len) + ChunkEntry::LEN;
        chunks.push(index);
        if len >= lantern_store::pack::TARGET_LEN as u64 || chunks.len() >= lantern_store::pack::MAX_CHUNKS {
            let len = std::mem::replace(&mut len, PackWriter::EMPTY_LEN);
            out.push(Parcel::Composed { chunks: std::mem::take(&mut chunks), len });
        }
    }
    if !chunks.is_empty() {
        out.push(Parcel::Composed { chunks, len });
    }
    Ok(out)
}

/// Sends parcels in parallel; returns the bytes that travelled.
fn send(
    store: &Store,
    place: &Place,
    known: &Known,
    parcels: &[Parcel],
    progress: &dyn Progress,
) -> Result<u64, ProjectError> {
    let total = parcels.iter().map(Parcel::len).sum();
    let meter = progress.start(Task::Send, Some(total));
    let sent = AtomicU64::new(0);
    let one = |buffers: &mut Buffers, _, parcel: &Parcel| {
        if progress.stopped() {
            return Err(ProjectError::Stopped);
        }
        sent.fetch_add(send_one(store, place, known, parcel, buffers, &*meter)?, Ordering::Relaxed);
        Ok(())
    };
    each(parcels, SENDERS, Buffers::default, one)?;
    Ok(sent.into_inner())
}

/// Buffers of a sender: each comes back when the last who reads it, be it a request on its way, lets go of it. Packs
/// are large, and an allocator that got one back may keep it.
struct Buffers {
    free: Receiver<Vec<u8>>,
    give_back: Sender<Vec<u8>>,
    is_one_made: bool,
}

/// How long a sender waits for its buffer; a request lets go of it as soon as it is answered.
const GIVEN_BACK_WITHIN: Duration = Duration::from_millis(200);

impl Default for Buffers {
    fn default() -> Self {
        let (give_back, free) = channel();
        Self { free, give_back, is_one_made: false }
    }
}

impl Buffers {
    fn take(&mut self) -> Vec<u8> {
        if std::mem::replace(&mut self.is_one_made, true) {
            self.free.recv_timeout(GIVEN_BACK_WITHIN).unwrap_or_default()
        } else {
            Vec::new()
        }
    }

    fn lend(&self, bytes: Vec<u8>) -> Bytes {
        Bytes::from_owner(Lent { bytes, give_back: self.give_back.clone() })
    }
}

struct Lent {
    bytes: Vec<u8>,
    give_back: Sender<Vec<u8>>,
}

impl AsRef<[u8]> for Lent {
    fn as_ref(&self) -> &[u8] {
        &self.bytes
    }
}

impl Drop for Lent {
    fn drop(&mut self) {
        // When the sender has ended nobody needs it any more.
        let _ = self.give_back.send(std::mem::take(&mut self.bytes));
    }
}

fn send_one(
    store: &Store,
    place: &Place,
    known: &Known,
    parcel: &Parcel,
    buffers: &mut Buffers,
    meter: &dyn Meter,
) -> Result<u64, ProjectError> {
    let (name, bytes) = match parcel {
        Parcel::Whole { pack, .. } => {
            let mut bytes = buffers.take();
            store.read_pack_into(pack, &mut bytes)?;
            (*pack, bytes)
        }
        Parcel::Composed { chunks, .. } => {
            let mut writer = PackWriter::new();
            for (number, entry) in chunks.iter().filter_map(|index| known.at(*index)) {
                let (pack, _) = known.pack(number).expect("its chunks are known");
                let stored = store.read_pack_range(&pack, entry.offset, entry.stored_len)?;
                writer.push(entry.digest, entry.codec, entry.raw_len, &stored);
            }
            let (name, bytes, _) = writer.take();
            (name, bytes)
        }
    };
    let len = bytes.len() as u64;
    place.market.put_pack(&place.title, &name, buffers.lend(bytes)).map_err(place.fails())?;
    meter.add(parcel.len());
    Ok(len)
}
