//! `prepare`: exports become a sealed release.

mod before;

use std::collections::{BTreeMap, HashSet};
use std::path::PathBuf;
use std::sync::Arc;

use lantern_core::board::{Board, KnownRelease};
use lantern_core::digest::{InputDigest, RecipeId, ReleaseId};
use lantern_core::event::{EventBody, NumberReserved, Sealed};
use lantern_core::finding::{Code, Finding, Severity};
use lantern_core::names::Name;
use lantern_core::path::TreePath;
use lantern_core::progress::Progress;
use lantern_core::release::{Changed, Claims, FORMAT, ReleaseRecord, TargetRecord, input_digest};
use lantern_core::size::Size;
use lantern_core::tree::{Node, Tree};
use lantern_core::version::{BuildNumber, ReleaseName, Version};
use lantern_exports::cache::{DIGESTS, DigestCache};
use lantern_exports::changing::Changing;
use lantern_store::durable::DurableError;
use lantern_store::held::Held;
use lantern_store::room_left;
use lantern_store::seal::Sealer;

use crate::changing::{self, Changes};
use crate::check::{Judged, PastReleases, forgotten, number_differs};
use crate::describe::{describe, trees_if_known};
use crate::divided::{Divided, Parcel, copies, parcels};
use crate::looked::Looked;
use crate::stamp_and_sign::DoneTo;
use crate::workspace::Session;
use crate::{Passphrases, ProjectError};

/// What to prepare.
#[derive(Debug, Clone, Default)]
pub struct PrepareOptions {
    /// Instead of the configured version, this once.
    pub version: Option<Version>,
    /// Read everything, whatever the file system says of what changed.
    pub read_all: bool,
    /// Leave everything unsigned, whatever `lantern.toml` says.
    pub unsigned: bool,
    /// Tickets that came back from those who looked at a bundle.
    pub tickets: Vec<PathBuf>,
    /// Stamps and signs what the exports hold before it is sealed, instead of what `lantern.toml` says.
    pub changing: Option<Arc<dyn Changing>>,
    /// Gives the passphrases of the keys that `lantern.toml` names, when they are needed.
    pub passphrases: Option<Passphrases>,
}

/// What sealing cost.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct SealCost {
    /// Bytes that were read.
    pub read: u64,
    /// Bytes of packs that were written.
    pub stored: u64,
}

/// What came of preparing.
#[derive(Debug, Clone)]
pub struct Prepared {
    /// The release.
    pub release: KnownRelease,
    /// Its record.
    pub record: ReleaseRecord,
    /// What it cost; none when nothing had changed and nothing was made.
    pub cost: Option<SealCost>,
    /// The release sealed before it.
    pub before: Option<KnownRelease>,
    /// What is worth knowing, with the target that it is about where there is one.
    pub findings: Vec<(Option<Name>, Finding)>,
    /// For each target that is as it was in an earlier release: the first that had it so.
    pub unchanged_since: BTreeMap<Name, ReleaseName>,
    /// What was done to targets before they were sealed.
    pub done: DoneTo,
    /// Where the statement lies of how it was prepared, where `lantern.toml` asks for one.
    pub statement: Option<PathBuf>,
}

