//! Everything that is asked of the files of one export, each of them opened once for all of it.

use std::collections::HashMap;
use std::io;
use std::sync::Mutex;

use jiff::Timestamp;
use lantern_core::finding::Finding;
use lantern_core::names::Name;
use lantern_core::progress::{Progress, Silent};

use crate::Stopped;
use crate::cache::ScanCache;
use crate::claims::{Key, TargetClaims};
use crate::content;
use crate::export::{Export, Opened};
use crate::inspect::{Inspected, inspect_intake};
use crate::intake::Intake;
use crate::metered::Metering;
use crate::scan::{self, Scan, Scanning, Wanted};

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

/// What was found in files on the way, while they were open for something else.
pub(crate) struct Facts<'a> {
    /// The export; of a package, what is in it.
    pub export: &'a Export,
    /// Whether it is what is in a package.
    pub is_inside: bool,
    pub wanted: Wanted,
    scans: Mutex<HashMap<usize, Scan>>,
}

impl Facts<'_> {
    /// Scans a file that was opened to be read whole, and gives it back at its start. One that is packed comes back as it is: it
    /// would have to be unpacked to a file.
    pub(crate) fn scan_on_the_way(&self, index: usize, opened: Opened) -> io::Result<Opened> {
        let Opened::Anywhere(_) = opened else { return Ok(opened) };
        let watch = Metering::start(&Silent, 0);
        let scanning = Scanning { wanted: &self.wanted, verified: &[], watch: &watch };
        let (scan, opened) = match scan::by_name(&self.export.entries[index].source.path) {
            Some(scan) => (scan, opened),
            None => scan::scan_opened(self.export, index, opened, scanning)?,
        };
        self.scans.lock().expect("nothing panics with the lock").insert(index, scan);
        let mut file = opened.anywhere(&[])?;
        file.rewind()?;
        Ok(Opened::Anywhere(file))
    }

    /// What was found in a file, if it was scanned on the way.
    pub(crate) fn scanned(&self, index: usize) -> Option<Scan> {
        self.scans.lock().expect("nothing panics with the lock").remove(&index)
    }
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
) -> Result<(TargetClaims, Vec<Finding>), Stopped> {
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
    let facts = Facts { export, is_inside: inside.is_some(), wanted, scans: Mutex::default() };
    let key = Key::of_all(intake);
    let claims = match key.and_then(|key| cache.claims(&target, key)) {
        Some(claims) => claims,
        None => {
            let mut seen = match (intake.is_package(), &inside) {
                (true, None) => Inspected::unseen(&intake.export().shown, asked.now),
                _ => inspect_intake(intake, &facts, asked.now, progress)?,
            };
            seen.findings.splice(0..0, listed);
            let claims = TargetClaims::of(seen);
            key.into_iter().for_each(|key| cache.remember_claims(&target, key, &claims));
            claims
        }
    };
    let findings = content::findings(&target, intake, &facts, &claims.verified, asked.others, cache, progress)?;
    Ok((claims, findings))
}
