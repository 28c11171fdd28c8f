//! Where what is made goes.

use std::io;

/// Where the bytes of a part go, one behind the other.
pub trait Sink {
    /// Takes bytes.
    ///
    /// # Errors
    /// The system's.
    fn write(&mut self, bytes: &[u8]) -> io::Result<()>;

    /// Takes bytes of an old file as they are. False when it did not, and nothing was written: then they are read and written.
    ///
    /// # Errors
    /// The system's.
    fn copy(&mut self, _file: usize, _offset: u64, _len: u64) -> io::Result<bool> {
        Ok(false)
    }
}

impl Sink for Vec<u8> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.extend(bytes);
        Ok(())
    }
}