impl Session {
    /// Takes the exports of an edition that are meant, checks them, and seals them; when nothing changed it makes nothing.
    ///
    /// # Errors
    /// [`ProjectError::Findings`] with every finding of every target when one stops, and those of reading and writing.
    /// Killed at any point, the next call takes up the reserved number and finds what was packed.
    pub fn prepare(
        &mut self,
        edition: &Name,
        options: &PrepareOptions,
        progress: &dyn Progress,
    ) -> Result<Prepared, ProjectError> {
        let version = match &options.version {
            Some(version) => version.clone(),
            None => self.project().version(edition)?,
        };
        self.workspace.store.remove_unfinished()?;
        let held = Held::by(&self.workspace.store)?;
        let (sealing, number, mut findings, accepted_late) = loop {
            let sealing = self.seal(edition, &version, options, progress);
            let noted = self.note_approvals();
            let sealing = sealing.map_err(|error| self.give_room_back(&held, error))?;
            noted.map_err(|error| self.give_room_back(&held, error))?;
            if let Some(known) = self.known(edition, &version, &sealing.inputs)? {
                let findings = sealing.judged.map(|judged| judged.findings).unwrap_or_default();
                return self.nothing_new(known, findings, options, progress);
            }
            let input = self.input(edition, &version, &sealing.inputs);
            let taken = self.take_number(edition, input, sealing.stamped, |session, number| {
                let mut findings = sealing.judged.as_ref().map(|judged| judged.findings.clone()).unwrap_or_default();
                findings.extend(session.held_against(&sealing, &version, number)?);
                session.project().not_accepted(findings)
            });
            // Where someone else took the number meanwhile that was stamped, it is stamped with the next one.
            if let Some((number, (findings, accepted))) = taken.map_err(|error| self.give_room_back(&held, error))? {
                break (sealing, number, findings, accepted);
            }
        };
        let Sealing { inputs, mut targets, cost, judged, .. } = sealing;
        let input = self.input(edition, &version, &inputs);
        let judged = judged.unwrap_or_default();
        let accepted = [judged.accepted.clone(), accepted_late].concat();
        for target in &mut targets {
            let signs = self.project().config().targets.get(&target.target).is_some_and(|of| of.sign.is_some());
            target.unsigned = options.unsigned && signs;
            target.claims = judged.claims.get(&target.target).cloned().unwrap_or_default();
            if self.project().is_stamped_inside(&target.target) {
                target.claims.version = Some(version.to_string());
                target.claims.number = Some(number.to_string());
            }
        }
        let record = self.record_to_write(edition, version, number, targets, input)?;
        // The record is in the store before the ledger names it.
        let id = self.workspace.store.write_record(&record).map_err(|e| self.give_room_back(&held, e.into()))?;
        let board = self.workspace.board(edition)?;
        let before = board.releases.iter().filter(|r| r.found_at.is_none() && r.id != id);
        let before = before.max_by_key(|r| r.name.number).cloned();
        drop(board);
        let is_warning = |finding: &Finding| finding.severity == Severity::Warning && !finding.is_of_now();
        let warnings = findings.iter().filter(|(_, finding)| is_warning(finding)).count() as u64;
        let sealed = Sealed { warnings, accepted, ..Sealed::of(id, &record, input) };
        let event = self.workspace.record(edition, EventBody::Sealed(sealed.clone()), None)?;
        changing::forget(&self.changed_folder());
        self.project().note_signed(edition, &record);
        findings.extend(self.project().pin_signed(edition, &record));
        if let Err(error) = self.workspace.back_ledger_up(None) {
            let what = format!("the copy of the ledger was not brought up to date: {}", crate::verify::in_full(&error));
            findings.push((None, Finding::of(Code::StaleLedgerCopy, what, "lantern ledger backup")));
        }
        let release = KnownRelease::sealed(&sealed, edition, event.recorded_at);
        let unchanged_since = self.workspace.unchanged_since(&release, &record)?;
        let done = self.project().done_to(&record);
        let statement = self.keep_statement(&release, options, progress)?;
        Ok(Prepared { release, record, cost: Some(cost), before, findings, unchanged_since, done, statement })
    }

    /// Returns the record of a release that is about to be written. One that lost its content comes back as it was.
    fn record_to_write(
        &self,
        edition: &Name,
        version: Version,
        number: BuildNumber,
        targets: Vec<TargetRecord>,
        input: InputDigest,
    ) -> Result<ReleaseRecord, ProjectError> {
        let board = self.workspace.board(edition)?;
        let same = board.releases.iter().find(|r| r.input == Some(input) && r.name.number == number);
        if let Some(record) = same.and_then(|same| self.workspace.store.record(same.id).ok()) {
            return Ok(record);
        }
        let game = self.project().identity(edition).clone();
        Ok(ReleaseRecord { format: FORMAT.to_owned(), game, edition: edition.clone(), version, number, targets })
    }

