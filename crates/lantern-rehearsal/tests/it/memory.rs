//! A storefront in memory, written for the suite, and the same with faults.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, MutexGuard};

use bytes::Bytes;
use jiff::Timestamp;
use lantern_core::audience::Audience;
use lantern_core::digest::{Digest, InvitationId, RecipeId, ReleaseId};
use lantern_core::event::{BranchBuild, BranchFacts, EventId};
use lantern_core::names::{Handle, Name};
use lantern_core::release::ReleaseRecord;
use lantern_core::rules::HouseRules;
use lantern_rehearsal::stand_in::StandInDocument;
use lantern_store::chunk_index::ChunkIndex;
use lantern_store::codec::difference::NoBases;
use lantern_store::locator;
use lantern_store::pack;
use lantern_store::recipe::{self, Root};
use lantern_storefront::conformance::As;
use lantern_storefront::protocol::{
    Branch, Build, BuildDepot, BuildTarget, InvitationMade, Move, Moved, NewBuild, NewInvitation, Play, Problem,
    RecipeNeeds, Title, Withdraw, WithdrawnBuild, problem,
};
use lantern_storefront::{
    Branches, Builds, Content, Identify, Invitations, Player, Storefront, StorefrontError, StorefrontFacts, Upload,
};
use serde::Serialize;
use serde::de::DeserializeOwned;

/// What the storefront does wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    BelievesNames,
    ForgetsSegments,
    RebuildsNothing,
    ForgetsKeys,
    MovesAnyway,
    TakesWithdrawn,
    HandsOutEverything,
    HandsOutUpdates,
    LetsEverybodyIn,
    CannotInvite,
    SaysNothingIsLacking,
}

impl Fault {
    /// Each with a part of what the suite says of it.
    pub const ALL: [(Self, &str); 11] = [
        (Self::BelievesNames, "under another name is taken"),
        (Self::RebuildsNothing, "it puts nothing together of an update file"),
        (Self::ForgetsSegments, "lacks a segment that has come"),
        (Self::ForgetsKeys, "a key for another request is taken"),
        (Self::MovesAnyway, "a move from a revision that has passed is taken"),
        (Self::TakesWithdrawn, "a withdrawn build on a branch is taken"),
        (Self::HandsOutEverything, "bytes that no build is made of is taken"),
        (Self::HandsOutUpdates, "an update file of another branch is taken"),
        (Self::LetsEverybodyIn, "a closed branch is taken"),
        (Self::CannotInvite, "Invitations: stated true, there false"),
        (Self::SaysNothingIsLacking, "does not say that chunks are lacking"),
    ];
}

/// The storefront.
#[derive(Debug)]
pub struct Memory {
    fault: Option<Fault>,
    rules: HouseRules,
    state: Mutex<State>,
}

#[derive(Debug, Default)]
struct State {
    recipes: HashMap<RecipeId, Vec<u8>>,
    segments: HashMap<Digest, Vec<u8>>,
    packs: HashMap<Digest, Bytes>,
    updates: HashMap<(RecipeId, RecipeId), Vec<u8>>,
    chunks: ChunkIndex,
    builds: Vec<Build>,
    records: HashMap<ReleaseId, String>,
    moves: BTreeMap<Name, Vec<Moved>>,
    invitations: BTreeMap<Name, Vec<InvitationMade>>,
    /// By key: the request, and what was answered.
    answers: HashMap<EventId, (String, serde_json::Value)>,
}

/// The storefront, opened by someone.
#[derive(Debug)]
struct Opened {
    storefront: Arc<Memory>,
    who: As,
}

fn refuse<T>(kind: problem::Kind, detail: &str) -> Result<T, StorefrontError> {
    Err(StorefrontError::Refused(Box::new(Problem {
        kind: format!("/problems/{}", kind.0),
        title: kind.2.to_owned(),
        status: kind.1,
        detail: detail.to_owned(),
        fix: String::new(),
        refusals: Vec::new(),
    })))
}

fn there<T>(found: Option<T>, what: &str) -> Result<T, StorefrontError> {
    found.map_or_else(|| refuse(problem::NOT_FOUND, what), Ok)
}

