//! In builds for tests: ends the program at the n-th point at which it could be cut, as a kill would, or lets the disk
//! fail from the n-th write on.

use std::io::{self, ErrorKind, Write};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

use lantern_core::points::{self, Point};

/// Names the point to stop at, from 1.
const STOP_AT: &str = "LANTERN_STOP_AT";
/// Names the write from which on the disk fails, from 1.
const FAIL_AT: &str = "LANTERN_FAIL_AT";
/// How it fails: `full`, or `read-only`, and then nothing can be removed either.
const FAIL_AS: &str = "LANTERN_FAIL_AS";
/// What the program ends with at a stop; no command does.
const EXIT_CODE: i32 = 86;

/// Said when the disk begins to fail, so that a test knows whether it did.
const FAILS: &str = "(the disk fails from here on)";

struct Asked {
    stop_at: Option<u64>,
    fail_at: Option<u64>,
    is_read_only: bool,
}

static ASKED: OnceLock<Asked> = OnceLock::new();
static REACHED: AtomicU64 = AtomicU64::new(0);
static WRITES: AtomicU64 = AtomicU64::new(0);

/// Listens when one of the variables is set.
pub fn listen() {
    let number = |name| std::env::var(name).ok().and_then(|text| text.parse().ok());
    let (stop_at, fail_at) = (number(STOP_AT), number(FAIL_AT));
    if stop_at.is_some() || fail_at.is_some() {
        let is_read_only = std::env::var(FAIL_AS).is_ok_and(|how| how == "read-only");
        let _ = ASKED.set(Asked { stop_at, fail_at, is_read_only });
        points::listen(reached);
    }
}

fn reached(point: Point) -> io::Result<()> {
    let Some(asked) = ASKED.get() else { return Ok(()) };
    if Some(REACHED.fetch_add(1, Ordering::SeqCst) + 1) == asked.stop_at {
        std::process::exit(EXIT_CODE);
    }
    let kind = match (point, asked.is_read_only) {
        (Point::Pass, _) | (Point::Remove, false) => return Ok(()),
        (Point::Write, false) => ErrorKind::StorageFull,
        (Point::Write | Point::Remove, true) => ErrorKind::ReadOnlyFilesystem,
    };
    let count = WRITES.fetch_add(1, Ordering::SeqCst) + 1;
    if asked.fail_at.is_none_or(|first| count < first) {
        return Ok(());
    }
    if asked.fail_at == Some(count) {
        // Whoever asked for it reads standard error; where it is closed there is nobody to tell.
        let _ = writeln!(io::stderr(), "{FAILS}");
    }
    Err(kind.into())
}
