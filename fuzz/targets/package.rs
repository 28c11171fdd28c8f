#![no_main]

#[allow(dead_code)]
#[path = "../../crates/lantern-formats/tests/it/readers.rs"]
mod readers;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| readers::package(bytes));
