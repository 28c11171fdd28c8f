use std::fs::{self, File};
use std::path::Path;
use std::sync::LazyLock;

use lantern_formats::apk as reader;
use lantern_formats::zip::{self, Method};
use lantern_keys::pkcs12::Entry;
use lantern_sign::SignError;
use proptest::prelude::*;

use crate::scene::{Folder, p256, rsa, sign, sign_bundle, unpacked, write};

/// The manifest of a package for systems from API level 21 on.
static MANIFEST: LazyLock<(String, Method, Vec<u8>)> = LazyLock::new(|| unpacked(&Folder::new().package(21)).remove(0));

static KEY: LazyLock<Entry> = LazyLock::new(rsa);

fn schemes(path: &Path) -> Vec<(u8, Option<String>)> {
    let found = reader::verify(&|| File::open(path)).unwrap();
    found.into_iter().map(|scheme| (scheme.version, scheme.wrong)).collect()
}

#[test]
fn a_package_is_signed_for_the_systems_that_take_it() {
    let folder = Folder::new();
    for (oldest, expected) in [(18, &[1, 2, 3][..]), (23, &[1, 2, 3]), (24, &[2, 3]), (35, &[2, 3])] {
        for signer in [rsa(), p256()] {
            let (from, to) = (folder.package(oldest), folder.path("signed.apk"));
            assert_eq!(sign(&from, &to, &signer).unwrap().schemes, expected, "from {oldest}");
            assert_eq!(schemes(&to), [(2, None), (3, None)]);
            let kept = |path: &Path| {
                let mut files = unpacked(path);
                files.retain(|(name, ..)| !name.starts_with("META-INF/"));
                files
            };
            assert_eq!(kept(&to), kept(&from), "every entry is as it was, in its order");
        }
    }
}

#[test]
fn what_is_stored_begins_where_systems_read_it_in_place() {
    let folder = Folder::new();
    let to = folder.path("signed.apk");
    sign(&folder.package(26), &to, &p256()).unwrap();
    let mut file = File::open(&to).unwrap();
    for entry in zip::read(&mut file).unwrap().iter().filter(|entry| entry.packed.method == Method::Stored) {
        let at = zip::data_offset(&mut file, &entry.packed).unwrap();
        let multiple = if entry.name.ends_with(b".so") { 16 * 1024 } else { 4 };
        assert_eq!(at % multiple, 0, "{}", String::from_utf8_lossy(&entry.name));
    }
}

#[test]
fn the_same_key_gives_the_same_bytes_and_signing_again_too() {
    let folder = Folder::new();
    for signer in [rsa(), p256()] {
        for oldest in [21, 26] {
            let from = folder.package(oldest);
            let [one, two, again, other] = ["one", "two", "again", "other"].map(|name| folder.path(name));
            sign(&from, &one, &signer).unwrap();
            sign(&from, &two, &signer).unwrap();
            sign(&one, &again, &signer).unwrap();
            assert_eq!(fs::read(&one).unwrap(), fs::read(&two).unwrap());
            assert_eq!(fs::read(&one).unwrap(), fs::read(&again).unwrap(), "what was signed is replaced");
            // Another key leaves nothing of the first one.
            sign(&one, &other, &rsa()).unwrap();
            sign(&other, &again, &signer).unwrap();
            assert_eq!(fs::read(&one).unwrap(), fs::read(&again).unwrap());
        }
    }
}

#[test]
fn a_bundle_is_signed_file_by_file() {
    let folder = Folder::new();
    let long = format!("base/assets/{}/letters ó 紙.txt", "a-long-folder/".repeat(12));
    let files = [
        ("base/manifest/AndroidManifest.xml".to_owned(), Method::Deflate, b"manifest".to_vec()),
        (long, Method::Stored, b"Dear Aldous".to_vec()),
        ("META-INF/services/example.Post".to_owned(), Method::Deflate, b"example.paperheron".to_vec()),
        ("base/empty".to_owned(), Method::Stored, Vec::new()),
    ];
    let (from, to, again) = (folder.path("a.aab"), folder.path("b.aab"), folder.path("c.aab"));
    write(&from, &files);
    for signer in [rsa(), p256()] {
        sign_bundle(&from, &to, &signer).unwrap();
        sign_bundle(&to, &again, &signer).unwrap();
        assert_eq!(fs::read(&to).unwrap(), fs::read(&again).unwrap());
        let signed = unpacked(&to);
        assert_eq!(signed[3..], files, "everything is there as it was");
        let text = String::from_utf8(signed[0].2.clone()).unwrap();
        assert!(text.contains("Name: META-INF/services/example.Post"), "{text}");
        assert!(text.split("\r\n").all(|line| line.len() <= 72));
    }
}

