//! `check`: every finding about the exports, without making anything.

mod against;
mod content;
mod looked;
mod told;

use std::collections::BTreeMap;

use jiff::civil::Date;
use lantern_core::config::Accept;
use lantern_core::finding::{Finding, Severity};
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::progress::Progress;
use lantern_core::system::System;
use lantern_store::seal::SourceEntry;

use self::looked::Memory;
use self::told::{Key, Told};
use crate::inspect::inspect_intake;
use crate::intake::Intake;
use crate::project::Project;
use crate::seen::Seen;
use crate::{ProjectError, outside};

/// An export that could be taken in.
#[derive(Debug, Clone)]
pub struct CheckedTarget {
    /// The edition that it is of.
    pub edition: Name,
    /// The target.
    pub target: Name,
    /// Where it lies, from the project's folder.
    pub export: String,
    /// What it is for.
    pub systems: Vec<System>,
    /// What starts it.
    pub starts: Vec<String>,
    /// Files, after the rules.
    pub files: u64,
    /// Their size, in bytes.
    pub size: u64,
}

/// What checking found.
#[derive(Debug, Clone, Default)]
pub struct Checked {
    /// The targets that could be taken in.
    pub targets: Vec<CheckedTarget>,
    /// Each finding, with the target that it is about where there is one.
    pub findings: Vec<(Option<Name>, Finding)>,
    /// Findings that are meant to be so, with the reason.
    pub accepted: Vec<(Option<Name>, Finding, String)>,
}

impl Project {
    /// Lists, looks into and divides the exports of all editions that are meant; writes nothing of its own.
    ///
    /// # Errors
    /// [`ProjectError::Stopped`].
    pub fn check(&self, progress: &dyn Progress) -> Result<Checked, ProjectError> {
        let mut checked = Checked::default();
        let mut memory = self.memory();
        checked.findings.extend(self.config_findings().iter().map(|finding| (None, finding.clone())));
        for edition in self.editions() {
            let divided = self.divide(&edition);
            let mut versions = Vec::new();
            let past = against::Past::load(self, &edition).unwrap_or_else(|error| {
                let what = format!("nothing was compared with the releases before: {error}");
                let cures = error.cures();
                let cure = cures.first().map_or("lantern verify says more", String::as_str);
                checked.findings.push((None, Finding::warns("past-unread", what, cure)));
                against::Past::default()
            });
            for intake in &divided.intakes {
                let sources = || intake.entries().iter().map(|e| &e.source);
                checked.targets.push(CheckedTarget {
                    edition: edition.clone(),
                    target: intake.name.clone(),
                    export: intake.found_at().to_owned(),
                    systems: intake.systems.clone(),
                    starts: intake.starts.iter().map(|start| start.file.shown()).collect(),
                    files: sources().filter(|s| s.is_file()).count() as u64,
                    size: sources().map(SourceEntry::size).sum(),
                });
                let (mut found, seen) = self.look_into(&edition, intake, &mut memory, progress)?;
                found.extend(past.findings(intake, progress));
                found.extend(past.number_finding(intake, seen.number.as_deref()));
                versions.extend(seen.version.clone().map(|version| (version, intake.name.clone())));
                found.extend(console_window(&seen));
                checked.findings.extend(found.into_iter().map(|finding| (Some(intake.name.clone()), finding)));
            }
            let seen = Seen::load(&self.state("cache/seen.json"));
            checked.findings.extend(past.forgotten(&divided.intakes, &seen).map(|finding| (None, finding)));
            if let Ok(version) = self.version(&edition) {
                let finding = past.version_findings(&version, &divided.intakes);
                let finding = finding.map(|finding| finding.at(self.place_of(&["game", "version"])));
                checked.findings.extend(finding.map(|finding| (None, finding)));
            }
            let differ = self.other_versions(&edition, &versions).into_iter();
            checked.findings.extend(differ.map(|finding| (None, finding)));
            checked.findings.extend(divided.findings);
        }
        if let Err(error) = memory.save() {
            let what = format!("what was looked at is not remembered, and read again next time: {error}");
            checked.findings.push((None, Finding::note("not-remembered", what)));
        }
        self.accept(&mut checked, today());
        Ok(checked)
    }