    /// What only the sealed content shows, compared with what was sealed and what is out.
    fn held_against(
        &self,
        Sealing { inputs, targets, judged, past, .. }: &Sealing,
        version: &Version,
        number: BuildNumber,
    ) -> Result<Vec<(Option<Name>, Finding)>, ProjectError> {
        let claims = |target| judged.as_ref().and_then(|judged| judged.claims.get(target));
        let is_same = |now: &TargetRecord| past.exported(&now.target).is_some_and(|last| last.tree == now.tree);
        let mut findings = Vec::new();
        for (input, target) in inputs.iter().zip(targets) {
            let name = &target.target;
            if let Some(claims) = claims(name).filter(|claims: &&Claims| claims.is_other_number(number)) {
                findings.push((Some(name.clone()), number_differs(self.project(), name, claims, number)));
            }
            if let Some((release, last)) = past.last(name).filter(|_| !is_same(input))
                && self.has_nothing_of(target, last)?
            {
                let what = format!("{name} has nothing in common with {release}: not one file, not one part of one");
                let fix = "is it the right folder, and the right game? If this is intended, accept it with a reason";
                findings.push((Some(name.clone()), Finding::of(Code::AnotherGame, what, fix)));
            }
        }
        let finding = past.version_finding(version, || !inputs.iter().all(is_same));
        findings.extend(finding.map(|finding| (None, finding)));
        if !inputs.iter().all(is_same) {
            let same: Vec<&str> = inputs.iter().filter(|t| is_same(t)).map(|t| t.target.as_str()).collect();
            let last = inputs.iter().find(|t| is_same(t)).and_then(|t| past.last(&t.target));
            let finding = last.and_then(|(name, _)| forgotten(&same, name));
            findings.extend(finding.map(|finding| (None, finding)));
        }
        Ok(findings)
    }

