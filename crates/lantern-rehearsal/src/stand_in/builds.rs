//! Builds: made when everything has arrived, and taken away for good.

use lantern_core::digest::ReleaseId;
use lantern_core::event::EventId;
use lantern_core::names::{Handle, Name};
use lantern_core::release::{MAX_RECORD_LEN, ReleaseRecord, TargetRecord};
use lantern_core::rules::Push;
use lantern_core::version::ReleaseName;
use lantern_store::recipe::different_chunks;
use lantern_storefront::protocol::{
    Build, BuildDepot, BuildTarget, MAX_TEXT_LEN, NewBuild, Title, WithdrawnBuild, problem,
};
use rusqlite::{OptionalExtension, TransactionBehavior, params};

use super::{CLIENT_ID, StandIn, documents, not_there, refuse_long, text};
use crate::refusal::Refused;

impl StandIn {
    pub(crate) fn builds(&self, title: &Handle) -> Result<Vec<Build>, Refused> {
        self.title(title)?;
        documents(&self.database(), "SELECT document FROM builds WHERE title = $1 ORDER BY build", [title.as_str()])
    }

    pub(crate) fn make_build(&self, title: &Handle, key: EventId, new: &NewBuild) -> Result<Build, Refused> {
        let known = self.title(title)?;
        refuse_long("the record", new.record.len(), MAX_RECORD_LEN)?;
        refuse_long("the message", new.message.as_ref().map_or(0, String::len), MAX_TEXT_LEN)?;
        let notes = new.notes.iter().map(|(language, text)| language.len() + text.len()).sum();
        refuse_long("what is new", notes, lantern_core::notes::MAX_LEN)?;
        let id = ReleaseId::of(new.record.as_bytes());
        let record = ReleaseRecord::decode(new.record.as_bytes())
            .map_err(|e| Refused::new(problem::MALFORMED, format!("the release record: {e}"), "send it again"))?;
        if record.game != known.identity {
            let detail = format!("the title {title} belongs to {}, the release to {}", known.identity, record.game);
            return Err(Refused::new(problem::RULES, detail, "fix the handle in lantern.toml, or the identity"));
        }
        let wanted = |target: &&TargetRecord| new.targets.is_empty() || new.targets.contains(&target.target);
        let records: Vec<&TargetRecord> = record.targets.iter().filter(wanted).collect();
        if records.is_empty() {
            let detail = "the release has none of the targets that are named";
            return Err(Refused::new(problem::MALFORMED, detail, "name targets of the record"));
        }
        let targets = self.build_targets(&known, &records, new)?;
        let mut database = self.database();
        let transaction = database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let builds: Vec<Build> =
            documents(&transaction, "SELECT document FROM builds WHERE title = $1 ORDER BY build", [title.as_str()])?;
        if let Some(same) = builds.iter().find(|b| b.release == id && b.targets == targets) {
            let mut same = same.clone();
            self.with_all_updates(title, &mut same)?;
            return Ok(same);
        }
        let there: Vec<ReleaseName> = builds.iter().filter(|b| b.release != id).map(|b| b.name.clone()).collect();
        let push = Push { number: record.number, targets: &records, there: &there, notes: &new.notes };
        let refusals = self.rules().refuse_push(&push);
        if !refusals.is_empty() {
            return Err(Refused::by_rules(refusals));
        }
        let mut build = Build {
            number_there: builds.last().map_or(1, |b| b.number_there + 1),
            release: id,
            name: record.name(),
            name_there: new.name_there.clone(),
            message: new.message.clone(),
            notes: new.notes.clone(),
            made_at: self.now(),
            made_by: CLIENT_ID.to_owned(),
            targets,
            key: Some(key),
            withdrawn: None,
        };
        let sql = "INSERT INTO builds VALUES ($1, $2, $3, $4, $5)";
        let number = build.name.number.get();
        transaction.execute(sql, params![title.as_str(), build.number_there, id.to_string(), number, text(&build)?])?;
        let sql = "INSERT INTO records VALUES ($1, $2, $3) ON CONFLICT DO NOTHING";
        transaction.execute(sql, params![title.as_str(), id.to_string(), new.record])?;
        self.note(&transaction, title, "build-made", build.number_there, None)?;
        transaction.commit()?;
        self.with_all_updates(title, &mut build)?;
        Ok(build)
    }

