//! The one trait through which libraries say how far they are. Nothing below the program prints.

use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// What is being done.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Task {
    /// Cutting, compressing and packing.
    Seal,
    /// Signing, with the digests that it needs.
    Sign,
    /// Sending packs.
    Send,
    /// Receiving chunks.
    Receive,
    /// Checking digests.
    Verify,
    /// Writing files out.
    Write,
    /// Comparing two builds for an update file.
    Update,
    /// Waiting until another lantern has ended its work.
    Wait,
}

/// A count of bytes that grows.
pub trait Meter: Send + Sync {
    /// Adds bytes that are done.
    fn add(&self, bytes: u64);
}

/// Receives progress and hands out the stop flag.
pub trait Progress: Send + Sync {
    /// Starts a meter over `total` bytes; `None` when not known in advance. It ends when dropped.
    fn start(&self, task: Task, total: Option<u64>) -> Box<dyn Meter + '_>;

    /// Says something that those who wait should know now, and not only at the end.
    fn careful(&self, what: &str);

    /// Passes on what a program says that is waited for.
    fn say(&self, _what: &str) {}

    /// Whether someone asked to stop. Looked at between chunks, never in a write that must be whole.
    fn stopped(&self) -> bool;
}

/// Something that is read and counted, and whose reading ends when someone asks to stop.
pub struct Watched<'a, R> {
    from: R,
    meter: &'a dyn Meter,
    progress: &'a dyn Progress,
}

impl<'a, R> Watched<'a, R> {
    /// Watches over what is read from something.
    pub fn new(from: R, meter: &'a dyn Meter, progress: &'a dyn Progress) -> Self {
        Self { from, meter, progress }
    }
}

impl<R: Read> Read for Watched<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.progress.stopped() {
            // Not `Interrupted`: readers would try again.
            return Err(io::Error::other("stopped"));
        }
        let len = self.from.read(buffer)?;
        self.meter.add(len as u64);
        Ok(len)
    }
}

impl<R: Seek> Seek for Watched<'_, R> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.from.seek(to)
    }
}

/// Progress that goes nowhere, for tests and quiet runs.
#[derive(Debug, Clone, Copy, Default)]
pub struct Silent;

/// Progress that goes nowhere, of work that can be stopped.
#[derive(Debug, Clone)]
pub struct Stoppable(pub Arc<AtomicBool>);

impl Progress for Stoppable {
    fn start(&self, _: Task, _: Option<u64>) -> Box<dyn Meter + '_> {
        Box::new(Silent)
    }
    fn careful(&self, _: &str) {}
    fn stopped(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

impl Meter for Silent {
    fn add(&self, _: u64) {}
}

impl Progress for Silent {
    fn start(&self, _: Task, _: Option<u64>) -> Box<dyn Meter + '_> {
        Box::new(Self)
    }
    fn careful(&self, _: &str) {}
    fn stopped(&self) -> bool {
        false
    }
}
