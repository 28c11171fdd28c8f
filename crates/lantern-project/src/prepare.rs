//! `prepare`: exports become a sealed release.

use lantern_core::board::KnownRelease;
use lantern_core::config::Config;
use lantern_core::digest::InputDigest;
use lantern_core::event::{EventBody, NumberReserved, Sealed};
use lantern_core::finding::Finding;
use lantern_core::progress::Progress;
use lantern_core::release::{DepotRecord, FORMAT, ReleaseRecord, TargetRecord};
use lantern_core::tree::Tree;
use lantern_core::version::{BuildNumber, ReleaseName, Version};

use crate::ProjectError;
use crate::intake::{Intake, stops_in};
use crate::project::Locked;
use crate::seen::Seen;

/// What to prepare.
#[derive(Debug, Clone, Default)]
pub struct PrepareOptions {
    /// Instead of the configured version, this once.
    pub version: Option<Version>,
    /// Read everything, whatever the file system says of what changed.
    pub read_all: bool,
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
    /// What is worth knowing.
    pub findings: Vec<Finding>,
}

impl Locked {
    /// Takes all exports in, checks them, and seals them; when nothing changed it makes nothing.
    ///
    /// # Errors
    /// [`ProjectError::Findings`] with every finding of every target when one stops, and those of reading and writing.
    /// Killed at any point, the next call takes up the reserved number and finds what was packed.
    pub fn prepare(&mut self, options: &PrepareOptions, progress: &dyn Progress) -> Result<Prepared, ProjectError> {
        let version = match &options.version {
            Some(version) => version.clone(),
            None => self.open.project.version()?,
        };
        let config = self.open.project.config().clone();
        self.open.store.remove_unfinished()?;
        let intakes = self.take_all(&config)?;
        let findings: Vec<Finding> = intakes.iter().flat_map(|i| i.findings.clone()).collect();
        let seen_path = self.open.project.state("cache/seen.json");
        let seen = if options.read_all { Seen::new() } else { Seen::load(&seen_path) };

        // Nothing changed, by the file system's word: enough to make nothing.
        let trees: Option<Vec<Tree>> = intakes.iter().map(|intake| seen.tree_without_reading(intake)).collect();
        if let Some(trees) = trees {
            let targets = describe(&intakes, &trees);
            if let Some(known) = self.known(&version, &targets)? {
                return self.nothing_new(known, findings);
            }
        }

        let mut cost = SealCost::default();
        let mut trees = Vec::new();
        let mut fresh = Seen::new();
        for intake in &intakes {
            let sealed = lantern_store::seal::seal(&self.open.store, &intake.entries, intake, progress)?;
            cost.read += sealed.read;
            cost.stored += sealed.new_stored;
            fresh.remember(intake, &sealed.tree);
            trees.push(sealed.tree);
        }
        fresh.save(&seen_path)?;
        let targets = describe(&intakes, &trees);
        if let Some(known) = self.known(&version, &targets)? {
            return self.nothing_new(known, findings);
        }
        let input = self.input(&version, &targets);
        let number = self.reserve(input)?;
        let record = ReleaseRecord {
            format: FORMAT.to_owned(),
            game: config.game.identity.clone(),
            edition: self.open.project.edition().clone(),
            version,
            number,
            targets,
        };
        // The record is in the store before the ledger names it.
        let id = self.open.store.write_record(&record)?;
        let before = self.open.board()?.release(None).cloned();
        let mut findings = findings;
        if let Some(before) = &before {
            findings.extend(unchanged_targets(&self.open.store.record(before.id).ok(), &record, &before.name));
        }
        let sealed = Sealed { release: id, name: record.name(), input };
        let event = self.open.record(EventBody::Sealed(sealed), None)?;
        let release = KnownRelease { id, name: record.name(), input, sealed_at: event.recorded_at };
        Ok(Prepared { release, record, cost: Some(cost), before, findings })
    }

    fn take_all<'a>(&self, config: &'a Config) -> Result<Vec<Intake<'a>>, ProjectError> {
        let mut intakes = Vec::new();
        let mut findings = Vec::new();
        for (name, target) in &config.targets {
            match Intake::take(&self.open.project, name, target) {
                Ok(intake) => intakes.push(intake),
                Err(found) => findings.extend(found),
            }
        }
        if stops_in(&findings) > 0 {
            return Err(ProjectError::Findings(findings));
        }
        Ok(intakes)
    }

    fn input(&self, version: &Version, targets: &[TargetRecord]) -> InputDigest {
        let project = &self.open.project;
        Config::input_digest(&project.config().game.identity, project.edition(), version, targets)
    }

    /// Returns the release that the very same input made before, if it is still whole in the store.
    fn known(&self, version: &Version, targets: &[TargetRecord]) -> Result<Option<KnownRelease>, ProjectError> {
        let input = self.input(version, targets);
        let board = self.open.board()?;
        let Some(known) = board.releases.iter().rev().find(|r| r.input == input) else {
            return Ok(None);
        };
        let store = &self.open.store;
        let record = store.record(known.id);
        let whole = record.is_ok_and(|record| record.depots().all(|(_, depot)| store.manifest_of(depot.tree).is_ok()));
        Ok(whole.then(|| known.clone()))
    }

    fn nothing_new(&self, release: KnownRelease, findings: Vec<Finding>) -> Result<Prepared, ProjectError> {
        let record = self.open.store.record(release.id)?;
        Ok(Prepared { release, record, cost: None, before: None, findings })
    }

    /// Takes the next number, or takes up the one that a break left for the same input.
    fn reserve(&mut self, input: InputDigest) -> Result<BuildNumber, ProjectError> {
        let board = self.open.board()?;
        if let Some(number) = board.reserved.get(&input) {
            return Ok(*number);
        }
        // A record that was lost from the store is made again under its own number.
        if let Some(known) = board.releases.iter().find(|r| r.input == input) {
            return Ok(known.name.number);
        }
        let number = BuildNumber::after(board.highest_number)?;
        self.open.record(EventBody::NumberReserved(NumberReserved { number, input }), None)?;
        Ok(number)
    }
}

/// Forgetting to export for one system is a common slip: the others changed, and this one is as it was.
fn unchanged_targets(before: &Option<ReleaseRecord>, now: &ReleaseRecord, name: &ReleaseName) -> Vec<Finding> {
    let was = |target: &TargetRecord| {
        let same = before.iter().flat_map(|b| &b.targets).find(|t| t.target == target.target);
        same.is_some_and(|t| t.tree == target.tree)
    };
    if now.targets.iter().all(was) {
        return Vec::new();
    }
    let forgotten = now.targets.iter().filter(|target| was(target));
    forgotten
        .map(|target| {
            let what = format!("{} is exactly what it was in {name}, although others changed", target.target);
            Finding::warns("target-unchanged", what, "was it exported anew? If so, all is well")
        })
        .collect()
}

/// One depot for each target, of its name.
fn describe(intakes: &[Intake<'_>], trees: &[Tree]) -> Vec<TargetRecord> {
    let pairs = intakes.iter().zip(trees);
    pairs
        .map(|(intake, tree)| {
            let id = tree.id();
            TargetRecord {
                target: intake.name.clone(),
                systems: intake.systems.clone(),
                starts: intake.starts.clone(),
                tree: id,
                depots: vec![DepotRecord {
                    depot: intake.name.clone(),
                    tree: id,
                    files: tree.file_count(),
                    size: tree.size(),
                }],
            }
        })
        .collect()
}
