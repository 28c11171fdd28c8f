//! What a build says of itself, and what is wrong with that: remembered as long as every file of the export is as it
//! was, so that signatures are not verified again.

use lantern_core::digest::Digest;
use lantern_core::finding::{Code, Finding};
use lantern_core::path::shown;
use lantern_core::release::Claims;
use lantern_store::seal::SourceKind;
use serde::{Deserialize, Serialize};

use crate::export::Export;
use crate::inspect::{Fact, Inspected};
use crate::intake::Intake;
use lantern_core::stat_data::StatData;

/// What a build says of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TargetClaims {
    /// Its identity, version and number.
    pub claims: Claims,
    /// The program that opens a console window beside itself.
    pub opens_console: Option<String>,
    /// What is wrong with what it says.
    pub findings: Vec<Finding>,
    judged_until: Option<i64>,
    /// Programs in it whose signatures hold.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) verified: Vec<String>,
    /// Who signed a package, if that holds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package_signer: Option<PackageSigner>,
}

/// Who signed a package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PackageSigner {
    /// SHA-256 of the certificate.
    pub fingerprint: [u8; 32],
    /// Its subject, as RFC 4514 writes it.
    pub subject: String,
    /// Whether it is a key that everybody has.
    pub is_debug: bool,
}

impl TargetClaims {
    /// Takes out of an inspection what a build says of itself.
    pub fn of(seen: Inspected) -> Self {
        let opens = seen.facts.iter().any(|(about, _)| *about == Fact::Opens);
        Self {
            opens_console: seen.starts.first().filter(|_| opens).map(|start| shown(start)),
            claims: Claims { identity: seen.identity, version: seen.version, number: seen.number },
            findings: seen.findings,
            judged_until: seen.judged_until,
            verified: seen.verified,
            package_signer: seen.package_signer.map(|signer| PackageSigner {
                fingerprint: signer.fingerprint,
                is_debug: signer.is_debug(),
                subject: signer.subject,
            }),
        }
    }

    /// What could not be read may be readable next time although nothing changed.
    fn is_lasting(&self) -> bool {
        !self.findings.iter().any(|finding| finding.code == Code::Unreadable)
    }
}

/// What entries of an export were when they were looked into.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Key {
    digest: Digest,
    /// Of the newest file.
    newest: Option<StatData>,
}

impl Key {
    /// That of a whole export, with how it is looked at; none where it cannot be known from a changed one.
    pub fn of_all(intake: &Intake<'_>) -> Option<Self> {
        let export = intake.export();
        let how = (&export.shown, export.form.name(), &intake.starts, &intake.systems);
        Self::of(export, 0..export.entries.len(), &how)
    }

    /// That of some entries; `how` is whatever else changes what is seen in them.
    pub fn of(export: &Export, indices: impl Iterator<Item = usize>, how: &impl Serialize) -> Option<Self> {
        let mut newest: Option<StatData> = None;
        let mut entries: Vec<(&str, Option<&str>, Option<StatData>)> = Vec::new();
        for entry in indices.map(|index| &export.entries[index]) {
            let target = match &entry.source.kind {
                SourceKind::Link { target } => Some(target.as_str()),
                SourceKind::File { .. } => {
                    newest = newest.into_iter().chain([entry.stat?]).max_by_key(|stat| stat.modified_ns);
                    None
                }
                SourceKind::EmptyFolder => None,
            };
            entries.push((entry.source.path.as_str(), target, entry.stat));
        }
        let bytes = serde_json::to_vec(&(how, entries)).expect("a list has no keys");
        Some(Self { digest: Digest::of(&bytes), newest })
    }

    pub(crate) fn is_settled_at(&self, moment: jiff::Timestamp) -> bool {
        self.newest.is_none_or(|stat| stat.is_settled_at(moment))
    }
}

/// What was kept, and of which state of the export.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Remembered {
    key: Key,
    claims: TargetClaims,
}

impl Remembered {
    /// None for what is to be looked at again in any case; `begun` is a moment before anything was read.
    pub fn new(key: Key, claims: &TargetClaims, begun: jiff::Timestamp) -> Option<Self> {
        (key.is_settled_at(begun) && claims.is_lasting()).then(|| Self { key, claims: claims.clone() })
    }

    /// What it declared, if it would declare the same again.
    pub fn get(&self, key: Key, now: jiff::Timestamp) -> Option<&TargetClaims> {
        let is_judged = self.claims.judged_until.is_none_or(|until| now.as_second() < until);
        (self.key == key && is_judged).then_some(&self.claims)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn claims_count_until_they_would_be_judged_otherwise() {
        let begun = jiff::Timestamp::from_second(1_764_000_000).unwrap();
        let newest = StatData { size: 7, modified_ns: 1_000, changed_ns: 1_000, inode: 1 };
        let key = Key { digest: Digest::of(b"the export"), newest: Some(newest) };
        let claims = TargetClaims { opens_console: Some("post.exe".to_owned()), ..TargetClaims::default() };
        let keep = |claims: &TargetClaims, begun| Remembered::new(key, claims, begun);
        let kept = keep(&claims, begun).unwrap();
        assert_eq!(kept.get(key, begun), Some(&claims));
        assert_eq!(kept.get(Key { digest: Digest::of(b"another"), ..key }, begun), None);
        assert!(
            keep(&claims, jiff::Timestamp::UNIX_EPOCH).is_none(),
            "so new that a change could not be distinguished from it"
        );
        let until = |until: i64| {
            let claims = TargetClaims { judged_until: Some(until), ..claims.clone() };
            keep(&claims, begun).unwrap().get(key, begun).is_some()
        };
        assert!(until(begun.as_second() + 60) && !until(begun.as_second() - 60), "a certificate expired since");
        let unread = TargetClaims { findings: vec![Finding::of(Code::Unreadable, "no", "look")], ..claims };
        assert!(keep(&unread, begun).is_none());
    }
}
