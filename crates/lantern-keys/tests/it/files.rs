//! Files of `openssl` and of Java's key tool, with every common protection; and hostile ones.

use std::path::{Path, PathBuf};

use lantern_formats::hash::Hash;
use lantern_keys::key::Algorithm;
use lantern_keys::pkcs12::Entry;
use lantern_keys::{KeyError, Passphrase, certificate, java_store, pem, pkcs12};
use proptest::prelude::*;

pub const PASSPHRASE: &str = "punt and oar";

pub fn passphrase() -> Passphrase {
    Passphrase::new(PASSPHRASE.to_owned())
}

fn path(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples").join(name)
}

fn sample(name: &str) -> Vec<u8> {
    std::fs::read(path(name)).unwrap()
}

/// A key in PEM with its certificate behind it.
fn with_certificate(key: &str, certificate: &str) -> Vec<u8> {
    [sample(key), sample(certificate)].concat()
}

/// What was read signs, and the certificate's key has signed it.
fn works(entry: &Entry) {
    let signature = entry.key.sign(Hash::Sha256, b"a letter").unwrap();
    assert!(certificate::has_signed(&entry.chain[0], b"a letter", &signature).unwrap());
    assert!(!certificate::has_signed(&entry.chain[0], b"another", &signature).unwrap());
}

#[test]
fn files_of_pkcs_12_with_every_protection() {
    let files = [
        ("aes.p12", "post", Algorithm::Rsa(2048)),
        ("legacy.p12", "post", Algorithm::Rsa(2048)),
        ("des.p12", "post", Algorithm::Rsa(2048)),
        ("rc2-128.p12", "post", Algorithm::Rsa(2048)),
        ("aes128-sha512.p12", "post", Algorithm::P256),
        ("plain-certificates.p12", "post", Algorithm::P256),
        ("java.p12", "punt", Algorithm::Rsa(2048)),
        ("java-legacy.p12", "punt", Algorithm::P256),
    ];
    for (name, alias, algorithm) in files {
        let read = pkcs12::read(&sample(name), &passphrase()).unwrap_or_else(|error| panic!("{name}: {error}"));
        let [entry] = read.as_slice() else { panic!("{name}: {} keys", read.len()) };
        assert_eq!((entry.alias.as_str(), entry.key.algorithm(), entry.chain.len()), (alias, algorithm, 1), "{name}");
        works(entry);
        let wrong = pkcs12::read(&sample(name), &Passphrase::new("punt and Oar".to_owned()));
        assert!(matches!(wrong, Err(KeyError::Passphrase)), "{name}: {wrong:?}");
    }
    let open = pkcs12::read(&sample("no-checksum.p12"), &passphrase());
    assert!(matches!(open, Err(KeyError::Unsupported(_))), "{open:?}");
}

#[test]
fn keys_in_pem() {
    for (key, certificate) in [
        ("rsa.pem", "rsa.crt"),
        ("rsa-pkcs1.pem", "rsa.crt"),
        ("rsa-pbes2.pem", "rsa.crt"),
        ("ec.pem", "ec.crt"),
        ("ec-sec1.pem", "ec.crt"),
        ("ec-des3.pem", "ec.crt"),
    ] {
        let bytes = with_certificate(key, certificate);
        assert!(pem::is_pem(&bytes));
        works(&pem::read(&bytes, Some(&passphrase())).unwrap_or_else(|error| panic!("{key}: {error}")));
    }
    let encrypted = with_certificate("rsa-pbes2.pem", "rsa.crt");
    assert!(pem::is_encrypted(&encrypted).unwrap());
    let wrong = Passphrase::new("another".to_owned());
    for given in [None, Some(&wrong)] {
        assert!(matches!(pem::read(&encrypted, given), Err(KeyError::Passphrase)));
    }
    let old = pem::read(&with_certificate("rsa-old.pem", "rsa.crt"), Some(&passphrase()));
    assert!(matches!(old, Err(KeyError::OldPem)), "{old:?}");
    let other = pem::read(&with_certificate("rsa.pem", "ec.crt"), None);
    assert!(matches!(other, Err(KeyError::OtherKey)), "{other:?}");
    let alone = pem::read(&sample("rsa.pem"), None);
    assert!(matches!(alone, Err(KeyError::NoCertificate { .. })), "{alone:?}");
    assert!(matches!(pem::read(&sample("rsa.crt"), None), Err(KeyError::NoKey)));
}

