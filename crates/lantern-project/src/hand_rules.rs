//! What the studio wrote about a storefront by hand, and what people said of it.

use std::collections::{BTreeMap, BTreeSet};

use lantern_core::board::Board;
use lantern_core::by_hand::{Around, HandRules, MAX_RULES_LEN, StepRule};
use lantern_core::config::{HandStorefront, Storefront};
use lantern_core::digest::ReleaseId;
use lantern_core::event::{BranchFacts, EventBody, StorefrontRef, TitleKey};
use lantern_core::finding::{Code, Finding};
use lantern_core::names::{Handle, Name};
use lantern_core::notes::{Notes, UNDETERMINED};
use lantern_core::release::TargetRecord;
use lantern_core::rules::{BranchRule, Branches, HouseRules};
use lantern_core::step::Step;
use lantern_core::template::{Template, Values};
use lantern_core::walk;
use lantern_store::durable;
use lantern_storefront::protocol::{Branch, Build, BuildDepot, BuildTarget, Moved, Title, WithdrawnBuild};
use lantern_storefront::{SaidThere, StorefrontFacts};

use crate::ProjectError;
use crate::project::Project;
use crate::workspace::Workspace;

/// Returns the title of an edition at a storefront by hand; none where it has no handle.
pub(crate) fn title_of(name: &Name, handles: &BTreeMap<Name, Handle>, edition: &Name) -> Option<TitleKey> {
    handles.get(edition).map(|handle| TitleKey { storefront: StorefrontRef::id_by_hand(name), handle: handle.clone() })
}

impl Project {
    /// Reads the rules of a storefront by hand.
    ///
    /// # Errors
    /// [`ProjectError::Config`] with every finding, [`ProjectError::File`].
    pub(crate) fn hand_rules(
        &self,
        name: &Name,
        configured: &Storefront,
        hand: &HandStorefront,
    ) -> Result<HandRules, ProjectError> {
        let goes = |edition: &Name, target: &Name| configured.handles.contains_key(edition) && configured.takes(target);
        let targets = self.config().targets.iter().filter(|(target, of)| goes(&of.edition, target));
        let targets: BTreeSet<Name> = targets.map(|(target, _)| target.clone()).collect();
        let around = Around { targets: &targets, values: &hand.values };
        let Some(file) = &hand.rules else { return Ok(HandRules::plain(around)) };
        let wrong = |what: String, fix: &str| {
            let at = self.place_of(&["storefronts", name.as_str(), "rules"]);
            ProjectError::Config(vec![Finding::of(Code::RulesMissing, what, fix).at(at)])
        };
        let bytes = match durable::read_limited(&self.root().join(file), MAX_RULES_LEN) {
            Ok(bytes) => bytes,
            Err(error) => {
                let fix = match error.source.kind() {
                    std::io::ErrorKind::NotFound => format!("write it: lantern storefronts new {name}"),
                    _ => "name a file of rules here: docs/by-hand.md".to_owned(),
                };
                return Err(wrong(format!("{file} cannot be read: {}", error.source), &fix));
            }
        };
        let text = String::from_utf8(bytes)
            .map_err(|_| wrong(format!("{file} is not UTF-8"), "save it as UTF-8 with your editor"))?;
        HandRules::read(file, &text, around).map_err(ProjectError::Config)
    }
}

/// The moves of each branch, oldest first.
type Moves = BTreeMap<Name, Vec<Moved>>;

/// The moves of each branch of a title, as people said them.
fn written_moves(board: &Board, title: &TitleKey) -> Moves {
    let branches = board.branches.keys().filter(|(of, _)| of == title);
    let moves = branches.map(|key| {
        let said = board.moves_by_hand(key).into_iter().map(|said| Moved {
            facts: said.facts,
            key: said.word.key.unwrap_or(said.word.id),
            restores: said.restores,
            because: said.word.because.clone(),
        });
        (key.1.clone(), said.collect())
    });
    moves.collect()
}

