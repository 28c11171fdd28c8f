//! The window that output goes to.

use std::io;

/// Narrower than this, nothing is laid out: words would stand one below the other.
const NARROWEST: usize = 40;

/// Returns how many columns a line may take: what `COLUMNS` says, or else what the terminal has. None where output does
/// not go to a terminal: then nothing is folded.
pub fn columns() -> Option<usize> {
    let said = std::env::var("COLUMNS").ok().and_then(|text| text.trim().parse::<usize>().ok()).filter(|n| *n > 0);
    let has = || terminal_size::terminal_size_of(io::stdout()).map(|(width, _)| usize::from(width.0));
    said.or_else(has).map(|columns| columns.max(NARROWEST))
}
