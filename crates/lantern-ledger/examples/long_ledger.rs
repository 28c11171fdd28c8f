//! Writes the ledger of a busy studio after many years, for `scripts/bench-ledger.sh`:
//! `cargo run --release -p lantern-ledger --features samples --example long_ledger -- FILE EVENTS`.

use lantern_ledger::samples::{EVENTS_OF_A_RELEASE, busy};
use lantern_ledger::{Ledger, LedgerError, Log};

/// Lines that are added in one transaction.
const TOGETHER: usize = 20_000;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let (Some(file), Some(events)) = (arguments.next(), arguments.next()) else {
        return Err("give a FILE and a number of EVENTS".into());
    };
    let mut ledger = Ledger::open(file.as_ref(), [7; 16])?;
    let (mut lines, mut written) = (Vec::new(), Ok::<u64, LedgerError>(0));
    busy(events.parse::<u32>()? / EVENTS_OF_A_RELEASE, |line| {
        lines.push(line);
        if lines.len() == TOGETHER && written.is_ok() {
            written = ledger.add_lines(&std::mem::take(&mut lines));
        }
    });
    written?;
    ledger.add_lines(&lines)?;
    Ok(ledger.close()?)
}