/// A storefront by hand, with its rules.
pub(crate) struct Hand {
    /// What the configuration says of it.
    pub configured: HandStorefront,
    /// What the studio wrote about it.
    pub rules: HandRules,
}

impl Hand {
    /// Its name for people.
    pub fn name(&self, ours: &Name) -> String {
        self.rules.name.clone().unwrap_or_else(|| ours.to_string())
    }

    /// Adds what every step of this storefront can name.
    pub fn add_values(&self, ours: &Name, notes: &Notes, values: &mut Values) {
        values.set("storefront.name", self.name(ours));
        values.set("storefront.address", self.rules.address.clone().unwrap_or_default());
        for (key, text) in &self.configured.values {
            values.set(format!("values.{key}"), text);
        }
        let steps = &self.rules.steps;
        let all = [&steps.push, &steps.promote, &steps.rollback, &steps.withdraw];
        for language in all.into_iter().flatten().flat_map(languages) {
            let of = |wanted: &str| notes.iter().find(|(known, _)| *known == wanted).map(|(_, text)| text);
            let text = of(&language).or_else(|| of(UNDETERMINED)).unwrap_or_default();
            values.set(format!("notes.{language}"), text);
        }
    }

    /// The steps for one release, in the order in which they are done.
    pub fn steps(&self, rules: &[StepRule], values: &Values) -> Vec<Step> {
        let account = |rule: &StepRule| rule.by.as_ref().and_then(|role| self.configured.people.get(role)).cloned();
        let wait = self.rules.usual_wait.and_then(|wait| u64::try_from(wait.as_secs()).ok());
        let filled = rules.iter().map(|rule| {
            let mut step = rule.filled(values, account(rule).as_deref());
            if step.waits {
                step.takes = step.takes.or(wait);
            }
            step
        });
        walk::in_order(filled.collect(), self.rules.one_at_a_time)
    }
}

/// The languages whose notes a step names.
fn languages(step: &StepRule) -> Vec<String> {
    let templates = std::iter::once(&step.text).chain(&step.open).chain(step.paste.iter().map(|(_, text)| text));
    let names = templates.flat_map(Template::names);
    names.filter_map(|name| name.strip_prefix("notes.")).map(str::to_owned).collect()
}

impl Workspace {
    /// Returns what people said of a title, as any storefront would say it.
    ///
    /// # Errors
    /// Those of the ledger and the store.
    pub(crate) fn said_there(
        &self,
        edition: &Name,
        name: &Name,
        configured: &Storefront,
        (hand, handle): (&Hand, &Handle),
    ) -> Result<SaidThere, ProjectError> {
        let board = self.board(edition)?;
        let key = TitleKey { storefront: StorefrontRef::id_by_hand(name), handle: handle.clone() };
        let moves = written_moves(&board, &key);
        let known = board.branches.iter().filter(|((of, _), _)| *of == key).map(|((_, branch), facts)| (branch, facts));
        let known: BTreeMap<&Name, &BranchFacts> = known.collect();
        let written = hand.rules.branches.clone().unwrap_or_else(|| Branches {
            fixed: configured
                .branches
                .iter()
                .map(|(name, audience)| BranchRule { name: name.clone(), audience: *audience, carried: None })
                .collect(),
        });
        let branches = written.fixed.iter().map(|rule| {
            let nothing = || BranchFacts {
                branch: rule.name.clone(),
                revision: 0,
                since: None,
                by: None,
                targets: BTreeMap::new(),
            };
            Branch { audience: rule.audience, facts: known.get(&rule.name).map_or_else(nothing, |f| (*f).clone()) }
        });
        Ok(SaidThere {
            facts: StorefrontFacts { id: key.storefront.clone(), name: hand.name(name), now: None },
            branches: branches.collect(),
            rules: HouseRules::written(
                hand.rules.accepted.clone(),
                hand.rules.numbers.clone(),
                written,
                hand.rules.notes_max,
            ),
            title: Title {
                handle: handle.clone(),
                name: self.project.edition_name(edition).to_owned(),
                identity: self.project.identity(edition).clone(),
                depots: Vec::new(),
            },
            builds: self.builds_there(&board, &key)?,
            moves,
        })
    }

