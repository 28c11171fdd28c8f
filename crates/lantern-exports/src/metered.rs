//! Reading that is counted, and that ends when someone asks for it.

use lantern_core::progress::{Meter, Progress, Task, Watched};

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
    pub(crate) fn over<R>(&self, from: R) -> Watched<'_, R> {
        Watched::new(from, &*self.meter, self.progress)
    }
}
