//! `push`: a release is brought to a storefront; only what is missing travels.

use std::collections::{BTreeMap, HashSet};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

use bytes::Bytes;
use lantern_core::board::KnownRelease;
use lantern_core::choices::Players;
use lantern_core::compression::Compression;
use lantern_core::digest::RecipeId;
use lantern_core::event::{Action, EventBody, EventId, Pushed, StorefrontRef};
use lantern_core::finding::{Code, Finding};
use lantern_core::names::{Handle, Name, NameError};
use lantern_core::notes::Notes;
use lantern_core::parallel::each;
use lantern_core::progress::{Progress, Task};
use lantern_core::release::{ReleaseRecord, TargetRecord};
use lantern_core::rules::Push;
use lantern_core::template::Values;
use lantern_core::version::ReleaseName;
use lantern_store::chunk_index::ChunkIndex;
use lantern_store::parcels::{Loader, Parcel, Portions, parcels};
use lantern_store::store::{Store, StoreError};
use lantern_storefront::StorefrontError;
use lantern_storefront::protocol::{Build, NewBuild, NewDepot};

use crate::ProjectError;
use crate::actions::DoneThere;
use crate::error::{Class, Explained};
use crate::releases::ReleaseError;
use crate::status::Exports;
use crate::storefronts::{ConnectError, OpenStorefront, open_storefront};
use crate::update_files::{self, InPlaceOfChunks, Pair, UpdateBrought};
use crate::workspace::Session;

/// Packs that travel at a time.
const SENDERS: usize = 4;

/// What a push will do.
#[derive(Debug, Clone)]
pub struct PushPlan {
    /// Where.
    pub storefront: StorefrontRef,
    /// The storefront's name for people.
    pub storefront_name: String,
    /// What.
    pub release: KnownRelease,
    /// Its record.
    pub record: ReleaseRecord,
    /// The targets that go there.
    pub targets: Vec<Name>,
    /// Targets of the release that do not.
    pub left_here: Vec<Name>,
    /// How the exports stand to the release; as sealed where it is not the newest.
    pub exports: Exports,
    /// Each depot once, however many targets share it.
    pub depots: Vec<PushDepot>,
    /// Bytes that will travel, at most: what an earlier, cut push brought is found when it starts.
    pub upload: u64,
    /// Update files that are brought afterwards, each if it comes out shorter than chunks.
    pub for_players: Vec<Pair>,
    /// What the storefront is to call it; none where it names it itself.
    pub name_there: Option<Handle>,
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
    /// The storefront's name.
    pub handle: Handle,
    /// How it is fetched.
    pub recipe: RecipeId,
    /// Number of files.
    pub files: u64,
    /// Size of all files, in bytes.
    pub size: u64,
    /// The update file that goes in place of chunks; none where that would save too little, or the storefront wants chunks.
    pub update: Option<InPlaceOfChunks>,
}