    /// The builds of a title, oldest first.
    fn builds_there(&self, board: &Board, key: &TitleKey) -> Result<Vec<Build>, ProjectError> {
        let mut builds: BTreeMap<(u64, ReleaseId), Build> = BTreeMap::new();
        let mut withdrawn: BTreeMap<ReleaseId, WithdrawnBuild> = BTreeMap::new();
        let is_there = |number: u64| board.pushed.iter().any(|p| p.storefront.is_at(key) && p.number_there == number);
        for event in self.events()? {
            let (at, made_by) = (event.happened_at.unwrap_or(event.recorded_at), event.actor);
            let build = match event.body {
                EventBody::Pushed(pushed) if pushed.storefront.is_at(key) && is_there(pushed.number_there) => Build {
                    number_there: pushed.number_there,
                    release: pushed.release,
                    name: pushed.name,
                    name_there: pushed.name_there,
                    message: pushed.message,
                    notes: pushed.notes,
                    made_at: at,
                    made_by,
                    targets: self.targets_of(&pushed.targets, pushed.release),
                    key: pushed.key,
                    withdrawn: None,
                },
                EventBody::Adopted(adopted) if adopted.storefront.is_at(key) => Build {
                    number_there: adopted.number_there,
                    release: adopted.release,
                    name: adopted.name,
                    name_there: None,
                    message: None,
                    notes: Notes::default(),
                    made_at: adopted.since.unwrap_or(at),
                    made_by,
                    targets: self.targets_of(&adopted.targets, adopted.release),
                    key: None,
                    withdrawn: None,
                },
                EventBody::Withdrawn(done) if done.storefront.as_ref().is_some_and(|s| s.is_at(key)) => {
                    let by = WithdrawnBuild { because: done.because, at, by: made_by };
                    withdrawn.entry(done.release).or_insert(by);
                    continue;
                }
                _ => continue,
            };
            builds.insert((build.number_there, build.release), build);
        }
        let mut builds: Vec<Build> = builds.into_values().collect();
        for build in &mut builds {
            build.withdrawn = withdrawn.get(&build.release).cloned();
        }
        builds.sort_by_key(|build| build.made_at);
        Ok(builds)
    }

    /// What is known here of the targets that were carried somewhere.
    fn targets_of(&self, names: &[Name], release: ReleaseId) -> BTreeMap<Name, BuildTarget> {
        let record = self.store.record(release).ok();
        let of = |name: &Name| record.as_ref().and_then(|record| record.targets.iter().find(|t| t.target == *name));
        names
            .iter()
            .map(|name| (name.clone(), of(name).map_or_else(unknown_target, |t| self.build_target(t))))
            .collect()
    }

    fn build_target(&self, target: &TargetRecord) -> BuildTarget {
        let depots = target.depots.iter().filter_map(|depot| {
            Some(BuildDepot {
                depot: depot.depot.clone(),
                handle: depot.depot.as_str().parse().ok()?,
                recipe: self.store.recipe_of(depot.tree).ok()?,
                players: depot.players.clone(),
                files: depot.files,
                size: depot.size,
                updates: Vec::new(),
            })
        });
        BuildTarget {
            systems: target.systems.clone(),
            starts: target.starts.clone(),
            folder: target.folder.clone(),
            depots: depots.collect(),
            choices: target.choices.clone(),
        }
    }
}

/// A target of a release whose record is not here.
fn unknown_target() -> BuildTarget {
    BuildTarget {
        systems: Vec::new(),
        starts: Vec::new(),
        folder: None,
        depots: Vec::new(),
        choices: Default::default(),
    }
}
