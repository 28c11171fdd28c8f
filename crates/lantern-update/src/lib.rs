//! Update files: from one build to the next in as few bytes as possible.
//!
//! [`make()`] compares two builds and writes an update file: a [`Header`] that says what it makes, and groups that can be fetched and
//! applied one by one ([`OpenGroup`]). What is made is never trusted: the player's side compares each file with the digest that its
//! recipe has. `docs/formats/update.md` describes the format, with the papers behind it; how what is alike is found is no part of it.
//!
//! Files that an old build has under any name are in no update file: they are copied. Links, folders and the executable bit are matters of the recipe.

mod apply;
mod fields;
mod header;
mod labels;
pub mod make;
mod matching;
mod pages;
mod programs;
mod sink;
mod streams;
mod table;
#[cfg(test)]
mod tests;
mod varint;
mod walk;

pub use apply::{ApplyError, Old, OpenGroup};
pub use header::{Group, Header, MAX_GROUP_LEN, MAX_HEADER_LEN, Part};
pub use make::{Build, Chunk, File, MakeError, Wanted, make};
pub use sink::Sink;