    /// What stops an edition's exports beyond what keeps them from being taken in: found by looking into them.
    ///
    /// # Errors
    /// [`ProjectError::Findings`] with all of it, and [`ProjectError::Stopped`].
    pub(crate) fn refuse_wrong(
        &self,
        edition: &Name,
        intakes: &[Intake<'_>],
        progress: &dyn Progress,
    ) -> Result<(), ProjectError> {
        let mut checked = Checked::default();
        let mut memory = self.memory();
        for intake in intakes {
            let (found, _) = self.look_into(edition, intake, &mut memory, progress)?;
            checked.findings.extend(found.into_iter().map(|finding| (Some(intake.name.clone()), finding)));
        }
        // It saves time alone.
        if let Err(error) = memory.save() {
            log::warn!("what was looked at is not remembered: {error}");
        }
        self.accept(&mut checked, today());
        let stops = checked.findings.into_iter().map(|(_, finding)| finding);
        let stops: Vec<Finding> = stops.filter(|finding| finding.severity == Severity::Stops).collect();
        if stops.is_empty() { Ok(()) } else { Err(ProjectError::Findings(stops)) }
    }

    /// What was looked into before. Where nothing was ever prepared, a check leaves nothing behind.
    fn memory(&self) -> Memory {
        Memory::load(&self.state("cache/looked.json"), self.has_ledger())
    }

    /// Looks into one export; returns what was found, and what the build says of itself.
    fn look_into(
        &self,
        edition: &Name,
        intake: &Intake<'_>,
        memory: &mut Memory,
        progress: &dyn Progress,
    ) -> Result<(Vec<Finding>, Told), ProjectError> {
        let target = format!("{edition}/{}", intake.name);
        let key = Key::of_all(intake);
        let seen = match key.and_then(|key| memory.told(&target, key)) {
            Some(told) => told,
            None => {
                let told = Told::of(inspect_intake(self.root(), intake, progress)?);
                key.into_iter().for_each(|key| memory.tell(&target, key, &told));
                told
            }
        };
        let mut findings = self.identity_of(edition, intake.name, &seen);
        findings.extend(seen.findings.iter().cloned());
        let others = self.names_of_others(edition);
        findings.extend(content::findings(edition, intake, self.root(), &others, memory, progress)?);
        Ok((findings, seen))
    }

    /// Holds the versions that builds say of themselves against the one that is written here: one finding for each.
    fn other_versions(&self, edition: &Name, versions: &[(String, Name)]) -> Vec<Finding> {
        let Ok(configured) = self.version(edition) else { return Vec::new() };
        let mut by_version: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        let others = versions.iter().filter(|(inside, _)| plain(inside) != plain(configured.as_str()));
        for (inside, target) in others {
            by_version.entry(inside).or_default().push(target.as_str());
        }
        let finding = |(inside, targets): (&str, Vec<&str>)| {
            let calls = if targets.len() == 1 { "calls itself" } else { "call themselves" };
            let what = format!("{} {calls} {}, lantern.toml says {configured}", targets.join(", "), shown(inside));
            let cure = "raise the version in the engine and export again, or mend lantern.toml";
            Finding::warns("version-differs", what, cure).at(self.place_of(&["game", "version"]))
        };
        by_version.into_iter().map(finding).collect()
    }

    /// What other editions are called by systems and places, with what it is; nothing that this one is called, too.
    fn names_of_others(&self, edition: &Name) -> Vec<(String, String)> {
        let config = self.config();
        let editions = config.editions.iter().map(|(name, edition)| (name, edition.identity.as_str()));
        let full = Name::full_edition();
        let identities = editions.chain([(&full, config.game.identity.as_str())]);
        let identities = identities.map(|(name, text)| (name.clone(), text.to_owned(), "the identity".to_owned()));
        let places = config.storefronts.iter().flat_map(|(place, storefront)| {
            let handles = storefront.handles.iter();
            handles
                .map(move |(name, handle)| (name.clone(), handle.as_str().to_owned(), format!("the handle at {place}")))
        });
        let all: Vec<(Name, String, String)> = identities.chain(places).collect();
        let own: Vec<&String> = all.iter().filter(|(name, ..)| name == edition).map(|(_, text, _)| text).collect();
        // A single word may stand anywhere by chance.
        let is_name = |text: &str| text.contains(['-', '.', '_']);
        let others = all.iter().filter(|(name, text, _)| name != edition && !own.contains(&text) && is_name(text));
        others.map(|(name, text, what)| (text.clone(), format!("{what} of the edition {name}"))).collect()
    }

    /// Holds the identity that a build says it has against what is written here.
    fn identity_of(&self, edition: &Name, target: &Name, seen: &Told) -> Vec<Finding> {
        let mut findings = Vec::new();
        let identity = self.identity(edition);
        if let Some(inside) = seen.identity.as_deref().filter(|inside| *inside != identity.as_str()) {
            let others = self.config().editions.iter();
            let other = others.filter(|(name, _)| *name != edition).find(|(_, e)| e.identity.as_str() == inside);
            findings.push(match other {
                Some((other, _)) => {
                    let what = format!("{target} has the identity of the edition {other}: {}", shown(inside));
                    Finding::stops("other-edition", what, "name the export of the right edition")
                }
                None => {
                    let what = format!("{target} calls itself {}, lantern.toml says {identity}", shown(inside));
                    Finding::warns(
                        "identity-differs",
                        what,
                        "mend it in the engine and export again, or in lantern.toml",
                    )
                }
            });
        }
        findings
    }

    /// Takes out what is meant to be so, as long as it is; says what was accepted in vain.
    fn accept(&self, checked: &mut Checked, today: Date) {
        let accepts = &self.config().accept;
        let mut is_used = vec![false; accepts.len()];
        let is_over = |accept: &Accept| accept.until.is_some_and(|until| until < today);
        let findings = std::mem::take(&mut checked.findings);
        for (target, finding) in findings {
            let found = accepts.iter().position(|accept| accept.is_about(target.as_ref(), &finding));
            match found {
                Some(at) if finding.place.is_none() || finding.severity != Severity::Stops => {
                    is_used[at] = true;
                    if is_over(&accepts[at]) {
                        checked.findings.push((target, finding));
                    } else {
                        checked.accepted.push((target, finding, accepts[at].because.clone()));
                    }
                }
                _ => checked.findings.push((target, finding)),
            }
        }
        for (accept, is_used) in accepts.iter().zip(is_used) {
            let finding = match (is_used, accept.until) {
                (true, Some(until)) if is_over(accept) => {
                    let what = format!("{} was accepted until {until}: {}", accept.code, shown(&accept.because));
                    Finding::warns("accept-over", what, "mend it, or move the day")
                }
                (false, _) => {
                    let what = format!("{} is accepted and not there", accept.code);
                    Finding::warns("accept-unused", what, "remove it from [checks]")
                }
                _ => continue,
            };
            checked.findings.push((None, finding.at(self.place_of(&["checks", "accept"]))));
        }
    }
}

/// What a Windows game is reported as that opens a console window beside itself.
fn console_window(seen: &Told) -> Option<Finding> {
    let what = format!("{} opens a console window beside the game", seen.opens_console.as_ref()?);
    Some(Finding::warns("console-window", what, "is it a developer's build? Export a release build"))
}

/// This computer's day.
fn today() -> Date {
    outside::now().to_zoned(jiff::tz::TimeZone::system()).date()
}

/// A version as it is compared: `1, 4, 0, 0` and `1.4.0.0` are `1.4.0`.
fn plain(version: &str) -> String {
    let parts: Vec<&str> = version.split([',', '.']).map(str::trim).collect();
    let len = parts.iter().rposition(|part| *part != "0").map_or(1, |last| last + 1);
    parts[..len].join(".")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_as_they_are_compared() {
        assert_eq!(plain("1, 4, 0, 0"), plain("1.4"));
        assert_eq!(plain("1.4.0"), plain("1.4.0.0"));
        assert_ne!(plain("1.4.0"), plain("1.4.0.1"));
        assert_ne!(plain("1.4.0-rc"), plain("1.4.0"));
        assert_eq!(plain("0.0"), "0");
    }
}
