//! An export as the readers of bundles take it, with what is read of it counted.

use std::io::{self, Read};

use lantern_formats::bundle::{FileKind, Files, ReadSeek};
use lantern_formats::macho::FileHash;

use crate::export::{Export, Opened};
use crate::metered::Metering;

/// Something that reads a file while it is open for another purpose.
pub(crate) trait OnTheWay: Sync {
    /// Takes a file that was opened to be read whole, and gives it back at its start.
    fn opened(&self, index: usize, opened: Opened) -> io::Result<Opened>;
}

/// An export of which reading is counted, and of which files that are read whole are scanned while they are open.
pub(crate) struct MeteredFiles<'a> {
    pub export: &'a Export,
    pub watch: &'a Metering<'a>,
    pub on_the_way: Option<&'a dyn OnTheWay>,
}

impl Files for MeteredFiles<'_> {
    fn below<'a>(&'a self, folder: &'a str) -> Box<dyn Iterator<Item = (&'a str, FileKind<'a>)> + 'a> {
        Files::below(self.export, folder)
    }

    fn kind(&self, path: &str) -> Option<FileKind<'_>> {
        self.export.kind(path)
    }

    fn open(&self, path: &str) -> io::Result<Box<dyn Read + Send + '_>> {
        Ok(Box::new(self.watch.over(Files::open(self.export, path)?)))
    }

    fn open_anywhere(&self, path: &str) -> io::Result<Box<dyn ReadSeek + '_>> {
        Ok(Box::new(self.watch.over(Files::open_anywhere(self.export, path)?)))
    }

    fn has_hash(&self, path: &str, hash: &FileHash) -> io::Result<bool> {
        let index = self.export.place_of(path).ok_or(io::ErrorKind::NotFound)?;
        let opened = match self.on_the_way {
            Some(on_the_way) => on_the_way.opened(index, self.export.open_once(index)?)?,
            None => self.export.open_once(index)?,
        };
        hash.is_of(&mut self.watch.over(opened))
    }
}