impl Memory {
    pub fn new(fault: Option<Fault>) -> Arc<Self> {
        let rules = StandInDocument::brambleyard().rules;
        Arc::new(Self { fault, rules, state: Mutex::default() })
    }

    pub fn open(self: &Arc<Self>, who: As) -> Arc<dyn Storefront> {
        Arc::new(Opened { storefront: self.clone(), who })
    }

    fn has(&self, fault: Fault) -> bool {
        self.fault == Some(fault)
    }
}

impl State {
    fn needs(&self, id: RecipeId) -> Result<RecipeNeeds, StorefrontError> {
        let root = there(self.recipes.get(&id), "a recipe")?;
        let root = Root::decode(id, root).or_else(|_| refuse(problem::DAMAGED, "a recipe"))?;
        let segments = root.segments.iter().map(|at| at.digest).filter(|digest| !self.segments.contains_key(digest));
        let segments: Vec<Digest> = segments.collect();
        let chunks = match segments.is_empty() {
            true => {
                let chunks = self.chunks_of(id)?;
                let lacking = (0..).zip(&chunks).filter(|(_, chunk)| !self.chunks.contains(chunk));
                lacking.map(|(index, _)| (index, 1)).collect()
            }
            false => Vec::new(),
        };
        Ok(RecipeNeeds { segments, chunks })
    }

    fn chunks_of(&self, id: RecipeId) -> Result<Vec<Digest>, StorefrontError> {
        let root = there(self.recipes.get(&id), "a recipe")?;
        let segment = |at: &recipe::SegmentRef| there(self.segments.get(&at.digest).cloned(), "a segment");
        let damaged = |_| refuse::<()>(problem::DAMAGED, "a recipe").unwrap_err();
        Ok(recipe::different_chunks(&recipe::assemble(id, root, segment, damaged)?.1))
    }

    fn segment_of(&self, id: RecipeId, digest: &Digest) -> Option<recipe::SegmentRef> {
        let root = Root::decode(id, &self.recipes[&id]).unwrap();
        root.segments.into_iter().find(|at| at.digest == *digest)
    }

    fn locator(&self, digest: &Digest) -> Result<Vec<u8>, StorefrontError> {
        let at = there(self.recipes.keys().find_map(|id| self.segment_of(*id, digest)), "a segment")?;
        let chunks = recipe::chunks_of_segment(&at, there(self.segments.get(digest), "a segment")?).unwrap();
        Ok(locator::encode(digest, &chunks, &self.chunks, &[]))
    }

    fn range(&self, name: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, StorefrontError> {
        let pack = there(self.packs.get(name), "a pack")?;
        let from = offset as usize;
        there(pack.get(from..from + len as usize), "a range").map(<[u8]>::to_vec)
    }

    fn branch(&self, rules: &HouseRules, name: &Name) -> Result<Branch, StorefrontError> {
        let audience = there(rules.branch(name), "a branch")?.audience;
        let last = self.moves.get(name).and_then(|moves| moves.last());
        let nothing =
            BranchFacts { branch: name.clone(), revision: 0, since: None, by: None, targets: BTreeMap::new() };
        Ok(Branch { audience, facts: last.map_or(nothing, |moved| moved.facts.clone()) })
    }
}

impl Opened {
    fn state(&self) -> MutexGuard<'_, State> {
        self.storefront.state.lock().unwrap()
    }

