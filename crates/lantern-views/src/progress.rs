//! Progress, as programs read it.

use std::time::Duration;

use serde::Serialize;

/// A line of `--progress json`, on standard error: one when a task starts, and at most four in a second.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Line {
    schema: &'static str,
    /// `seal`, `send`, `receive`, `verify`, `write`, or `work` for any other.
    task: &'static str,
    /// Bytes.
    done: u64,
    /// Bytes, where it is known how many there will be.
    total: Option<u64>,
    /// At the pace up to now; none before anything is done, or where the end is not known.
    seconds_left: Option<u64>,
}

/// How far a task is, in bytes, after so much time.
pub fn line(task: &'static str, done: u64, total: Option<u64>, since: Duration) -> Line {
    let done = total.map_or(done, |total| done.min(total));
    let seconds_left = total.and_then(|total| seconds_left(done, total, since));
    Line { schema: "lantern.progress/1", task, done, total, seconds_left }
}

/// The whole seconds that the rest takes at the pace up to now.
fn seconds_left(done: u64, total: u64, since: Duration) -> Option<u64> {
    let left = total.saturating_sub(done);
    let millis = u128::from(left) * since.as_millis() / u128::from(std::num::NonZeroU64::new(done)?.get());
    u64::try_from(millis.div_ceil(1000)).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_time_that_is_left() {
        let ten = Duration::from_secs(10);
        assert_eq!(seconds_left(0, 100, ten), None, "nothing is known of its pace");
        assert_eq!((seconds_left(25, 100, ten), seconds_left(100, 100, ten)), (Some(30), Some(0)));
        assert_eq!(seconds_left(1, u64::MAX, Duration::from_secs(u64::MAX / 1000)), None, "for ever");
        assert_eq!(line("send", 120, Some(100), ten).done, 100, "more than was estimated");
    }
}
