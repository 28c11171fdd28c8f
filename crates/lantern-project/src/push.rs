//! `push`: a release is brought to a storefront; only what is missing travels.

use std::collections::HashSet;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

use bytes::Bytes;
use lantern_core::board::KnownRelease;
use lantern_core::choices::Players;
use lantern_core::digest::RecipeId;
use lantern_core::event::{Asked, Deed, EventBody, EventId, PlaceRef, Pushed};
use lantern_core::names::{Handle, Name};
use lantern_core::notes::Notes;
use lantern_core::parallel::each;
use lantern_core::progress::{Progress, Task};
use lantern_core::release::{ReleaseRecord, TargetRecord};
use lantern_core::rules::Push;
use lantern_core::version::ReleaseName;
use lantern_ledger::ServerFacts;
use lantern_store::chunk_index::ChunkIndex;
use lantern_store::parcels::{Loader, Parcel, Portions, parcels};
use lantern_store::store::{Store, StoreError};
use lantern_storefront::PlaceError;
use lantern_storefront::protocol::{Build, NewBuild, NewDepot};

use crate::ProjectError;
use crate::places::{Place, open_place};
use crate::project::Session;
use crate::status::Exports;

/// Packs that travel at a time.
const SENDERS: usize = 4;

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
    /// Whether the exports are not what the release holds any more.
    pub exports_changed: bool,
    /// Each depot once, however many targets share it.
    pub depots: Vec<PushDepot>,
    /// Bytes that will travel, at most: what an earlier, cut push brought is found when it starts.
    pub upload: u64,
    /// The storefront's own number, when the release is there already.
    pub already: Option<u64>,
    /// For the team.
    pub message: Option<String>,
    /// What is new, for players.
    pub notes: Notes,
}

/// A depot of a push.
#[derive(Debug, Clone)]
pub struct PushDepot {
    /// The targets whose players have it.
    pub targets: Vec<Name>,
    /// Our name.
    pub depot: Name,
    /// Who of them downloads it.
    pub players: Players,
    /// The place's name.
    pub handle: Handle,
    /// How it is fetched.
    pub recipe: RecipeId,
    /// Number of files.
    pub files: u64,
    /// Size of all files, in bytes.
    pub size: u64,
}

/// What a push did.
#[derive(Debug, Clone)]
pub struct PushDone {
    /// The storefront's own number.
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
    /// What is new, for players.
    pub notes: Notes,
}