    fn maker(&self) -> Result<MutexGuard<'_, State>, StorefrontError> {
        match self.who {
            As::Maker => Ok(self.state()),
            As::Player(_) => Err(StorefrontError::NotConnected { address: self.address().to_owned() }),
        }
    }

    /// Does something once for each key; the same request gets the same answer.
    fn once<T: Serialize + DeserializeOwned>(
        &self,
        key: EventId,
        request: &impl Serialize,
        act: impl FnOnce(&mut State) -> Result<T, StorefrontError>,
    ) -> Result<T, StorefrontError> {
        let mut state = self.maker()?;
        let request = serde_json::to_string(request).unwrap();
        match state.answers.get(&key).filter(|_| !self.storefront.has(Fault::ForgetsKeys)) {
            Some((same, answer)) if *same == request => return Ok(serde_json::from_value(answer.clone()).unwrap()),
            Some(_) => return refuse(problem::KEY_REUSED, "another request had this key"),
            None => {}
        }
        let done = act(&mut state)?;
        state.answers.insert(key, (request, serde_json::to_value(&done).unwrap()));
        Ok(done)
    }

    /// What a player may have of a branch.
    fn followed(&self, name: &Name) -> Result<(Branch, Vec<BuildTarget>), StorefrontError> {
        let state = self.state();
        let branch = state.branch(&self.storefront.rules, name)?;
        let is_open = branch.audience == Audience::Everyone || self.storefront.has(Fault::LetsEverybodyIn);
        let holds = match &self.who {
            As::Player(Some(invited)) => state
                .invitations
                .get(name)
                .into_iter()
                .flatten()
                .any(|made| made.new.id == invited.invitation.id() && made.ended_at.is_none()),
            As::Player(None) => false,
            As::Maker => true,
        };
        if !is_open && !holds {
            return refuse(problem::NOT_INVITED, "this is for those who were invited");
        }
        let on = branch.facts.targets.iter().filter_map(|(target, on)| {
            state.builds.iter().find(|build| build.number_there == on.number_there)?.targets.get(target).cloned()
        });
        let on = on.collect();
        Ok((branch, on))
    }

    fn followed_recipes(&self, name: &Name) -> Result<Vec<RecipeId>, StorefrontError> {
        let (_, targets) = self.followed(name)?;
        Ok(targets.iter().flat_map(|target| &target.depots).map(|depot| depot.recipe).collect())
    }
}

impl Storefront for Opened {
    fn content(&self) -> Result<&dyn Content, StorefrontError> {
        Ok(self)
    }
    fn builds(&self) -> Result<&dyn Builds, StorefrontError> {
        Ok(self)
    }
    fn branches(&self) -> Result<&dyn Branches, StorefrontError> {
        Ok(self)
    }
    fn invitations(&self) -> Result<&dyn Invitations, StorefrontError> {
        match self.storefront.has(Fault::CannotInvite) {
            true => Err(self.unable("invite players")),
            false => Ok(self),
        }
    }
    fn player(&self) -> Result<&dyn Player, StorefrontError> {
        Ok(self)
    }
}

impl Identify for Opened {
    fn address(&self) -> &str {
        "in memory"
    }
    fn identify(&self) -> Result<StorefrontFacts, StorefrontError> {
        Ok(StorefrontFacts { id: "memory".to_owned(), name: "Memory".to_owned(), now: None })
    }
    fn try_access(&self) -> Result<Vec<String>, StorefrontError> {
        self.maker().map(|_| vec!["read".to_owned()])
    }
    fn rules(&self) -> Result<HouseRules, StorefrontError> {
        Ok(self.storefront.rules.clone())
    }
    fn title(&self, title: &Handle) -> Result<Title, StorefrontError> {
        let known = Title {
            handle: "saltmarsh-post".parse().unwrap(),
            name: "Saltmarsh Post".to_owned(),
            identity: "example.paperheron.saltmarsh".parse().unwrap(),
            depots: vec!["sp-linux".parse().unwrap()],
        };
        there(Some(known).filter(|known| known.handle == *title), "a title")
    }
}

