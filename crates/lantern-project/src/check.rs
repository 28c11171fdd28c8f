//! `check`: every finding about the exports, without making anything.

mod compare;

use std::collections::BTreeMap;

use jiff::civil::Date;
use lantern_core::config::Accept;
use lantern_core::event::AcceptedFinding;
use lantern_core::finding::{Code, Finding, Severity};
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::progress::Progress;
use lantern_core::release::{Claims, is_same_version};
use lantern_core::system::System;
use lantern_core::version::{ReleaseName, Version};
use lantern_exports::WindowsProgram;
use lantern_exports::cache::{DIGESTS, DigestCache, ScanCache};
use lantern_exports::claims::TargetClaims;
use lantern_exports::export::Form;
use lantern_exports::gather::{Asked, Gathered, gather};
use lantern_exports::intake::Intake;
use lantern_store::seal::{SealError, SourceEntry};

use self::compare::stamp_hint;
pub(crate) use self::compare::{PastReleases, forgotten, number_differs};
use crate::divided::Divided;
use crate::project::Project;
use crate::sign_files::Signs;
use crate::{ProjectError, environment};

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

/// Findings, each with the target that it is about where there is one.
type Findings = Vec<(Option<Name>, Finding)>;

/// For what exports are judged.
#[derive(Clone, Copy, Default)]
pub(crate) struct JudgedFor<'a> {
    /// The version that they get, where it is not the configured one.
    pub version: Option<&'a Version>,
    /// Whether nothing is to be signed.
    pub unsigned: bool,
}

/// What looking into an edition's exports found.
#[derive(Debug, Default)]
pub(crate) struct Judged {
    pub findings: Vec<(Option<Name>, Finding)>,
    /// What each target's build says of itself.
    pub claims: BTreeMap<Name, Claims>,
    /// The programs and libraries for Windows in each of them.
    pub windows: BTreeMap<Name, Vec<WindowsProgram>>,
    /// What was found and is meant to be so.
    pub accepted: Vec<AcceptedFinding>,
}

/// What is wrong with a storefront's rules.
fn findings_of(error: ProjectError) -> Vec<Finding> {
    match error {
        ProjectError::Config(findings) => findings,
        other => vec![Finding::of(Code::RulesMissing, other.to_string(), "check the file that rules = \"…\" names")],
    }
}

/// What is found of a signature for macOS or iOS, which another one takes the place of: what is wrong with that is found by itself.
const OF_A_SIGNATURE: [Code; 5] =
    [Code::BrokenSignature, Code::OtherSigner, Code::TicketMismatch, Code::NoProfile, Code::ProfileMismatch];

