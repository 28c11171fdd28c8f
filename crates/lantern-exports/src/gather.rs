//! Everything that is asked of the files of one export, each of them opened once for all of it.

use jiff::Timestamp;
use lantern_core::finding::Finding;
use lantern_core::names::Name;
use lantern_core::progress::Progress;

use crate::Stopped;
use crate::cache::ScanCache;
use crate::claims::{Key, TargetClaims};
use crate::content::{self, WindowsProgram};
use crate::facts::Facts;
use crate::inspect::{Inspected, inspect_intake};
use crate::intake::Intake;
use crate::scan::Wanted;

/// What is asked of an export beside what every export is asked.
#[derive(Debug)]
pub struct Asked<'a> {
    /// The edition that it is of.
    pub edition: &'a Name,
    /// Names of other editions, with what each is.
    pub others: &'a [(String, String)],
    /// The moment for which certificates and profiles are judged.
    pub now: Timestamp,
}

/// What an export was found to be.
#[derive(Debug)]
pub struct Gathered {
    /// What it says of itself.
    pub claims: TargetClaims,
    /// What should not be in it, or must and is not.
    pub findings: Vec<Finding>,
    /// The programs and libraries for Windows in it.
    pub windows: Vec<WindowsProgram>,
}

/// Asks an export everything: what it says of itself, and what should not be in it or must.
///
/// # Errors
/// [`Stopped`].
pub fn gather(
    intake: &Intake<'_>,
    asked: &Asked<'_>,
    cache: &mut ScanCache,
    progress: &dyn Progress,
) -> Result<Gathered, Stopped> {
    let target = format!("{}/{}", asked.edition, intake.name);
    let texts = intake.target.must_mention.iter().chain(&intake.target.must_not_mention).cloned().collect();
    let wanted = Wanted { texts, names: asked.others.iter().map(|(name, _)| name.clone()).collect() };
    // A package is looked into as the archive that it is. Where it is none, that is said of it, and nothing else.
    let inside = intake.is_package().then(|| intake.export().inside_of_package());
    let (inside, listed) = match inside {
        None => (None, Vec::new()),
        Some(Ok(found)) => (Some(found.export), found.findings),
        Some(Err(finding)) => (None, vec![*finding]),
    };
    let export = inside.as_ref().unwrap_or(intake.export());
    let facts = Facts::of(export, inside.is_some(), wanted);
    let key = Key::of_all(intake);
    let claims = match key.and_then(|key| cache.claims(&target, key)) {
        Some(claims) => claims,
        None => {
            let mut seen = match (intake.is_package(), &inside) {
                (true, None) => Inspected::unseen(&intake.export().shown, asked.now),
                _ => inspect_intake(intake, export, &facts, asked.now, progress)?,
            };
            seen.findings.splice(0..0, listed);
            let claims = TargetClaims::of(seen);
            key.into_iter().for_each(|key| cache.remember_claims(&target, key, &claims));
            claims
        }
    };
    let (findings, windows) =
        content::findings(&target, intake, &facts, &claims.verified, asked.others, cache, progress)?;
    Ok(Gathered { claims, findings, windows })
}
