//! What was found in files on the way, while they were open for something else.

use std::collections::HashMap;
use std::io;
use std::sync::Mutex;

use lantern_core::progress::Silent;

use crate::export::{Export, Opened};
use crate::metered::Metering;
use crate::metered_files::OnTheWay;
use crate::scan::{self, Scan, Scanning, Wanted};

/// What was found in files on the way, while they were open for something else.
pub(crate) struct Facts<'a> {
    /// The export; of a package, what is in it.
    pub export: &'a Export,
    /// Whether it is what is in a package.
    pub is_inside: bool,
    pub wanted: Wanted,
    scans: Mutex<HashMap<usize, Scan>>,
}

impl<'a> Facts<'a> {
    pub(crate) fn of(export: &'a Export, is_inside: bool, wanted: Wanted) -> Self {
        Self { export, is_inside, wanted, scans: Mutex::default() }
    }

    /// What was found in a file, if it was scanned on the way.
    pub(crate) fn scanned(&self, index: usize) -> Option<Scan> {
        self.scans.lock().expect("nothing panics with the lock").remove(&index)
    }
}

impl OnTheWay for Facts<'_> {
    /// Scans a file that was opened to be read whole, and gives it back at its start. One that is packed comes back as it is: it
    /// would have to be unpacked to a file.
    fn opened(&self, index: usize, opened: Opened) -> io::Result<Opened> {
        let Opened::Anywhere(_) = opened else { return Ok(opened) };
        let watch = Metering::start(&Silent, 0);
        let scanning = Scanning { wanted: &self.wanted, verified: &[], watch: &watch };
        let (scan, opened) = match scan::by_name(&self.export.entries[index].source.path) {
            Some(scan) => (scan, opened),
            None => scan::scan_opened(self.export, index, opened, scanning)?,
        };
        self.scans.lock().expect("nothing panics with the lock").insert(index, scan);
        let mut file = opened.anywhere(&[])?;
        file.rewind()?;
        Ok(Opened::Anywhere(file))
    }
}