impl Session {
    /// Makes the plan: asks the storefront for its rules and builds, changes nothing there.
    ///
    /// # Errors
    /// [`ProjectError::Rules`] when house rules are in the way, and those of the place, store and ledger.
    pub fn plan_push(
        &mut self,
        storefront: &str,
        release: KnownRelease,
        texts: PushTexts,
    ) -> Result<PushPlan, ProjectError> {
        self.refuse_unfit(&release)?;
        let place = open_place(self.project(), &release.edition, storefront)?;
        let (branches, builds) = self.news_of(&place)?;
        refuse_elsewhere(&release, &builds)?;
        let record = self.workspace.record_of(&release)?;
        let (going, left): (Vec<&TargetRecord>, Vec<&TargetRecord>) =
            record.targets.iter().partition(|t| place.configured.takes(&t.target) && self.project().means(&t.target));
        if going.is_empty() {
            return Err(ProjectError::NothingFor { release: release.name, place: place.reference.name });
        }
        let targets: Vec<Name> = going.iter().map(|t| t.target.clone()).collect();
        let left_here = left.iter().map(|t| t.target.clone()).collect();
        let title = &place.title;
        let rules = place.rules()?;
        self.learn(&place, &branches, &builds)?;
        let is_same = |b: &&Build| b.release == release.id && b.targets.keys().eq(&targets);
        let already = builds.iter().find(is_same).map(|b| b.build);
        if already.is_none() {
            let others = builds.iter().filter(|b| b.release != release.id);
            let there: Vec<ReleaseName> = others.map(|b| b.name.clone()).collect();
            let refusals = rules.refuse_push(&Push { number: record.number, targets: &going, there: &there });
            if !refusals.is_empty() {
                return Err(ProjectError::Rules { place: place.reference.name, refusals });
            }
        }
        let mut depots = Vec::new();
        // What is there already may have been sealed on another computer.
        let travelling = if already.is_none() { record.different_depots() } else { Vec::new() };
        for (_, depot) in travelling {
            let having = record.targets.iter().filter(|t| t.depots.iter().any(|d| d.depot == depot.depot));
            let having: Vec<Name> = having.map(|t| t.target.clone()).filter(|t| targets.contains(t)).collect();
            if having.is_empty() {
                continue;
            }
            let no_handle = || {
                let what = format!("the depot {} has no handle at {}", depot.depot, place.reference.name);
                let fix =
                    format!("add it to [storefronts.{}]: depots = {{ {} = \"…\" }}", place.reference.name, depot.depot);
                ProjectError::Config(vec![lantern_core::finding::Finding::of(
                    lantern_core::finding::Code::NoHandle,
                    what,
                    fix,
                )])
            };
            let handle = place.configured.depots.get(&depot.depot).ok_or_else(no_handle)?;
            if !place.known.depots.contains(handle) {
                let (title, handle) = (title.clone(), handle.clone());
                return Err(ProjectError::NoDepot { place: place.reference.name.clone(), title, handle });
            }
            depots.push(PushDepot {
                targets: having,
                depot: depot.depot.clone(),
                players: depot.players.clone(),
                handle: handle.clone(),
                recipe: self.workspace.store.recipe_of(depot.tree)?,
                files: depot.files,
                size: depot.size,
            });
        }
        let upload = if already.is_some() { 0 } else { self.estimate(&depots, &builds)? };
        let place_name = place.name();
        let PushTexts { message, notes } = texts;
        let status = self.workspace.status(&release.edition)?;
        let is_newest = status.newest.as_ref().is_some_and(|newest| newest.id == release.id);
        let exports_changed = is_newest && status.exports == Exports::Changed;
        Ok(PushPlan {
            place: place.reference,
            place_name,
            release,
            record,
            targets,
            left_here,
            exports_changed,
            depots,
            upload,
            already,
            message,
            notes,
        })
    }

    /// A release that was withdrawn or freed goes nowhere.
    pub(crate) fn refuse_unfit(&self, release: &KnownRelease) -> Result<(), ProjectError> {
        let board = self.workspace.board(&release.edition)?;
        if let Some(because) = board.withdrawn.get(&release.id) {
            return Err(ProjectError::Withdrawn { release: release.name.clone(), because: because.clone() });
        }
        if board.freed.contains(&release.id) {
            return Err(ProjectError::Freed(release.name.clone()));
        }
        Ok(())
    }

    /// Adds up what would travel: recipes, and packs of the chunks that none of the place's builds has, as far as they
    /// are known here.
    fn estimate(&self, depots: &[PushDepot], builds: &[Build]) -> Result<u64, ProjectError> {
        let store = &self.workspace.store;
        let mut known = ChunkIndex::default();
        let mut portions = Vec::new();
        for depot in depots {
            portions.push(known.add_recipe(store, depot.recipe)?);
        }
        let (mut is_there, mut segments_there) = (vec![false; known.len()], HashSet::new());
        let recipes = builds.iter().flat_map(|b| b.targets.values()).flat_map(|t| &t.depots).map(|d| d.recipe);
        for recipe in recipes {
            // A build that someone else made is not in this store; what it has is found when the push starts.
            let Ok((root, entries)) = store.recipe(recipe) else { continue };
            segments_there.extend(root.segments.iter().map(|s| s.digest));
            let chunks = entries.iter().flat_map(|e| &e.chunks);
            for index in chunks.filter_map(|chunk| known.index_of(&chunk.digest)) {
                is_there[index as usize] = true;
            }
        }
        let mut upload = 0;
        for depot in depots {
            let root = store.recipe_root(depot.recipe)?;
            upload += root.encode().len() as u64;
            let fresh = root.segments.iter().filter(|s| segments_there.insert(s.digest));
            upload += fresh.map(|s| u64::from(s.len)).sum::<u64>();
        }
        let missing: Vec<u32> = (0..).zip(is_there).filter(|(_, is_there)| !is_there).map(|(index, _)| index).collect();
        let parcels = parcels(store, &known, &Portions::new(&by_reach(depots, portions)), &missing)?;
        Ok(upload + parcels.iter().map(Parcel::len).sum::<u64>())
    }

