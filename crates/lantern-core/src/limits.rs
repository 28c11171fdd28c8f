//! How long the documents of a build can be: bounds that readers keep to, no matter who sent them.

/// Largest root of a recipe, in bytes: a million segments, a billion chunks.
pub const MAX_ROOT_LEN: u64 = 64 * 1024 * 1024;
/// Largest segment of a recipe, in bytes: 4096 items with the longest paths.
pub const MAX_SEGMENT_LEN: u64 = 40 * 1024 * 1024;
/// Largest locator, in bytes.
pub const MAX_LOCATOR_LEN: u64 = 800 * 1024 * 1024;