    /// Returns the exact text of the record that a build was made of.
    pub(crate) fn record(&self, title: &Handle, build: u64) -> Result<String, Refused> {
        self.title(title)?;
        let sql =
            "SELECT records.record FROM records JOIN builds USING (title, release) WHERE title = $1 AND build = $2";
        let found = self.database().query_row(sql, params![title.as_str(), build], |row| row.get(0)).optional()?;
        found.ok_or_else(|| {
            Refused::new(
                problem::NOT_FOUND,
                format!("there is no record of a build {build}"),
                "read the list of builds",
            )
        })
    }

    /// Checks that everything a build needs has arrived, and writes the locators that players will ask for.
    fn build_targets(
        &self,
        title: &Title,
        records: &[&TargetRecord],
        new: &NewBuild,
    ) -> Result<std::collections::BTreeMap<Name, BuildTarget>, Refused> {
        let store = self.store(&title.handle);
        let mut targets = std::collections::BTreeMap::new();
        for target in records {
            let mut depots = Vec::new();
            for depot in &target.depots {
                let incomplete = |detail: String| Refused::new(problem::INCOMPLETE, detail, "push again");
                let stated = new.depots.iter().find(|d| d.depot == depot.depot);
                let stated = stated.ok_or_else(|| incomplete(format!("the depot {} is missing", depot.depot)))?;
                if !title.depots.contains(&stated.handle) {
                    let detail = format!("the title {} has no depot {:?}", title.handle, stated.handle.as_str());
                    return Err(Refused::new(problem::NOT_FOUND, detail, "make the depot first, or fix its handle"));
                }
                let (root, entries) = store.recipe(stated.recipe).map_err(not_there)?;
                if root.tree != depot.tree || root.size != depot.size {
                    let detail = format!("the recipe of the depot {} gives another tree than its record", depot.depot);
                    return Err(Refused::new(problem::DAMAGED, detail, "prepare and push again"));
                }
                let chunks = different_chunks(&entries);
                let found = self.find_chunks(&title.handle, &chunks)?;
                if found.len() < chunks.len() {
                    let missing = chunks.len() - found.len();
                    return Err(incomplete(format!("{missing} chunks of the depot {} never came", depot.depot)));
                }
                store.write_locators(&root, &entries, &found, &std::collections::BTreeSet::new())?;
                depots.push(BuildDepot {
                    depot: depot.depot.clone(),
                    players: depot.players.clone(),
                    handle: stated.handle.clone(),
                    recipe: stated.recipe,
                    files: depot.files,
                    size: depot.size,
                    updates: Vec::new(),
                });
            }
            let (systems, starts, folder) = (target.systems.clone(), target.starts.clone(), target.folder.clone());
            let choices = target.choices.clone();
            targets.insert(target.target.clone(), BuildTarget { systems, starts, folder, depots, choices });
        }
        Ok(targets)
    }

    /// Takes a build away for good.
    pub(crate) fn withdraw_build(&self, title: &Handle, build: u64, because: &str) -> Result<Build, Refused> {
        self.title(title)?;
        refuse_long("the reason", because.len(), MAX_TEXT_LEN)?;
        let mut database = self.database();
        let transaction = database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let sql = "SELECT document FROM builds WHERE title = $1 AND build = $2";
        let found: Vec<Build> = documents(&transaction, sql, params![title.as_str(), build])?;
        let mut found = found.into_iter().next().ok_or_else(|| {
            Refused::new(problem::NOT_FOUND, format!("there is no build {build}"), "read the list of builds")
        })?;
        if found.withdrawn.is_none() {
            let (at, by) = (self.now(), CLIENT_ID.to_owned());
            found.withdrawn = Some(WithdrawnBuild { because: because.to_owned(), at, by });
            // The library numbers such parameters by where each stands first.
            let sql = "UPDATE builds SET document = $1 WHERE title = $2 AND build = $3";
            transaction.execute(sql, params![text(&found)?, title.as_str(), build])?;
            self.note(&transaction, title, "build-withdrawn", build, None)?;
        }
        transaction.commit()?;
        self.with_all_updates(title, &mut found)?;
        Ok(found)
    }
}
