use std::io::{self, Write};

/// Counts the bytes that go through.
pub(crate) struct CountingWriter<'a, W> {
    pub(crate) out: &'a mut W,
    pub(crate) len: u64,
}

impl<W: Write> Write for CountingWriter<'_, W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let len = self.out.write(bytes)?;
        self.len += len as u64;
        Ok(len)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}
