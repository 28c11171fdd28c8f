//! Packages whose key was changed.

use std::fs::{self, File};
use std::path::Path;
use std::sync::LazyLock;

use lantern_core::progress::Silent;
use lantern_formats::apk::{self as reader, Scheme};
use lantern_keys::certificate;
use lantern_keys::key::{Algorithm, Signer};
use lantern_keys::keyring::make;
use lantern_keys::pkcs12::Entry;
use lantern_sign::rotation::{Lineage, Rotation};
use lantern_sign::stamp::Edits;
use lantern_sign::{SignError, apk};

use crate::scene::{Folder, p256, rsa};

static THIRD: LazyLock<Entry> = LazyLock::new(|| {
    make(Algorithm::P256, &certificate::name_of_studio("Paper Heron"), 30, "2026-11-28T12:00:00Z".parse().unwrap())
        .unwrap()
});

fn own(entry: &Entry) -> &[u8] {
    &entry.chain()[0]
}

fn sign(from: &Path, to: &Path, signer: &Entry, rotation: &Rotation<'_>) -> Result<apk::Signed, SignError> {
    apk::sign((&|| File::open(from), &Edits::new()), to, signer, Some(rotation), &Silent)
}

fn read(path: &Path) -> Vec<Scheme> {
    reader::verify(&|| File::open(path)).unwrap()
}

fn fingerprint(entry: &Entry) -> [u8; 32] {
    reader::SignedBy::of(own(entry)).unwrap().fingerprint
}

#[test]
fn each_system_gets_the_key_that_it_knows() {
    let (folder, first, next) = (Folder::new(), rsa(), p256());
    let lineage = Lineage::of(&first, own(&next), None).unwrap();
    let (old, new) = (fingerprint(&first), fingerprint(&next));
    // For each oldest system and start of the new key: the schemes, each with who signed by it.
    let cases = [
        (21, 33, vec![1, 2, 3, 31], vec![(2, old), (3, old), (31, new)]),
        (26, 33, vec![2, 3, 31], vec![(2, old), (3, old), (31, new)]),
        (26, 28, vec![2, 3], vec![(2, old), (3, new)]),
        (33, 33, vec![2, 3], vec![(2, old), (3, new)]),
        (35, 33, vec![2, 3], vec![(2, old), (3, new)]),
    ];
    for (oldest, since, schemes, signers) in cases {
        let (from, to) = (folder.package(oldest), folder.path("signed.apk"));
        let rotation = Rotation { first: &first, lineage: &lineage, since };
        assert_eq!(sign(&from, &to, &next, &rotation).unwrap().schemes, schemes, "from {oldest}, since {since}");
        let found = read(&to);
        assert!(found.iter().all(|scheme| scheme.wrong.is_none()), "{found:?}");
        let by: Vec<(u8, [u8; 32])> =
            found.iter().map(|scheme| (scheme.version, scheme.signers[0].fingerprint)).collect();
        assert_eq!(by, signers, "from {oldest}, since {since}");
        let last = found.last().unwrap();
        assert_eq!(last.before.iter().map(|before| before.fingerprint).collect::<Vec<_>>(), [old]);
        let again = folder.path("again.apk");
        sign(&to, &again, &next, &rotation).unwrap();
        assert_eq!(fs::read(&to).unwrap(), fs::read(&again).unwrap(), "signing again gives the same bytes");
    }
}

#[test]
fn a_third_key_comes_after_the_second() {
    let (folder, first, second, third) = (Folder::new(), p256(), rsa(), &*THIRD);
    let two = Lineage::of(&first, own(&second), None).unwrap();
    let three = Lineage::of(&second, own(third), Some(&two)).unwrap();
    assert_eq!(three.certificates(), [own(&first), own(&second), own(third)].map(<[u8]>::to_vec));
    let (from, to) = (folder.package(26), folder.path("signed.apk"));
    sign(&from, &to, third, &Rotation { first: &first, lineage: &three, since: 33 }).unwrap();
    let before: Vec<[u8; 32]> = read(&to)[2].before.iter().map(|before| before.fingerprint).collect();
    assert_eq!(before, [fingerprint(&first), fingerprint(&second)]);
    // Its file says the same, and is refused with any letter changed.
    let file = three.file();
    assert_eq!(Lineage::read(file.as_bytes()).unwrap(), three);
    for at in (40..file.len() - 40).step_by(7) {
        let mut changed = file.clone().into_bytes();
        changed[at] = if changed[at] == b'A' { b'B' } else { b'A' };
        // Nobody signed the first certificate but itself: its key is what counts, and packages sign all of the chain.
        if let Ok(held) = Lineage::read(&changed) {
            assert_eq!(held.certificates()[1..], three.certificates()[1..], "{at}");
        }
    }
    let message = |error: SignError| error.to_string();
    assert!(message(Lineage::of(&first, own(third), Some(&two)).unwrap_err()).contains("does not end with this key"));
    assert!(message(Lineage::of(&first, own(&first), None).unwrap_err()).contains("the two keys are the same"));
    assert!(message(Lineage::read(b"tide").unwrap_err()).contains("damaged, or none"));
}

#[test]
fn a_newer_signature_is_not_taken_out_unseen() {
    let (folder, first, next) = (Folder::new(), rsa(), p256());
    let lineage = Lineage::of(&first, own(&next), None).unwrap();
    let (from, to) = (folder.package(26), folder.path("signed.apk"));
    sign(&from, &to, &next, &Rotation { first: &first, lineage: &lineage, since: 33 }).unwrap();
    let bytes = fs::read(&to).unwrap();
    // What is signed for newer systems becomes something that nobody knows.
    let id = 0x1b93_ad61_u32.to_le_bytes();
    let at = bytes.windows(4).position(|window| window == id).unwrap();
    let mut taken = bytes.clone();
    taken[at] ^= 1;
    fs::write(&to, taken).unwrap();
    let wrong: Vec<Option<String>> = read(&to).into_iter().map(|scheme| scheme.wrong).collect();
    assert_eq!(wrong, [None, Some("a signature of scheme 3.1 was taken out".to_owned())]);
    // A key that is not the end of the chain.
    let other =
        sign(&from, &folder.path("other.apk"), &THIRD, &Rotation { first: &first, lineage: &lineage, since: 33 });
    assert!(other.unwrap_err().to_string().contains("its lineage does not end with its own key"));
}
