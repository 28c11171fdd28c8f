//! Points at which a run could be cut: before and after everything that lasts or leaves this computer.
//!
//! Libraries say when they reach one; nothing happens unless somebody listens. A build for tests listens and ends
//! itself at the n-th, so that "killed at any point" can be tried for every point there is.

use std::sync::OnceLock;

static LISTENER: OnceLock<fn(&'static str)> = OnceLock::new();

/// Calls `listener` at every point from now on; the first listener stays.
pub fn listen(listener: fn(&'static str)) {
    let _ = LISTENER.set(listener);
}

/// Says that a point is reached; `what` is about to happen, or has just happened.
pub fn reach(what: &'static str) {
    if let Some(listener) = LISTENER.get() {
        listener(what);
    }
}
