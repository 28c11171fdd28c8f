//! What comes from outside the program: clock, randomness, who is asking.

use jiff::Timestamp;
use lantern_ledger::Stamp;

use crate::ProjectError;

/// Returns now, to the millisecond.
pub(crate) fn now() -> Timestamp {
    let now = Timestamp::now();
    Timestamp::from_millisecond(now.as_millisecond()).unwrap_or(now)
}

/// Returns fresh random bytes.
pub(crate) fn random<const N: usize>() -> Result<[u8; N], ProjectError> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(|e| ProjectError::Random(e.to_string()))?;
    Ok(bytes)
}

/// Returns the name under which this computer knows its user.
fn actor() -> String {
    let name = std::env::var("USER").or_else(|_| std::env::var("USERNAME"));
    name.ok().filter(|n| !n.trim().is_empty()).unwrap_or_else(|| "somebody".to_owned())
}

/// Returns what an event takes from outside.
pub(crate) fn stamp() -> Result<Stamp, ProjectError> {
    Ok(Stamp { at: now(), random: random()?, actor: actor() })
}
