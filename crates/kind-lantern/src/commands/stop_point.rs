//! In builds for tests: ends the program at the n-th point at which it could be cut, as a kill would.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

use lantern_core::points;

/// Names the point to stop at, from 1.
const VARIABLE: &str = "LANTERN_STOP_AT";
/// What the program ends with there; no command does.
const EXIT_CODE: i32 = 86;

static STOP_AT: OnceLock<u64> = OnceLock::new();
static REACHED: AtomicU64 = AtomicU64::new(0);

/// Listens when the variable is set.
pub fn listen() {
    let number = std::env::var(VARIABLE).ok().and_then(|text| text.parse().ok());
    if let Some(number) = number {
        let _ = STOP_AT.set(number);
        points::listen(reached);
    }
}

fn reached(_: &'static str) {
    if Some(&(REACHED.fetch_add(1, Ordering::SeqCst) + 1)) == STOP_AT.get() {
        std::process::exit(EXIT_CODE);
    }
}
