//! Sizes as people read them.

use std::fmt;

/// A count of bytes, shown in decimal units with three digits: `214 kB`, `7.92 MB`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Size(
    /// In bytes.
    pub u64,
);

impl fmt::Display for Size {
    #[expect(clippy::indexing_slicing, reason = "it stops at the last unit")]
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        const UNITS: [&str; 5] = ["kB", "MB", "GB", "TB", "PB"];
        if self.0 < 1000 {
            return write!(f, "{} B", self.0);
        }
        let mut value = self.0 as f64 / 1000.0;
        let mut unit = 0;
        while value >= 999.5 && unit + 1 < UNITS.len() {
            value /= 1000.0;
            unit += 1;
        }
        let digits = if value < 9.995 { 2 } else { usize::from(value < 99.95) };
        write!(f, "{value:.digits$} {}", UNITS[unit])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_have_three_digits() {
        let table = [
            (0, "0 B"),
            (999, "999 B"),
            (1000, "1.00 kB"),
            (9994, "9.99 kB"),
            (9996, "10.0 kB"),
            (99_960, "100 kB"),
            (999_499, "999 kB"),
            (999_500, "1.00 MB"),
            (1_800_000_000, "1.80 GB"),
            (u64::MAX, "18447 PB"),
        ];
        for (count, expected) in table {
            assert_eq!(Size(count).to_string(), expected, "{count}");
        }
    }
}
