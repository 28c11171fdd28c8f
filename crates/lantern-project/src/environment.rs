//! What comes from outside the program: clock, randomness, who is asking.

use jiff::Timestamp;
use lantern_ledger::Origin;

use crate::ProjectError;

/// Returns now, to the millisecond.
pub fn now() -> Timestamp {
    let now = Timestamp::now();
    Timestamp::from_millisecond(now.as_millisecond()).unwrap_or(now)
}

/// Returns the languages of this computer's user as language tags, the preferred one first.
pub(crate) fn languages() -> Vec<String> {
    sys_locale::get_locales().collect()
}

/// Returns fresh random bytes.
pub(crate) fn random<const N: usize>() -> Result<[u8; N], ProjectError> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(|e| ProjectError::Random(e.to_string()))?;
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