    /// Carries a plan out: recipes, then packs, then the build. A cut push goes on where it was.
    ///
    /// # Errors
    /// [`ProjectError::Unsettled`] when the last answer did not come, and those of the place, store and ledger.
    pub fn push(&mut self, plan: &PushPlan, progress: &dyn Progress) -> Result<PushDone, ProjectError> {
        let place = open_place(self.project(), &plan.release.edition, plan.place.name.as_str())?;
        if let Some(build) = plan.already {
            if self.workspace.board(&plan.release.edition)?.build_of(&plan.place.key(), plan.release.id).is_none() {
                self.pushed(plan, None, build, 0, None)?;
            }
            return Ok(PushDone { build, sent: 0, packs: 0 });
        }
        let key = self.ask_key(plan)?;
        place.storefront.be_patient();
        let (document, sent, packs) = match self.bring(&place, plan, progress) {
            Ok(brought) => brought,
            Err(error) => {
                // Nothing was asked of the place yet that would put a build there.
                self.close_refused(&place, key, &error)?;
                return Err(error);
            }
        };
        let build = match place.builds()?.make(&place.title, key, &document) {
            Ok(build) => build,
            Err(
                source @ (PlaceError::Unreachable { .. }
                | PlaceError::Failed { .. }
                | PlaceError::AccessNotKept { .. }
                | PlaceError::Nonsense { .. }),
            ) => return Err(ProjectError::Unsettled { place: plan.place.name.clone(), source }),
            Err(source) => {
                let error = place.fails()(source);
                self.close_refused(&place, key, &error)?;
                return Err(error);
            }
        };
        let server = ServerFacts { happened_at: Some(build.made_at), revision: build.build };
        self.pushed(plan, Some(key), build.build, sent, Some(server))?;
        Ok(PushDone { build: build.build, sent, packs })
    }

    /// Closes a push that ended for good before the place was asked for a build. One that was stopped, or whose place does
    /// not answer, stays open: the next run takes it up.
    fn close_refused(&mut self, place: &Place, key: EventId, error: &ProjectError) -> Result<(), ProjectError> {
        let is_final = match error {
            ProjectError::Store(StoreError::File(_)) => false,
            ProjectError::Store(_) | ProjectError::Place { source: PlaceError::Refused(_), .. } => true,
            _ => false,
        };
        if is_final { self.not_done(&place.edition, key, &crate::verify::in_full(error)) } else { Ok(()) }
    }

    /// Brings recipes and packs; returns what to ask the place for, and the bytes and packs that travelled.
    fn bring(
        &self,
        place: &Place,
        plan: &PushPlan,
        progress: &dyn Progress,
    ) -> Result<(NewBuild, u64, u64), ProjectError> {
        let mut known = ChunkIndex::default();
        let mut missing: Vec<u32> = Vec::new();
        let mut portions: Vec<Vec<u32>> = Vec::new();
        let mut sent = 0;
        for depot in &plan.depots {
            let chunks = known.add_recipe(&self.workspace.store, depot.recipe)?;
            let (lacks, brought) = self.bring_recipe(place, depot.recipe)?;
            sent += brought;
            for (first, count) in lacks {
                let nonsense = || place.nonsense("an answer about this recipe", "it names chunks that are not there");
                let range =
                    usize::try_from(first).ok().zip(first.checked_add(count).and_then(|e| usize::try_from(e).ok()));
                let named = range.and_then(|(from, to)| chunks.get(from..to));
                missing.extend(named.ok_or_else(nonsense)?);
            }
            portions.push(chunks);
        }
        // What depots have in common travels once; in the order of its first appearance.
        missing.sort_unstable();
        missing.dedup();
        let portions = Portions::new(&by_reach(&plan.depots, portions));
        let parcels = parcels(&self.workspace.store, &known, &portions, &missing)?;
        sent += send(&self.workspace.store, place, &known, &parcels, progress)?;
        let document = NewBuild {
            record: String::from_utf8_lossy(&self.workspace.store.record_bytes(plan.release.id)?).into_owned(),
            targets: plan.targets.clone(),
            depots: plan
                .depots
                .iter()
                .map(|d| NewDepot { depot: d.depot.clone(), handle: d.handle.clone(), recipe: d.recipe })
                .collect(),
            message: plan.message.clone(),
            notes: plan.notes.clone(),
        };
        Ok((document, sent, parcels.len() as u64))
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
        let pushed = Pushed {
            key,
            place: plan.place.clone(),
            release: plan.release.id,
            name,
            build,
            sent,
            message: plan.message.clone(),
            notes: plan.notes.clone(),
        };
        self.workspace.record_done(&plan.place, &plan.release.edition, EventBody::Pushed(pushed), server)
    }

