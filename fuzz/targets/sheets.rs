#![no_main]

use lantern_keys::sheets::Read;
use lantern_sign::rotation::Lineage;

// Sheets and chains of keys as others may hand them over: what a chain was read from is written again as it was.
libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let mut read = Read::default();
    if read.file("fuzz", bytes).is_ok() {
        let _ = read.open();
    }
    if let Ok(lineage) = Lineage::read(bytes) {
        assert_eq!(Lineage::read(lineage.file().as_bytes()).ok(), Some(lineage));
    }
});