impl Project {
    /// Lists, looks into and divides the exports of all editions that are meant; writes nothing of its own.
    ///
    /// # Errors
    /// [`ProjectError::Stopped`].
    pub fn check(&self, progress: &dyn Progress) -> Result<Checked, ProjectError> {
        let mut checked = Checked::default();
        let mut cache = self.scan_cache();
        checked.findings.extend(self.config_findings().iter().map(|finding| (None, finding.clone())));
        for edition in self.editions() {
            let divided = self.divide(&edition);
            let past = PastReleases::load(self, &edition).unwrap_or_else(|error| {
                let what = format!("nothing was compared with the releases before: {error}");
                let fixes = error.fixes();
                let fix = fixes.first().map_or("lantern verify shows details", String::as_str);
                checked.findings.push((None, Finding::of(Code::HistoryUnreadable, what, fix)));
                PastReleases::default()
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
            }
            let mut digests = DigestCache::load(&self.state(DIGESTS), environment::now_of_files());
            let is_sealed = past.is_sealed(&divided, &digests, self.version(&edition).ok().as_ref());
            let judged = self.judge(&edition, JudgedFor::default(), &divided, &past, &mut cache, progress)?;
            if !is_sealed {
                let differ =
                    judged.claims.iter().filter_map(|(target, claims)| past.other_number(self, target, claims));
                checked.findings.extend(differ.map(|(target, finding)| (Some(target), finding)));
            }
            checked.findings.extend(judged.findings);
            checked.findings.extend(past.forgotten(&divided.intakes, &digests).map(|finding| (None, finding)));
            if let Ok(version) = self.version(&edition) {
                let is_other = || divided.intakes.iter().any(|intake| past.is_other(intake));
                let finding = past.version_finding(&version, is_other);
                let finding = finding.map(|finding| finding.at(self.place_of(&["game", "version"])));
                checked.findings.extend(finding.map(|finding| (None, finding)));
            }
            let differ = self.differing_content(&divided, |parcel| {
                let intake = &divided.intakes[parcel.from];
                match digests.tree_without_reading(intake, &parcel.indices) {
                    Some(tree) => Ok(tree),
                    None => Ok(digests.tree_by_reading(intake, &parcel.indices, progress)?),
                }
            });
            // A file that cannot be read has a finding of its own.
            match differ {
                Ok(findings) => checked.findings.extend(findings.into_iter().map(|finding| (None, finding))),
                Err(ProjectError::Seal(SealError::Read { .. })) => {}
                Err(error) => return Err(error),
            }
            checked.findings.extend(divided.findings);
        }
        for (name, at) in &self.config().storefronts {
            let rules = at.by_hand().map(|hand| self.hand_rules(name, at, hand));
            if let Some(Err(error)) = rules {
                checked.findings.extend(findings_of(error).into_iter().map(|finding| (None, finding)));
            }
        }
        if let Err(error) = cache.save() {
            let what = format!("scan results were not cached, and files are read again next time: {error}");
            checked.findings.push((None, Finding::note(Code::CacheNotWritten, what)));
        }
        self.accept(&mut checked, environment::today());
        Ok(checked)
    }

    /// Looks into an edition's exports and compares them with the releases before; what keeps them from being taken in is
    /// not in it.
    fn judge(
        &self,
        edition: &Name,
        JudgedFor { version, unsigned }: JudgedFor<'_>,
        divided: &Divided<'_>,
        past: &PastReleases,
        cache: &mut ScanCache,
        progress: &dyn Progress,
    ) -> Result<Judged, ProjectError> {
        let mut judged = Judged::default();
        let mut versions = Vec::new();
        for intake in &divided.intakes {
            let (mut found, gathered) = self.examine(edition, intake, cache, progress)?;
            let (mut seen, windows) = (gathered.claims, gathered.windows);
            found.extend(self.stamp_findings(intake, &seen.claims, &windows, past));
            if intake.target.stamp {
                // What is written over says nothing.
                (seen.claims.version, seen.claims.number) = (None, None);
            }
            found.extend(past.findings(intake, progress));
            found.extend(past.number_finding(intake, seen.claims.number.as_deref()));
            versions.extend(seen.claims.version.clone().map(|version| (version, intake.name.clone())));
            found.extend(console_window(&seen));
            if intake.target.sign.is_some() && !unsigned {
                // What signing does is not asked for: the signature itself, and that libraries begin where devices read them.
                let is_replaced = |code: Code| Signs::of(intake) == Some(Signs::Code) && OF_A_SIGNATURE.contains(&code);
                found.retain(|finding| {
                    !matches!(
                        finding.code,
                        Code::Unsigned | Code::DebugKey | Code::SignatureSchemeMissing | Code::UnalignedLibrary
                    ) && !is_replaced(finding.code)
                });
                let has_earlier = past.last(intake.name).is_some_and(|(_, last)| last.signer().is_some());
                found.extend(self.key_findings(edition, intake, seen.package_signer.as_ref(), (&windows, has_earlier)));
            }
            judged.findings.extend(found.into_iter().map(|finding| (Some(intake.name.clone()), finding)));
            judged.claims.insert(intake.name.clone(), seen.claims);
            judged.windows.insert(intake.name.clone(), windows);
        }
        let configured = version.cloned().map_or_else(|| self.version(edition), Ok);
        let differ = configured.map(|version| other_versions(self, &version, &versions)).unwrap_or_default();
        judged.findings.extend(differ.into_iter().map(|finding| (None, finding)));
        if !unsigned {
            judged.findings.extend(self.statement_key_findings(edition).into_iter().map(|finding| (None, finding)));
        }
        judged.findings.extend(two_for_one_system(divided).into_iter().map(|finding| (None, finding)));
        Ok(judged)
    }

    /// As [`Self::judge`], with what is accepted taken out, for exports that are about to be sealed.
    ///
    /// # Errors
    /// [`ProjectError::Findings`] with all that stops, and [`ProjectError::Stopped`].
    pub(crate) fn judge_to_seal(
        &self,
        edition: &Name,
        version: &Version,
        divided: &Divided<'_>,
        past: &PastReleases,
        unsigned: bool,
        progress: &dyn Progress,
    ) -> Result<Judged, ProjectError> {
        let mut cache = self.scan_cache();
        let mut judged =
            self.judge(edition, JudgedFor { version: Some(version), unsigned }, divided, past, &mut cache, progress)?;
        // It saves time alone.
        if let Err(error) = cache.save() {
            log::warn!("scan results were not cached: {error}");
        }
        judged.findings.extend(divided.findings.iter().cloned());
        // The very build of the last release has its number; sealing shows whether it is.
        let is_last = |target: &Name, claims: &Claims| {
            let is_it = |last: &ReleaseName| last.version == *version && !claims.is_other_number(last.number);
            past.last(target).is_some_and(|(last, _)| is_it(last))
        };
        let claims = judged.claims.iter().filter(|(target, claims)| !is_last(target, claims));
        let differ = claims.filter_map(|(target, claims)| past.other_number(self, target, claims));
        judged.findings.extend(differ.map(|(target, finding)| (Some(target), finding)).collect::<Vec<_>>());
        (judged.findings, judged.accepted) = self.not_accepted(judged.findings)?;
        Ok(judged)
    }

    /// Takes out of findings what is meant to be so, and returns both.
    ///
    /// # Errors
    /// [`ProjectError::Findings`] with all that stops.
    pub(crate) fn not_accepted(
        &self,
        findings: Vec<(Option<Name>, Finding)>,
    ) -> Result<(Findings, Vec<AcceptedFinding>), ProjectError> {
        let mut checked = Checked { findings, ..Checked::default() };
        self.accept(&mut checked, environment::today());
        // What was accepted in vain says nothing where only some of the findings were looked for.
        checked.findings.retain(|(_, finding)| !matches!(finding.code, Code::AcceptUnused | Code::AcceptTooBroad));
        let is_stop = |finding: &Finding| finding.severity == Severity::Error;
        if checked.findings.iter().any(|(_, finding)| is_stop(finding)) {
            let stops = checked.findings.into_iter().map(|(_, finding)| finding).filter(is_stop);
            return Err(ProjectError::Findings(stops.collect()));
        }
        let accepted = checked.accepted.into_iter().map(|(target, finding, because)| AcceptedFinding {
            code: finding.code.as_str().to_owned(),
            target,
            because,
        });
        Ok((checked.findings, accepted.collect()))
    }

    /// What was looked into before. Where nothing was ever prepared, a check leaves nothing behind.
    fn scan_cache(&self) -> ScanCache {
        ScanCache::load(&self.state("cache/scans.json"), self.has_ledger(), environment::now_of_files())
    }

    /// Looks into one export; returns what was found, and what the build says of itself.
    fn examine(
        &self,
        edition: &Name,
        intake: &Intake<'_>,
        cache: &mut ScanCache,
        progress: &dyn Progress,
    ) -> Result<(Vec<Finding>, Gathered), ProjectError> {
        let others = self.names_of_others(edition);
        let asked = Asked { edition, others: &others, now: environment::now() };
        let mut seen = gather(intake, &asked, cache, progress)?;
        let mut findings = self.identity_of(edition, intake.name, &seen.claims);
        findings.extend(seen.claims.findings.iter().cloned());
        findings.append(&mut seen.findings);
        Ok((findings, seen))
    }

    /// What other editions are called by systems and storefronts, with what it is; nothing that this one is called, too.
    fn names_of_others(&self, edition: &Name) -> Vec<(String, String)> {
        let config = self.config();
        let editions = config.editions.iter().map(|(name, edition)| (name, edition.identity.as_str()));
        let full = Name::full_edition();
        let identities = editions.chain([(&full, config.game.identity.as_str())]);
        let identities = identities.map(|(name, text)| (name.clone(), text.to_owned(), "the identity".to_owned()));
        let storefronts = config.storefronts.iter().flat_map(|(called, storefront)| {
            let handles = storefront.handles.iter();
            handles.map(move |(name, handle)| {
                (name.clone(), handle.as_str().to_owned(), format!("the handle at {called}"))
            })
        });
        let all: Vec<(Name, String, String)> = identities.chain(storefronts).collect();
        let own: Vec<&String> = all.iter().filter(|(name, ..)| name == edition).map(|(_, text, _)| text).collect();
        // A single word may stand anywhere by chance.
        let is_name = |text: &str| text.contains(['-', '.', '_']);
        let others = all.iter().filter(|(name, text, _)| name != edition && !own.contains(&text) && is_name(text));
        others.map(|(name, text, what)| (text.clone(), format!("{what} of the edition {name}"))).collect()
    }

    /// Compares the identity that a build says it has with what is written here.
    fn identity_of(&self, edition: &Name, target: &Name, seen: &TargetClaims) -> Vec<Finding> {
        let mut findings = Vec::new();
        let identity = self.identity(edition);
        if let Some(inside) = seen.claims.identity.as_deref().filter(|inside| *inside != identity.as_str()) {
            let others = self.config().editions.iter();
            let other = others.filter(|(name, _)| *name != edition).find(|(_, e)| e.identity.as_str() == inside);
            findings.push(match other {
                Some((other, _)) => {
                    let what = format!("{target} has the identity of the edition {other}: {}", shown(inside));
                    Finding::of(Code::OtherEdition, what, "name the export of the right edition")
                }
                None => {
                    let what =
                        format!("{target} has the identity {} inside, lantern.toml has {identity}", shown(inside));
                    Finding::of(
                        Code::IdentityDiffers,
                        what,
                        "fix it in the engine and export again, or in lantern.toml",
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
                Some(at) if finding.code.can_be_accepted() || finding.severity != Severity::Error => {
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
        for (_, finding) in &mut checked.findings {
            if finding.severity == Severity::Warning && self.config().stop.contains(&finding.code) {
                finding.severity = Severity::Error;
            }
        }
        let wide: Vec<&str> = accepts.iter().filter(|accept| accept.is_wide()).map(|a| a.code.as_str()).collect();
        if !wide.is_empty() {
            let are = if wide.len() == 1 { "is" } else { "are" };
            let what = format!("{} {are} accepted everywhere, without an end date", wide.join(", "));
            let note = Finding::note(Code::AcceptTooBroad, what).at(self.place_of(&["checks", "accept"]));
            checked.findings.push((None, note));
        }
        for (accept, is_used) in accepts.iter().zip(is_used) {
            let finding = match (is_used, accept.until) {
                (true, Some(until)) if is_over(accept) => {
                    let what = format!("{} was accepted until {until}: {}", accept.code, shown(&accept.because));
                    Finding::of(Code::AcceptExpired, what, "fix it, or change the date")
                }
                // Where only a part was looked at, it may be about the rest.
                (false, _) if !self.is_of_a_part() => {
                    let what = format!("{} is accepted and not there", accept.code);
                    Finding::of(Code::AcceptUnused, what, "remove it from [checks]")
                }
                _ => continue,
            };
            checked.findings.push((None, finding.at(self.place_of(&["checks", "accept"]))));
        }
    }
}

/// What a Windows game is reported as that opens a console window beside itself.
fn console_window(seen: &TargetClaims) -> Option<Finding> {
    let what = format!("{} opens a console window next to the game", seen.opens_console.as_ref()?);
    Some(Finding::of(Code::ConsoleWindow, what, "is it a developer's build? Export a release build"))
}

/// Compares the versions that builds say of themselves with the one that the release gets: one finding for each.
fn other_versions(project: &Project, wanted: &Version, versions: &[(String, Name)]) -> Vec<Finding> {
    let mut by_version: BTreeMap<&str, Vec<&Name>> = BTreeMap::new();
    let others = versions.iter().filter(|(inside, _)| !is_same_version(inside, wanted.as_str()));
    for (inside, target) in others {
        by_version.entry(inside).or_default().push(target);
    }
    let finding = |(inside, targets): (&str, Vec<&Name>)| {
        let calls = if targets.len() == 1 { "calls itself" } else { "call themselves" };
        let what = format!(
            "{} {calls} {}, and the release gets {wanted}",
            targets.iter().map(|target| target.as_str()).collect::<Vec<_>>().join(", "),
            shown(inside)
        );
        let stamp = stamp_hint(targets.iter().all(|target| project.can_be_stamped(target)));
        let fix = format!("set the version in the engine and export again, or fix lantern.toml{stamp}");
        Finding::of(Code::VersionDiffers, what, fix)
    };
    by_version.into_iter().map(finding).collect()
}

/// Targets of one edition that are for one system: nobody could tell their builds apart.
fn two_for_one_system(divided: &Divided<'_>) -> Vec<Finding> {
    let mut by_system: BTreeMap<System, Vec<&str>> = BTreeMap::new();
    // Of a bundle a storefront makes packages; players never get it.
    let is_for_players = |intake: &&Intake<'_>| intake.export().form != Form::Package("aab");
    for intake in divided.intakes.iter().filter(is_for_players) {
        for system in &intake.systems {
            by_system.entry(*system).or_default().push(intake.name.as_str());
        }
    }
    let finding = |(system, targets): (System, Vec<&str>)| {
        let what =
            format!("{} are all for {system}, and a player's computer takes the first of them", targets.join(", "));
        Finding::of(Code::DuplicateSystem, what, "give one of them an edition of its own, or state its systems")
    };
    by_system.into_iter().filter(|(_, targets)| targets.len() > 1).map(finding).collect()
}
