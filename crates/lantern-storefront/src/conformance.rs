//! What every [`Storefront`] must do, as a suite that any kind runs in its tests.
//!
//! The one who runs it says with a [`Subject`] which abilities the kind has; each of them is tried, and each of the others must
//! say that it is not there.

use std::collections::BTreeMap;
use std::sync::Arc;

use bytes::Bytes;
use lantern_core::digest::{Digest, RecipeId, ReleaseId};
use lantern_core::event::EventId;
use lantern_core::invitation::Invitation;
use lantern_core::names::{Handle, Name};

use crate::protocol::{Branch, Build, Move, NewBuild, NewDepot, NewInvitation, Withdraw, problem};
use crate::{Invited, Storefront, StorefrontError};

/// What a kind can do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ability {
    /// [`Storefront::content`].
    Content,
    /// [`Storefront::builds`].
    Builds,
    /// [`Storefront::branches`].
    Branches,
    /// [`Storefront::invitations`].
    Invitations,
    /// [`Storefront::player`].
    Player,
}

impl Ability {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Content, Self::Builds, Self::Branches, Self::Invitations, Self::Player];

    fn is_of(self, at: &dyn Storefront) -> Result<bool, String> {
        let error = match self {
            Self::Content => at.content().err(),
            Self::Builds => at.builds().err(),
            Self::Branches => at.branches().err(),
            Self::Invitations => at.invitations().err(),
            Self::Player => at.player().err(),
        };
        match error {
            None => Ok(true),
            Some(StorefrontError::Unable { .. }) => Ok(false),
            Some(other) => Err(format!("{self:?} fails in another way than by not being there: {other}")),
        }
    }
}

/// As whom the storefront under test is opened.
#[derive(Debug, Clone)]
pub enum As {
    /// Someone who makes the game.
    Maker,
    /// A player, with an invitation or without.
    Player(Option<Invited>),
}

/// A release to bring, with its content.
#[derive(Debug, Clone)]
pub struct Sample {
    /// The release record's exact text.
    pub record: String,
    /// How each depot is fetched, and what the storefront calls it.
    pub depots: Vec<NewDepot>,
    /// By recipe, its root.
    pub recipes: BTreeMap<RecipeId, Vec<u8>>,
    /// The segments of those recipes; at least one.
    pub segments: BTreeMap<Digest, Vec<u8>>,
    /// The packs that hold their chunks; at least one.
    pub packs: BTreeMap<Digest, Bytes>,
}

/// A storefront under test: a storefront with one title on which nothing is yet.
pub struct Subject<'a> {
    /// Opens it; always the same storefront.
    pub open: &'a dyn Fn(As) -> Arc<dyn Storefront>,
    /// What the kind can do.
    pub abilities: &'a [Ability],
    /// The title.
    pub title: Handle,
    /// A branch that everybody may follow, and that a build may go to at once.
    pub open_branch: Name,
    /// One that is for those who were invited, likewise.
    pub closed_branch: Name,
    /// Two releases of the title's game, the one with the smaller number first, with content that differs.
    pub samples: [Sample; 2],
    /// An update file from the first depot of the first release to that of the second.
    pub update: Bytes,
}

impl std::fmt::Debug for Subject<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Subject")
            .field("title", &self.title)
            .field("abilities", &self.abilities)
            .finish_non_exhaustive()
    }
}

/// Runs the suite.
///
/// # Errors
/// A sentence that says what the storefront does otherwise.
pub fn run(subject: &Subject<'_>) -> Result<(), String> {
    let maker = (subject.open)(As::Maker);
    who_it_is(subject, maker.as_ref())?;
    for ability in Ability::ALL {
        let is_there = ability.is_of(maker.as_ref())?;
        let is_stated = subject.abilities.contains(&ability);
        ensure(is_there == is_stated, format!("{ability:?}: stated {is_stated}, there {is_there}"))?;
    }
    let has = |ability| subject.abilities.contains(&ability);
    if has(Ability::Content) {
        content(subject, maker.as_ref())?;
    }
    if has(Ability::Builds) {
        builds(subject, maker.as_ref())?;
    }
    if has(Ability::Branches) {
        branches(subject, maker.as_ref())?;
    }
    if has(Ability::Invitations) {
        invitations(subject, maker.as_ref())?;
    }
    if has(Ability::Player) {
        players(subject, maker.as_ref())?;
        updates(subject, maker.as_ref())?;
    }
    if has(Ability::Builds) && has(Ability::Branches) {
        withdrawing(subject, maker.as_ref())?;
    }
    Ok(())
}