/// What a push did.
#[derive(Debug, Clone)]
pub struct PushDone {
    /// The storefront's own number.
    pub number_there: u64,
    /// Bytes that travelled before the build was there.
    pub sent: u64,
    /// Bytes of update files that travelled afterwards.
    pub sent_after: u64,
    /// Packs that travelled.
    pub packs: u64,
    /// Update files that were brought.
    pub updates: Vec<UpdateBrought>,
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
    /// [`ProjectError::Rules`] when house rules are in the way, and those of the storefront, store and ledger.
    pub fn plan_push(
        &mut self,
        storefront: &str,
        release: KnownRelease,
        texts: PushTexts,
        progress: &dyn Progress,
    ) -> Result<PushPlan, ProjectError> {
        self.refuse_unfit(&release)?;
        let storefront = open_storefront(&self.workspace, &release.edition, storefront)?;
        let (branches, builds) = self.news_of(&storefront)?;
        refuse_elsewhere(&release, &builds)?;
        let record = self.workspace.record_of(&release)?;
        let (going, left): (Vec<&TargetRecord>, Vec<&TargetRecord>) = record
            .targets
            .iter()
            .partition(|t| storefront.configured.takes(&t.target) && self.project().means(&t.target));
        if going.is_empty() {
            return Err(PushError::NothingFor { release: release.name, storefront: storefront.reference.name }.into());
        }
        let targets: Vec<Name> = going.iter().map(|t| t.target.clone()).collect();
        let left_here = left.iter().map(|t| t.target.clone()).collect();
        let title = &storefront.title;
        let rules = storefront.rules()?;
        self.learn(&storefront, &branches, &builds)?;
        let is_same = |b: &&Build| b.release == release.id && b.targets.keys().eq(&targets);
        let already = builds.iter().find(is_same).map(|b| b.number_there);
        if already.is_none() {
            let others = builds.iter().filter(|b| b.release != release.id);
            let there: Vec<ReleaseName> = others.map(|b| b.name.clone()).collect();
            let push = Push { number: record.number, targets: &going, there: &there, notes: &texts.notes };
            let refusals = rules.refuse_push(&push);
            if !refusals.is_empty() {
                return Err(ProjectError::Rules { storefront: storefront.reference.name, refusals });
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
                let what = format!("the depot {} has no handle at {}", depot.depot, storefront.reference.name);
                let fix = format!(
                    "add it to [storefronts.{}]: depots = {{ {} = \"…\" }}",
                    storefront.reference.name, depot.depot
                );
                ProjectError::Config(vec![Finding::of(Code::NoHandle, what, fix)])
            };
            let handle = storefront.configured.depots.get(&depot.depot).ok_or_else(no_handle)?;
            if !storefront.known.depots.contains(handle) {
                let (title, handle) = (title.clone(), handle.clone());
                return Err(
                    ConnectError::NoDepot { storefront: storefront.reference.name.clone(), title, handle }.into()
                );
            }
            depots.push(PushDepot {
                targets: having,
                depot: depot.depot.clone(),
                players: depot.players.clone(),
                handle: handle.clone(),
                recipe: self.workspace.store.recipe_of(depot.tree)?,
                files: depot.files,
                size: depot.size,
                update: None,
            });
        }
        let (mut upload, mut for_players) = (0, Vec::new());
        if already.is_none() {
            let content = storefront.content()?;
            if content.takes_updates().map_err(storefront.fails())? {
                for_players = update_files::pairs_for(&by_target(&depots), &branches, &builds);
            }
            let mut lacking = self.lacking(&depots, &builds)?;
            if content.rebuilds().map_err(storefront.fails())? {
                self.choose_updates(&mut depots, &mut for_players, &mut lacking, progress)?;
            }
            for_players.retain(|pair| update_files::may_be(&self.workspace.store, pair));
            upload = self.upload(&depots, lacking)?;
        }
        let name_there = self.name_there(&storefront, &release)?;
        let storefront_name = storefront.name();
        let PushTexts { message, notes } = texts;
        let status = self.workspace.status(&release.edition)?;
        let is_newest = status.newest.as_ref().is_some_and(|newest| newest.id == release.id);
        let exports = if is_newest { status.exports } else { Exports::Sealed };
        Ok(PushPlan {
            storefront: storefront.reference,
            storefront_name,
            release,
            record,
            targets,
            left_here,
            exports,
            depots,
            upload,
            for_players,
            name_there,
            already,
            message,
            notes,
        })
    }

    /// What a storefront is to call a release.
    ///
    /// # Errors
    /// [`ProjectError::Config`] when it comes out as something that no storefront takes.
    pub(crate) fn name_there(
        &self,
        at: &OpenStorefront,
        release: &KnownRelease,
    ) -> Result<Option<Handle>, ProjectError> {
        let Some(template) = &at.configured.name_there else { return Ok(None) };
        let project = self.project();
        let name = &at.reference.name;
        let game = &project.config().game;
        let values = Values::of(&game.name, &game.identity, &release.edition, &release.name, name);
        let wrong = |error: NameError| {
            let finding = Finding::of(Code::WrongValue, error.to_string(), "write a shorter name");
            let place = project.place_of(&["storefronts", name.as_str(), "name-there"]);
            ProjectError::Config(vec![finding.at(place)])
        };
        template.fill(&values).parse().map(Some).map_err(wrong)
    }

    /// A release that was withdrawn or freed goes nowhere.
    pub(crate) fn refuse_unfit(&self, release: &KnownRelease) -> Result<(), ProjectError> {
        let board = self.workspace.board(&release.edition)?;
        if let Some(because) = board.withdrawn.get(&release.id) {
            return Err(ReleaseError::Withdrawn { release: release.name.clone(), because: because.clone() }.into());
        }
        if board.freed.contains(&release.id) {
            return Err(ReleaseError::Freed(release.name.clone()).into());
        }
        Ok(())
    }

