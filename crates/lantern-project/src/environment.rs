//! What comes from outside the program: clock, randomness, who is asking.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use lantern_ledger::Origin;

use crate::ProjectError;

/// What tests put in the place of the clock and of randomness, so that what a run writes can be compared whole.
#[derive(Debug, Clone, Copy, Default)]
pub struct Fixed {
    /// It is always this time.
    pub now: Option<Timestamp>,
    /// Random bytes follow from it.
    pub seed: Option<u64>,
    /// Passphrases of keys are hashed only this often.
    pub key_rounds: Option<u32>,
}

static FIXED: OnceLock<Fixed> = OnceLock::new();
/// How often random bytes were drawn from a seed.
static DRAWN: AtomicU64 = AtomicU64::new(0);

/// Fixes clock and randomness for the rest of this process; the first call counts.
pub fn fix(fixed: Fixed) {
    let _ = FIXED.set(fixed);
}

/// How often passphrases are hashed, where that is fixed.
pub(crate) fn key_rounds() -> Option<u32> {
    FIXED.get().and_then(|fixed| fixed.key_rounds)
}

/// Returns now, to the millisecond.
pub fn now() -> Timestamp {
    if let Some(now) = FIXED.get().and_then(|fixed| fixed.now) {
        return now;
    }
    let now = Timestamp::now();
    Timestamp::from_millisecond(now.as_millisecond()).unwrap_or(now)
}

/// The time of the newest known word where the clock here has not got there yet: what is said now has to name it, to come after.
pub(crate) fn ahead_of_us(newest: Option<Timestamp>) -> Option<Timestamp> {
    newest.filter(|newest| *newest >= now())
}

/// Returns the day that it is on this computer.
pub fn today() -> Date {
    now().to_zoned(TimeZone::system()).date()
}

/// Returns now by the clock that files get their times from, which cannot be fixed.
pub(crate) fn now_of_files() -> Timestamp {
    Timestamp::now()
}

/// Returns the languages of this computer's user as language tags, the preferred one first.
pub(crate) fn languages() -> Vec<String> {
    sys_locale::get_locales().collect()
}

/// Returns fresh random bytes.
pub(crate) fn random<const N: usize>() -> Result<[u8; N], ProjectError> {
    let mut bytes = [0; N];
    match FIXED.get().and_then(|fixed| fixed.seed) {
        Some(seed) => {
            let mut hasher = blake3::Hasher::new();
            hasher.update(&seed.to_le_bytes()).update(&DRAWN.fetch_add(1, Ordering::Relaxed).to_le_bytes());
            hasher.finalize_xof().fill(&mut bytes);
        }
        None => getrandom::fill(&mut bytes).map_err(|e| ProjectError::Random(e.to_string()))?,
    }
    Ok(bytes)
}

/// Returns the name of the account, such as the environment gives it, or the list of accounts.
fn actor() -> String {
    let name = std::env::var("USER").or_else(|_| std::env::var("USERNAME")).ok();
    let name = name.filter(|name| !name.trim().is_empty()).or_else(account);
    name.unwrap_or_else(|| "unknown".to_owned())
}

/// A service or a container may have no variable that names its user; the list of accounts does.
#[cfg(unix)]
fn account() -> Option<String> {
    let own = rustix::process::getuid().as_raw().to_string();
    name_of(&own, &std::fs::read_to_string("/etc/passwd").ok()?)
}

/// Windows sets the variable for every process.
#[cfg(not(unix))]
fn account() -> Option<String> {
    None
}

/// Finds a user in a list of accounts, a line each: `name:password:user id:…`, as the manual page passwd(5) has it.
#[cfg(unix)]
fn name_of(id: &str, accounts: &str) -> Option<String> {
    let mut lines = accounts.lines().map(|line| line.split(':'));
    lines.find_map(|mut fields| {
        let (name, _, its_id) = (fields.next()?, fields.next()?, fields.next()?);
        (its_id == id && !name.trim().is_empty()).then(|| name.to_owned())
    })
}

/// Returns what an event takes from outside.
pub(crate) fn origin() -> Result<Origin, ProjectError> {
    Ok(Origin { at: now(), random: random()?, actor: actor() })
}

#[cfg(all(test, unix))]
mod tests {
    use super::*;

    #[test]
    fn an_account_is_found_by_its_number() {
        let accounts = "root:x:0:0::/root:/bin/sh\n\nbroken\npunt:x:1000:1000:,,,:/home/punt:/bin/sh\n:x:7:7::/:\n";
        assert_eq!(name_of("1000", accounts).as_deref(), Some("punt"));
        assert_eq!(name_of("10", accounts), None);
        assert_eq!(name_of("7", accounts), None, "an account without a name");
    }
}
