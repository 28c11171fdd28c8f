//! What general tools say of what was signed.

use std::fs;
use std::path::Path;
use std::process::Command;

use lantern_core::progress::Silent;
use lantern_formats::zip::Method;
use lantern_keys::key::Signer;
use lantern_sign::rotation::{Lineage, Rotation};
use lantern_sign::stamp::Edits;
use lantern_sign::{SignError, apk};

use crate::scene::{Folder, p256, rsa, sign, sign_bundle, unpacked, write};

fn run(program: &str, arguments: &[&str]) -> bool {
    let output = Command::new(program).args(arguments).output().unwrap_or_else(|error| panic!("{program}: {error}"));
    output.status.success()
}

/// `openssl` verifies the message of a bundle's signature, and no other.
#[test]
fn openssl_verifies_a_bundle() {
    let folder = Folder::new();
    let (from, to) = (folder.path("a.aab"), folder.path("b.aab"));
    write(&from, &[("base/letter ó.txt".to_owned(), Method::Deflate, b"Dear Aldous".to_vec())]);
    for signer in [rsa(), p256()] {
        sign_bundle(&from, &to, &signer).unwrap();
        let signed = unpacked(&to);
        let [file, block] = [&signed[1], &signed[2]].map(|(name, _, bytes)| {
            let path = folder.path(&name.replace('/', "-"));
            fs::write(&path, bytes).unwrap();
            path.to_str().unwrap().to_owned()
        });
        let how = ["cms", "-verify", "-binary", "-inform", "DER", "-in", &block, "-content", &file];
        let verify = || run("openssl", &[&how[..], &["-noverify", "-out", "/dev/null"]].concat());
        assert!(verify());
        fs::write(&file, b"another").unwrap();
        assert!(!verify());
    }
}

/// Python's own library reads a signed package, and `scripts/signatures.py` recomputes its digests.
#[test]
fn python_reads_and_verifies_a_package() {
    let folder = Folder::new();
    let to = folder.path("signed.apk");
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/signatures.py");
    for (oldest, signer) in [(21, rsa()), (26, p256())] {
        sign(&folder.package(oldest), &to, &signer).unwrap();
        let path = to.to_str().unwrap();
        assert!(run(
            "python3",
            &["-c", "import sys, zipfile; assert zipfile.ZipFile(sys.argv[1]).testzip() is None", path]
        ));
        assert!(run("python3", &[script, path]));
        let mut changed = fs::read(&to).unwrap();
        changed[5_000] ^= 1;
        fs::write(&to, changed).unwrap();
        assert!(!run("python3", &[script, path]));
    }
    // A key that came after another one, for newer systems alone and for all that know of it.
    let (first, next) = (rsa(), p256());
    let lineage = Lineage::of(&first, &next.chain()[0], None).unwrap();
    for since in [28, 33] {
        let rotation = Rotation { first: &first, lineage: &lineage, since };
        let from = folder.package(26);
        let open = || fs::File::open(&from);
        apk::sign((&open, &Edits::new()), &to, &next, Some(&rotation), &Silent).unwrap();
        assert!(run("python3", &[script, to.to_str().unwrap()]), "{since}");
    }
}

/// A device on which nothing can be written is a full disk, and not a broken package.
#[test]
fn a_full_disk_is_said_to_be_one() {
    let folder = Folder::new();
    let (from, full) = (folder.package(26), Path::new("/dev/full"));
    for signed in [sign(&from, full, &p256()).map(|_| ()), sign_bundle(&from, full, &p256())] {
        let Err(SignError::Io(error)) = signed else { panic!("{signed:?}") };
        assert_eq!(error.kind(), std::io::ErrorKind::StorageFull);
    }
}