fn ensure(is_so: bool, otherwise: impl Into<String>) -> Result<(), String> {
    if is_so { Ok(()) } else { Err(otherwise.into()) }
}

fn fine<T>(what: &str, result: Result<T, StorefrontError>) -> Result<T, String> {
    result.map_err(|error| format!("{what}: an error where there should be none: {error}"))
}

/// The result must be a refusal for one of these reasons.
fn refused<T>(what: &str, result: Result<T, StorefrontError>, kinds: &[problem::Kind]) -> Result<(), String> {
    let names: Vec<&str> = kinds.iter().map(|kind| kind.0).collect();
    let names = names.join(" or ");
    match result {
        Ok(_) => Err(format!("{what} is taken, and should be refused: {names}")),
        Err(error) if kinds.iter().any(|kind| error.is(*kind)) => Ok(()),
        Err(error) => Err(format!("{what} fails with {error:?}, not with {names}")),
    }
}

/// An idempotency key of its own for each number.
fn key(n: u8) -> EventId {
    let at = jiff::Timestamp::from_second(1_764_000_000 + i64::from(n)).unwrap_or_default();
    EventId::new(at, [n; 10])
}

fn who_it_is(subject: &Subject<'_>, at: &dyn Storefront) -> Result<(), String> {
    let facts = fine("who it is", at.identify())?;
    ensure(!facts.id.is_empty() && !facts.name.is_empty(), "it has no id or no name")?;
    ensure(!at.address().is_empty(), "it has no address")?;
    let again = fine("who it is, opened again", (subject.open)(As::Player(None)).identify())?;
    ensure((again.id, again.name) == (facts.id, facts.name), "opened again it is someone else")?;
    fine("access", at.try_access())?;
    fine("house rules", at.rules())?;
    let title = fine("a title", at.title(&subject.title))?;
    ensure(title.handle == subject.title, "it answers with another title")?;
    let unknown: Handle = "no-such-title".parse().map_err(|_| "a handle".to_owned())?;
    refused("a title that is not there", at.title(&unknown), &[problem::NOT_FOUND])
}

fn new_build(sample: &Sample) -> NewBuild {
    NewBuild {
        record: sample.record.clone(),
        targets: Vec::new(),
        depots: sample.depots.clone(),
        name_there: "the lighthouse, at last".parse().ok(),
        message: Some("for the team".to_owned()),
        notes: Default::default(),
    }
}

/// Brings everything that a sample is made of, as a push does.
fn bring(subject: &Subject<'_>, at: &dyn Storefront, sample: &Sample) -> Result<(), String> {
    let content = fine("content", at.content())?;
    for (id, root) in &sample.recipes {
        let needs = fine("a recipe", content.put_recipe(&subject.title, *id, root.clone()))?;
        for digest in &needs.segments {
            let bytes = sample.segments.get(digest).ok_or("it asks for a segment that is not of the recipe")?;
            fine("a segment", content.put_segment(&subject.title, digest, bytes.clone()))?;
        }
    }
    for (name, bytes) in &sample.packs {
        fine("a pack", content.put_pack(&subject.title, name, bytes.clone()))?;
    }
    Ok(())
}