#[test]
fn what_no_device_would_take_is_refused_with_the_reason() {
    let folder = Folder::new();
    let refused = |files: &[(&str, Method, &[u8])]| {
        let from = folder.path("bad.apk");
        let files: Vec<_> =
            files.iter().map(|(name, method, bytes)| ((*name).to_owned(), *method, bytes.to_vec())).collect();
        write(&from, &files);
        let before = fs::read(&from).unwrap();
        let error = sign(&from, &folder.path("out.apk"), &p256()).unwrap_err();
        assert_eq!(fs::read(&from).unwrap(), before);
        match error {
            SignError::Refused { what, fix } => format!("{what}; {fix}"),
            other => panic!("{other:?}"),
        }
    };
    assert!(refused(&[("classes.dex", Method::Stored, b"dex")]).contains("has no AndroidManifest.xml"));
    assert!(refused(&[("AndroidManifest.xml", Method::Stored, b"<manifest/>")]).contains("cannot be read"));
    let old = sign(&folder.package(17), &folder.path("out.apk"), &p256()).unwrap_err();
    assert!(old.to_string().contains("SHA-1"), "{old}");
    // Compressed resources, which newer systems do not install.
    let mut files = unpacked(&folder.package(26));
    files.push(("resources.arsc".to_owned(), Method::Deflate, vec![0; 100]));
    let borrowed: Vec<(&str, Method, &[u8])> = files.iter().map(|(n, m, b)| (n.as_str(), *m, b.as_slice())).collect();
    assert!(refused(&borrowed).contains("resources.arsc is compressed"));
    files.last_mut().unwrap().1 = Method::Stored;
    let stored = folder.path("stored.apk");
    write(&stored, &files);
    sign(&stored, &folder.path("out.apk"), &p256()).unwrap();
    // Cut off, or no archive at all.
    let whole = fs::read(&stored).unwrap();
    for len in [0, 10, whole.len() / 2, whole.len() - 1] {
        fs::write(&stored, &whole[..len]).unwrap();
        assert!(sign(&stored, &folder.path("out.apk"), &p256()).is_err());
        assert!(sign_bundle(&stored, &folder.path("out.apk"), &p256()).is_err());
    }
}

/// Any byte of a signed package, changed, is seen; but for the few in the block that nothing covers.
#[test]
fn any_changed_byte_is_seen() {
    let folder = Folder::new();
    let to = folder.path("signed.apk");
    let mut files = unpacked(&folder.package(26));
    for (_, _, bytes) in &mut files[1..] {
        bytes.truncate(2_000);
    }
    let from = folder.path("small.apk");
    write(&from, &files);
    sign(&from, &to, &p256()).unwrap();
    let good = fs::read(&to).unwrap();
    let changed = folder.path("changed.apk");
    let mut unseen = Vec::new();
    for at in (0..good.len()).step_by(7) {
        let mut bytes = good.clone();
        bytes[at] ^= 0x40;
        fs::write(&changed, &bytes).unwrap();
        let seen = match reader::verify(&|| File::open(&changed)) {
            Err(_) => true,
            Ok(found) => found.len() != 2 || found.iter().any(|scheme| scheme.wrong.is_some()),
        };
        if !seen {
            unseen.push(at);
        }
    }
    assert_eq!(unseen, Vec::<usize>::new());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    /// Random archives: every entry is intact, in its order.
    #[test]
    fn every_entry_of_any_archive_is_intact(
        entries in prop::collection::btree_map("[a-zA-Z0-9 ó紙_.-]{1,30}(/[a-z]{1,9}){0,3}", (any::<bool>(), prop::collection::vec(any::<u8>(), 0..3000)), 1..20),
    ) {
        let folder = Folder::new();
        let mut files = vec![MANIFEST.clone()];
        for (name, (is_packed, bytes)) in entries {
            files.push((format!("assets/{name}"), if is_packed { Method::Deflate } else { Method::Stored }, bytes));
        }
        let (from, to) = (folder.path("from.apk"), folder.path("to.apk"));
        write(&from, &files);
        sign(&from, &to, &*KEY).unwrap();
        prop_assert_eq!(&unpacked(&to)[3..], &files[..]);
    }
}
