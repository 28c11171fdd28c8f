//! Waits for a server no longer than the user wants to.

use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::time::{Duration, Instant};

/// How often it is looked whether someone asked to stop.
const LOOK: Duration = Duration::from_millis(20);

/// Does something that may take long on a thread of its own and returns what came of it; none when it was asked to stop and
/// `grace` has passed since. What was begun then ends by itself, or with the program.
///
/// # Errors
/// When this computer gives no thread.
pub(super) fn unless_stopped<T: Send + 'static>(
    stop: &AtomicBool,
    grace: Duration,
    work: impl FnOnce() -> T + Send + 'static,
) -> io::Result<Option<T>> {
    let (done, result) = mpsc::sync_channel(1);
    // Nobody may want the result any more.
    let worker =
        std::thread::Builder::new().name("waits for an answer".to_owned()).spawn(move || drop(done.send(work())))?;
    let mut until = None;
    loop {
        match result.recv_timeout(LOOK) {
            Ok(result) => return Ok(Some(result)),
            Err(RecvTimeoutError::Disconnected) => match worker.join() {
                Err(panic) => std::panic::resume_unwind(panic),
                Ok(()) => return Err(io::Error::other("a thread ended without a result")),
            },
            Err(RecvTimeoutError::Timeout) if stop.load(Ordering::Relaxed) => {
                if Instant::now() >= *until.get_or_insert_with(|| Instant::now() + grace) {
                    return Ok(None);
                }
            }
            Err(RecvTimeoutError::Timeout) => {}
        }
    }
}

/// Waits, and says whether nobody asked to stop meanwhile.
pub(super) fn pause(time: Duration, stop: &AtomicBool) -> bool {
    let end = Instant::now() + time;
    while Instant::now() < end {
        if stop.load(Ordering::Relaxed) {
            return false;
        }
        std::thread::sleep(LOOK.min(end.saturating_duration_since(Instant::now())));
    }
    true
}
