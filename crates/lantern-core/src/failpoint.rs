//! Points at which a run could be cut or refused: before and after everything that lasts or leaves this computer.
//!
//! Libraries say when they reach one; nothing happens unless someone listens. A build for tests listens, and ends
//! itself or lets the disk fail at the n-th, so that "killed at any point" and "full at any point" can be tried for
//! every point there is.

use std::io;
use std::sync::OnceLock;

/// What kind of point is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Point {
    /// Something is about to take room on this computer's disk.
    Write,
    /// Something is about to be removed from it.
    Remove,
    /// Something has just lasted, or is about to leave this computer or has come back.
    Pass,
}

static LISTENER: OnceLock<fn(Point) -> io::Result<()>> = OnceLock::new();

/// Calls `listener` at every point from now on; the first listener stays. What it returns for [`Point::Write`] and
/// [`Point::Remove`] is taken for what the disk says.
pub fn listen(listener: fn(Point) -> io::Result<()>) {
    let _ = LISTENER.set(listener);
}

fn reach(point: Point) -> io::Result<()> {
    LISTENER.get().map_or(Ok(()), |listener| listener(point))
}

/// Says that a write is about to happen.
///
/// # Errors
/// Only those of a listener, as if the disk had said so.
pub fn write() -> io::Result<()> {
    reach(Point::Write)
}

/// Says that a removal is about to happen.
///
/// # Errors
/// As for [`write()`].
pub fn remove() -> io::Result<()> {
    reach(Point::Remove)
}

/// Says that something has just lasted, is about to be sent, or has been answered.
pub fn pass() {
    // Nothing is written here: there is nothing that a disk could refuse.
    let _ = reach(Point::Pass);
}