    /// Takes up the key of a push of this release that was cut, or records a fresh one.
    fn ask_key(&mut self, plan: &PushPlan) -> Result<EventId, ProjectError> {
        let board = self.workspace.board(&plan.release.edition)?;
        // One that an older lantern asked for does not say for which targets it was.
        let same = |a: &&Asked| {
            let is_same = a.place == plan.place && a.release == plan.release.id && a.deed == Deed::Push;
            is_same && (a.targets.is_empty() || a.targets == plan.targets)
        };
        if let Some(asked) = board.open.values().find(same) {
            return Ok(asked.key);
        }
        let PushPlan { place, release, targets, .. } = plan;
        self.ask(&release.edition, place, Deed::Push, (release.id, &release.name), targets)
    }

    /// Brings root and segments; returns which chunks the place lacks, and the bytes that travelled.
    fn bring_recipe(&self, place: &Place, id: RecipeId) -> Result<(Vec<(u64, u64)>, u64), ProjectError> {
        let (title, content) = (&place.title, place.content()?);
        let root = self.workspace.store.recipe_bytes(id)?;
        let brought = root.len() as u64;
        let needs = content.put_recipe(title, id, root.clone()).map_err(place.fails())?;
        if needs.segments.is_empty() {
            return Ok((needs.chunks, brought));
        }
        let lens = AtomicU64::new(brought);
        let store = &self.workspace.store;
        each(
            &needs.segments,
            SENDERS,
            || (),
            |(), _, segment| {
                let bytes = store.segment_bytes(segment)?;
                lens.fetch_add(bytes.len() as u64, Ordering::Relaxed);
                content.put_segment(title, segment, bytes).map_err(place.fails())
            },
        )?;
        Ok((content.put_recipe(title, id, root).map_err(place.fails())?.chunks, lens.into_inner()))
    }
}

/// What was sealed on another computer can only be where that one brought it.
fn refuse_elsewhere(release: &KnownRelease, builds: &[Build]) -> Result<(), ProjectError> {
    match &release.found_at {
        Some(at) if !builds.iter().any(|build| build.release == release.id) => {
            Err(ProjectError::SealedElsewhere { release: release.name.clone(), place: at.name.clone() })
        }
        _ => Ok(()),
    }
}

/// Sorts depots' chunks so that those come first which more players may have: what depots share is sent with the first.
fn by_reach(depots: &[PushDepot], chunks: Vec<Vec<u32>>) -> Vec<Vec<u32>> {
    let mut sorted: Vec<(bool, Vec<u32>)> =
        depots.iter().zip(chunks).map(|(depot, chunks)| (!depot.players.are_all(), chunks)).collect();
    sorted.sort_by_key(|(is_optional, _)| *is_optional);
    sorted.into_iter().map(|(_, chunks)| chunks).collect()
}

/// Sends parcels in parallel; returns the bytes that travelled.
fn send(
    store: &Store,
    place: &Place,
    known: &ChunkIndex,
    parcels: &[Parcel],
    progress: &dyn Progress,
) -> Result<u64, ProjectError> {
    let total = parcels.iter().map(Parcel::len).sum();
    let meter = progress.start(Task::Send, Some(total));
    let sent = AtomicU64::new(0);
    let content = place.content()?;
    let tools = || (Buffers::default(), Loader::new(store, known));
    let one = |(buffers, loader): &mut (Buffers, Loader<'_>), _, parcel: &Parcel| {
        if progress.stopped() {
            return Err(ProjectError::Stopped);
        }
        let mut bytes = buffers.take();
        let name = loader.load(parcel, &mut bytes)?;
        let len = bytes.len() as u64;
        content.put_pack(&place.title, &name, buffers.lend(bytes)).map_err(place.fails())?;
        meter.add(len);
        sent.fetch_add(len, Ordering::Relaxed);
        Ok(())
    };
    each(parcels, SENDERS, tools, one)?;
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
