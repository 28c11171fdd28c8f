//! A version and a number written into packages and bundles.

use std::fs::{self, File};
use std::path::Path;

use lantern_core::progress::Silent;
use lantern_formats::android::Manifest;
use lantern_formats::apk as reader;
use lantern_formats::zip::Method;
use lantern_rehearsal::exports::{GameVersion, write_bundle};
use lantern_sign::stamp::{self, Edits, Stamp};
use lantern_sign::{SignError, apk, bundle_jar};
use proptest::prelude::*;

use crate::scene::{Folder, rsa, unpacked, write};

const MANIFEST: &str = "AndroidManifest.xml";
const BASE: &str = "base/manifest/AndroidManifest.xml";

fn stamp(version: &str, number: u32) -> Stamp {
    Stamp { version: version.to_owned(), number }
}

fn of_package(path: &Path, stamp: &Stamp) -> Result<Edits, SignError> {
    stamp::package(&|| File::open(path), stamp)
}

fn of_bundle(path: &Path, stamp: &Stamp) -> Result<Edits, SignError> {
    stamp::bundle(&|| File::open(path), stamp)
}

fn manifest(path: &Path) -> Manifest {
    Manifest::read(&unpacked(path).iter().find(|(name, ..)| name == MANIFEST).unwrap().2).unwrap()
}

fn without_signature(path: &Path) -> Vec<(String, Method, Vec<u8>)> {
    let mut files = unpacked(path);
    files.retain(|(name, ..)| !name.starts_with("META-INF/"));
    files
}

#[test]
fn a_stamped_package_says_what_was_written_and_is_signed_with_it() {
    let folder = Folder::new();
    for (oldest, schemes) in [(21, &[1, 2, 3][..]), (26, &[2, 3])] {
        let (from, to) = (folder.package(oldest), folder.path("signed.apk"));
        let edits = of_package(&from, &stamp("1.4.1-rc.2", 2_100_000_000)).unwrap();
        let signed = apk::sign((&|| File::open(&from), &edits), &to, &rsa(), None, &Silent).unwrap();
        assert_eq!(signed.schemes, schemes, "scheme 1 covers the new manifest, and not the old one");
        assert!(reader::verify(&|| File::open(&to)).unwrap().iter().all(|scheme| scheme.wrong.is_none()));
        let (before, after) = (manifest(&from), manifest(&to));
        assert_eq!((after.version_name.as_deref(), after.version_code), (Some("1.4.1-rc.2"), Some(2_100_000_000)));
        let same = Manifest { version_name: before.version_name.clone(), version_code: before.version_code, ..after };
        assert_eq!(same, before);
        let others =
            |path| without_signature(path).into_iter().filter(|(name, ..)| name != MANIFEST).collect::<Vec<_>>();
        assert_eq!(others(&to), others(&from));
        assert_eq!(without_signature(&to)[0].0, MANIFEST, "it is where it was");
    }
}

#[test]
fn the_same_stamp_gives_the_same_bytes() {
    let folder = Folder::new();
    let from = folder.package(26);
    let one = of_package(&from, &stamp("1.4.0", 27)).unwrap();
    assert_eq!(one, of_package(&from, &stamp("1.4.0", 27)).unwrap());
    assert_ne!(one, of_package(&from, &stamp("1.4.0", 28)).unwrap());
    // What says so already stays as it is.
    assert_eq!(of_package(&from, &stamp("1.3.2", 25)).unwrap(), Edits::new());
    let bundle = folder.path("a.aab");
    write_bundle(&bundle, GameVersion::Old).unwrap();
    assert_eq!(of_bundle(&bundle, &stamp("1.3.2", 25)).unwrap(), Edits::new());
}

