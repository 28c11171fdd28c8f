#![no_main]

#[path = "../../crates/lantern-formats/tests/it/readers.rs"]
mod readers;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| readers::read_as("program", bytes));
