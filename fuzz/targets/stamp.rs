#![no_main]

use lantern_sign::stamp::{Stamp, manifest, module};

// What a stamped manifest says is compared before it is handed on: a second stamp finds nothing to do.
libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let stamp = Stamp { version: "1.4.0-ó".to_owned(), number: 2_100_000_000 };
    if let Ok(Some(after)) = manifest(bytes, &stamp) {
        assert!(manifest(&after, &stamp).is_ok_and(|again| again.is_none()));
    }
    let base = "base/manifest/AndroidManifest.xml";
    if let Ok(Some(after)) = module(base, bytes, &stamp) {
        assert!(module(base, &after, &stamp).is_ok_and(|again| again.is_none()));
    }
});
