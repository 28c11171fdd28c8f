//! Reading that is counted, and that ends when someone asks for it.

use std::io::{self, Read, Seek, SeekFrom};

use lantern_core::progress::{Meter, Progress, Task};

/// What reading is counted by.
pub(crate) struct Metering<'a> {
    progress: &'a dyn Progress,
    meter: Box<dyn Meter + 'a>,
}

impl<'a> Metering<'a> {
    /// Starts to count bytes that are checked.
    pub(crate) fn start(progress: &'a dyn Progress, total: u64) -> Self {
        Self { progress, meter: progress.start(Task::Verify, Some(total)) }
    }

    /// Has what is read from something counted.
    pub(crate) fn over<R>(&self, from: R) -> MeteredReader<'_, R> {
        MeteredReader { from, watch: self }
    }
}

/// Something that is read and counted.
pub(crate) struct MeteredReader<'a, R> {
    from: R,
    watch: &'a Metering<'a>,
}

impl<R: Read> Read for MeteredReader<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.watch.progress.stopped() {
            // Not `Interrupted`: readers would try again.
            return Err(io::Error::other("stopped"));
        }
        let len = self.from.read(buffer)?;
        self.watch.meter.add(len as u64);
        Ok(len)
    }
}

impl<R: Seek> Seek for MeteredReader<'_, R> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.from.seek(to)
    }
}