impl Content for Opened {
    fn put_recipe(&self, _: &Handle, id: RecipeId, root: Vec<u8>) -> Result<RecipeNeeds, StorefrontError> {
        let mut state = self.maker()?;
        if Root::decode(id, &root).is_err() && !self.storefront.has(Fault::BelievesNames) {
            return refuse(problem::DAMAGED, "a recipe");
        }
        state.recipes.insert(id, root);
        let mut needs = state.needs(id)?;
        if self.storefront.has(Fault::SaysNothingIsLacking) {
            needs.chunks.clear();
        }
        Ok(needs)
    }
    fn put_segment(&self, _: &Handle, digest: &Digest, bytes: Vec<u8>) -> Result<(), StorefrontError> {
        let mut state = self.maker()?;
        if recipe::unpack_segment(digest, &bytes).is_err() && !self.storefront.has(Fault::BelievesNames) {
            return refuse(problem::DAMAGED, "a segment");
        }
        if !self.storefront.has(Fault::ForgetsSegments) {
            state.segments.insert(*digest, bytes);
        }
        Ok(())
    }
    fn takes_updates(&self) -> Result<bool, StorefrontError> {
        Ok(true)
    }
    fn rebuilds(&self) -> Result<bool, StorefrontError> {
        Ok(self.storefront.has(Fault::RebuildsNothing))
    }
    fn put_update(
        &self,
        _: &Handle,
        (from, to): (RecipeId, RecipeId),
        update: &dyn Upload,
        _: &dyn Fn(u64),
    ) -> Result<(), StorefrontError> {
        let mut state = self.maker()?;
        there(state.recipes.get(&from).and(state.recipes.get(&to)), "a recipe")?;
        let bytes = update.piece(0, usize::try_from(update.size()).unwrap()).unwrap();
        state.updates.insert((from, to), bytes.to_vec());
        Ok(())
    }
    fn put_pack(&self, _: &Handle, digest: &Digest, bytes: Bytes) -> Result<(), StorefrontError> {
        let mut state = self.maker()?;
        let entries = pack::verify(*digest, &bytes, &NoBases).or_else(|_| refuse(problem::DAMAGED, "a pack"))?;
        let number = state.chunks.add_pack(*digest, u32::try_from(bytes.len()).unwrap());
        for entry in &entries {
            state.chunks.add(number, entry);
        }
        state.packs.insert(*digest, bytes);
        Ok(())
    }
    fn get_recipe(&self, _: &Handle, id: RecipeId) -> Result<Vec<u8>, StorefrontError> {
        there(self.maker()?.recipes.get(&id).cloned(), "a recipe")
    }
    fn get_segment(&self, _: &Handle, digest: &Digest) -> Result<Vec<u8>, StorefrontError> {
        there(self.maker()?.segments.get(digest).cloned(), "a segment")
    }
    fn get_locator(&self, _: &Handle, segment: &Digest) -> Result<Vec<u8>, StorefrontError> {
        self.maker()?.locator(segment)
    }
    fn get_pack(&self, _: &Handle, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, StorefrontError> {
        self.maker()?.range(pack, offset, len)
    }
}

impl Builds for Opened {
    fn list(&self, _: &Handle) -> Result<Vec<Build>, StorefrontError> {
        Ok(self.maker()?.builds.clone())
    }
    fn record(&self, _: &Handle, build: u64) -> Result<Vec<u8>, StorefrontError> {
        let state = self.maker()?;
        let release = there(state.builds.iter().find(|known| known.number_there == build), "a build")?.release;
        there(state.records.get(&release), "a record").map(|record| record.clone().into_bytes())
    }
    fn make(&self, _: &Handle, key: EventId, new: &NewBuild) -> Result<Build, StorefrontError> {
        self.once(key, new, |state| {
            let record =
                ReleaseRecord::decode(new.record.as_bytes()).or_else(|_| refuse(problem::MALFORMED, "record"))?;
            let release = ReleaseId::of(new.record.as_bytes());
            if let Some(same) = state.builds.iter().find(|build| build.release == release) {
                return Ok(same.clone());
            }
            let mut targets = BTreeMap::new();
            for target in &record.targets {
                let mut depots = Vec::new();
                for depot in &target.depots {
                    let stated = there(new.depots.iter().find(|stated| stated.depot == depot.depot), "a depot")?;
                    let chunks = state.chunks_of(stated.recipe)?;
                    if !chunks.iter().all(|chunk| state.chunks.contains(chunk)) {
                        return refuse(problem::INCOMPLETE, "chunks are missing");
                    }
                    depots.push(BuildDepot {
                        depot: depot.depot.clone(),
                        handle: stated.handle.clone(),
                        recipe: stated.recipe,
                        players: depot.players.clone(),
                        files: depot.files,
                        size: depot.size,
                        updates: Vec::new(),
                    });
                }
                let (systems, starts, folder) = (target.systems.clone(), target.starts.clone(), target.folder.clone());
                let choices = target.choices.clone();
                targets.insert(target.target.clone(), BuildTarget { systems, starts, folder, depots, choices });
            }
            let build = Build {
                number_there: state.builds.len() as u64 + 1,
                release,
                name: record.name(),
                name_there: new.name_there.clone(),
                message: new.message.clone(),
                notes: new.notes.clone(),
                made_at: Timestamp::now(),
                made_by: "maker".to_owned(),
                targets,
                key: Some(key),
                withdrawn: None,
            };
            state.builds.push(build.clone());
            state.records.insert(release, new.record.clone());
            Ok(build)
        })
    }
    fn withdraw(&self, _: &Handle, build: u64, key: EventId, why: &Withdraw) -> Result<Build, StorefrontError> {
        self.once(key, &(build, why), |state| {
            let found = there(state.builds.iter_mut().find(|known| known.number_there == build), "a build")?;
            let withdrawn =
                || WithdrawnBuild { because: why.because.clone(), at: Timestamp::now(), by: "maker".to_owned() };
            found.withdrawn.get_or_insert_with(withdrawn);
            Ok(found.clone())
        })
    }
}

impl Branches for Opened {
    fn list(&self, _: &Handle) -> Result<Vec<Branch>, StorefrontError> {
        let state = self.maker()?;
        let rules = &self.storefront.rules;
        rules.branches.fixed.iter().map(|rule| state.branch(rules, &rule.name)).collect()
    }
    fn moves(&self, _: &Handle, branch: &Name) -> Result<Vec<Moved>, StorefrontError> {
        Ok(self.maker()?.moves.get(branch).cloned().unwrap_or_default())
    }
    fn make_move(
        &self,
        _: &Handle,
        branch: &Name,
        revision: u64,
        key: EventId,
        wanted: &Move,
    ) -> Result<Branch, StorefrontError> {
        let (rules, fault) = (&self.storefront.rules, self.storefront.fault);
        self.once(key, &(branch, revision, wanted), |state| {
            let mut now = state.branch(rules, branch)?;
            if now.facts.revision != revision && fault != Some(Fault::MovesAnyway) {
                return refuse(problem::BRANCH_MOVED, "someone was faster");
            }
            let mut targets = BTreeMap::new();
            for (target, number) in &wanted.targets {
                let build = state.builds.iter().find(|build| build.number_there == *number);
                let build = there(build.filter(|build| build.targets.contains_key(target)), "a build")?;
                if build.withdrawn.is_some() && fault != Some(Fault::TakesWithdrawn) {
                    return refuse(problem::RULES, "it is withdrawn");
                }
                let on = BranchBuild { number_there: *number, release: build.release, name: build.name.clone() };
                targets.insert(target.clone(), on);
            }
            let moves = state.moves.entry(branch.clone()).or_default();
            let had = |earlier| moves.iter().any(|m| m.facts.revision == earlier && m.facts.targets == targets);
            if wanted.restores.is_some_and(|earlier| !had(earlier)) {
                return refuse(problem::NOT_FOUND, "it had something else");
            }
            let (since, by) = (Some(Timestamp::now()), Some("maker".to_owned()));
            now.facts = BranchFacts { revision: now.facts.revision + 1, since, by, targets, ..now.facts };
            let because = wanted.because.clone();
            moves.push(Moved { facts: now.facts.clone(), key, restores: wanted.restores, because });
            Ok(now)
        })
    }
}

impl Invitations for Opened {
    fn list(&self, _: &Handle, branch: &Name) -> Result<Vec<InvitationMade>, StorefrontError> {
        Ok(self.maker()?.invitations.get(branch).cloned().unwrap_or_default())
    }
    fn invite(
        &self,
        _: &Handle,
        branch: &Name,
        key: EventId,
        new: &NewInvitation,
    ) -> Result<InvitationMade, StorefrontError> {
        self.once(key, &(branch, new), |state| {
            let all = state.invitations.entry(branch.clone()).or_default();
            if let Some(known) = all.iter().find(|made| made.new.id == new.id) {
                return Ok(known.clone());
            }
            let made = InvitationMade {
                new: new.clone(),
                branch: branch.clone(),
                made_at: Timestamp::now(),
                made_by: "maker".to_owned(),
                used_by: 0,
                last_used: None,
                ended_at: None,
            };
            all.push(made.clone());
            Ok(made)
        })
    }
    fn end(
        &self,
        _: &Handle,
        branch: &Name,
        key: EventId,
        id: InvitationId,
    ) -> Result<InvitationMade, StorefrontError> {
        self.once(key, &(branch, id), |state| {
            let all = state.invitations.entry(branch.clone()).or_default();
            let made = there(all.iter_mut().find(|made| made.new.id == id), "an invitation")?;
            made.ended_at.get_or_insert_with(Timestamp::now);
            Ok(made.clone())
        })
    }
}

impl Opened {
    /// Recipes of everything that is or was on a branch.
    fn recipes_ever(&self, branch: &Name) -> Vec<RecipeId> {
        let state = self.state();
        let moves = state.moves.get(branch).into_iter().flatten();
        let numbers: Vec<u64> =
            moves.flat_map(|moved| moved.facts.targets.values()).map(|on| on.number_there).collect();
        let builds = state.builds.iter().filter(|build| numbers.contains(&build.number_there));
        builds.flat_map(|build| build.targets.values()).flat_map(|target| &target.depots).map(|d| d.recipe).collect()
    }
}

impl Player for Opened {
    fn branch(&self, title: &Handle, branch: &Name) -> Result<Play, StorefrontError> {
        let (branch, targets) = self.followed(branch)?;
        let builds = branch.facts.targets.keys().cloned().zip(targets).collect();
        let Title { name, identity, .. } = self.title(title)?;
        Ok(Play { name, identity, facts: branch.facts, builds })
    }
    fn recipe(&self, _: &Handle, branch: &Name, id: RecipeId) -> Result<Vec<u8>, StorefrontError> {
        let id = there(self.followed_recipes(branch)?.into_iter().find(|known| *known == id), "a recipe")?;
        there(self.state().recipes.get(&id).cloned(), "a recipe")
    }
    fn segment(&self, _: &Handle, branch: &Name, digest: &Digest) -> Result<Vec<u8>, StorefrontError> {
        for id in self.followed_recipes(branch)? {
            let state = self.state();
            if state.segment_of(id, digest).is_some() {
                return there(state.segments.get(digest).cloned(), "a segment");
            }
        }
        refuse(problem::NOT_FOUND, "a segment")
    }
    fn locator(&self, title: &Handle, branch: &Name, segment: &Digest) -> Result<Vec<u8>, StorefrontError> {
        self.segment(title, branch, segment)?;
        self.state().locator(segment)
    }
    fn pack(
        &self,
        _: &Handle,
        branch: &Name,
        pack: &Digest,
        offset: u32,
        len: u32,
    ) -> Result<Vec<u8>, StorefrontError> {
        let recipes = self.followed_recipes(branch)?;
        let state = self.state();
        let is_in = |chunk: &Digest| {
            let at = state.chunks.find(chunk);
            at.is_some_and(|(name, _, entry)| {
                name == *pack && entry.offset <= offset && offset + len <= entry.offset + entry.stored_len
            })
        };
        let named = recipes.iter().any(|id| state.chunks_of(*id).is_ok_and(|chunks| chunks.iter().any(is_in)));
        match named || self.storefront.has(Fault::HandsOutEverything) {
            true => state.range(pack, offset, len),
            false => refuse(problem::NOT_FOUND, "a range"),
        }
    }
    fn update(
        &self,
        _: &Handle,
        branch: &Name,
        (from, to): (RecipeId, RecipeId),
        offset: u32,
        len: u32,
    ) -> Result<Vec<u8>, StorefrontError> {
        self.followed(branch)?;
        let recipes = self.recipes_ever(branch);
        let may = recipes.contains(&from) && recipes.contains(&to) || self.storefront.has(Fault::HandsOutUpdates);
        let state = self.state();
        let bytes = there(state.updates.get(&(from, to)).filter(|_| may), "an update file")?;
        let rest = bytes.get(offset as usize..).unwrap_or_default();
        Ok(rest.get(..len as usize).unwrap_or(rest).to_vec())
    }
}