    /// Decides which depots go as an update file to a storefront that puts builds together of one: each that lacks something there and for
    /// which one is brought to players in any case. What remains of the pairs is brought afterwards. A depot whose new content another's file gives
    /// still goes as its own: its players get that file anyway.
    fn choose_updates(
        &self,
        depots: &mut [PushDepot],
        pairs: &mut Vec<Pair>,
        lacking: &mut Lacking,
        progress: &dyn Progress,
    ) -> Result<(), ProjectError> {
        for (n, depot) in depots.iter_mut().enumerate().filter(|(n, _)| lacking.lacks(*n)).collect::<Vec<_>>() {
            let Some(newest) = pairs.iter().position(|pair| pair.to == depot.recipe) else { continue };
            let pair = pairs.remove(newest);
            let from = pair.from;
            depot.update = update_files::make(&self.workspace.store, pair, progress)?
                .map(|update| InPlaceOfChunks { from, update });
            if depot.update.is_some() {
                lacking.comes(n);
            }
        }
        Ok(())
    }

    /// Finds out what none of the storefront's builds has, as far as they are known here.
    fn lacking(&self, depots: &[PushDepot], builds: &[Build]) -> Result<Lacking, ProjectError> {
        let store = &self.workspace.store;
        let mut known = ChunkIndex::default();
        let mut portions = Vec::new();
        for depot in depots {
            portions.push(store.add_chunks_of(depot.recipe, &mut known)?);
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
        let mut recipes = 0;
        for depot in depots {
            let root = store.recipe_root(depot.recipe)?;
            recipes += root.encode().len() as u64;
            for segment in root.segments.iter().filter(|s| segments_there.insert(s.digest)) {
                recipes += store.segment_bytes(&segment.digest)?.len() as u64;
            }
        }
        Ok(Lacking { known, portions, is_there, recipes })
    }

    /// Adds up what travels before the build is there: recipes, update files, and packs of the chunks that do not come out of these.
    fn upload(&self, depots: &[PushDepot], lacking: Lacking) -> Result<u64, ProjectError> {
        let Lacking { known, portions, is_there, recipes } = lacking;
        let updates: u64 = depots.iter().filter_map(|depot| depot.update.as_ref()).map(|u| u.update.bytes).sum();
        let missing: Vec<u32> = (0..).zip(is_there).filter(|(_, is_there)| !is_there).map(|(index, _)| index).collect();
        let portions = Portions::new(&by_reach(depots, portions));
        let parcels = parcels(&self.workspace.store, &known, &portions, &missing)?;
        Ok(recipes + updates + parcels.iter().map(Parcel::len).sum::<u64>())
    }

    /// Carries a plan out: recipes, then packs, then the build. A cut push goes on where it was.
    ///
    /// # Errors
    /// [`ProjectError::Unsettled`] when the last answer did not come, and those of the storefront, store and ledger.
    pub fn push(&mut self, plan: &PushPlan, progress: &dyn Progress) -> Result<PushDone, ProjectError> {
        let storefront = open_storefront(&self.workspace, &plan.release.edition, plan.storefront.name.as_str())?;
        if let Some(build) = plan.already {
            if self.workspace.board(&plan.release.edition)?.build_of(&plan.storefront.key(), plan.release.id).is_none()
            {
                self.found_there(plan, build)?;
            }
            return Ok(PushDone { number_there: build, sent: 0, sent_after: 0, packs: 0, updates: Vec::new() });
        }
        let release = (plan.release.id, &plan.release.name);
        let asked = self.begin(&plan.release.edition, &plan.storefront, Action::Push, release, &plan.targets)?;
        storefront.abilities.be_patient();
        let Brought { document, sent, packs, instead } = match self.bring(&storefront, plan, progress) {
            Ok(brought) => brought,
            Err(error) => {
                // Nothing was asked of the storefront yet that would put a build there.
                self.close_refused(&storefront, asked.key, &error)?;
                return Err(error);
            }
        };
        let answer = storefront.builds()?.make(&storefront.title, asked.key, &document);
        let build = self.answered(&storefront, &asked, answer)?;
        self.done(&storefront.edition, &asked, DoneThere::Pushed(&build, sent))?;
        let went: HashSet<RecipeId> = instead.iter().map(|(to, _)| *to).collect();
        let mut pairs = plan.for_players.clone();
        // What an earlier, cut push had brought.
        for depot in plan.depots.iter().filter(|depot| !went.contains(&depot.recipe)) {
            pairs.extend(depot.update.as_ref().map(|update| update.pair_to(depot.recipe)));
        }
        let mut updates: Vec<UpdateBrought> = instead.into_iter().map(|(_, update)| update).collect();
        let of_players = update_files::bring(&self.workspace.store, &storefront, pairs, progress);
        let sent_after = of_players.iter().map(|update| update.bytes).sum();
        updates.extend(of_players);
        Ok(PushDone { number_there: build.number_there, sent, sent_after, packs, updates })
    }

    /// Closes a push that ended for good before the storefront was asked for a build. One that was stopped, or whose storefront does
    /// not answer, stays open: the next run takes it up.
    fn close_refused(
        &mut self,
        storefront: &OpenStorefront,
        key: EventId,
        error: &ProjectError,
    ) -> Result<(), ProjectError> {
        let is_final = match error {
            ProjectError::Store(StoreError::File(_)) => false,
            ProjectError::Store(_) | ProjectError::Storefront { source: StorefrontError::Refused(_), .. } => true,
            _ => false,
        };
        if is_final { self.not_done(&storefront.edition, key, &crate::verify::in_full(error)) } else { Ok(()) }
    }

    /// Brings recipes, update files and packs.
    fn bring(
        &self,
        storefront: &OpenStorefront,
        plan: &PushPlan,
        progress: &dyn Progress,
    ) -> Result<Brought, ProjectError> {
        let store = &self.workspace.store;
        let (mut sent, mut instead, mut lacking) = (0, Vec::new(), Vec::new());
        for depot in &plan.depots {
            let (lacks, brought) = self.bring_recipe(storefront, depot.recipe)?;
            sent += brought;
            lacking.push(lacks);
        }
        for (depot, lacks) in plan.depots.iter().zip(&lacking) {
            if let Some(update) = depot.update.as_ref().filter(|_| !lacks.is_empty())
                && let Some(bytes) = update_files::send(store, storefront, (update.from, depot.recipe), progress)?
            {
                sent += bytes;
                instead.push((depot.recipe, update.update.clone()));
            }
        }
        let mut known = ChunkIndex::default();
        let mut missing: Vec<u32> = Vec::new();
        let mut portions: Vec<Vec<u32>> = Vec::new();
        for (depot, mut lacks) in plan.depots.iter().zip(lacking) {
            if !instead.is_empty() && !lacks.is_empty() {
                // What does not come out of the update files is lacking still, and comes as chunks.
                let root = store.recipe_bytes(depot.recipe)?;
                let needs = storefront.content()?.put_recipe(&storefront.title, depot.recipe, root);
                lacks = needs.map_err(storefront.fails())?.chunks;
            }
            let chunks = store.add_chunks_of(depot.recipe, &mut known)?;
            for (first, count) in lacks {
                let nonsense =
                    || storefront.nonsense("an answer about this recipe", "it names chunks that are not there");
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
        let parcels = parcels(store, &known, &portions, &missing)?;
        let compression = self.project().config().compression;
        sent += send((store, compression), storefront, &known, &parcels, progress)?;
        let document = NewBuild {
            record: String::from_utf8_lossy(&self.workspace.store.record_bytes(plan.release.id)?).into_owned(),
            targets: plan.targets.clone(),
            depots: plan
                .depots
                .iter()
                .map(|d| NewDepot { depot: d.depot.clone(), handle: d.handle.clone(), recipe: d.recipe })
                .collect(),
            name_there: plan.name_there.clone(),
            message: plan.message.clone(),
            notes: plan.notes.clone(),
        };
        Ok(Brought { document, sent, packs: parcels.len() as u64, instead })
    }

    /// Records that a build was there already.
    fn found_there(&mut self, plan: &PushPlan, number_there: u64) -> Result<(), ProjectError> {
        let pushed = Pushed {
            name_there: plan.name_there.clone(),
            message: plan.message.clone(),
            notes: plan.notes.clone(),
            ..Pushed::new(plan.storefront.clone(), (plan.release.id, plan.release.name.clone()), number_there)
        };
        self.workspace.record_done(&plan.storefront, &plan.release.edition, EventBody::Pushed(pushed), None)
    }

    /// Brings root and segments; returns which chunks the storefront lacks, and the bytes that travelled.
    fn bring_recipe(&self, storefront: &OpenStorefront, id: RecipeId) -> Result<(Vec<(u64, u64)>, u64), ProjectError> {
        let (title, content) = (&storefront.title, storefront.content()?);
        let root = self.workspace.store.recipe_bytes(id)?;
        let brought = root.len() as u64;
        let needs = content.put_recipe(title, id, root.clone()).map_err(storefront.fails())?;
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
                content.put_segment(title, segment, bytes).map_err(storefront.fails())
            },
        )?;
        Ok((content.put_recipe(title, id, root).map_err(storefront.fails())?.chunks, lens.into_inner()))
    }
}

/// What of depots a storefront lacks.
struct Lacking {
    /// Their chunks.
    known: ChunkIndex,
    /// Those of each depot.
    portions: Vec<Vec<u32>>,
    /// Of each chunk, whether it is there.
    is_there: Vec<bool>,
    /// Bytes of roots and segments.
    recipes: u64,
}

impl Lacking {
    /// Whether a depot has chunks that are not there.
    fn lacks(&self, depot: usize) -> bool {
        self.portions[depot].iter().any(|index| !self.is_there[*index as usize])
    }