fn content(subject: &Subject<'_>, at: &dyn Storefront) -> Result<(), String> {
    let content = fine("content", at.content())?;
    let (title, [sample, _]) = (&subject.title, &subject.samples);
    let (recipe, root) = sample.recipes.first_key_value().ok_or("the sample has no recipe")?;
    let (segment, segment_bytes) = sample.segments.first_key_value().ok_or("the sample has no segment")?;
    let (pack, pack_bytes) = sample.packs.first_key_value().ok_or("the sample has no pack")?;

    let unknown = content.get_recipe(title, *recipe);
    refused("a recipe that never came", unknown, &[problem::NOT_FOUND])?;
    refused("a segment that never came", content.get_segment(title, segment), &[problem::NOT_FOUND])?;
    refused("a pack that never came", content.get_pack(title, pack, 0, 1), &[problem::NOT_FOUND])?;

    let wrong = Digest::of(b"something else");
    let damaged = &[problem::DAMAGED];
    refused("a recipe under another name", content.put_recipe(title, RecipeId(wrong), root.clone()), damaged)?;
    refused("a segment under another name", content.put_segment(title, &wrong, segment_bytes.clone()), damaged)?;
    refused("a pack under another name", content.put_pack(title, &wrong, pack_bytes.clone()), damaged)?;
    let cut = pack_bytes.slice(..pack_bytes.len() / 2);
    refused("half a pack", content.put_pack(title, pack, cut), damaged)?;

    let needs = fine("a recipe", content.put_recipe(title, *recipe, root.clone()))?;
    ensure(needs.segments.contains(segment), "it does not say that a segment is lacking")?;
    fine("a segment", content.put_segment(title, segment, segment_bytes.clone()))?;
    let needs = fine("the recipe once more", content.put_recipe(title, *recipe, root.clone()))?;
    ensure(!needs.segments.contains(segment), "it lacks a segment that has come")?;
    ensure(!needs.chunks.is_empty(), "it does not say that chunks are lacking")?;

    for _ in 0..2 {
        bring(subject, at, sample)?;
    }
    let needs = fine("the recipe at the end", content.put_recipe(title, *recipe, root.clone()))?;
    ensure(needs.segments.is_empty() && needs.chunks.is_empty(), "it lacks something although everything has come")?;

    ensure(fine("a recipe", content.get_recipe(title, *recipe))? == *root, "a recipe comes back changed")?;
    ensure(fine("a segment", content.get_segment(title, segment))? == *segment_bytes, "a segment comes back changed")?;
    let middle = u32::try_from(pack_bytes.len() / 3).unwrap_or(u32::MAX);
    let range = fine("a part of a pack", content.get_pack(title, pack, middle, 7))?;
    let at = middle as usize;
    ensure(pack_bytes.get(at..at + 7) == Some(&range), "a part of a pack is not the part that was asked for")
}

/// Of an update file that comes before its build, a storefront that says so puts chunks together.
fn rebuilding(subject: &Subject<'_>, at: &dyn Storefront) -> Result<(), String> {
    let content = fine("content", at.content())?;
    if !fine("whether it puts builds together", content.rebuilds())? {
        return Ok(());
    }
    let (title, [first, second]) = (&subject.title, &subject.samples);
    let recipe = |sample: &Sample| sample.depots.first().map(|depot| depot.recipe).ok_or("the sample has no depot");
    let (from, to) = (recipe(first)?, recipe(second)?);
    let root = second.recipes.get(&to).ok_or("the sample lacks its recipe")?;
    let lacking = || -> Result<u64, String> {
        let needs = fine("a recipe", content.put_recipe(title, to, root.clone()))?;
        for digest in &needs.segments {
            let bytes = second.segments.get(digest).ok_or("it asks for a segment that is not of the recipe")?;
            fine("a segment", content.put_segment(title, digest, bytes.clone()))?;
        }
        let needs = fine("a recipe", content.put_recipe(title, to, root.clone()))?;
        Ok(needs.chunks.iter().map(|(_, count)| count).sum())
    };
    let before = lacking()?;
    ensure(before > 0, "it lacks nothing of a build that never came")?;
    fine("an update file before its build", content.put_update(title, (from, to), &subject.update, &|_| {}))?;
    let after = lacking()?;
    ensure(
        after < before,
        format!("it puts nothing together of an update file: {after} chunks of {before} are lacking"),
    )
}

