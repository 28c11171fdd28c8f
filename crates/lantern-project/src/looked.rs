//! What the exports of an edition look like, as far as a command has looked at them.

use lantern_core::release::TargetRecord;
use lantern_exports::cache::DigestCache;

use crate::describe;
use crate::divided::Divided;

/// What exports look like, by stat data and what was read before.
#[derive(Debug, Clone)]
pub(crate) enum Looked {
    /// Not one of them is on this computer.
    NotHere,
    /// Something is wrong with them.
    Wrong,
    /// Some of them were never read, or have another size since.
    Others,
    /// Some have other times since they were read.
    Unread,
    /// They make these targets.
    Known(Vec<TargetRecord>),
}

impl Looked {
    /// What divided exports look like that nothing is wrong with.
    pub(crate) fn at(divided: &Divided<'_>, digests: &DigestCache) -> Self {
        match describe::seem(divided, digests) {
            Some(targets) => Self::Known(targets),
            None if describe::portions(divided).iter().any(|(intake, of)| digests.has_other_files(intake, of)) => {
                Self::Others
            }
            None => Self::Unread,
        }
    }
}
