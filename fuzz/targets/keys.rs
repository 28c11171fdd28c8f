#![no_main]
//! Files with keys: whatever is read signs, and its certificate is that of the key.

use lantern_formats::hash::Hash;
use lantern_keys::pkcs12::Entry;
use lantern_keys::{Passphrase, certificate, java_store, pem, pkcs12};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let passphrase = Passphrase::new("punt and oar".to_owned());
    let mut entries: Vec<Entry> = Vec::new();
    entries.extend(pkcs12::read(bytes, &passphrase).unwrap_or_default());
    entries.extend(java_store::read(bytes, &passphrase, None).unwrap_or_default());
    entries.extend(pem::read(bytes, Some(&passphrase)));
    for entry in entries {
        let signature = entry.key.sign(Hash::Sha256, b"a letter").expect("a key that was read signs");
        assert!(certificate::has_signed(&entry.chain[0], b"a letter", &signature).expect("its certificate was read"));
    }
});