fn builds(subject: &Subject<'_>, at: &dyn Storefront) -> Result<(), String> {
    let builds = fine("builds", at.builds())?;
    let (title, [first, second]) = (&subject.title, &subject.samples);
    let has_content = subject.abilities.contains(&Ability::Content);
    ensure(fine("builds", builds.list(title))?.is_empty(), "a fresh title has builds")?;
    if has_content {
        // The content of the first one has come already; of the second one nothing has.
        let absent = &[problem::INCOMPLETE, problem::NOT_FOUND];
        refused("a build whose content never came", builds.make(title, key(1), &new_build(second)), absent)?;
        ensure(fine("builds", builds.list(title))?.is_empty(), "a refused build is there")?;
        bring(subject, at, first)?;
    }
    let made = fine("a build", builds.make(title, key(2), &new_build(first)))?;
    ensure(made.release == ReleaseId::of(first.record.as_bytes()), "a build is of another release")?;
    ensure(made.name_there == new_build(first).name_there, "a build is not called what its publisher called it")?;
    if has_content {
        rebuilding(subject, at)?;
    }
    let again = fine("the same build with the same key", builds.make(title, key(2), &new_build(first)))?;
    ensure(again == made, "the same key does not give the same build")?;
    let again = fine("the same build with another key", builds.make(title, key(3), &new_build(first)))?;
    ensure(again.number_there == made.number_there, "the same content is made twice")?;
    let other = NewBuild { message: Some("another".to_owned()), ..new_build(first) };
    refused("a key for another request", builds.make(title, key(2), &other), &[problem::KEY_REUSED])?;
    if has_content {
        bring(subject, at, second)?;
    }
    let later = fine("a later build", builds.make(title, key(4), &new_build(second)))?;
    ensure(later.number_there > made.number_there, "numbers of builds do not rise")?;
    let list = fine("builds", builds.list(title))?;
    ensure(list == [made.clone(), later], "the list is not what was made, oldest first")?;
    let record = fine("a record", builds.record(title, made.number_there))?;
    ensure(record == first.record.as_bytes(), "a record comes back changed")?;
    refused("the record of no build", builds.record(title, made.number_there + 1000), &[problem::NOT_FOUND])?;
    let why = Withdraw { because: "saves are lost".to_owned() };
    refused(
        "withdrawing no build",
        builds.withdraw(title, made.number_there + 1000, key(5), &why),
        &[problem::NOT_FOUND],
    )
}

fn both_builds(subject: &Subject<'_>, at: &dyn Storefront) -> Result<[Build; 2], String> {
    let list = fine("builds", at.builds().and_then(|builds| builds.list(&subject.title)))?;
    list.try_into().map_err(|_| "there are not two builds".to_owned())
}

fn branch_of(subject: &Subject<'_>, at: &dyn Storefront, name: &Name) -> Result<Branch, String> {
    let list = fine("branches", at.branches().and_then(|branches| branches.list(&subject.title)))?;
    list.into_iter().find(|branch| branch.facts.branch == *name).ok_or_else(|| format!("there is no branch {name}"))
}

/// The whole map of a branch that has one build.
fn all_of(build: &Build) -> Move {
    let targets = build.targets.keys().map(|target| (target.clone(), build.number_there)).collect();
    Move { targets, restores: None, because: Some("it is tested".to_owned()) }
}

fn branches(subject: &Subject<'_>, at: &dyn Storefront) -> Result<(), String> {
    let branches = fine("branches", at.branches())?;
    let (title, name) = (&subject.title, &subject.open_branch);
    let [first, second] = both_builds(subject, at)?;
    let before = branch_of(subject, at, name)?;
    ensure(before.facts.targets.is_empty(), "a fresh branch has something")?;
    ensure(fine("moves", branches.moves(title, name))?.is_empty(), "a fresh branch was moved")?;
    let at_first = before.facts.revision;

    let moved = fine("a move", branches.make_move(title, name, at_first, key(10), &all_of(&first)))?;
    ensure(moved.facts.revision > at_first, "a move does not raise the revision")?;
    ensure(
        moved.facts.targets.values().all(|on| on.number_there == first.number_there),
        "a move puts something else there",
    )?;
    let again = fine("the same move", branches.make_move(title, name, at_first, key(10), &all_of(&first)))?;
    ensure(again == moved, "the same key does not give the same move")?;
    let late = branches.make_move(title, name, at_first, key(11), &all_of(&second));
    refused("a move from a revision that has passed", late, &[problem::BRANCH_MOVED])?;
    ensure(branch_of(subject, at, name)? == moved, "a refused move changed the branch")?;

    let on = fine("a second move", branches.make_move(title, name, moved.facts.revision, key(12), &all_of(&second)))?;
    let back = Move { restores: Some(moved.facts.revision), ..all_of(&first) };
    let restored = fine("putting back", branches.make_move(title, name, on.facts.revision, key(13), &back))?;
    ensure(restored.facts.targets == moved.facts.targets, "putting back puts something else there")?;
    let never = Move { restores: Some(on.facts.revision), ..all_of(&first) };
    let never = branches.make_move(title, name, restored.facts.revision, key(14), &never);
    refused("putting back what was not there", never, &[problem::NOT_FOUND])?;

    let moves = fine("moves", branches.moves(title, name))?;
    let keys: Vec<EventId> = moves.iter().map(|moved| moved.key).collect();
    ensure(keys == [key(10), key(12), key(13)], "the history is not what was done, oldest first")?;
    ensure(
        moves.iter().map(|moved| &moved.facts).eq([&moved.facts, &on.facts, &restored.facts]),
        "it tells other facts",
    )?;
    ensure(moves.iter().all(|moved| moved.because.as_deref() == Some("it is tested")), "a reason is lost")?;

    let nothing = Move { targets: first.targets.keys().map(|target| (target.clone(), 1_000_000)).collect(), ..back };
    let nothing = branches.make_move(title, name, restored.facts.revision, key(15), &nothing);
    refused("a move to a build that is not there", nothing, &[problem::NOT_FOUND])?;
    let unknown: Name = "no-such-branch".parse().map_err(|_| "a name".to_owned())?;
    let unknown = branches.make_move(title, &unknown, 0, key(16), &all_of(&first));
    refused("a move of a branch that is not there", unknown, &[problem::NOT_FOUND, problem::RULES])
}