#[test]
fn a_bundle_is_stamped_in_every_module_that_names_a_version() {
    let folder = Folder::new();
    let (from, to) = (folder.path("a.aab"), folder.path("b.aab"));
    write_bundle(&from, GameVersion::Old).unwrap();
    let mut files = unpacked(&from);
    let base = files.iter().find(|(name, ..)| name == BASE).unwrap().2.clone();
    files.push(("songs/manifest/AndroidManifest.xml".to_owned(), Method::Deflate, base));
    // A module without attributes, of an element that is called manifest.
    let empty = [&[0x0a, 10, 0x1a, 8][..], b"manifest"].concat();
    files.push(("plain/manifest/AndroidManifest.xml".to_owned(), Method::Deflate, empty));
    fs::remove_file(&from).unwrap();
    write(&from, &files);
    let edits = of_bundle(&from, &stamp("1.4.0", 27)).unwrap();
    assert_eq!(edits.keys().collect::<Vec<_>>(), [BASE, "songs/manifest/AndroidManifest.xml"]);
    bundle_jar::sign(&|| File::open(&from), &edits, &to, &rsa(), &Silent).unwrap();
    for (name, _, bytes) in unpacked(&to).iter().filter(|(name, ..)| edits.contains_key(name)) {
        let after = Manifest::read_of_bundle(bytes).unwrap();
        assert_eq!((after.version_name.as_deref(), after.version_code), (Some("1.4.0"), Some(27)), "{name}");
        assert_eq!(after.package, "example.paperheron.saltmarsh");
    }
}

#[test]
fn what_has_no_place_for_a_stamp_is_refused_with_what_is_missing() {
    let folder = Folder::new();
    let said = |error: SignError| match error {
        SignError::Refused { what, fix } => (what, fix),
        other => panic!("{other}"),
    };
    let path = folder.path("a.apk");
    write(&path, &[("notes.txt".to_owned(), Method::Stored, b"reeds".to_vec())]);
    assert_eq!(said(of_package(&path, &stamp("1", 1)).unwrap_err()).0, "it has no AndroidManifest.xml");
    assert_eq!(said(of_bundle(&path, &stamp("1", 1)).unwrap_err()).0, format!("it has no {BASE}"));
    let without = folder.package(26);
    let mut files = unpacked(&without);
    // The resource id of the version's name becomes one that nobody knows.
    let id = 0x0101_021c_u32.to_le_bytes();
    let at = files[0].2.windows(4).position(|window| window == id).unwrap();
    files[0].2[at..at + 4].copy_from_slice(&0x0101_0fff_u32.to_le_bytes());
    fs::remove_file(&without).unwrap();
    write(&without, &files);
    let (what, fix) = said(of_package(&without, &stamp("1.4.0", 27)).unwrap_err());
    assert_eq!(what, "AndroidManifest.xml has no versionName to write over");
    assert_eq!(fix, "set one in the engine, whichever, and export again");
    let long = stamp(&"1".repeat(128), 1);
    assert!(said(of_package(&folder.package(26), &long).unwrap_err()).0.contains("longer than 127 bytes"));
    assert!(of_package(&folder.package(26), &stamp(&"1".repeat(127), 1)).is_ok());
}

proptest! {
    /// Broken manifests are refused; what comes out of one that is not says what was written.
    #[test]
    fn any_changed_byte_of_a_manifest_is_refused_or_stamped(at: prop::sample::Index, value: u8, is_bundle: bool) {
        let folder = Folder::new();
        let (path, name) = if is_bundle { (folder.path("a.aab"), BASE) } else { (folder.package(26), MANIFEST) };
        if is_bundle {
            write_bundle(&path, GameVersion::Old).unwrap();
        }
        let mut files = unpacked(&path);
        let bytes = &mut files.iter_mut().find(|(found, ..)| found == name).unwrap().2;
        let at = at.index(bytes.len());
        bytes[at] = value;
        fs::remove_file(&path).unwrap();
        write(&path, &files);
        let stamp = stamp("1.4.0", 27);
        let edits = if is_bundle { of_bundle(&path, &stamp) } else { of_package(&path, &stamp) };
        match edits {
            Ok(edits) => {
                let read = if is_bundle { Manifest::read_of_bundle } else { Manifest::read };
                let after = read(&edits[name]).unwrap();
                prop_assert_eq!((after.version_name.as_deref(), after.version_code), (Some("1.4.0"), Some(27)));
            }
            Err(error) => prop_assert!(matches!(error, SignError::Refused { .. } | SignError::NotValid(_)), "{error}"),
        }
    }
}
