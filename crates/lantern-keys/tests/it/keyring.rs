//! The folder of keys: nothing is replaced, nothing is lost, nothing secret lies open.

use std::fs;

use jiff::Timestamp;
use lantern_core::names::Name;
use lantern_formats::hash::Hash;
use lantern_keys::key::{Algorithm, Signer};
use lantern_keys::keyring::{self, Keyring, Origin};
use lantern_keys::{KeyError, Passphrase, certificate};

fn at(text: &str) -> Timestamp {
    text.parse().unwrap()
}

fn name(text: &str) -> Name {
    text.parse().unwrap()
}

fn passphrase() -> Passphrase {
    Passphrase::new("punt and oar".to_owned())
}

fn entry() -> lantern_keys::pkcs12::Entry {
    let subject = certificate::name_of_studio("Paper Heron");
    keyring::make(Algorithm::P256, &subject, 30, at("2026-11-28T12:00:00Z")).unwrap()
}

#[test]
fn a_key_is_kept_opened_copied_and_drilled() {
    let folder = tempfile::tempdir().unwrap();
    let keyring = Keyring::new(folder.path().join("keys")).with_rounds(1_000);
    assert_eq!(keyring.names().unwrap(), []);
    let mobile = name("saltmarsh-mobile");
    let now = at("2026-11-28T12:00:00Z");
    let facts = keyring.add(&mobile, entry(), (&passphrase(), false), Origin::Made, now).unwrap();
    assert_eq!(facts, keyring.facts(&mobile).unwrap());
    assert_eq!((facts.algorithm.as_str(), facts.drilled()), ("P-256", None));

    let key = keyring.open(&mobile, &passphrase()).unwrap();
    let signature = key.sign(Hash::Sha256, b"a letter").unwrap();
    assert!(certificate::has_signed(&facts.chain[0], b"a letter", &signature).unwrap());
    assert_eq!(key.chain(), facts.chain);

    let copy = folder.path().join("stick/saltmarsh-mobile.p12");
    fs::create_dir(folder.path().join("stick")).unwrap();
    let other = Passphrase::new("kept in the drawer".to_owned());
    keyring.back_up(&key, &copy, &other, now).unwrap();
    assert!(matches!(keyring.back_up(&key, &copy, &other, now), Err(KeyError::Disk(_))), "nothing is replaced");
    assert_eq!(keyring.facts(&mobile).unwrap().drilled(), None);
    let later = at("2027-01-01T00:00:00Z");
    assert!(matches!(keyring.drill(&mobile, &copy, &passphrase(), later), Err(KeyError::Passphrase)));
    assert_eq!(keyring.drill(&mobile, &copy, &other, later).unwrap().drilled(), Some(later));
    assert_eq!(keyring.facts(&mobile).unwrap().backups.len(), 1);

    // Nor does the key itself count as a copy, by whatever way it is reached, or a copy beside it.
    let roundabout = folder.path().join("stick/../keys/saltmarsh-mobile.p12");
    for own in [keyring.path_of(&mobile), roundabout] {
        assert!(matches!(keyring.drill(&mobile, &own, &passphrase(), later), Err(KeyError::NotACopy { .. })));
    }
    let beside = folder.path().join("keys/copy.p12");
    assert!(matches!(keyring.back_up(&key, &beside, &passphrase(), now), Err(KeyError::NotACopy { .. })));
    assert_eq!(keyring.facts(&mobile).unwrap().backups.len(), 1);

    // A copy of another key does not count.
    let second = name("second");
    keyring.add(&second, entry(), (&passphrase(), false), Origin::Made, now).unwrap();
    assert!(matches!(keyring.drill(&second, &copy, &other, later), Err(KeyError::OtherCopy { .. })));
    assert_eq!(keyring.facts(&second).unwrap().drilled(), None);
    assert_eq!(keyring.names().unwrap(), [mobile, second]);
}

#[test]
fn nothing_is_replaced_and_damage_is_said() {
    let folder = tempfile::tempdir().unwrap();
    let keyring = Keyring::new(folder.path().to_owned()).with_rounds(1_000);
    let (mobile, now) = (name("mobile"), at("2026-11-28T12:00:00Z"));
    keyring.add(&mobile, entry(), (&passphrase(), false), Origin::Made, now).unwrap();
    let before = fs::read(keyring.path_of(&mobile)).unwrap();
    let again = keyring.add(&mobile, entry(), (&passphrase(), false), Origin::Made, now);
    assert!(matches!(again, Err(KeyError::Exists { .. })));
    assert_eq!(fs::read(keyring.path_of(&mobile)).unwrap(), before);
    assert!(matches!(keyring.open(&mobile, &Passphrase::new(String::new())), Err(KeyError::Passphrase)));
    let unknown = keyring.open(&name("moble"), &passphrase());
    assert!(matches!(unknown, Err(KeyError::Unknown { ref known, .. }) if known == &["mobile"]), "{unknown:?}");
    // Notes that are gone are made again when the key is opened.
    for damage in [None, Some("{")] {
        match damage {
            None => fs::remove_file(folder.path().join("mobile.json")).unwrap(),
            Some(text) => fs::write(folder.path().join("mobile.json"), text).unwrap(),
        }
        assert!(matches!(keyring.facts(&mobile), Err(KeyError::Malformed(_))));
        keyring.open(&mobile, &passphrase()).unwrap();
        assert_eq!(keyring.facts(&mobile).unwrap().algorithm, "P-256");
    }
    fs::write(keyring.path_of(&mobile), &before[..before.len() / 2]).unwrap();
    assert!(matches!(keyring.open(&mobile, &passphrase()), Err(KeyError::Malformed(_))));
}

/// Two at once take one name: one of them gets an error, and the key of the other is whole.
#[test]
fn two_at_once_and_one_name() {
    let folder = tempfile::tempdir().unwrap();
    let keyring = Keyring::new(folder.path().to_owned()).with_rounds(1_000);
    let add = || {
        keyring.add(&name("mobile"), entry(), (&passphrase(), false), Origin::Made, at("2026-11-28T12:00:00Z")).is_ok()
    };
    let added = std::thread::scope(|scope| {
        let both = [scope.spawn(add), scope.spawn(add)];
        both.map(|one| one.join().unwrap())
    });
    assert_eq!(added.iter().filter(|added| **added).count(), 1);
    keyring.open(&name("mobile"), &passphrase()).unwrap();
}

#[cfg(unix)]
#[test]
fn only_the_owner_can_read_it_and_nothing_secret_is_in_the_notes() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().unwrap();
    let keyring = Keyring::new(folder.path().join("keys")).with_rounds(1_000);
    let made = entry();
    let shown = format!("{made:?}");
    keyring.add(&name("mobile"), made, (&passphrase(), false), Origin::Made, at("2026-11-28T12:00:00Z")).unwrap();
    for file in fs::read_dir(folder.path().join("keys")).unwrap().map(Result::unwrap) {
        assert_eq!(file.metadata().unwrap().permissions().mode() & 0o777, 0o600, "{file:?}");
        let text = String::from_utf8_lossy(&fs::read(file.path()).unwrap()).into_owned();
        assert!(!text.contains("punt") && !text.contains("oar"), "{file:?}");
    }
    assert_eq!(fs::metadata(folder.path().join("keys")).unwrap().permissions().mode() & 0o777, 0o700);
    assert!(shown.contains("PrivateKey(P-256)"));
    assert!(!format!("{:?}", passphrase()).contains("punt"));
}