    /// Whether two builds of a target share nothing, not even a part of one file; small ones may.
    fn has_nothing_of(&self, now: &TargetRecord, last: &TargetRecord) -> Result<bool, ProjectError> {
        let is_large = |target: &TargetRecord| target.size() >= SHARES_SIZE || target.files() >= SHARES_FILES;
        if !is_large(now) || !is_large(last) {
            return Ok(false);
        }
        let store = &self.workspace.store;
        let mut chunks = HashSet::new();
        for depot in &last.depots {
            // What was freed says nothing.
            let Ok((_, entries)) = store.recipe_of(depot.tree).and_then(|id| store.recipe(id)) else {
                return Ok(false);
            };
            chunks.extend(entries.iter().flat_map(|entry| &entry.chunks).map(|chunk| chunk.digest));
        }
        for depot in &now.depots {
            let (_, entries) = store.recipe(store.recipe_of(depot.tree)?)?;
            if entries.iter().flat_map(|entry| &entry.chunks).any(|chunk| chunks.contains(&chunk.digest)) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// On a disk that is full nothing stays of what was begun: nobody can use it, and anyone who makes room needs it.
    fn give_room_back(&self, held: &Held, error: ProjectError) -> ProjectError {
        if error.is_full() {
            changing::forget(&self.changed_folder());
        }
        if error.is_full()
            && let Err(left) = held.restore(&self.workspace.store)
        {
            log::warn!("some of what was begun is left in the store: {left}");
        }
        error
    }

    /// Says so when what is new may not fit; how much of it is new and how far it can be compressed, sealing alone shows.
    fn ask_room(&self, at_most: u64, progress: &dyn Progress) {
        let store = self.workspace.store.root();
        if let Some(free) = room_left::free(store).filter(|free| *free < at_most) {
            let (free, at_most) = (Size(free), Size(at_most));
            progress.careful(&format!(
                "{free} are free on the disk of .lantern, and this release may need up to {at_most}"
            ));
        }
    }

    /// Where stamped and signed files lie until they are sealed.
    fn changed_folder(&self) -> PathBuf {
        self.project().state("cache/changed")
    }

    /// Divides the exports, has stamped and signed what is to be, and seals what is not known to be sealed already.
    fn seal(
        &self,
        edition: &Name,
        version: &Version,
        options: &PrepareOptions,
        progress: &dyn Progress,
    ) -> Result<Sealing, ProjectError> {
        let project = self.project();
        let (divided, mut digests) = project.divide_as_known(edition);
        if let Some(findings) = divided.stopping() {
            return Err(ProjectError::Findings(findings));
        }
        let changing = match &options.changing {
            Some(changing) => Some(changing.clone()),
            None => {
                project.stamp_and_sign(edition, options.passphrases.as_ref(), (options.unsigned, &options.tickets))?
            }
        };
        let changing = changing.as_deref();
        if !options.read_all
            && let Some(exported) = self.unchanged(edition, version, &divided, changing, &mut digests, progress)?
        {
            self.workspace.have_looked(edition, Looked::Known(exported.clone()));
            return Ok(Sealing::nothing(with_changes(exported, changing)));
        }
        let was_whole = self.is_newest_whole(edition)?;
        let mut past = PastReleases::load(project, edition)?;
        let at_most = size_of_new(&divided, &digests);
        // Something is made: everything is read again.
        divided.intakes.iter().for_each(|intake| digests.forget(intake.name));
        let judge = |past: &mut PastReleases| {
            let judged = project.judge_to_seal(edition, version, &divided, past, options.unsigned, progress)?;
            past.forget_files();
            self.ask_room(at_most, progress);
            Ok::<_, ProjectError>(judged)
        };
        let is_any = |changing: &&dyn Changing| divided.intakes.iter().any(|intake| changing.by(intake.name).is_some());
        let Some(changing) = changing.filter(is_any) else {
            let mut judged = judge(&mut past)?;
            let (trees, cost) = self.seal_parcels(edition, &divided, Some(&mut digests), progress)?;
            let copies = self.compare_shared(&divided, &mut digests, progress);
            self.remember(&digests);
            self.workspace.have_looked(edition, Looked::at(&divided, &digests));
            copies?;
            judged.findings.extend(self.damage(was_whole)?);
            let targets = describe(&divided, &trees)?;
            return Ok(Sealing { inputs: targets.clone(), targets, cost, judged: Some(judged), past, stamped: None });
        };
        // What is changed is known by what it was before: signing the same bytes twice may give two results.
        let read = |parcel: &Parcel| digests.tree_by_reading(&divided.intakes[parcel.from], &parcel.indices, progress);
        let trees: Vec<Tree> = parcels(&divided).iter().map(read).collect::<Result<_, _>>()?;
        let copies = self.compare_shared(&divided, &mut digests, progress);
        self.remember(&digests);
        self.workspace.have_looked(edition, Looked::at(&divided, &digests));
        copies?;
        let inputs = with_changes(describe(&divided, &trees)?, Some(changing));
        if self.known(edition, version, &inputs)?.is_some() {
            return Ok(Sealing::nothing(inputs));
        }
        let mut judged = judge(&mut past)?;
        let (number, _) = self.number_for(edition, self.input(edition, version, &inputs))?;
        let release = ReleaseName { version: version.clone(), number };
        let stamped = divided.intakes.iter().any(|intake| changing.is_stamped(intake.name)).then_some(number);
        let store = &self.workspace.store;
        let windows = std::mem::take(&mut judged.windows);
        let changes =
            Changes { edition, changing, release: &release, store, windows: &windows, folder: self.changed_folder() };
        let (targets, cost) = self.seal_changed(divided, (&trees, &inputs), &changes, &past, progress)?;
        judged.findings.extend(changing.findings().into_iter().map(|(target, finding)| (Some(target), finding)));
        judged.findings.extend(self.damage(was_whole)?);
        Ok(Sealing { inputs, targets, cost, judged: Some(judged), past, stamped })
    }

    /// Has divided exports stamped and signed, and seals them so; `trees` are those of their parcels, and `inputs` their
    /// targets, as the exports give them.
    fn seal_changed(
        &self,
        divided: Divided<'_>,
        (trees, inputs): (&[Tree], &[TargetRecord]),
        changes: &Changes<'_>,
        past: &PastReleases,
        progress: &dyn Progress,
    ) -> Result<(Vec<TargetRecord>, SealCost), ProjectError> {
        let parcels = parcels(&divided);
        let mut changed: BTreeMap<Name, Changed> = BTreeMap::new();
        let Divided { mut intakes, is_whole, targets, .. } = divided;
        for (from, (intake, input)) in intakes.iter_mut().zip(inputs).enumerate() {
            let Some(by) = input.changed_by() else { continue };
            let last = past.last(intake.name).map(|(_, last)| last);
            let own = || parcels.iter().zip(trees).filter(|(parcel, _)| parcel.from == from).map(|(_, tree)| tree);
            let before = |path: &TreePath| own().find_map(|tree| tree.get(path));
            let digest = |path: &TreePath| match before(path) {
                Some(Node::File { digest, .. }) => Some(*digest),
                _ => None,
            };
            let windows = changes.windows.get(intake.name).map(Vec::as_slice).unwrap_or_default();
            let files = changes.files(intake, by, input, last, (windows, &digest), progress)?;
            let over = |source| DurableError { what: "lay changed files over", path: changes.folder.clone(), source };
            intake.lay_over(&files).map_err(over)?;
            changed.insert(intake.name.clone(), changing::changed(by, &files, before));
        }
        // That may have brought files that lie in a depot of their own.
        let taken = Divided { intakes, is_whole, targets, ..Divided::default() };
        let divided = self.project().divide_again(taken);
        if let Some(stopping) = divided.stopping() {
            return Err(ProjectError::Findings(stopping));
        }
        let is_changed = |target: &Name, path: &TreePath| {
            changed.get(target).is_some_and(|changed| changed.replaced.contains_key(path))
        };
        let shared = self.project().changed_and_shared(&divided, is_changed);
        if !shared.is_empty() {
            return Err(ProjectError::Findings(shared));
        }
        let (trees, cost) = self.seal_parcels(changes.edition, &divided, None, progress)?;
        let mut targets = describe(&divided, &trees)?;
        for target in &mut targets {
            target.changed = changed.remove(&target.target);
        }
        Ok((targets, cost))
    }

    /// Reads what other targets have of shared depots; what was read in this run is in `digests`.
    ///
    /// # Errors
    /// [`ProjectError::Findings`] where it is not the same.
    fn compare_shared(
        &self,
        divided: &Divided<'_>,
        digests: &mut DigestCache,
        progress: &dyn Progress,
    ) -> Result<(), ProjectError> {
        let findings = self.project().differing_content(divided, |parcel| {
            let intake = &divided.intakes[parcel.from];
            match digests.tree_as_it_seems(intake, &parcel.indices) {
                Some(tree) => Ok(tree),
                None => Ok(digests.tree_by_reading(intake, &parcel.indices, progress)?),
            }
        })?;
        if findings.is_empty() { Ok(()) } else { Err(ProjectError::Findings(findings)) }
    }

    /// Seals everything that divided exports hold; `digests` remember what was read.
    pub(crate) fn seal_parcels(
        &self,
        edition: &Name,
        divided: &Divided<'_>,
        mut digests: Option<&mut DigestCache>,
        progress: &dyn Progress,
    ) -> Result<(Vec<Tree>, SealCost), ProjectError> {
        let (mut trees, mut cost) = (Vec::new(), SealCost::default());
        let mut sealer = Sealer::new(&self.workspace.store).with(self.project().config().compression);
        let board = self.workspace.board(edition)?;
        let before: Vec<_> = divided.intakes.iter().map(|intake| self.last_sealed(&board, intake.name)).collect();
        for (place, parcel) in parcels(divided).iter().enumerate() {
            let intake = &divided.intakes[parcel.from];
            let (entries, source) = intake.part(&parcel.indices);
            let depot = divided.mapping.depots.get(place).map(|depot| &depot.name);
            let before = before.get(parcel.from).and_then(Option::as_ref).and_then(|last| self.recipe_of(last, depot));
            let sealed = sealer.seal(&entries, &source, before, progress)?;
            cost.read += sealed.read;
            cost.stored += sealed.new_stored;
            if let Some(digests) = &mut digests {
                digests.remember(intake, &parcel.indices, &sealed.tree);
            }
            trees.push(sealed.tree);
        }
        Ok((trees, cost))
    }

    /// Returns what the newest release has of a target of which more than a record is left here. One that the ledger knows and the store
    /// does not, as after a backup came back, has nothing to offer.
    fn last_sealed(&self, board: &Board, target: &Name) -> Option<TargetRecord> {
        let is_here = |r: &&KnownRelease| r.found_at.is_none() && r.has(target) && !board.freed.contains(&r.id);
        let mut newest = board.newest_first().into_iter().filter(is_here);
        let record = newest.find_map(|release| self.workspace.store.record(release.id).ok())?;
        record.targets.into_iter().find(|of| of.target == *target)
    }

    /// Returns how a depot of a target is put together, or without one what is kept aside.
    fn recipe_of(&self, target: &TargetRecord, depot: Option<&Name>) -> Option<RecipeId> {
        let own = match depot {
            Some(name) => target.depots.iter().find(|depot| depot.depot == *name),
            None => target.aside.as_ref(),
        };
        self.workspace.store.recipe_of(own?.tree).ok()
    }

    /// Keeps what was read. It saves time alone.
    fn remember(&self, digests: &DigestCache) {
        if let Err(error) = digests.save(&self.project().state(DIGESTS)) {
            log::warn!("what was read is not remembered: {error}");
        }
    }

    /// Returns the targets as they are exported, if nothing changed and a release has them: then there is nothing to seal.
    fn unchanged(
        &self,
        edition: &Name,
        version: &Version,
        divided: &Divided<'_>,
        changing: Option<&dyn Changing>,
        digests: &mut DigestCache,
        progress: &dyn Progress,
    ) -> Result<Option<Vec<TargetRecord>>, ProjectError> {
        let of_release = |trees: Option<Vec<Tree>>| -> Result<Option<Vec<TargetRecord>>, ProjectError> {
            let Some(trees) = trees else { return Ok(None) };
            let exported = describe(divided, &trees)?;
            let known = self.known(edition, version, &with_changes(exported.clone(), changing))?;
            Ok(known.map(|_| exported))
        };
        // By the file system's word: enough to make nothing.
        let tree = |parcel: &Parcel| digests.tree_without_reading(&divided.intakes[parcel.from], &parcel.indices);
        if let Some(targets) = of_release(trees_if_known(divided, tree))? {
            return Ok(Some(targets));
        }
        // New times on old bytes, as after a copy or an export without changes: reading alone says so, several times
        // faster than sealing. With a new version there is something to make in any case.
        let has_version = self.workspace.board(edition)?.releases.iter().any(|r| r.name.version == *version);
        let parcels: Vec<Parcel> =
            parcels(divided).into_iter().chain(copies(divided).into_iter().map(|(_, copy)| copy)).collect();
        let parts: Vec<_> = parcels.iter().map(|p| (&divided.intakes[p.from], p.indices.as_slice())).collect();
        if !has_version || !digests.is_same_by_reading(&parts, progress)? {
            return Ok(None);
        }
        parts.iter().for_each(|(intake, indices)| digests.renew(intake, indices));
        let tree = |parcel: &Parcel| digests.tree_as_it_seems(&divided.intakes[parcel.from], &parcel.indices);
        let targets = of_release(trees_if_known(divided, tree))?;
        if targets.is_some() {
            self.remember(digests);
        }
        Ok(targets)
    }

    fn input(&self, edition: &Name, version: &Version, targets: &[TargetRecord]) -> InputDigest {
        input_digest(self.project().identity(edition), edition, version, targets)
    }

    fn nothing_new(
        &self,
        release: KnownRelease,
        mut findings: Vec<(Option<Name>, Finding)>,
        options: &PrepareOptions,
        progress: &dyn Progress,
    ) -> Result<Prepared, ProjectError> {
        let record = self.workspace.store.record(release.id)?;
        // A run that was cut after sealing has not pinned its keys yet.
        findings.extend(self.project().pin_signed(&release.edition, &record));
        let unchanged_since = self.workspace.unchanged_since(&release, &record)?;
        let statement = self.keep_statement(&release, options, progress)?;
        let done = DoneTo::default();
        Ok(Prepared { release, record, cost: None, before: None, findings, unchanged_since, done, statement })
    }

    /// Takes the number for an input, unless it has one; `judge` says what stands against that number, and may stop it. None
    /// where it would not be the one that was stamped already.
    fn take_number<T>(
        &mut self,
        edition: &Name,
        input: InputDigest,
        stamped: Option<BuildNumber>,
        judge: impl Fn(&Self, BuildNumber) -> Result<T, ProjectError>,
    ) -> Result<Option<(BuildNumber, T)>, ProjectError> {
        self.record_decided(edition, |session| {
            let (number, has_it) = session.number_for(edition, input)?;
            if stamped.is_some_and(|stamped| stamped != number) {
                return Ok((None, None));
            }
            let judged = judge(session, number)?;
            let reserved = EventBody::NumberReserved(NumberReserved { number, input });
            Ok((Some((number, judged)), (!has_it).then_some(reserved)))
        })
    }

    /// Whether some storefront would not take a number any more: another release has it there, or a higher one.
    fn is_passed(
        &self,
        board: &Board,
        edition: &Name,
        number: BuildNumber,
        release: Option<ReleaseId>,
    ) -> Result<bool, ProjectError> {
        let titles = self.workspace.titles(board, edition)?;
        // A release that is not made yet has no build anywhere.
        let release = release.unwrap_or(ReleaseId::of(b""));
        Ok(titles.values().any(|title| board.is_passed(release, number, title)))
    }

    /// Returns the number that an input has, left by a break or of a record that was lost, or else the next one; and whether it has it.
    fn number_for(&self, edition: &Name, input: InputDigest) -> Result<(BuildNumber, bool), ProjectError> {
        let board = self.workspace.board(edition)?;
        if let Some(number) = board.reserved.get(&input)
            && !self.is_passed(&board, edition, *number, None)?
        {
            return Ok((*number, true));
        }
        let same = board.releases.iter().rev().find(|r| r.input == Some(input));
        if let Some(same) = same.filter(|same| !board.withdrawn.contains_key(&same.id))
            && !self.is_passed(&board, edition, same.name.number, Some(same.id))?
        {
            return Ok((same.name.number, true));
        }
        Ok((self.workspace.boards()?.numbers().next()?, false))
    }
}

/// From which size on, in bytes, two builds of one target share something.
const SHARES_SIZE: u64 = 1024 * 1024;
/// From how many files on.
const SHARES_FILES: u64 = 5;

/// What came of dividing and sealing.
struct Sealing {
    /// The targets as the exports give them, with what is done to them.
    inputs: Vec<TargetRecord>,
    /// The targets as they were sealed.
    targets: Vec<TargetRecord>,
    cost: SealCost,
    /// None where nothing was looked into, because nothing changed.
    judged: Option<Judged>,
    past: PastReleases,
    /// The number that some target was stamped with.
    stamped: Option<BuildNumber>,
}

impl Sealing {
    /// What is known already: nothing was looked into.
    fn nothing(inputs: Vec<TargetRecord>) -> Self {
        let past = PastReleases::default();
        Self { targets: inputs.clone(), inputs, cost: SealCost::default(), judged: None, past, stamped: None }
    }
}

/// Adds up the files of divided exports that are not as they were.
fn size_of_new(divided: &Divided<'_>, digests: &DigestCache) -> u64 {
    let size = |parcel: &Parcel| digests.size_of_new(&divided.intakes[parcel.from], &parcel.indices);
    parcels(divided).iter().map(size).sum()
}

/// Says of targets as the exports give them what is done to them.
fn with_changes(mut targets: Vec<TargetRecord>, changing: Option<&dyn Changing>) -> Vec<TargetRecord> {
    for target in &mut targets {
        let by = changing.and_then(|changing| changing.by(&target.target));
        target.changed = by.map(|by| Changed { by, replaced: BTreeMap::new() });
    }
    targets
}