fn invitations(subject: &Subject<'_>, at: &dyn Storefront) -> Result<(), String> {
    let invitations = fine("invitations", at.invitations())?;
    let (title, name) = (&subject.title, &subject.closed_branch);
    let new = |n: u8, whom: &str| NewInvitation {
        id: Invitation::new([n; 15]).id(),
        whom: whom.to_owned(),
        until: None,
        folders: None,
        owns: Vec::new(),
    };
    ensure(fine("invitations", invitations.list(title, name))?.is_empty(), "a fresh branch has invitations")?;
    let one = fine("an invitation", invitations.invite(title, name, key(20), &new(20, "testers")))?;
    ensure(one.new == new(20, "testers"), "an invitation is made otherwise than asked for")?;
    let again = fine("the same invitation", invitations.invite(title, name, key(21), &new(20, "testers")))?;
    ensure(again == one, "the same invitation is made twice")?;
    let two = fine("a second one", invitations.invite(title, name, key(22), &new(22, "a magazine")))?;
    ensure(fine("invitations", invitations.list(title, name))? == [one.clone(), two], "the list is not what was made")?;
    let ended = fine("ending", invitations.end(title, name, key(23), one.new.id))?;
    ensure(ended.ended_at.is_some(), "an ended invitation does not say so")?;
    let again = fine("ending again", invitations.end(title, name, key(24), one.new.id))?;
    ensure(again.ended_at == ended.ended_at, "ending it again changes when it ended")?;
    let unknown = invitations.end(title, name, key(25), new(99, "").id);
    refused("ending an invitation that is not there", unknown, &[problem::NOT_FOUND])
}

fn players(subject: &Subject<'_>, maker: &dyn Storefront) -> Result<(), String> {
    let (title, name, closed) = (&subject.title, &subject.open_branch, &subject.closed_branch);
    let stranger = (subject.open)(As::Player(None));
    let player = fine("players", stranger.player())?;
    let play = fine("a branch for everybody", player.branch(title, name))?;
    let is = branch_of(subject, maker, name)?;
    ensure(play.facts == is.facts, "players see something else than those who make the game")?;
    let depots = play.builds.values().flat_map(|target| &target.depots);
    let [sample, _] = &subject.samples;
    for depot in depots {
        let root = fine("a recipe", player.recipe(title, name, depot.recipe))?;
        ensure(Some(&root) == sample.recipes.get(&depot.recipe), "players get another recipe")?;
    }
    for (digest, bytes) in &sample.segments {
        let got = fine("a segment", player.segment(title, name, digest))?;
        ensure(got == *bytes, "players get another segment")?;
        fine("a locator", player.locator(title, name, digest))?;
    }
    let (pack, bytes) = sample.packs.first_key_value().ok_or("the sample has no pack")?;
    // The very end of a pack is its list of chunks, which no locator names.
    let end = u32::try_from(bytes.len()).unwrap_or(u32::MAX) - 1;
    refused("bytes that no build is made of", player.pack(title, name, pack, end, 1), &[problem::NOT_FOUND])?;
    let (never, no_segment) = (RecipeId(Digest::of(b"never")), Digest::of(b"never"));
    refused("a recipe that is not on the branch", player.recipe(title, name, never), &[problem::NOT_FOUND])?;
    refused("a segment that is not on it", player.segment(title, name, &no_segment), &[problem::NOT_FOUND])?;
    refused("its locator", player.locator(title, name, &no_segment), &[problem::NOT_FOUND])?;

    refused("a closed branch", player.branch(title, closed), &[problem::NOT_INVITED])?;
    if !subject.abilities.contains(&Ability::Invitations) {
        return Ok(());
    }
    let guest = |n: u8| {
        (subject.open)(As::Player(Some(Invited { invitation: Invitation::new([n; 15]), folder: "folder".to_owned() })))
    };
    let ask = |at: Arc<dyn Storefront>| at.player().and_then(|player| player.branch(title, closed));
    fine("a closed branch with an invitation", ask(guest(22)))?;
    refused("one that was ended", ask(guest(20)), &[problem::NOT_INVITED])?;
    refused("one that was never made", ask(guest(77)), &[problem::NOT_INVITED])
}

