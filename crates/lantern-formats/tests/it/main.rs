//! Every reader against bytes that mean harm: what fuzzing started from and found, changed again and again, and files
//! that are made to fill memory.

mod memory;
mod readers;
mod replay;
