//! The six streams of a group. All that is alike lies side by side, which is what makes them small.

/// How many there are.
pub(crate) const COUNT: usize = 6;

/// Their names.
pub(crate) const NAMES: [&str; COUNT] = ["tables", "ops", "gaps", "bytes", "fields", "literals"];

/// What each holds, in their order.
pub(crate) mod stream {
    /// Of each part: its source, its address tables, its bytes in the other streams.
    pub(crate) const TABLES: usize = 0;
    /// What is literal and what is copied.
    pub(crate) const OPS: usize = 1;
    /// Copied bytes that are right before the next that is not.
    pub(crate) const GAPS: usize = 2;
    /// How wrong bytes differ.
    pub(crate) const BYTES: usize = 3;
    /// How wrong fields differ.
    pub(crate) const FIELDS: usize = 4;
    /// What is in no old file.
    pub(crate) const LITERALS: usize = 5;
}

/// The streams of one part, or of a group.
pub(crate) type Streams = [Vec<u8>; COUNT];

/// Bytes of all of them.
pub(crate) fn len(streams: &Streams) -> usize {
    streams.iter().map(Vec::len).sum()
}