/// Update files, where the kind takes them: handed out to those who may have both builds, and to nobody else.
fn updates(subject: &Subject<'_>, maker: &dyn Storefront) -> Result<(), String> {
    let content = fine("content", maker.content())?;
    if !fine("whether update files are taken", content.takes_updates())? {
        return Ok(());
    }
    let (title, name, closed) = (&subject.title, &subject.open_branch, &subject.closed_branch);
    let recipe = |sample: &Sample| sample.depots.first().map(|depot| depot.recipe).ok_or("the sample has no depot");
    let [first, second] = &subject.samples;
    let (from, to) = (recipe(first)?, recipe(second)?);
    let never = RecipeId(Digest::of(b"never"));
    let lost = content.put_update(title, (never, to), &subject.update, &|_| {});
    refused("an update file from a recipe that is not there", lost, &[problem::NOT_FOUND])?;
    for what in ["an update file", "the same update file"] {
        fine(what, content.put_update(title, (from, to), &subject.update, &|_| {}))?;
    }
    let stranger = (subject.open)(As::Player(None));
    let player = fine("players", stranger.player())?;
    let got = fine("an update file", player.update(title, name, (from, to), 0, u32::MAX))?;
    ensure(got == subject.update, "players get another update file")?;
    let part = fine("a part of an update file", player.update(title, name, (from, to), 10, 64))?;
    ensure(Some(part.as_slice()) == subject.update.get(10..74), "players get another part of an update file")?;
    refused("an update file that is not there", player.update(title, name, (to, from), 0, 9), &[problem::NOT_FOUND])?;
    // On the closed branch one of the two never was.
    let guest = Invited { invitation: Invitation::new([22; 15]), folder: "folder".to_owned() };
    let guest = (subject.open)(As::Player(Some(guest)));
    let player = fine("players", guest.player())?;
    let other = player.update(title, closed, (from, to), 0, 9);
    refused("an update file of another branch", other, &[problem::NOT_FOUND, problem::NOT_INVITED])
}

fn withdrawing(subject: &Subject<'_>, at: &dyn Storefront) -> Result<(), String> {
    let (builds, branches) = (fine("builds", at.builds())?, fine("branches", at.branches())?);
    let (title, name) = (&subject.title, &subject.open_branch);
    let [_, second] = both_builds(subject, at)?;
    let why = Withdraw { because: "saves are lost".to_owned() };
    let withdrawn = fine("withdrawing", builds.withdraw(title, second.number_there, key(30), &why))?;
    let says = withdrawn.withdrawn.as_ref().map(|withdrawn| withdrawn.because.as_str());
    ensure(says == Some("saves are lost"), "a withdrawn build does not say why")?;
    let other = Withdraw { because: "another reason".to_owned() };
    let again = fine("withdrawing again", builds.withdraw(title, second.number_there, key(31), &other))?;
    ensure(again == withdrawn, "withdrawing it again changes it")?;
    ensure(both_builds(subject, at)?.get(1) == Some(&withdrawn), "the list does not say that it is withdrawn")?;
    let revision = branch_of(subject, at, name)?.facts.revision;
    let moved = branches.make_move(title, name, revision, key(32), &all_of(&second));
    refused("a withdrawn build on a branch", moved, &[problem::RULES])
}