#[test]
fn the_older_stores_of_java() {
    let store = sample("two.jks");
    assert!(java_store::is_store(&store));
    let mut read = java_store::read(&store, &passphrase(), None).unwrap();
    read.sort_by(|a, b| a.alias.cmp(&b.alias));
    let found: Vec<_> = read.iter().map(|entry| (entry.alias.as_str(), entry.key.algorithm())).collect();
    assert_eq!(found, [("oar", Algorithm::P256), ("punt", Algorithm::Rsa(2048))]);
    read.iter().for_each(works);
    let other = sample("other-key-passphrase.jks");
    assert!(matches!(java_store::read(&other, &passphrase(), None), Err(KeyError::KeyPassphrase)));
    let of_key = Passphrase::new("another one".to_owned());
    works(&java_store::read(&other, &passphrase(), Some(&of_key)).unwrap()[0]);
    let mut changed = store.clone();
    changed[100] ^= 1;
    assert!(matches!(java_store::read(&changed, &passphrase(), None), Err(KeyError::Passphrase)));
    for len in (0..store.len()).step_by(37) {
        assert!(java_store::read(&store[..len], &passphrase(), None).is_err(), "{len}");
    }
}

/// A file can ask for more work than anybody would wait for.
#[test]
fn a_file_that_would_keep_a_computer_busy_is_refused_at_once() {
    let good = sample("aes.p12");
    // 2,048 rounds, as openssl writes them, become 2,147,483,647; the lengths around stay true because both have four digits.
    let rounds: &[u8] = &[0x02, 0x02, 0x08, 0x00];
    let at = good.windows(4).rposition(|window| window == rounds).expect("the checksum's rounds");
    let mut hostile = good[..at].to_vec();
    hostile.extend([0x02, 0x04, 0x7f, 0xff, 0xff, 0xff]);
    hostile.extend(&good[at + 4..]);
    // The two sequences around it are the last one and the whole.
    let grow = |bytes: &mut Vec<u8>, at: usize| {
        let len = u16::from_be_bytes([bytes[at], bytes[at + 1]]) + 2;
        bytes[at..at + 2].copy_from_slice(&len.to_be_bytes());
    };
    grow(&mut hostile, 2);
    let mac = good[..at].windows(2).rposition(|window| window == [0x30, 0x41]).expect("the checksum");
    hostile[mac + 1] += 2;
    let begun = std::time::Instant::now();
    let read = pkcs12::read(&hostile, &passphrase());
    assert!(matches!(read, Err(KeyError::TooManyRounds { count: 0x7fff_ffff, .. })), "{read:?}");
    assert!(begun.elapsed().as_secs() < 5);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, ..ProptestConfig::default() })]

    /// No damaged file gives another key than the one that was in it.
    #[test]
    fn damage_is_never_taken_for_a_key(place in any::<prop::sample::Index>(), bit in 0_u8..8) {
        let good = sample("aes128-sha512.p12");
        let expected = pkcs12::read(&good, &passphrase()).unwrap().remove(0).key.public();
        let mut changed = good.clone();
        changed[place.index(good.len())] ^= 1 << bit;
        if let Ok(read) = pkcs12::read(&changed, &passphrase()) {
            prop_assert!(read.iter().all(|entry| entry.key.public() == expected));
        }
        prop_assert!(pkcs12::read(&good[..place.index(good.len())], &passphrase()).is_err());
    }
}