    /// Counts all of a depot as there.
    fn comes(&mut self, depot: usize) {
        self.portions[depot].iter().for_each(|index| self.is_there[*index as usize] = true);
    }
}

/// What was brought before a build is asked for.
struct Brought {
    /// What to ask for.
    document: NewBuild,
    /// Bytes that travelled.
    sent: u64,
    packs: u64,
    /// Update files that went in place of chunks, with the recipes that they lead to.
    instead: Vec<(RecipeId, UpdateBrought)>,
}

/// What was sealed on another computer can only be where that one brought it.
fn refuse_elsewhere(release: &KnownRelease, builds: &[Build]) -> Result<(), ProjectError> {
    match &release.found_at {
        Some(at) if !builds.iter().any(|build| build.release == release.id) => {
            Err(ReleaseError::SealedElsewhere { release: release.name.clone(), storefront: at.name.clone() }.into())
        }
        _ => Ok(()),
    }
}

/// The recipes of each target.
fn by_target(depots: &[PushDepot]) -> BTreeMap<&Name, Vec<(&Name, RecipeId)>> {
    let mut out: BTreeMap<&Name, Vec<(&Name, RecipeId)>> = BTreeMap::new();
    for depot in depots {
        for target in &depot.targets {
            out.entry(target).or_default().push((&depot.depot, depot.recipe));
        }
    }
    out
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
    (store, compression): (&Store, Compression),
    storefront: &OpenStorefront,
    known: &ChunkIndex,
    parcels: &[Parcel],
    progress: &dyn Progress,
) -> Result<u64, ProjectError> {
    let total = parcels.iter().map(Parcel::len).sum();
    let meter = progress.start(Task::Send, Some(total));
    let sent = AtomicU64::new(0);
    let content = storefront.content()?;
    let tools = || (Buffers::default(), Loader::new(store, known, compression));
    let one = |(buffers, loader): &mut (Buffers, Loader<'_>), _, parcel: &Parcel| {
        if progress.stopped() {
            return Err(ProjectError::Stopped);
        }
        let mut bytes = buffers.take();
        let name = loader.load(parcel, &mut bytes)?;
        let len = bytes.len() as u64;
        content.put_pack(&storefront.title, &name, buffers.lend(bytes)).map_err(storefront.fails())?;
        meter.add(len);
        sent.fetch_add(len, Ordering::Relaxed);
        Ok(())
    };
    each(parcels, SENDERS, tools, one)?;
    Ok(sent.into_inner())
}

/// Buffers of a sender: each comes back when its last reader drops it, which may be a request on its way. Packs
/// are large, and an allocator that got one back may keep it.
struct Buffers {
    free: Receiver<Vec<u8>>,
    give_back: Sender<Vec<u8>>,
    is_one_made: bool,
}

/// How long a sender waits for its buffer; a request drops it as soon as it is answered.
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

/// Why a release does not go to a storefront.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PushError {
    /// None of a release's targets goes to the storefront.
    #[error("{release} has nothing for {storefront}")]
    NothingFor {
        /// The release.
        release: ReleaseName,
        /// The project's name for the storefront.
        storefront: Name,
    },
}

impl Explained for PushError {
    fn class(&self) -> Class {
        match self {
            Self::NothingFor { .. } => Class::Usage,
        }
    }

    fn fixes(&self) -> Vec<String> {
        match self {
            Self::NothingFor { storefront, .. } => vec![format!("check targets = […] in [storefronts.{storefront}]")],
        }
    }
}
