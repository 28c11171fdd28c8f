//! In builds for tests: a clock and a seed that are fixed; the program ends at the n-th point at which it could be cut, as
//! a kill would, or the disk fails from the n-th write on.

use std::io::{self, ErrorKind, Write};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

use jiff::{SignedDuration, Timestamp};
use lantern_core::failpoint::{self, Point};
use lantern_keys::KeyError;
use lantern_keys::key::PrivateKey;
use lantern_project::Fixed;

/// Names the point to stop at, from 1.
const STOP_AT: &str = "LANTERN_STOP_AT";
/// Names the write from which on the disk fails, from 1.
const FAIL_AT: &str = "LANTERN_FAIL_AT";
/// How it fails: `full`, or `read-only`, and then nothing can be removed either; `once`, and then it works again.
const FAIL_AS: &str = "LANTERN_FAIL_AS";
/// The time that it is, RFC 3339.
const CLOCK: &str = "LANTERN_CLOCK";
/// A number that all random bytes follow from.
const SEED: &str = "LANTERN_SEED";
/// How often passphrases are hashed in what is written; far less than elsewhere, where nothing is optimised.
const KEY_ROUNDS: &str = "LANTERN_KEY_ROUNDS";
/// A number that a new key is made of, so that what it signs can be compared.
const KEY_SEED: &str = "LANTERN_KEY_SEED";
/// What the program ends with at a stop; no command does.
const EXIT_CODE: i32 = 86;

/// Said when the disk begins to fail, so that a test knows whether it did.
const FAILS: &str = "(the disk fails here)";

struct Asked {
    stop_at: Option<u64>,
    fail_at: Option<u64>,
    how: How,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum How {
    Full,
    ReadOnly,
    Once,
}

static ASKED: OnceLock<Asked> = OnceLock::new();
static REACHED: AtomicU64 = AtomicU64::new(0);
static WRITES: AtomicU64 = AtomicU64::new(0);

/// Listens when one of the variables is set.
pub fn listen() {
    let number = |name| std::env::var(name).ok().and_then(|text| text.parse().ok());
    let now = std::env::var(CLOCK).ok().and_then(|text| text.parse().ok());
    let key_rounds = number(KEY_ROUNDS).and_then(|rounds: u64| rounds.try_into().ok());
    lantern_project::fix(Fixed { now, seed: number(SEED), key_rounds });
    let (stop_at, fail_at) = (number(STOP_AT), number(FAIL_AT));
    if stop_at.is_some() || fail_at.is_some() {
        let how = match std::env::var(FAIL_AS).as_deref() {
            Ok("read-only") => How::ReadOnly,
            Ok("once") => How::Once,
            _ => How::Full,
        };
        let _ = ASKED.set(Asked { stop_at, fail_at, how });
        failpoint::listen(reached);
    }
}

/// Returns the time that it is for a program that this one starts, if it is fixed.
pub fn clock_of_child(started_before: u32) -> Option<Timestamp> {
    std::env::var_os(CLOCK)?;
    Some(lantern_project::now() + SignedDuration::from_mins(i64::from(started_before)))
}

/// Returns what a program that this one starts is to have: its own randomness, and a minute more on the clock for each
/// that was started before it.
pub fn variables_of_child(started_before: u32) -> Vec<(&'static str, String)> {
    // Hashing a passphrase as often as elsewhere would take most of the example's time.
    let rounds = std::env::var(KEY_ROUNDS).unwrap_or_else(|_| "10000".to_owned());
    let mut variables = vec![(KEY_ROUNDS, rounds)];
    if let Some(now) = clock_of_child(started_before) {
        variables.push((CLOCK, now.to_string()));
    }
    if let Some(seed) = std::env::var(SEED).ok().and_then(|text| text.parse::<u64>().ok()) {
        variables.push((SEED, (seed * 1000 + u64::from(started_before) + 1).to_string()));
    }
    variables
}

/// The key that a test asked for.
pub fn key() -> Option<Result<PrivateKey, KeyError>> {
    let seed: u8 = std::env::var(KEY_SEED).ok()?.parse().ok()?;
    Some(PrivateKey::of_scalar(&[seed; 32]))
}

fn reached(point: Point) -> io::Result<()> {
    let Some(asked) = ASKED.get() else { return Ok(()) };
    if Some(REACHED.fetch_add(1, Ordering::SeqCst) + 1) == asked.stop_at {
        std::process::exit(EXIT_CODE);
    }
    let error = match (point, asked.how) {
        (Point::Pass, _) | (Point::Remove, How::Full) => return Ok(()),
        (Point::Write, How::Full) => ErrorKind::StorageFull.into(),
        (Point::Write | Point::Remove, How::ReadOnly) => ErrorKind::ReadOnlyFilesystem.into(),
        (Point::Write | Point::Remove, How::Once) => io::Error::other("the disk failed, this once"),
    };
    let count = WRITES.fetch_add(1, Ordering::SeqCst) + 1;
    let fails = asked.fail_at.is_some_and(|first| count == first || (count > first && asked.how != How::Once));
    if !fails {
        return Ok(());
    }
    if asked.fail_at == Some(count) {
        // Anyone who asked for it reads standard error; where it is closed there is nobody to tell.
        let _ = writeln!(io::stderr(), "{FAILS}");
    }
    Err(error)
}
